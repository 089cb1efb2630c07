//! `kyanite rules check`, `format` and `draft`: rule files themselves.

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use kyanite_flow::{
    Destination, DocumentTypes, Input, InputOptions, Layout, Output, RunError, Set, Sink,
    check_rule, read_whole,
};
use kyanite_formats::Format;
use kyanite_lang::{Plan, RuleText, Syntax, compile, format_rule};
use kyanite_schema::SampleSettings;
use kyanite_tree::{Arena, Code, Diagnostic, Value};

use crate::arguments::{CheckRules, MessageOptions, When};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::rule_text::{read_rule, unreadable_rule};
use crate::run::{Sample, destination_of, input_from, keeping_to, over_sample, read_schemas};
use crate::status::Status;

/// `kyanite rules check`.
pub fn check(check: &CheckRules, options: &MessageOptions, messages: &mut Messages) -> Status {
    let sample = Sample { input: check.against.as_deref(), params: &check.params };
    let mut status = Status::Done;
    for file in &check.rules {
        let name = file.display().to_string();
        let rule = match read_rule(file) {
            Ok(rule) => rule,
            Err(problem) => {
                messages.show(&problem);
                return Status::Command;
            }
        };
        let before = messages.warnings;
        match compile(rule, Syntax::Rule) {
            Err((rule, findings)) => {
                findings
                    .iter()
                    .for_each(|finding| messages.show(&rule.diagnostic(finding.clone())));
                status = Status::Command;
                continue;
            }
            Ok(plan) => {
                for warning in &plan.warnings {
                    messages.show(&plan.rule().diagnostic(warning.clone()));
                }
                let found = match check.against_schemas(&plan, file, messages) {
                    Ok(found) => found,
                    Err(failed) => {
                        status = messages.end_with(&failed);
                        continue;
                    }
                };
                if !found.is_empty() {
                    messages.show_all(&found);
                    status = if status == Status::Done { Status::No } else { status };
                    continue;
                }
                if let Err(failed) = over_sample(&plan, file, sample, options, messages) {
                    status = messages.end_with(&failed);
                    continue;
                }
            }
        }
        if messages.warnings == before {
            let _ = writeln!(io::stdout().lock(), "{name}: nothing to say");
        }
    }
    status
}

impl CheckRules {
    /// What a rule does that the schemas of its input and its result have nothing for: those that are given, else those that the rule
    /// names, which are seen from its folder.
    fn against_schemas(
        &self,
        plan: &Plan,
        file: &Path,
        messages: &mut Messages,
    ) -> Result<Vec<Diagnostic>, RunError> {
        let folder = file.parent().unwrap_or(Path::new(""));
        let named = |given: &Option<String>, of_rule: &[String]| match given {
            Some(word) => vec![Input::of_word(word)],
            None => of_rule.iter().map(|word| input_from(folder, word)).collect(),
        };
        let inputs = named(&self.expects, &plan.expects);
        let results = named(&self.ensures, &plan.ensures);
        let arena = Arena::new();
        let sets: Vec<[Set; 1]> = inputs
            .iter()
            .chain(&results)
            .map(|input| keeping_to(std::slice::from_ref(input)))
            .collect();
        let mut types = Vec::new();
        for set in &sets {
            types.push(match read_schemas(set, &arena, messages)? {
                // Assertions say nothing of what may be there.
                Some(schemas) if schemas.counts() == [0, 0, 1] => None,
                Some(schemas) => {
                    let name = set[0].schemas[0].name();
                    Some(DocumentTypes::of(name, schemas, &arena)?)
                }
                None => None,
            });
        }
        let (inputs, results) = types.split_at(inputs.len());
        let by_item = plan.output.as_ref().is_some_and(|output| output.format.has_records());
        let mut found: Vec<Diagnostic> = Vec::new();
        for number in 0..inputs.len().max(results.len()) {
            let input = inputs.get(number).or(inputs.first());
            let result = results.get(number);
            let input = input.and_then(Option::as_ref);
            let result = result.and_then(Option::as_ref);
            for finding in check_rule(plan, input, result, by_item) {
                let told = plan.rule().diagnostic(finding);
                if !found.contains(&told) {
                    found.push(told);
                }
            }
        }
        Ok(found)
    }
}

