//! Reads an XML document by its events, with one part of it in memory at a time.

use std::cell::OnceCell;

use kyanite_formats::SyntaxError;
use kyanite_formats::xml::{self, Ancestry, EventReader, Prolog};
use kyanite_tree::{Arena, Base, LineColumn, Origin, Passed, Place, Span, TextPlaces};

use crate::blocks::Blocks;
use crate::input::InputOptions;
use crate::parts::{self, Part};
use crate::repairs::Repairs;
use crate::run_error::{Events, RunError};
use crate::transcode::Replaced;

/// A part of a document.
pub(crate) struct XmlPart<'t> {
    /// The input's name in messages.
    pub(crate) name: &'t str,
    pub(crate) text: &'t str,
    /// Where what is made of it lives.
    pub(crate) arena: &'t Arena,
    pub(crate) prolog: &'t Prolog<'t>,
    /// Whether the root element begins in it.
    pub(crate) has_root: bool,
    pub(crate) is_last: bool,
    /// Where it begins in the space of origins.
    pub(crate) base: Base,
    /// How much of the document stands before it.
    pub(crate) before: Passed,
    pub(crate) places: TextPlaces<'t>,
}

impl XmlPart<'_> {
    /// The place of a span of the part.
    pub(crate) fn place(&self, span: Span) -> Place {
        self.places.place(span.start, span.end)
    }

    /// The line and column of what was read in this part.
    pub(crate) fn line_column(&self, origin: Origin) -> LineColumn {
        self.places.line_column(self.base.offset(origin))
    }

    /// What is wrong with the document, as the end of a run.
    pub(crate) fn failed(&self, error: &SyntaxError) -> RunError {
        let found = error.diagnostic(self.name, self.text.as_bytes());
        RunError::Input(found.behind(self.before))
    }
}

/// Looks at the events of a part, as far as they are there.
pub(crate) type Visit<'v> =
    &'v mut dyn for<'t> FnMut(&mut EventReader<'t>, &XmlPart<'t>) -> Result<(), RunError>;

/// How XML is read.
pub(crate) fn reading(options: &InputOptions, base: Base) -> xml::Options {
    xml::Options {
        depth: options.limits.depth,
        expansion: options.limits.expansion,
        lenient: options.lenient,
        drop_namespaces: options.drop_namespaces,
        namespaces: true,
        base,
    }
}

/// Goes through a document that is held, which is one part.
pub(crate) fn go_through_text(
    (name, text): (&str, &str),
    options: &InputOptions,
    events: &mut Events<'_>,
    visit: Visit<'_>,
) -> Result<(), RunError> {
    let held = Arena::new();
    let mut repairs = Repairs::new(options.repairs);
    let mut document = Document::new(&held);
    document.part(&Part::whole(name, text), options, (events, &mut repairs), visit).map(drop)
}

/// Goes through a document, part by part.
pub(crate) fn go_through(
    name: &str,
    (mut blocks, replaced): (Blocks, &Replaced),
    options: &InputOptions,
    events: &mut Events<'_>,
    visit: Visit<'_>,
) -> Result<(), RunError> {
    blocks.cut_behind_tags();
    let held = Arena::new();
    let mut document = Document::new(&held);
    parts::go_through(name, (blocks, replaced), options, events, &mut |part, told| {
        document.part(part, options, told, visit)
    })
}

/// What is known of a document between two parts of it.
struct Document<'h> {
    held: &'h Arena,
    prolog: OnceCell<Prolog<'h>>,
    place: Ancestry<'h>,
}

impl<'h> Document<'h> {
    fn new(held: &'h Arena) -> Self {
        Self { held, prolog: OnceCell::new(), place: Ancestry::default() }
    }

    /// Has a part visited; gives how much of it was used, or None where the root element does not begin in it.
    fn part(
        &mut self,
        part: &Part<'_>,
        options: &InputOptions,
        (events, repairs): (&mut Events<'_>, &mut Repairs),
        visit: Visit<'_>,
    ) -> Result<Option<usize>, RunError> {
        let Part { name, text, is_last, base, before } = *part;
        let mut from = 0;
        if self.prolog.get().is_none() {
            let read =
                xml::prolog(self.held.text(text), self.held, reading(options, base), is_last);
            match read {
                Ok(read) => {
                    from = read.end;
                    let _ = self.prolog.set(read);
                }
                Err(error) if error.wants_more() && !is_last => return Ok(None),
                Err(error) => return Err(part.failed(&error)),
            }
        }
        let Some(prolog) = self.prolog.get() else { return Ok(None) };
        let arena = Arena::new();
        let part = XmlPart {
            name,
            text,
            arena: &arena,
            prolog,
            has_root: from > 0,
            is_last,
            base,
            before,
            places: part.places(),
        };
        let mut reader = EventReader::new(text, &arena, prolog, reading(options, base), self.place);
        reader.seek(from);
        if is_last {
            reader.is_last();
        }
        let visited = visit(&mut reader, &part);
        repairs.take(reader.take_repairs(), |span| part.place(span), events);
        visited?;
        let place = reader.place(&arena);
        if place != self.place {
            self.place = place.keep(self.held);
        }
        Ok(Some(reader.committed()))
    }
}
