//! Handing on the results of a loop while they are computed, row by row.

use kyanite_tree::Value;

use super::Runner;
use crate::plan::{Change, Edit, Entry, Expr, Kind, Loop, RecordSource, Records, RowNames};
use crate::rows::{RowEdit, RowValue, Rows};
use crate::rule_error::{Flow, RunResult};

/// Rows under way.
pub(super) struct RowsAhead<'r, 'a> {
    names: &'a RowNames,
    pub(super) sink: &'r mut dyn Rows,
    /// How often the record in the slots is a result; whoever read it writes it.
    records: usize,
    /// The edits of the record under way.
    edits: Vec<RowEdit<'a>>,
}

impl<'r, 'a> Runner<'r, 'a> {
    /// The same runner, handing what it returns for records to `rows`, and giving none of it.
    #[must_use]
    pub fn with_rows(mut self, rows: Option<(&'a RowNames, &'r mut dyn Rows)>) -> Self {
        self.rows =
            rows.map(|(names, sink)| RowsAhead { names, sink, records: 0, edits: Vec::new() });
        self
    }

    /// Has the record in the slots written, as JSON without a line end, as often as it was a result.
    #[inline]
    pub fn write_records(&mut self, mut write: impl FnMut(&mut Vec<u8>)) {
        let Some(rows) = &mut self.rows else { return };
        for _ in 0..std::mem::take(&mut rows.records) {
            rows.sink.record(&mut write);
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

    /// What an expression gives, if it is a scalar member of the record and is written as it stands there.
    #[inline]
    fn as_it_stands(&mut self, expr: &'a Expr) -> Option<RowValue<'a>> {
        let Kind::One(path) = &expr.kind else { return None };
        let (slot, steps) = self.slot(path.id)?;
        if slot.token.is_empty() || steps != path.steps.len() {
            return None;
        }
        let value = RowValue { value: slot.value?, token: slot.token };
        self.session.coverage.met(path.id);
        Some(value)
    }

    /// What an expression gives, as it goes to rows.
    #[inline]
    fn row_value(&mut self, expr: &'a Expr) -> RunResult<Option<RowValue<'a>>> {
        match self.as_it_stands(expr) {
            Some(value) => Ok(Some(value)),
            None => Ok(self.value(expr)?.map(RowValue::from)),
        }
    }

    /// Hands on the record itself, if there are rows.
    pub(super) fn record_row(&mut self, record: Value<'a>) -> bool {
        let Some(rows) = &mut self.rows else { return false };
        if self.in_slots {
            rows.records += 1;
        } else {
            rows.sink.whole(record.into());
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
        if let Some(rows) = &mut self.rows {
            rows.sink.pop(&mut |row| line = arena.text(row));
        }
        Ok(line)
    }

    /// Hands on what a tuple returns.
    pub(super) fn row(&mut self, repeat: &'a Loop) -> RunResult<Flow> {
        if let Some(mut rows) = self.rows.take() {
            let handed_on = self.hand_on_row(repeat, &mut rows);
            if handed_on.is_err() {
                rows.sink.take_back();
            }
            self.rows = Some(rows);
            handed_on?;
        }
        Ok(Flow::Continue(()))
    }

    fn hand_on_row(&mut self, repeat: &'a Loop, rows: &mut RowsAhead<'r, 'a>) -> RunResult<()> {
        match (rows.names, &repeat.result.kind) {
            (RowNames::Maps(_), Kind::Map(entries)) => self.map_row(None, entries, rows),
            (RowNames::AfterRecord(_), Kind::Map(entries)) if self.in_slots => {
                self.map_row(Some(self.text), &entries[1..], rows)
            }
            (RowNames::AfterRecord(_), Kind::One(_)) if self.in_slots => {
                rows.records += 1;
                Ok(())
            }
            (RowNames::Edits(_), Kind::Edit(edit)) if self.in_slots => self.edited_row(edit, rows),
            _ => {
                if let Some(value) = self.row_value(&repeat.result)? {
                    rows.sink.whole(value);
                }
                Ok(())
            }
        }
    }

    /// Hands on a map of these members, behind those of the record with this text.
    #[inline]
    fn map_row(
        &mut self,
        record: Option<&str>,
        entries: &'a [Entry],
        rows: &mut RowsAhead<'r, 'a>,
    ) -> RunResult<()> {
        rows.sink.begin(record);
        for (name, entry) in entries.iter().enumerate() {
            let Entry::Named(_, value) = entry else { continue };
            // A member whose expression gives nothing is left out.
            if let Some(value) = self.row_value(value)? {
                rows.sink.member(name, value);
            }
        }
        rows.sink.end();
        Ok(())
    }

    /// Hands on the record in the slots with the changes of an edit.
    fn edited_row(&mut self, edit: &'a Edit, rows: &mut RowsAhead<'r, 'a>) -> RunResult<()> {
        let text = self.text;
        rows.edits.clear();
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
            rows.edits.push(RowEdit { at, is_there, new, name });
        }
        rows.edits.sort_by_key(|edit| edit.at.start);
        rows.sink.edited(text, &rows.edits);
        Ok(())
    }

    /// What takes the place of what an edit changes.
    fn new_value(
        &mut self,
        change: &'a Change,
        old: Option<Value<'a>>,
    ) -> RunResult<Option<RowValue<'a>>> {
        match change.value.as_ref().and_then(|value| self.as_it_stands(value)) {
            Some(value) => Ok(Some(value)),
            None => Ok(self.replacement(change, old)?.map(RowValue::from)),
        }
    }
}
