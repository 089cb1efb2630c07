//! The characters of XML (XML 1.0, fifth edition, sections 2.2 and 2.3).

use kyanite_scan::{CHUNK, content_bytes};

/// Byte may stand in a name.
const NAME: u8 = 1;
/// Byte may begin a name.
const START: u8 = 2;
/// Byte ends a run of plain text in content.
const TEXT_STOP: u8 = 4;
/// Byte ends a run of plain text in an attribute value.
const VALUE_STOP: u8 = 8;
/// Byte is white space.
const SPACE: u8 = 16;
/// Byte is written otherwise in text, or may have to be.
const ESCAPED: u8 = 32;

/// What each byte may be. Bytes of characters past ASCII are part of text; names look at the character itself. `0xEF` begins
/// the two characters that XML refuses, U+FFFE and U+FFFF.
const CLASSES: [u8; 256] = {
    let mut classes = [0; 256];
    let mut byte = 0;
    while byte < 256 {
        let is_alphabetic =
            (byte as u8).is_ascii_alphabetic() || byte == b'_' as usize || byte == b':' as usize;
        let is_digit =
            (byte as u8).is_ascii_digit() || byte == b'-' as usize || byte == b'.' as usize;
        if is_alphabetic {
            classes[byte] |= NAME | START;
        }
        if is_digit {
            classes[byte] |= NAME;
        }
        if byte < 0x20 {
            classes[byte] |= VALUE_STOP;
            if byte != 9 && byte != 10 && byte != 13 {
                classes[byte] |= TEXT_STOP | ESCAPED;
            }
        }
        byte += 1;
    }
    classes[b'<' as usize] |= TEXT_STOP | VALUE_STOP | ESCAPED;
    classes[b'&' as usize] |= TEXT_STOP | VALUE_STOP | ESCAPED;
    classes[b'>' as usize] |= ESCAPED;
    classes[b'\r' as usize] |= ESCAPED;
    classes[b']' as usize] |= TEXT_STOP;
    classes[b'"' as usize] |= VALUE_STOP;
    classes[b'\'' as usize] |= VALUE_STOP;
    classes[0xEF] |= TEXT_STOP | VALUE_STOP | ESCAPED;
    classes[b' ' as usize] |= SPACE;
    classes[b'\t' as usize] |= SPACE;
    classes[b'\n' as usize] |= SPACE;
    classes[b'\r' as usize] |= SPACE;
    classes
};

#[inline]
fn run(bytes: &[u8], at: usize, goes_on: impl Fn(u8) -> bool) -> usize {
    let rest = bytes.get(at..).unwrap_or_default();
    at + rest.iter().position(|byte| !goes_on(CLASSES[usize::from(*byte)])).unwrap_or(rest.len())
}

/// Where the white space at `at` ends.
#[inline]
pub(super) fn space_end(bytes: &[u8], mut at: usize) -> usize {
    const BLANKS: u64 = u64::from_ne_bytes([b' '; 8]);
    while let Some(byte) = bytes.get(at)
        && CLASSES[usize::from(*byte)] & SPACE != 0
    {
        at += 1;
        // Layout is mostly blanks behind a line end.
        while let Some(eight) = bytes.get(at..).and_then(<[u8]>::first_chunk::<8>) {
            let other = u64::from_le_bytes(*eight) ^ BLANKS;
            at += (other.trailing_zeros() / 8) as usize;
            if other != 0 {
                break;
            }
        }
    }
    at
}

/// Where a run of text in content stops: at markup, at `]`, at a character that may not stand there, or at the end.
#[inline]
pub(super) fn text_end(bytes: &[u8], mut at: usize) -> usize {
    while let Some(chunk) = bytes.get(at..).and_then(<[u8]>::first_chunk::<CHUNK>) {
        let length = content_bytes(chunk);
        at += length;
        if length < CHUNK {
            return at;
        }
    }
    run(bytes, at, |class| class & TEXT_STOP == 0)
}

/// Where a run of text stops that is written as it is.
#[inline]
pub(super) fn escaped_end(bytes: &[u8], at: usize) -> usize {
    run(bytes, at, |class| class & ESCAPED == 0)
}

