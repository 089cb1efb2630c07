//! Short texts as numbers, which are compared and looked up without a call.

/// Up to 16 bytes of a text: the first and the last of them, which may overlap, and how many there are.
///
/// ```
/// use kyanite_tree::ShortText;
///
/// assert_eq!(ShortText::of(b"car"), ShortText::of(b"car"));
/// assert_ne!(ShortText::of(b"car"), ShortText::of(b"car\0"));
/// assert_eq!(ShortText::of(b"a text of 17 byte"), None);
/// ```
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct ShortText {
    first: u64,
    last: u64,
    length: usize,
}

impl ShortText {
    /// The most bytes that one has.
    pub const LONGEST: usize = 16;

    /// A text, if it is short.
    #[inline]
    #[must_use]
    pub fn of(bytes: &[u8]) -> Option<Self> {
        let half = |half: &[u8; 4]| u64::from(u32::from_le_bytes(*half));
        let (first, last) = match (bytes.first_chunk(), bytes.last_chunk()) {
            (Some(first), Some(last)) if bytes.len() <= Self::LONGEST => {
                (u64::from_le_bytes(*first), u64::from_le_bytes(*last))
            }
            (Some(_), _) => return None,
            _ => match (bytes.first_chunk(), bytes.last_chunk()) {
                (Some(first), Some(last)) => (half(first), half(last)),
                _ => (bytes.iter().fold(0, |all, byte| all << 8 | u64::from(*byte)), 0),
            },
        };
        Some(Self { first, last, length: bytes.len() })
    }

    /// Its hash together with a number, as one of `places` places.
    #[inline]
    #[must_use]
    pub fn place(self, number: usize, places: usize) -> usize {
        // The multiplier of the golden ratio (Knuth, The Art of Computer Programming, vol. 3, section 6.4).
        let words = self.first ^ self.last.rotate_left(29) ^ (number as u64).rotate_left(47);
        (words.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 32) as usize % places
    }
}
