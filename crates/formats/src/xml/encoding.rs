//! From the bytes of an XML document to its text: byte order marks, the declared encoding, line ends.

use std::borrow::Cow;

use encoding_rs::{Encoding, UTF_16BE, UTF_16LE};

use crate::SyntaxError;

/// How the bytes of a document are encoded.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Charset {
    /// UTF-8, with or without a byte order mark.
    Utf8,
    /// UTF-16, most significant byte first.
    Utf16Be,
    /// UTF-16, least significant byte first.
    Utf16Le,
    /// ISO-8859-1: each byte is the character of that number.
    Latin1,
    /// US-ASCII.
    Ascii,
    /// Windows-1252.
    Windows1252,
}

impl Charset {
    /// The charset that begins with these bytes: by a byte order mark, by the zero bytes of UTF-16, else as the XML
    /// declaration says (XML 1.0 appendix F).
    ///
    /// # Errors
    /// A [`SyntaxError`] for an encoding that is not read, or that contradicts the bytes.
    pub fn detect(bytes: &[u8]) -> Result<Self, SyntaxError> {
        if bytes.starts_with(b"\xFE\xFF")
            || bytes.starts_with(b"\0<\0?")
            || bytes.starts_with(b"\0<\0!")
        {
            return Ok(Self::Utf16Be);
        }
        if bytes.starts_with(b"\xFF\xFE")
            || bytes.starts_with(b"<\0?\0")
            || bytes.starts_with(b"<\0!\0")
        {
            return Ok(Self::Utf16Le);
        }
        let marked = bytes.starts_with(b"\xEF\xBB\xBF");
        let Some((start, end)) = declared(bytes) else { return Ok(Self::Utf8) };
        let name = String::from_utf8_lossy(&bytes[start..end]).to_ascii_lowercase();
        let charset = match name.as_str() {
            "utf-8" | "utf8" => Self::Utf8,
            "iso-8859-1" | "iso8859-1" | "iso_8859-1" | "latin1" | "latin-1" | "l1" => Self::Latin1,
            "us-ascii" | "ascii" => Self::Ascii,
            "windows-1252" | "cp1252" => Self::Windows1252,
            name if UTF16_NAMES.contains(&name) => {
                return Err(SyntaxError::encoding(
                    start,
                    end,
                    format!("the document says that it is {name}, but its bytes are not"),
                    "write the encoding that the file has",
                ));
            }
            _ => {
                return Err(SyntaxError::encoding(
                    start,
                    end,
                    format!("the encoding {name} is not read"),
                    "UTF-8, UTF-16, ISO-8859-1, US-ASCII and Windows-1252 are: convert the file to one of them",
                ));
            }
        };
        if marked && charset != Self::Utf8 {
            return Err(SyntaxError::encoding(
                start,
                end,
                format!(
                    "the document begins with the byte order mark of UTF-8, but says that it is {name}"
                ),
                "write the encoding that the file has",
            ));
        }
        Ok(charset)
    }
}

const UTF16_NAMES: [&str; 5] = ["utf-16", "utf-16be", "utf-16le", "ucs-2", "iso-10646-ucs-2"];

