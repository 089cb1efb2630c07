//! What went wrong, as a value.
//!
//! Every error, warning and note of Kyanite has one form: a plain sentence, the places it is about, and
//! what to do. The core makes them; only the command line puts them on a screen.

use std::fmt;

use crate::Spot;

/// How bad it is.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub enum Severity {
    /// The run goes on, and the result is what was asked for; something may be of interest.
    Note,
    /// The run goes on, but the result may not be what was meant.
    Warning,
    /// The run ends.
    Error,
}

impl Severity {
    /// The word in front of a message.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Warning => "warning",
            Self::Error => "error",
        }
    }
}

/// One message.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Problem {
    /// How bad it is.
    pub severity: Severity,
    /// One plain sentence, without a final full stop.
    pub message: String,
    /// The places, the one to look at first in front.
    pub spots: Vec<Spot>,
    /// What to do about it.
    pub advice: Option<String>,
}

impl Problem {
    /// An error.
    #[must_use]
    pub fn error(message: impl Into<String>) -> Self {
        Self::new(Severity::Error, message)
    }

    /// A warning.
    #[must_use]
    pub fn warning(message: impl Into<String>) -> Self {
        Self::new(Severity::Warning, message)
    }

    /// A note.
    #[must_use]
    pub fn note(message: impl Into<String>) -> Self {
        Self::new(Severity::Note, message)
    }

    fn new(severity: Severity, message: impl Into<String>) -> Self {
        Self { severity, message: message.into(), spots: Vec::new(), advice: None }
    }

    /// Points at a place.
    #[must_use]
    pub fn at(mut self, spot: Spot) -> Self {
        self.spots.push(spot);
        self
    }

    /// Points at a place, if there is one.
    #[must_use]
    pub fn at_opt(mut self, spot: Option<Spot>) -> Self {
        self.spots.extend(spot);
        self
    }

    /// Says what to do.
    #[must_use]
    pub fn advise(mut self, advice: impl Into<String>) -> Self {
        self.advice = Some(advice.into());
        self
    }

    /// Says what to do, if anything can be said.
    #[must_use]
    pub fn advise_opt(mut self, advice: Option<String>) -> Self {
        self.advice = advice;
        self
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.severity.word(), self.message)
    }
}

impl std::error::Error for Problem {}
