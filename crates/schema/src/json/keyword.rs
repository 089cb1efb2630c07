//! Keywords as they are compiled.

use kyanite_eval::pattern::Pattern;
use kyanite_tree::{Decimal, Key, Value};

use super::Draft;

/// A keyword; schemas in it are numbers of others.
#[derive(Debug)]
pub(super) enum Keyword<'s> {
    /// The schema `false`.
    Nothing,
    Reference(usize),
    Types(Types),
    Enumeration(Vec<Constant<'s>>),
    Constant(Constant<'s>),
    MultipleOf(Decimal),
    Bound(Bound, Decimal, &'s str),
    /// How long a text is, how many items or members there are.
    Size(Sized, Limit, u64),
    Pattern(&'s str, Pattern),
    /// All items.
    Items(usize),
    /// The first items one by one, and those behind them.
    Tuple(Vec<usize>, Option<usize>),
    Contains(usize),
    Unique,
    Required(Vec<&'s str>),
    Members(Members<'s>),
    Names(usize),
    /// For each member what is needed where it is there.
    Dependencies(Vec<(&'s str, Dependency<'s>)>),
    All(Vec<usize>),
    Any(Vec<usize>),
    One(Vec<usize>),
    Not(usize),
    If(usize, Option<usize>, Option<usize>),
}

/// A value that may stand somewhere, with its key: numbers are the same by value, maps whatever the order of their members.
#[derive(Debug)]
pub(super) struct Constant<'s> {
    pub(super) value: Value<'s>,
    pub(super) key: Key,
}

impl<'s> Constant<'s> {
    pub(super) fn of(value: Value<'s>) -> Self {
        Self { value, key: Key::of(value) }
    }
}

/// `properties`, `patternProperties` and `additionalProperties`, which belong together.
#[derive(Debug, Default)]
pub(super) struct Members<'s> {
    pub(super) named: Vec<(&'s str, usize)>,
    pub(super) patterns: Vec<(Pattern, usize)>,
    pub(super) others: Option<usize>,
}

#[derive(Debug)]
pub(super) enum Dependency<'s> {
    Members(Vec<&'s str>),
    Schema(usize),
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Bound {
    Least,
    Most,
    MoreThan,
    LessThan,
}

/// What has a size.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Sized {
    Text,
    List,
    Map,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Limit {
    Least,
    Most,
}

/// A set of the types of JSON.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub(super) struct Types(u8);

/// The words for them, in the order of their bits.
const WORDS: [&str; 7] = ["null", "boolean", "integer", "number", "string", "array", "object"];

impl Types {
    pub(super) fn named(word: &str) -> Option<Self> {
        WORDS.iter().position(|known| *known == word).map(|bit| Self(1 << bit))
    }

    pub(super) fn words() -> impl Iterator<Item = &'static str> {
        WORDS.into_iter()
    }

    pub(super) fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    pub(super) fn has(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }

    /// The words of the types in it.
    pub(super) fn names(self) -> impl Iterator<Item = &'static str> {
        WORDS.into_iter().enumerate().filter(move |(bit, _)| self.0 & 1 << bit != 0).map(|(_, w)| w)
    }

    /// The types that a value has. Whether a number with a fraction of zeros is an integer depends on the draft. A text from a
    /// format that knows only texts has the type of what it spells as well.
    pub(super) fn of(value: Value<'_>, by_spelling: bool) -> Self {
        let bits = |bits: &[u8]| Self(bits.iter().fold(0, |all, bit| all | 1 << bit));
        match value.simple() {
            Value::Null(_) => bits(&[0]),
            Value::Boolean(..) => bits(&[1]),
            Value::Number(_, number) => {
                let is_whole = if by_spelling {
                    !number.as_str().contains(['.', 'e', 'E'])
                } else {
                    number
                        .decimal()
                        .is_ok_and(|decimal| decimal.floor().is_ok_and(|floor| floor == decimal))
                };
                if is_whole { bits(&[2, 3]) } else { bits(&[3]) }
            }
            Value::Untyped(_, text) => {
                let text_only = bits(&[4]);
                match text {
                    "" => text_only.with(bits(&[0])),
                    "true" | "false" => text_only.with(bits(&[1])),
                    _ => match Decimal::spelled(text) {
                        Some(decimal) if decimal.floor().is_ok_and(|floor| floor == decimal) => {
                            text_only.with(bits(&[2, 3]))
                        }
                        Some(_) => text_only.with(bits(&[3])),
                        None => text_only,
                    },
                }
            }
            Value::List(..) => bits(&[5]),
            Value::Map(..) => bits(&[6]),
            _ => bits(&[4]),
        }
    }
}

/// All keywords of a draft, those that only describe among them.
pub(super) fn words(draft: Draft) -> impl Iterator<Item = &'static str> {
    const ALWAYS: [&str; 34] = [
        "$ref",
        "$schema",
        "title",
        "description",
        "default",
        "definitions",
        "type",
        "enum",
        "multipleOf",
        "minimum",
        "maximum",
        "exclusiveMinimum",
        "exclusiveMaximum",
        "minLength",
        "maxLength",
        "pattern",
        "format",
        "items",
        "additionalItems",
        "minItems",
        "maxItems",
        "uniqueItems",
        "properties",
        "patternProperties",
        "additionalProperties",
        "minProperties",
        "maxProperties",
        "required",
        "dependencies",
        "allOf",
        "anyOf",
        "oneOf",
        "not",
        "$comment",
    ];
    const SINCE_6: [&str; 4] = ["const", "contains", "propertyNames", "examples"];
    const SINCE_7: [&str; 7] =
        ["if", "then", "else", "readOnly", "writeOnly", "contentMediaType", "contentEncoding"];
    let since_6 = SINCE_6.into_iter().filter(move |_| draft >= Draft::V6);
    let since_7 = SINCE_7.into_iter().filter(move |_| draft >= Draft::V7);
    ALWAYS.into_iter().chain([draft.id()]).chain(since_6).chain(since_7)
}
