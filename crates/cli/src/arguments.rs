//! The command line: commands, options, and their help.

mod browse;
mod change;
mod parts;
mod reading;
mod rules;
mod schema;
mod split;
mod survey;
mod validate;

use std::path::PathBuf;

use clap::{ArgAction, Args, Parser, Subcommand, ValueEnum, ValueHint};
use kyanite_flow::ByteRange;
use kyanite_formats::Format;
use kyanite_formats::encoding::Charset;
use kyanite_lang::{Way, Ways};

pub use browse::{Background, Browse};
pub use change::{Diff, DiffForm, Patch};
pub use parts::{Combine, PartialArguments};
pub use reading::Reading;
pub use rules::{CheckRules, Rules};
pub use schema::{SampleOfSchema, SchemaCommand, SchemaLanguage, SchemaReferences, Translate};
pub use split::Split;
pub use survey::{Survey, SurveyForm};
pub use validate::{DraftName, FailOn, ReportForm, Validate};

/// Look into JSON, XML, YAML, TOML and CSV, find what you are after, reshape it, convert it
#[derive(Parser, Debug)]
#[command(
    name = "kyanite",
    version,
    max_term_width = 100,
    after_help = "\
Exit status: 0 done, 1 the answer is no, 2 the command line or the rule is wrong,
3 an input cannot be read, 4 a rule failed on the data, 5 the output cannot be written.

Try `kyanite demo` for a tour, and `kyanite COMMAND --help` for examples."
)]
pub struct Arguments {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
    /// What is said along the way.
    #[command(flatten)]
    pub messages: MessageOptions,
}

/// The commands.
#[derive(Subcommand, Debug)]
pub enum Command {
    /// Say what is in documents: every path, its values, and the kinds of records
    Survey(Survey),
    /// Walk through documents in the terminal, try paths, leave with one
    Browse(Browse),
    /// Show what a JSONPath, a JSON Pointer or a one-line rule selects
    Query(Query),
    /// Run a rule file over documents
    Reshape(Reshape),
    /// Write the same data in another format
    Convert(Convert),
    /// Join the states of runs over parts, and end the run
    Combine(Combine),
    /// Say what differs between two documents
    Diff(Diff),
    /// Apply a JSON Patch or a JSON Merge Patch
    Patch(Patch),
    /// Cut a large document or stream into parts
    Split(Split),
    /// Check documents against schemas
    Validate(Validate),
    /// Check schemas themselves, translate them, make up documents that are valid
    #[command(subcommand)]
    Schema(SchemaCommand),
    /// Check, lay out, draft and test rule files
    #[command(subcommand)]
    Rules(Rules),
    /// Take a tour on built-in sample data, or generate more of it
    Demo(Demo),
    /// Print the completions of a shell
    #[command(after_help = "\
Examples:
  kyanite completions bash > ~/.local/share/bash-completion/completions/kyanite
  kyanite completions fish > ~/.config/fish/completions/kyanite.fish")]
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Print the manual page
    #[command(after_help = "\
Example:
  kyanite manual > ~/.local/share/man/man1/kyanite.1")]
    Manual,
}

impl Command {
    /// The deepest nesting that the command may read.
    pub fn depth(&self) -> usize {
        match self {
            Self::Query(Query { input, .. })
            | Self::Reshape(Reshape { input, .. })
            | Self::Convert(Convert { input, .. }) => input.reading.depth as usize,
            Self::Browse(Browse { reading, .. })
            | Self::Survey(Survey { reading, .. })
            | Self::Diff(Diff { reading, .. })
            | Self::Patch(Patch { reading, .. })
            | Self::Split(Split { reading, .. }) => reading.depth as usize,
            // As deep as the result may be.
            Self::Combine(_) => kyanite_formats::json::DEFAULT_DEPTH,
            // As deep as schemas may apply each other.
            Self::Validate(_) | Self::Schema(_) => {
                kyanite_schema::json::DEPTH.max(kyanite_formats::json::DEFAULT_DEPTH)
            }
            _ => 0,
        }
    }
}

/// What is said along the way.
#[derive(Args, Debug)]
#[command(next_help_heading = "Messages")]
pub struct MessageOptions {
    /// Say only what ends the run
    #[arg(short, long, global = true, conflicts_with = "verbose")]
    pub quiet: bool,
    /// Say also how inputs were understood
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// Write messages as lines of text, or as a line of JSON each
    #[arg(
        long = "messages",
        global = true,
        value_name = "FORM",
        default_value = "text",
        hide_default_value = true
    )]
    pub form: MessageForm,
    /// Colour messages
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_default_value = true
    )]
    pub color: When,
    /// Show progress on long work
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_default_value = true
    )]
    pub progress: When,
}

