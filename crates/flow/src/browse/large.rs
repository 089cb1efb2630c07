//! Documents too large for memory: their bytes stay in a file, which is scanned, searched and queried there.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use kyanite_browse::{Bytes, Notation};
use kyanite_formats::Format;
use kyanite_lang::{Flow, RuleText, Syntax, Written, compile, compile_xpath};
use kyanite_tree::{Base, Diagnostic, Value};
use kyanite_xpath::{Namespaces, Version};
use regex::bytes::{Regex, RegexBuilder};
use tempfile::TempPath;

use super::{LOOKED_AT, add_names, shown};
use crate::input::{Input, InputOptions, Source, cannot_read};
use crate::run::{Job, Sink, stack_size};
use crate::run_error::{Counters, Events, RunError};

/// Documents of more bytes are not held.
pub(super) const LARGE: u64 = 64 << 20;

/// How long is waited for the end of what comes down a pipe before it is looked at while it comes.
const PATIENCE: Duration = Duration::from_millis(300);

/// The bytes that are copied or searched at a time.
const CHUNK: usize = 1 << 20;

/// A document that is too large to be held, or is still coming in.
pub struct LargeDocument {
    /// The name of the input.
    pub name: String,
    /// Its format.
    pub format: Format,
    notation: Notation,
    file: Arc<Stored>,
    options: InputOptions,
    /// The file, if it is gone when nobody looks at the document any more, whether or not more still comes.
    _kept: Option<TempPath>,
}

/// A file that holds the bytes, as far as they have come.
struct Stored {
    path: PathBuf,
    count: AtomicU64,
    is_complete: AtomicBool,
    /// Why no more come, if that is not their end.
    problem: Mutex<Option<String>>,
}

/// What an input turned out to be.
pub(super) enum Opened {
    /// One that can be held.
    Small(Source),
    /// One that cannot.
    Large(LargeDocument),
}

fn notation_of(format: Format) -> Option<Notation> {
    match format {
        Format::Json => Some(Notation::Json),
        Format::JsonLines => Some(Notation::JsonLines),
        Format::Xml => Some(Notation::Xml),
        _ => None,
    }
}

/// Tells whether an input is to be held. What is no plain file goes to a temporary one meanwhile.
pub(super) fn opened(
    input: &Input,
    mut source: Source,
    options: &InputOptions,
) -> Result<Opened, RunError> {
    let format = source.detected.format;
    let notation = notation_of(format).filter(|_| !options.lenient && !options.unwrap);
    let Some(notation) = notation else { return Ok(Opened::Small(source)) };
    let name = source.name.clone();
    let large = |file: Stored, kept| LargeDocument {
        name: name.clone(),
        format,
        notation,
        file: Arc::new(file),
        options: InputOptions { from: Some(format), encoding: None, ..options.clone() },
        _kept: kept,
    };
    if let (Input::File(path), Some(count), true) = (input, input.size(), source.is_plain) {
        return Ok(match count <= LARGE {
            true => Opened::Small(source),
            false => Opened::Large(large(Stored::new(path.clone(), count, true), None)),
        });
    }
    let refuse = |error: io::Error| RunError::Input(cannot_read(&name, &error));
    let (to, path) = tempfile::NamedTempFile::new().map_err(refuse)?.into_parts();
    let document = large(Stored::new(path.to_path_buf(), 0, false), Some(path));
    let (stored, empty) = (Arc::clone(&document.file), Box::new(io::empty()));
    let reader = std::mem::replace(&mut source.reader, empty);
    let copying = std::thread::Builder::new().spawn(move || stored.fill(reader, to));
    copying.map_err(refuse)?;
    let began = Instant::now();
    while began.elapsed() < PATIENCE && document.file.count() <= LARGE {
        if document.is_complete() {
            if let Some(problem) = document.problem() {
                return Err(RunError::Input(cannot_read(&name, &io::Error::other(problem))));
            }
            source.reader = Box::new(File::open(&document.file.path).map_err(refuse)?);
            source.live = None;
            return Ok(Opened::Small(source));
        }
        std::thread::sleep(Duration::from_millis(1));
    }
    Ok(Opened::Large(document))
}

