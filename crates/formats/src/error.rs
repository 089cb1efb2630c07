//! What is wrong with a text, in whichever format.

use kyanite_tree::{Origin, Problem, Spot};

/// The first thing that is wrong with a text, and where.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SyntaxError {
    /// What is wrong, in one sentence.
    pub message: String,
    /// What to do about it.
    pub advice: &'static str,
    /// The first byte that is wrong.
    pub start: usize,
    /// The byte after the last that is wrong; at least `start`.
    pub end: usize,
    /// Another place that belongs to it: where what is not closed was opened.
    pub also: Option<usize>,
    /// Whether more text at the end could mend it.
    pub wants_more: bool,
}

impl SyntaxError {
    /// What is wrong at `start..end`, and what to do.
    #[must_use]
    pub fn new(start: usize, end: usize, message: impl Into<String>, advice: &'static str) -> Self {
        Self { message: message.into(), advice, start, end, also: None, wants_more: false }
    }

    /// Bytes at `start..end` that are not UTF-8.
    #[must_use]
    pub fn not_utf8(start: usize, end: usize) -> Self {
        Self {
            message: "these bytes are not UTF-8".into(),
            advice: "save the input as UTF-8",
            start,
            end,
            also: None,
            wants_more: false,
        }
    }

    /// The error as a message about `file`, which holds `text`.
    #[must_use]
    pub fn problem(&self, file: &str, text: &[u8]) -> Problem {
        Problem::error(self.message.clone())
            .at(Spot::of(file, text, self.start, self.end))
            .at_opt(self.also.map(|also| Spot::of(file, text, also, also + 1)))
            .advise(self.advice)
    }
}

/// A value that a format has no way to write.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct CannotHold {
    /// What is wrong, in one sentence.
    pub message: String,
    /// What to do about it.
    pub advice: &'static str,
    /// The value that it is about.
    pub origin: Origin,
}

impl CannotHold {
    /// An error about the value from `origin`.
    #[must_use]
    pub fn new(message: impl Into<String>, advice: &'static str, origin: Origin) -> Self {
        Self { message: message.into(), advice, origin }
    }
}
