//! The ways in which records can be taken: whichever are, a run gives and says the same.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use std::path::Path;
use std::sync::atomic::Ordering;

use kyanite_flow::{Counters, Destination, Events, Input, InputOptions, Job, Layout, Output, run};
use kyanite_formats::Format;
use kyanite_lang::{Plan, RecordUnit, RuleText, Syntax, Way, Ways, Written, compile};
use proptest::prelude::*;

fn plan(rule: &str) -> Plan {
    compile(RuleText::new("rule", rule), Syntax::Rule).unwrap_or_else(|(_, findings)| {
        panic!("{rule}: {}", findings[0].message());
    })
}

/// What a rule gives of a file, or what ended it, and all that is said.
fn ran(
    folder: &Path,
    (rule, file): (&str, &Path),
    format: Format,
    avoid: Ways,
    counters: &Counters,
) -> (Result<String, String>, Vec<String>) {
    let plan = plan(rule);
    let options = InputOptions { avoid, threads: 2, ..InputOptions::default() };
    let job = Job::new(&plan, &options);
    let target = folder.join("out");
    let mut output = Output::open(Destination::File(target.clone()), Layout::of(format)).unwrap();
    let mut told = Vec::new();
    let mut tell = |said: kyanite_tree::Diagnostic| told.push(said.to_string());
    let mut events = Events { tell: &mut tell, counters };
    let done = run(&job, &[Input::File(file.to_owned())], &mut output, &mut events);
    let result = match done {
        Ok(()) => output.finish().map(|remarks| {
            told.extend(remarks.iter().map(ToString::to_string));
            std::fs::read_to_string(&target).unwrap()
        }),
        Err(failed) => Err(failed),
    };
    (result.map_err(|failed| failed.to_string()), told)
}

const RULES: [&str; 32] = [
    "$[*]",
    "$[*].n",
    "$[?@.n > 4]",
    "$[?@.t == 'x' && @.n < 8].list[*]",
    "sum($[*].list[*])",
    "count($[?@.m])",
    "for t in $[*] return t",
    "for t in $[*] return {...t, x: t.n}",
    "for t in $[*] return {a: t.n, b: t.in.a, c: t.list}",
    "for t in $[*] return t remove .n",
    "for t in $[*] return t set .in.a = 1",
    "for t in $[*] where exists(t.list[?@ > 1]) return t.t",
    "for t in $[*] for x in t.list[*] return {x, of: t.n}",
    "for t in $[*] return f'{t.n}: {t.t}'",
    "for t in $[*] let d = t.n * 2 where d > 3 return {d, in: t.in}",
    "for t in $[*] group by k = t.t return {k, n: count(t[*]), s: sum(t[*].list[*])}",
    "for t in $[*] group by k = t.in.a return {k, all: t[*].n}",
    "for t in $[*] order by t.t descending first 3 return {t: t.t, n: t.n}",
    "for t in $[*] where exists(t.in.b) return t.in remove .b",
    "for t at i in $[*] where i < 70 return [i, t.n]",
    "$[10:200:7].in",
    "for t in $[*] return {n: t['n'], names: keys(t)}",
    "for t in $[*] let n = t.n order by t.t, n descending return {n, t.t}",
    "for t in $[*] order by t.n return t",
    "for t in $[*] where t.n > 1 order by t.t return {...t, x: t.n}",
    "for t in $[*] order by t.t, t.n return t remove .t",
    "for t in $[*] order by t.n return t.list[*]",
    "for t in $[*] for x in t.list[*] order by x return t.in",
    "for t in $[*] for x in t.list[*] order by x descending first 40 skip 2 return {x, t.n}",
    "for t in $[*] where exists(t.in) group by k = t.t order by count(t[*]) return {k, t[*].in}",
    "distinct($[*].list)",
    "for t in $[*] group by k = t.t return {k, in: distinct(t[*].in), n: distinct(t[*].n)}",
];

