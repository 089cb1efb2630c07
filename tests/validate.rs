//! `kyanite validate`: reports, places and exit statuses.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, run};

/// A schema for a pier.
const PIER: &str =
    r#"{"type": "object", "required": ["no"], "properties": {"no": {"type": "string"}}}"#;

#[test]
fn reports() {
    let folder = Folder::with_demo();
    folder.file("pier.json", PIER);
    folder.file("berths.json", r#"{"items": {"$ref": "pier.json"}}"#);
    folder.file("good.yaml", "no: A9\n");
    folder.file("bad.yaml", "na: A9\n");
    folder.file("piers.xml", "<pier no='4'><berth>A9</berth></pier>");
    folder.file("piers.csv", "no,name\n4,Ness\n");
    folder.file(
        "typed.json",
        r#"{"properties": {"no": {"type": "integer", "minimum": 4, "enum": [4, "A"]}, "name": {"type": "string"}}}"#,
    );
    folder.file("odd.csv", "no,name\n5,Ness\n3.5,Lund\n");
    folder.file("two.jsonl", "{\"no\":\"4\"}\n{\"no\":4}\n");
    folder.file("broken.json", "{\"no\": ");
    folder.file("near.json", r#"{"type": "object", "requird": ["no"]}"#);
    folder.file("odd.json", r#"{"type": "strin"}"#);
    folder.file("strict.json", r#"{"additionalProperties": false, "properties": {"na": true}}"#);
    for (line, status, out, err) in [
        ("validate --schema pier.json good.yaml", 0, "1 document checked in 1 input: valid\n", ""),
        (
            "validate --schema pier.json bad.yaml",
            1,
            "1 document checked in 1 input: 1 finding, in 1 input\n\n\
             error: the member \"no\" is missing\n  bad.yaml:1:1  $\n      na: A9\n      ^^\n  \
             pier.json:1:32  $.required\n      \
             {\"type\": \"object\", \"required\": [\"no\"], \"properties\": {\"no\": {\"type\": \"string\"}}}\n                                     \
             ^\n  near: na\n",
            "",
        ),
        // Each record is a document, and places are those of the file.
        ("validate --schema pier.json two.jsonl", 1, "\n  two.jsonl:2:7  $[1].no\n", ""),
        // What has no type has that of what it spells as well.
        ("validate --schema typed.json piers.csv", 0, ": valid", ""),
        (
            "validate --schema typed.json --from csv odd.csv",
            1,
            ": 4 findings, in 1 input\n\nerror: \"5\" is none of the 2",
            "",
        ),
        ("validate --schema pier.json piers.csv", 0, "1 document checked in 1 input: valid", ""),
        // Elements are checked in the record view.
        ("validate --schema pier.json piers.xml", 1, "the member \"no\" is missing", ""),
        // All schemas have to hold.
        (
            "validate --schema pier.json --schema strict.json good.yaml bad.yaml",
            1,
            "2 documents checked in 2 inputs: 2 findings, in 2 inputs\n",
            "",
        ),
        // What is not well-formed is a finding; what is not there is not.
        ("validate --schema pier.json broken.json", 1, "the JSON text ends inside", ""),
        (
            "validate --schema pier.json absent.json bad.yaml",
            3,
            "1 document checked in 1 input: 1 finding, in 1 input; 1 input could not be read\n",
            "absent.json",
        ),
        (
            "validate --schema odd.json good.yaml",
            2,
            "",
            "`type` takes one of null, boolean, integer, number, string, array, object, and here is \"strin\"\n  odd.json:1:10  $.type",
        ),
        (
            "validate --schema near.json bad.yaml",
            0,
            ": valid",
            "`requird` is no keyword, so it says nothing\n  near.json:1:31  $.requird",
        ),
        ("validate --schema none.json good.yaml", 2, "", "none.json"),
        (
            "validate good.yaml",
            1,
            "good.yaml names no schema, and none is given\n  --schema SCHEMA\n",
            "",
        ),
        ("validate --schema berths.json good.yaml", 2, "", "/pier.json, which is not given"),
        ("validate --schema berths.json good.yaml", 2, "", "pier.json=FILE"),
        ("validate --schema pier.json --schema berths.json good.yaml", 0, ": valid", ""),
        ("validate --schema schemas/booking.json bookings.jsonl", 1, ": 1 finding, in 1 input", ""),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, status, "{line}: {}{}", ran.out, ran.err);
        assert!(ran.out.contains(out), "{line}: {}", ran.out);
        assert!(ran.err.contains(err), "{line}: {}", ran.err);
    }
    let ran = run(&folder, "validate --schema pier.json", "{\"no\": 4}");
    assert!(ran.status == 1 && ran.out.contains("standard input:1:8  $.no"), "{}", ran.out);
    folder.file("mapped.json", r#"{"$ref": "urn:tern-isles:pier#"}"#);
    let mapped =
        "validate --schema mapped.json --schema-map urn:tern-isles:pier=pier.json bad.yaml";
    assert!(run(&folder, mapped, "").out.contains("the member \"no\" is missing"));
    folder.file("v4.json", r#"{"minimum": 1, "exclusiveMinimum": true}"#);
    assert_eq!(run(&folder, "validate --schema v4.json --draft 4", "1").status, 1);
    assert_eq!(run(&folder, "validate --schema v4.json", "1").status, 2);
    folder.file("day.json", r#"{"format": "date", "prefixItems": [{"const": 1}]}"#);
    assert_eq!(run(&folder, "validate --schema day.json", "\"June\"").status, 0);
    let asserted = run(&folder, "validate --schema day.json --assert-formats", "\"June\"");
    assert!(
        asserted.status == 1 && asserted.out.contains("\"June\" is no date"),
        "{}",
        asserted.out
    );
    assert_eq!(run(&folder, "validate --schema day.json", "[2]").status, 1);
    assert_eq!(run(&folder, "validate --schema day.json --draft 7", "[2]").status, 0);
}
