//! Quoted texts: finding their end, and resolving escapes (RFC 8259 section 7).

use kyanite_scan::{CHUNK, unescaped_bytes};

use super::error::{ErrorKind, ReadError};

const ONES: u64 = 0x0101_0101_0101_0101;
const HIGHS: u64 = 0x8080_8080_8080_8080;

/// A high bit for each byte of a word that is a quote, a backslash or a control character; only the first is sure to be one.
#[inline]
fn specials(word: u64) -> u64 {
    let zero = |word: u64| word.wrapping_sub(ONES) & !word & HIGHS;
    let quote = zero(word ^ (ONES * u64::from(b'"')));
    let backslash = zero(word ^ (ONES * u64::from(b'\\')));
    let control = word.wrapping_sub(ONES * 0x20) & !word & HIGHS;
    quote | backslash | control
}

/// The first byte at or after `at` that is a quote, a backslash or a control character; the length of `bytes`
/// if there is none.
#[inline]
pub(super) fn plain_end(bytes: &[u8], mut at: usize) -> usize {
    while let Some(chunk) = bytes.get(at..).and_then(<[u8]>::first_chunk::<CHUNK>) {
        let plain = unescaped_bytes(chunk);
        at += plain;
        if plain < CHUNK {
            return at;
        }
    }
    short_plain_end(bytes, at)
}

/// The same for the last bytes, which fill no chunk.
fn short_plain_end(bytes: &[u8], mut at: usize) -> usize {
    // Eight bytes at a time, by the arithmetic of a zero byte in a word: `(w - 1) & !w` has a high bit exactly
    // at (or above) the first zero byte, and only the first set bit is used.
    while let Some(chunk) = bytes.get(at..).and_then(<[u8]>::first_chunk::<8>) {
        let special = specials(u64::from_le_bytes(*chunk));
        if special != 0 {
            return at + (special.trailing_zeros() / 8) as usize;
        }
        at += 8;
    }
    // What is left is the end of the last eight bytes; blanks, which are plain, stand in for those before it.
    if let Some(chunk) = bytes.last_chunk::<8>() {
        let left = bytes.len() - at;
        if left == 0 {
            return at;
        }
        let word = (u64::from_le_bytes(*chunk) >> (8 * (8 - left))) | (ONES * 0x20) << (8 * left);
        let special = specials(word);
        return if special == 0 {
            bytes.len()
        } else {
            at + (special.trailing_zeros() / 8) as usize
        };
    }
    while let Some(byte) = bytes.get(at) {
        if matches!(byte, b'"' | b'\\' | 0..=0x1F) {
            break;
        }
        at += 1;
    }
    at
}

/// Whether a text needs no escape at all.
#[inline]
pub(super) fn is_plain(bytes: &[u8]) -> bool {
    let word = |chunk: &[u8; 4]| u64::from(u32::from_le_bytes(*chunk));
    match (bytes.first_chunk::<4>(), bytes.last_chunk::<4>()) {
        (Some(_), Some(_)) if bytes.len() >= 8 => plain_end(bytes, 0) == bytes.len(),
        // Two words that overlap cover the text.
        (Some(first), Some(last)) => specials(word(first) | word(last) << 32) == 0,
        _ => bytes.iter().all(|byte| !matches!(byte, b'"' | b'\\' | 0..=0x1F)),
    }
}

/// What stands between the quotes of a text of JSON, with its escapes resolved. Of a text that is none, the part before what is wrong.
///
/// ```
/// assert_eq!(kyanite_formats::json::unescaped(r"Kittiwake\u0020II"), "Kittiwake II");
/// ```
#[must_use]
pub fn unescaped(quoted: &str) -> String {
    let text = format!("\"{quoted}\"");
    let mut out = String::with_capacity(quoted.len());
    // What a reader of events gives was checked, so that this is no error there.
    let _ = unescape(&text, 1, 1, &mut out);
    out
}

