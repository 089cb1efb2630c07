//! Texts that are the same but for values in them, as trees: what stands between values is compared whole, and what may follow the same
//! beginning is kept once.

/// The most that may follow a value: more is looked through for each text, and names that differ so much differ again.
pub(crate) const WIDEST: usize = 64;

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
    /// What may follow the value behind it.
    next: Vec<usize>,
    /// Which of these followed last; no node at all, where none has.
    usual: usize,
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
        let between = between.into();
        self.nodes.push(Node { between, next: Vec::new(), usual: usize::MAX, template: None });
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

    /// The node behind another whose text stands at byte `at`, and may be followed by what does; its number and itself.
    #[inline]
    pub(crate) fn step(
        &mut self,
        here: usize,
        (bytes, at): (&[u8], usize),
        may_follow: impl Fn(&Node, Option<u8>) -> bool,
    ) -> Option<(usize, &Node)> {
        let fits = |node: &Node| {
            let end = at + node.between.len();
            let is_there = bytes.get(at..end).is_some_and(|here| is_same(here, &node.between));
            is_there && may_follow(node, bytes.get(end).copied())
        };
        let node = self.nodes.get(here)?;
        let mut next = node.usual;
        if !self.nodes.get(next).is_some_and(fits) {
            next = node.next.iter().copied().find(|next| fits(&self.nodes[*next]))?;
            self.nodes[here].usual = next;
        }
        self.nodes.get(next).map(|node| (next, node))
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
        self.between.last().copied()
    }

    /// The number of the template that ends with it.
    #[inline]
    pub(crate) fn template(&self) -> Option<usize> {
        self.template
    }
}

/// Whether two texts of one length are the same. Most are short, and a call would take longer than comparing them.
#[inline]
fn is_same(one: &[u8], other: &[u8]) -> bool {
    match (one.last_chunk::<8>(), other.last_chunk::<8>()) {
        (Some(last), Some(other_last)) => {
            let (words, _) = one.as_chunks::<8>();
            let (other_words, _) = other.as_chunks::<8>();
            last == other_last && words.iter().zip(other_words).all(|(one, other)| one == other)
        }
        _ => one.iter().zip(other).all(|(one, other)| one == other),
    }
}
