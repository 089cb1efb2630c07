//! A document as a tree of lines that open and close, for an interface to show.
//!
//! Lines are made when their parent opens; a closed node keeps only its value.
//!
//! ```
//! use kyanite_browse::{Outline, Tree};
//! use kyanite_formats::json::{ReaderOptions, document};
//! use kyanite_tree::Arena;
//!
//! let arena = Arena::new();
//! let read = document(r#"{"routes": [{"id": "R1"}], "page": 1}"#, &arena, ReaderOptions::default());
//! let mut tree = Tree::new(read.unwrap().0);
//! assert_eq!(tree.len(), 3);
//! tree.toggle(1);
//! let names: Vec<String> = (0..tree.len()).map(|at| tree.line(at).unwrap().name).collect();
//! assert_eq!(names, ["", "routes", "[0]", "page"]);
//! assert_eq!(tree.path(2), "$.routes[0]");
//! ```

mod large;

use std::collections::HashMap;
use std::ops::Range;

use kyanite_formats::json;
use kyanite_formats::record_view::View;
use kyanite_tree::{Arena, Content, Element, Location, NodeKind, Step, Value, counted, is_blank};

pub use large::{Bytes, LargeTree, Notation, PAGE};

/// Lines that open and close. A line has a number, from 0, among those that are seen.
pub trait Outline<'a> {
    /// How many lines are seen.
    fn len(&self) -> usize;

    /// Whether no line is seen: there is always the document itself.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// A line as it is shown.
    fn line(&self, line: usize) -> Option<Line>;

    /// The path of a line: JSONPath (RFC 9535), or in XML XPath.
    fn path(&self, line: usize) -> String;

    /// The path of a place; of a large document the byte, if its path is not known yet.
    fn path_at(&self, position: &Position<'a>) -> Option<String>;

    /// The whole value of a line: as JSON, or a text as it is; of a large document its first megabyte.
    fn whole(&self, line: usize) -> String;

    /// Opens a line that is closed, or closes it; tells whether it has lines below it.
    fn toggle(&mut self, line: usize) -> bool;

    /// The line that a line stands below.
    fn parent(&self, line: usize) -> usize;

    /// Opens all lines up to a depth, and closes those below. More than `most` lines are not opened: gives whether that was all.
    fn open_to(&mut self, line: usize, depth: usize, most: usize) -> bool;

    /// Where a line is, by the numbers of the children on the way: it can be gone to again in another outline.
    fn numbers(&self, line: usize) -> Vec<u32>;

    /// Opens every node around a place, as far as they exist; returns the line of the place, or of the nearest node that exists.
    fn show_numbers(&mut self, numbers: &[u32]) -> usize;

    /// Opens all that a place stands in; gives its line.
    fn show(&mut self, position: &Position<'a>) -> Option<usize>;

    /// The places whose name or scalar holds a text, in the order of the document, upper and lower case alike: the first `most`, and how
    /// many there are. `None` where the document is not held, so that its bytes have to be searched.
    fn search(&self, text: &str, most: usize) -> Option<(Vec<Position<'a>>, usize)>;

    /// Scans about `most` further bytes for lines; returns whether any were left to scan.
    fn work(&mut self, _most: usize) -> bool {
        false
    }
}

/// A place in a document.
#[derive(Clone, PartialEq, Debug)]
pub enum Position<'a> {
    /// By the steps to it.
    Steps(Vec<Step<'a>>),
    /// By a byte of it.
    Byte(u64),
}

/// A document that is held, of which some lines are open.
#[derive(Debug)]
pub struct Tree<'a> {
    nodes: Vec<Node<'a>>,
    /// The lines that are seen, by their nodes.
    lines: Vec<u32>,
}

#[derive(Debug)]
struct Node<'a> {
    value: Value<'a>,
    step: Option<Step<'a>>,
    parent: u32,
    depth: u32,
    /// Its children, once it was opened.
    children: Option<Range<u32>>,
    is_open: bool,
}

