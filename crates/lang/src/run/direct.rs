//! Turns that do nothing but take members from slots.

use kyanite_formats::json::{self, Style};
use kyanite_tree::{Key, Value};

use super::{Flow, RecordState, Runner};
use crate::plan::{Cell, ClauseKind, Direct, RecordSource};

impl<'a> Runner<'_, 'a> {
    /// Does what the rule does with the record in the slots, if that was settled before; gives nothing where it has to be
    /// evaluated.
    #[inline]
    pub(super) fn directly(&mut self, state: &mut RecordState) -> Option<Flow> {
        if self.session.trace.is_some() {
            return None;
        }
        match self.sights?.direct.as_ref()? {
            Direct::Group { keys, items } => self.turn_into_group(state, keys, items)?,
            Direct::Map(cells) => self.turn_into_line(cells)?,
        }
        state.turns += 1;
        self.session.watch.met(self.records?.source.path());
        Some(Flow::Continue(()))
    }

    /// What a path leads to.
    #[inline]
    fn cell(&mut self, cell: Cell) -> Option<Value<'a>> {
        match self.slots.get(cell.slot)?.value {
            Some(value) => {
                self.session.watch.met(cell.path);
                Some(value)
            }
            None => {
                self.session.watch.asked(cell.path);
                self.not_in_slot(cell.path);
                None
            }
        }
    }

    fn turn_into_group(
        &mut self,
        state: &mut RecordState,
        keys: &[Cell],
        items: &[Option<Cell>],
    ) -> Option<()> {
        let RecordSource::Loop(repeat, ..) = self.records?.source else { return None };
        let ClauseKind::GroupBy { folds: Some(folds), .. } = &repeat.clauses.get(1)?.kind else {
            return None;
        };
        // What no group goes by is said where it is evaluated.
        let is_scalar = |key: &Cell| {
            let value = self.slots.get(key.slot).and_then(|slot| slot.value);
            !matches!(value, Some(Value::List(..) | Value::Map(..) | Value::Element(..)))
        };
        if !keys.iter().all(is_scalar) {
            return None;
        }
        let (mut values, mut key) = std::mem::take(&mut self.group_room);
        values.clear();
        key.clear();
        for cell in keys {
            let value = self.cell(*cell);
            values.push(value);
            Key::add_optional_to(value, &mut key);
        }
        let group = state.tally.folded.of_key(&key, &values, folds);
        for (item, running) in items.iter().zip(&mut group.folds) {
            match item {
                None => running.count(),
                Some(cell) => {
                    if let Some(value) = self.cell(*cell) {
                        running.add(value);
                    }
                }
            }
        }
        self.group_room = (values, key);
        Some(())
    }

    fn turn_into_line(&mut self, cells: &[Cell]) -> Option<()> {
        let mut lines = self.lines.take()?;
        let before = lines.out.len();
        lines.out.push(b'{');
        for (name, cell) in lines.names.names.iter().zip(cells) {
            // A member that is not there is left out.
            let Some(value) = self.cell(*cell) else { continue };
            let is_first = lines.out.len() == before + 1;
            lines.out.extend_from_slice(&name.written[usize::from(is_first)..]);
            match self.slots.get(cell.slot) {
                Some(slot) if !slot.token.is_empty() => lines.out.extend_from_slice(slot.token),
                _ => json::write(value, Style::Compact, &mut lines.out),
            }
        }
        lines.out.extend_from_slice(b"}\n");
        lines.count += 1;
        self.lines = Some(lines);
        Some(())
    }
}
