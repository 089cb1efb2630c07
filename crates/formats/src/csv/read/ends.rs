//! Where cells end: delimiters and line ends, found eight bytes at a time.

/// Where delimiters and line feeds stand from a byte on, one after another. Most cells are short: a call of a search for each costs more
/// than they do, so a word of eight bytes is looked at at once (H. S. Warren, Hacker's Delight, section 6-1).
pub(super) struct Ends<'t> {
    text: &'t [u8],
    delimiter: u8,
    /// Where the word begins that is looked at.
    word: usize,
    /// The highest bit of each byte of it that is still to come.
    left: u64,
}

impl<'t> Ends<'t> {
    const ONES: u64 = u64::from_ne_bytes([1; 8]);
    const LOW: u64 = Self::ONES * 0x7F;
    /// The number of words without a mark after which a search takes over.
    const WORDS: usize = 4;

    #[inline]
    pub(super) fn new(text: &'t [u8], at: usize, delimiter: u8) -> Self {
        let mut ends = Self { text, delimiter, word: at, left: 0 };
        ends.look();
        ends
    }

    /// Looks at the word.
    #[inline]
    fn look(&mut self) {
        let rest = self.text.get(self.word..).unwrap_or_default();
        let word = rest.first_chunk().copied().unwrap_or_else(|| self.last_word(rest));
        let word = u64::from_le_bytes(word);
        // The highest bit of each byte that is zero, and of no other.
        let zeros = |word: u64| !(((word & Self::LOW) + Self::LOW) | word | Self::LOW);
        self.left = zeros(word ^ (Self::ONES * u64::from(self.delimiter)))
            | zeros(word ^ (Self::ONES * u64::from(b'\n')));
    }

    /// Where the next stands behind the words so far.
    #[cold]
    fn search(&self) -> usize {
        let rest = self.text.get(self.word..).unwrap_or_default();
        self.word + memchr::memchr2(self.delimiter, b'\n', rest).unwrap_or(rest.len())
    }

    /// The last bytes of the text, with what is no end behind them.
    #[cold]
    fn last_word(&self, rest: &[u8]) -> [u8; 8] {
        let mut word = [self.delimiter ^ b'\n' ^ 1; 8];
        word.iter_mut().zip(rest).for_each(|(byte, of_text)| *byte = *of_text);
        word
    }

    /// The next one, or the end of the text.
    #[inline]
    pub(super) fn next(&mut self) -> usize {
        let mut words = 0;
        while self.left == 0 {
            self.word += 8;
            words += 1;
            if words == Self::WORDS {
                self.word = self.search();
            }
            if self.word >= self.text.len() {
                return self.text.len();
            }
            self.look();
        }
        let at = self.word + self.left.trailing_zeros() as usize / 8;
        self.left &= self.left - 1;
        at.min(self.text.len())
    }
}
