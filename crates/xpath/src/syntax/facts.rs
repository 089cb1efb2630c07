//! What can be told of an expression without running it.

use std::collections::BTreeSet;

use crate::functions::Reach;

use super::ast::{Callee, Expr, ExprKind, Key, Step};

/// What an expression needs.
#[derive(Debug, Default)]
pub(crate) struct Facts {
    /// Whether it is about a context item.
    pub(crate) context: bool,
    /// Whether it asks for documents by name.
    pub(crate) documents: bool,
    /// The variables that it uses, by their slots.
    pub(crate) variables: BTreeSet<usize>,
}

impl Facts {
    /// The facts of an expression whose first `outside` slots are variables from outside.
    pub(super) fn of(expr: &Expr, outside: usize) -> Self {
        let mut facts = Self::default();
        facts.add(expr, true);
        facts.variables.retain(|slot| *slot < outside);
        facts
    }

    /// Adds an expression; whether its context is that of the whole.
    fn add(&mut self, expr: &Expr, is_outer: bool) {
        match &expr.kind {
            ExprKind::ContextItem => self.context |= is_outer,
            ExprKind::Variable(slot) => {
                self.variables.insert(*slot);
            }
            ExprKind::Path(path) => {
                let from_context = match path.steps.first() {
                    Some(Step::Expr(_)) => path.start == super::ast::Start::Root,
                    _ => true,
                };
                self.context |= is_outer && from_context;
                for (at, step) in path.steps.iter().enumerate() {
                    match step {
                        Step::Expr(expr) => self.add(expr, is_outer && at == 0 && !from_context),
                        Step::Axis(step) => {
                            step.predicates.iter().for_each(|p| self.add(&p.expr, false));
                        }
                    }
                }
                return;
            }
            ExprKind::SimpleMap(pair) => {
                self.add(&pair[0], is_outer);
                self.add(&pair[1], false);
                return;
            }
            ExprKind::Filter(value, predicates) => {
                self.add(value, is_outer);
                predicates.iter().for_each(|p| self.add(&p.expr, false));
                return;
            }
            ExprKind::Call(function, arguments) => {
                self.documents |= function.looks == Reach::Documents;
                self.context |= is_outer && function.is_about_context(arguments.len());
            }
            ExprKind::FunctionReference(function, arity) => {
                self.context |= is_outer && function.is_about_context(*arity);
            }
            ExprKind::Inline(inline) => {
                self.variables.extend(inline.captures.iter().map(|(outer, _)| *outer));
                // Its own slots are no variables of the whole; what it calls counts.
                let inner = Self::of(&inline.body, 0);
                self.documents |= inner.documents;
                return;
            }
            _ => {}
        }
        each(expr, &mut |inner| self.add(inner, is_outer));
    }
}

/// The expressions that an expression is made of.
pub(crate) fn each<'e>(expr: &'e Expr, visit: &mut dyn FnMut(&'e Expr)) {
    match &expr.kind {
        ExprKind::Literal(_)
        | ExprKind::Variable(_)
        | ExprKind::ContextItem
        | ExprKind::FunctionReference(..) => {}
        ExprKind::Inline(inline) => visit(&inline.body),
        ExprKind::Sequence(items) | ExprKind::Array(items) => items.iter().for_each(visit),
        ExprKind::Or(pair)
        | ExprKind::And(pair)
        | ExprKind::General(_, pair)
        | ExprKind::Value(_, pair)
        | ExprKind::Nodes(_, pair)
        | ExprKind::Concat(pair)
        | ExprKind::Range(pair)
        | ExprKind::Arithmetic(_, pair)
        | ExprKind::Set(_, pair)
        | ExprKind::SimpleMap(pair) => pair.iter().for_each(visit),
        ExprKind::Sign(_, value)
        | ExprKind::InstanceOf(value, _)
        | ExprKind::Treat(value, _)
        | ExprKind::Castable(value, _)
        | ExprKind::Cast(value, _)
        | ExprKind::CurlyArray(value)
        | ExprKind::Constructor(_, value) => visit(value),
        ExprKind::Path(path) => {
            for step in &path.steps {
                match step {
                    Step::Expr(expr) => visit(expr),
                    Step::Axis(step) => step.predicates.iter().for_each(|p| visit(&p.expr)),
                }
            }
        }
        ExprKind::Filter(value, predicates) => {
            visit(value);
            predicates.iter().for_each(|predicate| visit(&predicate.expr));
        }
        ExprKind::Lookup(value, key) => {
            visit(value);
            if let Key::Expr(key) = &**key {
                visit(key);
            }
        }
        ExprKind::Call(_, arguments) => arguments.iter().for_each(visit),
        ExprKind::Partial(callee, arguments) => {
            if let Callee::Computed(callee) = &**callee {
                visit(callee);
            }
            arguments.iter().flatten().for_each(visit);
        }
        ExprKind::DynamicCall(callee, arguments) => {
            visit(callee);
            arguments.iter().for_each(visit);
        }
        ExprKind::Map(entries) => entries.iter().for_each(|(key, value)| {
            visit(key);
            visit(value);
        }),
        ExprKind::If(parts) => parts.iter().for_each(visit),
        ExprKind::For { over, body, .. } => {
            visit(over);
            visit(body);
        }
        ExprKind::Let { value, body, .. } => {
            visit(value);
            visit(body);
        }
        ExprKind::Quantified { over, holds, .. } => {
            visit(over);
            visit(holds);
        }
    }
}

/// Whether an expression gives one item at most.
pub(crate) fn gives_one(expr: &Expr) -> bool {
    match &expr.kind {
        ExprKind::Literal(_)
        | ExprKind::ContextItem
        | ExprKind::Or(_)
        | ExprKind::And(_)
        | ExprKind::General(..)
        | ExprKind::Value(..)
        | ExprKind::Nodes(..)
        | ExprKind::Concat(_)
        | ExprKind::Arithmetic(..)
        | ExprKind::Sign(..)
        | ExprKind::InstanceOf(..)
        | ExprKind::Castable(..)
        | ExprKind::Cast(..)
        | ExprKind::Constructor(..)
        | ExprKind::Map(_)
        | ExprKind::Array(_)
        | ExprKind::CurlyArray(_)
        | ExprKind::Quantified { .. } => true,
        ExprKind::Call(function, _) => !function.is_plural,
        ExprKind::Lookup(value, key) => {
            gives_one(value) && matches!(**key, Key::Name(_) | Key::Integer(_))
        }
        ExprKind::If(parts) => gives_one(&parts[1]) && gives_one(&parts[2]),
        ExprKind::Let { body, .. } => gives_one(body),
        _ => false,
    }
}
