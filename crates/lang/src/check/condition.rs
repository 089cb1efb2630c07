//! Expressions that must be true or false: `where`, filters, `if`, and the operands of `&&`, `||`, `!`.
//!
//! Inside a filter a path alone asks whether it selects anything (RFC 9535 section 2.3.5). Outside one that would
//! be a guess, so a bare path is refused there with both readings offered.

use kyanite_tree::Code;

use super::Checker;
use crate::finding::{Finding, instead};
use crate::plan::{Expr, Kind, Nodes};
use crate::syntax::ast::{self, ExprKind, Start};
use crate::types::Type;

impl Checker<'_> {
    pub(super) fn condition(&mut self, expr: &ast::Expr) -> Expr {
        match &expr.kind {
            ExprKind::Group(inner) => self.condition(inner),
            ExprKind::Path(path) => match path.start {
                Start::Name(_) if path.segments.is_empty() => self.named_condition(expr),
                _ if self.filters > 0 => self.existence(path, expr),
                _ => self.refuse_path(expr),
            },
            _ => {
                let lowered = self.value(expr);
                self.must_be_boolean(lowered)
            }
        }
    }

    /// A path alone in a filter.
    fn existence(&mut self, path: &ast::Path, expr: &ast::Expr) -> Expr {
        let lowered = self.path(path, expr.span);
        self.may_be_absent(&lowered.kind);
        let nodes = match lowered.kind {
            Kind::One(path) => Nodes::One(path),
            Kind::Many(path) => Nodes::Many(path),
            _ => return lowered,
        };
        Expr { kind: Kind::Exists(nodes), span: expr.span }
    }

    fn named_condition(&mut self, expr: &ast::Expr) -> Expr {
        let lowered = self.value(expr);
        if matches!(lowered.kind, Kind::Broken) || self.type_of(&lowered) == Type::Boolean {
            return lowered;
        }
        let name = self.words(expr.span);
        self.broken(
            Finding::error_at(
                Code::RuleShape,
                expr.span,
                format!("`{name}` is not known to be true or false"),
            )
            .advise(instead(
                expr.span,
                format!("{name} == true"),
                &format!(", present({name}), or declare it boolean"),
            )),
        )
    }

    fn refuse_path(&mut self, expr: &ast::Expr) -> Expr {
        let path = self.words(expr.span);
        self.broken(
            Finding::error_at(
                Code::RuleShape,
                expr.span,
                format!("`{path}` alone is no condition"),
            )
            .advise(instead(
                expr.span,
                format!("exists({path})"),
                &format!(" to ask whether it is there, {path} == true for its value"),
            )),
        )
    }

    fn must_be_boolean(&mut self, lowered: Expr) -> Expr {
        match self.type_of(&lowered) {
            Type::Boolean => lowered,
            // Calls, if and case may give a boolean; the runner sees to it.
            Type::Any => lowered,
            other => {
                let what = other.words();
                self.broken(Finding::error_at(
                    Code::RuleShape,
                    lowered.span,
                    format!("a condition is true or false; this is {what}"),
                ))
            }
        }
    }
}
