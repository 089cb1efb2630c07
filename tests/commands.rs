//! The built program, as its users meet it: commands, options, exit statuses, and what happens to files.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

mod support;

use std::io::Read;
use std::process::{Command, Stdio};

use support::{Folder, PROGRAM, run};

#[test]
fn results() {
    let folder = Folder::with_demo();
    folder.file("one.json", "{\"a\": [1, 2.50]}").file("two.json", "{\"a\": []}");
    folder.file("r.jsonl", "{\"n\":1}\n\n{\"n\":2}\n{\"n\":3}");
    folder.file("pretty.jsonl", "{\n  \"n\": 1\n}\n{\n  \"n\": 2\n} {\"n\": 3}");
    folder.file("noise.bin", "\u{feff}  [3]");
    folder.file("t.csv", "no,kg\n007,1.50\n8,\n").file("more.json", "{\"a\": {\"b\": 1}}");
    folder.file("wrapped.json", r#""{\"a\": [{\"b\": 1}]}""#);
    for (line, input, out) in [
        // Layouts.
        ("query $.a one.json", "", "[\n  1,\n  2.50\n]\n"),
        ("query $.a one.json --indent 0", "", "[\n1,\n2.50\n]\n"),
        ("query $.a one.json --compact", "", "[1,2.50]\n"),
        ("query $.a[*] one.json --compact", "", "[1,2.50]\n"),
        ("query $.a[*] one.json --to jsonl", "", "1\n2.50\n"),
        ("query $.a one.json --to jsonl", "", "1\n2.50\n"),
        ("query $ one.json --to jsonl", "", "{\"a\":[1,2.50]}\n"),
        ("query '[\"x\", 1, null, {a: [\"y\"]}]' --to text", "", "x\n1\nnull\n{\"a\":[\"y\"]}\n"),
        ("query $.nope[*] one.json -q", "", "[]\n"),
        ("query $.nope one.json -q", "", "null\n"),
        ("query $.nope one.json -q --to jsonl", "", ""),
        ("query $.nope one.json -q --to text", "", ""),
        // Where input comes from.
        ("query $.a", "{\"a\": 5}", "5\n"),
        ("query $.a -", "{\"a\": 5}", "5\n"),
        ("query $[0] noise.bin", "", "3\n"),
        ("query '1 + 1'", "", "2\n"),
        // Records.
        ("query $[*].n r.jsonl --compact", "", "[1,2,3]\n"),
        ("query $[*].n pretty.jsonl --compact", "", "[1,2,3]\n"),
        ("query $[1].n r.jsonl", "", "2\n"),
        ("query $[1:].n r.jsonl --compact", "", "[2,3]\n"),
        ("query $[-1].n r.jsonl", "", "3\n"),
        ("query $[?@.n>1].n r.jsonl --compact", "", "[2,3]\n"),
        ("query sum($[*].n) r.jsonl", "", "6\n"),
        ("query $[*].n -f jsonl --compact", "{\"n\":1}", "[1]\n"),
        ("query $[*].n -f jsonl --compact -q", "", "[]\n"),
        (
            "query 'for r at i in $[*] skip 1 return {i, r.n}' r.jsonl --compact",
            "",
            "[{\"i\":1,\"n\":2},{\"i\":2,\"n\":3}]\n",
        ),
        ("query 'for r in $[*] where r.n != 2 first 1 return r.n' r.jsonl --compact", "", "[1]\n"),
        (
            "query 'for r in $[*] order by r.n descending first 2 return r.n' r.jsonl --compact",
            "",
            "[3,2]\n",
        ),
        // Several documents.
        ("query $.a[0] one.json two.json --to jsonl -q", "", "1\n"),
        ("query $.a one.json two.json --gather --compact -q", "", "null\n"),
        ("query $[*].a[*] one.json two.json --gather --compact", "", "[1,2.50]\n"),
        ("query $[*].n r.jsonl pretty.jsonl --gather --compact", "", "[1,2,3,1,2,3]\n"),
        ("query count($[*]) r.jsonl one.json --gather", "", "4\n"),
        ("query $[3].a r.jsonl one.json --gather --compact", "", "[1,2.50]\n"),
        ("query $.a[*] one.json two.json --count", "", "2\n"),
        // CSV: cells are untyped text.
        (
            "query $[*] t.csv --compact",
            "",
            "[{\"no\":\"007\",\"kg\":\"1.50\"},{\"no\":\"8\",\"kg\":\"\"}]\n",
        ),
        ("query $[?@.no==7].kg t.csv --compact", "", "[\"1.50\"]\n"),
        ("query $[?@.no==\"7\"].kg t.csv --compact -q", "", "[]\n"),
        (
            "query 'for r in $[*] order by r.no descending return r.no' t.csv --compact",
            "",
            "[\"8\",\"007\"]\n",
        ),
        (
            "query 'for r in $[*] where present(r.kg) return [r.kg * 2, round(r.kg), r.kg ?? 0, length(r.kg)]' t.csv --compact",
            "",
            "[[3,2,\"1.50\",4]]\n",
        ),
        ("query 'min($[*].no)' t.csv", "", "\"007\"\n"),
        ("query $[*].kg t.csv --paths --to text", "", "$[0]['kg']\n$[1]['kg']\n"),
        (
            "query $[*] -f csv --delimiter ; --unnamed --compact",
            "a;b\n1;\"x;\"\"\"\n",
            "[[\"a\",\"b\"],[\"1\",\"x;\\\"\"]]\n",
        ),
        ("query $[*] -f tsv --compact", "a\tb\n1\t2,3\n", "[{\"a\":\"1\",\"b\":\"2,3\"}]\n"),
        ("query $[*] r.jsonl --to csv", "", "n\n1\n2\n3\n"),
        (
            "query '[{a: 1, b: \"x,\\\"y\"}, {b: \"\", c: true}]' --to csv",
            "",
            "a,b,c\n1,\"x,\"\"y\",\n,,true\n",
        ),
        ("query '[[1, 2], [\"\"], \"x\"]' --to csv", "", "1,2\n\"\"\nx\n"),
        ("query '{a: {b: [1, {c: 2}]}, d: 3}' --to csv --flatten", "", "a.b.0,a.b.1.c,d\n1,2,3\n"),
        ("query '{a: {b: 1}, d: 3}' --to tsv --flatten --columns d,a.b", "", "d\ta.b\n3\t1\n"),
        ("query '{a: 1, b: 2}' --to csv --columns b", "", "b\n2\n"),
        // Convert.
        (
            "convert t.csv --to json --compact",
            "",
            "[{\"no\":\"007\",\"kg\":\"1.50\"},{\"no\":\"8\",\"kg\":\"\"}]\n",
        ),
        ("convert r.jsonl --to csv", "", "n\n1\n2\n3\n"),
        (
            "convert t.csv r.jsonl --to jsonl",
            "",
            "{\"no\":\"007\",\"kg\":\"1.50\"}\n{\"no\":\"8\",\"kg\":\"\"}\n{\"n\":1}\n{\"n\":2}\n{\"n\":3}\n",
        ),
        (
            "convert one.json two.json --gather --to json --compact",
            "",
            "[{\"a\":[1,2.50]},{\"a\":[]}]\n",
        ),
        ("convert one.json --to text", "", "{\"a\":[1,2.50]}\n"),
        ("convert -f csv --to jsonl --output-delimiter ;", "a\n1\n", "{\"a\":\"1\"}\n"),
        // Counts and places.
        ("query $.a[*] one.json --count", "", "2\n"),
        ("query $.a one.json --count", "", "1\n"),
        ("query $.nope one.json --count -q", "", "0\n"),
        ("query $.a[*] one.json --paths --compact", "", "[\"$['a'][0]\",\"$['a'][1]\"]\n"),
        ("query $[?@.n==2].n r.jsonl --paths --to text", "", "$[1]['n']\n"),
        ("query 'for r in $[*] where r.n > 2 return r' r.jsonl --paths --to text", "", "$[2]\n"),
        (
            "query $[*].n r.jsonl pretty.jsonl --gather --paths --to text",
            "",
            "$[0]['n']\n$[1]['n']\n$[2]['n']\n$[3]['n']\n$[4]['n']\n$[5]['n']\n",
        ),
        ("query 'def f(x) = f(x + 1); recover(f(0), 1)' -q", "", "1\n"),
        // Of what begins at the same place the node that is meant.
        ("query $[*].no t.csv --paths --to text", "", "$[0]['no']\n$[1]['no']\n"),
        ("query $[*] t.csv --paths --to text", "", "$[0]\n$[1]\n"),
        ("query $.a --from toml --paths --to text", "[a]\nb=1\n", "$['a']\n"),
        ("query $.a[0] --from toml --paths --to text", "[[a]]\nb=1\n", "$['a'][0]\n"),
        ("query $.a.b --from toml --paths --to text", "a.b.c=1\n", "$['a']['b']\n"),
        ("query $.a --from xml --paths --to text", "<a/>", "/a[1]\n"),
        // Which file.
        (
            "query $..b one.json wrapped.json more.json --paths --to text -q",
            "",
            "more.json  $['a']['b']\n",
        ),
        ("query $..b more.json --paths --to text", "", "$['a']['b']\n"),
        ("query document_uri($) one.json", "", "\"one.json\"\n"),
        ("query document_uri($.a[0]) one.json", "", "\"one.json\"\n"),
        ("query 'document_uri($) ?? 1'", "{}", "1\n"),
        (
            "query '{f: document_uri($), n: count($[*])}' r.jsonl --compact",
            "",
            "{\"f\":\"r.jsonl\",\"n\":3}\n",
        ),
        (
            "query 'distinct(for r in $[*] return document_uri(r.n ?? r.no))' r.jsonl t.csv --gather --compact",
            "",
            "[\"r.jsonl\",\"t.csv\"]\n",
        ),
        (
            "query 'for r in $[*] order by document_uri(r) descending first 1 return document_uri(r)' r.jsonl t.csv --gather --compact",
            "",
            "[\"t.csv\"]\n",
        ),
        (
            "query 'source o = \"one.json\"; [document_uri(o.a), document_uri($.a), document_uri(o.a[0] + 1) ?? 0]' two.json --compact",
            "",
            "[\"one.json\",\"two.json\",0]\n",
        ),
        ("query /a/1 one.json", "", "2.50\n"),
        ("query /a/1 one.json --paths --compact", "", "[\"$['a'][1]\"]\n"),
        ("query '' one.json --syntax pointer --compact", "", "{\"a\":[1,2.50]}\n"),
        ("query $.a[1] one.json --syntax jsonpath", "", "2.50\n"),
        // A document in a text.
        ("query $.a[0].b wrapped.json --unwrap", "", "1\n"),
        ("query $.a[0].b wrapped.json --unwrap --paths --compact", "", "[\"$['a'][0]['b']\"]\n"),
        // Params.
        ("query 'param n: number = 2; $[?@.n == n].n' r.jsonl --compact", "", "[2]\n"),
        ("query 'param n: number = 2; $[?@.n == n].n' r.jsonl --compact -p n=3.0", "", "[3]\n"),
        (
            "query 'param id: text?; for r in $[*] where id == null || text(r.n) == id return r.n' r.jsonl --compact",
            "",
            "[1,2,3]\n",
        ),
        (
            "query 'param id: text?; for r in $[*] where id == null || text(r.n) == id return r.n' r.jsonl --compact -p id=2",
            "",
            "[2]\n",
        ),
    ] {
        let ran = run(&folder, line, input);
        assert_eq!((ran.out.as_str(), ran.err.as_str(), ran.status), (out, "", 0), "{line}");
    }
}

#[test]
fn refusals() {
    let folder = Folder::with_demo();
    folder.file("broken.json", "{\"a\": 1,\n \"b\": }").file("cut.json", "{\"a\": [1,");
    folder.file("deep.json", "[".repeat(513)).file("latin.json", b"{\"a\": \"\xE9\"}");
    folder
        .file("utf16.json", b"\xFF\xFE[\0]\0")
        .file("utf16.bin", b"\xFE\xFF\0[")
        .file("two.json", "1 2")
        .file("text.json", "\"x\"")
        .file("hyphen.json", "{\"pier-9\": 1}");
    folder.file("r.jsonl", "{\"n\":1}\n{\"n\":2,}\n{\"n\":\"x\"}\n");
    folder.file("ragged.csv", "a,b\n1,2\n3\n").file("open.csv", "a,b\n1,\"2\n");
    folder.file("words.csv", "a,b\n1,x\n2,3\n");
    folder.file("late.jsonl", "{\"a\":1}\n".repeat(1000) + "{\"b\":2}\n");
    folder.file("bad.kyr", "for p in $.ports[*]\nwhere p.ramp\nreturn lenght(p)\n");
    let many = "say --gather for one list of all documents, or --to jsonl for a line each";
    for (line, status, parts) in [
        // The command line.
        ("query", 2, &["error: <EXPRESSION> is missing"][..]),
        ("qury $.a", 2, &["there is no command `qury`", "near: query"]),
        ("query $ --cont", 2, &["there is no option `--cont`", "near: --count"]),
        (
            "query $ --from xls",
            2,
            &[
                "`xls` is no value for --from <FORMAT>",
                "`xls` is no format; there are json, jsonl, json-seq, yaml, xml, toml, csv, tsv, text",
            ],
        ),
        ("query $ --indent x", 2, &["`x` is no value for --indent"]),
        ("query $ --param x", 2, &["write it as NAME=VALUE"]),
        ("query $ --count --paths", 2, &["do not go together"]),
        ("query $ --depth 0", 2, &["`0` is no value for --depth"]),
        ("query $.a two.json text.json", 2, &["2 documents give as many results", many]),
        ("query 1 two.json", 2, &["the rule never names $, so it does not read two.json"]),
        // The rule.
        (
            "query $.leg-from text.json",
            2,
            &["the expression:1:3\n      $.leg-from\n        ^^^^^^^^\n", "write ['leg-from']"],
        ),
        (
            "query $.pier-9[0] text.json",
            2,
            &["what follows is no number alone", "write ['pier-9']"],
        ),
        (
            "query $.pier-9 hyphen.json",
            4,
            &["`$.pier` is not there", "write ['pier-9'] for the member of that name"],
        ),
        ("query '$.a ' text.json --syntax jsonpath", 2, &["a blank stands after the path"]),
        ("query a/b text.json --syntax pointer", 2, &["a JSON Pointer begins with /"]),
        ("query /a~2 text.json", 2, &["a ~ stands alone in this JSON Pointer"]),
        ("query $.a --param a=1 text.json", 2, &["the rule has no param `a`"]),
        ("query 'param a; a' -p a=1 -p a=2", 2, &["the param `a` is given twice"]),
        (
            "query 'param a: map; a' -p '{\"b\":1}' -p 'a={\"b\":1,\"b\":2}'",
            2,
            &["write it as NAME=VALUE"],
        ),
        (
            "query 'param a: map; a' -p 'a={\"b\":1,\"b\":2}'",
            2,
            &["the param `a` has the member `b` twice"],
        ),
        (
            "query 'source s = \"text.json\"; s' --source s=text.json --source s=two.json",
            2,
            &["the source `s` is given twice"],
        ),
        ("query $ text.json --source s=text.json", 2, &["the rule has no source `s`"]),
        (
            "query //a --syntax xpath --namespace p=urn:a --namespace p=urn:b text.json",
            2,
            &["--namespace gives the prefix `p` twice"],
        ),
        ("query 'param a: text; a'", 2, &["the param `a` is missing", "give it with --param a=…"]),
        (
            "reshape bad.kyr text.json",
            2,
            &["bad.kyr:2:7", "`p.ramp` alone is no condition", "bad.kyr:3:8", "near: length"],
        ),
        ("reshape nope.kyr text.json", 2, &["there is no rule file nope.kyr"]),
        ("query '1 + 1' --paths", 2, &["places in the input are wanted", "leave --paths out"]),
        // The input.
        ("query $ nope.json", 3, &["there is no file nope.json"]),
        ("query $ rules", 3, &["rules is a folder"]),
        ("query $ rules/dearest.kyr", 3, &["the format of rules/dearest.kyr is not known"]),
        (
            "query $ broken.json",
            3,
            &[
                "no JSON value begins like this\n  broken.json:2:7\n       \"b\": }\n            ^\n",
            ],
        ),
        ("query $ cut.json", 3, &["ends inside a list or map", "cut.json:1:10", "cut.json:1:7"]),
        ("query $ deep.json", 3, &["nest deeper than 512 levels", "deep.json:1:513", "--depth"]),
        ("query $ latin.json", 3, &["these bytes are not UTF-8", "latin.json:1:8"]),
        ("query $ two.json", 3, &["more text follows", "two.json:1:3", "--from jsonl"]),
        ("query $ two.json --unwrap", 3, &["more text follows"]),
        (
            "query $ text.json --unwrap",
            3,
            &["no JSON value begins like this", "text.json, unwrapped:1:1"],
        ),
        (
            "query $ timetable.json --unwrap",
            3,
            &["timetable.json is a map, not a text that holds a document"],
        ),
        (
            "query $[*].n r.jsonl",
            3,
            &["r.jsonl:2:7\n      {\"n\":2,}\n            ^\n", "take the comma away"],
        ),
        // The data.
        (
            "query 'for r in $[*] return r.n + 1' r.jsonl --lenient",
            4,
            &["this record is skipped", "r.jsonl:3:6  $[1].n", "the expression:1:22"],
        ),
        ("query $.a+1 text.json", 4, &["`$.a` is not there", "text.json:1:1  $\n"]),
        // The output.
        ("query 1 -o nope/x.json", 5, &["the folder of nope/x.json is not there"]),
        ("query 1 -o rules", 5, &["rules is a folder"]),
        ("demo rules", 5, &["name a folder that is not there yet"]),
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.status, status, "{line}: {}", ran.err);
        for part in parts {
            assert!(ran.err.contains(part), "{line}: {}", ran.err);
        }
        assert!(
            ran.err.starts_with("error: ") || ran.err.starts_with("warning: "),
            "{line}: {}",
            ran.err
        );
    }
}

