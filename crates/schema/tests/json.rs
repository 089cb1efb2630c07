//! What is said of values that break a schema, and of schemas that are none, keyword by keyword.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, Origins, ReaderOptions};
use kyanite_schema::json::{Document, Draft, META_SCHEMAS, MetaSchemas, Schema, Settings};
use kyanite_tree::{Advice, AdvicePart, Arena, Base, Value};

/// The value of a text whose places count from there.
fn read<'a>(arena: &'a Arena, text: &str, base: Base) -> Value<'a> {
    let options = ReaderOptions { origins: Origins::Text(base), ..ReaderOptions::default() };
    json::document(arena.text(text), arena, options).unwrap().0
}

fn words(advice: Option<&Advice>) -> String {
    let words = advice.iter().flat_map(|advice| advice.parts()).map(|part| match part {
        AdvicePart::Words(words) => words.to_string(),
        AdvicePart::Setting(_) => "…".to_owned(),
    });
    words.collect()
}

/// What is found in a value, each as `offset message (advice)`; for a schema that is none the same of that, behind `!`.
fn found(draft: Draft, schema: &str, value: &str) -> String {
    // As much room as the program has.
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(STACK);
        thread.spawn_scoped(scope, || found_here(draft, schema, value)).unwrap().join().unwrap()
    })
}

const STACK: usize = 256 << 20;

fn found_here(draft: Draft, schema: &str, value: &str) -> String {
    let (arena, base) = (Arena::new(), Base::default());
    let meta = |(uri, text): (&str, &str)| Document {
        uri: uri.to_owned(),
        value: read(&arena, text, Base::NONE),
    };
    let others: Vec<Document<'_>> = META_SCHEMAS.into_iter().map(meta).collect();
    let root = Document { uri: "file:///s.json".into(), value: read(&arena, schema, base) };
    let line = |offset: usize, message: &str, advice: Option<&Advice>| {
        let advice = words(advice);
        let advice = if advice.is_empty() { advice } else { format!(" ({advice})") };
        format!("{offset} {message}{advice}")
    };
    let settings = Settings { draft: Some(draft), ..Settings::default() };
    let told: Vec<String> = match Schema::compile(root, &others, settings) {
        Err(problems) => problems
            .iter()
            .map(|problem| {
                let offset = base.offset(problem.origin);
                format!("!{}", line(offset, &problem.message, problem.advice.as_ref()))
            })
            .collect(),
        Ok(schema) => {
            let value = read(&arena, value, base);
            let findings = schema.validate(value);
            assert_eq!(schema.is_valid(value), findings.is_empty());
            findings
                .iter()
                .map(|f| line(base.offset(f.origin), &f.message, f.advice.as_ref()))
                .collect()
        }
    };
    told.join("\n")
}

