//! Writing the lines of a rule's results while they are computed.

use kyanite_formats::json::{self, Slot, Style};
use kyanite_tree::Value;

use super::Runner;
use super::lines::{Cut, Lines};
use crate::plan::{
    Change, Edit, Entry, Expr, Kind, LineName, LineNames, Loop, RecordSource, Records,
};
use crate::rule_error::{Flow, RunResult};

impl<'a> Runner<'_, 'a> {
    /// The same runner, writing what it returns for records behind `out`, and giving none of it.
    #[must_use]
    pub fn with_lines(mut self, names: Option<&'a LineNames>, out: &mut Vec<u8>) -> Self {
        self.lines = names.map(|names| Lines {
            names,
            out: std::mem::take(out),
            count: 0,
            records: 0,
            cuts: Vec::new(),
            scratch: Vec::new(),
        });
        self
    }

    /// Writes the record in the slots, without a line end, by `write`, as often as it was a result.
    #[inline]
    pub fn write_records(&mut self, mut write: impl FnMut(&mut Vec<u8>)) {
        let Some(lines) = &mut self.lines else { return };
        for _ in 0..std::mem::take(&mut lines.records) {
            write(&mut lines.out);
            lines.out.push(b'\n');
            lines.count += 1;
        }
    }

    /// What was written, and how many lines it is.
    pub fn take_lines(&mut self) -> Option<(Vec<u8>, u64)> {
        self.lines.take().map(|lines| (lines.out, lines.count))
    }

    /// Whether what this loop returns is written as lines.
    #[inline]
    pub(super) fn writes_lines(&self, repeat: &'a Loop) -> bool {
        self.lines.is_some()
            && matches!(
                self.records,
                Some(Records { source: RecordSource::Loop(outermost, ..), .. })
                    if std::ptr::eq(outermost, repeat)
            )
    }

    /// What an expression gives, as it stands in the record, if it is a scalar member of that and written the same way.
    #[inline]
    fn token(&mut self, expr: &'a Expr) -> Option<&'a [u8]> {
        let Kind::One(path) = &expr.kind else { return None };
        let (Slot { token, .. }, steps) = self.slot(path.id)?;
        if token.is_empty() || steps != path.steps.len() {
            return None;
        }
        let token = *token;
        self.session.coverage.met(path.id);
        Some(token)
    }

    /// Writes the record itself, if lines are written.
    pub(super) fn record_line(&mut self, record: Value<'a>) -> bool {
        let Some(lines) = &mut self.lines else { return false };
        if self.in_slots {
            lines.records += 1;
        } else {
            lines.value(record);
        }
        true
    }

    /// The line of what a tuple returns that waits; empty where that is nothing.
    pub(super) fn waiting_line(&mut self, repeat: &'a Loop) -> RunResult<&'a str> {
        let are_records = self.lines.as_ref().is_some_and(|lines| lines.names.are_records());
        if are_records && self.in_slots {
            return Ok(self.text);
        }
        let _ = self.line(repeat)?;
        let Some(lines) = &mut self.lines else { return Ok("") };
        let line = self.arena.text(&String::from_utf8_lossy(lines.out.trim_ascii_end()));
        lines.out.clear();
        lines.count = 0;
        Ok(line)
    }

    /// Writes what a tuple returns.
    pub(super) fn line(&mut self, repeat: &'a Loop) -> RunResult<Flow> {
        if let Some(mut lines) = self.lines.take() {
            let before = lines.out.len();
            let ran = self.write_line(repeat, &mut lines);
            if ran.is_err() {
                lines.out.truncate(before);
            }
            self.lines = Some(lines);
            ran?;
        }
        Ok(Flow::Continue(()))
    }

    fn write_line(&mut self, repeat: &'a Loop, lines: &mut Lines<'a>) -> RunResult<()> {
        let LineNames { after_record, are_values, names, .. } = lines.names;
        if *are_values {
            return self.write_value(&repeat.result, lines);
        }
        match (&repeat.result.kind, self.in_slots) {
            (Kind::Edit(edit), true) => self.splice(edit, lines),
            (Kind::One(_), true) => {
                lines.records += 1;
                Ok(())
            }
            (Kind::Map(entries), in_slots) if in_slots || !after_record => {
                if *after_record {
                    let members = self.text.strip_suffix('}').unwrap_or_default();
                    lines.out.extend_from_slice(members.as_bytes());
                } else {
                    lines.out.push(b'{');
                }
                for (name, entry) in names.iter().zip(&entries[usize::from(*after_record)..]) {
                    self.member(name, entry, lines)?;
                }
                lines.end();
                Ok(())
            }
            _ => self.write_value(&repeat.result, lines),
        }
    }

    /// Writes a result of any sort.
    fn write_value(&mut self, result: &'a Expr, lines: &mut Lines<'a>) -> RunResult<()> {
        if let Some(token) = self.token(result) {
            lines.out.extend_from_slice(token);
            lines.out.push(b'\n');
        } else if let Some(value) = self.value(result)? {
            lines.value(value);
        }
        Ok(())
    }

    /// Writes a member of the map that a tuple returns.
    #[inline]
    fn member(
        &mut self,
        name: &'a LineName,
        entry: &'a Entry,
        lines: &mut Lines<'a>,
    ) -> RunResult<()> {
        let Entry::Named(_, value) = entry else { return Ok(()) };
        let before = lines.out.len();
        lines.name(&name.written);
        if let Some(token) = self.token(value) {
            lines.out.extend_from_slice(token);
        } else if let Some(value) = self.value(value)? {
            json::write(value, Style::Compact, &mut lines.out);
        } else {
            // A member whose expression gives nothing is left out.
            lines.out.truncate(before);
        }
        Ok(())
    }

    /// What takes the place of what an edit changes in the text of a record goes into `scratch`; tells whether there is any.
    fn put_aside(
        &mut self,
        change: &'a Change,
        old: Option<Value<'a>>,
        scratch: &mut Vec<u8>,
    ) -> RunResult<bool> {
        if let Some(token) = change.value.as_ref().and_then(|value| self.token(value)) {
            scratch.extend_from_slice(token);
            return Ok(true);
        }
        let new = self.replacement(change, old)?;
        if let Some(value) = new {
            json::write(value, Style::Compact, scratch);
        }
        Ok(new.is_some())
    }

    /// Writes the record in the slots with the changes of an edit in its text.
    fn splice(&mut self, edit: &'a Edit, lines: &mut Lines<'a>) -> RunResult<()> {
        let text = self.text;
        let mut cuts = std::mem::take(&mut lines.cuts);
        cuts.clear();
        lines.scratch.clear();
        for (number, change) in edit.changes.iter().enumerate() {
            let slot = self.slot(change.id).map(|(slot, _)| *slot).unwrap_or_default();
            self.session.coverage.met(change.id);
            let before = lines.scratch.len();
            let is_kept = self.put_aside(change, slot.value, &mut lines.scratch)?;
            let new = is_kept.then_some((before, lines.scratch.len()));
            // What is missing is added behind all others.
            let (start, length) = match slot.value {
                Some(_) => (slot.text.as_ptr() as usize - text.as_ptr() as usize, slot.text.len()),
                None => (text.len() - 1, 0),
            };
            let is_there = slot.value.is_some();
            cuts.push(Cut { start, end: start + length, is_there, new, number });
        }
        cuts.sort_by_key(|cut| cut.start);
        let mut from = 0;
        for cut in &cuts {
            let name = &lines.names.names[cut.number];
            match (cut.is_there, cut.new) {
                (true, Some((start, end))) => {
                    lines.out.extend_from_slice(&text.as_bytes()[from..cut.start]);
                    lines.out.extend_from_slice(&lines.scratch[start..end]);
                    from = cut.end;
                }
                (true, None) => {
                    let member = cut.start - name.alone().len();
                    lines.out.extend_from_slice(&text.as_bytes()[from..member]);
                    from = cut.end;
                    // The comma before it goes along or, before the first, the one behind.
                    if lines.out.last() == Some(&b',') {
                        lines.out.pop();
                    } else if text.as_bytes().get(from) == Some(&b',') {
                        from += 1;
                    }
                }
                (false, Some((start, end))) => {
                    lines.out.extend_from_slice(&text.as_bytes()[from..cut.start]);
                    from = cut.start;
                    lines.name(&name.written);
                    lines.out.extend_from_slice(&lines.scratch[start..end]);
                }
                (false, None) => {}
            }
        }
        lines.out.extend_from_slice(&text.as_bytes()[from..]);
        lines.out.push(b'\n');
        lines.count += 1;
        lines.cuts = cuts;
        Ok(())
    }
}
