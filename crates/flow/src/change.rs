//! Differences of inputs, and patches applied to them.

mod streams;
mod tally;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use kyanite_change::{
    Assumed, ChangeSort, Comparison, KeyChoice, Patch, UnclearKey, compare, json_patch, merge,
};
use kyanite_formats::losses::Losses;
use kyanite_formats::record_view::{RecordShape, View};
use kyanite_formats::{Format, json, xml};
use kyanite_tree::{Arena, Code, Diagnostic, LineColumn, Value};

use tally::Tally;

use crate::document::{Library, as_one};
use crate::input::{Input, InputOptions, Source};
use crate::run::{is_xml, open};
use crate::run_error::{Counters, Events, RunError};
use crate::validate::{Choice, find};

/// Two inputs that are compared.
#[derive(Clone, Copy, Debug)]
pub struct Diffing<'d> {
    /// The old one.
    pub old: &'d Input,
    /// The new one.
    pub new: &'d Input,
    /// How they are read.
    pub options: &'d InputOptions,
    /// How they are compared.
    pub comparison: &'d Comparison,
    /// Whether a JSON Patch is wanted, and whether it keeps the order of members.
    pub patch: Option<bool>,
}

/// What differs.
#[derive(Clone, Debug, Default)]
pub struct Compared {
    /// The name of the old input.
    pub old: String,
    /// The name of the new one.
    pub new: String,
    /// How often what happened, by the path with `[*]` for each index.
    pub counts: BTreeMap<(String, ChangeSort), u64>,
    /// Change by change, as many as memory has room for.
    pub changes: Vec<FoundChange>,
    /// What was taken to be the same though it is spelled in another way.
    pub assumed: Assumed,
    /// Lists whose items could be told by a member.
    pub keys: Vec<KeyChoice>,
    /// Lists whose items are not all told by the key that was said.
    pub unclear: Vec<UnclearKey>,
    /// The JSON Patch, if it is wanted.
    pub patch: Option<Vec<u8>>,
}

/// A change.
#[derive(Clone, Debug)]
pub struct FoundChange {
    /// What happened.
    pub sort: ChangeSort,
    /// The path, with `[*]` for each index.
    pub under: String,
    /// What was there.
    pub old: Option<Side>,
    /// What is there.
    pub new: Option<Side>,
}

/// A value on one side.
#[derive(Clone, Debug)]
pub struct Side {
    /// Its path: a JSONPath, or in XML an XPath.
    pub path: String,
    /// The value as JSON on one line; of XML as markup.
    pub text: String,
    /// Where it begins.
    pub at: Option<LineColumn>,
}

impl Compared {
    /// Whether nothing differs.
    #[must_use]
    pub fn is_same(&self) -> bool {
        self.counts.is_empty()
    }

    /// How many changes there are.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.counts.values().sum()
    }

    /// How many changes of a sort there are.
    #[must_use]
    pub fn count_of(&self, sort: ChangeSort) -> u64 {
        self.counts.iter().filter(|((_, of), _)| *of == sort).map(|(_, count)| count).sum()
    }
}

impl FoundChange {
    /// The path: the new one, if the value is there still.
    #[must_use]
    pub fn path(&self) -> &str {
        self.new.as_ref().or(self.old.as_ref()).map_or("", |side| &side.path)
    }
}

/// The documents of an input as one value.
pub(crate) fn read<'a>(
    input: &Input,
    options: &InputOptions,
    library: &Library<'a>,
    arena: &'a Arena,
    events: &mut Events<'_>,
) -> Result<(Value<'a>, Format, Losses), RunError> {
    let source = open(input, options, events)?;
    let format = source.detected.format;
    let (value, losses) = load(source, options, library, arena, events)?;
    Ok((value, format, losses))
}

/// The documents of an open source as one value.
fn load<'a>(
    source: Source,
    options: &InputOptions,
    library: &Library<'a>,
    arena: &'a Arena,
    events: &mut Events<'_>,
) -> Result<(Value<'a>, Losses), RunError> {
    let loaded = library.load(source, options, events)?;
    Ok((as_one(&loaded.roots, arena), loaded.losses))
}

