//! `kyanite survey`: what is in documents, told in several forms.

mod against;
mod html;
mod json;
mod text;
mod words;

use kyanite_flow::{
    Events, InputOptions, RecordPath, RunError, SurveyState, Surveyed, join_surveys, survey,
    survey_part,
};
use kyanite_survey::{NoXsd, Report, Survey as Found};
use kyanite_tree::Arena;

use crate::arguments::{MessageOptions, Survey, SurveyForm};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::report::{Places, as_json};
use crate::run::{inputs_of, threads};
use crate::stats::Stats;
use crate::status::Status;

/// Runs the command.
pub fn run(command: &Survey, options: &MessageOptions, messages: &mut Messages) -> Status {
    match written(command, options, messages) {
        Ok(()) => Status::Done,
        Err(failed) => messages.end_with(&failed),
    }
}

/// Writes the survey, or how two differ.
fn written(
    command: &Survey,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<(), RunError> {
    command.check()?;
    if command.partial {
        return write_state(command, options, messages);
    }
    let (found, records_at) = match command.combine {
        true => combined(command)?,
        false => {
            let found = look_at(command, &command.inputs, options, messages, &mut survey)?;
            (found, command.at.clone())
        }
    };
    let at = records_at.as_ref().map_or_else(|| "$[*]".to_owned(), ToString::to_string);
    let report = found.told(&at, !command.no_examples);
    if let Some(other) = &command.against {
        let other = std::slice::from_ref(other);
        let others = look_at(command, other, options, messages, &mut survey)?;
        let older = others.told(&at, !command.no_examples);
        return compared(command, &older, &report, options);
    }
    let xsd = match command.wants(SurveyForm::Xsd) {
        true => found.xsd().map_err(no_xsd)?,
        false => String::new(),
    };
    command.places().write(options, &mut |form, shown, width| match form {
        SurveyForm::Xsd => xsd.clone().into_bytes(),
        SurveyForm::Text => text::render(&report, shown, width).into_bytes(),
        SurveyForm::Json => json::render(&report),
        SurveyForm::Html => html::render(&report).into_bytes(),
        SurveyForm::JsonSchema => {
            let arena = Arena::new();
            as_json(found.json_schema(records_at.is_some(), &arena))
        }
    })
}

/// Writes the state of a survey over some of the records.
fn write_state(
    command: &Survey,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<(), RunError> {
    let part = command.part.unwrap_or_default().into();
    let mut over_part =
        |what: Surveyed<'_>, events: &mut Events<'_>| survey_part(what, part, events);
    let state = look_at(command, &command.inputs, options, messages, &mut over_part)?;
    let lines = state.into_lines().join("\n") + "\n";
    command.places().write(options, &mut |_, _, _| lines.clone().into_bytes())
}

/// The survey over the records of all states, and the path to them.
fn combined(command: &Survey) -> Result<(Found, Option<RecordPath>), RunError> {
    let options = InputOptions { memory: command.memory_bytes(), ..command.reading.options() };
    let mut states = Vec::new();
    for input in &inputs_of(&command.inputs)? {
        states.extend(SurveyState::read(input, &options)?);
    }
    join_surveys(states, options.memory)
}

/// Why there is no XML Schema.
fn no_xsd(why: NoXsd) -> RunError {
    match why {
        NoXsd::NotXml => RunError::command(
            "an XML Schema is one of whole documents of XML",
            "ask for a JSON Schema: --report json-schema",
        ),
        NoXsd::SeveralNamespaces => RunError::command(
            "names are of several namespaces, and each needs a schema of its own",
            "survey the documents with --drop-namespaces for a schema without any",
        ),
    }
}

impl Survey {
    /// Whether a form is asked for.
    fn wants(&self, form: SurveyForm) -> bool {
        self.reports.iter().any(|(wanted, _)| *wanted == form)
    }

    /// Refuses what cannot be written.
    fn check(&self) -> Result<(), RunError> {
        let wants_schema = self.wants(SurveyForm::JsonSchema) || self.wants(SurveyForm::Xsd);
        if self.against.is_some() && wants_schema {
            return Err(RunError::command("a schema is one of one survey", "leave --against out"));
        }
        let read = self.inputs.iter().chain(&self.against);
        self.places().check(read.map(String::as_str))
    }

    fn memory_bytes(&self) -> usize {
        usize::try_from(self.memory).unwrap_or(usize::MAX)
    }

    fn places(&self) -> Places<'_, SurveyForm> {
        let (reports, output) = (self.reports.as_slice(), self.output.as_deref());
        Places { reports, output, usual: SurveyForm::Text }
    }
}

/// Writes how two surveys differ.
fn compared(
    command: &Survey,
    old: &Report,
    new: &Report,
    options: &MessageOptions,
) -> Result<(), RunError> {
    let changes = against::Changes::of(old, new);
    command.places().write(options, &mut |form, shown, _| match form {
        SurveyForm::Text | SurveyForm::JsonSchema | SurveyForm::Xsd => {
            changes.text(shown).into_bytes()
        }
        SurveyForm::Json => changes.json(),
        SurveyForm::Html => changes.html().into_bytes(),
    })
}

/// Looks through inputs: gives what `survey` makes of them.
fn look_at<T>(
    command: &Survey,
    words: &[String],
    options: &MessageOptions,
    messages: &mut Messages,
    survey: &mut dyn FnMut(Surveyed<'_>, &mut Events<'_>) -> Result<T, RunError>,
) -> Result<T, RunError> {
    let inputs = inputs_of(words)?;
    let input_options = InputOptions {
        threads: threads(command.threads),
        memory: command.memory_bytes(),
        ..command.reading.options()
    };
    let stats = Stats::start(command.stats, input_options.threads);
    let sizes = inputs.iter().map(|input| input.size()).sum();
    let progress = Progress::start(options.progress, false, sizes);
    let (at, range) = (command.at.as_ref(), command.range.as_ref());
    let what = Surveyed { inputs: &inputs, options: &input_options, at, range };
    let found = progress.watch(messages, |events| survey(what, events))?;
    stats.finish(&progress.counters, None, messages);
    Ok(found)
}
