//! The structure by SSSE3: 16 bytes an instruction, on x86-64 processors without AVX2.
#![allow(
    unsafe_code,
    reason = "vector loads, and calls of code for instructions that were looked for"
)]

use std::arch::x86_64::{
    __m128i, _mm_and_si128, _mm_cmpeq_epi8, _mm_loadu_si128, _mm_max_epu8, _mm_movemask_epi8,
    _mm_or_si128, _mm_set1_epi8, _mm_setzero_si128, _mm_shuffle_epi8, _mm_srli_epi16,
};

use crate::classes::{Classes, LOWER, UPPER};
use crate::finder::{Brackets, Finder, GROUP, More, parity};
use crate::{Scan, WORD, Word, padded};

/// The scan, if the processor has the instructions.
pub(crate) fn scan() -> Option<Scan> {
    is_x86_feature_detected!("ssse3").then_some(|text, room, brackets| {
        // SAFETY: this function is handed out only where the feature was detected.
        unsafe { words(text, room, brackets) }
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
    for (chunk, at) in chunks.iter().zip([0, 16, 32, 48]) {
        // SAFETY: the chunk has the 16 bytes that are loaded, which need no alignment.
        let bytes = unsafe { _mm_loadu_si128(chunk.as_ptr().cast::<__m128i>()) };
        let equal = |bytes: __m128i, byte: u8| _mm_cmpeq_epi8(bytes, _mm_set1_epi8(byte as i8));
        let mask = |ones: __m128i| u64::from(_mm_movemask_epi8(ones) as u16) << at;
        // `[` and `{`, and `]` and `}`, differ in one bit alone.
        let fold = _mm_set1_epi8(0x20);
        let folded = _mm_or_si128(bytes, fold);
        let brackets = _mm_or_si128(equal(folded, b'{'), equal(folded, b'}'));
        // The greater of a byte and 0x20 is the byte, unless it is a control character.
        let is_greater = _mm_cmpeq_epi8(_mm_max_epu8(bytes, fold), bytes);
        classes.quotes |= mask(equal(bytes, b'"'));
        classes.backslashes |= mask(equal(bytes, b'\\'));
        classes.brackets |= mask(brackets);
        classes.colons |= mask(equal(bytes, b':'));
        classes.controls |= mask(is_greater) ^ 0xFFFF << at;
        classes.plausible |= mask(implausible(bytes)) ^ 0xFFFF << at;
    }
    classes
}

/// Ones in the bytes whose halves share no bit.
#[target_feature(enable = "ssse3")]
#[inline]
fn implausible(bytes: __m128i) -> __m128i {
    // SAFETY: both tables have the 16 bytes that are loaded.
    let (upper, lower) =
        unsafe { (_mm_loadu_si128(UPPER.as_ptr().cast()), _mm_loadu_si128(LOWER.as_ptr().cast())) };
    let half = _mm_and_si128(_mm_srli_epi16(bytes, 4), _mm_set1_epi8(15));
    // Of a byte from 0x80 on the shuffle gives nothing.
    let both = _mm_and_si128(_mm_shuffle_epi8(upper, half), _mm_shuffle_epi8(lower, bytes));
    _mm_cmpeq_epi8(both, _mm_setzero_si128())
}
