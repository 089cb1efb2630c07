//! Clauses: which names they bind, what they may see, and what they compile to.

use kyanite_tree::Code;

use super::Checker;
use crate::finding::{Finding, instead};
use crate::plan::{
    Clause, ClauseKind, Expr, ForSource, Join, Kind, Loop, OrderKey, Start, TestInfo,
};
use crate::syntax::ast::{self, Binary, ExprKind, Literal};
use crate::types::Type;
use crate::visit;
use crate::visit::and_parts;

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
            let mut late_paths = usize::MAX;
            let mut compiled = Vec::new();
            for clause in clauses {
                let clause = self.clause(clause, outer);
                if late_paths == usize::MAX && clause.kind.holds_tuples() {
                    late_paths = self.paths.len();
                }
                compiled.push(clause);
            }
            mark_joins(&mut compiled);
            mark_bounds(&mut compiled);
            let result = self.value(&parsed.result);
            let mut repeat = Loop { before, clauses: compiled, result, late_paths };
            if repeat.fold_groups(self.scope.frame()) {
                self.scope.spare();
            }
            Kind::Loop(Box::new(repeat))
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
                ClauseKind::For { slot, at, source, join: None }
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
                let slots = outer.slots..self.scope.frame();
                ClauseKind::OrderBy { keys, slots, is_bounded: false }
            }
            ast::ClauseKind::GroupBy(keys) => {
                let mut grouped = Vec::with_capacity(keys.len());
                for (name, key) in keys {
                    let key = self.operand(key, "group by");
                    let known = self.type_of(&key);
                    if matches!(known, Type::List | Type::Map) {
                        let message =
                            format!("groups go by single values; this is {}", known.words());
                        self.find(Finding::error_at(Code::RuleType, key.span, message));
                    }
                    grouped.push((name, key, known));
                }
                let slots = outer.slots..self.scope.frame();
                self.scope.become_lists(outer.names);
                let keys = grouped
                    .into_iter()
                    .map(|(name, key, known)| (self.bind_key(name, key.span, known), key))
                    .collect();
                ClauseKind::GroupBy { keys, slots, folds: None }
            }
            ast::ClauseKind::Carry { name, from, step } => {
                let hidden = self.scope.hide(outer.names);
                let from = self.value(from);
                self.scope.show(hidden);
                let slot = self.bind_local(name, Type::Any, None);
                ClauseKind::Carry { slot, from, step: self.value(step) }
            }
            ast::ClauseKind::Window { size, step } => {
                let size = self.how_many(size, "window", outer.names);
                let step = step.as_ref().map(|step| self.how_many(step, "step", outer.names));
                for (count, word) in [(Some(&size), "window"), (step.as_ref(), "step")] {
                    if let Some(Expr { kind: Kind::Constant(Literal::Number(number)), span }) =
                        count
                        && number.parse() == Ok(0)
                    {
                        let message = format!("`{word}` is a number of tuples, at least 1");
                        self.find(Finding::error_at(Code::RuleType, *span, message));
                    }
                }
                let slots = outer.slots..self.scope.frame();
                self.scope.become_lists(outer.names);
                ClauseKind::Window { size, step, slots }
            }
        };
        Clause { kind }
    }

    fn order_key(&mut self, key: &ast::OrderKey) -> OrderKey {
        let value = self.operand(&key.value, "order by");
        let known = self.type_of(&value);
        if !matches!(known, Type::Any | Type::Number | Type::Text) {
            let message = format!("order by takes numbers or texts; this is {}", known.words());
            self.find(Finding::error_at(Code::RuleType, value.span, message));
        }
        OrderKey { value, descending: key.descending }
    }

    /// The count of `skip` or `first`: it is the same for all tuples, so it sees only outer names.
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
                    let finding = Finding::error_at(
                        Code::RuleType,
                        source.span,
                        format!("for takes a list; this is {}", known.words()),
                    )
                    .advise(instead(
                        source.span,
                        format!("[{words}]"),
                        " for a list of that one value",
                    ));
                    self.find(finding);
                }
                (ForSource::List(source), format!("({words})[*]"))
            }
        }
    }
}

/// Notes where a `for` and the `where` behind it are a join: the list is the same for all outer tuples.
fn mark_joins(clauses: &mut [Clause]) {
    for position in 1..clauses.len() {
        let (before, after) = clauses.split_at_mut(position);
        let (Some(Clause { kind: ClauseKind::For { slot, at, source, join } }), Some(next)) =
            (before.last_mut(), after.first())
        else {
            continue;
        };
        let ClauseKind::Where { condition, .. } = &next.kind else { continue };
        let mut is_fixed = true;
        let mut fixed = |start: &Start| is_fixed &= matches!(start, Start::Root | Start::Global(_));
        match source {
            ForSource::Nodes(path) => visit::many(path, &mut fixed),
            ForSource::List(list) => visit::each_start(list, &mut fixed),
        }
        // The first `for` of all is gone through once, so an index would not be used again.
        let (slot, at) = (*slot, *at);
        if is_fixed && at.is_none() {
            *join = find_join(condition, |start| match start {
                Start::Local(read) if *read == slot => Side::Inner,
                Start::Root | Start::Global(_) | Start::Value(_) => Side::Both,
                Start::Local(_) | Start::Current => Side::Outer,
            });
        }
    }
}

/// Which side of a join a name belongs to.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Side {
    Inner,
    Outer,
    Both,
}

/// An equality of a condition that has inner names on one side only, and outer ones on the other.
pub(super) fn find_join(condition: &Expr, side: impl Fn(&Start) -> Side) -> Option<Join> {
    let mut parts = Vec::new();
    and_parts(condition, &mut parts);
    parts.iter().enumerate().find_map(|(part, expr)| {
        let Kind::Binary(Binary::Equal, left, right) = &expr.kind else { return None };
        let sides = |expr: &Expr| {
            let (mut inner, mut outer) = (false, false);
            visit::each_start(expr, &mut |start| match side(start) {
                Side::Inner => inner = true,
                Side::Outer => outer = true,
                Side::Both => {}
            });
            (inner, outer)
        };
        match (sides(left), sides(right)) {
            ((true, false), (false, true)) => Some(Join { part, inner_is_left: true }),
            ((false, true), (true, false)) => Some(Join { part, inner_is_left: false }),
            _ => None,
        }
    })
}

/// Notes which `order by` is followed by `first`.
fn mark_bounds(clauses: &mut [Clause]) {
    for position in 1..clauses.len() {
        let (before, after) = clauses.split_at_mut(position);
        if let (Some(Clause { kind: ClauseKind::OrderBy { is_bounded, .. } }), Some(next)) =
            (before.last_mut(), after.first())
        {
            *is_bounded = matches!(next.kind, ClauseKind::First(_));
        }
    }
}

/// Where the names and slots from outside a loop end.
#[derive(Clone, Copy)]
struct Outer {
    names: usize,
    slots: usize,
}
