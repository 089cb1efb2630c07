//! The parts that are being written: which record goes to which part, and the files of the parts.
//!
//! Few files are open at a time; a part that gets a record after its file was closed is opened again and appended to.

use std::collections::{HashMap, VecDeque};
use std::fs::{File, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use kyanite_formats::{Format, json};
use kyanite_lang::{Plan, Session};
use kyanite_tree::{Arena, Code, Diagnostic, Place, Value};

use super::{Key, SplitBy, Splitting, evaluate};
use crate::folder::{Names, NewFiles};
use crate::output::cannot_write;
use crate::run_error::RunError;
use crate::unfinished::resolved;

/// The params of a template's rule.
pub const TEMPLATE_PARAMS: &str =
    "param stem: text; param no: number; param key: text = \"\"; param ext: text; ";

/// How many files are open at a time.
const OPEN: usize = 64;

/// A part that was written.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SplitPart {
    /// The path of the file.
    pub file: PathBuf,
    /// How many records it has.
    pub records: u64,
    /// How many bytes.
    pub bytes: u64,
    /// Which record of the input is its first, from 1.
    pub first: u64,
    /// The value that its records have in common, if they are taken together by one.
    pub key: Option<String>,
}

/// What a record stands in, where parts have to have it as well.
#[derive(Clone, Copy)]
pub(super) enum Around<'a> {
    Nothing,
    /// Elements: what stands before the root, and the tags of those that are open, the outer ones first, with their ends.
    Elements {
        prolog: &'a str,
        tags: &'a [(&'a str, &'a str)],
    },
}

/// Parts under way.
pub(super) struct Parts<'s> {
    what: Splitting<'s>,
    /// The files that no part may take the place of, from the root, in the order of `what`.
    kept: Vec<PathBuf>,
    files: NewFiles,
    names: Names,
    parts: Vec<Part>,
    by_key: HashMap<String, usize>,
    /// Which files are open, the one used last at the end.
    open: VecDeque<(usize, BufWriter<File>)>,
    header: Vec<u8>,
    shape: Separation,
    stem: String,
    extension: String,
    records: u64,
    session: Session,
}

/// How the records of a part stand beside each other.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Separation {
    /// Each on a line.
    Lines,
    /// Items of a list of JSON.
    List,
    /// As they are, one behind the other.
    Plain,
    /// Elements.
    Elements,
}

struct Part {
    about: SplitPart,
    made: PathBuf,
    /// The ends of elements that are open, the outer ones first, with their tags.
    tags: Vec<(String, String)>,
}

impl<'s> Parts<'s> {
    pub(super) fn new(what: Splitting<'s>, name: &str, format: Format) -> Result<Self, RunError> {
        let failed = |error: io::Error| {
            RunError::Output(cannot_write(&what.folder.display().to_string(), &error))
        };
        let path = Path::new(name);
        let plain =
            |part: Option<&std::ffi::OsStr>| part.map(|part| part.to_string_lossy().into_owned());
        let extension = plain(path.extension());
        // What was compressed is not compressed in parts.
        let (stem, extension) = match extension.as_deref() {
            Some("gz" | "zst") => {
                let inner = path.file_stem().map(PathBuf::from).unwrap_or_default();
                (plain(inner.file_stem()), plain(inner.extension()))
            }
            _ => (plain(path.file_stem()), extension),
        };
        let is_named = extension.is_some();
        let shape = match format {
            Format::JsonLines => Separation::Lines,
            Format::Json => Separation::List,
            Format::Xml => Separation::Elements,
            _ => Separation::Plain,
        };
        Ok(Self {
            what,
            kept: what.kept.iter().map(|path| resolved(path)).collect(),
            files: NewFiles::in_folder(what.folder).map_err(failed)?,
            names: Names::new(what.folder),
            parts: Vec::new(),
            by_key: HashMap::new(),
            open: VecDeque::new(),
            header: Vec::new(),
            shape,
            stem: if is_named { stem.unwrap_or_default() } else { "part".to_owned() },
            extension: extension.unwrap_or_else(|| format.name().to_owned()),
            records: 0,
            session: Session::new(what.template),
        })
    }

    /// What each part begins with, if that is not settled yet.
    pub(super) fn set_header(&mut self, header: &[u8]) {
        if self.parts.is_empty() && !header.is_empty() {
            self.header = header.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(header).to_vec();
        }
    }

    /// Puts a record into its part. Its value is not needed where its text is on one line.
    pub(super) fn put(
        &mut self,
        text: &[u8],
        record: Option<Value<'_>>,
        key: Key,
        around: Around<'_>,
        place: &dyn Fn() -> Option<Place>,
    ) -> Result<(), RunError> {
        self.records += 1;
        // A record of JSON Lines that stands on several lines becomes one.
        let is_spread = |text: &[u8]| memchr::memchr(b'\n', text.trim_ascii()).is_some();
        let record = record.filter(|_| self.shape == Separation::Lines && is_spread(text));
        let one_line = record.map(json::compact);
        let text = one_line.as_deref().map_or(text, str::as_bytes);
        let number = match key {
            Key::Of(key) => match self.by_key.get(&key) {
                Some(known) => *known,
                None => {
                    let number = self.begin(Some(key.clone()), place)?;
                    self.by_key.insert(key, number);
                    number
                }
            },
            Key::New => self.begin(None, place)?,
            Key::Same => match self.parts.last() {
                Some(last) if !self.is_full(&last.about, text.len()) => self.parts.len() - 1,
                _ => self.begin(None, place)?,
            },
        };
        self.write(number, text, around)
    }