#[test]
fn findings() {
    for (schema, value, expected) in [
        (r#"{"type": "string"}"#, r#"[]"#, "0 expected string, found a list"),
        (
            r#"{"type": ["null", "integer"]}"#,
            "1.5",
            "0 expected null or integer, found the number 1.5",
        ),
        (r#"{"type": "integer"}"#, "1.0", ""),
        (
            r#"{"enum": ["car", "van"]}"#,
            r#""vn""#,
            "0 \"vn\" is none of the 2 values that may stand here (near: van)",
        ),
        (
            r#"{"enum": [1, null]}"#,
            "2",
            "0 2 is none of the 2 values that may stand here (there are: 1, null)",
        ),
        (r#"{"enum": [{"a": 1, "b": [2]}]}"#, r#"{"b": [2.0], "a": 1e0}"#, ""),
        (r#"{"const": "x"}"#, r#""y""#, "0 expected \"x\", found \"y\""),
        (r#"{"multipleOf": 0.01}"#, "19.99", ""),
        (r#"{"multipleOf": 0.01}"#, "19.999", "0 19.999 is no multiple of 0.01"),
        (r#"{"minimum": 0}"#, "-1", "0 -1 must be at least 0"),
        (
            r#"{"maximum": 9007199254740993}"#,
            "9007199254740994",
            "0 9007199254740994 must be at most 9007199254740993",
        ),
        (r#"{"exclusiveMinimum": 0}"#, "0.0", "0 0.0 must be greater than 0"),
        (r#"{"exclusiveMaximum": 1}"#, "1", "0 1 must be less than 1"),
        (
            r#"{"minLength": 2}"#,
            r#""é""#,
            "0 the text has 1 character, and there must be at least 2",
        ),
        (
            r#"{"maxLength": 1}"#,
            r#""🐲🐲""#,
            "0 the text has 2 characters, and there must be at most 1",
        ),
        (r#"{"minItems": 1}"#, "[]", "0 there are 0 items, and there must be at least 1"),
        (
            r#"{"maxProperties": 0}"#,
            r#"{"a": 1}"#,
            "0 there is 1 member, and there must be at most 0",
        ),
        (r#"{"pattern": "^\\d+$"}"#, r#""1x""#, "0 \"1x\" does not fit ^\\d+$"),
        (
            r#"{"items": {"type": "number"}}"#,
            r#"[1, "2"]"#,
            "4 expected number, found the text \"2\"",
        ),
        (r#"{"items": [{}], "additionalItems": false}"#, "[1, 2]", "4 nothing may stand here"),
        (
            r#"{"contains": {"minimum": 5}}"#,
            "[1, 2]",
            "0 none of the items is one that must be there",
        ),
        (
            r#"{"uniqueItems": true}"#,
            "[1, 2, 1.0]",
            "7 item 2 is the same as item 0, counted from 0",
        ),
        (
            r#"{"required": ["plate"]}"#,
            r#"{"plat": 1}"#,
            "0 the member \"plate\" is missing (near: plat)",
        ),
        (
            r#"{"properties": {"a": {"type": "null"}}}"#,
            r#"{"a": 1}"#,
            "6 expected null, found the number 1",
        ),
        (
            r#"{"patternProperties": {"^x-": {"type": "null"}}}"#,
            r#"{"x-a": 1}"#,
            "8 expected null, found the number 1",
        ),
        (
            r#"{"properties": {"plate": {}}, "additionalProperties": false}"#,
            r#"{"plat": 1}"#,
            "9 the member \"plat\" may not stand here (near: plate)",
        ),
        (
            r#"{"properties": {"a": {}, "bb": {}}, "additionalProperties": false}"#,
            r#"{"a": 1, "zzzz": 1}"#,
            "17 the member \"zzzz\" may not stand here (there may be: bb)",
        ),
        (
            r#"{"propertyNames": {"maxLength": 1}}"#,
            r#"{"ab": 1}"#,
            "7 the text has 2 characters, and there must be at most 1",
        ),
        (
            r#"{"dependencies": {"ab": ["xyz"]}}"#,
            r#"{"ab": 1}"#,
            "0 the member \"xyz\" is missing, which \"ab\" needs",
        ),
        (
            r#"{"dependencies": {"a": {"minProperties": 2}}}"#,
            r#"{"a": 1}"#,
            "0 there is 1 member, and there must be at least 2",
        ),
        (
            r#"{"allOf": [{"minimum": 5}, {"maximum": 1}]}"#,
            "3",
            "0 3 must be at least 5\n0 3 must be at most 1",
        ),
        (
            r#"{"anyOf": [{"type": "null"}, {"minimum": 5}]}"#,
            "3",
            "0 this fits none of 2 alternatives (nearest is number 2, but 3 must be at least 5)",
        ),
        (
            r#"{"oneOf": [{"minimum": 1}, {"minimum": 2}]}"#,
            "3",
            "0 2 of the 2 alternatives fit, and just one may: those of number 1 and 2",
        ),
        (r#"{"not": {"type": "null"}}"#, "null", "0 this is what may not stand here"),
        (
            r#"{"if": {"minimum": 5}, "then": {"maximum": 9}, "else": {"multipleOf": 2}}"#,
            "3",
            "0 3 is no multiple of 2",
        ),
        (
            r##"{"$ref": "#/definitions/a~1b", "definitions": {"a/b": {"type": "null"}}}"##,
            "1",
            "0 expected null, found the number 1",
        ),
        (
            r#"{"$ref": "http://json-schema.org/draft-07/schema#"}"#,
            r#"{"minLength": -1}"#,
            "14 -1 must be at least 0",
        ),
        ("false", "1", "0 nothing may stand here"),
        ("true", "1", ""),
    ] {
        assert_eq!(found(Draft::V7, schema, value), expected, "{schema} {value}");
    }
}

#[test]
fn drafts_differ() {
    for (draft, schema, value, expected) in [
        (
            Draft::V4,
            r#"{"minimum": 1, "exclusiveMinimum": true}"#,
            "1",
            "0 1 must be greater than 1",
        ),
        (Draft::V4, r#"{"type": "integer"}"#, "1.0", "0 expected integer, found the number 1.0"),
        (Draft::V4, r#"{"const": 1}"#, "2", ""),
        (
            Draft::V4,
            r#"{"id": "http://x/y", "items": {"$ref": "y"}, "type": "array"}"#,
            "[1]",
            "1 expected array, found the number 1",
        ),
        (
            Draft::V4,
            r#"{"additionalProperties": false}"#,
            r#"{"a": 1}"#,
            "6 the member \"a\" may not stand here",
        ),
        (Draft::V4, r#"{"items": true}"#, "1", "!10 a schema is a map, and here is a boolean"),
        (Draft::V6, r#"{"if": false}"#, "1", ""),
        (Draft::V7, r#"{"if": true, "then": false}"#, "1", "0 nothing may stand here"),
        // What the schema says counts.
        (
            Draft::V4,
            r#"{"$schema": "http://json-schema.org/draft-07/schema", "const": 1}"#,
            "2",
            "0 expected 1, found 2",
        ),
    ] {
        assert_eq!(found(draft, schema, value), expected, "{schema} {value}");
    }
}

#[test]
fn schemas_that_are_none() {
    for (schema, expected) in [
        ("3", "!0 a schema is a map, true or false, and here is a number"),
        (
            r#"{"type": "strin"}"#,
            "!9 `type` takes one of null, boolean, integer, number, string, array, object, and here is \"strin\"",
        ),
        (r#"{"minimum": "x"}"#, "!12 `minimum` takes a number, and here is \"x\""),
        (
            r#"{"maxLength": -1}"#,
            "!14 `maxLength` takes a whole number that is not negative, and here is -1",
        ),
        (
            r#"{"maxLength": 1.5}"#,
            "!14 `maxLength` takes a whole number that is not negative, and here is 1.5",
        ),
        (r#"{"multipleOf": 0}"#, "!15 `multipleOf` takes a number greater than 0, and here is 0"),
        (r#"{"required": "a"}"#, "!13 `required` takes a list, and here is \"a\""),
        (r#"{"required": [1]}"#, "!14 `required` takes a text, and here is 1"),
        (r#"{"allOf": []}"#, "!10 `allOf` takes a list of at least one schema, and here is a list"),
        (
            r#"{"properties": {"a": 1}}"#,
            "!21 a schema is a map, true or false, and here is a number",
        ),
        (
            r#"{"pattern": "("}"#,
            "!12 \"(\" is no regular expression of ECMA-262: a parenthesis is not closed (write a backslash before signs that stand for themselves)",
        ),
        (
            r##"{"$ref": "#/definitons/a", "definitions": {}}"##,
            "!9 the reference \"#/definitons/a\" leads to nothing (near: definitions)",
        ),
        (
            r#"{"$ref": "other.json"}"#,
            "!9 the schema refers to file:///other.json, which is not given",
        ),
        (r##"{"$ref": "#"}"##, "!0 this schema applies itself to the same value without end"),
        (
            r##"{"anyOf": [{"not": {"$ref": "#/anyOf/0"}}]}"##,
            "!11 this schema applies itself to the same value without end",
        ),
        (
            r#"{"$schema": "urn:none"}"#,
            "!12 \"urn:none\" is no draft of JSON Schema that is known (drafts 4, 6, 7, 2019-09 and 2020-12 are; if it is a meta-schema of your own, say which file it is: …)",
        ),
    ] {
        assert_eq!(found(Draft::V7, schema, "1"), expected, "{schema}");
    }
}

/// A document that is given among those that it may refer to is compiled once, and what is said of it is said once.
#[test]
fn remarks() {
    let arena = Arena::new();
    let schema = r##"{"properties": {"a": {"$ref": "#"}}, "requird": ["a"]}"##;
    let root =
        Document { uri: "file:///s.json".into(), value: read(&arena, schema, Base::default()) };
    let schema = Schema::compile(root.clone(), &[root], Settings::default()).unwrap();
    let said: Vec<&str> = schema.remarks().iter().map(|remark| &*remark.message).collect();
    assert_eq!(said, ["`requird` is no keyword, so it says nothing"]);
}

/// A schema that refers to itself for what is inside a value goes as deep as the value.
#[test]
fn recursive_schemas() {
    let schema = r##"{"type": "object", "properties": {"next": {"$ref": "#"}}}"##;
    let value = format!("{}1{}", r#"{"next":"#.repeat(100), "}".repeat(100));
    assert_eq!(found(Draft::V7, schema, &value), "800 expected object, found the number 1");
}

/// The work is in proportion where alternatives nest, and is given up where they multiply.
#[test]
fn alternatives_that_nest() {
    let nested = (0..100).fold(r#"{"type": "array"}"#.to_owned(), |inner, _| {
        format!(r#"{{"anyOf": [{{"not": {inner}}}, {{"type": "null"}}]}}"#)
    });
    assert_eq!(found(Draft::V7, &nested, "[]"), "");
    assert!(found(Draft::V7, &nested, "1").starts_with("0 this fits none of 2 alternatives"));
    let doubled: String = (1..40)
        .map(|n| {
            let before = format!(r##"{{"$ref": "#/definitions/d{}"}}"##, n - 1);
            format!(r#", "d{n}": {{"anyOf": [{before}, {before}]}}"#)
        })
        .collect();
    let doubled = format!(
        r##"{{"$ref": "#/definitions/d39", "definitions": {{"d0": {{"type": "null"}}{doubled}}}}}"##
    );
    let given_up = "0 the check was given up after 1001000 steps (alternatives of the schema multiply: make them fewer)";
    assert_eq!(found(Draft::V7, &doubled, "1"), given_up);
}

/// Schemas that lead to each other without end in sight.
#[test]
fn chains() {
    let chain = |length: usize| {
        let links =
            (1..length).map(|n| format!(r##""d{n}": {{"$ref": "#/definitions/d{}"}}, "##, n - 1));
        let links: String = links.collect();
        let last = length - 1;
        format!(
            r##"{{"$ref": "#/definitions/d{last}", "definitions": {{{links}"d0": {{"type": "null"}}}}}}"##
        )
    };
    assert_eq!(found(Draft::V7, &chain(3_000), "1"), "0 expected null, found the number 1");
    let refused = found(Draft::V7, &chain(20_000), "1");
    assert!(
        refused.ends_with("schemas lead to each other through more than 4000 others"),
        "{refused}"
    );
    let deep = r##"{"items": {"allOf": [{"allOf": [{"allOf": [{"allOf": [{"allOf": [{"allOf": [
        {"allOf": [{"$ref": "#"}]}]}]}]}]}]}]}}"##;
    let value = format!("{}{}", "[".repeat(500), "]".repeat(500));
    let given_up = "0 the check was given up: schemas apply each other 4000 levels deep (make the chain of schemas, or the value, less deep)";
    assert_eq!(found(Draft::V7, deep, &value), given_up);
}

/// What the reader of keywords does not come to, or does not ask for, is found by the meta-schema.
#[test]
fn meta_schemas() {
    const OWN: &str = r##"{"$id": "https://tarn.example/named", "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$vocabulary": {"https://json-schema.org/draft/2020-12/vocab/core": true},
        "$ref": "https://json-schema.org/draft/2020-12/schema", "required": ["title"]}"##;
    for (draft, schema, expected) in [
        (Draft::V2020, r#"{"title": 5}"#, "10 expected string, found the number 5"),
        (Draft::V2020, r#"{"deprecated": "x"}"#, "15 expected boolean, found the text \"x\""),
        (
            Draft::V2020,
            r#"{"$defs": {"a": {"maximum": "x"}}}"#,
            "28 expected number, found the text \"x\"",
        ),
        (
            Draft::V4,
            r#"{"definitions": {"a": {"required": []}}}"#,
            "35 there are 0 items, and there must be at least 1",
        ),
        (Draft::V7, r#"{"$comment": 5, "default": 5}"#, "13 expected string, found the number 5"),
        (Draft::V2019, r#"{"$anchor": "3"}"#, "12 \"3\" does not fit ^[A-Za-z][-A-Za-z0-9.:_]*$"),
        // A schema that names another meta-schema is looked at by none but that.
        (
            Draft::V2020,
            r#"{"$defs": {"a": {"$schema": "http://json-schema.org/draft-04/schema#", "maximum": 3, "exclusiveMaximum": true}}}"#,
            "",
        ),
        (
            Draft::V2020,
            r#"{"$schema": "https://tarn.example/named"}"#,
            "0 the member \"title\" is missing",
        ),
        (Draft::V2020, r#"{"$schema": "https://tarn.example/named", "title": "port"}"#, ""),
    ] {
        let (arena, base) = (Arena::new(), Base::default());
        let read = |text: &str| read(&arena, text, base);
        let meta = |(uri, text): (&str, &str)| Document { uri: uri.to_owned(), value: read(text) };
        let own = ("https://tarn.example/named", OWN);
        let others: Vec<Document<'_>> = META_SCHEMAS.into_iter().chain([own]).map(meta).collect();
        let document = Document { uri: "file:///s.json".into(), value: read(schema) };
        let settings = Settings { draft: Some(draft), ..Settings::default() };
        assert!(Schema::compile(document.clone(), &others, settings).is_ok(), "{schema}");
        let found = MetaSchemas::default().check(&document, &others, settings);
        let found = found.iter().map(|problem| {
            let message =
                problem.message.strip_prefix("the schema breaks its meta-schema: ").unwrap();
            format!("{} {message}", base.offset(problem.origin))
        });
        assert_eq!(found.collect::<Vec<_>>().join("; "), expected, "{schema}");
    }
}

/// Locations of output units (2020-12 core section 12.3): the keyword's through references, its own URI, the value's.
#[test]
fn units() {
    const POLYGON: &str = r##"{
        "$id": "https://tarn.example/polygon",
        "$defs": {"point": {"type": "object", "properties": {"x": {"type": "number"}, "a/b": false},
            "additionalProperties": false, "required": ["x", "y"]},
            "own": {"$id": "own", "items": {"maximum": 9}}},
        "items": {"$ref": "#/$defs/point"}}"##;
    for (schema, value, expected) in [
        (
            POLYGON,
            r#"[{"x": 1, "y": 1}, {"x": "1"}]"#,
            "/items/$ref/additionalProperties https://tarn.example/polygon#/$defs/point/additionalProperties /0/y
/items/$ref/required https://tarn.example/polygon#/$defs/point/required /1
/items/$ref/properties/x/type https://tarn.example/polygon#/$defs/point/properties/x/type /1/x",
        ),
        (
            r##"{"$defs": {"own": {"$id": "own", "items": {"maximum": 9}}}, "$ref": "own"}"##,
            "[8, 10]",
            "/$ref/items/maximum file:///own#/items/maximum /1",
        ),
        (
            r#"{"prefixItems": [{"const": 1}], "items": {"type": "null"}, "uniqueItems": true}"#,
            "[2, null, 3, 3]",
            "/prefixItems/0/const file:///s.json#/prefixItems/0/const /0
/items/type file:///s.json#/items/type /2
/items/type file:///s.json#/items/type /3
/uniqueItems file:///s.json#/uniqueItems ",
        ),
        (
            r#"{"properties": {"a/b": false, "t~": {"not": {}}}, "patternProperties": {"^n %": {"minLength": 2}}}"#,
            r#"{"a/b": 1, "t~": 2, "n %": "x"}"#,
            "/properties/a~1b file:///s.json#/properties/a~1b /a~1b
/properties/t~0/not file:///s.json#/properties/t~0/not /t~0
/patternProperties/^n %/minLength file:///s.json#/patternProperties/%5En%20%25/minLength /n %",
        ),
        (
            r#"{"if": {"type": "object"}, "then": {"dependentSchemas": {"a": {"propertyNames": {"maxLength": 1}}}},
                "else": {"allOf": [true, {"minimum": 3}]}}"#,
            r#"{"a": 1, "bb": 2}"#,
            "/then/dependentSchemas/a/propertyNames/maxLength file:///s.json#/then/dependentSchemas/a/propertyNames/maxLength /bb",
        ),
        (
            r#"{"if": {"type": "object"}, "else": {"allOf": [true, {"minimum": 3}]}}"#,
            "2",
            "/else/allOf/1/minimum file:///s.json#/else/allOf/1/minimum ",
        ),
        (
            r#"{"properties": {"a": true}, "unevaluatedProperties": false, "anyOf": [{"required": ["b"]}]}"#,
            r#"{"a": 1, "c": 2}"#,
            "/anyOf file:///s.json#/anyOf 
/unevaluatedProperties file:///s.json#/unevaluatedProperties /c",
        ),
    ] {
        let arena = Arena::new();
        let read = |text: &str| read(&arena, text, Base::default());
        let root = Document { uri: "file:///s.json".into(), value: read(schema) };
        let schema = Schema::compile(root, &[], Settings::default()).unwrap();
        let units = schema.validate(read(value)).into_iter().map(|finding| {
            let unit = finding.unit.unwrap();
            let (keyword, absolute) = (unit.keyword_location, unit.absolute_keyword_location);
            format!("{keyword} {absolute} {}", unit.instance_location)
        });
        assert_eq!(units.collect::<Vec<_>>().join("\n"), expected, "{value}");
    }
}
