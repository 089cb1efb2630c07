//! Where nodes end that begin at a byte of a text.

use kyanite_tree::Arena;

use super::{Options, Reader};
use crate::xml::chars;

/// Where the mark for what was read at byte `offset` ends: a start tag's name, or a value up to its quote.
#[must_use]
pub fn value_end(text: &str, offset: usize) -> usize {
    let bytes = text.as_bytes();
    match bytes.get(offset) {
        Some(b'<') => chars::name_end(text, offset + 1),
        Some(_) => chars::value_end(bytes, offset).max(offset + 1),
        None => offset + 1,
    }
}

/// Where the element, the value of an attribute or the text ends that begins at byte `offset`, if one does.
#[must_use]
pub fn node_end(text: &str, offset: usize) -> Option<usize> {
    if text.as_bytes().get(offset)? != &b'<' || text[offset..].starts_with(CDATA) {
        return Some(if in_tag(text, offset) {
            value_end(text, offset)
        } else {
            text_end(text, offset)
        });
    }
    let arena = Arena::new();
    let options = Options {
        depth: usize::MAX,
        expansion: usize::MAX,
        namespaces: false,
        ..Options::default()
    };
    let mut reader = Reader::new(text, &arena, options);
    // What the document declares is not known here; references are left as they are.
    reader.dtd.to_mut().has_unread = true;
    reader.cursor.at = offset;
    reader.start_tag().ok()?;
    reader.last_name()?;
    reader.content().ok()?;
    Some(reader.cursor.at)
}

/// Whether the byte at `offset` is in a tag, and so in the value of an attribute.
fn in_tag(text: &str, offset: usize) -> bool {
    let before = &text.as_bytes()[..offset];
    let blank = before.iter().rposition(|byte| !byte.is_ascii_whitespace());
    matches!(before.last(), Some(b'"' | b'\''))
        && before[..blank.unwrap_or(0)]
            .iter()
            .rev()
            .find(|byte| !byte.is_ascii_whitespace())
            .is_some_and(|byte| *byte == b'=')
}

/// Where text ends, with the sections of characters in it.
fn text_end(text: &str, offset: usize) -> usize {
    let mut at = offset;
    loop {
        at += text[at..].find('<').unwrap_or(text.len() - at);
        if !text[at..].starts_with(CDATA) {
            return at;
        }
        at += text[at..].find("]]>").map_or(text.len() - at, |end| end + 3);
    }
}

/// What a section of characters begins with.
pub(super) const CDATA: &str = "<![CDATA[";
