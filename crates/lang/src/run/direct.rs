//! Runs tuples that only take members from slots.

use kyanite_formats::json::Slot;
use kyanite_tree::{Key, ShortText, Value};

use super::{RecordState, Runner};
use crate::coverage::Coverage;
use crate::plan::{Cell, ClauseKind, Direct, RecordSource};
use crate::rows::RowValue;
use crate::rule_error::Flow;

impl<'a> Runner<'_, 'a> {
    /// Does what the rule does with the record in the slots, if that was settled before; returns None where it has to be
    /// evaluated.
    #[inline]
    pub(super) fn directly(&mut self, state: &mut RecordState) -> Option<Flow> {
        if self.session.trace.is_some() {
            return None;
        }
        match self.field_plan?.direct.as_ref()? {
            Direct::Group { keys, items } => self.tuple_into_group(state, keys, items)?,
            Direct::Map(cells) => self.tuple_into_row(cells)?,
        }
        state.tuples += 1;
        self.session.coverage.met(self.records?.source.path()?);
        Some(Flow::Continue(()))
    }

    fn tuple_into_group(
        &mut self,
        state: &mut RecordState,
        keys: &[Cell],
        items: &[Option<Cell>],
    ) -> Option<()> {
        let (slots, coverage) = (self.slots.as_slice(), &mut self.session.coverage);
        let folded = &mut state.tally.folded;
        let token = match keys {
            [cell] => {
                let token = slots.get(cell.slot).map(|slot| slot.token);
                token.filter(|token| !token.is_empty()).and_then(ShortText::of)
            }
            _ => None,
        };
        let recent = token.and_then(|token| folded.recent(token));
        let position = match recent {
            Some(position) => {
                keys.iter().for_each(|cell| coverage.met(cell.path));
                position
            }
            None => {
                let RecordSource::Loop(repeat, ..) = self.records?.source else { return None };
                let clause = &repeat.clauses.get(1)?.kind;
                let ClauseKind::GroupBy { folds: Some(folds), .. } = clause else { return None };
                let (values, key) = &mut self.group_scratch;
                values.clear();
                key.clear();
                for cell in keys {
                    // Groups go by the texts of elements.
                    let value = cell.value(slots, coverage).map(Value::simple);
                    // What no group goes by is said where it is evaluated.
                    if matches!(value, Some(Value::List(..) | Value::Map(..) | Value::Element(..)))
                    {
                        return None;
                    }
                    values.push(value);
                    Key::add_to(value, key);
                }
                let position = folded.of_keys(key, values, folds);
                if let Some(token) = token {
                    folded.met(token, position);
                }
                position
            }
        };
        for (item, running) in items.iter().zip(&mut folded.groups.get_mut(position)?.folds) {
            match item {
                None => running.count(),
                Some(cell) => {
                    if let Some(value) = cell.value(slots, coverage) {
                        running.add(value);
                    }
                }
            }
        }
        Some(())
    }

    fn tuple_into_row(&mut self, cells: &[Cell]) -> Option<()> {
        let sink = self.rows.as_mut()?.sink.as_mut()?;
        sink.begin(None);
        for (name, cell) in cells.iter().enumerate() {
            // A member that is not there is left out.
            let coverage = &mut self.session.coverage;
            if let Some(Slot { value: Some(value), token, .. }) = cell.slot(&self.slots, coverage) {
                sink.member(name, RowValue { value, token });
            }
        }
        sink.end();
        Some(())
    }
}

impl Cell {
    /// What the path leads to.
    #[inline]
    fn value<'a>(&self, slots: &[Slot<'a>], coverage: &mut Coverage) -> Option<Value<'a>> {
        self.slot(slots, coverage)?.value
    }

    /// The slot that the path leads to.
    #[inline]
    fn slot<'s, 'a>(&self, slots: &'s [Slot<'a>], coverage: &mut Coverage) -> Option<&'s Slot<'a>> {
        let slot = slots.get(self.slot)?;
        match slot.value {
            Some(_) => coverage.met(self.path),
            None => {
                coverage.asked(self.path);
                coverage.not_in_slot(self.path);
            }
        }
        Some(slot)
    }
}
