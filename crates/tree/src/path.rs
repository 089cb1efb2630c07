//! Where a value stands in its document, as a path.

use std::fmt;

use crate::{Element, Name, NodeKind, Origin, Value};

/// One step down from a value to a child.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Step<'a> {
    /// To the member of a map.
    Name(&'a str),
    /// To the item of a list, from 0.
    Index(usize),
    /// To a child element.
    Element {
        /// Its name.
        name: Name<'a>,
        /// How many children of that name are before it.
        position: usize,
        /// Whether it is the only child of that name.
        is_only: bool,
    },
    /// To an attribute.
    Attribute(Name<'a>),
    /// To the member of a map, as XPath looks it up.
    Lookup(&'a str),
    /// To the member of an array, as XPath looks it up: from 0.
    Member(usize),
    /// To a text, a comment, a processing instruction or a namespace.
    Node {
        /// Which of them it is.
        kind: NodeKind,
        /// The target of the instruction, or the prefix of the namespace.
        name: &'a str,
        /// How many siblings of that kind and name are before it.
        position: usize,
    },
}

/// The steps from the root of a document to one of its values. It displays as a normalized path
/// (RFC 9535 section 2.7), `$['sailings'][0]['vessel']`; in XML as a path of XPath 1.0, `/sailings[1]/@vessel`.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Location<'a>(Vec<Step<'a>>);

impl<'a> Location<'a> {
    /// A location by its steps.
    #[must_use]
    pub fn new(steps: Vec<Step<'a>>) -> Self {
        Self(steps)
    }

    /// The steps, from the root.
    #[must_use]
    pub fn steps(&self) -> &[Step<'a>] {
        &self.0
    }

    /// This location, one step below `first`: what is in a record, seen from the list of records.
    #[must_use]
    pub fn within(mut self, first: Step<'a>) -> Self {
        self.0.insert(0, first);
        self
    }

    /// The path as people write it: `$.sailings[0].vessel`, brackets only where they are needed.
    #[must_use]
    pub fn readable(&self) -> String {
        let mut text = String::from("$");
        for step in &self.0 {
            match step {
                Step::Index(index) => text.push_str(&format!("[{index}]")),
                Step::Name(name) => text.push_str(&name_step(name)),
                Step::Element { name, position, is_only } => {
                    text.push_str(&name_step(name.local()));
                    if !is_only {
                        text.push_str(&format!("[{position}]"));
                    }
                }
                Step::Attribute(name) => {
                    text.push_str(".@");
                    text.push_str(name.local());
                }
                step => text.push_str(&step.to_string()),
            }
        }
        text
    }

    /// Whether the location is in an XML document.
    #[must_use]
    pub fn is_in_xml(&self) -> bool {
        matches!(
            self.0.first(),
            Some(
                Step::Element { .. }
                    | Step::Attribute(_)
                    | Step::Node { .. }
                    | Step::Lookup(_)
                    | Step::Member(_)
            )
        )
    }
}

impl fmt::Display for Location<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if !self.is_in_xml() {
            f.write_str("$")?;
        }
        self.0.iter().try_for_each(|step| step.fmt(f))
    }
}

impl fmt::Display for Step<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Index(index) => write!(f, "[{index}]"),
            Self::Name(name) => f.write_str(&bracketed(name)),
            Self::Element { name, position, .. } => {
                write!(f, "/{}[{}]", name.qualified(), position + 1)
            }
            Self::Attribute(name) => write!(f, "/@{}", name.qualified()),
            Self::Lookup(name) if is_ncname(name) => write!(f, "?{name}"),
            Self::Lookup(name) => write!(f, "?('{}')", name.replace('\'', "''")),
            Self::Member(index) => write!(f, "?{}", index + 1),
            Self::Node { kind: NodeKind::Instruction, name, position } => {
                write!(f, "/processing-instruction({name})[{}]", position + 1)
            }
            Self::Node { kind: NodeKind::Comment, position, .. } => {
                write!(f, "/comment()[{}]", position + 1)
            }
            Self::Node { kind: NodeKind::Namespace, name: "", .. } => {
                f.write_str("/namespace::*[name() = '']")
            }
            Self::Node { kind: NodeKind::Namespace, name, .. } => write!(f, "/namespace::{name}"),
            Self::Node { position, .. } => write!(f, "/text()[{}]", position + 1),
        }
    }
}

/// Whether a name may be written after a dot (RFC 9535 section 2.5.1.1).
#[must_use]
pub fn is_shorthand(name: &str) -> bool {
    let mut characters = name.chars();
    characters.next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_' || !c.is_ascii())
        && characters.all(|c| c.is_ascii_alphanumeric() || c == '_' || !c.is_ascii())
}

/// Whether a name may stand behind the `?` of a lookup (XPath 3.1 production 76; ASCII, and letters beyond it).
fn is_ncname(name: &str) -> bool {
    is_shorthand(name)
        || name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
            && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.'))
}

/// A step by name as people write it: `.vessel`, `['berth no']`; of an attribute `.@id`.
#[must_use]
pub fn name_step(name: &str) -> String {
    if is_shorthand(name.strip_prefix('@').unwrap_or(name)) {
        format!(".{name}")
    } else {
        bracketed(name)
    }
}

/// A name selector in the canonical form of RFC 9535 section 2.7.
fn bracketed(name: &str) -> String {
    let mut text = String::with_capacity(name.len() + 4);
    text.push_str("['");
    for character in name.chars() {
        match character {
            '\'' => text.push_str("\\'"),
            '\\' => text.push_str("\\\\"),
            '\u{8}' => text.push_str("\\b"),
            '\t' => text.push_str("\\t"),
            '\n' => text.push_str("\\n"),
            '\u{c}' => text.push_str("\\f"),
            '\r' => text.push_str("\\r"),
            control if control < ' ' => text.push_str(&format!("\\u{:04x}", control as u32)),
            other => text.push(other),
        }
    }
    text.push_str("']");
    text
}

