//! The arguments of `kyanite survey`.

use std::path::PathBuf;

use clap::{Args, ValueEnum, ValueHint};
use kyanite_flow::{ByteRange, RecordPath};

use super::{Reading, range, report, size};

/// What means nothing for states of surveys.
const OF_READING: [&str; 15] = [
    "from",
    "delimiter",
    "unnamed",
    "encoding",
    "lenient",
    "repairs",
    "drop_namespaces",
    "unwrap",
    "at",
    "against",
    "range",
    "threads",
    "stats",
    "partial",
    "part",
];

/// What a state is not: a report.
const OF_A_REPORT: [&str; 3] = ["reports", "against", "no_examples"];

/// `kyanite survey`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite survey bookings.jsonl
  kyanite survey timetable.json --at '$.routes[*].sailings[*]'
  kyanite survey manifest.xml --drop-namespaces
  kyanite survey tickets.csv ports.csv
  kyanite survey bookings.jsonl --against last-week.jsonl
  kyanite survey bookings.jsonl --report html=bookings.html --report json=bookings.json
  kyanite survey bookings.jsonl --range 0-400kB --partial -o head.state
  kyanite survey bookings.jsonl --range 400kB- --partial -o tail.state
  kyanite survey --combine head.state tail.state

Records are the items of a stream or of a document that is a list, and documents that are none. Each path is
told with how many records have it, what its values are, and an example; then the kinds of records that are
mixed, each with a filter for $[?...], members that could be keys, and what is worth a look.")]
pub struct Survey {
    /// Files or http(s) URLs to look into, as one; `-` or none is standard input
    #[arg(value_name = "INPUT", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub inputs: Vec<String>,
    /// How they are read.
    #[command(flatten)]
    pub reading: Reading,
    /// The path to the records in each document, of names and [*] [default: $[*], or $ where that is no list]
    #[arg(long, value_name = "PATH", help_heading = "Survey")]
    pub at: Option<RecordPath>,
    /// Say how the structure differs from that of another input: what came, went and moved since
    #[arg(long, value_name = "OTHER", value_hint = ValueHint::FilePath, help_heading = "Survey")]
    pub against: Option<String>,
    /// Only the records that begin in these bytes of a file of JSON Lines, CSV, TSV or text, from the first up to the last, as in
    /// 0-100MB; without the last, to the end
    #[arg(long, value_name = "FROM-TO", value_parser = range, help_heading = "Parts")]
    pub range: Option<ByteRange>,
    /// Write what was found as a state, to be joined with those of other parts by --combine; it holds values
    #[arg(long, conflicts_with_all = OF_A_REPORT, help_heading = "Parts")]
    pub partial: bool,
    /// With --partial: the number of the part, where neither its name nor its range tells it from others
    #[arg(long, value_name = "N", requires = "partial", help_heading = "Parts")]
    pub part: Option<u32>,
    /// The inputs are states, written with --partial: tell of all their records together
    #[arg(long, requires = "inputs", conflicts_with_all = OF_READING, help_heading = "Parts")]
    pub combine: bool,
    /// Show no value of the documents
    #[arg(long, help_heading = "Survey")]
    pub no_examples: bool,
    /// What may be held in memory, about; past it rare members are taken together, and no keys are found
    #[arg(long, value_name = "SIZE", default_value = "512MB", value_parser = size, help_heading = "Survey")]
    pub memory: u64,
    /// How many threads run over the records of a stream [default: as many as there are cores]
    #[arg(long, help_heading = "Survey", value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub threads: Option<u16>,
    /// Say at the end what was read, how fast, and what it took
    #[arg(long, help_heading = "Survey")]
    pub stats: bool,
    /// A form of the report, and the file that it goes to [default: text to standard output]
    #[arg(long = "report", value_name = "FORM[=FILE]", value_parser = report::<SurveyForm>, help_heading = "Output")]
    pub reports: Vec<(SurveyForm, Option<PathBuf>)>,
    /// The file for the report that goes to none
    #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath, help_heading = "Output")]
    pub output: Option<PathBuf>,
}

/// The form of a survey's report.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum SurveyForm {
    /// To read in a terminal
    Text,
    /// For programs
    Json,
    /// A page, to read in a browser
    Html,
    /// A JSON Schema, 2020-12, that the data satisfies
    JsonSchema,
    /// An XML Schema 1.0 that the documents satisfy, of XML
    Xsd,
}
