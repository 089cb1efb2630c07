//! Several outputs from one run: each member of a map is a file of its own, named and formatted by its key.

use std::io::Write;
use std::ops::ControlFlow;
use std::path::{Component, Path, PathBuf};

use kyanite_formats::{Format, cannot_hold, detect};
use kyanite_lang::Flow;
use kyanite_tree::{Advice, Code, Diagnostic, Origin, Place, Setting, Value};
use tempfile::NamedTempFile;

use crate::compression::{Compression, Encoder};
use crate::failed::OutputFailure;
use crate::output::{cannot_write, target_file};
use crate::render::{Layout, Renderer};
use crate::{Failed, Sink};

/// Writes the members of a map into files of a folder: all or none.
pub struct Apart {
    folder: PathBuf,
    /// How the members are laid out, but for their format.
    layout: Layout,
    /// Files that are complete, with the paths they go to.
    written: Vec<(NamedTempFile, PathBuf)>,
    failed: Option<OutputFailure>,
    given: bool,
}

impl Apart {
    /// Files in `folder`, which is there or is made.
    ///
    /// # Errors
    /// [`Failed::Output`] when the folder cannot be made.
    pub fn open(folder: &Path, layout: Layout) -> Result<Self, Failed> {
        std::fs::create_dir_all(folder)
            .map_err(|error| Failed::Output(cannot_write(&folder.display().to_string(), &error)))?;
        Ok(Self {
            folder: folder.to_owned(),
            layout,
            written: Vec::new(),
            failed: None,
            given: false,
        })
    }

    /// Puts all files in their places; gives how many there are.
    ///
    /// # Errors
    /// [`Failed::Output`] when a member could not be written; then no file is there.
    pub fn finish(self) -> Result<usize, Failed> {
        if let Some(failed) = self.failed {
            return Err(failed.into());
        }
        let count = self.written.len();
        for (file, path) in self.written {
            let put = file.as_file().sync_all().and_then(|()| Ok(file.persist(&path).map(drop)?));
            put.map_err(|error| Failed::Output(cannot_write(&path.display().to_string(), &error)))?;
        }
        Ok(count)
    }

    fn members(&mut self, value: Value<'_>) -> Result<(), OutputFailure> {
        let refuse = |message: String, advice: &'static str, origin| {
            OutputFailure::Value(cannot_hold(message, advice, origin))
        };
        if std::mem::replace(&mut self.given, true) {
            let message = "there are several documents, and their files would get the same names";
            let advice = Advice::words("say ")
                .setting(Setting::Gather)
                .then(" for one list of all documents");
            return Err(OutputFailure::Value(
                Diagnostic::error(Code::SeveralResults, message).advise(advice),
            ));
        }
        let Value::Map(_, map) = value else {
            let message = format!(
                "only the members of a map become files; this is {}",
                value.kind().phrase()
            );
            return Err(refuse(message, "return {\"name.json\": …}", value.origin()));
        };
        for member in map.members() {
            let at = member.value.origin();
            let name = Path::new(member.name);
            let is_inside = name.components().all(|part| matches!(part, Component::Normal(_)));
            if member.name.is_empty() || !is_inside {
                let message = format!("the key `{}` leads out of the folder", member.name);
                return Err(refuse(message, "keys are names of files in the folder", at));
            }
            let Some(detected) = detect::by_name(None, Some(member.name)) else {
                let message = format!("the key `{}` says no format", member.name);
                let advice = "end it with an extension such as .json, .xml, .csv";
                return Err(refuse(message, advice, at));
            };
            self.file(name, detected.format, member.value)?;
        }
        Ok(())
    }

    fn file(&mut self, name: &Path, format: Format, value: Value<'_>) -> Result<(), OutputFailure> {
        let mut renderer = Renderer::new(Layout { format, ..self.layout.clone() });
        renderer.expect_elements();
        let mut bytes = Vec::new();
        renderer.single(Some(value), &mut bytes).map_err(|error| {
            let message = format!("{}: {}", name.display(), error.message());
            OutputFailure::Value(error.with_message(message))
        })?;
        renderer.finish(&mut bytes);
        let path = self.folder.join(name);
        let extension = name.extension().and_then(|extension| extension.to_str());
        let written = path
            .parent()
            .map_or(Ok(()), std::fs::create_dir_all)
            .and_then(|()| target_file(&path))
            .and_then(|(file, path)| {
                let compression = extension.and_then(Compression::of_extension);
                let mut encoder = Encoder::new(compression, file)?;
                encoder.write_all(&bytes)?;
                let mut file = encoder.finish()?;
                file.flush()?;
                Ok((file, path))
            });
        match written {
            Ok(file) => {
                self.written.push(file);
                Ok(())
            }
            Err(error) => {
                Err(OutputFailure::Told(cannot_write(&path.display().to_string(), &error)))
            }
        }
    }
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

    fn is_closed(&self) -> bool {
        self.failed.is_some()
    }

    fn place_failure(&mut self, find: &dyn Fn(Origin) -> Option<Place>) {
        if let Some(failed) = &mut self.failed {
            failed.place(find);
        }
    }
}
