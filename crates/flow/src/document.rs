//! Whole documents in memory, and the places of their values.

use std::cell::RefCell;
use std::io::{self, Read};
use std::rc::Rc;
use std::sync::atomic::Ordering;

use kyanite_formats::detect::{self, Detected};
use kyanite_formats::documents::{self, Documents};
use kyanite_formats::losses::Losses;
use kyanite_formats::record_view::View;
use kyanite_formats::records::value_end;
use kyanite_formats::xml::StepName;
use kyanite_formats::{Format, SyntaxError, json, xml};
use kyanite_lang::DocumentUris;
use kyanite_tree::{
    Advice, Arena, Base, Code, Diagnostic, LineColumn, Location, Nodes, Origin, Passed, Place,
    Region, Setting, SourceMap, Step, TextPlaces, Value, locate,
};

use crate::blocks::{Block, Then};
use crate::input::{Beginning, Input, InputOptions, Limited, Source, cannot_read};
use crate::pieces::Before;
use crate::records::{InputPart, Next, Records};
use crate::repairs::Repairs;
use crate::run::DocumentText;
use crate::run_error::{Counters, Events, Repeated, RunError};

/// A text that documents are read from.
#[derive(Clone)]
struct Text<'a> {
    name: &'a str,
    text: &'a str,
    places: Rc<TextPlaces<'a>>,
    format: Format,
    base: Base,
    roots: &'a [Value<'a>],
}

/// The documents of an input.
#[derive(Default)]
pub(crate) struct Loaded<'a> {
    pub(crate) roots: Vec<Value<'a>>,
    /// Documents of XML in place of roots, if nodes are wanted.
    pub(crate) nodes: Option<Nodes<'a>>,
    /// What the reader could not keep.
    pub(crate) losses: Losses,
}

/// The documents of a run that are in memory whole.
pub(crate) struct Library<'a> {
    arena: &'a Arena,
    /// Which text an origin is in.
    sources: RefCell<SourceMap>,
    /// The texts, in the order of the source map.
    texts: RefCell<Vec<Text<'a>>>,
    /// What each is from.
    uris: RefCell<Vec<Option<String>>>,
    /// What the input is that is being read.
    uri: RefCell<Option<String>>,
    /// Whether XML is read as nodes, and not as elements.
    as_nodes: bool,
}

/// The format that a text is plainly in.
fn format_of(text: &str) -> Option<Format> {
    let is_all = true;
    detect::by_content(text.as_bytes(), is_all).map(|found| found.format)
}

/// Whether a text is plainly a document of JSON or XML: in YAML most texts are.
fn is_document(text: &str) -> bool {
    text.trim_start().starts_with(['{', '[', '"', '<'])
        && matches!(format_of(text), Some(Format::Json | Format::Xml))
}

/// Reads an input whole: its document, or the list of its documents, elements of XML in the record view.
///
/// # Errors
/// [`RunError::Input`] when it cannot be read.
pub fn read_whole<'a>(
    input: &Input,
    options: &InputOptions,
    arena: &'a Arena,
    events: &mut Events<'_>,
) -> Result<Value<'a>, RunError> {
    let source = Source::open(input, options)?;
    let roots = Library::new(arena).load(source, options, events)?.roots;
    Ok(View::default().record(as_one(&roots, arena), arena))
}

/// The documents of an input as one value: several are a list.
pub(crate) fn as_one<'a>(roots: &[Value<'a>], arena: &'a Arena) -> Value<'a> {
    match roots {
        [root] => *root,
        several => arena.list(several),
    }
}

/// A reader whose bytes are counted as they come, so that a run shows how far it is.
struct Counting<'c> {
    reader: Limited,
    counters: &'c Counters,
}

impl Read for Counting<'_> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        let read = self.reader.read(out)?;
        self.counters.read(read as u64);
        Ok(read)
    }
}

impl<'a> Library<'a> {
    pub(crate) fn new(arena: &'a Arena) -> Self {
        Self::of(arena, Region::Input)
    }

    /// A library in which XML is read as nodes.
    pub(crate) fn of_nodes(arena: &'a Arena) -> Self {
        Self { as_nodes: true, ..Self::new(arena) }
    }

    /// A library of the documents that a rule's sources are.
    pub(crate) fn of_sources(arena: &'a Arena) -> Self {
        Self::of(arena, Region::Source)
    }

    fn of(arena: &'a Arena, region: Region) -> Self {
        let sources = RefCell::new(SourceMap::new(region));
        Self {
            arena,
            sources,
            texts: RefCell::default(),
            uris: RefCell::default(),
            uri: RefCell::default(),
            as_nodes: false,
        }
    }

