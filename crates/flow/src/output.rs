//! Outputs: results rendered in a format, to standard output or to a file that is replaced only if the run succeeds.

use std::fs;
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use kyanite_formats::Format;
use kyanite_formats::losses::{Loss, Losses};
use kyanite_lang::{Flow, Written};
use kyanite_tree::{Code, Diagnostic, Origin, Place, Value};

use crate::compression::{Compression, Encoder};
use crate::layout::Layout;
use crate::part::Part;
use crate::render::{Rendered, Renderer, loss_remark};
use crate::run::DocumentText;
use crate::run_error::OutputFailure;
use crate::unfinished::UnfinishedFile;
use crate::{RunError, Sink};

/// Where results go.
pub enum Destination {
    /// A stream, such as standard output.
    Stream(Box<dyn Write>),
    /// A file, replaced at the end.
    File(PathBuf),
}

/// Takes what is written, for whoever made it.
#[derive(Clone, Default)]
pub struct Captured(Arc<Mutex<Vec<u8>>>);

impl Captured {
    /// What was taken since this was last asked.
    #[must_use]
    pub fn take(&self) -> Vec<u8> {
        std::mem::take(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Write for Captured {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
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
    /// With its name in messages.
    Stream(Encoder<Box<dyn Write>>, String),
    /// Written beside the file it will replace, which is called so.
    Beside(Encoder<UnfinishedFile>, String),
}

impl Destination {
    /// Writes all that goes there.
    ///
    /// # Errors
    /// [`RunError::Output`] when that does not work.
    pub fn write(self, bytes: &[u8]) -> Result<(), RunError> {
        let mut target = Target::open(self).map_err(RunError::Output)?;
        target.write(bytes).map_err(RunError::Output)?;
        target.finish().map_err(RunError::Output)
    }
}

impl Target {
    fn open(destination: Destination) -> Result<Self, Diagnostic> {
        match destination {
            Destination::Stream(stream) => {
                Ok(Self::Stream(Encoder::Plain(stream), "standard output".into()))
            }
            Destination::File(path) => {
                open_file(&path).map_err(|error| cannot_write(&path.display().to_string(), &error))
            }
        }
    }

    /// Writes bytes; tells whether they still go anywhere.
    fn write(&mut self, bytes: &[u8]) -> Result<bool, Diagnostic> {
        let (result, name) = match self {
            Self::Stream(stream, name) => (stream.write_all(bytes), name),
            Self::Beside(file, name) => (file.write_all(bytes), name),
        };
        goes_on(result).map_err(|error| cannot_write(name, &error))
    }

    /// Writes what is left, and puts a file in its place.
    fn finish(self) -> Result<(), Diagnostic> {
        let (name, result) = match self {
            Self::Stream(stream, name) => {
                (name, stream.finish().and_then(|mut stream| stream.flush()))
            }
            Self::Beside(file, name) => (name, file.finish().and_then(UnfinishedFile::finish)),
        };
        goes_on(result).map(|_| ()).map_err(|error| cannot_write(&name, &error))
    }

    /// Writes bytes; notes when they no longer go anywhere.
    fn send(&mut self, bytes: &[u8], closed: &mut bool, failed: &mut Option<OutputFailure>) {
        match self.write(bytes) {
            Ok(goes_on) => *closed |= !goes_on,
            Err(found) => *failed = Some(OutputFailure::Told(found)),
        }
    }
}

/// Whether what is written goes anywhere: whoever read a pipe, and closed it, has seen enough.
fn goes_on(result: io::Result<()>) -> io::Result<bool> {
    match result {
        Ok(()) => Ok(true),
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(false),
        Err(error) => Err(error),
    }
}

/// What a run sets aside, in its place once the run has ended well.
pub struct Aside {
    target: Target,
    failed: Option<Diagnostic>,
}

impl Aside {
    /// Opens a file for it.
    ///
    /// # Errors
    /// [`RunError::Output`] when nothing can be written there.
    pub fn open(path: PathBuf) -> Result<Self, RunError> {
        let target = Target::open(Destination::File(path)).map_err(RunError::Output)?;
        Ok(Self { target, failed: None })
    }

    /// Sets something aside; tells whether that worked.
    pub(crate) fn put(&mut self, bytes: &[u8]) -> bool {
        if let Err(found) = self.target.write(bytes) {
            self.failed = Some(found);
        }
        self.failed.is_none()
    }

    /// Puts the file in its place.
    ///
    /// # Errors
    /// [`RunError::Output`] when that, or an earlier write, did not work.
    pub fn finish(self) -> Result<(), RunError> {
        self.check()?;
        self.target.finish().map_err(RunError::Output)
    }

    /// Whether all writes worked.
    ///
    /// # Errors
    /// [`RunError::Output`] when one did not.
    pub fn check(&self) -> Result<(), RunError> {
        self.failed.clone().map_or(Ok(()), |found| Err(RunError::Output(found)))
    }
}

impl Output {
    /// Opens the destination.
    ///
    /// # Errors
    /// [`RunError::Output`] when nothing can be written there.
    pub fn open(destination: Destination, layout: Layout) -> Result<Self, RunError> {
        let target = Target::open(destination).map_err(RunError::Output)?;
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
    /// [`RunError::Output`] when that, or an earlier write, did not work.
    pub fn finish(mut self) -> Result<Vec<Diagnostic>, RunError> {
        self.renderer.finish(&mut self.buffer);
        self.flush();
        if let Some(failed) = self.failed.take() {
            return Err(failed.into());
        }
        let is_counted = !self.renderer.tells_losses();
        let format = self.format().to_string();
        let mut remarks: Vec<Diagnostic> =
            loss_remark(&format, self.renderer.losses(), is_counted).into_iter().collect();
        remarks.extend(self.renderer.remarks());
        self.target.finish().map_err(RunError::Output)?;
        Ok(remarks)
    }

    /// Gives up after a failure. Lines that are complete still go down a stream, as those before them did; a file stays
    /// as it was.
    pub fn abandon(mut self) {
        if self.format().holds_several() && matches!(self.target, Target::Stream(..)) {
            self.failed = None;
            self.flush();
        }
    }

    fn flush(&mut self) {
        if !self.is_closed() {
            self.target.send(&self.buffer, &mut self.closed, &mut self.failed);
        }
        self.buffer.clear();
    }

    /// Renders a document; of a large one what is complete goes on its way.
    fn render(
        &mut self,
        render: impl FnOnce(&mut Renderer, &mut Vec<u8>, &mut dyn FnMut(&[u8])) -> Rendered,
    ) -> Flow {
        let before = self.buffer.len();
        let Self { renderer, target, buffer, closed, failed } = self;
        let mut drain = |bytes: &[u8]| {
            if !*closed && failed.is_none() {
                target.send(bytes, closed, failed);
            }
        };
        let rendered = render(renderer, buffer, &mut drain);
        self.go_on(before, rendered)
    }

    /// Goes on after a result was rendered, or did not let itself be.
    fn go_on(&mut self, before: usize, rendered: Rendered) -> Flow {
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
        self.render(|renderer, out, drain| renderer.single(value, out, drain))
    }

    fn document(&mut self, document: DocumentText<'_>) -> bool {
        let mut is_taken = false;
        let _ = self.render(|renderer, out, drain| {
            let rendered = renderer.document(document, out, drain);
            is_taken = rendered.is_some();
            rendered.unwrap_or(Ok(()))
        });
        is_taken
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
            if let Target::Stream(Encoder::Plain(stream), _) = &mut self.target {
                // What does not work is said when the next results are written.
                let _ = stream.flush();
            }
        }
    }

    fn is_closed(&self) -> bool {
        self.closed || self.failed.is_some()
    }

    fn written(&self) -> Written {
        self.renderer.written()
    }

    fn part(&self) -> Option<Part> {
        Some(Part::rendering(Some(self.renderer.for_part()?)))
    }

    fn join(&mut self, part: &mut Part) -> Flow {
        if let Some(renderer) = &mut part.renderer {
            self.renderer.join(renderer, &mut part.bytes);
        }
        if part.bytes.len() < BUFFER / 4 {
            self.buffer.extend_from_slice(&part.bytes);
        } else {
            // What is worth a write of its own is not copied.
            self.flush();
            if !self.is_closed() {
                self.target.send(&part.bytes, &mut self.closed, &mut self.failed);
            }
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
            let name = path.display().to_string();
            return Ok(Target::Stream(Encoder::new(compression, device)?, name));
        }
        if metadata.permissions().readonly() {
            return Err(io::Error::from(io::ErrorKind::PermissionDenied));
        }
    }
    let file = UnfinishedFile::new(path)?;
    let name = file.path().display().to_string();
    Ok(Target::Beside(Encoder::new(compression, file)?, name))
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
