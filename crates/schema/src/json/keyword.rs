//! Keywords as they are compiled.

use kyanite_eval::pattern::Pattern;
use kyanite_tree::{Decimal, Key, Value};

use super::Draft;
use super::dialect::{Dialect, Vocabulary};
use super::format::Format;

/// A keyword; schemas in it are numbers of others.
#[derive(Debug)]
pub(super) enum Keyword<'s> {
    /// The schema `false`.
    Nothing,
    Reference(usize),
    /// A reference that means, of the resources that led here, what the outermost has by that name, or else the first.
    Dynamic(usize, Vec<(usize, usize)>),
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
    Contains(Contains),
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
    /// Items that no other keyword has looked at.
    OtherItems(usize),
    /// Members that no other keyword has looked at.
    OtherMembers(usize),
    Format(&'static Format),
    Content(Content<'s>),
}

/// `contains`, `minContains` and `maxContains`.
#[derive(Clone, Copy, Debug)]
pub(super) struct Contains {
    pub(super) schema: usize,
    pub(super) least: u64,
    pub(super) most: Option<u64>,
}

/// `contentEncoding` and `contentMediaType`.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Content<'s> {
    pub(super) encoding: Option<&'s str>,
    pub(super) media_type: Option<&'s str>,
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
    /// In the order of the schema.
    pub(super) named: Vec<(&'s str, usize)>,
    /// The positions of these, in the order of their names.
    by_name: Vec<usize>,
    /// Each with how it is written.
    pub(super) patterns: Vec<(&'s str, Pattern, usize)>,
    pub(super) others: Option<usize>,
}

impl<'s> Members<'s> {
    /// Names members, each with its schema.
    pub(super) fn name(&mut self, named: Vec<(&'s str, usize)>) {
        self.named = named;
        self.by_name = (0..self.named.len()).collect();
        self.by_name.sort_unstable_by_key(|at| self.named[*at].0);
    }

    /// The schema of the member of that name. Documents mostly have members in the order of the schema, so the one behind that which
    /// was found last is looked at first.
    #[inline]
    pub(super) fn find(&self, name: &str, next: &mut usize) -> Option<usize> {
        let at = match self.named.get(*next) {
            Some((known, _)) if *known == name => *next,
            _ => {
                let found = self.by_name.binary_search_by_key(&name, |at| self.named[*at].0);
                *self.by_name.get(found.ok()?)?
            }
        };
        *next = at + 1;
        Some(self.named[at].1)
    }
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
const TYPES: [&str; 7] = ["null", "boolean", "integer", "number", "string", "array", "object"];

impl Types {
    pub(super) fn named(word: &str) -> Option<Self> {
        TYPES.iter().position(|known| *known == word).map(|bit| Self(1 << bit))
    }

    pub(super) fn words() -> impl Iterator<Item = &'static str> {
        TYPES.into_iter()
    }

    pub(super) fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// All types.
    pub(super) const ALL: Self = Self(0x7f);
    pub(super) const NULL: Self = Self(1);
    pub(super) const BOOLEAN: Self = Self(1 << 1);
    pub(super) const INTEGER: Self = Self(1 << 2);
    pub(super) const NUMBER: Self = Self(1 << 3);
    pub(super) const TEXT: Self = Self(1 << 4);
    pub(super) const LIST: Self = Self(1 << 5);
    pub(super) const MAP: Self = Self(1 << 6);

    pub(super) fn and(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    pub(super) fn is_none(self) -> bool {
        self.0 == 0
    }

    /// The same types, and whole numbers where all numbers are among them.
    pub(super) fn with_integers(self) -> Self {
        if self.0 & 1 << 3 == 0 { self } else { Self(self.0 | 1 << 2) }
    }

    pub(super) fn has(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }

    /// The words of the types in it.
    pub(super) fn names(self) -> impl Iterator<Item = &'static str> {
        TYPES.into_iter().enumerate().filter(move |(bit, _)| self.0 & 1 << bit != 0).map(|(_, w)| w)
    }

    /// Whether a value has one of the types, as far as its kind alone tells.
    pub(super) fn plainly_has(self, value: Value<'_>) -> bool {
        let bit = match value {
            Value::Null(_) => 0,
            Value::Boolean(..) => 1,
            Value::Number(..) => 3,
            Value::Text(..) | Value::Untyped(..) => 4,
            Value::List(..) => 5,
            Value::Map(..) => 6,
            _ => return false,
        };
        self.0 & 1 << bit != 0
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
                } else if number.as_str().bytes().all(|byte| byte.is_ascii_digit()) {
                    true
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

/// A keyword, those that only describe among them.
#[derive(Clone, Copy, Debug)]
pub(super) struct Word {
    name: &'static str,
    /// The first draft and the last that have it.
    drafts: (Draft, Draft),
    vocabulary: Vocabulary,
    pub(super) holds: Holds,
}

/// What schemas the value of a keyword holds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Holds {
    Nothing,
    Schema,
    List,
    SchemaOrList,
    /// A map of schemas by their names.
    Map,
}

const fn word(
    name: &'static str,
    since: Draft,
    until: Draft,
    vocabulary: Vocabulary,
    holds: Holds,
) -> Word {
    Word { name, drafts: (since, until), vocabulary, holds }
}

#[rustfmt::skip]
const WORDS: [Word; 63] = [
    word("$ref", Draft::V4, Draft::V2020, Vocabulary::Core, Holds::Nothing),
    word("$schema", Draft::V4, Draft::V2020, Vocabulary::Core, Holds::Nothing),
    word("id", Draft::V4, Draft::V4, Vocabulary::Core, Holds::Nothing),
    word("$id", Draft::V6, Draft::V2020, Vocabulary::Core, Holds::Nothing),
    word("$anchor", Draft::V2019, Draft::V2020, Vocabulary::Core, Holds::Nothing),
    word("$recursiveRef", Draft::V2019, Draft::V2019, Vocabulary::Core, Holds::Nothing),
    word("$recursiveAnchor", Draft::V2019, Draft::V2019, Vocabulary::Core, Holds::Nothing),
    word("$dynamicRef", Draft::V2020, Draft::V2020, Vocabulary::Core, Holds::Nothing),
    word("$dynamicAnchor", Draft::V2020, Draft::V2020, Vocabulary::Core, Holds::Nothing),
    word("$vocabulary", Draft::V2019, Draft::V2020, Vocabulary::Core, Holds::Nothing),
    word("$comment", Draft::V4, Draft::V2020, Vocabulary::Core, Holds::Nothing),
    word("$defs", Draft::V2019, Draft::V2020, Vocabulary::Core, Holds::Map),
    word("definitions", Draft::V4, Draft::V2020, Vocabulary::Core, Holds::Map),
    word("title", Draft::V4, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("description", Draft::V4, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("default", Draft::V4, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("examples", Draft::V6, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("readOnly", Draft::V7, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("writeOnly", Draft::V7, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("deprecated", Draft::V2019, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("contentMediaType", Draft::V7, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("contentEncoding", Draft::V7, Draft::V2020, Vocabulary::Description, Holds::Nothing),
    word("contentSchema", Draft::V2019, Draft::V2020, Vocabulary::Description, Holds::Schema),
    word("type", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("enum", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("multipleOf", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("minimum", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("maximum", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("exclusiveMinimum", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("exclusiveMaximum", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("minLength", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("maxLength", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("pattern", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("minItems", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("maxItems", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("uniqueItems", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("minProperties", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("maxProperties", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("required", Draft::V4, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("const", Draft::V6, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("minContains", Draft::V2019, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("maxContains", Draft::V2019, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("dependentRequired", Draft::V2019, Draft::V2020, Vocabulary::Validation, Holds::Nothing),
    word("format", Draft::V4, Draft::V2020, Vocabulary::Format, Holds::Nothing),
    word("prefixItems", Draft::V2020, Draft::V2020, Vocabulary::Applicator, Holds::List),
    word("items", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::SchemaOrList),
    word("additionalItems", Draft::V4, Draft::V2019, Vocabulary::Applicator, Holds::Schema),
    word("contains", Draft::V6, Draft::V2020, Vocabulary::Applicator, Holds::Schema),
    word("properties", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::Map),
    word("patternProperties", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::Map),
    word("additionalProperties", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::Schema),
    word("propertyNames", Draft::V6, Draft::V2020, Vocabulary::Applicator, Holds::Schema),
    word("dependencies", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::Map),
    word("dependentSchemas", Draft::V2019, Draft::V2020, Vocabulary::Applicator, Holds::Map),
    word("allOf", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::List),
    word("anyOf", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::List),
    word("oneOf", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::List),
    word("not", Draft::V4, Draft::V2020, Vocabulary::Applicator, Holds::Schema),
    word("if", Draft::V7, Draft::V2020, Vocabulary::Applicator, Holds::Schema),
    word("then", Draft::V7, Draft::V2020, Vocabulary::Applicator, Holds::Schema),
    word("else", Draft::V7, Draft::V2020, Vocabulary::Applicator, Holds::Schema),
    word("unevaluatedItems", Draft::V2019, Draft::V2020, Vocabulary::Unevaluated, Holds::Schema),
    word("unevaluatedProperties", Draft::V2019, Draft::V2020, Vocabulary::Unevaluated, Holds::Schema),
];

/// All keywords of a dialect.
pub(super) fn words(dialect: Dialect) -> impl Iterator<Item = &'static str> + Clone {
    WORDS.iter().filter(move |word| word.is_in(dialect)).map(|word| word.name)
}

/// The keyword of that name, if the dialect has it.
pub(super) fn known(name: &str, dialect: Dialect) -> Option<&'static Word> {
    WORDS.iter().find(|word| word.name == name && word.is_in(dialect))
}

impl Word {
    fn is_in(&self, dialect: Dialect) -> bool {
        let (since, until) = self.drafts;
        since <= dialect.draft && dialect.draft <= until && dialect.has(self.vocabulary)
    }
}
