//! A rule gives the same whether it sees records one by one or the whole list of them.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

use std::path::Path;

use kyanite_flow::{
    Counters, Destination, Events, Input, InputOptions, Job, Layout, Output, RunError, What, run,
};
use kyanite_formats::{Format, json};
use kyanite_lang::{RuleText, Syntax, compile};
use kyanite_tree::{Diagnostic, Severity};
use proptest::prelude::*;

/// What a run gave: the text it wrote, and the warnings it told.
type Given = Result<(String, Vec<Diagnostic>), RunError>;

/// Runs `rule` over a file into another one.
fn given(rule: &str, input: &Path, what: What, gather: bool) -> Given {
    let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
    let target = input.with_extension("out");
    let layout = Layout { style: json::Style::Indented(1), ..Layout::of(Format::Json) };
    let mut output = Output::open(Destination::File(target.clone()), layout)?;
    let (mut told, counters) = (Vec::new(), Counters::default());
    let mut tell = |problem: Diagnostic| {
        if problem.severity() == Severity::Warning {
            told.push(problem);
        }
    };
    let mut events = Events { tell: &mut tell, counters: &counters };
    let options = InputOptions::default();
    let job = Job { gather, what, ..Job::new(&plan, &options) };
    run(&job, &[Input::File(input.to_owned())], &mut output, &mut events)?;
    output.finish()?;
    Ok((std::fs::read_to_string(&target).unwrap(), told))
}

/// Rules that run by record, and what else they are asked.
const RULES: [&str; 49] = [
    "$[*]",
    "$[*].a",
    "$[*]..b",
    "$[?@.a].a",
    "$[?@.a > 1 && @.b != null]",
    "$[?match(@.b, 'x+')].b",
    "$[1:5:2]",
    "$[:2].a",
    "$[2]",
    "$[1].a",
    "for r in $[*] return r.a",
    "for r at i in $[*] where i > 0 && r.a == 1 return {i, r.b}",
    "for r in $[*] skip 1 first 2 return r",
    "for r in $[*] for x in r.list[*] skip 1 return x",
    "for r in $[?@.a] let n = length(r.list) where n > 1 return {n, ...r}",
    "let least = 1 for r in $[*] where r.a >= least return [r.a, r.b ?? 'none']",
    "for r in $[*].list[*] first 3 return r",
    "for r in $[*] group by a = r.a return {a, n: count(r[*]), b: sum(r[*].a)}",
    "for r in $[*] group by a = exists(r.a) return {a, r: r[*].b}",
    "for r in $[*] order by r.a return r",
    "for r in $[*] let a = r.a + 0 order by a descending first 1 return r[(r.b ?? 'a')]",
    "for r in $[*] carry n from 0 = n + (r.a ?? 1) return n",
    "for r in $[*] window 2 return r[*].a",
    "count($[*])",
    "count($[?@.a].list[*]) * 2",
    "sum($[*].a)",
    "avg($[?@.a > 1].a)",
    "round(avg($[*].a) ?? 0, 1)",
    "min($[*].b)",
    "max($[*].list[*])",
    "{n: count($[*].a), more: 1}",
    "[sum(for r in $[*] where r.a > 0 return r.a), 2]",
    "sum(for r at i in $[*] skip 1 first 2 return i)",
    "f\"{count($[*])} records\"",
    "max(for r in $[*] return r.a ?? 0) + 1",
    "let k = 2 return k * sum($[*].a)",
    "if sum($[*].a) > 3 then 'much' else 'little'",
    "$..b",
    "$..['list', 'a'][0]",
    "count($..b)",
    "for x in $..list where length(x) > 1 return x[-1]",
    "for b at i in $..b return {b, i}",
    "$..b[?@.b].b",
    "distinct($[*])",
    "distinct($[*].list[*])",
    "sort(distinct($[?@.b == 'x'].a))",
    "length(distinct(for r in $[*] where exists(r.b) return r.b))",
    "for r in $[*] group by b = r.b return {b, a: distinct(r[*].a), all: distinct(r[*].list[*])}",
    "for r in $[*] group by b = r.b return {b, n: length(distinct(r[?@.a > 1].a)) + count(r[*])}",
];

