//! Blocks of bytes that a stream is read in.
//!
//! A block ends at a line end, which no JSON token can span. Nearly always that is the end of a record, too; where
//! a record goes on, the consumer hands back what it could not use and gets it again with more behind it.
//! Files are read, not mapped: a mapped file that another program cuts short ends the process.

use std::io::{self, Read};

use kyanite_formats::json::{Found, ListScanError, ListScanner};
use kyanite_formats::{Format, documents};

use crate::Bytes;
use crate::live::Live;

/// How many bytes are read at a time.
const BLOCK: usize = 256 * 1024;

/// How many bytes are read first: what they hold tells how the others are run over.
const FIRST: usize = 32 * 1024;

/// As many blocks may hold one record before they are cut at any line.
const LONGEST: usize = 4;

/// Documents of one list up to this many bytes are held whole.
pub(crate) const SMALL: usize = 8 * 1024 * 1024;

/// The bytes behind something wrong that are kept for showing its line.
const LINE: usize = 200;

/// Where blocks end.
enum Cut {
    /// Behind a line end.
    Line,
    /// Behind a tag of XML.
    Tag,
    /// Behind a character, where its user knows where a part of the document may end.
    Character,
    /// Before what records begin with: `<booking`.
    Before(Vec<u8>),
    /// Before a line that begins with this bracket, where records of JSON have several lines.
    BeforeLine(u8),
    /// Where no item of the scanned list is under way.
    Items,
    /// Before the last document of this format; within a document that has more bytes than this, which is not read.
    Documents(Format, u64),
}

/// Cuts a stream into blocks of whole lines, or before what begins a record.
pub(crate) struct Blocks {
    reader: Bytes,
    /// Tells when the input pauses, if it may.
    live: Option<Live>,
    /// Whether bytes have come since a block was handed on.
    has_news: bool,
    cut: Cut,
    buffer: Vec<u8>,
    /// How many bytes are read at a time.
    size: usize,
    /// The bytes that were read and not yet used.
    filled: usize,
    /// How many bytes must be there before the next block is cut.
    wanted: usize,
    /// The most bytes that may be held.
    most: usize,
    ended: bool,
    /// What tells items of a JSON document apart, if that is what records are.
    list_scanner: Option<ListScanner>,
    /// The last byte behind which no item is under way.
    item_end: usize,
    list_error: Option<(ListScanError, Vec<u8>)>,
}

/// A document whose records come one by one, or one that has to be read whole.
pub(crate) enum Framing {
    Blocks(Box<Blocks>),
    Whole(Bytes),
}

/// Whole lines of a stream.
pub(crate) struct Block<'b> {
    pub(crate) bytes: &'b [u8],
    pub(crate) then: Then,
}

/// What comes after a block.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Then {
    /// Another.
    More,
    /// Nothing for now.
    Pause,
    /// Nothing.
    End,
}

impl Blocks {
    pub(crate) fn new(reader: Bytes, live: Option<Live>) -> Self {
        Self {
            reader,
            live,
            has_news: false,
            cut: Cut::Line,
            buffer: Vec::new(),
            size: BLOCK,
            filled: 0,
            wanted: FIRST,
            most: usize::MAX,
            ended: false,
            list_scanner: None,
            item_end: 0,
            list_error: None,
        }
    }

    /// The same blocks; where more bytes would have to be held for one record, reading fails.
    pub(crate) fn at_most(mut self, bytes: usize) -> Self {
        self.most = bytes;
        self
    }

    /// The same blocks, `times` as large: for work with a fixed cost for each block.
    pub(crate) fn larger(mut self, times: usize) -> Self {
        self.size = BLOCK * times;
        self.wanted = self.wanted.max(self.size);
        self
    }

    /// Blocks of the items of the list that `path` leads to in one JSON document that is large, or `of_any_size`. A small one is
    /// better held whole: then everything can be told about it.
    pub(crate) fn of_items(
        reader: Bytes,
        live: Option<Live>,
        path: Vec<String>,
        of_any_size: bool,
    ) -> io::Result<Framing> {
        let mut blocks = Self::new(reader, live);
        let (mut list_scanner, mut looked, mut found) = (ListScanner::new(path), 0, Found::Nothing);
        while found != Found::Other && !blocks.ended && blocks.filled < SMALL {
            blocks.wanted = blocks.filled + BLOCK;
            blocks.fill(true)?;
            if found == Found::Nothing {
                found = match list_scanner.find(&blocks.buffer[looked..blocks.filled]) {
                    Found::List(begin) => Found::List(looked + begin),
                    other => other,
                };
                looked = blocks.filled;
            }
        }
        match found {
            Found::List(begin) if !blocks.ended || of_any_size => {
                let before = &mut blocks.buffer[..begin];
                before.iter_mut().filter(|byte| **byte != b'\n').for_each(|byte| *byte = b' ');
                blocks.cut = Cut::Items;
                blocks.list_scanner = Some(list_scanner);
                blocks.follow(begin);
                Ok(Framing::Blocks(Box::new(blocks)))
            }
            _ => Ok(blocks.into_whole()),
        }
    }

