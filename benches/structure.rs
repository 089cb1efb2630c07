//! A candidate for stepping over values: the structure of 64 bytes at a time, as bit masks.
//!
//! Not used by the program; it shows how fast the quotes and brackets of JSON can be told apart, which bounds any reader
//! that skips what a rule does not need.
#![allow(unsafe_code, reason = "a measurement of vector instructions")]

/// Sums up the structure of `data`: quotes that open or close a text, and brackets and commas outside texts. `None`
/// where the processor has no AVX2.
#[must_use]
pub fn structure(data: &[u8]) -> Option<u64> {
    #[cfg(target_arch = "x86_64")]
    if is_x86_feature_detected!("avx2") && is_x86_feature_detected!("pclmulqdq") {
        // SAFETY: the features were detected on the line above.
        return Some(unsafe { avx2::structure(data) });
    }
    let _ = data;
    None
}

#[cfg(target_arch = "x86_64")]
mod avx2 {
    use std::arch::x86_64::{
        __m256i, _mm_clmulepi64_si128, _mm_cvtsi128_si64, _mm_set_epi64x, _mm256_cmpeq_epi8,
        _mm256_loadu_si256, _mm256_movemask_epi8, _mm256_or_si256, _mm256_set1_epi8,
    };

    /// # Safety
    /// The processor has AVX2 and PCLMULQDQ.
    #[target_feature(enable = "avx2,pclmulqdq,bmi2")]
    pub(super) unsafe fn structure(data: &[u8]) -> u64 {
        let (mut sum, mut inside, mut escaped) = (0, 0u64, 0u64);
        for block in data.chunks_exact(64) {
            // SAFETY: the block is 64 bytes long, so both loads of 32 bytes lie inside it.
            let (low, high) = unsafe {
                (
                    _mm256_loadu_si256(block.as_ptr().cast::<__m256i>()),
                    _mm256_loadu_si256(block.as_ptr().add(32).cast::<__m256i>()),
                )
            };
            let mask = |low: __m256i, high: __m256i| {
                u64::from(_mm256_movemask_epi8(low) as u32)
                    | (u64::from(_mm256_movemask_epi8(high) as u32) << 32)
            };
            let equal = |byte: u8| {
                let byte = _mm256_set1_epi8(byte as i8);
                mask(_mm256_cmpeq_epi8(low, byte), _mm256_cmpeq_epi8(high, byte))
            };
            let backslashes = equal(b'\\');
            let mut quotes = equal(b'"');
            if backslashes | escaped != 0 {
                quotes &= !escapes(backslashes, &mut escaped);
            }
            // The carry-less product with all ones is the running parity: ones between quotes.
            let parity = _mm_cvtsi128_si64(_mm_clmulepi64_si128(
                _mm_set_epi64x(0, quotes as i64),
                _mm_set_epi64x(0, -1),
                0,
            )) as u64;
            let text = parity ^ inside;
            inside = ((text as i64) >> 63) as u64;
            // `[` and `{`, and `]` and `}`, differ in one bit alone.
            let fold = _mm256_set1_epi8(0x20);
            let (low, high) = (_mm256_or_si256(low, fold), _mm256_or_si256(high, fold));
            let either = |byte: u8| {
                let byte = _mm256_set1_epi8(byte as i8);
                mask(_mm256_cmpeq_epi8(low, byte), _mm256_cmpeq_epi8(high, byte))
            };
            let brackets = (either(b'{') | either(b'}') | equal(b',')) & !text;
            sum += u64::from(quotes.count_ones() + brackets.count_ones());
        }
        sum
    }

    /// The characters that a backslash escapes, of a block that has any.
    fn escapes(mut backslashes: u64, carried: &mut u64) -> u64 {
        let mut escaped = *carried;
        backslashes &= !*carried;
        *carried = 0;
        while backslashes != 0 {
            let at = backslashes.trailing_zeros();
            if at == 63 {
                *carried = 1;
                break;
            }
            escaped |= 2 << at;
            backslashes &= !(3 << at);
        }
        escaped
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn counts_what_is_outside_texts() {
        let mut data = br#"{"a":[1,2],"b":"x,\"]\\"}"#.to_vec();
        data.resize(128, b' ');
        if let Some(sum) = super::structure(&data) {
            assert_eq!(sum, 6 + 6);
        }
    }
}