fn record() -> impl Strategy<Value = String> {
    let scalar = prop_oneof![
        Just("1".to_owned()),
        Just("2.50".to_owned()),
        Just("null".to_owned()),
        Just("true".to_owned()),
        Just("\"x\"".to_owned()),
        Just("\"x\\u00e9\\n\"".to_owned()),
        Just("{\"b\":[1,{\"b\":2}]}".to_owned()),
    ];
    let list = proptest::collection::vec(scalar.clone(), 0..4)
        .prop_map(|items| format!("[{}]", items.join(",")));
    let map = (scalar.clone(), scalar.clone(), list, 0..8u8).prop_map(|(a, b, list, which)| {
        let members = [("a", a, 1), ("b", b, 2), ("list", list, 4)];
        let kept = members.iter().filter(|(_, _, bit)| which & bit != 0);
        let kept: Vec<String> =
            kept.map(|(name, value, _)| format!("\"{name}\": {value}")).collect();
        format!("{{{}}}", kept.join(", "))
    });
    prop_oneof![8 => map, 1 => scalar]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn by_record_or_whole(records in proptest::collection::vec(record(), 0..7)) {
        let folder = tempfile::tempdir().unwrap();
        let (lines, list) = (folder.path().join("r.jsonl"), folder.path().join("r.json"));
        std::fs::write(&lines, records.join("\n")).unwrap();
        std::fs::write(&list, format!("[{}]", records.join(","))).unwrap();
        for rule in RULES {
            for what in [What::Values, What::Paths] {
                match (given(rule, &lines, what, false), given(rule, &list, what, false)) {
                    (Ok((by_record, _)), Ok((whole, _))) => prop_assert_eq!(by_record, whole, "{}", rule),
                    // The places differ, as one text has all on one line.
                    (Err(RunError::Rule(by_record)), Err(RunError::Rule(whole))) => {
                        prop_assert_eq!(by_record.message(), whole.message(), "{}", rule);
                        // An aggregate does not keep the record that its value came from.
                        if let path @ Some(_) = &by_record.places()[0].path {
                            prop_assert_eq!(path, &whole.places()[0].path, "{}", rule);
                        }
                    }
                    (Err(RunError::Command(_)), Err(RunError::Command(_))) => {}
                    (by_record, whole) => panic!("{rule}: {by_record:?} {whole:?}"),
                }
            }
        }
    }

    #[test]
    fn every_path_that_is_printed_selects_its_value(document in record()) {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("d.json");
        std::fs::write(&file, &document).unwrap();
        let (paths, _) = given("$..*", &file, What::Paths, false).unwrap();
        let (values, _) = given("$..*", &file, What::Values, false).unwrap();
        let paths: Vec<String> = serde_json::from_str(&paths).unwrap();
        let values: Vec<serde_json::Value> = serde_json::from_str(&values).unwrap();
        prop_assert_eq!(paths.len(), values.len());
        for (path, value) in paths.iter().zip(values) {
            let (selected, _) = given(path, &file, What::Values, false).unwrap();
            prop_assert_eq!(serde_json::from_str::<serde_json::Value>(&selected).unwrap(), value, "{}", path);
        }
    }
}

#[test]
fn what_is_told_is_the_same_by_record_and_whole() {
    let folder = tempfile::tempdir().unwrap();
    let records = [
        r#"{"vessel": "Grey Heron", "legs": [{"to": "ness"}]}"#,
        r#"{"vessel": "Little Auk", "legs": []}"#,
    ];
    let (lines, list) = (folder.path().join("r.jsonl"), folder.path().join("r.json"));
    std::fs::write(&lines, records.join("\n")).unwrap();
    std::fs::write(&list, format!("[{}]", records.join(","))).unwrap();
    for (rule, message) in [
        ("$[*].vesel", "no `vesel` under $[*]"),
        ("$[*].legs.to", "no `to` at $[*].legs: it is a list, and a name steps into maps"),
        ("for r in $[*] for l in r.legs[*] return l.from", "no `from` under $[*].legs[*]"),
        ("for r in $[*] where r.vessel == 'x' return r", "this `where` held for none of 2 tuples"),
        ("$[?@.vessel == 'x']", "`[?@.vessel == 'x']` held for none of 2 nodes under $"),
        ("$..vesel", "no `vesel` anywhere under $"),
        ("count($..legs[*].from)", "no `from` under $..legs[*]"),
        ("$[5]", "`[5]` selected nothing at $, which is a list of 2"),
        ("$[7:]", "`[7:]` selected nothing at $, which is a list of 2"),
    ] {
        for file in [&lines, &list] {
            let (_, told) = given(rule, file, What::Values, false).unwrap();
            let told: Vec<_> =
                told.into_iter().map(|problem| problem.message().to_owned()).collect();
            assert_eq!(told, [message], "{rule} over {}", file.display());
        }
    }
}

#[test]
fn broken_bytes_anywhere_end_in_a_message_or_are_left_out() {
    let folder = tempfile::tempdir().unwrap();
    let good = b"{\"a\": [1, \"x\"], \"b\": {\"c\": null}}\n";
    for position in 0..good.len() {
        for broken in [0xFF, b'"', b'{', b'}', b'\n', b'\\', 0, b',', b'['] {
            let mut bytes = good.repeat(3);
            bytes[good.len() + position] = broken;
            let file = folder.path().join("r.jsonl");
            std::fs::write(&file, &bytes).unwrap();
            for rule in ["$[*].b", "let rows = $ return length(rows)"] {
                match given(rule, &file, What::Values, false) {
                    Ok(_) => {}
                    Err(RunError::Input(problem)) => {
                        let line = problem.places()[0].at.line;
                        assert!((2..=4).contains(&line), "{position} {broken}: {problem:?}");
                    }
                    Err(other) => panic!("{position} {broken}: {other:?}"),
                }
            }
        }
    }
}