/// A line as it is shown.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Line {
    /// How far in it stands.
    pub depth: usize,
    /// What it is called: the name of a member, the index of an item, an element or attribute; empty for the document.
    pub name: String,
    /// The value, where it is a scalar.
    pub value: Option<String>,
    /// Of lists, maps and elements: what is in it, in words; of all else the type.
    pub kind: String,
    /// Whether it has lines below it, and whether these are seen.
    pub is_open: Option<bool>,
}

/// The children of a value with the steps to them.
fn children(value: Value<'_>) -> Vec<(Step<'_>, Value<'_>)> {
    match value {
        Value::Map(_, map) => {
            map.members().iter().map(|member| (Step::Name(member.name), member.value)).collect()
        }
        Value::List(_, items) => {
            items.iter().enumerate().map(|(at, item)| (Step::Index(at), *item)).collect()
        }
        Value::Element(_, element) => in_element(element),
        _ => Vec::new(),
    }
}

/// Attributes, child elements, and the text between them.
fn in_element<'a>(element: &'a Element<'a>) -> Vec<(Step<'a>, Value<'a>)> {
    let attributes = element.attributes.iter();
    let mut found: Vec<(Step<'a>, Value<'a>)> =
        attributes.map(|of| (Step::Attribute(of.name), of.to_value())).collect();
    if element.text.is_some() {
        return found;
    }
    let mut counts: HashMap<(&str, &str), usize> = HashMap::new();
    let mut texts = 0;
    for content in element.content {
        match content {
            Content::Element(origin, child) => {
                let count = counts.entry((child.name.namespace(), child.name.local())).or_default();
                let step = Step::Element { name: child.name, position: *count, is_only: false };
                *count += 1;
                found.push((step, Value::Element(*origin, child)));
            }
            Content::Text(origin, text) => {
                let step = Step::Node { kind: NodeKind::Text, name: "", position: texts };
                texts += 1;
                if !is_blank(text) {
                    found.push((step, Value::Untyped(*origin, text)));
                }
            }
            _ => {}
        }
    }
    for (step, _) in &mut found {
        if let Step::Element { name, is_only, .. } = step {
            *is_only = counts.get(&(name.namespace(), name.local())) == Some(&1);
        }
    }
    found
}

fn has_children(value: Value<'_>) -> bool {
    match value {
        Value::Map(_, map) => !map.is_empty(),
        Value::List(_, items) => !items.is_empty(),
        Value::Element(_, element) => {
            !element.attributes.is_empty()
                || element.text.is_none() && !in_element(element).is_empty()
        }
        _ => false,
    }
}

/// What a step is called.
fn name_of(step: Step<'_>) -> String {
    match step {
        Step::Name(name) | Step::Lookup(name) => name.to_owned(),
        Step::Index(at) | Step::Member(at) => format!("[{at}]"),
        Step::Element { name, .. } => name.qualified().to_owned(),
        Step::Attribute(name) => format!("@{}", name.qualified()),
        Step::Node { .. } => "text()".to_owned(),
    }
}

/// A scalar, or the text of an element, on one line.
pub(crate) fn scalar_text(value: Value<'_>) -> Option<String> {
    match value {
        Value::Map(..) | Value::List(..) => None,
        Value::Element(_, element) => element.text.map(|text| text.trim().to_owned()),
        Value::Untyped(_, text) => Some(text.trim().to_owned()),
        scalar => Some(json::compact(scalar)),
    }
}

/// A value whole: a text as it is, all else as JSON.
fn laid_out(value: Value<'_>) -> String {
    match (value.as_text(), scalar_text(value)) {
        (Some(text), _) => text.to_owned(),
        (None, Some(text)) => text,
        (None, None) => {
            let arena = Arena::new();
            let record = View::default().record(value, &arena);
            let mut out = Vec::new();
            json::write(record, json::Style::Indented(2), &mut out);
            String::from_utf8_lossy(&out).into_owned()
        }
    }
}

/// The line of a node among those above one that stands below it: they are in the order of their places.
fn line_above(above: &[u32], node: u32) -> usize {
    above.iter().rposition(|line| *line == node).unwrap_or(0)
}

