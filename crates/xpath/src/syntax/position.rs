//! Whether a predicate asks where an item stands, so that those that do not can be asked of many nodes at once.

use kyanite_tree::Comparison;

use super::ast::{Callee, Expr, ExprKind, Literal, Position, Step};
use super::facts::each;
use crate::functions::ReturnKind;

/// How a predicate depends on the place of the item.
pub(super) fn of(expr: &Expr) -> Position {
    match &expr.kind {
        ExprKind::Literal(literal) => return of_literal(literal),
        ExprKind::General(how, pair) | ExprKind::Value(how, pair) => {
            if let Some(position) = compared(*how, &pair[0], &pair[1]) {
                return position;
            }
        }
        _ => {}
    }
    if asks(expr, "last") {
        return Position::Any;
    }
    if asks(expr, "position") || !is_truth(expr) { Position::Place } else { Position::Free }
}

fn of_literal(literal: &Literal) -> Position {
    match literal {
        Literal::Integer(number) => match usize::try_from(*number) {
            Ok(number) if number > 0 => Position::At(number),
            _ => Position::Place,
        },
        Literal::Double(number) if *number >= 1.0 && number.fract() == 0.0 && *number < 1e15 => {
            Position::At(*number as usize)
        }
        Literal::Text(_) => Position::Free,
        _ => Position::Place,
    }
}

/// `position() = 3`, `position() < 3`.
fn compared(how: Comparison, left: &Expr, right: &Expr) -> Option<Position> {
    let is_position =
        |expr: &Expr| matches!(&expr.kind, ExprKind::Call(f, _) if f.name == "position");
    let (how, number) = match (&left.kind, &right.kind) {
        (_, ExprKind::Literal(literal)) if is_position(left) => (how, of_literal(literal)),
        (ExprKind::Literal(literal), _) if is_position(right) => {
            (how.turned(), of_literal(literal))
        }
        _ => return None,
    };
    let Position::At(number) = number else { return None };
    match how {
        Comparison::Equal => Some(Position::At(number)),
        Comparison::LessOrEqual => Some(Position::UpTo(number)),
        Comparison::Less => Some(Position::UpTo(number - 1)),
        _ => None,
    }
}

/// Whether the value is a boolean, nodes or nothing, and so never a number that would be a place.
fn is_truth(expr: &Expr) -> bool {
    match &expr.kind {
        ExprKind::Or(_)
        | ExprKind::And(_)
        | ExprKind::General(..)
        | ExprKind::Value(..)
        | ExprKind::Nodes(..)
        | ExprKind::InstanceOf(..)
        | ExprKind::Castable(..)
        | ExprKind::Quantified { .. }
        | ExprKind::Set(..) => true,
        ExprKind::Literal(literal) => matches!(literal, Literal::Text(_)),
        ExprKind::Path(path) => matches!(path.steps.last(), None | Some(Step::Axis(_))),
        ExprKind::Call(function, _) => function.gives == ReturnKind::Boolean,
        ExprKind::If(parts) => is_truth(&parts[1]) && is_truth(&parts[2]),
        ExprKind::Let { body, .. } => is_truth(body),
        _ => false,
    }
}

/// Whether an expression asks where the item stands that it is evaluated for.
pub(crate) fn asks_place(expr: &Expr) -> bool {
    asks(expr, "position") || asks(expr, "last")
}

/// Whether position() or last() is asked of the item that the predicate is for.
fn asks(expr: &Expr, name: &str) -> bool {
    match &expr.kind {
        // The body of a function has no item of its own.
        ExprKind::Inline(_) => return false,
        // What follows has an item of its own.
        ExprKind::SimpleMap(pair) => return asks(&pair[0], name),
        ExprKind::Filter(value, _) => return asks(value, name),
        ExprKind::Path(path) => {
            return matches!(path.steps.first(), Some(Step::Expr(first)) if asks(first, name));
        }
        ExprKind::Call(function, _) | ExprKind::FunctionReference(function, _)
            if function.name == name =>
        {
            return true;
        }
        ExprKind::Partial(callee, _) if matches!(&**callee, Callee::Named(function) if function.name == name) =>
        {
            return true;
        }
        _ => {}
    }
    let mut is_asked = false;
    each(expr, &mut |inner| is_asked = is_asked || asks(inner, name));
    is_asked
}