    /// Reads an open input to its end; gives its documents.
    pub(crate) fn load(
        &self,
        source: Source,
        options: &InputOptions,
        events: &mut Events<'_>,
    ) -> Result<Loaded<'a>, RunError> {
        self.load_unless(source, options, events, &mut |_| false)
    }

    /// The same, unless `take` takes the text of a document of JSON or XML that is as its name says; then there are no documents.
    pub(crate) fn load_unless(
        &self,
        source: Source,
        options: &InputOptions,
        events: &mut Events<'_>,
        take: &mut dyn FnMut(DocumentText<'_>) -> bool,
    ) -> Result<Loaded<'a>, RunError> {
        let contradiction = source.contradiction();
        let Source {
            name,
            uri,
            detected: Detected { format, .. },
            looks_like,
            reader,
            replaced,
            before,
            ..
        } = source;
        let is_piece = before.is_some();
        let before = before.unwrap_or_default();
        self.uri.replace(uri);
        let mut bytes = Vec::new();
        let reader = Limited::new(reader, options.size);
        Counting { reader, counters: events.counters }
            .read_to_end(&mut bytes)
            .map_err(|error| RunError::Input(cannot_read(&name, &error)))?;
        let text = text_of(&name, self.arena.keep_bytes(bytes), before.passed)?;
        let settings = settings(options, Base::default());
        let document = match format {
            Format::Json => Some(DocumentText::Json(text, settings.limits.depth)),
            Format::Xml => Some(DocumentText::Xml(text, settings.xml())),
            _ => None,
        };
        if document.filter(|_| contradiction.is_none()).is_some_and(take) {
            events.counters.count(1);
            events.counters.taken.copied.fetch_add(1, Ordering::Relaxed);
            return Ok(Loaded::default());
        }
        let mut repairs = Repairs::new(options.repairs);
        repairs.take_replaced(&replaced);
        let read = self.read((&name, text, format), options, &before, (&mut repairs, events));
        repairs.finish(events);
        if !is_piece {
            before.duplicates.borrow().finish(events);
        }
        let loaded = match (read, contradiction) {
            // What the name says is not what is there: that explains whatever else is wrong.
            (Err(RunError::Input(found)), Some(message)) => {
                let explained = Diagnostic::error(Code::InputFormat, message)
                    .at_opt(found.places().first().cloned())
                    .advise_opt(looks_like.map(say_format));
                return Err(RunError::Input(explained));
            }
            (read, contradiction) => {
                if let Some(message) = contradiction {
                    events.tell(Diagnostic::warning(Code::InputFormat, message));
                }
                read?
            }
        };
        let records = match loaded.roots.as_slice() {
            [Value::List(_, records)] if format.has_records() => records.len(),
            roots => roots.len(),
        };
        events.counters.count(records as u64);
        match loaded.roots.as_slice() {
            [root] if options.unwrap => self.unwrap(&name, *root, options, events),
            _ => Ok(loaded),
        }
    }

    fn read(
        &self,
        (name, text, format): (&str, &'a str, Format),
        options: &InputOptions,
        before: &Before,
        (repairs, events): (&mut Repairs, &mut Events<'_>),
    ) -> Result<Loaded<'a>, RunError> {
        let (number, added) = self.add(name, text, format, before.passed);
        let Text { name, base, places, .. } = &added;
        let duplicates = &mut *before.duplicates.borrow_mut();
        let loaded = if format.has_records() {
            let root = self.read_records(&added, options, events, duplicates)?;
            Loaded { roots: vec![root], ..Loaded::default() }
        } else {
            let settings = settings(options, *base);
            let read = if self.as_nodes && format == Format::Xml {
                xml::nodes(text, self.arena, settings.xml()).map(|(nodes, repairs)| {
                    (Some(nodes), Documents { repairs, ..Documents::default() })
                })
            } else {
                documents::read(format, text, self.arena, settings).map(|read| (None, read))
            };
            let (nodes, read) = read.map_err(|error| {
                let found = error.diagnostic(name, text.as_bytes()).behind(before.passed);
                let may_be_repaired =
                    format == Format::Xml && !options.lenient && found.code() == Code::Syntax;
                let advice = found
                    .advice()
                    .filter(|advice| may_be_repaired && advice.settings().next().is_none());
                let advice = advice.cloned().map(|advice| {
                    advice.then(", or have it repaired with ").setting(Setting::Lenient)
                });
                RunError::Input(found.advise_opt(advice))
            })?;
            self.set_roots(number, &read.roots);
            duplicates.tell(read.duplicates, events, |offset| self.place(base.origin(offset)));
            repairs.take(read.repairs, |span| places.place(span.start, span.end), events);
            Loaded { roots: read.roots, nodes, losses: read.losses }
        };
        self.set_roots(number, &loaded.roots);
        Ok(loaded)
    }

    /// Reads records as one list.
    fn read_records(
        &self,
        text: &Text<'a>,
        options: &InputOptions,
        events: &mut Events<'_>,
        duplicates: &mut Duplicates,
    ) -> Result<Value<'a>, RunError> {
        let Text { name, text, format, base, .. } = *text;
        let mut beginning = Beginning::read(format, options, text, self.arena)
            .map_err(|error| RunError::Input(error.diagnostic(name, text.as_bytes())))?;
        beginning.tell((name, text.as_bytes()), duplicates, events);
        let block = Block { bytes: text.as_bytes(), then: Then::End };
        let input = InputPart { name, format, base, before: Passed::default() };
        let mut records =
            Records::new(block, beginning.from, input, beginning.layout, self.arena, None);
        let mut skipped = Skipped::new(options.lenient);
        let mut list = Vec::new();
        loop {
            match records.next() {
                Next::Record(record) => list.push(record),
                Next::End(_) => break,
                Next::Broken(problem) => {
                    skipped.or_fail(problem, events)?;
                    if records.skip_broken().is_some() {
                        break;
                    }
                }
            }
            duplicates
                .tell(records.take_duplicates(), events, |offset| Some(records.place_at(offset)));
        }
        skipped.finish(events);
        Ok(self.arena.list(&list))
    }

    /// Reads the document that a text holds; where that is a text that holds another, this one, to the end.
    fn unwrap(
        &self,
        name: &str,
        root: Value<'a>,
        options: &InputOptions,
        events: &mut Events<'_>,
    ) -> Result<Loaded<'a>, RunError> {
        let Some(text) = root.simple().as_text() else {
            let problem = Diagnostic::error(
                Code::InputFormat,
                format!("{name} is {}, not a text that holds a document", root.kind().phrase()),
            )
            .advise(
                Advice::words("leave ")
                    .setting(Setting::Unwrap)
                    .then(" out; for a text inside it, use decode(\"json\", …)"),
            );
            return Err(RunError::Input(problem));
        };
        let name = format!("{name}, unwrapped");
        let mut text = text;
        loop {
            let format = format_of(text).unwrap_or(Format::Json);
            let loaded = self.read_inner(&name, text, format, options, events)?;
            match loaded.roots.as_slice() {
                // Each text is shorter than the one around it.
                [Value::Text(_, inner)] if is_document(inner) => text = inner,
                _ => return Ok(loaded),
            }
        }
    }

    fn read_inner(
        &self,
        name: &str,
        text: &'a str,
        format: Format,
        options: &InputOptions,
        events: &mut Events<'_>,
    ) -> Result<Loaded<'a>, RunError> {
        let (mut repairs, before) = (Repairs::new(options.repairs), Before::default());
        let read = self.read((name, text, format), options, &before, (&mut repairs, events));
        repairs.finish(events);
        before.duplicates.borrow().finish(events);
        read
    }

    /// Lays a text out, and numbers it.
    fn add(&self, name: &str, text: &'a str, format: Format, before: Passed) -> (usize, Text<'a>) {
        let mut texts = self.texts.borrow_mut();
        let base = self.sources.borrow_mut().add(text.len());
        let name = self.arena.text(name);
        let places = Rc::new(TextPlaces::new(name, text.as_bytes()).behind(before));
        let text = Text { name, text, places, format, base, roots: &[] };
        texts.push(text.clone());
        self.uris.borrow_mut().push(self.uri.borrow().clone());
        (texts.len() - 1, text)
    }

    /// The name and the text that was read first.
    pub(crate) fn first_text(&self) -> Option<(&'a str, &'a str)> {
        self.texts.borrow().first().map(|text| (text.name, text.text))
    }

    /// What the texts are from.
    pub(crate) fn uris(&self, of: DocumentUris) -> DocumentUris {
        of.with(self.sources.borrow().clone(), self.uris.borrow().clone())
    }

    fn set_roots(&self, number: usize, roots: &[Value<'a>]) {
        if let Some(text) = self.texts.borrow_mut().get_mut(number) {
            text.roots = self.arena.items(roots);
        }
    }

    /// Whether values of types that only some formats have may be in the documents.
    pub(crate) fn has_foreign_types(&self) -> bool {
        let has = |text: &Text<'_>| matches!(text.format, Format::Yaml | Format::Toml);
        self.texts.borrow().iter().any(has)
    }

    /// The place of something that was read, without the path to it where that is in XML.
    pub(crate) fn place_in_source(&self, origin: Origin) -> Option<Place> {
        let (number, _) = self.sources.borrow().find(origin)?;
        let is_xml = self.texts.borrow().get(number)?.format == Format::Xml;
        let place = self.place(origin)?;
        Some(if is_xml { Place { path: None, ..place } } else { place })
    }

    /// The line and column at which a value begins that was read.
    pub(crate) fn line_column(&self, origin: Origin) -> Option<LineColumn> {
        let (number, offset) = self.sources.borrow().find(origin)?;
        let texts = self.texts.borrow();
        texts.get(number).map(|text| text.places.line_column(offset))
    }

    /// The place of a value that was read.
    pub(crate) fn place(&self, origin: Origin) -> Option<Place> {
        let (number, offset) = self.sources.borrow().find(origin)?;
        let texts = self.texts.borrow();
        let Text { text, places, format, base, roots, .. } = texts.get(number)?.clone();
        let place = places.place(offset, value_end(format, text, offset));
        let root = match roots {
            [root] => Some(root),
            // Each begins where the one before it ends.
            roots => {
                roots[..roots.partition_point(|root| base.offset(root.origin()) <= offset)].last()
            }
        };
        Some(match root.and_then(|root| locate(*root, origin)) {
            Some(location) => place.with_path(location.readable()),
            None => place,
        })
    }
}

