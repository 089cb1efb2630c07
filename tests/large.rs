//! Inputs of more than 4 GiB, where places and counts no longer fit 32 bits.
//!
//! Each format is written into the standard input of the program, record after record, and nothing of it is kept on a disk. The last
//! record has a flaw: its place shows that lines, columns and records are still counted right.
//!
//! That takes minutes in release, so it runs only when asked for: `cargo test --release --test large -- --ignored`.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "tests say what is wrong by panicking"
)]

use std::io::{BufRead, BufReader, BufWriter, Read, Write};
use std::process::{Command, Stdio};

/// The built program.
const PROGRAM: &str = env!("CARGO_BIN_EXE_kyanite");

/// Positions behind it take more than 32 bits.
const FOUR_GIB: u64 = 1 << 32;

/// How many bytes of text each record has.
const TEXT: usize = 64 * 1024;

/// A stream of records in one format, and what the program says of it.
struct Case {
    /// Run in a folder with this file.
    file: (&'static str, &'static str),
    arguments: &'static [&'static str],
    /// Whether the result is the number of each record.
    gives_numbers: bool,
    /// What stands before the records.
    begin: &'static str,
    /// What stands around the number of a record and its text.
    record: [&'static str; 3],
    /// The record that breaks the stream.
    flaw: &'static str,
    /// How many lines stand before the records, and how many each has; none where all stand on one line.
    lines: (u64, u64),
    /// Where the flaw is, as line of its record and column, and what is said of it.
    place: (u64, u64),
    says: &'static str,
    status: i32,
}

/// What cases have in common: a query for the numbers of records, each on a line of its own.
const QUERY: Case = Case {
    file: ("unused", ""),
    arguments: &[],
    gives_numbers: true,
    begin: "",
    record: [""; 3],
    flaw: "",
    lines: (0, 1),
    place: (1, 1),
    says: "",
    status: 3,
};

/// Writes the case into the program, and asserts that it gives the number of each record and then tells of the flaw.
fn assert_goes_on(case: &Case) {
    let arguments = case.arguments;
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join(case.file.0), case.file.1).unwrap();
    let mut command = Command::new(PROGRAM);
    command
        .current_dir(folder.path())
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let input = child.stdin.take().unwrap();
    let (begin, [before, between, behind]) = (case.begin, case.record);
    let flaw = case.flaw;
    let writer = std::thread::spawn(move || {
        let mut input = BufWriter::with_capacity(1 << 20, input);
        let text = "x".repeat(TEXT);
        let mut written = begin.len() as u64;
        let mut records = 0;
        input.write_all(begin.as_bytes()).unwrap();
        while written <= FOUR_GIB {
            records += 1;
            let head = format!("{before}{records}{between}");
            for part in [&head, &text, behind] {
                input.write_all(part.as_bytes()).unwrap();
                written += part.len() as u64;
            }
        }
        // The program may end before it has read all that is behind the flaw.
        let _ = input.write_all(flaw.as_bytes()).and_then(|()| input.flush());
        (records, written)
    });
    let results = BufReader::new(child.stdout.take().unwrap());
    let mut messages = child.stderr.take().unwrap();
    let told = std::thread::spawn(move || {
        let mut told = String::new();
        messages.read_to_string(&mut told).unwrap();
        told
    });
    let (mut seen, mut report) = (0, String::new());
    for line in results.lines() {
        let line = line.unwrap();
        seen += 1;
        if case.gives_numbers {
            assert_eq!(line, seen.to_string(), "{arguments:?}");
        } else {
            report += &(line + "\n");
        }
    }
    let (records, written): (u64, u64) = writer.join().unwrap();
    let told = told.join().unwrap() + &report;
    assert_eq!(child.wait().unwrap().code(), Some(case.status), "{arguments:?}: {told}");
    if case.gives_numbers {
        assert_eq!(seen, records, "{arguments:?}: {told}");
    }
    let (lines_before, lines_each) = case.lines;
    let (line, mut column) = case.place;
    if lines_each == 0 {
        column += written;
    }
    let place = format!("standard input:{}:{column}", lines_before + records * lines_each + line);
    assert!(told.contains(&place), "{arguments:?}: {place} is not in {told}");
    assert!(told.contains(case.says), "{arguments:?}: {told}");
}

/// The same of records of JSON, each on a line of its own.
const JSON: Case = Case {
    record: ["{\"id\":", ",\"text\":\"", "\"}\n"],
    flaw: "{\"id\":2 3}\n",
    place: (1, 9),
    says: "a comma or `}` is missing here",
    ..QUERY
};