impl Stored {
    /// A file that has `count` bytes so far.
    fn new(path: PathBuf, count: u64, is_complete: bool) -> Self {
        let (count, is_complete) = (AtomicU64::new(count), AtomicBool::new(is_complete));
        Self { path, count, is_complete, problem: Mutex::new(None) }
    }

    /// Takes all that comes.
    fn fill(&self, mut from: Box<dyn Read + Send>, mut to: File) {
        let mut chunk = vec![0; CHUNK];
        let ended = loop {
            let read = match from.read(&mut chunk) {
                Ok(0) => break Ok(()),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => break Err(error),
                Ok(read) => read,
            };
            if let Err(error) = to.write_all(&chunk[..read]) {
                break Err(error);
            }
            self.count.fetch_add(read as u64, Ordering::Release);
        };
        if let Err(error) = ended {
            let mut problem = self.problem.lock().unwrap_or_else(PoisonError::into_inner);
            *problem = Some(error.to_string());
        }
        self.is_complete.store(true, Ordering::Release);
    }

    fn count(&self) -> u64 {
        self.count.load(Ordering::Acquire)
    }
}

/// The bytes of a document, read through a file of their own.
struct Reading {
    stored: Arc<Stored>,
    file: Mutex<File>,
}

impl Bytes for Reading {
    fn count(&self) -> u64 {
        self.stored.count()
    }

    fn is_complete(&self) -> bool {
        self.stored.is_complete.load(Ordering::Acquire)
    }

    fn read_at(&self, at: u64, out: &mut [u8]) -> io::Result<usize> {
        let mut file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(at))?;
        // No more than was there when it was asked: what comes meanwhile is for the next time.
        let left = self.count().saturating_sub(at);
        let mut read = 0;
        let wanted = out.len().min(usize::try_from(left).unwrap_or(usize::MAX));
        while read < wanted {
            match file.read(&mut out[read..wanted])? {
                0 => break,
                more => read += more,
            }
        }
        Ok(read)
    }
}

impl LargeDocument {
    /// Its bytes, and how they are written.
    ///
    /// # Errors
    /// [`RunError::Input`] when its file cannot be opened.
    pub fn bytes(&self) -> Result<(Box<dyn Bytes>, Notation), RunError> {
        let reading = self.reading();
        let reading = reading.map_err(|error| RunError::Input(cannot_read(&self.name, &error)))?;
        Ok((Box::new(reading), self.notation))
    }

    fn reading(&self) -> io::Result<Reading> {
        let file = Mutex::new(File::open(&self.file.path)?);
        Ok(Reading { stored: Arc::clone(&self.file), file })
    }

