//! Values as text, for keeping many of them in little room, or in a file.
//!
//! Packed values are made and read by one run of one program: their form may change with each version. Where a value was
//! read is not kept.

use crate::{
    Arena, Attribute, Content, Element, Foreign, ForeignType, Map, Member, Name, Number, Origin,
    Value,
};

/// Appends a value, or that there is none.
pub fn pack(value: Option<Value<'_>>, out: &mut String) {
    match value {
        None => out.push('-'),
        Some(Value::Null(_)) => out.push('0'),
        Some(Value::Boolean(_, false)) => out.push('f'),
        Some(Value::Boolean(_, true)) => out.push('t'),
        Some(Value::Number(_, number)) => pack_text('#', number.as_str(), out),
        Some(Value::Text(_, text)) => pack_text('"', text, out),
        Some(Value::Untyped(_, text)) => pack_text('\'', text, out),
        Some(Value::Foreign(_, Foreign { text, of })) => {
            match of {
                ForeignType::NotFinite => out.push('n'),
                ForeignType::DateTime => out.push('d'),
                ForeignType::Tagged(tag) => pack_text('!', tag, out),
                ForeignType::Name(name) => {
                    pack_text('q', name.qualified(), out);
                    pack_text('.', name.namespace(), out);
                }
            }
            pack_text('.', text, out);
        }
        Some(Value::List(_, items)) => {
            pack_length('[', items.len(), out);
            items.iter().for_each(|item| pack(Some(*item), out));
        }
        Some(Value::Map(_, map)) => {
            // The tag tells whether keys follow: behind the last member they could be those of a map around this one.
            pack_length(if map.keys().is_empty() { '{' } else { 'k' }, map.len(), out);
            for member in map.members() {
                pack_text('.', member.name, out);
                pack(Some(member.value), out);
            }
            if !map.keys().is_empty() {
                pack_length('.', map.keys().len(), out);
                for (position, key) in map.keys() {
                    pack_length('.', *position, out);
                    pack(Some(*key), out);
                }
            }
        }
        Some(Value::Element(_, element)) => pack_element(element, out),
    }
}

fn pack_element(element: &Element<'_>, out: &mut String) {
    pack_name('<', element.name, out);
    pack_length('@', element.attributes.len(), out);
    for attribute in element.attributes {
        pack_name('.', attribute.name, out);
        pack_text('=', attribute.value, out);
    }
    pack(element.text.map(Value::text), out);
    pack_length('>', element.content.len(), out);
    for node in element.content {
        match node {
            Content::Element(_, child) => pack_element(child, out),
            Content::Text(_, text) => pack_text('"', text, out),
            Content::Comment(_, text) => pack_text('!', text, out),
            Content::Instruction(_, (target, data)) => {
                pack_text('?', target, out);
                pack_text('.', data, out);
            }
            Content::DocumentType(_, text) => pack_text('D', text, out),
        }
    }
}

fn pack_name(tag: char, name: Name<'_>, out: &mut String) {
    pack_text(tag, name.qualified(), out);
    pack_text('.', name.namespace(), out);
}

fn pack_text(tag: char, text: &str, out: &mut String) {
    pack_length(tag, text.len(), out);
    out.push_str(text);
}

/// Six bits a character, the lowest first; the last has no more behind it.
fn pack_length(tag: char, mut length: usize, out: &mut String) {
    out.push(tag);
    loop {
        let more = if length > 0x3F { 0x40 } else { 0 };
        out.push(char::from((length & 0x3F) as u8 | more));
        length >>= 6;
        if more == 0 {
            break;
        }
    }
}