/// Finds the value that was read at `origin` under `root`, and its location.
///
/// Values that were read stand in the text inside what holds them and apart from each other, so of all children only the one
/// that begins last, but not behind the origin, can hold it. Children that were computed may hold values from anywhere.
#[must_use]
pub fn locate<'a>(root: Value<'a>, origin: Origin) -> Option<Location<'a>> {
    Target { origin, node: None }.locate(root)
}

/// The same for a node of `root`, also where what holds it was read at the same place: the first cell of a row, a table of TOML.
#[must_use]
pub fn locate_node<'a>(root: Value<'a>, node: Value<'a>) -> Option<Location<'a>> {
    Target { origin: node.origin(), node: Some(node) }.locate(root)
}

/// The target of a search: a value that was read there, or just this one.
#[derive(Clone, Copy)]
struct Target<'a> {
    origin: Origin,
    node: Option<Value<'a>>,
}

impl<'a> Target<'a> {
    fn locate(&self, root: Value<'a>) -> Option<Location<'a>> {
        let mut steps = Vec::new();
        (self.origin.is_known() && self.descend(root, &mut steps)).then_some(Location(steps))
    }

    fn is(&self, value: Value<'a>) -> bool {
        value.origin() == self.origin && self.node.is_none_or(|node| is_same(node, value))
    }

    fn descend(&self, value: Value<'a>, steps: &mut Vec<Step<'a>>) -> bool {
        if self.is(value) {
            return true;
        }
        let (own, origin) = (value.origin(), self.origin);
        let was_read = own.is_known();
        if was_read && (own.region() != origin.region() || own.position() > origin.position()) {
            return false;
        }
        match value {
            Value::List(_, items) if was_read => {
                let begins_before =
                    |item: &Value<'_>| item.origin().position() <= origin.position();
                let next = items.partition_point(begins_before);
                let last = next.checked_sub(1).map(|index| (Step::Index(index), items[index]));
                last.is_some_and(|(step, item)| self.attempt(step, item, steps))
            }
            Value::List(_, items) => {
                let items = items.iter().enumerate();
                self.descend_into(items.map(|(index, item)| (Step::Index(index), *item)), steps)
            }
            Value::Map(_, map) => {
                let members = map.members().iter();
                self.descend_into(members.map(|m| (Step::Name(m.name), m.value)), steps)
            }
            Value::Element(_, element) => self.descend_element(element, steps),
            _ => false,
        }
    }

    /// Finds it in one of several children.
    fn descend_into(
        &self,
        children: impl Iterator<Item = (Step<'a>, Value<'a>)> + Clone,
        steps: &mut Vec<Step<'a>>,
    ) -> bool {
        let begin = |child: &(Step<'a>, Value<'a>)| child.1.origin().position();
        let read = children
            .clone()
            .filter(|child| child.1.origin().is_known() && begin(child) <= self.origin.position());
        // Of several that are the same value the first.
        let last = read.reduce(|last, next| if begin(&next) > begin(&last) { next } else { last });
        last.is_some_and(|(step, child)| self.attempt(step, child, steps))
            || children
                .filter(|(_, child)| !child.origin().is_known())
                .any(|(step, child)| self.attempt(step, child, steps))
    }

    fn attempt(&self, step: Step<'a>, child: Value<'a>, steps: &mut Vec<Step<'a>>) -> bool {
        steps.push(step);
        let found = self.descend(child, steps);
        if !found {
            steps.pop();
        }
        found
    }

    /// Finds it in an element: one of its attributes, or in its children.
    fn descend_element(&self, element: &'a Element<'a>, steps: &mut Vec<Step<'a>>) -> bool {
        let origin = self.origin;
        if let Some(found) = element.attributes.iter().find(|attribute| attribute.origin == origin)
        {
            steps.push(Step::Attribute(found.name));
            return true;
        }
        let children: Vec<_> = element.children().collect();
        let next = children.partition_point(|child| child.origin().position() <= origin.position());
        let Some(index) = next.checked_sub(1) else { return false };
        let Value::Element(_, child) = children[index] else { return false };
        let name = child.name;
        let twins = || {
            children.iter().filter_map(|twin| twin.as_element().filter(|twin| twin.name == name))
        };
        let position = twins().position(|twin| std::ptr::eq(twin, child)).unwrap_or_default();
        steps.push(Step::Element { name, position, is_only: twins().nth(1).is_none() });
        let found = self.is(children[index]) || self.descend_element(child, steps);
        if !found {
            steps.pop();
        }
        found
    }
}

/// Whether two values that were read at the same place are the same node.
fn is_same(a: Value<'_>, b: Value<'_>) -> bool {
    match (a, b) {
        (Value::List(_, a), Value::List(_, b)) => std::ptr::eq(a, b),
        (Value::Map(_, a), Value::Map(_, b)) => std::ptr::eq(a, b),
        (Value::Element(_, a), Value::Element(_, b)) => std::ptr::eq(a, b),
        (a, b) => a.kind() == b.kind(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings_of_a_location() {
        let location = Location::new(vec![
            Step::Name("sailings"),
            Step::Index(3),
            Step::Name("berth no"),
            Step::Name("it's\u{b}\n\\"),
        ]);
        assert_eq!(location.to_string(), r"$['sailings'][3]['berth no']['it\'s\u000b\n\\']");
        assert_eq!(location.readable(), r"$.sailings[3]['berth no']['it\'s\u000b\n\\']");
    }
}
