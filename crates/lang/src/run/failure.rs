//! Where a rule failed on the data: both ends.

use kyanite_tree::{Advice, Code, DecimalError, Diagnostic, Locus, Origin, Place, Value};

use super::Runner;
use crate::finding::{RuleText, Span};
use crate::plan::{Expr, Kind};

/// A rule that failed: what is wrong, the place in the rule, and the value in the input or the nearest that was there.
pub type Failure = Diagnostic<Locus>;

/// The failure of what stands at `span` of the rule.
#[cold]
pub(super) fn failure(code: Code, span: Span, message: impl Into<String>) -> Failure {
    Diagnostic::error_at(code, Locus::Rule(span), message)
}

/// The failure of a computation with numbers.
#[cold]
pub(super) fn number_failure(span: Span, error: DecimalError) -> Failure {
    failure(Code::ValueLimit, span, error.to_string())
}

/// An advice to write something in place of what stands at `span` of the rule.
pub(super) fn instead(span: Span, text: impl Into<String>, why: &str) -> Advice<Locus> {
    let text = text.into();
    Advice::words(format!("write {text}{why}")).fix(Locus::Rule(span), text)
}

/// The advice to take the text of an element, in place of the element that stands at `span`.
pub(super) fn text_of(span: Span, words: &str) -> Advice<Locus> {
    instead(span, format!("text({words})"), " for all text in it")
}

impl RuleText {
    /// A failure as a message: the input first when its place is known, then the rule.
    #[must_use]
    pub fn failed(&self, failure: Failure, input: Option<Place>) -> Diagnostic {
        failure.resolve(|place| match place {
            Locus::Rule(span) => Some(self.place(span)),
            Locus::Input(_) => input.clone(),
        })
    }
}

impl<'a> Runner<'_, 'a> {
    /// The failure of an operand that is not there, or null: it points at the nearest value that is there.
    #[cold]
    pub(super) fn missing(
        &mut self,
        expr: &'a Expr,
        null: Option<Value<'a>>,
        what: &str,
    ) -> Failure {
        let words = self.plan.rule.slice(expr.span);
        let is = if null.is_some() { "null" } else { "not there" };
        let origin = match null {
            Some(null) => null.origin(),
            None => self.nearest(expr),
        };
        let message = format!("`{words}` is {is}, and {what}");
        failure(Code::ValueMissing, expr.span, message).read_at(origin).advise(format!(
            "write {words} ?? … for a value in its place, or leave such items out with where"
        ))
    }

    /// The place of the last value that a path of names reaches.
    fn nearest(&mut self, expr: &'a Expr) -> Origin {
        let Kind::One(path) = &expr.kind else { return Origin::NONE };
        let Ok(Some(mut node)) = self.start(&path.start) else { return Origin::NONE };
        for step in &path.steps {
            match self.step(step, node) {
                Ok(Some(child)) => node = child,
                _ => break,
            }
        }
        node.origin()
    }
}
