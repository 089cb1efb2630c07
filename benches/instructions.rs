//! Instructions a byte of input, by valgrind's callgrind on one thread: the same on any machine, however busy it is, that has AVX2 (of
//! AVX-512 valgrind knows nothing).
//!
//! Run with `cargo bench --bench instructions`; with `-- check` the tables are compared with those in docs/benchmarks.md, and what takes a
//! tenth more ends the run. Words choose jobs.
#![allow(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]
#![expect(clippy::print_stdout, reason = "the table is the output of a benchmark")]

use std::fmt::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};

use kyanite_benches::bookings;
use kyanite_formats::json::{LayOut, Style};

/// The bytes of each input, about.
const SIZE: usize = 16_000_000;

/// What a job may take more than it did.
const MORE: f64 = 1.1;

/// A job: its name, a rule over bookings, one over the records of others, and the format of the result.
type Job = (&'static str, &'static str, &'static str, &'static str);

const JOBS: [Job; 20] = [
    ("filter, keeps few", "$[?@.fare.amount > 960]", "$[?@.total > 985]", "jsonl"),
    ("filter, keeps most", "$[?@.fare.amount > 50]", "$[?@.total > 50]", "jsonl"),
    (
        "projection",
        "for b in $[*] return {id: b.id, v: b.vessel, a: b.fare.amount}",
        "for o in $[*] return {no: o.no, m: o.guest.mail, t: o.total}",
        "jsonl",
    ),
    ("whole records, a loop", "for b in $[*] return b", "for o in $[*] return o", "jsonl"),
    ("whole records", "$[*]", "$[*]", "jsonl"),
    (
        "a member more",
        "for b in $[*] return {...b, x: 1}",
        "for o in $[*] return {...o, x: 1}",
        "jsonl",
    ),
    (
        "a member less",
        "for b in $[*] return b remove .id",
        "for o in $[*] return o remove .no",
        "jsonl",
    ),
    (
        "group and sum",
        "for b in $[*] group by k = b.leg.from return {k, s: sum(b[*].fare.amount)}",
        "for o in $[*] group by k = o.state return {k, s: sum(o[*].total)}",
        "jsonl",
    ),
    ("sum", "sum($[*].fare.amount)", "sum($[*].total)", "jsonl"),
    (
        "top ten",
        "for b in $[*] order by b.fare.amount descending first 10 return b.id",
        "for o in $[*] order by o.total descending first 10 return o.no",
        "jsonl",
    ),
    (
        "sort",
        "for b in $[*] order by b.fare.amount return b.id",
        "for o in $[*] order by o.total return o.no",
        "jsonl",
    ),
    ("distinct", "distinct($[*].vessel)", "distinct($[*].guest.mail)", "jsonl"),
    (
        "unnest",
        "for b in $[*] for l in b.leg[*] return {id: b.id, l}",
        "for o in $[*] for i in o.items[*] return {no: o.no, n: i.count}",
        "jsonl",
    ),
    (
        "a filter in a list",
        "for b in $[*] where exists(b.fare[?@ == 'NOK']) return b.id",
        "for o in $[*] where exists(o.items[?@.count > 5]) return o.no",
        "jsonl",
    ),
    (
        "contains()",
        "for b in $[*] where contains(b.vessel, 'Tern') return b.id",
        "for o in $[*] where contains(o.guest.mail, '77') return o.no",
        "jsonl",
    ),
    (
        "f-text",
        "for b in $[*] return f'{b.id}: {b.vessel}'",
        "for o in $[*] return f'{o.no}: {o.guest.mail}'",
        "text",
    ),
    (
        "arithmetic",
        "for b in $[*] return {id: b.id, d: b.fare.amount * 2 + 1}",
        "for o in $[*] return {no: o.no, d: o.total * 2 + 1}",
        "jsonl",
    ),
    (
        "to CSV",
        "for b in $[*] return {id: b.id, v: b.vessel, a: b.fare.amount}",
        "for o in $[*] return {no: o.no, m: o.guest.mail, t: o.total}",
        "csv",
    ),
    (
        "renamed, nested, counted",
        "for b in $[*] return {who: {name: b.customer.name}, n: count(b.leg[*]), a: b.fare.amount}",
        "for o in $[*] return {who: {mail: o.guest.mail}, n: count(o.items[*]), t: o.total}",
        "jsonl",
    ),
    ("pretty printing", "$[*]", "$[*]", "json"),
];

/// The columns of the table.
const COLUMNS: [&str; 4] = ["own, compact", "others', compact", "with blanks", "pretty"];

/// A conversion: its name, the extension of its input, a rule over bookings in that format, and the format of the result.
type Conversion = (&'static str, &'static str, &'static str, &'static str);

