//! `kyanite schema`, and schemas that inputs have their types from.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, assert_says, run};

/// What is built in, and what schemas and documents have to keep to beyond what a compiler asks.
#[test]
fn schemas_by_their_own_schemas() {
    let folder = Folder::with_demo();
    folder.file("odd.json", r#"{"title": 5, "$defs": {"a": {"type": "strnig"}}}"#);
    folder.file(
        "odd.xsd",
        "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema' elementFormDefault='qual'/>",
    );
    folder.file(
        "maps.xsd",
        "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema'><xs:element name='map'><xs:complexType>\
         <xs:attribute name='of' type='xs:ENTITY'/></xs:complexType></xs:element></xs:schema>",
    );
    let map = |of: &str| {
        format!(
            "<!DOCTYPE map [<!NOTATION n SYSTEM 'n'><!ENTITY chart SYSTEM 'c' NDATA n>]>\n<map of='{of}'/>"
        )
    };
    folder.file("good.xml", map("chart"));
    folder.file("bad.xml", map("chert"));
    for (line, status, expected) in [
        ("schema check odd.json", 1, "odd.json:1:11  $.title"),
        ("schema check odd.json", 1, "nearest is number 1, but \"strnig\" is none of the 7 values"),
        (
            "schema check odd.xsd",
            1,
            "the schema breaks the schema for schemas: \"qual\" is none of the 2 values",
        ),
        (
            "validate --schema https://json-schema.org/draft/2020-12/schema odd.json",
            1,
            "2 findings",
        ),
        (
            "validate --schema http://www.w3.org/2001/XMLSchema schemas/manifest.xsd schemas/notices.xsd",
            0,
            "2 documents checked in 2 inputs: valid",
        ),
        ("validate --schema http://www.w3.org/2001/XMLSchema odd.xsd", 1, "near: qualified"),
        ("validate --schema maps.xsd good.xml", 0, "valid"),
        ("validate --schema maps.xsd bad.xml", 1, "bad.xml:2:10  /map[1]/@of"),
        (
            "validate --schema maps.xsd bad.xml",
            1,
            "declares no unparsed entity that is called \"chert\"",
        ),
        ("validate --schema maps.xsd bad.xml", 1, "near: chart"),
    ] {
        assert_says(&folder, line, status, expected);
    }
}

/// Values without types have those of a schema: whole documents and records of a stream alike.
#[test]
fn types_of_inputs() {
    let folder = Folder::with_demo();
    folder.file("tariff.json", r#"{"properties": {"price": {"type": "number"}, "zone": {"type": "integer"}, "currency": {"enum": ["NOK", null]}}}"#);
    folder.file("prices.csv", "kind,zone,price,currency\nadult,1,42.00,NOK\nchild,x,,\n");
    // What is no boolean to `validate` is none here.
    folder.file(
        "open.json",
        r#"{"properties": {"a": {"type": "boolean"}, "b": {"type": "boolean"}}}"#,
    );
    folder.file("open.csv", "a,b\n1,true\n0,false\n");
    const XSD: &str = "--schema schemas/manifest.xsd --drop-namespaces --compact";
    for (line, expected) in [
        ("convert prices.csv --schema tariff.json --to jsonl", "{\"kind\":\"adult\",\"zone\":1,\"price\":42.00,\"currency\":\"NOK\"}\n{\"kind\":\"child\",\"zone\":\"x\",\"price\":\"\",\"currency\":null}\n".to_owned()),
        ("convert open.csv --schema open.json --to jsonl", "{\"a\":\"1\",\"b\":true}\n{\"a\":\"0\",\"b\":false}\n".to_owned()),
        ("query sum($[*].price) tariff.csv --schema tariff.json --to text",
            "723.65\n".to_owned(),
        ),
        // A record of a stream, a document held whole, and one that a path leads to at any depth.
        (&format!("query $.manifest.vessel[*].draught manifests/holm.xml {XSD}"), "[{\"@unit\":\"ft\",\"#text\":14.8}]\n".to_owned()),
        (&format!("query $..draught manifests/holm.xml {XSD}"), "[{\"@unit\":\"ft\",\"#text\":14.8}]\n".to_owned()),
        (&format!("query count($.manifest.vessel[*]) manifests/holm.xml {XSD}"), "1\n".to_owned()),
        (&format!("query $[*].manifest.vessel[*].deck[0].@no manifest.xml manifests/skarv.xml --gather {XSD}"), "[1,1,1]\n".to_owned()),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!((ran.status, &ran.out), (0, &expected), "{line}: {}", ran.err);
    }
    for (line, expected) in [
        (
            "query $[*] bookings.jsonl --schema schemas/booking.json",
            "bookings.jsonl is jsonl, whose values have types of their own",
        ),
        (
            "query $ tariff.csv --schema schemas/manifest.xsd",
            "schemas/manifest.xsd has types for XML, and tariff.csv is csv",
        ),
        ("query $ manifest.xml --schema schemas/manifest.sch", "schemas/manifest.sch has no types"),
        (
            "query //c:name manifest.xml --syntax xpath --namespace c=urn:tern-isles:crew --schema schemas/manifest.xsd",
            "an XPath selects elements, which have no types",
        ),
        ("query $ manifest.xml --schema none.xsd", "there is no file none.xsd"),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, 2, "{line}: {}{}", ran.out, ran.err);
        assert!(ran.err.contains(expected) && ran.out.is_empty(), "{line}: {}", ran.err);
    }
}

/// What is made of a schema is valid by it.
#[test]
fn what_is_made_of_schemas() {
    let folder = Folder::with_demo();
    for line in [
        "schema sample schemas/manifest.xsd -o sample.xml",
        "validate --schema schemas/manifest.xsd sample.xml",
        "schema translate schemas/manifest.xsd -o manifest.json",
        "schema check manifest.json",
        "convert manifest.xml --schema schemas/manifest.xsd -o typed.json",
        "convert sample.xml --schema schemas/manifest.xsd -o typed-sample.json",
        "validate --schema manifest.json typed.json typed-sample.json",
        "schema translate schemas/vessel.xsd --drop-namespaces -o local.json",
        "schema sample schemas/vessel.xsd --root crew -o crew-sample.xml",
        "convert crew-sample.xml --schema schemas/vessel.xsd --drop-namespaces -o local-typed.json",
        "validate --schema local.json local-typed.json",
        "schema sample schemas/booking.json --seed 9 -o booking.json",
        "validate --schema schemas/booking.json booking.json",
        "schema sample schemas/manifest.xsd --root crew --minimal -o crew.xml",
        "validate --schema schemas/crew.xsd crew.xml",
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, 0, "{line}: {}{}", ran.out, ran.err);
    }
    // What is broken there is broken here as well.
    run(&folder, "convert manifests/holm.xml --schema schemas/manifest.xsd -o holm.json", "");
    let ran = run(&folder, "validate --schema manifest.json holm.json", "");
    assert!(
        ran.status == 1 && ran.out.contains("expected integer, found the text \"1.45 t\""),
        "{}",
        ran.out
    );
    for (line, status, expected) in [
        (
            "schema translate schemas/manifest.xsd",
            0,
            "keys, unique values and references to keys are not said\n  schemas/manifest.xsd:",
        ),
        ("schema translate schemas/manifest.xsd --strict -o none.json", 1, "is not said"),
        ("schema translate schemas/booking.json", 2, "only one XML Schema is translated"),
        ("schema sample schemas/manifest.xsd --root vesel", 2, "near: vessel"),
        ("schema sample schemas/manifest.sch", 2, "a sample is one of one schema"),
        ("schema sample schemas/booking.json --root a", 2, "a JSON Schema has no root element"),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, status, "{line}: {}", ran.err);
        assert!(ran.err.contains(expected), "{line}: {}", ran.err);
    }
    assert!(!folder.path().join("none.json").exists());
}

