//! Differences of documents that are made up, and what patches make of them.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_change::{ChangeSort, Comparison, Numbers, Patch, compare, json_patch};
use kyanite_formats::json::{ReaderOptions, compact, document};
use kyanite_tree::{Arena, Decimal, Value, equal};
use proptest::prelude::*;

/// JSON texts with few names and values, so that two of them have much in common.
fn json() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("null".to_owned()),
        Just("true".to_owned()),
        (0_i32..4).prop_map(|number| number.to_string()),
        Just("1.0".to_owned()),
        "[a-b]".prop_map(|text| format!("\"{text}\"")),
    ];
    leaf.prop_recursive(4, 40, 6, |inner| {
        let members = prop::collection::hash_map("[a-d/~]", inner.clone(), 0..5);
        prop_oneof![
            prop::collection::vec(inner, 0..7).prop_map(|items| format!("[{}]", items.join(","))),
            members.prop_map(|members| {
                let members = members.iter().map(|(name, value)| format!("\"{name}\":{value}"));
                format!("{{{}}}", members.collect::<Vec<String>>().join(","))
            }),
        ]
    })
}

fn read<'a>(text: &'a str, arena: &'a Arena) -> Value<'a> {
    document(text, arena, ReaderOptions::default()).unwrap().0
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn the_patch_makes_the_new_document_of_the_old(old in json(), new in json()) {
        let arena = Arena::new();
        let (before, after) = (read(&old, &arena), read(&new, &arena));
        for comparison in [
            Comparison::default(),
            Comparison { numbers: Numbers::Spelling, ..Comparison::default() },
            Comparison { keys: vec![("$".parse().unwrap(), vec!["a".into()])], ..Comparison::default() },
        ] {
            let difference = compare(before, after, &comparison);
            prop_assert!(!difference.changes.is_empty() || equal(before, after));
            let patch = json_patch(&difference, false, &arena);
            let made = Patch::read(patch).unwrap().apply(before, &arena);
            prop_assert!(made.as_ref().is_ok_and(|made| equal(*made, after)), "{:?} by {}", made, compact(patch));
            // With the order of members, and the spelling of numbers, it is the same to the byte.
            let spelled = Comparison { numbers: Numbers::Spelling, ..comparison };
            let patch = json_patch(&compare(before, after, &spelled), true, &arena);
            let made = Patch::read(patch).unwrap().apply(before, &arena).unwrap();
            prop_assert!(compact(made) == compact(after) || equal(made, after), "{}", compact(patch));
        }
    }

    #[test]
    fn nothing_differs_from_itself(text in json()) {
        let arena = Arena::new();
        let value = read(&text, &arena);
        prop_assert!(compare(value, value, &Comparison::default()).changes.is_empty());
        let crossing = Comparison { crosses: true, tolerance: Some(Decimal::from(1)), ..Comparison::default() };
        prop_assert!(compare(value, value, &crossing).changes.is_empty());
    }

    /// What one way adds the other removes.
    #[test]
    fn there_and_back(old in json(), new in json()) {
        let arena = Arena::new();
        let (before, after) = (read(&old, &arena), read(&new, &arena));
        let count = |a, b, sort| {
            let difference = compare(a, b, &Comparison::default());
            difference.changes.iter().filter(|change| change.sort == sort).count()
        };
        let is_empty = count(before, after, ChangeSort::Added) + count(before, after, ChangeSort::Removed)
            + count(before, after, ChangeSort::Changed) + count(before, after, ChangeSort::Moved) == 0;
        prop_assert_eq!(is_empty, equal(before, after));
    }
}

/// The changes of two documents in words.
fn told(old: &str, new: &str, comparison: &Comparison) -> Vec<String> {
    let arena = Arena::new();
    let difference = compare(read(old, &arena), read(new, &arena), comparison);
    let path =
        |steps: &[kyanite_tree::Step<'_>]| kyanite_tree::Location::new(steps.to_vec()).readable();
    let of = |change: &kyanite_change::Change<'_>| {
        let old = change
            .old
            .as_ref()
            .map(|(steps, value)| format!(" {} {}", path(steps), compact(*value)));
        let new = change
            .new
            .as_ref()
            .map(|(steps, value)| format!(" {} {}", path(steps), compact(*value)));
        format!("{}{}{}", change.sort.word(), old.unwrap_or_default(), new.unwrap_or_default())
    };
    difference.changes.iter().map(of).collect()
}

