//! What the values of a traced run are made of.

use kyanite_tree::Value;

use super::Runner;
use crate::plan::Expr;
use crate::rule_error::RunResult;
use crate::trace::Trace;

impl<'a> Runner<'_, 'a> {
    /// The value of an expression, with an origin that tells what it was made of.
    #[cold]
    pub(super) fn traced(&mut self, expr: &'a Expr) -> RunResult<Option<Value<'a>>> {
        let before = self.session.trace.as_ref().map_or(0, Trace::got);
        let value = self.evaluate(expr)?;
        let Some(trace) = &mut self.session.trace else { return Ok(value) };
        let Some(value) = value else {
            trace.forget(before);
            return Ok(None);
        };
        let of = match value {
            // What was handed on is made of itself alone, whatever was asked to choose it.
            value if value.origin().is_known() => Some(vec![value.origin()]),
            Value::List(_, items) => Some(items.iter().map(|item| item.origin()).collect()),
            _ => None,
        };
        let origin = trace.made(expr.span, before, of);
        Ok(Some(value.with_origin(origin)))
    }

    /// Notes that a node goes into the value that is being made.
    #[inline]
    pub(super) fn contribute(&mut self, node: Value<'a>) {
        if let Some(trace) = &mut self.session.trace {
            trace.met(&[node.origin()]);
        }
    }
}
