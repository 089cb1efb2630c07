//! Visits of checked expressions: which names they read, and which expressions are evaluated with them.

use crate::plan::{
    ClauseKind, Entry, Expr, ForSource, Kind, Loop, ManyPath, Nodes, OnePath, Piece, Segment,
    Selector, Start, StepKind,
};
use crate::syntax::ast::Binary;

/// Visits where each path in `expr` starts, those inside filters, loops and calls among them.
pub(crate) fn each_start<'e>(expr: &'e Expr, visit: &mut dyn FnMut(&'e Start)) {
    match &expr.kind {
        Kind::Constant(_)
        | Kind::DocumentUri
        | Kind::Folded
        | Kind::GroupFolded(..)
        | Kind::Broken => {}
        Kind::One(path) => one(path, visit),
        Kind::Many(path) => many(path, visit),
        Kind::Exists(nodes) | Kind::Count(nodes) | Kind::ValueOf(nodes) => match nodes {
            Nodes::One(path) => one(path, visit),
            Nodes::Many(path) => many(path, visit),
        },
        Kind::Template(pieces) => {
            for piece in pieces {
                if let Piece::Value(value) = piece {
                    each_start(value, visit);
                }
            }
        }
        Kind::List(items) => items.iter().for_each(|item| each_start(&item.value, visit)),
        Kind::Map(entries) => {
            for entry in entries {
                match entry {
                    Entry::Named(_, value) | Entry::Spread(value) => each_start(value, visit),
                    Entry::Computed(name, value) => {
                        each_start(name, visit);
                        each_start(value, visit);
                    }
                }
            }
        }
        Kind::Collected(inner) | Kind::Not(inner) | Kind::Negate(inner) => each_start(inner, visit),
        Kind::Binary(_, left, right) | Kind::Recover(left, right) => {
            each_start(left, visit);
            each_start(right, visit);
        }
        Kind::If(condition, then, otherwise) => {
            each_start(condition, visit);
            each_start(then, visit);
            if let Some(otherwise) = otherwise {
                each_start(otherwise, visit);
            }
        }
        Kind::Case(case) => {
            case.subject.iter().chain(&case.otherwise).for_each(|e| each_start(e, visit));
            for (waits, value) in &case.branches {
                waits.iter().for_each(|wait| each_start(wait, visit));
                each_start(value, visit);
            }
        }
        Kind::Loop(repeat) => {
            repeat.before.iter().for_each(|(_, value)| each_start(value, visit));
            repeat.clauses.iter().for_each(|clause| in_clause(&clause.kind, visit));
            each_start(&repeat.result, visit);
        }
        Kind::Lets(bindings, result) => {
            bindings.iter().for_each(|(_, value)| each_start(value, visit));
            each_start(result, visit);
        }
        Kind::Call(_, arguments) | Kind::CallDef(_, arguments) => {
            arguments.iter().for_each(|argument| each_start(argument, visit));
        }
        Kind::XPath(call) => {
            each_start(&call.value, visit);
            call.variables.iter().for_each(|(_, value)| each_start(value, visit));
        }
        Kind::Edit(edit) => {
            each_start(&edit.subject, visit);
            for change in &edit.changes {
                in_segments(&change.segments, visit);
                change.value.iter().for_each(|value| each_start(value, visit));
            }
        }
    }
}

