//! A resumable scan of a node's children: it takes one block of bytes after another, and can start again at any child.

use super::{Notation, PAGE, json, xml};

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

/// A child, and its number among those of its node.
pub(super) struct Found {
    pub(super) child: Child,
    pub(super) number: u64,
    /// What scans the page that begins with it, if one does.
    pub(super) page: Option<Scan>,
}

/// Takes a child, and what makes the scan as it was before it; tells whether more are wanted.
pub(super) type Take<'t> = &'t mut dyn FnMut(Child, &dyn Fn() -> Kind) -> bool;

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
    pub(super) fn block(&mut self, block: &[u8], is_last: bool, found: &mut Vec<Found>) -> Scanned {
        let Self { at, count, end, kind, block: size } = self;
        let (first, size) = (*count, *size);
        let mut take = |child: Child, before: &dyn Fn() -> Kind| {
            let number = *count;
            if end.is_some_and(|end| number >= end) {
                return false;
            }
            *count += 1;
            // What is in a page is no page.
            let begins_page = end.is_none() && number > 0 && number.is_multiple_of(PAGE);
            let page = begins_page.then(|| Self {
                at: child.entry,
                count: number,
                end: Some(number + PAGE),
                kind: before(),
                block: size,
            });
            found.push(Found { child, number, page });
            true
        };
        let scanned = match kind {
            Kind::Json(scan) => scan.block(block, (*at, first), &mut take),
            Kind::Xml(scan) => scan.block(block, *at, is_last, &mut take),
        };
        *at += scanned.used as u64;
        scanned
    }
}
