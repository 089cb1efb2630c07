//! Values that are built by the templates of records before are those that are read, each from the same place.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, ReadError, Reader, ReaderOptions, Style, ValueTemplates};
use kyanite_formats::projection::{Projected, Projection};
use kyanite_tree::{Arena, Value};
use proptest::prelude::*;

/// The values of texts with their places, or where reading fails; and how many members were given twice.
fn values(
    texts: &[String],
    projection: Option<&Projection>,
    known: &mut ValueTemplates,
) -> Vec<String> {
    let mut found = Vec::new();
    for text in texts {
        let arena = Arena::new();
        let options = ReaderOptions { depth: 5, ..ReaderOptions::default() };
        let reader = Reader::new(text, &arena, options);
        let mut reader = reader.with_templates(known, projection);
        loop {
            match reader.next_value() {
                Ok(Some(value)) => {
                    let at = reader.position();
                    found.push(match projection {
                        // More may be there.
                        Some(_) => format!("{} {at}", seen(value)),
                        None => format!("{value:?} {at}"),
                    });
                }
                Ok(None) => break,
                Err(error) => {
                    found.push(format!("{error:?}"));
                    break;
                }
            }
        }
        found.extend(reader.take_duplicates().iter().map(|duplicate| format!("{duplicate:?}")));
    }
    found
}

/// What those who have these needs see of a value.
fn seen(value: Value<'_>) -> String {
    let list = value.member("list");
    let items = match list {
        Some(Value::List(_, items)) => items.iter().map(|item| item.member("a")).collect(),
        Some(Value::Map(_, map)) => {
            map.members().iter().map(|member| member.value.member("a")).collect()
        }
        _ => Vec::new(),
    };
    let of = |value: Option<Value<'_>>| value.map(|value| (value.kind(), value.origin()));
    format!("{:?} {items:?} {:?} {:?}", of(Some(value)), value.member("b"), of(value.member("c")))
}

/// Needs of `list[*].a`, `b` whole and the presence of `c`, and of lists that are records.
fn projection() -> Projection {
    let mut projection = Projection::nothing();
    let list = projection.add_member(Projected::RECORD, "list");
    let item = projection.add_children(list);
    let a = projection.add_member(item, "a");
    projection.add_all(a);
    let b = projection.add_member(Projected::RECORD, "b");
    projection.add_all(b);
    projection.add_member(Projected::RECORD, "c");
    projection
}

/// What is needed of the values of a text, or why it is refused.
fn written(text: &str, projection: Option<&Projection>, depth: usize) -> Result<String, ReadError> {
    let (arena, mut known) = (Arena::new(), ValueTemplates::default());
    let options = ReaderOptions { depth, ..ReaderOptions::default() };
    let mut reader = Reader::new(text, &arena, options).with_templates(&mut known, projection);
    let mut out = Vec::new();
    while let Some(value) = reader.next_value()? {
        json::write(value, Style::Compact, &mut out);
    }
    Ok(String::from_utf8(out).unwrap())
}

