//! The arguments of `kyanite split`.

use std::path::PathBuf;

use clap::{ArgGroup, Args, ValueHint};
use kyanite_flow::RecordPath;

use super::{Reading, size};

/// `kyanite split`.
#[derive(Args, Debug)]
#[command(group(ArgGroup::new("cut").required(true).args(["records", "bytes", "by", "condition"])))]
#[command(after_help = "\
Examples:
  kyanite split bookings.jsonl --records 1000 --into parts
  kyanite split bookings.jsonl --by '$.leg.from' --into ports --manifest ports/parts.json
  kyanite split timetable.json --at '$.routes[*]' --by '$.id' --into routes
  kyanite split manifest.xml --at '$.manifest.vessel[*]' --by '$.@id' --into vessels
  kyanite split sailings.csv --bytes 1MB --into parts --name '{stem}-{no}.{ext}'

Each part is a document of the input's format that stands alone: a table has its header, a list of JSON its
brackets, elements of XML those that they stand in. All parts are there in the end, or none.")]
pub struct Split {
    /// The input, a file or an http(s) URL; `-` or none is standard input
    #[arg(value_name = "INPUT", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub input: Option<String>,
    /// How it is read.
    #[command(flatten)]
    pub reading: Reading,
    /// The path to the records of JSON or XML, of names and [*] [default: the items of the list that the document is]
    #[arg(long, value_name = "PATH", help_heading = "Parts")]
    pub at: Option<RecordPath>,
    /// So many records in each part
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..), help_heading = "Parts")]
    pub records: Option<u64>,
    /// The most bytes of a part; a part has at least one record
    #[arg(long, value_name = "SIZE", value_parser = size, help_heading = "Parts")]
    pub bytes: Option<u64>,
    /// Records for which this expression gives the same are in one part; $ is the record
    #[arg(long, value_name = "EXPRESSION", help_heading = "Parts")]
    pub by: Option<String>,
    /// A record for which this condition holds begins a part; $ is the record
    #[arg(long = "where", id = "condition", value_name = "CONDITION", help_heading = "Parts")]
    pub condition: Option<String>,
    /// Say at the end what was read, how fast, and what it took
    #[arg(long, help_heading = "Parts")]
    pub stats: bool,
    /// The folder for the parts
    #[arg(long, value_name = "FOLDER", value_hint = ValueHint::DirPath, help_heading = "Output")]
    pub into: PathBuf,
    /// The names of the parts: text with {stem}, {no}, {key} and {ext}, or expressions over these [default: {stem}-{no}.{ext},
    /// with --by {key}.{ext}]
    #[arg(long, value_name = "TEMPLATE", help_heading = "Output")]
    pub name: Option<String>,
    /// Write what the parts are to a file, as JSON
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, help_heading = "Output")]
    pub manifest: Option<PathBuf>,
}