    /// How many bytes are there so far.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.file.count()
    }

    /// Whether all of it is there.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        self.file.is_complete.load(Ordering::Acquire)
    }

    /// Why no more of it comes, if that is not its end.
    #[must_use]
    pub fn problem(&self) -> Option<String> {
        self.file.problem.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Begins to search its bytes for a text, upper and lower case alike; at most `most` places are kept.
    #[must_use]
    pub fn search(&self, text: &str, most: usize) -> RunningSearch {
        let pattern = RegexBuilder::new(&regex::escape(text)).case_insensitive(true).build();
        let reading = self.reading().map_err(|error| error.to_string());
        let overlap = text.len() * 4;
        RunningSearch::start(move |found| {
            let pattern = pattern.map_err(|error| error.to_string())?;
            search(&reading?, &pattern, overlap, most, found).map_err(|error| error.to_string())
        })
    }

    /// Begins to run a JSONPath, a rule on one line, or over XML an XPath; at most `most` of what it selects are kept.
    #[must_use]
    pub fn select(&self, expression: &str, most: usize) -> RunningSearch {
        let (expression, options) = (expression.to_owned(), self.options.clone());
        let input = Input::File(self.file.path.clone());
        let is_xml = self.format == Format::Xml;
        let is_complete = self.is_complete();
        RunningSearch::start(move |found| {
            if !is_complete {
                return Err("the input is still coming in: wait for its end".to_owned());
            }
            let mut sink = Taking::new(found, |value| {
                let origin = value.origin();
                let at = origin.is_known().then(|| Base::default().offset(origin) as u64);
                found.add(most, at, || shown(value));
                Flow::Continue(())
            });
            let told = select(&input, (&expression, is_xml), &options, &mut sink)?;
            let is_nothing = found.count.load(Ordering::Acquire) == 0;
            told.filter(|_| is_nothing).map_or(Ok(()), Err)
        })
    }

    /// Begins to look for names that can follow a path: those of the members of the first values that it selects, as first met.
    #[must_use]
    pub fn names_behind(&self, path: &str, most: usize) -> RunningSearch {
        let path = if path.is_empty() { "$" } else { path }.to_owned();
        let (input, options) = (Input::File(self.file.path.clone()), self.options.clone());
        let is_complete = self.is_complete();
        RunningSearch::start(move |found| {
            let (mut names, mut met) = (Vec::new(), 0);
            let mut sink = Taking::new(found, |value| {
                let known = names.len();
                add_names(value, most, &mut names);
                names[known..].iter().for_each(|name| found.add(most, None, || name.clone()));
                met += 1;
                if met < LOOKED_AT { Flow::Continue(()) } else { Flow::Break(()) }
            });
            match is_complete {
                true => select(&input, (&path, false), &options, &mut sink).map(drop),
                false => Ok(()),
            }
        })
    }
}

/// A search in the background.
pub struct RunningSearch {
    found: Arc<Found>,
}

/// What was found so far.
#[derive(Default)]
struct Found {
    /// The first of them: the byte at which each is, if it is in the document, and its value.
    first: Mutex<VecDeque<(Option<u64>, String)>>,
    count: AtomicU64,
    is_over: AtomicBool,
    /// Nobody wants to know any more.
    is_unwanted: AtomicBool,
    problem: Mutex<Option<String>>,
}

impl RunningSearch {
    fn start(look: impl FnOnce(&Found) -> Result<(), String> + Send + 'static) -> Self {
        let found = Arc::new(Found::default());
        let shared = Arc::clone(&found);
        let depth = kyanite_formats::documents::Limits::default().depth;
        let work = move || {
            if let Err(problem) = look(&shared) {
                *shared.problem.lock().unwrap_or_else(PoisonError::into_inner) = Some(problem);
            }
            shared.is_over.store(true, Ordering::Release);
        };
        let started = std::thread::Builder::new().stack_size(stack_size(depth)).spawn(work);
        if started.is_err() {
            found.is_over.store(true, Ordering::Release);
        }
        Self { found }
    }

    /// Hands over what was found since this was last asked: the byte at which each is, if it is in the document, and its value.
    pub fn take(&self) -> Vec<(Option<u64>, String)> {
        self.found.first.lock().unwrap_or_else(PoisonError::into_inner).drain(..).collect()
    }

    /// How many there are so far.
    #[must_use]
    pub fn count(&self) -> usize {
        usize::try_from(self.found.count.load(Ordering::Acquire)).unwrap_or(usize::MAX)
    }