fn record() -> impl Strategy<Value = String> {
    let text = prop::sample::select(
        &["x", "y", "", "a longer text than a word has", "\\u00e9", "q\\\"", "\\\\", "zwölf"][..],
    );
    let number = prop::sample::select(&["1", "7", "-2.50", "1e2", "12345678901234567890"][..]);
    let blank = prop::sample::select(&["", "", " ", "  "][..]);
    let list = prop::sample::select(&["[]", "[1]", "[1, 2.5]", "[2,2,2]"][..]);
    let inner = prop::sample::select(
        &["{}", "{\"a\":1}", "{\"a\":\"x\",\"b\":[{\"a\":1},{}]}", "{\"b\" : null}"][..],
    );
    let whole = (text, number, blank, list, inner).prop_map(|(text, number, blank, list, inner)| {
        format!(
            "{{\"n\":{blank}{number},{blank}\"t\":\"{text}\",\"list\":{list},\"in\":{inner}{blank}}}"
        )
    });
    let odd = prop::sample::select(
        &[
            r#"{"n":1,"n":2}"#,
            r#"{"n":1,"in":{"a":1,"a":2}}"#,
            r#"{"\u006e":3,"t":"x"}"#,
            r#"{"n":"1","t":5,"list":{"a":1},"in":[1]}"#,
            r#"{"list":[1,2],"t":null,"m":true}"#,
            r#"{"x":9,"n":4}"#,
            "[1,2]",
            "\"n\"",
            "{}",
            "{\"n\":\n 5,\n \"t\": \"x\"}",
        ][..],
    );
    prop_oneof![6 => whole, 1 => odd.prop_map(str::to_owned)]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Records of a few kinds, again and again, so that there are several blocks.
    #[test]
    fn all_ways_lead_to_the_same(
        kinds in prop::collection::vec(record(), 1..8),
        order in prop::collection::vec(any::<prop::sample::Index>(), 50),
        broken in prop::option::weighted(0.1, 200_usize..12_000),
        rules in prop::sample::subsequence((0..RULES.len()).collect::<Vec<_>>(), 2),
        format in prop::sample::select(&[Format::JsonLines, Format::Json, Format::Yaml, Format::Csv][..]),
    ) {
        let mut lines = repeated(&kinds, &order);
        if let Some(at) = broken.filter(|at| *at < lines.len()) {
            lines[at] = r#"{"n":1 "t":2}"#;
        }
        let text = lines.join("\n") + "\n";
        let rules = rules.into_iter().map(|rule| RULES[rule]);
        assert_same(("records.jsonl", &text), rules, format)?;
    }

    /// The same of elements of XML.
    #[test]
    fn all_ways_lead_elements_to_the_same(
        kinds in prop::collection::vec(element(), 1..8),
        order in prop::collection::vec(any::<prop::sample::Index>(), 50),
        around in prop::sample::select(&["", " xmlns='urn:l'"][..]),
        rules in prop::sample::subsequence(ELEMENT_RULES.to_vec(), 2),
    ) {
        let lines = repeated(&kinds, &order).join("\n");
        let text = format!("<l xmlns:p='urn:p'{around}>\n{lines}\n</l>\n");
        assert_same(("records.xml", &text), rules, Format::JsonLines)?;
    }

    /// The same of rows of CSV.
    #[test]
    fn all_ways_lead_rows_to_the_same(
        kinds in prop::collection::vec("(1|-2\\.50|)(,x|,\"a \"\"b\"\"\"|,\"two\nlines\"|,)(,7|,)(,(z|))?", 1..5),
        order in prop::collection::vec(any::<prop::sample::Index>(), 50),
        header in prop::sample::select(&["n,t,m", "n,t,n", "n,t,x"][..]),
        rules in prop::sample::subsequence(ROW_RULES.to_vec(), 2),
    ) {
        let text = format!("{header}\n{}\n", repeated(&kinds, &order).join("\n"));
        assert_same(("records.csv", &text), rules, Format::JsonLines)?;
    }
}