#[test]
fn what_is_told() {
    let usual = Comparison::default;
    let keyed = |path: &str, names: &[&str]| Comparison {
        keys: vec![(path.parse().unwrap(), names.iter().map(|name| (*name).to_owned()).collect())],
        ..usual()
    };
    let ignoring = |path: &str| Comparison { ignored: vec![path.parse().unwrap()], ..usual() };
    for (old, new, comparison, expected) in [
        (r#"{"a":1}"#, r#"{"a":1.0}"#, usual(), &[][..]),
        (
            r#"{"a":1}"#,
            r#"{"a":1.0}"#,
            Comparison { numbers: Numbers::Spelling, ..usual() },
            &["changed $.a 1 $.a 1.0"],
        ),
        (
            r#"{"a":1}"#,
            r#"{"a":1.4}"#,
            Comparison { tolerance: Decimal::parse("0.5").ok(), ..usual() },
            &[],
        ),
        (
            r#"{"a":1}"#,
            r#"{"a":1.6}"#,
            Comparison { tolerance: Decimal::parse("0.5").ok(), ..usual() },
            &["changed $.a 1 $.a 1.6"],
        ),
        (r#"{"a":1,"b":2}"#, r#"{"b":2,"a":1}"#, usual(), &[]),
        ("[1,2,3]", "[1,3]", usual(), &["removed $[1] 2"]),
        ("[1,2,3]", "[0,1,2,3]", usual(), &["added $[0] 0"]),
        (
            r#"[{"a":1},{"b":2}]"#,
            r#"[{"b":2},{"a":1}]"#,
            usual(),
            &["moved $[1] {\"b\":2} $[0] {\"b\":2}"],
        ),
        ("[1,2]", "[1,3]", usual(), &["changed $[1] 2 $[1] 3"]),
        (
            r#"[{"no":1,"at":"x"},{"no":2,"at":"y"}]"#,
            r#"[{"no":2,"at":"z"},{"no":1,"at":"x"},{"no":3}]"#,
            keyed("$", &["no"]),
            &[
                "moved $[1] {\"no\":2,\"at\":\"y\"} $[0] {\"no\":2,\"at\":\"z\"}",
                "changed $[1].at \"y\" $[0].at \"z\"",
                "added $[2] {\"no\":3}",
            ],
        ),
        (
            r#"{"s":[{"a":1,"b":1,"x":1},{"a":1,"b":2}]}"#,
            r#"{"s":[{"a":1,"b":1,"x":2},{"a":1,"b":3}]}"#,
            keyed("$.s", &["a", "b"]),
            &[
                "removed $.s[1] {\"a\":1,\"b\":2}",
                "changed $.s[0].x 1 $.s[0].x 2",
                "added $.s[1] {\"a\":1,\"b\":3}",
            ],
        ),
        (r#"{"at":1,"x":[{"at":2}]}"#, r#"{"at":3,"x":[{}]}"#, ignoring("$..at"), &[]),
        (r#"{"a":1}"#, "[1]", usual(), &["changed $ {\"a\":1} $ [1]"]),
    ] {
        assert_eq!(told(old, new, &comparison), expected, "{old} {new}");
    }
}

/// Lists of a hundred thousand items that have nothing in common take no time that grows with their product.
#[test]
fn long_lists() {
    let list = |from: u32| {
        let items: Vec<String> = (from..from + 100_000).map(|number| number.to_string()).collect();
        format!("[{}]", items.join(","))
    };
    let (old, new) = (list(0), list(200_000));
    let arena = Arena::new();
    let difference = compare(read(&old, &arena), read(&new, &arena), &Comparison::default());
    assert_eq!(difference.changes.len(), 100_000);
    let mixed = list(0).replacen("[0,1,", "[1,0,", 1);
    let difference = compare(read(&old, &arena), read(&mixed, &arena), &Comparison::default());
    assert_eq!(difference.changes.len(), 1);
}
