//! From values to nodes and back.

use super::{Node, NodeKind, Nodes, NodesBuilder};
use crate::{Arena, Attribute, Content, Element, Location, Name, Number, Origin, Step, Value};

impl<'a> Nodes<'a> {
    /// A table of the nodes of a value: of an element or an XML document, or of maps and lists.
    #[must_use]
    pub fn of(value: Value<'a>) -> Self {
        NodesBuilder::new().of(value)
    }

    /// A table of the nodes of another value, in the memory of this one: for values one after another.
    #[must_use]
    pub fn refilled(self, value: Value<'a>) -> Self {
        NodesBuilder::reusing(self).of(value)
    }

    /// The same for an element within others, outermost first, of which only the names and attributes are known.
    #[must_use]
    pub fn refilled_within(self, value: Value<'a>, around: &[&'a Element<'a>]) -> Self {
        let mut builder = NodesBuilder::reusing(self);
        for element in around {
            builder.open(element.name, Origin::NONE);
            builder.attributes(element.attributes);
        }
        builder.of(value)
    }
}

/// A value whose nodes are being added, and what is left of it.
enum Open<'a> {
    Element(std::slice::Iter<'a, Content<'a>>),
    Map(std::slice::Iter<'a, crate::Member<'a>>),
    List(std::slice::Iter<'a, Value<'a>>),
}

impl<'a> NodesBuilder<'a> {
    /// The table of a value.
    fn of(mut self, value: Value<'a>) -> Nodes<'a> {
        self.begins_at(value.origin());
        self.value("", value);
        self.finish()
    }

    /// Adds a value with all that is in it. An explicit stack: values may nest deeper than the program's.
    fn value(&mut self, key: &'a str, value: Value<'a>) {
        let mut open: Vec<Open<'a>> = Vec::new();
        let mut next = Some((key, value));
        loop {
            if let Some((key, value)) = next.take() {
                open.extend(self.begin(key, value));
            }
            match open.last_mut() {
                None => return,
                Some(Open::Map(members)) => match members.next() {
                    Some(member) => next = Some((member.name, member.value)),
                    None => self.end(&mut open),
                },
                Some(Open::List(items)) => match items.next() {
                    Some(item) => next = Some(("", *item)),
                    None => self.end(&mut open),
                },
                Some(Open::Element(content)) => match content.next() {
                    None => self.end(&mut open),
                    Some(Content::Element(origin, child)) => {
                        next = Some(("", Value::Element(*origin, child)));
                    }
                    Some(other) => self.content(*other),
                },
            }
        }
    }

    fn end(&mut self, open: &mut Vec<Open<'a>>) {
        open.pop();
        self.close();
    }

    /// Adds the node of a value; gives what is in it, if it holds others.
    fn begin(&mut self, key: &'a str, value: Value<'a>) -> Option<Open<'a>> {
        match value {
            Value::Element(origin, element) => {
                if element.is_document() {
                    self.open_document(origin);
                } else {
                    self.open(element.name, origin);
                    self.attributes(element.attributes);
                }
                return Some(Open::Element(element.content.iter()));
            }
            Value::Map(origin, map) => {
                self.open_value(NodeKind::Map, key, origin);
                return Some(Open::Map(map.members().iter()));
            }
            Value::List(origin, items) => {
                self.open_value(NodeKind::List, key, origin);
                return Some(Open::List(items.iter()));
            }
            Value::Null(origin) => self.scalar(NodeKind::Null, key, "null", origin),
            Value::Boolean(origin, value) => {
                let text = if value { "true" } else { "false" };
                self.scalar(NodeKind::Boolean, key, text, origin);
            }
            Value::Number(origin, number) => {
                self.scalar(NodeKind::Number, key, number.as_str(), origin);
            }
            Value::Text(origin, text) | Value::Untyped(origin, text) => {
                self.scalar(NodeKind::Text, key, text, origin);
            }
            Value::Foreign(origin, foreign) => {
                self.scalar(NodeKind::Text, key, foreign.text, origin);
            }
        }
        None
    }
}

/// An element that is made of a node, and what is left of that.
struct Made<'d> {
    node: Node<'d>,
    children: super::Children<'d>,
    content: Vec<Content<'d>>,
}

