//! Parity by multiplication without carries: one instruction on x86-64 processors that have it.

use std::arch::x86_64::{_mm_clmulepi64_si128, _mm_cvtsi128_si64, _mm_set_epi64x, _mm_set1_epi8};

/// [`parity`](crate::parity): each bit of a product with all ones is the sum, without carries, of the bits up to it.
#[target_feature(enable = "pclmulqdq")]
#[inline]
pub(crate) fn carry_less(bits: u64) -> u64 {
    let product = _mm_clmulepi64_si128::<0>(_mm_set_epi64x(0, bits as i64), _mm_set1_epi8(-1));
    _mm_cvtsi128_si64(product) as u64
}
