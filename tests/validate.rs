//! `kyanite validate`: reports, places and exit statuses.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, assert_says, dom_of, run};

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

/// A feed of manifests: valid, invalid, malformed, foreign, compressed and hidden.
fn mixed() -> Folder {
    let folder = Folder::with_demo();
    folder.file("feed/good.xml", folder.read("manifest.xml"));
    folder.file(
        "feed/bad.xml",
        folder.read("manifest.xml").replace("kind=\"lorry\"", "kind=\"lory\""),
    );
    folder.file("feed/cut.xml", "<m:manifest xmlns:m='urn:tern-isles:manifest'>");
    folder.file("feed/rows.csv", "a,b\n1,2\n");
    folder.file("feed/deep/other.xml", "<feed/>");
    folder.file("feed/drafts/bad.xml", "<x/>");
    folder.file("feed/.hidden/bad.xml", "<x/>");
    folder.file("feed/readme.md", "no document");
    folder
}

#[test]
fn folders() {
    let folder = mixed();
    let schema = "validate --schema schemas/manifest.xsd";
    for (line, status, expected) in [
        ("feed", 1, "5 documents checked in 6 inputs: 6 findings, in 5 inputs"),
        (
            "feed --exclude drafts --exclude deep",
            1,
            "3 documents checked in 4 inputs: 4 findings, in 3 inputs",
        ),
        ("feed --include good.xml", 0, "1 document checked in 1 input: valid"),
        (
            "feed --include **/*.xml --exclude d*",
            1,
            "3 documents checked in 3 inputs: 3 findings, in 2 inputs",
        ),
        ("feed/g*.xml", 0, "1 document checked in 1 input: valid"),
        // What is found and foreign is a warning, what is named an error.
        (
            "feed --include *.csv",
            0,
            "warning: feed/rows.csv is csv, and the schemas are for XML: it is not checked",
        ),
        ("feed --include *.csv --fail-on warning", 1, "warning: feed/rows.csv is csv"),
        ("feed/rows.csv", 1, "error: feed/rows.csv is csv"),
        ("feed --fail-fast", 1, "; the run ended there, and further inputs were not checked"),
        ("feed --max-findings 2", 1, ": 2 findings, in 2 inputs; the run ended there"),
        ("feed/none*.xml", 3, "no file fits"),
        ("feed --include a[", 2, "\"a[\" is no pattern of files"),
        ("feed --include good.xml --threads 2", 0, ": valid"),
    ] {
        assert_says(&folder, &format!("{schema} {line}"), status, expected);
    }
    // The report does not depend on the number of threads.
    let one = run(&folder, &format!("{schema} feed --threads 1 --report json"), "").out;
    assert_eq!(run(&folder, &format!("{schema} feed --threads 2 --report json"), "").out, one);
    folder.file("list.txt", "feed/good.xml\n\nfeed/bad.xml\n");
    let listed = run(&folder, &format!("{schema} --files-from list.txt"), "");
    assert!(
        listed.status == 1 && listed.out.starts_with("2 documents checked in 2 inputs: 1 finding")
    );
    let piped = run(&folder, &format!("{schema} --files-from -"), "feed/good.xml\n");
    assert!(piped.status == 0 && piped.out.starts_with("1 document checked"), "{}", piped.err);
}

#[test]
fn projects() {
    let folder = mixed();
    let all = run(&folder, "validate", "");
    assert_eq!(all.status, 1);
    assert!(
        all.out.starts_with("2404 documents checked in 5 inputs: 10 findings, in 3 inputs"),
        "{}",
        all.out
    );
    for (line, status, expected) in [
        ("validate --validation notices", 0, "1 document checked in 1 input: valid"),
        (
            "validate --validation notices --validation bookings",
            1,
            "2401 documents checked in 2 inputs",
        ),
        (
            "validate --validation notice",
            2,
            "no validation in kyanite.toml is called \"notice\"\n  near: notices",
        ),
        // Inputs are checked by the sets that they belong to.
        ("validate manifests/skarv.xml", 0, "1 document checked in 1 input: valid"),
        (
            "validate manifests/skarv.xml feed/good.xml",
            1,
            "feed/good.xml names no schema, and none is given",
        ),
    ] {
        assert_says(&folder, line, status, expected);
    }
    for (toml, expected) in [
        (
            "[[validation]]\nname = \"a\"\nfile = [\"b\"]\n",
            "kyanite.toml has no key \"file\"\n  kyanite.toml:3:8\n",
        ),
        ("[[validations]]\nname = \"a\"\n", "near: validation"),
        ("[[validation]]\nfiles = [\"b\"]\n", "a validation needs name"),
        ("[[validation]]\nname = \"a\"\nfiles = \"b\"\n", "files is a list of texts"),
        (
            "[[validation]]\nname = \"a\"\nfiles = [\"b\"]\n[[validation]]\nname = \"a\"\nfiles = [\"b\"]\n",
            "two validations are called \"a\"",
        ),
        ("[[validation]\n", "kyanite.toml:1:"),
    ] {
        folder.file("kyanite.toml", toml);
        let ran = run(&folder, "validate", "");
        assert!(ran.status == 2 && ran.err.contains(expected), "{toml}: {}", ran.err);
    }
}

