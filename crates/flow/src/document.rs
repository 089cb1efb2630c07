//! Whole documents in memory, and the places of their values.

use std::cell::RefCell;
use std::io::Read;

use kyanite_formats::records::value_end;
use kyanite_formats::{Format, SyntaxError, json};
use kyanite_tree::{Arena, Location, Origin, Problem, Spot, Step, Value, locate};

use crate::failed::{Events, Failed, Repeated};
use crate::input::{Beginning, InputOptions, Source, cannot_read};
use crate::records::{Block, InputPart, Next, Records};

/// A text that documents are read from, by the number that origins have.
#[derive(Clone, Copy)]
struct Text<'a> {
    name: &'a str,
    text: &'a str,
    format: Format,
    root: Option<Value<'a>>,
}

/// The documents of a run that are in memory whole.
pub(crate) struct Library<'a> {
    arena: &'a Arena,
    texts: RefCell<Vec<Text<'a>>>,
}

impl<'a> Library<'a> {
    pub(crate) fn new(arena: &'a Arena) -> Self {
        Self { arena, texts: RefCell::default() }
    }

    /// Reads an open input to its end.
    pub(crate) fn load(
        &self,
        mut source: Source,
        options: &InputOptions,
        events: &mut Events<'_>,
    ) -> Result<Value<'a>, Failed> {
        let mut bytes = Vec::new();
        source
            .reader
            .read_to_end(&mut bytes)
            .map_err(|error| Failed::Input(cannot_read(&source.name, &error)))?;
        events.read(bytes.len());
        let text = checked_text(&source.name, &bytes)?;
        let text = self.arena.text(text);
        drop(bytes);
        let root = self.read(&source.name, text, source.detected.format, options, events)?;
        if options.unwrap { self.unwrap(&source.name, root, options, events) } else { Ok(root) }
    }

    fn read(
        &self,
        name: &str,
        text: &'a str,
        format: Format,
        options: &InputOptions,
        events: &mut Events<'_>,
    ) -> Result<Value<'a>, Failed> {
        let document = self.add(name, text, format);
        let name = self.text(document).name;
        let mut duplicates = Duplicates::new();
        let root = if format.has_records() {
            self.read_records(document, options, events, &mut duplicates)?
        } else {
            let origins = json::Origins::Document(document);
            let settings = json::ReaderOptions { depth: options.depth, origins };
            let (root, found) = json::document(text, self.arena, settings).map_err(|error| {
                Failed::Input(SyntaxError::from(error).problem(name, text.as_bytes()))
            })?;
            self.set_root(document, root);
            duplicates.tell(found, events, |offset| self.spot(Origin::new(document, offset)));
            root
        };
        self.set_root(document, root);
        duplicates.finish(events);
        Ok(root)
    }

    /// Reads records as one list.
    fn read_records(
        &self,
        document: u16,
        options: &InputOptions,
        events: &mut Events<'_>,
        duplicates: &mut Duplicates,
    ) -> Result<Value<'a>, Failed> {
        let Text { name, text, format, .. } = self.text(document);
        let beginning = Beginning::read(format, options, text, self.arena)
            .map_err(|error| Failed::Input(error.problem(name, text.as_bytes())))?;
        duplicates
            .tell(beginning.duplicates, events, |offset| self.spot(Origin::new(document, offset)));
        let block = Block { bytes: text.as_bytes(), is_last: true };
        let input = InputPart { name, format, document, lines_before: 0 };
        let mut records = Records::new(block, beginning.from, input, beginning.layout, self.arena);
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
            duplicates.tell(records.take_duplicates(), events, |offset| Some(records.spot(offset)));
        }
        skipped.finish(events);
        Ok(self.arena.list(&list))
    }

    /// Reads the document that a text holds.
    fn unwrap(
        &self,
        name: &str,
        root: Value<'a>,
        options: &InputOptions,
        events: &mut Events<'_>,
    ) -> Result<Value<'a>, Failed> {
        let Some(text) = root.as_text() else {
            let problem = Problem::error(format!(
                "{name} is {}, not a text that holds a document",
                root.kind().phrase()
            ))
            .advise("leave --unwrap out; for a text inside it, use decode(\"json\", …)");
            return Err(Failed::Input(problem));
        };
        self.read(&format!("{name}, unwrapped"), text, Format::Json, options, events)
    }

    fn add(&self, name: &str, text: &'a str, format: Format) -> u16 {
        let mut texts = self.texts.borrow_mut();
        texts.push(Text { name: self.arena.text(name), text, format, root: None });
        // Past 65,535 documents, places are no longer told apart.
        u16::try_from(texts.len()).unwrap_or(u16::MAX)
    }

    fn text(&self, document: u16) -> Text<'a> {
        let texts = self.texts.borrow();
        let none = Text { name: "", text: "", format: Format::Json, root: None };
        texts.get(usize::from(document).wrapping_sub(1)).copied().unwrap_or(none)
    }

    fn set_root(&self, document: u16, root: Value<'a>) {
        if let Some(text) = self.texts.borrow_mut().get_mut(usize::from(document).wrapping_sub(1)) {
            text.root = Some(root);
        }
    }

    /// The place of a value that was read.
    pub(crate) fn spot(&self, origin: Origin) -> Option<Spot> {
        let Text { name, text, format, root } = self.text(origin.document()?);
        let offset = origin.offset();
        let spot = Spot::of(name, text.as_bytes(), offset, value_end(format, text, offset));
        Some(match root.and_then(|root| locate(root, origin)) {
            Some(location) => spot.with_path(location.readable()),
            None => spot,
        })
    }
}

