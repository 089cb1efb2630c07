//! JSON as maps and arrays (F&O 3.1 section 17.5).

use std::collections::HashMap;

use kyanite_eval::atomic::Atomic;
use kyanite_formats::json;
use kyanite_tree::{Arena, Base, Origin, Value};

use super::strings::is_xml;
use super::{Call, Function, Outcome, failed, function, one_map, optional_text};
use crate::error::Error;
use crate::run::convert::atomic;
use crate::run::types::arity;
use crate::value::{Item, Sequence, array_of, map_of};

pub(super) const TABLE: &[Function] =
    &[function("parse-json", &[optional_text("text"), one_map("options")], 1, |call| {
        let Some(text) = call.optional_text(0) else { return Ok(Sequence::Empty) };
        let duplicates = Duplicates::of(call, 1, Duplicates::UseFirst)?;
        let read = read(call, &text, duplicates)?;
        made(&read, &Texts::of(call, 1)?, read.value)
    })];

/// What becomes of characters that XML cannot hold, and of backslashes (F&O 3.1 section 17.5.1).
pub(super) struct Texts<'c, 'e, 'd> {
    call: &'c Call<'c, 'e, 'd>,
    /// Whether they stay escaped as in JSON.
    escapes: bool,
    /// What stands for the character with this escape.
    fallback: Option<Item<'d>>,
}

impl<'c, 'e, 'd> Texts<'c, 'e, 'd> {
    pub(super) fn of(call: &'c Call<'c, 'e, 'd>, at: usize) -> Result<Self, Error> {
        let option =
            |name: &str| call.argument(at).first().and_then(|o| o.entry(&Atomic::string(name)));
        let wrong = |message: &str| failed("FOJS0005", message);
        let escapes = match option("escape").as_ref().and_then(Sequence::first) {
            None => false,
            Some(item) => match item.as_atomic() {
                Some(Atomic::Boolean(value)) => value,
                _ => return Err(wrong("the option \"escape\" is no boolean")),
            },
        };
        let fallback = option("fallback").and_then(|value| value.first().cloned());
        match &fallback {
            Some(_) if escapes => {
                return Err(wrong("the options \"escape\" and \"fallback\" exclude each other"));
            }
            Some(Item::Function(function)) if arity(function) == 1 => {}
            Some(_) => {
                return Err(wrong("the option \"fallback\" is no function of one argument"));
            }
            None => {}
        }
        Ok(Self { call, escapes, fallback })
    }

    /// A text as the options have it, and whether there are escapes in it.
    pub(super) fn held(&self, text: &'d str) -> Result<(&'d str, bool), Error> {
        let is_special = |c: char| match self.escapes {
            true => c == '\\' || c < ' ' || matches!(c, '\u{7F}'..='\u{9F}') || !is_xml(c),
            false => !is_xml(c),
        };
        if !text.contains(is_special) {
            return Ok((text, false));
        }
        let mut out = String::with_capacity(text.len() + 8);
        for character in text.chars() {
            if !is_special(character) {
                out.push(character);
                continue;
            }
            let escape = escape(character);
            match &self.fallback {
                _ if self.escapes => out.push_str(&escape),
                Some(function) => {
                    let arguments = vec![Sequence::text(escape)];
                    let given = self.call.run.call_item(function, arguments, self.call.span)?;
                    let given = atomic(&given, "what the fallback gives")?;
                    out.push_str(&given.map(|given| given.to_string()).unwrap_or_default());
                }
                None => out.push('\u{FFFD}'),
            }
        }
        Ok((self.call.run.store.arena.text(&out), self.escapes))
    }
}

/// A character as JSON escapes it (RFC 8259 section 7), by the short escape where there is one.
pub(super) fn escape(character: char) -> String {
    match character {
        '\\' => "\\\\".into(),
        '\u{8}' => "\\b".into(),
        '\u{C}' => "\\f".into(),
        '\n' => "\\n".into(),
        '\r' => "\\r".into(),
        '\t' => "\\t".into(),
        other => format!("\\u{:04X}", other as u32),
    }
}

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
fn made<'d>(read: &Read<'d>, texts: &Texts<'_, '_, 'd>, value: Value<'d>) -> Outcome<'d> {
    let value = value.with_origin(Origin::NONE);
    Ok(Sequence::One(match value {
        Value::Null(_) => return Ok(Sequence::Empty),
        Value::Number(_, number) => {
            Item::Atomic(Atomic::Double(number.as_str().parse().unwrap_or(f64::NAN)))
        }
        Value::List(_, items) => {
            let members: Result<Vec<_>, Error> =
                items.iter().map(|item| made(read, texts, *item)).collect();
            array_of(members?)
        }
        Value::Text(origin, text) => Item::Value(Value::Text(origin, texts.held(text)?.0)),
        Value::Map(_, map) => {
            let entry = |m: &kyanite_tree::Member<'d>| {
                let key = Atomic::string(texts.held(m.name)?.0);
                Ok((key, made(read, texts, read.first(m.value))?))
            };
            let entries: Result<Vec<_>, Error> = map.members().iter().map(entry).collect();
            map_of(entries?)
        }
        other => Item::Value(other),
    }))
}