/// How messages are written.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum MessageForm {
    /// For people
    Text,
    /// A line of JSON each
    Json,
}

/// When to do what suits only a terminal.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum When {
    /// On a terminal
    Auto,
    /// Even into a file or pipe
    Always,
    /// Not at all
    Never,
}

/// Inputs and how they are read.
#[derive(Args, Debug)]
#[command(next_help_heading = "Input")]
pub struct InputArguments {
    /// Files or http(s) URLs to read, .gz and .zst among them; `-` or none is standard input
    #[arg(value_name = "INPUT", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub inputs: Vec<String>,
    /// How they are read.
    #[command(flatten)]
    pub reading: Reading,
    /// A schema that the inputs have to keep to; otherwise nothing is done, and the exit status is 1
    #[arg(long = "expect", value_name = "SCHEMA", value_hint = ValueHint::FilePath)]
    pub expects: Vec<String>,
    /// An XML Schema or JSON Schema that says which texts of XML and cells of CSV are numbers, booleans, nulls and lists
    #[arg(long, value_name = "SCHEMA", value_hint = ValueHint::FilePath)]
    pub schema: Option<String>,
    /// Make one list of all inputs: of the records of CSV, JSON Lines and text, one after another, and of
    /// other documents, a list as one item
    #[arg(short, long)]
    pub gather: bool,
    /// Only the records that begin in these bytes of a file of JSON Lines, CSV, TSV or text, from the first up to the last, as in
    /// 0-100MB; without the last, to the end
    #[arg(long, value_name = "FROM-TO", value_parser = range)]
    pub range: Option<ByteRange>,
    /// What order by and group by may hold in memory, about; the rest waits in temporary files
    #[arg(long, value_name = "SIZE", default_value = "512MB", value_parser = size)]
    pub memory: u64,
    /// Say at the end what was read, how fast, and what it took
    #[arg(long)]
    pub stats: bool,
    /// How many threads run over the records of a stream [default: as many as there are cores]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub threads: Option<u16>,
    /// A way in which records are not to be taken (--explain names them): the result is the same, to see whether a way is at fault
    #[arg(long, value_name = "WAY", value_delimiter = ',', value_parser = way, env = "KYANITE_AVOID", hide_env = true)]
    pub avoid: Vec<Ways>,
}

/// A way of taking records, or `all`; without a name none.
fn way(name: &str) -> Result<Ways, String> {
    match Way::ALL.into_iter().find(|way| way.name() == name) {
        Some(way) => Ok(way.into()),
        None if name == "all" => Ok(Ways::all()),
        None if name.is_empty() => Ok(Ways::default()),
        None => Err(format!("the ways are {}, or all", Way::ALL.map(Way::name).join(", "))),
    }
}

impl InputArguments {
    /// A sample, read as usual.
    pub fn of_sample(sample: &str) -> Self {
        #[derive(Parser)]
        struct Only {
            #[command(flatten)]
            input: InputArguments,
        }
        Only::parse_from(["", "--", sample]).input
    }
}

/// Where results go and how they look.
#[derive(Args, Debug, Default)]
#[command(next_help_heading = "Output")]
pub struct OutputArguments {
    /// The format of the result: those of --from [default: by the extension of -o, else json]
    #[arg(short, long, value_name = "FORMAT")]
    pub to: Option<Format>,
    /// Write to a file; it is replaced only when all went well
    #[arg(short, long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub output: Option<PathBuf>,
    /// JSON without blanks or line ends
    #[arg(long, conflicts_with = "indent")]
    pub compact: bool,
    /// Blanks for each level of JSON, YAML and XML [default: 2]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u8).range(0..=16))]
    pub indent: Option<u8>,
    /// JSON in its canonical form (RFC 8785): one spelling for each value
    #[arg(long, conflicts_with_all = ["compact", "indent"])]
    pub canonical: bool,
    /// List what the format of the output cannot carry, each with its place
    #[arg(long)]
    pub losses: bool,
    /// Fail when the format of the output cannot carry everything
    #[arg(long)]
    pub strict: bool,
    /// A schema that the result has to keep to: what breaks it is not written, and the exit status is 1
    #[arg(long = "ensure", value_name = "SCHEMA", value_hint = ValueHint::FilePath)]
    pub ensures: Vec<String>,
    /// Of records, those that break the schema go to this file, as JSON Lines, and the others on
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub skip_invalid: Option<PathBuf>,
    /// How XML is written, and what its records look like.
    #[command(flatten)]
    pub xml: XmlArguments,
    /// How tables are written.
    #[command(flatten)]
    pub table: TableArguments,
}

