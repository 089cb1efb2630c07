//! Looking into records and cutting them up: surveys, parts and differences.
//!
//! Run with `cargo bench --bench look`. The first row of each table is the baseline.
#![allow(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]

use std::path::Path;

use kyanite_benches::{bookings, candidate, compare, megabytes};
use kyanite_change::Comparison;
use kyanite_flow::{
    Counters, Destination, Diffing, Events, Input, InputOptions, Job, Layout, Output, SplitBy,
    Splitting, Surveyed, TEMPLATE_PARAMS, diff, run, split, survey,
};
use kyanite_formats::Format;
use kyanite_lang::{Plan, RuleText, Syntax, compile};

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("bookings.jsonl");
    let text = String::from_utf8(bookings(megabytes(1000) * 1_000_000)).unwrap();
    std::fs::write(&file, &text).unwrap();
    let is_map = |line| serde_json::from_str::<serde_json::Value>(line).unwrap().is_object();
    let values = || text.lines().filter(|line| is_map(line)).count();
    compare(
        "survey of JSON Lines",
        text.len(),
        5,
        vec![
            candidate("serde_json::Value", || values() as u64),
            candidate("kyanite, one thread", || surveyed(&file, 1)),
            candidate("kyanite, two threads", || surveyed(&file, 2)),
        ],
    );
    compare(
        "parts of JSON Lines",
        text.len(),
        5,
        vec![
            candidate("query '$[*]', one thread", || all(&file)),
            candidate("split by count", || parts(&file, SplitBy::Records(10_000), folder.path())),
        ],
    );
    let small = folder.path().join("small.jsonl");
    let (other, length) = (folder.path().join("other.jsonl"), text.len() / 10);
    let part = &text[..text[..length].rfind('\n').unwrap() + 1];
    std::fs::write(&small, part).unwrap();
    std::fs::write(&other, part.replace("\"cancelled\"", "\"called off\"")).unwrap();
    compare(
        "difference of JSON Lines",
        part.len() * 2,
        5,
        vec![
            candidate("query '$[*]' over both, one thread", || all(&small) + all(&other)),
            candidate("diff, told by key", || changes(&small, &other, &["id"])),
            candidate("diff, told by place", || changes(&small, &other, &[])),
        ],
    );
}

/// Runs with nobody to tell.
fn quietly<T>(run: impl FnOnce(&mut Events<'_>) -> T) -> T {
    let counters = Counters::default();
    run(&mut Events { tell: &mut |_| {}, counters: &counters })
}

fn plan(text: &str) -> Plan {
    compile(RuleText::new("a rule", text.to_owned()), Syntax::Rule).unwrap()
}

fn surveyed(file: &Path, threads: usize) -> u64 {
    let inputs = [Input::File(file.to_owned())];
    let options = InputOptions { threads, ..InputOptions::default() };
    let what = Surveyed { inputs: &inputs, options: &options, at: None, range: None };
    quietly(|events| survey(what, events)).unwrap().report().records
}

fn all(file: &Path) -> u64 {
    let (plan, options) = (plan("$[*]"), InputOptions::default());
    let nowhere = Destination::Stream(Box::new(std::io::sink()));
    let mut output = Output::open(nowhere, Layout::of(Format::JsonLines)).unwrap();
    let inputs = [Input::File(file.to_owned())];
    quietly(|events| run(&Job::new(&plan, &options), &inputs, &mut output, events)).unwrap();
    output.finish().unwrap().len() as u64
}

fn parts(file: &Path, by: SplitBy<'_>, folder: &Path) -> u64 {
    let input = Input::File(file.to_owned());
    let options = InputOptions::default();
    let template = plan(&format!("{TEMPLATE_PARAMS}f\"{{stem}}-{{no}}.{{ext}}\""));
    let folder = folder.join("parts");
    let what = Splitting {
        input: &input,
        options: &options,
        at: None,
        by,
        folder: &folder,
        template: &template,
        kept: &[],
    };
    let made = quietly(|events| split(what, events)).unwrap().len() as u64;
    std::fs::remove_dir_all(&folder).unwrap();
    made
}

/// How many changes there are, where records are told by these members.
fn changes(old: &Path, new: &Path, key: &[&str]) -> u64 {
    let (old, new) = (Input::File(old.to_owned()), Input::File(new.to_owned()));
    let options = InputOptions::default();
    let members: Vec<String> = key.iter().map(|name| (*name).to_owned()).collect();
    let keys = (!key.is_empty()).then(|| ("$".parse().unwrap(), members));
    let comparison = Comparison { keys: keys.into_iter().collect(), ..Comparison::default() };
    let what =
        Diffing { old: &old, new: &new, options: &options, comparison: &comparison, patch: None };
    quietly(|events| diff(what, events)).unwrap().count()
}
