//! Items and sequences (XDM 3.1 section 2).

use std::rc::Rc;
use std::sync::Arc;

use indexmap::IndexMap;
use kyanite_eval::atomic::{Atomic, AtomicKey, Text};
use kyanite_tree::nesting::{self, Holds};
use kyanite_tree::{Node, NodeKind, Origin, Value};

use crate::error::{Error, ErrorCode};
use crate::functions::Function;
use crate::run::Focus;
use crate::syntax::ast::Inline;

/// One item of a sequence.
#[derive(Clone, Debug)]
pub enum Item<'d> {
    /// A node of an XML document.
    Node(Node<'d>),
    /// An atomic value.
    Atomic(Atomic<'d>),
    /// A value of a document of maps and lists, as it was read: a map, an array, or an atomic value. It is never null, which
    /// is the empty sequence.
    Value(Value<'d>),
    /// A map that was made.
    Map(Rc<MapItem<'d>>),
    /// An array that was made.
    Array(Rc<Vec<Sequence<'d>>>),
    /// A function.
    Function(Rc<FunctionItem<'d>>),
}

/// The entries of a map, in the order in which they were made.
pub type MapItem<'d> = IndexMap<AtomicKey, (Atomic<'d>, Sequence<'d>)>;

/// A function as a value.
#[derive(Debug)]
pub enum FunctionItem<'d> {
    /// A function by its name, with the item that it was referred to at.
    #[doc(hidden)]
    Named(&'static Function, usize, Option<Focus<'d>>),
    /// An inline function, with the values that it captured and their slots.
    #[doc(hidden)]
    Inline(InlineFunction<'d>),
    /// A function some of whose arguments are known.
    #[doc(hidden)]
    Partial(Item<'d>, Vec<Option<Sequence<'d>>>),
}

/// An inline function with what it captured.
#[derive(Debug)]
pub struct InlineFunction<'d> {
    pub(crate) of: Arc<Inline>,
    pub(crate) captured: Vec<(usize, Sequence<'d>)>,
}

/// Items in order.
#[derive(Clone, Debug, Default)]
pub enum Sequence<'d> {
    /// None.
    #[default]
    Empty,
    /// Just one.
    One(Item<'d>),
    /// Several.
    Many(Rc<Vec<Item<'d>>>),
}

impl<'d> Item<'d> {
    /// An atomic text.
    #[must_use]
    pub fn text(text: impl Into<Text<'d>>) -> Self {
        Self::Atomic(Atomic::String(text.into()))
    }

    /// The node, if it is one.
    #[must_use]
    pub fn as_node(&self) -> Option<Node<'d>> {
        if let Self::Node(node) = self { Some(*node) } else { None }
    }

    /// The atomic value, if it is one. Nodes are none: they have a typed value instead.
    #[must_use]
    pub fn as_atomic(&self) -> Option<Atomic<'d>> {
        match self {
            Self::Atomic(atomic) => Some(atomic.clone()),
            Self::Value(value) => atomic_of(*value),
            _ => None,
        }
    }

    /// Whether it is a map.
    #[must_use]
    pub fn is_map(&self) -> bool {
        matches!(self, Self::Map(_) | Self::Value(Value::Map(..)))
    }

    /// Whether it is an array.
    #[must_use]
    pub fn is_array(&self) -> bool {
        matches!(self, Self::Array(_) | Self::Value(Value::List(..)))
    }

    /// Whether it is a function; maps and arrays are functions, too.
    #[must_use]
    pub fn is_function(&self) -> bool {
        matches!(self, Self::Function(_)) || self.is_map() || self.is_array()
    }

    /// Where it was read; nowhere if it was made.
    #[must_use]
    pub fn origin(&self) -> Origin {
        match self {
            Self::Node(node) => node.origin(),
            Self::Value(value) => value.origin(),
            _ => Origin::NONE,
        }
    }

    /// What it is, for messages: with an article.
    #[must_use]
    pub fn phrase(&self) -> String {
        if self.is_map() {
            return "a map".into();
        }
        if self.is_array() {
            return "an array".into();
        }
        match self {
            Self::Node(node) => match node.kind() {
                NodeKind::Document => "a document".into(),
                NodeKind::Element => format!("an element <{}>", node.name().qualified()),
                NodeKind::Attribute => format!("an attribute {}", node.name().qualified()),
                NodeKind::Text => "a text node".into(),
                NodeKind::Comment => "a comment".into(),
                NodeKind::Instruction => "a processing instruction".into(),
                _ => "a namespace node".into(),
            },
            Self::Function(_) => "a function".into(),
            other => match other.as_atomic() {
                Some(atomic) => format!("an {}", atomic.atomic_type().name()),
                None => "an item".into(),
            },
        }
    }

    /// The members of an array; none if it is no array.
    #[must_use]
    pub fn members(&self) -> Option<Vec<Sequence<'d>>> {
        match self {
            Self::Array(members) => Some(members.to_vec()),
            Self::Value(Value::List(_, items)) => {
                Some(items.iter().map(|item| Sequence::of_value(*item)).collect())
            }
            _ => None,
        }
    }

    /// How many members an array has.
    #[must_use]
    pub fn size(&self) -> Option<usize> {
        match self {
            Self::Array(members) => Some(members.len()),
            Self::Value(Value::List(_, items)) => Some(items.len()),
            _ => None,
        }
    }

    /// The member of an array at an index from 0.
    #[must_use]
    pub fn member(&self, index: usize) -> Option<Sequence<'d>> {
        match self {
            Self::Array(members) => members.get(index).cloned(),
            Self::Value(Value::List(_, items)) => {
                items.get(index).map(|item| Sequence::of_value(*item))
            }
            _ => None,
        }
    }

    /// The value of a map at a key.
    #[must_use]
    pub fn entry(&self, key: &Atomic<'_>) -> Option<Sequence<'d>> {
        match self {
            Self::Map(map) => map.get(&AtomicKey::of(key)).map(|(_, value)| value.clone()),
            Self::Value(Value::Map(_, map)) => {
                let name = key.as_text()?;
                map.get(name).map(Sequence::of_value)
            }
            _ => None,
        }
    }

    /// The entries of a map, in order.
    #[must_use]
    pub fn entries(&self) -> Option<Vec<(Atomic<'d>, Sequence<'d>)>> {
        match self {
            Self::Map(map) => Some(map.values().cloned().collect()),
            Self::Value(Value::Map(_, map)) => {
                let entry = |member: &kyanite_tree::Member<'d>| {
                    (Atomic::string(member.name), Sequence::of_value(member.value))
                };
                Some(map.members().iter().map(entry).collect())
            }
            _ => None,
        }
    }
}

/// A value of a document as an atomic value; none of maps, lists and null.
fn atomic_of(value: Value<'_>) -> Option<Atomic<'_>> {
    Some(match value {
        Value::Boolean(_, value) => Atomic::Boolean(value),
        Value::Number(_, number) => {
            let text = number.as_str();
            if text.contains(['e', 'E']) {
                return Some(Atomic::Double(text.parse().unwrap_or(f64::NAN)));
            }
            match (text.parse(), number.decimal()) {
                (Ok(small), _) => Atomic::Integer(small),
                (_, Ok(decimal)) if text.contains('.') => Atomic::decimal(decimal),
                (_, Ok(decimal)) => Atomic::integer(decimal),
                _ => Atomic::Double(text.parse().unwrap_or(f64::NAN)),
            }
        }
        Value::Text(_, text) => Atomic::string(text),
        Value::Untyped(_, text) => Atomic::untyped(text),
        Value::Foreign(_, foreign) => Atomic::string(foreign.text),
        Value::Element(_, element) => {
            let mut text = String::new();
            element.string_value(&mut text);
            Atomic::untyped(text)
        }
        Value::Null(_) | Value::List(..) | Value::Map(..) => return None,
    })
}

impl<'d> Sequence<'d> {
    /// A sequence of these items.
    #[must_use]
    pub fn of(mut items: Vec<Item<'d>>) -> Self {
        match items.len() {
            0 => Self::Empty,
            1 => items.pop().map_or(Self::Empty, Self::One),
            _ => Self::Many(Rc::new(items)),
        }
    }

    /// The value of a document: null is the empty sequence.
    #[must_use]
    pub fn of_value(value: Value<'d>) -> Self {
        match value {
            Value::Null(_) => Self::Empty,
            value => Self::One(Item::Value(value)),
        }
    }

    /// One atomic value.
    #[must_use]
    pub fn atomic(atomic: Atomic<'d>) -> Self {
        Self::One(Item::Atomic(atomic))
    }

    /// True or false.
    #[must_use]
    pub fn boolean(value: bool) -> Self {
        Self::atomic(Atomic::Boolean(value))
    }

    /// A whole number that counts something.
    #[must_use]
    pub fn count(number: usize) -> Self {
        Self::atomic(Atomic::Integer(i64::try_from(number).unwrap_or(i64::MAX)))
    }

    /// One text.
    #[must_use]
    pub fn text(text: impl Into<Text<'d>>) -> Self {
        Self::One(Item::text(text))
    }

    /// Its items.
    #[must_use]
    pub fn items(&self) -> &[Item<'d>] {
        match self {
            Self::Empty => &[],
            Self::One(item) => std::slice::from_ref(item),
            Self::Many(items) => items,
        }
    }

    /// Its items, moved out where nothing else holds them.
    #[must_use]
    pub fn into_items(self) -> Vec<Item<'d>> {
        match self {
            Self::Empty => Vec::new(),
            Self::One(item) => vec![item],
            Self::Many(items) => Rc::try_unwrap(items).unwrap_or_else(|items| items.to_vec()),
        }
    }

    /// How many items there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.items().len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        matches!(self, Self::Empty)
    }

    /// The only item; none if there are none or several.
    #[must_use]
    pub fn only(&self) -> Option<&Item<'d>> {
        match self.items() {
            [item] => Some(item),
            _ => None,
        }
    }

    /// The first item.
    #[must_use]
    pub fn first(&self) -> Option<&Item<'d>> {
        self.items().first()
    }

    /// Its effective boolean value (XPath 3.1 section 2.4.3).
    ///
    /// # Errors
    /// `FORG0006` where it has none.
    pub fn truth(&self) -> Result<bool, Error> {
        let item = match self {
            Self::Empty => return Ok(false),
            Self::One(item) => item,
            Self::Many(items) if matches!(items[0], Item::Node(_)) => return Ok(true),
            Self::Many(items) => {
                let message = format!(
                    "a sequence of {} items, the first {}, is neither true nor false",
                    items.len(),
                    items[0].phrase()
                );
                let error = Error::unplaced(ErrorCode::Other("FORG0006"), message);
                return Err(error.advise("ask exists(…) for whether there are any"));
            }
        };
        if matches!(item, Item::Node(_)) {
            return Ok(true);
        }
        let truth = item.as_atomic().and_then(|atomic| match &atomic {
            Atomic::Boolean(value) => Some(*value),
            other => match other.as_text() {
                Some(text) => Some(!text.is_empty()),
                None => other.numeric().map(|number| number.is_true()),
            },
        });
        truth.ok_or_else(|| {
            let message = format!("{} is neither true nor false", item.phrase());
            Error::unplaced(ErrorCode::Other("FORG0006"), message)
                .advise("ask exists(…) for whether it is there")
                .about(item.origin())
        })
    }
}

