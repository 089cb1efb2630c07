//! Values from formats that know only texts, made what a schema says that they are.

use kyanite_tree::{Arena, Decimal, Kind, MapBuilder, Number, Value};

use super::outline::{At, Outline};

/// Gives values the types that a schema has for them.
#[derive(Debug)]
pub struct Typing<'c, 's> {
    outline: Outline<'c, 's>,
}

impl<'c, 's> Typing<'c, 's> {
    /// Types by an outline. In the record view of XML only `xsi:nil` makes a text null; elsewhere an empty text is null where that may
    /// stand.
    #[must_use]
    pub fn new(outline: Outline<'c, 's>) -> Self {
        Self { outline }
    }

    /// A whole document with its types: what may only be a list is one, texts without type that spell a number or a boolean are that
    /// where it may stand, and so on. What fits nothing stays as it is.
    pub fn document<'a>(&mut self, value: Value<'a>, arena: &'a Arena) -> Value<'a> {
        self.value(self.outline.root(), value, arena)
    }

    /// The place that members of these names lead to from the root; in lists it is that of their items.
    pub fn place<'n>(&mut self, names: impl IntoIterator<Item = &'n str>) -> Option<At> {
        let mut at = self.outline.root();
        for name in names {
            at = self.outline.member(at, name)?;
            at = self.of_item(at);
        }
        Some(at)
    }

    /// The place of an item where only lists may stand, else the place itself.
    fn of_item(&mut self, at: At) -> At {
        let kinds = self.outline.kinds(at);
        match kinds.has(Kind::List) && !kinds.has(Kind::Map) && !kinds.has(Kind::Text) {
            true => self.outline.item(at).unwrap_or(at),
            false => at,
        }
    }

    /// A value at a place, with its type.
    pub fn value<'a>(&mut self, at: At, value: Value<'a>, arena: &'a Arena) -> Value<'a> {
        let kinds = self.outline.kinds(at);
        if self.outline.is_free(at) {
            return value;
        }
        if let Value::List(origin, items) = value {
            let Some(item) = self.outline.item(at) else { return value };
            let items: Vec<Value<'a>> =
                items.iter().map(|one| self.value(item, *one, arena)).collect();
            return Value::List(origin, arena.items(&items));
        }
        let is_own = kinds.has(value.kind()) || self.is_spelled(at, value);
        if !is_own && kinds.has(Kind::List) {
            let Some(item) = self.outline.item(at) else { return value };
            let one = self.value(item, value, arena);
            return Value::List(value.origin(), arena.items(&[one]));
        }
        match value {
            Value::Untyped(_, text) => self.text(at, value, text, arena),
            Value::Map(_, map)
                if self.outline.is_for_xml() && is_nil(map) && kinds.has(Kind::Null) =>
            {
                Value::Null(value.origin())
            }
            Value::Map(origin, map) => {
                let mut typed = MapBuilder::new();
                for member in map.members() {
                    let own = match self.outline.member(at, member.name) {
                        Some(place) => self.value(place, member.value, arena),
                        None => member.value,
                    };
                    typed.insert(member.name, own);
                }
                Value::Map(origin, typed.finish(arena))
            }
            other => other,
        }
    }

    /// Whether a text without type spells something that may stand there.
    fn is_spelled(&self, at: At, value: Value<'_>) -> bool {
        let Value::Untyped(_, text) = value else { return false };
        let kinds = self.outline.kinds(at);
        kinds.has(Kind::Text)
            || kinds.has(Kind::Number) && Decimal::spelled(text).is_some()
            || kinds.has(Kind::Boolean) && self.boolean(text).is_some()
            || kinds.has(Kind::Null) && text.is_empty()
            || kinds.has(Kind::Map) && self.outline.is_for_xml()
    }

    /// The boolean that a text spells, as assertions have it; by an XML Schema numbers and white space around may spell one, too (XSD
    /// 1.0 part 2 section 3.2.2.1).
    fn boolean(&self, text: &str) -> Option<bool> {
        let is_xsd = self.outline.is_for_xml();
        match if is_xsd { text.trim() } else { text } {
            "true" => Some(true),
            "false" => Some(false),
            "1" if is_xsd => Some(true),
            "0" if is_xsd => Some(false),
            _ => None,
        }
    }

    fn text<'a>(&mut self, at: At, value: Value<'a>, text: &'a str, arena: &'a Arena) -> Value<'a> {
        let (kinds, origin) = (self.outline.kinds(at), value.origin());
        let is_null =
            kinds.has(Kind::Null) && (!self.outline.is_for_xml() || !kinds.has(Kind::Text));
        if text.is_empty() && is_null {
            return Value::Null(origin);
        }
        if kinds.has(Kind::Number)
            && let Some(number) = Decimal::spelled(text)
        {
            // As it is written, where JSON writes it so.
            return match Number::parse(text.trim()) {
                Some(written) => Value::Number(origin, written),
                None => arena.number(&number).with_origin(origin),
            };
        }
        if kinds.has(Kind::Boolean)
            && let Some(boolean) = self.boolean(text)
        {
            return Value::Boolean(origin, boolean);
        }
        if kinds.has(Kind::Map) && !kinds.has(Kind::Text) && self.outline.is_for_xml() {
            // An element that has only text, or nothing, and might have attributes and elements.
            let place = self.outline.member(at, "#text");
            let own = match place {
                _ if text.trim().is_empty() && place.is_none_or(|at| self.outline.is_free(at)) => {
                    None
                }
                Some(place) => Some(self.value(place, value, arena)),
                None => return value,
            };
            return arena.map(own.map(|own| ("#text", own))).with_origin(origin);
        }
        value
    }
}

/// Whether an element says that it is nil (XSD 1.0 part 1 section 2.6.2), and holds nothing else.
fn is_nil(map: &kyanite_tree::Map<'_>) -> bool {
    let mut members = map.members().iter();
    map.members().iter().any(|member| {
        member.name.ends_with(":nil") && matches!(member.value.scalar_text(), Some("true" | "1"))
    }) && members.all(|member| {
        member.name.ends_with(":nil") || member.name.starts_with("@xmlns") || member.name == "#text"
    })
}
