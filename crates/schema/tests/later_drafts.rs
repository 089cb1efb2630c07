//! Drafts 2019-09 and 2020-12, by tables of schemas with what is valid and what is not; formats of all drafts.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, ReaderOptions};
use kyanite_schema::json::{Document, Draft, META_SCHEMAS, Schema, Settings};
use kyanite_tree::{Arena, Value};

use Draft::{V4, V7, V2019, V2020};

fn read<'a>(arena: &'a Arena, text: &str) -> Value<'a> {
    json::document(arena.text(text), arena, ReaderOptions::default()).unwrap().0
}

/// Asserts that a schema takes some values, and refuses others.
fn assert_values(
    settings: Settings,
    schema: &str,
    others: &[(&str, &str)],
    valid: &[&str],
    not: &[&str],
) {
    let arena = Arena::new();
    let document =
        |uri: &str, text: &str| Document { uri: uri.to_owned(), value: read(&arena, text) };
    let others: Vec<Document<'_>> =
        others.iter().chain(META_SCHEMAS.iter()).map(|(uri, text)| document(uri, text)).collect();
    let compiled = Schema::compile(document("file:///s.json", schema), &others, settings)
        .unwrap_or_else(|problems| panic!("{schema}: {problems:?}"));
    for (values, is_valid) in [(valid, true), (not, false)] {
        for value in values {
            let value_read = read(&arena, value);
            assert_eq!(compiled.is_valid(value_read), is_valid, "{schema} {value}");
            assert_eq!(compiled.validate(value_read).is_empty(), is_valid, "{schema} {value}");
        }
    }
}

fn draft(draft: Draft) -> Settings {
    Settings { draft: Some(draft), ..Settings::default() }
}

