//! Validation against the bare loops of packages that read the same documents.
//!
//! Run with `cargo bench --bench validate`. The first row of each table is the baseline, which checks nothing, in one thread.
#![allow(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]

use std::fmt::Write;
use std::path::{Path, PathBuf};

use kyanite_benches::{bookings, candidate, compare, megabytes};
use kyanite_flow::{Chosen, Counters, Events, Input, InputOptions, Set, Validation, validate};

fn main() {
    let folder = tempfile::tempdir().unwrap();
    for file in kyanite_demo::files() {
        let path = folder.path().join(file.name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, file.content).unwrap();
    }
    records(folder.path());
    manifest(folder.path());
    many(folder.path());
}

/// Validates inputs; gives how many documents they held.
fn checked(schema: &Path, inputs: &[PathBuf], threads: usize) -> u64 {
    let chosen = |path: &PathBuf| Chosen { input: Input::File(path.clone()), is_found: false };
    let inputs = inputs.iter().map(chosen).collect();
    let sets = [Set { name: None, schemas: vec![Input::File(schema.to_owned())], inputs }];
    let options = InputOptions { threads, ..InputOptions::default() };
    let validation = Validation { sets: &sets, options: &options, ..Validation::default() };
    let counters = Counters::default();
    let mut events = Events { tell: &mut |_| {}, counters: &counters };
    let mut count = 0;
    validate(validation, &mut events, &mut |verdict| {
        count += verdict.checked;
    })
    .unwrap();
    count
}

/// A JSON Schema over bookings, few of which break it.
fn records(folder: &Path) {
    let file = folder.join("many.jsonl");
    let text = String::from_utf8(bookings(megabytes(1000) * 1_000_000)).unwrap();
    std::fs::write(&file, &text).unwrap();
    let schema = folder.join("schemas/booking.json");
    let inputs = [file];
    let is_map = |line| serde_json::from_str::<serde_json::Value>(line).unwrap().is_object();
    let values = || text.lines().filter(|line| is_map(line)).count();
    compare(
        "JSON Schema over JSON Lines",
        text.len(),
        5,
        vec![
            candidate("serde_json::Value", || values() as u64),
            candidate("kyanite, one thread", || checked(&schema, &inputs, 1)),
            candidate("kyanite, two threads", || checked(&schema, &inputs, 2)),
        ],
    );
}

/// An XML Schema over one large manifest.
fn manifest(folder: &Path) {
    let mut text = String::from(
        "<m:manifest xmlns:m=\"urn:tern-isles:manifest\" xmlns:v=\"urn:tern-isles:vessel\"\n    xmlns:c=\"urn:tern-isles:crew\" issued=\"2026-06-02T05:10:00Z\">\n",
    );
    let most = usize::try_from(megabytes(200)).unwrap() * 1_000_000;
    let mut number = 0;
    while text.len() < most {
        writeln!(text, "  <v:vessel id=\"V{number}\" flag=\"NO\">\n    <v:name>Storm Petrel</v:name>\n    <v:draught unit=\"m\">2.80</v:draught>\n    <v:deck no=\"1\">").unwrap();
        for _ in 0..10 {
            number += 1;
            let plate = format!(
                "{}{} {:05}",
                letter(number / 100_000 / 26),
                letter(number / 100_000),
                number % 100_000
            );
            writeln!(text, "      <m:vehicle plate=\"{plate}\" kind=\"car\"><m:weight>1230</m:weight></m:vehicle>").unwrap();
        }
        text.push_str("    </v:deck>\n    <c:crew>\n      <c:person rank=\"master\"><c:name>Liv Strand</c:name><c:certificate>II/3</c:certificate></c:person>\n    </c:crew>\n  </v:vessel>\n");
    }
    text.push_str("</m:manifest>\n");
    let (file, schema) = (folder.join("large.xml"), folder.join("schemas/manifest.xsd"));
    std::fs::write(&file, &text).unwrap();
    let inputs = [file];
    compare(
        "XML Schema over one manifest",
        text.len(),
        5,
        vec![
            candidate("quick-xml, bare event loop", || events(text.as_bytes())),
            candidate("kyanite, one thread", || checked(&schema, &inputs, 1)),
        ],
    );
}

fn letter(number: usize) -> char {
    char::from(b'A' + (number % 26) as u8)
}

fn events(text: &[u8]) -> u64 {
    let mut reader = quick_xml::Reader::from_reader(text);
    let mut events = 0;
    while !matches!(reader.read_event().unwrap(), quick_xml::events::Event::Eof) {
        events += 1;
    }
    events
}

/// A folder of 10,000 small files; the baseline only reads them.
fn many(folder: &Path) {
    let small = folder.join("small");
    std::fs::create_dir_all(&small).unwrap();
    let text = std::fs::read(folder.join("manifests/skarv.xml")).unwrap();
    let inputs: Vec<PathBuf> = (0..10_000).map(|no| small.join(format!("{no}.xml"))).collect();
    inputs.iter().for_each(|path| std::fs::write(path, &text).unwrap());
    let schema = folder.join("schemas/manifest.xsd");
    compare(
        "XML Schema over 10,000 files",
        text.len() * inputs.len(),
        5,
        vec![
            candidate("read, and nothing else", || {
                inputs.iter().map(|path| std::fs::read(path).unwrap().len() as u64).sum()
            }),
            candidate("kyanite, one thread", || checked(&schema, &inputs, 1)),
            candidate("kyanite, two threads", || checked(&schema, &inputs, 2)),
        ],
    );
}
