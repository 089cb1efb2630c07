//! Sentences about values.

use kyanite_tree::{Map, Value, near, near_words};

use super::check::Wrong;
use super::keyword::{Constant, Contains, Types};

/// A text in a message is cut to this many characters.
const SHOWN: usize = 60;

/// A value as it is shown in a message.
pub(super) fn shown(value: Value<'_>) -> String {
    match value.simple() {
        Value::Text(_, text) | Value::Untyped(_, text) => match text.char_indices().nth(SHOWN) {
            Some((end, _)) => format!("{:?}", format!("{}…", &text[..end])),
            None => format!("{text:?}"),
        },
        Value::List(..) | Value::Map(..) => value.kind().phrase().to_owned(),
        Value::Null(_) => "null".into(),
        other => other.scalar_text().unwrap_or_default().to_owned(),
    }
}

/// A value of the wrong type.
pub(super) fn types(expected: Types, value: Value<'_>) -> Wrong<'_> {
    let names: Vec<&str> = expected.names().collect();
    (value, format!("expected {}, found {}", names.join(" or "), found(value)), None)
}

/// A value with what sort of value it is.
fn found(value: Value<'_>) -> String {
    match value.simple() {
        Value::List(..) | Value::Map(..) => value.kind().phrase().to_owned(),
        Value::Null(_) => "null".into(),
        Value::Boolean(..) => shown(value),
        other => format!("the {} {}", other.kind().word(), shown(other)),
    }
}

/// A value that is none of those that are known.
pub(super) fn enumeration<'v>(known: &[Constant<'_>], value: Value<'v>) -> Wrong<'v> {
    let message = match known.len() {
        1 => format!("{} is not the value that may stand here", shown(value)),
        count => format!("{} is none of the {count} values that may stand here", shown(value)),
    };
    let texts: Vec<&str> = known.iter().filter_map(|known| known.value.as_text()).collect();
    let near = value.scalar_text().and_then(|text| near_words(text, texts.iter().copied()));
    let advice = near.unwrap_or_else(|| {
        let all: Vec<String> = known.iter().take(8).map(|known| shown(known.value)).collect();
        let more = if known.len() > 8 { ", …" } else { "" };
        format!("there are: {}{more}", all.join(", "))
    });
    (value, message, Some(advice))
}

/// Too few or too many items that must be there; None where it is neither.
pub(super) fn contains(contains: &Contains, count: u64) -> Option<String> {
    let there = match count {
        0 => "none of the items is one".to_owned(),
        1 => "1 of the items is one".to_owned(),
        count => format!("{count} of the items are some"),
    };
    match (contains.least, contains.most) {
        (1, _) if count == 0 => Some("none of the items is one that must be there".into()),
        (least, _) if count < least => {
            Some(format!("{there} that must be there, and there must be at least {least}"))
        }
        (_, Some(most)) if count > most => {
            Some(format!("{there} that may be there, and there must be at most {most}"))
        }
        _ => None,
    }
}

/// Members that are there and near to one that is not.
pub(super) fn near_member(missing: &str, map: &Map<'_>) -> Option<String> {
    near_words(missing, map.members().iter().map(|member| member.name))
}

/// Members that may be there, for one that may not: those near to it, else those that are not there.
pub(super) fn known_members<'k>(
    name: &str,
    known: impl Iterator<Item = &'k str> + Clone,
    map: &Map<'_>,
) -> Option<String> {
    let near = near(name, known.clone());
    if !near.is_empty() {
        return Some(format!("near: {}", near.join(", ")));
    }
    let open: Vec<&str> = known.filter(|name| map.get(name).is_none()).take(8).collect();
    (!open.is_empty()).then(|| format!("there may be: {}", open.join(", ")))
}
