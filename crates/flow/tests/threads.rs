//! Streams over several threads and whole documents: what is given and what is said is the same.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use std::path::Path;

use kyanite_flow::{
    Counters, Destination, Events, Input, InputOptions, Job, Layout, LossPolicy, Output, RunError,
    run,
};
use kyanite_formats::Format;
use kyanite_lang::{RuleText, Syntax, compile};
use kyanite_tree::Diagnostic;

/// What a run wrote, or why it failed; and what it told.
fn given(
    rule: &str,
    input: &Path,
    format: Format,
    options: &InputOptions,
) -> (Result<String, Diagnostic>, Vec<String>) {
    given_with(rule, input, format, options, LossPolicy::Count)
}

fn given_with(
    rule: &str,
    input: &Path,
    format: Format,
    options: &InputOptions,
    losses: LossPolicy,
) -> (Result<String, Diagnostic>, Vec<String>) {
    let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
    let target = input.with_extension("out");
    let mut output = Output::open(Destination::File(target.clone()), Layout::of(format)).unwrap();
    let (mut told, counters) = (Vec::new(), Counters::default());
    let mut tell = |problem: Diagnostic| {
        let at = problem.places().first().map(|place| place.at.to_string()).unwrap_or_default();
        told.push(format!("{} {at} {:?}", problem.message(), problem.advice()));
    };
    let mut events = Events { tell: &mut tell, counters: &counters };
    let job = Job { losses, ..Job::new(&plan, options) };
    let ran = run(&job, &[Input::File(input.to_owned())], &mut output, &mut events);
    let result = match ran {
        Ok(()) => {
            output.finish().unwrap();
            Ok(std::fs::read_to_string(&target).unwrap())
        }
        Err(RunError::Input(problem) | RunError::Rule(problem) | RunError::Output(problem)) => {
            Err(problem)
        }
        Err(RunError::Command(problems) | RunError::Invalid(problems)) => panic!("{problems:?}"),
    };
    (result, told)
}

fn threads(threads: usize, lenient: bool) -> InputOptions {
    InputOptions { threads, lenient, ..InputOptions::default() }
}

/// Runs rules over one file with one thread and with three, and record by record in turn, into formats that hold lists.
fn same(file: &Path, rules: &[&str], lenient: bool) {
    for (number, rule) in rules.iter().enumerate() {
        // Each rule is run into two formats of three.
        let formats = [Format::Json, Format::Xml, Format::JsonLines, Format::Json];
        for format in formats[number % 3..].iter().take(2).copied() {
            let one = given(rule, file, format, &threads(1, lenient));
            let three = given(rule, file, format, &threads(3, lenient));
            assert!(one == three, "{rule} to {format}: {:?} {:?}", one.1, three.1);
            // Where losses are listed, records run one behind the other.
            let options = threads(1, lenient);
            let in_tuple = given_with(rule, file, format, &options, LossPolicy::List);
            assert!(one == in_tuple, "{rule} to {format}: {:?} {:?}", one.1, in_tuple.1);
        }
    }
}

const RULES: [&str; 20] = [
    "$[*]",
    "for r in $[*] return {...r, loud: upper(r.text)}",
    "for r in $[*] return {...r, n: r.n + 1}",
    "for r in $[*] where r.n < 9000 return {...r, big: if r.n > 8000 then r.n}",
    "for r in $[*] return {r.text, r.n, half: r.n / 2}",
    "for r in $[*] where r.n != 7 return {r.text}",
    "$[?@.text < 'xx' && @.n > 29000].n",
    "for r in $[*] where r.n != 29990 && r.n >= 29980 return r.text",
    "$[*].n",
    "$[?@.n == '77' || @.n == 77]",
    "for r in $[*] where r.n > 30 return {r.n, twice: r.n * 2}",
    "sum($[*].n)",
    "min($[*].n) + max($[*].n) + count($[?@.n > 3])",
    "for r in $[*] skip 3 first 40 return r.n",
    "$[*].nope",
    "for r in $[*] group by tail = match(r.n, '.*7') return {tail, n: count(r[*]), most: max(r[*].n)}",
    "for r in $[*] order by text(r.n) first 5 return r",
    "for r in $[*] carry last from 0 = r.n where last == 29999 return last",
    "for r in $[*] where r.n > 29900 return r",
    // What is asked only late may be absent, and then all names that are there are told.
    "for r in $[*] where r.n > 29900 return [r.n, r.txet]",
];

