//! The handle of a node.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};

use super::{NodeKind, Nodes, Positions};
use crate::{Name, Origin};

/// A node of a document: 16 bytes, `Copy`. Nodes are ordered as in the document; those of several documents by the number of
/// the document.
///
/// A namespace that is in scope of many elements is a node of each (XDM 3.1 section 6.4), so these handles name the
/// element, too.
#[derive(Clone, Copy)]
pub struct Node<'d> {
    nodes: &'d Nodes<'d>,
    id: u32,
    /// Of a namespace, the element that it is in scope of; otherwise 0.
    owner: u32,
}

impl<'d> Node<'d> {
    pub(super) fn new(nodes: &'d Nodes<'_>, id: u32) -> Self {
        Self { nodes, id, owner: 0 }
    }

    /// The document that it is in.
    #[must_use]
    pub fn nodes(self) -> &'d Nodes<'d> {
        self.nodes
    }

    /// The number of its row.
    #[must_use]
    pub fn id(self) -> u32 {
        self.id
    }

    /// What it is.
    #[inline]
    #[must_use]
    pub fn kind(self) -> NodeKind {
        self.nodes.row(self.id).kind()
    }

    fn at(self, id: u32) -> Self {
        Self { nodes: self.nodes, id, owner: 0 }
    }

    /// Its name: of an element or attribute, the target of an instruction, the prefix of a namespace, the key of a member.
    /// Empty for the others.
    #[must_use]
    pub fn name(self) -> Name<'d> {
        self.nodes.names.all[self.nodes.row(self.id).name()]
    }

    /// The number of its name, for [`Matches`](super::index::Matches).
    pub(super) fn name_number(self) -> usize {
        self.nodes.row(self.id).name()
    }

    /// Where it was read.
    #[must_use]
    pub fn origin(self) -> Origin {
        let low = self.nodes.row(self.id).position;
        let high = match &self.nodes.positions {
            Positions::Same(high) => *high,
            Positions::Each(all) => all[self.id as usize],
        };
        if low == 0 && high == 0 {
            return Origin::NONE;
        }
        Origin::at(u64::from(high) << 32 | u64::from(low))
    }

    /// What it is in; none of the document.
    #[must_use]
    pub fn parent(self) -> Option<Self> {
        if self.owner != 0 {
            return Some(self.at(self.owner));
        }
        (self.id != 0).then(|| self.at(self.nodes.row(self.id).parent))
    }

    /// What it is in, what that is in, and so on: nearest first.
    #[must_use]
    pub fn ancestors(self) -> Ancestors<'d> {
        Ancestors(self.parent())
    }

    /// The row behind its last descendant.
    #[inline]
    #[must_use]
    pub fn end(self) -> u32 {
        self.nodes.row(self.id).end
    }

    /// The first row of its content; its end if it has none.
    fn content(self) -> u32 {
        let end = self.end();
        let mut id = self.id + 1;
        while id < end && self.nodes.row(id).is_beside_content() {
            id += 1;
        }
        id
    }

    /// Its children, in order.
    #[must_use]
    pub fn children(self) -> Children<'d> {
        Children { nodes: self.nodes, next: self.content(), end: self.end() }
    }

    /// Its attributes, in the order they were written.
    pub fn attributes(self) -> impl Iterator<Item = Self> + Clone {
        self.beside_content().filter(|node| node.kind() == NodeKind::Attribute)
    }

    /// The namespaces that it declares itself.
    pub fn declarations(self) -> impl Iterator<Item = Self> + Clone {
        self.beside_content().filter(|node| node.kind() == NodeKind::Namespace)
    }

    pub(super) fn beside_content(self) -> impl Iterator<Item = Self> + Clone {
        let is_holder = matches!(self.kind(), NodeKind::Element | NodeKind::Document);
        let end = if is_holder { self.end() } else { 0 };
        (self.id + 1..end)
            .take_while(move |id| self.nodes.row(*id).is_beside_content())
            .map(move |id| self.at(id))
    }

    /// The namespaces in scope of an element, each as a node of it, nearest declaration first: `xml` is always among them,
    /// and a default namespace that was undeclared is not (XDM 3.1 section 6.4).
    #[must_use]
    pub fn namespaces(self) -> Vec<Self> {
        if self.kind() != NodeKind::Element {
            return Vec::new();
        }
        let mut found: Vec<Self> = Vec::new();
        for holder in std::iter::once(self).chain(self.ancestors()) {
            for declaration in holder.declarations() {
                if found.iter().all(|known| known.name() != declaration.name()) {
                    found.push(Self { owner: self.id, ..declaration });
                }
            }
        }
        found.retain(|namespace| !namespace.text().is_empty());
        found.sort_unstable();
        found
    }

    /// The namespace that a prefix means here; empty is the default one.
    #[must_use]
    pub fn namespace_of(self, prefix: &str) -> Option<&'d str> {
        std::iter::once(self)
            .chain(self.ancestors())
            .flat_map(Self::declarations)
            .find(|declaration| declaration.name().qualified() == prefix)
            .map(Self::text)
    }

    /// The sibling behind it; attributes and namespaces have none.
    #[must_use]
    pub fn next_sibling(self) -> Option<Self> {
        let parent = self.parent().filter(|_| self.is_content())?;
        let next = self.end();
        (next < parent.end()).then(|| self.at(next))
    }

    /// The sibling before it. Takes as many steps as the last one of what is in that is deep.
    #[must_use]
    pub fn previous_sibling(self) -> Option<Self> {
        let parent = self.parent().filter(|_| self.is_content())?;
        if self.id == parent.content() {
            return None;
        }
        let mut before = self.at(self.id - 1);
        while before.nodes.row(before.id).parent != parent.id {
            before = before.at(before.nodes.row(before.id).parent);
        }
        Some(before)
    }

    /// Whether it is content of its parent, and not an attribute or a namespace of it.
    #[must_use]
    pub fn is_content(self) -> bool {
        !self.nodes.row(self.id).is_beside_content()
    }

    /// Whether it is a node of XPath's data model: the document type declaration is none.
    #[inline]
    #[must_use]
    pub fn is_on_axes(self) -> bool {
        self.kind() != NodeKind::DocumentType
    }

    /// The nodes in it at any depth, in order, without attributes and namespaces.
    pub fn descendants(self) -> impl Iterator<Item = Self> + Clone {
        self.rows_between(self.id + 1, self.end())
    }

    /// The nodes behind it in the document that are not in it.
    pub fn following(self) -> impl Iterator<Item = Self> + Clone {
        // What follows an attribute begins with the content of its element (XPath 3.1 section 3.3.2.1).
        let start = match self.parent() {
            Some(element) if !self.is_content() => element.content(),
            _ => self.end(),
        };
        self.rows_between(start, self.nodes.root().end())
    }

    /// The nodes before it in the document that it is not in, the nearest first.
    pub fn preceding(self) -> impl Iterator<Item = Self> {
        let holder = if self.is_content() { self.id } else { self.parent().map_or(0, |p| p.id) };
        let mut around = self.at(holder).parent();
        (0..holder).rev().map(move |id| self.at(id)).filter(move |node| {
            if around.is_some_and(|ancestor| ancestor.id == node.id) {
                around = node.parent();
                return false;
            }
            node.is_content() && node.is_on_axes()
        })
    }

    fn rows_between(self, start: u32, end: u32) -> impl Iterator<Item = Self> + Clone {
        (start..end)
            .map(move |id| self.at(id))
            .filter(|node| node.is_content() && node.is_on_axes())
    }

    /// Its own characters: of a text, a comment, an instruction, an attribute, a number; of an element those of its only
    /// child, where that is a text. Otherwise empty.
    #[inline]
    #[must_use]
    pub fn text(self) -> &'d str {
        self.nodes.row(self.id).text
    }

    /// Its string value (XDM 3.1 section 5.13): of elements and documents all text in them.
    #[must_use]
    pub fn string_value(self) -> Cow<'d, str> {
        match self.kind() {
            NodeKind::Element | NodeKind::Document => {
                let row = self.nodes.row(self.id);
                if !row.text.is_empty() {
                    return Cow::Borrowed(row.text);
                }
                let mut texts = self.nodes.rows[self.id as usize + 1..row.end as usize]
                    .iter()
                    .filter(|row| row.kind() == NodeKind::Text);
                let Some(first) = texts.next() else { return Cow::Borrowed("") };
                let mut all = Cow::Borrowed(first.text);
                texts.for_each(|row| all.to_mut().push_str(row.text));
                all
            }
            _ => Cow::Borrowed(self.text()),
        }
    }

    /// Which of its siblings it is, from 0; attributes and namespaces have no place among siblings. Counts them.
    #[must_use]
    pub fn index(self) -> usize {
        self.parent().map_or(0, |parent| parent.children().take_while(|c| *c != self).count())
    }

    /// What orders nodes of one document: a namespace follows its element and comes before the attributes.
    fn key(self) -> (u32, u32) {
        if self.owner == 0 { (self.id, 0) } else { (self.owner, self.id) }
    }
}

