//! Plain text out: one line a value, without quotes.

use kyanite_tree::Value;

use crate::json;

/// Appends `value` as a line: a text as it is, other scalars as JSON spells them, lists and maps as compact
/// JSON.
pub fn write_line(value: Value<'_>, out: &mut Vec<u8>) {
    match value {
        Value::Text(_, text) | Value::Untyped(_, text) => out.extend_from_slice(text.as_bytes()),
        other => json::write(other, json::Style::Compact, out),
    }
    out.push(b'\n');
}