/// How XML is written, and what its records look like.
#[derive(Args, Debug, Default)]
#[command(next_help_heading = "From and to XML")]
pub struct XmlArguments {
    /// Make the members at this path of XML's record view lists, even when they occur once
    #[arg(long = "list", value_name = "PATH", action = ArgAction::Append)]
    pub lists: Vec<String>,
    /// Make the members at this path of XML's record view maps, their text under #text, even without
    /// attributes
    #[arg(long = "as-map", value_name = "PATH", action = ArgAction::Append)]
    pub maps: Vec<String>,
    /// The name of the root element [default: the only member's name, else root]
    #[arg(long, value_name = "NAME")]
    pub root: Option<String>,
    /// The name of the elements that items of a list become [default: item]
    #[arg(long, value_name = "NAME")]
    pub item: Option<String>,
}

/// How tables are written.
#[derive(Args, Debug, Default)]
#[command(next_help_heading = "Output as CSV")]
pub struct TableArguments {
    /// The columns, in order [default: those of the first 1000 rows]
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub columns: Option<Vec<String>>,
    /// Write nested values into columns with dotted names
    #[arg(long)]
    pub flatten: bool,
    /// The character between cells [default: a comma, or a tab for tsv]
    #[arg(long, value_name = "CHARACTER", value_parser = delimiter)]
    pub output_delimiter: Option<u8>,
}

/// A value for a param of a rule.
#[derive(Args, Debug, Default)]
pub struct ParamArguments {
    /// Give a param of the rule its value
    #[arg(short, long = "param", value_name = "NAME=VALUE", value_parser = param, action = ArgAction::Append, help_heading = "Expression")]
    pub params: Vec<(String, String)>,
    /// Read a source of the rule from another file
    #[arg(long = "source", value_name = "NAME=FILE", value_parser = param, action = ArgAction::Append, help_heading = "Expression")]
    pub sources: Vec<(String, String)>,
}

/// `kyanite query`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite query '$.routes[*].name' timetable.json
  kyanite query '$..legs[?@.minutes > 60]' timetable.json --paths
  kyanite query 'avg($[?@.leg.from == \"ness\"].fare.amount)' bookings.jsonl
  kyanite query 'for b in $[*] where b.fare.amount > 1150 return b.id' bookings.jsonl --to text
  kyanite query /routes/0/sailings/2/id timetable.json
  kyanite query '$.positions[*].vessel' --unwrap beacon.json
  kyanite query '//v:deck[m:vehicle/m:weight > 1000]/@no' manifest.xml
  kyanite query '$ set .limits.wind_kn = 45' fleet.toml --in-place --dry-run
  kyanite query --syntax xpath '?routes?*?sailings?*[?vessel = \"Arctic Skua\"]?id' timetable.json

A path selects nodes as RFC 9535 says, and in XML as XPath 3.1 does; a path that selects nothing is explained on
standard error.")]
pub struct Query {
    /// A JSONPath or a one-line rule; if it begins with /, an XPath over XML and a JSON Pointer over all else
    #[arg(help_heading = "Arguments")]
    pub expression: String,
    /// The inputs.
    #[command(flatten)]
    pub input: InputArguments,
    /// What the expression is written in [default: rule; xpath or pointer if it begins with /]
    #[arg(long, value_name = "SYNTAX", help_heading = "Expression")]
    pub syntax: Option<SyntaxOption>,
    /// The params.
    #[command(flatten)]
    pub params: ParamArguments,
    /// What a prefix in an XPath means; without a prefix, =URI, the namespace of names that have none
    /// [default: as the root of the document declares]
    #[arg(long = "namespace", value_name = "PREFIX=URI", value_parser = namespace, action = ArgAction::Append, help_heading = "Expression")]
    pub namespaces: Vec<(String, String)>,
    /// Match the names in an XPath by their local part alone
    #[arg(long, help_heading = "Expression")]
    pub ignore_namespaces: bool,
    /// Print where each match is, as normalized paths or XPaths, not what it is
    #[arg(long, conflicts_with_all = ["count", "partial"], help_heading = "Result")]
    pub paths: bool,
    /// Print how many matches there are
    #[arg(long, conflicts_with = "partial", help_heading = "Result")]
    pub count: bool,
    /// Exit with status 1 if nothing is found
    #[arg(long, help_heading = "Result")]
    pub require: bool,
    /// Say in plain words how the expression would run, and stop
    #[arg(long, conflicts_with = "partial", help_heading = "Result")]
    pub explain: bool,
    /// Change the files themselves, and in them only what the rule changes: $ set ... or $ remove ...
    #[arg(long, conflicts_with_all = ["output", "to", "compact", "indent", "canonical", "gather", "range", "partial", "ensures", "skip_invalid", "unwrap", "lenient", "drop_namespaces", "paths", "count", "require", "explain"], help_heading = "Result")]
    pub in_place: bool,
    /// With --in-place: show what would change as a unified diff, and write nothing
    #[arg(long, requires = "in_place", help_heading = "Result")]
    pub dry_run: bool,
    /// Runs over parts.
    #[command(flatten)]
    pub partial: PartialArguments,
    /// The output.
    #[command(flatten)]
    pub output: OutputArguments,
}

