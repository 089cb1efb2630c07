//! Files of states: what those of rules and those of surveys have in common.

use std::io::{self, Read};

use kyanite_formats::Format;
use kyanite_lang::Portion;
use kyanite_tree::{Code, Diagnostic};

use crate::input::{Input, InputOptions, Source, cannot_read};
use crate::run_error::RunError;

/// What the first member of a rule's state is called, and of a survey's.
pub(crate) const RULE_MARK: &str = "kyanite state";
pub(crate) const SURVEY_MARK: &str = "kyanite survey state";

/// What is to be done about a state of another version.
pub(crate) const MAKE_AGAIN: &str = "make it again with this version of the program";

/// The text of a state's file. Returns None if it is no text.
///
/// # Errors
/// [`RunError::Input`] when it cannot be read.
pub(crate) fn state_text(
    input: &Input,
    options: &InputOptions,
) -> Result<Option<String>, RunError> {
    let options = InputOptions { from: Some(Format::JsonLines), ..options.clone() };
    let mut text = String::new();
    let mut reader = Source::open(input, &options)?.reader;
    match reader.read_to_string(&mut text) {
        Ok(_) => Ok(Some(text)),
        Err(error) if error.kind() == io::ErrorKind::InvalidData => Ok(None),
        Err(error) => Err(RunError::Input(cannot_read(&input.name(), &error))),
    }
}

/// A file is not the state that is wanted: what it is, and what to do.
pub(crate) fn wrong_state(message: String, advice: &'static str) -> RunError {
    RunError::Input(Diagnostic::error(Code::InputFormat, message).advise(advice))
}

/// The records of a portion are in the state that is called so, and in another.
pub(crate) fn counted_twice(name: &str, portion: &Portion, other: &str) -> RunError {
    let Portion { number, inputs, from, .. } = portion;
    let inputs = inputs.join(", ");
    let message = format!(
        "records would be counted twice: {name} is over {inputs} from byte {from} on, part {number}, and so is {other}"
    );
    let advice = "leave one of them out; where they are of other inputs with that name, number them with --part";
    RunError::command(message, advice)
}
