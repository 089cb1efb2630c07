//! Escapes in texts (RFC 8259 section 7).

/// What the backslashes so far come to.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Escapes {
    /// One when the first byte of the next word is escaped.
    pub(crate) goes_on: u64,
    /// Where the second half of a surrogate pair has to be; None where that is no byte.
    second_half: usize,
    is_wrong: bool,
    /// Whether there was any.
    pub(crate) are_there: bool,
}

impl Escapes {
    /// Whether all are escapes that there are, and all surrogate pairs have both halves.
    pub(crate) fn are_well_formed(&self) -> bool {
        !self.is_wrong && self.second_half == 0
    }

    /// Takes the backslashes of the next word of a text, which begins at byte `at`; gives the bytes that they escape.
    #[inline(never)]
    pub(crate) fn word(&mut self, text: &[u8], at: usize, mut backslashes: u64) -> u64 {
        self.are_there |= backslashes != 0;
        let mut escaped = self.goes_on;
        backslashes &= !self.goes_on;
        self.goes_on = 0;
        while backslashes != 0 {
            let bit = backslashes.trailing_zeros();
            self.look_at(text, at + bit as usize);
            if bit == 63 {
                self.goes_on = 1;
                break;
            }
            escaped |= 2 << bit;
            backslashes &= !(3 << bit);
        }
        escaped
    }

    /// Looks at the escape whose backslash is byte `at` of a text.
    #[inline]
    fn look_at(&mut self, text: &[u8], at: usize) {
        let second_half = std::mem::take(&mut self.second_half);
        let escape = text.get(at..).unwrap_or_default();
        match escape.get(1) {
            Some(b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => {
                self.is_wrong |= second_half != 0;
            }
            Some(b'u') => {
                let unit = escape.get(2..6).and_then(four_digits);
                let is_second = matches!(unit, Some(0xDC00..=0xDFFF));
                self.is_wrong |= unit.is_none() || is_second != (second_half == at && at != 0);
                self.is_wrong |= second_half != 0 && !is_second;
                if let Some(0xD800..=0xDBFF) = unit {
                    self.second_half = at + 6;
                }
            }
            _ => self.is_wrong = true,
        }
    }
}

/// What four hexadecimal digits stand for.
fn four_digits(digits: &[u8]) -> Option<u16> {
    digits.iter().try_fold(0, |unit: u16, digit| {
        let digit = char::from(*digit).to_digit(16)?;
        Some(unit << 4 | digit as u16)
    })
}