#[test]
fn records_that_end_anywhere() {
    let folder = tempfile::tempdir().unwrap();
    // Some records go over several lines, and so do some cells.
    let (mut lines, mut table) = (String::new(), "n,text\n".to_owned());
    for n in 0..30_000 {
        let filler = "x".repeat(n % 37);
        if n % 11 == 0 {
            lines.push_str(&format!("{{\n  \"n\": {n},\n  \"text\": \"{filler}\"\n}}\n"));
            table.push_str(&format!("{n},\"{filler}\n\n{filler}\"\n"));
        } else if n % 3 != 1 {
            lines.push_str(&format!("{{\"n\": {n}, \"text\": \"{filler}\"}}\n"));
            table.push_str(&format!("{n},{filler}\n"));
        } else {
            lines.push_str(&format!("{{\"n\":{n},\"text\":\"{filler}\"}}\n"));
            table.push_str(&format!("{n},{filler}\n"));
        }
    }
    let (json, csv) = (folder.path().join("r.jsonl"), folder.path().join("r.csv"));
    std::fs::write(&json, &lines).unwrap();
    std::fs::write(&csv, &table).unwrap();
    same(&json, &RULES, false);
    same(&csv, &RULES, false);
    // A record that is broken late, and one on which the rule fails.
    let at = lines.find("{\"n\": 25001,").unwrap();
    let broken = format!("{}{{\"n\": ,}}\n{}", &lines[..at], &lines[at..]);
    std::fs::write(&json, broken).unwrap();
    same(&json, &["$[*].n", "sum($[*].n)"], false);
    same(&json, &["$[*].n", "sum($[*].n)"], true);
    let odd = lines.replace("\"n\": 25001,", "\"n\": \"x\",");
    std::fs::write(&json, odd).unwrap();
    same(
        &json,
        &[
            "for r in $[*] return r.n + 1",
            "sum($[*].n)",
            "max($[*].n)",
            "for r in $[*] group by k = 1 return {k, most: max(r[*].n)}",
        ],
        false,
    );
    let (failed, _) =
        given("for r in $[*] return r.n + 1", &json, Format::Json, &threads(3, false));
    let problem = failed.unwrap_err();
    let line = lines[..at].lines().count() as u64 + 1;
    assert_eq!(problem.places()[0].at.line, line);
    assert_eq!(problem.places()[0].path.as_deref(), Some("$[25001].n"));
}

#[test]
fn elements_as_they_come_and_whole() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("r.xml");
    let mut text =
        String::from("<?xml version='1.0'?>\r\n<feed xmlns:v='u'><other><item/></other>");
    for n in 0..16_000 {
        match n % 13 {
            0 => text.push_str(&format!(
                "<!-- <item n='x'> -->\r\n<item n='{n}'>\r\n <n>{n}</n></item>"
            )),
            5 => {
                text.push_str(&format!("<item><n>{n}</n><![CDATA[<item><n>0</n></item>]]></item>"))
            }
            7 => text.push_str(&format!(
                "<v:item\n><n>{n}</n><item><n>1</n></item>\n</v:item>\n<items/>"
            )),
            _ => text.push_str(&format!(
                "<item><n>{n}</n><t>{} &amp; &#65;</t></item>\n",
                "y".repeat(n % 29)
            )),
        }
    }
    text.push_str("</feed>\n<!-- end -->");
    std::fs::write(&file, &text).unwrap();
    let rules = [
        "$.feed.item[*]",
        "$.feed.item[*].n",
        "$.feed.item[?@.n > 15990]",
        "for i in $.feed.item[*] where i.n > 100 && i.n < 200 return {i.n, i.t}",
        "sum($.feed.item[*].n)",
        "namespace w = 'u'; $.feed['w:item'][*].n",
        "for i at k in $.feed.item[*] skip 2 first 3 return {k, i.n}",
        "$.feed.itm[*]",
        "for i in $.feed.item[*] group by k = text(length(i.t ?? '')) order by k return {k, n: count(i[*].n)}",
        "for i in $.feed.item[*] order by i.n descending first 3 return {i}",
    ];
    for rule in rules {
        for format in [Format::JsonLines, Format::Xml] {
            let one = given(rule, &file, format, &threads(1, false));
            let three = given(rule, &file, format, &threads(3, false));
            // A repair reads the whole document, and here has nothing to repair.
            let whole = given(rule, &file, format, &threads(1, true));
            assert!(one == three, "{rule} to {format}: {:?} {:?}", one.1, three.1);
            assert!(one.0 == whole.0, "{rule} to {format}");
            assert_eq!(one.1.len(), whole.1.len(), "{rule}: {:?} {:?}", one.1, whole.1);
        }
    }
    // What is broken is found wherever it is, on the same line.
    for (old, new) in [
        ("<n>15000</n>", "<n>15000</m>"),
        ("</feed>", ""),
        ("</feed>", "</feed><feed/>"),
        ("<n>12001</n>", "<n>&x;</n>"),
    ] {
        std::fs::write(&file, text.replace(old, new)).unwrap();
        let places: Vec<String> = [1, 3]
            .into_iter()
            .map(|count| {
                let (result, _) =
                    given("$.feed.item[*].n", &file, Format::JsonLines, &threads(count, false));
                let problem = result.unwrap_err();
                format!("{} {}", problem.message(), problem.places()[0].at)
            })
            .collect();
        assert_eq!(places[0], places[1]);
        let whole =
            given("[$.feed.item[*].n]", &file, Format::Json, &threads(1, false)).0.unwrap_err();
        assert_eq!(places[0], format!("{} {}", whole.message(), whole.places()[0].at));
    }
}

