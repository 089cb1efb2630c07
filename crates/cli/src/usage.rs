//! What is wrong with a command line, in the same form as all other messages.

use clap::CommandFactory;
use clap::error::{ContextKind, ContextValue, Error, ErrorKind};
use kyanite_tree::{Code, Diagnostic};

use crate::arguments::Arguments;

/// The commands, by their names.
fn commands() -> Vec<String> {
    let commands = Arguments::command();
    commands.get_subcommands().map(|command| command.get_name().to_owned()).collect()
}

fn near_words(name: &str, known: &[String]) -> Option<String> {
    kyanite_tree::near_words(name, known.iter().map(String::as_str))
}

/// The message for a command line that was refused, or `None` for help and version, which are no errors.
pub fn problem(error: &Error) -> Option<Diagnostic> {
    if !error.use_stderr() {
        return None;
    }
    let one = |kind| match error.get(kind) {
        Some(ContextValue::String(text)) => Some(text.clone()),
        Some(ContextValue::Strings(texts)) => texts.first().cloned(),
        _ => None,
    };
    let all = |kind| match error.get(kind) {
        Some(ContextValue::Strings(texts)) if !texts.is_empty() => Some(texts.join(", ")),
        Some(ContextValue::String(text)) => Some(text.clone()),
        _ => None,
    };
    let argument = one(ContextKind::InvalidArg).unwrap_or_default();
    let value = one(ContextKind::InvalidValue).unwrap_or_default();
    let cause = std::error::Error::source(error).map(ToString::to_string);
    let (message, advice) = match error.kind() {
        ErrorKind::UnknownArgument if argument.starts_with('-') => (
            format!("there is no option `{argument}`"),
            all(ContextKind::SuggestedArg).map(|near| format!("near: {near}")),
        ),
        ErrorKind::UnknownArgument => (format!("`{argument}` is one word too many"), None),
        ErrorKind::InvalidSubcommand => (
            format!(
                "there is no command `{}`",
                one(ContextKind::InvalidSubcommand).unwrap_or_default()
            ),
            near_words(&one(ContextKind::InvalidSubcommand).unwrap_or_default(), &commands()),
        ),
        ErrorKind::InvalidValue if value.is_empty() => {
            (format!("`{argument}` needs a value"), None)
        }
        ErrorKind::InvalidValue => (
            format!("`{value}` is no value for {argument}"),
            all(ContextKind::ValidValue).map(|valid| format!("there are {valid}")),
        ),
        ErrorKind::ValueValidation => (format!("`{value}` is no value for {argument}"), cause),
        ErrorKind::TooManyValues => (format!("`{argument}` takes no value"), None),
        ErrorKind::ArgumentConflict => {
            let prior = all(ContextKind::PriorArg).unwrap_or_default();
            (
                format!("{argument} and {prior} do not go together"),
                Some("leave one of them out".into()),
            )
        }
        ErrorKind::MissingRequiredArgument => {
            (format!("{} is missing", all(ContextKind::InvalidArg).unwrap_or_default()), None)
        }
        ErrorKind::MissingSubcommand | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            ("a command is missing".into(), Some("try kyanite demo, or kyanite --help".into()))
        }
        ErrorKind::InvalidUtf8 => ("an argument is not UTF-8".into(), None),
        _ => (error.to_string().trim().to_owned(), None),
    };
    let advice = advice.unwrap_or_else(|| "see kyanite --help, or kyanite COMMAND --help".into());
    Some(Diagnostic::error(Code::CommandLine, message).advise(advice))
}
