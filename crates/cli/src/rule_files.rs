//! `kyanite rules check`, `format` and `draft`: rule files themselves.

use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicU64;

use kyanite_flow::{
    Destination, Events, Failed, Input, InputOptions, Layout, Output, Sink, read_whole,
};
use kyanite_formats::Format;
use kyanite_lang::{RuleText, Syntax, compile, format_rule};
use kyanite_tree::{Arena, Diagnostic, Value};

use crate::arguments::MessageOptions;
use crate::messages::Messages;
use crate::rule_text::{read_rule, unreadable_rule};
use crate::run::{Sample, over_sample};
use crate::status::Status;

/// `kyanite rules check`.
pub fn check(
    rules: &[PathBuf],
    sample: Sample<'_>,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Status {
    let mut status = Status::Done;
    for file in rules {
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
                if let Err(failed) = over_sample(&plan, file, sample, options, messages) {
                    messages.show_all(failed.diagnostics());
                    status = Status::from(&failed);
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
                messages.show_all(failed.diagnostics());
                status = Status::from(&failed);
            }
        }
    }
    status
}

/// Lays out one file. Gives whether it is left as it is though it is not laid out.
fn format_one(file: &Path, only_tell: bool) -> Result<bool, Failed> {
    let from_pipe = file.as_os_str() == "-";
    let name = if from_pipe { "standard input".into() } else { file.display().to_string() };
    let text = match from_pipe {
        true => io::read_to_string(io::stdin()),
        false => std::fs::read_to_string(file),
    };
    let text = text.map_err(|error| Failed::Command(vec![unreadable_rule(&name, &error)]))?;
    let laid_out = format_rule(&text).map_err(|findings| {
        let rule = RuleText::new(name, text.clone());
        Failed::Command(findings.iter().map(|finding| rule.diagnostic(finding.clone())).collect())
    })?;
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
fn write_text(text: &str, destination: Destination) -> Result<(), Failed> {
    let mut output = Output::open(destination, Layout::of(Format::Text))?;
    let _ = output.single(Some(Value::text(text.trim_end_matches('\n'))));
    output.finish().map(drop)
}

/// `kyanite rules draft`: a first rule from a sample input and the output that is wanted of it.
pub fn draft(input: &str, wanted: &str, output: Option<&Path>, messages: &mut Messages) -> Status {
    let arena = Arena::new();
    let bytes = AtomicU64::new(0);
    let mut tell = |problem: Diagnostic| messages.show(&problem);
    let mut events = Events { tell: &mut tell, bytes: &bytes };
    let mut read = |word: &str| {
        // Names in rules go without the prefixes of XML.
        let options = InputOptions { drop_namespaces: true, ..InputOptions::default() };
        read_whole(&Input::of_word(word), &options, &arena, &mut events)
    };
    let drafted = read(input).and_then(|input| Ok((input, read(wanted)?)));
    let written = drafted.and_then(|(input, wanted)| {
        let destination = match output {
            Some(file) => Destination::File(file.to_owned()),
            None => Destination::Stream(Box::new(io::stdout().lock())),
        };
        write_text(&kyanite_lang::draft(input, wanted), destination)
    });
    match written {
        Ok(()) => Status::Done,
        Err(failed) => {
            messages.show_all(failed.diagnostics());
            Status::from(&failed)
        }
    }
}
