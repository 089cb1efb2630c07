//! The arguments of `kyanite diff` and `kyanite patch`.

use std::path::PathBuf;

use clap::{ArgAction, Args, ValueEnum, ValueHint};
use kyanite_change::{Numbers, Pattern};
use kyanite_formats::Format;
use kyanite_tree::Decimal;

use super::{Reading, report, size};

/// `kyanite diff`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite diff timetable.json new/timetable.json
  kyanite diff timetable.json new/timetable.json --key '$.routes[*].sailings=id' --ignore '$.issued'
  kyanite diff manifest.xml manifests/holm.xml
  kyanite diff tariff.csv new/tariff.csv --key '$=kind,zone' --tolerance 0.01
  kyanite diff timetable.json new/timetable.json --report json-patch=timetable.patch.json

The order of members makes no difference; items of lists are compared where they stand, or told by a member.
XML is compared with XML by its elements, attributes and text, and with other formats in its record view.
Exit status: 0 nothing differs, 1 something does, 2 the command line is wrong, 3 an input cannot be read.")]
pub struct Diff {
    /// The old document, a file or an http(s) URL; `-` is standard input
    #[arg(value_name = "OLD", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub old: String,
    /// The new document
    #[arg(value_name = "NEW", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub new: String,
    /// How they are read.
    #[command(flatten)]
    pub reading: Reading,
    /// Tell the items of the lists at a path by a member, or by several
    #[arg(long = "key", value_name = "PATH=MEMBER[,MEMBER]", value_parser = key, action = ArgAction::Append, help_heading = "Comparison")]
    pub keys: Vec<(Pattern, Vec<String>)>,
    /// Leave out what is at a path, of names, .*, [*], [n] and ..
    #[arg(long = "ignore", value_name = "PATH", action = ArgAction::Append, help_heading = "Comparison")]
    pub ignored: Vec<Pattern>,
    /// Numbers that differ by no more are the same
    #[arg(long, value_name = "NUMBER", value_parser = decimal, help_heading = "Comparison")]
    pub tolerance: Option<Decimal>,
    /// Numbers are the same if their values are, or if they are spelled alike
    #[arg(
        long,
        value_name = "HOW",
        default_value = "value",
        conflicts_with = "tolerance",
        help_heading = "Comparison"
    )]
    pub numbers: NumberOption,
    /// What may be held, about, of streams whose records are told by a key: the rest waits in temporary files
    #[arg(long, value_name = "SIZE", default_value = "512MB", value_parser = size, help_heading = "Comparison")]
    pub memory: u64,
    /// Say at the end what was read, how fast, and what it took
    #[arg(long, help_heading = "Comparison")]
    pub stats: bool,
    /// A JSON Patch keeps the order of members, too
    #[arg(long, help_heading = "Output")]
    pub exact: bool,
    /// A form of the report, and the file that it goes to [default: text to standard output]
    #[arg(long = "report", value_name = "FORM[=FILE]", value_parser = report::<DiffForm>, help_heading = "Output")]
    pub reports: Vec<(DiffForm, Option<PathBuf>)>,
    /// The file for the report that goes to none
    #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath, help_heading = "Output")]
    pub output: Option<PathBuf>,
}

/// The form of what differs.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum DiffForm {
    /// To read in a terminal: one change below the other
    Text,
    /// To read in a terminal: old and new side by side
    Columns,
    /// For programs
    Json,
    /// A JSON Patch (RFC 6902) that makes the new document of the old one
    JsonPatch,
    /// A page, to read in a browser
    Html,
}

/// When numbers are the same.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum NumberOption {
    /// If their values are
    Value,
    /// If they are spelled alike
    Spelling,
}

impl From<NumberOption> for Numbers {
    fn from(option: NumberOption) -> Self {
        match option {
            NumberOption::Value => Self::Value,
            NumberOption::Spelling => Self::Spelling,
        }
    }
}

/// `kyanite patch`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite patch timetable.patch.json timetable.json --reverse back.json
  kyanite patch timetable.patch.json timetable.json --in-place
  kyanite patch --merge changes.json fleet.toml --in-place

All operations apply, or none; the message says which does not, and why.
Exit status: 0 done, 2 the patch is none, 3 an input cannot be read, 4 the patch does not apply.")]
pub struct Patch {
    /// The patch, in JSON or YAML: a JSON Patch (RFC 6902), or with --merge a JSON Merge Patch (RFC 7396)
    #[arg(value_name = "PATCH", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub patch: String,
    /// The document, XML in its record view; `-` or none is standard input
    #[arg(value_name = "INPUT", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub input: Option<String>,
    /// How it is read.
    #[command(flatten)]
    pub reading: Reading,
    /// The patch is a JSON Merge Patch: its members replace those of the document, and null removes them
    #[arg(long, help_heading = "Patch")]
    pub merge: bool,
    /// Write the JSON Patch that goes back to a file
    #[arg(
        long,
        value_name = "FILE",
        value_hint = ValueHint::FilePath,
        conflicts_with = "dry_run",
        help_heading = "Patch"
    )]
    pub reverse: Option<PathBuf>,
    /// Change the file itself; in JSON, YAML and TOML only what the patch changes
    #[arg(long, conflicts_with = "output", help_heading = "Output")]
    pub in_place: bool,
    /// Say at the end what was read, how fast, and what it took
    #[arg(long, help_heading = "Output")]
    pub stats: bool,
    /// With --in-place: show what would change as a unified diff, and write nothing
    #[arg(long, requires = "in_place", help_heading = "Output")]
    pub dry_run: bool,
    /// The format of the result [default: by the extension of -o, else that of the input]
    #[arg(
        short,
        long,
        value_name = "FORMAT",
        conflicts_with = "in_place",
        help_heading = "Output"
    )]
    pub to: Option<Format>,
    /// Write to a file; it is replaced only when all went well
    #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath, help_heading = "Output")]
    pub output: Option<PathBuf>,
    /// Blanks for each level of JSON, YAML and XML
    #[arg(long, value_name = "N", default_value_t = 2, value_parser = clap::value_parser!(u8).range(0..=16), help_heading = "Output")]
    pub indent: u8,
}

/// `PATH=MEMBER,MEMBER`
fn key(text: &str) -> Result<(Pattern, Vec<String>), String> {
    let (path, members) =
        text.rsplit_once('=').ok_or("write it as PATH=MEMBER, as in '$.routes[*].sailings=id'")?;
    let members: Vec<String> = members.split(',').map(|name| name.trim().to_owned()).collect();
    if members.iter().any(String::is_empty) {
        return Err("a member is missing behind the =".into());
    }
    // The items may be named in place of the list.
    let path = path.strip_suffix("[*]").unwrap_or(path);
    Ok((path.parse()?, members))
}

fn decimal(text: &str) -> Result<Decimal, String> {
    match Decimal::parse(text) {
        Ok(number) if number.signum() >= 0 => Ok(number),
        _ => Err("write a number, such as 0.01".into()),
    }
}