/// Records of these kinds in that order, again and again, until there are several blocks of them.
fn repeated<'k>(kinds: &'k [String], order: &[prop::sample::Index]) -> Vec<&'k str> {
    let (mut records, mut length) = (Vec::new(), 0);
    for which in order.iter().cycle() {
        let record = which.get(kinds).as_str();
        length += record.len() + 1;
        records.push(record);
        if length > 400_000 {
            break;
        }
    }
    records
}

/// Runs rules over a text without each of the ways, and without any.
fn assert_same(
    (name, text): (&str, &str),
    rules: impl IntoIterator<Item = &'static str>,
    format: Format,
) -> Result<(), TestCaseError> {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join(name);
    std::fs::write(&file, text).unwrap();
    for rule in rules {
        let run =
            |avoid| ran(folder.path(), (rule, file.as_path()), format, avoid, &Counters::default());
        let expected = run(Ways::all());
        for avoid in Way::ALL.into_iter().map(Ways::from).chain([Ways::default()]) {
            let found = run(avoid);
            prop_assert!(found == expected, "{rule} without {avoid:?}: {found:.300?}");
        }
    }
    Ok(())
}

const ELEMENT_RULES: [&str; 14] = [
    "$.l.b[*].n",
    "sum($.l.b[*].n)",
    "for b in $.l.b[*] return {n: b.n, t: b.t}",
    "for b in $.l.b[*] return {a: b.@a, c: b.in.@c, x: b.in.x}",
    "for b in $.l.b[*] where b.n > 4 return b.t",
    "for b in $.l.b[*] where b.t == 'x' return {b.n, of: b.t[*]}",
    "for b in $.l.b[*] where exists(b.in) return f'{b.n}: {b.t}'",
    "for b in $.l.b[*] group by k = b.t return {k, n: count(b[*]), s: sum(b[*].n)}",
    "for b in $.l.b[*] order by b.t first 3 return {b.t, b.n}",
    "for b in $.l.b[*] let d = number(b.n) * 2 return {d, type: type(b.t), name: name(b.t)}",
    "for b in $.l.b[*] return {n: b.n.x, t: b.none}",
    "distinct($.l.b[*].t)",
    "for b in $.l.b[*] return b",
    "for b in $.l.b[*] return {b.in, b.t}",
];

const ROW_RULES: [&str; 9] = [
    "$[*]",
    "$[*].n",
    "$[?@.n == '1'].t",
    "sum($[*].n)",
    "for r in $[*] return {r.t, a: r.n, r.m}",
    "for r in $[*] where r.t == 'x' return {r.n, of: r.t.x}",
    "for r in $[*] group by k = r.t return {k, n: count(r[*]), s: sum(r[*].n)}",
    "for r in $[*] return {...r, x: 1}",
    "for r in $[*] order by r.t descending first 4 return r.n",
];

/// An element as most records are, or one with something that is not plain.
fn element() -> impl Strategy<Value = String> {
    let text = prop::sample::select(
        &["<t>x</t>", "<t>y z</t>", "<t/>", "<t></t>", "<t>ä]</t>", "", "<t>x</t>"][..],
    );
    let odd = prop::sample::select(
        &[
            "<t> x</t>",
            "<t>x </t>",
            "<t k='1'>x</t>",
            "<t>a&amp;b</t>",
            "<t>a<!-- c -->b</t>",
            "<t><![CDATA[x]]></t>",
            "<t>1</t><t>2</t>",
            "<p:t>q</p:t>",
            "<t xmlns='urn:o'>o</t>",
            "<t><x>1</x></t>",
            "among",
            "<t\n>x</t >",
        ][..],
    );
    let inner = prop::sample::select(
        &["<in c='1'><x>3</x></in>", "<in c=''/>", "<in d=\"'\"><x/><x/></in>", "", ""][..],
    );
    let attribute = prop::sample::select(&[" a='1'", " a=''", "", " p:a='2'"][..]);
    let blank = prop::sample::select(&["", "\n  "][..]);
    let child = prop_oneof![4 => text, 1 => odd];
    (child, inner, attribute, blank, 0..9).prop_map(|(child, inner, attribute, blank, n)| {
        format!("<b{attribute}>{blank}<n>{n}</n>{blank}{child}{inner}{blank}</b>")
    })
}

