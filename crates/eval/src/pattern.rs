//! Regular expressions: each standard has its own grammar, and a translator of it for the `regex` package.
//!
//! The package takes time in proportion to the text, whatever the pattern. A translator refuses what its standard does not
//! have, so that nothing of the package's own grammar is reached by accident. Patterns that refer back to a group cannot be
//! matched so: they go to the `fancy-regex` package, which gives up after a number of steps.

use std::fmt;
use std::ops::Range;
use std::sync::OnceLock;

use regex::Regex;

pub mod ecma;
mod example;
pub mod iregexp;
mod sequence;
pub mod xsd;

use sequence::Sequences;

/// The largest compiled pattern, in bytes.
const SIZE: usize = 4 << 20;

/// How deep parentheses may nest.
const DEPTH: usize = 100;

/// The steps after which a pattern that refers back to a group is given up.
const STEPS: usize = 1_000_000;

/// A compiled pattern.
#[derive(Clone, Debug)]
pub struct Pattern {
    /// For a sequence it is built only when somebody asks for more than whether it fits.
    engine: OnceLock<Option<Engine>>,
    sequence: Option<Box<(Sequences, String)>>,
}

#[derive(Clone, Debug)]
enum Engine {
    /// In time in proportion to the text.
    Linear(Regex),
    /// By trying what may fit.
    Trying(Box<fancy_regex::Regex>),
}

impl Engine {
    fn linear(translated: &str, ignores_case: bool) -> Option<Self> {
        let mut builder = regex::RegexBuilder::new(translated);
        let regex = builder.case_insensitive(ignores_case).size_limit(SIZE).build();
        regex.map(Self::Linear).ok()
    }
}

/// A match: where the whole stands in the text, and each group that took part.
pub type Match = Vec<Option<Range<usize>>>;

/// A pattern that refers back to a group was given up.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct TooMuchWork;

impl fmt::Display for TooMuchWork {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the pattern refers back to a group, and was given up after {STEPS} steps")
    }
}

impl std::error::Error for TooMuchWork {}

impl Pattern {
    /// Compiles what a translator made of a pattern; None where it is too large, or refers to a group that is not there.
    /// What looks around, or back to a group, can only be tried.
    fn build(translated: &str, ignores_case: bool, is_tried: bool) -> Option<Self> {
        let sequence = if ignores_case || is_tried { None } else { Sequences::of(translated) };
        if let Some(sequence) = sequence {
            let sequence = Some(Box::new((sequence, translated.to_owned())));
            return Some(Self { engine: OnceLock::new(), sequence });
        }
        let engine = if is_tried {
            fancy_regex::RegexBuilder::new(translated)
                .case_insensitive(ignores_case)
                .delegate_size_limit(SIZE)
                .backtrack_limit(STEPS)
                .build()
                .map(|regex| Engine::Trying(Box::new(regex)))
                .ok()
        } else {
            Engine::linear(translated, ignores_case)
        };
        Some(Self { engine: OnceLock::from(Some(engine?)), sequence: None })
    }

    /// What finds matches.
    fn engine(&self) -> Option<&Engine> {
        let of_sequence = || {
            let (_, translated) = self.sequence.as_deref()?;
            Engine::linear(translated, false)
        };
        self.engine.get_or_init(of_sequence).as_ref()
    }

    /// Whether the pattern fits some part of a text.
    ///
    /// # Errors
    /// [`TooMuchWork`].
    pub fn is_match(&self, text: &str) -> Result<bool, TooMuchWork> {
        if let Some(fits) = self.sequence.as_ref().and_then(|sequence| sequence.0.fits(text)) {
            return Ok(fits);
        }
        match self.engine() {
            Some(Engine::Linear(regex)) => Ok(regex.is_match(text)),
            Some(Engine::Trying(regex)) => regex.is_match(text).map_err(|_| TooMuchWork),
            None => Ok(false),
        }
    }

    /// How many groups it has.
    #[must_use]
    pub fn groups(&self) -> usize {
        match self.engine() {
            Some(Engine::Linear(regex)) => regex.captures_len() - 1,
            Some(Engine::Trying(regex)) => regex.captures_len() - 1,
            None => 0,
        }
    }

    /// The parts of a text that it fits, from left to right, none in another.
    pub fn matches<'p>(
        &'p self,
        text: &'p str,
    ) -> Box<dyn Iterator<Item = Result<Match, TooMuchWork>> + 'p> {
        match self.engine() {
            None => Box::new(std::iter::empty()),
            Some(Engine::Linear(regex)) => Box::new(regex.captures_iter(text).map(|captures| {
                Ok(captures.iter().map(|group| group.map(|group| group.range())).collect())
            })),
            Some(Engine::Trying(regex)) => Box::new(regex.captures_iter(text).map(|captures| {
                let captures = captures.map_err(|_| TooMuchWork)?;
                Ok(captures.iter().map(|group| group.map(|group| group.range())).collect())
            })),
        }
    }
}
