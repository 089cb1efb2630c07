//! Files: what words on the command line mean, folders and patterns among them.

use std::path::{Path, PathBuf};

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use kyanite_formats::{Format, detect};
use kyanite_tree::{Code, Diagnostic};
use walkdir::WalkDir;

use super::Chosen;
use crate::compression::Compression;
use crate::input::Input;

/// Which files of folders are taken.
#[derive(Clone, Debug)]
pub struct Choice {
    include: Option<GlobSet>,
    exclude: GlobSet,
}

impl Choice {
    /// Those that fit one of `include`, or are of a format that is read if there is none, and fit none of `exclude`; a folder that
    /// fits one of these is left out with all in it. A pattern without a `/` is about names, another about paths from the
    /// folder on.
    ///
    /// # Errors
    /// A pattern that is none.
    pub fn new(include: &[String], exclude: &[String]) -> Result<Self, Diagnostic> {
        Ok(Self {
            include: if include.is_empty() { None } else { Some(set(include)?) },
            exclude: set(exclude)?,
        })
    }

    fn takes(&self, path: &Path) -> bool {
        match &self.include {
            Some(include) => include.is_match(path),
            None => format_of(path).is_some(),
        }
    }
}

/// The format that the name of a file stands for, compressed or not.
fn format_of(path: &Path) -> Option<Format> {
    let is_packed = path.extension().and_then(|e| e.to_str()).and_then(Compression::of_extension);
    let inner = if is_packed.is_some() { path.file_stem().map(Path::new)? } else { path };
    let name = inner.file_name()?.to_str()?;
    let format = detect::by_name(None, Some(name))?.format;
    (format.is_read() && format != Format::Text).then_some(format)
}

fn set(patterns: &[String]) -> Result<GlobSet, Diagnostic> {
    let refused = |pattern: &str, error: &globset::Error| {
        let message = format!("{pattern:?} is no pattern of files: {}", error.kind());
        Diagnostic::error(Code::CommandLine, message)
            .advise("* stands for any characters but /, ** for folders, ? for one character, {a,b} for either")
    };
    let mut builder = GlobSetBuilder::new();
    for pattern in patterns {
        let trimmed = pattern.trim_start_matches("./").trim_end_matches('/');
        // What has no folder in it fits in all of them.
        let anywhere =
            if trimmed.contains('/') { trimmed.to_owned() } else { format!("**/{trimmed}") };
        let glob = GlobBuilder::new(&anywhere).literal_separator(true).build();
        builder.add(glob.map_err(|error| refused(pattern, &error))?);
    }
    builder.build().map_err(|error| refused(&patterns.join(", "), &error))
}

/// The inputs that words name: files, URLs, `-`, folders with all that is chosen in them, and patterns.
///
/// # Errors
/// A folder that cannot be read, and a pattern that is none or that no file fits.
pub fn find(words: &[String], choice: &Choice) -> Result<Vec<Chosen>, Diagnostic> {
    let mut found = Vec::new();
    for word in words {
        let input = Input::of_word(word);
        match &input {
            Input::File(path) if path.is_dir() => walk(path, &|_| true, choice, &mut found)?,
            Input::File(path) if !path.exists() && word.contains(['*', '?', '[', '{']) => {
                let before = found.len();
                let patterns = set(std::slice::from_ref(word))?;
                walk(&fixed_part(path), &|path| patterns.is_match(path), choice, &mut found)?;
                if found.len() == before {
                    let message = format!("no file fits {word:?}");
                    return Err(Diagnostic::error(Code::InputMissing, message)
                        .advise("* stands for any characters but /, ** for folders"));
                }
            }
            _ => found.push(Chosen { input, is_found: false }),
        }
    }
    Ok(found)
}

/// The folders of a pattern before the first with a sign in it.
fn fixed_part(pattern: &Path) -> PathBuf {
    let is_fixed = |part: &std::path::Component<'_>| {
        !part.as_os_str().to_string_lossy().contains(['*', '?', '[', '{'])
    };
    let fixed: PathBuf = pattern.components().take_while(is_fixed).collect();
    if fixed.as_os_str().is_empty() { PathBuf::from(".") } else { fixed }
}

/// A path as it is seen from the working folder.
pub(super) fn seen_from_here(path: &Path) -> &Path {
    let here = std::env::current_dir().unwrap_or_default();
    path.strip_prefix(here).unwrap_or(path)
}

/// Takes up files below a folder, in the order of their names.
fn walk(
    folder: &Path,
    fits: &dyn Fn(&Path) -> bool,
    choice: &Choice,
    found: &mut Vec<Chosen>,
) -> Result<(), Diagnostic> {
    let plain = |path: &Path| path.strip_prefix("./").unwrap_or(path).to_owned();
    let within = |path: &Path| path.strip_prefix(folder).unwrap_or(path).to_owned();
    let all = WalkDir::new(folder).sort_by_file_name().into_iter().filter_entry(|entry| {
        let name = entry.file_name().to_string_lossy();
        // What is hidden is not meant, the folder itself aside.
        let is_hidden = entry.depth() > 0 && name.starts_with('.');
        !is_hidden && !choice.exclude.is_match(within(entry.path()))
    });
    for entry in all {
        let entry = entry.map_err(|error| {
            let path = error.path().unwrap_or(folder).display().to_string();
            let why = error.io_error().map_or_else(|| error.to_string(), ToString::to_string);
            Diagnostic::error(
                Code::InputUnreadable,
                format!("the folder {path} cannot be read: {why}"),
            )
        })?;
        let path = plain(entry.path());
        let is_chosen = choice.takes(&within(entry.path())) && fits(&path);
        if entry.file_type().is_file() && is_chosen {
            found.push(Chosen { input: Input::File(path), is_found: true });
        }
    }
    Ok(())
}
