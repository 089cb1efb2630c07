//! Runs the public conformance suites: `cargo run --release -p conformance -- SUITES`.
//!
//! Each suite gives how many of its cases pass. The figures are held against those in docs/conformance.md: a figure
//! that has fallen, or a suite that is not recorded there, fails the run.
#![allow(
    clippy::print_stdout,
    clippy::print_stderr,
    reason = "this program's output is its report"
)]

mod csv;
mod json_parsing;
mod json_patch;
mod json_schema;
mod toml;
mod xml;
mod yaml;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// How a suite went.
pub struct Outcome {
    /// How many cases passed.
    passed: usize,
    /// How many cases there are.
    cases: usize,
    /// The cases that failed, with what went wrong.
    failures: Vec<String>,
}

/// A suite: its name in docs/conformance.md, its file or folder, and what runs it.
struct Suite {
    name: &'static str,
    file: &'static str,
    run: fn(&Path) -> Result<Outcome, String>,
}

const SUITES: &[Suite] = &[
    Suite { name: "JSON syntax", file: "json-parsing.json", run: json_parsing::run },
    Suite { name: "JSON Patch", file: "json-patch.json", run: json_patch::run },
    Suite { name: "JSON Schema", file: "json-schema", run: json_schema::run },
    Suite { name: "XML well-formedness", file: "xml", run: xml::run },
    Suite { name: "YAML values", file: "yaml.json", run: yaml::run },
    Suite { name: "TOML values", file: "", run: toml::run },
    Suite { name: "CSV records", file: "csv", run: csv::run },
];

fn main() -> ExitCode {
    let Some(folder) = std::env::args_os().nth(1).map(PathBuf::from) else {
        eprintln!("usage: conformance SUITES");
        return ExitCode::from(2);
    };
    let figures = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/conformance.md");
    let recorded = std::fs::read_to_string(&figures).unwrap_or_default();
    let mut all_well = true;
    for suite in SUITES {
        match (suite.run)(&folder.join(suite.file)) {
            Ok(outcome) => all_well &= report(suite, &outcome, &recorded),
            Err(error) => {
                println!("{}: {error}", suite.name);
                all_well = false;
            }
        }
    }
    if all_well { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

/// Prints how a suite went; whether that is at least what is recorded.
fn report(suite: &Suite, outcome: &Outcome, recorded: &str) -> bool {
    let Outcome { passed, cases, failures } = outcome;
    println!("{}: {passed} of {cases}", suite.name);
    for failure in failures {
        println!("  {failure}");
    }
    match recorded_figure(recorded, suite.name) {
        Some(figure) if *passed >= figure => true,
        Some(figure) => {
            println!("  docs/conformance.md records {figure}");
            false
        }
        None => {
            println!("  docs/conformance.md records no figure for this suite");
            false
        }
    }
}

/// The figure in the row `| name | passed of cases | … |`.
fn recorded_figure(recorded: &str, name: &str) -> Option<usize> {
    let row = recorded.lines().find_map(|line| line.strip_prefix(&format!("| {name} | ")))?;
    row.split(' ').next()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fallen_or_missing_figure_fails() {
        let suite = &SUITES[0];
        let outcome = |passed| Outcome { passed, cases: 10, failures: Vec::new() };
        let recorded = "| suite | passes |\n| JSON syntax | 9 of 10 | |\n";
        assert!(report(suite, &outcome(9), recorded));
        assert!(report(suite, &outcome(10), recorded));
        assert!(!report(suite, &outcome(8), recorded));
        assert!(!report(suite, &outcome(10), ""));
    }
}
