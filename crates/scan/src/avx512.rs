//! The structure by AVX-512: 64 bytes an instruction.
#![allow(
    unsafe_code,
    reason = "vector loads, and calls of code for instructions that were looked for"
)]

use std::arch::x86_64::{
    __m512i, _mm_loadu_si128, _mm512_and_si512, _mm512_broadcast_i32x4, _mm512_cmpeq_epi8_mask,
    _mm512_cmplt_epu8_mask, _mm512_loadu_si512, _mm512_or_si512, _mm512_set1_epi8,
    _mm512_shuffle_epi8, _mm512_srli_epi16, _mm512_test_epi8_mask,
};

use crate::classes::{Classes, LOWER, UPPER};
use crate::clmul::carry_less;
use crate::finder::{Brackets, Finder, GROUP, More, parity};
use crate::{Scan, WORD, Word, padded};

/// The scan, if the processor has the instructions.
pub(crate) fn scan() -> Option<Scan> {
    let has_all = is_x86_feature_detected!("avx512f")
        && is_x86_feature_detected!("avx512bw")
        && is_x86_feature_detected!("bmi1")
        && is_x86_feature_detected!("bmi2")
        && is_x86_feature_detected!("popcnt")
        && is_x86_feature_detected!("pclmulqdq");
    has_all.then_some(|text, room, brackets| {
        // SAFETY: this function is handed out only where all of these were detected.
        unsafe { words(text, room, brackets) }
    })
}

words!(
    #[target_feature(enable = "avx512f,avx512bw,bmi1,bmi2,popcnt,pclmulqdq")]
    carry_less
);

#[target_feature(enable = "avx512f,avx512bw")]
#[inline]
fn classes(word: &[u8; WORD]) -> Classes {
    // SAFETY: the load has the 64 bytes of the word, and both tables the 16 bytes that are loaded of them.
    let (bytes, upper, lower) = unsafe {
        (
            _mm512_loadu_si512(word.as_ptr().cast::<__m512i>()),
            _mm_loadu_si128(UPPER.as_ptr().cast()),
            _mm_loadu_si128(LOWER.as_ptr().cast()),
        )
    };
    let (upper, lower) = (_mm512_broadcast_i32x4(upper), _mm512_broadcast_i32x4(lower));
    let equal = |bytes, byte: u8| _mm512_cmpeq_epi8_mask(bytes, _mm512_set1_epi8(byte as i8));
    let fold = _mm512_set1_epi8(0x20);
    // `[` and `{`, and `]` and `}`, differ in one bit alone.
    let folded = _mm512_or_si512(bytes, fold);
    let half = _mm512_and_si512(_mm512_srli_epi16(bytes, 4), _mm512_set1_epi8(15));
    Classes {
        quotes: equal(bytes, b'"'),
        backslashes: equal(bytes, b'\\'),
        brackets: equal(folded, b'{') | equal(folded, b'}'),
        colons: equal(bytes, b':'),
        controls: _mm512_cmplt_epu8_mask(bytes, fold),
        // Of a byte from 0x80 on the shuffle gives nothing.
        plausible: _mm512_test_epi8_mask(
            _mm512_shuffle_epi8(upper, half),
            _mm512_shuffle_epi8(lower, bytes),
        ),
    }
}
