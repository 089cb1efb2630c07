//! A tree of templates: texts that differ only in the values in them. The text between values is compared as a whole, and common
//! beginnings are kept once.

use std::cell::Cell;

/// The most that may follow a value: more is looked through for each text, and names that differ so much differ again.
pub(crate) const WIDEST: usize = 64;

/// As many bytes as are compared at once.
const WORD: usize = 16;

/// Which bytes may stand behind what is between values, in a format.
pub(crate) struct Follows {
    /// The classes of each byte, a bit each.
    pub(crate) classes: [u8; 256],
    /// The classes that may follow what ends with a byte, or is empty: a value begins there.
    pub(crate) behind: fn(Option<u8>) -> u8,
    /// The classes that may follow what ends a template.
    pub(crate) behind_end: u8,
    /// Whether that may stand at the end of all.
    pub(crate) ends_with_text: bool,
}

/// Trees of what stands between values; a template is the way from a root to a node that ends one.
pub(crate) struct Forest {
    follows: &'static Follows,
    nodes: Vec<Node>,
    /// How many templates end in some node.
    templates: usize,
    /// How many nodes there may be.
    most: usize,
}

/// What stands between a value, or the beginning of a text, and the next one.
#[derive(Debug)]
pub(crate) struct Node {
    /// Its first bytes, and ones where it has any.
    first: u128,
    mask: u128,
    /// Its last bytes, if they are as many.
    last_word: u128,
    length: usize,
    /// The classes of bytes that may follow.
    behind: u8,
    /// Its last byte, if it has any.
    last: Option<u8>,
    template: Option<usize>,
    /// Which of those that may follow the value behind it followed last; no node at all, where none has.
    usual: Cell<usize>,
    between: Box<[u8]>,
    /// What may follow the value behind it.
    next: Vec<usize>,
}

/// A text that follows a template.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Followed {
    /// The number of the template, from 0.
    pub template: usize,
    /// Where the text ends.
    pub end: usize,
}

impl std::fmt::Debug for Forest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(&self.nodes).finish()
    }
}

impl Forest {
    /// No tree yet; so many nodes are kept at most.
    pub(crate) fn new(most: usize, follows: &'static Follows) -> Self {
        Self { follows, nodes: Vec::new(), templates: 0, most }
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
        let last = between.last().copied();
        self.nodes.push(Node {
            first: u128::from_ne_bytes(first),
            mask: u128::from_ne_bytes(mask),
            last_word: between.last_chunk().map_or(0, |word| u128::from_ne_bytes(*word)),
            length: between.len(),
            behind: (self.follows.behind)(last),
            last,
            template: None,
            usual: Cell::new(usize::MAX),
            between: between.into(),
            next: Vec::new(),
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
        self.nodes[node].behind = self.follows.behind_end;
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
    #[inline(always)]
    pub(crate) fn step<'f>(
        &'f self,
        here: &'f Node,
        (bytes, at): (&[u8], usize),
    ) -> Option<&'f Node> {
        let usual = self.nodes.get(here.usual.get());
        usual
            .filter(|usual| usual.is_at(self.follows, bytes, at))
            .or_else(|| self.other_step(here, (bytes, at)))
    }

    /// The same, but for the one that followed last.
    fn other_step<'f>(&'f self, here: &'f Node, (bytes, at): (&[u8], usize)) -> Option<&'f Node> {
        let is_at = |next: &usize| self.nodes[*next].is_at(self.follows, bytes, at);
        let next = here.next.iter().copied().find(is_at)?;
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
    #[inline(always)]
    pub(crate) fn length(&self) -> usize {
        self.length
    }

    /// The classes of bytes that may follow.
    #[inline(always)]
    pub(crate) fn behind(&self) -> u8 {
        self.behind
    }

    /// The last byte of its text.
    #[inline(always)]
    pub(crate) fn last(&self) -> Option<u8> {
        self.last
    }

    /// Whether its text stands at byte `at`, and may be followed by what does. Most are short: with the byte behind them they are part of
    /// one word.
    #[inline(always)]
    fn is_at(&self, follows: &Follows, bytes: &[u8], at: usize) -> bool {
        let word = bytes.get(at..).and_then(<[u8]>::first_chunk::<WORD>);
        match word {
            Some(word) if self.length < WORD => {
                let next = follows.classes[usize::from(word[self.length])];
                (u128::from_ne_bytes(*word) ^ self.first) & self.mask == 0
                    && next & self.behind != 0
            }
            Some(word) => {
                u128::from_ne_bytes(*word) == self.first && self.is_long_at(follows, bytes, at)
            }
            None => self.is_all_at(follows, bytes, at),
        }
    }

    /// The same for what is longer than a word, and begins with what stands there. Most are shorter than two.
    #[inline]
    fn is_long_at(&self, follows: &Follows, bytes: &[u8], at: usize) -> bool {
        let end = at + self.length;
        let last = bytes.get(end - WORD..end).and_then(<[u8]>::first_chunk::<WORD>);
        match bytes.get(end) {
            Some(next) if self.length <= 2 * WORD => {
                last.is_some_and(|last| u128::from_ne_bytes(*last) == self.last_word)
                    && follows.classes[usize::from(*next)] & self.behind != 0
            }
            _ => self.is_all_at(follows, bytes, at),
        }
    }

    /// The same for what is longer still, or near the end.
    fn is_all_at(&self, follows: &Follows, bytes: &[u8], at: usize) -> bool {
        let end = at + self.length;
        bytes.get(at..end) == Some(&*self.between)
            && match bytes.get(end) {
                Some(next) => follows.classes[usize::from(*next)] & self.behind != 0,
                None => follows.ends_with_text && self.template.is_some(),
            }
    }

    /// The number of the template that ends with it.
    #[inline(always)]
    pub(crate) fn template(&self) -> Option<usize> {
        self.template
    }
}
