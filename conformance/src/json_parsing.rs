//! JSON syntax cases: accepted, refused, or either without a crash.

use std::panic::catch_unwind;
use std::path::Path;

use kyanite_formats::json::{ReaderOptions, document, is_one_value};
use kyanite_tree::Arena;
use serde::Deserialize;

use crate::Outcome;

#[derive(Deserialize)]
struct Case {
    name: String,
    input: String,
    expect: Expect,
}

#[derive(Deserialize, Clone, Copy)]
#[serde(rename_all = "lowercase")]
enum Expect {
    Accept,
    Reject,
    Either,
}

/// Runs the suite in `file`.
pub fn run(file: &Path) -> Result<Outcome, String> {
    let text = std::fs::read(file).map_err(|error| error.to_string())?;
    let cases: Vec<Case> = serde_json::from_slice(&text).map_err(|error| error.to_string())?;
    let failures: Vec<String> = cases.iter().filter_map(failure).collect();
    Ok(Outcome { passed: cases.len() - failures.len(), cases: cases.len(), failures })
}

/// What is wrong with a case, if anything is.
fn failure(case: &Case) -> Option<String> {
    let read = catch_unwind(|| {
        let arena = Arena::new();
        document(&case.input, &arena, ReaderOptions::default())
            .map(|_| ())
            .map_err(|error| error.message())
    });
    let name = &case.name;
    // Events check the same grammar.
    let events = catch_unwind(|| is_one_value(&case.input));
    match (case.expect, events) {
        (_, Err(_)) => return Some(format!("{name}: the reader of events panicked")),
        (Expect::Accept, Ok(false)) => return Some(format!("{name}: refused by events")),
        (Expect::Reject, Ok(true)) => return Some(format!("{name}: accepted by events")),
        _ => {}
    }
    match (case.expect, read) {
        (_, Err(_)) => Some(format!("{name}: the reader panicked")),
        (Expect::Accept, Ok(Err(why))) => Some(format!("{name}: refused, {why}")),
        (Expect::Reject, Ok(Ok(()))) => Some(format!("{name}: accepted")),
        _ => None,
    }
}
