//! What the beginning of an input tells of its records: how they are laid out, where they begin, and what is odd about their columns.

use std::cell::OnceCell;

use kyanite_formats::json::Duplicate;
use kyanite_formats::records::Layout;
use kyanite_formats::xml::{Prolog, Repair};
use kyanite_formats::{Format, SyntaxError, csv, xml};
use kyanite_tree::{Advice, Arena, Code, Diagnostic, Place, Setting};

use super::InputOptions;
use crate::Events;
use crate::document::Duplicates;

/// How the records of an input are laid out, where they begin, and columns that were named twice.
pub(crate) struct Beginning<'a> {
    pub(crate) layout: Layout<'a>,
    pub(crate) from: usize,
    duplicates: Vec<Duplicate>,
    /// What seems to stand between the cells of CSV, if nobody said what does.
    other_delimiter: Option<u8>,
    pub(crate) repairs: Vec<Repair>,
}

/// What the beginning of an XML document lives in.
#[derive(Default)]
pub(crate) struct XmlBeginning<'h> {
    pub(crate) arena: Arena,
    prolog: OnceCell<Prolog<'h>>,
    /// Names that do without their namespaces.
    pub(crate) dropped: xml::Dropped,
}

impl<'a> Beginning<'a> {
    fn plain(layout: Layout<'a>) -> Self {
        let (duplicates, repairs) = (Vec::new(), Vec::new());
        Self { layout, from: 0, duplicates, other_delimiter: None, repairs }
    }

    /// Tells what was met in it, in a text that is called so.
    pub(crate) fn tell(
        &mut self,
        (name, text): (&str, &[u8]),
        duplicates: &mut Duplicates,
        events: &mut Events<'_>,
    ) {
        duplicates.tell(std::mem::take(&mut self.duplicates), events, |offset| {
            Some(Place::of(name, text, offset, offset + 1))
        });
        if let Some(sign) = self.other_delimiter.map(char::from) {
            let message = format!(
                "{name} is read as a table of one column, but its rows look divided by {sign:?}"
            );
            let advice = Advice::words("if they are, say ").setting(Setting::Delimiter(sign));
            let at = text.iter().position(|byte| char::from(*byte) == sign).unwrap_or_default();
            let told = Diagnostic::warning(Code::InputFormat, message).advise(advice);
            events.tell(told.at(Place::of(name, text, at, at + 1)));
        }
    }

    /// Settles it from the first bytes of an input that is no XML: the header of CSV is read into `arena`.
    ///
    /// # Errors
    /// A [`SyntaxError`] in the header; it wants more when `text` ends inside.
    pub(crate) fn read(
        format: Format,
        options: &InputOptions,
        text: &str,
        arena: &'a Arena,
    ) -> Result<Self, SyntaxError> {
        match format {
            Format::Csv | Format::Tsv => {}
            Format::Text => return Ok(Self::plain(Layout::Lines)),
            _ => {
                return Ok(Self::plain(Layout::Json {
                    depth: options.limits.depth,
                    projection: None,
                }));
            }
        }
        let settings = csv::Settings::of(format, options.delimiter);
        let first = if options.unnamed { None } else { csv::Header::read(text, settings, arena)? };
        Ok(match first {
            Some(csv::FirstRow { header, end, duplicates, other_delimiter }) => Self {
                duplicates,
                other_delimiter: other_delimiter.filter(|_| options.delimiter.is_none()),
                from: end,
                ..Self::plain(Layout::Csv { settings, header: Some(header) })
            },
            None => Self::plain(Layout::Csv { settings, header: None }),
        })
    }

    /// Settles it for an XML document whose records are the elements at `path`: what stands before the root element is read
    /// into `held`.
    ///
    /// # Errors
    /// A [`SyntaxError`] in the prolog; it wants more when `text` ends before the root element begins.
    pub(crate) fn of_elements(
        options: &InputOptions,
        (text, is_all): (&str, bool),
        (path, keeps_around): (&'a [xml::StepName], bool),
        held: &'a XmlBeginning<'a>,
    ) -> Result<Self, SyntaxError> {
        let options = xml::Options {
            depth: options.limits.depth,
            expansion: options.limits.expansion,
            lenient: options.lenient,
            drop_namespaces: options.drop_namespaces,
            ..xml::Options::default()
        };
        let mut prolog = xml::prolog(held.arena.text(text), &held.arena, options, is_all)?;
        let (from, repairs) = (prolog.end, std::mem::take(&mut prolog.repairs));
        let prolog = held.prolog.get_or_init(|| prolog);
        let elements =
            xml::Elements { path, prolog, options, dropped: &held.dropped, keeps_around };
        let place = xml::Ancestry::default();
        let layout = Layout::Xml { elements, place, projection: None, prefilter: None };
        Ok(Self { from, repairs, ..Self::plain(layout) })
    }
}
