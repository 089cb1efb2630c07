//! Record streams: blocks of bytes, cut where records begin and end.
//!
//! A block ends at a line end, which no JSON token can span. Nearly always that is the end of a record, too; where
//! a record goes on, the consumer hands back what it could not use and gets it again with more behind it.
//! Files are read, not mapped: a mapped file that another program cuts short ends the process.

use std::io::{self, Read};

/// How many bytes are read at a time.
const BLOCK: usize = 256 * 1024;

/// Cuts a stream into blocks of whole lines.
pub(crate) struct Blocks {
    reader: Box<dyn Read>,
    buffer: Vec<u8>,
    /// The bytes that were read and not yet used.
    filled: usize,
    /// How many bytes must be there before the next block is cut.
    wanted: usize,
    ended: bool,
}

/// Whole lines of a stream.
pub(crate) struct Block<'b> {
    pub(crate) bytes: &'b [u8],
    /// Whether nothing comes after it.
    pub(crate) is_last: bool,
}

impl Blocks {
    pub(crate) fn new(reader: Box<dyn Read>) -> Self {
        Self { reader, buffer: Vec::new(), filled: 0, wanted: BLOCK, ended: false }
    }

    /// The next block: whole lines, at least the bytes that were handed back and more.
    pub(crate) fn next(&mut self) -> io::Result<Block<'_>> {
        loop {
            while !self.ended && self.filled < self.wanted {
                if self.buffer.len() < self.wanted {
                    self.buffer.resize(self.wanted, 0);
                }
                match self.reader.read(&mut self.buffer[self.filled..self.wanted]) {
                    Ok(0) => self.ended = true,
                    Ok(read) => self.filled += read,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                }
            }
            if self.ended {
                return Ok(Block { bytes: &self.buffer[..self.filled], is_last: true });
            }
            match memchr::memrchr(b'\n', &self.buffer[..self.filled]) {
                Some(end) => return Ok(Block { bytes: &self.buffer[..=end], is_last: false }),
                None => self.wanted = self.filled + self.filled.max(BLOCK),
            }
        }
    }

    /// Takes back all but the first `used` bytes of the last block.
    pub(crate) fn used(&mut self, used: usize) {
        self.buffer.copy_within(used..self.filled, 0);
        self.filled -= used;
        // A block of which nothing was usable was too small for its record.
        self.wanted = if used == 0 { self.filled * 2 } else { self.filled + BLOCK };
        self.wanted = self.wanted.max(BLOCK);
        if self.buffer.len() > self.wanted * 4 {
            self.buffer.truncate(self.wanted);
            self.buffer.shrink_to_fit();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_are_whole_lines_and_lose_nothing() {
        let text: Vec<u8> = (0..200_000).flat_map(|n| format!("{n}\n").into_bytes()).collect();
        let mut blocks = Blocks::new(Box::new(io::Cursor::new(text.clone())));
        let mut seen = Vec::new();
        loop {
            let block = blocks.next().unwrap();
            let (used, is_last) = (block.bytes.len(), block.is_last);
            assert!(is_last || block.bytes.ends_with(b"\n"));
            seen.extend_from_slice(block.bytes);
            blocks.used(used);
            if is_last {
                break;
            }
        }
        assert!(seen == text);
    }

    #[test]
    fn what_is_handed_back_comes_again_with_more() {
        let text = format!("[\n{}1]\n2\n", "1,\n".repeat(300_000));
        let mut blocks = Blocks::new(Box::new(io::Cursor::new(text.clone().into_bytes())));
        let mut length = 0;
        loop {
            let block = blocks.next().unwrap();
            assert!(text.as_bytes().starts_with(block.bytes));
            if block.is_last {
                assert_eq!(block.bytes.len(), text.len());
                break;
            }
            assert!(block.bytes.len() > length);
            length = block.bytes.len();
            blocks.used(0);
        }
    }
}
