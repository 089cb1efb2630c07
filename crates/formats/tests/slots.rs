//! Members read into slots, and lines, are those of the values that records are, however they look, and whatever looked like them before.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{
    self, Reader, ReaderOptions, Slot, SlotTemplates, Slots, Slotted, Style, ValueTemplates,
};
use kyanite_formats::projection::{Projected, Projection};
use kyanite_tree::{Arena, Value};
use proptest::prelude::*;

const PATHS: [&[&str]; 4] = [&["a"], &["b", "c"], &["b", "long name of a member"], &["list"]];

fn paths() -> (Projection, Vec<(Vec<String>, Projected)>) {
    let mut projection = Projection::nothing();
    let paths = PATHS.map(|path| {
        let projected = path
            .iter()
            .fold(Projected::RECORD, |projected, name| projection.add_member(projected, name));
        projection.add_all(projected);
        (path.iter().map(|name| (*name).to_owned()).collect(), Projected::ALL)
    });
    (projection, paths.into())
}

fn written(value: Value<'_>) -> String {
    let mut out = Vec::new();
    json::write(value, Style::Compact, &mut out);
    String::from_utf8(out).unwrap()
}

/// The members of a record that are wanted, and its line, if that is; or where it is refused.
type Found = Result<([Option<String>; 4], Option<String>), usize>;

/// What the members of each record are, and its line if `has_lines`, or where reading fails; how many records went into slots, and how
/// many members were given twice.
fn read(texts: &[String], in_slots: bool, has_lines: bool) -> (Vec<Found>, usize, usize) {
    let (projection, paths) = paths();
    let slots = Slots::new(&paths).unwrap();
    let slots = if has_lines { slots.with_text_without(["y"]) } else { slots };
    let mut templates = SlotTemplates::default();
    let (mut results, mut slotted, mut duplicates) = (Vec::new(), 0, 0);
    for text in texts {
        let (arena, mut values) = (Arena::new(), ValueTemplates::default());
        let options = ReaderOptions { depth: 4, ..ReaderOptions::default() };
        let reader = Reader::new(text, &arena, options);
        let mut reader = match has_lines {
            true => reader,
            false => reader.with_templates(&mut values, Some(&projection)),
        };
        let mut found = [Slot::default(); 4];
        loop {
            let next = if in_slots {
                reader.next_slots(&slots, &mut templates, &mut found)
            } else {
                reader.next_value().map(|value| value.map(Slotted::Value))
            };
            results.push(match next {
                Ok(None) => break,
                Err(error) => {
                    results.push(Err(error.start));
                    break;
                }
                Ok(Some(Slotted::Slots(line))) => {
                    slotted += 1;
                    let members = found.map(|Slot { value, token, text }| {
                        let value = written(value?);
                        // What is copied is what would be written, and stands in the line.
                        assert!(token.is_empty() || token == value.as_bytes());
                        assert!(
                            !has_lines || line.as_bytes().as_ptr_range().contains(&text.as_ptr())
                        );
                        assert!(!has_lines || text == value.as_bytes());
                        Some(value)
                    });
                    Ok((members, has_lines.then(|| line.to_owned())))
                }
                Ok(Some(Slotted::Value(value))) => {
                    let members = PATHS.map(|path| {
                        let member = path.iter().try_fold(value, |value, name| value.member(name));
                        member.map(written)
                    });
                    Ok((members, has_lines.then(|| written(value))))
                }
            });
        }
        duplicates += reader.take_duplicates().len();
    }
    (results, slotted, duplicates)
}

fn scalar() -> impl Strategy<Value = String> {
    prop_oneof![
        8 => prop::sample::select(&[
            "1", "-0.5e3", "\"x\"", "\"é\"", "true", "null", "\"\"", "\"{:[\"",
        ][..]).prop_map(str::to_owned),
        1 => prop::sample::select(&[
            "\"\\\"a\"", "\"\\u0061\"", "\"a\\\\\"", "01", "tru", "1 2", "", "1,", "+1", "\"a\":2", "{}", "[[[[]]]]", "{\"c\":[]}",
        ][..]).prop_map(str::to_owned),
    ]
}

