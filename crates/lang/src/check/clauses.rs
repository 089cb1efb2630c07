//! Clauses: which names they bind, what they may see, and what they compile to.

use super::Checker;
use crate::finding::Finding;
use crate::plan::{Clause, ClauseKind, Expr, ForSource, Kind, Loop, OrderKey, TestInfo};
use crate::syntax::ast::{self, ExprKind};
use crate::types::Type;

impl Checker<'_> {
    /// `for … return e` and `let … return e`.
    pub(super) fn clauses(&mut self, expr: &ast::Expr) -> Expr {
        let ExprKind::Loop(parsed) = &expr.kind else { return self.value(expr) };
        let mark = self.scope.mark();
        let mut clauses = parsed.clauses.iter().peekable();
        let mut before = Vec::new();
        while let Some(ast::Clause { kind: ast::ClauseKind::Let(name, value), .. }) = clauses.peek()
        {
            let (value, known, base) = self.bound_value(value);
            before.push((self.bind_local(name, known, base), value));
            clauses.next();
        }
        let kind = if clauses.peek().is_none() {
            // Without a for, the result has the shape of what is returned.
            Kind::Lets(before, Box::new(self.either(&parsed.result)))
        } else {
            let outer = Outer { names: self.scope.mark(), slots: self.scope.frame() };
            let clauses = clauses.map(|clause| self.clause(clause, outer)).collect();
            let result = self.value(&parsed.result);
            Kind::Loop(Box::new(Loop { before, clauses, result }))
        };
        self.scope.forget(mark);
        Expr { kind, span: expr.span }
    }

    fn clause(&mut self, clause: &ast::Clause, outer: Outer) -> Clause {
        let kind = match &clause.kind {
            ast::ClauseKind::For { name, at, source } => {
                let (source, base) = self.for_source(source);
                let slot = self.bind_local(name, Type::Any, Some(base));
                let at = at.as_ref().map(|at| self.bind_local(at, Type::Number, None));
                ClauseKind::For { slot, at, source }
            }
            ast::ClauseKind::Let(name, value) => {
                let (value, known, base) = self.bound_value(value);
                ClauseKind::Let(self.bind_local(name, known, base), value)
            }
            ast::ClauseKind::Where(condition) => {
                let test = self.tests.len();
                self.tests.push(TestInfo { span: clause.span, is_where: true });
                ClauseKind::Where { test, condition: self.condition(condition) }
            }
            ast::ClauseKind::Skip(count) => {
                ClauseKind::Skip(self.how_many(count, "skip", outer.names))
            }
            ast::ClauseKind::First(count) => {
                ClauseKind::First(self.how_many(count, "first", outer.names))
            }
            ast::ClauseKind::OrderBy(keys) => {
                let keys = keys.iter().map(|key| self.order_key(key)).collect();
                ClauseKind::OrderBy { keys, slots: outer.slots..self.scope.frame() }
            }
        };
        Clause { kind }
    }

    fn order_key(&mut self, key: &ast::OrderKey) -> OrderKey {
        let value = self.operand(&key.value, "order by");
        let known = self.type_of(&value);
        if !matches!(known, Type::Any | Type::Number | Type::Text) {
            let message = format!("order by takes numbers or texts; this is {}", known.words());
            self.find(Finding::error(value.span, message));
        }
        OrderKey { value, descending: key.descending }
    }

    /// The count of `skip` or `first`: it is the same for all turns, so it sees only outer names.
    fn how_many(&mut self, count: &ast::Expr, word: &str, outer: usize) -> Expr {
        let hidden = self.scope.hide(outer);
        let count = self.operand(count, word);
        self.must_be(&count, Type::Number, word);
        self.scope.show(hidden);
        count
    }

    fn for_source(&mut self, source: &ast::Expr) -> (ForSource, String) {
        let words = self.words(source.span);
        let lowered = self.either(source);
        match lowered.kind {
            Kind::Many(path) => {
                let info = &self.paths[path.id];
                let base = info.prefix(info.steps.len());
                (ForSource::Nodes(path), base)
            }
            Kind::One(path) => {
                let base = format!("{}[*]", self.paths[path.id].prefix(path.steps.len()));
                let span = lowered.span;
                (ForSource::List(Expr { kind: Kind::One(path), span }), base)
            }
            kind => {
                let source = Expr { kind, span: lowered.span };
                let known = self.type_of(&source);
                if !matches!(known, Type::Any | Type::List | Type::Null) {
                    let finding = Finding::error(
                        source.span,
                        format!("for takes a list; this is {}", known.words()),
                    )
                    .advise(format!("write [{words}] for a list of that one value"));
                    self.find(finding);
                }
                (ForSource::List(source), format!("({words})[*]"))
            }
        }
    }
}

/// Where the names and slots from outside a loop end.
#[derive(Clone, Copy)]
struct Outer {
    names: usize,
    slots: usize,
}
