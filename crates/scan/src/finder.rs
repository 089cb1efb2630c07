//! From the classes of bytes to structure, 64 bytes after another.

use std::mem::MaybeUninit;

use crate::classes::Classes;
use crate::{WORD, Word};

/// As many words as room for brackets is made for at once.
pub(crate) const GROUP: usize = 64;

/// What the bytes so far come to.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Finder {
    /// Where the next word begins.
    at: u32,
    /// How many quotes begin or end a text before it.
    pub(crate) quotes: u32,
    /// All ones while a text is open at the end of a word.
    inside: u64,
    /// One when the first byte of the next word is escaped.
    escaped: u64,
    /// Bytes that cannot stand where they stand.
    wrong: u64,
    /// Backslashes.
    escapes: u64,
}

impl Finder {
    /// Whether all texts ended, and nothing stands where it cannot.
    pub(crate) fn is_plausible(&self) -> bool {
        self.wrong == 0 && self.inside == 0
    }

    /// Whether there was a backslash.
    pub(crate) fn has_escapes(&self) -> bool {
        self.escapes != 0
    }

    /// Takes the next 64 bytes. `parity` is [`parity`], with what instructions there are.
    #[inline(always)]
    pub(crate) fn word(
        &mut self,
        classes: Classes,
        parity: impl FnOnce(u64) -> u64,
        brackets: &mut Places<'_>,
    ) -> Word {
        let mut quotes = classes.quotes;
        if classes.backslashes | self.escaped != 0 {
            self.escapes |= classes.backslashes;
            quotes &= !self.escapes(classes.backslashes);
        }
        let text = parity(quotes) ^ self.inside;
        self.inside = ((text as i64) >> 63) as u64;
        self.wrong |= classes.controls & text | !(classes.plausible | text);
        brackets.add(classes.brackets & !text, self.at);
        let word = Word { quotes, colons: classes.colons & !text, before: self.quotes };
        self.quotes += quotes.count_ones();
        self.at += WORD as u32;
        word
    }

    /// The bytes that a backslash escapes.
    #[inline(never)]
    fn escapes(&mut self, mut backslashes: u64) -> u64 {
        let mut escaped = self.escaped;
        backslashes &= !self.escaped;
        self.escaped = 0;
        while backslashes != 0 {
            let at = backslashes.trailing_zeros();
            if at == 63 {
                self.escaped = 1;
                break;
            }
            escaped |= 2 << at;
            backslashes &= !(3 << at);
        }
        escaped
    }
}

/// Ones from each odd bit to the next even one: between quotes, the opening one included.
#[inline(always)]
pub(crate) fn parity(mut bits: u64) -> u64 {
    for shift in [1, 2, 4, 8, 16, 32] {
        bits ^= bits << shift;
    }
    bits
}

/// Room for places behind those of a list.
pub(crate) struct Places<'p> {
    list: &'p mut Vec<u32>,
    /// How many were added.
    count: usize,
}

impl<'p> Places<'p> {
    /// Room for as many places as a group of words has bytes.
    pub(crate) fn behind(list: &'p mut Vec<u32>) -> Self {
        list.reserve(GROUP * WORD);
        Self { list, count: 0 }
    }

    /// Adds the places of the bits that are set, the first of which stands for place `at`.
    #[inline(always)]
    fn add(&mut self, mut bits: u64, at: u32) {
        let count = bits.count_ones() as usize;
        let free: &mut [MaybeUninit<u32>] =
            &mut self.list.spare_capacity_mut()[self.count..self.count + WORD];
        // Four at a time, so that how many there are is seldom to guess at.
        for four in free.chunks_exact_mut(4) {
            for place in four {
                place.write(at + bits.trailing_zeros());
                bits &= bits.wrapping_sub(1);
            }
            if bits == 0 {
                break;
            }
        }
        self.count += count;
    }

    /// Puts what was added into the list.
    #[allow(unsafe_code, reason = "elements are written before the list has them")]
    pub(crate) fn keep(self) {
        let length = self.list.len() + self.count;
        assert!(length <= self.list.capacity(), "places are added where there is room");
        // SAFETY: so many elements behind those of the list were written, since each call of `add` writes as many as it
        // counts, one behind the other, from where the call before ended; and the list has room for them.
        unsafe { self.list.set_len(length) };
    }
}
