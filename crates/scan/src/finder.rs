//! From the classes of bytes to structure, 64 bytes after another.

use std::mem::MaybeUninit;

use crate::WORD;
use crate::classes::Classes;
use crate::escapes::Escapes;
use crate::grammar::{Grammar, Quoted};

/// As many words as room for brackets is made for at once.
pub(crate) const GROUP: usize = 64;

/// What the bytes so far come to.
#[derive(Clone, Debug, Default)]
pub(crate) struct Finder {
    /// Where the next word begins.
    at: u32,
    /// All ones while a text is open at the end of a word.
    inside: u64,
    escapes: Escapes,
    /// Control characters in texts.
    wrong: u64,
    grammar: Grammar,
}

impl Finder {
    /// Whether all texts ended, and nothing stands where it cannot.
    pub(crate) fn is_well_formed(&self) -> bool {
        self.wrong == 0
            && self.inside == 0
            && self.escapes.are_well_formed()
            && self.grammar.is_kept()
    }

    /// Whether no list or map is open.
    pub(crate) fn is_closed(&self) -> bool {
        self.grammar.is_closed()
    }

    /// Whether there was a backslash.
    pub(crate) fn has_escapes(&self) -> bool {
        self.escapes.are_there
    }

    /// Takes the next 64 bytes of a text, and `CHECKS` its grammar. `parity` is [`parity`], with what instructions there are.
    #[inline(always)]
    pub(crate) fn word<const CHECKS: bool>(
        &mut self,
        whole: &[u8],
        bytes: &[u8; WORD],
        classes: Classes,
        parity: impl FnOnce(u64) -> u64,
        brackets: &mut More<'_>,
    ) -> u64 {
        let mut quotes = classes.quotes;
        if classes.backslashes | self.escapes.goes_on != 0 {
            quotes &= !self.escapes.word(whole, self.at as usize, classes.backslashes);
        }
        let texts = parity(quotes) ^ self.inside;
        self.inside = ((texts as i64) >> 63) as u64;
        self.wrong |= classes.controls & texts;
        if CHECKS {
            self.grammar.word(whole, self.at as usize, &classes, &Quoted { quotes, texts });
        }
        brackets.add((classes.opening | classes.closing) & !texts, bytes, self.at);
        self.at += WORD as u32;
        quotes
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

/// Brackets outside of texts, in order.
#[derive(Clone, Debug, Default)]
pub(crate) struct Brackets {
    /// The bytes at which they stand.
    pub(crate) places: Vec<u32>,
    /// The bytes that they are.
    pub(crate) kinds: Vec<u8>,
}

impl Brackets {
    pub(crate) fn clear(&mut self) {
        self.places.clear();
        self.kinds.clear();
    }
}

/// Where the brackets go of a group of words, behind others.
pub(crate) struct More<'b> {
    behind: &'b mut Brackets,
    /// How many were added.
    count: usize,
}

impl<'b> More<'b> {
    pub(crate) fn behind(behind: &'b mut Brackets) -> Self {
        behind.places.reserve(GROUP * WORD);
        behind.kinds.reserve(GROUP * WORD);
        Self { behind, count: 0 }
    }

    /// Adds the bytes of a word whose bits are set; the first of the word stands at place `at`.
    #[inline(always)]
    fn add(&mut self, mut bits: u64, word: &[u8; WORD], at: u32) {
        let count = bits.count_ones() as usize;
        let range = self.count..self.count + WORD;
        let places: &mut [MaybeUninit<u32>] =
            &mut self.behind.places.spare_capacity_mut()[range.clone()];
        let kinds: &mut [MaybeUninit<u8>] = &mut self.behind.kinds.spare_capacity_mut()[range];
        // Four at a time, so that how many there are is seldom to guess at.
        for (places, kinds) in places.chunks_exact_mut(4).zip(kinds.chunks_exact_mut(4)) {
            for (place, kind) in places.iter_mut().zip(kinds) {
                let bit = bits.trailing_zeros();
                place.write(at + bit);
                kind.write(word[bit as usize % WORD]);
                bits &= bits.wrapping_sub(1);
            }
            if bits == 0 {
                break;
            }
        }
        self.count += count;
    }

    /// Puts what was added into the lists.
    #[allow(unsafe_code, reason = "elements are written before the lists have them")]
    pub(crate) fn keep(self) {
        let Brackets { places, kinds } = self.behind;
        let length = places.len() + self.count;
        let fits = length <= places.capacity() && length <= kinds.capacity();
        assert!(fits && places.len() == kinds.len(), "brackets are added where there is room");
        // SAFETY: the first `length` elements of either list were written, since each call of `add` writes at least as many
        // as it counts, from where those that were counted before end; and the lists have room for them.
        unsafe {
            places.set_len(length);
            kinds.set_len(length);
        }
    }
}
