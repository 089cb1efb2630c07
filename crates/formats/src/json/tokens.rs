//! The scalar tokens of JSON, and the errors where one is expected (RFC 8259 sections 3, 6 and 7).

use kyanite_scan::number_end;
use kyanite_tree::{Number, Value};

use super::error::{Elsewhere, ErrorKind, ReadError};
use super::read::Reader;
use super::string::{plain_end, unescape};

impl<'a> Reader<'a> {
    /// Reads a quoted text, from its opening to behind its closing quote.
    #[inline]
    pub(super) fn quoted(&mut self) -> Result<&'a str, ReadError> {
        let start = self.at + 1;
        let end = plain_end(self.bytes, start);
        match self.bytes.get(end) {
            Some(b'"') => {
                self.at = end + 1;
                Ok(&self.text[start..end])
            }
            Some(b'\\') => {
                let quote = unescape(self.text, start, end, &mut self.unescaped)?;
                self.at = quote + 1;
                Ok(self.arena.text(&self.unescaped))
            }
            Some(control) => {
                Err(ReadError::new(ErrorKind::ControlCharacter(*control), end, end + 1))
            }
            None => Err(ReadError::new(ErrorKind::EndsInText, start - 1, start)),
        }
    }

    #[inline]
    pub(super) fn number(&mut self) -> Result<Number<'a>, ReadError> {
        let start = self.at;
        let end = number_end(self.bytes, start).map_err(|(why, at)| {
            ReadError::new(ErrorKind::BadNumber(why), start, (at + 1).min(self.bytes.len()))
        })?;
        self.at = end;
        Ok(Number::from_checked(&self.text[start..end]))
    }

    #[inline]
    pub(super) fn word(&mut self, word: &str, value: Value<'a>) -> Result<Value<'a>, ReadError> {
        if self.bytes[self.at..].starts_with(word.as_bytes()) {
            self.at += word.len();
            Ok(value)
        } else {
            Err(self.not_a_value())
        }
    }

    #[cold]
    pub(super) fn not_a_value(&self) -> ReadError {
        match self.bytes.get(self.at) {
            None => self.ends_inside(),
            Some(b'+' | b'.') => {
                let why = "it begins with a digit or a minus";
                ReadError::new(ErrorKind::BadNumber(why), self.at, self.word_end())
            }
            Some(_) => self.unexpected(ErrorKind::NotAValue, self.word_end()),
        }
    }

    #[cold]
    pub(super) fn no_comma(&self, close: char) -> ReadError {
        if self.at >= self.bytes.len() {
            return self.ends_inside();
        }
        self.unexpected(ErrorKind::NoComma(close), self.at + 1)
    }

    /// What is wrong from the position up to `end`, unless other notations have what stands there.
    #[cold]
    pub(super) fn unexpected(&self, kind: ErrorKind, end: usize) -> ReadError {
        match self.text.get(self.at..).and_then(Elsewhere::of) {
            Some((found, length)) => {
                ReadError::new(ErrorKind::Elsewhere(found), self.at, self.at + length)
            }
            None => ReadError::new(kind, self.at, end),
        }
    }

    #[cold]
    pub(super) fn ends_inside(&self) -> ReadError {
        let end = self.bytes.len();
        match self.open.last() {
            Some(open) => ReadError::new(ErrorKind::EndsInside(open.start), end, end),
            None => ReadError::new(ErrorKind::Empty, end, end),
        }
    }

    /// The end of the word at the position, for marking it; at least one character.
    pub(super) fn word_end(&self) -> usize {
        let rest = &self.text[self.at..];
        let word = rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
        self.at + word.max(rest.chars().next().map_or(0, char::len_utf8))
    }
}