    /// Blocks of whole documents of a format of which there [may be many](Format::has_documents), unless one is larger than `most` bytes.
    pub(crate) fn of_documents(
        reader: Bytes,
        live: Option<Live>,
        format: Format,
        most: u64,
    ) -> Self {
        Self { cut: Cut::Documents(format, most), ..Self::new(reader, live) }
    }

    /// Blocks of an input that has more than `most` bytes; a smaller one is better held whole.
    pub(crate) fn of_large(reader: Bytes, live: Option<Live>, most: usize) -> io::Result<Framing> {
        let mut blocks = Self::new(reader, live);
        while !blocks.ended && blocks.filled <= most {
            blocks.wanted = blocks.filled + BLOCK;
            blocks.fill(true)?;
        }
        Ok(if blocks.ended { blocks.into_whole() } else { Framing::Blocks(Box::new(blocks)) })
    }

    /// The input again, to be read whole.
    fn into_whole(self) -> Framing {
        Framing::Whole(self.into_reader())
    }

    /// All that was not used, once more.
    pub(crate) fn into_reader(mut self) -> Bytes {
        self.buffer.truncate(self.filled);
        let begin = io::Cursor::new(self.buffer);
        Box::new(begin.chain(self.reader))
    }

    /// What is wrong with the document around its items, and the line up to there with a little more.
    pub(crate) fn list_error(&self) -> Option<(ListScanError, &[u8])> {
        self.list_error.as_ref().map(|(list_error, after)| (list_error.clone(), after.as_slice()))
    }

    /// Scans the bytes from `from` on, which have just come.
    fn follow(&mut self, from: usize) {
        let Some(list_scanner) = &mut self.list_scanner else { return };
        let scanned = list_scanner.follow(&mut self.buffer[from..self.filled]);
        if let Some(cut) = scanned.cut {
            self.item_end = from + cut;
        }
        let (at, list_error) = match scanned.list_error {
            Some((at, list_error)) => (from + at, list_error),
            None => match list_scanner.finish().filter(|_| self.ended) {
                Some(list_error) => (self.filled, list_error),
                None => return,
            },
        };
        let after = &self.buffer[at..self.filled.min(at + LINE)];
        self.list_error = Some((list_error, after.to_vec()));
        // What comes behind is not looked at any more.
        (self.filled, self.ended, self.list_scanner) = (at, true, None);
    }

    /// Reads until the wanted number of bytes is there, the input ends, or it pauses: behind some that are new, if it
    /// `waits` for these. Tells whether it pauses.
    fn fill(&mut self, waits: bool) -> io::Result<bool> {
        if self.wanted > self.most {
            let message = "one record is larger than is held: ask for what is in it";
            return Err(io::Error::new(io::ErrorKind::FileTooLarge, message));
        }
        while !self.ended && self.filled < self.wanted {
            if (self.has_news || !waits) && self.live.as_ref().is_some_and(Live::pauses) {
                return Ok(true);
            }
            lengthen(&mut self.buffer, self.wanted);
            let before = self.filled;
            let read = read_some(&mut self.reader, &mut self.buffer[self.filled..self.wanted])?;
            self.filled += read;
            self.ended = read == 0;
            self.has_news = true;
            self.follow(before);
        }
        Ok(false)
    }

