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

use kyanite_tree::{
    Arena, Attribute, Element, Map, MapBuilder, Member, Node, Origin, Value, is_blank,
};

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
            Value::Element(origin, element) => {
                Making::new(self, arena).element(origin, element, None)
            }
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
                            Making::new(self, arena).element(at, element, seen)
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

    /// Notes whether a member occurs once or repeated; tells whether it is a list.
    #[inline]
    pub(crate) fn counts(&mut self, place: Option<u32>, is_repeated: bool) -> bool {
        let Some(place) = place else { return is_repeated };
        let seen = &mut self.seen[place as usize];
        seen.repeated |= is_repeated;
        seen.once |= !is_repeated;
        is_repeated || seen.is_list
    }

    /// Whether a member is always a list.
    pub(crate) fn is_list(&self, place: u32) -> bool {
        self.seen[place as usize].is_list
    }

    /// The place of the member called `name` below `parent`.
    #[inline]
    pub(crate) fn seen(&mut self, parent: Option<u32>, name: &str) -> Option<u32> {
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
}

/// Records under way: the members and items of those that are open, as one stack each.
struct Making<'v, 'a> {
    view: &'v mut View,
    arena: &'a Arena,
    members: Vec<Member<'a>>,
    items: Vec<Value<'a>>,
}

/// Members that a record under way has room for before more is asked for.
const ROOM: usize = 64;

impl<'v, 'a> Making<'v, 'a> {
    fn new(view: &'v mut View, arena: &'a Arena) -> Self {
        Self { view, arena, members: Vec::with_capacity(ROOM), items: Vec::new() }
    }

    fn element(
        &mut self,
        origin: Origin,
        element: &'a Element<'a>,
        place: Option<u32>,
    ) -> Value<'a> {
        if let (Some(text), [], [] | [_]) = (element.text, element.attributes, element.content) {
            self.lost(element);
            return Value::Untyped(origin, text);
        }
        let first = self.members.len();
        for attribute in element.attributes {
            let name = self.arena.concat(&["@", attribute.name.qualified()]);
            self.members.push(Member { name, value: attribute.to_value() });
        }
        self.lost(element);
        if let Some(text) = element.text {
            if self.members.len() == first {
                return Value::Untyped(origin, text);
            }
            if !text.is_empty() {
                self.members.push(Member { name: TEXT, value: Value::Untyped(origin, text) });
            }
        } else if keeps_order(element) {
            self.in_order(origin, element, place);
        } else {
            self.by_name(element, place);
        }
        let map = Map::from_read(self.arena, &mut self.members[first..], |_, _, _| ());
        self.members.truncate(first);
        Value::Map(origin, map)
    }

    /// Counts what a record has no place for.
    fn lost(&mut self, element: &Element<'_>) {
        for node in element.content {
            match node {
                Node::Comment(at, _) => self.view.losses.add(Loss::Comment, *at),
                Node::Instruction(at, _) => self.view.losses.add(Loss::Instruction, *at),
                Node::DocumentType(at, _) => self.view.losses.add(Loss::DocumentType, *at),
                Node::Element(..) | Node::Text(..) => {}
            }
        }
    }

    /// Adds a member for each name of child elements; those of one name stand together.
    fn by_name(&mut self, element: &Element<'a>, place: Option<u32>) {
        let mut children = element.content.iter().filter_map(child).peekable();
        while let Some((origin, first)) = children.next() {
            let name = first.name.qualified();
            let place = self.view.seen(place, name);
            let is_repeated =
                children.peek().is_some_and(|(_, next)| next.name.qualified() == name);
            let is_list = self.view.counts(place, is_repeated);
            let record = self.element(origin, first, place);
            if !is_list {
                self.members.push(Member { name, value: record });
                continue;
            }
            let start = self.items.len();
            self.items.push(record);
            while let Some((origin, next)) =
                children.next_if(|(_, next)| next.name.qualified() == name)
            {
                let record = self.element(origin, next, place);
                self.items.push(record);
            }
            let list = Value::List(Origin::NONE, self.arena.items(&self.items[start..]));
            self.items.truncate(start);
            self.members.push(Member { name, value: list });
        }
    }

    /// Adds the content as a list in order.
    fn in_order(&mut self, origin: Origin, element: &Element<'a>, place: Option<u32>) {
        let is_mixed = preserves_space(element)
            || element
                .content
                .iter()
                .any(|node| matches!(node, Node::Text(_, text) if !is_blank(text)));
        let start = self.items.len();
        // Text on both sides of a comment is one text.
        let mut joins = false;
        for node in element.content {
            match node {
                Node::Text(..) if !is_mixed => {}
                Node::Text(origin, text) => {
                    let before = self.items[start..].last().and_then(|item| item.as_text());
                    match (before.filter(|_| joins), self.items.last_mut()) {
                        (Some(before), Some(last)) => {
                            let joined = self.arena.concat(&[before, text]);
                            *last = Value::Untyped(last.origin(), joined);
                        }
                        _ => self.items.push(Value::Untyped(*origin, text)),
                    }
                    joins = true;
                }
                Node::Element(origin, child) => {
                    let name = child.name.qualified();
                    let place = self.view.seen(place, name);
                    let record = self.element(*origin, child, place);
                    self.items.push(self.arena.map([(name, record)]));
                    joins = false;
                }
                _ => {}
            }
        }
        let list = Value::List(origin, self.arena.items(&self.items[start..]));
        self.items.truncate(start);
        self.members.push(Member { name: CONTENT, value: list });
    }
}

fn child<'a>(node: &Node<'a>) -> Option<(Origin, &'a Element<'a>)> {
    match node {
        Node::Element(origin, child) => Some((*origin, child)),
        _ => None,
    }
}

fn preserves_space(element: &Element<'_>) -> bool {
    let is_preserve =
        |a: &Attribute<'_>| a.value == "preserve" && a.name.qualified() == "xml:space";
    element.attributes.iter().any(is_preserve)
}

/// Whether a record by names would lose the order of the content: text stands beside the elements, or those of one name do
/// not stand together.
fn keeps_order(element: &Element<'_>) -> bool {
    let keeps_space = preserves_space(element);
    let mut last = "";
    let mut few = [""; FEW];
    let mut runs = 0;
    let mut many: HashSet<&str> = HashSet::new();
    for node in element.content {
        let name = match node {
            Node::Text(_, text) if keeps_space || !is_blank(text) => return true,
            Node::Element(_, child) => child.name.qualified(),
            _ => continue,
        };
        if name == last {
            continue;
        }
        if runs < FEW {
            if few[..runs].contains(&name) {
                return true;
            }
            few[runs] = name;
        } else {
            if runs == FEW {
                many.extend(few);
            }
            if !many.insert(name) {
                return true;
            }
        }
        last = name;
        runs += 1;
    }
    false
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
