//! What is said of an operand that is not there.

use kyanite_tree::{Code, Origin, Value};

use super::Runner;
use crate::plan::{Expr, Kind};
use crate::rule_error::{RuleError, rule_error};

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
        let origin = match null {
            Some(null) => null.origin(),
            None => self.nearest(expr),
        };
        let message = format!("`{words}` is {is}, and {what}");
        rule_error(Code::ValueMissing, expr.span, message).read_at(origin).advise(format!(
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
