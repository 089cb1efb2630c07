//! Which nodes a name means, and where the elements of a name are.

use super::{Node, NodeKind, Nodes};
use crate::{Origin, is_same_name};

/// What a name test asks for (XPath 3.1 section 3.3.2.2).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum NameTest<'n> {
    /// `*`: any name.
    Any,
    /// A local name in a namespace; an empty one is none.
    Name {
        /// The URI of the namespace.
        namespace: &'n str,
        /// The local name.
        local: &'n str,
    },
    /// `p:*`: any name of a namespace.
    InNamespace(&'n str),
    /// `*:n`: a local name in any namespace, or in none.
    Local(&'n str),
}

/// The names of one document that a test means: the test is looked at once for each name, not for each node.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Matches {
    /// All of them.
    All,
    /// None of them.
    None,
    /// The names whose expanded name has this number.
    One(u32),
    /// The names for which it is true here.
    Some(Vec<bool>),
}

impl Matches {
    pub(super) fn new(nodes: &Nodes<'_>, test: NameTest<'_>) -> Self {
        let names = || nodes.names.all.iter().skip(1);
        match test {
            NameTest::Any => Self::All,
            NameTest::Name { namespace, local } => names()
                .position(|name| {
                    is_same_name(name.local(), local) && is_same_name(name.namespace(), namespace)
                })
                .map_or(Self::None, |at| Self::One(nodes.names.expanded[at + 1])),
            NameTest::InNamespace(uri) => {
                Self::Some(nodes.names.all.iter().map(|name| name.namespace() == uri).collect())
            }
            NameTest::Local(local) => {
                Self::Some(nodes.names.all.iter().map(|name| name.local() == local).collect())
            }
        }
    }

    /// Whether the name of `node` is one of them.
    #[inline]
    #[must_use]
    pub fn has(&self, node: Node<'_>) -> bool {
        match self {
            Self::All => true,
            Self::None => false,
            Self::One(number) => node.nodes().names.expanded[node.name_number()] == *number,
            Self::Some(names) => names[node.name_number()],
        }
    }
}

/// The elements of each expanded name, in document order.
#[derive(Debug)]
pub(super) struct NameRows {
    /// For each name where its rows begin; one entry more tells where the last end.
    starts: Vec<u32>,
    rows: Vec<u32>,
}

impl NameRows {
    pub(super) fn of(nodes: &Nodes<'_>) -> Self {
        let elements = || {
            let is_element = |row: &&super::Row<'_>| row.kind() == NodeKind::Element;
            nodes.rows.iter().enumerate().filter(move |(_, row)| is_element(row))
        };
        let mut starts = vec![0u32; nodes.names.all.len() + 1];
        for (_, row) in elements() {
            starts[nodes.names.expanded[row.name()] as usize + 1] += 1;
        }
        for name in 1..starts.len() {
            starts[name] += starts[name - 1];
        }
        let mut next = starts.clone();
        let mut rows = vec![0; starts.last().copied().unwrap_or_default() as usize];
        for (id, row) in elements() {
            let slot = &mut next[nodes.names.expanded[row.name()] as usize];
            rows[*slot as usize] = id as u32;
            *slot += 1;
        }
        Self { starts, rows }
    }

    fn of_name(&self, number: u32) -> &[u32] {
        let number = number as usize;
        &self.rows[self.starts[number] as usize..self.starts[number + 1] as usize]
    }
}

/// The elements of one expanded name, found by a look at each row.
fn rows_named(nodes: &Nodes<'_>, number: u32) -> Vec<u32> {
    let is_it = |row: &super::Row<'_>| {
        row.kind() == NodeKind::Element && nodes.names.expanded[row.name()] == number
    };
    let rows = nodes.rows.iter().zip(0..);
    rows.filter(|(row, _)| is_it(row)).map(|(_, id)| id).collect()
}

impl<'d> Nodes<'d> {
    /// The rows of the elements of one expanded name. Those of the name that is asked for first are looked for by themselves:
    /// many a document is asked for no other.
    fn named(&self, number: u32) -> &[u32] {
        let (first, rows) = self.first_named.get_or_init(|| (number, rows_named(self, number)));
        if *first == number {
            return rows;
        }
        self.elements.get_or_init(|| NameRows::of(self)).of_name(number)
    }

    /// The node that was read at `origin`, or the one around it.
    #[must_use]
    pub fn at(&'d self, origin: Origin) -> Option<Node<'d>> {
        // Rows stand in the order in which they were read.
        let mut next = 2;
        let mut end = self.rows.len();
        while next < end {
            let middle = next + (end - next) / 2;
            if Node::new(self, middle as u32).origin().position() <= origin.position() {
                next = middle + 1;
            } else {
                end = middle;
            }
        }
        let found = Node::new(self, u32::try_from(next.checked_sub(1)?).ok()?);
        // Of several that begin there the outermost.
        let is_same = |node: &Node<'_>| node.origin() == found.origin();
        Some(found.ancestors().take_while(is_same).last().unwrap_or(found))
    }
}

impl<'d> Node<'d> {
    /// The elements below this node that one expanded name means, in document order: found by an index that the document
    /// keeps, not by going through what is below.
    pub fn descendants_named(self, number: u32) -> impl Iterator<Item = Self> {
        let rows = self.nodes().named(number);
        let (start, end) = (self.id() + 1, self.end());
        let first = rows.partition_point(|id| *id < start);
        let last = first + rows[first..].partition_point(|id| *id < end);
        rows[first..last].iter().map(move |id| Node::new(self.nodes(), *id))
    }
}
