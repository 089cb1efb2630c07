//! Compiled patterns, kept for the run.

use std::cell::RefCell;
use std::collections::HashMap;

use regex::Regex;

use super::compile;

/// Patterns met so far; `None` for those that are no I-Regexp and fit nothing.
#[derive(Debug, Default)]
pub(crate) struct Patterns {
    compiled: RefCell<HashMap<(String, bool), Option<Regex>>>,
}

/// Patterns that come from data could be without number; past this many the store starts anew.
const MOST: usize = 500;

impl Patterns {
    /// Whether the whole of `text`, or some part of it, fits `pattern`.
    pub(crate) fn fits(&self, pattern: &str, text: &str, whole: bool) -> bool {
        let mut compiled = self.compiled.borrow_mut();
        if compiled.len() >= MOST {
            compiled.clear();
        }
        let regex = compiled
            .entry((pattern.to_owned(), whole))
            .or_insert_with(|| compile(pattern, whole).ok());
        regex.as_ref().is_some_and(|regex| regex.is_match(text))
    }
}