const CONVERSIONS: [Conversion; 9] = [
    ("JSON Lines to YAML", "jsonl", "$[*]", "yaml"),
    ("JSON Lines to XML", "jsonl", "$[*]", "xml"),
    ("CSV to JSON Lines", "csv", "$[*]", "jsonl"),
    ("CSV to YAML", "csv", "$[*]", "yaml"),
    ("XML to JSON Lines of its records", "xml", "$.bookings.booking[*]", "jsonl"),
    ("XML to one JSON document", "xml", "$", "json"),
    ("one JSON document, laid out again", "json", "$", "json"),
    (
        "three members of records of XML",
        "xml",
        "for b in $.bookings.booking[*] return {id: b.id, v: b.vessel, a: b.fare.amount}",
        "jsonl",
    ),
    ("YAML documents to JSON Lines", "yaml", "$", "jsonl"),
];

/// The column of the table of conversions.
const CONVERSION: [&str; 1] = ["instructions a byte of input"];

fn main() -> ExitCode {
    let words: Vec<String> =
        std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let checks = words.iter().any(|word| word == "check");
    let chosen: Vec<&String> = words.iter().filter(|word| *word != "check").collect();
    if !has_what_it_takes() {
        println!("instructions are counted where there are valgrind and AVX2");
        return ExitCode::SUCCESS;
    }
    let folder = tempfile::tempdir().unwrap();
    let inputs = inputs(folder.path());
    let is_chosen =
        |name: &str| chosen.is_empty() || chosen.iter().any(|word| name.contains(word.as_str()));
    let mut jobs = Table::new(&COLUMNS, checks);
    for (name, own, others, format) in JOBS.into_iter().filter(|(name, ..)| is_chosen(name)) {
        let figure = |(at, input): (usize, &PathBuf)| {
            counted(if at == 0 { own } else { others }, input, format)
        };
        jobs.row(name, &inputs.iter().enumerate().map(figure).collect::<Vec<f64>>());
    }
    println!();
    let mut conversions = Table::new(&CONVERSION, checks);
    for (name, from, rule, to) in CONVERSIONS.into_iter().filter(|(name, ..)| is_chosen(name)) {
        conversions.row(name, &[counted(rule, &converted(&inputs[0], from), to)]);
    }
    let grown: Vec<String> = jobs.grown.into_iter().chain(conversions.grown).collect();
    grown.iter().for_each(|line| println!("more instructions: {line}"));
    if grown.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

/// A table that is printed row by row, and compared with the one in docs/benchmarks.md that has its columns.
struct Table {
    columns: &'static [&'static str],
    /// The figures there; none if they are not compared.
    before: Option<Vec<(String, Vec<f64>)>>,
    /// What takes more.
    grown: Vec<String>,
}

impl Table {
    fn new(columns: &'static [&'static str], checks: bool) -> Self {
        println!("| job | {} |\n| --- |{}", columns.join(" | "), " ---: |".repeat(columns.len()));
        Self { columns, before: checks.then(|| figures(columns)), grown: Vec::new() }
    }

    fn row(&mut self, name: &str, row: &[f64]) {
        let cells: String = row.iter().map(|figure| format!(" {figure:.1} |")).collect();
        println!("| {name} |{cells}");
        let Some(before) = &self.before else { return };
        let Some((_, before)) = before.iter().find(|(job, _)| job == name) else {
            self.grown.push(format!("{name} is not in docs/benchmarks.md"));
            return;
        };
        for ((column, before), figure) in self.columns.iter().zip(before).zip(row) {
            if *figure > before * MORE {
                self.grown.push(format!("{name}, {column}: {before:.1} came to {figure:.1}"));
            }
        }
    }
}

/// Bookings in another format, beside those in JSON Lines.
fn converted(bookings: &Path, to: &str) -> PathBuf {
    let file = bookings.with_extension(to);
    if !file.exists() {
        let rule = match to {
            "csv" => {
                "for b in $[*] return {b.id, b.booked, b.status, b.leg.from, b.leg.to, b.vessel, b.customer.name, b.fare.amount}"
            }
            _ => "$[*]",
        };
        let options: &[&str] =
            if to == "xml" { &["--root", "bookings", "--item", "booking"] } else { &[] };
        let mut command = Command::new(env!("CARGO_BIN_EXE_kyanite"));
        let command = command.args(["query", rule]).arg(bookings).arg("-o").arg(&file);
        assert!(command.args(options).status().unwrap().success());
    }
    file
}

/// Whether instructions can be counted, and mean what they did.
fn has_what_it_takes() -> bool {
    let has_valgrind = Command::new("valgrind").arg("--version").stdout(Stdio::null()).status();
    #[cfg(target_arch = "x86_64")]
    let has_avx2 = std::arch::is_x86_feature_detected!("avx2");
    #[cfg(not(target_arch = "x86_64"))]
    let has_avx2 = false;
    has_avx2 && has_valgrind.is_ok_and(|status| status.success())
}

