//! What is said of an operand that is not there.

use kyanite_tree::nesting::{DEEPEST, TOO_DEEP};
use kyanite_tree::{Advice, Code, Locus, Origin, Value};

use super::Runner;
use crate::plan::{Expr, Kind};
use crate::rule_error::{RuleError, RunResult, rule_error};
use crate::syntax::Hyphenated;

impl<'a> Runner<'_, 'a> {
    /// The failure of an operand that is not there, or null: it points at the nearest value that is there.
    #[cold]
    pub(super) fn missing(
        &mut self,
        expr: &'a Expr,
        null: Option<Value<'a>>,
        what: &str,
    ) -> RuleError {
        let words = self.plan.rule.slice(expr.span);
        let is = if null.is_some() { "null" } else { "not there" };
        let near = null.or_else(|| self.nearest(expr));
        let message = format!("`{words}` is {is}, and {what}");
        let rule = self.plan.rule.text.as_str();
        let hyphenated = Hyphenated::around(rule, expr.span.end)
            .filter(|hyphenated| near.is_some_and(|near| near.member(hyphenated.name).is_some()));
        let advice = match hyphenated {
            Some(hyphenated) => hyphenated.advice(" for the member of that name", Locus::Rule),
            None => Advice::words(format!(
                "write {words} ?? … for a value in its place, or leave such items out with where"
            )),
        };
        let origin = near.map_or(Origin::NONE, Value::origin);
        rule_error(Code::ValueMissing, expr.span, message).read_at(origin).advise(advice)
    }

    /// Refuses a value that has been nested in others again and again, before it is deeper than can be gone through.
    ///
    /// # Errors
    /// [`Code::ValueLimit`].
    pub(super) fn refuse_deep(
        &mut self,
        expr: &'a Expr,
        value: Option<Value<'a>>,
    ) -> RunResult<()> {
        if value.is_none_or(|value| value.depth(DEEPEST) <= DEEPEST) {
            return Ok(());
        }
        let message = format!("this value is {TOO_DEEP}");
        Err(rule_error(Code::ValueLimit, expr.span, message)
            .advise("put values beside each other: [...before, new]"))
    }

    /// The last value that a path of names reaches.
    fn nearest(&mut self, expr: &'a Expr) -> Option<Value<'a>> {
        let Kind::One(path) = &expr.kind else { return None };
        let mut node = self.start(&path.start).ok()??;
        for step in &path.steps {
            match self.step(step, node) {
                Ok(Some(child)) => node = child,
                _ => break,
            }
        }
        Some(node)
    }
}