#[test]
fn warnings_and_how_loud_they_are() {
    let folder = Folder::with_demo();
    let misspelt = "query $.routes[*].nam timetable.json --compact";
    let ran = run(&folder, misspelt, "");
    assert_eq!((ran.out.as_str(), ran.status), ("[]\n", 0));
    assert_eq!(
        ran.err,
        "warning: no `nam` under $.routes[*]\n  the expression:1:12\n      $.routes[*].nam\n                 ^^^^\n  near: name, in 4 of 4\n"
    );
    assert_eq!(run(&folder, &format!("{misspelt} -q"), "").err, "");
    let verbose = run(&folder, &format!("{misspelt} -v"), "").err;
    assert!(
        verbose.starts_with("note: timetable.json: read as json, by its extension .json\n"),
        "{verbose}"
    );
    let colored = run(&folder, &format!("{misspelt} --color always"), "").err;
    assert!(colored.starts_with("\u{1b}["), "{colored}");

    assert_eq!(run(&folder, "query $.nope timetable.json --require", "").status, 1);
    assert_eq!(run(&folder, "query $.routes[*].nope timetable.json --require", "").status, 1);
    assert_eq!(run(&folder, "query $.routes timetable.json --require --compact", "").status, 0);
    assert_eq!(
        run(&folder, "query 'if false then 1'", "").err,
        "warning: the result is nothing, written as null\n"
    );
    let twice = run(&folder, "query $.a", "{\"a\": 1, \"b\": {\"c\": 1, \"c\": 2}, \"a\": 3}");
    assert_eq!(twice.out, "3\n");
    assert!(
        twice.err.contains(
            "the member `c` is given twice; the later value is taken\n  standard input:1:29  $.b.c"
        ),
        "{}",
        twice.err
    );
    assert!(
        twice.err.contains("standard input:1:38  $.a") && twice.err.contains("standard input:1:7"),
        "{}",
        twice.err
    );
}

