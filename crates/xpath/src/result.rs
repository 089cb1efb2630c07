//! Items as values of the tree, for output.

use kyanite_eval::atomic::Atomic;
use kyanite_tree::{Arena, Foreign, ForeignType, MapBuilder, Number, Origin, Value};

use crate::error::{Error, ErrorCode};
use crate::value::{Item, Sequence};

/// An item as a value: nodes with all that is in them, of attributes their text. An array's member of no items is null, and
/// one of several is a list.
///
/// # Errors
/// `SENR0001` for functions, which no format can hold, `SERE0022` for a map with two keys that are written alike.
pub fn item_value<'d>(item: &Item<'d>, arena: &'d Arena) -> Result<Value<'d>, Error> {
    if let Some(entries) = match item {
        Item::Map(_) => item.entries(),
        _ => None,
    } {
        let mut members = MapBuilder::new();
        for (key, value) in entries {
            let key = arena.text(&key.to_text());
            if members.insert(key, sequence_value(&value, arena)?).is_some() {
                let message = format!("two keys of a map are written {key:?}");
                return Err(Error::unplaced(ErrorCode::Other("SERE0022"), message));
            }
        }
        return Ok(Value::Map(Origin::NONE, members.finish(arena)));
    }
    Ok(match item {
        Item::Node(node) => node.to_value(arena),
        Item::Value(value) => *value,
        Item::Atomic(atomic) => atomic_value(atomic, arena),
        Item::Array(members) => {
            let items: Result<Vec<_>, Error> =
                members.iter().map(|member| sequence_value(member, arena)).collect();
            arena.list(&items?)
        }
        Item::Map(_) | Item::Function(_) => {
            let message = "the result is a function, which no format can hold";
            return Err(Error::unplaced(ErrorCode::Other("SENR0001"), message));
        }
    })
}

/// A sequence as one value.
pub(crate) fn sequence_value<'d>(
    sequence: &Sequence<'d>,
    arena: &'d Arena,
) -> Result<Value<'d>, Error> {
    match sequence.items() {
        [] => Ok(Value::NULL),
        [one] => item_value(one, arena),
        several => {
            let items: Result<Vec<_>, Error> =
                several.iter().map(|item| item_value(item, arena)).collect();
            Ok(arena.list(&items?))
        }
    }
}

fn atomic_value<'d>(atomic: &Atomic<'d>, arena: &'d Arena) -> Value<'d> {
    match atomic {
        Atomic::Boolean(value) => Value::boolean(*value),
        Atomic::Untyped(text) => Value::Untyped(Origin::NONE, arena.text(text)),
        Atomic::Integer(number) => arena.integer(*number),
        number if number.numeric().is_some() => {
            let text = arena.text(&number.to_string());
            match Number::parse(text) {
                Some(number) => Value::number(number),
                // Infinity, and what is no number.
                None => {
                    let text = match text {
                        "INF" => "inf",
                        "-INF" => "-inf",
                        _ => "nan",
                    };
                    let foreign = Foreign { text, of: ForeignType::NotFinite };
                    Value::Foreign(Origin::NONE, arena.put(foreign))
                }
            }
        }
        other => Value::text(arena.text(&other.to_text())),
    }
}
