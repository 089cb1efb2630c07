//! XML through the built program: streams, encodings, repairs, namespaces, the record view.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use std::fmt::Write as _;
use std::process::Command;

use support::{Folder, PROGRAM, run};

/// A document of more than one block: its root element `r` holds `count` elements `i`.
fn many(count: usize) -> String {
    format!("<r>{}</r>", "<i>abcdefg</i>\n".repeat(count))
}

/// The root as the record, and roots of another name, in documents of one block and of many.
#[test]
fn the_root_element_of_documents_of_any_size() {
    let folder = Folder::with_demo();
    for count in [3, 40_000] {
        folder.file("r.xml", many(count));
        for (rule, out, said) in [
            ("count($.r[*])", "1", ""),
            ("count($.r.i[*])", &*count.to_string(), ""),
            ("for e in $.r[*] return count(e.i[*])", &*format!("[\n  {count}\n]"), ""),
            (
                "count($.x.i[*])",
                "0",
                "no `x` under $\n  the expression:1:8\n      count($.x.i[*])\n             ^^\n  there are: r",
            ),
            ("count($.r.x[*])", "0", "no `x` under $.r"),
        ] {
            let ran = folder.run(&["query", rule, "r.xml"], b"");
            assert_eq!((ran.status, ran.out.trim_end()), (0, out), "{rule}");
            assert!(
                ran.err.contains(said) && (said.is_empty() == ran.err.is_empty()),
                "{}",
                ran.err
            );
            assert!(!ran.err.contains("r.xml:1:1"), "{}", ran.err);
        }
    }
}

/// A document type declaration, lenient reading and another encoding change nothing about what is read, nor do they make a
/// document be held: 9 MB go through a program that may have 170 MB in all, stacks and code among them, which held are too much.
#[cfg(target_os = "linux")]
#[test]
fn declarations_repairs_and_encodings_stream() {
    let folder = Folder::with_demo();
    let records = 300_000;
    let body = |record: &str| format!("<r>\n{}</r>\n", record.repeat(records));
    let declared = "<!DOCTYPE r [<!ENTITY e \"x y\"><!ATTLIST i k CDATA \"v\">]>\n";
    let latin = "<?xml version=\"1.0\" encoding=\"ISO-8859-15\"?>\n";
    for (text, options, rule, out) in [
        (
            declared.to_owned() + &body("<i><j>a &e; b</j><j>c</j></i>\n"),
            "",
            "count($.r.i[?@.@k])",
            "300000",
        ),
        (
            body("<i a=1><j>a & b</j><j>c</j></i>\n"),
            "--lenient",
            "count($.r.i[?@.j[0] == 'a & b'])",
            "300000",
        ),
        (
            latin.to_owned() + &body("<i><j>abcdefgh</j><j>c</j></i>\n"),
            "",
            "count($.r.i[*])",
            "300000",
        ),
    ] {
        folder.file("big.xml", text);
        let line = format!(
            "unset RUST_BACKTRACE; ulimit -v 170000; MALLOC_ARENA_MAX=1 {PROGRAM} query \"{rule}\" big.xml --threads 1 {options}"
        );
        let ran = folder.run_command(Command::new("sh").args(["-c", &line]), b"");
        assert_eq!((ran.status, ran.out.trim_end()), (0, out), "{}", ran.err);
        assert!(ran.err.is_empty() != (options == "--lenient"), "{}", ran.err);
        let held = line.replace("$.r.i", "$..i");
        let ran = folder.run_command(Command::new("sh").args(["-c", &held]), b"");
        assert_ne!(ran.status, 0, "the limit is no limit");
    }
}

