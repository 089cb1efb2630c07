//! Rule files as people work on them: explained, checked, laid out, drafted, watched and traced.
#![allow(clippy::unwrap_used, reason = "tests say what is wrong by panicking")]

mod support;

use std::fs;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use support::{Folder, PROGRAM, run};

#[test]
fn rules_are_explained_checked_and_stopped() {
    let folder = Folder::with_demo();
    folder.file("apart.kyr", "{\"a.json\": $[0].code, \"in/b.csv\": $}\n");
    folder.file("out.kyr", "{\"../a.json\": 1}\n").file("odd.kyr", "{\"a.json\": 1, \"b\": 2}\n");
    folder.file("dull.kyr", "param port: text?\ncase 1 when 1 then 2 when 1 then 3 end\n");
    folder.file("least.kyr", "param least: number\n$[?@.depth_m >= least]\n");
    folder.file("list.kyr", "$[*]\n").file("bad.kyr", "lenght(1)\n");
    for (line, status, out, err) in [
        ("reshape rules/port-fares.kyr --explain", 0, "The whole document is held in memory", ""),
        (
            "query $[?@.a==1].b --explain --avoid=",
            0,
            "projection  yes  of each record these are read: a, b\n",
            "",
        ),
        (
            "query $.a.b[*] --explain",
            0,
            "The elements at $.a.b of an XML document, and the items there of a large JSON document, run one by one",
            "",
        ),
        (
            "query 'for b in $[*] group by p = b.leg.from return {p, n: count(b[*])}' --explain",
            0,
            "Clause 2, group by: puts tuples together by b.leg.from; one running value is kept for each group.",
            "",
        ),
        (
            "query 'for b in $[*] order by b.id first 2 return b' --explain",
            0,
            "one by one up to clause 2: memory grows only with what that keeps",
            "",
        ),
        ("query 1 --explain", 0, "it reads no input", ""),
        (
            "reshape rules/running.kyr bookings.jsonl --until 3 --compact",
            0,
            "[{\"b\":{\"id\":\"TB-101340\"",
            "",
        ),
        ("reshape rules/running.kyr bookings.jsonl --until 9", 2, "", "the rule has 5 clauses"),
        ("reshape bad.kyr --until 1", 2, "", "the rule has no clauses to stop at"),
        (
            "rules check rules/network.kyr rules/running.kyr",
            0,
            "rules/running.kyr: nothing to say",
            "",
        ),
        ("rules check bad.kyr", 2, "", "near: length"),
        (
            "rules check dull.kyr",
            0,
            "",
            "dull.kyr:1:7\n      param port: text?\n            ^^^^\n",
        ),
        (
            "rules check dull.kyr",
            0,
            "",
            "this is never reached: an earlier branch waits for the same",
        ),
        ("rules check rules/running.kyr --against ports.csv", 0, "", "no `vessel` under $[*]"),
        ("rules check least.kyr", 0, "least.kyr: nothing to say", ""),
        ("rules check least.kyr --against ports.csv", 2, "", "the param `least` is missing"),
        (
            "rules check least.kyr --against ports.csv -p least=6",
            0,
            "least.kyr: nothing to say",
            "",
        ),
        (
            "rules check least.kyr --against ports.csv -p least=60",
            0,
            "",
            "held for none of 7 nodes",
        ),
        ("rules check least.kyr -p least=6", 0, "least.kyr: nothing to say", ""),
        ("rules check least.kyr -p least=six", 2, "", "the param `least` is a number, not \"six\""),
        ("rules check least.kyr -p most=6", 2, "", "the rule has no param `most`"),
        ("rules check nope.kyr", 2, "", "there is no rule file nope.kyr"),
        (
            "rules test rules/running.kyr rules/running-cases",
            0,
            "passed: no-fare\npassed: none-cancelled\n2 passed, 0 failed\n",
            "",
        ),
        (
            "rules test rules/dearest.kyr rules/running-cases",
            1,
            "failed: none-cancelled\n--- expected\n+++ given\n",
            "",
        ),
        ("rules test rules/running.kyr rules/none", 3, "", "there are no cases in rules/none"),
        ("rules test bad.kyr rules/running-cases", 2, "", "near: length"),
        ("reshape apart.kyr ports.csv --apart parts -v", 0, "", "2 files were written"),
        ("reshape out.kyr --apart parts", 5, "", "the key `../a.json` leads out of the folder"),
        ("reshape odd.kyr --apart odd", 5, "", "the key `b` says no format"),
        (
            "reshape list.kyr ports.csv --apart parts",
            5,
            "",
            "only the members of a map become files",
        ),
        (
            "query $.a ports.csv --messages json",
            0,
            "null",
            "\"severity\":\"warning\",\"message\":\"no `a` at $",
        ),
        (
            "reshape rules/network.kyr ports.csv --source nope=x",
            2,
            "",
            "the rule has no source `nope`",
        ),
        (
            "reshape rules/network.kyr ports.csv --source tariff=nope.csv",
            3,
            "",
            "there is no file nope.csv",
        ),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, status, "{line}: {}", ran.err);
        assert!(ran.out.contains(out), "{line}: {}", ran.out);
        assert!(ran.err.contains(err), "{line}: {}", ran.err);
    }
    let file = |name: &str| fs::read_to_string(folder.path().join(name));
    assert_eq!(file("parts/a.json").unwrap(), "\"ness\"\n");
    assert_eq!(file("parts/in/b.csv").unwrap(), file("ports.csv").unwrap());
    assert!(file("odd/a.json").is_err() && file("a.json").is_err());
    // A failure in a source points into the source.
    folder
        .file("sum.kyr", "source s = \"s.json\"\nfor p in $[*] return s[0].n + 1\n")
        .file("s.json", "[{\"n\": \"x\"}]");
    let ran = run(&folder, "reshape sum.kyr ports.csv", "");
    assert!(ran.err.contains("s.json:1:8  $[0].n"), "{}", ran.err);
}

