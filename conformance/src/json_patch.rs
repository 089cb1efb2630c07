//! JSON Patch cases: a document, a patch, and what it makes of it, or that it is refused.

use std::path::Path;

use kyanite_change::{Numbers, Patch, compare, json_patch};
use kyanite_formats::json::{ReaderOptions, document};
use kyanite_tree::{Arena, Value, equal};
use serde::Deserialize;
use serde_json::value::RawValue;

use crate::Outcome;

#[derive(Deserialize)]
struct Case<'t> {
    #[serde(default)]
    comment: Option<String>,
    #[serde(borrow)]
    doc: &'t RawValue,
    #[serde(borrow)]
    patch: &'t RawValue,
    #[serde(borrow, default)]
    expected: Option<&'t RawValue>,
    #[serde(default)]
    error: Option<String>,
    #[serde(default)]
    disabled: bool,
}

/// Runs the suite in `file`.
pub fn run(file: &Path) -> Result<Outcome, String> {
    let text = std::fs::read_to_string(file).map_err(|error| error.to_string())?;
    let cases: Vec<Case<'_>> = serde_json::from_str(&text).map_err(|error| error.to_string())?;
    let mut outcome = Outcome { passed: 0, cases: 0, failures: Vec::new() };
    for case in cases.iter().filter(|case| !case.disabled) {
        outcome.cases += 1;
        match passes(case) {
            Ok(()) => outcome.passed += 1,
            Err(why) => {
                let name = case.comment.as_deref().unwrap_or_else(|| case.patch.get());
                outcome.failures.push(format!("{name}: {why}"));
            }
        }
    }
    Ok(outcome)
}

fn passes(case: &Case<'_>) -> Result<(), String> {
    let arena = Arena::new();
    let read = |raw: &RawValue| -> Result<Value<'_>, String> {
        let text = arena.text(raw.get());
        let read = document(text, &arena, ReaderOptions::default());
        read.map(|(value, _)| value).map_err(|_| "it is no JSON".to_owned())
    };
    let (of, patch) = (read(case.doc)?, read(case.patch)?);
    let applied = Patch::read(patch).and_then(|patch| patch.apply(of, &arena));
    match (applied, case.expected, &case.error) {
        (Ok(_), _, Some(error)) => Err(format!("applied, and is to be refused: {error}")),
        (Err(found), _, None) => Err(found.message),
        (Ok(made), Some(expected), None) => {
            let expected = read(expected)?;
            if !equal(made, expected) {
                return Err("another document is made".to_owned());
            }
            // What differs is a patch as well, there and back.
            let comparison =
                kyanite_change::Comparison { numbers: Numbers::Spelling, ..Default::default() };
            for (old, new) in [(of, made), (made, of)] {
                let patch = json_patch(&compare(old, new, &comparison), true, &arena);
                let again = Patch::read(patch).and_then(|patch| patch.apply(old, &arena));
                if !again.is_ok_and(|again| equal(again, new)) {
                    return Err("the patch of the difference makes another document".to_owned());
                }
            }
            Ok(())
        }
        (Ok(_) | Err(_), _, _) => Ok(()),
    }
}
