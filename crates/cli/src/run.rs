//! `kyanite query`, `kyanite reshape` and `kyanite convert`: a rule, inputs, an output.

mod in_place;
mod options;
mod partial;
mod rule_command;
mod schemas;

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use kyanite_flow::{Captured, Destination, Input, RunError, What};
use kyanite_formats::{Format, detect};
use kyanite_lang::{Plan, RuleText, Syntax, compile};
use kyanite_tree::Arena;

use crate::arguments::{
    Convert, InputArguments, MessageOptions, OutputArguments, ParamArguments, Query, Reshape,
};
use crate::counted::Counted;
use crate::messages::Messages;
use crate::progress::Progress;
use crate::rule_text::read_rule;
use crate::status::Status;
use rule_command::RuleCommand;

pub use in_place::put as put_in_place;
pub use options::inputs_of;
pub use partial::combine;
pub use schemas::{input_from, keeping_to, read_schemas};

/// `kyanite query`.
pub fn query(query: &Query, options: &MessageOptions, messages: &mut Messages) -> Status {
    let rule = RuleText::new("the expression", query.expression.clone());
    let command = RuleCommand {
        what: if query.paths { What::Paths } else { What::Values },
        count: query.count,
        require: query.require,
        explain: query.explain,
        in_place: InPlace::of(query.in_place, query.dry_run),
        part: query.partial.number(),
        ..RuleCommand::new(rule, &query.input, &query.params, &query.output, options)
    };
    let written_in = match command.written_in(query) {
        Ok(written_in) => written_in,
        Err(failed) => return messages.end_with(&failed),
    };
    let may_be_xpath = query.syntax.is_none();
    RuleCommand { written_in, may_be_xpath, ..command }.run(messages)
}

/// What is done about files that a rule changes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum InPlace {
    Write,
    Show,
}

impl InPlace {
    fn of(in_place: bool, dry_run: bool) -> Option<Self> {
        in_place.then_some(if dry_run { Self::Show } else { Self::Write })
    }
}

/// `kyanite reshape`; what would go to standard output goes to `captured`, if that is there.
pub fn reshape(
    reshape: &Reshape,
    options: &MessageOptions,
    messages: &mut Messages,
    captured: Option<Captured>,
) -> Status {
    let rule = match read_rule(&reshape.rule) {
        Ok(rule) => rule,
        Err(problem) => {
            messages.show(&problem);
            return Status::Command;
        }
    };
    let command = RuleCommand {
        require: reshape.require,
        explain: reshape.explain,
        until: reshape.until,
        apart: reshape.apart.as_deref(),
        trace: reshape.trace.as_deref(),
        captured,
        in_place: InPlace::of(reshape.in_place, reshape.dry_run),
        part: reshape.partial.number(),
        ..RuleCommand::of_file(reshape, rule, options)
    };
    command.run(messages)
}

/// The files that a run of a rule reads: the rule, its libraries, its inputs and sources, as far as they are known.
pub fn files_of(reshape: &Reshape, options: &MessageOptions) -> Vec<PathBuf> {
    let mut files = vec![reshape.rule.clone()];
    let mut inputs: Vec<Input> =
        reshape.input.inputs.iter().map(|word| Input::of_word(word)).collect();
    if let Ok(rule) = read_rule(&reshape.rule) {
        files.extend(rule.libraries().map(PathBuf::from));
        if let Ok(plan) = compile(rule.clone(), Syntax::Rule) {
            let command = RuleCommand::of_file(reshape, rule, options);
            let sources = command.sources(&plan).unwrap_or_default();
            inputs.extend(sources.into_iter().map(|(_, input)| input));
        }
    }
    files.extend(inputs.into_iter().filter_map(|input| match input {
        Input::File(file) => Some(file),
        _ => None,
    }));
    files
}