/// What failed is counted over all records and threads, with the first message and its place.
#[test]
fn failures_that_something_stands_in_for_are_told() {
    let folder = Folder::with_demo();
    let line = |number: usize| {
        let text = if number % 1000 == 999 { "{oops" } else { "{\\\"a\\\": 1}" };
        format!("{{\"n\": {number}, \"t\": \"{text}\"}}\n")
    };
    folder.file("t.jsonl", (0..30_000).map(line).collect::<String>());
    for threads in ["1", "4"] {
        for (rule, count, first) in [
            ("for r in $[*] return recover(decode(\"json\", r.t), error(f\"{r.n}\"))", 0, 999),
            ("for r in $[*] return {r.n, t: recover(decode(\"json\", r.t).a, null)}", 30_000, 999),
            (
                "for r in $[*] where recover(decode(\"json\", r.t).a, 0) == 1 return r.n",
                29_970,
                999,
            ),
            (
                "for r in $[*] where r.n >= 26000 return recover(decode(\"json\", r.t).a, 0)",
                4000,
                26_999,
            ),
            ("for r in sort($[*].t) return recover(decode(\"json\", r).a, 0)", 30_000, 999),
        ] {
            let ran =
                folder.run(&["query", rule, "t.jsonl", "--to", "jsonl", "--threads", threads], b"");
            if count == 0 {
                assert!(ran.status == 4 && ran.err.contains("error(): 999"), "{}", ran.err);
                continue;
            }
            assert_eq!((ran.status, ran.out.lines().count()), (0, count), "{rule}: {}", ran.err);
            let failures = (30_000 - first) / 1000 + 1;
            let said = format!(
                "warning: recover() stood in for {failures} failures; the first: decode(): the text is not json: at its 1:2, a member name"
            );
            let place =
                format!("  t.jsonl:{}:{}  $[{first}].t\n", first + 1, 14 + first.to_string().len());
            assert!(ran.err.contains(&said) && ran.err.contains(&place), "{}", ran.err);
        }
    }
}

