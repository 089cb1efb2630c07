//! Reads child elements and attributes of records into slots by templates: in all records that follow one
//! [template](super::templates), the text of a child is the same value of the template.
//!
//! Only what is plain goes into slots: attributes, and child elements without attributes that hold a text or nothing. Where a slot would
//! hold anything else in a record of a template, or a name stands for several children, all records of that template are read as values.

use kyanite_tree::{Arena, Base, Content, Element, Name, Value};

use super::templates::{Templates, ValueAt};
use crate::json::{Slot, Slots};

/// What is known of records so far that were read into the same slots.
#[derive(Debug, Default)]
pub struct SlotTemplates {
    templates: Templates,
    /// Where the slots are in records of each template; None where these have to be read as values.
    fields: Vec<Option<Fields>>,
    /// The namespaces that are declared around these records, by their prefixes.
    bindings: Vec<(Box<str>, Box<str>)>,
    is_unused: bool,
    followed: u64,
}

/// Where the value of each slot is, if it is there.
type Fields = Box<[Option<Field>]>;

/// An attribute or a child element.
#[derive(Debug)]
struct Field {
    /// The name of a child element as it is written, and its namespace; of an attribute none is needed.
    name: Option<(Box<str>, Box<str>)>,
    begin: Begin,
    /// The number of the value that is its text, unless that is empty.
    text: Option<usize>,
}

/// Where something begins: its distance in bytes from the end of the value of a number, or from the beginning of the record.
#[derive(Clone, Copy, Debug)]
struct Begin {
    behind: Option<usize>,
    distance: usize,
}

/// What a reader of one text keeps beside what is known.
#[derive(Default)]
pub(super) struct SlotReading<'a> {
    /// The values of the record that was followed last.
    values: Vec<ValueAt<'a>>,
    /// By template, the names of the elements in slots, once they live as long as the records.
    names: Vec<Option<Box<[Option<Name<'a>>]>>>,
    /// Whether what is known is of records in the scope of these.
    is_of_scope: bool,
    /// Where the record ends that followed a template last, until that was used.
    followed: Option<usize>,
}

impl SlotTemplates {
    /// None, and no search for any.
    #[must_use]
    pub fn unused() -> Self {
        Self { is_unused: true, ..Self::default() }
    }

    /// How many records followed one since this was last asked.
    pub fn take_followed(&mut self) -> u64 {
        std::mem::take(&mut self.followed)
    }

    /// Forgets templates that were learned where names meant something else.
    fn enter(&mut self, bindings: &[(&str, &str)]) {
        let own = self.bindings.iter().map(|(prefix, uri)| (&**prefix, &**uri));
        if !own.eq(bindings.iter().copied()) {
            (self.templates, self.fields) = (Templates::default(), Vec::new());
            self.bindings =
                bindings.iter().map(|(prefix, uri)| ((*prefix).into(), (*uri).into())).collect();
        }
    }
}

impl<'a> SlotReading<'a> {
    /// The scope of the records is another.
    pub(super) fn leave(&mut self) {
        self.is_of_scope = false;
    }

