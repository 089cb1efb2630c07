//! That blocks of records are really run over on as many threads as are wanted.
#![cfg(target_os = "linux")]
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use std::ops::ControlFlow;
use std::sync::atomic::AtomicU64;
use std::time::{Duration, Instant};

use kyanite_flow::{Events, Input, InputOptions, Job, Part, Sink, WORKER, run};
use kyanite_lang::{Flow, RuleText, Syntax, compile};
use kyanite_tree::Value;

/// How long a busy machine may take to start a thread.
const PATIENCE: Duration = Duration::from_secs(20);

/// Counts items, those that come in parts apart, and the workers that are there then.
#[derive(Default)]
struct Watching {
    wanted: usize,
    one_by_one: u64,
    in_parts: u64,
    workers: usize,
}

/// The threads of this process that are workers.
fn workers() -> usize {
    let tasks = std::fs::read_dir("/proc/self/task").unwrap().flatten();
    let names = tasks.filter_map(|task| std::fs::read_to_string(task.path().join("comm")).ok());
    names.filter(|name| name.trim_end() == WORKER).count()
}

impl Sink for Watching {
    fn item(&mut self, _value: Value<'_>) -> Flow {
        self.one_by_one += 1;
        ControlFlow::Continue(())
    }

    fn single(&mut self, _value: Option<Value<'_>>) -> Flow {
        ControlFlow::Continue(())
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn is_closed(&self) -> bool {
        false
    }

    fn apart(&self) -> Option<Part> {
        Some(Part::counting())
    }

    fn join(&mut self, part: &mut Part) -> Flow {
        self.in_parts += part.items;
        part.items = 0;
        // Blocks wait for this one, so the workers that were started come up.
        let begun = Instant::now();
        while self.workers < self.wanted && begun.elapsed() < PATIENCE {
            self.workers = self.workers.max(workers());
            std::thread::yield_now();
        }
        self.workers = self.workers.max(workers());
        ControlFlow::Continue(())
    }
}

/// The only test of this program, so that all workers are its own.
#[test]
fn as_many_threads_as_are_wanted() {
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
            let mut sink = Watching { wanted: threads - 1, ..Watching::default() };
            let bytes = AtomicU64::new(0);
            let mut events = Events { tell: &mut |_| {}, bytes: &bytes };
            run(&job, &[Input::File(file.clone())], &mut sink, &mut events).unwrap();
            assert_eq!(sink.one_by_one + sink.in_parts, count, "{rule}");
            assert!(sink.in_parts > count / 2, "{rule}: {} in parts", sink.in_parts);
            assert_eq!(sink.workers, threads - 1, "{rule}");
        }
    }
}
