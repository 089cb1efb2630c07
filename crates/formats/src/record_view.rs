//! The record view: how XML elements are seen as maps and lists, and how maps and lists become elements.
//!
//! Attributes are `@name` members and child elements members by their name; a child that is repeated is a list, an
//! element with only text is that text, text beside attributes is `#text`, and an empty element is `""`. Text mixed with
//! elements, and children whose order across names would be lost, become `#content`: a list in order, of texts and of
//! maps of one member. White space between elements is layout, not content, unless `xml:space="preserve"` says otherwise.
//!
//! This module goes from elements to maps; [`xml::write`](crate::xml::write) goes back by the same convention.
//!
//! ```
//! use kyanite_formats::record_view::View;
//! use kyanite_formats::{json, xml};
//! use kyanite_tree::Arena;
//!
//! let arena = Arena::new();
//! let text = "<pier no='4'><berth>A9</berth><berth>A10</berth></pier>";
//! let document = xml::document(text, &arena, xml::Options::default()).unwrap();
//! let record = View::default().record(document.value(), &arena);
//! let mut out = Vec::new();
//! json::write(record, json::Style::Compact, &mut out);
//! assert_eq!(out, br#"{"pier":{"@no":"4","berth":["A9","A10"]}}"#);
//! ```

use std::collections::HashSet;

use kyanite_tree::{Arena, Element, MapBuilder, Member, Node, Origin, Value, is_blank};

use crate::losses::{Loss, Losses};

/// The member that holds the text of an element with attributes.
pub const TEXT: &str = "#text";
/// The member that holds content in order.
pub const CONTENT: &str = "#content";
/// What the names of members that are attributes begin with.
pub const ATTRIBUTE: char = '@';

/// Turns elements into records, and remembers what it saw.
#[derive(Debug, Default)]
pub struct View {
    /// Members that are always lists: the last names of their paths, outermost first.
    lists: Vec<Vec<String>>,
    /// Every path of members that was met, as a tree.
    seen: Vec<Seen>,
    losses: Losses,
}

/// A member, at the place in records where it was met.
#[derive(Debug)]
struct Seen {
    name: String,
    parent: Option<u32>,
    children: Vec<u32>,
    is_list: bool,
    once: bool,
    repeated: bool,
}

/// The places in records that are told apart; past these, names are no structure but data.
const MOST_PLACES: usize = 10_000;

/// Up to so many runs of children are compared with each other; more go through a hash table.
const FEW: usize = 16;

impl View {
    /// A view that makes lists of the members at these paths, such as `vessel.crew`, even when they occur once. A leading
    /// `$.` stands for the document.
    #[must_use]
    pub fn new(lists: &[String], with_places: bool) -> Self {
        let steps = |path: &String| {
            let path = path.strip_prefix('$').unwrap_or(path);
            path.split('.').filter(|step| !step.is_empty()).map(str::to_owned).collect::<Vec<_>>()
        };
        Self {
            lists: lists.iter().map(steps).filter(|steps| !steps.is_empty()).collect(),
            seen: Vec::new(),
            losses: Losses::new(with_places),
        }
    }

    /// The value with a record in place of every element in it.
    #[must_use]
    pub fn record<'a>(&mut self, value: Value<'a>, arena: &'a Arena) -> Value<'a> {
        match value {
            Value::Element(origin, element) => self.element(origin, element, None, arena),
            Value::List(origin, items) if items.iter().any(|item| holds_elements(*item)) => {
                let items: Vec<_> = items.iter().map(|item| self.record(*item, arena)).collect();
                Value::List(origin, arena.items(&items))
            }
            Value::Map(origin, map) if holds_elements(value) => {
                let mut builder = MapBuilder::new();
                for Member { name, value } in map.members() {
                    let record = match *value {
                        Value::Element(at, element) => {
                            let seen = self.seen(None, name);
                            self.element(at, element, seen, arena)
                        }
                        other => self.record(other, arena),
                    };
                    builder.insert(name, record);
                }
                Value::Map(origin, builder.finish(arena))
            }
            other => other,
        }
    }

