//! Expressions over documents, with results as text.

#![allow(dead_code, reason = "each test uses a part")]

use std::cell::RefCell;

use kyanite_tree::Arena;
use kyanite_xpath::{
    Context, Coverage, Expression, Item, Namespaces, Sequence, Store, Version, document,
};

/// The axes between the nodes of a tree (XPath 3.1 section 3.3.2.1), attributes and namespaces left out.
pub const AXES: [&str; 11] = [
    "self",
    "child",
    "descendant",
    "descendant-or-self",
    "parent",
    "ancestor",
    "ancestor-or-self",
    "following-sibling",
    "preceding-sibling",
    "following",
    "preceding",
];

/// What an expression gives for a document of XML: nodes as their paths, other values as text, `, ` between them; for an error
/// its code.
pub fn evaluate(version: Version, expression: &str, xml: &str) -> String {
    let compiled = match Expression::compile(expression, version, Namespaces::new(), &[]) {
        Ok(compiled) => compiled,
        Err(error) => return error.code_word().to_owned(),
    };
    let arena = Arena::new();
    let store = Store::new(&arena);
    let root = document(xml, &store).unwrap();
    let coverage = RefCell::new(Coverage::new(&compiled));
    let context =
        Context { now: "2026-06-01T07:00:00Z".parse().ok(), ..Context::of(Item::Node(root)) };
    let result = compiled.evaluate(&context, &store, &coverage);
    match result {
        Ok(found) => shown(&found),
        Err(error) => error.code_word().to_owned(),
    }
}

/// A sequence as text.
pub fn shown(found: &Sequence<'_>) -> String {
    let texts: Vec<String> = found.items().iter().map(item).collect();
    texts.join(", ")
}

fn sequence(value: &Sequence<'_>) -> String {
    match value.items() {
        [one] => item(one),
        _ => format!("({})", shown(value)),
    }
}

fn item(item: &Item<'_>) -> String {
    if let Some(entries) = item.entries() {
        let entries: Vec<String> =
            entries.iter().map(|(key, value)| format!("{key}:{}", sequence(value))).collect();
        return format!("map{{{}}}", entries.join(","));
    }
    if let Some(members) = item.members() {
        let members: Vec<String> = members.iter().map(sequence).collect();
        return format!("[{}]", members.join(","));
    }
    match item {
        Item::Node(node) => match node.location().to_string() {
            path if path == "$" => "/".into(),
            path => path,
        },
        other => other.as_atomic().map_or_else(|| "function".into(), |atomic| atomic.to_string()),
    }
}

/// Checks a table of sections, expressions and what they give.
pub fn check(version: Version, xml: &str, cases: &[(&str, &str, &str)]) {
    // Expressions may nest deeper than the stack of a test's thread.
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(STACK);
        let checked = thread.spawn_scoped(scope, || check_here(version, xml, cases)).unwrap();
        checked.join().unwrap();
    });
}

/// The stack that the program gives to evaluations.
const STACK: usize = 64 << 20;

fn check_here(version: Version, xml: &str, cases: &[(&str, &str, &str)]) {
    let mut wrong = Vec::new();
    for (section, expression, wanted) in cases {
        let found = evaluate(version, expression, xml);
        if found != *wanted {
            wrong.push(format!("{section}: {expression}\n   gives {found}\n  wanted {wanted}"));
        }
    }
    assert!(wrong.is_empty(), "{} of {}\n{}", wrong.len(), cases.len(), wrong.join("\n"));
}
