//! What holds of every expression: it never panics, and one way of asking gives what another gives.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use std::cell::RefCell;

use kyanite_tree::{Arena, Node};
use kyanite_xpath::{
    Context, Coverage, Expression, Item, Namespaces, Sequence, Store, Version, document,
};
use proptest::prelude::*;
use support::AXES;

const DOCUMENT: &str = "<a x='1' xmlns:p='urn:p'><b y='2'>one<c/>two</b><!--n--><?i j?><p:b><b z='3'/></p:b><b/><c>4</c></a>";

/// Evaluates an expression over the document, and asks for what is to be said of it.
fn evaluate(version: Version, text: &str) {
    let Ok(expression) = Expression::compile(text, version, Namespaces::new(), &["v".to_owned()])
    else {
        return;
    };
    let arena = Arena::new();
    let store = Store::new(&arena);
    let root = document(DOCUMENT, &store).unwrap();
    let coverage = RefCell::new(Coverage::new(&expression));
    let variables = vec![Sequence::text("5")];
    let context = Context { variables, ..Context::of(Item::Node(root)) };
    let _ = expression.evaluate(&context, &store, &coverage);
    let _ = coverage.borrow().report(&expression);
    if let Some(streamed) = expression.streamed(&[("p".into(), "urn:p".into())], &["v".to_owned()])
    {
        assert!(!streamed.path.is_empty());
    }
}

/// The nodes that an expression selects, by their paths.
fn nodes(text: &str) -> Vec<String> {
    let expression = Expression::compile(text, Version::V31, Namespaces::new(), &[]).unwrap();
    let arena = Arena::new();
    let store = Store::new(&arena);
    let root = document(DOCUMENT, &store).unwrap();
    let coverage = RefCell::new(Coverage::new(&expression));
    let found = expression.evaluate(&Context::of(Item::Node(root)), &store, &coverage).unwrap();
    let path = |node: Node<'_>| format!("{} {}", node.id(), node.location());
    found.items().iter().filter_map(Item::as_node).map(path).collect()
}

const TESTS: [&str; 6] = ["node()", "*", "b", "text()", "p:b", "comment()"];

fn step() -> impl Strategy<Value = String> {
    let axis = prop_oneof![11 => prop::sample::select(&AXES[..]), 1 => Just("attribute")];
    (axis, prop::sample::select(&TESTS[..])).prop_map(|(axis, test)| format!("{axis}::{test}"))
}

proptest! {
    /// No expression of any shape panics or runs past its limits.
    #[test]
    fn no_expression_panics(text in r#"((/|//|\.|\.\.|@|\$v|a|b|p:b|\*|p:\*|\*:b|x|text\(\)|node\(\)|ancestor::|following-sibling::|preceding::|\[|\]|\(|\)|\[1\]|\[last\(\)\]|\[position\(\) < 3\]| = | < | eq | is | << | and | or | to | div | mod | idiv |\|| union | except | \+ | - | \* | \|\| | ! | => |, |1|0|-1|1e3|1.5|'a'|''|'2026-06-01'|for \$v in | return |let \$v := |some \$v in | satisfies |if \(| then | else |function\(\$v\) \{|\}|map \{|: |array \{|\?|\?\*|\?x|#1| instance of xs:integer| cast as xs:date\?| castable as xs:double|count\(|string\(|sum\(|not\(|concat\(|substring\(|number\(|xs:date\(|xs:dayTimeDuration\(|format-number\(|format-date\(|tokenize\(|replace\(|parse-json\(|parse-xml\(|serialize\(|sort\(|for-each\(|fold-left\(|deep-equal\(|distinct-values\(|path\(|json-to-xml\(|round\()){1,12}"#) {
        for version in [Version::V1, Version::V31] {
            evaluate(version, &text);
        }
    }

    /// Nor does any text.
    #[test]
    fn no_text_panics(text in "\\PC{0,40}") {
        evaluate(Version::V31, &text);
    }

    /// Steps at once find what they find from node to node, with predicates that ask for places as without.
    #[test]
    fn steps_together_as_one_by_one(first in step(), second in step(), third in step()) {
        let together = nodes(&format!("//node()/{first}/{second}/{third}"));
        let apart = nodes(&format!("//node()/{first}[position() > 0 or last() = 0]/{second}[position() > 0]/{third}[last() > 0]"));
        prop_assert_eq!(&together, &apart);
        let by_hand = nodes(&format!("(for $a in //node() return for $b in $a/{first} return for $c in $b/{second} return $c/{third}) | ()"));
        prop_assert_eq!(&together, &by_hand);
    }

    /// The first, and the last, of an axis are those of all.
    #[test]
    fn places_are_counted_along_the_axis(first in step(), place in 1usize..4) {
        let one = nodes(&format!("//b/{first}[{place}]"));
        let by_hand = nodes(&format!("(for $b in //b return $b/{first}[position() = {place}]) | ()"));
        prop_assert_eq!(one, by_hand);
        let last = nodes(&format!("//b/{first}[last()]"));
        let by_hand = nodes(&format!("(for $b in //b return $b/{first}[position() = last()]) | ()"));
        prop_assert_eq!(last, by_hand);
    }

    /// A pattern of XPath is translated or refused; no text makes the translator panic.
    #[test]
    fn no_pattern_panics(pattern in r"(\\[a-zA-Z0-9]|\[|\]|\^|-|a|b|\(|\)|\(\?:|\||\*|\+\?|\{1,2\}|\{|\}|\\p\{L\}|\\p\{IsGreek\}|\.|\$){0,10}") {
        let literal = pattern.replace('\'', "''");
        evaluate(Version::V31, &format!("matches('ab', '{literal}')"));
        evaluate(Version::V31, &format!("replace('ab', '{literal}', '$1')"));
    }
}