    /// Whether that is all.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.found.is_over.load(Ordering::Acquire)
    }

    /// What is wrong, or which step found nothing.
    #[must_use]
    pub fn problem(&self) -> Option<String> {
        self.found.problem.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Drop for RunningSearch {
    fn drop(&mut self) {
        self.found.is_unwanted.store(true, Ordering::Release);
    }
}

impl Found {
    fn is_unwanted(&self) -> bool {
        self.is_unwanted.load(Ordering::Acquire)
    }

    fn add(&self, most: usize, at: Option<u64>, value: impl FnOnce() -> String) {
        let before = self.count.fetch_add(1, Ordering::AcqRel);
        if before < most as u64 {
            let mut first = self.first.lock().unwrap_or_else(PoisonError::into_inner);
            first.push_back((at, value()));
        }
    }
}

/// Searches bytes for a pattern whose matches are no longer than `overlap`.
fn search(
    bytes: &Reading,
    pattern: &Regex,
    overlap: usize,
    most: usize,
    found: &Found,
) -> io::Result<()> {
    let mut chunk = vec![0; CHUNK + overlap];
    let (mut at, mut from) = (0, 0);
    while !found.is_unwanted() {
        let read = bytes.read_at(at, &mut chunk)?;
        // A match that begins behind the chunk is one of the next.
        let own = read.min(CHUNK);
        for hit in pattern.find_iter(&chunk[..read]) {
            let begin = at + hit.start() as u64;
            if hit.start() < own && begin >= from {
                from = at + hit.end() as u64;
                found.add(most, Some(begin), String::new);
            }
        }
        at += own as u64;
        if own == 0 {
            break;
        }
    }
    Ok(())
}

/// Runs an expression over a file; gives what is said of it.
fn select(
    input: &Input,
    (expression, is_xml): (&str, bool),
    options: &InputOptions,
    sink: &mut impl Sink,
) -> Result<Option<String>, String> {
    let rule = RuleText::new("the expression", expression.to_owned());
    let is_xpath = is_xml && expression.trim_start().starts_with('/');
    let plan = match is_xpath {
        true => compile_xpath(rule, Version::V31, Namespaces::new(), &[]),
        false => compile(rule, Syntax::Rule),
    };
    let plan = plan.map_err(|(rule, findings)| {
        let first = findings.into_iter().next();
        first.map_or_else(String::new, |found| rule.diagnostic(found).message().to_owned())
    })?;
    let options = InputOptions { memory: LARGE as usize, ..options.clone() };
    let job = Job { holds: false, ..Job::new(&plan, &options) };
    let mut told = None;
    let mut tell = |diagnostic: Diagnostic| {
        if told.is_none() && diagnostic.severity() != kyanite_tree::Severity::Note {
            let advice = diagnostic.advice().map(|advice| format!("; {advice}"));
            told = Some(format!("{}{}", diagnostic.message(), advice.unwrap_or_default()));
        }
    };
    let counters = Counters::default();
    let mut events = Events { tell: &mut tell, counters: &counters };
    let ran = crate::run(&job, std::slice::from_ref(input), sink, &mut events);
    if let Err(failed) = ran {
        let first = failed.diagnostics().first().map(|one| one.message().to_owned());
        return Err(first.unwrap_or_default());
    }
    Ok(told)
}

/// Takes what an expression selects, value by value, until `take` has enough or nobody wants to know.
struct Taking<'f, T> {
    found: &'f Found,
    take: T,
    has_enough: bool,
}

impl<'f, T: FnMut(Value<'_>) -> Flow> Taking<'f, T> {
    fn new(found: &'f Found, take: T) -> Self {
        Self { found, take, has_enough: false }
    }
}

impl<T: FnMut(Value<'_>) -> Flow> Sink for Taking<'_, T> {
    fn item(&mut self, value: Value<'_>) -> Flow {
        self.has_enough = (self.take)(value).is_break();
        if self.is_closed() { Flow::Break(()) } else { Flow::Continue(()) }
    }

    fn single(&mut self, value: Option<Value<'_>>) -> Flow {
        value.map_or(Flow::Continue(()), |value| self.item(value))
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn written(&self) -> Written {
        Written::Values
    }

    fn is_closed(&self) -> bool {
        self.has_enough || self.found.is_unwanted()
    }
}
