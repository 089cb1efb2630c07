//! Values that are built by the templates of records before are those that are read, each from the same place.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{Reader, ReaderOptions, ValueTemplates};
use kyanite_formats::needs::{Need, Needs};
use kyanite_formats::records::Structure;
use kyanite_tree::{Arena, Value};
use proptest::prelude::*;

/// The values of texts with their places, or where reading fails; and how many members were given twice.
fn values(texts: &[String], needs: Option<&Needs>, known: &mut ValueTemplates) -> Vec<String> {
    let mut found = Vec::new();
    for text in texts {
        let (arena, mut structure) = (Arena::new(), Structure::default());
        let options = ReaderOptions { depth: 5, ..ReaderOptions::default() };
        let reader = Reader::new(text, &arena, options);
        let reader = match needs {
            Some(needs) => reader.with_needs(needs, &mut structure),
            None => reader,
        };
        let mut reader = reader.with_templates(known);
        loop {
            match reader.next_value() {
                Ok(Some(value)) => found.push(format!("{value:?} {}", reader.position())),
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

/// Needs of `list[*].a`, `b` whole and the presence of `c`, and of lists that are records.
fn needs() -> Needs {
    let mut needs = Needs::nothing();
    let list = needs.add_member(Need::RECORD, "list");
    let item = needs.add_children(list);
    let a = needs.add_member(item, "a");
    needs.add_all(a);
    let b = needs.add_member(Need::RECORD, "b");
    needs.add_all(b);
    needs.add_member(Need::RECORD, "c");
    needs
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
        for needs in [None, Some(needs())] {
            let needs = needs.as_ref();
            let read = values(&texts, needs, &mut ValueTemplates::unused());
            let built = values(&texts, needs, &mut ValueTemplates::default());
            prop_assert_eq!(built, read, "{:?}", texts);
        }
    }
}

#[test]
fn a_cache_is_of_what_is_needed() {
    let texts = vec!["{\"b\":1,\"x\":2}\n{\"b\":3,\"x\":4}\n".to_owned()];
    let (mut known, needs) = (ValueTemplates::default(), needs());
    for needs in [Some(&needs), None, Some(&needs), None] {
        let built = values(&texts, needs, &mut known);
        assert_eq!(built, values(&texts, needs, &mut ValueTemplates::unused()));
    }
}

#[test]
fn deep_records_are_read() {
    let deep = format!("{}1{}\n", "{\"b\":[".repeat(300), "]}".repeat(300));
    let text = deep.repeat(3);
    let (arena, mut known) = (Arena::new(), ValueTemplates::default());
    let options = ReaderOptions { depth: 1000, ..ReaderOptions::default() };
    let mut reader = Reader::new(&text, &arena, options).with_templates(&mut known);
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
