//! `kyanite diff`: what differs between two documents, told in several forms.

mod html;
mod json;
mod text;

use kyanite_change::Comparison;
use kyanite_flow::{Compared, Diffing, Events, Failed, Input, diff};
use kyanite_tree::{Advice, Code, Diagnostic, Setting};

use crate::arguments::{Diff, DiffForm, MessageOptions};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::report::Places;
use crate::status::Status;

/// Runs the command.
pub fn run(command: &Diff, options: &MessageOptions, messages: &mut Messages) -> Status {
    let written = compared(command, options, messages).and_then(|found| {
        let status = if found.changes.is_empty() { Status::Done } else { Status::No };
        command.places().write(options, &mut |form, shown, width| match form {
            DiffForm::Text => text::render(&found, shown, width).into_bytes(),
            DiffForm::Columns => text::columns(&found, shown, width).into_bytes(),
            DiffForm::Json => json::render(&found),
            DiffForm::JsonPatch => found.patch.clone().unwrap_or_default(),
            DiffForm::Html => html::render(&found).into_bytes(),
        })?;
        Ok(status)
    });
    match written {
        Ok(status) => status,
        Err(failed) => {
            messages.show_all(failed.diagnostics());
            Status::from(&failed)
        }
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
) -> Result<Compared, Failed> {
    command.places().check()?;
    let refused = |message: &str, advice: &'static str| {
        let why = Diagnostic::error(Code::CommandLine, message).advise(advice);
        Err(Failed::Command(vec![why]))
    };
    let (old, new) = (Input::of_word(&command.old), Input::of_word(&command.new));
    if old == Input::Standard && new == Input::Standard {
        return refused("both documents cannot come from standard input", "name a file for one");
    }
    let wants_patch = command.reports.iter().any(|(form, _)| *form == DiffForm::JsonPatch);
    if command.exact && !wants_patch {
        return refused("only a JSON Patch keeps the order of members", "say --report json-patch");
    }
    let comparison = Comparison {
        numbers: command.numbers.into(),
        tolerance: command.tolerance.clone(),
        ignored: command.ignored.clone(),
        keys: command.keys.clone(),
        crosses: false,
    };
    let sizes = [&old, &new].iter().map(|input| input.size()).sum();
    let progress = Progress::start(options.progress, false, sizes);
    let mut tell = |told: Diagnostic| {
        progress.make_room();
        messages.show(&told);
    };
    let mut events = Events { tell: &mut tell, bytes: &progress.bytes };
    let what = Diffing {
        old: &old,
        new: &new,
        options: &command.reading.options(),
        comparison: &comparison,
        patch: wants_patch.then_some(command.exact),
    };
    let found = diff(what, &mut events)?;
    drop(progress);
    for choice in &found.keys {
        let message = format!("the items of {} are told by where they stand", choice.path);
        let advice = Advice::words("to have them told by ")
            .then(format!("`{}`, say ", choice.member))
            .setting(Setting::Key(choice.path.clone(), choice.member.clone()));
        messages.show(&Diagnostic::warning(Code::KeySuggested, message).advise(advice));
    }
    Ok(found)
}