/// Where a run of text in an attribute value stops: at a quote, markup, white space that is not a blank, or a character
/// that may not stand there.
#[inline]
pub(super) fn value_end(bytes: &[u8], at: usize) -> usize {
    run(bytes, at, |class| class & VALUE_STOP == 0)
}

/// Where the name that begins at `at` ends; `at` itself when none begins there.
#[inline]
pub(super) fn name_end(text: &str, at: usize) -> usize {
    let bytes = text.as_bytes();
    match bytes.get(at) {
        Some(byte) if CLASSES[usize::from(*byte)] & START != 0 => nmtoken_end(text, at),
        Some(byte) if *byte >= 0x80 && text[at..].starts_with(is_name_start) => {
            nmtoken_end(text, at)
        }
        _ => at,
    }
}

/// Where the run of name characters at `at` ends.
#[inline]
pub(super) fn nmtoken_end(text: &str, at: usize) -> usize {
    let bytes = text.as_bytes();
    let mut end = run(bytes, at, |class| class & NAME != 0);
    while bytes.get(end).is_some_and(|byte| *byte >= 0x80) {
        let Some(character) = text[end..].chars().next().filter(|c| is_name_char(*c)) else {
            break;
        };
        end = run(bytes, end + character.len_utf8(), |class| class & NAME != 0);
    }
    end
}

/// Production NameStartChar.
pub(super) fn is_name_start(character: char) -> bool {
    matches!(character,
        ':' | 'A'..='Z' | '_' | 'a'..='z' | '\u{C0}'..='\u{D6}' | '\u{D8}'..='\u{F6}' | '\u{F8}'..='\u{2FF}'
        | '\u{370}'..='\u{37D}' | '\u{37F}'..='\u{1FFF}' | '\u{200C}'..='\u{200D}' | '\u{2070}'..='\u{218F}'
        | '\u{2C00}'..='\u{2FEF}' | '\u{3001}'..='\u{D7FF}' | '\u{F900}'..='\u{FDCF}'
        | '\u{FDF0}'..='\u{FFFD}' | '\u{10000}'..='\u{EFFFF}')
}

/// Production NameChar.
fn is_name_char(character: char) -> bool {
    is_name_start(character)
        || matches!(character,
            '-' | '.' | '0'..='9' | '\u{B7}' | '\u{300}'..='\u{36F}' | '\u{203F}'..='\u{2040}')
}

/// Whether `text` is a Name.
pub(super) fn is_name(text: &str) -> bool {
    !text.is_empty() && name_end(text, 0) == text.len()
}

/// Whether a name is one that may be qualified: at most one colon, with a name on both sides (Namespaces in XML 1.0,
/// section 4).
pub(super) fn is_qualified(name: &str) -> bool {
    match name.split_once(':') {
        None => true,
        Some((prefix, local)) => {
            !prefix.is_empty() && !local.contains(':') && local.starts_with(is_name_start)
        }
    }
}

/// Production Char: what may stand in a document at all.
pub(super) fn is_char(character: char) -> bool {
    matches!(character, '\t' | '\n' | '\r' | '\u{20}'..='\u{D7FF}' | '\u{E000}'..='\u{FFFD}' | '\u{10000}'..)
}

/// The first character of `text` that may not stand in a document, and where it is.
pub(super) fn first_refused(text: &str) -> Option<(usize, char)> {
    // Only these bytes begin one.
    let suspect = |byte: &u8| *byte == 0xEF || (*byte < 0x20 && !matches!(byte, 9 | 10 | 13));
    let mut from = 0;
    while let Some(at) = text.as_bytes()[from..].iter().position(suspect).map(|at| from + at) {
        let character = text[at..].chars().next().unwrap_or('\0');
        if !is_char(character) {
            return Some((at, character));
        }
        from = at + character.len_utf8();
    }
    None
}

/// Production PubidChar.
pub(super) fn is_pubid(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b" \r\n-'()+,./:=?;!*#@$_%".contains(&byte)
}