impl<'d> Node<'d> {
    /// The node as a value: an element or a document with all that is in it; of the others their text, which of an
    /// attribute is untyped.
    pub fn to_value(self, arena: &'d Arena) -> Value<'d> {
        let (origin, text) = (self.origin(), self.text());
        match self.kind() {
            NodeKind::Element | NodeKind::Document => self.element(arena),
            NodeKind::Attribute => Value::Untyped(origin, text),
            NodeKind::Number => Value::Number(origin, Number::from_checked(text)),
            NodeKind::Boolean => Value::Boolean(origin, text == "true"),
            NodeKind::Null => Value::Null(origin),
            NodeKind::List => {
                let items: Vec<_> = self.children().map(|item| item.to_value(arena)).collect();
                arena.list(&items).with_origin(origin)
            }
            NodeKind::Map => arena
                .map(self.children().map(|m| (m.name().qualified(), m.to_value(arena))))
                .with_origin(origin),
            _ => Value::Text(origin, text),
        }
    }

    fn element(self, arena: &'d Arena) -> Value<'d> {
        let begin = |node: Self| Made { node, children: node.children(), content: Vec::new() };
        let mut open = vec![begin(self)];
        loop {
            let Some(made) = open.last_mut() else { return Value::NULL };
            match made.children.next_of_all() {
                Some(child) => match child.kind() {
                    NodeKind::Element => open.push(begin(child)),
                    _ => made.content.extend(child.leaf(arena)),
                },
                None => {
                    let element = made.node.finish(&made.content, arena);
                    let origin = made.node.origin();
                    open.pop();
                    match open.last_mut() {
                        Some(parent) => parent.content.push(Content::Element(origin, element)),
                        None => return Value::Element(origin, element),
                    }
                }
            }
        }
    }

    /// What holds no others, as content of an element.
    fn leaf(self, arena: &'d Arena) -> Option<Content<'d>> {
        let (origin, text) = (self.origin(), self.text());
        Some(match self.kind() {
            NodeKind::Text => Content::Text(origin, text),
            NodeKind::Comment => Content::Comment(origin, text),
            NodeKind::Instruction => {
                Content::Instruction(origin, arena.pair(self.name().qualified(), text))
            }
            NodeKind::DocumentType => Content::DocumentType(origin, text),
            _ => return None,
        })
    }

    fn finish(self, content: &[Content<'d>], arena: &'d Arena) -> &'d Element<'d> {
        let is_document = self.kind() == NodeKind::Document;
        let attributes: Vec<_> = if is_document { Vec::new() } else { self.written(arena) };
        let has_elements = content.iter().any(|n| matches!(n, Content::Element(..)));
        let text = match content {
            _ if has_elements || is_document => None,
            [] => Some(""),
            [Content::Text(_, text)] => Some(*text),
            _ => Some(arena.text(&self.string_value())),
        };
        arena.element(Element {
            name: self.name(),
            attributes: arena.attributes(&attributes),
            content: arena.nodes(content),
            text,
        })
    }

    /// The attributes as they are written, declarations of namespaces among them.
    fn written(self, arena: &'d Arena) -> Vec<Attribute<'d>> {
        self.beside_content()
            .map(|node| {
                let name = match (node.kind(), node.name().qualified()) {
                    (NodeKind::Attribute, _) => node.name(),
                    (_, "") => Name::new("xmlns", XMLNS),
                    (_, prefix) => Name::new(arena.concat(&["xmlns:", prefix]), XMLNS),
                };
                Attribute { name, value: node.text(), origin: node.origin() }
            })
            .collect()
    }

    /// Where it stands, as a path: of XPath in XML, and of names and indexes in maps and lists. Comments, texts and the like
    /// end it with a step of their kind.
    #[must_use]
    pub fn location(self) -> Location<'d> {
        let mut steps = Vec::new();
        let mut node = Some(self);
        while let Some(here) = node.filter(|node| node.kind() != NodeKind::Document) {
            steps.extend(here.step());
            node = here.parent();
        }
        steps.reverse();
        Location::new(steps)
    }

    fn step(self) -> Option<Step<'d>> {
        let name = self.name();
        let siblings = || self.parent().into_iter().flat_map(Self::children);
        let twins = || siblings().filter(|twin| twin.kind() == self.kind() && twin.name() == name);
        let position = || twins().take_while(|twin| *twin != self).count();
        let is_only = || twins().nth(1).is_none();
        Some(match self.kind() {
            NodeKind::Document => return None,
            NodeKind::Attribute => Step::Attribute(name),
            NodeKind::Element => Step::Element { name, position: position(), is_only: is_only() },
            _ => match self.parent().map(Self::kind) {
                Some(NodeKind::Map) => Step::Name(name.qualified()),
                Some(NodeKind::List) => Step::Index(self.index()),
                // The root of a document of maps and lists takes no step.
                Some(NodeKind::Document) if !self.is_xml() => return None,
                _ => Step::Node { kind: self.kind(), name: name.qualified(), position: position() },
            },
        })
    }

    fn is_xml(self) -> bool {
        matches!(self.kind(), NodeKind::Text | NodeKind::Comment | NodeKind::Instruction)
            && self.nodes().root().children().any(|node| node.kind() == NodeKind::Element)
            || matches!(self.kind(), NodeKind::Namespace)
    }
}

/// The namespace of declarations of namespaces (Namespaces in XML 1.0 section 3).
const XMLNS: &str = "http://www.w3.org/2000/xmlns/";

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{NameTest, Origin};

    fn document<'a>(arena: &'a Arena) -> Value<'a> {
        let plate =
            |text| Attribute { name: Name::plain("plate"), value: text, origin: Origin::NONE };
        let leaf = |text: &'static str| {
            let content = arena.nodes(&[Content::Text(Origin::NONE, text)]);
            let attributes = arena.attributes(&[plate(text)]);
            let name = Name::plain("vehicle");
            Content::Element(
                Origin::NONE,
                arena.element(Element { name, attributes, content, text: Some(text) }),
            )
        };
        let content = [leaf("NX 1"), Content::Comment(Origin::NONE, "next"), leaf("NX 2")];
        let deck = Element {
            name: Name::plain("deck"),
            attributes: &[],
            content: arena.nodes(&content),
            text: None,
        };
        let content = [Content::Element(Origin::NONE, arena.element(deck))];
        let root = Element {
            name: Name::plain(""),
            attributes: &[],
            content: arena.nodes(&content),
            text: None,
        };
        Value::Element(Origin::NONE, arena.element(root))
    }

    #[test]
    fn a_value_comes_back_as_it_was() {
        let arena = Arena::new();
        let xml = document(&arena);
        let list = arena.list(&[Value::text("a"), Value::NULL, arena.integer(4)]);
        let map = arena.map([("b", list), ("c", Value::boolean(true)), ("d", arena.list(&[]))]);
        for value in [xml, map, list] {
            let nodes = Nodes::of(value);
            let root = match value {
                Value::Element(..) => nodes.root(),
                _ => nodes.root().children().next().unwrap(),
            };
            assert!(crate::equal(root.to_value(&arena), value), "{value:?}");
        }
    }

    #[test]
    fn a_table_filled_anew_is_that_of_the_new_value() {
        let arena = Arena::new();
        let xml = document(&arena);
        let few = arena.map([("vehicle", Value::boolean(true)), ("b", arena.integer(4))]);
        let many: Vec<_> = (0..100).map(|n| (arena.text(&format!("k{n}")), Value::NULL)).collect();
        let many = arena.map(many);
        let mut table = Nodes::of(xml);
        for value in [few, xml, many, xml, few] {
            table = table.refilled(value);
            let fresh = Nodes::of(value);
            let row = |node: Node<'_>| {
                let parent = node.parent().map(Node::id);
                (node.kind(), node.name().qualified().to_owned(), node.text().to_owned(), parent)
            };
            let rows = |nodes: &Nodes<'_>| nodes.root().descendants().map(row).collect::<Vec<_>>();
            assert_eq!(rows(&table), rows(&fresh));
            for name in ["vehicle", "k7", "b"] {
                let test = NameTest::Name { namespace: "", local: name };
                let found = |nodes: &Nodes<'_>| {
                    let matches = nodes.matches(test);
                    nodes.root().descendants().filter(|node| matches.has(*node)).count()
                };
                assert_eq!(found(&table), found(&fresh), "{name}");
            }
        }
    }

    #[test]
    fn every_way_through_the_nodes_agrees_with_every_other() {
        let arena = Arena::new();
        let nodes = Nodes::of(document(&arena));
        let all: Vec<Node<'_>> =
            std::iter::once(nodes.root()).chain(nodes.root().descendants()).collect();
        for node in &all {
            let children: Vec<_> = node.children().collect();
            for pair in children.windows(2) {
                assert_eq!(pair[0].next_sibling(), Some(pair[1]));
                assert_eq!(pair[1].previous_sibling(), Some(pair[0]));
                assert!(pair[0] < pair[1]);
            }
            assert!(children.iter().all(|child| child.parent() == Some(*node)));
            // Each node is before, behind, around, inside, or the node itself: exactly one of these.
            let mut found: Vec<_> = node.ancestors().collect();
            found.extend(node.preceding());
            found.push(*node);
            found.extend(node.descendants());
            found.extend(node.following());
            found.sort();
            assert_eq!(found, all);
        }
        let second = all[5];
        assert_eq!(second.location().to_string(), "/deck[1]/vehicle[2]");
        assert_eq!(
            second.attributes().next().unwrap().location().to_string(),
            "/deck[1]/vehicle[2]/@plate"
        );
        assert_eq!(all[4].location().to_string(), "/deck[1]/comment()[1]");
        assert_eq!(nodes.root().string_value(), "NX 1NX 2");
    }

    #[test]
    fn values_of_maps_and_lists_know_their_parent_and_key() {
        let arena = Arena::new();
        let list = arena.list(&[Value::text("a"), Value::NULL]);
        let nodes = Nodes::of(arena.map([("berths", list)]));
        let null = nodes.root().descendants().last().unwrap();
        assert_eq!((null.kind(), null.index()), (NodeKind::Null, 1));
        assert_eq!(null.parent().unwrap().name().qualified(), "berths");
        assert_eq!(null.location().to_string(), "$['berths'][1]");
    }
}
