//! Edits files in place: only the text of changed values changes, and files are replaced once every edit has succeeded.

use std::fs;
use std::io::Write;
use std::path::PathBuf;

use kyanite_change::{EditProblem, edit_record, edit_text};
use kyanite_formats::Format;
use kyanite_lang::{Arguments, Runner, Session};
use kyanite_tree::{Arena, Code, Diagnostic, Place, Value};

use crate::change::{Patching, read_again, record};
use crate::document::Library;
use crate::input::{Input, InputOptions, Source, cannot_read};
use crate::output::cannot_write;
use crate::run::{Job, rule_failed};
use crate::run_error::{Events, RunError};
use crate::sources::Sources;
use crate::unfinished::UnfinishedFile;

/// A file, and what is to be in it.
#[derive(Clone, Debug)]
pub struct EditedFile {
    /// Its path.
    pub path: PathBuf,
    /// What is in it.
    pub old: String,
    /// What is to be in it.
    pub new: String,
}

/// A file as it was read.
struct Original {
    path: PathBuf,
    name: String,
    format: Format,
    /// The text, with the line ends of Unix and without a byte order mark.
    text: String,
    /// What the file holds.
    raw: String,
    has_mark: bool,
    has_returns: bool,
}

impl Original {
    fn read(input: &Input, options: &InputOptions) -> Result<Self, RunError> {
        let Input::File(path) = input else {
            let message = format!("{} cannot be changed in place", input.name());
            return Err(RunError::command(message, "name a file"));
        };
        let source = Source::open(input, options)?;
        let (name, format) = (source.name.clone(), source.detected.format);
        if let Some(message) = source.contradiction() {
            return Err(RunError::command(
                message,
                "rename the file, or say what it is with --from",
            ));
        }
        let bytes = fs::read(path).map_err(|error| RunError::Input(cannot_read(&name, &error)))?;
        let raw = String::from_utf8(bytes).map_err(|_| {
            let message = format!("{name} is not plain UTF-8, and is not changed in place");
            RunError::command(message, "write the result to another file")
        })?;
        let unmarked = raw.strip_prefix('\u{FEFF}').unwrap_or(&raw);
        let has_mark = unmarked.len() < raw.len();
        let has_returns = unmarked.contains('\r');
        let text = unmarked.replace("\r\n", "\n");
        let is_even = !has_returns || text.replace('\n', "\r\n") == unmarked;
        if !is_even {
            let message = format!("{name} has line ends of several sorts");
            return Err(RunError::command(
                message,
                "make them alike first, or write the result to another file",
            ));
        }
        Ok(Self { path: path.clone(), name, format, text, raw, has_mark, has_returns })
    }

    /// Its document.
    fn document<'a>(
        &self,
        library: &Library<'a>,
        options: &InputOptions,
        events: &mut Events<'_>,
    ) -> Result<Value<'a>, RunError> {
        let source = Source::of_text(&self.name, &self.text, self.format);
        let roots = library.load(source, options, events)?.roots;
        let [root] = roots.as_slice() else {
            let message = format!("{} holds several documents", self.name);
            return Err(RunError::command(message, "write the result to another file"));
        };
        Ok(*root)
    }

    /// The file with another document in it.
    fn edited(self, old: Value<'_>, new: Value<'_>) -> Result<EditedFile, RunError> {
        let made = edit_text(self.format, &self.text, old, new);
        self.with(made)
    }

    /// The file with another text in it.
    fn with(self, made: Result<String, EditProblem>) -> Result<EditedFile, RunError> {
        let Self { path, name, text, raw, has_mark, has_returns, .. } = self;
        let made = made.map_err(|found| {
            let EditProblem { message, advice, offset } = found;
            let place = offset.map(|at| Place::of(&name, text.as_bytes(), at, at + 1));
            let message = format!("{name} is not changed in place: {message}");
            let why = Diagnostic::error(Code::CannotHold, message).at_opt(place);
            RunError::Output(why.advise_opt(advice))
        })?;
        let made = if has_returns { made.replace('\n', "\r\n") } else { made };
        let new = if has_mark { format!("\u{FEFF}{made}") } else { made };
        Ok(EditedFile { path, old: raw, new })
    }
}