/// A document with one long list, on lines of its own or all on one line, and what is read of it.
#[test]
fn items_of_a_large_document() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("r.json");
    let item = |n: usize| {
        let seats = (0..n % 4).map(|seat| format!("[{seat}]")).collect::<Vec<_>>().join(", ");
        format!("{{\"n\": {n}, \"text\": \"a ],[ {}\", \"seats\": [{seats}]}}", "é".repeat(n % 600))
    };
    let list = |comma: &str| (0..14_500).map(item).collect::<Vec<_>>().join(comma);
    let document = |list: &str| {
        format!("{{\"page\": {{\"rows\": [0]}}, \"rows\": [{list}],\n\"end\": \"]\"}}\n")
    };
    let rules = [
        "$.rows[*].n",
        "$.rows[?@.n > 14490]",
        "count($.rows[*].seats[*])",
        "for r in $.rows[*] group by k = length(r.seats) return {k, n: count(r[*])}",
        "for r at i in $.rows[*] where r.n != i return r",
        "$.rows[*].nope",
    ];
    for text in [document(&list(", ")), document(&list(",\n  "))] {
        assert!(text.len() > 8 * 1024 * 1024);
        std::fs::write(&file, &text).unwrap();
        for rule in rules {
            let one = given(rule, &file, Format::Json, &threads(1, false));
            let three = given(rule, &file, Format::Json, &threads(3, false));
            // What is to be repaired is read whole.
            let whole = given(rule, &file, Format::Json, &threads(1, true));
            assert!(one == three, "{rule}: {:?} {:?}", one.1, three.1);
            assert!(one == whole, "{rule}: {:?} {:?}", one.1, whole.1);
        }
        // What is wrong late, in an item and around them, with its place.
        let at = text.find("{\"n\": 14001,").unwrap();
        let place = |at: usize| {
            let before = &text[..at];
            let line = before.rfind('\n').map_or(0, |end| end + 1);
            (before.lines().count().max(1) as u64, before[line..].chars().count() as u64 + 1)
        };
        for (broken, at, message) in [
            (
                text.replacen("\"n\": 14001,", "\"n\": ,", 1),
                at + 6,
                "no JSON value begins like this",
            ),
            (
                text.replacen("{\"n\": 14001,", "7 {\"n\": 14001,", 1),
                at + 2,
                "a comma is missing between these items",
            ),
            (text.replacen("{\"n\": 14001,", ", {\"n\": 14001,", 1), at, "an item is missing here"),
            (
                text.replacen("\"end\": \"]\"", "\"rows\": []", 1),
                text.len() - 6,
                "the list that the rule goes through is given a second time",
            ),
            (
                text.replacen("],\n\"end\"", "},\n\"end\"", 1),
                text.len() - 15,
                "this bracket closes nothing",
            ),
            (text[..at - 2].trim_end_matches(',').to_owned(), at - 2, "the document ends inside"),
        ] {
            std::fs::write(&file, &broken).unwrap();
            for threads in [threads(1, false), threads(3, false)] {
                let problem =
                    given("sum($.rows[*].n)", &file, Format::Json, &threads).0.unwrap_err();
                assert_eq!(problem.message(), message);
                let found = &problem.places()[0];
                let (line, column) = place(at.min(text.len() - 1));
                assert!(found.at.line.abs_diff(line) <= 1, "{message}: {:?} {line}", found.at);
                assert!(
                    found.at.column.abs_diff(column) <= 4 || found.at.line != line,
                    "{message}: {:?} {column}",
                    found.at
                );
            }
        }
        std::fs::write(&file, &text).unwrap();
        let (failed, _) = given(
            "for r in $.rows[*] return r.n + r.text",
            &file,
            Format::Json,
            &threads(3, false),
        );
        let problem = failed.unwrap_err();
        assert_eq!(problem.places()[0].path.as_deref(), Some("$.rows[0].text"));
    }
}