/// What a rule takes: records by templates, in fields, copied.
#[test]
fn rules_take_the_ways_that_they_should() {
    use Way::{Copies, Fields, Lines, Projection, Templates, Threads};
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("records.jsonl");
    let records: String = (0..12_000)
        .map(|n| format!("{{\"n\": {n}, \"t\": \"t{}\", \"list\": [1, {n}]}}\n", n % 7))
        .collect();
    std::fs::write(&file, records).unwrap();
    for (rule, ways) in [
        ("$[*]", &[Threads, Copies, Templates][..]),
        ("for t in $[*] return t", &[Threads, Copies, Templates]),
        ("$[?@.n > 4]", &[Threads, Fields, Lines, Templates]),
        ("sum($[*].n)", &[Threads, Fields, Projection, Templates]),
        ("for t in $[*] return {...t, x: 1}", &[Threads, Fields, Lines, Templates]),
        ("for t in $[*] return t remove .n", &[Threads, Fields, Lines, Templates]),
        ("for t in $[*] return {a: t.n, b: t.t}", &[Threads, Fields, Lines, Projection, Templates]),
        ("for t in $[*] return {a: t.n + 1}", &[Threads, Fields, Lines, Projection, Templates]),
        (
            "for t in $[*] group by k = t.t return {k, n: count(t[*])}",
            &[Threads, Fields, Lines, Projection, Templates],
        ),
        ("for t in $[*] order by t.n return t.t", &[Threads, Fields, Lines, Projection, Templates]),
        ("for t in $[*] where t.n > 3 order by t.t return t", &[Threads, Fields, Lines, Templates]),
        ("for t in $[*] order by t.n return keys(t)", &[Threads, Lines, Templates]),
        ("for t in $[*] order by t.n first 9 return t.t", &[Threads, Projection, Templates]),
        ("for t in $[*] window 2 return t[0].n", &[Projection, Templates]),
        ("for t in $[*] return keys(t)", &[Threads, Lines, Templates]),
    ] {
        let strategy = plan(rule).strategy(RecordUnit::Items, Written::Json, Ways::default());
        let taken: Vec<Way> = Way::ALL.into_iter().filter(|way| strategy.takes(*way)).collect();
        assert_eq!(taken, ways, "{rule}: {:?}", strategy.choices());
        let takes = |way: Way| ways.contains(&way);
        for avoid in [Ways::default(), Templates.into(), Fields.into(), Copies.into()] {
            let counters = Counters::default();
            let (result, told) =
                ran(folder.path(), (rule, &file), Format::JsonLines, avoid, &counters);
            assert!(result.is_ok() && told.len() == 1, "{rule}: {told:?}");
            let most = |count: &std::sync::atomic::AtomicU64| count.load(Ordering::Relaxed) > 5_000;
            let is_on = |way: Way| takes(way) && !avoid.contain(way);
            assert_eq!(most(&counters.taken.by_templates), is_on(Templates), "{rule} {avoid:?}");
            assert_eq!(most(&counters.taken.copied), is_on(Copies), "{rule} {avoid:?}");
            let may_have_fields = takes(Fields) || takes(Copies) && avoid.contain(Copies);
            let has_fields = may_have_fields && !avoid.contain(Fields);
            assert_eq!(most(&counters.taken.in_fields), has_fields, "{rule} {avoid:?}");
        }
    }
}

