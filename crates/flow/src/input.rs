//! Inputs: files, standard input, URLs and readers, opened, with their format settled.

mod beginning;
mod limited;
mod options;
mod reader;

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};

use kyanite_formats::detect::{self, Detected, Reason};
use kyanite_formats::encoding::Charset;
use kyanite_formats::{Format, csv, xml};
use kyanite_tree::{Advice, Code, Diagnostic, Place, Setting};

use crate::blocks::{Blocks, Framing, SMALL, read_some};
use crate::compression::Compression;
use crate::fetch;
use crate::line_ends::{LineEnds, Returns};
use crate::live::{self, Live};
use crate::pieces::Before;
use crate::range::{ByteRange, RangeReader, name_in_range};
use crate::transcode::{Decoded, NotDecoded, Replaced};
use crate::{Bytes, RunError};

pub(crate) use beginning::{Beginning, XmlBeginning};
pub(crate) use limited::Limited;
pub use options::{DEFAULT_MEMORY, DEFAULT_SIZE, InputOptions};
pub use reader::InputReader;

use limited::TooLarge;

/// Where a document comes from.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub enum Input {
    /// Standard input.
    Standard,
    /// A file.
    File(PathBuf),
    /// What an http or https server gives.
    Url(String),
    /// Bytes that a reader gives.
    Reader(InputReader),
}

impl Input {
    /// The input that a word on the command line names: `-` is standard input.
    #[must_use]
    pub fn of_word(word: &str) -> Self {
        let is_url = ["http://", "https://"].iter().any(|scheme| {
            word.get(..scheme.len()).is_some_and(|start| start.eq_ignore_ascii_case(scheme))
        });
        match word {
            "-" => Self::Standard,
            url if is_url => Self::Url(url.to_owned()),
            path => Self::File(path.into()),
        }
    }

    /// The name in messages.
    #[must_use]
    pub fn name(&self) -> String {
        match self {
            Self::Standard => "standard input".into(),
            Self::File(path) => path.display().to_string(),
            Self::Url(url) => url.clone(),
            Self::Reader(reader) => reader.name().to_owned(),
        }
    }

    fn path(&self) -> Option<&Path> {
        match self {
            Self::File(path) => Some(path),
            Self::Standard | Self::Url(_) | Self::Reader(_) => None,
        }
    }

    /// The file's name, or the last part of a URL's path.
    fn file_name(&self) -> Option<&str> {
        match self {
            Self::Standard => None,
            Self::File(path) => path.file_name()?.to_str(),
            Self::Reader(reader) => Some(reader.name()),
            Self::Url(url) => {
                let path = url.split(['?', '#']).next()?.split_once("://")?.1;
                path.split_once('/').map(|(_, path)| path)
            }
        }
    }

    /// The format that the input's name stands for, unless the user said one.
    #[must_use]
    pub fn format_by_name(&self, told: Option<Format>) -> Option<Format> {
        let detected = detect::by_name(told, self.file_name());
        detected.map(|detected| detected.format).filter(|format| format.is_read())
    }

    /// Whether it is a file that plainly holds one JSON list, large enough to go through its items one by one.
    #[must_use]
    pub fn is_large_list(&self) -> bool {
        let (Some(path), Some(size)) = (self.path(), self.size()) else { return false };
        let mut head = [0; 4096];
        let read = File::open(path).and_then(|mut file| file.read(&mut head)).unwrap_or(0);
        let head = head[..read].strip_prefix(b"\xEF\xBB\xBF").unwrap_or(&head[..read]);
        size > SMALL as u64 && head.trim_ascii_start().first() == Some(&b'[')
    }

    /// The size in bytes, if it is known before reading; that of what is compressed is not.
    #[must_use]
    pub fn size(&self) -> Option<u64> {
        let path = self.path()?;
        let extension = path.extension().and_then(|extension| extension.to_str());
        if extension.and_then(Compression::of_extension).is_some() {
            return None;
        }
        let metadata = std::fs::metadata(path).ok()?;
        metadata.is_file().then_some(metadata.len())
    }
}

