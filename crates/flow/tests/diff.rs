//! Streams of records compared by a key, through temporary files, against the same records as lists that are held.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_change::{ChangeSort, Comparison};
use kyanite_flow::{Compared, Counters, Diffing, Events, Input, InputOptions, diff};
use proptest::prelude::*;

/// What differs between two inputs whose records are told by their members `id` and `day`.
fn compared(old: &str, new: &str, extension: &str, memory: usize) -> Compared {
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str, text: &str| {
        let path = folder.path().join(format!("{name}.{extension}"));
        std::fs::write(&path, text).unwrap();
        Input::File(path)
    };
    let (old, new) = (file("old", old), file("new", new));
    let keys = vec![("$".parse().unwrap(), vec!["id".to_owned(), "day".to_owned()])];
    let comparison = Comparison { keys, ..Comparison::default() };
    let options = InputOptions { memory, ..InputOptions::default() };
    let what =
        Diffing { old: &old, new: &new, options: &options, comparison: &comparison, patch: None };
    let counters = Counters::default();
    diff(what, &mut Events { tell: &mut |_| {}, counters: &counters }).unwrap()
}

/// The changes, without those that only tell another order of records, and how many records the key does not tell.
fn told(found: &Compared) -> (Vec<String>, Vec<(u64, u64)>) {
    let changes = found.changes.iter().filter(|change| change.sort != ChangeSort::Moved);
    let mut changes: Vec<String> = changes
        .map(|change| {
            let side = |side: &Option<kyanite_flow::Side>| {
                side.as_ref().map(|side| (side.path.clone(), side.text.clone()))
            };
            format!("{:?} {:?} {:?}", change.sort, side(&change.old), side(&change.new))
        })
        .collect();
    changes.sort_unstable();
    (changes, found.unclear.iter().map(|of| (of.lacking, of.shared)).collect())
}

fn records() -> impl Strategy<Value = Vec<String>> {
    let id = prop::sample::select(&["1", "1.0", "2", "\"1\"", "\"x\"", "null", "[1]"][..]);
    let record = (prop::option::of(id), 0..3, "[ab]{0,2}", any::<bool>()).prop_map(
        |(id, day, note, is_spaced)| {
            let id = id.map(|id| format!("\"id\":{id},")).unwrap_or_default();
            let blank = if is_spaced { " " } else { "" };
            format!("{{{id}\"day\":{blank}{day},\"note\":{{\"text\":{blank}\"{note}\"}}}}")
        },
    );
    prop::collection::vec(record, 2..40)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn streams_differ_as_lists_do(old in records(), new in records(), memory in 0usize..4000) {
        let list = |records: &[String]| format!("[{}]", records.join(",\n"));
        let held = compared(&list(&old), &list(&new), "json", usize::MAX);
        let streamed = compared(&old.join("\n"), &new.join("\n"), "jsonl", usize::MAX);
        prop_assert_eq!(told(&streamed), told(&held));
        // With little memory all the same is counted, and as much is listed as there is room for.
        let little = compared(&old.join("\n"), &new.join("\n"), "jsonl", memory);
        prop_assert_eq!(&little.counts, &streamed.counts);
        prop_assert!(told(&little).0.iter().all(|change| told(&streamed).0.contains(change)));
    }
}

#[test]
fn places_are_those_in_the_stream() {
    let old = "{\"id\":1,\"day\":2} {\"id\":3,\n  \"day\":4,\n  \"note\":5}\n";
    let new = "\n{\"note\":6,\"id\":3,\"day\":4}";
    let found = compared(old, new, "jsonl", usize::MAX);
    let at = |side: &Option<kyanite_flow::Side>| {
        side.as_ref().and_then(|side| side.at).map(|at| (at.line, at.column))
    };
    let places: Vec<_> = found
        .changes
        .iter()
        .map(|change| (change.path().to_owned(), at(&change.old), at(&change.new)))
        .collect();
    assert_eq!(
        places,
        [
            ("$[0]".to_owned(), Some((1, 1)), None),
            ("$[0].note".to_owned(), Some((3, 10)), Some((2, 9))),
        ]
    );
}
