//! What every function of the table says of arguments that it does not take.
#![allow(clippy::unwrap_used, reason = "tests say what is wrong by panicking")]

use std::ops::ControlFlow;

use kyanite_formats::json;
use kyanite_lang::functions::{Signature, all};
use kyanite_lang::{Arguments, RuleText, Runner, Session, Syntax, compile};
use kyanite_tree::{Arena, Kind};

const INPUT: &str =
    r#"{"null": null, "boolean": true, "number": 7, "text": "x", "list": [1], "map": {"a": 1}}"#;

const KINDS: [Kind; 6] =
    [Kind::Null, Kind::Boolean, Kind::Number, Kind::Text, Kind::List, Kind::Map];

/// What is wrong with a rule, before it runs or as it runs.
fn wrong(rule: &str) -> Option<String> {
    let plan = match compile(RuleText::new("rule", rule), Syntax::Rule) {
        Ok(plan) => plan,
        Err((_, findings)) => {
            return Some(findings.iter().map(|finding| finding.message().to_owned()).collect());
        }
    };
    let arena = Arena::new();
    let (root, _) = json::document(INPUT, &arena, json::ReaderOptions::default()).unwrap();
    let arguments = Arguments::read(&plan, &[], &arena).unwrap();
    let mut session = Session::new(&plan);
    let mut runner = Runner::new(&plan, &arguments, Some(root), &arena, &mut session).unwrap();
    let ran = runner.document(&mut |_| ControlFlow::Continue(()));
    ran.err().map(|failure| failure.message().to_owned())
}

/// An argument of a kind, of which nothing is known before the rule runs.
fn argument(kind: Kind) -> String {
    format!("$.{}", kind.word())
}

/// The arguments of a call, of which that at `position` has this kind.
fn call(signature: &Signature, position: usize, kind: Kind) -> String {
    let count = signature.required.max(position + 1);
    let arguments: Vec<String> = (0..count)
        .map(|at| {
            let takes = signature.parameter(at).unwrap().takes;
            let fits = KINDS.into_iter().rev().find(|kind| takes.accepts(Some(*kind)));
            argument(if at == position { kind } else { fits.unwrap_or(Kind::Text) })
        })
        .collect();
    format!("{}({})", signature.name, arguments.join(", "))
}

#[test]
fn a_value_of_the_wrong_kind_is_named_with_the_function() {
    let mut tried = 0;
    for signature in all() {
        let counts_nodes = signature.parameters.iter().any(|parameter| parameter.takes.nodes());
        for (position, parameter) in signature.parameters.iter().enumerate() {
            if counts_nodes {
                continue;
            }
            for kind in KINDS.into_iter().filter(|kind| !parameter.takes.accepts(Some(*kind))) {
                let call = call(signature, position, kind);
                let message = wrong(&call).unwrap_or_default();
                assert!(message.contains(&format!("{}()", signature.name)), "{call}: {message:?}");
                tried += 1;
            }
        }
    }
    assert!(tried > 200, "only {tried}");
}

#[test]
fn a_wrong_number_of_arguments_is_refused_before_the_rule_runs() {
    for signature in all() {
        let with =
            |count: usize| format!("{}({})", signature.name, vec!["$.list"; count].join(", "));
        let mut wrong_counts = Vec::new();
        wrong_counts.extend(signature.required.checked_sub(1));
        wrong_counts.extend((!signature.repeats).then_some(signature.parameters.len() + 1));
        for count in wrong_counts {
            let message = wrong(&with(count)).unwrap_or_default();
            assert!(message.contains(signature.name), "{}: {message:?}", with(count));
        }
    }
}
