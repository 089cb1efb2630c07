//! The record view: how XML elements are seen as maps and lists, and how maps and lists become elements.
//!
//! Attributes are `@name` members and child elements members by their name; a child that is repeated is a list, an
//! element with only text is that text, text beside attributes is `#text`, and an empty element is `""`. Text mixed with
//! elements, and children whose order across names would be lost, become `#content`: a list in order, of texts and of
//! maps of one member. White space with a line end between elements is layout, not content, unless `xml:space="preserve"` says
//! otherwise; blanks on a line may be content, and are counted where they are lost.
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

mod build;

use indexmap::IndexMap;
use kyanite_tree::{Arena, Attribute, Element, MapBuilder, Member, Value, is_blank, near};

use crate::losses::Losses;
use build::RecordBuilder;

/// The member that holds the text of an element with attributes.
pub const TEXT: &str = "#text";
/// The member that holds content in order.
pub const CONTENT: &str = "#content";
/// What the names of members that are attributes begin with.
pub const ATTRIBUTE: char = '@';

/// Turns elements into records, and remembers what it saw.
#[derive(Debug, Default)]
pub struct View {
    declared: Vec<DeclaredMember>,
    /// Every path of members that was met, as a tree.
    seen: Vec<MemberPlace>,
    /// Those that stand in no other.
    roots: Siblings,
    losses: Losses,
    /// Whether a name that keeps its namespace is counted as a loss.
    without_namespaces: bool,
}

/// What records look like whatever an element holds.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct RecordShape {
    /// The paths of members that are always lists, such as `vessel.crew`: their last names are enough. A leading `$.` stands
    /// for the document.
    pub lists: Vec<String>,
    /// The paths of members that are always maps, their text under `#text`.
    pub maps: Vec<String>,
    /// Whether names were to do without their namespaces, so that one that keeps its own is a loss.
    pub without_namespaces: bool,
}

/// Whether the members at a path were declared to be lists or maps.
#[derive(Debug)]
struct DeclaredMember {
    /// As it was declared.
    path: String,
    /// Its names, outermost first.
    names: Vec<String>,
    is_list: bool,
    /// Whether a member was there.
    was_met: bool,
}

/// What a member was, here and there.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Undecided {
    /// A list where it is repeated, and a single value elsewhere.
    List,
    /// A map where it has attributes or children, and a text elsewhere.
    Map,
}

/// A member, at the place in records where it was met.
#[derive(Debug)]
struct MemberPlace {
    name: String,
    parent: Option<u32>,
    children: Siblings,
    is_list: bool,
    is_map: bool,
    once: bool,
    repeated: bool,
    as_text: bool,
    as_map: bool,
}

/// Members that stand in the same place, by their names.
#[derive(Clone, Debug, Default)]
struct Siblings {
    places: IndexMap<Box<str>, u32>,
    /// The number of the one that comes next, if they come in the order in which they came before.
    expected: usize,
}

impl Siblings {
    /// The place of the one that is called so.
    #[inline]
    fn find(&mut self, name: &str) -> Option<u32> {
        let expected = self.places.get_index(self.expected).filter(|(own, _)| ***own == *name);
        let place = match expected {
            Some((_, place)) => *place,
            None => {
                let (number, _, place) = self.places.get_full(name)?;
                self.expected = number;
                *place
            }
        };
        self.expected += 1;
        Some(place)
    }
}

/// The most places in records that are known one by one; past these, names are no structure but data.
const MOST_PLACES: usize = 10_000;

/// The most runs of children that are compared with each other; more go through a hash table.
const FEW: usize = 16;

impl View {
    /// A view that makes records of that shape.
    #[must_use]
    pub fn new(shape: &RecordShape, with_places: bool) -> Self {
        let declared = |is_list: bool| {
            move |path: &String| {
                let names = path.strip_prefix('$').unwrap_or(path).split('.');
                let names = names.filter(|name| !name.is_empty()).map(str::to_owned).collect();
                DeclaredMember { path: path.clone(), names, is_list, was_met: false }
            }
        };
        let (lists, maps) =
            (shape.lists.iter().map(declared(true)), shape.maps.iter().map(declared(false)));
        Self {
            declared: lists.chain(maps).filter(|declared| !declared.names.is_empty()).collect(),
            losses: Losses::new(with_places),
            without_namespaces: shape.without_namespaces,
            ..Self::default()
        }
    }