/// `kyanite convert`: a rule that gives each document as it is, record by record where it has records.
pub fn convert(convert: &Convert, options: &MessageOptions, messages: &mut Messages) -> Status {
    let named = convert.output.to.or_else(|| format_of(convert.output.output.as_deref()?));
    let format = named.unwrap_or(Format::Json);
    let input = &convert.input;
    // A list goes to these formats item by item, so that a large one need not be held.
    let takes_items =
        format.has_records() || matches!(format, Format::Json | Format::Yaml | Format::Xml);
    let has_records = |word: &str| {
        let source = Input::of_word(word);
        match source.format_by_name(input.reading.from) {
            Some(Format::Json) => takes_items && !input.reading.unwrap && source.is_large_list(),
            from => from.is_some_and(Format::has_records),
        }
    };
    let by_record = input.gather
        || match input.inputs.as_slice() {
            [] => has_records("-"),
            words => words.iter().all(|word| has_records(word)),
        };
    let rule = RuleText::new("the conversion", if by_record { "$[*]" } else { "$" });
    let params = ParamArguments::default();
    let command = RuleCommand {
        carries_all: true,
        ..RuleCommand::new(rule, input, &params, &convert.output, options)
    };
    command.run(messages)
}

/// The format that a file's extension stands for; that of its compression in front is left out.
pub fn format_of(path: &Path) -> Option<Format> {
    detect::by_name(None, path.file_name()?.to_str()).map(|detected| detected.format)
}

/// What a rule is checked against.
#[derive(Clone, Copy)]
pub struct Sample<'c> {
    /// An input that the rule is run over.
    pub input: Option<&'c str>,
    /// Its params and sources.
    pub params: &'c ParamArguments,
}

/// Runs a rule over a sample for what its paths and conditions meet there; what it gives is left out. Without an input only the
/// params are looked at.
pub fn over_sample(
    plan: &Plan,
    file: &Path,
    sample: Sample<'_>,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<(), RunError> {
    let Sample { input: Some(sample), params } = sample else {
        let (given, arena) = (&sample.params.params, Arena::new());
        let wrong = kyanite_lang::Arguments::read(plan, given, &arena).err();
        let wrong = wrong.filter(|_| !given.is_empty());
        return wrong.map_or(Ok(()), |wrong| Err(RunError::Command(wrong)));
    };
    let (input, output) = (InputArguments::of_sample(sample), OutputArguments::default());
    let command = RuleCommand {
        folder: file.parent().map(Path::to_owned).unwrap_or_default(),
        count: true,
        ..RuleCommand::new(plan.rule().clone(), &input, params, &output, options)
    };
    let sources = command.sources(plan)?;
    let inputs = if plan.reads_input() { vec![Input::of_word(sample)] } else { Vec::new() };
    let progress = Progress::start(options.progress, false, command.size_of(&inputs));
    let options = command.input_options();
    let mut nothing = Counted { sink: None, found: 0, nothing: false };
    let job = command.job(plan, &sources, &options);
    progress.watch(messages, |events| kyanite_flow::run(&job, &inputs, &mut nothing, events))
}

/// How many threads there are, if not all that the machine has.
pub fn threads(wanted: Option<u16>) -> usize {
    let all = || std::thread::available_parallelism().map_or(1, usize::from);
    wanted.map_or_else(all, usize::from)
}

/// Where a result goes: to a file, or to standard output, which `-` is as well, or to what takes its place.
pub fn destination_of(output: Option<&Path>, captured: Option<&Captured>) -> Destination {
    match (output, captured) {
        (Some(path), _) if path.as_os_str() != "-" => Destination::File(path.to_owned()),
        (_, Some(captured)) => Destination::Stream(Box::new(captured.clone())),
        (_, None) => standard_output(),
    }
}

/// Standard output, as somewhere to write to.
pub fn standard_output() -> Destination {
    let stream: Box<dyn Write> = match kyanite_early::standard_output_was_closed() {
        true => Box::new(Closed),
        false => Box::new(io::stdout().lock()),
    };
    Destination::Stream(stream)
}

/// A standard output that was closed before the program began: what is written there is lost.
struct Closed;

impl Write for Closed {
    fn write(&mut self, _bytes: &[u8]) -> io::Result<usize> {
        Err(io::Error::other("it is closed"))
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
