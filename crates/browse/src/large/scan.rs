//! A scan of what stands in a node: it takes a block of bytes after another, and can begin again before any child.

use super::{Notation, json, xml};

/// The way from a node to one below it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum Step {
    /// The document.
    Root,
    /// A member, by its name as it is written.
    Member(String),
    Item(u64),
    /// So many children, from that one on.
    Page(u64),
    /// The element of a name and a position among those of that name.
    Element(String, u64),
    Attribute(String),
    /// A text by its position.
    Text(u64),
}

/// A scan of what stands in a node.
#[derive(Clone)]
pub(super) struct Scan {
    /// The byte that comes next.
    pub(super) at: u64,
    /// How many children were found, with those before the page.
    pub(super) count: u64,
    /// Where it ends: behind the last child of the page.
    pub(super) end: Option<u64>,
    pub(super) kind: Kind,
    /// How many bytes are read at once.
    pub(super) block: usize,
}

#[derive(Clone)]
pub(super) enum Kind {
    Json(json::Scan),
    Xml(xml::Scan),
}

/// A child that a scan has found.
pub(super) struct Child {
    pub(super) step: Step,
    pub(super) at: u64,
    /// Where a scan may begin to find it as the first, if it is cheap to say.
    pub(super) entry: u64,
}

impl Child {
    /// Where it begins itself.
    pub(super) fn begin(&self) -> u64 {
        if let Step::Member(_) = self.step { self.entry } else { self.at }
    }
}

/// How far a scan came in a block.
pub(super) struct Scanned {
    /// The bytes that are done with.
    pub(super) used: usize,
    /// Whether all that stands in the node was found.
    pub(super) is_over: bool,
}

impl Scan {
    pub(super) fn new(notation: Notation, at: u64, is_root: bool, block: usize) -> Self {
        let kind = match notation {
            Notation::JsonLines if is_root => Kind::Json(json::Scan::of_stream()),
            Notation::Json | Notation::JsonLines => Kind::Json(json::Scan::default()),
            Notation::Xml if is_root => Kind::Xml(xml::Scan::of_document()),
            Notation::Xml => Kind::Xml(xml::Scan::default()),
        };
        Self { at, count: 0, end: None, kind, block }
    }

    /// Scans a block; gives the children in it.
    pub(super) fn block(
        &mut self,
        block: &[u8],
        is_last: bool,
        found: &mut Vec<(Child, Scan)>,
    ) -> Scanned {
        let (at, end) = (self.at, self.end);
        let mut count = self.count;
        let before = self.clone();
        let mut take = |child: Child, kind: Kind| {
            if end.is_some_and(|end| count >= end) {
                return false;
            }
            count += 1;
            let resumed = Scan { at: child.entry, count: count - 1, kind, ..before.clone() };
            found.push((child, resumed));
            true
        };
        let scanned = match &mut self.kind {
            Kind::Json(scan) => scan.block(block, at, &mut take),
            Kind::Xml(scan) => scan.block(block, at, is_last, &mut take),
        };
        self.count = count;
        self.at += scanned.used as u64;
        scanned
    }
}
