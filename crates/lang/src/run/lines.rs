//! Maps that a rule returns for its records, written as lines of JSON as they are computed: no map is built of them.

use kyanite_formats::json::{self, Slot, Style};

use super::{Flow, Ran, Runner};
use crate::plan::{Entry, Expr, Kind, LineNames, Loop, RecordSource, Records};

/// Lines under way.
#[derive(Debug)]
pub(super) struct Lines<'p> {
    pub(super) names: &'p LineNames,
    pub(super) out: Vec<u8>,
    count: u64,
}

impl Lines<'_> {
    /// Begins a member of the map under way.
    #[inline]
    pub(super) fn name(&mut self, written: &[u8]) {
        let is_first = self.out.last() == Some(&b'{');
        self.out.extend_from_slice(&written[usize::from(is_first)..]);
    }

    /// Ends a line, which is a map.
    #[inline]
    pub(super) fn end(&mut self) {
        self.out.extend_from_slice(b"}\n");
        self.count += 1;
    }
}

impl<'a> Runner<'_, 'a> {
    /// The same runner, writing what it returns for records behind `out`, and giving none of it.
    #[must_use]
    pub fn with_lines(mut self, names: Option<&'a LineNames>, out: &mut Vec<u8>) -> Self {
        self.lines = names.map(|names| Lines { names, out: std::mem::take(out), count: 0 });
        self
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
        self.session.watch.met(path.id);
        Some(token)
    }

    /// Writes what a turn returns.
    pub(super) fn line(&mut self, repeat: &'a Loop) -> Ran<Flow> {
        let (Some(mut lines), Kind::Map(entries)) = (self.lines.take(), &repeat.result.kind) else {
            return Ok(Flow::Continue(()));
        };
        let LineNames { after_record, names } = lines.names;
        match (after_record, self.in_slots) {
            (false, _) => lines.out.push(b'{'),
            (true, true) => {
                let members = self.text.strip_suffix('}').unwrap_or_default();
                lines.out.extend_from_slice(members.as_bytes());
            }
            (true, false) => {
                if let Some(map) = self.value(&repeat.result)? {
                    json::write(map, Style::Compact, &mut lines.out);
                    lines.out.push(b'\n');
                    lines.count += 1;
                }
                self.lines = Some(lines);
                return Ok(Flow::Continue(()));
            }
        }
        for (name, entry) in names.iter().zip(&entries[usize::from(*after_record)..]) {
            let Entry::Named(_, value) = entry else { continue };
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
        }
        lines.end();
        self.lines = Some(lines);
        Ok(Flow::Continue(()))
    }
}
