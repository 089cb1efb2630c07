//! Outputs: results laid out in a format, to standard output or to a file that is replaced only when all is well.

use std::fs;
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use kyanite_formats::{Format, csv, json, text};
use kyanite_lang::Flow;
use kyanite_tree::{Problem, Value};
use tempfile::NamedTempFile;

use crate::{Failed, Sink};

/// How results are laid out.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Layout {
    /// The format.
    pub format: Format,
    /// The style of JSON documents; JSON Lines is always compact.
    pub style: json::Style,
    /// The byte between the cells of CSV; a comma, or a tab for TSV, unless said.
    pub delimiter: Option<u8>,
    /// The columns of CSV; those that are found unless said.
    pub columns: Option<Vec<String>>,
    /// Whether nested values become columns of CSV with dotted names.
    pub flatten: bool,
}

impl Layout {
    /// The writer of rows, for formats that have rows.
    fn rows(&self) -> Option<csv::Writer> {
        let usual = match self.format {
            Format::Csv => b',',
            Format::Tsv => b'\t',
            _ => return None,
        };
        let settings = csv::Settings { delimiter: self.delimiter.unwrap_or(usual) };
        Some(csv::Writer::new(settings, self.columns.clone(), self.flatten))
    }
}

/// Where results go.
pub enum Destination {
    /// A stream, such as standard output.
    Stream(Box<dyn Write>),
    /// A file, replaced at the end.
    File(PathBuf),
}

/// Bytes that are collected before they are written.
const BUFFER: usize = 64 * 1024;

/// Lays out results and writes them.
pub struct Output {
    layout: Layout,
    /// The table that is being written, if the format is one of tables.
    rows: Option<csv::Writer>,
    target: Target,
    buffer: Vec<u8>,
    /// Whether items of a list are being written.
    items: u64,
    failed: Option<Failed>,
    closed: bool,
}

enum Target {
    Stream(Box<dyn Write>),
    /// Written beside the file it will replace.
    Beside(NamedTempFile, PathBuf),
}

impl Output {
    /// Opens the destination.
    ///
    /// # Errors
    /// [`Failed::Output`] when nothing can be written there.
    pub fn open(destination: Destination, layout: Layout) -> Result<Self, Failed> {
        let target = match destination {
            Destination::Stream(stream) => Target::Stream(stream),
            Destination::File(path) => open_file(&path).map_err(|error| {
                Failed::Output(cannot_write(&path.display().to_string(), &error))
            })?,
        };
        let buffer = Vec::with_capacity(BUFFER * 2);
        let rows = layout.rows();
        Ok(Self { layout, rows, target, buffer, items: 0, failed: None, closed: false })
    }

    /// Whether the output is one JSON text.
    #[must_use]
    pub fn is_json(&self) -> bool {
        self.layout.format == Format::Json
    }

