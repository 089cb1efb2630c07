//! The arena that a document, or one batch of records, lives in.

use bumpalo::Bump;

use crate::{
    Attribute, Content, Decimal, Element, Foreign, ForeignType, Map, MapBuilder, Member, Name,
    Number, Origin, Value,
};

/// Memory that is handed out in one direction and freed all at once.
#[derive(Default)]
pub struct Arena(Bump, typed_arena::Arena<String>, typed_arena::Arena<Vec<u8>>);

impl Arena {
    /// An empty arena.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Frees all that lives here and keeps the memory for the next record.
    pub fn reset(&mut self) {
        self.0.reset();
        if self.1.len() > 0 {
            self.1 = typed_arena::Arena::new();
        }
        if self.2.len() > 0 {
            self.2 = typed_arena::Arena::new();
        }
    }

    /// Copies `text` here.
    #[inline]
    pub fn text(&self, text: &str) -> &str {
        self.0.alloc_str(text)
    }

    /// Keeps `text` here without copying it: for the text of a whole document.
    pub fn keep(&self, text: String) -> &str {
        self.1.alloc(text)
    }

    /// Keeps `bytes` here without copying them.
    pub fn keep_bytes(&self, bytes: Vec<u8>) -> &[u8] {
        self.2.alloc(bytes)
    }

    /// Copies `items` here as a computed list.
    #[inline]
    pub fn list<'a>(&'a self, items: &[Value<'a>]) -> Value<'a> {
        Value::List(Origin::NONE, self.items(items))
    }

    /// Copies `items` here.
    #[inline]
    pub fn items<'a>(&'a self, items: &[Value<'a>]) -> &'a [Value<'a>] {
        self.0.alloc_slice_copy(items)
    }

    /// Copies names here.
    pub fn names<'a>(&'a self, names: &[&str]) -> &'a [&'a str] {
        self.0.alloc_slice_fill_iter(names.iter().map(|name| self.text(name)))
    }

    /// Puts a thing here that owns nothing.
    #[inline]
    pub fn put<T: Copy>(&self, thing: T) -> &T {
        self.0.alloc(thing)
    }

