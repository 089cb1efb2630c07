//! Which bytes matter to the structure of JSON.

/// What each of 64 bytes is, a bit a byte.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Classes {
    pub(crate) quotes: u64,
    pub(crate) backslashes: u64,
    /// The brackets `[`, `]`, `{` and `}`.
    pub(crate) brackets: u64,
    pub(crate) colons: u64,
    /// Bytes below 0x20.
    pub(crate) controls: u64,
    /// Bytes that may stand outside of texts.
    pub(crate) plausible: u64,
}

/// The bytes that may stand outside of texts, by their upper half: a bit for each half that has any, and for each lower
/// half the bits of the upper halves that it may stand behind. A byte is plausible when its two entries share a bit.
pub(crate) const UPPER: [u8; 16] = [1, 0, 2, 4, 8, 16, 32, 64, 0, 0, 0, 0, 0, 0, 0, 0];

/// See [`UPPER`].
pub(crate) const LOWER: [u8; 16] = lower();

/// Blanks, the quote, and what numbers, words and structure are made of (RFC 8259 sections 2, 3 and 6).
const PLAUSIBLE: &[u8] = b"\t\n\r \",:{}[]0123456789+-.eEtrufalsn";

const fn lower() -> [u8; 16] {
    let mut table = [0; 16];
    let mut at = 0;
    while at < PLAUSIBLE.len() {
        let byte = PLAUSIBLE[at];
        table[(byte & 15) as usize] |= UPPER[(byte >> 4) as usize];
        at += 1;
    }
    table
}

/// Whether a byte may stand outside of texts.
#[inline]
pub(crate) fn is_plausible(byte: u8) -> bool {
    UPPER[usize::from(byte >> 4)] & LOWER[usize::from(byte & 15)] != 0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_tables_have_just_these_bytes() {
        for byte in 0..=255 {
            assert_eq!(is_plausible(byte), PLAUSIBLE.contains(&byte), "{byte}");
        }
    }
}
