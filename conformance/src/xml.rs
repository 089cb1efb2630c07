//! XML well-formedness cases of the W3C: accepted or refused; a repair accepts both, and comes to an end.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;

use kyanite_formats::xml::{self, Options};
use kyanite_tree::Arena;
use serde::Deserialize;

use crate::Outcome;

#[derive(Deserialize)]
struct Case {
    id: String,
    expect: Expect,
    namespaces: bool,
    about: String,
}

#[derive(Deserialize, Clone, Copy)]
#[serde(rename_all = "lowercase")]
enum Expect {
    Accept,
    Reject,
}

/// Runs the suite in `folder`.
pub fn run(folder: &Path) -> Result<Outcome, String> {
    let text = std::fs::read(folder.join("cases.json")).map_err(|error| error.to_string())?;
    let cases: Vec<Case> = serde_json::from_slice(&text).map_err(|error| error.to_string())?;
    let mut failures = Vec::new();
    for case in &cases {
        let file = folder.join(format!("{}.xml", case.id));
        let bytes = std::fs::read(&file).map_err(|error| format!("{}: {error}", file.display()))?;
        failures.extend(failure(case, &bytes));
    }
    Ok(Outcome { passed: cases.len() - failures.len(), cases: cases.len(), failures })
}

/// What is wrong with a case, if anything is.
fn failure(case: &Case, bytes: &[u8]) -> Option<String> {
    let options = Options { namespaces: case.namespaces, ..Options::default() };
    let strict = catch_unwind(AssertUnwindSafe(|| read(bytes, options)));
    let lenient =
        catch_unwind(AssertUnwindSafe(|| read(bytes, Options { lenient: true, ..options })));
    let name = &case.id;
    match (case.expect, strict, lenient) {
        (_, Err(_), _) | (_, _, Err(_)) => Some(format!("{name}: the reader panicked")),
        (Expect::Accept, Ok(Err(why)), _) => {
            Some(format!("{name}: refused, {why} ({})", case.about))
        }
        (Expect::Accept, _, Ok(Ok(repairs))) if repairs > 0 => Some(format!("{name}: repaired")),
        (Expect::Reject, Ok(Ok(_)), _) => Some(format!("{name}: accepted ({})", case.about)),
        _ => None,
    }
}

/// How many repairs a document took.
fn read(bytes: &[u8], options: Options) -> Result<usize, String> {
    let text = xml::decode(bytes).map_err(|error| error.message().to_owned())?;
    let arena = Arena::new();
    let document =
        xml::document(&text, &arena, options).map_err(|error| error.message().to_owned())?;
    Ok(document.repairs.len())
}