/// What an expression is written in.
#[derive(ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum SyntaxOption {
    /// Exactly RFC 9535, nothing more
    Jsonpath,
    /// XPath 3.1
    Xpath,
    /// XPath 1.0
    #[value(name = "xpath-1.0")]
    Xpath1,
    /// JSON Pointer, RFC 6901
    Pointer,
    /// The rule language
    Rule,
}

/// `kyanite reshape`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite reshape rules/departures.kyr timetable.json --to jsonl
  kyanite reshape rules/dearest.kyr bookings.jsonl --param port=ness
  kyanite reshape rules/port-fares.kyr bookings.jsonl -o fares.json")]
pub struct Reshape {
    /// The rule file
    #[arg(value_name = "RULE", value_hint = ValueHint::FilePath, help_heading = "Arguments")]
    pub rule: PathBuf,
    /// The inputs.
    #[command(flatten)]
    pub input: InputArguments,
    /// The params.
    #[command(flatten)]
    pub params: ParamArguments,
    /// Exit with status 1 if the result is nothing or an empty list
    #[arg(long, help_heading = "Result")]
    pub require: bool,
    /// Say in plain words how the rule would run, and stop
    #[arg(long, conflicts_with = "partial", help_heading = "Result")]
    pub explain: bool,
    /// Stop after the N-th clause of the outermost for, and show the names bound there
    #[arg(long, value_name = "N", conflicts_with = "partial", help_heading = "Result")]
    pub until: Option<usize>,
    /// Say which lines of the rule and which places of the inputs made the values at a path of the result
    #[arg(long, value_name = "PATH", conflicts_with_all = ["watch", "apart", "explain", "partial"], help_heading = "Result")]
    pub trace: Option<String>,
    /// Run again whenever the rule, an input or a source changes; the last good result stays beside the error
    #[arg(long, conflicts_with_all = ["explain", "partial"], help_heading = "Result")]
    pub watch: bool,
    /// Write each member of the resulting map into a file of its own, named and formatted by its key
    #[arg(long, value_name = "FOLDER", value_hint = ValueHint::DirPath, conflicts_with_all = ["output", "to", "partial"], help_heading = "Result")]
    pub apart: Option<PathBuf>,
    /// Change the files themselves, and in them only what the rule changes: $ set ... or $ remove ...
    #[arg(long, conflicts_with_all = ["output", "to", "compact", "indent", "canonical", "gather", "range", "partial", "ensures", "skip_invalid", "unwrap", "lenient", "drop_namespaces", "apart", "watch", "trace", "until", "require", "explain"], help_heading = "Result")]
    pub in_place: bool,
    /// With --in-place: show what would change as a unified diff, and write nothing
    #[arg(long, requires = "in_place", help_heading = "Result")]
    pub dry_run: bool,
    /// Runs over parts.
    #[command(flatten)]
    pub partial: PartialArguments,
    /// The output.
    #[command(flatten)]
    pub output: OutputArguments,
}

/// `kyanite convert`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite convert bookings.jsonl --to json -o bookings.json
  kyanite convert tickets.csv --to jsonl
  kyanite convert berths.geojson --to csv --flatten
  kyanite convert bookings.jsonl --to tsv --flatten --columns id,leg.from,leg.to,fare.amount
  kyanite convert notices.xml --to json --list notice --as-map text
  kyanite convert pier-feed.xml --to json --lenient --quiet
  kyanite convert tariff.csv --to xml --root tariff --item fare

What the target format cannot carry is counted on standard error.")]
pub struct Convert {
    /// The inputs.
    #[command(flatten)]
    pub input: InputArguments,
    /// The output.
    #[command(flatten)]
    pub output: OutputArguments,
}

