//! The rule language: paths exactly as RFC 9535 has them, and expressions and clauses around them.
//!
//! A rule is [parsed](syntax), [checked](compile) into a [`Plan`] before any input is read, and run by a
//! [`Runner`] over a document or over records one by one.
//!
//! ```
//! use std::ops::ControlFlow;
//! use kyanite_formats::json;
//! use kyanite_lang::{Arguments, RuleText, Runner, Session, Syntax, compile};
//! use kyanite_tree::Arena;
//!
//! let rule = RuleText::new("rule", "for b in $[*] where b.depth > 4 return b.port");
//! let plan = compile(rule, Syntax::Rule).unwrap();
//! let arena = Arena::new();
//! let text = r#"[{"port": "ness", "depth": 6.5}, {"port": "holm", "depth": 3}]"#;
//! let (root, _) = json::document(text, &arena, json::ReaderOptions::default()).unwrap();
//!
//! let arguments = Arguments::read(&plan, &[], &arena).unwrap();
//! let mut session = Session::new(&plan);
//! let mut ports = Vec::new();
//! let mut runner = Runner::new(&plan, &arguments, Some(root), &arena, &mut session).unwrap();
//! runner
//!     .document(&mut |item| {
//!         ports.extend(item.and_then(|item| item.as_text()));
//!         ControlFlow::Continue(())
//!     })
//!     .unwrap();
//! assert_eq!(ports, ["ness"]);
//! ```

mod against;
mod check;
mod coverage;
mod documents;
mod draft;
mod explain;
mod finding;
pub mod functions;
mod jsonpath;
mod namespaces;
mod output;
mod params;
mod plan;
mod pointer;
mod projection;
mod rows;
mod rule_error;
mod run;
mod syntax;
mod trace;
mod types;
mod visit;
mod words;
mod xpath;

pub use against::{Outline, PlaceNumber, against};
pub use coverage::Coverage;
pub use documents::DocumentUris;
pub use draft::{alike, draft};
pub use finding::{Finding, RuleText, Span};
pub use output::{OutputSpec, twice};
pub use params::Arguments;
pub use plan::compile_xpath;
pub use plan::{
    CannotCut, Choice, Param, Plan, RecordUnit, ResultShape, RowNames, SourceSpec, Strategy, Way,
    Ways, Written,
};
pub use projection::FieldPlan;
pub use rows::{RowEdit, RowValue, Rows};
pub use rule_error::{Flow, RuleError};
pub use run::{
    CannotAdd, CannotJoin, Cutoff, HandedOn, Names, PackedTuples, Partial, Portion, RecordState,
    Runner, Session, SpillSettings, TupleStore,
};
pub use syntax::ast::ParamType;
pub use syntax::format as format_rule;
pub use trace::{Provenance, Trace};
pub use types::Type;
pub use xpath::xpath_failure;

/// What an expression is written in.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Syntax {
    /// The rule language.
    Rule,
    /// JSONPath, exactly as in RFC 9535.
    JsonPath,
    /// JSON Pointer (RFC 6901).
    Pointer,
}

/// The library files that a rule or, itself, a library uses, seen from the folder that it is in.
#[must_use]
pub fn uses(text: &str, is_library: bool) -> Vec<String> {
    syntax::uses(text, is_library)
}

/// Parses and checks a rule up to the clause of that number of its outermost `for`: the result is a map of all names that
/// are bound there.
///
/// # Errors
/// The rule's text back, with all findings.
pub fn compile_until(rule: RuleText, clauses: usize) -> Result<Plan, (RuleText, Vec<Finding>)> {
    match syntax::parse_all(&rule).and_then(|parsed| syntax::until(parsed, clauses)) {
        Ok(parsed) => check::check(rule, &parsed),
        Err(findings) => Err((rule, findings)),
    }
}

/// Parses and checks a rule.
///
/// # Errors
/// The rule's text back, with all findings.
pub fn compile(rule: RuleText, syntax: Syntax) -> Result<Plan, (RuleText, Vec<Finding>)> {
    let parsed = match syntax {
        Syntax::Rule => syntax::parse_all(&rule),
        Syntax::JsonPath => jsonpath::parse(&rule.text).map_err(|finding| vec![finding]),
        Syntax::Pointer => pointer::parse(&rule.text).map_err(|finding| vec![finding]),
    };
    match parsed {
        Ok(parsed) => check::check(rule, &parsed),
        Err(findings) => Err((rule, findings)),
    }
}
