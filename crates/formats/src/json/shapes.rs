//! Records that look like one before: with the same brackets in the same order, and the same names where names matter, the
//! members that are wanted stand at the same places, so that nothing has to be looked for.
//!
//! A shape is learned of a record that was [gone through](super::slots). Two shapes never fit the same record, since the
//! brackets of a record close at its end and not before.

use std::ops::Range;

use kyanite_scan::Structure;

use super::key::Key;
use crate::needs::Need;

/// Shapes that are told apart; records that look otherwise are gone through.
const MOST: usize = 48;

/// The brackets that a shape has at most.
const LONGEST: usize = 200;

/// Records that fit no shape, beyond those that fit one, before shapes are looked for no more.
const PATIENCE: u32 = 200;

/// As many brackets as are compared at once.
const CHUNK: usize = 32;

/// The shapes of records so far, and the brackets of the text under way.
#[derive(Debug, Default)]
pub struct Shapes {
    /// The bytes that its brackets are, and zeros behind them.
    kinds: Vec<u8>,
    shapes: Vec<Shape>,
    /// Records that fit no shape, less those that fit one.
    misses: u32,
}

/// What a record looks like.
#[derive(Debug)]
pub(super) struct Shape {
    /// Its brackets, from the opening to the closing one.
    kinds: Vec<u8>,
    /// The first of them, and ones where there are any.
    first: Chunk,
    mask: Chunk,
    pub(super) layout: Layout,
}

/// Where names stand in a record, in the maps that are looked into.
#[derive(Debug, Default)]
pub(super) struct Layout {
    /// All that is between two brackets of such maps, in order.
    pub(super) gaps: Vec<Gap>,
    pub(super) names: Vec<NameAt>,
}

/// What is between two brackets.
#[derive(Clone, Debug)]
pub(super) struct Gap {
    /// The number of the bracket in front, counted from that of the record.
    pub(super) bracket: usize,
    /// Whether that closes a map that is looked into.
    pub(super) is_behind_map: bool,
    /// The names that stand there.
    pub(super) names: Range<usize>,
}

/// A name before a colon.
#[derive(Debug)]
pub(super) struct NameAt {
    key: Key,
    /// Whether its value is a list or map.
    opens: bool,
    /// Where its value goes, if it is wanted.
    pub(super) slot: Option<SlotAt>,
}

/// Where a value goes.
#[derive(Clone, Copy, Debug)]
pub(super) struct SlotAt {
    pub(super) slot: usize,
    pub(super) need: Need,
    /// How many maps it is in.
    pub(super) depth: usize,
}

type Chunk = [u128; CHUNK / 16];

/// What is looked at around a colon.
const WINDOW: usize = Key::WORD + 3;

impl Shapes {
    /// Begins with another text.
    pub(super) fn begin(&mut self, structure: &Structure, text: &[u8]) {
        self.kinds.clear();
        if self.are_useful() {
            self.kinds.extend(structure.bracket_bytes(text));
            self.kinds.resize(self.kinds.len() + CHUNK, 0);
        }
    }

    /// Whether it is worth while to look for shapes.
    #[inline]
    pub(super) fn are_useful(&self) -> bool {
        self.misses < PATIENCE
    }

    /// Notes whether a record had a known shape.
    #[inline]
    pub(super) fn note(&mut self, is_known: bool) {
        self.misses = if is_known { self.misses.saturating_sub(1) } else { self.misses + 1 };
    }

    /// The shape that a record may have whose bracket is that of number `opening`.
    #[inline]
    pub(super) fn find(&self, opening: usize) -> Option<&Shape> {
        let kinds = self.kinds.get(opening..)?;
        let first = chunk(kinds)?;
        self.shapes.iter().find(|shape| {
            let mut chunks = first.iter().zip(&shape.first).zip(&shape.mask);
            chunks.all(|((a, b), mask)| a & mask == *b)
                && (shape.kinds.len() <= CHUNK || kinds.starts_with(&shape.kinds))
        })
    }

    /// Keeps the layout of the record between two brackets.
    pub(super) fn learn(&mut self, layout: Layout, brackets: Range<usize>) {
        let Some(kinds) = self.kinds.get(brackets).filter(|kinds| kinds.len() <= LONGEST) else {
            return;
        };
        let (mut first, mut mask) = ([0; CHUNK], [0; CHUNK]);
        for (at, kind) in kinds.iter().take(CHUNK).enumerate() {
            (first[at], mask[at]) = (*kind, 0xFF);
        }
        let (Some(first), Some(mask)) = (chunk(&first), chunk(&mask)) else { return };
        let shape = Shape { kinds: kinds.to_vec(), first, mask, layout };
        // Where the names are others, the last record tells what the next look like.
        self.shapes.retain(|known| known.kinds != shape.kinds);
        if self.shapes.len() < MOST {
            self.shapes.push(shape);
        }
    }
}

#[inline]
fn chunk(kinds: &[u8]) -> Option<Chunk> {
    let (words, _) = kinds.first_chunk::<CHUNK>()?.as_chunks::<16>();
    Some([u128::from_ne_bytes(*words.first()?), u128::from_ne_bytes(*words.get(1)?)])
}

impl Shape {
    /// How many brackets it has.
    pub(super) fn brackets(&self) -> usize {
        self.kinds.len()
    }
}

impl Layout {
    /// Notes what stands behind the bracket of that number.
    pub(super) fn gap(&mut self, bracket: usize) -> &mut Gap {
        if self.gaps.last().is_none_or(|last| last.bracket != bracket) {
            let end = self.names.len();
            self.gaps.push(Gap { bracket, is_behind_map: false, names: end..end });
        }
        let last = self.gaps.len() - 1;
        &mut self.gaps[last]
    }

    /// Notes a name behind the bracket of that number. Gives nothing where it is none to learn of.
    pub(super) fn name(
        &mut self,
        bracket: usize,
        name: &str,
        opens: bool,
        slot: Option<SlotAt>,
    ) -> Option<()> {
        let key = Key::new(name);
        if !key.is_plain() {
            return None;
        }
        self.gap(bracket).names.end += 1;
        self.names.push(NameAt { key, opens, slot });
        Some(())
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
    /// Where the value begins behind the colon at byte `colon`, if this name stands before it, and it is a value of its kind.
    #[inline]
    pub(super) fn value_behind(
        &self,
        colon: usize,
        text: &[u8],
        structure: &Structure,
    ) -> Option<usize> {
        // The name, the colon, perhaps a blank, and the value.
        let window: &[u8; WINDOW] = text.get(colon.checked_sub(Key::WORD)?..)?.first_chunk()?;
        let blank = usize::from(window[Key::WORD + 1] == b' ');
        let begins = BEGINS[usize::from(window[Key::WORD + 1 + blank])];
        let is_name = begins == 1 + u8::from(self.opens)
            && (self.key.is_end_of(window) || self.key.is_long() && self.key.ends(&text[..colon]))
            // A longer name may end like it, behind a quote that is escaped.
            && (!structure.has_escapes()
                || structure.is_quote(colon.wrapping_sub(self.key.length())));
        is_name.then_some(colon + 1 + blank)
    }
}
