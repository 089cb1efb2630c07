//! Texts in XML: references in place of what would be markup, or would be read as something else.

use kyanite_tree::{Element, Origin};

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

/// The start tag of an element, with the attributes that it has and no others; what XML has no place for is left out of them.
///
/// ```
/// use kyanite_formats::xml::{document, start_tag, Options};
/// use kyanite_tree::Arena;
///
/// let arena = Arena::new();
/// let read = document("<b:berth xmlns:b='u' no='4 &lt; 5'/>", &arena, Options::default()).unwrap();
/// let berth = read.root.children().next().and_then(|child| child.as_element()).unwrap();
/// assert_eq!(start_tag(berth), r#"<b:berth xmlns:b="u" no="4 &lt; 5">"#);
/// ```
#[must_use]
pub fn start_tag(element: &Element<'_>) -> String {
    let mut tag = format!("<{}", element.name.qualified()).into_bytes();
    for attribute in element.attributes {
        // Characters that were read are ones that can be written.
        let _ =
            write_attribute(attribute.name.qualified(), attribute.value, Origin::NONE, &mut tag);
    }
    tag.push(b'>');
    String::from_utf8_lossy(&tag).into_owned()
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
