//! The YAML writer: block style, quotes wherever some reader would take a text for something else.

use kyanite_tree::{Arena, Foreign, ForeignType, Map, Member, Value};

use super::properties;
use super::scalar::{self, Form};
use crate::json;
use crate::record_view::View;
use crate::target::Target;

/// Appends `value` as a document, with its line end.
pub fn write(value: Value<'_>, indent: usize, out: &mut impl Target) {
    let step = indent.max(1);
    match value {
        Value::List(_, items) if !items.is_empty() => write_list(items, 0, step, out),
        Value::Map(_, map) if !map.is_empty() => write_map(value, 0, step, out),
        Value::Element(..) => write(View::default().record(value, &Arena::new()), indent, out),
        scalar => write_scalar(scalar, 0, step, out.bytes()),
    }
}

/// Appends an item of a list that is the document.
pub fn write_item(value: Value<'_>, indent: usize, out: &mut impl Target) {
    item(value, 0, indent.max(1), out);
}

/// Appends a value as its name stands for it, where it is a key: as JSON, but for keys in it that are lists or maps. Texts of
/// such keys in quotes would double their escapes with each level.
pub(super) fn write_flow(value: Value<'_>, out: &mut Vec<u8>) {
    match value {
        Value::List(_, items) => {
            out.push(b'[');
            for (position, item) in items.iter().enumerate() {
                if position > 0 {
                    out.push(b',');
                }
                write_flow(*item, out);
            }
            out.push(b']');
        }
        Value::Map(_, map) => {
            out.push(b'{');
            for (position, (key, Member { name, value })) in members(map).enumerate() {
                if position > 0 {
                    out.push(b',');
                }
                if let Value::List(..) | Value::Map(..) = key {
                    out.extend_from_slice(b"? ");
                    out.extend_from_slice(name.as_bytes());
                    out.extend_from_slice(b" :");
                } else {
                    json::write_text(name, out);
                    out.push(b':');
                }
                write_flow(*value, out);
            }
            out.push(b'}');
        }
        // So that the name is the same when the key comes back.
        Value::Number(_, number) => write_number(number.as_str(), out),
        scalar => json::write(scalar, json::Style::Compact, out),
    }
}

fn blanks(count: usize, out: &mut Vec<u8>) {
    // Most are few, and a call takes longer than they do.
    if count > 8 {
        return out.resize(out.len() + count, b' ');
    }
    for _ in 0..count {
        out.push(b' ');
    }
}

/// The items of a list, each on lines of its own that begin at column `column`.
fn write_list(items: &[Value<'_>], column: usize, step: usize, out: &mut impl Target) {
    for value in items {
        blanks(column, out.bytes());
        item(*value, column, step, out);
        out.part();
    }
}

/// `- item`, where the dash stands at column `column` already.
fn item(item: Value<'_>, column: usize, step: usize, out: &mut impl Target) {
    out.bytes().extend_from_slice(b"- ");
    compact(item, column, step, out);
}

/// What stands behind an indicator and a blank, of which the indicator stands at column `column`.
fn compact(item: Value<'_>, column: usize, step: usize, out: &mut impl Target) {
    match item {
        Value::List(_, items) if !items.is_empty() => {
            self::item(items[0], column + 2, step, out);
            write_list(&items[1..], column + 2, step, out);
        }
        Value::Map(_, map) if !map.is_empty() => {
            for (position, (key, Member { name, value })) in members(map).enumerate() {
                if position > 0 {
                    blanks(column + 2, out.bytes());
                }
                write_member(name, key, *value, column + 2, step, out);
                out.part();
            }
        }
        scalar => write_scalar(scalar, column, step, out.bytes()),
    }
}

fn write_map(map: Value<'_>, column: usize, step: usize, out: &mut impl Target) {
    for (key, Member { name, value }) in map.as_map().into_iter().flat_map(members) {
        blanks(column, out.bytes());
        write_member(name, key, *value, column, step, out);
        out.part();
    }
}

/// The members of a map with their keys, of which some are no texts.
fn members<'m>(map: &'m Map<'m>) -> impl Iterator<Item = (Value<'m>, &'m Member<'m>)> {
    let mut typed = map.keys();
    map.members().iter().enumerate().map(move |(position, member)| match typed {
        [(at, key), rest @ ..] if *at == position => {
            typed = rest;
            (*key, member)
        }
        _ => (Value::text(member.name), member),
    })
}

/// A key in a line must not be longer than 1024 characters (section 8.2.2), and is a scalar or in brackets.
const LONGEST_KEY: usize = 1000;

