//! Several outputs from one run: each member of a map is a file of its own, named and formatted by its key.
//!
//! All files, or none: what keys say is checked before anything is written, the files are made in a hidden folder, and only
//! when all are there do they go to their places. Where one cannot, those that did go back.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io;
use std::ops::ControlFlow;
use std::path::{Component, Path, PathBuf};

use kyanite_formats::losses::{Loss, Losses};
use kyanite_formats::{Format, cannot_hold, detect};
use kyanite_lang::Flow;
use kyanite_tree::{Advice, Code, Diagnostic, Origin, Place, Setting, Value};

use crate::compression::{Compression, Encoder};
use crate::failed::OutputFailure;
use crate::output::cannot_write;
use crate::render::{Layout, Renderer, loss_remark};
use crate::unfinished::{OLD, Undisturbed, UnfinishedFolder, folder_of, through_links};
use crate::{Failed, Sink};

/// Writes the members of a map into files of a folder: all or none.
pub struct Apart {
    folder: PathBuf,
    /// How the members are laid out, but for their format.
    layout: Layout,
    foreign: bool,
    made: Option<Made>,
    losses: Losses,
    /// What is worth saying about the files, each once.
    remarks: Vec<Diagnostic>,
    failed: Option<OutputFailure>,
}

/// Files that are complete, in a hidden folder, with the paths that they go to.
struct Made {
    within: UnfinishedFolder,
    files: Vec<(PathBuf, PathBuf)>,
}

/// A file that is to be.
struct Wanted<'a> {
    key: &'a str,
    path: PathBuf,
    format: Format,
    value: Value<'a>,
}

/// The longest name of a file, in bytes, that systems in use today take.
const LONGEST_NAME: usize = 255;

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
    /// [`Failed::Output`] when a member could not be written; then all is as it was.
    pub fn finish(mut self) -> Result<(usize, Vec<Diagnostic>), Failed> {
        if let Some(failed) = self.failed {
            return Err(failed.into());
        }
        let Some(Made { within, files }) = self.made else { return Ok((0, self.remarks)) };
        let count = files.len();
        let undisturbed = Undisturbed::new();
        let mut moves = Moves::default();
        for (number, (made, path)) in files.into_iter().enumerate() {
            let aside = within.path().join(format!("{OLD}{number}"));
            if let Err(error) = moves.put(&made, &path, aside) {
                let lost = moves.undo();
                drop(undisturbed);
                let failed = cannot_write(&path.display().to_string(), &error);
                return Err(Failed::Output(match lost {
                    false => failed,
                    true => {
                        let kept = within.keep();
                        failed.advise(format!("what was there before is in {}", kept.display()))
                    }
                }));
            }
        }
        drop(undisturbed);
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
        let within = existing_folder(&self.folder);
        let failed =
            |error| OutputFailure::Told(cannot_write(&within.display().to_string(), &error));
        let within = UnfinishedFolder::new(&within).map_err(failed)?;
        let mut files = Vec::with_capacity(wanted.len());
        for (number, file) in wanted.into_iter().enumerate() {
            let path = within.path().join(format!("new-{number}"));
            self.make(&path, &file)?;
            files.push((path, file.path));
        }
        self.made = Some(Made { within, files });
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
    let mut keys: HashMap<String, &str> = HashMap::new();
    let mut folders: HashMap<String, &str> = HashMap::new();
    let mut all = Vec::with_capacity(map.len());
    for member in map.members() {
        let (key, at) = (member.name, member.value.origin());
        let parts: Vec<_> = Path::new(key).components().collect();
        let is_inside = parts.iter().all(|part| matches!(part, Component::Normal(_)));
        if !is_inside {
            let message = format!("the key `{key}` leads out of the folder");
            return refuse(message, "keys are names of files in the folder", at);
        }
        if parts.is_empty() || key.contains('\0') || key.ends_with('/') {
            let message = format!("the key {key:?} cannot be the name of a file");
            return refuse(message, "keys are names of files in the folder", at);
        }
        if parts.iter().any(|part| part.as_os_str().len() > LONGEST_NAME) {
            let message = format!("the key `{key}` is too long for the name of a file");
            return refuse(message, "names of files have up to 255 bytes", at);
        }
        let Some(detected) = detect::by_name(None, Some(key)) else {
            let message = format!("the key `{key}` says no format");
            let advice = "end it with an extension such as .json, .xml, .csv";
            return refuse(message, advice, at);
        };
        let name: PathBuf = parts.iter().collect();
        // Many systems do not tell upper case from lower.
        let folded = |path: &Path| path.to_string_lossy().to_lowercase();
        let above = name.ancestors().skip(1).filter(|above| !above.as_os_str().is_empty());
        let above: Vec<String> = above.map(folded).collect();
        let twin = keys.insert(folded(&name), key).or(folders.get(&folded(&name)).copied());
        let twin = twin.or_else(|| above.iter().find_map(|above| keys.get(above).copied()));
        if let Some(twin) = twin {
            let message =
                format!("the keys `{twin}` and `{key}` are one file, or one is in the other");
            return refuse(message, "give them names that differ in more than case", at);
        }
        folders.extend(above.into_iter().map(|above| (above, key)));
        let path = folder.join(&name);
        if path.is_dir() {
            let message = format!("the key `{key}` is the name of a folder that is there");
            return refuse(message, "give it another name, or take the folder away", at);
        }
        all.push(Wanted { key, path, format: detected.format, value: member.value });
    }
    Ok(all)
}

