//! The jobs of every day over JSON Lines, against the same job written by hand.
//!
//! Run with `cargo bench --bench jobs`; set `KYANITE_BENCH_MB` for another size than 200 MB. The baselines read memory in one
//! thread, as people write them; Kyanite reads the file from the page cache and writes its result. docs/benchmarks.md quotes
//! the ratios.
#![allow(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]

use std::collections::{BTreeSet, HashMap};
use std::io::Write;
use std::path::Path;

use kyanite_benches::{Candidate, bookings, candidate, compare, megabytes};
use kyanite_flow::{Destination, Layout};
use kyanite_formats::Format;
use serde::Deserialize;
use serde::de::IgnoredAny;
use serde_json::Value;

/// A booking with only the members that the jobs need.
#[derive(Deserialize)]
struct Booking<'a> {
    id: &'a str,
    booked: &'a str,
    vessel: &'a str,
    #[serde(borrow)]
    leg: Leg<'a>,
    fare: Fare,
}

#[derive(Deserialize)]
struct Leg<'a> {
    from: &'a str,
}

#[derive(Deserialize)]
struct Fare {
    amount: f64,
}

fn main() {
    let data = bookings(megabytes(200) * 1_000_000);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("bookings.jsonl");
    std::fs::write(&file, &data).unwrap();
    let text = std::str::from_utf8(&data).unwrap();
    let values = || text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
    let typed = || text.lines().map(|line| serde_json::from_str::<Booking<'_>>(line).unwrap());
    let vessels = folder.path().join("vessels.json");
    std::fs::write(&vessels, fleet(text)).unwrap();
    let document = folder.path().join("bookings.json");
    std::fs::write(&document, one_document(text)).unwrap();
    compare(
        "Limits of the baselines",
        data.len(),
        5,
        vec![
            candidate("serde_json::Value", || values().count() as u64),
            candidate("serde structs of what is needed", || typed().count() as u64),
            candidate("serde IgnoredAny", || {
                let ignored = |line: &str| serde_json::from_str::<IgnoredAny>(line).unwrap();
                text.lines().filter(|line| matches!(ignored(line), IgnoredAny)).count() as u64
            }),
            candidate("line ends, counted", || memchr::memchr_iter(b'\n', &data).count() as u64),
        ],
    );
    let job_to = |format: Format,
                  input: &Path,
                  title: &str,
                  rule: &str,
                  value: Box<dyn Fn() -> u64 + '_>,
                  by_hand: Option<Box<dyn Fn() -> u64 + '_>>| {
        let mut rows: Vec<Candidate<'_>> = vec![candidate("serde_json::Value, by hand", value)];
        if let Some(by_hand) = by_hand {
            rows.push(candidate("serde structs of what is needed, by hand", by_hand));
        }
        rows.push(candidate("kyanite, one thread", || kyanite(rule, input, format, 1)));
        rows.push(candidate("kyanite, two threads", || kyanite(rule, input, format, 2)));
        compare(title, data.len(), 5, rows);
    };
    let job = |title: &str,
               rule: &str,
               value: Box<dyn Fn() -> u64 + '_>,
               by_hand: Option<Box<dyn Fn() -> u64 + '_>>| {
        job_to(Format::JsonLines, &file, title, rule, value, by_hand);
    };
    job(
        "Selective filter",
        "$[?@.fare.amount > 1190].id",
        Box::new(|| {
            values()
                .filter(|b| b["fare"]["amount"].as_f64() > Some(1190.0))
                .map(|b| b["id"].as_str().unwrap().len() as u64)
                .sum()
        }),
        Some(Box::new(|| {
            typed().filter(|b| b.fare.amount > 1190.0).map(|b| b.id.len() as u64).sum()
        })),
    );
    job(
        "Projection of three members",
        "for b in $[*] return {b.id, b.leg.from, b.fare.amount}",
        Box::new(|| {
            let mut out = Vec::new();
            for b in values() {
                serde_json::to_writer(&mut out, &serde_json::json!({"id": b["id"], "from": b["leg"]["from"], "amount": b["fare"]["amount"]})).unwrap();
                out.push(b'\n');
            }
            out.len() as u64
        }),
        Some(Box::new(|| {
            let mut out = Vec::new();
            for b in typed() {
                writeln!(
                    out,
                    r#"{{"id":"{}","from":"{}","amount":{}}}"#,
                    b.id, b.leg.from, b.fare.amount
                )
                .unwrap();
            }
            out.len() as u64
        })),
    );
    job(
        "Sum over a filter",
        "sum($[?@.leg.from == 'ness'].fare.amount)",
        Box::new(|| {
            values()
                .filter(|b| b["leg"]["from"] == "ness")
                .map(|b| b["fare"]["amount"].as_f64().unwrap() as u64)
                .sum()
        }),
        Some(Box::new(|| {
            typed()
                .filter(|b| b.leg.from == "ness" && !b.vessel.is_empty())
                .map(|b| b.fare.amount as u64)
                .sum()
        })),
    );
    job(
        "Group and sum",
        "for b in $[*] group by port = b.leg.from return {port, n: count(b[*]), sum: sum(b[*].fare.amount)}",
        Box::new(|| {
            let mut groups: HashMap<String, (u64, f64)> = HashMap::new();
            for b in values() {
                let port = b["leg"]["from"].as_str().unwrap().to_owned();
                let group = groups.entry(port).or_default();
                *group = (group.0 + 1, group.1 + b["fare"]["amount"].as_f64().unwrap());
            }
            groups.values().map(|(count, _)| count).sum()
        }),
        Some(Box::new(|| {
            let mut groups: HashMap<&str, (u64, f64)> = HashMap::new();
            for b in typed() {
                let group = groups.entry(b.leg.from).or_default();
                *group = (group.0 + 1, group.1 + b.fare.amount);
            }
            groups.values().map(|(count, _)| count).sum()
        })),
    );
    job(
        "Top ten by a number",
        "for b in $[*] order by b.fare.amount descending first 10 return b.id",
        Box::new(|| {
            let mut all: Vec<(f64, String)> = values()
                .map(|b| (b["fare"]["amount"].as_f64().unwrap(), b["id"].as_str().unwrap().into()))
                .collect();
            all.sort_by(|a, b| b.0.total_cmp(&a.0));
            all.iter().take(10).map(|(_, id)| id.len() as u64).sum()
        }),
        Some(Box::new(|| {
            let mut all: Vec<(f64, &str)> = typed().map(|b| (b.fare.amount, b.id)).collect();
            all.sort_by(|a, b| b.0.total_cmp(&a.0));
            all.iter().take(10).map(|(_, id)| id.len() as u64).sum()
        })),
    );
    job(
        "Unnest with the outer values",
        "for b in $[*] for s in b.seats[*] return {b.id, s.no, s.kind}",
        Box::new(|| {
            let mut out = Vec::new();
            for b in values() {
                for s in b["seats"].as_array().into_iter().flatten() {
                    serde_json::to_writer(
                        &mut out,
                        &serde_json::json!({"id": b["id"], "no": s["no"], "kind": s["kind"]}),
                    )
                    .unwrap();
                    out.push(b'\n');
                }
            }
            out.len() as u64
        }),
        None,
    );
    job(
        "How many there are",
        "count($[*])",
        Box::new(|| values().count() as u64),
        Some(Box::new(|| typed().count() as u64)),
    );
    job(
        "Whole records, as they are",
        "$[*]",
        Box::new(|| {
            let mut out = Vec::new();
            for b in values() {
                serde_json::to_writer(&mut out, &b).unwrap();
                out.push(b'\n');
            }
            out.len() as u64
        }),
        None,
    );
    job(
        "Whole records, with a member more",
        "for b in $[*] return {...b, port: upper(b.leg.from)}",
        Box::new(|| {
            let mut out = Vec::new();
            for mut b in values() {
                b["port"] = b["leg"]["from"].as_str().unwrap().to_uppercase().into();
                serde_json::to_writer(&mut out, &b).unwrap();
                out.push(b'\n');
            }
            out.len() as u64
        }),
        None,
    );
    let join = format!(
        "source vessels = {:?}; for b in $[*] for v in vessels[*] where v.name == b.vessel return {{b.id, v.home}}",
        vessels
    );
    job(
        "Join with a table",
        &join,
        Box::new(|| {
            let table: Vec<Value> =
                serde_json::from_slice(&std::fs::read(&vessels).unwrap()).unwrap();
            let homes: HashMap<&str, &Value> =
                table.iter().map(|row| (row["name"].as_str().unwrap(), &row["home"])).collect();
            let mut out = Vec::new();
            for b in values() {
                if let Some(home) = homes.get(b["vessel"].as_str().unwrap()) {
                    let row = serde_json::json!({"id": b["id"], "home": home});
                    serde_json::to_writer(&mut out, &row).unwrap();
                    out.push(b'\n');
                }
            }
            out.len() as u64
        }),
        Some(Box::new(|| {
            let table: Vec<Value> =
                serde_json::from_slice(&std::fs::read(&vessels).unwrap()).unwrap();
            let homes: HashMap<&str, &str> = table
                .iter()
                .map(|row| (row["name"].as_str().unwrap(), row["home"].as_str().unwrap()))
                .collect();
            let mut out = Vec::new();
            for b in typed() {
                if let Some(home) = homes.get(b.vessel) {
                    writeln!(out, r#"{{"id":"{}","home":"{home}"}}"#, b.id).unwrap();
                }
            }
            out.len() as u64
        })),
    );
    job_to(
        Format::Json,
        &file,
        "Pretty printing",
        "$[*]",
        Box::new(|| {
            let mut out = Vec::new();
            for b in values() {
                serde_json::to_writer_pretty(&mut out, &b).unwrap();
            }
            out.len() as u64
        }),
        None,
    );
    job_to(
        Format::Csv,
        &file,
        "JSON Lines to CSV",
        "for b in $[*] return {b.id, b.booked, b.vessel, b.leg.from, b.fare.amount}",
        Box::new(|| {
            let mut out = csv::Writer::from_writer(Vec::new());
            for b in values() {
                let text = |value: &Value| value.as_str().unwrap().to_owned();
                let amount = b["fare"]["amount"].to_string();
                let cells = [&b["id"], &b["booked"], &b["vessel"], &b["leg"]["from"]];
                let cells = cells.into_iter().map(text).chain([amount]);
                out.write_record(cells).unwrap();
            }
            out.into_inner().unwrap().len() as u64
        }),
        Some(Box::new(|| {
            let mut out = csv::Writer::from_writer(Vec::new());
            for b in typed() {
                let amount = b.fare.amount.to_string();
                out.write_record([b.id, b.booked, b.vessel, b.leg.from, &amount]).unwrap();
            }
            out.into_inner().unwrap().len() as u64
        })),
    );
    job_to(
        Format::JsonLines,
        &document,
        "Filter over one document",
        "$.data.bookings[?@.fare.amount > 1190].id",
        Box::new(|| {
            let text = std::fs::read(&document).unwrap();
            let whole: Value = serde_json::from_slice(&text).unwrap();
            let bookings = whole["data"]["bookings"].as_array().unwrap();
            let found = bookings.iter().filter(|b| b["fare"]["amount"].as_f64() > Some(1190.0));
            found.map(|b| b["id"].as_str().unwrap().len() as u64).sum()
        }),
        None,
    );
}

/// A table of the vessels that bookings name, as one JSON list.
fn fleet(text: &str) -> String {
    let vessels = text.lines().take(5_000).map(|line| {
        let booking: Value = serde_json::from_str(line).unwrap();
        booking["vessel"].as_str().unwrap().to_owned()
    });
    let vessels: BTreeSet<String> = vessels.collect();
    let rows = vessels.iter().enumerate().map(|(number, name)| {
        serde_json::json!({"name": name, "home": format!("port {number}"), "seats": 40 + number})
    });
    Value::Array(rows.collect()).to_string()
}

/// The bookings as the list of one document.
fn one_document(text: &str) -> String {
    let items = text.trim_end().replace('\n', ",\n");
    format!("{{\"made\": \"2026-06-01\", \"data\": {{\"bookings\": [{items}]}}}}\n")
}

/// Runs a rule over a file, written to nowhere.
fn kyanite(rule: &str, input: &Path, format: Format, threads: usize) -> u64 {
    let nowhere: Box<dyn Write> = Box::new(std::io::sink());
    let mut layout = Layout::of(format);
    layout.flatten = true;
    kyanite_benches::kyanite(rule, input, Destination::Stream(nowhere), layout, threads)
}
