//! Groups of which only aggregates are needed: each tuple then goes into running values, and is not kept.

use std::ops::Range;

use crate::functions::{Run, Signature};
use crate::plan::{
    ClauseKind, Expr, GroupFold, GroupFolds, Kind, Loop, ManyPath, Nodes, OnePath, Selector, Start,
};
use crate::visit;
use kyanite_eval::accumulator::Aggregate;

impl Loop {
    /// Turns the aggregates behind the first `group by` into running values, if nothing but them and keys is named there.
    /// The number of a group is then in the slot `spare`; gives whether that is used.
    pub(super) fn fold_groups(&mut self, spare: usize) -> bool {
        let Some(position) = self.holding() else { return false };
        let ClauseKind::GroupBy { slots, .. } = &self.clauses[position].kind else { return false };
        let slots = slots.clone();
        let mut folds = Vec::new();
        let mut take = |expr: &mut Expr| {
            if let Some(kind) = fold_of(expr, &slots) {
                let number = Kind::GroupFolded(spare, folds.len());
                let call =
                    Expr { kind: std::mem::replace(&mut expr.kind, number), span: expr.span };
                folds.push(GroupFold { kind, call });
            }
        };
        self.each_behind(position, &mut take);
        let mut is_all = true;
        self.each_start_behind(position, &mut |start| {
            is_all &= !matches!(start, Start::Local(slot) if slots.contains(slot));
        });
        if !is_all {
            // The calls go back to where they were.
            let mut folds: Vec<Option<GroupFold>> = folds.into_iter().map(Some).collect();
            self.each_behind(position, &mut |expr| {
                if let Kind::GroupFolded(slot, number) = expr.kind
                    && slot == spare
                    && let Some(fold) = folds.get_mut(number).and_then(Option::take)
                {
                    *expr = fold.call;
                }
            });
            return false;
        }
        for clause in &mut self.clauses[position + 1..] {
            match &mut clause.kind {
                // A tuple that is put in order keeps the number of its group.
                ClauseKind::OrderBy { slots, .. } => slots.end = spare + 1,
                ClauseKind::GroupBy { .. } | ClauseKind::Window { .. } => break,
                _ => {}
            }
        }
        if let ClauseKind::GroupBy { folds: of_clause, .. } = &mut self.clauses[position].kind {
            *of_clause = Some(GroupFolds { slot: spare, folds });
        }
        true
    }

    /// Visits the expressions behind the clause at `position`, up to the next that puts tuples together.
    fn each_behind(&mut self, position: usize, visit: &mut dyn FnMut(&mut Expr)) {
        for clause in &mut self.clauses[position + 1..] {
            match &mut clause.kind {
                ClauseKind::Let(_, value) | ClauseKind::Where { condition: value, .. } => {
                    visit::each_mut(value, visit);
                }
                ClauseKind::OrderBy { keys, .. } => {
                    keys.iter_mut().for_each(|key| visit::each_mut(&mut key.value, visit));
                }
                ClauseKind::GroupBy { keys, .. } => {
                    keys.iter_mut().for_each(|(_, key)| visit::each_mut(key, visit));
                    return;
                }
                ClauseKind::Window { .. } => return,
                _ => {}
            }
        }
        visit::each_mut(&mut self.result, visit);
    }
}

/// What an aggregate over the tuples of a group is.
fn fold_of(expr: &Expr, slots: &Range<usize>) -> Option<Aggregate> {
    let is_own = |start: &Start| matches!(start, Start::Local(slot) if slots.contains(slot));
    let over = |path: &ManyPath| {
        let first = path.segments.first();
        let is_each = first.is_some_and(|segment| {
            !segment.descendant
                && matches!(
                    segment.selectors.as_slice(),
                    [Selector::Wildcard | Selector::Filter(_)]
                )
        });
        // Conditions see the node and what is known before any tuple.
        let mut starts = 0;
        let mut is_known = true;
        visit::many(path, &mut |start| {
            is_known &= starts == 0 || matches!(start, Start::Current | Start::Global(_));
            starts += 1;
        });
        is_own(&path.start) && is_each && is_known
    };
    match &expr.kind {
        Kind::Count(Nodes::Many(path)) => over(path).then_some(Aggregate::Count),
        Kind::Call(Signature { run: Run::Fold(kind), .. }, arguments) => {
            let path = arguments.first()?.collected()?;
            over(path).then_some(*kind)
        }
        Kind::Call(Signature { name: "length", .. }, arguments) => match arguments.as_slice() {
            [Expr { kind: Kind::One(OnePath { start, steps, .. }), .. }] => {
                (steps.is_empty() && is_own(start)).then_some(Aggregate::Count)
            }
            _ => None,
        },
        _ => None,
    }
}
