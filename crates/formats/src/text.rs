//! Plain text: a line is a text, and every value has a line.

use kyanite_tree::{Base, Value};

use crate::json;

/// Appends `value` as a line: a text as it is, other scalars as JSON spells them, lists and maps as compact
/// JSON, an element of XML as all text in it.
pub fn write_line(value: Value<'_>, out: &mut Vec<u8>) {
    match value {
        Value::Element(_, element) => {
            let mut text = String::new();
            element.string_value(&mut text);
            out.extend_from_slice(text.as_bytes());
        }
        Value::Text(_, text) | Value::Untyped(_, text) => out.extend_from_slice(text.as_bytes()),
        Value::Foreign(_, foreign) => out.extend_from_slice(foreign.text.as_bytes()),
        other => json::write(other, json::Style::Compact, out),
    }
    out.push(b'\n');
}

/// Reads one line after another, without their ends.
pub struct Lines<'a> {
    text: &'a str,
    at: usize,
    base: Base,
}

impl<'a> Lines<'a> {
    /// The lines of `text`, which begins at `base`. A byte order mark in front is skipped.
    #[must_use]
    pub fn new(text: &'a str, base: Base) -> Self {
        Self { text, at: if text.starts_with('\u{feff}') { 3 } else { 0 }, base }
    }

    /// The next line, or `None` at the end.
    pub fn next_line(&mut self) -> Option<Value<'a>> {
        let rest = self.text.get(self.at..).filter(|rest| !rest.is_empty())?;
        let origin = self.base.origin(self.at);
        let length = memchr::memchr(b'\n', rest.as_bytes());
        let line = &rest[..length.unwrap_or(rest.len())];
        self.at += length.map_or(rest.len(), |length| length + 1);
        Some(Value::Untyped(origin, line.strip_suffix('\r').unwrap_or(line)))
    }

    /// The offset of the byte to be read next.
    #[must_use]
    pub fn position(&self) -> usize {
        self.at
    }

    /// Goes on reading at byte `offset`.
    pub fn seek(&mut self, offset: usize) {
        self.at = offset;
    }
}
