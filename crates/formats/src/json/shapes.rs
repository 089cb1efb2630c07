//! Records that look like one before: with the same brackets and colons in the same order, and the same names where names
//! matter, the members that are wanted stand at the same marks, so that nothing has to be gone through to find them.
//!
//! A shape is learned of a record that was [gone through](super::slots). Two shapes never fit the same record, since the
//! brackets of a record close at its end and not before.

use kyanite_scan::{MARGIN, Marks, Structure};

use super::key::Key;
use crate::needs::Need;

/// Shapes that are told apart; records that look otherwise are gone through.
const MOST: usize = 48;

/// The marks that a shape has at most.
const LONGEST: usize = 400;

/// Records that fit no shape, beyond those that fit one, before shapes are looked for no more.
const PATIENCE: u32 = 200;

/// The shapes of records so far, and the marks of the text under way.
#[derive(Debug, Default)]
pub struct Shapes {
    pub(super) marks: Marks,
    shapes: Vec<Shape>,
    /// The number of a mark near to where reading is.
    pub(super) near: usize,
    /// Records that fit no shape, less those that fit one.
    misses: u32,
}

/// What a record looks like.
#[derive(Debug, Default)]
pub(super) struct Shape {
    /// The kinds of its marks, from its opening to its closing bracket.
    kinds: Vec<u8>,
    /// The first of them, and ones where there are any.
    first: Chunk,
    mask: Chunk,
    /// The names in the maps that are looked into.
    names: Vec<NameAt>,
    /// Where the values of slots stand: behind these colons.
    pub(super) slots: Vec<SlotAt>,
    /// The brackets that close the maps that are looked into, counted from the first mark.
    pub(super) ends: Vec<usize>,
    /// How many of the marks are brackets.
    pub(super) brackets: usize,
}

/// A name before a colon.
#[derive(Debug)]
struct NameAt {
    /// The number of the colon, counted from the first mark.
    colon: usize,
    key: Key,
    /// Whether the value is a list or map.
    opens: bool,
}

/// Where the value of a slot stands.
#[derive(Clone, Copy, Debug)]
pub(super) struct SlotAt {
    /// The number of the colon before it, counted from the first mark.
    pub(super) colon: usize,
    /// How many brackets stand before it.
    pub(super) brackets: usize,
    pub(super) slot: usize,
    pub(super) need: Need,
    /// How many maps it is in.
    pub(super) depth: usize,
}

/// As many kinds as are compared at once.
type Chunk = [u128; MARGIN / 16];

impl Shapes {
    /// Begins with another text.
    pub(super) fn begin(&mut self, structure: &Structure, text: &[u8]) {
        self.near = 0;
        if self.are_useful() {
            self.marks.find(structure, text);
        }
    }

    /// Whether it is worth while to look for shapes.
    #[inline]
    pub(super) fn are_useful(&self) -> bool {
        self.misses < PATIENCE
    }

    /// The shape of the record whose bracket is the mark of number `from`: its position.
    #[inline]
    pub(super) fn find(
        &mut self,
        from: usize,
        text: &[u8],
        structure: &Structure,
    ) -> Option<usize> {
        let kinds = self.marks.kinds(from);
        let first = chunk(kinds)?;
        let fits = |shape: &Shape| {
            first.iter().zip(&shape.first).zip(&shape.mask).all(|((a, b), mask)| a & mask == *b)
                && kinds.starts_with(&shape.kinds)
        };
        let places = self.marks.places(from);
        let position = self.shapes.iter().position(fits).filter(|position| {
            self.shapes[*position].names.iter().all(|name| {
                let colon = places.get(name.colon);
                colon.is_some_and(|colon| name.is_before(*colon as usize, text, structure))
            })
        });
        self.misses = match position {
            Some(_) => self.misses.saturating_sub(1),
            None => self.misses + 1,
        };
        position
    }

    /// The shape at a position.
    #[inline]
    pub(super) fn get(&self, position: usize) -> Option<&Shape> {
        self.shapes.get(position)
    }

