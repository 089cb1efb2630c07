//! Tables and conversions through the built program: line ends, empty cells, empty results, texts in texts.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, run};

/// An empty cell is nothing where values are computed and ordered, and a key where rows are grouped and joined.
#[test]
fn empty_cells() {
    let folder = Folder::with_demo();
    folder.file("t.csv", "k,n,w\na,2,x\nb,,\na,10,y\n,3,x\nb,1,\n");
    for (rule, out) in [
        ("sum($[*].n)", "16"),
        ("avg($[*].n)", "4"),
        ("min($[*].n)", "\"1\""),
        ("max($[*].n)", "\"10\""),
        ("median($[*].n)", "2.5"),
        ("sort($[*].n)", r#"["1","2","3","10",""]"#),
        ("min($[*].w)", "\"x\""),
        ("distinct($[*].w)", r#"["x","y"]"#),
        ("distinct([null, $[0].n, null])", r#"[null,"2"]"#),
        ("for r in $[*] order by r.n return r.n", r#"["1","2","3","10",""]"#),
        ("for r in $[*] order by r.n descending return r.n", r#"["10","3","2","1",""]"#),
        ("for r in $[*] order by r.w, r.n return r.n", r#"["2","3","10","1",""]"#),
        ("for r in $[*] return r.w ?? 0", r#"["x",0,"y","x",0]"#),
        ("count($[*].n)", "5"),
        (
            "for r in $[*] group by k = r.k return {k, s: sum(r[*].n)}",
            r#"[{"k":"a","s":12},{"k":"b","s":1},{"k":"","s":3}]"#,
        ),
        (
            "let w = $[*].w for v in ['', 'x'] for o in $[?@.w == v] return o.n",
            r#"["","1","2","3"]"#,
        ),
    ] {
        let ran = folder.run(&["query", rule, "t.csv", "--compact"], b"");
        assert_eq!((ran.out.trim_end(), ran.status), (out, 0), "{rule}: {}", ran.err);
    }
}

/// What is told of the first row: columns named twice, and rows that look divided by another sign.
#[test]
fn what_the_first_row_tells() {
    let folder = Folder::with_demo();
    folder
        .file("semi.csv", "code;depth\nness;6\nholm;7\n")
        .file("tab.csv", "code\tdepth\nness\t6\n")
        .file("plain.csv", "text\na; b\nc\n")
        .file("twice.csv", "code,code\nness,6\n");
    let divided = "semi.csv is read as a table of one column, but its rows look divided by ';'\n  semi.csv:1:5\n      code;depth\n          ^\n  if they are, say --delimiter ';'";
    let twice = "the member `code` is given twice; the later value is taken\n  twice.csv:1:6";
    for (file, told) in [
        ("semi.csv", divided),
        ("tab.csv", "if they are, say --delimiter '\\t'"),
        ("semi.csv --delimiter ;", ""),
        ("semi.csv --delimiter ,", ""),
        ("plain.csv", ""),
        ("twice.csv", twice),
    ] {
        for command in ["query $[*]", "query $", "convert --to json", "survey"] {
            let ran = run(&folder, &format!("{command} {file}"), "");
            assert_eq!(ran.status, 0, "{command} {file}: {}", ran.err);
            assert!(ran.err.contains(told), "{command} {file}: {}", ran.err);
            assert_eq!(ran.err.is_empty(), told.is_empty(), "{command} {file}: {}", ran.err);
        }
    }
    // Rows that are broken are so since they are divided by another sign.
    folder.file("comma.csv", "code;depth\nness;6,5\n");
    let ran = run(&folder, "query $ comma.csv", "");
    assert!(ran.status == 3 && ran.err.contains("say --delimiter ';'"), "{}", ran.err);
    assert!(ran.err.contains("this row has 2 cells, and the header has 1"), "{}", ran.err);
    let ran = run(&folder, "query $[*].depth comma.csv --delimiter ; --compact", "");
    assert_eq!(ran.out, "[\"6,5\"]\n");
}

#[test]
fn lines_end_as_they_do() {
    let folder = Folder::with_demo();
    let many = "12345,\"a\rb\"\r".repeat(60_000);
    folder.file("cr.csv", format!("no,text\r{many}"));
    let ran = run(&folder, "query count($[?@.text==\"a\\rb\"]) cr.csv", "");
    assert_eq!((ran.out.as_str(), ran.err.as_str()), ("60000\n", ""));
    for (line, input, out) in [
        (
            "query $[*] --from csv --to jsonl",
            "a,b\r1,2\r3,4",
            "{\"a\":\"1\",\"b\":\"2\"}\n{\"a\":\"3\",\"b\":\"4\"}\n",
        ),
        ("query $[*] --from csv --to jsonl", "a,b\r\n1,2\r\n", "{\"a\":\"1\",\"b\":\"2\"}\n"),
        ("query $[*] --from csv --to jsonl", "a\n1\r2\n", "{\"a\":\"1\\r2\"}\n"),
        ("query $[*] --from tsv --to jsonl", "a\tb\r\"\r\"\t2\r", "{\"a\":\"\\r\",\"b\":\"2\"}\n"),
        (
            "query $[*] --from csv --delimiter ; --to jsonl",
            "a;b\r\"x,\"\"\r\";2\r",
            "{\"a\":\"x,\\\"\\r\",\"b\":\"2\"}\n",
        ),
        (
            "query $[*] --from csv --unnamed --to jsonl",
            "1,2\r3,4\r",
            "[\"1\",\"2\"]\n[\"3\",\"4\"]\n",
        ),
        ("query $[*] --from text --to jsonl", "one\rtwo\"\r", "\"one\"\n\"two\\\"\"\n"),
        // A byte order mark is no part of the text; the second one is.
        ("convert --from csv --to csv", "\u{feff}\"\u{feff}a\",b\n1,2\n", "\"\u{feff}a\",b\n1,2\n"),
    ] {
        let ran = run(&folder, line, input);
        assert_eq!((ran.out.as_str(), ran.err.as_str()), (out, ""), "{line} {input:?}");
    }
    let ran = run(&folder, "query $[*] --from csv", "a,b\r1,2\r3,4,5\r");
    assert!(
        ran.err.contains("has 3 cells") && ran.err.contains("input:3:1\n      3,4,5\n"),
        "{}",
        ran.err
    );
}

#[test]
fn empty_results_keep_the_names_of_their_columns() {
    let folder = Folder::with_demo();
    folder.file("head.csv", "a,b\n");
    for (line, out) in [
        ("convert head.csv --to csv", "a,b\n"),
        ("query $[*] head.csv --to tsv", "a\tb\n"),
        ("query $[?@.code==\"q\"] ports.csv --to csv", "code,name,island,depth_m,notes\n"),
        (
            "query 'for r in $[*] where r.code == \"q\" return r' ports.csv --to csv",
            "code,name,island,depth_m,notes\n",
        ),
        (
            "query 'for r in $[*] where r.code == \"q\" return {r.code, n: 1}' ports.csv --to csv",
            "code,n\n",
        ),
        (
            "query 'for r in $[*] where r.code == \"q\" return {...r, n: 1}' ports.csv --to csv",
            "code,name,island,depth_m,notes,n\n",
        ),
        (
            "query 'for r in $[*] where r.id == \"q\" return {r.id, n: 1}' bookings.jsonl --to csv",
            "id,n\n",
        ),
        (
            "query 'for r in $.routes[*] where r.id == \"q\" return {r.id}' timetable.json --to csv",
            "id\n",
        ),
        (
            "query 'for r in $[*] where r.code == \"q\" return r' ports.csv --to csv --columns name,code",
            "name,code\n",
        ),
        ("query 'for r in $[*] where r.code == \"q\" return r.name' ports.csv --to csv", ""),
        ("query '$[0][?@ == \"q\"]' ports.csv --to csv", ""),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!((ran.out.as_str(), ran.status), (out, 0), "{line}: {}", ran.err);
    }
}

#[test]
fn conversions() {
    let folder = Folder::with_demo();
    folder
        .file("a.json", "[1,2]")
        .file("b.json", "[3]")
        .file("none.csv", "")
        .file("none.jsonl", "");
    let records = "<i k=\"1\"/>".repeat(12);
    folder.file("r.xml", format!("<r><x/>{records}</r>"));
    folder.file("l.json", format!("{{\"n\": 1, \"rows\": {:?}}}", [1; 12]));
    let of_xml = "a whole document is one line, though there are 12 $.r.i[*]\n  for a line each: kyanite query '$.r.i[*]' … --to jsonl\n";
    let of_json = "a whole document is one line, though there are 12 $.rows[*]\n";
    let empty = "warning: the input holds no records\n";
    for (line, out, said) in [
        ("convert a.json --compact", "[1,2]", ""),
        ("convert a.json", "[\n  1,\n  2\n]", ""),
        ("convert ports.csv -o ports.yaml", "", ""),
        ("convert --gather a.json b.json --compact", "[[1,2],[3]]", ""),
        ("query $[*][*] --gather a.json b.json --compact", "[1,2,3]", ""),
        ("convert none.csv", "[]", empty),
        ("convert none.jsonl --to jsonl", "", empty),
        (
            "convert r.xml --to jsonl -q",
            &*format!("{{\"r\":{{\"x\":\"\",\"i\":[{}]}}}}", ["{\"@k\":\"1\"}"; 12].join(",")),
            "",
        ),
        ("convert l.json --to jsonl -q", "{\"n\":1,\"rows\":[1,1,1,1,1,1,1,1,1,1,1,1]}", ""),
        ("convert fleet.toml --to json -q --losses -o f.json", "", ""),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!((ran.out.trim_end(), ran.err.as_str(), ran.status), (out, said, 0), "{line}");
    }
    for (line, said) in
        [("convert r.xml --to jsonl", of_xml), ("convert l.json --to jsonl", of_json)]
    {
        let ran = run(&folder, line, "");
        assert!(ran.err.contains(said), "{}", ran.err);
    }
    // A rule that gives the document means it.
    assert_eq!(run(&folder, "query $ l.json --to jsonl", "").err, "");
}

/// Texts that hold documents are opened to the end.
#[test]
fn texts_in_texts_in_texts() {
    let folder = Folder::with_demo();
    let mut text = "{\"a\": [1, \"{\"]}".to_owned();
    for _ in 0..6 {
        text = serde_json::to_string(&text).unwrap();
        let ran = run(&folder, "query $.a --unwrap --compact", &text);
        assert_eq!((ran.out.as_str(), ran.err.as_str()), ("[1,\"{\"]\n", ""), "{text}");
    }
    for (text, out) in [
        (r#""\"plain\"""#, "\"plain\"\n"),
        (r#""\"7\"""#, "\"7\"\n"),
        (r#""\"a: b\"""#, "\"a: b\"\n"),
        (r#""\"<a>x</a>\"""#, "{\"a\":\"x\"}\n"),
    ] {
        let ran = run(&folder, "query $ --unwrap --compact", text);
        assert_eq!((ran.out.as_str(), ran.err.as_str()), (out, ""), "{text}");
    }
    let ran = run(&folder, "query $ --unwrap", r#""\"[1,}\"""#);
    assert!(ran.status == 3 && ran.err.contains("standard input, unwrapped:1:4"), "{}", ran.err);
}