/// The text of an input, or where it stops being UTF-8.
fn checked_text<'b>(name: &str, bytes: &'b [u8]) -> Result<&'b str, Failed> {
    refuse_utf16(name, bytes)?;
    std::str::from_utf8(bytes).map_err(|error| {
        let start = error.valid_up_to();
        let end = start + error.error_len().unwrap_or(1);
        Failed::Input(SyntaxError::not_utf8(start, end).problem(name, bytes))
    })
}

/// UTF-16 is recognized by its byte order mark, so that the message can name it.
pub(crate) fn refuse_utf16(name: &str, bytes: &[u8]) -> Result<(), Failed> {
    if bytes.starts_with(b"\xFF\xFE") || bytes.starts_with(b"\xFE\xFF") {
        let problem = Problem::error(format!("{name} is encoded in UTF-16"))
            .advise("save it as UTF-8; JSON between systems has to be (RFC 8259 section 8.1)");
        return Err(Failed::Input(problem));
    }
    Ok(())
}

/// Broken records that are left out, or end the run.
pub(crate) struct Skipped {
    lenient: bool,
    told: Repeated,
}

impl Skipped {
    pub(crate) fn new(lenient: bool) -> Self {
        Self { lenient, told: Repeated::new() }
    }

    /// Tells of a record that is left out, or fails where none may be.
    pub(crate) fn or_fail(
        &mut self,
        mut problem: Problem,
        events: &mut Events<'_>,
    ) -> Result<(), Failed> {
        if !self.lenient {
            return Err(Failed::Input(problem));
        }
        problem.severity = kyanite_tree::Severity::Warning;
        problem.message = format!("this record is skipped: {}", problem.message);
        problem.advice = None;
        self.told.tell(events, || problem);
        Ok(())
    }

    pub(crate) fn finish(&self, events: &mut Events<'_>) {
        let message = match self.told.count() {
            0 => return,
            1 => "1 broken record was skipped".to_owned(),
            count => format!("{count} broken records were skipped"),
        };
        events.tell(Problem::warning(message));
    }
}

/// Members that maps hold twice, told as warnings.
pub(crate) struct Duplicates(Repeated);

impl Duplicates {
    pub(crate) fn new() -> Self {
        Self(Repeated::new())
    }

    pub(crate) fn tell(
        &mut self,
        found: Vec<json::Duplicate>,
        events: &mut Events<'_>,
        spot: impl Fn(usize) -> Option<Spot>,
    ) {
        for duplicate in found {
            self.0.tell(events, || {
                Problem::warning(format!(
                    "the member `{}` is given twice; the later value is taken",
                    duplicate.name
                ))
                .at_opt(spot(duplicate.later))
                .at_opt(spot(duplicate.earlier))
            });
        }
    }

    pub(crate) fn finish(&self, events: &mut Events<'_>) {
        if let Some(count) = self.0.untold() {
            events.tell(Problem::warning(format!("{count} members were given twice")));
        }
    }
}

/// The place of a value in a record of a stream, as a location in the whole list.
pub(crate) fn record_location<'a>(
    record: Value<'a>,
    index: u64,
    origin: Origin,
) -> Option<Location<'a>> {
    Some(locate(record, origin)?.within(Step::Index(usize::try_from(index).ok()?)))
}