/// Runs a rule over files whose documents it changes; nothing is written yet.
///
/// # Errors
/// [`RunError`] by whatever is wrong: the rule changes no document, a file cannot be read or changed in place, or the rule fails.
pub fn edit(
    job: &Job<'_>,
    inputs: &[Input],
    events: &mut Events<'_>,
) -> Result<Vec<EditedFile>, RunError> {
    if !job.plan.edits_document() {
        let message = "only a rule that changes the document is run in place";
        let advice = "write $ set … or $ remove …, or write the result to another file";
        return Err(RunError::command(message, advice));
    }
    let mut session = Session::new(job.plan);
    let held = Arena::new();
    let sources = Sources::load(job.plan, job.sources, job.options, &held, events)?;
    let mut files = Vec::with_capacity(inputs.len());
    for input in inputs {
        let original = Original::read(input, job.options)?;
        let arena = Arena::new();
        let library = Library::new(&arena);
        let root = original.document(&library, job.options, events)?;
        let arguments = Arguments::read(job.plan, job.params, &arena).map_err(RunError::Command)?;
        let arguments = arguments.with_sources(&sources.values);
        let mut made = None;
        let ran = Runner::new(job.plan, &arguments, Some(root), &arena, &mut session).and_then(
            |mut runner| {
                runner.document(&mut |value| {
                    made = value;
                    std::ops::ControlFlow::Continue(())
                })
            },
        );
        let _ = ran.map_err(|failure| {
            let place = sources.place(failure.origin(), || library.place(failure.origin()));
            rule_failed(job.plan, &failure, place)
        })?;
        files.push(original.edited(root, made.unwrap_or(root))?);
    }
    session.coverage.report(job.plan).into_iter().for_each(|found| events.tell(found));
    Ok(files)
}

/// Applies a patch to a file of JSON, YAML, TOML or XML; nothing is written yet. Gives also the patch that goes back, if it is wanted.
///
/// # Errors
/// As of [`patch`](crate::patch), and [`RunError::Output`] when the change cannot be made in the text.
pub fn patch_in_place(
    what: Patching<'_>,
    events: &mut Events<'_>,
) -> Result<(EditedFile, Option<Vec<u8>>), RunError> {
    let original = Original::read(what.input, what.options)?;
    let arena = Arena::new();
    let library = Library::new(&arena);
    let root = original.document(&library, what.options, events)?;
    let patches = Library::new(&arena);
    let old = record(root, what.options, &arena);
    let new = what.applied(old, &patches, &arena, events)?;
    let Value::Element(_, document) = root else {
        let back = what.back(old, new, &arena);
        return Ok((original.edited(root, new)?, back));
    };
    let made = edit_record(&original.text, document, old, new);
    let again = made.as_ref().ok().filter(|_| what.reverses);
    let again = again.map(|text| read_again(text, what.options, &library, &arena)).transpose()?;
    let back = what.back(old, again.unwrap_or(new), &arena);
    Ok((original.with(made)?, back))
}

/// Writes what is to be in files that change, each in place of the one before; gives how many they are.
///
/// # Errors
/// [`RunError::Output`] when one cannot be written; those before it are.
pub fn write_edited(files: &[EditedFile]) -> Result<usize, RunError> {
    let mut made = Vec::new();
    let failed = |file: &EditedFile, error: &std::io::Error| {
        RunError::Output(cannot_write(&file.path.display().to_string(), error))
    };
    for file in files.iter().filter(|file| file.old != file.new) {
        let mut unfinished =
            UnfinishedFile::new(&file.path).map_err(|error| failed(file, &error))?;
        unfinished.write_all(file.new.as_bytes()).map_err(|error| failed(file, &error))?;
        made.push((file, unfinished));
    }
    let count = made.len();
    for (file, unfinished) in made {
        unfinished.finish().map_err(|error| failed(file, &error))?;
    }
    Ok(count)
}
