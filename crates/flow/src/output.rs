//! Outputs: results laid out in a format, to standard output or to a file that is replaced only when all is well.

use std::fs;
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::time::Duration;

use kyanite_formats::losses::{Loss, Losses};
use kyanite_formats::{CannotHold, Format};
use kyanite_lang::Flow;
use kyanite_tree::{Code, Diagnostic, Origin, Place, Value};
use tempfile::NamedTempFile;

use crate::compression::{Compression, Encoder};
use crate::failed::OutputFailure;
use crate::part::Part;
use crate::render::{Layout, Renderer};
use crate::{Failed, Sink};

/// Where results go.
pub enum Destination {
    /// A stream, such as standard output.
    Stream(Box<dyn Write>),
    /// A file, replaced at the end.
    File(PathBuf),
}

/// Bytes that are collected before they are written.
const BUFFER: usize = 64 * 1024;

/// Renders results and writes them.
pub struct Output {
    renderer: Renderer,
    target: Target,
    buffer: Vec<u8>,
    failed: Option<OutputFailure>,
    closed: bool,
}

enum Target {
    Stream(Encoder<Box<dyn Write>>),
    /// Written beside the file it will replace.
    Beside(Encoder<NamedTempFile>, PathBuf),
}

impl Output {
    /// Opens the destination.
    ///
    /// # Errors
    /// [`Failed::Output`] when nothing can be written there.
    pub fn open(destination: Destination, layout: Layout) -> Result<Self, Failed> {
        let target = match destination {
            Destination::Stream(stream) => Target::Stream(Encoder::Plain(stream)),
            Destination::File(path) => open_file(&path).map_err(|error| {
                Failed::Output(cannot_write(&path.display().to_string(), &error))
            })?,
        };
        let buffer = Vec::with_capacity(BUFFER * 2);
        let renderer = Renderer::new(layout);
        Ok(Self { renderer, target, buffer, failed: None, closed: false })
    }

    /// The format of the output.
    #[must_use]
    pub fn format(&self) -> Format {
        self.renderer.format()
    }

