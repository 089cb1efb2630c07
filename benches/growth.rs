//! How the time grows with the input: a filter and a grouping over JSON Lines, on one thread and on all; a join.
//!
//! Run with `cargo bench --bench growth`; `KYANITE_BENCH_MB` sets the largest size, 4000 unless said. It draws
//! docs/growth.svg and prints the table of docs/benchmarks.md.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a benchmark that cannot run may panic"
)]

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;
use std::time::Instant;

use kyanite_benches::{bookings, megabytes};
use kyanite_flow::{Destination, Layout};
use kyanite_formats::Format;

/// The seconds that a rule takes over a file.
fn seconds(rule: &str, input: &Path, threads: usize) -> f64 {
    let nowhere: Box<dyn std::io::Write> = Box::new(std::io::sink());
    let start = Instant::now();
    let layout = Layout::of(Format::JsonLines);
    kyanite_benches::kyanite(rule, input, Destination::Stream(nowhere), layout, threads);
    start.elapsed().as_secs_f64()
}

/// A curve of the plot: its name, and seconds by gigabytes.
struct Curve {
    name: String,
    points: Vec<(f64, f64)>,
}

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let most = megabytes(4000);
    let sizes: Vec<u64> = [40, 20, 10, 4, 2, 1].map(|part| most / part).to_vec();
    let file = folder.path().join("bookings.jsonl");
    let piece = bookings(sizes[0] * 1_000_000);
    let mut curves: Vec<Curve> = Vec::new();
    for (name, rule) in [
        ("filter", "$[?@.fare.amount > 1190].id"),
        (
            "group and sum",
            "for b in $[*] group by p = b.leg.from return {p, s: sum(b[*].fare.amount)}",
        ),
    ] {
        for threads in [1, 2] {
            let name = format!("{name}, {threads} thread{}", if threads == 1 { "" } else { "s" });
            println!("\n{name}\n\n| GB | seconds |\n| ---: | ---: |");
            let mut points = Vec::new();
            for size in &sizes {
                let mut output = std::fs::File::create(&file).unwrap();
                for _ in 0..size / sizes[0] {
                    output.write_all(&piece).unwrap();
                }
                drop(output);
                let gigabytes = *size as f64 / 1000.0;
                // The faster of two runs: others use this machine, too.
                let time = seconds(rule, &file, threads).min(seconds(rule, &file, threads));
                println!("| {gigabytes:.1} | {time:.2} |");
                points.push((gigabytes, time));
            }
            curves.push(Curve { name, points });
        }
    }
    std::fs::write(concat!(env!("CARGO_MANIFEST_DIR"), "/../docs/growth.svg"), plot(&curves))
        .unwrap();
    join(folder.path());
}

/// A join of two tables with as many rows each.
fn join(folder: &Path) {
    println!("\njoin\n\n| rows in each | seconds |\n| ---: | ---: |");
    for rows in [50_000, 100_000, 200_000] {
        let (left, right) = (folder.join("left.jsonl"), folder.join("right.jsonl"));
        let table = |factor: usize| {
            (0..rows).fold(String::new(), |mut text, row: usize| {
                let _ = writeln!(text, "{{\"id\": {}, \"v\": {row}}}", row * factor % rows);
                text
            })
        };
        std::fs::write(&left, table(7)).unwrap();
        std::fs::write(&right, table(11)).unwrap();
        let rule = format!(
            "source b = \"{}\"\nfor x in $[*] for y in b[*] where y.id == x.v return {{x.id, y.v}}",
            right.display()
        );
        println!("| {rows} | {:.2} |", seconds(&rule, &left, 1));
    }
}

/// The curves as a picture.
fn plot(curves: &[Curve]) -> String {
    let (width, height, left, bottom) = (760.0, 420.0, 60.0, 50.0);
    let points = || curves.iter().flat_map(|curve| &curve.points);
    let most = |of: fn(&(f64, f64)) -> f64| points().map(of).fold(0.0, f64::max);
    let (x_most, y_most) = (most(|point| point.0), most(|point| point.1));
    let x = |value: f64| left + value / x_most * (width - left - 190.0);
    let y = |value: f64| height - bottom - value / y_most * (height - bottom - 30.0);
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width} {height}\" font-family=\"sans-serif\" font-size=\"13\">\n\
         <rect width=\"{width}\" height=\"{height}\" fill=\"#fbfaf7\"/>\n\
         <path d=\"M{left} 30V{0}H{1}\" fill=\"none\" stroke=\"#555\"/>\n\
         <text x=\"{left}\" y=\"20\">seconds</text><text x=\"{1}\" y=\"{2}\" text-anchor=\"end\">GB of JSON Lines</text>\n",
        height - bottom,
        x(x_most),
        height - 12.0
    );
    for part in 0..=4 {
        let (at_x, at_y) = (x_most * f64::from(part) / 4.0, y_most * f64::from(part) / 4.0);
        let _ = writeln!(
            svg,
            "<text x=\"{}\" y=\"{}\" text-anchor=\"middle\">{at_x:.1}</text>",
            x(at_x),
            height - bottom + 18.0
        );
        let _ = writeln!(
            svg,
            "<text x=\"{}\" y=\"{}\" text-anchor=\"end\">{at_y:.1}</text>",
            left - 8.0,
            y(at_y) + 4.0
        );
    }
    let mut labels: Vec<f64> = Vec::new();
    let mut colored: Vec<(&Curve, &str)> =
        curves.iter().zip(["#a8432f", "#d98f4e", "#1f5f8b", "#4e9a8f"]).collect();
    let end = |curve: &Curve| curve.points.last().map_or(0.0, |point| point.1);
    colored.sort_by(|a, b| end(b.0).total_cmp(&end(a.0)));
    for (curve, color) in colored {
        let line: Vec<String> = curve
            .points
            .iter()
            .map(|(gb, time)| format!("{:.1},{:.1}", x(*gb), y(*time)))
            .collect();
        let _ = writeln!(
            svg,
            "<polyline points=\"{}\" fill=\"none\" stroke=\"{color}\" stroke-width=\"2\"/>",
            line.join(" ")
        );
        if let Some((gb, time)) = curve.points.last() {
            // Labels stand below each other.
            let at = labels.last().map_or(0.0, |last| last + 16.0).max(y(*time) + 4.0);
            labels.push(at);
            let at_x = x(*gb) + 8.0;
            let name = &curve.name;
            let _ = writeln!(svg, "<text x=\"{at_x}\" y=\"{at}\" fill=\"{color}\">{name}</text>");
        }
    }
    svg + "</svg>\n"
}
