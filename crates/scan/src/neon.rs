//! The structure by NEON: 16 bytes an instruction, on 64-bit ARM.
#![allow(
    unsafe_code,
    reason = "vector loads, and calls of code for instructions that were looked for"
)]

use std::arch::aarch64::{
    uint8x16_t, vaddv_u8, vandq_u8, vceqq_u8, vcltq_u8, vdupq_n_u8, vget_high_u8, vget_low_u8,
    vld1q_u8, vorrq_u8, vqtbl1q_u8, vtstq_u8,
};
use std::arch::is_aarch64_feature_detected;

use crate::classes::{BLANKS, CURLY, Classes};
use crate::finder::{Brackets, Finder, GROUP, More, parity};
use crate::{Scan, WORD, padded};

/// The scan, if the processor has the instructions.
pub(crate) fn scan<const CHECKS: bool>() -> Option<Scan> {
    is_aarch64_feature_detected!("neon").then_some(|text, words_out, brackets| {
        // SAFETY: this function is handed out only where the feature was detected.
        unsafe { words::<CHECKS>(text, words_out, brackets) }
    })
}

words!(
    #[target_feature(enable = "neon")]
    parity
);

/// A bit for each byte of a half.
const BITS: [u8; 16] = [1, 2, 4, 8, 16, 32, 64, 128, 1, 2, 4, 8, 16, 32, 64, 128];

#[target_feature(enable = "neon")]
#[inline]
fn classes(word: &[u8; WORD]) -> Classes {
    let mut classes = Classes::default();
    let (chunks, _) = word.as_chunks::<16>();
    // SAFETY: the table has the 16 bytes that are loaded.
    let blanks = unsafe { vld1q_u8(BLANKS.as_ptr()) };
    for (chunk, at) in chunks.iter().zip([0, 16, 32, 48]) {
        // SAFETY: the chunk has the 16 bytes that are loaded.
        let bytes = unsafe { vld1q_u8(chunk.as_ptr()) };
        let equal = |bytes: uint8x16_t, byte: u8| vceqq_u8(bytes, vdupq_n_u8(byte));
        // `[` and `{`, and `]` and `}`, differ in one bit alone.
        let folded = vorrq_u8(bytes, vdupq_n_u8(CURLY));
        let blank = vqtbl1q_u8(blanks, vandq_u8(bytes, vdupq_n_u8(15)));
        classes.quotes |= mask(equal(bytes, b'"')) << at;
        classes.backslashes |= mask(equal(bytes, b'\\')) << at;
        classes.opening |= mask(equal(folded, b'{')) << at;
        classes.closing |= mask(equal(folded, b'}')) << at;
        classes.curly |= mask(vtstq_u8(bytes, vdupq_n_u8(CURLY))) << at;
        classes.colons |= mask(equal(bytes, b':')) << at;
        classes.commas |= mask(equal(bytes, b',')) << at;
        classes.blanks |= mask(vceqq_u8(blank, bytes)) << at;
        classes.controls |= mask(vcltq_u8(bytes, vdupq_n_u8(0x20))) << at;
    }
    classes
}

/// A bit for each byte that is all ones.
#[target_feature(enable = "neon")]
#[inline]
fn mask(ones: uint8x16_t) -> u64 {
    // SAFETY: the table has the 16 bytes that are loaded.
    let bits = vandq_u8(ones, unsafe { vld1q_u8(BITS.as_ptr()) });
    u64::from(vaddv_u8(vget_low_u8(bits))) | u64::from(vaddv_u8(vget_high_u8(bits))) << 8
}
