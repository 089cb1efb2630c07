//! RFC 9535, example by example and rule by rule: `tests/data/rfc9535.json`.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

use kyanite_formats::json::{self, ReaderOptions, Style};
use kyanite_lang::{Arguments, Flow, RuleText, Runner, Session, Syntax, compile};
use kyanite_tree::{Arena, locate};
use serde_json::Value;

const TABLE: &str = include_str!("../../../tests/data/rfc9535.json");

fn table() -> Value {
    serde_json::from_str(TABLE).unwrap()
}

/// The text of a document of the table, its members in the order they were written.
fn document(name: &str) -> String {
    let arena = Arena::new();
    let (table, _) = json::document(TABLE, &arena, ReaderOptions::default()).unwrap();
    let document = table.member("documents").and_then(|documents| documents.member(name));
    let mut text = Vec::new();
    json::write(document.unwrap(), Style::Compact, &mut text);
    String::from_utf8(text).unwrap()
}

/// The values that `path` selects and where they are.
fn select(path: &str, syntax: Syntax, document: &str) -> Result<(Vec<Value>, Vec<String>), String> {
    let plan = compile(RuleText::new("path", path), syntax).map_err(|(_, findings)| {
        findings.iter().map(|f| f.message().to_owned()).collect::<String>()
    })?;
    let arena = Arena::new();
    let (root, _) = json::document(document, &arena, ReaderOptions::default()).unwrap();
    let arguments = Arguments::read(&plan, &[], &arena).unwrap();
    let mut session = Session::new(&plan);
    let mut runner = Runner::new(&plan, &arguments, Some(root), &arena, &mut session).unwrap();
    let (mut values, mut paths) = (Vec::new(), Vec::new());
    let _ = runner
        .document(&mut |node| {
            if let Some(node) = node {
                let mut text = Vec::new();
                json::write(node, Style::Compact, &mut text);
                values.push(serde_json::from_slice(&text).unwrap());
                paths.push(locate(root, node.origin()).unwrap().to_string());
            }
            Flow::Continue(())
        })
        .map_err(|failure| failure.message().to_owned())?;
    Ok((values, paths))
}

#[test]
fn valid_paths_select_what_the_rfc_says_in_both_syntaxes() {
    let table = table();
    for case in table["valid"].as_array().unwrap() {
        let path = case["path"].as_str().unwrap();
        let document = document(case["document"].as_str().unwrap());
        for syntax in [Syntax::JsonPath, Syntax::Rule] {
            let (values, paths) =
                select(path, syntax, &document).unwrap_or_else(|why| panic!("{path}: {why}"));
            assert_eq!(Value::from(values), case["values"], "{path} as {syntax:?}");
            if let Some(expected) = case.get("paths") {
                assert_eq!(Value::from(paths), *expected, "{path} as {syntax:?}");
            }
        }
    }
}

#[test]
fn whatever_is_not_in_the_grammar_or_not_well_typed_is_refused() {
    let table = table();
    for case in table["invalid"].as_array().unwrap() {
        let path = case["path"].as_str().unwrap();
        assert!(select(path, Syntax::JsonPath, "{}").is_err(), "{path}: {}", case["why"]);
    }
}
