//! Texts in XML: references in place of what would be markup, or would be read as something else.

use kyanite_tree::Origin;

use super::chars;
use crate::error::{CannotHold, cannot_hold};

/// Done, or a value that XML cannot hold.
pub(super) type Written = Result<(), CannotHold>;

/// Appends an attribute, with a blank before it.
pub(super) fn write_attribute(
    name: &str,
    value: &str,
    origin: Origin,
    out: &mut Vec<u8>,
) -> Written {
    out.push(b' ');
    out.extend_from_slice(name.as_bytes());
    out.extend_from_slice(b"=\"");
    escape(value, true, origin, out)?;
    out.push(b'"');
    Ok(())
}

/// Appends text as content.
pub(super) fn escape_text(text: &str, origin: Origin, out: &mut Vec<u8>) -> Written {
    escape(text, false, origin, out)
}

/// Text with references for what would be markup, or would be read as something else (XML 1.0 sections 2.4 and 2.11).
fn escape(text: &str, in_attribute: bool, origin: Origin, out: &mut Vec<u8>) -> Written {
    let bytes = text.as_bytes();
    let mut from = 0;
    loop {
        let end = if in_attribute {
            chars::value_end(bytes, from)
        } else {
            chars::escaped_end(bytes, from)
        };
        out.extend_from_slice(&bytes[from..end]);
        let Some(byte) = bytes.get(end) else { return Ok(()) };
        from = end + 1;
        let reference: &[u8] = match byte {
            b'<' => b"&lt;",
            b'>' => b"&gt;",
            b'&' => b"&amp;",
            b'"' => b"&quot;",
            b'\'' => b"'",
            b'\r' => b"&#13;",
            b'\t' => b"&#9;",
            b'\n' => b"&#10;",
            _ => {
                let character = text[end..].chars().next().unwrap_or('\0');
                if !chars::is_char(character) {
                    return Err(cannot_hold(
                        format!("the character U+{:04X} cannot stand in XML", character as u32),
                        "take it away with replace()",
                        origin,
                    ));
                }
                from = end + character.len_utf8();
                &bytes[end..from]
            }
        };
        out.extend_from_slice(reference);
    }
}