impl PartialEq for Node<'_> {
    fn eq(&self, other: &Self) -> bool {
        std::ptr::eq(self.nodes, other.nodes) && self.key() == other.key()
    }
}

impl Eq for Node<'_> {}

impl Hash for Node<'_> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (self.nodes.number, self.key()).hash(state);
    }
}

impl PartialOrd for Node<'_> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Node<'_> {
    fn cmp(&self, other: &Self) -> Ordering {
        let document = |node: &Self| (node.nodes.number, std::ptr::from_ref(node.nodes).addr());
        if std::ptr::eq(self.nodes, other.nodes) {
            return self.key().cmp(&other.key());
        }
        document(self).cmp(&document(other))
    }
}

impl fmt::Debug for Node<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?} {} {:?}", self.kind(), self.name().qualified(), self.text())
    }
}

/// The children of a node, in order.
#[derive(Clone, Debug)]
pub struct Children<'d> {
    nodes: &'d Nodes<'d>,
    next: u32,
    end: u32,
}

impl<'d> Children<'d> {
    /// The next child, also where it is no node of XPath's data model.
    pub(super) fn next_of_all(&mut self) -> Option<Node<'d>> {
        (self.next < self.end).then(|| {
            let node = Node::new(self.nodes, self.next);
            self.next = node.end();
            node
        })
    }
}

impl<'d> Iterator for Children<'d> {
    type Item = Node<'d>;

    #[inline]
    fn next(&mut self) -> Option<Node<'d>> {
        loop {
            let node = self.next_of_all()?;
            if node.is_on_axes() {
                return Some(node);
            }
        }
    }
}

/// What a node is in, nearest first.
#[derive(Clone, Debug)]
pub struct Ancestors<'d>(Option<Node<'d>>);

impl<'d> Iterator for Ancestors<'d> {
    type Item = Node<'d>;

    fn next(&mut self) -> Option<Node<'d>> {
        let node = self.0?;
        self.0 = node.parent();
        Some(node)
    }
}
