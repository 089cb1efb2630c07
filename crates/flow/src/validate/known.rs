//! Findings that are accepted for now.

use std::collections::BTreeMap;
use std::path::Path;

use kyanite_formats::{Format, documents, json};
use kyanite_tree::{Arena, Code, Diagnostic, Origin, Value};

use super::{Finding, Step, Verdict, fingerprints};

/// Findings by their fingerprints, with what each was.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Known {
    findings: BTreeMap<String, (String, String)>,
}

impl Known {
    /// Takes up the findings of an input.
    pub fn add(&mut self, verdict: &Verdict) {
        for (print, finding) in
            fingerprints(&verdict.name, &verdict.findings).into_iter().zip(&verdict.findings)
        {
            self.findings.insert(print, (verdict.name.clone(), finding.message.clone()));
        }
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.findings.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.findings.is_empty()
    }

    /// Takes findings that are known out of a verdict; gives how many. `met` gets their fingerprints.
    pub fn take_out(&self, verdict: &mut Verdict, met: &mut Vec<String>) -> usize {
        let prints = fingerprints(&verdict.name, &verdict.findings);
        let before = verdict.findings.len();
        let all: Vec<(String, Finding)> =
            prints.into_iter().zip(verdict.findings.drain(..)).collect();
        let mut numbers = Vec::new();
        for (print, finding) in all {
            let is_known = self.findings.contains_key(&print);
            numbers.push((!is_known).then_some(verdict.findings.len()));
            if is_known {
                met.push(print);
            } else {
                verdict.findings.push(finding);
            }
        }
        // Steps refer to findings by their numbers.
        verdict.steps.retain_mut(|step| match step {
            Step::Finding(number) => match numbers.get(*number).copied().flatten() {
                Some(new) => {
                    *number = new;
                    true
                }
                None => false,
            },
            _ => true,
        });
        before - verdict.findings.len()
    }

    /// The text of a file of them.
    #[must_use]
    pub fn to_text(&self) -> String {
        let arena = Arena::new();
        let items: Vec<Value<'_>> = self
            .findings
            .iter()
            .map(|(print, (file, message))| {
                arena.map([
                    ("fingerprint", Value::text(print)),
                    ("file", Value::text(file)),
                    ("message", Value::text(message)),
                ])
            })
            .collect();
        // One to a line, so that changes can be read.
        let lines: Vec<String> =
            items.into_iter().map(|item| format!("  {}", json::compact(item))).collect();
        if lines.is_empty() { "[]\n".to_owned() } else { format!("[\n{}\n]\n", lines.join(",\n")) }
    }

    /// Reads a file of them.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(path: &Path) -> Result<Self, Diagnostic> {
        let name = path.display().to_string();
        let text = std::fs::read_to_string(path)
            .map_err(|error| crate::input::cannot_read(&name, &error))?;
        let arena = Arena::new();
        let read = documents::read(Format::Json, &text, &arena, documents::Options::default())
            .map_err(|error| error.diagnostic(&name, text.as_bytes()))?;
        let value = read.roots.first().copied().unwrap_or(Value::Null(Origin::NONE));
        let refused = || {
            let message = format!("{name} holds no known findings");
            Diagnostic::error(Code::CommandLine, message)
                .advise("write the file anew with --write-known")
        };
        let mut known = Self::default();
        for item in value.as_list().ok_or_else(refused)? {
            let map = item.as_map().ok_or_else(refused)?;
            let text =
                |name: &str| map.get(name).and_then(|value| value.as_text()).map(str::to_owned);
            let print = text("fingerprint").ok_or_else(refused)?;
            let (file, message) =
                (text("file").unwrap_or_default(), text("message").unwrap_or_default());
            known.findings.insert(print, (file, message));
        }
        Ok(known)
    }
}