/// Resolves the escapes of a quoted text whose first byte after the quote is `start`; `at` is the first
/// backslash. Gives the offset of the closing quote, with the text in `out`.
pub(super) fn unescape(
    text: &str,
    start: usize,
    mut at: usize,
    out: &mut String,
) -> Result<usize, ReadError> {
    let bytes = text.as_bytes();
    out.clear();
    out.push_str(&text[start..at]);
    loop {
        match bytes.get(at) {
            Some(b'"') => return Ok(at),
            Some(b'\\') => {
                let (character, end) = escape(bytes, at)?;
                out.push(character);
                at = end;
            }
            Some(control @ 0..=0x1F) => {
                return Err(ReadError::new(ErrorKind::ControlCharacter(*control), at, at + 1));
            }
            Some(_) => {
                let end = plain_end(bytes, at);
                out.push_str(&text[at..end]);
                at = end;
            }
            None => return Err(ReadError::new(ErrorKind::EndsInText, start - 1, start)),
        }
    }
}

/// Where the text ends that begins behind a quote at byte `at`, before the other, and whether it has escapes; None where it is none.
#[inline]
pub(super) fn quoted_end(bytes: &[u8], at: usize) -> Option<(usize, bool)> {
    let end = plain_end(bytes, at);
    match bytes.get(end)? {
        b'"' => Some((end, false)),
        _ => escaped_end(bytes, end).map(|end| (end, true)),
    }
}

/// Where a text ends whose first escape is at byte `at`.
fn escaped_end(bytes: &[u8], mut at: usize) -> Option<usize> {
    loop {
        match bytes.get(at)? {
            b'"' => return Some(at),
            b'\\' => at = plain_end(bytes, escape(bytes, at).ok()?.1),
            _ => return None,
        }
    }
}

/// The character that the escape at `at` stands for, and the offset behind it.
#[inline]
fn escape(bytes: &[u8], at: usize) -> Result<(char, usize), ReadError> {
    let plain = match bytes.get(at + 1) {
        Some(b'u') => return unicode_escape(bytes, at),
        Some(b'n') => '\n',
        Some(b't') => '\t',
        Some(b'r') => '\r',
        Some(b'b') => '\u{8}',
        Some(b'f') => '\u{c}',
        Some(byte @ (b'"' | b'\\' | b'/')) => char::from(*byte),
        _ => return Err(ReadError::new(ErrorKind::BadEscape, at, at + 1)),
    };
    Ok((plain, at + 2))
}

fn unicode_escape(bytes: &[u8], at: usize) -> Result<(char, usize), ReadError> {
    let bad = || ReadError::new(ErrorKind::BadEscape, at, at + 2);
    let lone = || ReadError::new(ErrorKind::LoneSurrogate, at, at + 6);
    let first = four_digits(bytes, at + 2).ok_or_else(bad)?;
    if let Some(character) = char::from_u32(first) {
        return Ok((character, at + 6));
    }
    if first >= 0xDC00 || bytes.get(at + 6..at + 8) != Some(b"\\u") {
        return Err(lone());
    }
    let second = four_digits(bytes, at + 8)
        .ok_or_else(|| ReadError::new(ErrorKind::BadEscape, at + 6, at + 8))?;
    if !(0xDC00..0xE000).contains(&second) {
        return Err(lone());
    }
    let scalar = 0x10000 + ((first - 0xD800) << 10) + (second - 0xDC00);
    Ok((char::from_u32(scalar).ok_or_else(lone)?, at + 12))
}

fn four_digits(bytes: &[u8], at: usize) -> Option<u32> {
    bytes
        .get(at..at + 4)?
        .iter()
        .try_fold(0, |number, byte| Some(number * 16 + char::from(*byte).to_digit(16)?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn eight_at_a_time_is_one_at_a_time(bytes in proptest::collection::vec(any::<u8>(), 0..40), at in 0usize..8) {
            let at = at.min(bytes.len());
            let simple = bytes[at..]
                .iter()
                .position(|byte| matches!(byte, b'"' | b'\\' | 0..=0x1F))
                .map_or(bytes.len(), |found| at + found);
            prop_assert_eq!(plain_end(&bytes, at), simple);
        }
    }
}