/// Cells of a table are written while they are computed where rows are maps whose names are known, and nothing is put in order.
#[test]
fn cells_are_written() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("records.jsonl");
    let records: String = (0..40_000)
        .map(|n| {
            let text = ["plain", "a, \\\"b\\\"", "", "\\u00e9\\n"][n % 4];
            let other = if n % 5 == 0 { String::new() } else { format!(", \"o\": {n}") };
            format!("{{\"n\": {n}, \"t\": \"{text}\"{other}, \"z\": null}}\n")
        })
        .collect();
    std::fs::write(&file, records + "{\"n\": [1], \"t\": \"last\"}\n").unwrap();
    for (rule, is_written, is_whole) in [
        ("for r in $[*] return {r.n, r.t}", true, false),
        ("for r in $[*] return {t: r.t, o: r.o}", true, true),
        ("for r in $[*] where r.o > 7 return {o: r.o, d: r.o * 2, r.z}", true, true),
        ("for r in $[*] return {only: r.t}", true, true),
        ("for r in $[*] return {r.t, list: [r.o]}", true, false),
        ("for r in $[*] return [r.t, r.t]", false, true),
        ("for r in $[*] return {...r, x: 1}", false, false),
        ("for r in $[*] order by r.t return {r.t}", false, true),
        ("for r in $[*] return {(r.t): 1}", false, false),
    ] {
        let strategy = plan(rule).strategy(RecordUnit::Items, Written::Cells, Ways::default());
        assert_eq!(strategy.takes(Way::Lines), is_written, "{rule}");
        for format in [Format::Csv, Format::Tsv] {
            let [(taken, lines), (avoided, none)] =
                [Ways::default(), Way::Lines.into()].map(|avoid| {
                    let counters = Counters::default();
                    let ran = ran(folder.path(), (rule, &file), format, avoid, &counters);
                    (ran, counters.taken.lines.into_inner())
                });
            assert_eq!(taken, avoided, "{rule}");
            // Those of some blocks at least; a list in each row is an error in the first.
            let are_written = is_written && !rule.contains("list");
            assert_eq!((lines > 5_000, none), (are_written, 0), "{rule}: {lines} lines");
            assert_eq!(taken.0.is_ok(), is_whole, "{rule}: {taken:?}");
        }
    }
}

/// Plain documents are written as they are read where they are the result; what comes of it, and is said, is the same.
#[test]
fn documents_are_copied() {
    let folder = tempfile::tempdir().unwrap();
    let json = "{\"a\": [1, {\"b\": \"\\u00e9\"}, 2.50],\n \"c\": {}}\n";
    let plain =
        "<l xmlns='urn:l' a='1'>\n <b>1</b>\n <b><c>2</c><c/></b>\n <b><c>&#9;</c></b>\n</l>\n";
    for (text, rule, format, is_copied) in [
        (json, "$", Format::Json, true),
        (json, "$", Format::JsonLines, false),
        (json, "$", Format::Yaml, false),
        ("[1, 2]", "$", Format::Json, true),
        ("[1, 2]", "$", Format::JsonLines, false),
        ("{\"a\": 1, \"a\": 2}", "$", Format::Json, false),
        ("{\"a\": [1}", "$", Format::Json, false),
        (plain, "$", Format::Json, true),
        (plain, "$", Format::JsonLines, true),
        (plain, "$", Format::Yaml, false),
        (plain, "$.l", Format::Json, false),
        (plain, "[$]", Format::Json, false),
        ("<l><!-- no -->1</l>", "$", Format::Json, false),
        ("<l>1</l><!-- no -->", "$", Format::Json, false),
        ("<l><b>1</l>", "$", Format::Json, false),
    ] {
        let name = if text.starts_with('<') { "document.xml" } else { "document.json" };
        let file = folder.path().join(name);
        std::fs::write(&file, text).unwrap();
        let ways = [Ways::default(), Way::Copies.into()];
        let [taken, avoided] = ways.map(|avoid| {
            let counters = Counters::default();
            let result = ran(folder.path(), (rule, &file), format, avoid, &counters);
            (result, counters.taken.copied.load(Ordering::Relaxed))
        });
        assert_eq!((taken.1, avoided.1), (u64::from(is_copied), 0), "{text} {rule} {format}");
        assert_eq!(taken.0, avoided.0, "{text} {rule} {format}");
    }
}