    /// What was lost in the records that were made.
    pub fn losses(&mut self) -> &mut Losses {
        &mut self.losses
    }

    /// Adds what another view with the same lists saw and lost.
    pub fn join(&mut self, other: &Self) {
        self.losses.add_all(&other.losses);
        let mut places: Vec<Option<u32>> = Vec::with_capacity(other.seen.len());
        for seen in &other.seen {
            // Parents stand before their children.
            let parent = seen.parent.map(|parent| places[parent as usize]);
            let place = match parent {
                Some(None) => None,
                parent => self.seen(parent.flatten(), &seen.name),
            };
            if let Some(place) = place {
                let own = &mut self.seen[place as usize];
                own.once |= seen.once;
                own.repeated |= seen.repeated;
            }
            places.push(place);
        }
    }

    /// The paths of members that occurred both once and repeated, without being told which it is.
    #[must_use]
    pub fn undecided(&self) -> Vec<String> {
        let both = self.seen.iter().filter(|seen| seen.once && seen.repeated && !seen.is_list);
        both.map(|seen| self.path(seen).join(".")).collect()
    }

    fn path<'s>(&'s self, seen: &'s Seen) -> Vec<&'s str> {
        let mut names = vec![seen.name.as_str()];
        let mut parent = seen.parent;
        while let Some(above) = parent {
            let above = &self.seen[above as usize];
            names.push(&above.name);
            parent = above.parent;
        }
        names.reverse();
        names
    }

    /// The place of the member called `name` below `parent`.
    #[inline]
    fn seen(&mut self, parent: Option<u32>, name: &str) -> Option<u32> {
        let found = match parent {
            Some(parent) => self.seen[parent as usize]
                .children
                .iter()
                .copied()
                .find(|child| self.seen[*child as usize].name == name),
            None => self
                .seen
                .iter()
                .position(|seen| seen.parent.is_none() && seen.name == name)
                .map(|position| position as u32),
        };
        if found.is_some() || self.seen.len() >= MOST_PLACES {
            return found;
        }
        let place = self.seen.len() as u32;
        self.seen.push(Seen {
            name: name.to_owned(),
            parent,
            children: Vec::new(),
            is_list: false,
            once: false,
            repeated: false,
        });
        if let Some(parent) = parent {
            self.seen[parent as usize].children.push(place);
        }
        let path = self.path(&self.seen[place as usize]);
        // A told path may begin above where the records do.
        let is_list = self
            .lists
            .iter()
            .any(|told| told.iter().rev().zip(path.iter().rev()).all(|(told, name)| told == name));
        self.seen[place as usize].is_list = is_list;
        Some(place)
    }

