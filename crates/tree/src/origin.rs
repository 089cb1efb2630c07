//! Where a value was read: a position in the one space that all texts of a run are laid out in.
//!
//! An origin is six bytes without alignment needs, so that it fits beside the tag of a
//! [`Value`](crate::Value) and costs no memory. Each text that is read begins at a [`Base`]; positions of one text never
//! meet those of another, so an origin alone says both the text and the byte. Lines, columns and paths are worked out from
//! it only when somebody asks.
//!
//! ```
//! use kyanite_tree::{Region, SourceMap};
//!
//! let mut sources = SourceMap::new(Region::Input);
//! let (first, second) = (sources.add(100), sources.add(20));
//! assert_eq!(sources.find(first.origin(7)), Some((0, 7)));
//! assert_eq!(sources.find(second.origin(7)), Some((1, 7)));
//! ```

/// The position at which a value begins, or [`Origin::NONE`] for a computed value.
///
/// Positions have 48 bits: 64 TiB of texts of each [`Region`]. What lies behind that is not kept (the origin is `NONE`).
#[derive(Clone, Copy, PartialEq, Eq, Debug, Hash)]
pub struct Origin([u16; 3]);

/// The number of bits of a position.
const BITS: u32 = 48;

/// The number of bits that say the region.
const REGION_BITS: u32 = 2;

impl Origin {
    /// The origin of a value that was computed, not read.
    pub const NONE: Self = Self([0; 3]);

    #[inline]
    pub(crate) fn at(position: u64) -> Self {
        if position >> BITS != 0 {
            return Self::NONE;
        }
        Self([(position >> 32) as u16, (position >> 16) as u16, position as u16])
    }

    /// The position; 0 for a computed value.
    #[inline]
    #[must_use]
    pub fn position(self) -> u64 {
        let [high, middle, low] = self.0.map(u64::from);
        high << 32 | middle << 16 | low
    }

    /// The origin of what begins `bytes` bytes behind this; none of a computed value.
    #[must_use]
    pub fn behind(self, bytes: u64) -> Self {
        if self.is_known() { Self::at(self.position() + bytes) } else { self }
    }

    /// Whether the value was read from a text at all.
    #[inline]
    #[must_use]
    pub fn is_known(self) -> bool {
        self.0 != [0; 3]
    }

    /// The region that the value was read in; none of a computed value.
    #[must_use]
    pub fn region(self) -> Option<Region> {
        let number = (self.position() >> (BITS - REGION_BITS)) as usize;
        Region::ALL.get(number).copied().filter(|_| self.is_known())
    }
}

/// A part of the space of positions, for texts of one sort.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Region {
    /// The inputs of a run.
    Input,
    /// The further documents that a rule reads.
    Source,
    /// The result of a run that is traced: positions number its values.
    Result,
    /// What a traced run computed: positions number the entries of the trace.
    Trace,
}

impl Region {
    const ALL: [Self; 4] = [Self::Input, Self::Source, Self::Result, Self::Trace];
}

/// The position at which a text begins.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Base(u64);

impl Base {
    /// No text: what is read there gets no origins.
    pub const NONE: Self = Self(u64::MAX);

    /// The base of the first text of a region.
    #[must_use]
    pub const fn of(region: Region) -> Self {
        // The position 0 is that of computed values.
        Self(((region as u64) << (BITS - REGION_BITS)) + 1)
    }

    /// The origin of what begins at byte `offset` of the text.
    #[inline]
    #[must_use]
    pub fn origin(self, offset: usize) -> Origin {
        Origin::at(self.0.saturating_add(offset as u64))
    }

    /// The byte of the text at which `origin` is; 0 when it lies before the text or is not known.
    #[inline]
    #[must_use]
    pub fn offset(self, origin: Origin) -> usize {
        origin.position().saturating_sub(self.0) as usize
    }

    /// The base of a part of this text that begins at byte `offset` of it.
    #[must_use]
    pub fn behind(self, offset: usize) -> Self {
        Self(self.0.saturating_add(offset as u64))
    }
}

impl Default for Base {
    /// The base of the first input.
    fn default() -> Self {
        Self::of(Region::Input)
    }
}

/// Lays texts of a region out one behind the other, and tells which of them an origin is in.
#[derive(Clone, Debug)]
pub struct SourceMap {
    region: Region,
    /// Where each text begins, in order.
    bases: Vec<u64>,
    next: u64,
}

impl SourceMap {
    /// No texts of that region yet.
    #[must_use]
    pub fn new(region: Region) -> Self {
        Self { region, bases: Vec::new(), next: Base::of(region).0 }
    }

    /// Lays out a text of `length` bytes. Where the region is full, what is read of the text gets no origins.
    pub fn add(&mut self, length: usize) -> Base {
        let base = self.next;
        self.bases.push(base);
        // One byte more, for what is missing at the end.
        self.next = base.saturating_add(length as u64).saturating_add(1);
        let is_full = Base::of(self.region).0 + (1 << (BITS - REGION_BITS)) <= self.next;
        if is_full { Base::NONE } else { Base(base) }
    }

    /// How many texts were laid out.
    #[must_use]
    pub fn len(&self) -> usize {
        self.bases.len()
    }

    /// Whether no text was laid out.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.bases.is_empty()
    }

    /// The number of the text that `origin` is in, from 0, and the byte of it. None for a computed value, and for texts
    /// that others have laid out.
    #[must_use]
    pub fn find(&self, origin: Origin) -> Option<(usize, usize)> {
        let position = origin.position();
        if origin.region()? != self.region || position >= self.next {
            return None;
        }
        let text = self.bases.partition_point(|base| *base <= position).checked_sub(1)?;
        Some((text, (position - self.bases[text]) as usize))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn offsets_beyond_four_gigabytes_survive_and_those_without_room_are_dropped() {
        let base = Base::default();
        for offset in [0, 1, 65_535, 65_536, u32::MAX as usize, 5 << 30, 1 << 40] {
            let origin = base.origin(offset);
            assert_eq!((base.offset(origin), origin.region()), (offset, Some(Region::Input)));
        }
        assert_eq!(base.origin(1 << 50), Origin::NONE);
        assert_eq!(Base::NONE.origin(4), Origin::NONE);
    }

    #[test]
    fn texts_are_told_apart_however_many_there_are() {
        let mut sources = SourceMap::new(Region::Source);
        let bases: Vec<Base> = (0..100_000).map(|length| sources.add(length % 7)).collect();
        for (number, base) in bases.iter().enumerate() {
            // The byte behind the last is where something is missing.
            for offset in 0..=number % 7 {
                assert_eq!(sources.find(base.origin(offset)), Some((number, offset)));
            }
        }
        assert_eq!(sources.find(Base::default().origin(3)), None);
        assert_eq!(sources.find(Origin::NONE), None);
    }

    #[test]
    fn a_full_region_gives_no_origins_of_another() {
        let mut sources = SourceMap::new(Region::Input);
        let huge = sources.add((1 << 46) - 10);
        assert_eq!(huge.origin(5).region(), Some(Region::Input));
        assert_eq!(sources.add(100).origin(0), Origin::NONE);
    }
}
