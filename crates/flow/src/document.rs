//! Whole documents in memory, and the places of their values.

use std::cell::RefCell;
use std::io::Read;

use kyanite_formats::{Format, json};
use kyanite_tree::{Arena, Location, Origin, Problem, Spot, Step, Value, locate};

use crate::failed::{Events, Failed, Repeated};
use crate::input::{InputOptions, Source, cannot_read};
use crate::records::{Block, Next, Records};

/// A text that documents are read from, by the number that origins have.
#[derive(Clone, Copy)]
struct Text<'a> {
    name: &'a str,
    text: &'a str,
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
        let document = self.add(name, text);
        let settings = json::ReaderOptions {
            depth: options.depth,
            origins: json::Origins::Document(document),
        };
        let name = self.texts.borrow()[usize::from(document) - 1].name;
        let mut duplicates = Duplicates::new();
        let root = if format.has_records() {
            self.read_run(name, text, settings, options, events, &mut duplicates)?
        } else {
            let (root, found) = json::document(text, self.arena, settings)
                .map_err(|error| Failed::Input(error.problem(name, text.as_bytes())))?;
            self.texts.borrow_mut()[usize::from(document) - 1].root = Some(root);
            duplicates.tell(found, events, |offset| self.spot(Origin::new(document, offset)));
            root
        };
        self.texts.borrow_mut()[usize::from(document) - 1].root = Some(root);
        duplicates.finish(events);
        Ok(root)
    }

    /// Reads a run of JSON values as one list.
    fn read_run(
        &self,
        name: &'a str,
        text: &'a str,
        settings: json::ReaderOptions,
        options: &InputOptions,
        events: &mut Events<'_>,
        duplicates: &mut Duplicates,
    ) -> Result<Value<'a>, Failed> {
        let block = Block { bytes: text.as_bytes(), is_last: true };
        let mut records = Records::new(block, name, 0, self.arena, settings);
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

    fn add(&self, name: &str, text: &'a str) -> u16 {
        let mut texts = self.texts.borrow_mut();
        texts.push(Text { name: self.arena.text(name), text, root: None });
        // Past 65,535 documents, places are no longer kept.
        u16::try_from(texts.len()).unwrap_or(u16::MAX)
    }

    /// The place of a value that was read.
    pub(crate) fn spot(&self, origin: Origin) -> Option<Spot> {
        let texts = self.texts.borrow();
        let Text { name, text, root } = *texts.get(usize::from(origin.document()?) - 1)?;
        let offset = origin.offset();
        let spot = Spot::of(name, text.as_bytes(), offset, json::value_end(text, offset));
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
        let error = json::ReadError::new(json::ErrorKind::NotUtf8, start, end);
        Failed::Input(error.problem(name, bytes))
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