/// An input that is open.
pub(crate) struct Source {
    pub(crate) name: String,
    /// The file or URL that it is.
    pub(crate) uri: Option<String>,
    pub(crate) detected: Detected,
    /// The format that the content looks like, where it is plainly another.
    pub(crate) looks_like: Option<Format>,
    pub(crate) reader: Bytes,
    /// Whether these are the bytes of the input, neither opened from a compression nor decoded.
    pub(crate) is_plain: bool,
    /// Tells when no more bytes come for now, if that may be.
    pub(crate) live: Option<Live>,
    /// Characters that stand for bytes that are none, once it was read.
    pub(crate) replaced: Replaced,
    /// The items of its list in place of its bytes, when these are what is run over.
    pub(crate) items: Option<Box<Blocks>>,
    /// What it goes on from, if it is a piece of an input.
    pub(crate) before: Option<Before>,
    /// How many lines stand in front of a range of it, as its header.
    pub(crate) repeated_lines: u64,
}

/// How much of an input is looked at to tell its format.
const HEAD: usize = 16 * 1024;

/// How many bytes tell compressions and encodings.
const SIGNATURE: usize = 4;

thread_local! {
    /// Standard input that was opened to tell its format: it can be opened but once.
    static LOOKED_AT: RefCell<Option<Source>> = const { RefCell::new(None) };
}

/// The format of an input, told as it would be when it is read.
///
/// # Errors
/// [`RunError::Input`] when it cannot be opened, or its format cannot be told.
pub fn format_of(input: &Input, options: &InputOptions) -> Result<Format, RunError> {
    if let Some(format) = input.format_by_name(options.from) {
        return Ok(format);
    }
    let source = Source::open(input, options)?;
    let format = source.detected.format;
    if *input == Input::Standard {
        LOOKED_AT.with(|kept| kept.replace(Some(source)));
    }
    Ok(format)
}

/// Standard input, kept in a temporary file, so that it can be read more than once.
pub struct KeptInput {
    file: tempfile::NamedTempFile,
    detected: Detected,
    looks_like: Option<Format>,
}

impl KeptInput {
    /// Reads standard input to its end.
    ///
    /// # Errors
    /// [`RunError::Input`] when that fails, or its format cannot be told.
    pub fn read(options: &InputOptions) -> Result<Self, RunError> {
        let mut source = Source::open(&Input::Standard, options)?;
        let refuse = |error: io::Error| RunError::Input(cannot_read(&source.name, &error));
        let mut file = tempfile::NamedTempFile::new().map_err(refuse)?;
        io::copy(&mut source.reader, &mut file)
            .map_err(|error| RunError::Input(cannot_read("standard input", &error)))?;
        Ok(Self { file, detected: source.detected, looks_like: source.looks_like })
    }

    /// Has it be what is read when standard input is opened next.
    ///
    /// # Errors
    /// [`RunError::Input`] when the file is gone.
    pub fn offer(&self) -> Result<(), RunError> {
        let name = Input::Standard.name();
        let file =
            self.file.reopen().map_err(|error| RunError::Input(cannot_read(&name, &error)))?;
        let source = Source {
            name,
            uri: None,
            detected: self.detected.clone(),
            looks_like: self.looks_like,
            reader: Box::new(BufReader::new(file)),
            is_plain: false,
            live: None,
            replaced: Replaced::default(),
            items: None,
            before: None,
            repeated_lines: 0,
        };
        source.keep(&Input::Standard);
        Ok(())
    }
}

