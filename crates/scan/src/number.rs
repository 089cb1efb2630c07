//! The grammar of numbers (RFC 8259 section 6).

use crate::plain::{CHUNK, digit_bits};

/// Where the number ends that begins at byte `at`, with a digit or a minus.
///
/// # Errors
/// What is wrong with it, and at which byte.
#[inline(always)]
pub fn number_end(bytes: &[u8], at: usize) -> Result<usize, (&'static str, usize)> {
    let chunk = bytes.get(at..).and_then(<[u8]>::first_chunk::<CHUNK>);
    match chunk.and_then(short_number) {
        Some(length) => Ok(at + length),
        None => other_number_end(bytes, at, chunk),
    }
}

/// The same for a number that [`short_number`] knows nothing of: one that begins with a minus or a zero may be short as well.
#[inline(never)]
fn other_number_end(
    bytes: &[u8],
    at: usize,
    chunk: Option<&[u8; CHUNK]>,
) -> Result<usize, (&'static str, usize)> {
    match chunk.and_then(signed_number) {
        Some(length) => Ok(at + length),
        None => any_number_end(bytes, at),
    }
}

/// How many bytes the number has that a chunk begins with, if it begins with a digit above 0, has no exponent and ends within the chunk.
#[inline(always)]
pub fn short_number(chunk: &[u8; CHUNK]) -> Option<usize> {
    let digits = digit_bits(chunk);
    if digits & 1 == 0 || chunk[0] == b'0' { None } else { plain_number(chunk, digits) }
}

/// The same for one that may begin with a minus, and with a zero that stands alone in front of the point.
fn signed_number(chunk: &[u8; CHUNK]) -> Option<usize> {
    let sign = usize::from(chunk[0] == b'-');
    let digits = digit_bits(chunk);
    let has_zero = chunk[sign] == b'0' && digits >> (sign + 1) & 1 == 1;
    if digits >> sign & 1 == 0 || has_zero {
        return None;
    }
    plain_number(chunk, digits | sign as u32)
}

/// How many bytes a number has that begins with the first of these bits, if it has no exponent and ends within the chunk.
#[inline(always)]
fn plain_number(chunk: &[u8; CHUNK], digits: u32) -> Option<usize> {
    let mut end = digits.trailing_ones() as usize;
    if *chunk.get(end)? == b'.' {
        let fraction = end + 1;
        end = (digits | 1 << end).trailing_ones() as usize;
        if end == fraction {
            return None;
        }
    }
    // An exponent is a letter.
    (chunk.get(end)? | 0x20 != b'e').then_some(end)
}

fn any_number_end(bytes: &[u8], at: usize) -> Result<usize, (&'static str, usize)> {
    let digits = |from: usize, missing: &'static str| {
        let rest = bytes.get(from..).unwrap_or_default().iter();
        match rest.take_while(|byte| byte.is_ascii_digit()).count() {
            0 => Err((missing, from)),
            count => Ok(from + count),
        }
    };
    let first = at + usize::from(bytes[at] == b'-');
    let mut end = digits(first, "a digit is missing after the minus")?;
    if bytes[first] == b'0' && end > first + 1 {
        return Err(("zeros may not stand in front", end - 1));
    }
    if bytes.get(end) == Some(&b'.') {
        end = digits(end + 1, "a digit is missing after the point")?;
    }
    if let Some(b'e' | b'E') = bytes.get(end) {
        let sign = usize::from(matches!(bytes.get(end + 1), Some(b'+' | b'-')));
        end = digits(end + 1 + sign, "a digit is missing in the exponent")?;
    }
    Ok(end)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn short_numbers_are_as_all(text in "-?[0-9]{0,9}(\\.[0-9]{0,9})?([eE,}][-+0-9]{0,3})?[ ,]{0,9}") {
            prop_assume!(text.starts_with(|first: char| first == '-' || first.is_ascii_digit()));
            let bytes = text.as_bytes();
            prop_assert_eq!(number_end(bytes, 0), any_number_end(bytes, 0));
            let long = format!("{text}{:16}", "");
            prop_assert_eq!(number_end(long.as_bytes(), 0), any_number_end(long.as_bytes(), 0));
            prop_assert_eq!(number_end(format!("x{text}").as_bytes(), 1), any_number_end(bytes, 0).map(|end| end + 1).map_err(|(why, at)| (why, at + 1)));
        }
    }
}
