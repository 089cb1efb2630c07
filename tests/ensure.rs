//! `--ensure` and `--expect`, and what rules say of their input and their result.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, run};

const FARES: &str = r#"{"type": "object", "required": ["id"], "properties": {"amount": {"type": "number", "maximum": 500}}}"#;
const RULE: &str = "ensures \"fares.json\"\nfor b in $[*]\nreturn {\n  id: b.id,\n  amount: b.fare.amount * 2,\n}\n";

#[test]
fn results_that_break_their_schema() {
    let folder = Folder::with_demo();
    folder.file("fares.json", FARES);
    folder.file("fares.kyr", RULE);
    folder.file("list.json", r#"{"type": "array", "maxItems": 3}"#);
    let booking =
        |id: u32, amount: u32| format!("{{\"id\":\"TB-{id}\",\"fare\":{{\"amount\":{amount}}}}}\n");
    folder.file("some.jsonl", [booking(1, 100), booking(2, 300), booking(3, 50)].concat());
    folder.file("old.jsonl", "old\n");
    // A stream stops before the record; the finding names the path, the line of the rule and the place of the input.
    let ran = run(&folder, "reshape fares.kyr some.jsonl --to jsonl", "");
    assert_eq!(
        (ran.status, ran.out.as_str()),
        (1, "{\"id\":\"TB-1\",\"amount\":200}\n"),
        "{}",
        ran.err
    );
    for expected in [
        "error: the result breaks its schema at $[1].amount: 600 must be at most 500\n",
        "  fares.kyr:5:11\n        amount: b.fare.amount * 2,\n                ^^^^^^^^^^^^^^^^^\n",
        "  fares.json:1:95  $.properties.amount.maximum\n",
        "  some.jsonl:2:7\n",
    ] {
        assert!(ran.err.contains(expected), "{expected}: {}", ran.err);
    }
    // A file stays as it was.
    let ran = run(&folder, "reshape fares.kyr some.jsonl --to jsonl -o old.jsonl", "");
    assert!(ran.status == 1 && folder.read("old.jsonl") == "old\n");
    let ran = run(&folder, "reshape fares.kyr some.jsonl", "");
    assert_eq!((ran.status, ran.out.as_str()), (1, ""), "{}", ran.err);
    assert!(
        ran.err.contains("error: the result breaks its schema at $: expected object, found a list"),
        "{}",
        ran.err
    );
    // A trace shows where a result comes from that breaks its schema.
    let ran = run(&folder, "reshape fares.kyr some.jsonl --trace $[1].amount", "");
    assert!(ran.status == 0 && ran.out.contains("some.jsonl:2:"), "{}{}", ran.out, ran.err);
    // Records are set aside and counted.
    let ran = run(&folder, "reshape fares.kyr some.jsonl --to jsonl --skip-invalid bad.jsonl", "");
    assert_eq!((ran.status, ran.out.lines().count()), (0, 2), "{}", ran.err);
    assert_eq!(folder.read("bad.jsonl"), "{\"id\":\"TB-2\",\"amount\":600}\n");
    assert!(
        ran.err.contains("warning: 1 record breaks the schema, and went to bad.jsonl"),
        "{}",
        ran.err
    );
    for (line, status, expected) in [
        ("query $[*].id some.jsonl --ensure list.json", 0, ""),
        (
            "query $[*] some.jsonl some.jsonl --gather --ensure list.json",
            1,
            "there are 6 items, and there must be at most 3",
        ),
        ("convert some.jsonl --to jsonl --ensure fares.json --expect fares.json", 0, ""),
        (
            "convert some.jsonl --to yaml --ensure fares.json --skip-invalid x",
            2,
            "only records that break a schema can be skipped",
        ),
        (
            "query $[*].id some.jsonl --ensure schemas/notices.xsd",
            2,
            "an XML Schema checks XML, and the result is json",
        ),
        ("query $ notices.xml --to xml --ensure schemas/notices.xsd", 0, ""),
        (
            "query $.notices notices.xml --to xml --root notice --ensure schemas/notices.xsd",
            1,
            "error: the schema has no element",
        ),
        ("query $ notices.xml --to xml --ensure schemas/notices.xsd -o packed.xml.gz", 0, ""),
        ("query $ some.jsonl --ensure none.json", 2, "none.json"),
        // What is only counted is checked as well.
        ("query $[*] some.jsonl --count --ensure list.json", 0, ""),
        (
            "query $[*].id some.jsonl --count --ensure fares.json",
            1,
            "expected object, found a list",
        ),
        ("reshape fares.kyr some.jsonl --apart new", 2, "--apart writes several documents"),
        (
            "query $ notices.xml --to xml --count --ensure schemas/notices.xsd",
            2,
            "--count writes no XML",
        ),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, status, "{line}: {}{}", ran.out, ran.err);
        assert!(ran.err.contains(expected), "{line}: {}", ran.err);
        assert!(status != 1 || ran.out.is_empty(), "{line}: {}", ran.out);
    }
    let packed = std::fs::read(folder.path().join("packed.xml.gz")).unwrap();
    assert!(packed.starts_with(&[0x1f, 0x8b]), "a file is packed as its name says");
}

