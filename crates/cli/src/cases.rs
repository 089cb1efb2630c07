//! `kyanite rules test`: a rule over a folder of cases.
//!
//! Each case is a folder: an `input` file, if the rule reads any; `params.json`, a map of texts; files `source-NAME` for its
//! sources; and what is wanted: an `expected` file, whose extension says the format, or `message.txt`, a part of a message.

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use kyanite_flow::{Counters, Destination, Events, Input, InputOptions, Job, Layout, Output, run};
use kyanite_formats::{Format, detect, json};
use kyanite_lang::{Plan, Syntax, compile};
use kyanite_tree::{Arena, Code, Diagnostic};
use similar::TextDiff;

use crate::messages::Messages;
use crate::rule_text::read_rule;
use crate::status::Status;

/// What is wrong with a case: lines to show.
type Outcome = Result<(), String>;

/// Runs all cases; the answer is no when one of them fails.
pub fn test(rule: &Path, folder: &Path, messages: &mut Messages) -> Status {
    let rule_text = match read_rule(rule) {
        Ok(text) => text,
        Err(problem) => {
            messages.show(&problem);
            return Status::Command;
        }
    };
    let plan = match compile(rule_text, Syntax::Rule) {
        Ok(plan) => plan,
        Err((text, findings)) => {
            findings.iter().for_each(|finding| messages.show(&text.diagnostic(finding.clone())));
            return Status::Command;
        }
    };
    let cases = match folders(folder) {
        Ok(cases) if !cases.is_empty() => cases,
        Ok(_) | Err(_) => {
            let message = format!("there are no cases in {}", folder.display());
            let advice = "a case is a folder with an input and an expected file";
            messages.show(&Diagnostic::error(Code::RuleFile, message).advise(advice));
            return Status::Input;
        }
    };
    let mut out = io::stdout().lock();
    let mut failed = 0;
    for case in &cases {
        let name = case.file_name().unwrap_or_default().to_string_lossy();
        // When standard output is gone there is nobody to tell.
        let _ = match run_case(&plan, rule, case) {
            Ok(()) => writeln!(out, "passed: {name}"),
            Err(why) => {
                failed += 1;
                writeln!(out, "failed: {name}\n{}", why.trim_end())
            }
        };
    }
    let _ = writeln!(out, "{} passed, {failed} failed", cases.len() - failed);
    if failed > 0 { Status::No } else { Status::Done }
}

fn folders(folder: &Path) -> io::Result<Vec<PathBuf>> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() {
            found.push(path);
        }
    }
    found.sort();
    Ok(found)
}

/// The file of a case whose name, without its extension, is `stem`.
fn file(case: &Path, stem: &str) -> Option<PathBuf> {
    let entries = std::fs::read_dir(case).ok()?;
    let mut paths = entries.filter_map(|entry| Some(entry.ok()?.path()));
    paths.find(|path| {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        name.strip_prefix(stem).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
    })
}

fn run_case(plan: &Plan, rule: &Path, case: &Path) -> Outcome {
    let wanted = file(case, "expected");
    let message = file(case, "message");
    let (format, wanted_text) = match (&wanted, &message) {
        (Some(path), _) => {
            let name = path.file_name().and_then(|name| name.to_str());
            let format = detect::by_name(None, name).map_or(Format::Json, |found| found.format);
            (format, read(path)?)
        }
        (None, Some(path)) => (Format::Json, read(path)?),
        (None, None) => return Err("it has neither an expected file nor message.txt".into()),
    };
    match (given(plan, rule, case, format)?, wanted.is_some()) {
        (Ok(text), true) if text == wanted_text => Ok(()),
        (Ok(text), true) => {
            let diff = TextDiff::from_lines(&wanted_text, &text);
            Err(diff.unified_diff().context_radius(2).header("expected", "given").to_string())
        }
        (Ok(_), false) => Err("it gave a result in place of a message".into()),
        (Err(problems), false) => {
            let said =
                problems.iter().any(|problem| problem.message().contains(wanted_text.trim()));
            if said { Ok(()) } else { Err(words(&problems)) }
        }
        (Err(problems), true) => Err(words(&problems)),
    }
}

fn words(problems: &[Diagnostic]) -> String {
    problems.iter().map(|problem| format!("it ended with {problem}\n")).collect()
}

fn read(path: &Path) -> Result<String, String> {
    std::fs::read_to_string(path)
        .map_err(|error| format!("{} cannot be read: {error}", path.display()))
}

/// What the rule gives for a case, as text, or the messages that it ended with.
fn given(
    plan: &Plan,
    rule: &Path,
    case: &Path,
    format: Format,
) -> Result<Result<String, Vec<Diagnostic>>, String> {
    let params = match file(case, "params") {
        Some(path) => params(&read(&path)?)?,
        None => Vec::new(),
    };
    let folder = rule.parent().unwrap_or(Path::new(""));
    let source = |name: &str, own: &str| {
        file(case, &format!("source-{name}")).unwrap_or_else(|| folder.join(own))
    };
    let sources: Vec<(String, Input)> = plan
        .sources
        .iter()
        .map(|spec| (spec.name.clone(), Input::File(source(&spec.name, &spec.file))))
        .collect();
    let inputs = match file(case, "input") {
        Some(path) => vec![Input::File(path)],
        None if plan.reads_input() => return Err("it has no input file".into()),
        None => Vec::new(),
    };
    let scratch = tempfile::tempdir().map_err(|error| error.to_string())?;
    let target = scratch.path().join("given");
    let options = InputOptions::default();
    let job = Job { params: &params, sources: &sources, ..Job::new(plan, &options) };
    let counters = Counters::default();
    let mut events = Events { tell: &mut |_| {}, counters: &counters };
    let ran = Output::open(Destination::File(target.clone()), Layout::of(format)).and_then(
        |mut output| {
            run(&job, &inputs, &mut output, &mut events)?;
            output.finish().map(drop)
        },
    );
    Ok(match ran {
        Ok(()) => Ok(read(&target)?),
        Err(failed) => Err(failed.diagnostics().to_vec()),
    })
}

/// Params as a map of JSON gives them.
fn params(text: &str) -> Result<Vec<(String, String)>, String> {
    let arena = Arena::new();
    let (value, duplicates) = json::document(text, &arena, json::ReaderOptions::default())
        .map_err(|error| format!("params.json: {}", error.message()))?;
    if let Some(twice) = duplicates.first() {
        return Err(format!("params.json: the param `{}` is given twice", twice.name));
    }
    let Some(map) = value.as_map() else {
        return Err(format!(
            "params.json: a map of params is needed, not {}",
            value.kind().phrase()
        ));
    };
    let texts = map.members().iter().map(|member| {
        let text = member.value.scalar_text().map(str::to_owned);
        let text = text.unwrap_or_else(|| json::compact(member.value));
        (member.name.to_owned(), text)
    });
    Ok(texts.collect())
}
