//! Rules whose tuples only take members of a record from slots: what is done with them is decided before the first record.

use super::{
    ClauseKind, Entry, Expr, GroupFolds, Kind, Loop, ManyPath, OnePath, Plan, RecordHead,
    RecordSource, RecordUnit,
};
use crate::projection::SlotPath;
use kyanite_eval::accumulator::Aggregate;

/// What a tuple does.
#[derive(Debug)]
pub(crate) enum Direct {
    /// It goes into the aggregates of the group that has these keys. An aggregate takes what is in its slot; one without just
    /// counts.
    Group { keys: Vec<Cell>, items: Vec<Option<Cell>> },
    /// It returns a map of these.
    Map(Vec<Cell>),
}

/// A path that leads to a slot and no further.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Cell {
    pub(crate) path: usize,
    pub(crate) slot: usize,
}

impl Direct {
    /// What each record comes to in a loop over all of them, if that is one of these.
    pub(crate) fn of(
        plan: &Plan,
        unit: RecordUnit,
        field_plan: &[Option<SlotPath>],
    ) -> Option<Self> {
        let records = plan.records(unit)?;
        let (RecordHead::All, RecordSource::Loop(repeat, path, slot, None), None) =
            (records.head, records.source, &plan.fold)
        else {
            return None;
        };
        if path.segments.len() != records.rest {
            return None;
        }
        let cells = Cells { field_plan, slot };
        match repeat.clauses.get(1).map(|clause| &clause.kind) {
            None => cells.map(repeat),
            Some(ClauseKind::GroupBy { keys, folds: Some(folds), .. }) => {
                cells.group(keys.iter().map(|(_, key)| key), folds)
            }
            Some(_) => None,
        }
    }
}

/// Finds out which expressions are in slots.
struct Cells<'s> {
    field_plan: &'s [Option<SlotPath>],
    /// The slot of the name that the record is bound to.
    slot: usize,
}

impl Cells<'_> {
    fn map(&self, repeat: &Loop) -> Option<Direct> {
        let Kind::Map(entries) = &repeat.result.kind else { return None };
        let cells = entries.iter().map(|entry| match entry {
            Entry::Named(_, value) => self.one(value),
            Entry::Computed(..) | Entry::Spread(_) => None,
        });
        cells.collect::<Option<_>>().map(Direct::Map)
    }

    fn group<'p>(
        &self,
        keys: impl Iterator<Item = &'p Expr>,
        folds: &GroupFolds,
    ) -> Option<Direct> {
        let keys = keys.map(|key| self.one(key)).collect::<Option<_>>()?;
        let items = folds.folds.iter().map(|fold| {
            let (slot, Some(path)) = fold.over()? else { return None };
            let takes_tuples = fold.kind == Aggregate::Count && path.segments.len() == 1;
            if takes_tuples && slot == self.slot && path.segments.first()?.is_wildcard() {
                return Some(None);
            }
            self.many(path).map(Some)
        });
        Some(Direct::Group { keys, items: items.collect::<Option<_>>()? })
    }

    fn one(&self, expr: &Expr) -> Option<Cell> {
        let Kind::One(OnePath { id, steps, .. }) = &expr.kind else { return None };
        self.cell(*id, steps.len())
    }

    fn many(&self, ManyPath { id, segments, .. }: &ManyPath) -> Option<Cell> {
        self.cell(*id, segments.len())
    }

    /// The path of that number, if all its steps lead to a slot.
    fn cell(&self, path: usize, steps: usize) -> Option<Cell> {
        let slot_path = self.field_plan.get(path).copied().flatten()?;
        (slot_path.steps == steps).then_some(Cell { path, slot: slot_path.slot })
    }
}
