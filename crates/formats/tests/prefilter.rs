//! Records that are passed over by their text: only such as fail the condition by their value.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use std::cmp::Ordering;

use kyanite_formats::json::{self, Prefilter, Reader, ReaderOptions};
use kyanite_formats::needs::{Need, Needs};
use kyanite_formats::records::Structure;
use kyanite_tree::{Arena, Comparison, Value, equal, order};
use proptest::prelude::*;

const TESTS: [Comparison; 6] = [
    Comparison::Equal,
    Comparison::NotEqual,
    Comparison::Less,
    Comparison::LessOrEqual,
    Comparison::Greater,
    Comparison::GreaterOrEqual,
];

/// Whether the condition holds of a record, by its value.
fn holds(record: Value<'_>, path: &[&str], test: Comparison, constant: Value<'_>) -> bool {
    let member = path.iter().try_fold(record, |value, name| value.member(name));
    let same = member.is_some_and(|member| equal(member, constant));
    let is = |wanted| member.and_then(|member| order(member, constant)) == Some(wanted);
    match test {
        Comparison::Equal => same,
        Comparison::NotEqual => !same,
        Comparison::Less => is(Ordering::Less),
        Comparison::LessOrEqual => same || is(Ordering::Less),
        Comparison::Greater => is(Ordering::Greater),
        Comparison::GreaterOrEqual => same || is(Ordering::Greater),
    }
}

/// Needs of the member at `path`.
fn needs(path: &[&str]) -> Needs {
    let mut needs = Needs::nothing();
    let last = path.iter().fold(Need::RECORD, |need, name| needs.add_member(need, name));
    needs.add_all(last);
    needs
}

/// Reads a record through a prefilter; tells whether it was passed over, or nothing when it is refused.
fn is_passed_over(
    record: &str,
    path: &[&str],
    test: Comparison,
    constant: Value<'_>,
) -> Option<bool> {
    let prefilter = Prefilter::new(path, test, constant)?;
    let needs = needs(path);
    let (arena, mut structure) = (Arena::new(), Structure::default());
    let reader = Reader::new(record, &arena, ReaderOptions { depth: 4, ..Default::default() });
    let mut reader = reader.with_needs(&needs, &mut structure).with_prefilter(&prefilter);
    let read = reader.next_value().ok()?;
    Some(reader.take_passed_over() == 1 && read.is_none())
}

