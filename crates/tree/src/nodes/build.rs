//! Filling a table of nodes, from the top of the document to its end.

use std::cell::OnceCell;
use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::{KIND_BITS, NodeKind, Nodes, Positions, Row};
use crate::{Attribute, Content, Name, Origin};

/// The namespace of the prefix `xml`, which needs no declaration (Namespaces in XML 1.0 section 3).
const XML: &str = "http://www.w3.org/XML/1998/namespace";

/// Makes a table of nodes of what a reader meets.
#[derive(Debug)]
pub struct NodesBuilder<'a> {
    rows: Vec<Row<'a>>,
    names: Names<'a>,
    open: Vec<u32>,
    highs: Positions,
}

/// The names that were met, each once. Most documents have few, which are found without hashing: those that were asked for
/// last are kept in places that their text tells.
#[derive(Debug)]
struct Names<'a> {
    all: Vec<Name<'a>>,
    /// The names that were asked for last, by [`place`](Self::place): their numbers plus one.
    recent: [u32; RECENT],
    /// All of them, once there are many.
    numbers: HashMap<(&'a str, &'a str, &'a str), u32, RandomState>,
}

/// The places for names that were asked for last.
const RECENT: usize = 32;

/// Up to this many names are looked through one by one.
const FEW: usize = 24;

impl<'a> Names<'a> {
    fn new() -> Self {
        Self { all: Vec::with_capacity(8), recent: [0; RECENT], numbers: HashMap::default() }
    }

    /// Where a name is kept when it was asked for last.
    fn place(name: Name<'_>) -> usize {
        let bytes = name.qualified().as_bytes();
        let ends = match bytes {
            [] => 0,
            [first, .., middle, last] => {
                usize::from(*first) * 5 + usize::from(*middle) * 3 + usize::from(*last)
            }
            [first, ..] => usize::from(*first),
        };
        (bytes.len() + ends) % RECENT
    }

    #[inline]
    fn number(&mut self, name: Name<'a>) -> u32 {
        let place = Self::place(name);
        if let Some(recent) = self.recent[place].checked_sub(1)
            && self.all[recent as usize] == name
        {
            return recent;
        }
        let number = self.find(name).unwrap_or_else(|| self.add(name));
        self.recent[place] = number + 1;
        number
    }

    fn find(&self, name: Name<'a>) -> Option<u32> {
        if self.all.len() <= FEW {
            return self.all.iter().position(|known| *known == name).map(|at| at as u32);
        }
        self.numbers.get(&Self::key(name)).copied()
    }

    fn key(name: Name<'a>) -> (&'a str, &'a str, &'a str) {
        (name.prefix(), name.local(), name.namespace())
    }

    #[cold]
    fn add(&mut self, name: Name<'a>) -> u32 {
        // More names than 28 bits count share the last number: no text of a memory's size has so many.
        let number = u32::try_from(self.all.len()).unwrap_or(u32::MAX).min((1 << 28) - 1);
        self.all.push(name);
        match self.all.len() {
            0..=FEW => {}
            count if count == FEW + 1 => {
                let numbered = self.all.iter().enumerate();
                self.numbers = numbered.map(|(at, name)| (Self::key(*name), at as u32)).collect();
            }
            _ => {
                self.numbers.insert(Self::key(name), number);
            }
        }
        number
    }

    /// For each name the first one with the same namespace and local part.
    fn expanded(&self) -> Vec<u32> {
        let same =
            |a: &Name<'a>, b: &Name<'a>| a.local() == b.local() && a.namespace() == b.namespace();
        if self.all.len() <= FEW {
            let first = |name: &Name<'a>| self.all.iter().position(|known| same(known, name));
            return self.all.iter().map(|name| first(name).unwrap_or_default() as u32).collect();
        }
        let mut firsts: HashMap<(&str, &str), u32, RandomState> = HashMap::default();
        let numbered = self.all.iter().enumerate();
        numbered
            .map(|(at, name)| *firsts.entry((name.namespace(), name.local())).or_insert(at as u32))
            .collect()
    }
}

impl<'a> NodesBuilder<'a> {
    /// A document without content yet.
    #[must_use]
    pub fn new() -> Self {
        let (rows, open) = (Vec::with_capacity(16), Vec::with_capacity(8));
        let mut builder = Self { rows, names: Names::new(), open, highs: Positions::Same(0) };
        // The first name is that of nodes without one.
        let document = builder.push(NodeKind::Document, Name::plain(""), "", Origin::NONE);
        builder.open.push(document);
        builder.push(NodeKind::Namespace, Name::plain("xml"), XML, Origin::NONE);
        builder
    }

