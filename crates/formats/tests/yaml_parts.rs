//! YAML that comes in parts, against the same, read whole.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, Style};
use kyanite_formats::yaml::{self, EventReader, Options, PartEvent, Place};
use kyanite_tree::{Arena, Base, Value};
use proptest::prelude::*;

fn write(value: Value<'_>, out: &mut Vec<u8>) {
    json::write(value, Style::Compact, out);
}

/// The documents of a stream as lines of JSON.
fn whole(text: &str) -> Result<String, String> {
    let arena = Arena::new();
    let read = yaml::documents(text, &arena, Options::default()).map_err(|e| e.to_string())?;
    let mut out = Vec::new();
    for document in read.documents {
        write(document, &mut out);
        out.push(b'\n');
    }
    Ok(String::from_utf8(out).unwrap())
}

/// The same, of a stream that comes in parts of about `size` bytes. What does not fit comes by what it holds, or in a larger part.
fn in_parts(text: &str, size: usize, streams: bool) -> Result<String, String> {
    let held = Arena::new();
    let (mut place, mut at, mut wanted) = (Place::default(), 0, size);
    let (mut out, mut streams_next, mut is_first) = (Vec::new(), false, true);
    loop {
        let rest = &text[at..];
        let line_end = rest.bytes().skip(wanted).position(|byte| byte == b'\n');
        let end = line_end.map_or(rest.len(), |end| wanted + end + 1);
        let (part, is_last) = (&rest[..end], end == rest.len());
        let arena = Arena::new();
        let options = Options { base: Base::default().behind(at), ..Options::default() };
        let mut reader =
            EventReader::new(part, &arena, options, &place).map_err(|e| e.to_string())?;
        if is_last {
            reader.is_last();
        }
        if streams_next {
            reader.stream_next();
        }
        let mut any = false;
        while let Some(event) = reader.next().map_err(|e| e.to_string())? {
            any = true;
            let is_end = matches!(event, PartEvent::End { .. } | PartEvent::EndDocument);
            if !std::mem::replace(&mut is_first, false) && !is_end {
                out.push(b',');
            }
            match event {
                PartEvent::Begin { is_map } => out.push(if is_map { b'{' } else { b'[' }),
                PartEvent::End { is_map } => out.push(if is_map { b'}' } else { b']' }),
                PartEvent::Name(name) => {
                    json::write_text(name, &mut out);
                    out.push(b':');
                }
                PartEvent::Value(value) => write(value, &mut out),
                PartEvent::EndDocument => out.push(b'\n'),
            }
            let begins = matches!(event, PartEvent::Begin { .. } | PartEvent::Name(_));
            is_first = begins || matches!(event, PartEvent::EndDocument);
        }
        if is_last {
            return Ok(String::from_utf8(out).unwrap());
        }
        let (used, next) = reader.end(&held);
        (place, at) = (next, at + used);
        streams_next = streams && !any;
        wanted = if any || streams_next { size } else { wanted * 2 + 1 };
        if streams_next {
            wanted = wanted.max(end);
        }
    }
}

fn assert_same(text: &str) {
    let expected = whole(text);
    for size in [1, 2, 5, 13, 40, 200] {
        for streams in [true, false] {
            let found = in_parts(text, size, streams);
            let is_too_large = found.as_ref().is_err_and(|why| why.contains("too large"));
            match &expected {
                // A map that has a member twice has both as events.
                Ok(expected) if !is_too_large => {
                    let found = found.as_ref().map(|found| again(found));
                    assert_eq!(found.as_ref(), Ok(expected), "{text:?} in {size}, {streams}");
                }
                Ok(_) => assert!(text.contains(['*', '?', '<']), "{found:?} in {text:?}"),
                Err(_) => assert!(found.is_err(), "{found:?} in {text:?} in {size}, {streams}"),
            }
        }
    }
}

/// Lines of JSON with members that are given twice taken once.
fn again(lines: &str) -> String {
    let arena = Arena::new();
    let mut out = Vec::new();
    for line in lines.lines() {
        let (value, _) = json::document(line, &arena, json::ReaderOptions::default()).unwrap();
        write(value, &mut out);
        out.push(b'\n');
    }
    String::from_utf8(out).unwrap()
}

