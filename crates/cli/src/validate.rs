//! `kyanite validate`: documents against schemas, and reports.

use std::collections::HashSet;
use std::io::{BufRead, IsTerminal};
use std::path::Path;

use kyanite_flow::{
    Choice, Chosen, Input, InputOptions, Known, Project, RunError, Set, Validation, Verdict, find,
    validate,
};
use kyanite_schema::json::Settings;
use kyanite_tree::{Advice, Code, Diagnostic, Setting, Severity, counted};

use crate::arguments::{FailOn, MessageOptions, ReportForm, Validate};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::report::{Places, Report};
use crate::run::{destination_of, threads};
use crate::stats::Stats;
use crate::status::Status;
use crate::written::keep_apart;

/// Runs the command.
pub fn run(command: &Validate, options: &MessageOptions, messages: &mut Messages) -> Status {
    let ended = checked(command, options, messages)
        .and_then(|report| command.write(report, options, messages));
    match ended {
        Ok(status) => status,
        Err(failed) => messages.end_with(&failed),
    }
}

/// Checks everything.
fn checked(
    command: &Validate,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<Report, RunError> {
    let read = command.inputs.iter().chain(&command.schemas);
    command.places().check(read.clone().map(String::as_str))?;
    if let Some(path) = command.write_known.as_deref() {
        keep_apart(command.places().files().chain([path]), [])?;
        keep_apart([path], read.map(String::as_str))?;
    }
    let known = command.known.as_deref().map(Known::read).transpose().map_err(refused)?;
    let sets = command.sets()?;
    let input_options = InputOptions {
        from: command.from,
        lenient: command.lenient,
        threads: threads(command.threads),
        ..InputOptions::default()
    };
    let settings = Settings {
        draft: command.references.draft.map(Into::into),
        asserts_formats: command.assert_formats,
        reads: Some(kyanite_flow::is_well_formed),
    };
    let catalogs: Vec<Input> =
        command.references.catalogs.iter().map(|word| Input::of_word(word)).collect();
    let validation = Validation {
        sets: &sets,
        mapped: &command.references.mapped,
        catalogs: &catalogs,
        settings,
        options: &input_options,
        phase: command.phase.as_deref(),
        now: Some(std::time::SystemTime::now()),
        keeps_steps: command.reports.iter().any(|(form, _)| *form == ReportForm::Svrl),
        fails_fast: command.fail_fast,
        // What is known is not counted.
        most_findings: command.max_findings.filter(|_| known.is_none()).map(|most| most as usize),
    };
    let mut report = Report::default();
    let mut met = Vec::new();
    let mut taken = 0;
    let total: usize = sets.iter().map(|set| set.inputs.len()).sum();
    let sizes: Option<u64> =
        sets.iter().flat_map(|set| &set.inputs).map(|chosen| chosen.input.size()).sum();
    let stats = Stats::start(command.stats, input_options.threads);
    let progress = Progress::start(options.progress, false, sizes);
    let mut take = |mut verdict: Verdict| {
        taken += 1;
        if let Some(known) = &known {
            report.known += known.take_out(&mut verdict, &mut met);
        }
        report.verdicts.push(verdict);
    };
    let run = progress.watch(messages, |events| validate(validation, events, &mut take));
    let findings: usize = report.verdicts.iter().map(|verdict| verdict.findings.len()).sum();
    stats.finish(&progress.counters, Some((findings as u64, "finding")), messages);
    drop(progress);
    run?;
    report.is_cut = taken < total;
    if let Some(known) = known.filter(|known| met.len() < known.len() && taken == total) {
        let gone = known.len() - met.len();
        let verb = if gone == 1 { "is" } else { "are" };
        let message = format!("{} {verb} gone", counted(gone, "known finding"));
        messages.show(&Diagnostic::note(Code::NotValid, message));
    }
    Ok(report)
}

fn refused(why: Diagnostic) -> RunError {
    RunError::Command(vec![why])
}

impl Validate {
    /// What is checked against what.
    fn sets(&self) -> Result<Vec<Set>, RunError> {
        let choice = Choice::new(&self.include, &self.exclude).map_err(refused)?;
        let mut words = self.inputs.clone();
        if let Some(list) = &self.files_from {
            words.extend(listed(list).map_err(refused)?);
        }
        let has_words = !words.is_empty() || self.files_from.is_some();
        let inputs = find(&words, &choice).map_err(RunError::Input)?;
        if !self.schemas.is_empty() {
            let schemas = self.schemas.iter().map(|word| Input::of_word(word)).collect();
            let inputs = if has_words { inputs } else { standard() };
            return Ok(vec![Set { name: None, schemas, inputs }]);
        }
        let project = Project::of(Path::new(".")).map_err(refused)?;
        let Some(project) = project else {
            if let Some(name) = self.sets.first() {
                let message = format!(
                    "there is no kyanite.toml, in this folder or above it, that would have the validation {name:?}"
                );
                return Err(refused(Diagnostic::error(Code::CommandLine, message)));
            }
            if has_words {
                return Ok(vec![Set { inputs, ..Set::default() }]);
            }
            if std::io::stdin().is_terminal() {
                let message = "nothing says what is to be checked: there are no inputs, no schemas and no kyanite.toml";
                let advice = Advice::words("name inputs, and say ").setting(Setting::Schema);
                return Err(refused(Diagnostic::error(Code::CommandLine, message).advise(advice)));
            }
            return Ok(vec![Set { inputs: standard(), ..Set::default() }]);
        };
        if !has_words {
            return project.sets(&self.sets, None).map_err(refused);
        }
        let mut sets = project.sets(&self.sets, Some(&inputs)).map_err(refused)?;
        sets.retain(|set| !set.inputs.is_empty());
        // What belongs to no set is checked by what it names.
        let in_sets: HashSet<&Input> =
            sets.iter().flat_map(|set| &set.inputs).map(|chosen| &chosen.input).collect();
        let others: Vec<Chosen> =
            inputs.iter().filter(|chosen| !in_sets.contains(&chosen.input)).cloned().collect();
        if !others.is_empty() {
            sets.push(Set { inputs: others, ..Set::default() });
        }
        Ok(sets)
    }

    /// Where reports go.
    fn places(&self) -> Places<'_, ReportForm> {
        let (reports, output) = (self.reports.as_slice(), self.output.as_deref());
        Places { reports, output, usual: ReportForm::Text }
    }

    /// Writes the reports; what could not be read is said as ever.
    fn write(
        &self,
        report: Report,
        options: &MessageOptions,
        messages: &mut Messages,
    ) -> Result<Status, RunError> {
        if let Some(path) = &self.write_known {
            let mut known = Known::default();
            report.verdicts.iter().for_each(|verdict| known.add(verdict));
            destination_of(Some(path), None).write(known.to_text().as_bytes())?;
        }
        self.places().write(options, &mut |form, shown, _| report.render(form, shown))?;
        let unreadable =
            || report.verdicts.iter().filter_map(|verdict| verdict.unreadable.as_ref());
        unreadable().for_each(|why| messages.show(why));
        let least =
            if self.fail_on == FailOn::Warning { Severity::Warning } else { Severity::Error };
        Ok(match unreadable().next() {
            Some(_) => Status::Input,
            None if report.has(least) => Status::No,
            None => Status::Done,
        })
    }
}

/// Standard input alone.
fn standard() -> Vec<Chosen> {
    vec![Chosen { input: Input::Standard, is_found: false }]
}

/// The names of inputs in a file, one a line.
fn listed(file: &str) -> Result<Vec<String>, Diagnostic> {
    let failed = |error: std::io::Error| {
        let message = format!("the list of files {file} cannot be read: {error}");
        Diagnostic::error(Code::InputUnreadable, message)
    };
    let lines: std::io::Result<Vec<String>> = match file {
        "-" => std::io::stdin().lock().lines().collect(),
        path => std::fs::read_to_string(path).map(|text| text.lines().map(str::to_owned).collect()),
    };
    let lines = lines.map_err(failed)?;
    Ok(lines
        .into_iter()
        .map(|line| line.trim().to_owned())
        .filter(|line| !line.is_empty())
        .collect())
}