    /// Whether a part has no room for a record of `length` bytes.
    fn is_full(&self, part: &SplitPart, length: usize) -> bool {
        match self.what.by {
            SplitBy::Records(most) => part.records >= most,
            SplitBy::Bytes(most) => part.records > 0 && part.bytes + length as u64 + 1 > most,
            SplitBy::Key(_) | SplitBy::Where(_) => false,
        }
    }

    /// Begins a part; gives its number.
    fn begin(
        &mut self,
        key: Option<String>,
        place: &dyn Fn() -> Option<Place>,
    ) -> Result<usize, RunError> {
        let number = self.parts.len();
        let name = self.name(number + 1, key.as_deref())?;
        let file = self.names.add(&name).map_err(|(message, advice)| {
            let why = Diagnostic::error(Code::OutputFailed, message).at_opt(place());
            RunError::Output(why.advise(advice))
        })?;
        let path = resolved(&file);
        if let Some(at) = self.kept.iter().position(|kept| *kept == path) {
            let message =
                format!("a part would take the place of {}", self.what.kept[at].display());
            let why = Diagnostic::error(Code::OutputFailed, message).at_opt(place());
            return Err(RunError::Output(why.advise("give parts other names, with --name")));
        }
        let made = self.files.add(file.clone());
        let about = SplitPart { file, records: 0, bytes: 0, first: self.records, key };
        self.parts.push(Part { about, made, tags: Vec::new() });
        Ok(number)
    }

    /// The name of a part, by the template.
    fn name(&mut self, number: usize, key: Option<&str>) -> Result<String, RunError> {
        let template: &Plan = self.what.template;
        let mut given = vec![
            ("stem".to_owned(), self.stem.clone()),
            ("no".to_owned(), number.to_string()),
            ("ext".to_owned(), self.extension.clone()),
        ];
        given.extend(key.map(|key| ("key".to_owned(), key.to_owned())));
        let arena = Arena::new();
        let mut name = String::new();
        evaluate(template, &mut self.session, None, &given, &arena, &mut |value| {
            name = value.scalar_text().unwrap_or_default().to_owned();
        })?;
        Ok(name)
    }

    fn write(&mut self, number: usize, text: &[u8], around: Around<'_>) -> Result<(), RunError> {
        let mut bytes = Vec::with_capacity(text.len() + 2);
        let part = &mut self.parts[number];
        let is_first = part.about.records == 0;
        match (self.shape, around) {
            (Separation::Elements, Around::Elements { prolog, tags }) => {
                if is_first {
                    bytes.extend_from_slice(prolog.as_bytes());
                }
                let same =
                    part.tags.iter().zip(tags).take_while(|((open, _), (tag, _))| open == tag);
                let same = same.count();
                while part.tags.len() > same {
                    let (_, end) = part.tags.pop().unwrap_or_default();
                    bytes.extend_from_slice(end.as_bytes());
                    bytes.push(b'\n');
                }
                for (tag, end) in &tags[same..] {
                    bytes.extend_from_slice(tag.as_bytes());
                    bytes.push(b'\n');
                    part.tags.push(((*tag).to_owned(), (*end).to_owned()));
                }
                bytes.extend_from_slice(text.trim_ascii());
                bytes.push(b'\n');
            }
            (Separation::List, _) => {
                bytes.extend_from_slice(if is_first { b"[\n" } else { b",\n" });
                bytes.extend_from_slice(text.trim_ascii());
            }
            (Separation::Lines, _) => {
                bytes.extend_from_slice(text.trim_ascii());
                bytes.push(b'\n');
            }
            (Separation::Plain | Separation::Elements, _) => {
                if is_first {
                    bytes.extend_from_slice(&self.header);
                }
                bytes.extend_from_slice(text);
                if !text.ends_with(b"\n") {
                    bytes.push(b'\n');
                }
            }
        }
        part.about.records += 1;
        self.append(number, &bytes)
    }

    /// Writes bytes behind those that a part has.
    fn append(&mut self, number: usize, bytes: &[u8]) -> Result<(), RunError> {
        let part = &mut self.parts[number];
        part.about.bytes += bytes.len() as u64;
        let name = part.about.file.display().to_string();
        let failed = |error: io::Error| RunError::Output(cannot_write(&name, &error));
        if self.open.back().is_none_or(|(last, _)| *last != number) {
            let known = self.open.iter().position(|(open, _)| *open == number);
            let file = match known.and_then(|at| self.open.remove(at)) {
                Some((_, file)) => file,
                None => {
                    if self.open.len() >= OPEN
                        && let Some((_, mut oldest)) = self.open.pop_front()
                    {
                        oldest.flush().map_err(failed)?;
                    }
                    let mut options = OpenOptions::new();
                    BufWriter::new(
                        options.create(true).append(true).open(&part.made).map_err(failed)?,
                    )
                }
            };
            self.open.push_back((number, file));
        }
        match self.open.back_mut() {
            Some((_, file)) => file.write_all(bytes).map_err(failed),
            None => Ok(()),
        }
    }

    /// Ends all parts, and puts them in their places.
    pub(super) fn finish(mut self) -> Result<Vec<SplitPart>, RunError> {
        for number in 0..self.parts.len() {
            let mut end = Vec::new();
            if self.shape == Separation::List {
                end.extend_from_slice(b"\n]\n");
            }
            while let Some((_, tag)) = self.parts[number].tags.pop() {
                end.extend_from_slice(tag.as_bytes());
                end.push(b'\n');
            }
            if !end.is_empty() {
                self.append(number, &end)?;
            }
        }
        for (number, file) in &mut self.open {
            let name = self.parts[*number].about.file.display().to_string();
            file.flush().map_err(|error| RunError::Output(cannot_write(&name, &error)))?;
        }
        self.open.clear();
        self.files.finish()?;
        Ok(self.parts.into_iter().map(|part| part.about).collect())
    }
}