/// A text as the key of a member, up to its colon, where column `column` is reached already.
pub(crate) fn write_key(name: &str, column: usize, out: &mut Vec<u8>) {
    in_line_or_explicit(name.len() > LONGEST_KEY, column, out, |out| write_text(name, out));
}

/// A key up to its colon: in its line, or if it must not stand there behind a question mark (section 8.2.2).
fn in_line_or_explicit<T: Target>(
    is_explicit: bool,
    column: usize,
    out: &mut T,
    write: impl FnOnce(&mut T),
) {
    if !is_explicit {
        return write(out);
    }
    out.bytes().extend_from_slice(b"? ");
    write(out);
    out.bytes().push(b'\n');
    blanks(column, out.bytes());
}

/// `key: value` of the member of that name, where column `column` is reached already.
fn write_member(
    name: &str,
    key: Value<'_>,
    value: Value<'_>,
    column: usize,
    step: usize,
    out: &mut impl Target,
) {
    let is_collection = matches!(key, Value::List(..) | Value::Map(..));
    let is_nothing = name.is_empty() && matches!(key, Value::Null(_));
    let is_explicit = is_collection || is_nothing || name.len() > LONGEST_KEY;
    in_line_or_explicit(is_explicit, column, out, |out| match key {
        Value::Text(_, name) => write_text(name, out.bytes()),
        key if is_collection => {
            compact(key, column, step, out);
            // Its last line has ended.
            out.bytes().pop();
        }
        // As it was spelled: a key that is not there at all is one of the spellings of null.
        Value::Null(_) | Value::Number(..) => out.bytes().extend_from_slice(name.as_bytes()),
        key => write_plain(key, out.bytes()),
    });
    out.bytes().push(b':');
    match value {
        Value::List(_, items) if !items.is_empty() => {
            out.bytes().push(b'\n');
            write_list(items, column + step, step, out);
        }
        Value::Map(_, map) if !map.is_empty() => {
            out.bytes().push(b'\n');
            write_map(value, column + step, step, out);
        }
        scalar => {
            out.bytes().push(b' ');
            write_scalar(scalar, column, step, out.bytes());
        }
    }
}

/// A scalar or an empty list or map, with its line end; it belongs to what begins at column `column`.
fn write_scalar(value: Value<'_>, column: usize, step: usize, out: &mut Vec<u8>) {
    match value {
        Value::List(..) => out.extend_from_slice(b"[]"),
        Value::Map(..) => out.extend_from_slice(b"{}"),
        Value::Foreign(_, Foreign { text, of: ForeignType::Tagged(tag) }) => {
            write_tag(tag, out);
            return write_line_or_block(text, column + step, out);
        }
        Value::Text(_, text)
        | Value::Untyped(_, text)
        | Value::Foreign(_, &Foreign { text, of: ForeignType::Name(_) }) => {
            return write_line_or_block(text, column + step, out);
        }
        Value::Element(..) => {
            let arena = Arena::new();
            return match View::default().record(value, &arena) {
                Value::Element(..) => {}
                record @ Value::Map(..) => {
                    out.push(b'\n');
                    write_map(record, column + step, step, out);
                }
                record => write_scalar(record, column, step, out),
            };
        }
        other => write_plain(other, out),
    }
    out.push(b'\n');
}

/// A scalar that is no text, on its line.
fn write_plain(value: Value<'_>, out: &mut Vec<u8>) {
    match value {
        Value::Null(_) => out.extend_from_slice(b"null"),
        Value::Number(_, number) => write_number(number.as_str(), out),
        Value::Foreign(_, Foreign { text, of }) => match of {
            ForeignType::NotFinite => out.extend_from_slice(not_finite(text).as_bytes()),
            ForeignType::DateTime | ForeignType::Name(_) => write_text(text, out),
            ForeignType::Tagged(tag) => {
                write_tag(tag, out);
                write_text(text, out);
            }
        },
        other => out.extend_from_slice(other.scalar_text().unwrap_or_default().as_bytes()),
    }
}

/// A number. One with an exponent gets a point and a sign where it has none, or readers of YAML 1.1 take it for a text.
fn write_number(spelled: &str, out: &mut Vec<u8>) {
    let Some(at) = spelled.find(['e', 'E']) else {
        return out.extend_from_slice(spelled.as_bytes());
    };
    let (digits, exponent) = spelled.split_at(at);
    out.extend_from_slice(digits.as_bytes());
    if !digits.contains('.') {
        out.extend_from_slice(b".0");
    }
    out.extend_from_slice(&exponent.as_bytes()[..1]);
    let exponent = &exponent[1..];
    if !exponent.starts_with(['+', '-']) {
        out.push(b'+');
    }
    out.extend_from_slice(exponent.as_bytes());
}

