//! The structure by SSSE3: 16 bytes an instruction, on x86-64 processors without AVX2.
#![allow(
    unsafe_code,
    reason = "vector loads, and calls of code for instructions that were looked for"
)]

use std::arch::x86_64::{
    __m128i, _mm_cmpeq_epi8, _mm_loadu_si128, _mm_max_epu8, _mm_movemask_epi8, _mm_or_si128,
    _mm_set1_epi8, _mm_shuffle_epi8, _mm_slli_epi16,
};

use crate::classes::{BLANKS, CURLY, Classes};
use crate::finder::{Brackets, Finder, GROUP, More, parity};
use crate::{Scan, WORD, padded};

/// The scan, if the processor has the instructions.
pub(crate) fn scan<const CHECKS: bool>() -> Option<Scan> {
    is_x86_feature_detected!("ssse3").then_some(|text, words_out, brackets| {
        // SAFETY: this function is handed out only where the feature was detected.
        unsafe { words::<CHECKS>(text, words_out, brackets) }
    })
}

words!(
    #[target_feature(enable = "ssse3")]
    parity
);

#[target_feature(enable = "ssse3")]
#[inline]
fn classes(word: &[u8; WORD]) -> Classes {
    let mut classes = Classes::default();
    let (chunks, _) = word.as_chunks::<16>();
    // SAFETY: the table has the 16 bytes that are loaded, which need no alignment.
    let blanks = unsafe { _mm_loadu_si128(BLANKS.as_ptr().cast::<__m128i>()) };
    for (chunk, at) in chunks.iter().zip([0, 16, 32, 48]) {
        // SAFETY: the chunk has the 16 bytes that are loaded, which need no alignment.
        let bytes = unsafe { _mm_loadu_si128(chunk.as_ptr().cast::<__m128i>()) };
        let equal = |bytes: __m128i, byte: u8| _mm_cmpeq_epi8(bytes, _mm_set1_epi8(byte as i8));
        let mask = |ones: __m128i| u64::from(_mm_movemask_epi8(ones) as u16) << at;
        // `[` and `{`, and `]` and `}`, differ in one bit alone.
        let fold = _mm_set1_epi8(CURLY as i8);
        let folded = _mm_or_si128(bytes, fold);
        // The greater of a byte and 0x20 is the byte, unless it is a control character.
        let is_greater = _mm_cmpeq_epi8(_mm_max_epu8(bytes, fold), bytes);
        classes.quotes |= mask(equal(bytes, b'"'));
        classes.backslashes |= mask(equal(bytes, b'\\'));
        classes.opening |= mask(equal(folded, b'{'));
        classes.closing |= mask(equal(folded, b'}'));
        // The bit moves to where a mask is made of it.
        classes.curly |= mask(_mm_slli_epi16::<2>(bytes));
        classes.colons |= mask(equal(bytes, b':'));
        classes.commas |= mask(equal(bytes, b','));
        // Of a byte from 0x80 on the shuffle gives nothing.
        classes.blanks |= mask(_mm_cmpeq_epi8(_mm_shuffle_epi8(blanks, bytes), bytes));
        classes.controls |= mask(is_greater) ^ 0xFFFF << at;
    }
    classes
}