#[test]
fn broken_records_are_skipped_and_counted() {
    let folder = Folder::with_demo();
    let mut records = Vec::new();
    for n in 0..9 {
        records.extend_from_slice(format!("{{\"n\": {n}}}\n").as_bytes());
        records
            .extend_from_slice([&b"{\"n\": \n"[..], b"{\"n\": \"\xFF\"}\n", b"nonsense\n"][n % 3]);
    }
    folder.file("broken.jsonl", &records);
    for rule in ["$[*].n", "for r in $[*] order by r.n return r.n"] {
        let ran = folder.run(&["query", rule, "broken.jsonl", "--lenient", "--compact"], b"");
        assert_eq!((ran.out.as_str(), ran.status), ("[0,1,2,3,4,5,6,7,8]\n", 0), "{}", ran.err);
        assert!(ran.err.contains("9 broken records were skipped\n"), "{}", ran.err);
        assert!(ran.err.contains("broken.jsonl:4:8"), "{}", ran.err);
    }
}

#[test]
fn tables_stream_over_any_block_border() {
    let folder = Folder::with_demo();
    // Quoted cells with line ends, so that blocks end inside of rows; a broken row now and then.
    let mut table = String::from("no,text\r\n");
    for n in 0..40_000 {
        table += &format!("{n},\"line one\nline \"\"two\"\" of {n}\"\r\n");
        if n % 10_000 == 5 {
            table += "just one cell\r\n";
        }
    }
    let rule = "for r in $[*] where r.no >= 39998 return r.text";
    let ran = folder.run(&["query", rule, "-f", "csv", "--lenient", "--compact"], table.as_bytes());
    assert_eq!(
        ran.out,
        "[\"line one\\nline \\\"two\\\" of 39998\",\"line one\\nline \\\"two\\\" of 39999\"]\n"
    );
    assert!(ran.err.contains("4 broken records were skipped"), "{}", ran.err);
    assert!(
        ran.err.contains("standard input:14:1") && ran.err.contains("standard input:20015:1"),
        "{}",
        ran.err
    );
    let back =
        folder.run(&["convert", "-f", "csv", "--lenient", "-q", "--to", "csv"], table.as_bytes());
    let kept = table.replace("just one cell\r\n", "").replace("\r\n", "\n");
    assert!(back.out == kept);
}

