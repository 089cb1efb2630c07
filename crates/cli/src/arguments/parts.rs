//! The arguments of runs over parts: `--partial`, and `kyanite combine`.

use clap::{Args, ValueHint};

use super::OutputArguments;

/// Options about a result, which a state is not.
const OF_A_RESULT: [&str; 16] = [
    "to",
    "compact",
    "indent",
    "canonical",
    "losses",
    "strict",
    "ensures",
    "skip_invalid",
    "root",
    "item",
    "lists",
    "maps",
    "columns",
    "flatten",
    "output_delimiter",
    "require",
];

/// A run over a part of the records.
#[derive(Args, Debug)]
#[command(next_help_heading = "Result")]
pub struct PartialArguments {
    /// Write what the groups and aggregates came to, not the result: kyanite combine joins these states, and ends the run
    #[arg(long, conflicts_with_all = OF_A_RESULT)]
    pub partial: bool,
    /// With --partial: the number of the part, where neither its name nor its range tells it from others; groups are in the order
    /// of parts, then of the names of inputs
    #[arg(long, value_name = "N", requires = "partial")]
    pub part: Option<u32>,
}

impl PartialArguments {
    /// The number of the part, if it is one.
    pub fn number(&self) -> Option<u64> {
        self.partial.then(|| self.part.unwrap_or_default().into())
    }
}

/// `kyanite combine`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite combine first.state second.state
  kyanite combine first.state second.state --partial -o both.state
  kyanite combine both.state --to csv -o fares.csv

The states are of one rule, run over parts of the records with --partial: files, or ranges of one. In whatever order they are
named, the result is that of one run over all.")]
pub struct Combine {
    /// Files of states; `-` is standard input
    #[arg(value_name = "STATE", required = true, value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub states: Vec<String>,
    /// Exit with status 1 if the result is nothing or an empty list
    #[arg(long, help_heading = "Result")]
    pub require: bool,
    /// Write the state of all of them, to be combined with others, not the result
    #[arg(long, conflicts_with_all = OF_A_RESULT, help_heading = "Result")]
    pub partial: bool,
    /// The output.
    #[command(flatten)]
    pub output: OutputArguments,
}