fn member() -> impl Strategy<Value = String> {
    let name = prop_oneof![
        12 => prop::sample::select(&["a", "other", "list", "another long name", "e:f"][..]),
        1 => prop::sample::select(&["\\u0061", "x\\\"a", "b", ""][..]),
    ];
    let colon = prop::sample::select(&[":", ":", ":", ": ", " :", ":  ", ""][..]);
    let inner = prop_oneof![
        Just("{\"c\":1,\"long name of a member\":\"y\"}".to_owned()),
        Just("{\"c\":{\"c\":2},\"x\":3}".to_owned()),
        Just("{\"another name of a member\":\"y\"}".to_owned()),
        Just("{\"c\":1,\"c\":2}".to_owned()),
        Just("[{\"c\":1}]".to_owned()),
        Just("7 {\"c\":1}".to_owned()),
    ];
    prop_oneof![
        5 => (name, colon, scalar()).prop_map(|(name, colon, value)| format!("\"{name}\"{colon}{value}")),
        2 => inner.prop_map(|inner| format!("\"b\":{inner}")),
        1 => prop::collection::vec(scalar(), 0..3).prop_map(|items| format!("\"list\":[{}]", items.join(","))),
    ]
}

fn record() -> impl Strategy<Value = String> {
    let members = prop::collection::vec(member(), 0..5);
    prop_oneof![
        20 => members.prop_map(|members| format!("{{{}}}", members.join(","))),
        1 => scalar(),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    #[test]
    fn slots_are_the_members(
        mut kinds in prop::collection::vec(record(), 1..6),
        order in prop::collection::vec(any::<prop::sample::Index>(), 1..20),
        changes in prop::collection::vec((any::<prop::sample::Index>(), any::<prop::sample::Index>(), "[a{}:\", 1]"), 0..3),
    ) {
        // The same records again and again, and some that are nearly the same.
        for (which, at, with) in changes {
            let mut changed = which.get(&kinds).clone();
            let places: Vec<usize> = changed.char_indices().map(|(at, _)| at).collect();
            if !places.is_empty() {
                let at = *at.get(&places);
                let end = at + changed[at..].chars().next().map_or(0, char::len_utf8);
                changed.replace_range(at..end, &with);
                kinds.push(changed);
            }
        }
        let texts: Vec<String> = order.chunks(7).map(|chunk| {
            chunk.iter().map(|which| which.get(&kinds).as_str()).collect::<Vec<_>>().join("\n")
        }).collect();
        for has_lines in [false, true] {
            let (values, _, duplicates) = read(&texts, false, has_lines);
            let (found, slotted, told) = read(&texts, true, has_lines);
            prop_assert_eq!(&found, &values, "{:?}", texts);
            // Where not all is read, members that are given twice may be told by the one or by the other.
            prop_assert!(told == duplicates || !has_lines, "{:?}", texts);
            prop_assert!(slotted <= found.len());
        }
    }
}

#[test]
fn records_that_go_into_slots() {
    for (texts, slotted) in [
        (&[r#"{"a":1,"x":2}"#, r#"{"a":"z","x":{}}"#, r#"{"x":2,"a":1}"#][..], 3),
        (&[r#"{"a":1,"x":2}"#, r#"{"a":1,"a":2}"#, r#"{"x":1,"x":2}"#][..], 1),
        (&[r#"{"b":{"c":1}}"#, r#"{"b":{"x":1}}"#, r#"{"b":[1]}"#, r#"{"b":null}"#][..], 2),
        (&[r#"{"b" : {"c" : "\u00e9"} , "a": "\\" }"#, "[1]", "\"a\"", "{}"][..], 2),
        // Members that are now a text, now another scalar, and names that only end alike.
        (
            &[
                r#"{"x":"","a":1}"#,
                r#"{"x":null,"a":"z"}"#,
                r#"{"x":-1,"a":true}"#,
                r#"{"x":[],"a":1}"#,
            ][..],
            4,
        ),
        (&[r#"{"a": 1, "b": {"c": 2}}"#, r#"{"a": 1, "b": {"c": 2}, "a": 3}"#][..], 1),
        (
            &[
                r#"{"one long name of a member":1,"a":2}"#,
                r#"{"two long name of a member":1,"a":2}"#,
            ][..],
            2,
        ),
        (&[r#"{"x":"\"a","a":1}"#, r#"{"\u0061":1,"a":2}"#, r#"{"a\"a":1}"#, r#"{"a":1}"#][..], 2),
    ] {
        let texts: Vec<String> = texts.iter().map(|text| (*text).to_owned()).collect();
        for texts in [texts.clone(), vec![texts.join("\n"); 3]] {
            let rounds = if texts.len() == 3 && texts[0] == texts[1] { 3 } else { 1 };
            let (found, in_slots, _) = read(&texts, true, false);
            let values = read(&texts, false, false).0;
            assert_eq!((found, in_slots), (values, slotted * rounds), "{texts:?}");
        }
    }
}

#[test]
fn a_record_with_anything_wrong_goes_into_no_slots() {
    for broken in [
        r#"{"a":1,"b":{"c":2} 7,"x":3}"#,
        r#"{"x":1 "y","a":2}"#,
        r#"{"x":1:2,"a":2}"#,
        r#"{"x":[1 2],"a":2}"#,
    ] {
        let good = r#"{"x":1,"a":2}"#;
        for (texts, slotted) in [
            (vec![good.to_owned(), broken.to_owned()], 1),
            (vec![format!("{good}\n{broken}"), good.to_owned()], 2),
        ] {
            let (found, in_slots, _) = read(&texts, true, false);
            assert_eq!((found, in_slots), (read(&texts, false, false).0, slotted), "{texts:?}");
        }
    }
}

/// The lines of the records of a text, asked for one by one.
fn lines_on_demand(text: &str) -> Vec<String> {
    let (arena, mut known) = (Arena::new(), SlotTemplates::default());
    let options = ReaderOptions { depth: 4, ..ReaderOptions::default() };
    let mut reader = Reader::new(text, &arena, options);
    let slots = Slots::new(&paths().1).unwrap().with_text_on_demand();
    let (mut found, mut lines) = ([Slot::default(); 4], Vec::new());
    while let Ok(Some(record)) = reader.next_slots(&slots, &mut known, &mut found) {
        lines.push(match record {
            Slotted::Value(value) => written(value),
            Slotted::Slots(_) => {
                let mut out = Vec::new();
                reader.write_line(&mut known, &mut out);
                String::from_utf8(out).unwrap()
            }
        });
    }
    lines
}

#[test]
fn records_that_become_lines() {
    let wide: Vec<String> = (0..300).map(|n| format!("\"{n}\": {n}")).collect();
    let wide = format!("{{{}}}", wide.join(", "));
    for (record, is_line) in [
        (r#"{"a":1,"b":{"c":"é"},"list":{"a":1e5,"bb":null}}"#, true),
        (r#"{ "a" : 1 , "list" : [ 1 , "\u00e9\/\n" , {} ] }"#, true),
        (r#"{"a":"\\"}"#, true),
        ("{}", true),
        (&wide, true),
        // A name that is not to be there, names that have escapes or stand twice, what is too deep or no map.
        (r#"{"y":1}"#, false),
        (r#"{"list":{"y":1}}"#, true),
        (r#"{"\u0061":1}"#, false),
        (r#"{"a":1,"a":2}"#, false),
        (r#"{"x":{"":1,"":2}}"#, false),
        (r#"{"x":[[[[]]]]}"#, false),
        (r#"{"b":[{"c":1}]}"#, false),
        ("[1]", false),
        ("7", false),
    ] {
        // The first record by its events, the next by its template, and the last by its events again.
        let texts = [[record, record, record].join("\n")];
        let (found, in_slots, told) = read(&texts, true, true);
        let (values, _, duplicates) = read(&texts, false, true);
        let lines: Vec<String> = values.iter().filter_map(|found| found.clone().ok()?.1).collect();
        assert_eq!(lines_on_demand(&texts[0]), lines, "{record}");
        assert_eq!((found, told), (values, duplicates), "{record}");
        assert_eq!(in_slots, if is_line { 3 } else { 0 }, "{record}");
    }
}
