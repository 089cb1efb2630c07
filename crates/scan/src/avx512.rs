//! The structure by AVX-512: 64 bytes an instruction.
#![allow(
    unsafe_code,
    reason = "vector loads, and calls of code for instructions that were looked for"
)]

use std::arch::x86_64::{
    __m512i, _mm_loadu_si128, _mm512_broadcast_i32x4, _mm512_cmpeq_epi8_mask,
    _mm512_cmplt_epu8_mask, _mm512_loadu_si512, _mm512_or_si512, _mm512_set1_epi8,
    _mm512_shuffle_epi8, _mm512_test_epi8_mask,
};

use crate::classes::{BLANKS, CURLY, Classes};
use crate::clmul::carry_less;
use crate::finder::{Brackets, Finder, GROUP, More, parity};
use crate::{Scan, WORD, padded};

/// The scan, if the processor has the instructions.
pub(crate) fn scan<const CHECKS: bool>() -> Option<Scan> {
    let has_all = is_x86_feature_detected!("avx512f")
        && is_x86_feature_detected!("avx512bw")
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
    #[target_feature(enable = "avx512f,avx512bw,bmi1,bmi2,popcnt,pclmulqdq")]
    carry_less
);

#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
fn classes(word: &[u8; WORD]) -> Classes {
    // SAFETY: the loads have the 64 bytes of the word and the 16 of the table.
    let (bytes, blanks) = unsafe {
        (
            _mm512_loadu_si512(word.as_ptr().cast::<__m512i>()),
            _mm_loadu_si128(BLANKS.as_ptr().cast()),
        )
    };
    let blanks = _mm512_broadcast_i32x4(blanks);
    let equal = |bytes, byte: u8| _mm512_cmpeq_epi8_mask(bytes, _mm512_set1_epi8(byte as i8));
    let fold = _mm512_set1_epi8(CURLY as i8);
    // `[` and `{`, and `]` and `}`, differ in one bit alone.
    let folded = _mm512_or_si512(bytes, fold);
    Classes {
        quotes: equal(bytes, b'"'),
        backslashes: equal(bytes, b'\\'),
        opening: equal(folded, b'{'),
        closing: equal(folded, b'}'),
        curly: _mm512_test_epi8_mask(bytes, fold),
        colons: equal(bytes, b':'),
        commas: equal(bytes, b','),
        // Of a byte from 0x80 on the shuffle gives nothing.
        blanks: _mm512_cmpeq_epi8_mask(_mm512_shuffle_epi8(blanks, bytes), bytes),
        controls: _mm512_cmplt_epu8_mask(bytes, fold),
    }
}
