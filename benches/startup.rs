//! How long the program takes on a tiny file: what it costs to start.
//!
//! Run with `cargo bench --bench startup`. The baseline is a program that says hello, with the same allocator: this one.
#![allow(clippy::unwrap_used, reason = "a benchmark that cannot run may panic")]
#![expect(clippy::print_stdout, reason = "the table is the output of a benchmark")]

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Runs of each program.
const RUNS: usize = 300;

fn main() {
    if std::env::args().any(|argument| argument == "hello") {
        println!("hello");
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("berth.json");
    std::fs::write(&file, r#"{"berth": {"no": 4, "depth": 6.5}}"#).unwrap();
    let file = file.to_str().unwrap();
    let hello = std::env::current_exe().unwrap();
    let hello = hello.to_str().unwrap();
    let kyanite = env!("CARGO_BIN_EXE_kyanite");
    let programs: [(&str, Vec<&str>); 3] = [
        ("a program that says hello", vec![hello, "hello"]),
        ("kyanite query $.berth.depth", vec![kyanite, "query", "$.berth.depth", file]),
        ("kyanite convert --to yaml", vec![kyanite, "convert", file, "--to", "yaml"]),
    ];
    let mut times = vec![Vec::with_capacity(RUNS); programs.len()];
    for _ in 0..RUNS {
        for ((_, words), times) in programs.iter().zip(&mut times) {
            let mut command = Command::new(words[0]);
            command.args(&words[1..]).stdin(Stdio::null()).stdout(Stdio::null());
            let start = Instant::now();
            assert!(command.status().unwrap().success());
            times.push(start.elapsed());
        }
    }
    println!(
        "\nStarting (median of {RUNS})\n\n| program | ms | more than the first |\n| --- | ---: | ---: |"
    );
    let mut first = Duration::ZERO;
    for ((name, _), times) in programs.iter().zip(&mut times) {
        times.sort_unstable();
        let median = times[times.len() / 2];
        if first.is_zero() {
            first = median;
        }
        let ms = |time: Duration| time.as_secs_f64() * 1e3;
        println!("| {name} | {:.1} | {:.1} |", ms(median), ms(median) - ms(first));
    }
}
