//! Every format in and out, end to end.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use std::io::{BufRead, BufReader, Write};
use std::net::TcpListener;
use std::process::Command;

use support::{Folder, PROGRAM, Ran};

/// Runs a command line whose words have no blanks.
fn run(folder: &Folder, line: &str, input: &[u8]) -> Ran {
    folder.run(&line.split(' ').collect::<Vec<_>>(), input)
}

fn json(folder: &Folder, file: &str) -> serde_json::Value {
    let ran = run(folder, &format!("convert {file} --to json"), b"");
    assert_eq!(ran.status, 0, "{file}: {}", ran.err);
    serde_json::from_str(&ran.out).unwrap()
}

/// Each demo file goes to each format that holds it without a loss, and comes back the same.
#[test]
fn all_demo_files_go_there_and_back() {
    let folder = Folder::with_demo();
    let documents = ["json", "yaml", "json-seq"];
    for (file, targets) in [
        ("timetable.json", &["json", "yaml", "json-seq", "jsonl"][..]),
        ("beacon.json", &documents),
        ("berths.geojson", &["json", "yaml", "json-seq", "toml"]),
        ("bookings.jsonl", &["json", "yaml", "json-seq", "jsonl"]),
        ("ports.csv", &["json", "yaml", "json-seq", "jsonl", "csv", "tsv"]),
        ("tariff.csv", &["json", "yaml", "jsonl", "csv", "tsv"]),
        ("sailings.csv", &["json", "yaml", "jsonl", "csv", "tsv"]),
        ("tickets.csv", &["json", "yaml", "jsonl", "csv", "tsv"]),
        ("manifest.xml", &["json", "yaml", "json-seq", "toml"]),
        ("notices.xml", &["json", "yaml", "json-seq", "toml"]),
        ("ports.yaml", &documents),
        ("fleet.toml", &["json", "yaml", "json-seq", "toml"]),
    ] {
        let original = json(&folder, file);
        for target in targets {
            let ran = run(&folder, &format!("convert {file} --to {target} -o there.{target}"), b"");
            assert_eq!(ran.status, 0, "{file} to {target}: {}", ran.err);
            let back = json(&folder, &format!("there.{target}"));
            // One record on a line is still a list of records.
            let original = match (&original, *target) {
                (serde_json::Value::Object(_), "jsonl") => serde_json::json!([original]),
                _ => original.clone(),
            };
            assert!(back == original, "{file} to {target}");
        }
    }
    // XML goes to maps and back to the same XML, but for its comments.
    for file in ["manifest.xml", "notices.xml"] {
        let straight = json(&folder, file);
        run(&folder, &format!("convert {file} --to json -o view.json"), b"");
        let ran = run(&folder, "convert view.json --to xml -o again.xml", b"");
        assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{file}");
        assert!(json(&folder, "again.xml") == straight, "{file}");
    }
    // Tables become elements, and elements rows.
    let ran =
        run(&folder, "convert tariff.csv --to xml --root tariff --item fare -o tariff.xml", b"");
    assert_eq!((ran.status, ran.err.as_str()), (0, ""));
    let ran = folder.run(&["query", "$.tariff.fare[*]", "tariff.xml", "--to", "csv"], b"");
    assert_eq!(ran.out, std::fs::read_to_string(folder.path().join("tariff.csv")).unwrap());
}

#[test]
fn what_cannot_be_carried_is_said() {
    let folder = Folder::with_demo();
    folder.file("nulls.json", "{\"a\": null, \"b\": [], \"c\": {}, \"d\": [[1]]}");
    folder.file("big.json", "{\"id\": 12345678901234567890, \"x\": 0.1234567890123456789}");
    for (line, status, parts) in [
        (
            "convert ports.yaml --to json",
            0,
            &["warning: json could not carry 3 comments", "--losses"][..],
        ),
        (
            "convert ports.yaml --to json --losses",
            0,
            &["ports.yaml:5:21\n        mode: 0700        # perm", "comment"],
        ),
        (
            "convert ports.yaml --to json --strict -o kept.json",
            5,
            &["error: this is lost: comment", "ports.yaml:1:1"],
        ),
        ("convert fleet.toml --to json", 0, &["1 comment and 4 dates or times that become text"]),
        (
            "convert nulls.json --to xml",
            0,
            &["1 null, 1 empty list, 1 empty map and 1 list in a list"],
        ),
        ("convert nulls.json --to toml", 0, &["toml could not carry 1 null"]),
        ("convert big.json --to toml", 0, &["toml could not carry 2 numbers of too many digits"]),
        ("convert big.json --to json --canonical", 0, &["2 numbers of too many digits"]),
        ("convert manifest.xml --to json --strict", 5, &["manifest.xml:2:1"]),
        ("convert manifest.xml --to xml --strict", 0, &[]),
        ("convert notices.xml --to json --strict --as-map text", 0, &[]),
        ("convert bookings.jsonl --to toml", 5, &["a TOML document is a map; this is a list"]),
        ("convert manifest.xml --to csv", 5, &["the column `m:manifest` has a map", "--flatten"]),
        ("query $ --to xml", 5, &["`a b` cannot be a name in XML", "standard input:1:9  $['a b']"]),
        ("query [null] --to toml", 5, &["a TOML document is a map"]),
        ("query {a:[null]} --to toml", 5, &["TOML has no null for an item of an array"]),
        ("query {\"x:a\":1} --to xml", 5, &["the prefix of `x:a` is not declared"]),
    ] {
        let ran = run(&folder, line, b"{\"a b\": 1}");
        assert_eq!(ran.status, status, "{line}: {}", ran.err);
        for part in parts {
            assert!(ran.err.contains(part), "{line}: {}", ran.err);
        }
        assert!(!parts.is_empty() || ran.err.is_empty(), "{line}: {}", ran.err);
    }
    assert!(!folder.path().join("kept.json").exists());
}

