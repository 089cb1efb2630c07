//! `kyanite validate`: documents against schemas, and a report.

use std::io::{IsTerminal, Write};

use kyanite_flow::{Events, Failed, Input, InputOptions, Validation, Verdict, validate};
use kyanite_schema::json::Settings;
use kyanite_tree::{Code, Diagnostic};

use crate::arguments::{MessageOptions, Validate};
use crate::messages::Messages;
use crate::status::Status;

/// What came of all inputs.
#[derive(Default)]
struct Report {
    verdicts: Vec<Verdict>,
}

/// Runs the command.
pub fn run(command: &Validate, options: &MessageOptions, messages: &mut Messages) -> Status {
    match checked(command, messages) {
        Ok(report) => report.show(options, messages),
        Err(failed) => {
            let status = Status::from(&failed);
            messages.show_all(failed.diagnostics());
            status
        }
    }
}

fn checked(command: &Validate, messages: &mut Messages) -> Result<Report, Failed> {
    let schemas: Vec<Input> = command.schemas.iter().map(|word| Input::of_word(word)).collect();
    let mapped: Vec<(String, Input)> =
        command.mapped.iter().map(|(uri, file)| (uri.clone(), Input::of_word(file))).collect();
    let inputs: Vec<Input> = match command.inputs.as_slice() {
        [] => vec![Input::Standard],
        words => words.iter().map(|word| Input::of_word(word)).collect(),
    };
    let options = InputOptions { from: command.from, ..InputOptions::default() };
    let settings = Settings {
        draft: command.draft.map(Into::into),
        asserts_formats: command.assert_formats,
        reads: Some(kyanite_flow::is_well_formed),
    };
    let validation = Validation { schemas: &schemas, mapped: &mapped, settings, options: &options };
    let mut report = Report::default();
    let bytes = std::sync::atomic::AtomicU64::new(0);
    let mut events = Events { tell: &mut |told| messages.show(&told), bytes: &bytes };
    validate(validation, &inputs, &mut events, &mut |verdict| report.verdicts.push(verdict))?;
    Ok(report)
}

impl Report {
    /// Writes the report; what could not be read is said as ever.
    fn show(&self, options: &MessageOptions, messages: &mut Messages) -> Status {
        let mut out = std::io::stdout().lock();
        let shown = Messages::on(options, out.is_terminal());
        let mut text = format!("{}\n", shown.strong(&self.summary()));
        for verdict in &self.verdicts {
            for finding in &verdict.findings {
                text.push('\n');
                text.push_str(&shown.rendered(finding));
            }
        }
        if let Err(error) = out.write_all(text.as_bytes()).and_then(|()| out.flush())
            && error.kind() != std::io::ErrorKind::BrokenPipe
        {
            let message = format!("the report cannot be written: {error}");
            messages.show(&Diagnostic::error(Code::OutputFailed, message));
            return Status::Output;
        }
        let unreadable = || self.verdicts.iter().filter_map(|verdict| verdict.unreadable.as_ref());
        unreadable().for_each(|why| messages.show(why));
        match (unreadable().next(), self.verdicts.iter().all(|verdict| verdict.findings.is_empty()))
        {
            (Some(_), _) => Status::Input,
            (None, true) => Status::Done,
            (None, false) => Status::No,
        }
    }

    /// `31 documents checked in 2 inputs: 3 findings, in 1 input`
    fn summary(&self) -> String {
        let counted = |count: u64, what: &str| match count {
            1 => format!("1 {what}"),
            count => format!("{count} {what}s"),
        };
        let checked: u64 = self.verdicts.iter().map(|verdict| verdict.checked).sum();
        let findings: usize = self.verdicts.iter().map(|verdict| verdict.findings.len()).sum();
        let with = self.verdicts.iter().filter(|verdict| !verdict.findings.is_empty()).count();
        let unread = self.verdicts.iter().filter(|verdict| verdict.unreadable.is_some()).count();
        let mut text = format!("{} checked in ", counted(checked, "document"));
        text.push_str(&counted((self.verdicts.len() - unread) as u64, "input"));
        text.push_str(&match findings {
            0 => ": valid".to_owned(),
            _ => {
                let findings = counted(findings as u64, "finding");
                format!(": {findings}, in {}", counted(with as u64, "input"))
            }
        });
        if unread > 0 {
            text.push_str(&format!("; {} could not be read", counted(unread as u64, "input")));
        }
        text
    }
}
