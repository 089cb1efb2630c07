//! Nodes: a document as one table in document order, each node with its parent, its siblings and the namespaces in scope.
//!
//! A [`Value`](crate::Value) knows only what is below it. Whoever has to go up or sideways (XPath, Schematron, identity
//! constraints, comparing two documents) works on a [`Node`]: a handle of a row of a [`Nodes`] table, which a reader fills
//! as it reads, or which is [made of a value](Nodes::of). Rows stand in document order, so the descendants of a node are
//! the rows behind it up to its end, and comparing two nodes compares two numbers.
//!
//! A row takes 32 bytes; names are kept once. The kinds of node are those of the XPath data model (W3C XDM 3.1 section 6),
//! and the values of maps and lists beside them.
//!
//! ```
//! use kyanite_tree::{Name, NodeKind, NodesBuilder, Origin};
//!
//! let mut builder = NodesBuilder::new();
//! builder.open(Name::plain("deck"), Origin::NONE);
//! builder.attribute(Name::plain("no"), "1", Origin::NONE);
//! builder.text("empty", Origin::NONE);
//! builder.close();
//! let nodes = builder.finish();
//! let deck = nodes.root().children().next().unwrap();
//! let text = deck.children().next().unwrap();
//! assert_eq!((text.parent(), text.kind()), (Some(deck), NodeKind::Text));
//! assert_eq!(deck.attributes().next().unwrap().parent(), Some(deck));
//! ```

mod build;
mod index;
mod names;
mod node;
mod value;

use std::cell::OnceCell;

pub use build::NodesBuilder;
pub use index::{Matches, NameTest};
pub use node::{Ancestors, Children, Node};

use crate::Name;
use index::NameRows;
use names::Names;

/// What a node is.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Hash)]
#[repr(u8)]
pub enum NodeKind {
    /// The document node of XML, or what holds the root value of another document.
    Document,
    /// An element.
    Element,
    /// An attribute; declarations of namespaces are none.
    Attribute,
    /// Characters, or the text that a map or a list holds.
    Text,
    /// A comment.
    Comment,
    /// A processing instruction: its name is the target.
    Instruction,
    /// A namespace in scope: its name is the prefix, its text the URI.
    Namespace,
    /// The document type declaration, as written. It is no node of XPath's data model, and no axis leads to it.
    DocumentType,
    /// A map: its children are the values of its members.
    Map,
    /// A list: its children are its items.
    List,
    /// A number that a map or a list holds, or that is the root.
    Number,
    /// True or false.
    Boolean,
    /// Null.
    Null,
}

impl NodeKind {
    const ALL: [Self; 13] = [
        Self::Document,
        Self::Element,
        Self::Attribute,
        Self::Text,
        Self::Comment,
        Self::Instruction,
        Self::Namespace,
        Self::DocumentType,
        Self::Map,
        Self::List,
        Self::Number,
        Self::Boolean,
        Self::Null,
    ];
}

/// The number of bits of a row's `label` that say the kind.
const KIND_BITS: u32 = 4;

/// One node: 32 bytes.
#[derive(Clone, Copy, Debug)]
struct Row<'a> {
    /// The characters; of an element or member those of its only child, where that is a text.
    text: &'a str,
    /// The kind, and the number of the name.
    label: u32,
    parent: u32,
    /// The row behind the last descendant.
    end: u32,
    /// The low half of where it was read.
    position: u32,
}

impl Row<'_> {
    fn kind(&self) -> NodeKind {
        NodeKind::ALL[(self.label & ((1 << KIND_BITS) - 1)) as usize]
    }

    fn name(&self) -> usize {
        (self.label >> KIND_BITS) as usize
    }

    /// Whether it stands between its parent and the children of that: an attribute, or a declaration of a namespace.
    fn is_beside_content(&self) -> bool {
        matches!(self.kind(), NodeKind::Attribute | NodeKind::Namespace)
    }
}

/// A document as a table of its nodes in document order.
#[derive(Debug)]
pub struct Nodes<'a> {
    rows: Vec<Row<'a>>,
    names: Names<'a>,
    /// The high parts of where rows were read: one for all, or one for each.
    positions: Positions,
    /// Where this document stands in the order of documents.
    number: u32,
    elements: OnceCell<NameRows>,
    /// The rows of the elements of the name that was asked for first, and its number.
    first_named: OnceCell<(u32, Vec<u32>)>,
}

/// The high 16 of the 48 bits of an origin.
#[derive(Debug)]
enum Positions {
    Same(u16),
    Each(Vec<u16>),
}

impl<'a> Nodes<'a> {
    /// The document node.
    #[must_use]
    pub fn root(&self) -> Node<'_> {
        Node::new(self, 0)
    }

    /// How many rows there are: nodes, and declarations of namespaces.
    #[must_use]
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether the document node is all there is.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rows.len() <= 1
    }

    /// Sets where the document stands in the order of documents; nodes of different ones are ordered by it.
    #[must_use]
    pub fn numbered(mut self, number: u32) -> Self {
        self.number = number;
        self
    }

    /// Each name of an element, an attribute, a member or an instruction, once; of a table that was
    /// [filled anew](Self::refilled) also those of the values before.
    pub fn names(&self) -> impl Iterator<Item = Name<'a>> + '_ {
        self.names.all.iter().skip(1).copied()
    }

    /// The document type declaration, as written.
    #[must_use]
    pub fn document_type(&self) -> Option<&'a str> {
        let is_type = |row: &&Row<'a>| row.kind() == NodeKind::DocumentType;
        // It stands before the root element.
        let before_root = self.rows.iter().take_while(|row| row.kind() != NodeKind::Element);
        before_root.filter(is_type).map(|row| row.text).next()
    }

    /// Which rows mean a name by the rules of [`NameTest`].
    #[must_use]
    pub fn matches(&self, test: NameTest<'_>) -> Matches {
        Matches::new(self, test)
    }

    fn row(&self, id: u32) -> &Row<'a> {
        &self.rows[id as usize]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_row_takes_32_bytes() {
        assert_eq!(size_of::<Row<'_>>(), 32);
        for (number, kind) in NodeKind::ALL.into_iter().enumerate() {
            assert_eq!(kind as usize, number);
        }
    }
}
