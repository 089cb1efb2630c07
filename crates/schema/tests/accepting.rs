//! What is told from events, against what the check of values tells.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, EventReader, Templates};
use kyanite_formats::records::Structure;
use kyanite_schema::json::{Document, Schema, Settings};
use kyanite_tree::Arena;
use proptest::prelude::*;

const BOOKING: &str = r##"{"type": "object", "required": ["id", "fare"], "additionalProperties": false,
    "oneOf": [{"required": ["seats"]}, {"required": ["vehicle"]}],
    "properties": {"id": {"type": "string", "pattern": "^TB-[0-9]{2}$"}, "fare": {"$ref": "#/$defs/fare"},
        "status": {"enum": ["paid", "open"]}, "vehicle": {"type": ["object", "null"]},
        "seats": {"type": "array", "minItems": 1, "maxItems": 3, "uniqueItems": true, "items": {"type": "object", "properties": {"no": {"type": "string", "minLength": 2}}}}},
    "$defs": {"fare": {"allOf": [{"type": "object"}, {"minProperties": 1, "additionalProperties": {"type": "number", "minimum": 0, "multipleOf": 0.5}}]}}}"##;

/// Whether the schema accepts the text, and whether its value is valid.
fn both(schema: &str, text: &str) -> (bool, Option<bool>) {
    let arena = Arena::new();
    let read =
        |text: &str| json::document(arena.text(text), &arena, json::ReaderOptions::default());
    let document = Document { uri: "file:///s.json".into(), value: read(schema).unwrap().0 };
    let settings = Settings { asserts_formats: true, ..Settings::default() };
    let schema = Schema::compile(document, &[], settings).unwrap();
    let structure = Structure::of(text.as_bytes());
    let accepts = EventReader::new(text, &structure)
        .zip(schema.accepting())
        .is_some_and(|(mut events, mut accepting)| accepting.accepts(&mut events));
    let value = read(text).ok();
    // A member that is given twice is told by the reader.
    let is_valid = value.map(|(value, duplicates)| duplicates.is_empty() && schema.is_valid(value));
    (accepts, is_valid)
}