#[test]
fn lines_before_a_failure_are_written() {
    let folder = Folder::with_demo();
    folder.file("r.jsonl", "{\"n\":1}\n{\"n\":2}\n{\"n\":}\n");
    for (to, out) in [("jsonl", "1\n2\n"), ("text", "1\n2\n"), ("json", "")] {
        let ran = run(&folder, &format!("query $[*].n r.jsonl --to {to}"), "");
        assert_eq!((ran.out.as_str(), ran.status), (out, 3), "{to}");
    }
}

#[test]
fn an_output_file_is_replaced_whole_or_not_at_all() {
    let folder = Folder::with_demo();
    folder.file("out.json", "precious").file("r.jsonl", "{\"n\":1}\n".repeat(50_000) + "{\"n\":");
    let path = folder.path().join("out.json");
    let ran = run(&folder, "query $[*].n r.jsonl -o out.json", "");
    assert_eq!(ran.status, 3, "{}", ran.err);
    assert_eq!(std::fs::read_to_string(&path).unwrap(), "precious");
    assert_eq!(run(&folder, "query $[?@.n==1].n r.jsonl -o out.json --lenient -q", "").status, 0);
    assert!(std::fs::read_to_string(&path).unwrap().starts_with("[\n  1,\n"));
    // The input may be the output.
    assert_eq!(run(&folder, "query $[:2] out.json -o out.json", "").status, 0);
    assert_eq!(std::fs::read_to_string(&path).unwrap(), "[\n  1,\n  1\n]\n");
    assert_eq!(run(&folder, "query $[*] out.json -o out.jsonl", "").status, 0);
    assert_eq!(std::fs::read_to_string(folder.path().join("out.jsonl")).unwrap(), "1\n1\n");
    let left: Vec<_> =
        std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(!left.iter().any(|name| name.to_string_lossy().starts_with(".kyanite")), "{left:?}");
}

