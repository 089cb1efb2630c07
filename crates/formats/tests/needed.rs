//! What a reader gives that steps over members, against one that reads every byte.
#![allow(clippy::unwrap_used, reason = "tests say what is wrong by panicking")]

use kyanite_formats::json::{self, ReadError, Reader, ReaderOptions, Style};
use kyanite_formats::needs::{Need, Needs};
use kyanite_formats::records::Structure;
use kyanite_tree::Arena;
use proptest::prelude::*;

/// Needs of `a.b`, all of `c`, and the items of `list` with their `b`.
fn needs() -> Needs {
    let mut needs = Needs::nothing();
    let a = needs.add_member(Need::RECORD, "a");
    let b = needs.add_member(a, "b");
    needs.add_all(b);
    let c = needs.add_member(Need::RECORD, "c");
    needs.add_all(c);
    let list = needs.add_member(Need::RECORD, "list");
    let item = needs.add_children(list);
    let b = needs.add_member(item, "b");
    needs.add_all(b);
    needs
}

/// The values of a text, as far as they are needed, and the members given twice.
fn read(text: &str, steps_over: bool, depth: usize) -> Result<(String, usize), ReadError> {
    let (arena, needs) = (Arena::new(), needs());
    let mut structure = Structure::default();
    let options = ReaderOptions { depth, ..ReaderOptions::default() };
    let reader = Reader::new(text, &arena, options).with_needs(&needs, &mut structure);
    let mut reader = if steps_over { reader } else { reader.byte_by_byte() };
    let mut out = Vec::new();
    while let Some(value) = reader.next_value()? {
        json::write(value, Style::Compact, &mut out);
    }
    Ok((String::from_utf8(out).unwrap(), reader.take_duplicates().len()))
}

/// Why a text is refused that is read whole, if it is.
fn refused(text: &str) -> Option<ReadError> {
    let arena = Arena::new();
    let mut reader = Reader::new(text, &arena, ReaderOptions::default());
    loop {
        match reader.next_value() {
            Ok(Some(_)) => {}
            Ok(None) => return None,
            Err(error) => return Some(error),
        }
    }
}

#[test]
fn values() {
    let long = "x".repeat(100);
    for (text, wanted) in [
        (r#"{"a": {"b": 1, "c": 2}, "x": [1, {"b": 2}], "c": [3]}"#, r#"{"a":{"b":1},"c":[3]}"#),
        (r#"{"x": "a \" {", "c" : "d"} {"c":[]} {}"#, r#"{"c":"d"}{"c":[]}{}"#),
        (
            r#"{"list": [{"a": 1, "b": {"z": 1}}, {}, 5, [{"b": 1}]], "c": null}"#,
            r#"{"list":[{"b":{"z":1}},{},5,[null]],"c":null}"#,
        ),
        (r#"{"\u0063": 1, "x": {"c": 2}}"#, r#"{"c":1}"#),
        (r#"{"xc": 1, "x\"c": 2, "c": 3, "": 4}"#, r#"{"c":3}"#),
        (r#"{"c": 1, "y": "c", "c": 2}"#, r#"{"c":2}"#),
        (r#"{"a": [1], "c": {"a": {"b": 1}}}"#, r#"{"a":[null],"c":{"a":{"b":1}}}"#),
        (
            &format!(r#"{{"{long}": "{long}", "x": [["{long}"]], "c": "{long}"}}"#),
            &format!(r#"{{"c":"{long}"}}"#),
        ),
        ("{\"x\":\n1,\"c\"\t:\r\n 2\n}\n\n{\"c\":3}", r#"{"c":2}{"c":3}"#),
    ] {
        for steps_over in [true, false] {
            assert_eq!(read(text, steps_over, 512).unwrap().0, wanted, "{text} {steps_over}");
        }
    }
}

#[test]
fn what_is_stepped_over_is_still_checked() {
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
        assert!(read(text, true, 512).is_err(), "{text}");
        // The message is that of a reader of every byte.
        assert_eq!(read(text, true, 512), read(text, false, 512), "{text}");
    }
    for (depth, is_read) in [(4, true), (3, false)] {
        let text = r#"{"x": [[[1]]], "a": {"b": [[1]]}}"#;
        assert_eq!(read(text, false, depth).is_ok(), is_read);
        assert_eq!(read(text, true, depth).is_ok(), is_read);
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

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    #[test]
    fn the_same_as_of_every_byte(text in nearly_json()) {
        prop_assert_eq!(read(&text, false, 512), read(&text, true, 512));
    }

    /// A text with a byte put in, taken out or changed: whoever steps over sees the same.
    #[test]
    fn broken_texts_give_the_same(
        text in nearly_json(),
        at in any::<prop::sample::Index>(),
        with in proptest::sample::select(vec!["", "\"", "\\", "{", "}", "[", "]", ":", ",", "1", "x", "\n", "\u{1}"]),
        replaces in any::<bool>(),
    ) {
        let mut broken = text.clone();
        let at = at.index(text.len());
        let at = (0..=at).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        let end = at + text[at..].chars().next().map_or(0, char::len_utf8);
        broken.replace_range(at..if replaces { end } else { at }, with);
        let stepping = read(&broken, true, 512);
        prop_assert_eq!(&stepping, &read(&broken, false, 512), "{}", broken);
        // What is refused is what any reader refuses, and for the same reason.
        prop_assert_eq!(stepping.err(), refused(&broken), "{}", broken);
    }
}
