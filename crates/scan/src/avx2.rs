//! The structure by AVX2: 32 bytes an instruction.
#![allow(
    unsafe_code,
    reason = "vector loads, and calls of code for instructions that were looked for"
)]

use std::arch::x86_64::{
    __m256i, _mm_loadu_si128, _mm256_broadcastsi128_si256, _mm256_cmpeq_epi8, _mm256_loadu_si256,
    _mm256_max_epu8, _mm256_movemask_epi8, _mm256_or_si256, _mm256_set1_epi8, _mm256_shuffle_epi8,
    _mm256_slli_epi16,
};

use crate::classes::{BLANKS, CURLY, Classes};
use crate::clmul::carry_less;
use crate::finder::{Brackets, Finder, GROUP, More, parity};
use crate::{Scan, WORD, padded};

/// The scan, if the processor has the instructions.
pub(crate) fn scan<const CHECKS: bool>() -> Option<Scan> {
    let has_all = is_x86_feature_detected!("avx2")
        && is_x86_feature_detected!("bmi1")
        && is_x86_feature_detected!("bmi2")
        && is_x86_feature_detected!("popcnt")
        && is_x86_feature_detected!("pclmulqdq");
    has_all.then_some(|text, words_out, brackets| {
        // SAFETY: this function is handed out only where all of these were detected.
        unsafe { words::<CHECKS>(text, words_out, brackets) }
    })
}

words!(
    #[target_feature(enable = "avx2,bmi1,bmi2,popcnt,pclmulqdq")]
    carry_less
);

#[target_feature(enable = "avx2")]
#[inline]
fn classes(word: &[u8; WORD]) -> Classes {
    // SAFETY: both loads of 32 bytes lie inside the 64 bytes of the word, and that of 16 inside the table; none needs alignment.
    let (low, high, blanks) = unsafe {
        (
            _mm256_loadu_si256(word.as_ptr().cast::<__m256i>()),
            _mm256_loadu_si256(word.as_ptr().add(32).cast::<__m256i>()),
            _mm256_broadcastsi128_si256(_mm_loadu_si128(BLANKS.as_ptr().cast())),
        )
    };
    let equal = |low: __m256i, high: __m256i, byte: u8| {
        let byte = _mm256_set1_epi8(byte as i8);
        mask(_mm256_cmpeq_epi8(low, byte), _mm256_cmpeq_epi8(high, byte))
    };
    // `[` and `{`, and `]` and `}`, differ in one bit alone.
    let fold = _mm256_set1_epi8(CURLY as i8);
    let (low_folded, high_folded) = (_mm256_or_si256(low, fold), _mm256_or_si256(high, fold));
    // The greater of a byte and 0x20 is the byte, unless it is a control character.
    let is_greater = |v: __m256i| _mm256_cmpeq_epi8(_mm256_max_epu8(v, fold), v);
    // Of a byte from 0x80 on the shuffle gives nothing.
    let is_blank = |v: __m256i| _mm256_cmpeq_epi8(_mm256_shuffle_epi8(blanks, v), v);
    // The bit moves to where a mask is made of it.
    let curly = |v: __m256i| _mm256_slli_epi16::<2>(v);
    Classes {
        quotes: equal(low, high, b'"'),
        backslashes: equal(low, high, b'\\'),
        opening: equal(low_folded, high_folded, b'{'),
        closing: equal(low_folded, high_folded, b'}'),
        curly: mask(curly(low), curly(high)),
        colons: equal(low, high, b':'),
        commas: equal(low, high, b','),
        blanks: mask(is_blank(low), is_blank(high)),
        controls: !mask(is_greater(low), is_greater(high)),
    }
}

#[target_feature(enable = "avx2")]
#[inline]
fn mask(low: __m256i, high: __m256i) -> u64 {
    u64::from(_mm256_movemask_epi8(low) as u32) | u64::from(_mm256_movemask_epi8(high) as u32) << 32
}
