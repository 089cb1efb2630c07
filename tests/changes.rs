//! `kyanite diff` and `kyanite patch`.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, assert_says, dom_of, run};

/// The demo, and beside it what became of some of its documents.
fn changed() -> Folder {
    let folder = Folder::with_demo();
    let timetable = folder.read("timetable.json");
    folder.file(
        "new/timetable.json",
        timetable.replace("Arctic Skua", "Arctic Tern").replacen(
            "\"minutes\": 35",
            "\"minutes\": 35.0",
            1,
        ),
    );
    folder
        .file("new/fleet.toml", folder.read("fleet.toml").replace("wind_kn = 40", "wind_kn = 45"));
    let manifest = folder.read("manifest.xml");
    folder.file(
        "new/manifest.xml",
        manifest.replace("18200", "18300").replace("rank=\"mate\"", "rank=\"bosun\""),
    );
    folder.file("a.json", r#"{"sailings": [{"no": 1, "at": "07:00", "seats": 30}, {"no": 2, "at": "08:00", "seats": 12.5}], "page": 1}"#);
    folder.file("b.json", r#"{"page": 1.0, "sailings": [{"no": 2, "at": "08:30", "seats": 12.6}, {"no": 1, "at": "07:00", "seats": 30}, {"no": 3}]}"#);
    folder.file(
        "one.xml",
        "<fleet><vessel id='1'><seats>90</seats><open>true</open></vessel></fleet>",
    );
    folder.file("one.json", r#"{"fleet": {"vessel": [{"@id": 1, "seats": 90.0, "open": true}]}}"#);
    folder.file(
        "two.xml",
        "<fleet>\n  <vessel id='1'>\n    <seats>90</seats><open>true</open></vessel>\n</fleet>",
    );
    folder.file("mixed-1.xml", "<p>The <b>pier</b> is closed <i>today</i>.</p>");
    folder.file("mixed-2.xml", "<p>The <b>pier</b> is open <i>today</i>.<br/></p>");
    folder
        .file("old/a.json", "{\"a\": 1}")
        .file("old/same.yaml", "a: 1\n")
        .file("old/gone.csv", "a\n1\n");
    folder
        .file("now/a.json", "{\"a\": 2}")
        .file("now/same.yaml", "a: 1.0\n")
        .file("now/sub/come.toml", "a = 1\n");
    folder
}

#[test]
fn what_differs() {
    let folder = changed();
    for (line, status, expected) in [
        (
            "diff timetable.json timetable.json",
            0,
            "nothing differs between timetable.json and timetable.json",
        ),
        (
            "diff timetable.json new/timetable.json",
            1,
            "timetable.json and new/timetable.json differ: 8 changed",
        ),
        (
            "diff timetable.json new/timetable.json",
            1,
            "8 × changed  $.routes[*].sailings[*].vessel",
        ),
        (
            "diff timetable.json new/timetable.json",
            1,
            "$.routes[0].sailings[0].vessel\n  - \"Arctic Skua\"  timetable.json:15\n  + \"Arctic Tern\"  new/timetable.json:15",
        ),
        ("diff timetable.json new/timetable.json --numbers spelling", 1, "9 changed"),
        ("diff timetable.json new/timetable.json --ignore $..vessel", 0, "nothing differs"),
        ("diff fleet.toml new/fleet.toml", 1, "$.limits.wind_kn\n  - 40  fleet.toml:"),
        (
            "diff manifest.xml new/manifest.xml",
            1,
            "/m:manifest[1]/v:vessel[1]/v:deck[1]/m:vehicle[1]/m:weight[1]\n  - \"18200\"  manifest.xml:9",
        ),
        ("diff manifest.xml new/manifest.xml", 1, "c:person[2]/@rank\n  - \"mate\""),
        ("diff one.xml two.xml", 0, "nothing differs"),
        ("diff mixed-1.xml mixed-2.xml", 1, "/p[1]/text()[2]\n  - \" is closed \""),
        ("diff mixed-1.xml mixed-2.xml", 1, "/p[1]/br[1]\n  + <br/>"),
        (
            "diff one.xml one.json",
            0,
            "compared: 3 texts without a type with what it spells, 1 single value with a list of one",
        ),
        ("diff tickets.csv tickets.csv", 0, "nothing differs"),
        ("diff a.json b.json", 1, "to have them told by `no`, say --key '$.sailings=no'"),
        (
            "diff a.json b.json --key $.sailings=no",
            1,
            "a.json and b.json differ: 1 added, 2 changed, 1 moved",
        ),
        ("diff a.json b.json --key $.sailings[*]=no", 1, "$.sailings[0].at\n  - \"08:00\""),
        (
            "diff a.json b.json --key $.sailings=no --tolerance 0.2",
            1,
            "1 added, 1 changed, 1 moved",
        ),
        ("diff a.json b.json --key $.sailings=no --report columns", 1, "{\"no\":3}"),
        (
            "diff old now",
            1,
            "old and now differ: 1 of 2 files, 1 only in old, 1 only in now\n  - old/gone.csv\n  + now/sub/come.toml",
        ),
        ("diff old now --report json", 1, "\"only_new\": [\n    \"now/sub/come.toml\"\n  ]"),
        ("diff old old", 0, "nothing differs between old and old, 3 files"),
        ("diff old now --report json-patch", 2, "a JSON Patch is one of one document"),
        ("diff a.json missing.json", 3, "missing.json"),
        ("diff a.json", 2, "NEW"),
        ("diff - -", 2, "both documents cannot come from standard input"),
        ("diff a.json b.json --key sailings=no", 2, "write a path of names"),
        ("diff a.json b.json --key $.sailings", 2, "write it as PATH=MEMBER"),
        ("diff a.json b.json --tolerance x", 2, "write a number"),
        ("diff a.json b.json --exact", 2, "only a JSON Patch keeps the order of members"),
        ("diff pier-feed.xml manifest.xml", 3, "pier-feed.xml:1:35"),
    ] {
        assert_says(&folder, line, status, expected);
    }
}

/// What `--report json-patch` writes makes the new document of the old one, and `--reverse` goes back, in each format.
#[test]
fn streams_are_compared_by_key() {
    let folder = changed();
    folder
        .file("old.jsonl", "{\"id\":1,\"seats\":30}\n{\"id\":2,\"seats\":12.5}\n{\"id\":4}\n")
        .file("new.jsonl", "{\"id\":3}\n{\"id\":2.0,\"seats\":12.5}\n{\"id\":1,\"seats\":31}\n")
        .file("new.csv", "id,seats\n2,12.50\n1,30\n4,\n")
        .file("twice.jsonl", "{\"id\":1}\n{\"id\":1,\"a\":2}\n{\"no\":1}\n");
    for (line, status, expected) in [
        ("diff old.jsonl new.jsonl --key $[*]=id", 1, "1 added, 1 removed, 1 changed"),
        (
            "diff old.jsonl new.jsonl --key $=id --memory 1B",
            1,
            "there is no room to list 3 changes; they are counted",
        ),
        (
            "diff old.jsonl new.jsonl --key $=id",
            1,
            "$[2].seats\n  - 30  old.jsonl:1\n  + 31  new.jsonl:3",
        ),
        // What a cell spells is the number.
        ("diff old.jsonl new.csv --key $=id --ignore $[*].seats", 0, "nothing differs"),
        ("diff old.jsonl new.csv --key $=id", 1, "$[2].seats"),
        ("diff ports.csv ports.csv --key $=code", 0, "nothing differs"),
        (
            "diff twice.jsonl old.jsonl --key $=id",
            1,
            "the key of $ does not tell all apart: 1 item without it, 1 item with that of another",
        ),
    ] {
        assert_says(&folder, line, status, expected);
    }
}

#[test]
fn patches_of_differences() {
    let folder = changed();
    folder.file(
        "new/ports.yaml",
        folder.read("ports.yaml").replace("lamps: 4", "lamps: 6").replace("Holm", "Holmen"),
    );
    for file in ["timetable.json", "fleet.toml", "ports.yaml", "manifest.xml"] {
        let made =
            run(&folder, &format!("diff {file} new/{file} --report json-patch=patch.json"), "");
        assert_eq!(made.status, 1, "{file}: {}", made.err);
        let extension = file.rsplit('.').next().unwrap();
        let made = format!("made.{extension}");
        assert_says(
            &folder,
            &format!("patch patch.json {file} -o {made} --reverse back.json"),
            0,
            "",
        );
        assert_says(&folder, &format!("diff {made} new/{file}"), 0, "nothing differs");
        assert_says(&folder, &format!("patch back.json {made} --in-place --quiet"), 0, "");
        assert_says(&folder, &format!("diff {made} {file}"), 0, "nothing differs");
    }
    // With the order of members it is the same to the byte.
    run(
        &folder,
        "diff a.json b.json --key $.sailings=no --exact --numbers spelling --report json-patch=patch.json",
        "",
    );
    let (made, wanted) =
        (run(&folder, "patch patch.json a.json", ""), run(&folder, "convert b.json --to json", ""));
    assert_eq!(made.out, wanted.out);
}

#[test]
fn patches() {
    let folder = changed();
    folder.file("p.json", r#"[{"op": "replace", "path": "/sailings/0/at", "value": "07:15"}]"#);
    folder.file(
        "p.yaml",
        "- {op: add, path: /sailings/-, value: {no: 9}}\n- {op: remove, path: /page}\n",
    );
    folder.file(
        "bad.json",
        r#"[{"op": "remove", "path": "/page"}, {"op": "remove", "path": "/sailing"}]"#,
    );
    folder.file("merge.json", r#"{"page": null, "next": {"page": 2}}"#);
    folder.file("ok.json", "true");
    let before = folder.read("a.json");
    for (line, status, expected) in [
        ("patch p.json a.json", 0, "\"at\": \"07:15\""),
        ("patch p.yaml a.json", 0, "\"no\": 9"),
        ("patch p.json a.json --to yaml", 0, "at: '07:15'"),
        ("patch p.json a.json --stats", 0, "stats: read 2 records"),
        ("patch --merge merge.json a.json", 0, "\"page\": 2"),
        (
            "patch bad.json a.json --in-place",
            4,
            "operation 2: the document has nothing at /sailing",
        ),
        ("patch bad.json a.json", 4, "bad.json:1:62  $[1].path"),
        ("patch bad.json a.json", 4, "near: sailings"),
        ("patch merge.json a.json", 2, "a JSON Merge Patch is applied with --merge"),
        ("patch a.json a.json", 2, "a JSON Patch is a list of operations"),
        ("patch missing.json a.json", 3, "missing.json"),
        ("patch p.json - --in-place", 2, "only a file can be changed in place"),
        ("patch p.json a.json --in-place --to yaml", 2, "--to"),
        // The way back is written before the document is another one.
        ("patch p.json a.json --in-place --reverse no/back.json", 5, "the folder of no/back.json"),
        ("patch p.json a.json --in-place --reverse a.json", 2, "two results would go to a.json"),
        ("patch p.json a.json -o b.json --reverse ./b.json", 2, "two results would go to ./b.json"),
        ("patch p.json a.json --reverse p.json", 2, "the place of p.json"),
        // Nor does a report take the place of what is read.
        ("diff b.json a.json --report json-patch=./a.json", 2, "the place of a.json"),
        ("survey a.json -o a.json", 2, "the place of a.json"),
        ("validate a.json --schema p.json -o p.json", 2, "the place of p.json"),
        ("validate a.json --schema p.json -o k --write-known k", 2, "two results would go to k"),
        (
            "convert a.json --to jsonl --ensure ok.json --skip-invalid a.json",
            2,
            "the place of a.json",
        ),
        (
            "convert a.json --ensure ok.json --skip-invalid b.jsonl -o b.jsonl",
            2,
            "two results would go to b.jsonl",
        ),
        ("patch p.json a.json --in-place --dry-run --reverse back.json", 2, "--reverse"),
    ] {
        assert_says(&folder, line, status, expected);
    }
    assert_eq!(folder.read("a.json"), before, "a patch that does not apply changed the file");
    assert_says(&folder, "patch p.json a.json --in-place", 0, "");
    assert_says(&folder, "query $.sailings[0].at a.json", 0, "\"07:15\"");
    // There and back, in the layout that it has.
    let odd = "{ \"sailings\": [ {\"no\": 4,\"at\":\"06:00\"} ] }";
    folder.file("odd.json", odd);
    assert_says(&folder, "patch p.json odd.json --in-place --reverse back.json", 0, "");
    assert_eq!(folder.read("odd.json"), odd.replace("06:00", "07:15"));
    assert_says(&folder, "patch back.json odd.json --in-place", 0, "");
    assert_eq!(folder.read("odd.json"), odd);
    // From and to a pipe.
    assert_eq!(run(&folder, "patch p.json --from json", &before).status, 0);
}

/// A page of ten thousand changes.
#[test]
fn as_a_page() {
    let folder = Folder::with_demo();
    let rows =
        |from: u32| (0..10_000).map(|no| format!("{{\"no\":{}}}\n", no + from)).collect::<String>();
    folder.file("a.jsonl", rows(0)).file("b.jsonl", rows(100_000));
    assert_eq!(run(&folder, "diff a.jsonl b.jsonl --report html=d.html --quiet", "").status, 1);
    let Some(dom) = dom_of(&folder, "d.html") else { return };
    assert!(dom.contains("10000 of 10000"), "{dom:.2000}");
    assert!((200..=1000).contains(&dom.matches("<article").count()));
}

/// Files that are changed in place keep every other byte.
#[test]
fn in_place() {
    let folder = Folder::with_demo();
    folder
        .file("crlf.yaml", "\u{feff}a: 1\r\n# two\r\nb: 2\r\n")
        .file("uneven.yaml", "a: 1\r\nb: 2\n");
    folder.file("several.yaml", "a: 1\n---\na: 2\n");
    folder.file("latin.xml", b"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><a>\xe9</a>");
    let fleet = folder.read("fleet.toml");
    let ports = folder.read("ports.yaml");
    folder.file("winds.kyr", "$ set .limits.wind_kn = 45\n");
    folder.file("p.json", r#"[{"op": "replace", "path": "/limits/wave_m", "value": 3.0}]"#);
    let vessel = |value: &str| {
        format!(r#"[{{"op": "add", "path": "/m:manifest/v:vessel/0/@flag", "value": {value}}}]"#)
    };
    folder.file("x.json", vessel("\"DK\"")).file("null.json", vessel("null"));
    let manifest = folder.read("manifest.xml").replace('\n', "\r\n");
    folder.file("returns.xml", &manifest);
    for (line, status, expected) in [
        (
            "query '$ set .limits.wind_kn = 45' fleet.toml --in-place --dry-run",
            0,
            "-wind_kn = 40\n+wind_kn = 45\n",
        ),
        (
            "reshape winds.kyr fleet.toml --in-place --dry-run",
            0,
            "--- fleet.toml\n+++ fleet.toml\n",
        ),
        ("patch p.json fleet.toml --in-place --dry-run", 0, "-wave_m = 2.50\n+wave_m = 3.0\n"),
        (
            "patch x.json manifest.xml --in-place --dry-run",
            0,
            "-  <v:vessel id=\"SKUA\" flag=\"NO\">\n+  <v:vessel id=\"SKUA\" flag=\"DK\">\n",
        ),
        ("patch x.json returns.xml --in-place --reverse back.json", 0, ""),
        (
            "patch null.json manifest.xml --in-place",
            5,
            "\"@flag\" holds text in XML, and is to hold null",
        ),
        ("query '$ set ..lamps = 9' ports.yaml --in-place", 5, "ports.yaml:3:3"),
        (
            "query '$ set ..lamps = 9' ports.yaml --in-place",
            5,
            "what the anchor &defaults names is changed, and aliases repeat it",
        ),
        (
            "query '$.limits' fleet.toml --in-place",
            2,
            "only a rule that changes the document is run in place",
        ),
        ("query '$ set .a = 1' bookings.jsonl --in-place", 5, "jsonl is not edited in place"),
        ("query '$ set .a = 1' several.yaml --in-place", 2, "several.yaml holds several documents"),
        ("query '$ set .a = 1' uneven.yaml --in-place", 2, "line ends of several sorts"),
        ("query '$ set .a = 1' latin.xml --in-place", 2, "is not plain UTF-8"),
        ("query '$ set .a = 1' --in-place", 2, "cannot be changed in place"),
        ("query '$ set .a = 1' fleet.toml --in-place --to json", 2, "do not go together"),
        ("query '$ set .a = 1' fleet.toml --dry-run", 2, "--in-place"),
        ("query '$ set .limits.wind_kn = null' fleet.toml --in-place", 5, "TOML has no null"),
    ] {
        assert_says(&folder, line, status, expected);
    }
    assert_eq!(
        (folder.read("fleet.toml"), folder.read("ports.yaml")),
        (fleet.clone(), ports),
        "a file was written"
    );
    assert_eq!(folder.read("returns.xml"), manifest.replacen("flag=\"NO\"", "flag=\"DK\"", 1));
    assert_says(&folder, "patch back.json returns.xml --in-place", 0, "");
    assert_eq!(folder.read("returns.xml"), manifest);
    // An element whose last attribute goes is a text, for the patch that goes back as well.
    folder.file("pier.xml", "<pier><berth no=\"4\">A9</berth></pier>\n");
    folder.file("no.json", r#"[{"op": "remove", "path": "/pier/berth/@no"}]"#);
    for place in ["--in-place", "-o other.xml"] {
        let changed = if place == "--in-place" { "pier.xml" } else { "other.xml" };
        let line = format!("patch no.json pier.xml {place} --reverse back.json");
        assert_says(&folder, &line, 0, "");
        assert!(folder.read(changed).contains("<berth>A9</berth>"));
        assert_says(&folder, &format!("patch back.json {changed} --in-place"), 0, "");
        assert_says(
            &folder,
            &format!("query $.pier {changed} --compact"),
            0,
            "{\"berth\":{\"@no\":\"4\",\"#text\":\"A9\"}}",
        );
    }
    // Several files: all are made before the first is written.
    folder.file("other.toml", fleet.replace("[limits]", "[bounds]"));
    assert_says(
        &folder,
        "query '$ set .limits.wind_kn = 45' fleet.toml several.yaml --in-place",
        2,
        "holds several documents",
    );
    assert_eq!(folder.read("fleet.toml"), fleet);
    assert_says(
        &folder,
        "query '$ set .limits.wind_kn = 45' fleet.toml other.toml --in-place -v",
        0,
        "1 of 2 files changed",
    );
    assert_eq!(folder.read("fleet.toml"), fleet.replace("wind_kn = 40", "wind_kn = 45"));
    assert_says(&folder, "query '$ set .b = 3' crlf.yaml --in-place", 0, "");
    assert_eq!(folder.read("crlf.yaml"), "\u{feff}a: 1\r\n# two\r\nb: 3\r\n");
    assert_says(&folder, "patch p.json fleet.toml --in-place", 0, "");
    assert_says(&folder, "diff fleet.toml other.toml", 1, "wave_m");
}