#[test]
fn what_is_accepted() {
    // Of those that are valid, whether the events tell it.
    for (schema, text, accepts) in [
        (
            BOOKING,
            r#"{"id": "TB-01", "fare": {"amount": 12.5}, "seats": [{"no": "4A"}, {"no": "4B"}]}"#,
            true,
        ),
        (
            BOOKING,
            r#"{"fare": {"amount": 0}, "vehicle": null, "status": "open", "id": "TB-99"}"#,
            true,
        ),
        (BOOKING, r#"{"id": "TB-01", "fare": {"a": 1}, "vehicle": {"x": [1, {"y": {}}]}}"#, true),
        // Items that cannot be told apart at once, escapes, and whole numbers that are written with a fraction are left to the check.
        (
            BOOKING,
            r#"{"id": "TB-01", "fare": {"a": 1}, "seats": [{"no": "4A", "x": 1}, {"no": "4A", "x": 2}]}"#,
            false,
        ),
        (BOOKING, r#"{"id": "TB-0\u0031", "fare": {"a": 1}, "vehicle": null}"#, false),
        (r#"{"type": "integer"}"#, "2.0", false),
        (r#"{"type": "integer"}"#, "-2", true),
        (r#"{"type": "string", "format": "date"}"#, "\"2026-06-01\"", true),
        (r#"{"type": "string"}"#, "\"\\n\"", true),
        (r#"{"const": "a"}"#, "\"a\"", true),
        (r#"{"items": {"items": {"uniqueItems": true}}, "uniqueItems": true}"#, "[[[1]]]", true),
        (
            r##"{"properties": {"next": {"$ref": "#"}}}"##,
            r#"{"next": {"next": {"other": 1}}}"#,
            true,
        ),
        // Members in another order than before, and items that differ in what comes first.
        (
            r#"{"items": {"properties": {"a": true, "b": {"type": "null"}}}}"#,
            r#"[{"a": 1, "b": null}, {"b": null, "a": 1}, {"x": 0, "b": null}, {"a": {"b": 1}, "b": null}]"#,
            true,
        ),
        (r#"{"uniqueItems": true}"#, r#"["a", "b"]"#, true),
        (r#"{"uniqueItems": true}"#, r#"["a", {"a": 1}]"#, false),
        (
            r#"{"uniqueItems": true, "items": {"minProperties": 1}}"#,
            r#"[{"a": "1"}, {"b": "2"}]"#,
            false,
        ),
        // Keywords that are not told from events.
        (r#"{"not": {"type": "null"}}"#, "1", false),
        (r#"{"patternProperties": {"a": true}}"#, "{}", false),
        (r#"{"enum": [1]}"#, "1", false),
    ] {
        assert_eq!(both(schema, text), (accepts, Some(true)), "{schema} {text}");
    }
}

proptest! {
    /// Whatever is accepted as following a template is valid, however the first of it looked.
    #[test]
    fn what_is_accepted_alike_is_valid(
        records in proptest::collection::vec(
            (r#"TB-[0-9]{1,2}"#, "[0-9](\\.[05])?|null|\"x\"", proptest::collection::vec("[ab]{1,2}", 0..3), r#"|, "status": "(paid|lost)"|, "x": 1"#), 1..8,
        ),
    ) {
        let lines = records.iter().map(|(id, amount, seats, extra)| {
            let seats: Vec<String> = seats.iter().map(|no| format!("{{\"no\": \"{no}\"}}")).collect();
            format!("{{\"id\": \"{id}\", \"fare\": {{\"amount\": {amount}}}, \"seats\": [{}]{extra}}}\n", seats.join(", "))
        });
        let text: String = lines.collect();
        let arena = Arena::new();
        let read = |text: &str| json::document(arena.text(text), &arena, json::ReaderOptions::default()).unwrap().0;
        let document = Document { uri: "file:///s.json".into(), value: read(BOOKING) };
        let schema = Schema::compile(document, &[], Settings::default()).unwrap();
        let structure = Structure::of(text.as_bytes());
        let mut events = EventReader::new(&text, &structure).unwrap();
        let (mut templates, mut scalars) = (Templates::default(), Vec::new());
        let (mut accepting, mut at) = (schema.accepting().unwrap(), 0);
        for line in text.lines() {
            events.seek(at);
            let accepts = accepting.accepts(&mut events);
            if let Some(followed) = templates.follow(&text, at, &mut scalars) {
                prop_assert_eq!(followed.end, at + line.len());
                // What one way tells, the other does.
                prop_assert_eq!(accepting.accepts_alike(followed.template, (&text, &scalars)), accepts, "{}", line);
            } else if accepts && let Some(template) = templates.learn(&mut events, at) {
                accepting.learn(template);
            }
            prop_assert!(!accepts || schema.is_valid(read(line)), "{}", line);
            at += line.len() + 1;
        }
    }

    /// Items of which several may be the same.
    #[test]
    fn items_that_are_accepted_as_unique_are(
        items in proptest::collection::vec(r#"\{"[ab]": "[xy]"(, "c": "[xy]")?\}|"[xy]""#, 0..4),
        named in r#"|, "items": \{"properties": \{"a": true, "c": true\}\}"#,
    ) {
        let schema = format!(r#"{{"uniqueItems": true{named}}}"#);
        let (accepts, is_valid) = both(&schema, &format!("[{}]", items.join(", ")));
        prop_assert!(!accepts || is_valid == Some(true), "{items:?}");
    }

    /// Whatever is accepted is valid: documents that are nearly right.
    #[test]
    fn whatever_is_accepted_is_valid(
        id in r#"TB-[0-9]{1,3}|x|\\u0041"#, amount in "-?[0-9]{1,2}(\\.[05])?(e1)?", count in 0_usize..5, no in "[ab]{1,2}",
        status in "paid|open|lost", extra in r#"|, "id": "TB-01"|, "x": 1|, "vehicle": null|, "fare": \[\]|, "seats": 1"#, cut in 0_usize..200,
    ) {
        let seats: Vec<String> = (0..count).map(|at| format!("{{\"no\": \"{no}{}\"}}", at % 3)).collect();
        let text = format!("{{\"id\": \"{id}\", \"fare\": {{\"amount\": {amount}}}, \"status\": \"{status}\", \"seats\": [{}]{extra}}}", seats.join(", "));
        for text in [text.as_str(), text.get(..cut).unwrap_or("")] {
            let (accepts, is_valid) = both(BOOKING, text);
            prop_assert!(!accepts || is_valid == Some(true), "{text}");
        }
    }
}