/// The same of elements of XML.
const XML: Case = Case {
    begin: "<bookings>\n",
    record: ["<booking><id>", "</id><text>", "</text></booking>\n"],
    flaw: "<booking><id>2</i></booking>\n",
    lines: (1, 1),
    place: (1, 15),
    says: "</i> stands where </id> is missing",
    ..QUERY
};

/// Declares a test of each case.
macro_rules! cases {
    ($($name:ident: $case:expr;)*) => {$(
        #[test]
        #[ignore = "4 GiB take a while; CI asks for it in release"]
        fn $name() {
            assert_goes_on(&$case);
        }
    )*};
}

cases! {
    json_lines_go_on_behind_4_gib: Case {
        arguments: &["query", "$[*].id", "-", "--from", "jsonl", "--to", "jsonl"],
        ..JSON
    };
    a_json_list_goes_on_behind_4_gib: Case {
        arguments: &["query", "$.bookings[*].id", "-", "--from", "json", "--to", "jsonl"],
        begin: "{\"bookings\": [\n",
        record: ["{\"id\":", ",\n\"text\":\"", "\"},\n"],
        lines: (1, 2),
        ..JSON
    };
    a_list_on_one_line_goes_on_behind_4_gib: Case {
        arguments: &["query", "$[*].id", "-", "--from", "json", "--to", "jsonl"],
        begin: "[",
        record: ["{\"id\":", ",\"text\":\"", "\"},"],
        lines: (0, 0),
        ..JSON
    };
    a_json_text_sequence_goes_on_behind_4_gib: Case {
        arguments: &["query", "$.id", "-", "--from", "json-seq", "--to", "jsonl"],
        record: ["\u{1e}{\"id\":", ",\"text\":\"", "\"}\n"],
        flaw: "\u{1e}{\"id\":2 3}\n",
        place: (1, 10),
        ..JSON
    };
    csv_goes_on_behind_4_gib: Case {
        arguments: &["query", "$[*].id", "-", "--from", "csv", "--to", "text"],
        begin: "id,text\n",
        record: ["", ",\"", "\n\"\n"],
        flaw: "2,\"x\"x\n",
        lines: (1, 2),
        place: (1, 6),
        says: "text stands behind the closing quote of a cell",
        ..QUERY
    };
    xml_goes_on_behind_4_gib: Case {
        arguments: &["query", "$.bookings.booking[*].id", "-", "--from", "xml", "--to", "text"],
        ..XML
    };
    an_xpath_goes_on_behind_4_gib: Case {
        arguments: &["query", "/bookings/booking/id/string()", "-", "--from", "xml", "--to", "text"],
        ..XML
    };
    yaml_documents_go_on_behind_4_gib: Case {
        arguments: &["query", "$.id", "-", "--from", "yaml", "--to", "jsonl"],
        record: ["id: ", "\ntext: ", "\n---\n"],
        flaw: "id: ]\n",
        lines: (0, 3),
        place: (1, 5),
        says: "`]` stands where a value is expected",
        ..QUERY
    };
    a_json_schema_finds_a_record_behind_4_gib: Case {
        file: ("s.json", "{\"properties\": {\"id\": {\"type\": \"integer\"}}}"),
        arguments: &["validate", "-", "--from", "jsonl", "--schema", "s.json"],
        gives_numbers: false,
        flaw: "{\"id\":\"two\"}\n",
        place: (1, 7),
        says: "expected integer, found the text",
        status: 1,
        ..JSON
    };
    an_xml_schema_finds_an_element_behind_4_gib: Case {
        file: (
            "s.xsd",
            "<schema xmlns='http://www.w3.org/2001/XMLSchema'><element name='bookings'><complexType><sequence>
            <element name='booking' maxOccurs='unbounded'><complexType><sequence><element name='id' type='integer'/>
            <element name='text' type='string'/></sequence></complexType></element></sequence></complexType></element></schema>",
        ),
        arguments: &["validate", "-", "--from", "xml", "--schema", "s.xsd"],
        gives_numbers: false,
        flaw: "<booking><id>two</id><text/></booking></bookings>\n",
        place: (1, 14),
        says: "integer",
        status: 1,
        ..XML
    };
    a_survey_tells_of_a_line_behind_4_gib: Case {
        arguments: &["survey", "-", "--from", "jsonl", "--report", "json"],
        gives_numbers: false,
        ..JSON
    };
}
