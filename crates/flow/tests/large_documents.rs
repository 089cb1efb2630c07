//! Surveys of large documents of JSON and YAML, part by part, against surveys of the same documents, held whole.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use std::io::{Cursor, Read};

use kyanite_flow::{
    Counters, Events, Input, InputOptions, InputReader, RecordPath, Surveyed, survey,
};
use kyanite_formats::Format;
use proptest::prelude::*;

/// What is found in a document with so much memory, and what is said of it.
fn found(text: &str, format: Format, at: Option<&RecordPath>, memory: usize) -> String {
    let bytes = text.as_bytes().to_vec();
    let open = Box::new(Cursor::new(bytes)) as Box<dyn Read + Send>;
    let inputs = [Input::Reader(InputReader::new("x", open))];
    let options = InputOptions { from: Some(format), memory, ..Default::default() };
    let (counters, mut told) = (Counters::default(), String::new());
    let mut tell = |said: kyanite_tree::Diagnostic| told += &format!("{said}\n");
    let mut events = Events { tell: &mut tell, counters: &counters };
    let what = Surveyed { inputs: &inputs, options: &options, at, range: None };
    match survey(what, &mut events) {
        Ok(found) => format!("{:#?}\n{told}", found.report()),
        Err(failed) => format!("{failed}\n{told}"),
    }
}

/// Documents of more than 32 kB are gone through, or none is.
const LITTLE: usize = 1 << 21;
const MUCH: usize = 1 << 40;

fn assert_same(text: &str, format: Format, at: Option<&str>) {
    let at = at.map(|at| at.parse::<RecordPath>().unwrap());
    let [large, held] = [LITTLE, MUCH].map(|memory| {
        let found = found(text, format, at.as_ref(), memory);
        // The line of an alias is told where what it stands for is in a part before.
        let has_place = |line: &&str| !(text.contains('&') && line.trim().starts_with("line: "));
        found.lines().filter(has_place).collect::<Vec<_>>().join("\n")
    });
    if large != held {
        let differs = large.lines().zip(held.lines()).find(|(large, held)| large != held);
        let head: String = text.chars().take(600).collect();
        panic!("{differs:?} in {} bytes: {head}", text.len());
    }
}

#[test]
fn maps_of_json() {
    // So few values that all are counted exactly.
    let items =
        (0..9_000).map(|no| format!("{{\"no\": {}, \"legs\": [\"a\", {{\"b\": []}}]}}", no % 90));
    let (items, lines) = (items.clone().collect::<Vec<_>>(), items.collect::<Vec<_>>());
    let (items, lines) = (items.join(", "), lines.join(",\n"));
    let texts = "\"x, [y\\\"\", ".repeat(45_000);
    let deep = format!("{}{items}{}", "{\"a\": [1, ".repeat(20), "]}".repeat(20));
    for text in [
        format!("{{\"port\": \"Ness\", \"sailings\": [{items}], \"count\": 9000}}"),
        format!("\u{feff}{{\"a\": [{lines}],\n\"b\": {{\"c\": [{items}]}}, \"d\": [[{lines}]]}}\n"),
        format!("{{\"texts\": [{texts}null]}}"),
        deep,
        format!("{{\"a\": {{}}, \"b\": [], \"c\": [{items}], \"\": 1, \"e\\u0301\": [{items}]}}"),
        // Broken far behind the beginning.
        format!("{{\"a\": [{items}], \"b\": [1 2]}}"),
        format!("{{\"a\": [\n{lines}], \"b\": tru}}"),
        format!("{{\"a\": [{items}]}} 4"),
        format!("{{\"a\": [{items}"),
        format!("{{\"a\": {}1{}, \"b\": [{items}]}}", "[".repeat(600), "]".repeat(600)),
    ] {
        for at in [None, Some("$.a[*].legs[*]"), Some("$.sailings[*]"), Some("$.b.c[*].no[*]")] {
            assert_same(&text, Format::Json, at);
        }
    }
    let text = format!("[{items}, {{\"legs\": [{lines}]}}, {{\"legs\": {items}]}}");
    for at in ["$[*].legs[*]", "$[*].legs[*].b[*]", "$[*].le\u{301}gs[*]"] {
        assert_same(&text, Format::Json, Some(at));
        let escaped = text.replace("legs", "le\\u0067s").replacen("{items}]", "1]", 1);
        assert_same(&escaped, Format::Json, Some(at));
    }
}

#[test]
fn members_that_are_given_twice() {
    let items = "{\"no\": 4},".repeat(45_000);
    let text = format!(
        "{{\"a\": [{items}1], \"b\": [{items}1], \"a\": 5, \"c\": {{\"d\": 1, \"d\": 2}}}}"
    );
    let found = found(&text, Format::Json, None, LITTLE);
    for told in ["`a` is given twice; both", "`d` is given twice; both"] {
        assert!(found.contains(told), "{}", &found[found.len() - 600..]);
    }
}

#[test]
fn documents_of_yaml() {
    let items = |indent: &str| -> String {
        let item = |no: u32| {
            let no = no % 90;
            format!("{indent}- no: {no}\n{indent}  legs:\n{indent}  - a\n{indent}  - {{b: []}}\n")
        };
        (0..9_000).map(item).collect()
    };
    let flush = items("");
    let one = format!("port: Ness\nsailings:\n{flush}count: 9000\n");
    for (text, at) in [
        (flush.clone(), None),
        (one.clone(), None),
        (format!("# c\n---\n{one}"), None),
        (one.clone(), Some("$.sailings[*]")),
        (format!("a:\n- b:\n{}- b:\n{}", items("    "), items("  ")), None),
        (format!("a:\n- b:\n{}- b:\n{}", items("    "), items("  ")), Some("$.a[*].b[*]")),
        (format!("a:\n- b:\n{}- c:\n{}", items("    "), items("  ")), Some("$.a[*].b[*]")),
        (one.clone(), Some("$.nothing[*]")),
        (flush.clone(), Some("$[*].legs[*]")),
        (format!("base: &b {{x: 1, y: 2}}\nrows:\n{}", "- <<: *b\n  y: 3\n".repeat(16_000)), None),
        (format!("text: |\n{}more: [1, 2]\n", "  a line of text\n".repeat(45_000)), None),
        (format!("rows: [\n{}]\n", " {no: 4, at: ness},\n".repeat(16_000)), None),
        // Broken far behind the beginning.
        (format!("{one} more: 1\n"), None),
        (format!("{one}more: [1,\n"), None),
        (format!("{flush}more: 1\n"), None),
    ] {
        assert_same(&text, Format::Yaml, at);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    /// The same values over and over, in maps and lists.
    #[test]
    fn any_document(values in prop::collection::vec("(1|\"a\"|null|\\[\\]|\\{\\}|\\[1,\\{\"b\":2\\}\\]|\\{\"c\":\\{\"d\":\\[\"e\",null\\]\\}\\})", 1..6), times in 1usize..4) {
        let list = vec![values.join(","); 400_000 / (values.join(",").len() + 1)].join(",");
        let member = |no: usize| format!("\"m{no}\":[{list}],\"n{no}\":{{\"o\":[{list}]}}");
        let members: Vec<String> = (0..times).map(member).collect();
        let text = format!("{{{}}}", members.join(",\n"));
        assert_same(&text, Format::Json, None);
        // Flow style is YAML as well, once it has blanks and lines.
        let yaml = text.replace(":[", ": [\n ").replace(":{", ": {\n ").replace(',', ",\n ").replace(":null", ": null").replace(":2", ": 2");
        assert_same(&yaml, Format::Yaml, None);
    }
}
