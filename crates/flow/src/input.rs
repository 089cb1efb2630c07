//! Inputs: files and standard input, opened, with their format settled.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use kyanite_formats::detect::{self, Detected};
use kyanite_formats::json::Duplicate;
use kyanite_formats::records::Layout;
use kyanite_formats::{Format, SyntaxError, csv, json};
use kyanite_tree::{Arena, Problem};

use crate::Failed;
use crate::document::refuse_utf16;

/// Where a document comes from.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Input {
    /// Standard input.
    Standard,
    /// A file.
    File(PathBuf),
}

/// How inputs are read.
#[derive(Clone, Debug)]
pub struct InputOptions {
    /// The format, when the user said it.
    pub from: Option<Format>,
    /// The byte between the cells of CSV, when the user said it.
    pub delimiter: Option<u8>,
    /// Whether the first row of CSV is data, not names.
    pub unnamed: bool,
    /// Whether broken records are skipped and counted.
    pub lenient: bool,
    /// Whether the document is a text that holds another document.
    pub unwrap: bool,
    /// The deepest nesting that is read.
    pub depth: usize,
}

impl Default for InputOptions {
    fn default() -> Self {
        Self {
            from: None,
            delimiter: None,
            unnamed: false,
            lenient: false,
            unwrap: false,
            depth: json::DEFAULT_DEPTH,
        }
    }
}

impl InputOptions {
    /// How cells of a format are told apart.
    fn cells(&self, format: Format) -> csv::Settings {
        let usual = if format == Format::Tsv { b'\t' } else { b',' };
        csv::Settings { delimiter: self.delimiter.unwrap_or(usual) }
    }
}

/// How the records of an input are laid out, where they begin, and columns that were named twice.
pub(crate) struct Beginning<'a> {
    pub(crate) layout: Layout<'a>,
    pub(crate) from: usize,
    pub(crate) duplicates: Vec<Duplicate>,
}

impl<'a> Beginning<'a> {
    /// Settles it from the first bytes of an input: the header of CSV is read into `arena`.
    ///
    /// # Errors
    /// A [`SyntaxError`] in the header; it wants more when `text` ends inside.
    pub(crate) fn read(
        format: Format,
        options: &InputOptions,
        text: &str,
        arena: &'a Arena,
    ) -> Result<Self, SyntaxError> {
        let plain = |layout| Self { layout, from: 0, duplicates: Vec::new() };
        if !matches!(format, Format::Csv | Format::Tsv) {
            return Ok(plain(Layout::Json { depth: options.depth, needs: None }));
        }
        let settings = options.cells(format);
        let first = if options.unnamed { None } else { csv::Header::read(text, settings, arena)? };
        Ok(match first {
            Some(csv::FirstRow { header, end, duplicates }) => Self {
                layout: Layout::Csv { settings, header: Some(header) },
                from: end,
                duplicates,
            },
            None => plain(Layout::Csv { settings, header: None }),
        })
    }
}

impl Input {
    /// The input that a word on the command line names: `-` is standard input.
    #[must_use]
    pub fn of_word(word: &str) -> Self {
        if word == "-" { Self::Standard } else { Self::File(word.into()) }
    }

    /// The name in messages.
    #[must_use]
    pub fn name(&self) -> String {
        match self {
            Self::Standard => "standard input".into(),
            Self::File(path) => path.display().to_string(),
        }
    }

    fn path(&self) -> Option<&Path> {
        match self {
            Self::Standard => None,
            Self::File(path) => Some(path),
        }
    }

    /// The size in bytes, if it is known before reading.
    #[must_use]
    pub fn size(&self) -> Option<u64> {
        let metadata = std::fs::metadata(self.path()?).ok()?;
        metadata.is_file().then_some(metadata.len())
    }
}

/// An input that is open.
pub(crate) struct Source {
    pub(crate) name: String,
    pub(crate) detected: Detected,
    pub(crate) reader: Box<dyn Read>,
}

/// How much of an input is looked at to tell its format.
const HEAD: usize = 4096;

impl Source {
    /// Opens an input and settles its format.
    pub(crate) fn open(input: &Input, options: &InputOptions) -> Result<Self, Failed> {
        let name = input.name();
        let refuse = |error: io::Error| Failed::Input(cannot_read(&name, &error));
        let mut reader: Box<dyn Read> = match input {
            Input::Standard => Box::new(io::stdin().lock()),
            Input::File(path) => {
                let file = File::open(path).map_err(refuse)?;
                if file.metadata().is_ok_and(|metadata| metadata.is_dir()) {
                    let problem = Problem::error(format!("{name} is a folder"))
                        .advise(format!("name the files in it: {}", path.join("*.json").display()));
                    return Err(Failed::Input(problem));
                }
                Box::new(file)
            }
        };
        if let Some(detected) = detect::by_name(options.from, input.path()) {
            return Ok(Self { name, detected, reader });
        }
        let mut head = Vec::new();
        reader.by_ref().take(HEAD as u64).read_to_end(&mut head).map_err(refuse)?;
        refuse_utf16(&name, &head)?;
        let Some(detected) = detect::by_content(&head) else {
            let problem = Problem::error(format!(
                "the format of {name} is not known from its name or its content"
            ))
            .at(kyanite_tree::Spot::of(&name, &head, 0, 1))
            .advise("say it with --from json, jsonl, csv or tsv");
            return Err(Failed::Input(problem));
        };
        let reader = Box::new(io::Cursor::new(head).chain(reader));
        Ok(Self { name, detected, reader })
    }
}

/// The message for an input that the system does not give.
pub(crate) fn cannot_read(name: &str, error: &io::Error) -> Problem {
    match error.kind() {
        io::ErrorKind::NotFound => Problem::error(format!("there is no file {name}"))
            .advise("check the name and the folder you are in"),
        io::ErrorKind::PermissionDenied => Problem::error(format!("{name} may not be read"))
            .advise("check the permissions of the file"),
        _ => Problem::error(format!("{name} cannot be read: {error}")),
    }
}
