//! The arguments of `kyanite validate`.

use std::path::PathBuf;

use clap::{Args, ValueEnum, ValueHint};
use kyanite_formats::Format;
use kyanite_schema::json::Draft;

use super::{SchemaReferences, report};

/// `kyanite validate`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite validate --schema schemas/booking.json bookings.jsonl
  kyanite validate --schema schemas/manifest.xsd manifest.xml
  kyanite validate --report html=report.html --report junit=report.xml
  kyanite query '$[0]' bookings.jsonl | kyanite validate --schema schemas/booking.json

Schemas are JSON Schemas of draft 4, 6, 7, 2019-09 or 2020-12, in JSON, YAML or TOML, XML Schemas 1.0,
and Schematron schemas.
Without inputs and schemas the sets of kyanite.toml are checked, in this folder or above it. Each
record of JSON Lines and CSV is a document; elements of XML are checked by JSON Schemas in the record
view. Exit status: 0 all is valid, 1 something is not, 2 a schema is wrong, 3 an input cannot be read.")]
pub struct Validate {
    /// Files, folders, patterns or http(s) URLs to check; `-`, or none where no set is, is standard input
    #[arg(value_name = "INPUT", value_hint = ValueHint::AnyPath)]
    pub inputs: Vec<String>,
    /// A schema; several all have to hold [default: those that the documents name]
    #[arg(long = "schema", value_name = "SCHEMA", value_hint = ValueHint::FilePath)]
    pub schemas: Vec<String>,
    /// A set of kyanite.toml [default: all, or those that the inputs belong to]
    #[arg(long = "validation", value_name = "NAME", conflicts_with = "schemas")]
    pub sets: Vec<String>,
    /// Of folders only files that fit this pattern [default: those of formats that are read]
    #[arg(long, value_name = "GLOB")]
    pub include: Vec<String>,
    /// Of folders no files, and no folders, that fit this pattern
    #[arg(long, value_name = "GLOB")]
    pub exclude: Vec<String>,
    /// A file with the names of inputs, one a line; `-` is standard input
    #[arg(long = "files-from", value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub files_from: Option<String>,
    /// A form of the report, and the file that it goes to [default: text to standard output]
    #[arg(long = "report", value_name = "FORM[=FILE]", value_parser = report::<ReportForm>)]
    pub reports: Vec<(ReportForm, Option<PathBuf>)>,
    /// The file for the report that goes to none
    #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub output: Option<PathBuf>,
    /// End with the first input that has findings
    #[arg(long)]
    pub fail_fast: bool,
    /// End after this number of findings
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub max_findings: Option<u64>,
    /// The least severe finding that makes the exit status 1
    #[arg(long, value_name = "SEVERITY", default_value = "error")]
    pub fail_on: FailOn,
    /// A file of findings that are accepted for now
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub known: Option<PathBuf>,
    /// Write what is found to a file for --known
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub write_known: Option<PathBuf>,
    /// Texts have to be of the `format` that a JSON Schema names, and hold what it says
    #[arg(long)]
    pub assert_formats: bool,
    /// The phase of Schematron schemas; #ALL is all patterns [default: what the schema says]
    #[arg(long, value_name = "PHASE")]
    pub phase: Option<String>,
    /// What schemas refer to, and how they are read.
    #[command(flatten)]
    pub references: SchemaReferences,
    /// The format of the inputs [default: by extension, then by content]
    #[arg(short, long, value_name = "FORMAT")]
    pub from: Option<Format>,
    /// Repair broken XML and leave broken records out, and say so, in place of findings
    #[arg(long)]
    pub lenient: bool,
    /// Say at the end what was read, how fast, and what it took
    #[arg(long)]
    pub stats: bool,
    /// How many threads check inputs [default: as many as there are cores]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub threads: Option<u16>,
}

/// The form of a report.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum ReportForm {
    /// To read in a terminal
    Text,
    /// For programs
    Json,
    /// For programs
    Xml,
    /// A page, to read in a browser
    Html,
    /// Test results in XML, for CI systems
    Junit,
    /// SARIF 2.1.0, for code scanning
    Sarif,
    /// Schematron Validation Report Language (ISO/IEC 19757-3)
    Svrl,
    /// The `basic` output of the JSON Schema standard
    JsonSchemaOutput,
}

/// The least severe finding that counts.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum FailOn {
    /// Warnings count, too
    Warning,
    /// Only errors count
    Error,
}

/// A draft of JSON Schema.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum DraftName {
    /// Draft 4
    #[value(name = "4")]
    V4,
    /// Draft 6
    #[value(name = "6")]
    V6,
    /// Draft 7
    #[value(name = "7")]
    V7,
    /// Draft 2019-09
    #[value(name = "2019-09")]
    V2019,
    /// Draft 2020-12
    #[value(name = "2020-12")]
    V2020,
}

impl From<DraftName> for Draft {
    fn from(name: DraftName) -> Self {
        match name {
            DraftName::V4 => Self::V4,
            DraftName::V6 => Self::V6,
            DraftName::V7 => Self::V7,
            DraftName::V2019 => Self::V2019,
            DraftName::V2020 => Self::V2020,
        }
    }
}

/// `URI=FILE`
pub(super) fn mapping(text: &str) -> Result<(String, String), String> {
    match text.rsplit_once('=') {
        Some((uri, file)) if !uri.is_empty() && !file.is_empty() => {
            Ok((uri.trim_end_matches('#').to_owned(), file.to_owned()))
        }
        _ => Err("write it as URI=FILE".into()),
    }
}
