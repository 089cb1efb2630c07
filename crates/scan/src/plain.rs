//! Texts without anything special in them, found 16 bytes at a time with what every processor of a kind has.

#[cfg(target_arch = "x86_64")]
use std::arch::x86_64::{
    __m128i, _mm_andnot_si128, _mm_cmpeq_epi8, _mm_loadu_si128, _mm_min_epu8, _mm_movemask_epi8,
    _mm_or_si128, _mm_set1_epi8, _mm_sub_epi8,
};

/// The bytes of a chunk.
pub const CHUNK: usize = 16;

/// The bytes of a chunk, as instructions take them.
#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
#[allow(unsafe_code, reason = "a load of as many bytes as a chunk has")]
fn loaded(chunk: &[u8; CHUNK]) -> __m128i {
    // SAFETY: a chunk has as many bytes as are read, which need not be aligned.
    unsafe { _mm_loadu_si128(chunk.as_ptr().cast()) }
}

/// All bits of each byte that is this one.
#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
fn equal(bytes: __m128i, byte: u8) -> __m128i {
    _mm_cmpeq_epi8(bytes, _mm_set1_epi8(byte as i8))
}

/// All bits of each byte that is no more than this one.
#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
fn at_most(bytes: __m128i, byte: i8) -> __m128i {
    _mm_cmpeq_epi8(_mm_min_epu8(bytes, _mm_set1_epi8(byte)), bytes)
}

/// How many bytes stand before the first that was found; all where none was.
#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
fn first(found: __m128i) -> usize {
    // A bit behind those of the chunk.
    (_mm_movemask_epi8(found) | 1 << CHUNK).trailing_zeros() as usize
}

/// How many of the first bytes of a chunk stand in a text in quotes of JSON (RFC 8259 section 7) just as they do in content
/// or attribute values of XML (XML 1.0 sections 2.4 and 3.1). The byte behind them ends the text, is written otherwise in
/// one of the two, or begins a character that one of the two may refuse.
#[inline]
#[must_use]
#[allow(unsafe_code, reason = "calls of code for instructions that every processor of a kind has")]
pub fn plain_bytes(chunk: &[u8; CHUNK]) -> usize {
    // SAFETY: SSE2 is part of x86-64, and NEON of this target.
    #[cfg(target_arch = "x86_64")]
    return unsafe { sse2(chunk) };
    #[cfg(all(target_arch = "aarch64", target_feature = "neon"))]
    return unsafe { neon(chunk) };
    #[allow(unreachable_code, reason = "reached where none of these is there")]
    by_hand(chunk)
}

/// How many of the first bytes of a chunk stand in a text in quotes of JSON for themselves (RFC 8259 section 7): what is behind them
/// is a quote, a backslash or a control character.
#[inline]
#[must_use]
#[allow(unsafe_code, reason = "calls of code for instructions that every processor of a kind has")]
pub fn unescaped_bytes(chunk: &[u8; CHUNK]) -> usize {
    // SAFETY: SSE2 is part of x86-64.
    #[cfg(target_arch = "x86_64")]
    return unsafe { unescaped_sse2(chunk) };
    #[allow(unreachable_code, reason = "reached on other processors")]
    unescaped_by_hand(chunk)
}