/// How documents are read that begin there.
fn settings(options: &InputOptions, base: Base) -> documents::Options {
    documents::Options {
        limits: options.limits,
        lenient: options.lenient,
        drop_namespaces: options.drop_namespaces,
        base,
    }
}

/// The advice to read an input as another format than its name says.
pub(crate) fn say_format(format: Format) -> Advice {
    Advice::words("say ").setting(Setting::From(Some(format.name()))).then(", or rename the file")
}

/// The text of an input, or of a piece of it behind `before`.
fn text_of<'a>(name: &str, bytes: &'a [u8], before: Passed) -> Result<&'a str, RunError> {
    simdutf8::compat::from_utf8(bytes).map_err(|error| {
        let (start, length) = (error.valid_up_to(), error.error_len());
        let wrong = SyntaxError::not_utf8(start, start + length.unwrap_or(1));
        RunError::Input(wrong.diagnostic(name, bytes).behind(before))
    })
}

/// Broken records that are left out, or end the run.
pub(crate) struct Skipped {
    lenient: bool,
    told: Repeated,
}

impl Skipped {
    pub(crate) fn new(lenient: bool) -> Self {
        Self { lenient, told: Repeated::default() }
    }

    /// Tells of a record that is left out, or fails where none may be.
    pub(crate) fn or_fail(
        &mut self,
        found: Diagnostic,
        events: &mut Events<'_>,
    ) -> Result<(), RunError> {
        if !self.lenient {
            return Err(RunError::Input(found));
        }
        let mut skipped = Diagnostic::warning(
            Code::RecordSkipped,
            format!("this record is skipped: {}", found.message()),
        );
        for place in found.places() {
            skipped = skipped.at(place.clone());
        }
        self.told.tell(events, || skipped);
        events.counters.skipped.fetch_add(1, Ordering::Relaxed);
        Ok(())
    }

