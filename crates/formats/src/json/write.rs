//! The JSON writer (RFC 8259).
//!
//! Numbers are written in the spelling they have; texts with the fewest escapes, non-ASCII as it is.

use kyanite_tree::{Arena, Member, Value};

use super::string::{is_plain, plain_end};
use crate::record_view::View;
use crate::target::Target;

/// How JSON is laid out.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Style {
    /// All on one line, no blanks.
    Compact,
    /// A line a member or item, with this many blanks a level.
    Indented(usize),
}

/// Appends `value` to `out`, without a line end.
pub fn write(value: Value<'_>, style: Style, out: &mut impl Target) {
    write_nested(value, style, 0, out);
}

/// A value on one line, without blanks.
#[must_use]
pub fn compact(value: Value<'_>) -> String {
    let mut out = Vec::new();
    write(value, Style::Compact, &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// Appends `value` as it is laid out `level` levels deep inside a document, without a line end.
pub fn write_nested(value: Value<'_>, style: Style, level: usize, out: &mut impl Target) {
    let step = match style {
        Style::Compact => None,
        Style::Indented(step) => Some(step),
    };
    write_at(value, step, level, out);
}

/// Begins a line `level` levels deep, if the style has lines.
pub fn write_line_start(style: Style, level: usize, out: &mut Vec<u8>) {
    if let Style::Indented(step) = style {
        line(step * level, out);
    }
}

/// Appends `value` as it stands `level` levels deep inside a document of the same style.
fn write_at<O: Target>(value: Value<'_>, step: Option<usize>, level: usize, out: &mut O) {
    match value {
        Value::Null(_) => out.bytes().extend_from_slice(b"null"),
        Value::Boolean(_, true) => out.bytes().extend_from_slice(b"true"),
        Value::Boolean(_, false) => out.bytes().extend_from_slice(b"false"),
        Value::Number(_, number) => out.bytes().extend_from_slice(number.as_str().as_bytes()),
        Value::Text(_, text) | Value::Untyped(_, text) => write_text(text, out.bytes()),
        Value::Foreign(_, foreign) => write_text(foreign.text, out.bytes()),
        Value::List(_, []) => out.bytes().extend_from_slice(b"[]"),
        Value::List(_, items) => {
            bracketed(b'[', b']', items, step, level, out, |item, out: &mut O| {
                write_at(*item, step, level + 1, out);
            });
        }
        Value::Map(_, map) if map.is_empty() => out.bytes().extend_from_slice(b"{}"),
        Value::Map(_, map) => {
            bracketed(
                b'{',
                b'}',
                map.members(),
                step,
                level,
                out,
                |member: &Member<'_>, out: &mut O| {
                    write_text(member.name, out.bytes());
                    out.bytes().push(b':');
                    if step.is_some() {
                        out.bytes().push(b' ');
                    }
                    write_at(member.value, step, level + 1, out);
                },
            );
        }
        Value::Element(..) => {
            let arena = Arena::new();
            write_at(View::default().record(value, &arena), step, level, out);
        }
    }
}

fn bracketed<T, O: Target>(
    open: u8,
    close: u8,
    children: &[T],
    step: Option<usize>,
    level: usize,
    out: &mut O,
    write_child: impl Fn(&T, &mut O),
) {
    out.bytes().push(open);
    for (position, child) in children.iter().enumerate() {
        if position > 0 {
            out.bytes().push(b',');
        }
        if let Some(step) = step {
            line(step * (level + 1), out.bytes());
        }
        write_child(child, out);
        out.part();
    }
    if let Some(step) = step {
        line(step * level, out.bytes());
    }
    out.bytes().push(close);
}

fn line(blanks: usize, out: &mut Vec<u8>) {
    /// A line end and as many blanks as nearly all lines begin with.
    const LINE: [u8; 49] = {
        let mut line = [b' '; 49];
        line[0] = b'\n';
        line
    };
    match LINE.get(..=blanks) {
        Some(line) => out.extend_from_slice(line),
        None => {
            out.push(b'\n');
            out.resize(out.len() + blanks, b' ');
        }
    }
}

/// Appends `text` in quotes, with the escapes that RFC 8259 section 7 demands and no others.
#[inline]
pub fn write_text(text: &str, out: &mut Vec<u8>) {
    let bytes = text.as_bytes();
    if is_plain(bytes) {
        out.reserve(bytes.len() + 2);
        out.push(b'"');
        out.extend_from_slice(bytes);
        out.push(b'"');
    } else {
        out.push(b'"');
        write_escapes(bytes, out);
        out.push(b'"');
    }
}

/// Appends what stands between the quotes of a text.
#[cold]
pub(super) fn write_escapes(bytes: &[u8], out: &mut Vec<u8>) {
    let mut at = 0;
    loop {
        let end = plain_end(bytes, at);
        out.extend_from_slice(&bytes[at..end]);
        let Some(special) = bytes.get(end) else { break };
        write_escape(*special, out);
        at = end + 1;
    }
}

/// Appends a character as it stands in quotes.
pub(crate) fn write_character(character: char, out: &mut Vec<u8>) {
    match u8::try_from(character) {
        Ok(byte @ (b'"' | b'\\' | 0..=0x1F)) => write_escape(byte, out),
        _ => out.extend_from_slice(character.encode_utf8(&mut [0; 4]).as_bytes()),
    }
}

/// Appends the escape of a byte that cannot stand in quotes as it is.
pub(crate) fn write_escape(byte: u8, out: &mut Vec<u8>) {
    let short = match byte {
        b'"' | b'\\' => byte,
        b'\n' => b'n',
        b'\t' => b't',
        b'\r' => b'r',
        0x08 => b'b',
        0x0C => b'f',
        _ => {
            out.extend_from_slice(format!("\\u{byte:04x}").as_bytes());
            return;
        }
    };
    out.extend_from_slice(&[b'\\', short]);
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    /// Any JSON value, for round trips.
    pub(crate) fn any_json() -> impl Strategy<Value = serde_json::Value> {
        let leaf = prop_oneof![
            Just(serde_json::Value::Null),
            any::<bool>().prop_map(Into::into),
            any::<i64>().prop_map(Into::into),
            any::<String>().prop_map(Into::into),
        ];
        leaf.prop_recursive(5, 60, 8, |inner| {
            prop_oneof![
                proptest::collection::vec(inner.clone(), 0..8).prop_map(Into::into),
                proptest::collection::btree_map(any::<String>(), inner, 0..24)
                    .prop_map(|map| map.into_iter().collect::<serde_json::Map<_, _>>().into()),
            ]
        })
    }

    #[test]
    fn layouts() {
        let arena = Arena::new();
        let inner = arena.map([("to", Value::text("q\"\\\u{1}\n/é"))]);
        let value = arena.list(&[arena.integer(-5), inner, arena.list(&[]), arena.map([])]);
        let layout = |style| {
            let mut out = Vec::new();
            write(value, style, &mut out);
            String::from_utf8(out).unwrap()
        };
        assert_eq!(layout(Style::Compact), r#"[-5,{"to":"q\"\\\u0001\n/é"},[],{}]"#);
        assert_eq!(
            layout(Style::Indented(1)),
            "[\n -5,\n {\n  \"to\": \"q\\\"\\\\\\u0001\\n/é\"\n },\n [],\n {}\n]"
        );
    }
}
