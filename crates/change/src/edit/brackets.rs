//! Entries in brackets and braces: of JSON, and of YAML in flow style.

use std::ops::Range;

use kyanite_formats::outline::Outline;

use super::{Editor, Edits, Insertion, problem, runs};

impl Editor<'_> {
    pub(super) fn in_brackets(
        &mut self,
        found: &Outline,
        entries: &[(usize, usize)],
        is_gone: &[bool],
        insertions: &[Insertion],
    ) -> Edits<()> {
        let (open, close) = (found.span.start + 1, found.span.end.saturating_sub(1));
        if !self.text[found.span.start..].starts_with(['{', '[']) || open > close {
            let advice = "put it in braces first";
            return Err(problem(
                "a pair without braces is not edited in place",
                advice,
                Some(found.span.start),
            ));
        }
        let stays: Vec<usize> = (0..entries.len()).filter(|at| !is_gone[*at]).collect();
        let between = match entries {
            [(_, end), (start, _), ..] => self.text[*end..*start].to_owned(),
            [(start, _)] => format!(",{}", &self.text[open..*start]),
            [] => ", ".to_owned(),
        };
        // A comment, or whatever else stands there, is not repeated.
        let is_plain = between.chars().all(|sign| sign == ',' || sign.is_whitespace());
        let between = if is_plain && between.contains(',') { between } else { ", ".to_owned() };
        if stays.is_empty() {
            let texts: Vec<&str> =
                insertions.iter().map(|insertion| insertion.text.as_str()).collect();
            let inside = match (entries.first(), entries.last()) {
                (Some((first, _)), Some((_, last))) if !texts.is_empty() => {
                    let (lead, tail) = (&self.text[open..*first], &self.text[*last..close]);
                    format!("{lead}{}{tail}", texts.join(&between))
                }
                _ => texts.join(&between),
            };
            self.splice(open, close, inside);
            return Ok(());
        }
        for Range { start: begin, end } in runs(is_gone) {
            // Up to what stays behind it, or else from what stays before it.
            match entries.get(end) {
                Some((next, _)) => self.splice(entries[begin].0, *next, ""),
                None => self.splice(entries[begin - 1].1, entries[end - 1].1, ""),
            }
        }
        for insertion in insertions {
            match insertion.after {
                Some(after) => {
                    let place = entries[after].1;
                    self.splice(place, place, format!("{between}{}", insertion.text));
                }
                None => {
                    let place = entries[stays[0]].0;
                    self.splice(place, place, format!("{}{between}", insertion.text));
                }
            }
        }
        Ok(())
    }
}
