//! What is known of an expression that is evaluated for one element after another.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_xpath::{Expression, Namespaces, Version};

/// What is needed of the elements that an expression is evaluated for, as paths; of all the path is empty.
fn needed(expression: &str) -> Vec<String> {
    let compiled = Expression::compile(expression, Version::V31, Namespaces::new(), &[]).unwrap();
    let streamed = compiled.streamed(&[("m".to_owned(), "urn:m".to_owned())], &[]);
    let streamed = streamed.unwrap_or_else(|| panic!("{expression} needs the document"));
    streamed.expression.record_needs().paths()
}

#[test]
fn what_is_needed_of_records() {
    for (expression, expected) in [
        ("/a/b[c/d > 1]/e", &["c.d", "e"][..]),
        ("/a/b[c/d > 1]/@e", &["c.d"]),
        ("/a/b[@n = 1]/c[@m]/d", &["c.d"]),
        ("/a/m:b[m:c = *:c]/Q{urn:x}d", &["c", "d"]),
        ("count(/a/b[c = 1])", &["c"]),
        ("count(/a/b[c = 1]/d)", &["c"]),
        ("/a/b[c]/@n", &[]),
        ("/a/b[not(c/d) and exists(e) or empty(f)]/@n", &[]),
        ("/a/b[count(c) = 2]/@n", &[]),
        ("/a/b[if (c) then d = 1 else -e > 1]/@n", &["d", "e"]),
        ("/a/b[sum((c, d)) > number(e) + 1][f || 'x' = 'yx']/@n", &["c", "d", "e", "f"]),
        ("/a/b[c cast as xs:date > xs:date(d)]/@n", &["c", "d"]),
        ("/a/b[c[. = 1]]/@n", &["c"]),
        ("/a/b[c[@x = 2]/d = 1]/c", &["c"]),
        // All of it where it cannot be told.
        ("/a/b[c = 1]", &[""]),
        ("//b[c = 1]/d", &[""]),
        ("/a/b[.//c = 1]/@n", &[""]),
        ("/a/b[string() = 'x']/@n", &[""]),
        ("/a/b[. = 'x']/@n", &[""]),
        ("/a/b[* = 1]/@n", &[""]),
        ("/a/b[c/text() = 1]/@n", &["c"]),
        ("/a/b[some $x in c satisfies $x = 1]/@n", &[""]),
        ("/a/b[c ! string() = 'x']/@n", &[""]),
        ("/a/b[exists(for-each(c, function($x) { $x }))]/@n", &[""]),
        ("/a/b/(c, d)", &[""]),
        ("/a/b[x]/c/(d || e)", &["c"]),
    ] {
        assert_eq!(needed(expression), expected, "{expression}");
    }
}
