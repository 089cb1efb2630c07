//! Runs over parts of the records: their states written, joined, and ended.

use std::io::{self, IsTerminal};
use std::path::Path;

use kyanite_flow::{
    DocumentTypes, Events, Input, Job, Layout, Output, PartialFile, RunError, Sink,
};
use kyanite_formats::Format;
use kyanite_lang::{Partial, Plan, Syntax, compile};
use kyanite_tree::{Arena, Diagnostic};

use super::RuleCommand;
use crate::arguments::{Combine, InputArguments, MessageOptions, ParamArguments};
use crate::interrupt::clean_up_on_signals;
use crate::messages::Messages;
use crate::progress::Progress;
use crate::status::Status;

/// `kyanite combine`.
pub fn combine(command: &Combine, options: &MessageOptions, messages: &mut Messages) -> Status {
    match combined(command, options, messages) {
        Ok(status) => status,
        Err(failed) => messages.end_with(&failed),
    }
}

fn combined(
    command: &Combine,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<Status, RunError> {
    let reading = InputArguments::of_sample("-");
    let read = |word: &String| PartialFile::read(&Input::of_word(word), &reading.reading.options());
    let states: Vec<PartialFile> = command.states.iter().map(read).collect::<Result<_, _>>()?;
    let Some(first) = states.first() else { return Ok(Status::Done) };
    if let Some(other) = states.iter().find(|other| !other.is_of_same_run(first)) {
        let message = format!(
            "{} and {} are states of different rules, or were given other params or sources",
            first.name, other.name
        );
        return Err(RunError::command(message, "combine the states of one rule"));
    }
    let params = ParamArguments { params: first.params.clone(), sources: first.sources.clone() };
    // What the rule names beside it is still beside it.
    let folder = Path::new(&first.rule.name).parent().map(Path::to_owned).unwrap_or_default();
    let rule = RuleCommand {
        folder,
        require: command.require,
        states: Some(&states),
        ..RuleCommand::new(first.rule.clone(), &reading, &params, &command.output, options)
    };
    if !command.partial {
        return Ok(rule.run(messages));
    }
    let plan = compile(first.rule.clone(), Syntax::Rule).map_err(RunError::of_rule)?;
    let state = kyanite_flow::joined_states(&plan, &states)?;
    let (sources, options) = (rule.sources(&plan)?, rule.input_options());
    rule.write_state(&rule.job(&plan, &sources, &options), &state, messages)
}

impl RuleCommand<'_> {
    /// Runs the rule over a part, and writes what that came to.
    pub(super) fn run_partial(
        &self,
        (plan, types): (&Plan, Option<&DocumentTypes<'_>>),
        inputs: &[Input],
        (sources, part): (&[(String, Input)], u64),
        messages: &mut Messages,
    ) -> Result<Status, RunError> {
        let options = self.input_options();
        let job = Job { types, ..self.job(plan, sources, &options) };
        let on_terminal = self.output.output.is_none() && io::stdout().is_terminal();
        let progress = Progress::start(self.options.progress, on_terminal, self.size_of(inputs));
        let mut tell = |problem: Diagnostic| {
            progress.make_room();
            messages.show(&problem);
        };
        let mut events = Events { tell: &mut tell, counters: &progress.counters };
        let state = kyanite_flow::partial(&job, inputs, part, &mut events)?;
        drop(progress);
        self.write_state(&job, &state, messages)
    }

    fn write_state(
        &self,
        job: &Job<'_>,
        state: &Partial,
        messages: &mut Messages,
    ) -> Result<Status, RunError> {
        if self.output.output.is_some() {
            clean_up_on_signals();
        }
        let word = |input: &Input| match input {
            Input::Standard => "-".to_owned(),
            other => other.name(),
        };
        let sources: Vec<(String, String)> =
            job.sources.iter().map(|(name, input)| (name.clone(), word(input))).collect();
        let mut output = Output::open(self.destination(), Layout::of(Format::JsonLines))?;
        let arena = Arena::new();
        for line in PartialFile::lines(job, &sources, state, &arena) {
            let _ = output.item(line);
        }
        output.end_items();
        messages.show_all(&output.finish()?);
        Ok(Status::Done)
    }
}