/// Elements as records.
pub(crate) fn record<'a>(value: Value<'a>, options: &InputOptions, arena: &'a Arena) -> Value<'a> {
    let shape =
        RecordShape { without_namespaces: options.drop_namespaces, ..RecordShape::default() };
    View::new(&shape, true).record(value, arena)
}

/// Compares two inputs. Records of two streams that are told by a key are put in order by it, in as much memory as the options
/// have; all else is held.
///
/// # Errors
/// [`RunError::Input`] when one cannot be read.
pub fn diff(what: Diffing<'_>, events: &mut Events<'_>) -> Result<Compared, RunError> {
    let Diffing { options, .. } = what;
    let sources = [open(what.old, options, events)?, open(what.new, options, events)?];
    let formats = sources.each_ref().map(|source| source.detected.format);
    let is_untyped = |format| matches!(format, Format::Xml | Format::Csv | Format::Tsv);
    let crosses = is_untyped(formats[0]) != is_untyped(formats[1]) && what.patch.is_none();
    let comparison = Comparison { crosses, ..what.comparison.clone() };
    let key = comparison.key_at(&[]).filter(|_| what.patch.is_none());
    if let Some(members) = key.filter(|_| formats.iter().all(|format| format.has_records())) {
        return streams::compare_streams(&what, sources, members, &comparison, events);
    }
    let arena = Arena::new();
    let library = Library::new(&arena);
    let names = sources.each_ref().map(|source| source.name.clone());
    let [old, new] = sources;
    let (mut old, _) = load(old, options, &library, &arena, events)?;
    let (mut new, _) = load(new, options, &library, &arena, events)?;
    // A patch speaks of members and items, so what it is made of has these.
    if is_xml(old) != is_xml(new) || what.patch.is_some() {
        (old, new) = (record(old, options, &arena), record(new, options, &arena));
    }
    let difference = compare(old, new, &comparison);
    let patch = what.patch.map(|is_exact| patch_text(json_patch(&difference, is_exact, &arena)));
    let mut tally = Tally::new(names, usize::MAX);
    tally.take(difference, [&library, &library]);
    Ok(Compared { patch, ..tally.finish() })
}

/// A JSON Patch as it is written.
fn patch_text(patch: Value<'_>) -> Vec<u8> {
    let mut text = Vec::new();
    json::write(patch, json::Style::Indented(2), &mut text);
    text.push(b'\n');
    text
}

/// The files of two folders, by their paths in them.
#[derive(Clone, Debug, Default)]
pub struct PairedFiles {
    /// Files that both have: the old one, and the new one.
    pub both: Vec<(Input, Input)>,
    /// Files that only the old folder has.
    pub only_old: Vec<String>,
    /// Files that only the new one has.
    pub only_new: Vec<String>,
}

/// Pairs the files of two folders that are of a format that is read.
///
/// # Errors
/// [`RunError::Input`] when a folder cannot be read.
pub fn pair_files(old: &Path, new: &Path) -> Result<PairedFiles, RunError> {
    let choice = Choice::new(&[], &[]).map_err(RunError::Input)?;
    let files = |folder: &Path| {
        let found = find(&[folder.display().to_string()], &choice).map_err(RunError::Input)?;
        let named = found.into_iter().filter_map(|chosen| match chosen.input {
            Input::File(path) => {
                let name = path.strip_prefix(folder).unwrap_or(&path).to_owned();
                Some((name, Input::File(path)))
            }
            _ => None,
        });
        Ok::<BTreeMap<PathBuf, Input>, RunError>(named.collect())
    };
    let (olds, mut news) = (files(old)?, files(new)?);
    let mut paired = PairedFiles::default();
    for (name, input) in olds {
        match news.remove(&name) {
            Some(other) => paired.both.push((input, other)),
            None => paired.only_old.push(input.name()),
        }
    }
    paired.only_new = news.values().map(Input::name).collect();
    Ok(paired)
}

/// The records of a text of XML that was made: an element that lost its attributes is a text once it is read.
pub(crate) fn read_again<'a>(
    text: &str,
    options: &InputOptions,
    library: &Library<'a>,
    arena: &'a Arena,
) -> Result<Value<'a>, RunError> {
    let (counters, mut tell) = (Counters::default(), |_| {});
    let mut events = Events { tell: &mut tell, counters: &counters };
    let source = Source::of_text("the result", text, Format::Xml);
    let plain = InputOptions { unwrap: false, ..options.clone() };
    let (value, _) = load(source, &plain, library, arena, &mut events)?;
    Ok(record(value, options, arena))
}

