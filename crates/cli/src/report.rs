//! Reports about documents: what was found, in several forms.
//!
//! All forms are made of one [`Report`], and are the same for the same inputs, whatever the number of threads.

mod html;
mod json;
mod junit;
mod markup;
mod page;
mod places;
mod sarif;
mod svrl;
mod text;
mod units;
mod xml;

pub use markup::escaped;
pub use page::{changes_page, in_script, page};
pub use places::Places;

use kyanite_flow::{Finding, Verdict, fingerprints};
use kyanite_formats::json::Style;
use kyanite_tree::{Arena, Diagnostic, Severity, Value, counted};

use crate::arguments::ReportForm;
use crate::messages::Messages;

/// What came of all inputs.
#[derive(Default)]
pub struct Report {
    /// In the order of the inputs.
    pub verdicts: Vec<Verdict>,
    /// How many findings were left out, since they are known.
    pub known: usize,
    /// Whether the run ended before all inputs were checked.
    pub is_cut: bool,
}

/// What is counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Counts {
    documents: u64,
    inputs: usize,
    errors: usize,
    warnings: usize,
    notes: usize,
    /// Inputs with findings.
    with_findings: usize,
    unreadable: usize,
}

impl Counts {
    fn findings(self) -> usize {
        self.errors + self.warnings + self.notes
    }
}

/// A finding with what it is about.
struct Row<'r> {
    verdict: &'r Verdict,
    finding: &'r Finding,
    fingerprint: String,
}

impl Report {
    /// Whether there is a finding that is at least so severe.
    pub fn has(&self, least: Severity) -> bool {
        let mut findings = self.verdicts.iter().flat_map(|verdict| &verdict.findings);
        findings.any(|finding| finding.severity >= least)
    }

    /// The report in one of its forms; `shown` renders what is read in a terminal.
    pub fn render(&self, form: ReportForm, shown: &Messages) -> Vec<u8> {
        match form {
            ReportForm::Text => text::render(self, shown).into_bytes(),
            ReportForm::Json => json::render(self),
            ReportForm::Xml => xml::render(self).into_bytes(),
            ReportForm::Html => html::render(self).into_bytes(),
            ReportForm::Junit => junit::render(self).into_bytes(),
            ReportForm::Sarif => sarif::render(self),
            ReportForm::JsonSchemaOutput => units::render(self),
            ReportForm::Svrl => svrl::render(self).into_bytes(),
        }
    }

    fn counts(&self) -> Counts {
        let mut counts = Counts::default();
        for verdict in &self.verdicts {
            counts.documents += verdict.checked;
            counts.with_findings += usize::from(!verdict.findings.is_empty());
            match verdict.unreadable {
                Some(_) => counts.unreadable += 1,
                None => counts.inputs += 1,
            }
            for finding in &verdict.findings {
                let count = match finding.severity {
                    Severity::Error => &mut counts.errors,
                    Severity::Warning => &mut counts.warnings,
                    Severity::Note => &mut counts.notes,
                };
                *count += 1;
            }
        }
        counts
    }

    fn rows(&self) -> impl Iterator<Item = Row<'_>> {
        self.verdicts.iter().flat_map(|verdict| {
            let prints = fingerprints(&verdict.name, &verdict.findings);
            let rows = prints.into_iter().zip(&verdict.findings);
            rows.map(move |(fingerprint, finding)| Row { verdict, finding, fingerprint })
        })
    }

    /// The inputs that could not be read, and why.
    fn unreadable(&self) -> impl Iterator<Item = (&str, &Diagnostic)> {
        let verdicts = self.verdicts.iter();
        verdicts.filter_map(|verdict| Some((verdict.name.as_str(), verdict.unreadable.as_ref()?)))
    }

    /// `31 documents checked in 2 inputs: 3 findings, in 1 input`
    pub fn summary(&self) -> String {
        let counts = self.counts();
        let mut text = format!(
            "{} checked in {}",
            counted(counts.documents, "document"),
            counted(counts.inputs, "input")
        );
        text.push_str(&match counts.findings() {
            0 if counts.documents == 0 => String::new(),
            0 => ": valid".to_owned(),
            findings => {
                let findings = counted(findings, "finding");
                format!(": {findings}, in {}", counted(counts.with_findings, "input"))
            }
        });
        if self.known > 0 {
            text.push_str(&format!("; {} known and left out", self.known));
        }
        if counts.unreadable > 0 {
            let inputs = counted(counts.unreadable, "input");
            text.push_str(&format!("; {inputs} could not be read"));
        }
        if self.is_cut {
            text.push_str("; the run ended there, and further inputs were not checked");
        }
        text
    }
}

/// A value as JSON to be read.
pub fn as_json(value: Value<'_>) -> Vec<u8> {
    let mut text = Vec::new();
    kyanite_formats::json::write(value, Style::Indented(2), &mut text);
    text.push(b'\n');
    text
}

/// A number of JSON.
pub fn number(number: u64, arena: &Arena) -> Value<'_> {
    arena.integer(i64::try_from(number).unwrap_or(i64::MAX))
}

/// What is wrong, and in brackets what to do about it.
fn with_advice(finding: &Finding) -> String {
    let advice = advice(finding).map(|advice| format!(" ({advice})")).unwrap_or_default();
    format!("{}{advice}", finding.message)
}

/// The words of an advice.
fn advice(finding: &Finding) -> Option<String> {
    finding.advice.as_ref().map(crate::settings::words)
}