    /// Reads the record that begins at byte `at` into slots, if it follows a template; gives its end.
    #[inline]
    pub(super) fn follow(
        &mut self,
        (text, at): (&'a str, usize),
        (arena, base): (&'a Arena, Base),
        known: &mut SlotTemplates,
        found: &mut [Slot<'a>],
    ) -> Option<usize> {
        self.followed = None;
        if !self.is_of_scope {
            return None;
        }
        let followed = known.templates.follow(text, at, &mut self.values)?;
        self.followed = Some(followed.end);
        let fields = known.fields.get(followed.template)?.as_deref()?;
        if self.names.len() <= followed.template {
            self.names.resize(followed.template + 1, None);
        }
        let names = self.names.get_mut(followed.template)?.get_or_insert_with(|| {
            let named =
                |(name, uri): &(Box<str>, Box<str>)| Name::new(arena.text(name), arena.text(uri));
            let names = fields.iter().map(|field| field.as_ref()?.name.as_ref().map(named));
            names.collect()
        });
        for ((field, name), slot) in fields.iter().zip(names).zip(found) {
            let value = field
                .as_ref()
                .and_then(|field| field.value((&self.values, at), *name, (arena, base)));
            *slot = Slot { value, ..Slot::default() };
        }
        known.followed += 1;
        Some(followed.end)
    }

    /// Learns of a record that was read, and stands at these bytes.
    pub(super) fn learn(
        &mut self,
        (text, start, end): (&'a str, usize, usize),
        (record, bindings, base): (&Element<'a>, &[(&str, &str)], Base),
        slots: &Slots,
        known: &mut SlotTemplates,
    ) {
        if known.is_unused {
            return;
        }
        if !self.is_of_scope {
            known.enter(bindings);
            self.names.clear();
            self.is_of_scope = true;
            // What was known of other texts may be known of this record, too.
            let followed = known.templates.follow(text, start, &mut self.values);
            self.followed = followed.map(|followed| followed.end);
        }
        if self.followed.take() == Some(end) {
            return;
        }
        if !known.templates.may_learn(text, start) {
            return;
        }
        let Some(template) = known.templates.learn(text, start..end, &mut self.values) else {
            known.templates.learned_nothing(text, start);
            return;
        };
        let values = Learned { values: &self.values, start, base };
        let mut fields: Vec<Option<Field>> = Vec::new();
        fields.resize_with(slots.count(), || None);
        let are_plain = slots.places().into_iter().all(|(path, slot)| {
            let field = values.field(record, &path);
            field.map(|field| fields[slot] = field).is_some()
        });
        if known.fields.len() <= template {
            known.fields.resize_with(template + 1, || None);
        }
        known.fields[template] = are_plain.then(|| fields.into());
    }
}

/// A record of which a template was learned.
struct Learned<'l, 'a> {
    values: &'l [ValueAt<'a>],
    start: usize,
    base: Base,
}

impl Learned<'_, '_> {
    /// Where a path leads in the record, if it leads anywhere; the outer None where it has to be read as a value.
    fn field(&self, record: &Element<'_>, path: &[&str]) -> Option<Option<Field>> {
        let mut element = record;
        let mut origin = None;
        for (position, name) in path.iter().enumerate() {
            if let Some(name) = name.strip_prefix('@') {
                let is_last = position + 1 == path.len();
                return match element.attribute(name) {
                    Some(attribute) if is_last => {
                        let at = self.base.offset(attribute.origin);
                        let text = match attribute.value {
                            "" => None,
                            _ => Some(self.value(at)?),
                        };
                        Some(Some(Field { name: None, begin: self.begin(at), text }))
                    }
                    Some(_) => None,
                    None => Some(None),
                };
            }
            let mut children = element.children_called(name);
            match (children.next(), children.next()) {
                (Some(Value::Element(at, child)), None) => (element, origin) = (child, Some(at)),
                (None, _) => return Some(None),
                _ => return None,
            }
        }
        let text = match (element.content, element.attributes) {
            ([], []) => None,
            ([Content::Text(at, _)], []) => Some(self.value(self.base.offset(*at))?),
            _ => return None,
        };
        let name = (element.name.qualified().into(), element.name.namespace().into());
        let begin = self.begin(self.base.offset(origin?));
        Some(Some(Field { name: Some(name), begin, text }))
    }

    /// The number of the value at a byte.
    fn value(&self, at: usize) -> Option<usize> {
        self.values.binary_search_by_key(&at, |(_, at)| *at).ok()
    }

    fn begin(&self, at: usize) -> Begin {
        let behind = self.values.partition_point(|(_, value)| *value < at).checked_sub(1);
        let from = behind.map_or(self.start, |behind| end_of(self.values[behind]));
        Begin { behind, distance: at - from }
    }
}

/// Where a value ends.
fn end_of((text, at): ValueAt<'_>) -> usize {
    at + text.len()
}

impl Field {
    /// What is in the slot, in a record with these values.
    #[inline]
    fn value<'a>(
        &self,
        (values, start): (&[ValueAt<'a>], usize),
        name: Option<Name<'a>>,
        (arena, base): (&'a Arena, Base),
    ) -> Option<Value<'a>> {
        let text = match self.text {
            Some(text) => Some(*values.get(text)?),
            None => None,
        };
        let from = match self.begin.behind {
            Some(behind) => end_of(*values.get(behind)?),
            None => start,
        };
        let origin = base.origin(from + self.begin.distance);
        let Some(name) = name else {
            return Some(Value::Untyped(origin, text.map_or("", |(text, _)| text)));
        };
        let content = match text {
            Some((text, at)) => arena.nodes(&[Content::Text(base.origin(at), text)]),
            None => &[],
        };
        let text = Some(text.map_or("", |(text, _)| text));
        let element = arena.element(Element { name, attributes: &[], content, text });
        Some(Value::Element(origin, element))
    }
}