#[test]
fn broken_feeds_are_repaired_and_every_repair_is_named() {
    let folder = Folder::with_demo();
    let strict = run(&folder, "convert pier-feed.xml --to json", b"");
    assert_eq!((strict.status, strict.out.as_str()), (3, ""));
    assert!(strict.err.contains("pier-feed.xml:1:35") && strict.err.contains("--lenient"));
    let ran = run(&folder, "convert pier-feed.xml --to json --lenient --compact --repairs", b"");
    assert_eq!(ran.status, 0);
    assert_eq!(
        ran.out,
        concat!(
            r##"{"feed":{"@station":"Ness pier","@version":"2","reading":["##,
            r##"{"@at":"2026-06-01T07:00:00Z","wind":{"@unit":"kn","#text":"14"},"note":"Skua & Heron moored"},"##,
            r##"{"@at":"2026-06-01T07:10:00Z","wind":{"@unit":"kn","#text":"15"},"note":"swell < 1 m"},"##,
            r##"{"@at":"2026-06-01T07:20:00Z","wind":{"@unit":"kn","#text":"17"},"note":"ferry&nbsp;late"},"##,
            r##"{"@at":"2026-06-01T07:30:00Z","b":{"i":"gusts"},"tide:level":"1.42"},"##,
            r##"{"@at":"2026-06-01T07:40:00Z","wind":{"@unit":"kn","#text":"21"},"note":"pier clos\n"}]}}"##,
            "\n"
        )
    );
    for place in [
        "1:35", "2:72", "3:73", "4:58", "4:82", "4:71", "5:39", "5:51", "5:55", "6:61", "6:1",
        "1:1",
    ] {
        assert!(ran.err.contains(&format!("pier-feed.xml:{place}\n")), "{place}: {}", ran.err);
    }
    assert!(ran.err.ends_with("warning: repaired 5 elements that are not closed\n"), "{}", ran.err);
    // Without --repairs each sort is told once, with its first places.
    let sorts = run(&folder, "convert pier-feed.xml --to json --lenient --compact", b"");
    assert_eq!((&sorts.out, sorts.err.matches("warning: repaired").count()), (&ran.out, 8));
    assert!(
        sorts.err.contains("warning: repaired 5 elements that are not closed; the first: <note>")
    );
    assert!(sorts.err.contains("see each of them with --repairs"));
    // What was repaired is well-formed.
    let xml = run(&folder, "convert pier-feed.xml --to xml --lenient -q", b"");
    let again = run(&folder, "convert - --from xml --to json --compact", xml.out.as_bytes());
    assert_eq!((again.status, again.err.as_str()), (0, ""));
}

