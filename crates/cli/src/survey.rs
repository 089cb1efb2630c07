//! `kyanite survey`: what is in documents, told in several forms.

mod html;
mod json;
mod text;
mod words;

use kyanite_flow::{Events, Failed, InputOptions, Surveyed, survey};
use kyanite_survey::Survey as Found;
use kyanite_tree::{Arena, Diagnostic};

use crate::arguments::{MessageOptions, Survey, SurveyForm};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::report::{Places, as_json};
use crate::run::{inputs_of, threads};
use crate::status::Status;

/// Runs the command.
pub fn run(command: &Survey, options: &MessageOptions, messages: &mut Messages) -> Status {
    let written = look(command, options, messages).and_then(|found| {
        let at = command.at.as_ref().map_or_else(|| "$[*]".to_owned(), ToString::to_string);
        let report = found.told(&at, !command.no_examples);
        command.places().write(options, &mut |form, shown, width| match form {
            SurveyForm::Text => text::render(&report, shown, width).into_bytes(),
            SurveyForm::Json => json::render(&report),
            SurveyForm::Html => html::render(&report).into_bytes(),
            SurveyForm::JsonSchema => {
                let arena = Arena::new();
                as_json(found.json_schema(command.at.is_some(), &arena))
            }
        })
    });
    match written {
        Ok(()) => Status::Done,
        Err(failed) => {
            let status = Status::from(&failed);
            messages.show_all(failed.diagnostics());
            status
        }
    }
}

impl Survey {
    fn places(&self) -> Places<'_, SurveyForm> {
        let (reports, output) = (self.reports.as_slice(), self.output.as_deref());
        Places { reports, output, usual: SurveyForm::Text }
    }
}

/// Looks through the inputs.
fn look(
    command: &Survey,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<Found, Failed> {
    command.places().check()?;
    let inputs = inputs_of(&command.inputs)?;
    let input_options = InputOptions {
        threads: threads(command.threads),
        memory: usize::try_from(command.memory).unwrap_or(usize::MAX),
        ..command.reading.options()
    };
    let sizes = inputs.iter().map(|input| input.size()).sum();
    let progress = Progress::start(options.progress, false, sizes);
    let mut tell = |told: Diagnostic| {
        progress.make_room();
        messages.show(&told);
    };
    let mut events = Events { tell: &mut tell, bytes: &progress.bytes };
    let what = Surveyed { inputs: &inputs, options: &input_options, at: command.at.as_ref() };
    survey(what, &mut events)
}