    /// Keeps a shape.
    pub(super) fn learn(&mut self, draft: Draft, closing: usize, brackets: usize) {
        let Draft { from, names, slots, ends, .. } = draft;
        let Some(to) = self.marks.number_at(closing, from) else { return };
        let Some(kinds) = self.marks.kinds(from).get(..=to - from) else { return };
        if kinds.len() > LONGEST {
            return;
        }
        let mut padded = [0; MARGIN];
        let mut mask = [0; MARGIN];
        for (at, kind) in kinds.iter().take(MARGIN).enumerate() {
            (padded[at], mask[at]) = (*kind, 0xFF);
        }
        let (Some(first), Some(mask)) = (chunk(&padded), chunk(&mask)) else { return };
        let shape = Shape { kinds: kinds.to_vec(), first, mask, names, slots, ends, brackets };
        // Where the names are others, the last record tells what the next look like.
        self.shapes.retain(|known| known.kinds != shape.kinds);
        if self.shapes.len() < MOST {
            self.shapes.push(shape);
        }
    }
}

#[inline]
fn chunk(kinds: &[u8]) -> Option<Chunk> {
    let (words, _) = kinds.first_chunk::<MARGIN>()?.as_chunks::<16>();
    Some([u128::from_ne_bytes(*words.first()?), u128::from_ne_bytes(*words.get(1)?)])
}

impl Shape {
    /// How many marks it has.
    pub(super) fn marks(&self) -> usize {
        self.kinds.len()
    }
}

/// For each byte whether a scalar begins with it, 1, or a list or map, 2.
const BEGINS: [u8; 256] = {
    let mut table = [0; 256];
    let scalars = b"\"-0123456789tfn";
    let mut at = 0;
    while at < scalars.len() {
        table[scalars[at] as usize] = 1;
        at += 1;
    }
    table[b'{' as usize] = 2;
    table[b'[' as usize] = 2;
    table
};

impl NameAt {
    /// Whether the name stands before the colon at byte `colon`, and such a value behind it.
    #[inline]
    fn is_before(&self, colon: usize, text: &[u8], structure: &Structure) -> bool {
        let value = match text.get(colon + 1) {
            Some(b' ') => text.get(colon + 2),
            value => value,
        };
        let is_value =
            value.is_some_and(|byte| BEGINS[usize::from(*byte)] == 1 + u8::from(self.opens));
        // A longer name may end like it, behind a quote that is escaped.
        is_value
            && self.key.ends(&text[..colon])
            && (!structure.has_escapes()
                || structure.is_quote(colon.wrapping_sub(self.key.length())))
    }
}

/// A shape that is being learned while a record is gone through.
pub(super) struct Draft {
    /// The number of the first mark.
    pub(super) from: usize,
    /// The number of the first bracket.
    pub(super) opening: usize,
    names: Vec<NameAt>,
    slots: Vec<SlotAt>,
    ends: Vec<usize>,
}

impl Draft {
    pub(super) fn new(from: usize, opening: usize) -> Self {
        Self { from, opening, names: Vec::new(), slots: Vec::new(), ends: Vec::new() }
    }

    /// Notes the name that ends before byte `colon`; gives the number of the colon. Gives nothing where the record is none to
    /// learn of.
    pub(super) fn name(
        &mut self,
        marks: &Marks,
        colon: usize,
        name: &str,
        opens: bool,
    ) -> Option<usize> {
        let near = self.names.last().map_or(self.from, |last| self.from + last.colon) + 1;
        let colon = marks.number_at(colon, near)?.checked_sub(self.from)?;
        let key = Key::new(name);
        if !key.is_plain() {
            return None;
        }
        self.names.push(NameAt { colon, key, opens });
        Some(colon)
    }

    /// Notes where a map ends that is looked into.
    pub(super) fn end(&mut self, number: usize) {
        self.ends.extend(number.checked_sub(self.from));
    }

    /// Notes where the value of a slot stands.
    pub(super) fn slot(&mut self, slot: SlotAt) {
        self.slots.push(slot);
    }
}
