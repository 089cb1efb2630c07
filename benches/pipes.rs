//! What a pipe costs over a file: the built program between others.
//!
//! Run with `cargo bench --bench pipes`; `KYANITE_BENCH_MB` sets another size than 400 MB. What writes into the pipe is this
//! program, from memory, and takes a core as long as it writes.
#![allow(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]

use std::io::Write;
use std::process::{Command, Stdio};

use kyanite_benches::{bookings, candidate, compare, megabytes};

fn main() {
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
