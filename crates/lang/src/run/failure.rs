//! Where a rule failed on the data: both ends.

use kyanite_tree::{DecimalError, Origin, Problem, Spot, Value};

use super::Runner;
use crate::finding::{RuleText, Span};
use crate::plan::{Expr, Kind};

/// A rule that failed: what is wrong, the place in the rule, and the value in the input.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Failure {
    /// One plain sentence.
    pub message: String,
    /// Where in the rule.
    pub span: Span,
    /// The value in the input, or the nearest that was there.
    pub origin: Origin,
    /// What to do.
    pub advice: Option<String>,
}

impl Failure {
    pub(super) fn new(span: Span, message: impl Into<String>) -> Box<Self> {
        Box::new(Self { message: message.into(), span, origin: Origin::NONE, advice: None })
    }

    pub(super) fn at(mut self: Box<Self>, origin: Origin) -> Box<Self> {
        self.origin = origin;
        self
    }

    pub(super) fn about(self: Box<Self>, value: Option<Value<'_>>) -> Box<Self> {
        match value {
            Some(value) => self.at(value.origin()),
            None => self,
        }
    }

    pub(super) fn advise(mut self: Box<Self>, advice: impl Into<String>) -> Box<Self> {
        self.advice = Some(advice.into());
        self
    }

    pub(super) fn number(span: Span, error: DecimalError) -> Box<Self> {
        Self::new(span, error.to_string())
    }

    /// The failure as a message: the input first when its place is known, then the rule.
    #[must_use]
    pub fn problem(&self, rule: &RuleText, input: Option<Spot>) -> Problem {
        Problem::error(self.message.clone())
            .at_opt(input)
            .at(rule.spot(self.span))
            .advise_opt(self.advice.clone())
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
    ) -> Box<Failure> {
        let words = self.plan.rule.slice(expr.span);
        let is = if null.is_some() { "null" } else { "not there" };
        let origin = match null {
            Some(null) => null.origin(),
            None => self.nearest(expr),
        };
        Failure::new(expr.span, format!("`{words}` is {is}, and {what}")).at(origin).advise(
            format!(
                "write {words} ?? … for a value in its place, or leave such items out with where"
            ),
        )
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
