//! The value: what a document is made of.

use crate::nesting::{self, Holds};
use crate::{Content, Element, Map, Name, Number, Origin};

/// One node of a document: 24 bytes, `Copy`, borrowing from the arena or from the bytes read.
///
/// *Nothing*, the absence of a value, is not a `Value`: it is `Option::<Value>::None`.
#[derive(Clone, Copy, Debug)]
pub enum Value<'a> {
    /// The null of JSON, YAML and of empty cells where a schema says so.
    Null(Origin),
    /// `true` or `false`.
    Boolean(Origin, bool),
    /// A number in the spelling it was written with.
    Number(Origin, Number<'a>),
    /// Text: Unicode scalar values.
    Text(Origin, &'a str),
    /// Text from a format that knows only text, such as a CSV cell: it keeps its spelling, and compares and
    /// computes with numbers as a number when it is [spelled like one](crate::Decimal::spelled).
    Untyped(Origin, &'a str),
    /// A text that stands for something which only some formats have a type for.
    Foreign(Origin, &'a Foreign<'a>),
    /// Values in order.
    List(Origin, &'a [Value<'a>]),
    /// Named members in the order they were written.
    Map(Origin, &'a Map<'a>),
    /// An element of XML, or a whole document of it.
    Element(Origin, &'a Element<'a>),
}

/// A scalar of a type that only some formats have. To rules it is its text; a format that has the type writes it in that type.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Foreign<'a> {
    /// How it is spelled.
    pub text: &'a str,
    /// Of which type it is.
    pub of: ForeignType<'a>,
}

/// A type that only some formats have.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ForeignType<'a> {
    /// A number that is infinite, or none: `inf`, `-inf`, `nan`. YAML and TOML have it.
    NotFinite,
    /// A date, a time, or both. TOML has it.
    DateTime,
    /// A type that a tag of YAML names, in the form `!name` or as a whole URI.
    Tagged(&'a str),
    /// The name of an element or attribute, which in XML has a namespace.
    Name(Name<'a>),
}

/// What a value is, by the words of the rule language.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// Null.
    Null,
    /// True or false.
    Boolean,
    /// A number.
    Number,
    /// A text.
    Text,
    /// A list.
    List,
    /// A map.
    Map,
    /// An element of XML.
    Element,
}

impl Kind {
    /// The word for this kind in rules and messages.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Null => "null",
            Self::Boolean => "boolean",
            Self::Number => "number",
            Self::Text => "text",
            Self::List => "list",
            Self::Map => "map",
            Self::Element => "element",
        }
    }

    /// The word with its article, for sentences: `a list`, `null`.
    #[must_use]
    pub fn phrase(self) -> &'static str {
        match self {
            Self::Null => "null",
            Self::Boolean => "a boolean",
            Self::Number => "a number",
            Self::Text => "a text",
            Self::List => "a list",
            Self::Map => "a map",
            Self::Element => "an element",
        }
    }
}

impl<'a> Value<'a> {
    /// A null that was computed.
    pub const NULL: Self = Self::Null(Origin::NONE);

    /// A computed boolean.
    #[inline]
    #[must_use]
    pub fn boolean(value: bool) -> Self {
        Self::Boolean(Origin::NONE, value)
    }

    /// A computed text.
    #[inline]
    #[must_use]
    pub fn text(text: &'a str) -> Self {
        Self::Text(Origin::NONE, text)
    }

    /// A computed number.
    #[inline]
    #[must_use]
    pub fn number(number: Number<'a>) -> Self {
        Self::Number(Origin::NONE, number)
    }

    /// How many levels deep lists, maps and elements are nested in it, up to `most`: more are counted as one more. What stands in
    /// several places is looked at once, and nothing here is recursive.
    ///
    /// ```
    /// use kyanite_tree::{Arena, Value};
    ///
    /// let arena = Arena::new();
    /// let inner = arena.list(&[Value::NULL]);
    /// let outer = arena.list(&[inner, inner]);
    /// assert_eq!((Value::NULL.depth(9), outer.depth(9), outer.depth(1)), (0, 2, 2));
    /// ```
    #[must_use]
    pub fn depth(self, most: usize) -> usize {
        nesting::depth(vec![self], most, |value| match value {
            Self::List(_, items) => {
                Holds::Values(items.as_ptr() as usize, nested(items.iter().copied()))
            }
            Self::Map(_, map) => {
                let values = map.members().iter().map(|member| member.value);
                Holds::Values(map.members().as_ptr() as usize, nested(values))
            }
            Self::Element(_, element) => {
                let children = element.content.iter().filter_map(|node| match node {
                    Content::Element(origin, child) => Some(Self::Element(*origin, child)),
                    _ => None,
                });
                Holds::Values(std::ptr::from_ref(element) as usize, children.collect())
            }
            _ => Holds::Levels(0),
        })
    }

