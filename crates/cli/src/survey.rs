//! `kyanite survey`: what is in documents, told in several forms.

mod against;
mod html;
mod json;
mod text;
mod words;

use kyanite_flow::{Events, Failed, InputOptions, Surveyed, survey};
use kyanite_survey::{NoXsd, Report, Survey as Found};
use kyanite_tree::{Arena, Diagnostic};

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
) -> Result<(), Failed> {
    command.check()?;
    let found = look_at(command, &command.inputs, options, messages)?;
    let at = command.at.as_ref().map_or_else(|| "$[*]".to_owned(), ToString::to_string);
    let report = found.told(&at, !command.no_examples);
    if let Some(other) = &command.against {
        let others = look_at(command, std::slice::from_ref(other), options, messages)?;
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
            as_json(found.json_schema(command.at.is_some(), &arena))
        }
    })
}

/// Why there is no XML Schema.
fn no_xsd(why: NoXsd) -> Failed {
    match why {
        NoXsd::NotXml => Failed::command(
            "an XML Schema is one of whole documents of XML",
            "ask for a JSON Schema: --report json-schema",
        ),
        NoXsd::SeveralNamespaces => Failed::command(
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
    fn check(&self) -> Result<(), Failed> {
        let wants_schema = self.wants(SurveyForm::JsonSchema) || self.wants(SurveyForm::Xsd);
        if self.against.is_some() && wants_schema {
            return Err(Failed::command("a schema is one of one survey", "leave --against out"));
        }
        let read = self.inputs.iter().chain(&self.against);
        self.places().check(read.map(String::as_str))
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
) -> Result<(), Failed> {
    let changes = against::Changes::of(old, new);
    command.places().write(options, &mut |form, shown, _| match form {
        SurveyForm::Text | SurveyForm::JsonSchema | SurveyForm::Xsd => {
            changes.text(shown).into_bytes()
        }
        SurveyForm::Json => changes.json(),
        SurveyForm::Html => changes.html().into_bytes(),
    })
}

/// Looks through inputs.
fn look_at(
    command: &Survey,
    words: &[String],
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<Found, Failed> {
    let inputs = inputs_of(words)?;
    let input_options = InputOptions {
        threads: threads(command.threads),
        memory: usize::try_from(command.memory).unwrap_or(usize::MAX),
        ..command.reading.options()
    };
    let stats = Stats::start(command.stats, input_options.threads);
    let sizes = inputs.iter().map(|input| input.size()).sum();
    let progress = Progress::start(options.progress, false, sizes);
    let mut tell = |told: Diagnostic| {
        progress.make_room();
        messages.show(&told);
    };
    let mut events = Events { tell: &mut tell, counters: &progress.counters };
    let what = Surveyed { inputs: &inputs, options: &input_options, at: command.at.as_ref() };
    let found = survey(what, &mut events)?;
    stats.finish(&progress.counters, None, messages);
    Ok(found)
}