    /// Copies a slice here.
    #[inline]
    pub fn slice<'a, T: Copy>(&'a self, items: &[T]) -> &'a [T] {
        self.0.alloc_slice_copy(items)
    }

    /// Copies the content of an element here.
    #[inline]
    pub fn nodes<'a>(&'a self, nodes: &[Content<'a>]) -> &'a [Content<'a>] {
        self.0.alloc_slice_copy(nodes)
    }

    /// Copies the attributes of an element here.
    #[inline]
    pub fn attributes<'a>(&'a self, attributes: &[Attribute<'a>]) -> &'a [Attribute<'a>] {
        self.0.alloc_slice_copy(attributes)
    }

    /// Puts an element here.
    #[inline]
    pub fn element<'a>(&'a self, element: Element<'a>) -> &'a Element<'a> {
        self.0.alloc(element)
    }

    /// Puts two texts here that belong together.
    pub fn pair<'a>(&'a self, first: &'a str, second: &'a str) -> &'a (&'a str, &'a str) {
        self.0.alloc((first, second))
    }

    /// Copies a value with all that is in it from another arena. Where it was read is forgotten.
    pub fn copy<'a>(&'a self, value: Value<'_>) -> Value<'a> {
        self.copy_at(value, false)
    }

    /// The same, but where it was read is kept.
    pub fn copy_read<'a>(&'a self, value: Value<'_>) -> Value<'a> {
        self.copy_at(value, true)
    }

    fn copy_at<'a>(&'a self, value: Value<'_>, keeps: bool) -> Value<'a> {
        let origin = if keeps { value.origin() } else { Origin::NONE };
        match value {
            Value::Null(_) => Value::Null(origin),
            Value::Boolean(_, value) => Value::Boolean(origin, value),
            Value::Number(_, number) => {
                Value::Number(origin, Number::from_checked(self.text(number.as_str())))
            }
            Value::Text(_, text) => Value::Text(origin, self.text(text)),
            Value::Untyped(_, text) => Value::Untyped(origin, self.text(text)),
            Value::Foreign(_, Foreign { text, of }) => {
                let of = match of {
                    ForeignType::Tagged(tag) => ForeignType::Tagged(self.text(tag)),
                    ForeignType::NotFinite => ForeignType::NotFinite,
                    ForeignType::DateTime => ForeignType::DateTime,
                    ForeignType::Name(name) => {
                        let (qualified, uri) =
                            (self.text(name.qualified()), self.text(name.namespace()));
                        ForeignType::Name(Name::new(qualified, uri))
                    }
                };
                Value::Foreign(origin, self.put(Foreign { text: self.text(text), of }))
            }
            Value::List(_, items) => {
                let items = items.iter().map(|item| self.copy_at(*item, keeps));
                Value::List(origin, self.0.alloc_slice_fill_iter(items))
            }
            Value::Map(_, map) => {
                let members = map.members().iter().map(|m| Member {
                    name: self.text(m.name),
                    value: self.copy_at(m.value, keeps),
                });
                let members: &[Member<'a>] = self.0.alloc_slice_fill_iter(members);
                Value::Map(origin, Map::copied(self, members, map))
            }
            Value::Element(_, element) => Value::Element(origin, self.copy_element(element, keeps)),
        }
    }

    fn copy_element<'a>(&'a self, element: &Element<'_>, keeps: bool) -> &'a Element<'a> {
        let kept = |origin: Origin| if keeps { origin } else { Origin::NONE };
        let name =
            |name: Name<'_>| Name::new(self.text(name.qualified()), self.text(name.namespace()));
        let attributes = element.attributes.iter().map(|attribute| Attribute {
            name: name(attribute.name),
            value: self.text(attribute.value),
            origin: kept(attribute.origin),
        });
        let content = element.content.iter().map(|node| match node {
            Content::Element(origin, child) => {
                Content::Element(kept(*origin), self.copy_element(child, keeps))
            }
            Content::Text(origin, text) => Content::Text(kept(*origin), self.text(text)),
            Content::Comment(origin, text) => Content::Comment(kept(*origin), self.text(text)),
            Content::Instruction(origin, (target, data)) => {
                Content::Instruction(kept(*origin), self.pair(self.text(target), self.text(data)))
            }
            Content::DocumentType(origin, text) => {
                Content::DocumentType(kept(*origin), self.text(text))
            }
        });
        self.element(Element {
            name: name(element.name),
            attributes: self.0.alloc_slice_fill_iter(attributes),
            content: self.0.alloc_slice_fill_iter(content),
            text: element.text.map(|text| self.text(text)),
        })
    }

    /// Builds a computed map of `members`; a name that comes again overrides the earlier value in
    /// its place.
    pub fn map<'a>(&'a self, members: impl IntoIterator<Item = (&'a str, Value<'a>)>) -> Value<'a> {
        let mut builder = MapBuilder::new();
        for (name, value) in members {
            builder.insert(name, value);
        }
        Value::Map(Origin::NONE, builder.finish(self))
    }

    /// Spells a computed number.
    pub fn number(&self, decimal: &Decimal) -> Value<'_> {
        Value::number(Number::from_checked(match decimal.to_i64() {
            Some(integer) => self.integer_text(integer),
            None => decimal.spelled_to(|spelling| self.text(spelling)),
        }))
    }

    /// Spells a count or an index.
    pub fn integer(&self, integer: i64) -> Value<'_> {
        Value::number(Number::from_checked(self.integer_text(integer)))
    }

    fn integer_text(&self, integer: i64) -> &str {
        self.text(itoa::Buffer::new().format(integer))
    }

    /// Joins pieces of text without an intermediate allocation.
    pub fn concat<'a>(&'a self, pieces: &[&str]) -> &'a str {
        let length = pieces.iter().map(|piece| piece.len()).sum();
        let mut text = bumpalo::collections::String::with_capacity_in(length, &self.0);
        for piece in pieces {
            text.push_str(piece);
        }
        text.into_bump_str()
    }
}
