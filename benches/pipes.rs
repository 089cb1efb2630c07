//! What a pipe costs over a file: the built program between others.
//!
//! Run with `cargo bench --bench pipes`; `KYANITE_BENCH_MB` sets another size than 400 MB. What writes into the pipe is this
//! program, from memory, and takes a core as long as it writes. With `-- growth` up to 20 GB go through one pipe, none of which is
//! kept on a disk, and a table shows the time and the memory that each size takes.
#![allow(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]
#![expect(clippy::print_stdout, reason = "the table is the output of a benchmark")]

use std::io::{Read, Write};
use std::process::{Command, Stdio};

use kyanite_benches::{bookings, candidate, compare, megabytes};

/// Gigabytes that go through one pipe.
const GROWTH: [u64; 5] = [1, 2, 5, 10, 20];

fn main() {
    match std::env::args().any(|argument| argument == "growth") {
        true => growth(),
        false => against_files(),
    }
}

/// The time and the memory of a pipeline by the size of what goes through it.
fn growth() {
    let piece = bookings(100_000_000);
    for (job, rule) in [
        ("Projection", "for b in $[*] return {b.id, b.leg.from, b.fare.amount}"),
        (
            "Group and sum",
            "for b in $[*] group by p = b.leg.from return {p, s: sum(b[*].fare.amount)}",
        ),
    ] {
        println!(
            "\n{job}\n\n| GB | seconds | seconds a GB | MB of memory |\n| ---: | ---: | ---: | ---: |"
        );
        for gigabytes in GROWTH {
            let mut command = Command::new(env!("CARGO_BIN_EXE_kyanite"));
            command.args(["query", rule, "-", "--from", "jsonl", "--to", "jsonl"]);
            command.args(["--stats", "--messages", "json"]);
            command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
            let mut child = command.spawn().unwrap();
            let mut pipe = child.stdin.take().unwrap();
            for _ in 0..gigabytes * 10 {
                pipe.write_all(&piece).unwrap();
            }
            drop(pipe);
            let mut told = String::new();
            child.stderr.take().unwrap().read_to_string(&mut told).unwrap();
            assert!(child.wait().unwrap().success(), "{told}");
            let number = |name: &str| -> f64 {
                let (_, number) = told.split_once(&format!("\"{name}\":")).unwrap();
                number.split([',', '}']).next().unwrap().parse().unwrap()
            };
            assert!(number("bytes") >= gigabytes as f64 * 1e9, "{told}");
            let (seconds, memory) = (number("seconds"), number("memory") / 1e6);
            println!(
                "| {gigabytes} | {seconds:.1} | {:.2} | {memory:.0} |",
                seconds / gigabytes as f64
            );
        }
    }
}

/// Pipes against files.
fn against_files() {
    let data = bookings(megabytes(400) * 1_000_000);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("bookings.jsonl");
    std::fs::write(&file, &data).unwrap();
    let program = |rule: &str, threads: &str, input: &str| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_kyanite"));
        command.args(["query", rule, input, "--from", "jsonl", "--to", "jsonl"]);
        command.args(["--threads", threads]).stdout(Stdio::null());
        command
    };
    let from_file = |rule: &str, threads: &str| {
        let status = program(rule, threads, file.to_str().unwrap()).stdin(Stdio::null()).status();
        u64::from(status.unwrap().success())
    };
    let from_pipe = |rule: &str, threads: &str| {
        let mut child = program(rule, threads, "-").stdin(Stdio::piped()).spawn().unwrap();
        let mut pipe = child.stdin.take().unwrap();
        data.chunks(128 * 1024).for_each(|chunk| pipe.write_all(chunk).unwrap());
        drop(pipe);
        u64::from(child.wait().unwrap().success())
    };
    for (job, rule) in [
        ("Selective filter", "$[?@.fare.amount > 1190].id"),
        ("Projection", "for b in $[*] return {b.id, b.leg.from, b.fare.amount}"),
    ] {
        for threads in ["1", "2"] {
            compare(
                &format!("{job}, threads: {threads}"),
                data.len(),
                7,
                vec![
                    candidate("a file", || from_file(rule, threads)),
                    candidate("a pipe", || from_pipe(rule, threads)),
                ],
            );
        }
    }
}
