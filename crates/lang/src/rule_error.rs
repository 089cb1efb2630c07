//! Errors of a rule on the data, with both ends: the place in the rule and the value in the input.

use std::ops::ControlFlow;

use kyanite_tree::{Advice, Code, DecimalError, Diagnostic, Locus, Place};

use crate::finding::{RuleText, Span};

/// A rule that failed: what is wrong, the place in the rule, and the value in the input or the nearest that was there.
pub type RuleError = Diagnostic<Locus>;

/// Whether to go on: `Break` when no more is wanted.
pub type Flow = ControlFlow<()>;

/// What a run gives, or where it failed.
pub(crate) type RunResult<T> = Result<T, RuleError>;

/// The failure of what stands at `span` of the rule.
#[cold]
pub(crate) fn rule_error(code: Code, span: Span, message: impl Into<String>) -> RuleError {
    Diagnostic::error_at(code, Locus::Rule(span), message)
}

/// The failure of a computation with numbers.
#[cold]
pub(crate) fn number_error(span: Span, error: DecimalError) -> RuleError {
    rule_error(Code::ValueLimit, span, error.to_string())
}

/// An advice to write something in place of what stands at `span` of the rule.
pub(crate) fn instead(span: Span, text: impl Into<String>, why: &str) -> Advice<Locus> {
    let text = text.into();
    Advice::words(format!("write {text}{why}")).fix(Locus::Rule(span), text)
}

/// The advice to take the text of an element, in place of the element that stands at `span`.
pub(crate) fn text_of(span: Span, words: &str) -> Advice<Locus> {
    instead(span, format!("text({words})"), " for all text in it")
}

impl RuleText {
    /// A failure as a message: the input first when its place is known, then the rule.
    #[must_use]
    pub fn failed(&self, error: RuleError, input: Option<Place>) -> Diagnostic {
        error.resolve(|place| match place {
            Locus::Rule(span) => Some(self.place(span)),
            Locus::Input(_) => input.clone(),
        })
    }
}
