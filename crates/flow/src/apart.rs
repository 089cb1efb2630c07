//! Several outputs from one run: each member of the result becomes a file, named and formatted by its key.
//!
//! All files are written or none: keys are checked first, the files are made in a hidden folder, and they move to their places once all
//! are complete. If one cannot be moved, those that were moved go back.

use std::fs::{self, File};
use std::io;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use kyanite_formats::losses::{Loss, Losses};
use kyanite_formats::{Format, cannot_hold, detect};
use kyanite_lang::{Flow, Written};
use kyanite_tree::{Advice, Code, Diagnostic, Origin, Place, Setting, Value};

use crate::compression::{Compression, Encoder};
use crate::folder::{Names, NewFiles};
use crate::layout::Layout;
use crate::output::cannot_write;
use crate::render::{Renderer, loss_remark};
use crate::run_error::OutputFailure;
use crate::{RunError, Sink};

/// Writes the members of a map into files of a folder: all or none.
pub struct Apart {
    folder: PathBuf,
    /// How the members are laid out, but for their format.
    layout: Layout,
    foreign: bool,
    made: Option<NewFiles>,
    losses: Losses,
    /// What is worth saying about the files, each once.
    remarks: Vec<Diagnostic>,
    failed: Option<OutputFailure>,
}

/// A file that is to be.
struct Wanted<'a> {
    key: &'a str,
    path: PathBuf,
    format: Format,
    value: Value<'a>,
}

type Kept<T> = Result<T, OutputFailure>;

impl Apart {
    /// Files in `folder`, which is there or will be made.
    #[must_use]
    pub fn new(folder: &Path, layout: Layout) -> Self {
        Self {
            folder: folder.to_owned(),
            losses: Losses::new(layout.places_of_losses),
            layout,
            foreign: false,
            made: None,
            remarks: Vec::new(),
            failed: None,
        }
    }

    /// Puts all files in their places; gives how many there are, and what is worth saying about them.
    ///
    /// # Errors
    /// [`RunError::Output`] when a member could not be written; then all is as it was.
    pub fn finish(mut self) -> Result<(usize, Vec<Diagnostic>), RunError> {
        if let Some(failed) = self.failed {
            return Err(failed.into());
        }
        let Some(files) = self.made else { return Ok((0, self.remarks)) };
        let count = files.finish()?;
        let format = "the files";
        let loss = loss_remark(format, &self.losses, !self.layout.places_of_losses);
        self.remarks.splice(0..0, loss);
        Ok((count, self.remarks))
    }

    fn members(&mut self, value: Value<'_>) -> Kept<()> {
        if self.made.is_some() {
            let message = "there are several documents, and their files would get the same names";
            let advice = Advice::words("say ")
                .setting(Setting::Gather)
                .then(" for one list of all documents");
            return Err(OutputFailure::Value(
                Diagnostic::error(Code::SeveralResults, message).advise(advice),
            ));
        }
        let wanted = wanted(&self.folder, value)?;
        let failed =
            |error| OutputFailure::Told(cannot_write(&self.folder.display().to_string(), &error));
        let mut files = NewFiles::in_folder(&self.folder).map_err(failed)?;
        for file in wanted {
            let path = files.add(file.path.clone());
            self.make(&path, &file)?;
        }
        self.made = Some(files);
        Ok(())
    }

    /// Makes the file that will go to its place.
    fn make(&mut self, path: &Path, wanted: &Wanted<'_>) -> Kept<()> {
        let mut renderer = Renderer::new(Layout { format: wanted.format, ..self.layout.clone() });
        renderer.expect_elements();
        if self.foreign {
            renderer.expect_foreign_types();
        }
        let failed = |error: io::Error| {
            OutputFailure::Told(cannot_write(&wanted.path.display().to_string(), &error))
        };
        let mut encoder = new_file(path, &wanted.path).map_err(failed)?;
        let (mut bytes, mut sent) = (Vec::new(), Ok(()));
        let mut drain = |part: &[u8]| {
            if sent.is_ok() {
                sent = encoder.write_all(part);
            }
        };
        renderer.single(Some(wanted.value), &mut bytes, &mut drain).map_err(|error| {
            let message = format!("{}: {}", wanted.key, error.message());
            OutputFailure::Value(error.with_message(message))
        })?;
        renderer.finish(&mut bytes);
        self.losses.add_all(renderer.losses());
        for remark in renderer.remarks() {
            if !self.remarks.contains(&remark) {
                self.remarks.push(remark);
            }
        }
        let written = sent.and_then(|()| encoder.write_all(&bytes));
        written.and_then(|()| encoder.finish()?.sync_all()).map_err(failed)
    }
}

/// A new file that will be the one at `wanted`, compressed as its name says.
fn new_file(path: &Path, wanted: &Path) -> io::Result<Encoder<File>> {
    let file = File::create_new(path)?;
    if let Ok(existing) = fs::metadata(wanted) {
        file.set_permissions(existing.permissions())?;
    }
    let extension = wanted.extension().and_then(|extension| extension.to_str());
    Encoder::new(extension.and_then(Compression::of_extension), file)
}

/// The files that the members of a map are to be, if each can be one.
fn wanted<'a>(folder: &Path, value: Value<'a>) -> Kept<Vec<Wanted<'a>>> {
    let refuse = |message: String, advice: &'static str, origin| {
        Err(OutputFailure::Value(cannot_hold(message, advice, origin)))
    };
    let Value::Map(_, map) = value else {
        let message =
            format!("only the members of a map become files; this is {}", value.kind().phrase());
        return refuse(message, "return {\"name.json\": …}", value.origin());
    };
    let mut names = Names::new(folder);
    let mut all = Vec::with_capacity(map.len());
    for member in map.members() {
        let (key, at) = (member.name, member.value.origin());
        let path = names
            .add(key)
            .map_err(|(message, advice)| OutputFailure::Value(cannot_hold(message, advice, at)))?;
        let Some(detected) = detect::by_name(None, Some(key)) else {
            let message = format!("the key `{key}` says no format");
            let advice = "end it with an extension such as .json, .xml, .csv";
            return refuse(message, advice, at);
        };
        all.push(Wanted { key, path, format: detected.format, value: member.value });
    }
    Ok(all)
}

impl Sink for Apart {
    fn item(&mut self, value: Value<'_>) -> Flow {
        let message = "only the members of a map become files; the rule gives a list";
        let advice = "return {\"name.json\": …}, or write one file";
        let refused = OutputFailure::Value(cannot_hold(message, advice, value.origin()));
        self.failed.get_or_insert(refused);
        ControlFlow::Break(())
    }

    fn single(&mut self, value: Option<Value<'_>>) -> Flow {
        if let Err(failure) = self.members(value.unwrap_or(Value::NULL)) {
            self.failed.get_or_insert(failure);
        }
        if self.is_closed() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn written(&self) -> Written {
        Written::Values
    }

    fn is_closed(&self) -> bool {
        self.failed.is_some()
    }

    fn expect_foreign_types(&mut self) {
        self.foreign = true;
    }

    fn take_losses(&mut self) -> Vec<(Loss, Origin)> {
        self.losses.take_places()
    }

    fn add_losses(&mut self, losses: &Losses) {
        self.losses.add_all(losses);
    }

    fn place_failure(&mut self, find: &dyn Fn(Origin) -> Option<Place>) {
        if let Some(failed) = &mut self.failed {
            failed.place(find);
        }
    }
}
