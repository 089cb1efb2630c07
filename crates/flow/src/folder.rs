//! Files that are put into a folder together: all of them, or none.
//!
//! They are made in a hidden folder and move to their places once all are complete. If one cannot be moved, those that were moved go back.

use std::collections::HashMap;
use std::fs;
use std::io;
use std::path::{Component, Path, PathBuf};

use crate::RunError;
use crate::output::cannot_write;
use crate::unfinished::{OLD, SignalGuard, UnfinishedFolder, folder_of, through_links};

/// Files that are made, with the paths that they go to.
pub(crate) struct NewFiles {
    within: UnfinishedFolder,
    files: Vec<(PathBuf, PathBuf)>,
}

impl NewFiles {
    /// Files for a folder, which is there or will be made.
    pub(crate) fn in_folder(folder: &Path) -> io::Result<Self> {
        let within = UnfinishedFolder::new(&existing_folder(folder))?;
        Ok(Self { within, files: Vec::new() })
    }

    /// A file that will go to `path`; gives where it is made.
    pub(crate) fn add(&mut self, path: PathBuf) -> PathBuf {
        let made = self.within.path().join(format!("new-{}", self.files.len()));
        self.files.push((made.clone(), path));
        made
    }

    /// Puts all files in their places; gives how many they are.
    ///
    /// # Errors
    /// [`RunError::Output`] when one cannot be put there; then all is as it was.
    pub(crate) fn finish(self) -> Result<usize, RunError> {
        let Self { within, files } = self;
        let count = files.len();
        let undisturbed = SignalGuard::new();
        let mut moves = Moves::default();
        for (number, (made, path)) in files.into_iter().enumerate() {
            let aside = within.path().join(format!("{OLD}{number}"));
            if let Err(error) = moves.put(&made, &path, aside) {
                let lost = moves.undo();
                drop(undisturbed);
                let failed = cannot_write(&path.display().to_string(), &error);
                return Err(RunError::Output(match lost {
                    false => failed,
                    true => {
                        let kept = within.keep();
                        failed.advise(format!("what was there before is in {}", kept.display()))
                    }
                }));
            }
        }
        drop(undisturbed);
        Ok(count)
    }
}

/// The longest name of a file, in bytes, that systems in use today take.
const LONGEST_NAME: usize = 255;

/// Names of files in a folder, each of another file.
pub(crate) struct Names {
    folder: PathBuf,
    /// The keys by their names, upper case as lower case.
    keys: HashMap<String, String>,
    /// The keys of files in folders, by these.
    folders: HashMap<String, String>,
}

impl Names {
    pub(crate) fn new(folder: &Path) -> Self {
        Self { folder: folder.to_owned(), keys: HashMap::new(), folders: HashMap::new() }
    }

    /// The path of the file that a key names.
    ///
    /// # Errors
    /// What is wrong with the key, and what to do.
    pub(crate) fn add(&mut self, key: &str) -> Result<PathBuf, (String, &'static str)> {
        let parts: Vec<_> = Path::new(key).components().collect();
        let is_inside = parts.iter().all(|part| matches!(part, Component::Normal(_)));
        if !is_inside {
            let message = format!("the key `{key}` leads out of the folder");
            return Err((message, "keys are names of files in the folder"));
        }
        if parts.is_empty() || key.contains('\0') || key.ends_with('/') {
            let message = format!("the key {key:?} cannot be the name of a file");
            return Err((message, "keys are names of files in the folder"));
        }
        if parts.iter().any(|part| part.as_os_str().len() > LONGEST_NAME) {
            let message = format!("the key `{key}` is too long for the name of a file");
            return Err((message, "names of files have up to 255 bytes"));
        }
        let name: PathBuf = parts.iter().collect();
        // Many systems do not tell upper case from lower.
        let folded = |path: &Path| path.to_string_lossy().to_lowercase();
        let above = name.ancestors().skip(1).filter(|above| !above.as_os_str().is_empty());
        let above: Vec<String> = above.map(folded).collect();
        let twin = self.keys.insert(folded(&name), key.to_owned());
        let twin = twin.as_deref().or(self.folders.get(&folded(&name)).map(String::as_str));
        let in_file = || above.iter().find_map(|above| self.keys.get(above));
        let twin = twin.or_else(|| in_file().map(String::as_str));
        if let Some(twin) = twin {
            let message =
                format!("the keys `{twin}` and `{key}` are one file, or one is in the other");
            return Err((message, "give them names that differ in more than case"));
        }
        self.folders.extend(above.into_iter().map(|above| (above, key.to_owned())));
        let path = self.folder.join(&name);
        if path.is_dir() {
            let message = format!("the key `{key}` is the name of a folder that is there");
            return Err((message, "give it another name, or take the folder away"));
        }
        Ok(path)
    }
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