#[test]
fn rules_are_laid_out() {
    let folder = Folder::with_demo();
    folder.file("good.kyr", "$.a\n").file("lib.kyr", "def f(x)=x*2\n");
    folder.file("odd.kyr", "# why\nfor a in $[*]\nwhere a.b>1 return {a.b,c:a.d }");
    let odd = "# why\nfor a in $[*]\nwhere a.b > 1\nreturn {a.b, c: a.d}\n";
    for (line, input, status, out, err) in [
        ("rules format --only-tell odd.kyr good.kyr", "", 1, "odd.kyr: not laid out\n", ""),
        ("rules format odd.kyr good.kyr lib.kyr", "", 0, "", ""),
        ("rules format --only-tell odd.kyr good.kyr lib.kyr", "", 0, "", ""),
        ("rules format -", "{a:1}", 0, "{a: 1}\n", ""),
        ("rules format --only-tell -", "{a:1}", 1, "-: not laid out\n", ""),
        ("rules format bad.kyr", "", 2, "", "there is no rule file bad.kyr"),
        ("rules format -", "{a:", 2, "", "standard input:1:4"),
    ] {
        let ran = run(&folder, line, input);
        assert_eq!((ran.status, ran.out.as_str()), (status, out), "{line}: {}", ran.err);
        assert!(ran.err.contains(err), "{line}: {}", ran.err);
    }
    assert_eq!(fs::read_to_string(folder.path().join("odd.kyr")).unwrap(), odd);
    assert_eq!(fs::read_to_string(folder.path().join("lib.kyr")).unwrap(), "def f(x) = x * 2\n");
    let demo = "rules format --only-tell rules/departures.kyr rules/dearest.kyr rules/port-fares.kyr \
                rules/network.kyr rules/running.kyr rules/by-island.kyr";
    assert_eq!(run(&folder, demo, "").status, 0);
}

/// What is drafted from the result of a rule gives that result.
#[test]
fn a_drafted_rule_gives_what_was_wanted() {
    let folder = Folder::with_demo();
    for (name, rule, input) in [
        (
            "json",
            "for r in $.routes[*] for s in r.sailings[*] return {r.name, s.id, at: s.berth}",
            "timetable.json",
        ),
        ("csv", "for t in $[*] return {t.ticket, zone: number(t.zone)}", "tickets.csv"),
        ("xml", "for v in $.manifest.vessel[*] return {v.name, call: v.@callsign}", "manifest.xml"),
        ("toml", "{names: $.vessel[*].name}", "fleet.toml"),
    ] {
        let wanted = format!("wanted-{name}.json");
        assert_eq!(
            folder.run(&["query", rule, input, "-q", "-o", &wanted], b"").status,
            0,
            "{name}"
        );
        let drafted = format!("{name}.kyr");
        let ran = folder.run(&["rules", "draft", input, &wanted, "-o", &drafted], b"");
        assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{name}");
        let ran = folder.run(&["reshape", &drafted, input, "-q"], b"");
        let rule = fs::read_to_string(folder.path().join(&drafted)).unwrap();
        assert_eq!(ran.out, fs::read_to_string(folder.path().join(&wanted)).unwrap(), "{rule}");
    }
    // To standard output, in either spelling.
    let plain = run(&folder, "rules draft timetable.json timetable.json", "");
    let dashed = run(&folder, "rules draft timetable.json timetable.json -o -", "");
    assert_eq!(dashed.out, plain.out);
    assert!(!plain.out.is_empty() && !folder.path().join("-").exists());
    let ran = run(&folder, "rules draft timetable.json nope.json", "");
    assert_eq!(ran.status, 3);
    assert!(ran.err.contains("there is no file nope.json"), "{}", ran.err);
}

