//! Filling a table of nodes, from the top of the document to its end.

use std::cell::OnceCell;

use super::names::Names;
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

impl<'a> NodesBuilder<'a> {
    /// A document without content yet.
    #[must_use]
    pub fn new() -> Self {
        Self::with(Vec::with_capacity(16), Names::new())
    }

    /// A document without content yet, in the memory of a table that is no longer needed. Its names are kept, as long as they
    /// are few: the next document of its kind has them, too.
    pub(super) fn reusing(table: Nodes<'a>) -> Self {
        let mut rows = table.rows;
        rows.clear();
        Self::with(rows, if table.names.are_few() { table.names } else { Names::new() })
    }

    fn with(rows: Vec<Row<'a>>, names: Names<'a>) -> Self {
        let (open, highs) = (Vec::with_capacity(8), Positions::Same(0));
        let mut builder = Self { rows, names, open, highs };
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
        if !matches!(self.highs, Positions::Same(same) if same == high) && origin.is_known() {
            self.keep_other_high(high, row);
        }
    }

    #[cold]
    fn keep_other_high(&mut self, high: u16, row: usize) {
        match &mut self.highs {
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
        self.names.settle();
        Nodes {
            rows: self.rows,
            names: self.names,
            positions: self.highs,
            number: 0,
            elements: OnceCell::new(),
            first_named: OnceCell::new(),
        }
    }
}

impl Default for NodesBuilder<'_> {
    fn default() -> Self {
        Self::new()
    }
}
