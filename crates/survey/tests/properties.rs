//! Surveys of documents that are made up.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{EventReader, ReaderOptions, Templates, document};
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

/// How records are counted.
#[derive(Clone, Copy)]
enum By {
    Events,
    Values,
    /// By their scalars, where they follow a template.
    Templates,
}

/// Counts records each on a line, by templates once there are any; gives how many were counted so.
fn count_lines<'t>(batch: &mut Batch<'t>, text: &'t str) -> usize {
    let structure = Structure::of(text.as_bytes());
    let mut events = EventReader::new(text, &structure).unwrap();
    let (mut templates, mut scalars, mut at) = (Templates::default(), Vec::new(), 0);
    let mut alike = 0;
    for line in text.lines() {
        let followed = templates.follow(text, at, &mut scalars);
        if followed.is_some_and(|followed| batch.record_alike(followed.template, (text, &scalars)))
        {
            alike += 1;
        } else {
            events.seek(at);
            assert!(batch.record(&mut events));
            if let Some(template) = templates.learn(&mut events, at) {
                batch.learn(template);
            }
        }
        at += line.len() + 1;
    }
    alike
}

#[test]
fn records_that_follow_a_template_are_counted_by_it() {
    for (records, alike) in [
        ("{\"a\":1}\n{\"a\":2.5}\n{\"a\":-1}\n", 2),
        // Sorts of scalars are told apart, and each is learned once.
        ("{\"a\":1}\n{\"a\":null}\n{\"a\":2}\n{\"a\":null}\n{\"a\":true}\n", 2),
        ("{\"a\":1}\n{\"b\":1}\n{\"a\":[1]}\n", 0),
        // Records that are too large are not learned.
        (&format!("[{}1]\n", "{},{},{},{},{},{},1,".repeat(3000)).repeat(2), 0),
        (&format!("[{}1]\n", "{},{},{},{},{},{},1,".repeat(2000)).repeat(2), 1),
    ] {
        let arena = Arena::new();
        assert_eq!(count_lines(&mut Batch::new(&arena), records), alike, "{}", &records[..12]);
    }
}

/// A survey of records in batches of some size.
fn survey(records: &[String], batch_size: usize, by: By) -> Survey {
    let mut survey = Survey::new(Bounds::default());
    let arena = Arena::new();
    for records in records.chunks(batch_size) {
        let mut batch = Batch::new(&arena);
        if let By::Templates = by {
            count_lines(&mut batch, arena.text(&(records.join("\n") + "\n")));
        } else {
            for text in records {
                let is_whole = if let By::Events = by {
                    let structure = Structure::of(text.as_bytes());
                    batch.record(&mut EventReader::new(text, &structure).unwrap())
                } else {
                    let (value, _) = document(text, &arena, ReaderOptions::default()).unwrap();
                    batch.record(&mut ValueEvents::new(value, Base::default()))
                };
                assert!(is_whole);
            }
        }
        survey.take(batch.end(&mut |_| 1), "made up", 0);
    }
    survey
}

fn told(records: &[String], batch_size: usize, by: By) -> Report {
    survey(records, batch_size, by).report()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn however_records_come_the_report_is_the_same(records in prop::collection::vec(json(), 1..20)) {
        let whole = told(&records, records.len(), By::Events);
        prop_assert_eq!(&whole, &told(&records, 1, By::Events));
        prop_assert_eq!(&whole, &told(&records, 7, By::Values));
        prop_assert_eq!(&whole, &told(&records, 9, By::Templates));
    }

    /// Records of few forms, so that nearly all follow a template.
    #[test]
    fn by_templates_the_report_is_the_same(
        records in prop::collection::vec(
            r#"\{"no":([0-9]{1,2}|null|"x")(,"berth":\{"name":"[ab\\n]?","depths":\[(1|2.5|true)?\]\})?(,"ports":\[\{"p":"[xy]"\},\{"p":(1|"z")\}\])?\}"#,
            1..60,
        ),
    ) {
        let valid: Vec<String> = records
            .into_iter()
            .filter(|text| document(text, &Arena::new(), ReaderOptions::default()).is_ok())
            .collect();
        let by_events = told(&valid, 20, By::Events);
        prop_assert_eq!(&by_events, &told(&valid, 20, By::Templates));
    }

    #[test]
    fn records_satisfy_the_schema_that_is_inferred(records in prop::collection::vec(json(), 1..12)) {
        let arena = Arena::new();
        let value = survey(&records, 3, By::Events).json_schema(true, &arena);
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
        let report = told(&records, 16, By::Templates);
        let of_kinds: u64 = report.kinds.iter().map(|kind| kind.records).sum();
        prop_assert!(report.kinds.is_empty() || of_kinds == report.records);
        prop_assert_ne!(report.kinds.len(), 1);
    }
}
