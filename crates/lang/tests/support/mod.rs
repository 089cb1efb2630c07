//! Rules run over JSON, for tests that hold them against models.
#![allow(dead_code, reason = "each test uses a part")]

use std::cmp::Ordering;

use kyanite_formats::json::{self, ReaderOptions, Style};
use kyanite_lang::{Arguments, Flow, Plan, Runner, Session};
use kyanite_tree::{Arena, locate};
use serde_json::Value as Json;

/// What a rule gives for a document: each result, with its normalized path if it stands in the document; or why it failed.
pub fn results(
    plan: &Plan,
    document: &Json,
    options: ReaderOptions,
) -> Result<Vec<(Option<String>, Json)>, String> {
    let (arena, text) = (Arena::new(), document.to_string());
    let (root, _) = json::document(&text, &arena, options).unwrap();
    let arguments = Arguments::read(plan, &[], &arena).unwrap();
    let mut session = Session::new(plan);
    let mut runner = Runner::new(plan, &arguments, Some(root), &arena, &mut session).unwrap();
    let mut results = Vec::new();
    let ran = runner.document(&mut |value| {
        results.extend(value.map(|value| {
            let mut out = Vec::new();
            json::write(value, Style::Compact, &mut out);
            let path = locate(root, value.origin()).map(|path| path.to_string());
            (path, serde_json::from_slice(&out).unwrap())
        }));
        Flow::Continue(())
    });
    ran.map(|_| results).map_err(|error| error.message().to_owned())
}

/// Comparisons by RFC 9535 section 2.3.5.2.2; None is Nothing.
pub fn compares(operator: &str, a: Option<&Json>, b: Option<&Json>) -> bool {
    let is_less = |a: Option<&Json>, b: Option<&Json>| match (a, b) {
        (Some(Json::Number(a)), Some(Json::Number(b))) => {
            a.as_f64().partial_cmp(&b.as_f64()) == Some(Ordering::Less)
        }
        (Some(Json::String(a)), Some(Json::String(b))) => a < b,
        _ => false,
    };
    match operator {
        "==" => a == b,
        "!=" => a != b,
        "<" => is_less(a, b),
        ">" => is_less(b, a),
        "<=" => is_less(a, b) || a == b,
        _ => is_less(b, a) || a == b,
    }
}
