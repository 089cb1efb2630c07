//! YAML cases: refused, or the same events and the same values in the same order; and each document written and read back.
//!
//! The order of members is not held against the cases' JSON, which has one of them turned round, but against what is read
//! back.

use std::panic::catch_unwind;
use std::path::Path;

use kyanite_formats::yaml::{Event, Properties, ScalarStyle};
use kyanite_formats::{json, yaml};
use kyanite_tree::{Arena, Value, equal};
use serde::Deserialize;

use crate::Outcome;

#[derive(Deserialize)]
struct Case {
    id: String,
    name: String,
    yaml: String,
    json: Option<String>,
    tree: Option<String>,
    fail: bool,
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
    let why =
        catch_unwind(|| check(case)).unwrap_or_else(|_| Err("the reader panicked".into())).err()?;
    Some(format!("{} ({}): {why}", case.id, case.name))
}

fn check(case: &Case) -> Result<(), String> {
    let arena = Arena::new();
    if let (Some(tree), false) = (&case.tree, case.fail) {
        let events = events(&case.yaml)?;
        // Cases differ in how deep they indent.
        let wanted = tree.lines().map(|line| line.trim_start().to_owned());
        let wanted: Vec<String> = wanted.collect();
        if events != wanted {
            return Err(format!("parsed as\n{}\nnot\n{}", events.join("\n"), wanted.join("\n")));
        }
    }
    let read = yaml::documents(&case.yaml, &arena, yaml::Options::default());
    let documents = match (read, case.fail) {
        (Err(_), true) => return Ok(()),
        (Err(error), false) => return Err(format!("refused, {}", error.message())),
        (Ok(_), true) => return Err("accepted".into()),
        (Ok(read), false) => read.documents,
    };
    round_trip(&documents)?;
    let Some(json) = &case.json else { return Ok(()) };
    let mut reader = json::Reader::new(json, &arena, json::ReaderOptions::default());
    let mut expected = Vec::new();
    while let Some(value) = reader.next_value().map_err(|error| error.message())? {
        expected.push(value);
    }
    if documents.len() == expected.len()
        && documents.iter().zip(&expected).all(|(a, b)| equal(*a, *b))
    {
        return Ok(());
    }
    Err(format!("read as {}", documents.iter().map(|value| spelled(*value)).collect::<String>()))
}

/// The events of a text, in the notation of the cases.
fn events(text: &str) -> Result<Vec<String>, String> {
    let mut parser = yaml::Parser::new(text);
    let mut lines = vec!["+STR".to_owned()];
    while let Some((event, span)) = parser.next_event().map_err(|e| e.message().to_owned())? {
        if text.get(span.start..span.end).is_none() {
            return Err(format!("the span of {event:?} is no part of the text"));
        }
        lines.push(match event {
            Event::DocumentStart { explicit } => {
                format!("+DOC{}", if explicit { " ---" } else { "" })
            }
            Event::DocumentEnd { explicit } => {
                format!("-DOC{}", if explicit { " ..." } else { "" })
            }
            Event::SequenceStart { flow, properties } => {
                format!("+SEQ{}{}", if flow { " []" } else { "" }, before(&properties))
            }
            Event::SequenceEnd => "-SEQ".into(),
            Event::MappingStart { flow, properties } => {
                format!("+MAP{}{}", if flow { " {}" } else { "" }, before(&properties))
            }
            Event::MappingEnd => "-MAP".into(),
            Event::Alias(name) => format!("=ALI *{name}"),
            Event::Scalar { text, style, properties } => {
                let sign = match style {
                    ScalarStyle::Plain => ':',
                    ScalarStyle::SingleQuoted => '\'',
                    ScalarStyle::DoubleQuoted => '"',
                    ScalarStyle::Literal => '|',
                    ScalarStyle::Folded => '>',
                };
                format!("=VAL{} {sign}{}", before(&properties), escaped(&text))
            }
        });
    }
    lines.push("-STR".into());
    Ok(lines)
}

fn before(properties: &Properties<'_>) -> String {
    let anchor = properties.anchor().map(|name| format!(" &{name}")).unwrap_or_default();
    let tag = properties.tag().map(|tag| format!(" <{tag}>")).unwrap_or_default();
    anchor + &tag
}

/// The escapes of the notation.
fn escaped(text: &str) -> String {
    let mut out = String::new();
    for character in text.chars() {
        match character {
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            '\u{8}' => out.push_str("\\b"),
            other => out.push(other),
        }
    }
    out
}

/// What is written is read back the same.
fn round_trip(documents: &[Value<'_>]) -> Result<(), String> {
    for document in documents {
        let mut out = Vec::new();
        yaml::write(*document, 2, &mut out);
        let text = String::from_utf8_lossy(&out);
        let arena = Arena::new();
        let again = yaml::documents(&text, &arena, yaml::Options::default())
            .map_err(|error| format!("what was written is refused, {}: {text}", error.message()))?;
        match again.documents.as_slice() {
            [again] if same(*again, *document) => {}
            _ => return Err(format!("written as {text}")),
        }
    }
    Ok(())
}

/// Equal, members in the same order.
fn same(a: Value<'_>, b: Value<'_>) -> bool {
    let names = |value: Value<'_>| -> Vec<String> {
        let members = value.as_map().map(|map| map.members()).unwrap_or_default();
        members.iter().map(|member| member.name.to_owned()).collect()
    };
    equal(a, b) && names(a) == names(b)
}

fn spelled(value: Value<'_>) -> String {
    let mut out = Vec::new();
    json::write(value, json::Style::Compact, &mut out);
    String::from_utf8_lossy(&out).into_owned()
}
