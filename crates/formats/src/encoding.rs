//! From bytes to text: encodings by their names, by the bytes that an input begins with, and decoding block by block.
//!
//! The names and what they mean are those of the Encoding Standard (WHATWG), with two exceptions: ISO-8859-1 and US-ASCII are
//! what their own standards say, where that one reads Windows-1252. `80` in ISO-8859-1 is U+0080.

use encoding_rs::{DecoderResult, Encoding, REPLACEMENT, UTF_8, UTF_16BE, UTF_16LE};

/// The byte order mark of UTF-8.
pub const UTF8_MARK: &[u8] = b"\xEF\xBB\xBF";

/// How characters are encoded in bytes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Charset {
    /// As the Encoding Standard has it.
    Standard(&'static Encoding),
    /// ISO-8859-1: each byte is the character of that number.
    Latin1,
    /// US-ASCII: bytes above `7F` are none.
    Ascii,
}

/// Names of ISO-8859-1 and of US-ASCII in the registry of IANA, and those that people write.
const LATIN1: [&str; 10] = [
    "iso-8859-1",
    "iso8859-1",
    "iso_8859-1",
    "iso_8859-1:1987",
    "iso-ir-100",
    "latin1",
    "latin-1",
    "l1",
    "ibm819",
    "cp819",
];
const ASCII: [&str; 6] = ["us-ascii", "ascii", "ansi_x3.4-1968", "iso-ir-6", "iso646-us", "us"];

impl Charset {
    /// UTF-8.
    pub const UTF8: Self = Self::Standard(UTF_8);

    /// The encoding of that name.
    #[must_use]
    pub fn of_name(name: &str) -> Option<Self> {
        let lower = name.trim().to_ascii_lowercase();
        if LATIN1.contains(&lower.as_str()) {
            return Some(Self::Latin1);
        }
        if ASCII.contains(&lower.as_str()) {
            return Some(Self::Ascii);
        }
        let known = Encoding::for_label(lower.as_bytes())?;
        // Names of encodings that are not to be read stand for a decoder that refuses everything.
        (known != REPLACEMENT).then_some(Self::Standard(known))
    }

    /// The encoding that a byte order mark tells.
    #[must_use]
    pub fn of_mark(bytes: &[u8]) -> Option<Self> {
        Encoding::for_bom(bytes).map(|(encoding, _)| Self::Standard(encoding))
    }

    /// The name that the standard gives it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Standard(encoding) => encoding.name(),
            Self::Latin1 => "ISO-8859-1",
            Self::Ascii => "US-ASCII",
        }
    }

    /// Whether it is UTF-16 in either order of bytes.
    #[must_use]
    pub fn is_utf16(self) -> bool {
        matches!(self, Self::Standard(encoding) if encoding == UTF_16LE || encoding == UTF_16BE)
    }

    /// The text of bytes that are all there is, or of as many of them as are text.
    #[must_use]
    pub fn beginning(self, bytes: &[u8]) -> String {
        let mut text = String::new();
        // What is cut off at the end is no fault.
        let _ = Decoder::new(self, false).decode(bytes, false, &mut text);
        text
    }
}

/// Bytes that are no characters in the encoding.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Malformed {
    /// How many bytes of the block stand before them; none where they begin in the block before.
    pub before: usize,
}

/// Decodes one block of bytes after another; a byte order mark at the beginning is left out.
pub struct Decoder {
    charset: Charset,
    standard: Option<encoding_rs::Decoder>,
    /// Whether malformed bytes become U+FFFD.
    replaces: bool,
    /// How often they did.
    replaced: u64,
    /// Where in the text of the last block the first of these stands.
    first: Option<usize>,
}

impl Decoder {
    /// A decoder of that encoding, in which bytes that are no characters are faults or, if it `replaces` them, become U+FFFD.
    #[must_use]
    pub fn new(charset: Charset, replaces: bool) -> Self {
        let standard = match charset {
            Charset::Standard(encoding) => Some(encoding.new_decoder_with_bom_removal()),
            Charset::Latin1 | Charset::Ascii => None,
        };
        Self { charset, standard, replaces, replaced: 0, first: None }
    }

    /// The encoding.
    #[must_use]
    pub fn charset(&self) -> Charset {
        self.charset
    }

    /// How many characters were replaced so far.
    #[must_use]
    pub fn replaced(&self) -> u64 {
        self.replaced
    }

    /// Where in the text that the last block gave the first replaced character stands.
    #[must_use]
    pub fn first_replaced(&self) -> Option<usize> {
        self.first
    }

