//! Record streams: blocks of bytes, and the records in them.
//!
//! A block ends at a line end, which no JSON token can span. Nearly always that is the end of a record, too; where
//! a record goes on, the consumer hands back what it could not use and gets it again with more behind it.
//! Files are read, not mapped: a mapped file that another program cuts short ends the process.

use std::io::{self, Read};

use kyanite_formats::json;
use kyanite_tree::{Arena, Problem, Spot, Value};

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

/// Reads the records of a block, one JSON value after another.
pub(crate) struct Records<'a> {
    reader: json::Reader<'a>,
    bytes: &'a [u8],
    text: &'a str,
    /// How many bytes behind the text are not UTF-8; 0 when all are.
    invalid: usize,
    is_last: bool,
    name: &'a str,
    lines_before: u64,
    /// Where the record that was read last begins.
    start: usize,
}

/// What comes next in a block.
pub(crate) enum Next<'a> {
    /// A record.
    Record(Value<'a>),
    /// Nothing; so many bytes of the block are used up.
    End(usize),
    /// A record that cannot be read.
    Broken(Problem),
}

impl<'a> Records<'a> {
    /// The records of `block`, before which the input called `name` has `lines_before` lines.
    pub(crate) fn new(
        block: Block<'a>,
        name: &'a str,
        lines_before: u64,
        arena: &'a Arena,
        options: json::ReaderOptions,
    ) -> Self {
        let Block { bytes, is_last } = block;
        let (text, invalid) = match std::str::from_utf8(bytes) {
            Ok(text) => (text, 0),
            Err(error) => {
                let valid = &bytes[..error.valid_up_to()];
                (std::str::from_utf8(valid).unwrap_or_default(), error.error_len().unwrap_or(1))
            }
        };
        let reader = json::Reader::new(text, arena, options);
        Self { reader, bytes, text, invalid, is_last, name, lines_before, start: 0 }
    }

    /// Reads on.
    pub(crate) fn next(&mut self) -> Next<'a> {
        self.start = self.reader.position();
        match self.reader.next_value() {
            Ok(Some(record)) => Next::Record(record),
            Ok(None) if self.invalid == 0 => Next::End(self.bytes.len()),
            Err(error) if error.wants_more() && self.invalid == 0 && !self.is_last => {
                Next::End(self.start)
            }
            Err(error) if self.invalid == 0 || !error.wants_more() => {
                Next::Broken(self.problem(&error))
            }
            // The text is at its end because it stops being UTF-8 there.
            Ok(None) | Err(_) => {
                let (start, end) = (self.text.len(), self.text.len() + self.invalid);
                Next::Broken(self.problem(&json::ReadError::new(
                    json::ErrorKind::NotUtf8,
                    start,
                    end,
                )))
            }
        }
    }

    /// Passes over the broken record. Gives how many bytes of the block are then used up, if it was the last.
    ///
    /// The next record is on the next line or, where records begin with a bracket, on the next line that begins
    /// with the same one.
    pub(crate) fn skip_broken(&mut self) -> Option<usize> {
        let begin = self.begin();
        let bracket = self.bytes.get(begin).copied().filter(|byte| matches!(byte, b'{' | b'['));
        let next = memchr::memchr_iter(b'\n', &self.bytes[begin..])
            .map(|at| begin + at + 1)
            .find(|line| bracket.is_none() || self.bytes.get(*line).copied() == bracket)
            .unwrap_or(self.bytes.len());
        if next > self.text.len() || next == self.bytes.len() {
            return Some(next);
        }
        self.reader.seek(next);
        None
    }

    /// How many bytes of the block have been read.
    pub(crate) fn used(&self) -> usize {
        self.reader.position()
    }

    /// Members that the records read since the last call held twice.
    pub(crate) fn take_duplicates(&mut self) -> Vec<json::Duplicate> {
        self.reader.take_duplicates()
    }

    /// The place of the value at byte `offset` of the block.
    pub(crate) fn spot(&self, offset: usize) -> Spot {
        self.below(Spot::of(
            self.name,
            self.text.as_bytes(),
            offset,
            json::value_end(self.text, offset),
        ))
    }

    fn below(&self, mut spot: Spot) -> Spot {
        spot.at = spot.at.below(self.lines_before);
        spot
    }

    /// The first byte of the record that was read last.
    fn begin(&self) -> usize {
        let blank = self.bytes[self.start..].iter().take_while(|byte| byte.is_ascii_whitespace());
        self.start + blank.count()
    }

    /// Where the record broke, and where it began if that is on another line.
    fn problem(&self, error: &json::ReadError) -> Problem {
        let mut problem = error.problem(self.name, self.bytes);
        let began = Spot::of(self.name, self.bytes, self.begin(), self.begin() + 1);
        problem.spots.truncate(1);
        if problem.spots.first().is_some_and(|first| first.at.line != began.at.line) {
            problem.spots.push(began);
        }
        problem.spots = problem.spots.into_iter().map(|spot| self.below(spot)).collect();
        problem
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