/// Visits an expression and those in it that are evaluated in its turn; what a filter or an inner loop evaluates is not, nor is
/// what may fail without failing the tuple.
pub(crate) fn each_mut(expr: &mut Expr, visit: &mut dyn FnMut(&mut Expr)) {
    visit(expr);
    match &mut expr.kind {
        Kind::Template(pieces) => {
            for piece in pieces {
                if let Piece::Value(value) = piece {
                    each_mut(value, visit);
                }
            }
        }
        Kind::List(items) => items.iter_mut().for_each(|item| each_mut(&mut item.value, visit)),
        Kind::Map(entries) => {
            for entry in entries {
                match entry {
                    Entry::Named(_, value) | Entry::Spread(value) => each_mut(value, visit),
                    Entry::Computed(name, value) => {
                        each_mut(name, visit);
                        each_mut(value, visit);
                    }
                }
            }
        }
        Kind::Collected(inner) | Kind::Not(inner) | Kind::Negate(inner) => each_mut(inner, visit),
        Kind::Binary(_, left, right) => {
            each_mut(left, visit);
            each_mut(right, visit);
        }
        Kind::If(condition, then, otherwise) => {
            each_mut(condition, visit);
            each_mut(then, visit);
            otherwise.iter_mut().for_each(|otherwise| each_mut(otherwise, visit));
        }
        Kind::Case(case) => {
            case.subject.iter_mut().chain(&mut case.otherwise).for_each(|e| each_mut(e, visit));
            for (waits, value) in &mut case.branches {
                waits.iter_mut().for_each(|wait| each_mut(wait, visit));
                each_mut(value, visit);
            }
        }
        Kind::Lets(bindings, result) => {
            bindings.iter_mut().for_each(|(_, value)| each_mut(value, visit));
            each_mut(result, visit);
        }
        Kind::Call(_, arguments) | Kind::CallDef(_, arguments) => {
            arguments.iter_mut().for_each(|argument| each_mut(argument, visit));
        }
        Kind::XPath(call) => {
            each_mut(&mut call.value, visit);
            call.variables.iter_mut().for_each(|(_, value)| each_mut(value, visit));
        }
        Kind::Edit(edit) => {
            each_mut(&mut edit.subject, visit);
            let values = edit.changes.iter_mut().filter_map(|change| change.value.as_mut());
            values.for_each(|value| each_mut(value, visit));
        }
        _ => {}
    }
}

/// The parts of a condition that all have to hold.
pub(crate) fn and_parts<'p>(condition: &'p Expr, parts: &mut Vec<&'p Expr>) {
    match &condition.kind {
        Kind::Binary(Binary::And, left, right) => {
            and_parts(left, parts);
            and_parts(right, parts);
        }
        _ => parts.push(condition),
    }
}

impl Loop {
    /// Visits where each path starts behind the clause at `position`.
    pub(crate) fn each_start_behind<'e>(
        &'e self,
        position: usize,
        visit: &mut dyn FnMut(&'e Start),
    ) {
        self.clauses.iter().skip(position + 1).for_each(|clause| in_clause(&clause.kind, visit));
        each_start(&self.result, visit);
    }
}

fn in_clause<'e>(clause: &'e ClauseKind, visit: &mut dyn FnMut(&'e Start)) {
    match clause {
        ClauseKind::For { source, .. } => match source {
            ForSource::Nodes(path) => many(path, visit),
            ForSource::List(list) => each_start(list, visit),
        },
        ClauseKind::Let(_, value) => each_start(value, visit),
        ClauseKind::Where { condition, .. } => each_start(condition, visit),
        ClauseKind::Skip(count) | ClauseKind::First(count) => each_start(count, visit),
        ClauseKind::OrderBy { keys, .. } => {
            keys.iter().for_each(|key| each_start(&key.value, visit));
        }
        ClauseKind::GroupBy { keys, .. } => {
            keys.iter().for_each(|(_, key)| each_start(key, visit));
        }
        ClauseKind::Carry { from, step, .. } => {
            each_start(from, visit);
            each_start(step, visit);
        }
        ClauseKind::Window { size, step, .. } => {
            each_start(size, visit);
            if let Some(step) = step {
                each_start(step, visit);
            }
        }
    }
}

/// Visits the starts in a path that may select many.
pub(crate) fn many<'e>(path: &'e ManyPath, visit: &mut dyn FnMut(&'e Start)) {
    start(&path.start, visit);
    in_segments(&path.segments, visit);
}

fn in_segments<'e>(segments: &'e [Segment], visit: &mut dyn FnMut(&'e Start)) {
    for selector in segments.iter().flat_map(|segment| &segment.selectors) {
        match selector {
            Selector::Filter(filter) => each_start(&filter.condition, visit),
            Selector::Step(step) => in_step(&step.kind, visit),
            Selector::Wildcard | Selector::Slice { .. } => {}
        }
    }
}

fn one<'e>(path: &'e OnePath, visit: &mut dyn FnMut(&'e Start)) {
    start(&path.start, visit);
    path.steps.iter().for_each(|step| in_step(&step.kind, visit));
}

fn start<'e>(start: &'e Start, visit: &mut dyn FnMut(&'e Start)) {
    visit(start);
    if let Start::Value(value) = start {
        each_start(value, visit);
    }
}

fn in_step<'e>(step: &'e StepKind, visit: &mut dyn FnMut(&'e Start)) {
    if let StepKind::Computed(computed) = step {
        each_start(computed, visit);
    }
}
