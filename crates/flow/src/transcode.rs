//! Inputs in other encodings: read as UTF-8.

use std::fmt;
use std::io::{self, Read};
use std::sync::{Arc, Mutex, PoisonError};

use kyanite_formats::SyntaxError;
use kyanite_formats::encoding::{Charset, Decoder};
use kyanite_tree::{Diagnostic, Passed, Place, TextPlaces};

use crate::Bytes;

/// Reads bytes in some encoding, and gives UTF-8 without a byte order mark.
pub(crate) struct Decoded {
    name: String,
    reader: Bytes,
    decoder: Decoder,
    block: Vec<u8>,
    /// What was decoded, and how much of it was given.
    decoded: String,
    given: usize,
    /// The text before it.
    before: Passed,
    ended: bool,
    failed: Option<NotDecoded>,
    replaced: Replaced,
}

/// Characters that were put in place of bytes that are none: how many, and where the first stands.
#[derive(Clone, Default)]
pub(crate) struct Replaced(Arc<Mutex<Option<(u64, Place)>>>);

impl Replaced {
    /// How many there were so far, and where.
    pub(crate) fn take(&self) -> Option<(u64, Place)> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

const BLOCK: usize = 64 * 1024;

impl Decoded {
    /// What `reader` gives in that encoding. Bytes that are no characters end it or, if it is `lenient`, are replaced.
    pub(crate) fn new(name: &str, reader: Bytes, charset: Charset, lenient: bool) -> Self {
        Self {
            name: name.to_owned(),
            reader,
            decoder: Decoder::new(charset, lenient),
            block: vec![0; BLOCK],
            decoded: String::new(),
            given: 0,
            before: Passed::default(),
            ended: false,
            failed: None,
            replaced: Replaced::default(),
        }
    }

    /// What will be known of replaced characters.
    pub(crate) fn replaced(&self) -> Replaced {
        self.replaced.clone()
    }

    /// Decodes the next block.
    fn decode(&mut self) -> io::Result<()> {
        let read = match self.reader.read(&mut self.block) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => return Ok(()),
            read => read?,
        };
        self.ended = read == 0;
        self.before.pass(self.decoded.as_bytes());
        self.decoded.clear();
        self.given = 0;
        let earlier = self.decoder.replaced();
        let decoded = self.decoder.decode(&self.block[..read], self.ended, &mut self.decoded);
        if decoded.is_err() {
            let (at, charset) = (self.decoded.len(), self.decoder.charset());
            let wrong = SyntaxError::not_in(charset, at, at + 1);
            let found = wrong.diagnostic(&self.name, self.decoded.as_bytes());
            let before = self.before;
            self.failed = Some(NotDecoded(found.behind(before)));
        }
        if let Some(first) = self.decoder.first_replaced() {
            let place =
                TextPlaces::new(&self.name, self.decoded.as_bytes()).place(first, first + 3);
            let mut replaced = self.replaced.0.lock().unwrap_or_else(PoisonError::into_inner);
            let (count, _) = replaced.get_or_insert_with(|| (0, place.behind(self.before)));
            *count += self.decoder.replaced() - earlier;
        }
        Ok(())
    }
}

impl Read for Decoded {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        while self.given == self.decoded.len() {
            if let Some(failed) = self.failed.take() {
                self.ended = true;
                return Err(io::Error::new(io::ErrorKind::InvalidData, failed));
            }
            if self.ended {
                break;
            }
            self.decode()?;
        }
        let rest = &self.decoded.as_bytes()[self.given..];
        let length = rest.len().min(out.len());
        out[..length].copy_from_slice(&rest[..length]);
        self.given += length;
        Ok(length)
    }
}

/// Bytes of an input are no characters in its encoding: what to say, with the place.
#[derive(Debug)]
pub(crate) struct NotDecoded(pub(crate) Diagnostic);

impl fmt::Display for NotDecoded {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl std::error::Error for NotDecoded {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_byte_orders_and_split_characters() {
        let text = "\u{feff}[\"ø €😀\"]".to_owned() + &"æ😀".repeat(50_000);
        for name in ["UTF-16BE", "UTF-16LE"] {
            let bytes: Vec<u8> =
                text.encode_utf16()
                    .flat_map(|unit| {
                        if name == "UTF-16BE" { unit.to_be_bytes() } else { unit.to_le_bytes() }
                    })
                    .collect();
            let charset = Charset::of_name(name).unwrap();
            let mut read = String::new();
            Decoded::new("f", Box::new(io::Cursor::new(bytes)), charset, false)
                .read_to_string(&mut read)
                .unwrap();
            assert!(read == text[3..]);
        }
    }

    /// The text before the fault is given, then its place.
    #[test]
    fn faults_have_places() {
        let bytes = [&b"a\n".repeat(BLOCK)[..], b"bc\xF8"].concat();
        let charset = Charset::of_name("ascii").unwrap();
        let reader = || Box::new(io::Cursor::new(bytes.clone()));
        let mut read = Vec::new();
        let failed =
            Decoded::new("f", reader(), charset, false).read_to_end(&mut read).unwrap_err();
        assert_eq!(read.len(), bytes.len() - 1);
        let NotDecoded(found) = failed.into_inner().unwrap().downcast_ref().map_or_else(
            || panic!("the error is another"),
            |NotDecoded(found)| NotDecoded(found.clone()),
        );
        let place = &found.places()[0];
        assert_eq!((place.at.line, place.at.column), (BLOCK as u64 + 1, 3));
        let mut lenient = Decoded::new("f", reader(), charset, true);
        let replaced = lenient.replaced();
        lenient.read_to_end(&mut Vec::new()).unwrap();
        let (count, first) = replaced.take().unwrap();
        assert_eq!((count, first.at), (1, place.at));
    }
}