    /// Writes what is left and puts a file in its place. Gives what the format could not hold, if there was anything.
    ///
    /// # Errors
    /// [`Failed::Output`] when that, or an earlier write, did not work.
    pub fn finish(mut self) -> Result<Option<Problem>, Failed> {
        let mut lost = None;
        if let Some(rows) = &mut self.rows {
            rows.finish(&mut self.buffer);
            lost = match rows.nulls() {
                0 => None,
                1 => Some(Problem::warning("1 null was written as an empty cell")),
                nulls => {
                    Some(Problem::warning(format!("{nulls} nulls were written as empty cells")))
                }
            };
        }
        self.flush();
        if let Some(failed) = self.failed.take() {
            return Err(failed);
        }
        let (name, result) = match self.target {
            Target::Stream(mut stream) => match stream.flush() {
                Err(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(lost),
                result => ("standard output".to_owned(), result),
            },
            Target::Beside(file, path) => {
                let result =
                    file.as_file().sync_all().and_then(|()| Ok(file.persist(&path).map(|_| ())?));
                (path.display().to_string(), result)
            }
        };
        result.map_err(|error| Failed::Output(cannot_write(&name, &error)))?;
        Ok(lost)
    }

    /// Gives up after a failure. Lines that are complete still go down a stream, as those before them did; a file stays
    /// as it was.
    pub fn abandon(mut self) {
        if self.layout.format.holds_several() && matches!(self.target, Target::Stream(_)) {
            self.flush();
        }
    }

    fn flush(&mut self) {
        if self.is_closed() {
            self.buffer.clear();
            return;
        }
        let (result, name) = match &mut self.target {
            Target::Stream(stream) => {
                (stream.write_all(&self.buffer), "standard output".to_owned())
            }
            Target::Beside(file, path) => {
                (file.write_all(&self.buffer), path.display().to_string())
            }
        };
        match result {
            Ok(()) => {}
            // Whoever read the pipe has seen enough.
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => self.closed = true,
            Err(error) => self.failed = Some(Failed::Output(cannot_write(&name, &error))),
        }
        self.buffer.clear();
    }

    fn line(&mut self, value: Value<'_>) {
        if let Some(rows) = &mut self.rows {
            if let Err(error) = rows.row(value, &mut self.buffer) {
                let problem = Problem::error(error.to_string()).advise(error.advice());
                self.failed.get_or_insert(Failed::Output(problem));
            }
            return;
        }
        match self.layout.format {
            Format::Text => text::write_line(value, &mut self.buffer),
            Format::Json => {
                json::write(value, self.layout.style, &mut self.buffer);
                self.buffer.push(b'\n');
            }
            _ => {
                json::write(value, json::Style::Compact, &mut self.buffer);
                self.buffer.push(b'\n');
            }
        }
    }

    fn go_on(&mut self) -> Flow {
        if self.buffer.len() >= BUFFER {
            self.flush();
        }
        if self.is_closed() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

impl Sink for Output {
    fn item(&mut self, value: Value<'_>) -> Flow {
        if self.layout.format == Format::Json {
            self.buffer.push(if self.items == 0 { b'[' } else { b',' });
            json::write_line_start(self.layout.style, 1, &mut self.buffer);
            json::write_nested(value, self.layout.style, 1, &mut self.buffer);
        } else {
            self.line(value);
        }
        self.items += 1;
        self.go_on()
    }

    fn single(&mut self, value: Option<Value<'_>>) -> Flow {
        match (self.layout.format, value) {
            (Format::Json, value) => self.line(value.unwrap_or(Value::NULL)),
            // A line an item, also when the list came as one value.
            (_, Some(Value::List(_, items))) => items.iter().for_each(|item| self.line(*item)),
            (_, Some(value)) => self.line(value),
            (_, None) => {}
        }
        self.go_on()
    }

    fn end_items(&mut self) {
        if self.layout.format == Format::Json {
            if self.items == 0 {
                self.buffer.push(b'[');
            } else {
                json::write_line_start(self.layout.style, 0, &mut self.buffer);
            }
            self.buffer.extend_from_slice(b"]\n");
        }
        self.items = 0;
    }

    fn is_closed(&self) -> bool {
        self.closed || self.failed.is_some()
    }
}

fn open_file(path: &Path) -> io::Result<Target> {
    // Through links to the file itself; what is no regular file (a device, a pipe) is written straight.
    let existing = fs::metadata(path);
    if let Ok(metadata) = &existing {
        if metadata.is_dir() {
            return Err(io::Error::from(io::ErrorKind::IsADirectory));
        }
        if !metadata.is_file() {
            return Ok(Target::Stream(Box::new(fs::OpenOptions::new().write(true).open(path)?)));
        }
        if metadata.permissions().readonly() {
            return Err(io::Error::from(io::ErrorKind::PermissionDenied));
        }
    }
    let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let folder =
        path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut builder = tempfile::Builder::new();
    builder.prefix(".kyanite-").suffix(".part");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        // The file's own permissions, or those that any new file gets.
        builder.permissions(match &existing {
            Ok(metadata) => metadata.permissions(),
            Err(_) => fs::Permissions::from_mode(0o666),
        });
    }
    Ok(Target::Beside(builder.tempfile_in(folder)?, path))
}

fn cannot_write(name: &str, error: &io::Error) -> Problem {
    match error.kind() {
        io::ErrorKind::NotFound => Problem::error(format!("the folder of {name} is not there"))
            .advise("make the folder first"),
        io::ErrorKind::PermissionDenied => Problem::error(format!("{name} may not be written"))
            .advise("check the permissions of the file and its folder"),
        io::ErrorKind::IsADirectory => {
            Problem::error(format!("{name} is a folder")).advise("name a file in it")
        }
        _ => Problem::error(format!("{name} cannot be written: {error}")),
    }
}
