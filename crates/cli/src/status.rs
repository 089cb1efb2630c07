//! Exit statuses.

use std::process::ExitCode;

use kyanite_flow::RunError;

/// How the program ends.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Status {
    /// All is done.
    Done = 0,
    /// The answer is no: nothing was found under `--require`, or a document is not valid.
    No = 1,
    /// The command line, the rule or a schema is wrong.
    Command = 2,
    /// An input cannot be read.
    Input = 3,
    /// A rule failed on the data.
    Rule = 4,
    /// The output cannot be written.
    Output = 5,
}

impl From<Status> for ExitCode {
    fn from(status: Status) -> Self {
        Self::from(status as u8)
    }
}

impl From<&RunError> for Status {
    fn from(failed: &RunError) -> Self {
        match failed {
            RunError::Command(_) => Self::Command,
            RunError::Input(_) => Self::Input,
            RunError::Rule(_) => Self::Rule,
            RunError::Output(_) => Self::Output,
            RunError::Invalid(_) => Self::No,
        }
    }
}