#[allow(dead_code, reason = "not called where there are instructions for it")]
fn unescaped_by_hand(chunk: &[u8; CHUNK]) -> usize {
    chunk.iter().take_while(|byte| !matches!(byte, 0..0x20 | b'"' | b'\\')).count()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
fn unescaped_sse2(chunk: &[u8; CHUNK]) -> usize {
    let bytes = loaded(chunk);
    let is = |byte: u8| equal(bytes, byte);
    let control = at_most(bytes, 0x1F);
    let found = _mm_or_si128(_mm_or_si128(is(b'"'), is(b'\\')), control);
    first(found)
}

/// How many of the first bytes of a chunk stand for themselves in the content of an element of XML (XML 1.0 section 3.1), white space
/// among them: what is behind them is markup, a bracket, a control character or the beginning of a character that may not stand there.
#[inline]
#[must_use]
#[allow(unsafe_code, reason = "calls of code for instructions that every processor of a kind has")]
pub fn content_bytes(chunk: &[u8; CHUNK]) -> usize {
    // SAFETY: SSE2 is part of x86-64.
    #[cfg(target_arch = "x86_64")]
    return unsafe { content_sse2(chunk) };
    #[allow(unreachable_code, reason = "reached on other processors")]
    content_by_hand(chunk)
}

#[allow(dead_code, reason = "not called where there are instructions for it")]
fn content_by_hand(chunk: &[u8; CHUNK]) -> usize {
    let is_content = |byte: &&u8| match byte {
        b'\t' | b'\n' | b'\r' => true,
        0..0x20 | b'<' | b'&' | b']' | 0xEF => false,
        _ => true,
    };
    chunk.iter().take_while(is_content).count()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
fn content_sse2(chunk: &[u8; CHUNK]) -> usize {
    let bytes = loaded(chunk);
    let is = |byte: u8| equal(bytes, byte);
    let low = at_most(bytes, 0x1F);
    let blank = _mm_or_si128(_mm_or_si128(is(b'\t'), is(b'\n')), is(b'\r'));
    let markup = _mm_or_si128(is(b'<'), is(b'&'));
    let other = _mm_or_si128(is(b']'), is(0xEF));
    let found = _mm_or_si128(_mm_or_si128(markup, other), _mm_andnot_si128(blank, low));
    first(found)
}

/// A bit for each byte of a chunk, the first one lowest, that is a digit.
#[inline]
#[must_use]
#[allow(unsafe_code, reason = "calls of code for instructions that every processor of a kind has")]
pub(crate) fn digit_bits(chunk: &[u8; CHUNK]) -> u32 {
    // SAFETY: SSE2 is part of x86-64.
    #[cfg(target_arch = "x86_64")]
    return unsafe { digits_sse2(chunk) };
    #[allow(unreachable_code, reason = "reached on other processors")]
    digits_by_hand(chunk)
}

#[allow(dead_code, reason = "not called where there are instructions for it")]
fn digits_by_hand(chunk: &[u8; CHUNK]) -> u32 {
    (0..CHUNK).filter(|at| chunk[*at].is_ascii_digit()).map(|at| 1 << at).sum()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
fn digits_sse2(chunk: &[u8; CHUNK]) -> u32 {
    let bytes = loaded(chunk);
    let values = _mm_sub_epi8(bytes, _mm_set1_epi8(b'0' as i8));
    _mm_movemask_epi8(at_most(values, 9)) as u32
}

/// A bit for each byte that two chunks have in the same place, the first byte's lowest.
#[inline(always)]
#[must_use]
#[allow(unsafe_code, reason = "calls of code for instructions that every processor of a kind has")]
pub fn equal_bits(one: &[u8; CHUNK], other: &[u8; CHUNK]) -> u32 {
    // SAFETY: SSE2 is part of x86-64.
    #[cfg(target_arch = "x86_64")]
    return unsafe { equal_sse2(one, other) };
    #[allow(unreachable_code, reason = "reached on other processors")]
    equal_by_hand(one, other)
}

#[allow(dead_code, reason = "not called where there are instructions for it")]
fn equal_by_hand(one: &[u8; CHUNK], other: &[u8; CHUNK]) -> u32 {
    (0..CHUNK).filter(|at| one[*at] == other[*at]).map(|at| 1 << at).sum()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
fn equal_sse2(one: &[u8; CHUNK], other: &[u8; CHUNK]) -> u32 {
    _mm_movemask_epi8(_mm_cmpeq_epi8(loaded(one), loaded(other))) as u32
}

/// Whether a byte ends a run of [`plain_bytes`].
#[inline]
#[must_use]
pub fn is_plain(byte: u8) -> bool {
    !matches!(byte, 0..0x20 | b'<' | b'&' | b']' | b'\'' | b'"' | b'\\' | 0xEF)
}

fn by_hand(chunk: &[u8; CHUNK]) -> usize {
    chunk.iter().take_while(|byte| is_plain(**byte)).count()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "sse2")]
#[inline]
fn sse2(chunk: &[u8; CHUNK]) -> usize {
    let bytes = loaded(chunk);
    let is = |byte: u8| equal(bytes, byte);
    let control = at_most(bytes, 0x1F);
    let quote = _mm_or_si128(is(b'"'), is(b'\''));
    let markup = _mm_or_si128(is(b'<'), is(b'&'));
    let other = _mm_or_si128(is(b']'), is(b'\\'));
    let found = _mm_or_si128(_mm_or_si128(quote, markup), _mm_or_si128(other, control));
    first(_mm_or_si128(found, is(0xEF)))
}

#[cfg(all(target_arch = "aarch64", target_feature = "neon"))]
#[target_feature(enable = "neon")]
#[inline]
fn neon(chunk: &[u8; CHUNK]) -> usize {
    use std::arch::aarch64::{
        vceqq_u8, vcltq_u8, vcombine_u8, vcreate_u8, vdupq_n_u8, vget_lane_u64, vorrq_u8,
        vreinterpret_u64_u8, vreinterpretq_u16_u8, vshrn_n_u16,
    };
    let word = u128::from_le_bytes(*chunk);
    let bytes = vcombine_u8(vcreate_u8(word as u64), vcreate_u8((word >> 64) as u64));
    let is = |byte: u8| vceqq_u8(bytes, vdupq_n_u8(byte));
    let control = vcltq_u8(bytes, vdupq_n_u8(0x20));
    let quote = vorrq_u8(is(b'"'), is(b'\''));
    let markup = vorrq_u8(is(b'<'), is(b'&'));
    let other = vorrq_u8(is(b']'), is(b'\\'));
    let found = vorrq_u8(vorrq_u8(quote, markup), vorrq_u8(other, control));
    let found = vorrq_u8(found, is(0xEF));
    // Four bits a byte.
    let bits =
        vget_lane_u64::<0>(vreinterpret_u64_u8(vshrn_n_u16::<4>(vreinterpretq_u16_u8(found))));
    (bits.trailing_zeros() / 4) as usize
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn chunks_are_as_their_bytes(chunk in proptest::array::uniform16(prop_oneof![
            4 => proptest::sample::select(&b"a 09/:z\t\n\r\x7f\x80\xf0>"[..]),
            1 => any::<u8>(),
        ])) {
            prop_assert_eq!(plain_bytes(&chunk), by_hand(&chunk));
            prop_assert_eq!(unescaped_bytes(&chunk), unescaped_by_hand(&chunk));
            prop_assert_eq!(digit_bits(&chunk), digits_by_hand(&chunk));
            prop_assert_eq!(content_bytes(&chunk), content_by_hand(&chunk));
        }

        #[test]
        fn equal_bytes_are_found(one in proptest::array::uniform16(0_u8..3), other in proptest::array::uniform16(0_u8..3)) {
            prop_assert_eq!(equal_bits(&one, &other), equal_by_hand(&one, &other));
        }
    }
}