#[test]
fn every_encoding_by_its_declaration_or_by_option() {
    let folder = Folder::with_demo();
    let declared = |name: &str, text: &[u8]| {
        [format!("<?xml version='1.0' encoding='{name}'?><a><b>").as_bytes(), text, b"</b></a>"]
            .concat()
    };
    for (name, text, out) in [
        ("iso-8859-1", &b"\xF8\x80"[..], "ø\u{80}"),
        ("iso-8859-15", b"\xA4", "€"),
        ("windows-1251", b"\xCF\xF0\xE8", "При"),
        ("Shift_JIS", b"\x8D\xC4", "再"),
        ("EUC-KR", b"\xB0\xA1", "가"),
        ("gb18030", b"\x81\x30\x81\x30", "\u{80}"),
        ("koi8-r", b"\xC1", "а"),
    ] {
        folder.file("a.xml", declared(name, text));
        for rule in ["$.a.b", "$.a.b[*]"] {
            let ran = folder.run(&["query", rule, "a.xml", "--to", "text"], b"");
            assert_eq!((ran.out.trim_end_matches('\n'), ran.err.as_str()), (out, ""), "{name}");
        }
    }
    for (line, input, out) in [
        ("query $[0].a --from csv --encoding latin1", &b"a\n\xF8\n"[..], "\"ø\"\n"),
        ("query $[0] --from text --encoding windows-1252", b"\x80\n", "\"€\"\n"),
        ("query $.a --from json --encoding utf-16le", b"{\0\"\0a\0\"\0:\x001\0}\0", "1\n"),
        ("query $.a --from yaml --encoding koi8-r", b"a: \xC1\n", "\"а\"\n"),
        ("query $.a --encoding koi8-r", b"{\"a\": \"\xC1\"}", "\"а\"\n"),
        // What is said counts more than what the document says.
        (
            "query $.a --encoding iso-8859-15",
            b"<?xml version='1.0' encoding='x'?><a>\xA4</a>",
            "\"€\"\n",
        ),
    ] {
        let words: Vec<&str> = line.split(' ').collect();
        let ran = folder.run(&words, input);
        assert_eq!((ran.out.as_str(), ran.err.as_str()), (out, ""), "{line}");
    }
    for (line, input, status, said) in [
        ("query $ --from csv --encoding ebcdic", &b""[..], 2, "no encoding has this name"),
        (
            "query $ --from csv --encoding ascii",
            b"a\nb\xF8\n",
            3,
            "error: these bytes are not US-ASCII\n  standard input:2:2\n",
        ),
        (
            "query $ --from json",
            b"[\n \"\xF8\"]",
            3,
            "  standard input:2:3\n       \"\u{fffd}\"]\n        ^\n  say the encoding of the input with --encoding NAME\n",
        ),
        (
            "query $.a --lenient",
            b"<a>\n\xF8\xF8</a>",
            0,
            "warning: repaired 2 bytes that are no characters; the first: bytes that are no characters; they are read as U+FFFD\n  standard input:2:1\n",
        ),
        (
            "query $ --from xml",
            b"<?xml version='1.0' encoding='ebcdic'?><a/>",
            3,
            "error: the encoding ebcdic is not known\n  standard input:1:31\n",
        ),
    ] {
        let words: Vec<&str> = line.split(' ').collect();
        let ran = folder.run(&words, input);
        assert_eq!(ran.status, status, "{line}: {}", ran.err);
        assert!(ran.err.contains(said), "{line}: {}", ran.err);
    }
}

/// Thousands of repairs are a line for each sort, and take time for each once.
#[test]
fn repairs_by_sorts() {
    let folder = Folder::with_demo();
    let count = 40_000;
    let mut text = String::from("<f>\n");
    for number in 0..count {
        let _ = writeln!(text, "<p:x a={number}>&</p:x>");
    }
    folder.file("f.xml", text + "</f>");
    for rule in ["count($.f.x[*])", "count($..x)"] {
        let ran = folder.run(&["query", rule, "f.xml", "--lenient"], b"");
        assert_eq!((ran.status, ran.out.as_str()), (0, "40000\n"));
        for said in [
            "repaired 40000 names that no namespace has; the first: the prefix `p` is not declared",
            "repaired 40000 attributes that are not well-formed; the first: the value of the attribute a",
            "repaired 40000 signs & that begin no reference; the first: a bare & stands here",
            "f.xml:4:8\n",
            "see each of them with --repairs",
        ] {
            assert!(ran.err.contains(said), "{said}: {}", ran.err);
        }
        assert!(ran.err.lines().count() < 40);
        let each = folder.run(&["query", rule, "f.xml", "--lenient", "--repairs"], b"");
        assert_eq!(each.err.matches("warning: repaired: a bare &").count(), count);
        assert!(each.err.contains("f.xml:40001:14\n"));
    }
    // Many in one line.
    let signs = format!("<a>{}</a>", "&".repeat(500_000));
    let ran = run(&folder, "query count($..a) --from xml --lenient", &signs);
    assert!(ran.err.contains("repaired 500000 signs"), "{}", ran.err);
}

/// What would take time or room without end is refused, with the option that allows it.
#[test]
fn hostile_declarations_are_limited() {
    let folder = Folder::with_demo();
    let chain = |sign: &str, reference: &str| {
        let mut text = format!("<!DOCTYPE r [<!ENTITY {sign}e0 ''>");
        for number in 1..5_000 {
            let _ = write!(text, "<!ENTITY {sign}e{number} '{reference}e{};'>", number - 1);
        }
        text
    };
    let general = chain("", "&");
    let deep = "entities refer to each other more than 512 deep";
    let attributes: String = (0..2000).map(|number| format!(" a{number} CDATA 'v'")).collect();
    let defaults =
        format!("<!DOCTYPE r [<!ATTLIST i{attributes}>]><r>{}</r>", "<i/>".repeat(20_000));
    for (text, said) in [
        (format!("{general}]><r>&e4999;</r>"), deep),
        (format!("{general}]><r a='&e4999;'/>"), deep),
        (format!("{}%e4999;]><r/>", chain("% ", "&#37;")), deep),
        (defaults, "the entities of this document expand to more than 1000000 bytes"),
    ] {
        for rule in ["$.r.i[*]", "$..i"] {
            let ran = run(&folder, &format!("query {rule} --from xml --expansion 1MB"), &text);
            assert_eq!(ran.status, 3);
            assert!(ran.err.contains(said), "{}", ran.err);
        }
    }
    // Prefixes are found at once, however many there are.
    let declared: String =
        (0..30_000).map(|number| format!(" xmlns:p{number}='u{number}'")).collect();
    let used: String = (0..30_000).map(|number| format!("<p{number}:x/>")).collect();
    let ran = run(
        &folder,
        "query count($..x) --from xml --drop-namespaces",
        &format!("<r{declared}>{used}</r>"),
    );
    assert_eq!((ran.status, ran.out.as_str()), (0, "30000\n"), "{}", ran.err);
}