fn kind_of(value: Value<'_>) -> String {
    match value {
        Value::Map(_, map) => counted(map.len(), "member"),
        Value::List(_, items) => counted(items.len(), "item"),
        Value::Element(_, element) if element.text.is_some() => "element".to_owned(),
        Value::Element(_, element) => counted(element.children().count(), "element"),
        other => other.kind().word().to_owned(),
    }
}

impl<'a> Tree<'a> {
    /// A document, open to its first level.
    #[must_use]
    pub fn new(root: Value<'a>) -> Self {
        let node =
            Node { value: root, step: None, parent: 0, depth: 0, children: None, is_open: false };
        let mut tree = Self { nodes: vec![node], lines: vec![0] };
        tree.open(0);
        tree.lay_out();
        tree
    }

    fn node(&self, line: usize) -> Option<&Node<'a>> {
        self.lines.get(line).and_then(|node| self.nodes.get(*node as usize))
    }

    /// The value of a line.
    #[must_use]
    pub fn value(&self, line: usize) -> Option<Value<'a>> {
        self.node(line).map(|node| node.value)
    }

    fn steps(&self, mut node: usize) -> Vec<Step<'a>> {
        let mut steps = Vec::new();
        while let Some(step) = self.nodes[node].step {
            steps.push(step);
            node = self.nodes[node].parent as usize;
        }
        steps.reverse();
        steps
    }

    /// Makes the children of a node, and opens it.
    fn open(&mut self, node: usize) {
        if self.nodes[node].children.is_none() {
            let first = u32::try_from(self.nodes.len()).unwrap_or(u32::MAX);
            let (parent, depth) =
                (u32::try_from(node).unwrap_or(u32::MAX), self.nodes[node].depth + 1);
            for (step, value) in children(self.nodes[node].value) {
                let step = Some(step);
                let made = Node { value, step, parent, depth, children: None, is_open: false };
                self.nodes.push(made);
            }
            let end = u32::try_from(self.nodes.len()).unwrap_or(u32::MAX);
            self.nodes[node].children = Some(first..end);
        }
        self.nodes[node].is_open = true;
    }

    /// Works out which lines are seen.
    fn lay_out(&mut self) {
        self.lines.clear();
        let whole: Range<u32> = 0..1;
        let mut open = Vec::from([whole]);
        while let Some(range) = open.last_mut() {
            let Some(node) = range.next() else {
                open.pop();
                continue;
            };
            self.lines.push(node);
            let Node { is_open, children, .. } = &self.nodes[node as usize];
            if let Some(children) = children.clone().filter(|_| *is_open) {
                open.push(children);
            }
        }
    }
}

