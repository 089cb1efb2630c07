//! The encoding of an XML document, as its bytes and its declaration tell (XML 1.0 appendix F), and its line ends.

use std::borrow::Cow;

use encoding_rs::{UTF_16BE, UTF_16LE};
use kyanite_tree::Setting;

use crate::SyntaxError;
use crate::encoding::{Charset, Decoder, UTF8_MARK};

/// How the document that begins with these bytes is encoded: by a byte order mark, by the zero bytes of UTF-16, else as the
/// XML declaration says.
///
/// # Errors
/// A [`SyntaxError`] for an encoding that is not known, or that contradicts the bytes.
pub fn charset(bytes: &[u8]) -> Result<Charset, SyntaxError> {
    if let Some(utf16) = utf16(bytes) {
        let text = utf16.beginning(&bytes[..bytes.len().min(2 * DECLARATION)]);
        return match declared(text.as_bytes()) {
            Some((start, end))
                if !Charset::of_name(&text[start..end]).is_some_and(Charset::is_utf16) =>
            {
                Err(contradiction(2 * start, 2 * end, "UTF-16", &text[start..end]))
            }
            _ => Ok(utf16),
        };
    }
    let Some((start, end)) = declared(bytes) else { return Ok(Charset::UTF8) };
    let name = String::from_utf8_lossy(&bytes[start..end]);
    let Some(charset) = Charset::of_name(&name) else {
        return Err(SyntaxError::encoding(
            start,
            end,
            format!("the encoding {name} is not known"),
            ADVICE,
        ));
    };
    if charset.is_utf16() {
        return Err(contradiction(start, end, "encoded with one byte for each sign", &name));
    }
    if bytes.starts_with(UTF8_MARK) && charset != Charset::UTF8 {
        let is = "UTF-8, as its byte order mark says";
        return Err(contradiction(start, end, is, &name));
    }
    Ok(charset)
}

const ADVICE: (&str, Setting) =
    ("correct the declaration, or say the encoding with ", Setting::Encoding);

fn contradiction(start: usize, end: usize, is: &str, says: &str) -> SyntaxError {
    let message = format!("the document is {is}, but says that it is {says}");
    SyntaxError::encoding(start, end, message, ADVICE)
}

/// UTF-16 by its byte order mark, or as XML begins in it.
fn utf16(bytes: &[u8]) -> Option<Charset> {
    let begins = |signs: [&[u8]; 3]| signs.iter().any(|sign| bytes.starts_with(sign));
    if begins([b"\xFE\xFF", b"\0<\0?", b"\0<\0!"]) {
        return Some(Charset::Standard(UTF_16BE));
    }
    begins([b"\xFF\xFE", b"<\0?\0", b"<\0!\0"]).then_some(Charset::Standard(UTF_16LE))
}

/// The bytes within which an XML declaration ends.
const DECLARATION: usize = 512;

/// Where the XML declaration names an encoding.
fn declared(bytes: &[u8]) -> Option<(usize, usize)> {
    let bytes = &bytes[..bytes.len().min(DECLARATION)];
    let from = if bytes.starts_with(UTF8_MARK) { UTF8_MARK.len() } else { 0 };
    if !bytes[from..].starts_with(b"<?xml") {
        return None;
    }
    let end = from + memchr::memmem::find(&bytes[from..], b"?>")?;
    let name = from + memchr::memmem::find(&bytes[from..end], b"encoding")? + "encoding".len();
    let quote = name + bytes[name..end].iter().position(|byte| matches!(byte, b'"' | b'\''))?;
    let close = memchr::memchr(bytes[quote], &bytes[quote + 1..end])?;
    Some((quote + 1, quote + 1 + close))
}

/// The text of a document: decoded, without a byte order mark, line ends as XML has them (`\n`, section 2.11).
///
/// # Errors
/// A [`SyntaxError`] with the offset in `bytes` where they are no text in their encoding.
pub fn decode(bytes: &[u8]) -> Result<Cow<'_, str>, SyntaxError> {
    let charset = charset(bytes)?;
    if charset == Charset::UTF8
        && let Ok(text) = std::str::from_utf8(bytes.strip_prefix(UTF8_MARK).unwrap_or(bytes))
    {
        return Ok(line_ends(Cow::Borrowed(text)));
    }
    let mut text = String::new();
    let decoded = Decoder::new(charset, false).decode(bytes, true, &mut text);
    decoded.map_err(|wrong| SyntaxError::not_in(charset, wrong.before, wrong.before + 1))?;
    Ok(line_ends(Cow::Owned(text)))
}

/// `\r\n` and `\r` become `\n`.
fn line_ends(text: Cow<'_, str>) -> Cow<'_, str> {
    if memchr::memchr(b'\r', text.as_bytes()).is_none() {
        return text;
    }
    Cow::Owned(text.replace("\r\n", "\n").replace('\r', "\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_in_their_encodings() {
        let utf16 =
            |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
        for (bytes, text) in [
            (b"<a>\xC3\xB8</a>".to_vec(), "<a>ø</a>"),
            (b"\xEF\xBB\xBF<a/>".to_vec(), "<a/>"),
            (utf16("\u{feff}<a>ø</a>"), "<a>ø</a>"),
            (
                utf16("<?xml version='1.0' encoding='UTF-16'?><a/>"),
                "<?xml version='1.0' encoding='UTF-16'?><a/>",
            ),
            (
                b"<?xml version='1.0' encoding='ISO-8859-1'?><a>\xF8\x80</a>".to_vec(),
                "<?xml version='1.0' encoding='ISO-8859-1'?><a>ø\u{80}</a>",
            ),
            (
                b"<?xml version='1.0' encoding='windows-1252'?><a>\x80</a>".to_vec(),
                "<?xml version='1.0' encoding='windows-1252'?><a>€</a>",
            ),
            (
                b"<?xml version='1.0' encoding='Shift_JIS'?><a>\x8D\xC4</a>".to_vec(),
                "<?xml version='1.0' encoding='Shift_JIS'?><a>再</a>",
            ),
            (b"<a>\r\n\r</a>".to_vec(), "<a>\n\n</a>"),
        ] {
            assert_eq!(decode(&bytes).unwrap(), text);
        }
    }

    #[test]
    fn refused() {
        let utf16 = "<?xml version='1.0' encoding='latin1'?><a/>";
        let utf16: Vec<u8> = utf16.encode_utf16().flat_map(u16::to_be_bytes).collect();
        for (bytes, message) in [
            (&b"<a>\xF8</a>"[..], "these bytes are not UTF-8"),
            (
                b"<?xml version='1.0' encoding='UTF-16'?><a/>",
                "the document is encoded with one byte for each sign, but says that it is UTF-16",
            ),
            (b"<?xml version='1.0' encoding='ebcdic'?><a/>", "the encoding ebcdic is not known"),
            (b"<?xml version='1.0' encoding='ascii'?><a>\xF8</a>", "these bytes are not US-ASCII"),
            (
                b"\xEF\xBB\xBF<?xml version='1.0' encoding='latin1'?><a/>",
                "the document is UTF-8, as its byte order mark says, but says that it is latin1",
            ),
            (&utf16, "the document is UTF-16, but says that it is latin1"),
        ] {
            assert_eq!(decode(bytes).unwrap_err().message(), message);
        }
    }
}