impl<'d> FromIterator<Item<'d>> for Sequence<'d> {
    fn from_iter<I: IntoIterator<Item = Item<'d>>>(items: I) -> Self {
        Self::of(items.into_iter().collect())
    }
}

impl Sequence<'_> {
    /// How many levels deep maps and arrays are nested in it, up to `most`: more are counted as one more. What stands in several
    /// places is looked at once, and nothing here is recursive.
    pub(crate) fn depth(&self, most: usize) -> usize {
        nesting::depth(nested(self.items()), most, |item| match item {
            Item::Array(members) => {
                let items = members.iter().flat_map(|member| nested(member.items()));
                Holds::Values(Rc::as_ptr(members) as usize, items.collect())
            }
            Item::Map(map) => {
                let items = map.values().flat_map(|(_, value)| nested(value.items()));
                Holds::Values(Rc::as_ptr(map) as usize, items.collect())
            }
            Item::Value(value) => Holds::Levels(value.depth(most)),
            _ => Holds::Levels(0),
        })
    }
}

/// The items that can hold others.
fn nested<'s, 'd>(items: &'s [Item<'d>]) -> Vec<&'s Item<'d>> {
    let holds = |item: &&Item<'_>| matches!(item, Item::Array(_) | Item::Map(_) | Item::Value(_));
    items.iter().filter(holds).collect()
}

/// A map of these entries; of those with one key the last stays, in the place of the first.
pub(crate) fn map_of<'d>(
    entries: impl IntoIterator<Item = (Atomic<'d>, Sequence<'d>)>,
) -> Item<'d> {
    let entries = entries.into_iter().map(|(key, value)| (AtomicKey::of(&key), (key, value)));
    Item::Map(Rc::new(entries.collect()))
}

/// An array of these members.
pub(crate) fn array_of<'d>(members: Vec<Sequence<'d>>) -> Item<'d> {
    Item::Array(Rc::new(members))
}
