//! The projection of an expression: which children, by their names, it can see of the elements that it is evaluated for.

use kyanite_formats::projection::{Projected, Projection};

use crate::syntax::ast::{Axis, Expr, ExprKind, Name, NodeTest, Path, Start, Step};

/// How the nodes that a path leads to are used.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Usage {
    /// Whether there are any, or how many.
    Presence,
    /// With all that is in them.
    Values,
}

/// What a path from an element needs of it; where `is_counted`, only the number of what it leads to is wanted.
pub(crate) fn of_record(path: &Path, is_counted: bool) -> Projection {
    let mut projection = Projection::nothing();
    projection.add_path(path, Projected::RECORD, usage(is_counted));
    projection
}

/// The same for an element that is all that the first step leads to, and for which its first predicate is known to hold.
pub(crate) fn of_fitting_record(path: &Path, is_counted: bool) -> Projection {
    let mut projection = Projection::nothing();
    if let Some((Step::Axis(first), steps)) = path.steps.split_first() {
        first
            .predicates
            .iter()
            .skip(1)
            .for_each(|p| projection.add_tested(&p.expr, Projected::RECORD));
        projection.add_steps(steps, Projected::RECORD, usage(is_counted));
    }
    projection
}

fn usage(is_counted: bool) -> Usage {
    if is_counted { Usage::Presence } else { Usage::Values }
}

/// Adds to needs what expressions look at.
trait ProjectExpressions {
    fn add_path(&mut self, path: &Path, from: Projected, usage: Usage);
    fn add_steps(&mut self, steps: &[Step], from: Projected, usage: Usage);
    /// An expression of which only the effective boolean value is wanted.
    fn add_tested(&mut self, expr: &Expr, focus: Projected);
    /// An expression whose value is wanted.
    fn add_valued(&mut self, expr: &Expr, focus: Projected);
}

impl ProjectExpressions for Projection {
    fn add_path(&mut self, path: &Path, from: Projected, usage: Usage) {
        if path.start == Start::Root {
            return self.add_all(Projected::RECORD);
        }
        self.add_steps(&path.steps, from, usage);
    }

    fn add_steps(&mut self, steps: &[Step], from: Projected, usage: Usage) {
        let mut at = from;
        for step in steps {
            let Step::Axis(step) = step else { return self.add_all(at) };
            at = match (step.axis, local_name(&step.test)) {
                (Axis::Itself, _) => at,
                (Axis::Child, Some(local)) => self.add_member(at, local),
                // Attributes come with their element, and nothing is below them; of elements around it only these are asked for.
                (Axis::Attribute | Axis::Parent | Axis::Ancestor | Axis::AncestorOrSelf, _) => {
                    return;
                }
                _ => return self.add_all(at),
            };
            step.predicates.iter().for_each(|predicate| self.add_tested(&predicate.expr, at));
        }
        if usage == Usage::Values {
            self.add_all(at);
        }
    }

    fn add_tested(&mut self, expr: &Expr, focus: Projected) {
        match &expr.kind {
            ExprKind::Path(path) => self.add_path(path, focus, Usage::Presence),
            _ => self.add_valued(expr, focus),
        }
    }

    fn add_valued(&mut self, expr: &Expr, focus: Projected) {
        match &expr.kind {
            ExprKind::Literal(_) | ExprKind::Variable(_) => {}
            ExprKind::Path(path) => self.add_path(path, focus, Usage::Values),
            ExprKind::And(pair) | ExprKind::Or(pair) => {
                pair.iter().for_each(|expr| self.add_tested(expr, focus));
            }
            ExprKind::Sequence(items) => {
                items.iter().for_each(|item| self.add_valued(item, focus));
            }
            ExprKind::General(_, pair)
            | ExprKind::Value(_, pair)
            | ExprKind::Concat(pair)
            | ExprKind::Arithmetic(_, pair) => {
                pair.iter().for_each(|expr| self.add_valued(expr, focus));
            }
            ExprKind::Sign(_, value)
            | ExprKind::Cast(value, _)
            | ExprKind::Castable(value, _)
            | ExprKind::Constructor(_, value) => self.add_valued(value, focus),
            ExprKind::If(parts) => {
                let [test, yes, no] = &**parts;
                self.add_tested(test, focus);
                [yes, no].into_iter().for_each(|branch| self.add_valued(branch, focus));
            }
            ExprKind::Call(function, arguments) => match (function.name, &arguments[..]) {
                ("true" | "false", []) => {}
                ("count" | "not" | "boolean" | "exists" | "empty", [argument]) => {
                    self.add_tested(argument, focus);
                }
                // Without arguments most are about the context item.
                (_, []) => self.add_all(focus),
                (_, arguments) => {
                    arguments.iter().for_each(|argument| self.add_valued(argument, focus));
                }
            },
            _ => self.add_all(focus),
        }
    }
}

/// The local name that a test asks for, if it asks for just one.
fn local_name(test: &NodeTest) -> Option<&str> {
    match test {
        NodeTest::Name(
            Name::Plain(local)
            | Name::Prefixed(_, local)
            | Name::Expanded(_, local)
            | Name::Local(local),
        ) => Some(local),
        _ => None,
    }
}
