//! Findings: what is wrong with a document, where, and by which rule.

use std::collections::HashMap;

use kyanite_schema::json::Unit;
use kyanite_schema::schematron::Assertion;
use kyanite_tree::{Advice, Code, Diagnostic, Place, Severity};
use sha2::{Digest, Sha256};

/// Something that is wrong with a document.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Finding {
    /// How bad it is.
    pub severity: Severity,
    /// What sort of finding it is: [`Code::NotValid`], or what reading the document failed by.
    pub code: Code,
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub advice: Option<Advice>,
    /// Where in the document it is.
    pub place: Option<Place>,
    /// Where the rule stands.
    pub rule: Option<Place>,
    /// What sort of rule it is, by the word of the standard.
    pub keyword: String,
    /// The assertion that is broken, or the report that is made, if it is one of Schematron.
    pub assertion: Option<Box<Assertion>>,
    /// Of a JSON Schema: where its standard says that it was found.
    pub unit: Option<Box<Unit>>,
}

/// What Schematron did with a document, step by step.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Step {
    /// A pattern was looked at.
    Pattern(String),
    /// A rule fit a node.
    Rule {
        /// Its identifier.
        id: String,
        /// Its context, as written.
        context: String,
        /// What it is to the reader.
        role: String,
        /// What it sets.
        flag: String,
    },
    /// The finding of that number was made.
    Finding(usize),
}

impl Finding {
    /// What reading a document failed by.
    #[must_use]
    pub(crate) fn of_diagnostic(found: &Diagnostic) -> Self {
        Self {
            severity: Severity::Error,
            code: found.code(),
            message: found.message().to_owned(),
            advice: found.advice().cloned(),
            place: found.places().first().cloned(),
            rule: None,
            keyword: String::new(),
            assertion: None,
            unit: None,
        }
    }

    /// The finding as a message.
    #[must_use]
    pub fn diagnostic(&self) -> Diagnostic {
        let message = self.message.clone();
        let head = match self.severity {
            Severity::Error => Diagnostic::error(self.code, message),
            Severity::Warning => Diagnostic::warning(self.code, message),
            Severity::Note => Diagnostic::note(self.code, message),
        };
        head.at_opt(self.place.clone()).at_opt(self.rule.clone()).advise_opt(self.advice.clone())
    }

    /// What tells it from others, but for the lines that it stands in: the same once lines before it came or went.
    fn substance(&self, file: &str) -> String {
        let path = self.place.as_ref().and_then(|place| place.path.as_deref()).unwrap_or_default();
        let rule = self
            .rule
            .as_ref()
            .map(|rule| (rule.file.as_str(), rule.path.as_deref().unwrap_or_default()));
        let (schema, rule) = rule.unwrap_or_default();
        // Positions in lists move when others come or go.
        let path = without_positions(path);
        let message = without_lines(&self.message);
        [file, &path, schema, rule, &self.keyword, &message].join("\u{0}")
    }
}

/// A message without the numbers of lines that it speaks of.
fn without_lines(message: &str) -> String {
    let mut parts = message.split("line ");
    let mut kept = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        kept.push_str("line ");
        kept.push_str(part.trim_start_matches(|c: char| c.is_ascii_digit()));
    }
    kept
}

/// A path without the positions in brackets.
fn without_positions(path: &str) -> String {
    let mut kept = String::new();
    let mut rest = path;
    while let Some(open) = rest.find('[') {
        kept.push_str(&rest[..open]);
        let close = rest[open..].find(']').map_or(rest.len(), |close| open + close + 1);
        let inside = &rest[open + 1..close.saturating_sub(1).max(open + 1)];
        let is_position = !inside.is_empty() && inside.bytes().all(|byte| byte.is_ascii_digit());
        if !is_position {
            kept.push_str(&rest[open..close]);
        }
        rest = &rest[close..];
    }
    kept.push_str(rest);
    kept
}

/// A fingerprint of each finding of a file, which stays the same when other lines move. Of findings that are alike each has its
/// own, by their order.
#[must_use]
pub fn fingerprints(file: &str, findings: &[Finding]) -> Vec<String> {
    let mut met: HashMap<String, usize> = HashMap::new();
    findings
        .iter()
        .map(|finding| {
            let substance = finding.substance(file);
            let number = met.entry(substance.clone()).or_default();
            *number += 1;
            let hash = Sha256::digest(format!("{substance}\u{0}{number}"));
            hash.iter().take(16).map(|byte| format!("{byte:02x}")).collect()
        })
        .collect()
}