#[test]
fn only_what_is_needed_is_built() {
    for (text, wanted) in [
        (r#"{"b": {"b": 1, "c": 2}, "x": [1, {"b": 2}]}"#, r#"{"b":{"b":1,"c":2}}"#),
        (r#"{"x": "a \" {", "b" : "d"} {"b":[]} {}"#, r#"{"b":"d"}{"b":[]}{}"#),
        (
            r#"{"list": [{"b": 1, "a": {"z": 1}}, {}, 5, [{"a": 1}]], "b": null}"#,
            r#"{"list":[{"a":{"z":1}},{},5,[null]],"b":null}"#,
        ),
        (r#"{"list": {"b": {"a": 1}, "a": {"b": 2}}}"#, r#"{"list":{"b":{"a":1},"a":{}}}"#),
        (r#"{"c": [1, {"a": 2}], "a": 1}"#, r#"{"c":[null,null]}"#),
        (r#"{"xb": 1, "b": 3, "": 4}"#, r#"{"b":3}"#),
        (r#"[1, {"a": 2}] 5"#, "[null,null]5"),
        ("{\"x\":\n1,\"b\"\t:\r\n 2\n}\n\n{\"b\":3}", r#"{"b":2}{"b":3}"#),
        // Names that have escapes or stand twice: all is read.
        (r#"{"\u0062": 1, "x": {"b": 2}}"#, r#"{"b":1,"x":{"b":2}}"#),
        (r#"{"b": 1, "y": "b", "b": 2}"#, r#"{"b":2,"y":"b"}"#),
        (r#"{"b": 1, "x": {"y": 1, "y": 2}}"#, r#"{"b":1,"x":{"y":2}}"#),
    ] {
        let (once, thrice) = (text.to_owned(), [text, text, text].join("\n"));
        assert_eq!(written(&once, Some(&projection()), 512).unwrap(), wanted, "{text}");
        assert_eq!(written(&thrice, Some(&projection()), 512).unwrap(), wanted.repeat(3), "{text}");
    }
}

#[test]
fn what_is_not_needed_is_still_checked() {
    for text in [
        r#"{"x": [1}, "c": 1}"#,
        r#"{"x": {"y": 1, "c": 1}"#,
        r#"{"x": "y, "c": 1}"#,
        "{\"x\": \"a\nb\", \"c\": 1}",
        r#"{"x": [yes], "c": 1}"#,
        r#"{"x": [1 ; 2], "c": 1}"#,
        r#"{"x": , "c": 1}"#,
        r#"{"x": }"#,
        r#"{x: 1, "c": 1}"#,
        r#"{"c": 1 "x": 2}"#,
        r#"{"c": 1]"#,
        r#"{{"c": 1}}"#,
        r#"{"x" 1, "c": 1}"#,
        r#"{"x": 1, "c" "y", "z": 2}"#,
        r#"{"x": "y", "c" {"z": 1}}"#,
        r#"{"x": 1, "c"}"#,
        r#"{"x": 1}}"#,
        r#"{"x": {"y" 1}, "c": 1}"#,
        r#"{"x": [1,,2], "c": 1}"#,
        r#"{"x": [1 2], "c": 1}"#,
        r#"{"x": "\q", "c": 1}"#,
        r#"{"x": "\ud83d", "c": 1}"#,
        r#"{"x": 01, "c": 1}"#,
        r#"{"x": 1., "c": 1}"#,
        r#"{"x": trues, "c": 1}"#,
    ] {
        // The message is that of a reader of whole values.
        assert!(written(text, None, 512).is_err(), "{text}");
        assert_eq!(written(text, Some(&projection()), 512), written(text, None, 512), "{text}");
    }
    for (depth, is_read) in [(4, true), (3, false)] {
        let text = r#"{"x": [[[1]]], "a": {"b": [[1]]}}"#;
        assert_eq!(written(text, None, depth).is_ok(), is_read);
        assert_eq!(written(text, Some(&projection()), depth).is_ok(), is_read);
    }
}

/// Text that is JSON, or nearly so.
fn nearly_json() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("1".to_owned()),
        Just("-2.5e3".to_owned()),
        Just("true".to_owned()),
        Just("\"x\"".to_owned()),
        Just("\"a\\\"{:,[\"".to_owned()),
        Just("\"é\\u0041\"".to_owned()),
    ];
    let value = leaf.prop_recursive(4, 24, 4, |inner| {
        let name = prop_oneof![
            Just("a"),
            Just("b"),
            Just("c"),
            Just("list"),
            Just("other"),
            Just("\\u0062"),
            Just("x\\\"c")
        ];
        let member = (name, inner.clone(), "[ \n]?")
            .prop_map(|(name, value, blank)| format!("\"{name}\"{blank}:{blank}{value}"));
        prop_oneof![
            proptest::collection::vec(inner, 0..4)
                .prop_map(|items| format!("[{}]", items.join(", "))),
            proptest::collection::vec(member, 0..5)
                .prop_map(|members| format!("{{{}}}", members.join(","))),
        ]
    });
    proptest::collection::vec(value, 1..4).prop_map(|values| values.join("\n"))
}

fn value() -> impl Strategy<Value = String> {
    let scalar = prop::sample::select(
        &["1", "-0.5e3", "\"x\"", "\"\"", "\"\\u00e9\\\"\"", "true", "false", "null", "01", ""][..],
    );
    let scalar = prop_oneof![6 => Just("12"), 6 => Just("\"some text\""), 3 => scalar];
    scalar.prop_map(str::to_owned).prop_recursive(4, 16, 4, |inner| {
        let name = prop::sample::select(&["a", "b", "c", "list", "other", "\\u0061", ""][..]);
        let colon = prop::sample::select(&[":", ":", ": ", " : "][..]);
        let member = (name, colon, inner.clone())
            .prop_map(|(name, colon, value)| format!("\"{name}\"{colon}{value}"));
        let comma = prop::sample::select(&[",", ",", ", ", "\n,"][..]);
        prop_oneof![
            (prop::collection::vec(inner, 0..4), comma.clone())
                .prop_map(|(items, comma)| format!("[{}]", items.join(comma))),
            (prop::collection::vec(member, 0..4), comma)
                .prop_map(|(members, comma)| format!("{{{}}}", members.join(comma))),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn built_as_read(
        kinds in prop::collection::vec(value(), 1..5),
        order in prop::collection::vec((any::<prop::sample::Index>(), 0_usize..3), 1..16),
    ) {
        // The same records again and again, and some that differ in a scalar.
        let records: Vec<String> = order.iter().map(|(which, change)| {
            let record = which.get(&kinds);
            match change {
                0 => record.clone(),
                1 => record.replace("12", "-4.5"),
                _ => record.replace("some text", "other"),
            }
        }).collect();
        let texts: Vec<String> = records.chunks(6).map(|chunk| chunk.join("\n") + "\n").collect();
        for projection in [None, Some(projection())] {
            let projection = projection.as_ref();
            let read = values(&texts, projection, &mut ValueTemplates::unused());
            let built = values(&texts, projection, &mut ValueTemplates::default());
            prop_assert_eq!(built, read, "{:?}", texts);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    /// A text with a byte put in, taken out or changed is refused where any reader refuses it, and for the same reason.
    #[test]
    fn broken_texts_are_refused_alike(
        text in nearly_json(),
        at in any::<prop::sample::Index>(),
        with in prop::sample::select(vec!["", "\"", "\\", "{", "}", "[", "]", ":", ",", "1", "x", "\n", "\u{1}"]),
        replaces in any::<bool>(),
    ) {
        let mut broken = text.clone();
        let at = at.index(text.len());
        let at = (0..=at).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        let end = at + text[at..].chars().next().map_or(0, char::len_utf8);
        broken.replace_range(at..if replaces { end } else { at }, with);
        let (needed, whole) = (written(&broken, Some(&projection()), 512), written(&broken, None, 512));
        prop_assert_eq!(needed.err(), whole.err(), "{}", broken);
    }
}

#[test]
fn a_cache_is_of_what_is_needed() {
    let texts = vec!["{\"b\":1,\"x\":2}\n{\"b\":3,\"x\":4}\n".to_owned()];
    let (mut known, projection) = (ValueTemplates::default(), projection());
    for projection in [Some(&projection), None, Some(&projection), None] {
        let built = values(&texts, projection, &mut known);
        assert_eq!(built, values(&texts, projection, &mut ValueTemplates::unused()));
    }
}

#[test]
fn deep_records_are_read() {
    let deep = format!("{}1{}\n", "{\"b\":[".repeat(300), "]}".repeat(300));
    let text = deep.repeat(3);
    let (arena, mut known) = (Arena::new(), ValueTemplates::default());
    let options = ReaderOptions { depth: 1000, ..ReaderOptions::default() };
    let mut reader = Reader::new(&text, &arena, options).with_templates(&mut known, None);
    for _ in 0..3 {
        let mut value = reader.next_value().unwrap().unwrap();
        for _ in 0..300 {
            value = match value.member("b").unwrap() {
                Value::List(_, items) => items[0],
                other => panic!("{other:?}"),
            };
        }
        assert_eq!(value.as_number().unwrap().as_str(), "1");
    }
    assert!(reader.next_value().unwrap().is_none());
}
