//! Several outputs from one run: each member of a map is a file of its own, named and formatted by its key.

use std::io::Write;
use std::ops::ControlFlow;
use std::path::{Component, Path, PathBuf};

use kyanite_formats::{Format, detect};
use kyanite_lang::Flow;
use kyanite_tree::{Origin, Problem, Spot, Value};
use tempfile::NamedTempFile;

use crate::compression::{Compression, Encoder};
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
    failed: Option<Failed>,
    /// The value that the failure is about, while its place is not known.
    unplaced: Option<Origin>,
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
            unplaced: None,
            given: false,
        })
    }

    /// Puts all files in their places; gives how many there are.
    ///
    /// # Errors
    /// [`Failed::Output`] when a member could not be written; then no file is there.
    pub fn finish(self) -> Result<usize, Failed> {
        if let Some(failed) = self.failed {
            return Err(failed);
        }
        let count = self.written.len();
        for (file, path) in self.written {
            let put = file.as_file().sync_all().and_then(|()| Ok(file.persist(&path).map(drop)?));
            put.map_err(|error| Failed::Output(cannot_write(&path.display().to_string(), &error)))?;
        }
        Ok(count)
    }

    fn members(&mut self, value: Value<'_>) -> Result<(), (Problem, Origin)> {
        let refuse = |message: String, advice: &str, origin| {
            (Problem::error(message).advise(advice), origin)
        };
        if std::mem::replace(&mut self.given, true) {
            let message =
                "there are several documents, and their files would get the same names".into();
            return Err(refuse(
                message,
                "say --gather for one list of all documents",
                Origin::NONE,
            ));
        }
        let Value::Map(_, map) = value else {
            let message =
                format!("--apart writes the members of a map; this is {}", value.kind().phrase());
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

    fn file(
        &mut self,
        name: &Path,
        format: Format,
        value: Value<'_>,
    ) -> Result<(), (Problem, Origin)> {
        let mut renderer = Renderer::new(Layout { format, ..self.layout.clone() });
        renderer.expect_elements();
        let mut bytes = Vec::new();
        renderer.single(Some(value), &mut bytes).map_err(|error| {
            let message = format!("{}: {}", name.display(), error.message);
            (Problem::error(message).advise(error.advice), error.origin)
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
            Err(error) => Err((cannot_write(&path.display().to_string(), &error), Origin::NONE)),
        }
    }
}

impl Sink for Apart {
    fn item(&mut self, value: Value<'_>) -> Flow {
        let message = "--apart writes the members of a map; the rule gives a list".to_owned();
        let problem =
            Problem::error(message).advise("return {\"name.json\": …}, or write one file with -o");
        self.failed.get_or_insert(Failed::Output(problem));
        self.unplaced = Some(value.origin());
        ControlFlow::Break(())
    }

    fn single(&mut self, value: Option<Value<'_>>) -> Flow {
        if let Err((problem, origin)) = self.members(value.unwrap_or(Value::NULL)) {
            self.failed.get_or_insert(Failed::Output(problem));
            self.unplaced = Some(origin);
        }
        if self.is_closed() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn is_closed(&self) -> bool {
        self.failed.is_some()
    }

    fn place_failure(&mut self, find: &dyn Fn(Origin) -> Option<Spot>) {
        if let (Some(origin), Some(Failed::Output(problem))) =
            (self.unplaced.take(), &mut self.failed)
        {
            problem.spots.extend(find(origin));
        }
    }
}