    /// Appends the text of a block to `out`; after a fault, that of the bytes before it.
    ///
    /// # Errors
    /// [`Malformed`] where bytes are no characters, or end inside one.
    pub fn decode(
        &mut self,
        bytes: &[u8],
        is_last: bool,
        out: &mut String,
    ) -> Result<(), Malformed> {
        let begin = out.len();
        self.first = None;
        let mut from = 0;
        loop {
            let (read, malformed) = self.step(&bytes[from..], is_last, out);
            from += read;
            let Some(length) = malformed else { return Ok(()) };
            if !self.replaces {
                return Err(Malformed { before: from.saturating_sub(length) });
            }
            self.first.get_or_insert(out.len() - begin);
            self.replaced += 1;
            out.push('\u{fffd}');
        }
    }

    /// Decodes up to behind the next fault, or all; gives how many bytes were read, and how many of them are the fault or
    /// stand behind it.
    fn step(&mut self, bytes: &[u8], is_last: bool, out: &mut String) -> (usize, Option<usize>) {
        let Some(decoder) = &mut self.standard else {
            let is_ascii = self.charset == Charset::Ascii;
            let foreign = if is_ascii { bytes.iter().position(|b| !b.is_ascii()) } else { None };
            let end = foreign.unwrap_or(bytes.len());
            out.push_str(&encoding_rs::mem::decode_latin1(&bytes[..end]));
            return (end + usize::from(foreign.is_some()), foreign.map(|_| 1));
        };
        let mut from = 0;
        loop {
            let rest = &bytes[from..];
            let room = decoder.max_utf8_buffer_length_without_replacement(rest.len());
            out.reserve(room.unwrap_or(rest.len()));
            let (result, read) = decoder.decode_to_string_without_replacement(rest, out, is_last);
            from += read;
            match result {
                DecoderResult::InputEmpty => return (from, None),
                DecoderResult::OutputFull => {}
                DecoderResult::Malformed(length, behind) => {
                    return (from, Some(usize::from(length) + usize::from(behind)));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names() {
        for (name, found) in [
            ("UTF-8", Some("UTF-8")),
            ("latin1", Some("ISO-8859-1")),
            ("ISO-8859-15", Some("ISO-8859-15")),
            ("ascii", Some("US-ASCII")),
            ("cp1251", Some("windows-1251")),
            ("Shift_JIS", Some("Shift_JIS")),
            ("gb18030", Some("gb18030")),
            ("utf-16", Some("UTF-16LE")),
            ("hz-gb-2312", None),
            ("ebcdic", None),
        ] {
            assert_eq!(Charset::of_name(name).map(Charset::name), found, "{name}");
        }
    }

    /// Bytes in an encoding, cut into blocks of every size, and their text.
    #[test]
    fn texts_in_blocks_of_any_size() {
        for (name, bytes, text) in [
            ("latin1", &b"\xF8\x80"[..], "ø\u{80}"),
            ("windows-1252", b"\xF8\x80", "ø€"),
            ("shift_jis", b"\x8D\xC4a", "再a"),
            ("koi8-r", b"\xC1", "а"),
            ("utf-8", b"\xEF\xBB\xBF\xE2\x82\xAC", "€"),
            ("utf-16be", b"\xFE\xFF\xD8\x3D\xDE\x00", "😀"),
        ] {
            let charset = Charset::of_name(name).unwrap();
            for size in 1..=bytes.len() {
                let (mut decoder, mut out) = (Decoder::new(charset, false), String::new());
                for block in bytes.chunks(size) {
                    decoder.decode(block, false, &mut out).unwrap();
                }
                decoder.decode(b"", true, &mut out).unwrap();
                assert_eq!(out, text, "{name} in blocks of {size}");
            }
        }
    }

    #[test]
    fn faults() {
        for (name, bytes, replaced, count) in [
            ("us-ascii", &b"a\xF8b\xF8"[..], "a\u{fffd}b\u{fffd}", 2),
            ("utf-8", b"\xF8a\xE2\x82", "\u{fffd}a\u{fffd}", 2),
            ("shift_jis", b"a\x81", "a\u{fffd}", 1),
            ("utf-16le", b"a\0\0\xD8", "a\u{fffd}", 1),
        ] {
            let charset = Charset::of_name(name).unwrap();
            let (mut decoder, mut out) = (Decoder::new(charset, true), String::new());
            decoder.decode(bytes, true, &mut out).unwrap();
            assert_eq!((out.as_str(), decoder.replaced()), (replaced, count), "{name}");
            let before = replaced.find('\u{fffd}');
            assert_eq!(decoder.first_replaced(), before);
            let mut out = String::new();
            assert!(Decoder::new(charset, false).decode(bytes, true, &mut out).is_err());
            assert_eq!(Some(out.len()), before);
        }
    }
}