#[cfg(unix)]
#[test]
fn outputs_keep_their_permissions_and_links() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let folder = Folder::with_demo();
    folder.file("real.json", "old");
    let real = folder.path().join("real.json");
    std::fs::set_permissions(&real, std::fs::Permissions::from_mode(0o640)).unwrap();
    symlink("real.json", folder.path().join("link.json")).unwrap();
    assert_eq!(run(&folder, "query 1 -o link.json", "").status, 0);
    assert_eq!(std::fs::read_to_string(&real).unwrap(), "1\n");
    assert_eq!(std::fs::metadata(&real).unwrap().permissions().mode() & 0o777, 0o640);
    assert!(folder.path().join("link.json").is_symlink());
    assert_eq!(run(&folder, "query 1 -o /dev/null", "").status, 0);
}

#[test]
fn a_closed_pipe_ends_the_program_quietly() {
    let folder = Folder::with_demo();
    let mut child = Command::new(PROGRAM)
        .args([
            "query",
            "for b in $[*] for c in [b, b, b, b, b, b] return c",
            "bookings.jsonl",
            "--to",
            "jsonl",
        ])
        .current_dir(folder.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut first = [0; 10];
    child.stdout.take().unwrap().read_exact(&mut first).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(0));
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
}

#[test]
fn records_run_in_flat_memory_and_any_block_size() {
    let folder = Folder::with_demo();
    // A record larger than a block, between small ones, and records that end right at block borders.
    let large = format!("{{\"id\":\"{}\"}}\n", "x".repeat(900_000));
    let input =
        format!("{{\"id\":\"a\"}}\n{large}{}{{\"id\":\"z\"}}", "{\"id\":\"b\"}\n".repeat(100_000));
    let ran = folder.run(&["query", "$[*].id", "-f", "jsonl", "--count"], input.as_bytes());
    assert_eq!(ran.out, "100003\n", "{}", ran.err);
    let last = folder.run(&["query", "$[100002].id", "-f", "jsonl"], input.as_bytes());
    assert_eq!(last.out, "\"z\"\n", "{}", last.err);
    let broken = input + "\n{\"id\":}";
    let ran = folder.run(&["query", "$[*].id", "-f", "jsonl", "--count"], broken.as_bytes());
    assert!(ran.err.contains("standard input:100004:7"), "{}", ran.err);
}