impl<'a> Outline<'a> for Tree<'a> {
    fn len(&self) -> usize {
        self.lines.len()
    }

    fn line(&self, line: usize) -> Option<Line> {
        let node = self.node(line)?;
        Some(Line {
            depth: node.depth as usize,
            name: node.step.map(name_of).unwrap_or_default(),
            value: scalar_text(node.value),
            kind: kind_of(node.value),
            is_open: has_children(node.value).then_some(node.is_open),
        })
    }

    fn path(&self, line: usize) -> String {
        let Some(node) = self.lines.get(line) else { return String::new() };
        written(self.steps(*node as usize), self.nodes[0].value)
    }

    fn path_at(&self, position: &Position<'a>) -> Option<String> {
        let Position::Steps(steps) = position else { return None };
        Some(written(steps.clone(), self.nodes[0].value))
    }

    fn whole(&self, line: usize) -> String {
        self.value(line).map(laid_out).unwrap_or_default()
    }

    fn toggle(&mut self, line: usize) -> bool {
        let Some(node) = self.lines.get(line).map(|node| *node as usize) else { return false };
        if !has_children(self.nodes[node].value) {
            return false;
        }
        if self.nodes[node].is_open {
            self.nodes[node].is_open = false;
        } else {
            self.open(node);
        }
        self.lay_out();
        true
    }

    fn parent(&self, line: usize) -> usize {
        self.node(line).map_or(0, |node| line_above(&self.lines[..line], node.parent))
    }

    fn open_to(&mut self, line: usize, depth: usize, most: usize) -> bool {
        let Some(start) = self.lines.get(line).map(|node| *node as usize) else { return true };
        let base = self.nodes[start].depth as usize;
        let (mut made, mut is_all, mut level) = (0, true, vec![start]);
        while let Some(node) = level.pop() {
            if !has_children(self.nodes[node].value) {
                continue;
            }
            if self.nodes[node].depth as usize - base >= depth {
                self.nodes[node].is_open = false;
                continue;
            }
            if made > most {
                is_all = false;
                continue;
            }
            self.open(node);
            let children = self.nodes[node].children.clone().unwrap_or(0..0);
            made += children.len();
            level.extend(children.rev().map(|child| child as usize));
        }
        self.lay_out();
        is_all
    }

    fn show(&mut self, position: &Position<'a>) -> Option<usize> {
        let Position::Steps(steps) = position else { return None };
        let mut node = 0;
        for step in steps {
            self.open(node);
            let children = self.nodes[node].children.clone()?;
            let named = |child: &u32| {
                self.nodes[*child as usize].step.is_some_and(|own| is_same_step(own, *step))
            };
            node = children.into_iter().find(named)? as usize;
        }
        self.lay_out();
        let node = u32::try_from(node).ok()?;
        self.lines.iter().position(|line| *line == node)
    }

    fn numbers(&self, line: usize) -> Vec<u32> {
        let Some(mut node) = self.lines.get(line).copied() else { return Vec::new() };
        let mut numbers = Vec::new();
        while node != 0 {
            let parent = self.nodes[node as usize].parent;
            let first = self.nodes[parent as usize].children.as_ref().map_or(0, |all| all.start);
            numbers.push(node - first);
            node = parent;
        }
        numbers.reverse();
        numbers
    }

    fn show_numbers(&mut self, numbers: &[u32]) -> usize {
        let mut node = 0_u32;
        for number in numbers {
            self.open(node as usize);
            let children = self.nodes[node as usize].children.clone().unwrap_or(0..0);
            // Where there are fewer, the last one is the nearest.
            let Some(last) = children.end.checked_sub(1).filter(|last| *last >= children.start)
            else {
                break;
            };
            node = children.start.saturating_add(*number).min(last);
        }
        self.lay_out();
        self.lines.iter().position(|line| *line == node).unwrap_or(0)
    }

    fn search(&self, text: &str, most: usize) -> Option<(Vec<Position<'a>>, usize)> {
        let wanted = text.to_lowercase();
        let (mut found, mut count) = (Vec::new(), 0);
        let mut steps: Vec<Step<'a>> = Vec::new();
        let mut open = vec![children(self.nodes[0].value).into_iter()];
        while let Some(last) = open.last_mut() {
            let Some((step, value)) = last.next() else {
                open.pop();
                steps.pop();
                continue;
            };
            steps.push(step);
            let holds = |text: &str| text.to_lowercase().contains(&wanted);
            if holds(&name_of(step)) || scalar_text(value).is_some_and(|text| holds(&text)) {
                count += 1;
                if found.len() < most {
                    found.push(Position::Steps(steps.clone()));
                }
            }
            if has_children(value) {
                open.push(children(value).into_iter());
            } else {
                steps.pop();
            }
        }
        Some((found, count))
    }
}

/// Steps as a path.
fn written(steps: Vec<Step<'_>>, root: Value<'_>) -> String {
    let location = Location::new(steps);
    match root {
        Value::Element(..) if location.steps().is_empty() => "/".to_owned(),
        Value::Element(..) => location.to_string(),
        _ => location.readable(),
    }
}

