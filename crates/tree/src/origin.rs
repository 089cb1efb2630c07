//! Where a value was read: which document, and at which byte of it.
//!
//! An origin is six bytes without alignment needs, so that it fits beside the tag of a
//! [`Value`](crate::Value) and costs no memory. Lines, columns and paths are worked out from it only when
//! somebody asks.

/// The document and byte offset at which a value starts, or [`Origin::NONE`] for a computed value.
///
/// Offsets count bytes from the start of the text that was read in one piece: a document, or one
/// batch of a record stream. An offset of 4 GiB or more is not kept (the origin is then `NONE`).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Origin {
    document: u16,
    offset: [u16; 2],
}

impl Origin {
    /// The origin of a value that was computed, not read.
    pub const NONE: Self = Self { document: 0, offset: [0, 0] };

    /// The input that a rule runs over; other numbers are further sources.
    pub const INPUT: u16 = 1;

    /// An origin in `document` (from 1) at byte `offset`.
    #[inline]
    #[must_use]
    pub fn new(document: u16, offset: usize) -> Self {
        match u32::try_from(offset) {
            Ok(offset) => Self { document, offset: [(offset >> 16) as u16, offset as u16] },
            Err(_) => Self::NONE,
        }
    }

    /// Whether the value was read from a document at all.
    #[inline]
    #[must_use]
    pub fn is_known(self) -> bool {
        self.document != 0
    }

    /// The document's number, or `None` for a computed value.
    #[must_use]
    pub fn document(self) -> Option<u16> {
        self.is_known().then_some(self.document)
    }

    /// The byte offset inside the document; 0 for a computed value.
    #[inline]
    #[must_use]
    pub fn offset(self) -> usize {
        (usize::from(self.offset[0]) << 16) | usize::from(self.offset[1])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn offsets_survive_and_too_large_ones_are_dropped() {
        for offset in [0, 1, 65_535, 65_536, u32::MAX as usize] {
            let origin = Origin::new(Origin::INPUT, offset);
            assert_eq!((origin.document(), origin.offset()), (Some(1), offset));
        }
        assert_eq!(Origin::new(1, u32::MAX as usize + 1), Origin::NONE);
    }
}