/// A patch that is applied to an input.
#[derive(Clone, Copy, Debug)]
pub struct Patching<'p> {
    /// The patch.
    pub patch: &'p Input,
    /// What it is applied to.
    pub input: &'p Input,
    /// How the input is read.
    pub options: &'p InputOptions,
    /// Whether it is a JSON Merge Patch (RFC 7396), and not a JSON Patch (RFC 6902).
    pub merges: bool,
    /// Whether the patch that goes back is wanted.
    pub reverses: bool,
    /// Whether the result is written as XML.
    pub gives_xml: bool,
}

impl Patching<'_> {
    /// What the patch makes of a document.
    pub(crate) fn applied<'a>(
        &self,
        root: Value<'a>,
        patches: &Library<'a>,
        arena: &'a Arena,
        events: &mut Events<'_>,
    ) -> Result<Value<'a>, RunError> {
        let options = InputOptions::default();
        let (patch, _, _) = read(self.patch, &options, patches, arena, events)?;
        if self.merges {
            return Ok(merge(root, patch, arena));
        }
        let refused = |found: kyanite_change::PatchProblem, is_applied: bool| {
            let number = found.operation.map(|at| format!("operation {}: ", at + 1));
            let message = format!("{}{}", number.unwrap_or_default(), found.message);
            let code = if is_applied { Code::Patch } else { Code::PatchWrong };
            let why = Diagnostic::error(code, message).at_opt(patches.place(found.origin));
            let why = why.advise_opt(found.advice);
            if is_applied { RunError::Rule(why) } else { RunError::Command(vec![why]) }
        };
        let patch = Patch::read(patch).map_err(|found| refused(found, false))?;
        patch.apply(root, arena).map_err(|found| refused(found, true))
    }

    /// The patch that goes back from what is made of a document, to the spelling of its numbers; None if it is not wanted.
    pub(crate) fn back<'a>(
        &self,
        root: Value<'a>,
        made: Value<'a>,
        arena: &'a Arena,
    ) -> Option<Vec<u8>> {
        if !self.reverses {
            return None;
        }
        let numbers = kyanite_change::Numbers::Spelling;
        let comparison = Comparison { numbers, ..Comparison::default() };
        Some(patch_text(json_patch(&compare(made, root, &comparison), true, arena)))
    }
}

/// What a patch makes.
#[derive(Debug)]
pub struct Patched<'p> {
    /// The document.
    pub document: Value<'p>,
    /// What the reader of the one before could not keep.
    pub losses: &'p Losses,
    /// The patch that goes back, if it is wanted.
    pub back: Option<Vec<u8>>,
}

/// Applies a patch; `take` gets what it makes.
///
/// # Errors
/// [`RunError::Input`] when one of both cannot be read, [`RunError::Command`] when the patch is none, [`RunError::Rule`] when it does not
/// apply, and what `take` gives.
pub fn patch(
    what: Patching<'_>,
    events: &mut Events<'_>,
    take: &mut dyn FnMut(Patched<'_>) -> Result<(), RunError>,
) -> Result<(), RunError> {
    let arena = Arena::new();
    let (library, patches) = (Library::new(&arena), Library::new(&arena));
    let (root, _, losses) = read(what.input, what.options, &library, &arena, events)?;
    let root = record(root, what.options, &arena);
    let made = what.applied(root, &patches, &arena, events)?;
    let mut again = None;
    if what.reverses && what.gives_xml {
        let mut text = Vec::new();
        // What cannot be written is said where it is.
        let written =
            xml::write(made, &xml::Layout::default(), &mut text, &mut Losses::default()).is_ok();
        let text = String::from_utf8_lossy(&text);
        let read = || read_again(&text, what.options, &library, &arena);
        again = written.then(read).transpose()?;
    }
    let back = what.back(root, again.unwrap_or(made), &arena);
    take(Patched { document: made, losses: &losses, back })
}