#[test]
fn values_are_traced() {
    let folder = Folder::with_demo();
    folder.file("n.json", "{\"a\": [1, 2, 30], \"t\": {\"x\": [{\"y\": \"p\"}]}}");
    folder.file(
        "n.kyr",
        "let all = $.a[?@ > 1]\n{\n  sum: sum(all),\n  most: max($.a[*]),\n  n: count($.a[*]),\n  $.t,\n  f: f\"{$.t.x[0].y}-{$.a[0]}\",\n  c: if $.a[1] > 1 then $.a[2] else 7,\n  k: 5,\n}\n",
    );
    folder.file(
        "g.kyr",
        "for a in $[*] group by a.island return {island, n: count(a[*]), codes: a[*].code}\n",
    );
    for (line, found) in [
        (
            "$.sum",
            &[
                "$.sum is 32\n made by\n  n.kyr:3:8",
                "  n.kyr:1:11",
                " of 2 values",
                "n.json:1:11  $.a[1]",
                "n.json:1:14  $.a[2]",
            ][..],
        ),
        ("$.most", &["n.kyr:4:9", " of\n  n.json:1:14  $.a[2]"]),
        ("$.n", &["n.kyr:5:6", " of 3 values"]),
        ("$.t.x[0].y", &["$.t.x[0].y is \"p\"", "n.kyr:6:3", " of\n  n.json:1:37  $.t.x[0].y"]),
        ("$.f", &["n.kyr:7:6", " of 2 values", "$.t.x[0].y", "$.a[0]"]),
        ("$.c", &["n.kyr:8:6", " of\n  n.json:1:14  $.a[2]"]),
        ("$.k", &["n.kyr:9:6", " of no value of an input"]),
    ] {
        let ran = run(&folder, &format!("reshape n.kyr n.json --trace {line}"), "");
        assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{line}");
        for part in found {
            assert!(ran.out.contains(part), "{line}: {part} is not in\n{}", ran.out);
        }
    }
    folder.file("e.kyr", "$ set .a[1] = @ + $.a[0], .t.x[0].y = upper(@)\n");
    for (line, status, out, err) in [
        ("reshape e.kyr n.json --trace $.a[1]", 0, "$.a[1] is 3\n made by\n  e.kyr:1:15", ""),
        ("reshape e.kyr n.json --trace $.t.x[0].y", 0, "n.json:1:37  $.t.x[0].y", ""),
        ("reshape e.kyr n.json --trace $.a[2]", 0, "n.json:1:14  $.a[2]", ""),
        ("reshape g.kyr ports.csv --trace $[0].n --to jsonl", 0, "\"count\":2", ""),
        ("reshape g.kyr ports.csv --trace $[0].codes[1]", 0, "ports.csv:3:1", ""),
        ("reshape g.kyr ports.csv --trace $[0].cods", 0, "", "near: codes"),
        ("reshape g.kyr ports.csv --trace $[0].cods --require", 1, "", "near: codes"),
        ("reshape g.kyr ports.csv --trace $[", 2, "", "the path:1:3"),
        ("reshape g.kyr ports.csv berths.geojson --gather --trace $[0].n", 0, "", ""),
        (
            "reshape rules/network.kyr ports.csv --trace $[0].sailing[0].ticket[0].price[0]",
            0,
            "tariff.csv:9:7",
            "",
        ),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, status, "{line}: {}", ran.err);
        assert!(ran.out.contains(out), "{line}: {}", ran.out);
        assert!(ran.err.contains(err), "{line}: {}", ran.err);
    }
}