    /// Writes what is left and puts a file in its place. Gives what is worth saying about it.
    ///
    /// # Errors
    /// [`Failed::Output`] when that, or an earlier write, did not work.
    pub fn finish(mut self) -> Result<Vec<Diagnostic>, Failed> {
        self.renderer.finish(&mut self.buffer);
        self.flush();
        if let Some(failed) = self.failed.take() {
            return Err(failed.into());
        }
        let remarks = self.renderer.remarks();
        let (name, result) = match self.target {
            Target::Stream(stream) => match stream.finish().and_then(|mut stream| stream.flush()) {
                Err(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(remarks),
                result => ("standard output".to_owned(), result),
            },
            Target::Beside(file, path) => {
                let result = file.finish().and_then(|file| {
                    file.as_file().sync_all()?;
                    file.persist(&path)?;
                    Ok(())
                });
                (path.display().to_string(), result)
            }
        };
        result.map_err(|error| Failed::Output(cannot_write(&name, &error)))?;
        Ok(remarks)
    }

    /// Gives up after a failure. Lines that are complete still go down a stream, as those before them did; a file stays
    /// as it was.
    pub fn abandon(mut self) {
        if self.format().holds_several() && matches!(self.target, Target::Stream(_)) {
            self.failed = None;
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
            Err(error) => {
                self.failed = Some(OutputFailure::Told(cannot_write(&name, &error)));
            }
        }
        self.buffer.clear();
    }

    /// Goes on after a result was rendered, or did not let itself be.
    fn go_on(&mut self, before: usize, rendered: Result<(), CannotHold>) -> Flow {
        if let Err(failure) = rendered {
            // Nothing half-written goes out.
            self.buffer.truncate(before);
            if self.format().holds_several() {
                self.flush();
            }
            self.failed.get_or_insert(OutputFailure::Value(failure));
        }
        if self.buffer.len() >= BUFFER {
            self.flush();
        }
        if self.is_closed() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

impl Sink for Output {
    fn item(&mut self, value: Value<'_>) -> Flow {
        let before = self.buffer.len();
        let rendered = self.renderer.item(value, &mut self.buffer);
        self.go_on(before, rendered)
    }

    fn single(&mut self, value: Option<Value<'_>>) -> Flow {
        let before = self.buffer.len();
        let rendered = self.renderer.single(value, &mut self.buffer);
        self.go_on(before, rendered)
    }

    fn end_items(&mut self) {
        let before = self.buffer.len();
        if self.failed.is_none() {
            let rendered = self.renderer.end_items(&mut self.buffer);
            let _ = self.go_on(before, rendered);
        }
    }

    fn pause(&mut self) {
        if self.failed.is_none() && !self.buffer.is_empty() {
            self.flush();
            if let Target::Stream(Encoder::Plain(stream)) = &mut self.target {
                // What does not work is said when the next results are written.
                let _ = stream.flush();
            }
        }
    }

    fn is_closed(&self) -> bool {
        self.closed || self.failed.is_some()
    }

    fn apart(&self) -> Option<Part> {
        Some(Part::rendering(Some(self.renderer.apart()?)))
    }

    fn join(&mut self, part: &mut Part) -> Flow {
        if let Some(renderer) = &mut part.renderer {
            self.renderer.join(renderer, &mut part.bytes, &mut self.buffer);
        }
        part.clear();
        let before = self.buffer.len();
        self.go_on(before, Ok(()))
    }

    fn expect_elements(&mut self) {
        self.renderer.expect_elements();
    }

    fn expect_foreign_types(&mut self) {
        self.renderer.expect_foreign_types();
    }

    fn take_losses(&mut self) -> Vec<(Loss, Origin)> {
        self.renderer.losses().take_places()
    }

    fn expect_columns(&mut self, columns: &[&str]) {
        self.renderer.expect_columns(columns);
    }

    fn add_losses(&mut self, losses: &Losses) {
        self.renderer.losses().add_all(losses);
    }

    fn place_failure(&mut self, find: &dyn Fn(Origin) -> Option<Place>) {
        if let Some(failed) = &mut self.failed {
            failed.place(find);
        }
    }
}

fn open_file(path: &Path) -> io::Result<Target> {
    // Through links to the file itself; what is no regular file (a device, a pipe) is written straight.
    let existing = fs::metadata(path);
    let extension = path.extension().and_then(|extension| extension.to_str());
    let compression = extension.and_then(Compression::of_extension);
    if let Ok(metadata) = &existing {
        if metadata.is_dir() {
            return Err(io::Error::from(io::ErrorKind::IsADirectory));
        }
        if !metadata.is_file() {
            let device: Box<dyn Write> = Box::new(fs::OpenOptions::new().write(true).open(path)?);
            return Ok(Target::Stream(Encoder::new(compression, device)?));
        }
        if metadata.permissions().readonly() {
            return Err(io::Error::from(io::ErrorKind::PermissionDenied));
        }
    }
    let (file, path) = target_file(path)?;
    Ok(Target::Beside(Encoder::new(compression, file)?, path))
}

/// A new file beside the one at `path`, which it will replace; through links, the file itself.
pub(crate) fn target_file(path: &Path) -> io::Result<(NamedTempFile, PathBuf)> {
    let existing = fs::metadata(path);
    if existing.as_ref().is_ok_and(fs::Metadata::is_dir) {
        return Err(io::Error::from(io::ErrorKind::IsADirectory));
    }
    let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let folder =
        path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    remove_left_behind(folder);
    let mut builder = tempfile::Builder::new();
    builder.prefix(PART_PREFIX).suffix(PART_SUFFIX);
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        // The file's own permissions, or those that any new file gets.
        builder.permissions(match &existing {
            Ok(metadata) => metadata.permissions(),
            Err(_) => fs::Permissions::from_mode(0o666),
        });
    }
    let file = builder.tempfile_in(folder)?;
    // The lock ends with the program, however that ends. Where there are no locks nothing is ever taken for left behind.
    let _ = file.as_file().try_lock();
    Ok((file, path))
}

/// How the names of files begin and end that are not complete.
const PART_PREFIX: &str = ".kyanite-";
const PART_SUFFIX: &str = ".part";

/// Incomplete files are left alone for so long, since a new one is locked only when it is there.
const NEW: Duration = Duration::from_secs(2);

/// Removes incomplete files of runs that were killed. What cannot be looked at is left alone.
fn remove_left_behind(folder: &Path) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let is_part = name
            .to_str()
            .is_some_and(|name| name.starts_with(PART_PREFIX) && name.ends_with(PART_SUFFIX));
        let is_old = || {
            let modified = entry.metadata().and_then(|about| about.modified()).ok()?;
            Some(modified.elapsed().ok()? > NEW)
        };
        if is_part
            && is_old().unwrap_or(false)
            && let Ok(file) = fs::OpenOptions::new().write(true).open(entry.path())
            && file.try_lock().is_ok()
        {
            let _ = fs::remove_file(entry.path());
        }
    }
}

pub(crate) fn cannot_write(name: &str, error: &io::Error) -> Diagnostic {
    match error.kind() {
        io::ErrorKind::NotFound => {
            Diagnostic::error(Code::OutputFailed, format!("the folder of {name} is not there"))
                .advise("make the folder first")
        }
        io::ErrorKind::PermissionDenied => {
            Diagnostic::error(Code::OutputFailed, format!("{name} may not be written"))
                .advise("check the permissions of the file and its folder")
        }
        io::ErrorKind::IsADirectory => {
            Diagnostic::error(Code::OutputFailed, format!("{name} is a folder"))
                .advise("name a file in it")
        }
        _ => Diagnostic::error(Code::OutputFailed, format!("{name} cannot be written: {error}")),
    }
}