/// The folder itself or, where it is not there, the first above it that is.
fn existing_folder(folder: &Path) -> PathBuf {
    let there = folder.ancestors().find(|above| above.is_dir()).map(Path::to_owned);
    there.unwrap_or_else(|| PathBuf::from("."))
}

/// What was done to put files in their places.
#[derive(Default)]
struct Moves {
    /// Folders that were made, the outer ones first.
    folders: Vec<PathBuf>,
    /// Files that were put there, with where the ones before them are.
    files: Vec<(PathBuf, Option<PathBuf>)>,
}

impl Moves {
    /// Puts a file in its place; one that is there goes aside.
    fn put(&mut self, made: &Path, path: &Path, aside: PathBuf) -> io::Result<()> {
        let path = through_links(path);
        self.make_folder(folder_of(&path))?;
        let old = match fs::symlink_metadata(&path) {
            Ok(there) if there.permissions().readonly() => {
                return Err(io::Error::from(io::ErrorKind::PermissionDenied));
            }
            Ok(_) => {
                move_file(&path, &aside)?;
                Some(aside)
            }
            Err(_) => None,
        };
        self.files.push((path.clone(), old));
        move_file(made, &path)
    }

    fn make_folder(&mut self, folder: &Path) -> io::Result<()> {
        let missing: Vec<_> = folder
            .ancestors()
            .take_while(|above| !above.as_os_str().is_empty() && !above.exists())
            .collect();
        for above in missing.into_iter().rev() {
            fs::create_dir(above)?;
            self.folders.push(above.to_owned());
        }
        Ok(())
    }

    /// Takes everything back, as far as that is possible; tells whether a file that was there could not go back.
    fn undo(self) -> bool {
        let mut is_lost = false;
        for (path, old) in self.files.into_iter().rev() {
            match old {
                Some(old) => is_lost |= move_file(&old, &path).is_err(),
                // It may not have got there.
                None => drop(fs::remove_file(&path)),
            }
        }
        for folder in self.folders.into_iter().rev() {
            let _ = fs::remove_dir(folder);
        }
        is_lost
    }
}

/// Moves a file, also to another file system.
fn move_file(from: &Path, to: &Path) -> io::Result<()> {
    match fs::rename(from, to) {
        Err(error) if error.kind() == io::ErrorKind::CrossesDevices => {
            fs::copy(from, to)?;
            fs::remove_file(from)
        }
        moved => moved,
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
