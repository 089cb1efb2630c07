//! The arguments of `kyanite browse`.

use clap::{Args, ValueHint};

use super::Reading;

/// `kyanite browse`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite browse timetable.json
  kyanite browse manifest.xml notices.xml
  kyanite query \"$(kyanite browse timetable.json)\" timetable.json

Arrows walk and open lines, s searches, e takes a path, a rule or an XPath and shows what it selects as you type;
x leaves and prints the path of the current line, q leaves without. F1 tells all keys.")]
pub struct Browse {
    /// Files or http(s) URLs, each a tab; `-` or none is standard input
    #[arg(value_name = "INPUT", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub inputs: Vec<String>,
    /// How they are read.
    #[command(flatten)]
    pub reading: Reading,
}
