//! Handing on the results of a loop while they are computed, row by row.

use kyanite_formats::json::Slot;
use kyanite_tree::Value;

use super::Runner;
use crate::plan::{Change, Edit, Entry, Expr, Kind, Loop, RecordSource, Records, RowNames};
use crate::rows::{RowEdit, RowValue, Rows};
use crate::rule_error::{Flow, RunResult};

/// Rows under way.
pub(super) struct RowsAhead<'r, 'a> {
    names: &'a RowNames,
    /// Where they go; nowhere while a row is handed on.
    pub(super) sink: Option<&'r mut dyn Rows>,
    /// How often the record in the slots is a result; whoever read it writes it.
    records: usize,
}

impl<'r, 'a> Runner<'r, 'a> {
    /// The same runner, handing what it returns for records to `rows`, and giving none of it.
    #[must_use]
    pub fn with_rows(mut self, rows: Option<(&'a RowNames, &'r mut dyn Rows)>) -> Self {
        self.rows = rows.map(|(names, sink)| RowsAhead { names, sink: Some(sink), records: 0 });
        self
    }

    /// Has the record in the slots written, as JSON without a line end, as often as it was a result.
    #[inline]
    pub fn write_records(&mut self, mut write: impl FnMut(&mut Vec<u8>)) {
        let Some(rows) = &mut self.rows else { return };
        let Some(sink) = &mut rows.sink else { return };
        for _ in 0..std::mem::take(&mut rows.records) {
            sink.record(&mut write);
        }
    }

    /// Whether what this loop returns goes to rows.
    #[inline]
    pub(super) fn has_rows(&self, repeat: &'a Loop) -> bool {
        self.rows.is_some()
            && matches!(
                self.records,
                Some(Records { source: RecordSource::Loop(outermost, ..), .. })
                    if std::ptr::eq(outermost, repeat)
            )
    }

    /// The slot of what an expression gives, if that is a scalar member of the record and is written as it stands there.
    #[inline]
    pub(super) fn as_it_stands(&mut self, expr: &'a Expr) -> Option<&Slot<'a>> {
        let Kind::One(path) = &expr.kind else { return None };
        let slot_path = self.field_plan.filter(|_| self.in_slots)?.of(path.id)?;
        let slot = self.slots.get(slot_path.slot)?;
        if slot.token.is_empty() || slot_path.steps != path.steps.len() {
            return None;
        }
        self.session.coverage.met(path.id);
        Some(slot)
    }

    /// Gives a row what an expression gives, if that is anything.
    #[inline]
    fn give(&mut self, expr: &'a Expr, to: impl FnOnce(RowValue<'_, 'a>)) -> RunResult<()> {
        if let Some(Slot { value: Some(value), token, .. }) = self.as_it_stands(expr) {
            to(RowValue { value, token });
        } else if let Some(value) = self.value(expr)? {
            to(RowValue::from(&value));
        }
        Ok(())
    }

    /// Hands on the record itself, if there are rows.
    pub(super) fn record_row(&mut self, record: Value<'a>) -> bool {
        let Some(rows) = &mut self.rows else { return false };
        if self.in_slots {
            rows.records += 1;
        } else if let Some(sink) = &mut rows.sink {
            sink.whole(RowValue::from(&record));
        }
        true
    }

    /// The line of what a tuple returns that waits; empty where that is nothing.
    pub(super) fn waiting_line(&mut self, repeat: &'a Loop) -> RunResult<&'a str> {
        let are_records = self.rows.as_ref().is_some_and(|rows| rows.names.are_records());
        if are_records && self.in_slots {
            return Ok(self.text);
        }
        let _ = self.row(repeat)?;
        let (mut line, arena) = ("", self.arena);
        if let Some(sink) = self.rows.as_mut().and_then(|rows| rows.sink.as_mut()) {
            sink.pop(&mut |row| line = arena.text(row));
        }
        Ok(line)
    }

    /// Hands on what a tuple returns.
    pub(super) fn row(&mut self, repeat: &'a Loop) -> RunResult<Flow> {
        let Some(rows) = &mut self.rows else { return Ok(Flow::Continue(())) };
        let (names, Some(sink)) = (rows.names, rows.sink.take()) else {
            return Ok(Flow::Continue(()));
        };
        let handed_on = self.hand_on_row(repeat, names, sink);
        if handed_on.is_err() {
            sink.take_back();
        }
        if let Some(rows) = &mut self.rows {
            rows.sink = Some(sink);
        }
        handed_on.map(Flow::Continue)
    }

    fn hand_on_row(
        &mut self,
        repeat: &'a Loop,
        names: &RowNames,
        sink: &mut dyn Rows,
    ) -> RunResult<()> {
        match (names, &repeat.result.kind) {
            (RowNames::Maps(_), Kind::Map(entries)) => self.map_row(None, entries, sink),
            (RowNames::AfterRecord(_), Kind::Map(entries)) if self.in_slots => {
                self.map_row(Some(self.text), &entries[1..], sink)
            }
            (RowNames::AfterRecord(_), Kind::One(_)) if self.in_slots => {
                if let Some(rows) = &mut self.rows {
                    rows.records += 1;
                }
                Ok(())
            }
            (RowNames::Edits(_), Kind::Edit(edit)) if self.in_slots => self.edited_row(edit, sink),
            _ => self.give(&repeat.result, |value| sink.whole(value)),
        }
    }

    /// Hands on a map of these members, behind those of the record with this text.
    #[inline]
    fn map_row(
        &mut self,
        record: Option<&str>,
        entries: &'a [Entry],
        sink: &mut dyn Rows,
    ) -> RunResult<()> {
        sink.begin(record);
        for (name, entry) in entries.iter().enumerate() {
            let Entry::Named(_, value) = entry else { continue };
            // A member whose expression gives nothing is left out.
            self.give(value, |value| sink.member(name, value))?;
        }
        sink.end();
        Ok(())
    }

    /// Hands on the record in the slots with the changes of an edit.
    fn edited_row(&mut self, edit: &'a Edit, sink: &mut dyn Rows) -> RunResult<()> {
        let text = self.text;
        let mut edits = std::mem::take(&mut self.row_edits);
        edits.clear();
        for (name, change) in edit.changes.iter().enumerate() {
            let slot = self.slot(change.id).map(|(slot, _)| *slot).unwrap_or_default();
            self.session.coverage.met(change.id);
            let new = self.new_value(change, slot.value)?;
            // What is missing is added behind all others.
            let (start, length) = match slot.value {
                Some(_) => (slot.text.as_ptr() as usize - text.as_ptr() as usize, slot.text.len()),
                None => (text.len() - 1, 0),
            };
            let (at, is_there) = (start..start + length, slot.value.is_some());
            edits.push(RowEdit { at, is_there, new, name });
        }
        edits.sort_by_key(|edit| edit.at.start);
        sink.edited(text, &edits);
        self.row_edits = edits;
        Ok(())
    }

    /// What takes the place of what an edit changes, and how that stands in the record.
    fn new_value(
        &mut self,
        change: &'a Change,
        old: Option<Value<'a>>,
    ) -> RunResult<Option<(Value<'a>, &'a [u8])>> {
        if let Some(expr) = &change.value
            && let Some(Slot { value: Some(value), token, .. }) = self.as_it_stands(expr)
        {
            return Ok(Some((*value, *token)));
        }
        Ok(self.replacement(change, old)?.map(|value| (value, &[][..])))
    }
}
