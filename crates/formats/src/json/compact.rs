//! Values that stand in a text without blanks between their tokens: where they end, with their whole grammar checked (RFC 8259)
//! by the structure of the text.

use kyanite_scan::Structure;

use super::key::Key;
use kyanite_scan::number_end;

/// Names of one map; with more than so many a value is not handed on.
const MOST_NAMES: usize = 64;

/// What looking at values needs room for.
#[derive(Debug, Default)]
pub(super) struct Room {
    /// What stands for the names of the maps that are open.
    names: Vec<u64>,
    /// Where those of each map begin.
    first: Vec<usize>,
}

/// Where the value ends that begins at byte `start`, if it stands there compactly, each name once in its map, and its own
/// map has none of the names `without`. Escapes are not looked at.
pub(super) fn compact_end(
    bytes: &[u8],
    structure: &Structure,
    start: usize,
    depth: usize,
    without: &[Key],
    room: &mut Room,
) -> Option<usize> {
    let depth = depth.min(u64::BITS as usize);
    room.names.clear();
    room.first.clear();
    // The open brackets, one bit each: whether it is a curly one.
    let (mut at, mut curly, mut open) = (start, 0_u64, 0);
    loop {
        // A value begins.
        match *bytes.get(at)? {
            b'"' => at = structure.closing_quote(at)? + 1,
            b'-' | b'0'..=b'9' => at = number_end(bytes, at).ok()?,
            bracket @ (b'{' | b'[') => {
                open += 1;
                if open > depth {
                    return None;
                }
                at += 1;
                curly = curly << 1 | u64::from(bracket == b'{');
                if bracket == b'{' {
                    room.first.push(room.names.len());
                    if *bytes.get(at)? != b'}' {
                        at = behind_name(
                            bytes,
                            structure,
                            at,
                            if open == 1 { without } else { &[] },
                            room,
                        )?;
                        continue;
                    }
                } else if *bytes.get(at)? != b']' {
                    continue;
                }
            }
            b't' => at = behind(bytes, at, b"true")?,
            b'f' => at = behind(bytes, at, b"false")?,
            b'n' => at = behind(bytes, at, b"null")?,
            _ => return None,
        }
        // A value has ended, or a container is empty.
        loop {
            let is_map = curly & 1 == 1;
            match bytes.get(at) {
                _ if open == 0 => return Some(at),
                Some(b',') if is_map => {
                    at = behind_name(
                        bytes,
                        structure,
                        at + 1,
                        if open == 1 { without } else { &[] },
                        room,
                    )?;
                    break;
                }
                Some(b',') => {
                    at += 1;
                    break;
                }
                Some(b'}') if is_map => {
                    room.names.truncate(room.first.pop()?);
                }
                Some(b']') if !is_map => {}
                _ => return None,
            }
            (at, curly, open) = (at + 1, curly >> 1, open - 1);
        }
    }
}

/// Where the value begins behind the name at byte `at`, if it is a name that its map has not had.
#[inline]
fn behind_name(
    bytes: &[u8],
    structure: &Structure,
    at: usize,
    without: &[Key],
    room: &mut Room,
) -> Option<usize> {
    if *bytes.get(at)? != b'"' {
        return None;
    }
    let quote = structure.closing_quote(at)?;
    if *bytes.get(quote + 1)? != b':' || without.iter().any(|key| key.ends(&bytes[..=quote])) {
        return None;
    }
    // Names that are told apart are others; those that are not may be.
    let name = &bytes[at + 1..quote];
    let word = |chunk: Option<&[u8; 8]>| chunk.map(|chunk| u64::from_le_bytes(*chunk));
    let stands_for = match (word(name.first_chunk()), word(name.last_chunk())) {
        (Some(first), Some(last)) => first.rotate_left(9) ^ last,
        _ => match word(bytes[..quote].last_chunk()) {
            // What stands before a short name goes.
            Some(last) => last.checked_shr(8 * (8 - name.len()) as u32).unwrap_or_default(),
            None => name.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte)),
        },
    } ^ (name.len() as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    let others = &room.names[*room.first.last()?..];
    if others.len() == MOST_NAMES || others.contains(&stands_for) {
        return None;
    }
    room.names.push(stands_for);
    Some(quote + 2)
}

#[inline]
fn behind(bytes: &[u8], at: usize, word: &[u8]) -> Option<usize> {
    bytes[at..].starts_with(word).then_some(at + word.len())
}
