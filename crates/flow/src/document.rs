//! Whole documents in memory, and the places of their values.

use std::cell::RefCell;
use std::io::Read;

use kyanite_formats::{Format, detect, json};
use kyanite_tree::{Arena, Location, Origin, Problem, Spot, Step, Value, locate};

use crate::failed::{Events, Failed, Repeated};
use crate::input::{InputOptions, Source, cannot_read};

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
        name: &str,
        text: &'a str,
        settings: json::ReaderOptions,
        options: &InputOptions,
        events: &mut Events<'_>,
        duplicates: &mut Duplicates,
    ) -> Result<Value<'a>, Failed> {
        let mut reader = json::Reader::new(text, self.arena, settings);
        let mut skipped = Repeated::new("broken records were skipped");
        let mut records = Vec::new();
        loop {
            let start = reader.position();
            match reader.next_value() {
                Ok(Some(record)) => records.push(record),
                Ok(None) => break,
                Err(error) => {
                    let problem = record_problem(&error, name, text, start, 0);
                    if !options.lenient {
                        return Err(Failed::Input(problem));
                    }
                    skipped.tell(events, || skipped_record(problem));
                    reader.seek(next_record(text, start));
                }
            }
            let found = reader.take_duplicates();
            duplicates.tell(found, events, |offset| {
                Some(Spot::of(name, text.as_bytes(), offset, json::value_end(text, offset)))
            });
        }
        skipped.finish(events);
        Ok(self.arena.list(&records))
    }

    /// Reads the document that a text holds.
    fn unwrap(
        &self,
        name: &str,
        root: Value<'a>,
        options: &InputOptions,
        events: &mut Events<'_>,
    ) -> Result<Value<'a>, Failed> {
        let Value::Text(_, text) = root else {
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

/// The message for a broken record: where it broke, and where it began if that is on another line.
pub(crate) fn record_problem(
    error: &json::ReadError,
    name: &str,
    text: &str,
    start: usize,
    lines_before: u64,
) -> Problem {
    let begin = start + (text[start..].len() - text[start..].trim_start().len());
    let mut problem = error.problem(name, text.as_bytes());
    let began = Spot::of(name, text.as_bytes(), begin, begin + 1);
    if problem.spots.first().is_some_and(|first| first.at.line != began.at.line) {
        problem.spots.truncate(1);
        problem.spots.push(began);
    }
    for spot in &mut problem.spots {
        spot.at = spot.at.below(lines_before);
    }
    problem
}

/// The message for a record that is left out.
pub(crate) fn skipped_record(mut problem: Problem) -> Problem {
    problem.severity = kyanite_tree::Severity::Warning;
    problem.message = format!("this record is skipped: {}", problem.message);
    problem.advice = None;
    problem
}

/// Where the record behind a broken one begins: the next line, or, where records begin with a bracket, the
/// next line that begins with the same one.
pub(crate) fn next_record(text: &str, broken: usize) -> usize {
    let begin = broken + (text[broken..].len() - text[broken..].trim_start().len());
    let bytes = text.as_bytes();
    let bracket = bytes.get(begin).copied().filter(|byte| matches!(byte, b'{' | b'['));
    memchr::memchr_iter(b'\n', &bytes[begin..])
        .map(|at| begin + at + 1)
        .find(|line| bracket.is_none() || bytes.get(*line).copied() == bracket)
        .unwrap_or(text.len())
}

/// Members that maps hold twice, told as warnings.
pub(crate) struct Duplicates(Repeated);

impl Duplicates {
    pub(crate) fn new() -> Self {
        Self(Repeated::new("members were given twice"))
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
        self.0.finish(events);
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
