//! JSON as maps and arrays (F&O 3.1 section 17.5).

use std::collections::HashMap;

use kyanite_eval::atomic::Atomic;
use kyanite_formats::json;
use kyanite_tree::{Arena, Base, Origin, Value};

use super::{Call, Function, failed, function, one_map, optional_text};
use crate::error::Error;
use crate::value::{Item, Sequence, array_of, map_of};

pub(super) const TABLE: &[Function] =
    &[function("parse-json", &[optional_text("text"), one_map("options")], 1, |call| {
        let Some(text) = call.optional_text(0) else { return Ok(Sequence::Empty) };
        let duplicates = Duplicates::of(call, 1, Duplicates::UseFirst)?;
        let read = read(call, &text, duplicates)?;
        Ok(made(&read, read.value))
    })];

/// What becomes of members that an object has twice.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Duplicates {
    Reject,
    UseFirst,
    UseLast,
    Retain,
}

impl Duplicates {
    pub(super) fn of(call: &Call<'_, '_, '_>, at: usize, default: Self) -> Result<Self, Error> {
        let option = call.argument(at).first().and_then(|o| o.entry(&Atomic::string("duplicates")));
        let word = option.and_then(|value| value.first().and_then(Item::as_atomic));
        match word.map(|word| word.to_string()).as_deref() {
            None => Ok(default),
            Some("reject") => Ok(Self::Reject),
            Some("use-first") => Ok(Self::UseFirst),
            Some("use-last") => Ok(Self::UseLast),
            Some("retain") => Ok(Self::Retain),
            Some(other) => {
                let message =
                    format!("{other:?} does not say what becomes of members that are there twice");
                Err(failed("FOJS0005", message).advise("there are reject, use-first and use-last"))
            }
        }
    }
}

/// A text of JSON that was read.
pub(super) struct Read<'d> {
    text: &'d str,
    pub(super) value: Value<'d>,
    /// For values that override an earlier one of the same name, where that is; both by their offsets.
    earlier: HashMap<usize, usize>,
    arena: &'d Arena,
}

impl<'d> Read<'d> {
    /// The value that this one overrides, if it does.
    pub(super) fn overridden(&self, value: Value<'d>) -> Option<Value<'d>> {
        let offset = self.earlier.get(&Base::default().offset(value.origin()))?;
        let mut reader = json::Reader::new(self.text, self.arena, json::ReaderOptions::default());
        reader.seek(*offset);
        reader.next_value().ok().flatten()
    }

    /// The first of the values that a member was given.
    fn first(&self, value: Value<'d>) -> Value<'d> {
        let mut first = value;
        while let Some(earlier) = self.overridden(first) {
            first = earlier;
        }
        first
    }
}

/// Reads a text of JSON.
pub(super) fn read<'d>(
    call: &Call<'_, '_, 'd>,
    text: &str,
    duplicates: Duplicates,
) -> Result<Read<'d>, Error> {
    let arena = call.run.store.arena;
    let text: &'d str = arena.text(text);
    let read = json::document(text, arena, json::ReaderOptions::default());
    let (value, twice) =
        read.map_err(|error| failed("FOJS0001", format!("the text is no JSON: {error}")))?;
    if let (Duplicates::Reject, Some(first)) = (duplicates, twice.first()) {
        return Err(failed("FOJS0003", format!("the member {:?} is there twice", first.name)));
    }
    let earlier = match duplicates {
        Duplicates::UseFirst | Duplicates::Retain => {
            twice.iter().map(|member| (member.later, member.earlier)).collect()
        }
        _ => HashMap::new(),
    };
    Ok(Read { text, value, earlier, arena })
}

/// A value as parse-json gives it: numbers are doubles, null is the empty sequence.
fn made<'d>(read: &Read<'d>, value: Value<'d>) -> Sequence<'d> {
    let value = value.with_origin(Origin::NONE);
    Sequence::One(match value {
        Value::Null(_) => return Sequence::Empty,
        Value::Number(_, number) => {
            Item::Atomic(Atomic::Double(number.as_str().parse().unwrap_or(f64::NAN)))
        }
        Value::List(_, items) => array_of(items.iter().map(|item| made(read, *item)).collect()),
        Value::Map(_, map) => {
            let entry = |m: &kyanite_tree::Member<'d>| {
                (Atomic::string(m.name), made(read, read.first(m.value)))
            };
            map_of(map.members().iter().map(entry))
        }
        other => Item::Value(other),
    })
}
