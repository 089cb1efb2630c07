//! YAML and TOML: what TOML refuses, writers, and round trips.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, ReaderOptions, Style};
use kyanite_formats::losses::Losses;
use kyanite_formats::{toml, yaml};
use kyanite_tree::{Arena, Value, equal};
use proptest::prelude::*;

fn compact(value: Value<'_>) -> String {
    let mut out = Vec::new();
    json::write(value, Style::Compact, &mut out);
    String::from_utf8(out).unwrap()
}

#[test]
fn toml_refusals() {
    let arena = Arena::new();
    for (text, message, start) in [
        ("a = 1\na = 2", "`a` is there already", 6),
        ("[a]\n[a]", "`a` is there already", 5),
        ("a = 9223372036854775808", "this integer does not fit in 64 bits", 4),
        ("a = 2026-02-30", "this is no value of TOML", 4),
        ("a = \"x", "this text is not closed on its line", 4),
        ("a = \"\\q\"", "this backslash begins no escape", 5),
        ("a = [1\n2]", "a comma or `]` is missing here", 7),
        ("a = {b = 1,\n}", "a key is missing here", 11),
        ("a 1", "`=` is missing behind the key", 2),
        ("a = 1 b", "the line should end here", 6),
        ("= 1", "a key is missing here", 0),
    ] {
        let error = toml::document(text, &arena, toml::Options::default()).unwrap_err();
        assert_eq!((error.message(), error.span().start), (message, start), "{text}");
    }
}

/// JSON values such as documents hold, as JSON text.
fn value() -> impl Strategy<Value = String> {
    let text = prop_oneof![
        "[ -~]{0,8}",
        "[a-z:# \n\t'\"\\\\&*!|>%@`,\\[\\]{}-]{0,10}",
        "(no|yes|~|0700|1e3|\\.inf|2026-01-01|<<|=|true|null| a|a |é\u{85}|\u{7f}|\r)",
    ]
    .prop_map(|text: String| serde_json::to_string(&text).unwrap());
    let scalar = prop_oneof![
        3 => text.clone(),
        1 => "-?(0|[1-9][0-9]{0,12})(\\.[0-9]{1,4})?",
        1 => Just("true".to_owned()),
        1 => Just("null".to_owned()),
    ];
    scalar.prop_recursive(4, 32, 5, move |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..5)
                .prop_map(|items| format!("[{}]", items.join(","))),
            prop::collection::btree_map(text.clone(), inner, 0..5).prop_map(|members| {
                let members: Vec<_> =
                    members.iter().map(|(name, value)| format!("{name}:{value}")).collect();
                format!("{{{}}}", members.join(","))
            }),
        ]
    })
}

proptest! {
    #[test]
    fn what_yaml_writes_it_reads(json in value(), indent in 1usize..5) {
        let arena = Arena::new();
        let (value, _) = json::document(&json, &arena, ReaderOptions::default()).unwrap();
        let mut out = Vec::new();
        yaml::write(value, indent, &mut out);
        let text = String::from_utf8(out).unwrap();
        let read = yaml::documents(&text, &arena, yaml::Options::default());
        let read = read.unwrap_or_else(|error| panic!("{}: {text:?}", error.message()));
        prop_assert_eq!(read.documents.len(), 1, "{:?}", text);
        prop_assert_eq!(compact(read.documents[0]), compact(value), "{:?}", text);
        // And once more, byte for byte.
        let mut again = Vec::new();
        yaml::write(read.documents[0], indent, &mut again);
        prop_assert_eq!(String::from_utf8(again).unwrap(), text);
    }

    #[test]
    fn what_toml_writes_it_reads(json in value()) {
        let arena = Arena::new();
        let json = format!("{{\"root\": {json}}}");
        let (value, _) = json::document(&json, &arena, ReaderOptions::default()).unwrap();
        let (mut out, mut losses) = (Vec::new(), Losses::default());
        if toml::write(value, &mut out, &mut losses).is_ok() && losses.is_empty() {
            let text = String::from_utf8(out).unwrap();
            let read = toml::document(&text, &arena, toml::Options::default());
            let read = read.unwrap_or_else(|error| panic!("{}: {text:?}", error.message()));
            prop_assert!(equal(read.root, value), "{text}");
        }
    }

    #[test]
    fn no_yaml_panics(text in r#"(a|: |:|- |-|\? |#|&a|\*a|!t |!!str |<<|\||>|\+|\[|\]|\{|\}|,|'|"|---|\.\.\.|%|\n|  | |\t|é|0|\\){0,30}"#) {
        let arena = Arena::new();
        let _ = yaml::documents(&text, &arena, yaml::Options::default());
    }

    #[test]
    fn no_toml_panics(text in r#"(a|\.|=| = |\[|\]|\[\[|\{|\}|,|'|"|"""|'''|#|\n|\r\n|\\|\\u00|0x|_|1|e|-|inf|2026-01-01|T|07:00:00|é| |\x01){0,30}"#) {
        let arena = Arena::new();
        let _ = toml::document(&text, &arena, toml::Options::default());
    }
}