#[test]
fn tuples_without_room_in_memory_go_to_files_without_names() {
    let folder = Folder::with_demo();
    let bookings = run(&folder, "demo --bookings 2MB", "").out;
    folder.file("b.jsonl", bookings);
    std::fs::create_dir(folder.path().join("temporary")).unwrap();
    let sort = "query 'for b in $[*] order by b.fare.amount, b.id return b.id' b.jsonl";
    let whole = run(&folder, sort, "").out;
    let with_room = |folder: &Folder, temporary: &str| {
        let mut command = Command::new(PROGRAM);
        let rule = "for b in $[*] order by b.fare.amount, b.id return b.id";
        command.args(["query", rule, "b.jsonl", "--memory", "100kB"]);
        command.current_dir(folder.path()).env("TMPDIR", temporary).output().unwrap()
    };
    let spilled = with_room(&folder, "temporary");
    assert!(whole.as_bytes() == spilled.stdout && whole.len() > 50_000);
    let left = std::fs::read_dir(folder.path().join("temporary")).unwrap();
    assert_eq!(left.count(), 0);
    let failed = with_room(&folder, "nowhere");
    let told = String::from_utf8_lossy(&failed.stderr).into_owned();
    assert!(told.contains("cannot go to a temporary file") && told.contains("TMPDIR"), "{told}");
    assert!(failed.stdout.is_empty() && failed.status.code() == Some(5));
}

