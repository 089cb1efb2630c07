//! The files that one run writes beside each other.

use std::path::Path;

use kyanite_flow::{RunError, is_same_file};

/// Refuses files that would be written over each other, or over what is read: the words that name it. Devices take the place of
/// nothing, and `-` is no file.
pub fn keep_apart<'w>(
    written: impl IntoIterator<Item = &'w Path>,
    read: impl IntoIterator<Item = &'w str>,
) -> Result<(), RunError> {
    let is_replaced = |path: &Path| path.is_file() || !path.exists();
    let written = written.into_iter().filter(|path| path.as_os_str() != "-" && is_replaced(path));
    let written: Vec<&Path> = written.collect();
    let is_twice = |at: usize| written[..at].iter().any(|one| is_same_file(one, written[at]));
    if let Some(twice) = (0..written.len()).find(|at| is_twice(*at)) {
        let message = format!("two results would go to {}", written[twice].display());
        return Err(RunError::command(message, "give each a file of its own"));
    }
    let mut read = read.into_iter().map(Path::new).filter(|path| path.is_file());
    match read.find(|read| written.iter().any(|one| is_same_file(one, read))) {
        Some(read) => {
            let message = format!("a result would take the place of {}", read.display());
            Err(RunError::command(message, "give it a file of its own"))
        }
        None => Ok(()),
    }
}