/// `kyanite rules format`: lays rule files out, in place, or only tells which are not.
pub fn format(rules: &[PathBuf], only_tell: bool, messages: &mut Messages) -> Status {
    let mut status = Status::Done;
    for file in rules {
        match format_one(file, only_tell) {
            Ok(true) => {
                let _ = writeln!(io::stdout().lock(), "{}: not laid out", file.display());
                status = if status == Status::Done { Status::No } else { status };
            }
            Ok(false) => {}
            Err(failed) => {
                status = messages.end_with(&failed);
            }
        }
    }
    status
}

/// Lays out one file. Gives whether it is left as it is though it is not laid out.
fn format_one(file: &Path, only_tell: bool) -> Result<bool, RunError> {
    let from_pipe = file.as_os_str() == "-";
    let name = if from_pipe { "standard input".into() } else { file.display().to_string() };
    let text = match from_pipe {
        true => io::read_to_string(io::stdin()),
        false => std::fs::read_to_string(file),
    };
    let text = text.map_err(|error| RunError::Command(vec![unreadable_rule(&name, &error)]))?;
    let laid_out = format_rule(&text)
        .map_err(|findings| RunError::of_rule((RuleText::new(name, text.clone()), findings)))?;
    let differs = laid_out != text;
    if only_tell || !differs && !from_pipe {
        return Ok(differs);
    }
    let destination = match from_pipe {
        true => Destination::Stream(Box::new(io::stdout().lock())),
        false => Destination::File(file.to_owned()),
    };
    write_text(&laid_out, destination)?;
    Ok(false)
}

/// Writes a text whose last line ends.
fn write_text(text: &str, destination: Destination) -> Result<(), RunError> {
    let mut output = Output::open(destination, Layout::of(Format::Text))?;
    let _ = output.single(Some(Value::text(text.trim_end_matches('\n'))));
    output.finish().map(drop)
}

/// `kyanite rules draft`: a first rule from a sample input and the output that is wanted of it. Of schemas samples are made.
pub fn draft(
    (input, wanted): (&str, &str),
    are_schemas: bool,
    output: Option<&Path>,
    when: When,
    messages: &mut Messages,
) -> Status {
    let arena = Arena::new();
    let mut sample = |word| sample_of((word, are_schemas), &arena, when, messages);
    let drafted = sample(input).and_then(|input| Ok((input, sample(wanted)?)));
    let written = drafted.and_then(|(input, wanted)| {
        let destination = destination_of(output, None);
        let wanted = match are_schemas {
            true => kyanite_lang::alike(input, wanted, &arena),
            false => wanted,
        };
        write_text(&kyanite_lang::draft(input, wanted), destination)
    });
    match written {
        Ok(()) => Status::Done,
        Err(failed) => messages.end_with(&failed),
    }
}

/// A document, or one that is made up by a schema.
fn sample_of<'a>(
    (word, is_schema): (&str, bool),
    arena: &'a Arena,
    when: When,
    messages: &mut Messages,
) -> Result<Value<'a>, RunError> {
    // Names in rules go without the prefixes of XML.
    let options = InputOptions { drop_namespaces: true, ..InputOptions::default() };
    let input = Input::of_word(word);
    let sets = keeping_to(std::slice::from_ref(&input));
    if is_schema && let Some(schemas) = read_schemas(&sets, arena, messages)? {
        let settings = SampleSettings { seed: 1, ..SampleSettings::default() };
        return schemas.sample_value(settings, &options, arena);
    }
    let progress = Progress::start(when, false, input.size());
    let read = progress.watch(messages, |events| read_whole(&input, &options, arena, events))?;
    drop(progress);
    if kyanite_flow::is_schema(read) {
        let message = format!("{word} is a schema, and is taken as a sample");
        let told = Diagnostic::warning(Code::SchemaSuspect, message);
        messages
            .show(&told.advise("say --schemas to have documents made up that are valid by both"));
    }
    Ok(read)
}