#[test]
fn inputs_that_break_their_schema() {
    let folder = Folder::with_demo();
    folder.file("rules/dear.kyr", "expects \"../schemas/booking.json\"\nensures \"../schemas/booking.json\"\nfor b in $[*] where b.fare.amount > 900\nreturn b\n");
    folder.file(
        "good.jsonl",
        folder.read("bookings.jsonl").lines().take(20).collect::<Vec<_>>().join("\n"),
    );
    let ran = run(&folder, "reshape rules/dear.kyr good.jsonl --to jsonl", "");
    assert_eq!(ran.status, 0, "{}", ran.err);
    let ran = run(&folder, "reshape rules/dear.kyr bookings.jsonl --to jsonl", "");
    assert!(
        ran.status == 1 && ran.out.is_empty() && ran.err.contains("bookings.jsonl:464:338"),
        "{}",
        ran.err
    );
    // Standard input is read once by those who write it, and twice here.
    let expected = run(&folder, "query $[*].id good.jsonl --to text", "").out;
    let ran = run(
        &folder,
        "query $[*].id --from jsonl --to text --expect schemas/booking.json",
        &folder.read("good.jsonl"),
    );
    assert_eq!((ran.status, ran.out), (0, expected), "{}", ran.err);
    let ran =
        run(&folder, "query $[*].id --from jsonl --expect schemas/booking.json", "{\"id\": 4}\n");
    assert!(
        ran.status == 1 && ran.out.is_empty() && ran.err.contains("standard input:1:8  $[0].id"),
        "{}",
        ran.err
    );
    let ran = run(&folder, "query //title notices.xml --expect schemas/manifest.xsd", "");
    assert!(
        ran.status == 1 && ran.err.contains("the schema has no element notices"),
        "{}",
        ran.err
    );
}

/// What is looked at, and what gets its types from a schema, is the same on one thread and on several: far into a stream, where blocks run
/// at the same time, too.
#[test]
fn on_several_threads() {
    let folder = Folder::with_demo();
    let is_bad = |no: u32| matches!(no, 7 | 19_000 | 19_001 | 29_999);
    let record = |no: u32| {
        let amount = if is_bad(no) { 501 } else { no % 500 };
        format!(
            "{{\"id\":\"TB-{no}\",\"fare\":{{\"amount\":{amount}}},\"note\":\"as it was booked\"}}\n"
        )
    };
    folder.file("fares.json", FARES);
    folder.file("big.jsonl", (0..30_000).map(record).collect::<String>());
    folder.file("late.jsonl", (19_001..30_000).map(|no| record(no + 1)).collect::<String>());
    let row = |no: u32| {
        format!("{no},{},{}\n", if no == 25_000 { "many" } else { "2.50" }, no.is_multiple_of(2))
    };
    folder.file("rows.csv", format!("no,fare,paid\n{}", (0..30_000).map(row).collect::<String>()));
    folder.file(
        "row.json",
        r#"{"properties": {"no": {"type": "integer"}, "fare": {"type": ["number", "string"]}, "paid": {"type": "boolean"}}}"#,
    );
    let element = |no: u32| format!("<p><no>{no}</no><fare>2.50</fare></p>\n");
    folder.file("rows.xml", format!("<l>\n{}</l>\n", (0..30_000).map(element).collect::<String>()));
    folder.file(
        "rows.xsd",
        r#"<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="l"><xs:complexType><xs:sequence><xs:element name="p" maxOccurs="unbounded"><xs:complexType><xs:sequence><xs:element name="no" type="xs:int"/><xs:element name="fare" type="xs:decimal"/></xs:sequence></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element></xs:schema>"#,
    );
    let rule = "'for b in $[*] return {id: b.id, amount: b.fare.amount}'";
    for (line, status, lines, expected) in [
        (
            format!("query {rule} big.jsonl --to jsonl --ensure fares.json --skip-invalid bad.jsonl"),
            0,
            29_996,
            "warning: 4 records break the schema, and went to bad.jsonl",
        ),
        (
            format!("query {rule} late.jsonl --to jsonl --ensure fares.json"),
            1,
            10_997,
            "late.jsonl:10998:35",
        ),
        (
            "query 'for b in $[*] where b.fare.amount > 500 return b' big.jsonl --to jsonl --ensure fares.json".to_owned(),
            0,
            4,
            "",
        ),
        ("query '$[?@.paid == true].no' rows.csv --to jsonl --schema row.json".to_owned(), 0, 15_000, ""),
        ("convert rows.csv --to jsonl --schema row.json".to_owned(), 0, 30_000, ""),
        (
            "query 'for r in $[*] order by r.no descending return r' rows.csv --to jsonl --schema row.json".to_owned(),
            0,
            30_000,
            "",
        ),
        ("query 'sum($[*].fare)' rows.csv --schema row.json".to_owned(), 4, 0, "rows.csv:25002:7"),
        (
            "query 'for p in $.l.p[*] return {p.no, p.fare}' rows.xml --to jsonl --schema rows.xsd".to_owned(),
            0,
            30_000,
            "",
        ),
    ] {
        let ran = |threads: u32| {
            let ran = run(&folder, &format!("{line} --threads {threads}"), "");
            let bad = if line.contains("--skip") { folder.read("bad.jsonl") } else { String::new() };
            (ran.status, ran.out, ran.err, bad)
        };
        let (one, several) = (ran(1), ran(3));
        assert_eq!((one.0, one.1.lines().count()), (status, lines), "{line}: {}", one.2);
        assert!(one.2.contains(expected), "{line}: {}", one.2);
        assert!(one == several, "{line}: {} {}", one.2, several.2);
    }
}