#[test]
fn what_is_certain() {
    let number = |text| Value::number(kyanite_tree::Number::parse(text).unwrap());
    for (record, path, test, constant, passed) in [
        (r#"{"a":1}"#, &["a"][..], Comparison::Greater, number("1"), true),
        (r#"{"a":1.0}"#, &["a"], Comparison::GreaterOrEqual, number("1"), false),
        (r#"{"a":1.0}"#, &["a"], Comparison::NotEqual, number("1"), true),
        (r#"{"a": -1.25 }"#, &["a"], Comparison::Greater, number("-1.3"), false),
        (r#"{"a":-1.25}"#, &["a"], Comparison::Greater, number("-1.3"), false),
        (r#"{"a":-1.25}"#, &["a"], Comparison::Less, number("-1.3"), true),
        (
            r#"{"a":123456789012345678}"#,
            &["a"],
            Comparison::Less,
            number("0.00000000000000001"),
            true,
        ),
        (r#"{"a":1234567890123456789}"#, &["a"], Comparison::Less, number("1"), false),
        (r#"{"a":1e9}"#, &["a"], Comparison::Less, number("1"), false),
        (r#"{"a":"x"}"#, &["a"], Comparison::Equal, Value::text("x"), false),
        (r#"{"a":"xy"}"#, &["a"], Comparison::Equal, Value::text("x"), true),
        (r#"{"a":"xy"}"#, &["a"], Comparison::Greater, Value::text("x"), false),
        (r#"{"a":"xy"}"#, &["a"], Comparison::Less, Value::text("x"), true),
        (r#"{"a":"1"}"#, &["a"], Comparison::Less, number("5"), true),
        (r#"{"a":"1"}"#, &["a"], Comparison::NotEqual, number("1"), false),
        (r#"{"a":1}"#, &["a"], Comparison::Equal, Value::text("1"), true),
        (r#"{"a":true}"#, &["a"], Comparison::Equal, Value::boolean(true), false),
        (r#"{"a":false}"#, &["a"], Comparison::Equal, Value::boolean(true), true),
        (r#"{"a":true}"#, &["a"], Comparison::Equal, number("1"), true),
        (r#"{"b":[{"a":2}],"a":2,"c":{"a":2}}"#, &["a"], Comparison::Equal, number("1"), true),
        (r#"{"b":1}"#, &["a"], Comparison::NotEqual, number("1"), false),
        (r#"{"b":{"x":[1,{}],"a":2},"c":3}"#, &["b", "a"], Comparison::Equal, number("1"), true),
        (r#"{"a" :2}"#, &["a"], Comparison::Equal, number("1"), true),
        (r#"{"b":"\u0061","a":2}"#, &["a"], Comparison::Equal, number("1"), true),
        // What is not certain, or not plain: an absent member may be one whose colon is missing.
        (r#"{"b":[{"a":1}],"c":{"a":1}}"#, &["a"], Comparison::Equal, number("1"), false),
        (r#"{"b":{"x":1},"c":3}"#, &["b", "a"], Comparison::Equal, number("1"), false),
        (r#"{"b":[]}"#, &["b", "a"], Comparison::Equal, number("1"), false),
        (r#"{"a":null}"#, &["a"], Comparison::Equal, number("1"), false),
        (r#"{"a":{}}"#, &["a"], Comparison::Equal, number("1"), false),
        (r#"{"a":2,"a":1}"#, &["a"], Comparison::Equal, number("1"), false),
        (r#"{"\u0061":1}"#, &["a"], Comparison::Equal, number("1"), false),
        (r#"{"a":"\u0061"}"#, &["a"], Comparison::Equal, Value::text("a"), false),
        (r#"{"a":"x\ny"}"#, &["a"], Comparison::Equal, Value::text("x"), false),
        (r#"[{"a":2}]"#, &["a"], Comparison::Equal, number("1"), false),
    ] {
        let found = is_passed_over(record, path, test, constant);
        assert_eq!(found, Some(passed), "{record} {test:?}");
    }
    for record in [
        r#"{"b":1,"a""x","c":3}"#,
        r#"{"a":01}"#,
        r#"{"a":1.}"#,
        r#"{"a":-}"#,
        r#"{"a":tru}"#,
        r#"{"a":1]"#,
        r#"{"a":,"b":1}"#,
        r#"{"a":1"#,
    ] {
        assert_eq!(
            is_passed_over(record, &["a"], Comparison::Equal, number("7")),
            None,
            "{record}"
        );
    }
    for (path, constant) in [
        (&["a"][..], Value::text("\"")),
        (&["a"], Value::NULL),
        (&["a"], number("1e3")),
        (&["a"], number("1234567890123456789")),
        (&["a\\"], number("1")),
        (&[], number("1")),
    ] {
        assert!(
            Prefilter::new(path, Comparison::Equal, constant).is_none(),
            "{path:?} {constant:?}"
        );
    }
}

fn any_scalar() -> impl Strategy<Value = String> {
    prop_oneof![
        3 => "-?(0|[1-9][0-9]{0,2})(\\.[0-9]{1,2})?",
        1 => "-?[1-9][0-9]{15,19}(\\.[0-9]{1,3})?",
        1 => "[0-9]e[0-9]",
        3 => "\"[ab1é]{0,3}\"",
        1 => prop::sample::select(&["true", "false", "null", "{}", "[]", "\"\\u0061\"", "01", "1.", "x", "-"][..])
            .prop_map(str::to_owned),
    ]
}

fn any_record() -> impl Strategy<Value = String> {
    let name = prop::sample::select(&["a", "b", "ab", "a long name of a member", "\\u0061"][..]);
    let blank = prop::sample::select(&["", "", "", " "][..]);
    any_scalar().prop_recursive(3, 12, 4, move |inner| {
        prop_oneof![
            4 => prop::collection::vec((name.clone(), blank.clone(), inner.clone()), 0..4).prop_map(|members| {
                let members = members.iter().map(|(name, blank, value)| format!("\"{name}\":{blank}{value}{blank}"));
                format!("{{{}}}", members.collect::<Vec<_>>().join(","))
            }),
            1 => prop::collection::vec(inner, 0..3).prop_map(|items| format!("[{}]", items.join(","))),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn only_what_fails_is_passed_over(
        record in any_record(),
        test in prop::sample::select(&TESTS[..]),
        constant in any_scalar(),
        path in prop::collection::vec(prop::sample::select(&["a", "b", "a long name of a member"][..]), 1..3),
    ) {
        let (arena, mut structure) = (Arena::new(), Structure::default());
        let Ok((constant, _)) = json::document(&constant, &arena, ReaderOptions::default()) else { return Ok(()) };
        if is_passed_over(&record, &path, test, constant) == Some(true) {
            // It is refused no less than where the same is needed of it.
            let needs = needs(&path);
            let options = ReaderOptions { depth: 4, ..Default::default() };
            let read = Reader::new(&record, &arena, options).with_needs(&needs, &mut structure).next_value();
            prop_assert!(!holds(read.unwrap().unwrap(), &path, test, constant));
        }
    }
}