    /// The value with a record in place of every element in it.
    #[must_use]
    pub fn record<'a>(&mut self, value: Value<'a>, arena: &'a Arena) -> Value<'a> {
        match value {
            Value::Element(origin, element) => {
                RecordBuilder::new(self, arena).element(origin, element, None)
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
                            RecordBuilder::new(self, arena).element(at, element, seen)
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

    /// Adds what another view of the same shape saw and lost.
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
                own.as_text |= seen.as_text;
                own.as_map |= seen.as_map;
            }
            places.push(place);
        }
        for (own, declared) in self.declared.iter_mut().zip(&other.declared) {
            own.was_met |= declared.was_met;
        }
    }

    /// The paths of members that were one thing here and another there, without being declared to be either.
    #[must_use]
    pub fn undecided(&self) -> Vec<(Undecided, String)> {
        let mut found = Vec::new();
        for seen in &self.seen {
            let is_list = seen.once && seen.repeated && !seen.is_list;
            let is_map = seen.as_text && seen.as_map && !seen.is_map;
            for (is_so, what) in [(is_list, Undecided::List), (is_map, Undecided::Map)] {
                if is_so {
                    found.push((what, self.path(seen).join(".")));
                }
            }
        }
        // In whatever order threads met them.
        found.sort_unstable_by(|(_, a), (_, b)| a.cmp(b));
        found
    }

    /// The paths that were declared, but that no member had of those that were met: what it was to be, and the names
    /// near to the last one of the path.
    pub fn unmet(&self) -> impl Iterator<Item = (&str, Undecided, Vec<&str>)> {
        let unmet =
            self.declared.iter().filter(|declared| !declared.was_met && !self.seen.is_empty());
        unmet.map(|declared| {
            let last = declared.names.last().map_or("", String::as_str);
            let mut near = near(last, self.seen.iter().map(|seen| seen.name.as_str()));
            near.dedup();
            let what = if declared.is_list { Undecided::List } else { Undecided::Map };
            (declared.path.as_str(), what, near)
        })
    }

    /// Whether the last of `names` are those of the path to a member; a declared path may begin above where the records do.
    fn fits(&self, names: &[String], seen: &MemberPlace) -> bool {
        let mut names = names.iter().rev();
        let mut at = Some(seen);
        while let (Some(seen), Some(name)) = (at, names.next()) {
            if seen.name != *name {
                return false;
            }
            at = seen.parent.map(|parent| &self.seen[parent as usize]);
        }
        true
    }

    fn path<'s>(&'s self, seen: &'s MemberPlace) -> Vec<&'s str> {
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

    /// Notes whether a member is a map or a text.
    #[inline]
    pub(crate) fn met_as(&mut self, place: Option<u32>, is_map: bool) {
        if let Some(place) = place {
            let seen = &mut self.seen[place as usize];
            seen.as_map |= is_map;
            seen.as_text |= !is_map;
        }
    }

    /// Whether a member is always a list.
    pub(crate) fn is_list(&self, place: u32) -> bool {
        self.seen[place as usize].is_list
    }

    /// Whether a member is always a map.
    pub(crate) fn is_map(&self, place: Option<u32>) -> bool {
        place.is_some_and(|place| self.seen[place as usize].is_map)
    }

    /// The place of the member called `name` below `parent`.
    #[inline]
    pub(crate) fn seen(&mut self, parent: Option<u32>, name: &str) -> Option<u32> {
        let siblings = match parent {
            Some(parent) => &mut self.seen[parent as usize].children,
            None => &mut self.roots,
        };
        let found = siblings.find(name);
        if found.is_some() || self.seen.len() >= MOST_PLACES {
            return found;
        }
        Some(self.see(parent, name))
    }

    #[cold]
    fn see(&mut self, parent: Option<u32>, name: &str) -> u32 {
        let place = self.seen.len() as u32;
        let mut seen = MemberPlace {
            name: name.to_owned(),
            parent,
            children: Siblings::default(),
            is_list: false,
            is_map: false,
            once: false,
            repeated: false,
            as_text: false,
            as_map: false,
        };
        let mut declared = std::mem::take(&mut self.declared);
        for member in &mut declared {
            if self.fits(&member.names, &seen) {
                member.was_met = true;
                seen.is_list |= member.is_list;
                seen.is_map |= !member.is_list;
            }
        }
        self.declared = declared;
        self.seen.push(seen);
        let siblings = match parent {
            Some(parent) => &mut self.seen[parent as usize].children,
            None => &mut self.roots,
        };
        siblings.places.insert(name.into(), place);
        place
    }
}

/// Whether a text between elements is layout: blank, with a line end.
pub(crate) fn is_layout(text: &str) -> bool {
    is_blank(text) && text.contains('\n')
}

/// Whether an element says that white space in it is content.
pub(crate) fn preserves_space(element: &Element<'_>) -> bool {
    let is_preserve =
        |a: &Attribute<'_>| a.value == "preserve" && a.name.qualified() == "xml:space";
    element.attributes.iter().any(is_preserve)
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