    /// What the value is.
    #[inline]
    #[must_use]
    pub fn kind(self) -> Kind {
        match self {
            Self::Null(_) => Kind::Null,
            Self::Boolean(..) => Kind::Boolean,
            Self::Number(..) => Kind::Number,
            Self::Text(..) | Self::Untyped(..) | Self::Foreign(..) => Kind::Text,
            Self::List(..) => Kind::List,
            Self::Map(..) => Kind::Map,
            Self::Element(..) => Kind::Element,
        }
    }

    /// Where the value was read.
    #[inline]
    #[must_use]
    pub fn origin(self) -> Origin {
        match self {
            Self::Null(origin)
            | Self::Boolean(origin, _)
            | Self::Number(origin, _)
            | Self::Text(origin, _)
            | Self::Untyped(origin, _)
            | Self::Foreign(origin, _)
            | Self::List(origin, _)
            | Self::Map(origin, _)
            | Self::Element(origin, _) => origin,
        }
    }

    /// The same value, read somewhere else.
    #[must_use]
    pub fn with_origin(self, origin: Origin) -> Self {
        match self {
            Self::Null(_) => Self::Null(origin),
            Self::Boolean(_, value) => Self::Boolean(origin, value),
            Self::Number(_, number) => Self::Number(origin, number),
            Self::Text(_, text) => Self::Text(origin, text),
            Self::Untyped(_, text) => Self::Untyped(origin, text),
            Self::Foreign(_, foreign) => Self::Foreign(origin, foreign),
            Self::List(_, items) => Self::List(origin, items),
            Self::Map(_, map) => Self::Map(origin, map),
            Self::Element(_, element) => Self::Element(origin, element),
        }
    }

    /// The number, if it is one.
    #[inline]
    #[must_use]
    pub fn as_number(self) -> Option<Number<'a>> {
        if let Self::Number(_, number) = self { Some(number) } else { None }
    }

    /// The text, if it is one, typed or not.
    #[inline]
    #[must_use]
    pub fn as_text(self) -> Option<&'a str> {
        match self {
            Self::Text(_, text) | Self::Untyped(_, text) => Some(text),
            Self::Foreign(_, foreign) => Some(foreign.text),
            _ => None,
        }
    }

    /// How a text, a number or a boolean is written as text; none for null, lists and maps.
    #[must_use]
    pub fn scalar_text(self) -> Option<&'a str> {
        match self {
            Self::Text(_, text) | Self::Untyped(_, text) => Some(text),
            Self::Foreign(_, foreign) => Some(foreign.text),
            Self::Number(_, number) => Some(number.as_str()),
            Self::Boolean(_, true) => Some("true"),
            Self::Boolean(_, false) => Some("false"),
            Self::Element(_, element) => element.text,
            Self::Null(_) | Self::List(..) | Self::Map(..) => None,
        }
    }

    /// The items, if it is a list.
    #[inline]
    #[must_use]
    pub fn as_list(self) -> Option<&'a [Self]> {
        if let Self::List(_, items) = self { Some(items) } else { None }
    }

    /// The map, if it is one.
    #[inline]
    #[must_use]
    pub fn as_map(self) -> Option<&'a Map<'a>> {
        if let Self::Map(_, map) = self { Some(map) } else { None }
    }

    /// The element, if it is one.
    #[inline]
    #[must_use]
    pub fn as_element(self) -> Option<&'a Element<'a>> {
        if let Self::Element(_, element) = self { Some(element) } else { None }
    }

    /// The value itself, but of an element without child elements, and of what only some formats have, its text.
    #[inline]
    #[must_use]
    pub fn simple(self) -> Self {
        match self {
            Self::Element(origin, Element { text: Some(text), .. }) => Self::Untyped(origin, text),
            Self::Foreign(origin, Foreign { text, .. }) => Self::Text(origin, text),
            other => other,
        }
    }

    /// The member of that name, if this is a map that has it.
    #[inline]
    #[must_use]
    pub fn member(self, name: &str) -> Option<Self> {
        self.as_map()?.get(name)
    }
}

/// The values that can hold others.
fn nested<'a>(values: impl Iterator<Item = Value<'a>>) -> Vec<Value<'a>> {
    let holds =
        |value: &Value<'_>| matches!(value, Value::List(..) | Value::Map(..) | Value::Element(..));
    values.filter(holds).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_with_its_origin_takes_24_bytes() {
        assert_eq!(size_of::<Value<'_>>(), 24);
        assert_eq!(size_of::<Option<Value<'_>>>(), 24);
    }
}
