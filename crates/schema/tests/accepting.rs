//! What is told from events, against what the check of values tells.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, EventReader};
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
    let mut events = EventReader::new(text, 0);
    let accepts = schema.accepts(&mut events) && events.end().is_some();
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
        // Keywords that are not told from events.
        (r#"{"not": {"type": "null"}}"#, "1", false),
        (r#"{"patternProperties": {"a": true}}"#, "{}", false),
        (r#"{"enum": [1]}"#, "1", false),
    ] {
        assert_eq!(both(schema, text), (accepts, Some(true)), "{schema} {text}");
    }
}

proptest! {
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
