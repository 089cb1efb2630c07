//! Whether a predicate asks where an item stands, so that those that do not can be asked of many nodes at once.

use kyanite_eval::atomic::Comparison;

use super::ast::{Callee, Expr, ExprKind, Literal, Position, Step};
use crate::functions::Gives;

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
        (ExprKind::Literal(literal), _) if is_position(right) => (turned(how), of_literal(literal)),
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

fn turned(how: Comparison) -> Comparison {
    match how {
        Comparison::Less => Comparison::Greater,
        Comparison::LessOrEqual => Comparison::GreaterOrEqual,
        Comparison::Greater => Comparison::Less,
        Comparison::GreaterOrEqual => Comparison::LessOrEqual,
        other => other,
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
        ExprKind::Call(function, _) => function.gives == Gives::Boolean,
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
    let any = |exprs: &[Expr]| exprs.iter().any(|expr| asks(expr, name));
    match &expr.kind {
        ExprKind::Literal(_)
        | ExprKind::Variable(_)
        | ExprKind::ContextItem
        // The body of a function has no item of its own.
        | ExprKind::Inline(_) => false,
        ExprKind::Sequence(items) | ExprKind::Array(items) => any(items),
        ExprKind::Or(pair)
        | ExprKind::And(pair)
        | ExprKind::General(_, pair)
        | ExprKind::Value(_, pair)
        | ExprKind::Nodes(_, pair)
        | ExprKind::Concat(pair)
        | ExprKind::Range(pair)
        | ExprKind::Arithmetic(_, pair)
        | ExprKind::Set(_, pair) => any(&**pair),
        // What follows has an item of its own.
        ExprKind::SimpleMap(pair) => asks(&pair[0], name),
        ExprKind::Filter(value, _) => asks(value, name),
        ExprKind::Path(path) => match path.steps.first() {
            Some(Step::Expr(first)) => asks(first, name),
            _ => false,
        },
        ExprKind::Sign(_, value)
        | ExprKind::InstanceOf(value, _)
        | ExprKind::Treat(value, _)
        | ExprKind::Castable(value, _)
        | ExprKind::Cast(value, _)
        | ExprKind::CurlyArray(value)
        | ExprKind::Constructor(_, value) => asks(value, name),
        ExprKind::Lookup(value, key) => {
            asks(value, name)
                || matches!(&**key, super::ast::Key::Expr(key) if asks(key, name))
        }
        ExprKind::Call(function, arguments) => function.name == name || any(arguments),
        ExprKind::FunctionReference(function, _) => function.name == name,
        ExprKind::DynamicCall(callee, arguments) => asks(callee, name) || any(arguments),
        ExprKind::Partial(callee, arguments) => {
            let is_asked = match &**callee {
                Callee::Named(function) => function.name == name,
                Callee::Computed(callee) => asks(callee, name),
            };
            is_asked || arguments.iter().flatten().any(|argument| asks(argument, name))
        }
        ExprKind::Map(entries) => {
            entries.iter().any(|(key, value)| asks(key, name) || asks(value, name))
        }
        ExprKind::If(parts) => any(&**parts),
        ExprKind::For { over, body, .. } => asks(over, name) || asks(body, name),
        ExprKind::Let { value, body, .. } => asks(value, name) || asks(body, name),
        ExprKind::Quantified { over, holds, .. } => asks(over, name) || asks(holds, name),
    }
}