/// Waits until a file has `wanted` in it.
fn wait_for(path: &std::path::Path, wanted: &str) {
    let start = Instant::now();
    loop {
        let text = fs::read_to_string(path).unwrap_or_default();
        if text.contains(wanted) {
            return;
        }
        assert!(start.elapsed() < Duration::from_secs(30), "{wanted} did not come: {text}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn a_watched_rule_runs_again() {
    let folder = Folder::with_demo();
    folder.file("w.kyr", "use \"lib.kyr\"\nsource s = \"s.json\"\n{v: twice($.n), s}\n");
    folder
        .file("lib.kyr", "def twice(x) = x * 2\n")
        .file("s.json", "1")
        .file("n.json", "{\"n\": 4}");
    let log = |name: &str| fs::File::create(folder.path().join(name)).unwrap();
    let mut child = Command::new(PROGRAM)
        .args(["reshape", "w.kyr", "n.json", "--watch", "--compact"])
        .current_dir(folder.path())
        .stdin(Stdio::null())
        .stdout(log("out"))
        .stderr(log("err"))
        .spawn()
        .unwrap();
    let (out, err) = (folder.path().join("out"), folder.path().join("err"));
    for (file, text, log, wanted) in [
        ("", "", &out, "{\"v\":8,\"s\":1}\n"),
        ("n.json", "{\"n\": 5000}", &out, "{\"v\":10000,\"s\":1}\n"),
        ("lib.kyr", "def twice(x) = x + x + 1\n", &out, "{\"v\":10001,\"s\":1}\n"),
        ("s.json", "\"new\"", &out, "{\"v\":10001,\"s\":\"new\"}\n"),
        ("w.kyr", "{v: $.nope +}\n", &err, "an expression is missing"),
        ("w.kyr", "{v: $.n / 0}\n", &err, "the divisor is zero"),
        ("w.kyr", "{last: $.n}\n", &out, "{\"last\":5000}\n"),
    ] {
        if !file.is_empty() {
            folder.file(file, text);
        }
        wait_for(log, wanted);
    }
    child.kill().unwrap();
    child.wait().unwrap();
    let ran = run(&folder, "reshape w.kyr - --watch", "{}");
    assert_eq!(ran.status, 2);
    assert!(ran.err.contains("name files, or leave --watch out"), "{}", ran.err);
}

/// Operators in a row nest, too: more than a stack could hold are refused, whatever they are.
#[test]
fn long_expressions_are_refused_or_run() {
    let folder = Folder::with_demo();
    let long = |operand: &str, operator: &str, count: usize| {
        format!("{}{operand}\n", format!("{operand} {operator} ").repeat(count))
    };
    for (operand, operators) in [
        ("1", &["+", "-", "*", "/", "%"][..]),
        ("true", &["||", "&&"]),
        ("null", &["??"]),
        ("(1 == 1)", &["&&"]),
    ] {
        for operator in operators {
            for (count, status) in [(4_900 / (1 + operand.len() / 5), 0), (100_000, 2)] {
                folder.file("long.kyr", long(operand, operator, count));
                for line in
                    ["reshape long.kyr", "rules check long.kyr", "reshape long.kyr --trace $"]
                {
                    let ran = run(&folder, line, "");
                    assert_eq!(
                        ran.status, status,
                        "{operand} {operator} {count} {line}: {}",
                        ran.err
                    );
                    let is_refused = ran.err.contains("an expression has more than 5000 operators");
                    assert_eq!(is_refused, status == 2, "{}", ran.err);
                }
            }
        }
    }
}

/// What `--explain` says of each clause, and of what is held.
#[test]
fn clauses_are_explained() {
    let folder = Folder::with_demo();
    for (rule, expected) in [
        (
            "source p = \"ports.csv\"; for b in $[*] for q in p[*] where q.code == b.leg.from let n = b.fare.amount * 2 \
             where n > 3 order by n skip 1 first 2 return {b.id, n}",
            &[
                "run one by one up to clause 6: memory grows only with what that keeps.",
                "The source p is held in memory.",
                "Clause 1, for: goes through $[*].",
                "Clause 2, for: goes through p[*], found through an index that is built once.",
                "Clause 3, where: keeps the tuples for which q.code == b.leg.from holds.",
                "Clause 4, let: is b.fare.amount * 2.",
                "Clause 6, order by: puts tuples in order; all are kept until the last.",
                "Clause 7, skip: leaves out 1 tuple.",
                "Clause 8, first: ends after 2 tuples.",
            ][..],
        ),
        (
            "for b in $[*] carry t from 0 = t + 1 window 2 return t[0]",
            &[
                "Clause 2, carry: keeps one running value: t + 1.",
                "Clause 3, window: keeps 2 tuples at a time.",
                "threads     no   `carry` needs",
            ],
        ),
        (
            "for b in $[*] group by v = b.vessel return {v, n: count(b[*]), s: sum(b[*].fare.amount)}",
            &[
                "puts tuples together by b.vessel; 2 running values are kept for each group",
                "threads     yes",
            ],
        ),
        (
            "for b in $[*] group by v = b.vessel return {v, all: b[*].id}",
            &["puts tuples together by b.vessel; all are kept until the last"],
        ),
        (
            "output csv; for b in $[*] return b set .x = 1",
            &[
                "What the edits do not touch is copied as it stands.",
                "The result is written as csv.",
            ],
        ),
        ("[$, $]", &["held in memory: $ stands 2 times in the rule."]),
        ("$", &["Where it is plain XML, or plain JSON that stays one document"]),
    ] {
        folder.file("one.kyr", format!("{rule}\n"));
        let ran = run(&folder, "reshape one.kyr bookings.jsonl --explain --avoid=", "");
        assert_eq!((ran.err.as_str(), ran.status), ("", 0), "{rule}");
        for part in expected {
            assert!(ran.out.contains(part), "{rule}: {part}\n{}", ran.out);
        }
    }
}
