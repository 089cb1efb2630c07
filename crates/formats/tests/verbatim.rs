//! Values that are handed on as they stand are what would be written of them.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, Reader, ReaderOptions, Style, Verbatim};
use kyanite_formats::records::Structure;
use kyanite_tree::Arena;
use proptest::prelude::*;

/// What records are written as, or where they are refused; how many were handed on; members given twice.
fn lines(text: &str, verbatim: bool) -> (Result<Vec<String>, usize>, usize, usize) {
    let (arena, mut structure) = (Arena::new(), Structure::default());
    let options = ReaderOptions { depth: 5, ..ReaderOptions::default() };
    let mut reader = Reader::new(text, &arena, options);
    if verbatim {
        reader = reader.with_structure(&mut structure);
    }
    let (mut lines, mut handed_on) = (Vec::new(), 0);
    let result = loop {
        match if verbatim {
            reader.next_verbatim()
        } else {
            reader.next_value().map(|value| value.map(Verbatim::Value))
        } {
            Ok(Some(Verbatim::Text(text))) => {
                handed_on += 1;
                lines.push(text.to_owned());
            }
            Ok(Some(Verbatim::Value(value))) => {
                let mut out = Vec::new();
                json::write(value, Style::Compact, &mut out);
                lines.push(String::from_utf8(out).unwrap());
            }
            Ok(None) => break Ok(lines),
            Err(error) => break Err(error.start),
        }
    };
    (result, handed_on, reader.take_duplicates().len())
}

fn value() -> impl Strategy<Value = String> {
    let scalar = prop::sample::select(
        &[
            "1", "-0", "0.50", "1e9", "-12.5E-3", "01", "1.", "-", "\"x\"", "\"é\"", "\"\"",
            "\"a,b\"", "\"\\n\"", "\"\\/\"", "true", "tru", "null", "false", "", "\"",
        ][..],
    );
    let scalar = prop_oneof![3 => Just("1"), 2 => Just("\"some text\""), 2 => scalar]
        .prop_map(str::to_owned);
    scalar.prop_recursive(4, 30, 6, |inner| {
        let name = prop::sample::select(
            &["a", "b", "", "bb", "a name", "a longer name", "another name", "a longes name"][..],
        );
        let colon =
            prop_oneof![9 => Just(":"), 1 => prop::sample::select(&[": ", " :", "", "::"][..])];
        let comma = prop_oneof![12 => Just(","), 1 => prop::sample::select(&[", ", "", ",,"][..])];
        let member = (name, colon, inner.clone())
            .prop_map(|(name, colon, value)| format!("\"{name}\"{colon}{value}"));
        prop_oneof![
            (prop::collection::vec(inner, 0..4), comma.clone())
                .prop_map(|(items, comma)| format!("[{}]", items.join(comma))),
            (prop::collection::vec(member, 0..4), comma)
                .prop_map(|(members, comma)| format!("{{{}}}", members.join(comma))),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    #[test]
    fn the_same_as_written(values in prop::collection::vec(value(), 1..4), cut in any::<prop::sample::Index>()) {
        let text = values.join("\n");
        prop_assert_eq!(lines(&text, true).0, lines(&text, false).0, "{}", text);
        prop_assert_eq!(lines(&text, true).2, lines(&text, false).2, "{}", text);
        let places: Vec<usize> = text.char_indices().map(|(at, _)| at).collect();
        let cut = if places.is_empty() { 0 } else { *cut.get(&places) };
        prop_assert_eq!(lines(&text[..cut], true).0, lines(&text[..cut], false).0, "{}", &text[..cut]);
    }
}

#[test]
fn what_is_handed_on() {
    let many: Vec<String> = (0..65).map(|n| format!("\"{n}\":{n}")).collect();
    let (many, fewer) =
        (format!("{{{}}}", many.join(",")), format!("{{{}}}", many[..64].join(",")));
    for (record, is_handed_on) in [
        (r#"{"a":1,"b":[{"c":"é"},{}],"d":{"a":1e5,"bb":null}}"#, true),
        ("[1,[true,false],[],\"x\"]", true),
        ("{}", true),
        ("[]", true),
        (r#"{"longer name 1":1,"longer name 2":1,"longer_name 1":1}"#, true),
        (&fewer, true),
        (&many, false),
        (r#"{"a": 1}"#, false),
        (r#"{"a":"\u00e9"}"#, false),
        (r#"{"a":"\\"}"#, false),
        (r#"{"a":1,"a":2}"#, false),
        (r#"{"b":{"":1,"":2}}"#, false),
        ("[[[[[[]]]]]]", false),
        ("7", true),
        ("\"x\"", true),
        ("\"\\n\"", false),
    ] {
        assert_eq!(lines(record, true).1, usize::from(is_handed_on), "{record}");
    }
}
