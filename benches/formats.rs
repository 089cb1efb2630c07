//! Whole conversions against the bare loops of the packages that read these formats.
//!
//! Run with `cargo bench --bench formats`. The first row of each table is the baseline: a loop that only reads, in one
//! thread, and gives nothing. Kyanite's rows read, build records, run the rule and write. docs/formats.md quotes the ratios.
#![allow(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]

use std::io::Write;
use std::path::Path;

use kyanite_benches::{bookings, candidate, compare, kyanite};
use kyanite_flow::{Destination, Layout};
use kyanite_formats::{Format, yaml};
use kyanite_tree::Arena;

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let lines = folder.path().join("bookings.jsonl");
    std::fs::write(&lines, bookings(200_000_000)).unwrap();
    xml(folder.path(), &lines);
    xpath(folder.path());
    csv(folder.path(), &lines);
    yaml(folder.path(), &lines);
}

fn to_lines(rule: &str, input: &Path, threads: usize) -> u64 {
    let nowhere: Box<dyn Write> = Box::new(std::io::sink());
    kyanite(rule, input, Destination::Stream(nowhere), Layout::of(Format::JsonLines), threads)
}

fn xml(folder: &Path, lines: &Path) {
    let file = folder.join("bookings.xml");
    let mut layout = Layout::of(Format::Xml);
    layout.xml.item = "booking".into();
    kyanite("$[*]", lines, Destination::File(file.clone()), layout, 1);
    let text = std::fs::read(&file).unwrap();
    let rule = "$.root.booking[*]";
    compare(
        "XML to JSON Lines of records",
        text.len(),
        7,
        vec![
            candidate("quick-xml, bare event loop", || xml_events(&text)),
            candidate("kyanite, one thread", || to_lines(rule, &file, 1)),
            candidate("kyanite, two threads", || to_lines(rule, &file, 2)),
        ],
    );
}

fn xml_events(text: &[u8]) -> u64 {
    let mut reader = quick_xml::Reader::from_reader(text);
    let mut events = 0;
    while !matches!(reader.read_event().unwrap(), quick_xml::events::Event::Eof) {
        events += 1;
    }
    events
}

/// XPaths over 200 MB: along names with a test, at any depth, and one that needs the document.
fn xpath(folder: &Path) {
    let (lines, file) = (folder.join("fewer.jsonl"), folder.join("fewer.xml"));
    std::fs::write(&lines, bookings(113_000_000)).unwrap();
    let mut layout = Layout::of(Format::Xml);
    layout.xml.item = "booking".into();
    kyanite("$[*]", &lines, Destination::File(file.clone()), layout, 1);
    let text = std::fs::read(&file).unwrap();
    for (title, expression) in [
        ("XPath of names with a test", "/root/booking[fare/amount > 540]/id"),
        ("XPath at any depth with a test", "//vehicle[length_m > 11.5]/plate"),
        (
            "XPath that needs the document",
            "//vehicle[length_m > 11.5]/../following-sibling::booking[1]/id",
        ),
    ] {
        let run = |threads| {
            let nowhere: Box<dyn Write> = Box::new(std::io::sink());
            kyanite_benches::xpath(expression, &file, Destination::Stream(nowhere), threads)
        };
        compare(
            title,
            text.len(),
            5,
            vec![
                candidate("quick-xml, bare event loop", || xml_events(&text)),
                candidate("kyanite, one thread", || run(1)),
                candidate("kyanite, two threads", || run(2)),
            ],
        );
    }
}

fn csv(folder: &Path, lines: &Path) {
    let file = folder.join("bookings.csv");
    let mut layout = Layout::of(Format::Csv);
    layout.flatten = true;
    let columns = ["id", "leg.from", "leg.to", "leg.departs", "fare.amount", "customer.name"];
    layout.columns = Some(columns.map(str::to_owned).into());
    kyanite("$[*]", lines, Destination::File(file.clone()), layout, 1);
    let text = std::fs::read(&file).unwrap();
    compare(
        "CSV to JSON Lines",
        text.len(),
        7,
        vec![
            candidate("csv, bare loop over records of text", || {
                let mut reader = csv::Reader::from_reader(text.as_slice());
                let mut record = csv::StringRecord::new();
                let mut cells = 0;
                while reader.read_record(&mut record).unwrap() {
                    cells += record.len() as u64;
                }
                cells
            }),
            candidate("csv, bare loop over records of bytes", || {
                let mut reader = csv::Reader::from_reader(text.as_slice());
                let mut record = csv::ByteRecord::new();
                let mut cells = 0;
                while reader.read_byte_record(&mut record).unwrap() {
                    cells += record.len() as u64;
                }
                cells
            }),
            candidate("kyanite, one thread", || to_lines("$[*]", &file, 1)),
            candidate("kyanite, two threads", || to_lines("$[*]", &file, 2)),
        ],
    );
}

fn yaml(folder: &Path, lines: &Path) {
    let file = folder.join("bookings.yaml");
    kyanite("$[:20000]", lines, Destination::File(file.clone()), Layout::of(Format::Yaml), 1);
    let text = std::fs::read_to_string(&file).unwrap();
    compare(
        "YAML to values",
        text.len(),
        5,
        vec![
            candidate("saphyr-parser, bare event loop", || {
                let mut parser = saphyr_parser::Parser::new_from_str(&text);
                let mut events = 0;
                while let Some(event) = parser.next_event() {
                    event.unwrap();
                    events += 1;
                }
                events
            }),
            candidate("kyanite, bare event loop", || {
                let mut parser = yaml::Parser::new(&text);
                let mut events = 0;
                while parser.next_event().unwrap().is_some() {
                    events += 1;
                }
                events
            }),
            candidate("kyanite reader", || {
                let arena = Arena::new();
                let read = yaml::documents(&text, &arena, yaml::Options::default()).unwrap();
                read.documents.len() as u64
            }),
        ],
    );
}
