//! What the benchmarks share: the data, the clock, the table of ratios.
//!
//! All candidates of a table run in turn, round after round, in one process; a row gives the median time and
//! its ratio to the first row, the baseline.

use std::hint::black_box;
use std::path::Path;
use std::time::{Duration, Instant};

use kyanite_demo::Bookings;
use kyanite_flow::{Counters, Destination, Events, Input, InputOptions, Job, Layout, Output, run};
use kyanite_formats::Format;
use kyanite_lang::{Plan, RuleText, Syntax, compile, compile_xpath};
use kyanite_xpath::{Namespaces, Version};

/// The size of the data in MB: what `KYANITE_BENCH_MB` says, else `usual`.
#[must_use]
pub fn megabytes(usual: u64) -> u64 {
    let said = std::env::var("KYANITE_BENCH_MB").ok().and_then(|size| size.parse().ok());
    said.unwrap_or(usual)
}

/// `bytes` of generated bookings, JSON Lines.
#[must_use]
pub fn bookings(bytes: u64) -> Vec<u8> {
    let mut data = Vec::with_capacity(bytes as usize + 1024);
    // Writing into a Vec cannot fail.
    let _ = Bookings::new(1).write_bytes(bytes, &mut data);
    data
}

/// One way to do the job; gives some figure that depends on the whole work.
pub struct Candidate<'a> {
    /// What it is called in the table.
    pub name: &'a str,
    /// The job.
    pub run: Box<dyn FnMut() -> u64 + 'a>,
}

/// Names a candidate.
pub fn candidate<'a>(name: &'a str, run: impl FnMut() -> u64 + 'a) -> Candidate<'a> {
    Candidate { name, run: Box::new(run) }
}

/// Runs all candidates in turn, `rounds` times, and prints the table for a job over `bytes` of input. Where the command
/// line has words, only tables are made whose titles have one of them.
#[expect(clippy::print_stdout, reason = "the table is the output of a benchmark")]
pub fn compare(title: &str, bytes: usize, rounds: usize, mut candidates: Vec<Candidate<'_>>) {
    let mut wanted = std::env::args().skip(1).filter(|word| !word.starts_with("--")).peekable();
    if wanted.peek().is_some() && !wanted.any(|word| title.contains(&word)) {
        return;
    }
    let mut times = vec![Vec::with_capacity(rounds); candidates.len()];
    for round in 0..=rounds {
        for (candidate, times) in candidates.iter_mut().zip(&mut times) {
            let start = Instant::now();
            black_box((candidate.run)());
            // The first round warms up.
            if round > 0 {
                times.push(start.elapsed());
            }
        }
    }
    let medians: Vec<Duration> = times
        .iter_mut()
        .map(|times| {
            times.sort_unstable();
            times[times.len() / 2]
        })
        .collect();
    println!("\n{title} ({} MB, median of {rounds})\n", bytes / 1_000_000);
    println!("| candidate | GB/s | times the first |\n| --- | ---: | ---: |");
    for (candidate, time) in candidates.iter().zip(&medians) {
        let speed = bytes as f64 / time.as_secs_f64() / 1e9;
        let ratio = medians[0].as_secs_f64() / time.as_secs_f64();
        println!("| {} | {speed:.2} | {ratio:.1} |", candidate.name);
    }
}

/// Runs a rule over a file; gives the bytes read.
#[expect(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]
pub fn kyanite(
    rule: &str,
    input: &Path,
    output: Destination,
    layout: Layout,
    threads: usize,
) -> u64 {
    let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
    run_plan(&plan, input, output, layout, threads)
}

/// Evaluates an XPath 3.1 over a file; gives the bytes read.
#[expect(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]
pub fn xpath(expression: &str, input: &Path, output: Destination, threads: usize) -> u64 {
    let text = RuleText::new("expression", expression);
    let plan = compile_xpath(text, Version::V31, Namespaces::new(), &[]).unwrap();
    run_plan(&plan, input, output, Layout::of(Format::JsonLines), threads)
}

#[expect(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]
fn run_plan(plan: &Plan, input: &Path, output: Destination, layout: Layout, threads: usize) -> u64 {
    let options = InputOptions { threads, ..InputOptions::default() };
    let named = |source: &kyanite_lang::SourceSpec| {
        (source.name.clone(), Input::File(source.file.clone().into()))
    };
    let sources: Vec<(String, Input)> = plan.sources.iter().map(named).collect();
    let job = Job { sources: &sources, ..Job::new(plan, &options) };
    let mut output = Output::open(output, layout).unwrap();
    let counters = Counters::default();
    let mut events = Events { tell: &mut |_| {}, counters: &counters };
    run(&job, &[Input::File(input.to_owned())], &mut output, &mut events).unwrap();
    output.finish().unwrap();
    counters.bytes.into_inner()
}
