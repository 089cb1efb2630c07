//! What a survey counts, against counts that a walk over the same values makes path by path.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use std::collections::{BTreeMap, BTreeSet};

use kyanite_formats::json::EventReader;
use kyanite_formats::records::Structure;
use kyanite_survey::{Batch, Bounds, Lengths, Survey};
use kyanite_tree::Arena;
use proptest::prelude::*;
use serde_json::{Value as Json, json};

/// What there is at a path.
#[derive(Clone, PartialEq, Debug, Default)]
struct Counts {
    records: u64,
    values: u64,
    maps: Option<u64>,
    types: BTreeMap<&'static str, u64>,
    empty: u64,
    scalars: BTreeSet<String>,
    text_lengths: Option<(u64, u64)>,
    list_lengths: Option<(u64, u64)>,
    numbers: Option<(f64, f64)>,
}

fn widen<T: PartialOrd + Copy>(range: &mut Option<(T, T)>, value: T) {
    *range = Some(match *range {
        None => (value, value),
        Some((least, greatest)) => (
            if value < least { value } else { least },
            if value > greatest { value } else { greatest },
        ),
    });
}

/// Counts a value at its path, and what is in it.
fn walk(value: &Json, path: &str, all: &mut BTreeMap<String, Counts>, met: &mut BTreeSet<String>) {
    let counts = all.entry(path.to_owned()).or_default();
    counts.values += 1;
    if met.insert(path.to_owned()) {
        counts.records += 1;
    }
    let kind = match value {
        Json::Null => "null",
        Json::Bool(_) => "boolean",
        Json::Number(_) => "number",
        Json::String(_) => "text",
        Json::Array(_) => "list",
        Json::Object(_) => "map",
    };
    *counts.types.entry(kind).or_default() += 1;
    match value {
        Json::Null => {}
        Json::Bool(_) => drop(counts.scalars.insert(value.to_string())),
        Json::Number(number) => {
            counts.scalars.insert(value.to_string());
            widen(&mut counts.numbers, number.as_f64().unwrap());
        }
        Json::String(text) => {
            counts.scalars.insert(format!("text {text}"));
            counts.empty += u64::from(text.is_empty());
            widen(&mut counts.text_lengths, text.chars().count() as u64);
            if let Ok(number) = text.parse::<f64>() {
                widen(&mut counts.numbers, number);
            }
        }
        Json::Array(items) => {
            counts.empty += u64::from(items.is_empty());
            widen(&mut counts.list_lengths, items.len() as u64);
            items.iter().for_each(|item| walk(item, &format!("{path}[*]"), all, met));
        }
        Json::Object(map) => {
            counts.empty += u64::from(map.is_empty());
            map.iter().for_each(|(name, member)| walk(member, &format!("{path}.{name}"), all, met));
        }
    }
}

/// What there is at all paths of records.
fn model(records: &[Json], root: &str) -> BTreeMap<String, Counts> {
    let mut all = BTreeMap::new();
    for record in records {
        walk(record, root, &mut all, &mut BTreeSet::new());
    }
    // A member is counted beside the maps that could have it.
    let maps: BTreeMap<String, u64> = all
        .iter()
        .map(|(path, counts)| (path.clone(), counts.types.get("map").copied().unwrap_or(0)))
        .collect();
    for (path, counts) in &mut all {
        if let Some((parent, _)) = path.rsplit_once('.').filter(|_| !path.ends_with("[*]")) {
            counts.maps = Some(maps[parent]);
        }
    }
    all
}

fn value() -> impl Strategy<Value = Json> {
    let leaf = prop_oneof![
        Just(Json::Null),
        any::<bool>().prop_map(Json::from),
        (-9..20_i64).prop_map(Json::from),
        prop::sample::select(&["", "12", "é🚢", "brim", "-3"][..]).prop_map(Json::from),
    ];
    leaf.prop_recursive(3, 16, 4, |inner| {
        let name = prop::sample::select(&["a", "b", "c"][..]).prop_map(str::to_owned);
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(Json::from),
            prop::collection::btree_map(name, inner, 0..4)
                .prop_map(|map| map.into_iter().collect()),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn each_path_is_counted(records in prop::collection::vec(value(), 1..12), size in 1..5_usize) {
        let mut survey = Survey::new(Bounds::default());
        let arena = Arena::new();
        for records in records.chunks(size) {
            let mut batch = Batch::new(&arena);
            for record in records {
                let text = arena.text(&record.to_string());
                let structure = Structure::of(text.as_bytes());
                prop_assert!(batch.record(&mut EventReader::new(text, &structure).unwrap()));
            }
            survey.take(batch.end(&mut |_| 1), "made up", 0);
        }
        let report = survey.report();
        let root = report.paths[0].path.clone();
        let expected = model(&records, &root);
        prop_assert_eq!(report.records, records.len() as u64);
        let paths: BTreeSet<&String> = report.paths.iter().map(|path| &path.path).collect();
        prop_assert_eq!(&paths, &expected.keys().collect::<BTreeSet<_>>());
        prop_assert_eq!(paths.len(), report.paths.len());
        for path in &report.paths {
            let lengths = |lengths: &Option<Lengths>| {
                lengths.as_ref().map(|lengths| (lengths.least, lengths.greatest))
            };
            let numbers = path.numbers.as_ref();
            let found = Counts {
                records: path.records,
                values: path.values,
                maps: path.maps,
                types: path.types.iter().copied().collect(),
                empty: path.empty,
                scalars: expected[&path.path].scalars.clone(),
                text_lengths: lengths(&path.text_lengths),
                list_lengths: lengths(&path.list_lengths),
                numbers: numbers.map(|n| (n.least.parse().unwrap(), n.greatest.parse().unwrap())),
            };
            prop_assert_eq!(&found, &expected[&path.path], "{} of {}", path.path, json!(records));
            let distinct = path.distinct.as_ref().map_or(0, |distinct| distinct.count);
            prop_assert_eq!(distinct, found.scalars.len() as u64, "{} of {}", path.path, json!(records));
        }
    }
}