    /// The next block: whole lines, at least the bytes that were handed back and more.
    pub(crate) fn next(&mut self) -> io::Result<Block<'_>> {
        let (end, then) = loop {
            if let Some(found) = self.next_end(true)? {
                break found;
            }
        };
        Ok(Block { bytes: &self.buffer[..end], then })
    }

    /// Where the next block ends, and what comes then. Returns None when the input pauses within it and it may not wait.
    fn next_end(&mut self, waits: bool) -> io::Result<Option<(usize, Then)>> {
        loop {
            // What was handed on once comes again only with more behind it.
            let pauses = self.fill(waits)?;
            if self.ended {
                return Ok(Some((self.filled, Then::End)));
            }
            let had_news = std::mem::replace(&mut self.has_news, false);
            let then = if pauses { Then::Pause } else { Then::More };
            match self.cut(pauses).filter(|_| had_news) {
                Some(end) => return Ok(Some((end, then))),
                None if pauses && !waits => return Ok(None),
                None if pauses => {}
                None => self.wanted = self.filled + self.filled.max(self.size),
            }
        }
    }

    /// Cuts blocks before `start` from now on: the beginning of the tag of each record.
    pub(crate) fn cut_before(&mut self, start: &str) {
        self.cut = Cut::Before(start.as_bytes().to_vec());
    }

    /// Cuts blocks before lines that begin with a bracket from now on. Where that is no record, the block is run over again, as ever.
    pub(crate) fn cut_before_line(&mut self, bracket: u8) {
        if matches!(self.cut, Cut::Line) {
            self.cut = Cut::BeforeLine(bracket);
        }
    }

    /// Cuts blocks behind tags from now on.
    pub(crate) fn cut_behind_tags(&mut self) {
        self.cut = Cut::Tag;
    }

    /// Cuts blocks behind any character from now on.
    pub(crate) fn cut_anywhere(&mut self) {
        self.cut = Cut::Character;
    }

    /// What is there so far.
    pub(crate) fn beginning(&self) -> &[u8] {
        &self.buffer[..self.filled]
    }

    /// Where the block that is there can be cut; where the input pauses, behind what may be the end of a record.
    fn cut(&self, pauses: bool) -> Option<usize> {
        let bytes = &self.buffer[..self.filled];
        let end = match &self.cut {
            Cut::Line => memchr::memrchr(b'\n', bytes)?,
            Cut::Items => return (self.item_end > 0).then_some(self.item_end),
            Cut::Documents(format, most) => {
                let is_too_large = bytes.len() as u64 > *most;
                return documents::last_begin(*format, bytes)
                    .or(is_too_large.then_some(bytes.len()));
            }
            Cut::BeforeLine(bracket) => {
                let line = memchr::memmem::rfind(bytes, &[b'\n', *bracket]).filter(|_| !pauses);
                // Where no line begins so for long, others may be records as well.
                let may_be_any = pauses || bytes.len() >= LONGEST * self.size;
                let line = line.or_else(|| memchr::memrchr(b'\n', bytes).filter(|_| may_be_any));
                line?
            }
            Cut::Before(start) if !pauses => {
                let found = last_tag(bytes, start);
                // Where none begins for so long, what goes on is no record.
                if found.is_some() || bytes.len() < LONGEST * self.size {
                    return found;
                }
                memchr::memrchr(b'>', bytes)?
            }
            Cut::Tag | Cut::Before(_) => memchr::memrchr(b'>', bytes)?,
            Cut::Character => bytes.iter().rposition(u8::is_ascii)?,
        };
        Some(end + 1)
    }

    /// Puts the next block into `block`, and keeps what is behind it; tells what comes then. Returns None when the input
    /// pauses within the block: whoever waits for it does not keep others from what they have to do.
    pub(crate) fn next_owned(&mut self, block: &mut Vec<u8>) -> io::Result<Option<Then>> {
        let Some((length, then)) = self.next_end(self.live.is_none())? else { return Ok(None) };
        self.take(length, block);
        Ok(Some(then))
    }

    /// The next block, which is used up, and what comes then.
    pub(crate) fn next_used(&mut self) -> io::Result<(Vec<u8>, Then)> {
        let mut block = Vec::new();
        loop {
            if let Some((length, then)) = self.next_end(true)? {
                self.take(length, &mut block);
                return Ok((block, then));
            }
        }
    }

    /// Puts the first bytes into `block`, and keeps what is behind them.
    fn take(&mut self, length: usize, block: &mut Vec<u8>) {
        // The buffer itself goes, since what is behind the block is less to copy than the block.
        std::mem::swap(&mut self.buffer, block);
        let rest = &block[length..self.filled];
        lengthen(&mut self.buffer, rest.len() + self.size);
        self.buffer[..rest.len()].copy_from_slice(rest);
        self.filled = rest.len();
        block.truncate(length);
        self.item_end = self.item_end.saturating_sub(length);
        self.wanted = self.filled + self.size;
    }

    /// Puts blocks that were handed on back in front of what is left.
    pub(crate) fn put_in_front(&mut self, mut before: Vec<u8>) {
        let length = before.len();
        before.extend_from_slice(&self.buffer[..self.filled]);
        self.item_end += length;
        (self.filled, self.buffer, self.has_news) = (before.len(), before, true);
        self.wanted = self.wanted.max(self.filled);
    }

    /// Takes back the last block, but for its first `used` bytes, to hand it on once more.
    pub(crate) fn put_back(&mut self, used: usize) {
        self.used(used);
        self.has_news = true;
    }

    /// Takes back all but the first `used` bytes of the last block.
    pub(crate) fn used(&mut self, used: usize) {
        self.buffer.copy_within(used..self.filled, 0);
        self.filled -= used;
        self.item_end = self.item_end.saturating_sub(used);
        // A block of which nothing was usable was too small for its record.
        self.wanted = if used == 0 { self.filled * 2 } else { self.filled + self.size };
        self.wanted = self.wanted.max(self.size);
        if self.buffer.len() > self.wanted * 4 {
            self.buffer.truncate(self.wanted);
            self.buffer.shrink_to_fit();
        }
    }
}