#[test]
fn parts_of_streams() {
    for text in [
        "- code: B-1\n  legs:\n  - {from: ness, to: uig}\n  - from: uig\n- code: B-2\n  note: |\n    two\n\n    lines\n-\n  code: B-3\n",
        "a:\n- 1\n- 2\nb: c\nd:\n  e: f\n  g:\n    h: [1,\n      2, {x: y}]\n",
        "a: 'x\n  y'\nb: \"z\n\n  w\"\nc: plain\n  text\nd: >-\n  folded\n  lines\n",
        "---\na: 1\n---\n- b\n- c\n...\n# end\n--- d\n",
        "--- |\n literal\n--- >\n folded\n",
        "%TAG !p! tag:example.org,2026:\n---\na: !p!port ness\nb: [!p!x y]\nc: !!str 4\n",
        "? [a, b]\n: 1\n? c\n: 2\n1: one\ntrue: t\nnull: n\n",
        "{a: 1,\n b: [1,\n 2,\n {c: d,\n e: f}],\n g: h}\n",
        "[a,\n [b,\n c],\n {d: e},\n f: g,\n [h,\n i]: j]\n",
        "- &x {k: 1}\n- *x\n- &y\n  l: 2\n- <<: *x\n  m: 3\n- [*x, *y]\n- <<: [*x, *y]\n",
        "a: &list\n- 1\n- 2\nb: *list\nc: &deep\n  d: e\nf: *deep\n---\na: *list\n",
        "- a\n - b\n",
        "a: 1\n  b: 2\n",
        "a: [1\n",
        "a: \"x\n",
        "key: value\n- item\n",
        "- - - a\n    - b\n  - c\n- - d\n",
        "a:\n  # comment\n\n  b: 1\n\n# another\nc: 2 # behind\n",
        "\u{feff}a: 1\n---\n\u{feff}b: 2\n",
        "a: 1\na: 2\nb: {c: 1, c: 2}\n",
        "",
        "# only\n",
        "a: \nb: ~\nc: ''\nd:\n-\n-\ne:\n",
        "a: 1\r\nb:\r\n- x\r\n- y: |\r\n   z\r\n",
    ] {
        assert_same(text);
    }
}

#[test]
fn large_values_are_not_repeated() {
    let items: String = (0..40).map(|number| format!("- {number}\n")).collect();
    for (text, message) in [
        (format!("a: &large\n{items}b: *large\n"), "what this alias stands for is too large"),
        (format!("b:\n{items}<<: {{x: 1}}\n"), "what this is merged into is too large"),
    ] {
        let found = in_parts(&text, 20, true);
        assert!(found.as_ref().is_err_and(|why| why.contains(message)), "{found:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn parts_of_anything(lines in prop::collection::vec("( ){0,4}(- |\\? |: |a: |b: |&x |\\*x|<<: |\\[|\\{|\\]|\\}|, |'|\"|\\||>|#|c|1|---|\\.\\.\\.|!!str ){0,4}", 0..8)) {
        assert_same(&(lines.join("\n") + "\n"));
    }

    #[test]
    fn parts_of_documents(document in prop_documents(), size in 1usize..60, streams in any::<bool>()) {
        let arena = Arena::new();
        let (value, _) = json::document(&document, &arena, json::ReaderOptions::default()).unwrap();
        let mut text = Vec::new();
        yaml::write(value, 2, &mut text);
        let text = String::from_utf8(text).unwrap();
        prop_assert_eq!(in_parts(&text, size, streams), whole(&text));
    }
}

/// Documents of lists and maps, as JSON.
fn prop_documents() -> BoxedStrategy<String> {
    let leaf = "(1|true|null|\"\"|\"a b\"|\"x\\\\ny\"|\"- z\"|\"k: v\")";
    leaf.prop_map(|scalar| scalar)
        .prop_recursive(5, 40, 6, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..6)
                    .prop_map(|items| format!("[{}]", items.join(","))),
                prop::collection::vec(inner, 0..6).prop_map(|values| {
                    let member = |(at, value)| format!("\"m{at}\":{value}");
                    let members: Vec<String> = values.iter().enumerate().map(member).collect();
                    format!("{{{}}}", members.join(","))
                }),
            ]
        })
        .boxed()
}
