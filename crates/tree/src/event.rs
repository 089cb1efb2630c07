//! Events: a document as the steps of a parser, without values in memory.

use crate::{Base, Member, Origin, Value};

/// A step of a parser.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Event<'t> {
    /// A map begins: names follow, each with the events of its value.
    BeginMap,
    /// The map that was begun last ends.
    EndMap,
    /// A list begins: the events of its items follow.
    BeginList,
    /// The list that was begun last ends.
    EndList,
    /// The name of a member.
    Name(RawText<'t>),
    /// A text.
    Text(RawText<'t>),
    /// A number, as it is spelled.
    Number(&'t str),
    /// `true` or `false`.
    Boolean(bool),
    /// `null`.
    Null,
}

/// A text as it stands in a document.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct RawText<'t> {
    /// What stands between the quotes.
    pub text: &'t str,
    /// Whether escapes are in it, so that it means another text.
    pub has_escapes: bool,
}

/// Gives the events of one value after the other.
pub trait Pull<'t> {
    /// The next event; None where the value is over, or the document is not well-formed there, which a reader of values explains.
    fn next_event(&mut self) -> Option<Event<'t>>;

    /// Takes the name that comes next, if it is certainly this one, which has nothing to escape. Where this is false it may still be:
    /// the next event tells.
    #[inline]
    fn takes_name(&mut self, _name: &str) -> bool {
        false
    }

    /// An offset in the text, on the line in which the scalar ends, or the list or map begins, that was given last.
    fn offset(&self) -> usize;
}

/// The events of a value in memory.
#[derive(Debug)]
pub struct ValueEvents<'a> {
    /// What comes next, once it is begun.
    next: Option<Value<'a>>,
    open: Vec<Open<'a>>,
    base: Base,
    offset: usize,
}

/// What is left of a list or a map.
#[derive(Debug)]
enum Open<'a> {
    List(&'a [Value<'a>]),
    Map(&'a [Member<'a>]),
}

impl<'a> ValueEvents<'a> {
    /// Those of a value whose origins are counted from `base`. An element of XML is the map that its record view makes of it: until
    /// it was made, it gives no events.
    #[must_use]
    pub fn new(value: Value<'a>, base: Base) -> Self {
        Self { next: Some(value), open: Vec::new(), base, offset: 0 }
    }

    fn begin(&mut self, value: Value<'a>) -> Option<Event<'a>> {
        let text = |text| Event::Text(RawText { text, has_escapes: false });
        if value.origin() != Origin::NONE {
            self.offset = self.base.offset(value.origin());
        }
        Some(match value {
            Value::Null(_) => Event::Null,
            Value::Boolean(_, boolean) => Event::Boolean(boolean),
            Value::Number(_, number) => Event::Number(number.as_str()),
            Value::Text(_, of) | Value::Untyped(_, of) => text(of),
            Value::Foreign(_, foreign) => text(foreign.text),
            Value::List(_, items) => {
                self.open.push(Open::List(items));
                Event::BeginList
            }
            Value::Map(_, map) => {
                self.open.push(Open::Map(map.members()));
                Event::BeginMap
            }
            Value::Element(..) => return None,
        })
    }
}

impl<'a> Pull<'a> for ValueEvents<'a> {
    fn next_event(&mut self) -> Option<Event<'a>> {
        if let Some(value) = self.next.take() {
            return self.begin(value);
        }
        match self.open.last_mut()? {
            Open::List(items) => {
                let Some((first, rest)) = items.split_first() else {
                    self.open.pop();
                    return Some(Event::EndList);
                };
                *items = rest;
                self.begin(*first)
            }
            Open::Map(members) => {
                let Some((first, rest)) = members.split_first() else {
                    self.open.pop();
                    return Some(Event::EndMap);
                };
                *members = rest;
                self.next = Some(first.value);
                Some(Event::Name(RawText { text: first.name, has_escapes: false }))
            }
        }
    }

    fn offset(&self) -> usize {
        self.offset
    }
}