/// Records of XML follow templates, and members of theirs and of rows of CSV go into fields.
#[test]
fn elements_and_rows_in_fields() {
    let folder = tempfile::tempdir().unwrap();
    let records = |record: fn(usize) -> String| (0..12_000).map(record).collect::<String>();
    let elements = records(|n| {
        format!("<b a='{n}'>\n <n>{n}</n>\n <t>t{}</t>\n <x>{}</x></b>\n", n % 7, "x".repeat(40))
    });
    let rows = records(|n| format!("{n},t{},{}\n", n % 7, "x".repeat(40)));
    for (name, text, root, by_templates) in [
        ("records.xml", format!("<l>\n{elements}</l>"), "$.l.b", true),
        ("records.csv", format!("n,t,x\n{rows}"), "$", false),
    ] {
        let file = folder.path().join(name);
        std::fs::write(&file, text).unwrap();
        for rule in [
            format!("for b in {root}[*] return {{n: b.n, t: b.t}}"),
            format!("for b in {root}[*] group by k = b.t return {{k, s: sum(b[*].n)}}"),
            format!("sum({root}[*].n)"),
        ] {
            let counters = Counters::default();
            let rule = (rule.as_str(), file.as_path());
            let (result, told) =
                ran(folder.path(), rule, Format::JsonLines, Ways::default(), &counters);
            assert!(result.is_ok(), "{}: {result:?} {told:?}", rule.0);
            let most = |count: &std::sync::atomic::AtomicU64| count.load(Ordering::Relaxed) > 5_000;
            assert!(most(&counters.taken.in_fields), "{} of {name}", rule.0);
            assert_eq!(most(&counters.taken.by_templates), by_templates, "{} of {name}", rule.0);
        }
    }
}

/// Rows of tables are copied into JSON and YAML, those of other inputs into JSON alone.
#[test]
fn rows_that_are_copied() {
    let folder = tempfile::tempdir().unwrap();
    let cells = ["a", "no", "-1", "\"b, c\"", "\"two\nlines\"", "", "\"it's\"", "12:30"];
    let rows: String = (0..30_000).map(|n| format!("{n},{}\n", cells[n % cells.len()])).collect();
    let records: String = (0..30_000).map(|n| format!("{{\"n\":{n}}}\n")).collect();
    for (name, text, format, is_copied) in [
        ("rows.csv", format!("n,y\n{rows}"), Format::Yaml, true),
        ("rows.csv", format!("n,y\n{rows}"), Format::JsonLines, true),
        ("rows.csv", format!("n,y\n{rows}"), Format::Xml, false),
        ("records.jsonl", records, Format::Yaml, false),
    ] {
        let file = folder.path().join(name);
        std::fs::write(&file, text).unwrap();
        let [copied, other] = [Ways::default(), Ways::all()].map(|avoid| {
            let counters = Counters::default();
            let found = ran(folder.path(), ("$[*]", file.as_path()), format, avoid, &counters);
            (found, counters.taken.copied.load(Ordering::Relaxed) > 5_000)
        });
        assert!(copied.0 == other.0, "{name} to {format}");
        assert_eq!((copied.1, other.1), (is_copied, false), "{name} to {format}");
    }
}

/// Records of several lines run in blocks, too.
#[test]
fn records_of_several_lines_are_cut_between() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("records.jsonl");
    for (record, bracket) in [
        ("{\n  \"n\": 1,\n  \"in\": {\n    \"a\": [\n      1\n    ]\n  }\n}\n", "{"),
        ("{\"n\": 1,\n \"in\": {\"a\": 2}}\n", "{\"n"),
        ("[\n  1,\n  {\n    \"a\": 2\n  }\n]\n", "["),
    ] {
        std::fs::write(&file, record.repeat(30_000)).unwrap();
        let counters = Counters::default();
        let rule = ("$[*]", file.as_path());
        let (result, told) =
            ran(folder.path(), rule, Format::JsonLines, Ways::default(), &counters);
        assert_eq!(result.unwrap().lines().count(), 30_000, "{bracket}");
        assert_eq!(told.len(), 1, "{told:?}");
        let copied = counters.taken.copied.load(Ordering::Relaxed);
        assert!(copied > 25_000, "{bracket}: {copied}");
    }
}