    pub(crate) fn finish(&self, events: &mut Events<'_>) {
        let message = match self.told.count() {
            0 => return,
            1 => "1 broken record was skipped".to_owned(),
            count => format!("{count} broken records were skipped"),
        };
        events.tell(Diagnostic::warning(Code::RecordSkipped, message));
    }
}

/// Members that maps hold twice, told as warnings.
#[derive(Default)]
pub(crate) struct Duplicates(Repeated);

impl Duplicates {
    pub(crate) fn tell(
        &mut self,
        found: Vec<json::Duplicate>,
        events: &mut Events<'_>,
        place: impl Fn(usize) -> Option<Place>,
    ) {
        for duplicate in found {
            self.0.tell(events, || {
                Diagnostic::warning(
                    Code::MemberTwice,
                    format!(
                        "the member `{}` is given twice; the later value is taken",
                        duplicate.name
                    ),
                )
                .at_opt(place(duplicate.later))
                .at_opt(place(duplicate.earlier))
            });
        }
    }

    pub(crate) fn finish(&self, events: &mut Events<'_>) {
        if let Some(count) = self.0.untold() {
            events.tell(Diagnostic::warning(
                Code::MemberTwice,
                format!("{count} members were given twice"),
            ));
        }
    }
}

/// The place of a value in a record of a stream, as a location in the whole list.
pub(crate) fn record_location<'a>(
    in_record: Location<'a>,
    index: u64,
    path: &'a [StepName],
) -> Option<Location<'a>> {
    let mut location = in_record.within(Step::Index(usize::try_from(index).ok()?));
    for step in path.iter().rev() {
        location = location.within(Step::Name(&step.name));
    }
    Some(location)
}
