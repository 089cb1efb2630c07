//! Rule files as texts, with the libraries that they use.

use std::io;
use std::path::{Path, PathBuf};

use kyanite_lang::RuleText;
use kyanite_tree::{Code, Diagnostic};

/// The text of a rule file, and of the libraries that it uses.
pub fn read_rule(file: &Path) -> Result<RuleText, Diagnostic> {
    let name = file.display().to_string();
    let text = std::fs::read_to_string(file).map_err(|error| unreadable_rule(&name, &error))?;
    let beside = |file: &Path, used: String| {
        file.parent().map_or_else(|| PathBuf::from(&used), |folder| folder.join(&used))
    };
    let mut waiting: Vec<PathBuf> =
        kyanite_lang::uses(&text, false).into_iter().map(|used| beside(file, used)).collect();
    let mut rule = RuleText::new(name, text);
    let mut read: Vec<PathBuf> = Vec::new();
    while let Some(library) = waiting.pop() {
        let known = std::fs::canonicalize(&library).unwrap_or_else(|_| library.clone());
        if read.contains(&known) {
            continue;
        }
        read.push(known);
        let name = library.display().to_string();
        let text = std::fs::read_to_string(&library).map_err(|error| {
            Diagnostic::error(Code::RuleFile, format!("the library {name} cannot be read: {error}"))
        })?;
        waiting
            .extend(kyanite_lang::uses(&text, true).into_iter().map(|used| beside(&library, used)));
        rule.add_library(name, &text);
    }
    Ok(rule)
}

/// Why a rule file cannot be read.
pub fn unreadable_rule(name: &str, error: &io::Error) -> Diagnostic {
    let problem = match error.kind() {
        io::ErrorKind::NotFound => {
            Diagnostic::error(Code::RuleFile, format!("there is no rule file {name}"))
        }
        io::ErrorKind::InvalidData => {
            Diagnostic::error(Code::RuleFile, format!("the rule file {name} is not UTF-8"))
        }
        _ => Diagnostic::error(
            Code::RuleFile,
            format!("the rule file {name} cannot be read: {error}"),
        ),
    };
    problem.advise(
        "the first word is the rule file; for a rule on the command line, use kyanite query",
    )
}
