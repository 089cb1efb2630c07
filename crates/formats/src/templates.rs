//! A tree of templates: texts that differ only in the values in them. The text between values is compared as a whole, and common
//! beginnings are kept once.

use std::cell::Cell;

use kyanite_scan::equal_bits;

/// The most that may follow a value: more is looked through for each text, and names that differ so much differ again.
pub(crate) const WIDEST: usize = 64;

/// The bytes of a word.
const WORD: usize = kyanite_scan::CHUNK;

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

/// As many bytes as are compared at once.
#[derive(Clone, Copy, Default, Debug)]
#[repr(align(16))]
struct Word([u8; WORD]);

impl Word {
    /// Whether these bytes are the same, or among others that do not matter, each a bit.
    #[inline(always)]
    fn is(&self, bytes: &[u8; WORD], others: u32) -> bool {
        equal_bits(&self.0, bytes) | others == ALL
    }
}

/// A bit for each byte of a word.
const ALL: u32 = (1 << WORD) - 1;

/// What stands between a value, or the beginning of a text, and the next one.
#[derive(Debug)]
#[repr(align(64))]
pub(crate) struct Node {
    /// Its first bytes, and a bit for each byte of the word behind them.
    first: Word,
    others: u32,
    /// Its last bytes, if they are as many.
    last_word: Word,
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
    /// No tree yet, and room for `most` nodes.
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
        let mut first = Word::default();
        let length = between.len().min(WORD);
        first.0[..length].copy_from_slice(&between[..length]);
        let last = between.last().copied();
        self.nodes.push(Node {
            first,
            others: ALL & !((1 << length) - 1),
            last_word: between.last_chunk().map_or_else(Word::default, |word| Word(*word)),
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

    /// The node behind another with this text, which is made unless it is there; `None` where there is no room for it.
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

    /// The node behind another with which a text begins: the one that followed last, or one that may be followed by what does.
    #[inline(always)]
    pub(crate) fn step<'f>(&'f self, here: &Node, text: &[u8]) -> Option<&'f Node> {
        match self.nodes.get(here.usual.get()) {
            Some(usual) if usual.begins(text) => Some(usual),
            _ => self.find(here, text),
        }
    }

    /// Whether a text begins with another node than this, which is not followed by what it has to be; if so, that is what
    /// [`step`](Self::step) gives next.
    pub(crate) fn turn(&self, here: &Node, from: &Node, text: &[u8]) -> bool {
        self.find(here, text).is_some_and(|other| !std::ptr::eq(other, from))
    }

    /// The node behind another with which a text begins, and which may be followed by what does.
    fn find<'f>(&'f self, here: &Node, text: &[u8]) -> Option<&'f Node> {
        let fits = |next: &&usize| {
            let next = &self.nodes[**next];
            next.begins(text) && next.may_end(self.follows, text)
        };
        let next = *here.next.iter().find(fits)?;
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

    /// Whether a text begins with its own. Most are shorter than a word.
    #[inline(always)]
    fn begins(&self, text: &[u8]) -> bool {
        match text.first_chunk::<WORD>() {
            Some(word) => {
                self.first.is(word, self.others) && (self.length <= WORD || self.is_long(text))
            }
            None => text.starts_with(&self.between),
        }
    }

    /// The same for what is longer than a word, with which the text begins. Most are shorter than two.
    #[inline]
    fn is_long(&self, text: &[u8]) -> bool {
        match text.get(self.length - WORD..self.length).and_then(<[u8]>::first_chunk) {
            Some(last) if self.length <= 2 * WORD => self.last_word.is(last, 0),
            _ => text.starts_with(&self.between),
        }
    }

    /// Whether what stands behind it in a text may do so.
    #[inline(always)]
    pub(crate) fn may_end(&self, follows: &Follows, text: &[u8]) -> bool {
        match text.get(self.length) {
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
