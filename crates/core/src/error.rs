//! Why something did not work.

use std::fmt;

use kyanite_flow::RunError;
use kyanite_tree::Diagnostic;

/// What is wrong with a rule, an input or an output.
///
/// ```
/// use kyanite_core::{ErrorKind, Rule};
///
/// let error = Rule::new("$.a +").unwrap_err();
/// assert_eq!(error.kind(), ErrorKind::Rule);
/// assert_eq!(error.to_string(), "error: an expression is missing before the end of the rule");
/// ```
#[derive(Debug)]
pub struct Error {
    kind: ErrorKind,
    diagnostics: Vec<Diagnostic>,
}

/// What an error is about.
///
/// ```
/// use kyanite_core::{ErrorKind, Rule, RunBuilder};
///
/// let rule = Rule::new("sum($[*])").unwrap();
/// let run = |text: &'static str| RunBuilder::new(&rule).input("n.jsonl", text.as_bytes()).run(|_| true);
/// assert_eq!(run("1 2 x").unwrap_err().kind(), ErrorKind::Input);
/// assert_eq!(run("1 2 true").unwrap_err().kind(), ErrorKind::Data);
/// ```
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub enum ErrorKind {
    /// The rule is wrong, or how it is run; nothing was read.
    Rule,
    /// An input cannot be read, or is not well-formed.
    Input,
    /// The rule failed on the data.
    Data,
    /// The output cannot be written, or cannot hold the result.
    Output,
    /// Something breaks a schema.
    Invalid,
}

impl Error {
    /// What it is about.
    ///
    /// ```
    /// use kyanite_core::{ErrorKind, Rule};
    ///
    /// assert_eq!(Rule::jsonpath("$[").unwrap_err().kind(), ErrorKind::Rule);
    /// ```
    #[must_use]
    pub fn kind(&self) -> ErrorKind {
        self.kind
    }

    /// All that is wrong, with places in the rule and in inputs, and what to do about it.
    ///
    /// ```
    /// use kyanite_core::Rule;
    ///
    /// let error = Rule::new("for b in $[*]\nreturn c.id").unwrap_err();
    /// let place = &error.diagnostics()[0].places()[0];
    /// assert_eq!((place.at.line, place.at.column), (2, 8));
    /// ```
    #[must_use]
    pub fn diagnostics(&self) -> &[Diagnostic] {
        &self.diagnostics
    }
}

impl From<RunError> for Error {
    fn from(failed: RunError) -> Self {
        let kind = match &failed {
            RunError::Command(_) => ErrorKind::Rule,
            RunError::Input(_) => ErrorKind::Input,
            RunError::Rule(_) => ErrorKind::Data,
            RunError::Output(_) => ErrorKind::Output,
            RunError::Invalid(_) => ErrorKind::Invalid,
        };
        let diagnostics = match failed {
            RunError::Command(found) | RunError::Invalid(found) => found,
            RunError::Input(found) | RunError::Rule(found) | RunError::Output(found) => vec![found],
        };
        Self { kind, diagnostics }
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, diagnostic) in self.diagnostics.iter().enumerate() {
            let between = if at > 0 { "; " } else { "" };
            write!(f, "{between}{diagnostic}")?;
        }
        Ok(())
    }
}

impl std::error::Error for Error {}