/// `kyanite demo`.
#[derive(Args, Debug)]
#[command(after_help = "\
Examples:
  kyanite demo                                  the tour, in a folder that is then removed
  kyanite demo ferries                          the tour; its files stay in ferries/
  kyanite demo --bookings 1GB > bookings.jsonl  sample data of any size")]
pub struct Demo {
    /// A new folder for the files of the tour
    #[arg(value_hint = ValueHint::DirPath)]
    pub folder: Option<PathBuf>,
    /// Write that many bookings, or that many bytes of them (kB, MB, GB), to standard output
    #[arg(long, value_name = "AMOUNT", value_parser = amount, conflicts_with = "folder")]
    pub bookings: Option<Amount>,
    /// The seed of the bookings; the same seed gives the same bytes
    #[arg(long, value_name = "N", default_value_t = kyanite_demo::Bookings::DEMO_SEED, requires = "bookings")]
    pub seed: u64,
}

/// An amount of generated data.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Amount {
    /// So many records.
    Records(u64),
    /// A least size, in bytes.
    Bytes(u64),
}

/// `FORM` or `FORM=FILE`: a form of a report, and the file that it goes to.
fn report<F: ValueEnum>(text: &str) -> Result<(F, Option<PathBuf>), String> {
    let (form, file) = match text.split_once('=') {
        Some((form, file)) if !file.is_empty() && file != "-" => (form, Some(PathBuf::from(file))),
        Some((form, _)) => (form, None),
        None => (text, None),
    };
    let known = || F::value_variants().iter().filter_map(ValueEnum::to_possible_value);
    match F::from_str(form, false) {
        Ok(form) => Ok((form, file)),
        Err(_) => {
            let names: Vec<String> = known().map(|value| value.get_name().to_owned()).collect();
            let near = kyanite_tree::near_words(form, names.iter().map(String::as_str));
            Err(near.unwrap_or_else(|| format!("there are {}", names.join(", "))))
        }
    }
}

fn delimiter(text: &str) -> Result<u8, String> {
    match text.as_bytes() {
        b"\\t" => Ok(b'\t'),
        [byte] if byte.is_ascii() && !matches!(byte, b'"' | b'\n' | b'\r') => Ok(*byte),
        _ => {
            Err("a delimiter is one ASCII character, neither a quote nor a line end; a tab is \\t"
                .into())
        }
    }
}

fn charset(name: &str) -> Result<Charset, String> {
    Charset::of_name(name).ok_or_else(|| {
        "no encoding has this name; names are those of the Encoding Standard, such as utf-8, utf-16le, \
         iso-8859-15, windows-1252, shift_jis or gb18030"
            .into()
    })
}

fn param(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
        _ => Err("write it as NAME=VALUE".into()),
    }
}

fn namespace(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((prefix, uri)) if !uri.is_empty() => Ok((prefix.to_owned(), uri.to_owned())),
        _ => Err("write it as PREFIX=URI, or =URI for names without a prefix".into()),
    }
}

fn amount(text: &str) -> Result<Amount, String> {
    match text.parse() {
        Ok(records) => Ok(Amount::Records(records)),
        Err(_) => size(text).map(Amount::Bytes),
    }
}

/// A number of bytes: `5000`, `200MB`.
fn size(text: &str) -> Result<u64, String> {
    let digits = text.bytes().take_while(u8::is_ascii_digit).count();
    let number: u64 =
        text[..digits].parse().map_err(|_| "write a number, such as 5000 or 200MB")?;
    let unit = match text[digits..].to_ascii_lowercase().as_str() {
        "" | "b" => 1,
        "kb" | "k" => 1_000,
        "mb" | "m" => 1_000_000,
        "gb" | "g" => 1_000_000_000,
        other => return Err(format!("`{other}` is no unit; there are kB, MB and GB")),
    };
    number.checked_mul(unit).ok_or_else(|| "that is too much".into())
}

/// A range of bytes: `0-100MB`, `100MB-`.
fn range(text: &str) -> Result<ByteRange, String> {
    let (from, to) = text.split_once('-').ok_or("write it as FROM-TO, as in 100MB-200MB")?;
    let (from, to) = (size(from)?, if to.is_empty() { u64::MAX } else { size(to)? });
    if from > to { Err("it ends before it begins".into()) } else { Ok(from..to) }
}

fn header(text: &str) -> Result<(String, String), String> {
    match text.split_once(':') {
        Some((name, value)) if !name.trim().is_empty() => {
            Ok((name.trim().to_owned(), value.trim().to_owned()))
        }
        _ => Err("write it as 'NAME: VALUE'".into()),
    }
}