#[test]
fn schemas_that_documents_name() {
    let folder = Folder::with_demo();
    folder.file("kyanite.toml", "");
    folder.file("pier.json", PIER);
    folder.file("named.json", r#"{"$schema": "pier.json", "na": "4"}"#);
    folder.file("named.yaml", "$schema: pier.json\nno: A9\n");
    folder.file("lost.json", r#"{"$schema": "https://tern-isles.example/pier.json"}"#);
    folder.file(
        "meta.json",
        r#"{"$schema": "https://json-schema.org/draft/2020-12/schema", "minLength": -1}"#,
    );
    let xsi = "xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance'";
    folder.file(
        "notices.xml",
        format!(
            "<notices {xsi} xsi:noNamespaceSchemaLocation='schemas/notices.xsd'><notic/></notices>"
        ),
    );
    folder.file(
        "manifest.xml",
        format!("<?xml-model href='schemas/manifest.sch'?><m:manifest xmlns:m='urn:tern-isles:manifest' {xsi} xsi:schemaLocation='urn:tern-isles:manifest schemas/manifest.xsd' issued='x'/>"),
    );
    for (line, status, expected) in [
        ("validate named.json", 1, "the member \"no\" is missing"),
        ("validate named.yaml", 0, ": valid"),
        ("validate meta.json", 1, "-1 must be at least 0"),
        ("validate lost.json", 1, "--schema-map https://tern-isles.example/pier.json=FILE"),
        (
            "validate lost.json --schema-map https://tern-isles.example/=.",
            1,
            "the member \"no\" is missing",
        ),
        ("validate notices.xml", 1, "expected notice, found notic"),
        ("validate manifest.xml", 1, "\"x\" is no xs:dateTime"),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, status, "{line}: {}{}", ran.out, ran.err);
        assert!(ran.out.contains(expected), "{line}: {}{}", ran.out, ran.err);
    }
    // Catalogs say where schemas are that others import, too.
    folder.file("lib/pier.xsd", "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema' targetNamespace='urn:pier'><xs:element name='pier' type='xs:int'/></xs:schema>");
    folder.file("feed.xsd", "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema' xmlns:p='urn:pier'><xs:import namespace='urn:pier'/><xs:element name='feed'><xs:complexType><xs:sequence><xs:element ref='p:pier'/></xs:sequence></xs:complexType></xs:element></xs:schema>");
    folder.file("catalog.xml", "<catalog xmlns='urn:oasis:names:tc:entity:xmlns:xml:catalog'><uri name='urn:pier' uri='lib/pier.xsd'/></catalog>");
    let document = "<feed><pier xmlns='urn:pier'>x</pier></feed>";
    let without = run(&folder, "validate --schema feed.xsd --from xml", document);
    assert!(
        without.status == 2 && without.err.contains("--schema-map urn:pier=FILE"),
        "{}",
        without.err
    );
    for how in
        ["--catalog catalog.xml", "--schema-map urn:pier=lib/pier.xsd", "--schema lib/pier.xsd"]
    {
        let ran = run(&folder, &format!("validate --schema feed.xsd --from xml {how}"), document);
        assert!(
            ran.status == 1 && ran.out.contains("\"x\" is no xs:int"),
            "{how}: {}{}",
            ran.out,
            ran.err
        );
    }
}

#[test]
fn known_findings() {
    let folder = Folder::with_demo();
    let line = "validate --validation manifests --fail-on warning";
    let first = run(&folder, &format!("{line} --write-known known.json"), "");
    assert_eq!(first.status, 1);
    let known = run(&folder, &format!("{line} --known known.json"), "");
    assert_eq!(
        (known.status, known.out.as_str()),
        (0, "3 documents checked in 3 inputs: valid; 9 known and left out\n")
    );
    // They are known also where the lines move; what is new is not.
    let moved = folder.read("manifests/holm.xml").replacen("<v:vessel", "\n\n<v:vessel", 1);
    folder.file(
        "manifests/holm.xml",
        moved.replace("issued=\"2026-06-02 05:40\"", "issued=\"2026-06-02\""),
    );
    let later = run(&folder, &format!("{line} --known known.json -v"), "");
    assert!(
        later.status == 1 && later.out.contains(": 1 finding, in 1 input; 8 known"),
        "{}",
        later.out
    );
    assert!(
        later.out.contains("\"2026-06-02\" is no xs:dateTime")
            && later.err.contains("1 known finding is gone")
    );
    folder.file("known.json", "{}");
    assert_eq!(run(&folder, &format!("{line} --known known.json"), "").status, 2);
}

#[test]
fn forms_of_reports() {
    let folder = Folder::with_demo();
    let forms = "--report html=r.html --report junit=j.xml --report sarif=s.json --report json=r.json --report xml=r.xml --report svrl=v.xml --report json-schema-output=o.json";
    let ran = run(&folder, &format!("validate {forms} --report text"), "");
    assert!(ran.status == 1 && ran.out.starts_with("2404 documents"), "{}", ran.err);
    let json: serde_json::Value = serde_json::from_str(&folder.read("r.json")).unwrap();
    assert_eq!(json["summary"]["errors"], 9);
    let finding = &json["findings"][2];
    for (key, value) in [
        ("file", "manifests/holm.xml"),
        ("path", "/m:manifest[1]/@issued"),
        ("severity", "error"),
        ("rule", "type"),
        ("schema", "schemas/manifest.xsd"),
        ("validation", "manifests"),
    ] {
        assert_eq!(finding[key], value, "{key}");
    }
    let sarif: serde_json::Value = serde_json::from_str(&folder.read("s.json")).unwrap();
    let result = &sarif["runs"][0]["results"][2];
    let rules = &sarif["runs"][0]["tool"]["driver"]["rules"];
    let index = usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap();
    assert_eq!(
        (rules[index]["id"].as_str(), result["level"].as_str()),
        (Some("type"), Some("error"))
    );
    let region = &result["locations"][0]["physicalLocation"]["region"];
    assert_eq!(
        (
            region["startLine"].as_u64(),
            region["startColumn"].as_u64(),
            region["endColumn"].as_u64()
        ),
        (Some(4), Some(43), Some(59))
    );
    let output: serde_json::Value = serde_json::from_str(&folder.read("o.json")).unwrap();
    assert_eq!(
        (&output["valid"], output["errors"].as_array().map(Vec::len)),
        (&false.into(), Some(9))
    );
    // Reports of XML are well-formed, and say what the others say.
    for (query, file, expected) in [
        ("count(//finding)", "r.xml", "10"),
        ("string(//finding[3]/@line)", "r.xml", "4"),
        ("//testsuite/@failures/string()", "j.xml", "1\n1\n0"),
        ("count(//testcase)", "j.xml", "5"),
        ("count(//*:failed-assert)", "v.xml", "10"),
        (
            "string(//*:failed-assert[@role='warning']/@location)",
            "v.xml",
            "/m:manifest[1]/v:vessel[2]/c:crew[1]/c:person[1]",
        ),
    ] {
        let ran = folder.run(&["query", query, file, "--syntax", "xpath", "--to", "text"], b"");
        assert_eq!(ran.out.trim_end(), expected, "{query}: {}", ran.err);
    }
    let html = folder.read("r.html");
    assert!(html.contains("is no xs:dateTime"), "{html}");
    assert!(!html.contains("http://") || !html.contains("src="), "the page stands alone");
    for (line, expected) in [
        ("validate --report text --report json", "several reports would go to standard output"),
        ("validate --report json=a --report xml=a", "two results would go to a"),
        ("validate --report json=a -o b", "every report has a file of its own"),
        ("validate --report jsn", "near: json"),
    ] {
        let ran = run(&folder, line, "");
        assert!(ran.status == 2 && ran.err.contains(expected), "{line}: {}", ran.err);
    }
    let ran = run(&folder, "validate --report json -o out.json", "");
    assert!(
        ran.status == 1 && ran.out.is_empty() && folder.read("out.json") == folder.read("r.json")
    );
}

/// The page in a browser, where there is one.
#[test]
fn the_page_in_a_browser() {
    let folder = Folder::with_demo();
    // Ten thousand findings.
    let rows: String = (0..10_000).map(|no| format!("{{\"no\":{no}}}\n")).collect();
    folder.file("many.jsonl", &rows);
    folder.file("pier.json", PIER);
    run(&folder, "validate --schema pier.json many.jsonl --report html=many.html", "");
    let Some(dom) = dom_of(&folder, "many.html") else { return };
    assert!(dom.contains("10000 of 10000"), "{dom:.2000}");
    let articles = dom.matches("<article").count();
    assert!((200..=2_000).contains(&articles), "{articles} findings are in the page at once");
    assert!(dom.contains("expected string, found the number 0"));
}

/// A document of any size is validated in the memory for a part of it.
#[test]
fn large_documents() {
    let folder = Folder::with_demo();
    let vehicle =
        "<m:vehicle plate=\"NX 00000\" kind=\"car\"><m:weight>1450</m:weight></m:vehicle>\n";
    let vehicles: String =
        (0..30_000).map(|no| vehicle.replace("00000", &format!("{no:05}"))).collect();
    let head = "<m:manifest xmlns:m=\"urn:tern-isles:manifest\" xmlns:v=\"urn:tern-isles:vessel\" xmlns:c=\"urn:tern-isles:crew\" issued=\"2026-06-01T06:40:00Z\">\
        <v:vessel id=\"SKUA\" flag=\"NO\"><v:name>Arctic Skua</v:name><v:draught>4.50</v:draught><v:deck no=\"1\">";
    let tail = "</v:deck><c:crew><c:person rank=\"master\"><c:name>Ingrid Vale</c:name></c:person></c:crew></v:vessel></m:manifest>";
    let whole = format!("{head}\n{vehicles}{tail}");
    let line = "validate --schema schemas/manifest.xsd --from xml";
    let ran = run(&folder, line, &whole);
    assert_eq!((ran.status, ran.out.as_str()), (0, "1 document checked in 1 input: valid\n"));
    // Places far behind the first part are those of the file, and so are keys that were met in another part.
    let broken = whole
        .replacen("NX 29000\" kind=\"car\"", "NX 29000\" kind=\"cr\"", 1)
        .replacen("NX 29500", "NX 00007", 1);
    let ran = run(&folder, line, &broken);
    for expected in [
        "standard input:29002:35  /m:manifest[1]/v:vessel[1]/v:deck[1]/m:vehicle[29001]/@kind",
        "\"NX 00007\" is there twice for \"plates\"; it stands in line 9 already\n  standard input:29502:1",
    ] {
        assert!(ran.out.contains(expected), "{}", ran.out);
    }
}

/// The records of one stream are checked on all threads, and what is said is the same: with findings, with records that go over
/// lines or hold a member twice, and where one is broken.
#[test]
fn threads_say_the_same_of_records() {
    let folder = Folder::with_demo();
    folder.file("pier.json", PIER);
    let records = |odd: &str| {
        let mut text = String::new();
        for no in 0..60_000 {
            match no {
                31_000 => text.push_str(odd),
                no if no % 9_973 == 0 => text.push_str(&format!("{{\"no\": {no}}}\n")),
                no => text.push_str(&format!("{{\"no\": \"{no}\"}}\n")),
            }
        }
        text
    };
    for odd in [
        "{\"no\": \"A\"}\n",
        "{\n  \"no\":\n  4\n}\n",
        "{\"no\": \"A\", \"no\": \"B\"}\n",
        "{\"no\": \n",
        "",
    ] {
        folder.file("many.jsonl", records(odd));
        let line = |threads| format!("validate --schema pier.json many.jsonl --threads {threads}");
        let (one, three) = (run(&folder, &line(1), ""), run(&folder, &line(3), ""));
        assert_eq!(
            (three.status, three.out, three.err),
            (one.status, one.out.clone(), one.err),
            "{odd}"
        );
        assert!(one.out.contains("many.jsonl:9974:8  $[9973].no"), "{}", one.out);
    }
}

/// Catalogs that lead to others (OASIS XML Catalogs 1.1, sections 6.5.9 and 6.5.12), and what cannot be a catalog or a schema.
#[test]
fn catalogs_that_lead_on() {
    const CATALOG: &str = "<catalog xmlns='urn:oasis:names:tc:entity:xmlns:xml:catalog'>";
    let folder = Folder::with_demo();
    folder
        .file("s.xsd", "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema' targetNamespace='urn:a'><xs:import namespace='urn:b' schemaLocation='http://tern.example/lib/b.xsd'/><xs:element name='a' xmlns:b='urn:b' type='b:t'/></xs:schema>")
        .file("lib/b.xsd", "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema' targetNamespace='urn:b'><xs:simpleType name='t'><xs:restriction base='xs:int'/></xs:simpleType></xs:schema>")
        .file("rewrite.xml", format!("{CATALOG}<rewriteURI uriStartString='http://tern.example/' rewritePrefix='./'/></catalog>"))
        .file("next.xml", format!("{CATALOG}<nextCatalog catalog='rewrite.xml'/></catalog>"))
        .file("delegate.xml", format!("{CATALOG}<delegateURI uriStartString='http://tern.example/' catalog='rewrite.xml'/></catalog>"))
        .file("itself.xml", format!("{CATALOG}<nextCatalog catalog='itself.xml'/></catalog>"))
        .file("elsewhere.xml", format!("{CATALOG}<delegateURI uriStartString='http://other.example/' catalog='rewrite.xml'/></catalog>"))
        .file("other.xml", "<other/>")
        .file("two.yaml", "a: 1\n---\nb: 2\n")
        .file("d.xml", "<a xmlns='urn:a'>x</a>");
    for (arguments, status, expected) in [
        ("--schema s.xsd", 2, "the schema of urn:b is not there"),
        ("--schema s.xsd --catalog rewrite.xml", 1, "\"x\" is no t"),
        ("--schema s.xsd --catalog next.xml", 1, "\"x\" is no t"),
        ("--schema s.xsd --catalog delegate.xml", 1, "\"x\" is no t"),
        ("--schema s.xsd --catalog itself.xml", 2, "the schema of urn:b is not there"),
        ("--schema s.xsd --catalog elsewhere.xml", 2, "the schema of urn:b is not there"),
        ("--schema s.xsd --catalog itself.xml --catalog next.xml", 1, "\"x\" is no t"),
        ("--schema s.xsd --catalog other.xml", 2, "other.xml is no XML catalog"),
        ("--schema s.xsd --catalog none.xml", 2, "there is no file none.xml"),
        ("--schema other.xml", 2, "<other> is the root of no schema that is known"),
        ("--schema two.yaml", 2, "two.yaml holds several documents, and a schema is one"),
    ] {
        let ran = run(&folder, &format!("validate d.xml {arguments}"), "");
        assert_eq!(ran.status, status, "{arguments}: {}{}", ran.out, ran.err);
        let said = format!("{}{}", ran.out, ran.err);
        assert!(said.contains(expected), "{arguments}: {said}");
    }
}

/// Documents in texts (JSON Schema 2020-12, validation, section 8), where they are asserted: those of a format that is not known hold.
#[test]
fn documents_in_texts() {
    let folder = Folder::with_demo();
    for (media_type, valid) in [
        ("application/json", [true, false, false, false]),
        ("application/geo+json; charset=utf-8", [true, false, false, false]),
        ("text/xml", [false, true, false, false]),
        ("application/atom+xml", [false, true, false, false]),
        ("application/yaml", [true, true, false, true]),
        ("application/toml", [false, false, false, true]),
        ("image/png", [true; 4]),
    ] {
        folder.file("media.json", format!("{{\"contentMediaType\": \"{media_type}\"}}"));
        for (text, is_valid) in ["{\\\"a\\\": 1}", "<a/>", "a: [1", "a = 1"].into_iter().zip(valid)
        {
            folder.file("text.json", format!("\"{text}\""));
            for (option, status) in [("", 0), (" --assert-formats", i32::from(!is_valid))] {
                let line = format!("validate --schema media.json text.json{option}");
                let ran = run(&folder, &line, "");
                assert_eq!(ran.status, status, "{media_type} {text}{option}: {}", ran.out);
            }
        }
    }
}