/// What a rule does that its schemas have nothing for, each as its part of the rule and what is said.
#[test]
fn rules_against_schemas() {
    let folder = Folder::with_demo();
    folder.file("fares.json", r##"{"type": "object", "required": ["id", "amount"], "additionalProperties": false,
        "properties": {"id": {"type": "string"}, "amount": {"type": "number"}, "leg": {"$ref": "#/$defs/leg"}, "seats": {"type": "array", "items": {"type": "string"}}, "any": true},
        "$defs": {"leg": {"type": "object", "properties": {"from": {"type": "string"}}, "required": ["from"]}}}"##);
    folder.file("list.json", r##"{"type": "array", "items": {"required": ["no"], "properties": {"no": {"type": "string"}}}}"##);
    for (rule, schemas, expected) in [
        // Paths.
        ("$[*].fare.amount", "--expect schemas/booking.json", &[][..]),
        (
            "$[*].fare.amunt",
            "--expect schemas/booking.json",
            &["has no member `amunt` here", "near: amount"],
        ),
        ("$[?@.sttus == 'x'].id", "--expect schemas/booking.json", &["has no member `sttus` here"]),
        (
            "for b in $[*] let l = b.leg where exists(l.too) return l.to",
            "--expect schemas/booking.json",
            &["has no member `too` here", "near: to"],
        ),
        (
            "for b in $[*] group by v = b.vessel return {v, n: sum(b[*].fare.amont)}",
            "--expect schemas/booking.json",
            &["`amont`"],
        ),
        (
            "for b in $[*] for s in b.seats[*] return s.knd",
            "--expect schemas/booking.json",
            &["`knd`", "near: kind"],
        ),
        (
            "for b in $[*] window 2 return b[0].statuss",
            "--expect schemas/booking.json",
            &["`statuss`"],
        ),
        ("sum($[*].fare.amonut)", "--expect schemas/booking.json", &["`amonut`"]),
        (
            "for b in $[*] return b.seats.no",
            "--expect schemas/booking.json",
            &["`no` steps into what is a list", "write [*].no for the items"],
        ),
        ("for b in $[*] return {...b.leg, x: 1}.fron", "--expect schemas/booking.json", &[]),
        ("$..whatever", "--expect schemas/booking.json", &[]),
        (
            "for v in $.manifest.vessel[*] return v.deck[*].@nr",
            "--expect schemas/manifest.xsd",
            &["`@nr`", "near: @no"],
        ),
        ("$.manifest.vessel.deck.vehicle.weight", "--expect schemas/manifest.xsd", &[]),
        ("$.manifest.vesel", "--expect schemas/manifest.xsd", &["near: vessel"]),
        ("let l = $[0].leg return l.form", "--expect schemas/booking.json", &["`form`"]),
        (
            "for b in $[*] return case b.status when 'confirmed' then b.leg.form else b.fare.amuont end",
            "--expect schemas/booking.json",
            &["`form`", "`amuont`"],
        ),
        (
            "for b in $[*] return case when b.leg.tto == 'x' then 1 end",
            "--expect schemas/booking.json",
            &["`tto`"],
        ),
        (
            "for b in $[*] return recover(b.leg.form, b.fare.amout)",
            "--expect schemas/booking.json",
            &["`form`", "`amout`"],
        ),
        (
            "for b in $[*] return [...b.seats[*].nr, !(b.leg.frm == 'x'), -b.fare.amnt]",
            "--expect schemas/booking.json",
            &["`nr`", "`frm`", "`amnt`"],
        ),
        (
            "def port(leg) = leg.from\nfor b in $[*] return port(b.lge)",
            "--expect schemas/booking.json",
            &["`lge`"],
        ),
        ("for b in $[*] return b set .leg.frm = 1", "--expect schemas/booking.json", &["`frm`"]),
        (
            "for b in $[*] return b set .leg.from = @ + b.fare.amunt",
            "--expect schemas/booking.json",
            &["`amunt`"],
        ),
        ("for b in $[*] return xpath(b.lge, '.')", "--expect schemas/booking.json", &["`lge`"]),
        (
            "for b at i in $[*] return {i, x: b.vesel}",
            "--expect schemas/booking.json",
            &["`vesel`"],
        ),
        ("for s in [...$[*].seats[*]] return s.nr", "--expect schemas/booking.json", &["`nr`"]),
        ("for b in $[*] for s in b.seats return s.nr", "--expect schemas/booking.json", &["`nr`"]),
        ("for b in $[*] return {(b.idd): 1}", "--expect schemas/booking.json", &["`idd`"]),
        ("$[*]['leg','far'].from", "--expect schemas/booking.json", &["`far`"]),
        ("for b in $[*] return b[(b.idd)]", "--expect schemas/booking.json", &["`idd`"]),
        ("for b in $[*] return b.seats[0].nr", "--expect schemas/booking.json", &["`nr`"]),
        (
            "for b in $[*] carry t from 0 = t + b.fare.amunt return t",
            "--expect schemas/booking.json",
            &["`amunt`"],
        ),
        (
            "for b in $[*] order by b.leg.departs, b.boked return b.id",
            "--expect schemas/booking.json",
            &["`boked`"],
        ),
        (
            "for b in $[*] where b.fare.amount > 1 && !exists(b.vehicle.plat) return b.id",
            "--expect schemas/booking.json",
            &["`plat`"],
        ),
        (
            "for b in $[*] return f'{b.id} {b.cusomer.name}'",
            "--expect schemas/booking.json",
            &["`cusomer`"],
        ),
        (
            "namespace v = \"urn:tern-isles:vessel\"; $.manifest['v:vesel']",
            "--expect schemas/manifest.xsd",
            &["near: vessel"],
        ),
        ("$.manifest.@xmlns", "--expect schemas/manifest.xsd", &[]),
        // What is made.
        (
            "for b in $[*] return {id: b.id, amount: b.fare.amount}",
            "--expect schemas/booking.json --ensure fares.json",
            &[],
        ),
        (
            "for b in $[*] return {id: b.id}",
            "--ensure fares.json",
            &["the member `amount`, which the schema of the result needs, is never made"],
        ),
        (
            "for b in $[*] return {id: b.id, amount: 1, idd: 2}",
            "--ensure fares.json",
            &["the schema of the result has no member `idd` here", "near: id"],
        ),
        (
            "for b in $[*] return {id: 4, amount: f\"{b.x}\"}",
            "--ensure fares.json",
            &[
                "this is a number, and the schema of the result has a text here",
                "this is a text, and the schema of the result has a number here",
            ],
        ),
        (
            "for b in $[*] return {id: b.fare, amount: 1}",
            "--expect schemas/booking.json --ensure fares.json",
            &["this is a map by the schema of the input, and that of the result has a text here"],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: 1, leg: {form: b.leg.from}}",
            "--ensure fares.json",
            &["`from`, which the schema of the result needs, is never made", "near: from"],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: 1, seats: for s in b.seats[*] return {s}}",
            "--ensure fares.json",
            &["this is a map, and the schema of the result has a text here"],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: if b.x == 1 then 1 else \"none\"}",
            "--ensure fares.json",
            &["this is a text, and"],
        ),
        ("for b in $[*] return {...b, amount: 1}", "--ensure fares.json", &[]),
        ("for b in $[*] return {id: \"a\", amount: 1, any: {a: [1]}}", "--ensure fares.json", &[]),
        (
            "{a: for b in $[*] return {id: 1}}",
            "--ensure fares.json",
            &["has no member `a` here", "`id`, which", "`amount`, which"],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: true}",
            "--ensure fares.json",
            &["this is a boolean, and"],
        ),
        ("for b in $[*] return {id: \"a\", amount: -b.x}", "--ensure fares.json", &[]),
        ("for b in $[*] return {id: \"a\", amount: b.x * 2}", "--ensure fares.json", &[]),
        (
            "for b in $[*] return {id: !exists(b.x), amount: 1}",
            "--ensure fares.json",
            &["this is a boolean, and the schema of the result has a text here"],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: case b.x when 1 then 2 else \"none\" end}",
            "--ensure fares.json",
            &["this is a text, and"],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: recover(1, \"none\")}",
            "--ensure fares.json",
            &["this is a text, and"],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: if b.x == 1 then 1}",
            "--ensure fares.json",
            &[],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: 1, seats: [1]}",
            "--ensure fares.json",
            &["this is a number, and the schema of the result has a text here"],
        ),
        (
            "for b in $[*] return {id: \"a\", amount: 1, seats: [...b.x[*]]}",
            "--ensure fares.json",
            &[],
        ),
        ("for b in $[*] return {id: \"a\", amount: 1, (b.x): 2}", "--ensure fares.json", &[]),
        (
            "for b in $[*] return {id: count(b.x[*]), amount: 1}",
            "--ensure fares.json",
            &["this is a number, and the schema of the result has a text here"],
        ),
        ("let x = 1 return {id: x, amount: 1}", "--ensure fares.json", &["this is a number, and"]),
        (
            "for b in $[*] let x = [b.x] return {id: x, amount: 1}",
            "--ensure fares.json",
            &["this is a list, and the schema of the result has a text here"],
        ),
    ] {
        folder.file("one.kyr", format!("{rule}\n"));
        let ran = run(&folder, &format!("rules check one.kyr {schemas}"), "");
        let status = i32::from(!expected.is_empty());
        assert_eq!(ran.status, status, "{rule}: {}{}", ran.out, ran.err);
        for part in expected {
            assert!(ran.err.contains(part), "{rule}: {}", ran.err);
        }
        let count = ran.err.matches("error:").count();
        assert!(count <= expected.len(), "{rule}: {}", ran.err);
    }
    // The header names schemas, too, and the rules of the demo fit theirs.
    folder.file(
        "rules/named.kyr",
        "expects \"../schemas/booking.json\"\nfor b in $[*] return b.vesel\n",
    );
    let ran = run(&folder, "rules check rules/named.kyr", "");
    assert!(
        ran.status == 1
            && ran.err.contains("near: vessel")
            && ran.err.contains("rules/named.kyr:2:"),
        "{}",
        ran.err
    );
    let ran = run(
        &folder,
        "rules check rules/port-fares.kyr rules/dearest.kyr rules/running.kyr --expect schemas/booking.json",
        "",
    );
    assert_eq!(ran.status, 0, "{}", ran.err);
    let ran = run(&folder, "rules check rules/port-fares.kyr --expect none.json", "");
    assert!(ran.status == 2 && ran.err.contains("there is no file none.json"), "{}", ran.err);
}

#[test]
fn drafts_from_schemas() {
    let folder = Folder::with_demo();
    folder.file("fares.json", r#"{"type": "object", "required": ["id", "amount", "port"], "properties": {"id": {"type": "string"}, "amount": {"type": "string"}, "from": {"type": "string"}}}"#);
    let ran = run(&folder, "rules draft --schemas schemas/booking.json fares.json", "");
    assert_eq!(ran.status, 0, "{}", ran.err);
    for part in ["id: $.id,", "amount: $.fare.amount,", "from: $.leg.from,", "port: needed("] {
        assert!(ran.out.contains(part), "{part}: {}", ran.out);
    }
    let ran = run(&folder, "rules draft --schemas schemas/manifest.xsd schemas/crew.xsd", "");
    assert!(ran.status == 0 && ran.out.contains("$.manifest.vessel"), "{}{}", ran.out, ran.err);
    for schema in ["schemas/booking.json", "schemas/manifest.xsd"] {
        let ran = run(&folder, &format!("rules draft {schema} fares.json"), "");
        assert!(ran.err.contains("is a schema, and is taken as a sample"), "{schema}: {}", ran.err);
    }
}