/// Instructions a byte of a rule over a file.
fn counted(rule: &str, input: &Path, format: &str) -> f64 {
    let ran = Command::new("valgrind")
        .args(["--tool=callgrind", "--callgrind-out-file=/dev/null"])
        .args([env!("CARGO_BIN_EXE_kyanite"), "query", rule])
        .arg(input)
        .args(["--threads", "1", "--to", format, "-o", "/dev/null"])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert!(ran.status.success(), "{rule}: {said}");
    let collected = said.lines().find_map(|line| line.split_once("Collected :")).unwrap().1;
    let instructions: f64 = collected.trim().parse().unwrap();
    instructions / std::fs::metadata(input).unwrap().len() as f64
}

/// The figures of the table in docs/benchmarks.md that has these columns.
fn figures(columns: &[&str]) -> Vec<(String, Vec<f64>)> {
    let page = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/benchmarks.md");
    let page = std::fs::read_to_string(page).unwrap();
    let rows = page.lines().skip_while(|line| !line.contains(&columns.join(" | "))).skip(2);
    let rows = rows.take_while(|line| line.starts_with('|'));
    rows.map(|row| {
        let mut cells = row.trim_matches('|').split('|').map(str::trim);
        let job = cells.next().unwrap().to_owned();
        (job, cells.filter_map(|cell| cell.parse().ok()).collect())
    })
    .collect()
}

/// Bookings as they are generated, and other records in three layouts.
fn inputs(folder: &Path) -> Vec<PathBuf> {
    let compact = others();
    let texts = [
        bookings(SIZE as u64),
        compact.clone(),
        laid_out(&compact, with_blanks),
        laid_out(&compact, |line, out| {
            LayOut::new(Style::Indented(2)).value(line, 0, out);
        }),
    ];
    let write = |(at, text): (usize, Vec<u8>)| {
        let file = folder.join(format!("{at}.jsonl"));
        std::fs::write(&file, text).unwrap();
        file
    };
    texts.into_iter().enumerate().map(write).collect()
}

fn laid_out(lines: &[u8], mut line: impl FnMut(&[u8], &mut Vec<u8>)) -> Vec<u8> {
    let mut out = Vec::new();
    for compact in lines.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()) {
        line(compact, &mut out);
        out.push(b'\n');
    }
    out
}

/// A blank behind each comma and colon that stands outside of texts.
fn with_blanks(line: &[u8], out: &mut Vec<u8>) {
    let (mut inside, mut escaped) = (false, false);
    for byte in line {
        out.push(*byte);
        match byte {
            _ if escaped => escaped = false,
            b'\\' => escaped = true,
            b'"' => inside = !inside,
            b',' | b':' if !inside => out.push(b' '),
            _ => {}
        }
    }
}

/// Orders of the kiosks on board, as others write them: members that are there or not, lists of any length, escapes and nulls.
fn others() -> Vec<u8> {
    let mut out = String::new();
    let mut state = 7_u64;
    let mut random = |below: u64| {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % below
    };
    let mut no = 0_u64;
    while out.len() < SIZE {
        no += 1;
        let name =
            ["Ann \\\"A\\\" Lee", "Bob Fulmar", "Zo\\u00eb Auk", "Per\\\\Olaf", "Una Gannet"];
        let name = name[random(5) as usize];
        let state = ["open", "closed", "held"][random(3) as usize];
        let note = ["null", "\"first line\\nsecond line\"", "\"ok\""][random(3) as usize];
        write!(
            out,
            "{{\"no\":{no},\"guest\":{{\"name\":\"{name}\",\"mail\":\"guest{}@fleet.example\"}},\"state\":\"{state}\",\"total\":{}.{:02},\"tags\":[",
            no % 977,
            random(1000),
            random(100),
        )
        .unwrap();
        let tags = random(4);
        (0..tags)
            .for_each(|tag| write!(out, "{}\"t{tag}\"", if tag > 0 { "," } else { "" }).unwrap());
        write!(
            out,
            "],\"at\":\"2026-0{}-1{}T08:{:02}:00Z\",\"note\":{note},\"items\":[",
            1 + no % 9,
            no % 10,
            no % 60
        )
        .unwrap();
        for item in 0..1 + random(4) {
            let comma = if item > 0 { "," } else { "" };
            let (what, count, price) = (random(400), 1 + random(9), random(50));
            write!(out, "{comma}{{\"what\":\"K{what}\",\"count\":{count},\"price\":{price}.50}}")
                .unwrap();
        }
        out.push(']');
        if random(10) < 3 {
            out.push_str(",\"discount\":0.1");
        }
        if random(10) < 2 {
            write!(out, ",\"ref\":{{\"order\":{},\"from\":\"deck\"}}", no * 3).unwrap();
        }
        out.push_str("}\n");
    }
    out.into_bytes()
}