/// The spelling in YAML of a number that is not finite, in whichever format it was spelled.
fn not_finite(text: &str) -> String {
    let (sign, word) = match text.strip_prefix('-') {
        Some(word) => ("-", word),
        None => ("", text.strip_prefix('+').unwrap_or(text)),
    };
    let word = word.trim_start_matches('.');
    if word.eq_ignore_ascii_case("nan") { ".nan".into() } else { format!("{sign}.inf") }
}

/// A tag and a blank behind it.
fn write_tag(tag: &str, out: &mut Vec<u8>) {
    out.extend_from_slice(properties::written(tag).as_bytes());
    out.push(b' ');
}

/// A text on its line.
fn write_text(text: &str, out: &mut Vec<u8>) {
    write_as(scalar::form(text), text, out);
}

/// A text with its line end, or as a literal block whose lines begin at column `column`.
pub(crate) fn write_line_or_block(text: &str, column: usize, out: &mut Vec<u8>) {
    match scalar::form(text) {
        Form::Literal => write_literal(text, column, out),
        form => {
            write_as(form, text, out);
            out.push(b'\n');
        }
    }
}

/// A text in a form; on its line, so that one of several lines is quoted.
fn write_as(form: Form, text: &str, out: &mut Vec<u8>) {
    match form {
        Form::Plain => out.extend_from_slice(text.as_bytes()),
        Form::SingleQuoted => {
            out.push(b'\'');
            out.extend_from_slice(text.as_bytes());
            out.push(b'\'');
        }
        Form::DoubleQuoted | Form::Literal => write_quoted(text, out),
    }
}

/// A text in double quotes: the escapes of JSON, and those of YAML for what may not stand in a document (section 5.1).
fn write_quoted(text: &str, out: &mut Vec<u8>) {
    let mut from = 0;
    let mut quoted = Vec::new();
    json::write_text(text, &mut quoted);
    let quoted = String::from_utf8_lossy(&quoted);
    for (at, character) in quoted.char_indices().filter(|(_, c)| !scalar::is_plain(*c)) {
        out.extend_from_slice(&quoted.as_bytes()[from..at]);
        out.extend_from_slice(format!("\\u{:04X}", character as u32).as_bytes());
        from = at + character.len_utf8();
    }
    out.extend_from_slice(&quoted.as_bytes()[from..]);
}

/// A literal block, whose lines begin at column `column` (section 8.1.2).
fn write_literal(text: &str, column: usize, out: &mut Vec<u8>) {
    let ending = text.len() - text.trim_end_matches('\n').len();
    out.extend_from_slice(match ending {
        0 => b"|-\n",
        1 => b"|\n",
        _ => b"|+\n",
    });
    let body = if ending == 0 { text } else { &text[..text.len() - 1] };
    for line in body.split('\n') {
        if !line.is_empty() {
            blanks(column, out);
            out.extend_from_slice(line.as_bytes());
        }
        out.push(b'\n');
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::json::{ReaderOptions, document};

    fn yaml(json: &str) -> String {
        let arena = Arena::new();
        let (value, _) = document(json, &arena, ReaderOptions::default()).unwrap();
        let mut out = Vec::new();
        write(value, 2, &mut out);
        String::from_utf8(out).unwrap()
    }

    #[test]
    fn layouts() {
        for (json, text) in [
            (
                r#"{"a": 1, "b": {"c": [], "d": {}}, "e": [1, [2, 3], {"f": null, "g": "no"}]}"#,
                "a: 1\nb:\n  c: []\n  d: {}\ne:\n  - 1\n  - - 2\n    - 3\n  - f: null\n    g: 'no'\n",
            ),
            (
                r#"["two\nlines\n", "no end\nhere", "ends\n\n", " indented\nx", "it's: \"q\""]"#,
                "- |\n  two\n  lines\n- |-\n  no end\n  here\n- |+\n  ends\n\n- \" indented\\nx\"\n- \"it's: \\\"q\\\"\"\n",
            ),
            (r#"{"note": {"text": "a\n\nb"}}"#, "note:\n  text: |-\n    a\n\n    b\n"),
            ("7", "7\n"),
            (r#""""#, "''\n"),
        ] {
            assert_eq!(yaml(json), text);
        }
    }
}
