//! Compiled patterns, kept for the run.

use std::cell::RefCell;
use std::collections::HashMap;
use std::ops::Range;

use regex::Regex;

use super::{NotIRegexp, compile};

/// Patterns met so far; `None` for those that are no I-Regexp and fit nothing.
#[derive(Debug, Default)]
pub struct Patterns {
    compiled: RefCell<HashMap<(String, bool), Option<Regex>>>,
}

/// Patterns that come from data could be without number; past this many the store starts anew.
const MOST: usize = 500;

impl Patterns {
    /// The parts of `text` that fit `pattern`, from left to right.
    ///
    /// # Errors
    /// Why the pattern is no I-Regexp.
    pub fn find_all(&self, pattern: &str, text: &str) -> Result<Vec<Range<usize>>, String> {
        // What fits is asked first, so that the pattern is compiled and kept.
        if !self.fits(pattern, text, false) {
            return match compile(pattern, false) {
                Ok(_) => Ok(Vec::new()),
                Err(NotIRegexp(why)) => Err(why),
            };
        }
        let compiled = self.compiled.borrow();
        let regex = compiled.get(&(pattern.to_owned(), false)).and_then(Option::as_ref);
        let found = regex.map(|regex| regex.find_iter(text).map(|found| found.range()).collect());
        Ok(found.unwrap_or_default())
    }

    /// Whether the whole of `text`, or some part of it, fits `pattern`.
    pub fn fits(&self, pattern: &str, text: &str, whole: bool) -> bool {
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