/// Where the XML declaration names an encoding.
fn declared(bytes: &[u8]) -> Option<(usize, usize)> {
    let bytes = &bytes[..bytes.len().min(512)];
    let from = if bytes.starts_with(b"\xEF\xBB\xBF") { 3 } else { 0 };
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
/// With `lenient`, bytes that are no characters become U+FFFD; where the first of them stands is given, too.
///
/// # Errors
/// A [`SyntaxError`] with the offset in `bytes` where they are no text in their encoding.
pub fn decode(bytes: &[u8], lenient: bool) -> Result<(Cow<'_, str>, Option<usize>), SyntaxError> {
    let charset = match Charset::detect(bytes) {
        Err(_) if lenient => Charset::Utf8,
        other => other?,
    };
    let (text, broken) = match charset {
        Charset::Utf8 | Charset::Ascii => {
            let bytes = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
            if charset == Charset::Ascii
                && !lenient
                && let Some(at) = bytes.iter().position(|byte| !byte.is_ascii())
            {
                return Err(SyntaxError::encoding(
                    at,
                    at + 1,
                    "the document says that it is US-ASCII, but this byte is not",
                    "write the encoding that the file has",
                ));
            }
            match std::str::from_utf8(bytes) {
                Ok(text) => (Cow::Borrowed(text), None),
                Err(error) if lenient => {
                    (String::from_utf8_lossy(bytes), Some(error.valid_up_to()))
                }
                Err(error) => {
                    let start = error.valid_up_to();
                    let end = start + error.error_len().unwrap_or(1);
                    let advice = "save it as UTF-8, or name its encoding in the XML declaration: \
                                  <?xml version=\"1.0\" encoding=\"windows-1252\"?>";
                    let message = "these bytes are not UTF-8";
                    return Err(SyntaxError::encoding(start, end, message, advice));
                }
            }
        }
        Charset::Latin1 => (encoding_rs::mem::decode_latin1(bytes), None),
        Charset::Windows1252 => {
            (encoding_rs::WINDOWS_1252.decode_without_bom_handling(bytes).0, None)
        }
        Charset::Utf16Be => utf16(UTF_16BE, bytes, lenient)?,
        Charset::Utf16Le => utf16(UTF_16LE, bytes, lenient)?,
    };
    Ok((line_ends(text), broken))
}

fn utf16<'b>(
    encoding: &'static Encoding,
    bytes: &'b [u8],
    lenient: bool,
) -> Result<(Cow<'b, str>, Option<usize>), SyntaxError> {
    let (text, broken) = encoding.decode_with_bom_removal(bytes);
    if broken && !lenient {
        let message = "these bytes are not UTF-16".to_owned();
        return Err(SyntaxError::encoding(
            bytes.len(),
            bytes.len(),
            message,
            "check how the file was saved",
        ));
    }
    if let Some((start, end)) = declared(text.as_bytes())
        && !lenient
        && !UTF16_NAMES.contains(&text[start..end].to_ascii_lowercase().as_str())
    {
        let message = format!("the document is UTF-16, but says that it is {}", &text[start..end]);
        return Err(SyntaxError::encoding(
            start * 2,
            end * 2,
            message,
            "write the encoding that the file has",
        ));
    }
    Ok((text, broken.then_some(0)))
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
    fn charsets() {
        let utf16 =
            |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
        for (bytes, text) in [
            (b"<a>\xC3\xB8</a>".to_vec(), "<a>ø</a>"),
            (b"\xEF\xBB\xBF<a/>".to_vec(), "<a/>"),
            (utf16("\u{feff}<a>ø</a>"), "<a>ø</a>"),
            (
                b"<?xml version='1.0' encoding='ISO-8859-1'?><a>\xF8\x80</a>".to_vec(),
                "<?xml version='1.0' encoding='ISO-8859-1'?><a>ø\u{80}</a>",
            ),
            (
                b"<?xml version='1.0' encoding='windows-1252'?><a>\x80</a>".to_vec(),
                "<?xml version='1.0' encoding='windows-1252'?><a>€</a>",
            ),
            (b"<a>\r\n\r</a>".to_vec(), "<a>\n\n</a>"),
        ] {
            assert_eq!(decode(&bytes, false).unwrap().0, text);
        }
        for bytes in [
            &b"<a>\xF8</a>"[..],
            b"<?xml version='1.0' encoding='UTF-16'?><a/>",
            b"<?xml version='1.0' encoding='shift-jis'?><a/>",
            b"\xEF\xBB\xBF<?xml version='1.0' encoding='latin1'?><a/>",
        ] {
            assert!(decode(bytes, false).is_err());
            assert!(decode(bytes, true).is_ok());
        }
    }
}
