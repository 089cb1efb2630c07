//! The TOML writer: members with plain values first, then the tables, as TOML demands.

use kyanite_tree::{Arena, Foreign, ForeignType, Map, Member, Number, Value};

use crate::error::{CannotHold, cannot_hold};
use crate::json;
use crate::losses::{Loss, Losses};
use crate::record_view::View;

/// Appends `value` as a document.
///
/// # Errors
/// [`CannotHold`] when it is no map, or holds a null in a list.
pub fn write(value: Value<'_>, out: &mut Vec<u8>, losses: &mut Losses) -> Result<(), CannotHold> {
    let arena = Arena::new();
    let value = View::default().record(value, &arena);
    let Value::Map(_, map) = value else {
        let message = format!("a TOML document is a map; this is {}", value.kind().phrase());
        return Err(cannot_hold(message, "put it under a name: {rows: …}", value.origin()));
    };
    table(map, &mut Vec::new(), out, losses)
}

type Written = Result<(), CannotHold>;

fn table<'m>(
    map: &'m Map<'_>,
    path: &mut Vec<&'m str>,
    out: &mut Vec<u8>,
    losses: &mut Losses,
) -> Written {
    for Member { name, value } in map.members() {
        match value {
            Value::Null(origin) => losses.add(Loss::Null, *origin),
            value if is_table(*value) || tables(*value).is_some() => {}
            value => {
                key(name, out);
                out.extend_from_slice(b" = ");
                inline(*value, out, losses)?;
                out.push(b'\n');
            }
        }
    }
    for Member { name, value } in map.members() {
        if let (true, Value::Map(_, inner)) = (is_table(*value), value) {
            path.push(name);
            // A table that only holds tables needs no header.
            let is_needed = inner.is_empty()
                || inner.members().iter().any(|m| !is_table(m.value) && tables(m.value).is_none());
            if is_needed {
                header(path, "[", "]", out);
            }
            table(inner, path, out, losses)?;
            path.pop();
        } else if let Some(items) = tables(*value) {
            path.push(name);
            for item in items {
                header(path, "[[", "]]", out);
                if let Value::Map(_, inner) = item {
                    table(inner, path, out, losses)?;
                }
            }
            path.pop();
        }
    }
    Ok(())
}

fn is_table(value: Value<'_>) -> bool {
    matches!(value, Value::Map(..))
}

/// The items of a list that only holds maps, and at least one.
fn tables<'v>(value: Value<'v>) -> Option<&'v [Value<'v>]> {
    value.as_list().filter(|items| !items.is_empty() && items.iter().all(|item| is_table(*item)))
}

fn header(path: &[&str], open: &str, close: &str, out: &mut Vec<u8>) {
    if !out.is_empty() {
        out.push(b'\n');
    }
    out.extend_from_slice(open.as_bytes());
    for (position, name) in path.iter().enumerate() {
        if position > 0 {
            out.push(b'.');
        }
        key(name, out);
    }
    out.extend_from_slice(close.as_bytes());
    out.push(b'\n');
}

fn key(name: &str, out: &mut Vec<u8>) {
    let is_bare = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_');
    if !name.is_empty() && name.bytes().all(is_bare) {
        out.extend_from_slice(name.as_bytes());
    } else {
        text(name, out);
    }
}

fn inline(value: Value<'_>, out: &mut Vec<u8>, losses: &mut Losses) -> Written {
    match value {
        Value::Null(origin) => {
            let advice = "leave nulls out: list[?@ != null]";
            return Err(cannot_hold("TOML has no null for an item of an array", advice, origin));
        }
        Value::Number(origin, spelled) => number(spelled, origin, out, losses),
        Value::Text(_, value) | Value::Untyped(_, value) if value.contains('\n') => {
            lines(value, out)
        }
        Value::Text(_, value) | Value::Untyped(_, value) => text(value, out),
        Value::Foreign(_, Foreign { text: value, of }) => match of {
            ForeignType::NotFinite => {
                out.extend_from_slice(not_finite(value).as_bytes());
            }
            ForeignType::DateTime => out.extend_from_slice(value.as_bytes()),
            ForeignType::Tagged(_) if value.contains('\n') => lines(value, out),
            ForeignType::Tagged(_) | ForeignType::Name(_) => text(value, out),
        },
        Value::List(_, items) => {
            out.push(b'[');
            for (position, item) in items.iter().enumerate() {
                if position > 0 {
                    out.extend_from_slice(b", ");
                }
                inline(*item, out, losses)?;
            }
            out.push(b']');
        }
        Value::Map(_, map) => {
            out.push(b'{');
            let mut separator: &[u8] = b" ";
            for Member { name, value } in map.members() {
                if let Value::Null(origin) = value {
                    losses.add(Loss::Null, *origin);
                    continue;
                }
                out.extend_from_slice(separator);
                separator = b", ";
                key(name, out);
                out.extend_from_slice(b" = ");
                inline(*value, out, losses)?;
            }
            out.extend_from_slice(if separator == b" " { b"}" } else { b" }" });
        }
        other => out.extend_from_slice(other.scalar_text().unwrap_or_default().as_bytes()),
    }
    Ok(())
}

/// The spelling in TOML of a number that is not finite, in whichever format it was spelled.
fn not_finite(text: &str) -> String {
    text.replace('.', "").to_ascii_lowercase()
}

/// Integers of more than 64 bits become text, for readers must refuse them; floats of more digits than a double keeps are
/// written, and counted.
fn number(
    number: Number<'_>,
    origin: kyanite_tree::Origin,
    out: &mut Vec<u8>,
    losses: &mut Losses,
) {
    let spelled = number.as_str();
    if !spelled.contains(['.', 'e', 'E']) {
        if spelled.parse::<i64>().is_err() {
            losses.add(Loss::Precision, origin);
            text(spelled, out);
            return;
        }
    } else if !json::survives_double(number) {
        losses.add(Loss::Precision, origin);
    }
    out.extend_from_slice(spelled.as_bytes());
}

/// A text in double quotes: the escapes of JSON are escapes of TOML, but for `\/`, which is not written.
fn text(value: &str, out: &mut Vec<u8>) {
    let start = out.len();
    json::write_text(value, out);
    if out[start..].contains(&0x7F) {
        let escaped = String::from_utf8_lossy(&out[start..]).replace('\u{7F}', "\\u007F");
        out.truncate(start);
        out.extend_from_slice(escaped.as_bytes());
    }
}

/// A text of several lines.
fn lines(value: &str, out: &mut Vec<u8>) {
    out.extend_from_slice(b"\"\"\"\n");
    let mut quoted = Vec::new();
    for (position, line) in value.split('\n').enumerate() {
        if position > 0 {
            out.push(b'\n');
        }
        quoted.clear();
        text(line, &mut quoted);
        out.extend_from_slice(&quoted[1..quoted.len() - 1]);
    }
    out.extend_from_slice(b"\"\"\"");
}
