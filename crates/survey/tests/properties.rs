//! Surveys of documents that are made up.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{EventReader, ReaderOptions, document};
use kyanite_formats::records::Structure;
use kyanite_schema::json::{Document, Schema, Settings};
use kyanite_survey::{Batch, Bounds, Report, Survey};
use kyanite_tree::{Arena, Base, ValueEvents};
use proptest::prelude::*;

/// JSON texts with few names, so that paths meet.
fn json() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("null".to_owned()),
        Just("true".to_owned()),
        (-20_i32..20).prop_map(|number| number.to_string()),
        Just("1.50".to_owned()),
        Just("2e3".to_owned()),
        prop_oneof![
            Just("\"\""),
            Just("\"brim\""),
            Just("\"2026-06-01\""),
            Just("\"a@b.example\""),
            Just("\"12\""),
            Just("\"\\u00e5\\n\""),
            Just("\"urn:a:b\"")
        ]
        .prop_map(str::to_owned),
    ];
    leaf.prop_recursive(4, 24, 4, |inner| {
        let members = prop::collection::btree_map("[a-c]", inner.clone(), 0..4);
        prop_oneof![
            prop::collection::vec(inner, 0..4).prop_map(|items| format!("[{}]", items.join(","))),
            members.prop_map(|members| {
                let members = members.iter().map(|(name, value)| format!("\"{name}\": {value}"));
                format!("{{{}}}", members.collect::<Vec<String>>().join(", "))
            }),
        ]
    })
}

/// A survey of records in batches of some size, by their events or by their values.
fn survey(records: &[String], batch_size: usize, by_events: bool) -> Survey {
    let mut survey = Survey::new(Bounds::default());
    let arena = Arena::new();
    for records in records.chunks(batch_size) {
        let mut batch = Batch::new(&arena);
        for text in records {
            let is_whole = if by_events {
                let structure = Structure::of(text.as_bytes());
                batch.record(&mut EventReader::new(text, &structure).unwrap())
            } else {
                let (value, _) = document(text, &arena, ReaderOptions::default()).unwrap();
                batch.record(&mut ValueEvents::new(value, Base::default()))
            };
            assert!(is_whole);
        }
        survey.take(batch.end(&mut |_| 1), "made up", 0);
    }
    survey
}

fn told(records: &[String], batch_size: usize, by_events: bool) -> Report {
    survey(records, batch_size, by_events).report()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn however_records_come_the_report_is_the_same(records in prop::collection::vec(json(), 1..20)) {
        let whole = told(&records, records.len(), true);
        prop_assert_eq!(&whole, &told(&records, 1, true));
        prop_assert_eq!(&whole, &told(&records, 7, false));
    }

    #[test]
    fn records_satisfy_the_schema_that_is_inferred(records in prop::collection::vec(json(), 1..12)) {
        let arena = Arena::new();
        let value = survey(&records, 3, true).json_schema(true, &arena);
        let settings = Settings { asserts_formats: true, ..Settings::default() };
        let schema = Schema::compile(Document { uri: String::new(), value }, &[], settings).unwrap();
        for text in &records {
            let (value, _) = document(text, &arena, ReaderOptions::default()).unwrap();
            prop_assert!(schema.is_valid(value), "{} by {:?}", text, schema.validate(value).len());
        }
    }

    /// Each record is of one kind, and the counts of kinds add up.
    #[test]
    fn kinds_add_up(records in prop::collection::vec(json(), 8..60)) {
        let report = told(&records, 16, true);
        let of_kinds: u64 = report.kinds.iter().map(|kind| kind.records).sum();
        prop_assert!(report.kinds.is_empty() || of_kinds == report.records);
        prop_assert_ne!(report.kinds.len(), 1);
    }
}
