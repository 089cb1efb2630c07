//! Files that a rule or a patch changes.

use kyanite_flow::{Counters, EditedFile, Events, Input, Job, RunError, edit, write_edited};
use kyanite_lang::Plan;
use kyanite_tree::{Code, Diagnostic, counted};
use similar::TextDiff;

use super::{InPlace, RuleCommand, standard_output};
use crate::interrupt::clean_up_on_signals;
use crate::messages::Messages;
use crate::status::Status;

impl RuleCommand<'_> {
    /// Runs a rule that changes its documents over files, and changes these.
    pub(super) fn run_in_place(
        &self,
        plan: &Plan,
        inputs: &[Input],
        sources: &[(String, Input)],
        how: InPlace,
        messages: &mut Messages,
    ) -> Result<Status, RunError> {
        if !plan.ensures.is_empty() || !plan.expects.is_empty() || self.input.schema.is_some() {
            let message = "files are changed in place without schemas";
            return Err(RunError::command(message, "write the result to another file"));
        }
        clean_up_on_signals();
        let options = self.input_options();
        let params = &self.params.params;
        let now = Some(std::time::SystemTime::now());
        let job = Job { params, sources, now, ..Job::new(plan, &options) };
        let counters = Counters::default();
        let mut tell = |told: Diagnostic| messages.show(&told);
        let mut events = Events { tell: &mut tell, counters: &counters };
        let files = edit(&job, inputs, &mut events)?;
        put(&files, how == InPlace::Show, messages)?;
        Ok(Status::Done)
    }
}

/// Writes files that change, or shows what would change in them.
pub fn put(
    files: &[EditedFile],
    only_shows: bool,
    messages: &mut Messages,
) -> Result<(), RunError> {
    if only_shows {
        let text: String = files.iter().map(unified).collect();
        return standard_output().write(text.as_bytes());
    }
    let count = write_edited(files)?;
    let message = format!("{} of {} changed", count, counted(files.len(), "file"));
    messages.show(&Diagnostic::note(Code::InputRead, message));
    Ok(())
}

/// What would change in a file, as a unified diff.
fn unified(file: &EditedFile) -> String {
    if file.old == file.new {
        return String::new();
    }
    let name = file.path.display().to_string();
    let diff = TextDiff::from_lines(&file.old, &file.new);
    diff.unified_diff().header(&name, &name).to_string()
}