    /// How many rows there are so far.
    #[must_use]
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether nothing was added yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rows.len() <= 2
    }

    /// Where the document itself begins.
    pub fn begins_at(&mut self, origin: Origin) {
        self.rows[0].position = origin.position() as u32;
        self.keep_high(origin, 0);
    }

    fn push(&mut self, kind: NodeKind, name: Name<'a>, text: &'a str, origin: Origin) -> u32 {
        let label = self.names.number(name) << KIND_BITS | kind as u32;
        self.push_labelled(label, text, origin)
    }

    fn push_labelled(&mut self, label: u32, text: &'a str, origin: Origin) -> u32 {
        // A table of 4 thousand million rows takes 128 GiB; what is behind that shares the last number.
        let id = u32::try_from(self.rows.len()).unwrap_or(u32::MAX);
        let parent = self.open.last().copied().unwrap_or_default();
        let position = origin.position() as u32;
        self.rows.push(Row { text, label, parent, end: id.saturating_add(1), position });
        self.keep_high(origin, self.rows.len() - 1);
        id
    }

    /// Keeps the high part of an origin, which all of a text below 4 GiB share.
    #[inline]
    fn keep_high(&mut self, origin: Origin, row: usize) {
        let high = (origin.position() >> 32) as u16;
        match &mut self.highs {
            Positions::Same(same) if *same == high || !origin.is_known() => {}
            // The document and the namespace of `xml` were not read anywhere.
            Positions::Same(same) if row <= 2 => *same = high,
            Positions::Same(same) => {
                let mut all = vec![*same; row];
                all.push(high);
                self.highs = Positions::Each(all);
            }
            Positions::Each(all) => {
                all.resize(row.max(all.len()), 0);
                if row == all.len() {
                    all.push(high);
                } else {
                    all[row] = high;
                }
            }
        }
    }

    /// Begins an element; its attributes follow, then its content.
    #[inline]
    pub fn open(&mut self, name: Name<'a>, origin: Origin) {
        let id = self.push(NodeKind::Element, name, "", origin);
        self.open.push(id);
    }

    /// Adds an attribute of the element that was begun last, or a declaration of a namespace.
    #[inline]
    pub fn attribute(&mut self, name: Name<'a>, value: &'a str, origin: Origin) {
        if name.declares_namespace() {
            let prefix = name.qualified().strip_prefix("xmlns:").unwrap_or_default();
            self.push(NodeKind::Namespace, Name::plain(prefix), value, origin);
        } else {
            self.push(NodeKind::Attribute, name, value, origin);
        }
    }

    /// Adds all attributes of the element that was begun last.
    pub fn attributes(&mut self, attributes: &[Attribute<'a>]) {
        for attribute in attributes {
            self.attribute(attribute.name, attribute.value, attribute.origin);
        }
    }

    /// Adds characters. Those that follow each other are to be given as one.
    #[inline]
    pub fn text(&mut self, text: &'a str, origin: Origin) {
        self.push_labelled(NodeKind::Text as u32, text, origin);
    }

    /// Adds a comment.
    pub fn comment(&mut self, text: &'a str, origin: Origin) {
        self.push_labelled(NodeKind::Comment as u32, text, origin);
    }

    /// Adds a processing instruction.
    pub fn instruction(&mut self, target: &'a str, data: &'a str, origin: Origin) {
        self.push(NodeKind::Instruction, Name::plain(target), data, origin);
    }

    /// Adds the document type declaration, as written.
    pub fn document_type(&mut self, text: &'a str, origin: Origin) {
        self.push_labelled(NodeKind::DocumentType as u32, text, origin);
    }

    /// Adds a piece of content that holds no elements; elements are begun and ended.
    #[inline]
    pub fn content(&mut self, content: Content<'a>) {
        match content {
            Content::Text(origin, text) => self.text(text, origin),
            Content::Comment(origin, text) => self.comment(text, origin),
            Content::Instruction(origin, (target, data)) => self.instruction(target, data, origin),
            Content::DocumentType(origin, text) => self.document_type(text, origin),
            Content::Element(..) => {}
        }
    }

    /// Begins a document: the one that the table is of, or one that a list holds.
    pub(super) fn open_document(&mut self, origin: Origin) {
        if self.is_empty() {
            self.open.push(0);
        } else {
            self.open_value(NodeKind::Document, "", origin);
        }
    }

    /// Begins a map or a list, called as the member of a map that it is.
    pub(super) fn open_value(&mut self, kind: NodeKind, key: &'a str, origin: Origin) {
        let id = self.push(kind, Name::plain(key), "", origin);
        self.open.push(id);
    }

    /// Adds a value that holds no others.
    pub(super) fn scalar(&mut self, kind: NodeKind, key: &'a str, text: &'a str, origin: Origin) {
        // A key is one name, whatever is in it.
        self.push(kind, Name::plain(key), text, origin);
    }

    /// Ends the element, the map or the list that was begun last.
    #[inline]
    pub fn close(&mut self) {
        if self.open.len() < 2 {
            return;
        }
        let Some(id) = self.open.pop() else { return };
        let end = u32::try_from(self.rows.len()).unwrap_or(u32::MAX);
        // The text of an element that holds nothing else is at hand in it.
        let only = match self.rows.last() {
            Some(last) if last.label == NodeKind::Text as u32 && last.parent == id => {
                let is_first = end as usize - 1 == id as usize + 1
                    || self.rows[end as usize - 2].is_beside_content();
                if is_first { last.text } else { "" }
            }
            _ => "",
        };
        let row = &mut self.rows[id as usize];
        row.end = end;
        row.text = only;
    }

    /// The table; what is open is closed.
    #[must_use]
    pub fn finish(mut self) -> Nodes<'a> {
        while self.open.len() > 1 {
            self.close();
        }
        self.rows[0].end = u32::try_from(self.rows.len()).unwrap_or(u32::MAX);
        if let Positions::Each(all) = &mut self.highs {
            all.resize(self.rows.len(), 0);
        }
        Nodes {
            rows: self.rows,
            expanded: self.names.expanded(),
            names: self.names.all,
            positions: self.highs,
            number: 0,
            elements: OnceCell::new(),
        }
    }
}

impl Default for NodesBuilder<'_> {
    fn default() -> Self {
        Self::new()
    }
}
