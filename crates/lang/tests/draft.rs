//! Drafted rules: what they say, and that they give what was wanted.
#![allow(clippy::unwrap_used, reason = "tests say what is wrong by panicking")]

use std::ops::ControlFlow;

use kyanite_formats::json;
use kyanite_lang::{Arguments, ResultShape, RuleText, Runner, Session, Syntax, compile, draft};
use kyanite_tree::{Arena, Value};
use proptest::prelude::*;

fn read<'a>(text: &'a str, arena: &'a Arena) -> Value<'a> {
    json::document(text, arena, json::ReaderOptions::default()).unwrap().0
}

/// What a rule gives for an input, as JSON.
fn run(rule: &str, input: Value<'_>, arena: &Arena) -> String {
    let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
    let arguments = Arguments::read(&plan, &[], arena).unwrap();
    let mut session = Session::new(&plan);
    let mut items = Vec::new();
    let mut runner = Runner::new(&plan, &arguments, Some(input), arena, &mut session).unwrap();
    let mut take = |value: Option<Value<'_>>| {
        let mut out = Vec::new();
        json::write(value.unwrap_or(Value::NULL), json::Style::Compact, &mut out);
        items.push(String::from_utf8(out).unwrap());
        ControlFlow::Continue(())
    };
    let _ = runner.document(&mut take).unwrap();
    match plan.result_shape() {
        ResultShape::Items => format!("[{}]", items.join(",")),
        ResultShape::Single => items.concat(),
    }
}

#[test]
fn drafts_give_what_is_wanted() {
    let ports = r#"{"as_of": "2026-05-01", "ports": [
        {"code": "NES", "name": "Ness", "depth": "7", "berths": [{"no": 1, "kind": "ramp"}, {"no": 2, "kind": "quay"}]},
        {"code": "HLM", "name": "Holm", "depth": "3", "berths": [{"no": 1, "kind": "quay"}]}]}"#;
    for (wanted, lines) in [
        (r#""2026-05-01""#, &["$.as_of"][..]),
        (r#"["NES","HLM"]"#, &["$.ports[*].code"]),
        (
            r#"[{"name":"Ness","depth":7},{"name":"Holm","depth":3}]"#,
            &["for port in $.ports[*]", "  port.name,", "  depth: number(port.depth),"],
        ),
        (
            r#"[{"port":"NES","berth":1,"on":"2026-05-01"},{"port":"NES","berth":2,"on":"2026-05-01"},{"port":"HLM","berth":1,"on":"2026-05-01"}]"#,
            &["for berth in port.berths[*]", "  berth: berth.no,", "  on: $.as_of,"],
        ),
        (
            r#"[{"id":"NES","berths":[{"type":"ramp"},{"type":"quay"}]},{"id":"HLM","berths":[{"type":"quay"}]}]"#,
            &["  id: port.code,", "type: berth.kind"],
        ),
        (r#"{"place":{"kinds":["ramp","quay","quay"]}}"#, &["kinds: $.ports[*].berths[*].kind"]),
        (r#"[{"a b":"Ness"},{"a b":"Holm"}]"#, &["\"a b\": port.name"]),
    ] {
        let arena = Arena::new();
        let (input, output) = (read(ports, &arena), read(wanted, &arena));
        let rule = draft(input, output);
        for line in lines {
            assert!(rule.contains(line), "{line} is not in\n{rule}");
        }
        assert_eq!(run(&rule, input, &arena), wanted, "{rule}");
    }
}

#[test]
fn what_is_not_explained_is_said() {
    let input = r#"[{"id": 1, "v": "a"}, {"id": 2, "v": "b"}, {"id": 3, "v": "c"}]"#;
    for (wanted, lines) in [
        (
            r#"[{"id": 3, "v": "C", "w": 9}, {"id": 1, "v": "A", "w": 9}]"#,
            &[
                "# the sample has 3 of these, and 2 are wanted: add where, first or group by",
                "  record.id,",
                "  record.v,  # by name only: the sample wants \"C\"",
                "  w: needed(null, \"w is not drafted\"),  # the sample wants 9",
            ][..],
        ),
        (
            "{\"total\": 6}",
            &["  total: needed(null, \"total is not drafted\"),  # the sample wants 6"],
        ),
    ] {
        let arena = Arena::new();
        let rule = draft(read(input, &arena), read(wanted, &arena));
        for line in lines {
            assert!(rule.lines().any(|found| found == *line), "{line} is not in\n{rule}");
        }
    }
}

/// Some small JSON text.
fn small_json() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("null".to_owned()),
        "[0-3]".prop_map(|n| n),
        "[a-c]".prop_map(|t| format!("\"{t}\"")),
        Just("\"for\"".to_owned()),
    ];
    leaf.prop_recursive(3, 24, 3, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..4)
                .prop_map(|v| format!("[{}]", v.join(","))),
            proptest::collection::btree_map("(id|for|a b|@x|it's|#text)", inner, 0..4).prop_map(
                |m| {
                    let members = m.iter().map(|(name, value)| format!("\"{name}\":{value}"));
                    format!("{{{}}}", members.collect::<Vec<_>>().join(","))
                }
            ),
        ]
    })
}

proptest! {
    #[test]
    fn any_draft_is_a_rule(input in small_json(), wanted in small_json()) {
        let arena = Arena::new();
        let rule = draft(read(&input, &arena), read(&wanted, &arena));
        let compiled = compile(RuleText::new("rule", rule.clone()), Syntax::Rule);
        prop_assert!(compiled.is_ok(), "{rule}: {:?}", compiled.err());
    }

    #[test]
    fn the_same_is_drafted_as_it_is(input in small_json()) {
        let arena = Arena::new();
        prop_assert_eq!(draft(read(&input, &arena), read(&input, &arena)), "$\n");
    }
}
