//! Aggregates of groups: what each tuple adds, and what is asked for at the end.

use std::ops::{ControlFlow, Range};

use kyanite_tree::{Key, ShortText, Value};

use super::Runner;
use super::folded::{Folded, Running, Scalar};
use crate::functions::CallError;
use crate::plan::{Expr, GroupFolds, Kind, ManyPath, Segment, Selector};
use crate::rule_error::RunResult;

impl<'a> Runner<'_, 'a> {
    /// Adds the current tuple to the aggregates of its group.
    pub(super) fn fold_tuple(
        &mut self,
        folds: &'a GroupFolds,
        keys: &'a [(usize, Expr)],
        folded: &mut Folded,
    ) -> RunResult<()> {
        // Most tuples have the key of one before, as it stood in the text.
        let token = match keys {
            [(_, key)] => self.as_it_stands(key).and_then(|field| ShortText::of(field.token)),
            _ => None,
        };
        let position = match token.and_then(|token| folded.recent(token)) {
            Some(position) => position,
            None => {
                let position = self.group_of_keys(folds, keys, folded)?;
                if let Some(token) = token {
                    folded.met(token, position);
                }
                position
            }
        };
        for (fold, running) in folds.folds.iter().zip(&mut folded.groups[position].folds) {
            let Some((slot, path)) = fold.over() else { continue };
            let Some(value) = self.local(slot) else { continue };
            match path {
                None => running.traced(value, self.session.trace.is_some()),
                Some(path) => self.fold_path(path, value, running)?,
            }
        }
        Ok(())
    }

    /// The position of the group of the current tuple, by the values of its keys.
    fn group_of_keys(
        &mut self,
        folds: &GroupFolds,
        keys: &'a [(usize, Expr)],
        folded: &mut Folded,
    ) -> RunResult<usize> {
        let (mut values, mut key) = std::mem::take(&mut self.group_scratch);
        values.clear();
        key.clear();
        for (_, expr) in keys {
            let value = self.group_key(expr)?;
            values.push(value);
            Key::add_to(value, &mut key);
        }
        let position = folded.of_keys(&key, &values, folds);
        self.group_scratch = (values, key);
        Ok(position)
    }

    /// Adds the nodes that a path selects in the value of one tuple.
    fn fold_path(
        &mut self,
        path: &'a ManyPath,
        value: Value<'a>,
        running: &mut Running,
    ) -> RunResult<()> {
        self.session.coverage.asked(path.id);
        if let Some((member, steps)) = self.slot_path(path.id) {
            return match member {
                Some(member) => self.fold_nodes(path, steps, member, running),
                None => {
                    self.session.coverage.not_in_slot(path.id);
                    Ok(())
                }
            };
        }
        if let Some(Segment { selectors, .. }) = path.segments.first()
            && let [Selector::Filter(filter)] = selectors.as_slice()
            && !self.test(filter, value)?
        {
            return Ok(());
        }
        self.fold_nodes(path, 1, value, running)
    }

    /// Adds the nodes that the segments of a path from `position` on select.
    fn fold_nodes(
        &mut self,
        path: &'a ManyPath,
        position: usize,
        value: Value<'a>,
        running: &mut Running,
    ) -> RunResult<()> {
        if position == path.segments.len() {
            self.session.coverage.selected(path.id);
            running.traced(value, self.session.trace.is_some());
            return Ok(());
        }
        let _ = self.walk(path, position, value, &mut |runner, node| {
            running.traced(node, runner.session.trace.is_some());
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(())
    }

    /// Hands the groups on: their number goes into its slot, nothing into those of the names of their tuples.
    pub(super) fn bind_folded(&mut self, folds: &GroupFolds, slots: Range<usize>, number: usize) {
        slots.for_each(|slot| self.set_local(slot, None));
        let number = self.arena.integer(number as i64);
        self.set_local(folds.slot, Some(number));
    }

    /// The value of a key of a group.
    pub(super) fn key_of(&self, key: Option<&Scalar>) -> Option<Value<'a>> {
        key?.value(self.arena)
    }

    /// The aggregate of that number over the group that is bound.
    pub(super) fn group_folded(
        &mut self,
        slot: usize,
        number: usize,
    ) -> RunResult<Option<Value<'a>>> {
        let group = match self.local(slot) {
            Some(Value::Number(_, group)) => group.as_integer(),
            _ => None,
        };
        let found = self.folded_groups.get(&(self.frame + slot)).and_then(|(folds, folded)| {
            let folds: &'a GroupFolds = folds;
            let group = folded.groups.get(usize::try_from(group?).ok()?)?;
            Some((folds.folds.get(number)?, group.folds.get(number)?))
        });
        let Some((fold, running)) = found else { return Ok(None) };
        if let Some(trace) = &mut self.session.trace {
            trace.met(&running.of);
        }
        let outcome = match &running.fold {
            Ok(fold) => fold.value(self.arena).map_err(CallError::from),
            Err(fault) => Err(fault.clone()),
        };
        match (outcome, &fold.call.kind) {
            (Ok(value), _) => Ok(value),
            (Err(fault), Kind::Call(signature, arguments)) => {
                Err(self.faulted(signature, fault, &fold.call, arguments, None))
            }
            (Err(_), _) => Ok(None),
        }
    }
}