    fn element<'a>(
        &mut self,
        origin: Origin,
        element: &'a Element<'a>,
        place: Option<u32>,
        arena: &'a Arena,
    ) -> Value<'a> {
        let simple = element.text.filter(|_| element.content.len() <= 1);
        if let (Some(text), []) = (simple, element.attributes) {
            return Value::Untyped(origin, text);
        }
        let mut members = MapBuilder::new();
        for attribute in element.attributes {
            let name = arena.concat(&["@", attribute.name.qualified()]);
            members.insert(name, attribute.to_value());
        }
        for node in element.content {
            match node {
                Node::Comment(at, _) => self.losses.add(Loss::Comment, *at),
                Node::Instruction(at, _) => self.losses.add(Loss::Instruction, *at),
                Node::DocumentType(at, _) => self.losses.add(Loss::DocumentType, *at),
                Node::Element(..) | Node::Text(..) => {}
            }
        }
        if let Some(text) = element.text {
            if members.is_empty() {
                return Value::Untyped(origin, text);
            }
            if !text.is_empty() {
                members.insert(TEXT, Value::Untyped(origin, text));
            }
            return Value::Map(origin, members.finish(arena));
        }
        match runs(element) {
            Some(runs) => {
                for (name, children) in runs {
                    let place = self.seen(place, name);
                    let value = self.run(children, place, arena);
                    members.insert(name, value);
                }
            }
            None => {
                let items = self.in_order(element, place, arena);
                members.insert(CONTENT, Value::List(origin, arena.items(&items)));
            }
        }
        Value::Map(origin, members.finish(arena))
    }

    /// The children of one name: a record or, of several, a list of records.
    fn run<'a>(
        &mut self,
        children: Vec<Value<'a>>,
        place: Option<u32>,
        arena: &'a Arena,
    ) -> Value<'a> {
        let mut is_list = children.len() > 1;
        if let Some(place) = place {
            let seen = &mut self.seen[place as usize];
            seen.repeated |= is_list;
            seen.once |= !is_list;
            is_list |= seen.is_list;
        }
        let mut records = Vec::with_capacity(children.len());
        for child in children {
            if let Value::Element(origin, element) = child {
                records.push(self.element(origin, element, place, arena));
            }
        }
        match records.as_slice() {
            [record] if !is_list => *record,
            records => Value::List(Origin::NONE, arena.items(records)),
        }
    }

    /// The content as a list in order.
    fn in_order<'a>(
        &mut self,
        element: &Element<'a>,
        place: Option<u32>,
        arena: &'a Arena,
    ) -> Vec<Value<'a>> {
        let is_mixed = element
            .content
            .iter()
            .any(|node| matches!(node, Node::Text(_, text) if !is_blank(text)))
            || element.attributes.iter().any(|attribute| attribute.name.qualified() == "xml:space");
        let mut items: Vec<Value<'a>> = Vec::new();
        // Text on both sides of a comment is one text.
        let mut joins = false;
        for node in element.content {
            match node {
                Node::Text(..) if !is_mixed => {}
                Node::Text(origin, text) => {
                    let before = items.last().and_then(|item| item.as_text()).filter(|_| joins);
                    match (before, items.last_mut()) {
                        (Some(before), Some(last)) => {
                            *last = Value::Untyped(last.origin(), arena.concat(&[before, text]));
                        }
                        _ => items.push(Value::Untyped(*origin, text)),
                    }
                    joins = true;
                }
                Node::Element(origin, child) => {
                    let name = child.name.qualified();
                    let place = self.seen(place, name);
                    let record = self.element(*origin, child, place, arena);
                    items.push(arena.map([(name, record)]));
                    joins = false;
                }
                _ => {}
            }
        }
        items
    }
}

/// The child elements by name, if nothing but they and blank text is in the content, and those of one name stand
/// together.
fn runs<'a>(element: &Element<'a>) -> Option<Vec<(&'a str, Vec<Value<'a>>)>> {
    let keeps_space = element.attributes.iter().any(|attribute| {
        attribute.name.qualified() == "xml:space" && attribute.value == "preserve"
    });
    let mut runs: Vec<(&'a str, Vec<Value<'a>>)> = Vec::new();
    let mut names: HashSet<&'a str> = HashSet::new();
    for node in element.content {
        let (origin, child) = match node {
            Node::Text(_, text) if keeps_space || !is_blank(text) => return None,
            Node::Element(origin, child) => (*origin, *child),
            _ => continue,
        };
        let name = child.name.qualified();
        let value = Value::Element(origin, child);
        match runs.last_mut() {
            Some((last, run)) if *last == name => run.push(value),
            _ => {
                let is_known = if runs.len() < FEW {
                    runs.iter().any(|(known, _)| *known == name)
                } else {
                    if names.is_empty() {
                        names.extend(runs.iter().map(|(known, _)| *known));
                    }
                    !names.insert(name)
                };
                if is_known {
                    return None;
                }
                runs.push((name, vec![value]));
            }
        }
    }
    Some(runs)
}

/// Whether there are elements in a value.
#[must_use]
pub fn holds_elements(value: Value<'_>) -> bool {
    match value {
        Value::Element(..) => true,
        Value::List(_, items) => items.iter().any(|item| holds_elements(*item)),
        Value::Map(_, map) => map.members().iter().any(|member| holds_elements(member.value)),
        _ => false,
    }
}
