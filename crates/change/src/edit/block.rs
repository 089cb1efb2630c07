//! Entries of YAML in block style: each on lines of its own, told by its indentation.

use std::ops::Range;

use kyanite_formats::outline::Outline;

use super::{Editor, Edits, Insertion, runs};

impl Editor<'_> {
    pub(super) fn in_block(
        &mut self,
        found: &Outline,
        entries: &[(usize, usize)],
        is_gone: &[bool],
        insertions: &[Insertion],
        is_list: bool,
    ) -> Edits<()> {
        let column = found.span.start - self.line_start(found.span.start);
        let starts: Vec<usize> = entries
            .iter()
            .enumerate()
            .map(|(at, (start, _))| match at {
                0 => found.span.start,
                _ => self.entry_start(*start, column, is_list),
            })
            .collect();
        let ends: Vec<usize> = entries.iter().map(|(_, end)| self.entry_end(*end)).collect();
        let sign = if is_list { "- " } else { "" };
        let indent = " ".repeat(column);
        let stays: Vec<usize> = (0..entries.len()).filter(|at| !is_gone[*at]).collect();
        let Some(first) = stays.first().copied() else {
            let texts: Vec<String> =
                insertions.iter().map(|insertion| format!("{sign}{}", insertion.text)).collect();
            let text = match texts.is_empty() {
                true if is_list => "[]".to_owned(),
                true => "{}".to_owned(),
                false => texts.join(&format!("\n{indent}")),
            };
            // What is left stands where the first was; comments on lines of their own stay.
            for (at, (start, end)) in starts.iter().zip(&ends).enumerate() {
                let line_end = if self.text[..*end].ends_with('\n') { "\n" } else { "" };
                match at {
                    0 => self.splice(*start, *end, format!("{text}{line_end}")),
                    _ => self.splice(self.line_start(*start), *end, ""),
                }
            }
            return Ok(());
        };
        for Range { start: begin, end } in runs(is_gone) {
            let has_line =
                self.text[self.line_start(starts[begin])..starts[begin]].trim().is_empty();
            if has_line {
                // Whole lines; comments on lines of their own stay.
                for gone in begin..end {
                    self.splice(self.line_start(starts[gone]), ends[gone], "");
                }
            } else if let Some(next) = starts.get(end) {
                // The first stands behind the sign of what it is in, and so will the next.
                self.splice(starts[begin], *next, "");
            }
        }
        for insertion in insertions {
            match insertion.after {
                Some(after) => {
                    let place = ends[after];
                    let is_ended = self.text[..place].ends_with('\n');
                    let (before, behind) = if is_ended { ("", "\n") } else { ("\n", "") };
                    let text = format!("{before}{indent}{sign}{}{behind}", insertion.text);
                    self.splice(place, place, text);
                }
                None => {
                    let place = starts[first];
                    self.splice(place, place, format!("{sign}{}\n{indent}", insertion.text));
                }
            }
        }
        Ok(())
    }

    /// Where an entry begins whose name or value begins at some byte: on the line that begins at the column of all of them.
    fn entry_start(&self, at: usize, column: usize, is_list: bool) -> usize {
        let mut line = self.line_start(at);
        loop {
            let rest = &self.text[line..];
            let blanks = rest.len() - rest.trim_start_matches(' ').len();
            let is_entry = blanks == column && (!is_list || rest[blanks..].starts_with('-'));
            if is_entry || line == 0 {
                return line + blanks;
            }
            line = self.line_start(line - 1);
        }
    }

    /// Where an entry ends whose value ends at some byte: behind its last line.
    fn entry_end(&self, at: usize) -> usize {
        if self.text[..at].ends_with('\n') { at } else { self.line_end(at) }
    }
}
