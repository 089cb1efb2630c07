//! Texts of elements and values of attributes, copied into a line of JSON as they are met.

use kyanite_scan::{CHUNK, is_plain, plain_bytes};

use super::{Line, Target};
use crate::json;
use crate::record_view::TEXT;
use crate::xml::chars;
use crate::xml::entities::{self, Reference};

/// What begins a CDATA section.
const SECTION: &str = "<![CDATA[";

impl<'t, T: Target> Line<'t, '_, '_, T> {
    /// The value of an attribute, from quote to quote.
    #[inline]
    pub(super) fn quoted(&mut self) -> Option<()> {
        let quote = self.byte(self.at).filter(|byte| matches!(byte, b'"' | b'\''))?;
        self.at += 1;
        self.put(b'"');
        loop {
            match self.copy()? {
                byte if byte == quote => {
                    self.at += 1;
                    self.put(b'"');
                    return Some(());
                }
                byte @ (b'\'' | b']') => self.put(byte),
                byte @ (b'"' | b'\\') => self.put_escape(byte),
                byte => {
                    self.special(byte)?;
                    continue;
                }
            }
            self.at += 1;
        }
    }

    /// Copies the plain text that stands here; gives the byte behind it.
    #[inline]
    fn copy(&mut self) -> Option<u8> {
        loop {
            let rest: &'t [u8] = self.bytes.get(self.at..)?;
            let Some(chunk) = rest.first_chunk::<CHUNK>() else {
                let length = rest.iter().take_while(|byte| is_plain(**byte)).count();
                self.put_all(&rest[..length]);
                self.at += length;
                return rest.get(length).copied();
            };
            let length = plain_bytes(chunk);
            // All of it, as that is faster than just what is wanted.
            self.put_all(chunk);
            self.at += length;
            if let Some(behind) = chunk.get(length) {
                if let Some(out) = self.target.out() {
                    out.truncate(out.len() - (CHUNK - length));
                }
                return Some(*behind);
            }
        }
    }

    /// The text of an element without elements.
    #[inline]
    pub(super) fn leaf(&mut self, is_map: bool) -> Option<()> {
        if is_map {
            if self.byte(self.at) == Some(b'<') && !self.is_section() {
                self.put(b'}');
                return Some(());
            }
            self.next_member();
            self.put(b'"');
            self.put_all(TEXT.as_bytes());
            self.put_all(b"\":");
        }
        self.put(b'"');
        let begin = self.target.out().map(|out| out.len());
        loop {
            match self.copy()? {
                b'<' if self.is_section() => {
                    self.section()?;
                    continue;
                }
                b'<' => break,
                b'\'' => self.put(b'\''),
                b']' if !self.bytes[self.at..].starts_with(b"]]>") => self.put(b']'),
                byte @ (b'"' | b'\\' | b'\n' | b'\t') => self.put_escape(byte),
                byte => {
                    self.special(byte)?;
                    continue;
                }
            }
            self.at += 1;
        }
        // Of sections that are empty no member comes.
        if is_map && begin.is_some() && begin == self.target.out().map(|out| out.len()) {
            return None;
        }
        self.put_all(if is_map { b"\"}" } else { b"\"" });
        Some(())
    }

    /// Whether a CDATA section begins here.
    #[inline]
    pub(super) fn is_section(&self) -> bool {
        self.bytes[self.at..].starts_with(SECTION.as_bytes())
    }

    /// Copies what stands in the CDATA section that begins here (XML 1.0 section 2.7), and steps over it.
    #[cold]
    fn section(&mut self) -> Option<()> {
        self.at += SECTION.len();
        loop {
            match self.copy()? {
                b']' if self.bytes[self.at..].starts_with(b"]]>") => {
                    self.at += 3;
                    return Some(());
                }
                byte @ (b'<' | b'&' | b']' | b'\'') => self.put(byte),
                byte @ (b'"' | b'\\' | b'\n' | b'\t') => self.put_escape(byte),
                byte @ 0xEF => {
                    self.special(byte)?;
                    continue;
                }
                _ => return None,
            }
            self.at += 1;
        }
    }

    /// A reference to a character, or a character that might have been one that XML refuses.
    #[cold]
    fn special(&mut self, byte: u8) -> Option<()> {
        let at = self.at;
        match byte {
            b'&' => {
                let (Reference::Character(character), end) =
                    entities::reference(self.text, at).ok()?
                else {
                    return None;
                };
                if let Some(out) = self.target.out() {
                    json::write_character(character, out);
                }
                self.at = end;
            }
            0xEF => {
                let character = self.text[at..].chars().next().filter(|c| chars::is_char(*c))?;
                self.at = at + character.len_utf8();
                let bytes = self.bytes;
                self.put_all(&bytes[at..self.at]);
            }
            _ => return None,
        }
        Some(())
    }
}
