//! Line ends as XML has them: `\r\n` and `\r` become `\n` (XML 1.0 section 2.11).

use std::io::{self, Read};

use crate::Bytes;

/// Reads a text with the line ends of XML.
pub(crate) struct LineEnds {
    reader: Bytes,
    /// Whether the last byte that was read was `\r`.
    after_return: bool,
}

impl LineEnds {
    pub(crate) fn new(reader: Bytes) -> Self {
        Self { reader, after_return: false }
    }
}

impl Read for LineEnds {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        loop {
            let read = self.reader.read(out)?;
            let block = &mut out[..read];
            if read == 0 || !self.after_return && memchr::memchr(b'\r', block).is_none() {
                return Ok(read);
            }
            let mut kept = 0;
            for at in 0..read {
                let byte = block[at];
                let is_rest = byte == b'\n' && self.after_return;
                self.after_return = byte == b'\r';
                if !is_rest {
                    block[kept] = if byte == b'\r' { b'\n' } else { byte };
                    kept += 1;
                }
            }
            // A block of nothing but the rest of a line end is no end of the input.
            if kept > 0 {
                return Ok(kept);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn line_ends_in_blocks_of_any_size() {
        struct Few(Vec<u8>, usize);
        impl Read for Few {
            fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
                let length = self.1.min(self.0.len()).min(out.len());
                out[..length].copy_from_slice(&self.0[..length]);
                self.0.drain(..length);
                Ok(length)
            }
        }
        for size in 1..6 {
            let mut text = String::new();
            let few = Few(b"a\r\nb\rc\n\r\n\r\rd\r\n".to_vec(), size);
            LineEnds::new(Box::new(few)).read_to_string(&mut text).unwrap();
            assert_eq!(text, "a\nb\nc\n\n\n\nd\n", "{size}");
        }
    }
}