#[test]
fn deep_documents_and_the_limit() {
    let folder = Folder::with_demo();
    folder.file("deep.json", "[".repeat(100_000) + &"]".repeat(100_000));
    let ran = run(&folder, "query $ deep.json --depth 100000 --compact", "");
    assert_eq!((ran.out.len(), ran.status), (200_001, 0), "{}", ran.err);
    assert_eq!(run(&folder, "query $..[5] deep.json --depth 100000 --compact -q", "").out, "[]\n");
    assert_eq!(run(&folder, "query '$ == $' deep.json --depth 100000", "").out, "true\n");
}

#[test]
fn the_tour_runs_and_bookings_are_the_same_every_time() {
    let folder = Folder::with_demo();
    let tour = run(&folder, "demo ferries", "");
    assert_eq!((tour.status, tour.err.as_str()), (0, ""));
    // Errors are the subject of one step, and of no other.
    for step in tour.out.split("\n== ").skip(1) {
        let finds = step.starts_with("Validate ==");
        assert_eq!(step.contains("error:"), finds, "{step}");
    }
    assert!(folder.path().join("ferries/rules/dearest.kyr").is_file());
    let bookings = std::fs::read_to_string(folder.path().join("ferries/bookings.jsonl")).unwrap();
    let generated = run(&folder, "demo --bookings 2400", "").out;
    assert!(bookings == generated);
    let sized = run(&folder, "demo --bookings 100kB --seed 5", "").out;
    assert!((100_000..101_000).contains(&sized.len()) && !bookings.starts_with(&sized[..500]));
}

#[test]
fn completions_and_manual() {
    let folder = Folder::with_demo();
    for shell in ["bash", "zsh", "fish"] {
        assert!(
            run(&folder, &format!("completions {shell}"), "").out.contains("reshape"),
            "{shell}"
        );
    }
    let manual = run(&folder, "manual", "").out;
    assert!(manual.contains("kyanite\\-query") || manual.contains("kyanite query"), "{manual}");
}

#[test]
fn libraries_and_notes() {
    let folder = Folder::with_demo();
    std::fs::create_dir(folder.path().join("lib")).unwrap();
    folder.file("lib/prices.kyr", "# prices\nuse \"round.kyr\"\ndef gross(n) = cents(n * 1.25)\n");
    folder.file("lib/round.kyr", "def cents(n) = round(n, 2)\n");
    folder.file("fares.kyr", "use \"lib/prices.kyr\"\nfor t in $[*] first 2 return note(gross(t.price), \"gross of a fare\")\n");
    let ran = run(&folder, "reshape fares.kyr tariff.csv --compact", "");
    assert_eq!((ran.out.as_str(), ran.status), ("[52.5,26.25]\n", 0), "{}", ran.err);
    assert!(ran.err.contains("warning: gross of a fare (2 times)"), "{}", ran.err);
    for (library, part) in [
        (
            "def cents(n) = round(n, 2, 3)\n",
            "lib/round.kyr:1:16\n      def cents(n) = round(n, 2, 3)",
        ),
        ("def cents(n) = n\nparam p\n", "lib/round.kyr:2:1\n      param p\n"),
        ("def cents(n) = n / 0\n", "lib/round.kyr:1:16\n"),
        ("def gross(n) = n\ndef cents(n) = n\n", "the def `gross` is written twice"),
    ] {
        folder.file("lib/round.kyr", library);
        let ran = run(&folder, "reshape fares.kyr tariff.csv", "");
        assert!(ran.status != 0 && ran.err.contains(part), "{library}: {}", ran.err);
    }
    folder
        .file("lib/round.kyr", "def cents(n) = round(n, 2)\n")
        .file("none.kyr", "use \"nope.kyr\"\n$\n");
    folder.file("pair.kyr", "for a in [{}] for t in $[*] where t.nope == a.id return 1\n");
    let ran = run(&folder, "reshape pair.kyr tariff.csv --compact", "");
    assert!(ran.err.contains("a join pairs items that have no value with `a.id`"), "{}", ran.err);
    let ran = run(&folder, "rules check none.kyr", "");
    assert!(
        ran.status == 2 && ran.err.contains("the library nope.kyr cannot be read"),
        "{}",
        ran.err
    );
}

/// The files of a folder that are not complete.
fn parts(folder: &Folder) -> Vec<std::path::PathBuf> {
    let entries = std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().path());
    entries.filter(|path| path.extension().is_some_and(|extension| extension == "part")).collect()
}