impl Source {
    /// The same source, for the records that begin in a range of its bytes.
    pub(crate) fn in_range(
        self,
        input: &Input,
        range: ByteRange,
        options: &InputOptions,
    ) -> Result<Self, RunError> {
        let (format, name) = (self.detected.format, &self.name);
        let has_borders =
            matches!(format, Format::JsonLines | Format::Csv | Format::Tsv | Format::Text);
        let why = match (input.path(), has_borders, self.is_plain) {
            (Some(path), true, true) => {
                let refuse = |error: io::Error| RunError::Input(cannot_read(name, &error));
                let (start, has_header) = (range.start, !options.unnamed);
                let records = RangeReader::open(path, range, format, has_header).map_err(refuse)?;
                let repeated_lines = if start > 0 { records.header_lines() } else { 0 };
                let (head, reader) = peek(Box::new(records), None).map_err(refuse)?;
                let reader = with_line_ends(reader, Some(&self.detected), &head, options);
                let name = name_in_range(name, start);
                return Ok(Self { name, reader, live: None, repeated_lines, ..self });
            }
            (None, ..) => format!("{name} has no bytes to go to"),
            (_, false, _) => {
                format!("{name} is {format}, where no record can be found from its middle")
            }
            (_, _, false) => format!("{name} is compressed or in another encoding"),
        };
        let advice = "a range is of a file of JSON Lines, CSV, TSV or text in UTF-8, as it is";
        Err(RunError::command(format!("{why}, so it has no ranges"), advice))
    }

    /// Opens an input and settles its format.
    pub(crate) fn open(input: &Input, options: &InputOptions) -> Result<Self, RunError> {
        if *input == Input::Standard
            && let Some(source) = LOOKED_AT.with(RefCell::take)
        {
            return Ok(source);
        }
        let name = input.name();
        let refuse = |error: io::Error| RunError::Input(cannot_read(&name, &error));
        let mut media_type = None;
        let (reader, mut live): (Bytes, _) = match input {
            Input::Standard => live::standard_input().map_err(refuse)?,
            Input::File(path) => {
                let file = open_file(path, &name)?;
                let live = Live::of(&file);
                (Box::new(file), live)
            }
            Input::Reader(given) => (given.open().map_err(refuse)?, None),
            Input::Url(url) => {
                let answer = fetch::get(url, &options.fetch)?;
                media_type = answer.media_type;
                (Box::new(Limited::new(answer.reader, options.size)), None)
            }
        };
        // Where the format is said nothing has to be waited for to find it out; but in XML declarations may come first.
        let is_said = options.from.is_some_and(|format| format != Format::Xml);
        let (head, reader) = peek(reader, live.as_ref().filter(|_| is_said)).map_err(refuse)?;
        let mut is_plain = true;
        let (head, reader) = match Compression::of_content(&head) {
            Some(compression) => {
                (live, is_plain) = (None, false);
                let opened = compression.reader(Box::new(BufReader::new(reader)));
                opened.and_then(|reader| peek(reader, None)).map_err(refuse)?
            }
            None => (head, reader),
        };
        let by_media = || {
            let media = media_type?;
            let format = Format::of_media_type(&media)?;
            Some(Detected { format, reason: Reason::MediaType(media) })
        };
        let told = detect::by_name(options.from, None);
        // What is only written may hold XML all the same.
        let is_read = |detected: &Detected| detected.format.is_read();
        let by_name = || detect::by_name(None, input.file_name()).filter(is_read);
        let named = told.or_else(|| by_media().filter(is_read)).or_else(by_name);
        let is_all = head.len() < HEAD;
        // All is made UTF-8 as it is read.
        let marked = Charset::of_mark(&head).filter(|charset| charset.is_utf16());
        let detected = named.or_else(|| match options.encoding.or(marked) {
            Some(charset) => detect::by_content(charset.beginning(&head).as_bytes(), is_all),
            None => detect::by_content(&head, is_all),
        });
        let is_xml = detected.as_ref().is_some_and(|detected| detected.format == Format::Xml);
        let charset = match (options.encoding, is_xml) {
            (Some(charset), _) => charset,
            (None, false) => marked.unwrap_or(Charset::UTF8),
            (None, true) => match xml::charset(&head) {
                Err(error) if !options.lenient => {
                    return Err(RunError::Input(error.diagnostic(&name, &head)));
                }
                charset => charset.unwrap_or(Charset::UTF8),
            },
        };
        let mut replaced = Replaced::default();
        let may_be_broken = is_xml && options.lenient || options.encoding.is_some();
        let (head, reader) = if charset != Charset::UTF8 || may_be_broken {
            (live, is_plain) = (None, false);
            let decoded = Decoded::new(&name, reader, charset, options.lenient);
            replaced = decoded.replaced();
            peek(Box::new(decoded), None).map_err(refuse)?
        } else {
            (head, reader)
        };
        let reader = with_line_ends(reader, detected.as_ref(), &head, options);
        let Some(detected) = detected else {
            let problem = Diagnostic::error(
                Code::InputFormat,
                format!("the format of {name} is not known from its name or its content"),
            )
            .at(Place::of(&name, &head, 0, 1))
            .advise(
                Advice::words("say it with ")
                    .setting(Setting::From(None))
                    .then(format!(": {}", Format::names())),
            );
            return Err(RunError::Input(problem));
        };
        if !detected.format.is_read() {
            let message = format!("{} is written here, and not read", detected.format);
            let advice = Advice::words("a page that is well-formed XML is read with ")
                .setting(Setting::From(Some("xml")));
            return Err(RunError::Input(
                Diagnostic::error(Code::InputFormat, message).advise(advice),
            ));
        }
        let looks_like = match detected.reason {
            Reason::Told => None,
            _ => detect::contradicts(detected.format, &head),
        };
        let uri = matches!(input, Input::File(_) | Input::Url(_)).then(|| name.clone());
        let (items, before) = (None, None);
        Ok(Self {
            name,
            uri,
            detected,
            looks_like,
            reader,
            is_plain,
            live,
            replaced,
            items,
            before,
            repeated_lines: 0,
        })
    }

