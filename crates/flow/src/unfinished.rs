//! Files and folders that are not complete yet: hidden beside what they will be, and removed whenever a run does not end well.
//!
//! A run that fails removes its own. One that is told to end by a signal has [`remove_unfinished`] called. What a run leaves
//! behind that was killed goes with the next in the same folder: nobody holds its lock any more.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tempfile::{NamedTempFile, TempDir};

/// How their names begin and end.
const PREFIX: &str = ".kyanite-";
const SUFFIX: &str = ".part";

/// The file in an unfinished folder whose lock tells that it is in use.
const LOCK: &str = "lock";

/// How the names of files begin that were there before; a folder with such a file is never removed by another run.
pub(crate) const OLD: &str = "old-";

/// They are left alone for so long, since a new one is locked only when it is there.
const NEW: Duration = Duration::from_secs(2);

/// Those of this process.
static UNFINISHED: Mutex<Option<HashSet<PathBuf>>> = Mutex::new(None);

fn unfinished() -> MutexGuard<'static, Option<HashSet<PathBuf>>> {
    UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Removes all that is not complete; for the end of the process by a signal. Nothing new can be begun behind that.
pub fn remove_unfinished() {
    let mut unfinished = unfinished();
    for path in unfinished.take().unwrap_or_default() {
        // What cannot be removed goes with the next run.
        let _ = if path.is_dir() { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
    }
    std::mem::forget(unfinished);
}

/// What is done as long as this lives is done to its end before a signal ends the process.
pub(crate) struct SignalGuard {
    _held: MutexGuard<'static, Option<HashSet<PathBuf>>>,
}

impl SignalGuard {
    pub(crate) fn new() -> Self {
        Self { _held: unfinished() }
    }
}

/// Has a path removed if the process is told to end, as long as this lives.
#[derive(Debug)]
struct Registered(PathBuf);

impl Registered {
    /// Makes something that is not complete, and has it removed: no signal comes in between.
    fn make<T>(
        make: impl FnOnce() -> io::Result<T>,
        path: impl FnOnce(&T) -> &Path,
    ) -> io::Result<(T, Self)> {
        let mut unfinished = unfinished();
        let made = make()?;
        let path = path(&made);
        let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        unfinished.get_or_insert_default().insert(path.clone());
        Ok((made, Self(path)))
    }
}

impl Drop for Registered {
    fn drop(&mut self) {
        if let Some(known) = unfinished().as_mut() {
            known.remove(&self.0);
        }
    }
}

/// A file beside the one that it will replace.
#[derive(Debug)]
pub(crate) struct UnfinishedFile {
    file: NamedTempFile,
    path: PathBuf,
    registered: Registered,
}

impl UnfinishedFile {
    /// A new file beside the one at `path`, through links beside the file itself.
    pub(crate) fn new(path: &Path) -> io::Result<Self> {
        let path = through_links(path);
        let existing = fs::metadata(&path);
        if existing.as_ref().is_ok_and(fs::Metadata::is_dir) {
            return Err(io::Error::from(io::ErrorKind::IsADirectory));
        }
        let folder = folder_of(&path);
        remove_left_behind(folder);
        let mut builder = tempfile::Builder::new();
        builder.prefix(PREFIX).suffix(SUFFIX);
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            // The file's own permissions, or those that any new file gets.
            builder.permissions(match &existing {
                Ok(metadata) => metadata.permissions(),
                Err(_) => fs::Permissions::from_mode(0o666),
            });
        }
        let (file, registered) =
            Registered::make(|| builder.tempfile_in(folder), NamedTempFile::path)?;
        // The lock ends with the program, however that ends. Where there are no locks nothing is ever taken for left behind.
        let _ = file.as_file().try_lock();
        Ok(Self { file, path, registered })
    }

    /// The file that it will replace.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Puts it in its place.
    pub(crate) fn finish(self) -> io::Result<()> {
        self.file.as_file().sync_all()?;
        self.file.persist(&self.path)?;
        drop(self.registered);
        Ok(())
    }
}

impl io::Write for UnfinishedFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

/// A folder for files that are not complete.
#[derive(Debug)]
pub(crate) struct UnfinishedFolder {
    folder: TempDir,
    _lock: File,
    _registered: Registered,
}

impl UnfinishedFolder {
    /// A new folder in that one.
    pub(crate) fn new(within: &Path) -> io::Result<Self> {
        remove_left_behind(within);
        let mut builder = tempfile::Builder::new();
        builder.prefix(PREFIX).suffix(SUFFIX);
        let (folder, registered) = Registered::make(|| builder.tempdir_in(within), TempDir::path)?;
        let lock = File::create_new(folder.path().join(LOCK))?;
        let _ = lock.try_lock();
        Ok(Self { folder, _lock: lock, _registered: registered })
    }

    pub(crate) fn path(&self) -> &Path {
        self.folder.path()
    }

    /// Leaves it where it is.
    pub(crate) fn keep(self) -> PathBuf {
        self.folder.keep()
    }
}

/// The folder that a file is in.
pub(crate) fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// The most links that lead to each other.
const LINKS: usize = 40;

/// The file that a path leads to, through links, even where it is not there yet.
pub(crate) fn through_links(path: &Path) -> PathBuf {
    let mut path = path.to_owned();
    for _ in 0..LINKS {
        let Ok(next) = fs::read_link(&path) else { break };
        path = folder_of(&path).join(next);
    }
    fs::canonicalize(&path).unwrap_or(path)
}

/// Whether two paths lead to one file, through links, even where it is not there yet.
#[must_use]
pub fn is_same_file(one: &Path, other: &Path) -> bool {
    resolved(one) == resolved(other)
}

/// The path from the root, as far as there is something.
pub(crate) fn resolved(path: &Path) -> PathBuf {
    let path = through_links(path);
    let found = path.ancestors().find_map(|above| {
        let there = if above.as_os_str().is_empty() { Path::new(".") } else { above };
        let real = fs::canonicalize(there).ok()?;
        Some(real.join(path.strip_prefix(above).ok()?))
    });
    found.unwrap_or(path)
}

/// Removes what runs that were killed have left in a folder. What cannot be looked at is left alone.
fn remove_left_behind(folder: &Path) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let is_part =
            name.to_str().is_some_and(|name| name.starts_with(PREFIX) && name.ends_with(SUFFIX));
        if !is_part || !is_old(&entry).unwrap_or(false) {
            continue;
        }
        let path = entry.path();
        let is_folder = path.is_dir();
        let lock = if is_folder { path.join(LOCK) } else { path.clone() };
        if is_folder && holds_old_files(&path) {
            continue;
        }
        let is_free =
            || File::options().write(true).open(&lock)?.try_lock().map_err(io::Error::from);
        if is_free().is_ok() {
            let _ = if is_folder { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
        }
    }
}

fn holds_old_files(folder: &Path) -> bool {
    let is_old = |entry: fs::DirEntry| entry.file_name().to_string_lossy().starts_with(OLD);
    fs::read_dir(folder).is_ok_and(|entries| entries.flatten().any(is_old))
}

fn is_old(entry: &fs::DirEntry) -> Option<bool> {
    let modified = entry.metadata().and_then(|about| about.modified()).ok()?;
    Some(modified.elapsed().ok()? > NEW)
}
