//! `kyanite diff`: what differs between two documents, told in several forms.

mod html;
mod json;
mod text;

use kyanite_change::{Comparison, KeyChoice, UnclearKey};
use kyanite_flow::{
    Compared, Diffing, Input, InputOptions, PairedFiles, RunError, diff, pair_files,
};
use kyanite_tree::{Advice, Code, Diagnostic, Setting, counted};

use crate::arguments::{Diff, DiffForm, MessageOptions};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::report::Places;
use crate::stats::Stats;
use crate::status::Status;

/// What differs between two documents, or between the files of two folders.
pub struct Differences {
    /// The names of what is compared.
    pub names: [String; 2],
    /// Pair by pair.
    pub pairs: Vec<Compared>,
    /// Of folders: files that only one has.
    pub only: [Vec<String>; 2],
    /// Whether they are folders.
    pub are_folders: bool,
}

impl Differences {
    /// Whether anything differs.
    pub fn is_empty(&self) -> bool {
        self.only.iter().all(Vec::is_empty) && self.differing().next().is_none()
    }

    /// The pairs that differ.
    pub fn differing(&self) -> impl Iterator<Item = &Compared> {
        self.pairs.iter().filter(|pair| !pair.is_same())
    }
}

/// Runs the command.
pub fn run(command: &Diff, options: &MessageOptions, messages: &mut Messages) -> Status {
    let written = compared(command, options, messages).and_then(|found| {
        let status = if found.is_empty() { Status::Done } else { Status::No };
        command.places().write(options, &mut |form, shown, width| match form {
            DiffForm::Text => text::render(&found, shown, width).into_bytes(),
            DiffForm::Columns => text::columns(&found, shown, width).into_bytes(),
            DiffForm::Json => json::render(&found),
            DiffForm::JsonPatch => {
                let patches = found.pairs.iter().filter_map(|pair| pair.patch.as_deref());
                patches.flatten().copied().collect()
            }
            DiffForm::Html => html::render(&found).into_bytes(),
        })?;
        Ok(status)
    });
    match written {
        Ok(status) => status,
        Err(failed) => messages.end_with(&failed),
    }
}

impl Diff {
    fn places(&self) -> Places<'_, DiffForm> {
        let (reports, output) = (self.reports.as_slice(), self.output.as_deref());
        Places { reports, output, usual: DiffForm::Text }
    }
}

/// Compares the inputs.
fn compared(
    command: &Diff,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<Differences, RunError> {
    command.places().check([command.old.as_str(), &command.new])?;
    let (old, new) = (Input::of_word(&command.old), Input::of_word(&command.new));
    if old == Input::Standard && new == Input::Standard {
        return Err(RunError::command(
            "both documents cannot come from standard input",
            "name a file for one",
        ));
    }
    let wants_patch = command.reports.iter().any(|(form, _)| *form == DiffForm::JsonPatch);
    if command.exact && !wants_patch {
        return Err(RunError::command(
            "only a JSON Patch keeps the order of members",
            "say --report json-patch",
        ));
    }
    let comparison = Comparison {
        numbers: command.numbers.into(),
        tolerance: command.tolerance.clone(),
        ignored: command.ignored.clone(),
        keys: command.keys.clone(),
        crosses: false,
    };
    let (pairs, only, are_folders) = match (&old, &new) {
        (Input::File(a), Input::File(b)) if a.is_dir() && b.is_dir() => {
            if wants_patch {
                return Err(RunError::command(
                    "a JSON Patch is one of one document",
                    "name two files",
                ));
            }
            let PairedFiles { both, only_old, only_new } = pair_files(a, b)?;
            (both, [only_old, only_new], true)
        }
        _ => (vec![(old.clone(), new.clone())], [Vec::new(), Vec::new()], false),
    };
    let sizes = pairs.iter().flat_map(|(old, new)| [old.size(), new.size()]).sum();
    let stats = Stats::start(command.stats, 1);
    let progress = Progress::start(options.progress, false, sizes);
    let memory = usize::try_from(command.memory).unwrap_or(usize::MAX);
    let reading = InputOptions { memory, ..command.reading.options() };
    let mut found = Vec::new();
    for (old, new) in &pairs {
        let patch = wants_patch.then_some(command.exact);
        let what = Diffing { old, new, options: &reading, comparison: &comparison, patch };
        found.push(progress.watch(messages, |events| diff(what, events))?);
    }
    let changes: u64 = found.iter().map(Compared::count).sum();
    stats.finish(&progress.counters, Some((changes, "change")), messages);
    drop(progress);
    let names = [old.name(), new.name()];
    let found = Differences { names, pairs: found, only, are_folders };
    suggest_keys(&found, messages);
    for pair in &found.pairs {
        pair.unclear.iter().for_each(|unclear| say_unclear(unclear, messages));
        say_unlisted(pair, messages);
    }
    Ok(found)
}

/// Says that a key does not tell all items of a list apart.
fn say_unclear(unclear: &UnclearKey, messages: &mut Messages) {
    let UnclearKey { path, lacking, shared } = unclear;
    let lack = (*lacking > 0).then(|| format!("{} without it", counted(*lacking, "item")));
    let share = (*shared > 0).then(|| format!("{} with that of another", counted(*shared, "item")));
    let found: Vec<String> = lack.into_iter().chain(share).collect();
    let message = format!("the key of {path} does not tell all apart: {}", found.join(", "));
    let advice = "such items are set beside each other in the order in which they come; name more members, as in id,date";
    messages.show(&Diagnostic::warning(Code::KeyUnclear, message).advise(advice));
}

/// Says how many changes are counted and not listed.
fn say_unlisted(found: &Compared, messages: &mut Messages) {
    let left = found.count().saturating_sub(found.changes.len() as u64);
    if left > 0 {
        let message =
            format!("there is no room to list {}; they are counted", counted(left, "change"));
        let advice = Advice::words("to list more, raise ").setting(Setting::Memory);
        messages.show(&Diagnostic::warning(Code::ChangesUnlisted, message).advise(advice));
    }
}

/// Says by which members the items of lists could be told, each once.
fn suggest_keys(found: &Differences, messages: &mut Messages) {
    let mut told: Vec<&KeyChoice> = Vec::new();
    for choice in found.pairs.iter().flat_map(|pair| &pair.keys) {
        if told.contains(&choice) {
            continue;
        }
        told.push(choice);
        let message = format!("the items of {} are told by where they stand", choice.path);
        let advice = Advice::words("to have them told by ")
            .then(format!("`{}`, say ", choice.member))
            .setting(Setting::Key(choice.path.clone(), choice.member.clone()));
        messages.show(&Diagnostic::warning(Code::KeySuggested, message).advise(advice));
    }
}
