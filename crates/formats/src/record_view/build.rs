//! From elements to records: which members an element has, and what its text and content become.

use std::collections::HashSet;

use indexmap::IndexMap;
use kyanite_tree::{Arena, Content, Element, Map, Member, Name, Origin, Value, is_blank};

use super::{CONTENT, FEW, TEXT, View, preserves_space};
use crate::losses::Loss;

/// Records under way: the members and items of those that are open, as one stack each.
pub(super) struct RecordBuilder<'v, 'a> {
    pub(super) view: &'v mut View,
    pub(super) arena: &'a Arena,
    pub(super) members: Vec<Member<'a>>,
    pub(super) items: Vec<Value<'a>>,
}

/// Members that a record under way has room for before more is asked for.
const ROOM: usize = 64;

impl<'v, 'a> RecordBuilder<'v, 'a> {
    pub(super) fn new(view: &'v mut View, arena: &'a Arena) -> Self {
        Self { view, arena, members: Vec::new(), items: Vec::new() }
    }

    pub(super) fn element(
        &mut self,
        origin: Origin,
        element: &'a Element<'a>,
        place: Option<u32>,
    ) -> Value<'a> {
        let is_map = self.view.is_map(place);
        if let (Some(text), [], [] | [_], false) =
            (element.text, element.attributes, element.content, is_map)
        {
            self.lost(element, true);
            self.view.met_as(place, false);
            return Value::Untyped(origin, text);
        }
        // Most elements are no more than a text, which needs none.
        if self.members.capacity() == 0 {
            self.members.reserve(ROOM);
        }
        let first = self.members.len();
        for attribute in element.attributes {
            let name = self.arena.concat(&["@", attribute.name.qualified()]);
            self.shared(attribute.name, attribute.origin);
            self.members.push(Member { name, value: attribute.to_value() });
        }
        if let Some(text) = element.text {
            self.lost(element, true);
            if self.members.len() == first && !is_map {
                self.view.met_as(place, false);
                return Value::Untyped(origin, text);
            }
            if !text.is_empty() {
                self.members.push(Member { name: TEXT, value: Value::Untyped(origin, text) });
            }
        } else {
            self.children(origin, element, place);
        }
        self.view.met_as(place, true);
        let map = Map::from_read(self.arena, &mut self.members[first..], |_, _, _| ());
        self.members.truncate(first);
        Value::Map(origin, map)
    }

    /// Adds the content of an element that holds others, by names or in order.
    pub(super) fn children(&mut self, origin: Origin, element: &Element<'a>, place: Option<u32>) {
        let content = ContentForm::of(element);
        self.lost(element, content == ContentForm::Mixed);
        match content {
            ContentForm::Together => self.by_name(element, place),
            // A list that was declared is worth more than the order.
            ContentForm::Scattered if self.has_declared_list(element, place) => {
                self.view.losses.add(Loss::Order, origin);
                self.gathered(element, place);
            }
            ContentForm::Scattered | ContentForm::Mixed => {
                self.in_order(origin, element, place, content == ContentForm::Mixed);
            }
        }
    }

    /// Counts a name that kept its namespace since another has it, too.
    fn shared(&mut self, name: Name<'_>, origin: Origin) {
        if self.view.without_namespaces && origin.is_known() && !name.namespace().is_empty() {
            self.view.losses.add(Loss::Name, origin);
        }
    }

    /// Counts what a record has no place for; blanks on one line are content where elements are.
    fn lost(&mut self, element: &Element<'_>, keeps_text: bool) {
        for node in element.content {
            let (loss, at) = match node {
                Content::Comment(at, _) => (Loss::Comment, at),
                Content::Instruction(at, _) => (Loss::Instruction, at),
                Content::DocumentType(at, _) => (Loss::DocumentType, at),
                Content::Text(at, text) if !keeps_text && !text.contains('\n') => (Loss::Blank, at),
                Content::Element(at, child) => {
                    self.shared(child.name, *at);
                    continue;
                }
                Content::Text(..) => continue,
            };
            self.view.losses.add(loss, *at);
        }
    }

    /// Whether any of the child elements was declared to be a list.
    fn has_declared_list(&mut self, element: &Element<'a>, place: Option<u32>) -> bool {
        self.view.declared.iter().any(|declared| declared.is_list)
            && element.content.iter().filter_map(child).any(|(_, child)| {
                let place = self.view.seen(place, child.name.qualified());
                place.is_some_and(|place| self.view.is_list(place))
            })
    }

    /// Adds a member for each name of child elements, wherever these stand.
    fn gathered(&mut self, element: &Element<'a>, place: Option<u32>) {
        let mut groups: IndexMap<&str, Vec<(Origin, &Element<'a>)>> = IndexMap::new();
        for (origin, child) in element.content.iter().filter_map(child) {
            groups.entry(child.name.qualified()).or_default().push((origin, child));
        }
        for (name, group) in groups {
            let place = self.view.seen(place, name);
            let is_list = self.view.counts(place, group.len() > 1);
            let start = self.items.len();
            for (origin, child) in group {
                let record = self.element(origin, child, place);
                self.items.push(record);
            }
            let value = match &self.items[start..] {
                [only] if !is_list => *only,
                items => Value::List(Origin::NONE, self.arena.items(items)),
            };
            self.items.truncate(start);
            self.members.push(Member { name, value });
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
    fn in_order(
        &mut self,
        origin: Origin,
        element: &Element<'a>,
        place: Option<u32>,
        is_mixed: bool,
    ) {
        let start = self.items.len();
        // Text on both sides of a comment is one text.
        let mut joins = false;
        for node in element.content {
            match node {
                Content::Text(..) if !is_mixed => {}
                Content::Text(origin, text) => {
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
                Content::Element(origin, child) => {
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

pub(super) fn child<'a>(node: &Content<'a>) -> Option<(Origin, &'a Element<'a>)> {
    match node {
        Content::Element(origin, child) => Some((*origin, child)),
        _ => None,
    }
}

/// What an element holds that holds elements.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum ContentForm {
    /// Elements, those of one name together.
    Together,
    /// Elements, some of one name apart from each other.
    Scattered,
    /// Text among elements.
    Mixed,
}

impl ContentForm {
    fn of(element: &Element<'_>) -> Self {
        let keeps_space = preserves_space(element);
        let mut found = Self::Together;
        let mut last = "";
        let mut few = [""; FEW];
        let mut runs = 0;
        let mut many: HashSet<&str> = HashSet::new();
        for node in element.content {
            let name = match node {
                Content::Text(_, text) if keeps_space || !is_blank(text) => return Self::Mixed,
                Content::Element(_, child) if found == Self::Together => child.name.qualified(),
                _ => continue,
            };
            if name == last {
                continue;
            }
            let is_new = if runs < FEW {
                let is_new = !few[..runs].contains(&name);
                few[runs] = name;
                is_new
            } else {
                if runs == FEW {
                    many.extend(few);
                }
                many.insert(name)
            };
            if !is_new {
                found = Self::Scattered;
            }
            last = name;
            runs += 1;
        }
        found
    }
}
