//! The arguments of `kyanite rules`.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueHint};

use super::ParamArguments;

/// `kyanite rules`.
#[derive(Subcommand, Debug)]
pub enum Rules {
    /// Show all findings in rule files, with a sample also the paths that lead nowhere
    #[command(after_help = "\
Examples:
  kyanite rules check rules/departures.kyr rules/dearest.kyr
  kyanite rules check rules/departures.kyr --against timetable.json
  kyanite rules check rules/running.kyr -p 'vessel=Arctic Skua' --against bookings.jsonl
  kyanite rules check rules/port-fares.kyr --expect schemas/booking.json

Schemas are those that the rule expects and ensures, or those that are given. Exit status: 0 nothing is wrong, 1 a rule
does not fit its schemas, 2 it cannot run at all.")]
    Check(CheckRules),
    /// Lay rule files out in place: blanks, indents and line ends, comments kept
    #[command(after_help = "\
Examples:
  kyanite rules format rules/departures.kyr rules/dearest.kyr
  kyanite rules format --only-tell rules/departures.kyr
  kyanite rules format - < rules/dearest.kyr

Line ends before clauses, behind opening brackets and in long expressions stay where they are; what does
not fit in 100 columns is broken at its clauses or brackets.")]
    Format {
        /// The rule files, or - for standard input
        #[arg(value_name = "RULE", required = true, value_hint = ValueHint::FilePath)]
        rules: Vec<PathBuf>,
        /// Change nothing; name the files that are not laid out, and exit with status 1 if there are any
        #[arg(long)]
        only_tell: bool,
    },
    /// Write a first rule from a sample input and the output that is wanted of it
    #[command(after_help = "\
Examples:
  kyanite rules draft timetable.json wanted-departures.json
  kyanite rules draft --schemas schemas/manifest.xsd schemas/booking.json

Members are matched by equal values, and by name. What nothing explains is left as needed(…), with
a comment that says what was wanted.")]
    Draft {
        /// A sample of the input
        #[arg(value_name = "INPUT", value_hint = ValueHint::FilePath)]
        input: String,
        /// The output that is wanted of it
        #[arg(value_name = "WANTED", value_hint = ValueHint::FilePath)]
        wanted: String,
        /// Both are schemas: documents are made up that are valid by them, and members are matched by name
        #[arg(long)]
        schemas: bool,
        /// Write to a file
        #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        output: Option<PathBuf>,
    },
    /// Run a rule over a folder of cases, and show where its results differ from what is expected
    #[command(after_help = "\
Example:
  kyanite rules test rules/running.kyr rules/running-cases

Each case is a folder with an input file, perhaps params.json and files source-NAME for the
sources, and an expected file or message.txt, a part of the message that is expected.")]
    Test {
        /// The rule file
        #[arg(value_hint = ValueHint::FilePath)]
        rule: PathBuf,
        /// The folder of cases
        #[arg(value_hint = ValueHint::DirPath)]
        cases: PathBuf,
    },
}

/// `kyanite rules check`.
#[derive(Args, Debug)]
pub struct CheckRules {
    /// The rule files
    #[arg(value_name = "RULE", required = true, value_hint = ValueHint::FilePath)]
    pub rules: Vec<PathBuf>,
    /// A sample input, whose paths are searched
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub against: Option<String>,
    /// A schema of the input, in which paths are looked for
    #[arg(long = "expect", value_name = "SCHEMA", value_hint = ValueHint::FilePath)]
    pub expects: Option<String>,
    /// A schema of the result, that what is made is held against
    #[arg(long = "ensure", value_name = "SCHEMA", value_hint = ValueHint::FilePath)]
    pub ensures: Option<String>,
    /// The params that the rules are run with over it.
    #[command(flatten)]
    pub params: ParamArguments,
}