    /// A text that is held already.
    pub(crate) fn of_text(name: &str, text: &str, format: Format) -> Self {
        Self::of_bytes(name, text.as_bytes().to_vec(), format)
    }

    /// Bytes that are held already.
    pub(crate) fn of_bytes(name: &str, bytes: Vec<u8>, format: Format) -> Self {
        Self {
            name: name.to_owned(),
            uri: None,
            detected: Detected { format, reason: Reason::Told },
            looks_like: None,
            reader: Box::new(io::Cursor::new(bytes)),
            is_plain: false,
            live: None,
            replaced: Replaced::default(),
            items: None,
            before: None,
            repeated_lines: 0,
        }
    }

    /// The first bytes, which stay to be read.
    pub(crate) fn look_ahead(&mut self) -> io::Result<Vec<u8>> {
        let reader = std::mem::replace(&mut self.reader, Box::new(io::empty()));
        let (head, reader) = peek(reader, self.live.as_ref())?;
        self.reader = reader;
        Ok(head)
    }

    /// Keeps standard input for when it is opened again, as it can be opened but once.
    pub(crate) fn keep(self, input: &Input) {
        if *input == Input::Standard {
            LOOKED_AT.with(|kept| kept.replace(Some(self)));
        }
    }

    /// Whether it is plainly an XML document, whose elements can be read as they come.
    pub(crate) fn has_elements(&self) -> bool {
        self.detected.format == Format::Xml && self.looks_like.is_none()
    }

    /// Goes through the items of the list that `path` leads to in place of the document, if it is a JSON document that has that
    /// list, and large or `of_any_size`.
    pub(crate) fn go_through(
        mut self,
        path: Vec<String>,
        of_any_size: bool,
    ) -> Result<Self, RunError> {
        let framing = Blocks::of_items(self.reader, self.live.take(), path, of_any_size)
            .map_err(|error| RunError::Input(cannot_read(&self.name, &error)))?;
        match framing {
            Framing::Blocks(blocks) => {
                self.reader = Box::new(io::empty());
                self.items = Some(blocks);
            }
            Framing::Whole(reader) => self.reader = reader,
        }
        Ok(self)
    }