#[test]
fn elements_in_rules() {
    let folder = Folder::with_demo();
    for (rule, file, out, said) in [
        ("$.manifest.vessel[*].@id", "manifest.xml", r#"["SKUA","HERON"]"#, ""),
        ("$.manifest.vessel[1].name", "manifest.xml", r#""Grey Heron""#, ""),
        ("$..vehicle[?@.weight > 1000].@plate", "manifest.xml", r#"["NX 20417","NX 11862"]"#, ""),
        ("$..vehicle[0].@plate", "manifest.xml", r#"["NX 20417","HV 30055"]"#, ""),
        ("sum($..weight)", "manifest.xml", "19880", ""),
        ("$.*.vessel[?@.remark].@id", "manifest.xml", r#"["HERON"]"#, ""),
        (
            "namespace c = 'urn:tern-isles:crew'; $..['c:name']",
            "manifest.xml",
            r#"["Ingrid Vale","Tor Aune","Signe Holt","Jon & Kari's son Eirik"]"#,
            "",
        ),
        ("$..['c:certificate']", "manifest.xml", r#"["II/2","III/2"]"#, ""),
        (
            "for v in $.manifest.vessel[*] order by v.draught return {v.@id, v.draught}",
            "manifest.xml",
            r##"[{"id":"HERON","draught":{"@unit":"m","#text":"3.10"}},{"id":"SKUA","draught":{"@unit":"m","#text":"4.50"}}]"##,
            "",
        ),
        ("name($.manifest.vessel[0])", "manifest.xml", r#""vessel""#, ""),
        ("namespace_uri($.manifest)", "manifest.xml", r#""urn:tern-isles:manifest""#, ""),
        ("attributes($.manifest.vessel[0])", "manifest.xml", r#"{"id":"SKUA","flag":"NO"}"#, ""),
        (
            "text($.notices.notice[2].text)",
            "notices.xml",
            r#""Expect sailing boats & kayaks until noon.""#,
            "",
        ),
        ("content($.notices.notice[1].text)[1]", "notices.xml", r#""A10""#, ""),
        (
            "record($.manifest.vessel[1], 'deck', 'person')",
            "manifest.xml",
            r##"{"@id":"HERON","@flag":"NO","v:name":"Grey Heron","v:draught":{"@unit":"m","#text":"3.10"},"v:deck":{"@no":"1"},"c:crew":{"c:person":{"@rank":"master","c:name":"Jon & Kari's son Eirik"}},"m:remark":"Sails empty: quay at Holm under repair."}"##,
            "",
        ),
        ("type($.manifest)", "manifest.xml", r#""element""#, ""),
        ("present($.manifest.vessel[1].deck)", "manifest.xml", "false", ""),
        (
            "{...$.manifest.vessel[0].draught, x: 1}",
            "manifest.xml",
            r##"{"@unit":"m","#text":"4.50","x":1}"##,
            "",
        ),
        ("decode('xml', '<a b=\"1\">x</a>').a.@b", "", r#""1""#, ""),
        (
            "encode('xml', {a: {'@b': 1, c: ['x', 'y & z']}})",
            "",
            r#""<a b=\"1\"><c>x</c><c>y &amp; z</c></a>""#,
            "",
        ),
        ("decode('yaml', 'a: 0700')", "", r#"{"a":"0700"}"#, ""),
        ("decode('csv', 'a,b\\n1,2')", "", r#"[{"a":"1","b":"2"}]"#, ""),
        ("encode('csv', [{a: 1, b: 'x,y'}])", "", r#""a,b\n1,\"x,y\"\n""#, ""),
        ("encode('toml', {a: {b: 1}})", "", r#""[a]\nb = 1\n""#, ""),
        (
            "[encode('base64', 'ø'), decode('base64', 'w7g='), encode('hex', 'ø'), decode('hex', 'c3b8')]",
            "",
            r#"["w7g=","ø","c3b8","ø"]"#,
            "",
        ),
        (
            "[encode('url', 'a b/ø'), decode('url', 'a%20b%2F%C3%B8')]",
            "",
            r#"["a%20b%2F%C3%B8","a b/ø"]"#,
            "",
        ),
        ("$.manifest.vesel[*].name", "manifest.xml", "[]", "near: vessel, in 1 of 1"),
        ("$.manifest.vessel[*].@idd", "manifest.xml", "[]", "near: @id, in 2 of 2"),
    ] {
        let mut words = vec!["query", rule, "--compact"];
        words.extend((!file.is_empty()).then_some(file));
        let ran = folder.run(&words, b"");
        assert_eq!((ran.out.trim_end(), ran.status), (out, 0), "{rule}: {}", ran.err);
        assert!(
            ran.err.contains(said) && ran.err.is_empty() == said.is_empty(),
            "{rule}: {}",
            ran.err
        );
    }
    for (rule, file, part) in [
        (
            "$.manifest.vessel.name",
            "manifest.xml",
            "write .vessel[*] for all, .vessel[0] for the first",
        ),
        ("$.manifest.vessel[0] + 1", "manifest.xml", "is an element, and `+` needs numbers"),
        ("upper($.manifest)", "manifest.xml", "is an element, and upper() needs a text"),
        ("element('a b')", "", "element(): `a b` cannot be a name in XML"),
        (
            "decode('xml', '<a>')",
            "",
            "the text is not xml: at its 1:4, the document ends inside <a>",
        ),
        ("decode('nope', '')", "", "`nope` is no format of texts"),
        ("decode('hex', 'xyz')", "", "it is not pairs of 0-9 and a-f"),
        ("decode('base64', '/w==')", "", "is not UTF-8"),
    ] {
        let mut words = vec!["query", rule];
        words.extend((!file.is_empty()).then_some(file));
        let ran = folder.run(&words, b"");
        assert_eq!(ran.status, 4, "{rule}: {}", ran.err);
        assert!(ran.err.contains(part), "{rule}: {}", ran.err);
    }
}

#[test]
fn lists_of_one_and_outputs_of_rules() {
    let folder = Folder::with_demo();
    folder.file("one.xml", "<port><berth>A1</berth></port>");
    folder.file(
        "both.xml",
        "<a><port><berth>A1</berth></port><port><berth>A1</berth><berth>A2</berth></port></a>",
    );
    folder.file("mixed.xml", "<a><b/><c d='1'/><b>2</b><c/></a>");
    folder.file("inline.xml", "<x><b>Dear</b> <i>Ann</i>!</x>");
    folder.file("blanks.xml", "<x><b>Dear</b> <i>Ann</i></x>");
    folder.file("layout.xml", "<x>\n  <b>Dear</b>\n  <i>Ann</i>\n</x>");
    let lines = [
        ("convert one.xml --to json --compact", r#"{"port":{"berth":"A1"}}"#, ""),
        (
            "convert one.xml --to json --compact --list port.berth",
            r#"{"port":{"berth":["A1"]}}"#,
            "",
        ),
        (
            "convert one.xml --to json --compact --list $.port.berth",
            r#"{"port":{"berth":["A1"]}}"#,
            "",
        ),
        (
            "convert one.xml --to json --compact --list quay.berth",
            r#"{"port":{"berth":"A1"}}"#,
            "warning: `quay.berth` was to be a list, but no member of the records is called so\n",
        ),
        (
            "convert one.xml --to json --compact --as-map birth",
            r#"{"port":{"berth":"A1"}}"#,
            "  near: berth\n",
        ),
        (
            "convert one.xml --to json --compact --as-map berth",
            r##"{"port":{"berth":{"#text":"A1"}}}"##,
            "",
        ),
        (
            "query [{a:1},{b:2}] --to csv --columns a,e",
            "a,e\n1,\n,",
            "warning: no row has the column `e`: it is empty everywhere\n",
        ),
        (
            "convert mixed.xml --to json --compact",
            r##"{"a":{"#content":[{"b":""},{"c":{"@d":"1"}},{"b":"2"},{"c":""}]}}"##,
            "say --as-map a.c for a map everywhere",
        ),
        // A list that is told of counts more than the order, which is then lost.
        (
            "convert mixed.xml --to json --compact --list b --as-map c",
            r##"{"a":{"b":["","2"],"c":[{"@d":"1"},{}]}}"##,
            "json could not carry 1 order of children",
        ),
        (
            "query $.x[*] inline.xml --to jsonl",
            r##"{"#content":[{"b":"Dear"}," ",{"i":"Ann"},"!"]}"##,
            "",
        ),
        (
            "query $.x[0] blanks.xml --compact",
            r##"{"b":"Dear","i":"Ann"}"##,
            "json could not carry 1 blank text between elements",
        ),
        ("query $.x[0][*] layout.xml --compact", r##"["Dear","Ann"]"##, ""),
        (
            "convert both.xml --to json --compact --list berth",
            r#"{"a":{"port":[{"berth":["A1"]},{"berth":["A1","A2"]}]}}"#,
            "",
        ),
        (
            "convert both.xml --to json --compact",
            r#"{"a":{"port":[{"berth":"A1"},{"berth":["A1","A2"]}]}}"#,
            "say --list a.port.berth for a list everywhere",
        ),
    ];
    for (line, out, said) in lines {
        let ran = run(&folder, line, b"");
        assert_eq!(ran.out.trim_end(), out, "{line}");
        assert!(
            ran.err.contains(said) && ran.err.is_empty() == said.is_empty(),
            "{line}: {}",
            ran.err
        );
    }
    folder.file("net.kyr", "output xml { root: \"network\", item: \"port\", indent: 1 }\nfor p in $[*] first 1 return only(p, \"code\")\n");
    let ran = run(&folder, "reshape net.kyr ports.csv", b"");
    assert_eq!(
        ran.out,
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<network>\n <port>\n  <code>ness</code>\n </port>\n</network>\n"
    );
    let ran = run(&folder, "reshape net.kyr ports.csv --to yaml", b"");
    assert_eq!(ran.out, "- code: ness\n");
    for (header, part) in [
        ("output xls", "`xls` is no format"),
        ("output xml { rot: 'a' }", "near: root"),
        ("output json { root: 'a' }", "`root` is no option of json"),
        ("output xml { indent: 'a' }", "`indent` takes a whole number up to 16"),
        ("output csv { columns: 'a' }", "`columns` takes a list of texts"),
        ("output csv\noutput csv", "the output is said twice"),
    ] {
        folder.file("bad.kyr", format!("{header}\n$\n"));
        let ran = run(&folder, "reshape bad.kyr ports.csv", b"");
        assert_eq!(ran.status, 2, "{header}");
        assert!(ran.err.contains(part), "{header}: {}", ran.err);
    }
}

#[test]
fn formats_are_told_apart() {
    let folder = Folder::with_demo();
    let utf16 = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
    folder.file("utf16.json", utf16("\u{feff}{\"a\": \"ø\"}"));
    folder.file("utf16.jsonl", utf16("\u{feff}{\"a\": \"ø\"}\n{\"a\": 2}\n"));
    folder.file("latin.xml", b"<?xml version='1.0' encoding='ISO-8859-1'?><a>\xF8</a>");
    folder
        .file("wrong.json", "<a>1</a>")
        .file("wrong.csv", "{\"a\": 1}")
        .file("wrong.xml", "{\"a\": 1}");
    folder.file("log.txt", "first\nsecond\r\n");
    let gzip = |text: &[u8]| {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(text).unwrap();
        encoder.finish().unwrap()
    };
    folder.file("packed.json.gz", gzip(b"{\"a\": 1}")).file("packed", gzip(b"<a>1</a>"));
    folder.file("cut.json.gz", &gzip(b"{\"a\": 1}")[..12]);
    for (line, input, out, said) in [
        ("query $ utf16.json --compact", &b""[..], "{\"a\":\"ø\"}\n", ""),
        ("query $[*].a utf16.jsonl --compact", b"", "[\"ø\",2]\n", ""),
        ("query $.a latin.xml", b"", "\"ø\"\n", ""),
        ("query $[*] log.txt --compact", b"", "[\"first\",\"second\"]\n", ""),
        ("query $ packed.json.gz --compact", b"", "{\"a\":1}\n", ""),
        ("query $.a packed -v", b"", "\"1\"\n", "packed: read as xml, as it begins with `<`"),
        (
            "query $.a - -v",
            b"a: [1]\n",
            "[\n  1\n]\n",
            "read as yaml, since its beginning reads as that",
        ),
        ("query $.a - -v", b"a = 1\n", "1\n", "read as toml, since its beginning reads as that"),
        ("query $.a - --compact", b"\x1e{\"a\": 1}\n", "1\n", ""),
        (
            "query $.a[0] wrong.json",
            b"",
            "",
            "wrong.json is named .json, but its content looks like xml",
        ),
        ("query $ wrong.xml", b"", "", "say --from json, or rename the file"),
        ("query $ cut.json.gz", b"", "", "cut.json.gz is damaged or cut off"),
        ("query $", b"port,berth\n", "", "the format of standard input is not known"),
    ] {
        let ran = run(&folder, line, input);
        assert_eq!(ran.out, out, "{line}: {}", ran.err);
        assert!(ran.err.contains(said), "{line}: {}", ran.err);
        assert!(!said.is_empty() || ran.err.is_empty(), "{line}: {}", ran.err);
    }
    let ran = run(&folder, "query $[*] wrong.csv", b"");
    assert!(
        ran.err.contains("wrong.csv is named .csv, but its content looks like json"),
        "{}",
        ran.err
    );
    // Compressed out and in again.
    for extension in ["gz", "zst"] {
        let file = format!("ports.json.{extension}");
        let ran = run(&folder, &format!("convert ports.csv -o {file}"), b"");
        assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{file}");
        assert!(std::fs::read(folder.path().join(&file)).unwrap()[0] != b'[');
        assert!(json(&folder, &file) == json(&folder, "ports.csv"), "{file}");
    }
}

#[test]
fn several_documents() {
    let folder = Folder::with_demo();
    folder
        .file("two.yaml", "a: 1\n---\na: 2\n")
        .file("two.json-seq", "\u{1e}{\"a\": 1}\n\u{1e}{\"a\": 2}\n");
    for file in ["two.yaml", "two.json-seq"] {
        for (to, out) in [
            ("jsonl", "1\n2\n"),
            ("text", "1\n2\n"),
            ("yaml", "1\n---\n2\n"),
            ("json-seq", "\u{1e}1\n\u{1e}2\n"),
            ("json --gather --compact", "1"),
        ] {
            let rule = if to.contains("gather") { "$[0].a" } else { "$.a" };
            let ran = run(&folder, &format!("query {rule} {file} --to {to}"), b"");
            assert_eq!(
                ran.out.trim_end_matches('\n'),
                out.trim_end_matches('\n'),
                "{file} {to}: {}",
                ran.err
            );
        }
        let ran = run(&folder, &format!("query $.a {file}"), b"");
        assert_eq!(ran.status, 5);
        assert!(ran.err.contains("say --gather for one list of all documents"), "{}", ran.err);
    }
}

/// A stream of YAML documents of many blocks is read document by document, with places, counts and failures as if it were held whole.
#[test]
fn documents_one_after_another() {
    let folder = Folder::with_demo();
    let documents = |count: usize| -> String {
        (0..count).map(|id| format!("---\nid: TB-{id}\nport: ness # berth A{}\n", id % 9)).collect()
    };
    let all = documents(12_000);
    folder
        .file("all.yaml", &all)
        .file("broken.yaml", format!("{all}---\nid: [1\n---\nid: 2\n"))
        .file("twice.yaml", format!("{all}---\nid: 1\nid: 2\n{all}---\nid: 3\nid: 4\n"))
        .file("odd.yaml", format!("{all}---\nid: [7]\n{all}"))
        .file("large.yaml", format!("---\na: {}\n---\nb: 1\n", "x".repeat(100)))
        .file("id.json", r#"{"properties": {"id": {"type": "string"}}}"#);
    for (line, status, lines, last, said) in [
        ("query $.id all.yaml --to jsonl", 0, 12_000, "\"TB-11999\"", ""),
        (
            "query 'for d in $[*] where d.port == \"ness\" return d.id' all.yaml --gather --to jsonl",
            0,
            12_000,
            "\"TB-11999\"",
            "",
        ),
        ("query /id all.yaml --to jsonl --paths", 0, 12_000, "\"$['id']\"", ""),
        ("query ?id all.yaml --syntax xpath --to jsonl", 0, 12_000, "\"TB-11999\"", ""),
        // What stands before the broken document is handed on.
        (
            "query $.id broken.yaml --to jsonl",
            3,
            12_000,
            "\"TB-11999\"",
            "broken.yaml:36002:5\n      id: [1",
        ),
        (
            "query $.id twice.yaml --to jsonl",
            0,
            24_002,
            "4",
            "twice.yaml:72006:5  $.id\n      id: 4",
        ),
        ("query '$.id + 1' odd.yaml --to jsonl", 4, 0, "", "odd.yaml:2:5  $.id"),
        (
            "query 'if count($.id[*]) == 1 then $.id + 1 else 0' odd.yaml --to jsonl",
            4,
            12_000,
            "0",
            "odd.yaml:36002:5  $.id",
        ),
        (
            "convert all.yaml --losses --to jsonl",
            0,
            12_000,
            "{\"id\":\"TB-11999\",\"port\":\"ness\"}",
            "all.yaml:36000:12",
        ),
        ("validate --schema id.json odd.yaml", 1, 0, "", "odd.yaml:36002:5  $.id"),
        (
            "query $.b large.yaml --size-limit 60 --to jsonl",
            3,
            0,
            "",
            "raise the limit with --size-limit",
        ),
        ("query $.b large.yaml --size-limit 120 --to jsonl --quiet", 0, 1, "1", ""),
    ] {
        let ran = support::run(&folder, line, "");
        assert_eq!(ran.status, status, "{line}: {}", ran.err);
        assert!(format!("{}{}", ran.out, ran.err).contains(said), "{line}: {}{}", ran.out, ran.err);
        if !line.starts_with("validate") {
            assert_eq!(
                (ran.out.lines().count(), ran.out.lines().last().unwrap_or("")),
                (lines, last),
                "{line}"
            );
        }
    }
}

#[test]
fn limits_are_errors_with_their_option() {
    let folder = Folder::with_demo();
    let lol: String = (1..10)
        .map(|n| format!("<!ENTITY l{n} '{}'>", format!("&l{};", n - 1).repeat(10)))
        .collect();
    folder.file("laughs.xml", format!("<!DOCTYPE a [<!ENTITY l0 'ha'>{lol}]><a>&l9;</a>"));
    folder.file("laughs2.xml", format!("<!DOCTYPE a [<!ENTITY l0 'ha'>{lol}]><a b='&l9;'/>"));
    let aliases: String = (1..10)
        .map(|n| format!("l{n}: &l{n} [{}]\n", vec![format!("*l{}", n - 1); 10].join(",")))
        .collect();
    folder.file("laughs.yaml", format!("l0: &l0 [ha]\n{aliases}"));
    folder
        .file("deep.xml", "<a>".repeat(600))
        .file("deep.yaml", "- ".repeat(600))
        .file("flow.yaml", "[".repeat(600))
        .file("deep.toml", format!("a = {}", "[".repeat(600)));
    folder
        .file("loop.xml", "<!DOCTYPE a [<!ENTITY e '&e;'>]><a>&e;</a>")
        .file("loop.yaml", "&a [*a]");
    folder.file("some.json", "[1, 2, 3]");
    for (line, part) in [
        ("query $ laughs.xml", "expand to more than 16000000 bytes"),
        ("query $ laughs.xml --lenient", "expand to more than 16000000 bytes"),
        ("query $ laughs2.xml", "raise the limit with --expansion"),
        ("query $ laughs.yaml", "the aliases stand for more than 1000000 values"),
        ("query $ deep.xml", "elements nest deeper than 512 levels"),
        ("query $ deep.yaml", "nest deeper than 512 levels"),
        ("query $ flow.yaml", "lists and maps nest deeper than 512 levels"),
        ("query $ deep.toml", "nest deeper than 512 levels"),
        ("query $ loop.xml", "the entity &e; refers to itself"),
        ("query $ loop.yaml", "this alias stands inside the value that it stands for"),
        ("query $ some.json --size-limit 5", "raise the limit with --size-limit"),
    ] {
        let ran = run(&folder, line, b"");
        assert_eq!((ran.status, ran.out.as_str()), (3, ""), "{line}");
        assert!(ran.err.contains(part), "{line}: {}", ran.err);
    }
    assert_eq!(
        run(&folder, "query count($.l5[*]) laughs.yaml --aliases 4000000000", b"").out,
        "10\n"
    );
    folder.file("deepest.xml", "<a>".repeat(600) + &"</a>".repeat(600));
    assert_eq!(run(&folder, "query $..a deepest.xml --depth 1000 --count", b"").out, "600\n");
}

/// A server on the loopback address that answers by path.
fn serve() -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            std::thread::spawn(move || {
                let mut reader = BufReader::new(stream.try_clone().unwrap());
                let (mut head, mut line) = (String::new(), String::new());
                while reader.read_line(&mut line).is_ok_and(|read| read > 2) {
                    head.push_str(&std::mem::take(&mut line));
                }
                let path = head.split(' ').nth(1).unwrap_or_default();
                let known = head.to_lowercase().contains("authorization: bearer tern");
                let (status, media, body) = match path {
                    "/ports" => ("200 OK", "application/yaml", "ness: {depth: 6.50}\n".to_owned()),
                    "/ports.json" => ("200 OK", "text/plain", "{\"ness\": 4}".to_owned()),
                    "/private" if known => ("200 OK", "application/json", "\"in\"".to_owned()),
                    "/private" => ("401 Unauthorized", "text/plain", String::new()),
                    "/large" => {
                        ("200 OK", "application/json", format!("[{}1]", "1,".repeat(10_000)))
                    }
                    "/slow" => {
                        std::thread::sleep(std::time::Duration::from_secs(8));
                        ("200 OK", "application/json", "1".to_owned())
                    }
                    _ => ("404 Not Found", "text/plain", String::new()),
                };
                let _ = write!(
                    stream,
                    "HTTP/1.1 {status}\r\nContent-Type: {media}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
                    body.len()
                );
            });
        }
    });
    format!("http://{address}")
}

#[test]
fn inputs_from_servers() {
    let folder = Folder::with_demo();
    let server = serve();
    for (path, more, status, out, said) in [
        ("/ports", &["-v"][..], 0, "6.50\n", "read as yaml, by its content type application/yaml"),
        ("/ports.json", &["-v"], 0, "4\n", "read as json, by its extension .json"),
        ("/private", &[], 3, "", "answers with status 401 Unauthorized"),
        ("/nope", &[], 3, "", "check the address"),
        ("/large", &["--size-limit", "5kB"], 3, "", "more than 5000 bytes"),
        ("/slow", &["--timeout", "1"], 3, "", "allow more with --timeout"),
    ] {
        let rule = if path.starts_with("/ports") { "$.ness.depth ?? $.ness" } else { "$" };
        let rule = if path == "/ports.json" { "$.ness" } else { rule };
        let url = format!("{server}{path}");
        let mut words = vec!["query", rule, &url];
        words.extend(more);
        let ran = folder.run(&words, b"");
        assert_eq!((ran.status, ran.out.as_str()), (status, out), "{path}: {}", ran.err);
        assert!(ran.err.contains(said), "{path}: {}", ran.err);
    }
    let url = format!("{server}/private");
    let ran = folder.run(&["query", "$", &url, "--header", "Authorization: Bearer tern"], b"");
    assert_eq!(ran.out, "\"in\"\n", "{}", ran.err);
    let ran = folder.run(&["query", "$", "http://127.0.0.1:1/x"], b"");
    assert_eq!(ran.status, 3);
    assert!(ran.err.contains("cannot be fetched"), "{}", ran.err);
}

/// What is no JSON is refused wherever it stands and whatever the rule needs of it, with its place.
#[test]
fn broken_json_is_refused_for_every_rule() {
    let folder = Folder::with_demo();
    let line = |broken: &str| {
        let good = "{\"a\":9,\"b\":[1,2],\"c\":\"x\"}\n";
        format!("{}{broken}\n{good}", good.repeat(20_000))
    };
    let breaks = [
        ("{\"a\":9,\"b\":[1 2]}", "20001:15"),
        ("{\"a\":9,\"b\":[1,]}", "20001:14"),
        ("{\"a\":9,\"b\":{\"d\" 1}}", "20001:17"),
        ("{\"a\":9,\"b\":01}", "20001:12"),
        ("{\"a\":9,\"b\":\"\\q\"}", "20001:13"),
        ("{\"a\":9,\"b\":tru}", "20001:12"),
    ];
    let rules = [
        "sum($[*].a)",
        "count($[*])",
        "$[?@.a > 10]",
        "for r in $[*] return r.a",
        "for r in $[*] group by c = r.c return {c, n: count(r[*])}",
        "for r in $[*] where exists(r.b[?@ == 7]) return r.a",
    ];
    for (broken, place) in breaks {
        folder.file("broken.jsonl", line(broken));
        for rule in rules {
            for threads in ["1", "2"] {
                let ran = folder.run(&["query", rule, "broken.jsonl", "--threads", threads], b"");
                assert_eq!(ran.status, 3, "{rule} {broken} {}{}", ran.out, ran.err);
                let place = format!("broken.jsonl:{place}");
                assert!(ran.err.contains(&place), "{rule} {broken} {}", ran.err);
            }
        }
    }
}

/// A large list goes to formats item by item, and is never held; what comes of it is what comes of one that is.
#[test]
fn large_lists_are_not_held() {
    let folder = Folder::with_demo();
    let items = (0..700_000).map(|n| format!("{{\"n\":{n},\"t\":[\"a text\",null]}}"));
    folder.file("list.json", format!("[\n{}\n]\n", items.collect::<Vec<_>>().join(",\n")));
    for format in ["json", "jsonl", "yaml", "xml"] {
        let line = format!(
            "unset RUST_BACKTRACE; ulimit -v 190000; MALLOC_ARENA_MAX=1 {PROGRAM} convert list.json --to {format} --threads 1 > converted"
        );
        let ran = folder.run_command(Command::new("sh").args(["-c", &line]), b"");
        assert_eq!(ran.status, 0, "{format}: {}", ran.err);
        let held = line.replace("convert list.json", "query '$' list.json --avoid copies");
        let held = held.replace("> converted", "> held");
        let ran = folder.run_command(Command::new("sh").args(["-c", &held]), b"");
        assert_ne!(ran.status, 0, "the limit is no limit");
        let held = held.replace("ulimit -v 190000; ", "");
        folder.run_command(Command::new("sh").args(["-c", &held]), b"");
        let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
        assert!(read("converted") == read("held"), "{format}");
    }
}

/// Documents that are written as they are read come out as those that become values, with all that is said of them.
#[test]
fn documents_are_copied_as_their_values_are_written() {
    let folder = Folder::with_demo();
    folder.file("data.xml", "<a>\n <b><![CDATA[<1> & \"2\"]]></b>\n <b>&#xe9;</b>\n</a>");
    folder.file("twice.json", "{\"a\": 1, \"b\": {\"a\": 2, \"a\": 3}}");
    folder.file("broken.json", "{\"a\": [1, 2}");
    for file in [
        "timetable.json",
        "beacon.json",
        "berths.geojson",
        "manifest.xml",
        "notices.xml",
        "data.xml",
        "twice.json",
        "broken.json",
    ] {
        for options in ["--to json", "--to json --compact", "--to jsonl", "--to json --strict"] {
            let copied = run(&folder, &format!("convert {file} {options}"), b"");
            let values = run(&folder, &format!("convert {file} {options} --avoid copies"), b"");
            let parts = |ran: Ran| (ran.status, ran.out, ran.err);
            assert_eq!(parts(copied), parts(values), "{file} {options}");
        }
    }
}

/// Documents inside texts, in every format, and what is said where a text cannot carry a value or holds a member twice.
#[test]
fn documents_inside_texts() {
    let folder = Folder::with_demo();
    for (rule, out, said) in [
        // Written.
        ("encode('json', {a: [1, null]})", r#""{\"a\":[1,null]}""#, ""),
        ("encode('jsonl', [1, {a: 2}])", r#""1\n{\"a\":2}\n""#, ""),
        ("encode('json-seq', [1, 2])", "\"\\u001e1\\n\\u001e2\\n\"", ""),
        ("encode('yaml', {a: {b: [1, 'x: y']}})", r#""a:\n  b:\n    - 1\n    - 'x: y'\n""#, ""),
        ("encode('toml', {a: 1, b: {c: true}})", r#""a = 1\n\n[b]\nc = true\n""#, ""),
        ("encode('toml', {a: null, b: 1})", r#""b = 1\n""#, "toml could not carry 1 null"),
        ("encode('xml', {a: 1})", r#""<a>1</a>""#, ""),
        (
            "encode('xml', {a: {b: null, c: null}})",
            r#""<a><b/><c/></a>""#,
            "xml could not carry 2 nulls",
        ),
        ("encode('html', element('p', {}, 'x < y'))", r#""<p>x &lt; y</p>""#, ""),
        ("encode('csv', [{a: 1}, {a: '2,3'}])", r#""a\n1\n\"2,3\"\n""#, ""),
        ("encode('tsv', [{a: 1, b: 2}])", r#""a\tb\n1\t2\n""#, ""),
        ("encode('text', 'x')", r#""x""#, ""),
        ("encode('text', ['x', 2])", r#""x\n2\n""#, ""),
        ("encode('url', 7)", r#""7""#, ""),
        (
            "encode('xml', {a: {'@b': null, c: 1}})",
            "\"<a><c>1</c></a>\"",
            "xml could not carry 1 null",
        ),
        ("encode('xml', {a: {b: []}})", "\"<a></a>\"", "xml could not carry 1 empty list"),
        ("encode('xml', {a: {'#content': ['x', {b: 1}, 'y']}})", "\"<a>x<b>1</b>y</a>\"", ""),
        (
            "encode('xml', {a: {b: [[1], [2, 3]]}})",
            "\"<a><b><item>1</item></b><b><item>2</item><item>3</item></b></a>\"",
            "xml could not carry 2 lists in lists",
        ),
        ("encode('xml', {a: element('b')})", "\"<a/>\"", ""),
        (
            "encode('xml', {a: [element('b'), element('c', {k: 1}, 'x')]})",
            "\"<root><a/><a k=\\\"1\\\">x</a></root>\"",
            "",
        ),
        ("encode('xml', [1, {a: 2}])", "\"<root><item>1</item><item><a>2</a></item></root>\"", ""),
        ("encode('xml', {a: 1, b: 2})", "\"<root><a>1</a><b>2</b></root>\"", ""),
        ("encode('xml', {a: decode('xml', '<b><c/></b>')})", "\"<a><b><c/></b></a>\"", ""),
        ("encode('xml', decode('xml', '<!--c--><b/>'))", "\"<!--c-->\\n<b/>\"", ""),
        (
            "encode('xml', {a: {b: true, c: 1.50, d: 'x<y&z'}})",
            "\"<a><b>true</b><c>1.50</c><d>x&lt;y&amp;z</d></a>\"",
            "",
        ),
        ("encode('xml', {'@a': 1})", "\"<root a=\\\"1\\\"/>\"", ""),
        ("encode('xml', {a: {'#text': 'x', b: 1}})", "\"<a>x<b>1</b></a>\"", ""),
        (
            "encode('xml', {'p:a': {'@xmlns:p': 'urn:p', 'p:b': 1}})",
            "\"<p:a xmlns:p=\\\"urn:p\\\"><p:b>1</p:b></p:a>\"",
            "",
        ),
        ("encode('csv', [{a: 1}, {b: 2}])", "\"a,b\\n1,\\n,2\\n\"", ""),
        ("encode('csv', [1, 2])", "\"1\\n2\\n\"", ""),
        ("encode('csv', [{a: ''}])", "\"a\\n\\\"\\\"\\n\"", ""),
        ("encode('csv', [{'a,b': 'x'}])", "\"\\\"a,b\\\"\\nx\\n\"", ""),
        (
            "encode('yaml', {a: 'yes', b: '1', c: null, d: [], e: {}, f: '', g: ' x', i: '# x'})",
            "\"a: 'yes'\\nb: '1'\\nc: null\\nd: []\\ne: {}\\nf: ''\\ng: ' x'\\ni: '# x'\\n\"",
            "",
        ),
        (
            "encode('toml', {a: [{b: 1}, {b: 2}], c: {'d e': [1, [2]]}})",
            "\"[[a]]\\nb = 1\\n\\n[[a]]\\nb = 2\\n\\n[c]\\n\\\"d e\\\" = [1, [2]]\\n\"",
            "",
        ),
        ("encode('text', {a: 1})", "\"{\\\"a\\\":1}\"", ""),
        // Read.
        ("decode('json', '[1.50, null]')", "[1.50,null]", ""),
        ("decode('jsonl', '1\\n{\"a\": 2}')", r#"[1,{"a":2}]"#, ""),
        ("decode('json-seq', '\\u001e1\\n\\u001e2\\n')", "[1,2]", ""),
        ("decode('yaml', 'a: &x [1]\\nb: *x')", r#"{"a":[1],"b":[1]}"#, ""),
        ("decode('toml', '[a]\\nb = 0x10')", r#"{"a":{"b":16}}"#, ""),
        ("decode('tsv', 'a\\tb\\n1\\t2')", r#"[{"a":"1","b":"2"}]"#, ""),
        ("decode('text', 'x\\ny')", r#"["x","y"]"#, ""),
        ("decode('hex', '4E65')", r#""Ne""#, ""),
        ("decode('json', null ?? '1')", "1", ""),
        (
            "decode('json', '{\"a\": 1, \"a\": 2}')",
            r#"{"a":2}"#,
            "the member `a` is given twice; the later value is taken",
        ),
        (
            "decode('jsonl', '{\"a\": 1, \"a\": 2}')",
            r#"[{"a":2}]"#,
            "the member `a` is given twice",
        ),
        ("decode('csv', 'a,a\\n1,2')", r#"[{"a":"2"}]"#, "the member `a` is given twice"),
        (
            "for n in [1, 2] return decode('yaml', 'a: 1\\na: 2\\nb: 3')",
            r#"[{"a":2,"b":3},{"a":2,"b":3}]"#,
            "members are given twice 2 times, `a` first; the later values are taken",
        ),
    ] {
        let ran = folder.run(&["query", rule, "--compact"], b"");
        assert_eq!((ran.out.trim_end(), ran.status), (out, 0), "{rule}: {}", ran.err);
        assert!(
            ran.err.contains(said) && ran.err.is_empty() == said.is_empty(),
            "{rule}: {}",
            ran.err
        );
    }
    for (rule, said) in [
        ("encode('html', {p: 1})", "html is made of elements, and here is a map"),
        ("encode('xml', {'a b': 1})", "`a b` cannot be a name in XML"),
        ("encode('toml', [1])", "encode(): "),
        ("encode('csv', [{a: [1]}])", "the column `a` has a list"),
        ("encode('base64', [1])", "a list has no text to encode"),
        (
            "encode('xml', {a: {'@b': [1]}})",
            "the attribute `b` has a list, and an attribute holds text",
        ),
        ("encode('xml', {a: {'#text': [1]}})", "a list stands where XML has text"),
        ("encode('xml', {a: {'#content': 'x'}})", "`#content` cannot be a name in XML"),
        ("encode('xml', {a: {'#content': [{b: 1, c: 2}]}})", "a map stands where XML has text"),
        ("encode('xml', {'p:a': 1})", "the prefix of `p:a` is not declared"),
        ("encode('toml', {a: [1, null]})", "TOML has no null for an item of an array"),
        ("decode('yaml', 'a: 1\\n---\\nb: 2')", "the text holds 2 documents, not one"),
        ("decode('yaml', 'a: [')", "the text is not yaml: at its 1:"),
        ("decode('toml', 'a = ')", "the text is not toml: at its 1:"),
        ("decode('csv', 'a,b\\n1')", "the text is not csv: at its 2:1"),
        ("decode('jsonl', '1\\n{')", "the text is not jsonl: at its 2:"),
        ("decode('hex', '123')", "it is not pairs of 0-9 and a-f"),
        ("decode('base64', '*')", "the text is not base64"),
    ] {
        let ran = folder.run(&["query", rule], b"");
        assert!(ran.status == 4 && ran.err.contains(said), "{rule}: {} {}", ran.status, ran.err);
    }
}
