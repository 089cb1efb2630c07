//! Which bytes matter to the structure of JSON.

/// What each of 64 bytes is, a bit a byte.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Classes {
    pub(crate) quotes: u64,
    pub(crate) backslashes: u64,
    /// The brackets `[` and `{`.
    pub(crate) opening: u64,
    /// The brackets `]` and `}`.
    pub(crate) closing: u64,
    /// Bytes that have the bit that curly brackets have and square ones have not.
    pub(crate) curly: u64,
    pub(crate) colons: u64,
    pub(crate) commas: u64,
    /// Blanks, tabs and ends of lines.
    pub(crate) blanks: u64,
    /// Bytes below 0x20.
    pub(crate) controls: u64,
}

/// The bit in which curly brackets differ from square ones.
pub(crate) const CURLY: u8 = 0x20;

/// The blank that has each lower half (RFC 8259 section 2); a byte is a blank when it is the one of its lower half. Where there is
/// none, a byte with another lower half stands in its place.
pub(crate) const BLANKS: [u8; 16] = {
    let mut table = [0; 16];
    let mut half = 0;
    while half < 16 {
        table[half] = match half {
            0 => b' ',
            9 => b'\t',
            10 => b'\n',
            13 => b'\r',
            half => half as u8 ^ 1,
        };
        half += 1;
    }
    table
};

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_has_just_the_blanks() {
        for byte in 0..=255 {
            let is_blank = BLANKS[usize::from(byte & 15)] == byte;
            assert_eq!(is_blank, b" \t\n\r".contains(&byte), "{byte}");
        }
    }
}
