//! That blocks of records are really run over on as many threads as are wanted.
#![cfg(target_os = "linux")]
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use std::cell::Cell;
use std::time::{Duration, Instant};

use kyanite_flow::{
    Counters, DocumentTypes, Ensured, Events, Input, InputOptions, Job, Schemas, Set, Validation,
    WORKER, run,
};
use kyanite_lang::{RuleText, Syntax, compile};
use kyanite_tree::Arena;
use support::Counting;

/// How long a busy machine may take to start a thread.
const PATIENCE: Duration = Duration::from_secs(20);

/// The threads of this process that are workers.
fn workers() -> usize {
    let tasks = std::fs::read_dir("/proc/self/task").unwrap().flatten();
    let names = tasks.filter_map(|task| std::fs::read_to_string(task.path().join("comm")).ok());
    names.filter(|name| name.trim_end() == WORKER).count()
}

/// The most workers that are there at once, once as many are as are wanted: blocks wait for this one, so those that were started
/// come up.
fn come_up(wanted: usize, before: usize) -> usize {
    let begun = Instant::now();
    let mut most = before;
    while most < wanted && begun.elapsed() < PATIENCE {
        most = most.max(workers());
        std::thread::yield_now();
    }
    most.max(workers())
}

/// The only test of this program, so that all workers are its own.
#[test]
fn as_many_threads_as_are_wanted() {
    run_as_wanted();
    run_with_schemas();
}

/// Records that get their types from a schema, and results that have to keep to one, come in parts, too.
fn run_with_schemas() {
    let folder = tempfile::tempdir().unwrap();
    let (rows, schema) = (folder.path().join("r.csv"), folder.path().join("r.json"));
    let count = 80_000_u64;
    let cells: String = (0..count).map(|n| format!("{n},abcdefghijk\n")).collect();
    std::fs::write(&rows, format!("n,t\n{cells}")).unwrap();
    std::fs::write(&schema, r#"{"properties": {"n": {"type": "integer"}}}"#).unwrap();
    let sets = [Set { name: None, schemas: vec![Input::File(schema)], inputs: Vec::new() }];
    let (counters, held) = (Counters::default(), Arena::new());
    let read = || {
        let mut events = Events { tell: &mut |_| {}, counters: &counters };
        let validation = Validation { sets: &sets, ..Validation::default() };
        Schemas::read(validation, &held, &mut events).unwrap()
    };
    let types = DocumentTypes::of("r.json".into(), read(), &held).unwrap();
    let schemas = read();
    let rule = RuleText::new("rule", "for r in $[*] where r.n >= 0 return {n: r.n + 1}");
    let plan = compile(rule, Syntax::Rule).unwrap();
    let options = InputOptions { threads: 3, ..InputOptions::default() };
    let of_plan = || Job::new(&plan, &options);
    for (job, ensured) in [
        (Job { types: Some(&types), ..of_plan() }, None),
        (Job { types: Some(&types), ensures: Some(schemas.json()), ..of_plan() }, Some(&schemas)),
    ] {
        let mut sink = Counting::new(|| ());
        let mut ensuring = Ensured::new(&mut sink, ensured, &plan, (true, &held), None);
        let mut events = Events { tell: &mut |_| {}, counters: &counters };
        run(&job, &[Input::File(rows.clone())], &mut ensuring, &mut events).unwrap();
        assert!(ensuring.finish().0.is_empty());
        assert_eq!(sink.one_by_one + sink.in_parts, count);
        assert!(sink.in_parts > count / 2, "{} in parts", sink.in_parts);
    }
}

fn run_as_wanted() {
    let folder = tempfile::tempdir().unwrap();
    let (lines, feed) = (folder.path().join("r.jsonl"), folder.path().join("r.xml"));
    // More blocks than may be run over ahead, so that no worker has ended when the first is handed on.
    let count = 160_000_u64;
    let records: String =
        (0..count).map(|n| format!("{{\"n\":{n},\"t\":\"abcdefghijk\"}}\n")).collect();
    std::fs::write(&lines, records).unwrap();
    let records: String = (0..count).map(|n| format!("<r n='{n}'>abcdefghijk</r>\n")).collect();
    std::fs::write(&feed, format!("<f>\n{records}</f>")).unwrap();
    for (rule, file) in [
        ("$[*]", &lines),
        ("for r in $[*] where r.n >= 0 return r.t", &lines),
        ("for r in $[*] return r set .n = @ + 1", &lines),
        ("for r in $.f.r[*] return {n: r.@n}", &feed),
    ] {
        for threads in [1, 3] {
            let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
            let options = InputOptions { threads, ..InputOptions::default() };
            let job = Job::new(&plan, &options);
            let most = Cell::new(0);
            let mut sink = Counting::new(|| most.set(come_up(threads - 1, most.get())));
            let counters = Counters::default();
            let mut events = Events { tell: &mut |_| {}, counters: &counters };
            run(&job, &[Input::File(file.clone())], &mut sink, &mut events).unwrap();
            assert_eq!(sink.one_by_one + sink.in_parts, count, "{rule}");
            assert!(sink.in_parts > count / 2, "{rule}: {} in parts", sink.in_parts);
            assert_eq!(most.get(), threads - 1, "{rule}");
        }
    }
}