/// Reads packed values, one after another.
#[derive(Debug)]
pub struct Packed<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Packed<'a> {
    /// The values that were packed into `text`.
    #[must_use]
    pub fn new(text: &'a str) -> Self {
        Self { text, at: 0 }
    }

    /// How many bytes have been read.
    #[must_use]
    pub fn position(&self) -> usize {
        self.at
    }

    /// The next value, or that there was none; outer `None` at the end, or where the text is not that of packed values. It
    /// borrows its texts; what else it needs lives in `arena`.
    pub fn next(&mut self, arena: &'a Arena) -> Option<Option<Value<'a>>> {
        let tag = self.tag()?;
        Some(Some(match tag {
            b'-' => return Some(None),
            b'0' => Value::NULL,
            b'f' => Value::boolean(false),
            b't' => Value::boolean(true),
            b'#' => Value::number(Number::from_checked(self.text()?)),
            b'"' => Value::text(self.text()?),
            b'\'' => Value::Untyped(Origin::NONE, self.text()?),
            b'n' => self.foreign(ForeignType::NotFinite, arena)?,
            b'd' => self.foreign(ForeignType::DateTime, arena)?,
            b'!' => {
                let tag = self.text()?;
                self.foreign(ForeignType::Tagged(tag), arena)?
            }
            b'q' => {
                let name = Name::new(self.text()?, self.tagged()?);
                self.foreign(ForeignType::Name(name), arena)?
            }
            b'[' => {
                let count = self.length()?;
                let items: Option<Vec<_>> = (0..count).map(|_| self.next(arena)?).collect();
                arena.list(&items?)
            }
            b'{' | b'k' => {
                let count = self.length()?;
                let member = |_| Some(Member { name: self.tagged()?, value: self.next(arena)?? });
                let mut members = (0..count).map(member).collect::<Option<Vec<_>>>()?;
                let map = Map::from_read(arena, &mut members, |_, _, _| ());
                let map = if tag == b'k' { self.keys(map, arena)? } else { map };
                Value::Map(Origin::NONE, map)
            }
            b'<' => Value::Element(Origin::NONE, self.element(arena)?),
            _ => return None,
        }))
    }

    fn foreign(&mut self, of: ForeignType<'a>, arena: &'a Arena) -> Option<Value<'a>> {
        Some(Value::Foreign(Origin::NONE, arena.put(Foreign { text: self.tagged()?, of })))
    }

    /// The map with the keys that are no texts, which come next.
    fn keys(&mut self, map: &'a Map<'a>, arena: &'a Arena) -> Option<&'a Map<'a>> {
        self.tag()?;
        let mut keys = Vec::new();
        for _ in 0..self.length()? {
            self.tag()?;
            let position = self.length()?;
            keys.push((map.members().get(position)?.name, self.next(arena)??));
        }
        Some(map.with_keys(arena, &keys))
    }

    /// The rest of an element behind its tag.
    fn element(&mut self, arena: &'a Arena) -> Option<&'a Element<'a>> {
        let name = Name::new(self.text()?, self.tagged()?);
        let mut attributes = Vec::new();
        self.tag()?;
        for _ in 0..self.length()? {
            let name = Name::new(self.tagged()?, self.tagged()?);
            attributes.push(Attribute { name, value: self.tagged()?, origin: Origin::NONE });
        }
        let text = match self.tag()? {
            b'-' => None,
            _ => Some(self.text()?),
        };
        let mut content = Vec::new();
        self.tag()?;
        for _ in 0..self.length()? {
            let tag = self.tag()?;
            content.push(match tag {
                b'<' => Content::Element(Origin::NONE, self.element(arena)?),
                b'"' => Content::Text(Origin::NONE, self.text()?),
                b'!' => Content::Comment(Origin::NONE, self.text()?),
                b'?' => {
                    Content::Instruction(Origin::NONE, arena.pair(self.text()?, self.tagged()?))
                }
                _ => Content::DocumentType(Origin::NONE, self.text()?),
            });
        }
        let attributes = arena.attributes(&attributes);
        let content = arena.nodes(&content);
        Some(arena.element(Element { name, attributes, content, text }))
    }

    fn tag(&mut self) -> Option<u8> {
        let tag = *self.text.as_bytes().get(self.at)?;
        self.at += 1;
        Some(tag)
    }

    fn tagged(&mut self) -> Option<&'a str> {
        self.tag()?;
        self.text()
    }

    fn text(&mut self) -> Option<&'a str> {
        let length = self.length()?;
        let text = self.text.get(self.at..self.at.checked_add(length)?)?;
        self.at += length;
        Some(text)
    }

    fn length(&mut self) -> Option<usize> {
        let (mut length, mut shift) = (0, 0);
        loop {
            let bits = usize::from(self.tag()?);
            length |= (bits & 0x3F).checked_shl(shift)?;
            shift += 6;
            if bits < 0x40 {
                return Some(length);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Any value but elements, made in a leaked arena.
    fn any_value() -> impl Strategy<Value = Value<'static>> {
        let arena: &'static Arena = Box::leak(Box::default());
        let leaf = prop_oneof![
            Just(Value::NULL),
            any::<bool>().prop_map(Value::boolean),
            any::<i64>().prop_map(move |number| arena.integer(number)),
            any::<String>().prop_map(move |text| Value::text(arena.text(&text))),
            any::<String>().prop_map(move |text| Value::Untyped(Origin::NONE, arena.text(&text))),
            "[a-z0-9 ]{60,200}".prop_map(move |text| Value::text(arena.text(&text))),
            ("[a-z:]{1,3}", 0..4usize).prop_map(move |(text, of)| {
                let text = arena.text(&text);
                let types = [
                    ForeignType::NotFinite,
                    ForeignType::DateTime,
                    ForeignType::Tagged(text),
                    ForeignType::Name(Name::new(text, "urn:u")),
                ];
                Value::Foreign(Origin::NONE, arena.put(Foreign { text, of: types[of] }))
            }),
        ];
        leaf.prop_recursive(4, 40, 70, move |inner| {
            let members = prop::collection::btree_map("[a-zé]{0,3}", inner.clone(), 0..70);
            prop_oneof![
                prop::collection::vec(inner, 0..70).prop_map(move |items| arena.list(&items)),
                (members, any::<bool>()).prop_map(move |(members, typed)| {
                    let map =
                        arena.map(members.iter().map(|(name, value)| (arena.text(name), *value)));
                    match (typed, map) {
                        (true, Value::Map(_, map)) => {
                            let keys: Vec<_> = map
                                .members()
                                .iter()
                                .step_by(2)
                                .map(|m| (m.name, m.value))
                                .collect();
                            Value::Map(Origin::NONE, map.with_keys(arena, &keys))
                        }
                        _ => map,
                    }
                }),
            ]
        })
    }

    fn packed(value: Option<Value<'_>>) -> String {
        let mut text = String::new();
        pack(value, &mut text);
        text
    }

    proptest! {
        #[test]
        fn values_come_back(values in prop::collection::vec(prop::option::of(any_value()), 0..5)) {
            let text: String = values.iter().map(|value| packed(*value)).collect();
            let arena = Arena::new();
            let mut reader = Packed::new(&text);
            for value in &values {
                let read = reader.next(&arena).unwrap();
                prop_assert_eq!(packed(read), packed(*value));
                if let (Some(Value::Map(_, read)), Some(Value::Map(_, value))) = (read, *value) {
                    prop_assert_eq!(read.keys().len(), value.keys().len());
                }
                if let (Some(read), Some(value)) = (read, *value) {
                    prop_assert!(crate::equal(read, value));
                }
            }
            prop_assert_eq!(reader.position(), text.len());
            prop_assert!(reader.next(&arena).is_none());
        }

        #[test]
        fn any_text_is_read_or_not(text in "[-0ftkn#\"'\\[{<@.=>!?\x00-\x03A-Z]{0,40}") {
            let arena = Arena::new();
            let mut reader = Packed::new(&text);
            while reader.next(&arena).is_some() {}
        }
    }

    /// A map without keys of its own is the last member of one that has some.
    #[test]
    fn keys_belong_to_their_map() {
        let arena = Arena::new();
        let inner = arena.map([("a", Value::NULL)]);
        let Value::Map(_, outer) = arena.map([("1", inner)]) else { unreachable!("it is a map") };
        let outer = outer.with_keys(&arena, &[("1", arena.integer(1))]);
        let text = packed(Some(Value::Map(Origin::NONE, outer)));
        let mut reader = Packed::new(&text);
        let Some(Some(Value::Map(_, read))) = reader.next(&arena) else {
            unreachable!("a map was packed")
        };
        assert_eq!((read.keys().len(), reader.position()), (1, text.len()));
        assert!(matches!(read.get("1"), Some(Value::Map(_, inner)) if inner.keys().is_empty()));
    }

    #[test]
    fn elements_come_back() {
        let arena = Arena::new();
        let origin = Origin::NONE;
        let name = Name::new("v:berth", "urn:v");
        let content = [Content::Text(origin, "4")];
        let no = Name::plain("no");
        let leaf = Element { name: no, attributes: &[], content: &content, text: Some("4") };
        let attributes = [Attribute { name, value: "x", origin }];
        let pair = ("target", "data");
        let content = [
            Content::Element(origin, &leaf),
            Content::Comment(origin, "c"),
            Content::Instruction(origin, &pair),
            Content::DocumentType(origin, "d"),
            Content::Text(origin, " "),
        ];
        let element = Element { name, attributes: &attributes, content: &content, text: None };
        let text = packed(Some(Value::Element(origin, &element)));
        let Some(Some(Value::Element(_, read))) = Packed::new(&text).next(&arena) else {
            unreachable!("an element was packed")
        };
        assert_eq!(read.name, name);
        assert_eq!(packed(Some(Value::Element(origin, read))), text);
        let cut = (0..text.len()).all(|end| Packed::new(&text[..end]).next(&arena).is_none());
        assert!(cut, "what is cut off is not read");
    }
}
