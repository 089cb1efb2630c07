//! `kyanite split`: an input cut into parts.

use std::path::PathBuf;

use kyanite_flow::{Input, RunError, SplitBy, SplitPart, Splitting, TEMPLATE_PARAMS, split};
use kyanite_lang::{Plan, RuleText, Syntax, compile};
use kyanite_tree::{Arena, Code, Diagnostic, Value, counted};

use crate::arguments::{MessageOptions, Split};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::report::{as_json, number};
use crate::run::{destination_of, inputs_of};
use crate::stats::Stats;
use crate::status::Status;
use crate::written::keep_apart;

/// Runs the command.
pub fn run(command: &Split, options: &MessageOptions, messages: &mut Messages) -> Status {
    match cut(command, options, messages) {
        Ok(()) => Status::Done,
        Err(failed) => messages.end_with(&failed),
    }
}

fn cut(command: &Split, options: &MessageOptions, messages: &mut Messages) -> Result<(), RunError> {
    let words: Vec<String> = command.input.iter().cloned().collect();
    let inputs = inputs_of(&words)?;
    let input = inputs.first().cloned().unwrap_or(Input::Standard);
    let expression = command.by.as_deref().map(|text| ("--by", text));
    let expression = expression.or(command.condition.as_deref().map(|text| ("--where", text)));
    let plan = expression.map(|(name, text)| plan(name, text.to_owned())).transpose()?;
    let usual = if command.by.is_some() { "{key}.{ext}" } else { "{stem}-{no}.{ext}" };
    let name = command.name.as_deref().unwrap_or(usual);
    let template = plan_of_template(name)?;
    let by = match (&plan, command.records, command.bytes) {
        (Some(plan), _, _) if command.by.is_some() => SplitBy::Key(plan),
        (Some(plan), _, _) => SplitBy::Where(plan),
        (None, Some(records), _) => SplitBy::Records(records),
        (None, None, bytes) => SplitBy::Bytes(bytes.unwrap_or(u64::MAX)),
    };
    let named = match &input {
        Input::File(path) => Some(path.clone()),
        _ => None,
    };
    keep_apart(command.manifest.as_deref(), words.iter().map(String::as_str))?;
    let kept: Vec<PathBuf> = named.into_iter().chain(command.manifest.clone()).collect();
    let stats = Stats::start(command.stats, 1);
    let progress = Progress::start(options.progress, false, input.size());
    let what = Splitting {
        input: &input,
        options: &command.reading.options(),
        at: command.at.as_ref(),
        by,
        folder: &command.into,
        template: &template,
        kept: &kept,
    };
    let parts = progress.watch(messages, |events| split(what, events))?;
    stats.finish(&progress.counters, Some((parts.len() as u64, "part")), messages);
    drop(progress);
    if let Some(file) = &command.manifest {
        destination_of(Some(file), None).write(&manifest(&input.name(), &parts))?;
    }
    let records: u64 = parts.iter().map(|part| part.records).sum();
    let message = format!(
        "{} in {} in {}",
        counted(records, "record"),
        counted(parts.len(), "part"),
        command.into.display()
    );
    messages.show(&Diagnostic::note(Code::InputRead, message));
    Ok(())
}

/// An expression over a record.
fn plan(option: &str, text: String) -> Result<Plan, RunError> {
    compile(RuleText::new(option, text), Syntax::Rule).map_err(RunError::of_rule)
}

/// The rule that makes names: a template is the inside of an f-text, where quotes have to be escaped outside of braces.
fn plan_of_template(template: &str) -> Result<Plan, RunError> {
    let (mut text, mut depth) = (String::new(), 0_u32);
    for character in template.chars() {
        match character {
            '{' => depth += 1,
            '}' => depth = depth.saturating_sub(1),
            '"' | '\\' if depth == 0 => text.push('\\'),
            _ => {}
        }
        text.push(character);
    }
    plan("the template of --name", format!("{TEMPLATE_PARAMS}f\"{text}\""))
}

/// What the parts are, as JSON.
fn manifest(input: &str, parts: &[SplitPart]) -> Vec<u8> {
    let arena = Arena::new();
    let parts: Vec<Value<'_>> = parts
        .iter()
        .map(|part| {
            let file = arena.text(&part.file.display().to_string());
            let mut members = vec![
                ("file", Value::text(file)),
                ("records", number(part.records, &arena)),
                ("bytes", number(part.bytes, &arena)),
                ("first", number(part.first, &arena)),
            ];
            members.extend(part.key.as_deref().map(|key| ("key", Value::text(key))));
            arena.map(members)
        })
        .collect();
    as_json(arena.map([("input", Value::text(input)), ("parts", arena.list(&parts))]))
}