    /// What is said when the content looks like another format than the name: a sentence for messages.
    pub(crate) fn contradiction(&self) -> Option<String> {
        let (other, named) = (self.looks_like?, &self.detected);
        let by = match &named.reason {
            Reason::Extension(extension) => format!("is named .{extension}"),
            Reason::MediaType(media) => format!("is sent as {media}"),
            _ => return None,
        };
        Some(format!("{} {by}, but its content looks like {other}", self.name))
    }
}

/// The reader with the line ends that the format knows; `head` are its first bytes.
fn with_line_ends(
    reader: Bytes,
    detected: Option<&Detected>,
    head: &[u8],
    options: &InputOptions,
) -> Bytes {
    let delimiter = match detected.map(|detected| detected.format) {
        Some(Format::Xml) => return Box::new(LineEnds::new(reader)),
        Some(format @ (Format::Csv | Format::Tsv)) => {
            Some(csv::Settings::of(format, options.delimiter).delimiter)
        }
        Some(Format::Text) => None,
        _ => return reader,
    };
    if Returns::are_in(head, head.len() < HEAD, delimiter) {
        return Box::new(Returns::new(reader, delimiter));
    }
    reader
}

fn open_file(path: &Path, name: &str) -> Result<File, RunError> {
    let file = File::open(path).map_err(|error| RunError::Input(cannot_read(name, &error)))?;
    if file.metadata().is_ok_and(|metadata| metadata.is_dir()) {
        let problem = Diagnostic::error(Code::InputUnreadable, format!("{name} is a folder"))
            .advise(format!("name the files in it: {}", path.join("*.json").display()));
        return Err(RunError::Input(problem));
    }
    Ok(file)
}

/// The first bytes of what a reader gives, and a reader that gives them again. Of a live input they are those that come before
/// it pauses.
fn peek(mut reader: Bytes, live: Option<&Live>) -> io::Result<(Vec<u8>, Bytes)> {
    let mut head = vec![0; HEAD];
    let mut filled = 0;
    while filled < HEAD && !(filled >= SIGNATURE && live.is_some_and(Live::pauses)) {
        match read_some(&mut reader, &mut head[filled..])? {
            0 => break,
            read => filled += read,
        }
    }
    head.truncate(filled);
    let again: Bytes = Box::new(io::Cursor::new(head.clone()).chain(reader));
    Ok((head, again))
}

/// The message for an input that the system does not give.
pub(crate) fn cannot_read(name: &str, error: &io::Error) -> Diagnostic {
    if let Some(NotDecoded(found)) = error.get_ref().and_then(|inner| inner.downcast_ref()) {
        return found.clone();
    }
    if let Some(TooLarge { limit }) = error.get_ref().and_then(|inner| inner.downcast_ref()) {
        let message = format!("{name} has more than {limit} bytes");
        let advice = ("if this is meant, raise the limit with ", Setting::SizeLimit);
        return Diagnostic::error(Code::Limit, message).advise(advice);
    }
    match error.kind() {
        io::ErrorKind::NotFound => {
            Diagnostic::error(Code::InputMissing, format!("there is no file {name}"))
                .advise("check the name and the folder you are in")
        }
        io::ErrorKind::PermissionDenied => {
            Diagnostic::error(Code::InputUnreadable, format!("{name} may not be read"))
                .advise("check the permissions of the file")
        }
        io::ErrorKind::TimedOut => {
            Diagnostic::error(Code::InputUnreadable, format!("{name} was not read in time"))
                .advise(("allow more with ", Setting::Timeout))
        }
        io::ErrorKind::UnexpectedEof | io::ErrorKind::InvalidInput | io::ErrorKind::InvalidData => {
            Diagnostic::error(
                Code::InputUnreadable,
                format!("{name} is damaged or cut off: {error}"),
            )
            .advise("fetch it again")
        }
        _ => Diagnostic::error(Code::InputUnreadable, format!("{name} cannot be read: {error}")),
    }
}