#[test]
fn what_a_killed_run_leaves_behind_goes_with_the_next() {
    let folder = Folder::with_demo();
    folder.file("out.json", "\"before\"\n").file(".kyanite-other.part", "in use");
    let mut killed = Command::new(PROGRAM)
        .args(["convert", "-", "-f", "jsonl", "-o", "out.json"])
        .current_dir(folder.path())
        .stdin(Stdio::piped())
        .spawn()
        .unwrap();
    // It waits for more input, its output half done.
    while parts(&folder).len() < 2 {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    killed.kill().unwrap();
    killed.wait().unwrap();
    let in_use = folder.path().join(".kyanite-other.part");
    let long_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(3600);
    let files: Vec<std::fs::File> = parts(&folder)
        .iter()
        .map(|path| std::fs::OpenOptions::new().write(true).open(path).unwrap())
        .collect();
    files.iter().for_each(|file| file.set_modified(long_ago).unwrap());
    drop(files);
    let lock = std::fs::File::open(&in_use).unwrap();
    lock.lock().unwrap();
    assert_eq!(std::fs::read_to_string(folder.path().join("out.json")).unwrap(), "\"before\"\n");
    assert_eq!(run(&folder, "query 1 -o out.json", "").status, 0);
    assert_eq!(parts(&folder), [in_use]);
    assert_eq!(std::fs::read_to_string(folder.path().join("out.json")).unwrap(), "1\n");
}

#[test]
fn a_large_list_is_converted_item_by_item() {
    let folder = Folder::with_demo();
    let note = "x".repeat(900);
    let items: Vec<String> =
        (0..10_000).map(|n| format!("{{\"n\":{n},\"note\":\"{note}\"}}")).collect();
    folder.file("list.json", format!("\u{feff} [{}]", items.join(",")));
    folder.file("cut.json", format!("[{}", items.join(",")));
    let lines: String = items.iter().map(|item| format!("{item}\n")).collect();
    for (to, wanted) in [
        ("jsonl", lines),
        ("json --compact", format!("[{}]\n", items.join(","))),
        ("csv", (0..10_000).fold("n,note\n".into(), |csv, n| csv + &format!("{n},{note}\n"))),
    ] {
        let ran = run(&folder, &format!("convert list.json --to {to}"), "");
        assert_eq!(ran.status, 0, "{to}: {}", ran.err);
        assert!(ran.out == wanted, "{to}");
    }
    let ran = run(&folder, "convert cut.json --to jsonl -o cut.jsonl", "");
    assert_eq!(ran.status, 3);
    assert!(ran.err.contains("the document ends inside\n  cut.json:1:"), "{}", ran.err);
    assert!(!folder.path().join("cut.jsonl").exists());
}

/// What a run read, wrote and took.
#[test]
fn what_a_run_took() {
    let folder = Folder::with_demo();
    folder.file("broken.jsonl", "{\"a\": 1}\n{\"a\": }\n{\"a\": 3}\n");
    for (line, expected) in [
        (
            "query $[?@.vehicle].id bookings.jsonl --to text --stats",
            &["read 2400 records, 812 kB, in ", "made 982 results"][..],
        ),
        (
            "query $[?@.vehicle].id bookings.jsonl --to text --stats --avoid=",
            &["took 2", " of them by templates, 2"],
        ),
        ("query $[*] bookings.jsonl --stats --avoid=templates,copies", &["MB of memory\n"]),
        (
            "query $[*].a broken.jsonl --lenient --stats",
            &["read 2 records", "skipped 1 broken record"],
        ),
        ("convert pier-feed.xml --to json --lenient --stats", &["read 1 record", "repaired "]),
        (
            "reshape rules/departures.kyr timetable.json --stats",
            &["read 1 record", "made 57 results"],
        ),
        ("survey bookings.jsonl --stats --threads 2", &["read 2400 records", "on 2 threads"]),
        (
            "split bookings.jsonl --records 1000 --into parts --stats",
            &["read 2400 records", "made 3 parts"],
        ),
        ("diff timetable.json timetable.json --stats", &["read 2 records", "made 0 changes"]),
        (
            "validate --schema schemas/booking.json bookings.jsonl --stats",
            &["read 2400 records", "made 1 finding"],
        ),
        (
            "query $[*] bookings.jsonl --stats --messages json --avoid=",
            &["{\"stats\":{\"bytes\":812", "\"records\":2400,", "\"copied\":2", "\"made\":2400"],
        ),
    ] {
        let ran = run(&folder, line, "");
        for part in expected {
            assert!(ran.err.contains(part), "{line}: {}", ran.err);
        }
        assert!(!ran.out.contains("stats"), "{line}");
    }
    let ran = run(&folder, "query $[*] bookings.jsonl", "");
    assert!(ran.err.is_empty());
}