/// A schema, values that are valid, and values that are not.
type Case = (&'static str, &'static [&'static str], &'static [&'static str]);

/// What both drafts have.
const BOTH: [Case; 87] = [
    (
        r##"{"$ref": "#/$defs/a", "maximum": 5, "$defs": {"a": {"minimum": 1}}}"##,
        &["3"],
        &["0", "6"],
    ),
    (r##"{"$ref": "#a", "$defs": {"x": {"$anchor": "a", "type": "null"}}}"##, &["null"], &["1"]),
    (
        r##"{"$id": "http://pier/a/", "$ref": "b#c", "$defs": {"x": {"$id": "b", "$defs": {"y": {"$anchor": "c", "const": 1}}}}}"##,
        &["1"],
        &["2"],
    ),
    (
        r##"{"$id": "http://pier/a", "$ref": "#/$defs/x/items", "$defs": {"x": {"$id": "b", "items": {"$ref": "#/$defs/y"}, "$defs": {"y": {"const": 1}}}}}"##,
        &["1"],
        &["2"],
    ),
    // Names in what is no schema are none.
    (
        r##"{"$ref": "#a", "const": {"$anchor": "a", "type": "null"}, "$defs": {"a": {"$anchor": "a", "const": {"$anchor": "a", "type": "null"}}}}"##,
        &[r#"{"$anchor": "a", "type": "null"}"#],
        &["null"],
    ),
    (
        r#"{"dependentRequired": {"a": ["b"]}}"#,
        &["{}", "1", r#"{"a": 1, "b": 1}"#, r#"{"b": 1}"#],
        &[r#"{"a": 1}"#],
    ),
    (
        r#"{"dependentSchemas": {"a": {"maxProperties": 1}}}"#,
        &[r#"{"a": 1}"#, r#"{"b": 1, "c": 1}"#],
        &[r#"{"a": 1, "b": 1}"#],
    ),
    (r#"{"contains": {"const": 1}, "minContains": 2}"#, &["[1, 2, 1]", "1"], &["[1]", "[]"]),
    (r#"{"contains": {"const": 1}, "maxContains": 1}"#, &["[1, 2]"], &["[1, 1]", "[2]"]),
    (r#"{"contains": {"const": 1}, "minContains": 0}"#, &["[]", "[2]"], &[]),
    (
        r#"{"contains": {"const": 1}, "minContains": 0, "maxContains": 1}"#,
        &["[]", "[1]"],
        &["[1, 1]"],
    ),
    (
        r#"{"contains": {"const": 1}, "minContains": 2, "maxContains": 1}"#,
        &[],
        &["[1]", "[1, 1]", "[1, 1, 1]"],
    ),
    (r#"{"minContains": 3, "maxContains": 1}"#, &["[]"], &[]),
    (
        r#"{"properties": {"a": true}, "unevaluatedProperties": false}"#,
        &[r#"{"a": 1}"#, "[]"],
        &[r#"{"b": 1}"#],
    ),
    (
        r#"{"patternProperties": {"^x": true}, "unevaluatedProperties": {"type": "null"}}"#,
        &[r#"{"x": 1, "b": null}"#],
        &[r#"{"b": 1}"#],
    ),
    (r#"{"additionalProperties": true, "unevaluatedProperties": false}"#, &[r#"{"b": 1}"#], &[]),
    (
        r#"{"allOf": [{"properties": {"a": true}}, {"properties": {"b": true}}], "unevaluatedProperties": false}"#,
        &[r#"{"a": 1, "b": 1}"#],
        &[r#"{"a": 1, "c": 1}"#],
    ),
    (
        r#"{"anyOf": [{"properties": {"a": {"const": 1}}, "required": ["a"]}, {"properties": {"b": true}, "required": ["b"]}], "unevaluatedProperties": false}"#,
        &[r#"{"a": 1}"#, r#"{"a": 1, "b": 1}"#],
        &[r#"{"a": 2, "b": 1}"#],
    ),
    (
        r#"{"oneOf": [{"properties": {"a": true}, "required": ["a"]}, {"properties": {"b": true}, "required": ["b"]}], "unevaluatedProperties": false}"#,
        &[r#"{"a": 1}"#, r#"{"b": 1}"#],
        &[r#"{"a": 1, "c": 1}"#],
    ),
    (
        r#"{"not": {"not": {"properties": {"a": true}}}, "unevaluatedProperties": false}"#,
        &["{}"],
        &[r#"{"a": 1}"#],
    ),
    (
        r#"{"if": {"properties": {"a": {"const": 1}}, "required": ["a"]}, "then": {"properties": {"b": true}}, "else": {"properties": {"c": true}}, "unevaluatedProperties": false}"#,
        &[r#"{"a": 1, "b": 1}"#, r#"{"c": 1}"#],
        &[r#"{"a": 1, "c": 1}"#, r#"{"a": 2}"#, r#"{"b": 1}"#],
    ),
    (
        r#"{"if": {"properties": {"a": true}}, "unevaluatedProperties": false}"#,
        &[r#"{"a": 1}"#],
        &[r#"{"b": 1}"#],
    ),
    (
        r#"{"dependentSchemas": {"a": {"properties": {"b": true}}}, "properties": {"a": true}, "unevaluatedProperties": false}"#,
        &[r#"{"a": 1, "b": 1}"#],
        &[r#"{"b": 1}"#],
    ),
    (
        r##"{"$ref": "#/$defs/a", "unevaluatedProperties": false, "$defs": {"a": {"properties": {"a": true}}}}"##,
        &[r#"{"a": 1}"#],
        &[r#"{"b": 1}"#],
    ),
    // What a schema inside has seen, the one around it has not, when it looks at another value.
    (
        r#"{"properties": {"a": {"properties": {"b": true}}}, "unevaluatedProperties": false}"#,
        &[r#"{"a": {"b": 1}}"#],
        &[r#"{"a": {}, "b": 1}"#],
    ),
    (
        r#"{"allOf": [{"properties": {"a": true}, "unevaluatedProperties": true}], "unevaluatedProperties": false}"#,
        &[r#"{"a": 1, "b": 1}"#],
        &[],
    ),
    (
        r#"{"allOf": [{"unevaluatedProperties": false}], "properties": {"a": true}}"#,
        &["{}"],
        &[r#"{"a": 1}"#],
    ),
    (r#"{"items": true, "unevaluatedItems": false}"#, &["[1, 2]"], &[]),
    (r#"{"unevaluatedItems": {"type": "null"}}"#, &["[null]", "1"], &["[1]"]),
    (r#"{"unevaluatedItems": false}"#, &["[]"], &["[1]"]),
    (
        r#"{"dependencies": {"a": ["b"], "c": {"maxProperties": 1}}}"#,
        &[r#"{"b": 1}"#],
        &[r#"{"a": 1}"#, r#"{"c": 1, "d": 1}"#],
    ),
    (r#"{"format": "date", "contentEncoding": "base64"}"#, &[r#""no date""#], &[]),
    (r#"{"unknown": {"$id": 3, "type": 7}, "deprecated": true}"#, &["1"], &[]),
    (r#"{"type": "integer"}"#, &["1.0", "1e2"], &["1.5"]),
    (
        r##"{"$defs": {"t": {"properties": {"n": {"$ref": "#/$defs/t"}}, "required": ["v"]}}, "$ref": "#/$defs/t"}"##,
        &[r#"{"v": 1, "n": {"v": 1}}"#],
        &[r#"{"v": 1, "n": {}}"#],
    ),
    (r#"{"if": false, "then": false, "else": {"const": 1}}"#, &["1"], &["2"]),
    // References: in every form, beside other keywords, and to whatever is a schema.
    (r##"{"$ref": "#/$defs/a~1b", "$defs": {"a/b": {"type": "null"}}}"##, &["null"], &["1"]),
    (r##"{"$ref": "#/$defs/a~0b", "$defs": {"a~b": {"type": "null"}}}"##, &["null"], &["1"]),
    (r##"{"$ref": "#/$defs/a%25b", "$defs": {"a%b": {"type": "null"}}}"##, &["null"], &["1"]),
    (r##"{"$ref": "#/$defs/a%22b", "$defs": {"a\"b": {"type": "null"}}}"##, &["null"], &["1"]),
    (
        r##"{"properties": {"a": {"$ref": "#"}}, "additionalProperties": false}"##,
        &[r#"{"a": {"a": {}}}"#],
        &[r#"{"a": {"b": 1}}"#],
    ),
    (
        r##"{"properties": {"$ref": {"type": "null"}}}"##,
        &[r#"{"$ref": null}"#],
        &[r##"{"$ref": "#"}"##],
    ),
    (r##"{"allOf": [{"$ref": "#/$defs/no"}], "$defs": {"no": false}}"##, &[], &["1", "{}"]),
    (r##"{"$ref": "#/$defs/yes", "$defs": {"yes": true}}"##, &["1", "{}"], &[]),
    (
        r##"{"$id": "http://pier/base/", "items": {"$ref": "folder/item"}, "$defs": {"x": {"$id": "folder/item", "type": "integer"}}}"##,
        &["[1]"],
        &[r#"["a"]"#],
    ),
    (
        r##"{"$id": "http://pier/a", "$ref": "urn:uuid:deadbeef-1234-00ff-ff00-4321feebdaed", "$defs": {"x": {"$id": "urn:uuid:deadbeef-1234-00ff-ff00-4321feebdaed", "minimum": 3}}}"##,
        &["3"],
        &["2"],
    ),
    (
        r##"{"$id": "http://pier/a", "$ref": "#b", "$defs": {"x": {"$id": "http://pier/c", "$anchor": "b", "const": 1}, "y": {"$anchor": "b", "const": 2}}}"##,
        &["2"],
        &["1"],
    ),
    (
        r##"{"$defs": {"a": {"$ref": "#/$defs/b"}, "b": {"$ref": "#/$defs/c"}, "c": {"minimum": 3}}, "$ref": "#/$defs/a"}"##,
        &["3"],
        &["2"],
    ),
    (
        r##"{"$ref": "#/$defs/a", "required": ["b"], "$defs": {"a": {"required": ["a"]}}}"##,
        &[r#"{"a": 1, "b": 1}"#],
        &[r#"{"a": 1}"#, r#"{"b": 1}"#],
    ),
    (
        r##"{"$comment": "$ref", "examples": [{"$ref": "#/nowhere"}], "default": {"$ref": "#/nowhere"}}"##,
        &["1"],
        &[],
    ),
    // Dependencies of members.
    (r#"{"dependentRequired": {"a": []}}"#, &["{}", r#"{"a": 1}"#], &[]),
    (
        r#"{"dependentRequired": {"a": ["b", "c"], "b": ["d"]}}"#,
        &[r#"{"a": 1, "b": 1, "c": 1, "d": 1}"#, r#"{"c": 1}"#],
        &[r#"{"a": 1, "b": 1, "d": 1}"#, r#"{"b": 1}"#],
    ),
    (
        r#"{"dependentRequired": {"a\nb": ["c\rd"]}}"#,
        &[r#"{"a\nb": 1, "c\rd": 2}"#],
        &[r#"{"a\nb": 1, "c d": 2}"#],
    ),
    (
        r#"{"dependentSchemas": {"a": true, "b": false}}"#,
        &["{}", r#"{"a": 1}"#],
        &[r#"{"b": 1}"#, r#"{"a": 1, "b": 1}"#],
    ),
    (
        r#"{"properties": {"a": true}, "dependentSchemas": {"a": {"properties": {"b": true}, "additionalProperties": false}}}"#,
        &[r#"{"b": 1}"#, r#"{"c": 1}"#],
        &[r#"{"a": 1}"#, r#"{"a": 1, "b": 1}"#],
    ),
    // How many items a list contains.
    (r#"{"contains": {"type": "string"}}"#, &[r#"["a", 1]"#, "{}"], &["[]", "[1]"]),
    (r#"{"contains": false, "minContains": 0}"#, &["[]", "[1]"], &[]),
    (r#"{"contains": true, "maxContains": 2}"#, &["[1]", "[1, 2]"], &["[]", "[1, 2, 3]"]),
    (r#"{"contains": {"const": 1}, "minContains": 2.0}"#, &["[1, 1]"], &["[1]"]),
    (r#"{"contains": {"if": false, "else": true}}"#, &[r#"["a"]"#], &["[]"]),
    // Unevaluated members: what any keyword beside has looked at, by whatever way it was reached.
    (r#"{"unevaluatedProperties": true}"#, &["{}", r#"{"a": 1}"#], &[]),
    (
        r#"{"unevaluatedProperties": {"type": "string", "minLength": 3}}"#,
        &["{}", r#"{"a": "abc"}"#],
        &[r#"{"a": "ab"}"#, r#"{"a": 1}"#],
    ),
    (
        r#"{"properties": {"a": true}, "allOf": [{"properties": {"b": true}}, {"patternProperties": {"^x": true}}], "unevaluatedProperties": false}"#,
        &[r#"{"a": 1, "b": 1, "x1": 1}"#],
        &[r#"{"c": 1}"#],
    ),
    (
        r#"{"allOf": [{"properties": {"a": true}, "additionalProperties": true}], "unevaluatedProperties": false}"#,
        &[r#"{"a": 1, "b": 1}"#],
        &[],
    ),
    (
        r#"{"allOf": [{"properties": {"a": true}}, {"unevaluatedProperties": false}]}"#,
        &["{}"],
        &[r#"{"a": 1}"#],
    ),
    (
        r#"{"anyOf": [{"properties": {"a": {"type": "null"}}}, {"properties": {"b": true}}], "unevaluatedProperties": false}"#,
        &[r#"{"a": null, "b": 1}"#, r#"{"b": 1}"#],
        &[r#"{"a": 1, "b": 1}"#],
    ),
    (
        r#"{"not": {"properties": {"a": {"const": 1}}, "required": ["a"]}, "unevaluatedProperties": false}"#,
        &["{}"],
        &[r#"{"a": 2}"#, r#"{"a": 1}"#],
    ),
    (
        r#"{"if": {"required": ["a"]}, "then": {"properties": {"a": true}}, "unevaluatedProperties": false}"#,
        &[r#"{"a": 1}"#, "{}"],
        &[r#"{"b": 1}"#, r#"{"a": 1, "b": 1}"#],
    ),
    (
        r#"{"if": {"required": ["a"]}, "else": {"properties": {"b": true}}, "unevaluatedProperties": false}"#,
        &[r#"{"b": 1}"#],
        &[r#"{"a": 1}"#],
    ),
    (
        r##"{"properties": {"n": {"$ref": "#/$defs/n"}}, "unevaluatedProperties": false, "$defs": {"n": {"properties": {"v": true}, "unevaluatedProperties": false}}}"##,
        &[r#"{"n": {"v": 1}}"#],
        &[r#"{"n": {"w": 1}}"#, r#"{"m": 1}"#],
    ),
    (
        r#"{"properties": {"a": {"unevaluatedProperties": false}}}"#,
        &[r#"{"a": {}}"#, r#"{"b": {"c": 1}}"#],
        &[r#"{"a": {"b": 1}}"#],
    ),
    (
        r#"{"propertyNames": {"maxLength": 1}, "unevaluatedProperties": false}"#,
        &["{}"],
        &[r#"{"a": 1}"#],
    ),
    (
        r#"{"unevaluatedProperties": false, "minProperties": 1}"#,
        &["1", "null"],
        &["{}", r#"{"a": 1}"#],
    ),
    // Unevaluated items, likewise.
    (r#"{"unevaluatedItems": true}"#, &["[]", "[1]"], &[]),
    (r#"{"unevaluatedItems": {"type": "string"}}"#, &["[]", r#"["a"]"#], &["[1]"]),
    (
        r#"{"items": {"type": "number"}, "unevaluatedItems": {"type": "string"}}"#,
        &["[1, 2]"],
        &[r#"[1, "a"]"#],
    ),
    (
        r#"{"allOf": [{"items": {"type": "number"}}], "unevaluatedItems": false}"#,
        &["[1, 2]"],
        &[r#"["a"]"#],
    ),
    (
        r#"{"anyOf": [{"items": {"const": 1}}, {"items": {"const": 2}}], "unevaluatedItems": false}"#,
        &["[1, 1]", "[2]"],
        &["[1, 2]"],
    ),
    (
        r#"{"if": {"items": {"const": 1}}, "unevaluatedItems": {"const": 2}}"#,
        &["[1]", "[2]"],
        &["[1, 3]", "[1, 2, 3]"],
    ),
    (r#"{"not": {"not": {"items": true}}, "unevaluatedItems": false}"#, &["[]"], &["[1]"]),
    (
        r##"{"$ref": "#/$defs/a", "unevaluatedItems": false, "$defs": {"a": {"items": {"const": 1}}}}"##,
        &["[1]"],
        &["[2]"],
    ),
    (
        r#"{"properties": {"a": {"unevaluatedItems": false}}}"#,
        &[r#"{"a": []}"#, r#"{"b": [1]}"#],
        &[r#"{"a": [1]}"#],
    ),
    (r#"{"unevaluatedItems": false, "minItems": 1}"#, &["1", "{}"], &["[]", "[1]"]),
    // Conditions, which count only together.
    (r#"{"if": {"const": 0}}"#, &["0", "1"], &[]),
    (r#"{"then": {"const": 0}, "else": {"const": 1}}"#, &["2"], &[]),
    (
        r#"{"allOf": [{"if": {"exclusiveMaximum": 0}}, {"then": {"minimum": -10}}, {"else": {"multipleOf": 2}}]}"#,
        &["-100", "3"],
        &[],
    ),
    (
        r#"{"else": {"const": "other"}, "then": {"const": "yes"}, "if": {"maxLength": 4}}"#,
        &[r#""yes""#, r#""other""#],
        &[r#""no""#, r#""invalid""#],
    ),
];

/// What only 2019-09 has.
const ONLY_2019: [Case; 19] = [
    (
        r#"{"items": [{"const": 1}], "additionalItems": {"const": 2}}"#,
        &["[1, 2, 2]", "[]"],
        &["[2]", "[1, 1]"],
    ),
    (r#"{"items": [true], "unevaluatedItems": false}"#, &["[1]"], &["[1, 2]"]),
    (
        r#"{"allOf": [{"items": [true, true]}], "items": [true], "unevaluatedItems": false}"#,
        &["[1, 2]"],
        &["[1, 2, 3]"],
    ),
    // An item that `contains` found is not looked at in this draft.
    (r#"{"contains": {"const": 1}, "unevaluatedItems": false}"#, &[], &["[1]"]),
    (r#"{"additionalItems": false}"#, &["[1]"], &[]),
    (
        r##"{"$id": "http://pier/tree", "$recursiveAnchor": true, "properties": {"n": {"$recursiveRef": "#"}, "v": true}, "unevaluatedProperties": false}"##,
        &[r#"{"v": 1, "n": {"v": 1}}"#],
        &[r#"{"n": {"x": 1}}"#],
    ),
    (
        r##"{"$id": "http://pier/strict", "$recursiveAnchor": true, "$ref": "tree", "required": ["v"], "$defs": {"t": {"$id": "tree", "$recursiveAnchor": true, "properties": {"n": {"$recursiveRef": "#"}}}}}"##,
        &[r#"{"v": 1, "n": {"v": 1}}"#],
        &[r#"{"v": 1, "n": {}}"#],
    ),
    // Where the first target is no such resource, it is the target.
    (
        r##"{"$id": "http://pier/strict", "$recursiveAnchor": true, "$ref": "tree", "required": ["v"], "$defs": {"t": {"$id": "tree", "properties": {"n": {"$recursiveRef": "#"}}}}}"##,
        &[r#"{"v": 1, "n": {}}"#],
        &["{}"],
    ),
    (r#"{"items": [{"const": 1}, {"const": 2}]}"#, &["[]", "[1]", "[1, 2, 3]"], &["[2]", "[1, 1]"]),
    (r#"{"items": [true, false]}"#, &["[]", "[1]"], &["[1, 2]"]),
    (r#"{"items": {"const": 1}, "additionalItems": false}"#, &["[1, 1]"], &["[2]"]),
    (r#"{"items": [{"const": 1}], "additionalItems": false}"#, &["[1]"], &["[1, 1]"]),
    (
        r#"{"allOf": [{"items": [true], "additionalItems": true}], "unevaluatedItems": false}"#,
        &["[1, 2]"],
        &[],
    ),
    (
        r#"{"items": [true], "additionalItems": {"type": "number"}, "unevaluatedItems": {"type": "string"}}"#,
        &["[null, 1]"],
        &[r#"[null, "a"]"#],
    ),
    (
        r#"{"allOf": [{"unevaluatedItems": {"type": "number"}}], "items": [true]}"#,
        &["[1]"],
        &[r#"["a"]"#],
    ),
    (
        r#"{"if": {"items": [{"const": 1}]}, "then": {"items": [true, {"const": 2}]}, "else": {"items": [true]}, "unevaluatedItems": false}"#,
        &["[1, 2]", "[3]", "[1]"],
        &["[1, 2, 3]", "[3, 2]", "[1, 3]"],
    ),
    // Without the anchor a recursive reference is one to its own root.
    (
        r##"{"properties": {"n": {"$recursiveRef": "#"}}, "additionalProperties": false}"##,
        &[r#"{"n": {"n": {}}}"#],
        &[r#"{"n": {"m": 1}}"#],
    ),
    (
        r##"{"$id": "http://pier/a", "$recursiveAnchor": false, "$ref": "b", "required": ["v"], "$defs": {"x": {"$id": "b", "$recursiveAnchor": true, "properties": {"n": {"$recursiveRef": "#"}}}}}"##,
        &[r#"{"v": 1, "n": {}}"#],
        &["{}"],
    ),
    (
        r##"{"$id": "http://pier/a", "$recursiveAnchor": true, "anyOf": [{"type": "integer"}, {"$ref": "b"}], "$defs": {"x": {"$id": "b", "$recursiveAnchor": true, "type": "object", "additionalProperties": {"$recursiveRef": "#"}}}}"##,
        &["1", r#"{"a": 1}"#, r#"{"a": {"b": 1}}"#],
        &[r#"{"a": "x"}"#],
    ),
];

/// What only 2020-12 has.
const ONLY_2020: [Case; 29] = [
    (
        r#"{"prefixItems": [{"const": 1}], "items": {"const": 2}}"#,
        &["[1, 2, 2]", "[]", "[1]"],
        &["[2]", "[1, 1]"],
    ),
    (r#"{"prefixItems": [true], "items": false}"#, &["[1]"], &["[1, 2]"]),
    (r#"{"prefixItems": [true], "unevaluatedItems": false}"#, &["[1]"], &["[1, 2]"]),
    (r#"{"contains": {"const": 1}, "unevaluatedItems": false}"#, &["[1, 1]"], &["[1, 2]"]),
    (
        r#"{"allOf": [{"contains": {"multipleOf": 2}}, {"contains": {"multipleOf": 3}}], "unevaluatedItems": false}"#,
        &["[2, 3, 4]"],
        &["[2, 3, 5]"],
    ),
    (r#"{"additionalItems": false}"#, &["[1]"], &[]),
    (
        r##"{"$dynamicRef": "#n", "$defs": {"x": {"$dynamicAnchor": "n", "const": 1}}}"##,
        &["1"],
        &["2"],
    ),
    (
        r##"{"$id": "http://pier/strict", "$dynamicAnchor": "n", "$ref": "tree", "required": ["v"], "$defs": {"t": {"$id": "tree", "$dynamicAnchor": "n", "properties": {"n": {"$dynamicRef": "#n"}}}}}"##,
        &[r#"{"v": 1, "n": {"v": 1}}"#],
        &[r#"{"v": 1, "n": {}}"#],
    ),
    // A name that is not dynamic is resolved where the reference stands.
    (
        r##"{"$id": "http://pier/strict", "$dynamicAnchor": "n", "$ref": "tree", "required": ["v"], "$defs": {"t": {"$id": "tree", "$anchor": "n", "properties": {"n": {"$dynamicRef": "#n"}}}}}"##,
        &[r#"{"v": 1, "n": {}}"#],
        &["{}"],
    ),
    // A list whose items are what whoever uses it says.
    (
        r##"{"$id": "http://pier/texts", "$ref": "list", "$defs": {"item": {"$dynamicAnchor": "item", "type": "string"}, "l": {"$id": "list", "items": {"$dynamicRef": "#item"}, "$defs": {"any": {"$dynamicAnchor": "item"}}}}}"##,
        &[r#"["a"]"#],
        &["[1]"],
    ),
    (
        r##"{"$id": "http://pier/a", "$dynamicRef": "#/$defs/x", "$defs": {"x": {"const": 1}}}"##,
        &["1"],
        &["2"],
    ),
    (
        r#"{"prefixItems": [{"const": 1}, {"const": 2}]}"#,
        &["[]", "[1]", "[1, 2, 3]", r#"{"0": "a"}"#],
        &["[2]", "[1, 1]"],
    ),
    (r#"{"prefixItems": [true, false]}"#, &["[]", "[1]"], &["[1, 2]"]),
    (r#"{"items": false}"#, &["[]", "1"], &["[1]"]),
    (
        r#"{"allOf": [{"prefixItems": [true, true]}], "items": {"const": 1}}"#,
        &["[1, 1]"],
        &["[2, 1]"],
    ),
    (
        r#"{"prefixItems": [{"const": 1}], "unevaluatedItems": {"const": 2}}"#,
        &["[1, 2]", "[]"],
        &["[1, 1]", "[2]"],
    ),
    (
        r#"{"prefixItems": [true], "items": {"type": "number"}, "unevaluatedItems": {"type": "string"}}"#,
        &["[null, 1]"],
        &[r#"[null, "a"]"#],
    ),
    (
        r#"{"allOf": [{"prefixItems": [true, {"type": "number"}]}], "unevaluatedItems": false}"#,
        &["[1, 2]"],
        &["[1, 2, 3]", r#"[1, "a"]"#],
    ),
    (
        r#"{"anyOf": [{"prefixItems": [{"const": 1}]}, {"prefixItems": [true, {"const": 2}]}], "unevaluatedItems": false}"#,
        &["[1]", "[3, 2]"],
        &["[1, 3]", "[1, 2, 3]"],
    ),
    (
        r#"{"if": {"prefixItems": [{"const": 1}]}, "then": {"prefixItems": [true, {"const": 2}]}, "else": {"prefixItems": [true]}, "unevaluatedItems": false}"#,
        &["[1, 2]", "[3]"],
        &["[1, 2, 3]", "[3, 2]"],
    ),
    (
        r#"{"contains": {"type": "string"}, "unevaluatedItems": {"type": "number"}}"#,
        &[r#"["a", 1]"#, r#"["a"]"#],
        &["[1]", r#"["a", null]"#],
    ),
    (
        r#"{"if": {"contains": {"const": 1}}, "then": {"if": {"contains": {"const": 2}}}, "unevaluatedItems": false}"#,
        &["[1, 1]", "[1, 2]", "[]"],
        &["[2]", "[1, 3]"],
    ),
    (r#"{"not": {"contains": {"const": 1}}, "unevaluatedItems": false}"#, &["[]"], &["[1]", "[2]"]),
    // What a dynamic reference means is what the outermost resource has by that name, as long as what it meant first is dynamic.
    (r##"{"$dynamicRef": "#n", "$defs": {"x": {"$anchor": "n", "const": 1}}}"##, &["1"], &["2"]),
    (
        r##"{"$id": "http://pier/a", "$ref": "b", "$defs": {"own": {"$anchor": "n", "const": 1}, "x": {"$id": "b", "$dynamicRef": "#n", "$defs": {"y": {"$dynamicAnchor": "n", "const": 2}}}}}"##,
        &["2"],
        &["1"],
    ),
    (
        r##"{"$id": "http://pier/a", "$ref": "b", "$defs": {"own": {"$dynamicAnchor": "n", "const": 1}, "x": {"$id": "b", "$ref": "#n", "$defs": {"y": {"$dynamicAnchor": "n", "const": 2}}}}}"##,
        &["2"],
        &["1"],
    ),
    (
        r##"{"$id": "http://pier/a", "$ref": "b", "$defs": {"own": {"$dynamicAnchor": "n", "const": 1}, "x": {"$id": "b", "$ref": "c", "$defs": {"mid": {"$dynamicAnchor": "n", "const": 2}, "y": {"$id": "c", "$dynamicRef": "#n", "$defs": {"z": {"$dynamicAnchor": "n", "const": 3}}}}}}}"##,
        &["1"],
        &["2", "3"],
    ),
    (
        r##"{"$id": "http://pier/a", "if": {"const": 1}, "then": {"$ref": "texts"}, "else": {"$ref": "numbers"}, "$defs": {"l": {"$id": "list", "items": {"$dynamicRef": "#item"}, "$defs": {"any": {"$dynamicAnchor": "item"}}}, "t": {"$id": "texts", "$defs": {"item": {"$dynamicAnchor": "item", "type": "string"}}, "$ref": "list"}, "n": {"$id": "numbers", "$defs": {"item": {"$dynamicAnchor": "item", "type": "number"}}, "$ref": "list"}}}"##,
        &["[1, 2]", "1"],
        &[r#"["a"]"#],
    ),
    (
        r##"{"$id": "http://pier/strict", "$dynamicAnchor": "n", "$ref": "tree", "unevaluatedProperties": false, "$defs": {"t": {"$id": "tree", "$dynamicAnchor": "n", "properties": {"v": true, "c": {"items": {"$dynamicRef": "#n"}}}}}}"##,
        &[r#"{"c": [{"v": 1}]}"#],
        &[r#"{"c": [{"w": 1}]}"#, r#"{"w": 1}"#],
    ),
];

#[test]
fn keywords() {
    for (drafts, cases) in
        [(&[V2019, V2020][..], &BOTH[..]), (&[V2019], &ONLY_2019), (&[V2020], &ONLY_2020)]
    {
        for which in drafts {
            for (schema, valid, not) in cases {
                assert_values(draft(*which), schema, &[], valid, not);
            }
        }
    }
}

#[test]
fn meta_schemas_take_schemas_and_refuse_others() {
    for uri in [
        "https://json-schema.org/draft/2019-09/schema",
        "https://json-schema.org/draft/2020-12/schema",
    ] {
        let schema = format!(r#"{{"$ref": "{uri}"}}"#);
        let not = [
            r#"{"minLength": -1}"#,
            r#"{"properties": {"a": {"type": "strin"}}}"#,
            r#"{"allOf": []}"#,
            "3",
        ];
        assert_values(
            draft(V2020),
            &schema,
            &[],
            &["true", r#"{"properties": {"a": {"type": "string"}}}"#],
            &not,
        );
    }
}

#[test]
fn a_draft_is_what_the_schema_or_its_resource_says() {
    let of_2019 =
        r#"{"$schema": "https://json-schema.org/draft/2019-09/schema", "items": [{"const": 1}]}"#;
    assert_values(draft(V2020), of_2019, &[], &["[1, 2]"], &["[2]"]);
    let inside = r#"{"items": {"$id": "http://pier/x", "$schema": "http://json-schema.org/draft-07/schema#", "items": [{"const": 1}]}, "prefixItems": [true]}"#;
    assert_values(draft(V2020), inside, &[], &["[1, [1, 2]]"], &["[1, [2]]"]);
}

#[test]
fn vocabularies() {
    let meta = |named: &str| {
        format!(
            r#"{{"$id": "urn:meta", "$schema": "https://json-schema.org/draft/2020-12/schema", "$vocabulary": {{{named}}}}}"#
        )
    };
    let vocabulary = "https://json-schema.org/draft/2020-12/vocab";
    let without = meta(&format!(
        r#""{vocabulary}/core": true, "{vocabulary}/applicator": true, "urn:mine": false"#
    ));
    let schema = r#"{"$schema": "urn:meta", "minimum": 5, "items": {"minimum": 5}, "properties": {"a": false}}"#;
    assert_values(
        Settings::default(),
        schema,
        &[("urn:meta", &without)],
        &["1", "[1]"],
        &[r#"{"a": 1}"#],
    );
    let asserts =
        meta(&format!(r#""{vocabulary}/core": true, "{vocabulary}/format-assertion": false"#));
    let schema = r#"{"$schema": "urn:meta", "format": "date"}"#;
    assert_values(
        Settings::default(),
        schema,
        &[("urn:meta", &asserts)],
        &[r#""2026-06-01""#],
        &[r#""x""#],
    );

    let arena = Arena::new();
    let document =
        |uri: &str, text: &str| Document { uri: uri.to_owned(), value: read(&arena, text) };
    let needs = document("urn:meta", &meta(r#""urn:other": true"#));
    let problems =
        Schema::compile(document("file:///s", schema), &[needs], Settings::default()).unwrap_err();
    assert_eq!(
        problems[0].message,
        "the meta-schema needs the vocabulary urn:other, which is not known"
    );
}

#[test]
fn formats() {
    let cases: [(&str, Draft, &[&str], &[&str]); 20] = [
        (
            "date-time",
            V4,
            &[
                "2026-06-01T07:00:00Z",
                "2026-06-01t07:00:00.25+02:00",
                "1998-12-31T23:59:60Z",
                "1998-12-31T15:59:60.1-08:00",
            ],
            &[
                "2026-06-01 07:00:00Z",
                "2026-06-31T07:00:00Z",
                "2026-06-01T24:00:00Z",
                "2026-06-01T07:00:00",
                "1998-12-31T22:59:60Z",
                "2026-06-01T07:00:00+24:00",
                "২026-06-01T07:00:00Z",
            ],
        ),
        (
            "date",
            V7,
            &["2024-02-29"],
            &["2023-02-29", "2026-13-01", "26-01-01", "2026-01-01Z", "2026-1-01"],
        ),
        (
            "time",
            V7,
            &["07:00:00Z", "07:00:00.5-03:30"],
            &["07:00:00", "7:00:00Z", "07:60:00Z", "07:00Z", "07:00:00+0200"],
        ),
        (
            "duration",
            V2019,
            &["P4DT12H30M5S", "P4Y", "PT0S", "P1Y2M3D", "P2W", "PT1H1M"],
            &["4D", "P", "P1YT", "PT1D", "P2D1Y", "P1D2H", "P1Y2W", "P1", "PT1.5S", "P1Y1D"],
        ),
        (
            "email",
            V4,
            &[
                "joe.bloggs@example.org",
                "te~st@example.org",
                "\\\"joe bloggs\\\"@example.org",
                "a@[127.0.0.1]",
                "a@[IPv6:::1]",
            ],
            &[
                "x",
                ".a@example.org",
                "a.@example.org",
                "a..b@example.org",
                "a@",
                "a@[127.0.0.300]",
                "a b@example.org",
                "ä@example.org",
            ],
        ),
        ("idn-email", V7, &["실례@실례.테스트"], &["2962", "a@-b.c"]),
        (
            "hostname",
            V4,
            &["www.example.org", "xn--4gbwdl.xn--wgbh1c", "a", "1host"],
            &["-a.b", "a-.b", "a_b", "a..b", "a.", ".", "", "ab--cd", "xn--x", "ä.de"],
        ),
        (
            "idn-hostname",
            V7,
            &["실례.테스트", "l·l", "β͵α", "א׳ב", "ァ・b", "क्\u{200d}ष"],
            &["〮실례.테스트", "-실례", "a·l", "α͵s", "a׳b", "def・abc", "٠۰", "a\u{302e}", ""],
        ),
        (
            "ipv4",
            V4,
            &["192.168.0.1"],
            &["127.0.0.0.1", "256.0.0.1", "127.1", "0x7f000001", "087.10.0.1", "1.2.3.4 "],
        ),
        (
            "ipv6",
            V4,
            &["::1", "::", "1:2:3:4:5:6:7:8", "1::d6:192.168.0.1"],
            &["12345::", "1:1:1:1:1:1:1:1:1", "::1::", ":2:3:4:5:6:7:8", "::1%eth1", "::1/64"],
        ),
        (
            "uri",
            V4,
            &[
                "http://foo.bar/?baz=qux#quux",
                "http://user:pw@h:80/%20?q",
                "urn:oasis:names",
                "mailto:a@b.c",
                "http://[::1]/",
                "http://[v1.a:b]/",
                "tel:+1-816-555-1212",
            ],
            &[
                "//foo.bar",
                "/abc",
                "foo",
                "http:// shouldfail.com",
                ":// no",
                "bar,baz: x",
                "http://a/\\\\b",
                "http://a/%2g",
                "http://a/ä",
                "http://[::1/",
                "http://a:b/",
                "https://[@example.org/test.txt",
            ],
        ),
        (
            "uri-reference",
            V7,
            &["/abc", "", "#fragment", "a/b:c", "//h/p"],
            &["\\\\\\\\WINDOWS", "#frag\\\\ment", "a:b c", "1a:b"],
        ),
        ("iri", V7, &["http://ƒøø.ßår/?∂éœ=πîx#πîüx"], &["/abc", "âππ", "http://a b"]),
        ("iri-reference", V7, &["/âππ", "#ƒrägmênt"], &["\\\\\\\\WINDÖWS"]),
        (
            "uuid",
            V2019,
            &["2EB8AA08-aa98-11ea-b4aa-73b441d16380"],
            &[
                "2eb8aa08-aa98-11ea-b4aa-73b441d1638",
                "2eb8aa08aa9811eab4aa73b441d16380",
                "2eb8aa08-aa98-11ea-b4ga-73b441d16380",
                "2eb8aa08-aa98-11ea-b4aa73b441d16380",
            ],
        ),
        (
            "uri-template",
            V7,
            &["http://example.com/dictionary/{term:1}/{term}", "{?a*,b}", "", "{a.b}"],
            &["http://example.com/{term:1}/{term", "{}", "{a b}", "}", "{a:0}", "{$x}"],
        ),
        (
            "json-pointer",
            V7,
            &["/foo/bar~0/baz~1/%a", "", "/", "/~01"],
            &["/foo/bar~", "foo", "#/a", "/~2"],
        ),
        (
            "relative-json-pointer",
            V7,
            &["1", "0/foo/bar", "2#", "0+1/a"],
            &["/foo", "-1/a", "+1/a", "01/a", "0##", "", "0+01"],
        ),
        ("regex", V7, &["([abc])+\\\\s+$"], &["^(abc]", "\\\\Z"]),
        ("of-our-own", V7, &["anything"], &[]),
    ];
    for (format, since, valid, not) in cases {
        let schema = format!(r#"{{"format": "{format}"}}"#);
        let quoted = |texts: &[&str]| -> Vec<String> {
            texts.iter().map(|text| format!("\"{text}\"")).collect()
        };
        let (valid, not) = (quoted(valid), quoted(not));
        let asserts = Settings { draft: Some(since), asserts_formats: true, ..Settings::default() };
        let valid: Vec<&str> = valid.iter().map(String::as_str).chain(["12", "null"]).collect();
        let not: Vec<&str> = not.iter().map(String::as_str).collect();
        assert_values(asserts, &schema, &[], &valid, &not);
        // Unless formats are asserted they only describe.
        assert_values(draft(since), &schema, &[], &not, &[]);
    }
}

#[test]
fn content() {
    fn reads(media_type: &str, text: &str) -> Option<bool> {
        (media_type == "application/json")
            .then(|| json::document(text, &Arena::new(), ReaderOptions::default()).is_ok())
    }
    let settings = Settings { draft: Some(V2020), asserts_formats: true, reads: Some(reads) };
    for (schema, valid, not) in [
        (r#"{"contentEncoding": "base64"}"#, &[r#""eyJ9""#, "1"][..], &[r#""e!""#][..]),
        (
            r#"{"contentEncoding": "base64", "contentMediaType": "application/json"}"#,
            &[r#""e30=""#],
            &[r#""ezo=""#, r#""{}""#],
        ),
        (r#"{"contentMediaType": "application/json"}"#, &[r#""{}""#], &[r#""{""#]),
        (r#"{"contentMediaType": "image/png", "contentEncoding": "x-other"}"#, &[r#""{""#], &[]),
    ] {
        assert_values(settings, schema, &[], valid, not);
    }
}