/// Whether two steps lead to the same child; an only element is so whether or not a step knows.
fn is_same_step(a: Step<'_>, b: Step<'_>) -> bool {
    match (a, b) {
        (Step::Element { name, position, .. }, Step::Element { name: other, position: at, .. }) => {
            name == other && position == at
        }
        (a, b) => a == b,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use kyanite_formats::Format;
    use kyanite_formats::documents::{self, Options};

    fn tree<'a>(format: Format, text: &'a str, arena: &'a Arena) -> Tree<'a> {
        Tree::new(documents::read(format, text, arena, Options::default()).unwrap().roots[0])
    }

    fn shown(tree: &Tree<'_>) -> Vec<String> {
        let lines = (0..tree.len()).filter_map(|at| tree.line(at));
        lines
            .map(|line| {
                let sign = match line.is_open {
                    Some(true) => "-",
                    Some(false) => "+",
                    None => " ",
                };
                let value = line.value.unwrap_or(line.kind);
                format!("{}{sign}{} {value}", " ".repeat(line.depth), line.name)
            })
            .collect()
    }

    #[test]
    fn json_opens_and_closes() {
        let arena = Arena::new();
        let text = r#"{"a": [1, {"b": "x"}], "c": {}, "d": null}"#;
        let mut tree = tree(Format::Json, text, &arena);
        assert_eq!(shown(&tree), ["- 3 members", " +a 2 items", "  c 0 members", "  d null"]);
        assert!(tree.toggle(1) && !tree.toggle(2));
        assert_eq!(tree.len(), 6);
        assert!(tree.toggle(3));
        assert_eq!((tree.path(4), tree.parent(4)), ("$.a[1].b".to_owned(), 3));
        assert!(tree.toggle(1));
        assert_eq!(tree.len(), 4);
        // What was open below it still is.
        tree.toggle(1);
        assert_eq!(tree.len(), 7);
        assert!(tree.open_to(0, 1, 1000));
        assert_eq!(tree.len(), 4);
        assert!(tree.open_to(0, 9, 1000));
        assert_eq!(tree.len(), 7);
        assert!(!tree.open_to(0, 9, 1));
    }

    #[test]
    fn xml_has_attributes_and_text() {
        let arena = Arena::new();
        let text = "<v:a xmlns:v='u' n='1'><b>t</b><b k='2'>u</b><c>x<d/>y</c></v:a>";
        let mut tree = tree(Format::Xml, text, &arena);
        tree.open_to(0, 9, 1000);
        assert_eq!(
            shown(&tree),
            [
                "- 1 element",
                " -v:a 3 elements",
                "   @xmlns:v u",
                "   @n 1",
                "   b t",
                "  -b u",
                "    @k 2",
                "  -c 1 element",
                "    text() x",
                "    d ",
                "    text() y"
            ]
        );
        assert_eq!(tree.path(0), "/");
        assert_eq!(tree.path(6), "/v:a[1]/b[2]/@k");
        assert_eq!(tree.path(10), "/v:a[1]/c[1]/text()[2]");
    }

    #[test]
    fn what_is_searched_is_shown() {
        let arena = Arena::new();
        let text = r#"{"a": [{"name": "Ness"}, {"name": "Holm"}], "Nessie": 1}"#;
        let mut tree = tree(Format::Json, text, &arena);
        let (found, count) = tree.search("ness", 10).unwrap();
        assert_eq!((found.len(), count), (2, 2));
        assert_eq!(tree.show(&found[0]), Some(3));
        assert_eq!(tree.path(3), "$.a[0].name");
        assert_eq!(tree.search("name", 1).unwrap().1, 2);
        assert_eq!(tree.search("", 9).unwrap().1, 6);
        assert_eq!(tree.show(&Position::Steps(vec![Step::Name("nothing")])), None);
        // The same place in another tree, or the nearest.
        let numbers = tree.numbers(3);
        assert_eq!(numbers, [0, 0, 0]);
        let mut other = self::tree(Format::Json, r#"{"a": [{"name": "Ness"}]}"#, &arena);
        let line = other.show_numbers(&numbers);
        assert_eq!(other.path(line), "$.a[0].name");
        let line = other.show_numbers(&[0, 7, 7, 7]);
        assert_eq!(other.path(line), "$.a[0].name");
    }
}