/// Where the last tag begins whose beginning is `start`, up to the end of its name, if it is not the first.
fn last_tag(bytes: &[u8], start: &[u8]) -> Option<usize> {
    let mut end = bytes.len();
    loop {
        let at = memchr::memmem::rfind(&bytes[..end], start)?;
        // The name may only begin like that of a record.
        let is_name = bytes
            .get(at + start.len())
            .is_some_and(|byte| byte.is_ascii_whitespace() || matches!(byte, b'>' | b'/'));
        if is_name && at > 0 {
            return Some(at);
        }
        end = at;
    }
}

/// Reads some bytes; none at the end.
pub(crate) fn read_some(reader: &mut Bytes, out: &mut [u8]) -> io::Result<usize> {
    loop {
        match reader.read(out) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            read => return read,
        }
    }
}

/// Makes a buffer at least so long. One that is new is zeroed by the system, page by page as it is used.
fn lengthen(buffer: &mut Vec<u8>, length: usize) {
    if buffer.capacity() == 0 {
        *buffer = vec![0; length];
    } else if buffer.len() < length {
        buffer.resize(length, 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_are_whole_lines_and_lose_nothing() {
        let text: Vec<u8> = (0..200_000).flat_map(|n| format!("{n}\n").into_bytes()).collect();
        let mut blocks = Blocks::new(Box::new(io::Cursor::new(text.clone())), None);
        let mut seen = Vec::new();
        loop {
            let block = blocks.next().unwrap();
            let (used, is_last) = (block.bytes.len(), block.then == Then::End);
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
    fn blocks_end_before_what_begins_records_if_there_are_any() {
        let lists = ("{\n \"a\": [\n1]}\n".repeat(60_000), " {\"a\": 1}\n".repeat(400_000), "{");
        let tags = ("<a>1</a>".repeat(60_000), "<ab>1</ab>".repeat(400_000), "<a>");
        for (records, others, begin) in [lists, tags] {
            let text = format!("{records}{others}");
            let mut blocks =
                Blocks::new(Box::new(io::Cursor::new(text.clone().into_bytes())), None);
            match begin {
                "{" => blocks.cut_before_line(b'{'),
                _ => blocks.cut_before("<a"),
            }
            let (mut seen, mut most) = (0, 0);
            loop {
                let block = blocks.next().unwrap();
                let (used, is_last) = (block.bytes.len(), block.then == Then::End);
                seen += used;
                most = most.max(used);
                let begins = text[seen..].starts_with(begin);
                assert!(is_last || seen > records.len() - BLOCK || begins);
                blocks.used(used);
                if is_last {
                    break;
                }
            }
            assert_eq!(seen, text.len());
            assert!(most < 2 * LONGEST * BLOCK, "{most}");
        }
    }

    #[test]
    fn what_is_handed_back_comes_again_with_more() {
        let text = format!("[\n{}1]\n2\n", "1,\n".repeat(300_000));
        let mut blocks = Blocks::new(Box::new(io::Cursor::new(text.clone().into_bytes())), None);
        let mut length = 0;
        loop {
            let block = blocks.next().unwrap();
            assert!(text.as_bytes().starts_with(block.bytes));
            if block.then == Then::End {
                assert_eq!(block.bytes.len(), text.len());
                break;
            }
            assert!(block.bytes.len() > length);
            length = block.bytes.len();
            blocks.used(0);
        }
    }
}
