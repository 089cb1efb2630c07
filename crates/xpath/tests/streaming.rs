//! What is known of an expression that is evaluated for one element after another.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_xpath::{Expression, Namespaces, Version};

/// What is needed of the elements that an expression is evaluated for, as paths; of all the path is empty.
fn needed(expression: &str) -> Vec<String> {
    let compiled = Expression::compile(expression, Version::V31, Namespaces::new(), &[]).unwrap();
    let streamed = compiled.streamed(&[("m".to_owned(), "urn:m".to_owned())], &[]);
    let streamed = streamed.unwrap_or_else(|| panic!("{expression} needs the document"));
    streamed.expression.record_projection().paths()
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

#[test]
fn what_needs_the_document() {
    let aside = "an axis in it leads above or beside the element";
    let content = "the content of an element around it is looked at";
    for (expression, reason) in [
        ("//b[c]", None),
        ("//b[../@n = 1]", None),
        ("//b[ancestor::a/@n]/c/@m", None),
        ("//b[ancestor::a[@n = 1][2]]", None),
        ("//b[ancestor::*[last()]/@n = 1]", None),
        ("//b[ancestor::*[position() > 1]/@n = 1]", None),
        ("//b[count(ancestor::*) = 2 and name(..) = 'a']", None),
        ("//b[starts-with(../@n, 'x') or substring(../../@m, 2) = 'y']", None),
        ("//b[c[../../@n = 1]]", None),
        ("//b[(../@n, @n) = 1]", None),
        ("//b/(../@n || c)", None),
        ("//b/(if (../@n) then c else 'x')", None),
        // What several elements lead to is a result once.
        ("//b/../@n", Some(aside)),
        ("//b/(../@n)", Some(aside)),
        ("//b/head(../@n)", Some(aside)),
        ("count(//b/..)", Some(aside)),
        ("//b[some $x in ../@n satisfies $x = 1]", Some(aside)),
        ("//b[following-sibling::b]", Some(aside)),
        ("//b[preceding::c]", Some(aside)),
        ("//b[../c]", Some(content)),
        ("//b[.. = 'x']", Some(content)),
        ("//b[ancestor::a[. = 1]]", Some(content)),
        ("//b[ancestor::a[string() = 'x']]", Some(content)),
        ("//b[ancestor::a[c]]", Some(content)),
        ("//b[deep-equal(.., c)]", Some(content)),
        ("//b[string-length(..) = 1]", Some(content)),
        ("//b[ancestor::a[has-children()]]", Some(content)),
        ("//b[c is /a/b]", Some("a path in it begins at the document")),
        ("//b[path() = '/a']", Some("a function in it looks outside of the element")),
        ("//b[exists(id('x'))]", Some("a function in it looks outside of the element")),
        ("//b[2]", Some("it has no step by name to elements below the root")),
        ("/a/b[2]", Some("a predicate asks for the place of an element")),
        ("//b/(position())", Some("a step asks for the place of an item")),
    ] {
        let compiled = Expression::compile(expression, Version::V31, Namespaces::new(), &[]);
        assert_eq!(compiled.unwrap().needs_document(), reason, "{expression}");
    }
}
