//! UTF-16 inputs: read as UTF-8.

use std::io::{self, Read};

use crate::Bytes;

use encoding_rs::{Decoder, DecoderResult, UTF_16BE, UTF_16LE};

/// Whether bytes begin with a byte order mark of UTF-16.
pub(crate) fn is_utf16(head: &[u8]) -> bool {
    head.starts_with(b"\xFF\xFE") || head.starts_with(b"\xFE\xFF")
}

/// Reads UTF-16 with a byte order mark, and gives UTF-8.
pub(crate) struct Utf16 {
    reader: Bytes,
    decoder: Option<Decoder>,
    block: Vec<u8>,
    /// What was decoded, and how much of it was given.
    decoded: String,
    given: usize,
    ended: bool,
}

const BLOCK: usize = 64 * 1024;

impl Utf16 {
    pub(crate) fn new(reader: Bytes) -> Self {
        Self {
            reader,
            decoder: None,
            block: vec![0; BLOCK],
            decoded: String::new(),
            given: 0,
            ended: false,
        }
    }

    /// Decodes the next block.
    fn decode(&mut self) -> io::Result<()> {
        let read = self.reader.read(&mut self.block)?;
        self.ended = read == 0;
        let bytes = &self.block[..read];
        let encoding = if bytes.starts_with(b"\xFE\xFF") { UTF_16BE } else { UTF_16LE };
        let decoder = self.decoder.get_or_insert_with(|| encoding.new_decoder_with_bom_removal());
        self.decoded.clear();
        self.given = 0;
        self.decoded.reserve(decoder.max_utf8_buffer_length_without_replacement(read).unwrap_or(0));
        match decoder.decode_to_string_without_replacement(bytes, &mut self.decoded, self.ended).0 {
            DecoderResult::Malformed(..) => {
                Err(io::Error::new(io::ErrorKind::InvalidData, "its bytes are not UTF-16"))
            }
            DecoderResult::InputEmpty | DecoderResult::OutputFull => Ok(()),
        }
    }
}

impl Read for Utf16 {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        while self.given == self.decoded.len() && !self.ended {
            self.decode()?;
        }
        let rest = &self.decoded.as_bytes()[self.given..];
        let length = rest.len().min(out.len());
        out[..length].copy_from_slice(&rest[..length]);
        self.given += length;
        Ok(length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_byte_orders_and_split_characters() {
        let text = "\u{feff}[\"ø €😀\"]".to_owned() + &"æ😀".repeat(50_000);
        for big in [false, true] {
            let bytes: Vec<u8> = text
                .encode_utf16()
                .flat_map(|unit| if big { unit.to_be_bytes() } else { unit.to_le_bytes() })
                .collect();
            let mut read = String::new();
            Utf16::new(Box::new(io::Cursor::new(bytes))).read_to_string(&mut read).unwrap();
            assert!(read == text[3..]);
        }
        let broken = Utf16::new(Box::new(io::Cursor::new(b"\xFF\xFE\x00\xD8\x00".to_vec())))
            .read_to_end(&mut Vec::new());
        assert!(broken.is_err());
    }
}
