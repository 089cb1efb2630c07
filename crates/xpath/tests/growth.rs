//! The work of an expression grows with the document, not with its square: counted in nodes that steps look at.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use std::cell::RefCell;
use std::fmt::Write;

use kyanite_tree::Arena;
use kyanite_xpath::{Context, Coverage, Expression, Item, Namespaces, Store, Version, document};

/// The nodes that are visited in a document of `sections` sections, flat or inside each other.
fn work(expression: &str, sections: usize, is_nested: bool) -> u64 {
    let mut text = String::from("<a>");
    for number in 0..sections {
        write!(text, "<a n='{number}'><b>{number}</b>").unwrap();
        if !is_nested {
            text.push_str("</a>");
        }
    }
    text.push_str(&"</a>".repeat(if is_nested { sections } else { 0 }));
    text.push_str("</a>");
    let expression = Expression::compile(expression, Version::V31, Namespaces::new(), &[]).unwrap();
    let arena = Arena::new();
    let store = Store::new(&arena);
    let root = document(&text, &store).unwrap();
    let coverage = RefCell::new(Coverage::new(&expression));
    expression.evaluate(&Context::of(Item::Node(root)), &store, &coverage).unwrap();
    coverage.into_inner().visited()
}

#[test]
fn twice_the_document_is_twice_the_work() {
    for expression in [
        "count(//a)",
        "count(//a//b)",
        "count(//a//a//b)",
        "count(//b/ancestor::a)",
        "count(//b/ancestor-or-self::*)",
        "count(//b/following::b)",
        "count(//b/preceding::b)",
        "count(//a/following-sibling::a)",
        "count(//a/preceding-sibling::a)",
        "count(//a/following-sibling::*[1])",
        "count(//a/preceding-sibling::*[1])",
        "count(//b/following::b[1])",
        "count(//b/preceding::b[1])",
        "count(//a[position() < 3])",
        "count(//a/b[last()])",
        "count(//b[. = 5]/..)",
        "count(//a | //b)",
    ] {
        for is_nested in [false, true] {
            let (small, large) =
                (work(expression, 200, is_nested), work(expression, 400, is_nested));
            assert!(large <= small * 9 / 4, "{expression} {is_nested}: {small} and then {large}");
        }
    }
}

#[test]
fn names_are_found_by_the_index() {
    assert!(work("count(//c)", 3_000, false) < 10);
    assert!(work("count(/a/a[2]//b)", 3_000, false) < 20);
}
