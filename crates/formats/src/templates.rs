//! A tree of templates: texts that differ only in the values in them. The text between values is compared as a whole, and common
//! beginnings are kept once.

use std::cell::Cell;

/// The most that may follow a value: more is looked through for each text, and names that differ so much differ again.
pub(crate) const WIDEST: usize = 64;

/// As many bytes as are compared at once.
const WORD: usize = 16;

/// Trees of what stands between values; a template is the way from a root to a node that ends one.
#[derive(Debug)]
pub(crate) struct Forest {
    nodes: Vec<Node>,
    /// How many templates end in some node.
    templates: usize,
    /// How many nodes there may be.
    most: usize,
}

/// What stands between a value, or the beginning of a text, and the next one.
#[derive(Debug)]
pub(crate) struct Node {
    between: Box<[u8]>,
    /// Its first bytes, and ones where it has any.
    first: u128,
    mask: u128,
    /// Its last byte, if it has any.
    last: Option<u8>,
    /// What may follow the value behind it.
    next: Vec<usize>,
    /// Which of these followed last; no node at all, where none has.
    usual: Cell<usize>,
    template: Option<usize>,
}

/// A text that follows a template.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Followed {
    /// The number of the template, from 0.
    pub template: usize,
    /// Where the text ends.
    pub end: usize,
}

impl Forest {
    /// No tree yet; so many nodes are kept at most.
    pub(crate) fn new(most: usize) -> Self {
        Self { nodes: Vec::new(), templates: 0, most }
    }

    /// Whether there is room for more.
    pub(crate) fn has_room(&self) -> bool {
        self.nodes.len() < self.most
    }

    /// Whether there is no tree.
    pub(crate) fn is_empty(&self) -> bool {
        self.nodes.is_empty()
    }

    /// The root of a new tree.
    pub(crate) fn plant(&mut self) -> usize {
        self.add(&[])
    }

    fn add(&mut self, between: &[u8]) -> usize {
        let (mut first, mut mask) = ([0; WORD], [0; WORD]);
        let length = between.len().min(WORD);
        first[..length].copy_from_slice(&between[..length]);
        mask[..length].fill(!0);
        self.nodes.push(Node {
            between: between.into(),
            first: u128::from_ne_bytes(first),
            mask: u128::from_ne_bytes(mask),
            last: between.last().copied(),
            next: Vec::new(),
            usual: Cell::new(usize::MAX),
            template: None,
        });
        self.nodes.len() - 1
    }

    /// The node behind another with such a text, which is made unless it is there; `None` where there is no room for it.
    pub(crate) fn grow(&mut self, node: usize, between: &[u8]) -> Option<usize> {
        let mut next = self.nodes[node].next.iter().copied();
        if let Some(known) = next.find(|next| *self.nodes[*next].between == *between) {
            return Some(known);
        }
        if self.nodes[node].next.len() == WIDEST || !self.has_room() {
            return None;
        }
        let new = self.add(between);
        self.nodes[node].next.push(new);
        Some(new)
    }

    /// The number of the template that ends in a node.
    pub(crate) fn end(&mut self, node: usize) -> usize {
        let next = self.templates;
        let template = *self.nodes[node].template.get_or_insert(next);
        self.templates += usize::from(template == next);
        template
    }

    /// The root of that number.
    #[inline]
    pub(crate) fn root(&self, number: usize) -> Option<&Node> {
        self.nodes.get(number)
    }

    /// The node behind another whose text stands at byte `at`, and may be followed by what does.
    #[inline]
    pub(crate) fn step<'f>(
        &'f self,
        here: &'f Node,
        (bytes, at): (&[u8], usize),
        may_follow: impl Fn(&Node, &[u8], usize) -> bool,
    ) -> Option<&'f Node> {
        let fits = |node: &&Node| {
            node.is_at(bytes, at) && may_follow(node, bytes, at + node.between.len())
        };
        if let Some(usual) = self.nodes.get(here.usual.get()).filter(fits) {
            return Some(usual);
        }
        let next = here.next.iter().copied().find(|next| fits(&&self.nodes[*next]))?;
        here.usual.set(next);
        self.nodes.get(next)
    }

    #[cfg(test)]
    pub(crate) fn len(&self) -> usize {
        self.nodes.len()
    }
}

impl Node {
    /// How many bytes its text has.
    #[inline]
    pub(crate) fn length(&self) -> usize {
        self.between.len()
    }

    /// The last byte of its text.
    #[inline]
    pub(crate) fn last(&self) -> Option<u8> {
        self.last
    }

    /// Whether its text stands at byte `at`. Most are short, and a call would take longer than comparing them.
    #[inline]
    fn is_at(&self, bytes: &[u8], at: usize) -> bool {
        let length = self.between.len();
        let word = |at: usize| bytes.get(at..)?.first_chunk::<WORD>();
        match (word(at), self.between.last_chunk::<WORD>()) {
            (Some(first), last) => {
                let is_first = (u128::from_ne_bytes(*first) ^ self.first) & self.mask == 0;
                let Some(last) = last.filter(|_| is_first && length > WORD) else {
                    return is_first;
                };
                // What is longer than two words is compared whole.
                word(at + length - WORD) == Some(last)
                    && (length <= 2 * WORD || bytes[at..at + length] == *self.between)
            }
            (None, _) => bytes.get(at..at + length) == Some(&*self.between),
        }
    }

    /// The number of the template that ends with it.
    #[inline]
    pub(crate) fn template(&self) -> Option<usize> {
        self.template
    }
}
