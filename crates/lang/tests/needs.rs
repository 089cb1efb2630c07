//! A rule gives and tells the same, whether its records are read whole or only as far as it can see.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

use kyanite_formats::json::{self, Reader, ReaderOptions, Style};
use kyanite_lang::{Arguments, Flow, Grain, Plan, RuleText, Runner, Session, Syntax, compile};
use kyanite_tree::{Arena, locate};
use proptest::prelude::*;

const RULES: [&str; 33] = [
    "$[*].a",
    "$[*].a.b",
    "$[*].list[0].b",
    "$[*].list[-1:].b",
    "$[*].*.b",
    "$[*]['a','b']",
    "$[*].list[?@.b > 1].a",
    "$[*].list[?@.b].*",
    "$[*].a..b",
    "$[?@.a.b == 1].list[*].b",
    "$[?@.a]",
    "$[?count(@.list[*]) > 1].a",
    "$[?length(@.a) > 0].b",
    "for r in $[*] return r.a",
    "for r in $[*] return {r.a.b, x: r.list[*].b}",
    "for r in $[*] where exists(r.a.b) return r.b",
    "for r in $[*] where r.a == 1 || r.b == 'x' return 1",
    "for r in $[*] let s = r.a let t = s.b where present(t) return [t, s.a ?? 0]",
    "for r in $[*] for l in r.list return l.b",
    "for r in $[*] for l in r.list[*] for m in l return m",
    "for r in $[*] for l at i in r.list[*] return {i, l.a}",
    "for r in $[*] return for l in r.list[*] order by l.b return l.a",
    "for r in $[*] return sum(for l in r.list[*] where l.b > 0 return l.b)",
    "for r in $[*] return if exists(r.a) then r.a.b else r.list[0]",
    "for r in $[*] return case r.b when 'x' then r.a when r.list[0].b then 2 else 3 end",
    "for r in $[*] return f\"{r.b ?? '-'} {r.a.b ?? '-'}\"",
    "for r in $[*] let k = 'b' return r.a[(k)]",
    "def f(x) = x.b\nfor r in $[*] return f(r.a)",
    "for r in $[*] return {...r.a, n: (r.list[*].b)[0]}",
    "count($[*].list[*])",
    "sum($[?@.b != 'x'].a)",
    "{most: max(for r in $[*] where exists(r.a.b) return r.a.b)}",
    "for r in $[*] return let l = r.list return l[*].b",
];

/// What a run over records gives: each result with its path, and the failure that ended it.
fn results(
    plan: &Plan,
    text: &str,
    needed_only: bool,
) -> (Vec<(String, Option<String>)>, Option<String>) {
    let arena = Arena::new();
    let needs = plan.needs().unwrap();
    let mut reader = Reader::new(text, &arena, ReaderOptions::default());
    if needed_only {
        reader = reader.with_needs(&needs);
    }
    let arguments = Arguments::read(plan, &[], &arena).unwrap();
    let mut session = Session::new(plan);
    let (names, mut state) = Runner::new(plan, &arguments, None, &arena, &mut session)
        .unwrap()
        .begin_records(Grain::Items)
        .unwrap();
    let mut runner = Runner::for_batch(plan, Grain::Items, names, &arena, &mut session);
    let (mut results, mut index) = (Vec::new(), 0);
    while let Some(record) = reader.next_value().unwrap() {
        let ran = runner.record(&mut state, index, record, &mut |value| {
            let mut written = Vec::new();
            json::write(value.unwrap(), Style::Compact, &mut written);
            let path = locate(record, value.unwrap().origin()).map(|path| path.to_string());
            results.push((String::from_utf8(written).unwrap(), path));
            Flow::Continue(())
        });
        index += 1;
        if let Err(failure) = ran {
            let place = locate(record, failure.origin).map(|place| place.readable());
            return (results, Some(format!("{} {place:?}", failure.message)));
        }
    }
    let mut ended = None;
    let finished = runner.end_records(&state, index, &mut |value| {
        ended = value.map(|value| {
            let mut written = Vec::new();
            json::write(value, Style::Compact, &mut written);
            String::from_utf8(written).unwrap()
        });
        Flow::Continue(())
    });
    (results, finished.err().map(|failure| failure.message).or(ended))
}

fn value() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("1".to_owned()),
        Just("2.5".to_owned()),
        Just("\"x\"".to_owned()),
        Just("null".to_owned()),
        Just("\"\\u00e9\"".to_owned()),
    ];
    leaf.prop_recursive(3, 12, 4, |inner| {
        let name = prop_oneof![Just("a"), Just("b"), Just("list"), Just("other")];
        let member = (name, inner.clone()).prop_map(|(name, value)| format!("\"{name}\":{value}"));
        prop_oneof![
            proptest::collection::vec(inner, 0..4)
                .prop_map(|items| format!("[{}]", items.join(","))),
            proptest::collection::vec(member, 0..5)
                .prop_map(|members| format!("{{{}}}", members.join(","))),
        ]
    })
}

proptest! {
    #[test]
    fn what_is_not_needed_is_not_missed(records in proptest::collection::vec(value(), 1..5)) {
        let text = records.join("\n");
        for rule in RULES {
            let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
            prop_assert_eq!(results(&plan, &text, true), results(&plan, &text, false), "{}", rule);
        }
    }
}

#[test]
fn rules_that_keep_the_whole_list_have_no_needs() {
    for rule in [
        "$",
        "count($[*]) + count($[*].a)",
        "for r in $[*] order by r.a return r",
        "$..a",
        "[$[*].a]",
        "true && count($[*]) > 1",
        "median($[*])",
    ] {
        assert_eq!(
            compile(RuleText::new("rule", rule), Syntax::Rule).unwrap().needs(),
            None,
            "{rule}"
        );
    }
}
