//! Record streams: blocks of bytes, and the records in them.
//!
//! A block ends at a line end, which no JSON token can span. Nearly always that is the end of a record, too; where
//! a record goes on, the consumer hands back what it could not use and gets it again with more behind it.
//! Files are read, not mapped: a mapped file that another program cuts short ends the process.

use std::io::{self, Read};
use std::ops::Range;

use kyanite_formats::json::{
    Duplicate, Found, Frame, FrameError, PartStructure, Slot, SlotTemplates, Slotted, Templates,
    ValueTemplates,
};
use kyanite_formats::records::{Layout, PassedOver, Reader, value_end};
use kyanite_formats::xml::{RecordReader, Repair};
use kyanite_formats::{Format, SyntaxError, documents};
use kyanite_lang::FieldPlan;
use kyanite_tree::{
    Arena, Base, Diagnostic, LineColumn, Origin, Passed, Place, Span, TextPlaces, Value,
};

use crate::Bytes;
use crate::consume::{Consumer, consume};
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
    /// Before what records begin with: `<booking`.
    Before(Vec<u8>),
    /// Before a line that begins with this bracket, where records of JSON have several lines.
    BeforeLine(u8),
    /// Where no item of the framed list is under way.
    Items,
    /// Before the last document of this format; within one that has more than so many bytes, which is not read.
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
    frame: Option<Frame>,
    /// The last byte behind which no item is under way.
    item_end: usize,
    frame_error: Option<(FrameError, Vec<u8>)>,
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
            frame: None,
            item_end: 0,
            frame_error: None,
        }
    }

    /// The same blocks; where more bytes would have to be held for one record, reading fails.
    pub(crate) fn at_most(mut self, bytes: usize) -> Self {
        self.most = bytes;
        self
    }

    /// The same blocks, so many times as large: for work that costs something for each block.
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
        let (mut frame, mut looked, mut found) = (Frame::new(path), 0, Found::Nothing);
        while found != Found::Other && !blocks.ended && blocks.filled < SMALL {
            blocks.wanted = blocks.filled + BLOCK;
            blocks.fill(true)?;
            if found == Found::Nothing {
                found = match frame.find(&blocks.buffer[looked..blocks.filled]) {
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
                blocks.frame = Some(frame);
                blocks.follow(begin);
                Ok(Framing::Blocks(Box::new(blocks)))
            }
            _ => Ok(blocks.into_whole()),
        }
    }

    /// Blocks of whole documents of a format of which there [may be many](Format::has_documents), unless one has more than so many bytes.
    pub(crate) fn of_documents(
        reader: Bytes,
        live: Option<Live>,
        format: Format,
        most: u64,
    ) -> Self {
        Self { cut: Cut::Documents(format, most), ..Self::new(reader, live) }
    }

    /// Blocks of an input that has more than so many bytes; another is better held whole.
    pub(crate) fn of_large(reader: Bytes, live: Option<Live>, most: usize) -> io::Result<Framing> {
        let mut blocks = Self::new(reader, live);
        while !blocks.ended && blocks.filled <= most {
            blocks.wanted = blocks.filled + BLOCK;
            blocks.fill(true)?;
        }
        Ok(if blocks.ended { blocks.into_whole() } else { Framing::Blocks(Box::new(blocks)) })
    }

    /// The input again, to be read whole.
    fn into_whole(mut self) -> Framing {
        self.buffer.truncate(self.filled);
        let begin = io::Cursor::new(self.buffer);
        Framing::Whole(Box::new(begin.chain(self.reader)))
    }

    /// What is wrong with the document around its items, and the line up to there with a little more.
    pub(crate) fn frame_error(&self) -> Option<(FrameError, &[u8])> {
        self.frame_error
            .as_ref()
            .map(|(frame_error, after)| (frame_error.clone(), after.as_slice()))
    }

    /// Frames the bytes from `from` on, which have just come.
    fn follow(&mut self, from: usize) {
        let Some(frame) = &mut self.frame else { return };
        let framed = frame.follow(&mut self.buffer[from..self.filled]);
        if let Some(cut) = framed.cut {
            self.item_end = from + cut;
        }
        let (at, frame_error) = match framed.frame_error {
            Some((at, frame_error)) => (from + at, frame_error),
            None => match frame.finish().filter(|_| self.ended) {
                Some(frame_error) => (self.filled, frame_error),
                None => return,
            },
        };
        let after = &self.buffer[at..self.filled.min(at + LINE)];
        self.frame_error = Some((frame_error, after.to_vec()));
        // What comes behind is not looked at any more.
        (self.filled, self.ended, self.frame) = (at, true, None);
    }

    /// Reads until so many bytes are there as are wanted, or the end, or the input pauses: behind some that are new, if it
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
            if self.buffer.len() < self.wanted {
                self.buffer.resize(self.wanted, 0);
            }
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

    /// Where the next block ends, and what comes then. Gives nothing when the input pauses within it and it may not wait.
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
        };
        Some(end + 1)
    }

    /// Puts the next block into `block`, and keeps what is behind it; tells what comes then. Gives nothing when the input
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
        if self.buffer.len() < rest.len() {
            self.buffer.resize(rest.len(), 0);
        }
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

/// The part of `bytes` up to the first that is not UTF-8, and how many bytes are wrong there; 0 when none is.
pub(crate) fn valid_start(bytes: &[u8]) -> (&str, usize) {
    match simdutf8::compat::from_utf8(bytes) {
        Ok(text) => (text, 0),
        Err(error) => {
            let valid = &bytes[..error.valid_up_to()];
            (std::str::from_utf8(valid).unwrap_or_default(), error.error_len().unwrap_or(1))
        }
    }
}

/// Reads the records of a block, one after another.
pub(crate) struct Records<'a> {
    reader: Reader<'a>,
    input: InputPart<'a>,
    places: TextPlaces<'a>,
    bytes: &'a [u8],
    text: &'a str,
    part: PartStructure,
    /// How many bytes behind the text are not UTF-8; 0 when all are.
    invalid: usize,
    then: Then,
    /// Where the first record may begin.
    from: usize,
    /// Where the record that was read last begins.
    start: usize,
    /// The first record, and blanks before it.
    first: Option<Range<usize>>,
}

/// The part of an input that a block is.
#[derive(Clone, Copy)]
pub(crate) struct InputPart<'a> {
    /// The input's name in messages.
    pub(crate) name: &'a str,
    pub(crate) format: Format,
    /// Where the block begins in the space of origins.
    pub(crate) base: Base,
    /// How much of it is before the block.
    pub(crate) before: Passed,
}

/// What comes next in a block.
pub(crate) enum Next<T> {
    /// A record.
    Record(T),
    /// Nothing; so many bytes of the block are used up.
    End(usize),
    /// A record that cannot be read.
    Broken(Diagnostic),
}

impl<'a> Records<'a> {
    /// The records of `block` behind its first `from` bytes.
    pub(crate) fn new(
        block: Block<'a>,
        from: usize,
        input: InputPart<'a>,
        layout: Layout<'a>,
        arena: &'a Arena,
        templates: Option<&'a mut ValueTemplates>,
    ) -> Self {
        let Block { bytes, then } = block;
        let (text, invalid) = valid_start(bytes);
        let mut reader = Reader::new(layout, text, arena, input.base, templates);
        if from > 0 {
            reader.seek(from);
        }
        if then == Then::End {
            reader.is_last();
        }
        let places = TextPlaces::new(input.name, bytes);
        Self {
            reader,
            input,
            places,
            bytes,
            text,
            part: PartStructure::default(),
            invalid,
            then,
            from,
            start: 0,
            first: None,
        }
    }

    /// The text of the block.
    pub(crate) fn text(&self) -> &'a str {
        self.text
    }

    /// What stands before the first record: the header of a table.
    pub(crate) fn head(&self) -> &'a [u8] {
        &self.bytes[..self.from]
    }

    /// The text of the record that was read last.
    pub(crate) fn last_text(&self) -> &'a [u8] {
        &self.bytes[self.begin()..self.reader.position().max(self.begin())]
    }

    /// The text from a byte of the block to the end of the record that was read last.
    pub(crate) fn last_text_from(&self, begin: usize) -> &'a [u8] {
        &self.bytes[begin..self.reader.position().max(begin)]
    }

    /// The bracket that lines begin with where records of JSON begin, if these have several lines, as the first one tells.
    pub(crate) fn line_bracket(&self) -> Option<u8> {
        let text = self.bytes.get(self.first.clone()?).filter(|_| self.reader.is_json())?;
        let text = text.trim_ascii_start();
        let bracket = text.first().copied().filter(|byte| matches!(byte, b'{' | b'['));
        bracket.filter(|_| memchr::memchr(b'\n', text).is_some())
    }

    /// The place of the record that was read last.
    pub(crate) fn last_place(&self) -> Place {
        self.place_at(self.begin())
    }

    /// The line and column of the record that was read last.
    pub(crate) fn last_at(&self) -> LineColumn {
        self.places.line_column(self.begin()).behind(self.input.before)
    }

    /// How many lines are before the block.
    pub(crate) fn lines_before(&self) -> u64 {
        self.input.before.lines()
    }

    /// The number of the line in the block that a byte of it is on, from 1.
    pub(crate) fn line(&self, offset: usize) -> u64 {
        self.places.line_column(offset).line
    }

    /// Where the block begins in the space of origins.
    pub(crate) fn base(&self) -> Base {
        self.input.base
    }

    /// What comes after the block.
    pub(crate) fn then(&self) -> Then {
        self.then
    }

    /// Reads on.
    pub(crate) fn next(&mut self) -> Next<Value<'a>> {
        self.start = self.reader.position();
        let read = self.reader.next_record();
        self.read(read)
    }

    /// Has records of JSON consumed by their events, until one is left; gives how many there were.
    pub(crate) fn consume(
        &mut self,
        templates: &mut Templates,
        by: &mut impl Consumer<'a>,
    ) -> usize {
        if !self.reader.is_json() {
            return 0;
        }
        let from = self.reader.position();
        let passed = consume((self.text, from), &mut self.part, templates, by);
        if passed.records > 0 {
            self.reader.seek(passed.end);
        }
        passed.records
    }

    /// Reads on, into slots where there are any.
    pub(crate) fn next_slotted(
        &mut self,
        field_plan: Option<&FieldPlan>,
        known: &mut SlotTemplates,
        found: &mut [Slot<'a>],
    ) -> Next<Slotted<'a>> {
        self.start = self.reader.position();
        let read = match field_plan {
            Some(field_plan) => self.reader.next_slots(&field_plan.slots, known, found),
            None => self.reader.next_record().map(|record| record.map(Slotted::Value)),
        };
        self.read(read)
    }

    /// Appends the line of the record that was read last into slots whose text is on demand.
    pub(crate) fn write_line(&mut self, known: &mut SlotTemplates, out: &mut Vec<u8>) {
        self.reader.write_line(known, out);
    }

    /// What was read.
    fn read<T>(&mut self, read: Result<Option<T>, SyntaxError>) -> Next<T> {
        match read {
            // Where the text is cut off by broken bytes, a record that ends there may be cut, too.
            Ok(Some(record)) if self.invalid == 0 || self.reader.position() < self.text.len() => {
                self.first.get_or_insert(self.start..self.reader.position());
                Next::Record(record)
            }
            Ok(None) if self.invalid == 0 => match self.reader.finish() {
                Err(error) if self.then == Then::End => Next::Broken(self.broken(&error)),
                _ => Next::End(self.bytes.len()),
            },
            Err(error) if error.wants_more() && self.invalid == 0 && self.then != Then::End => {
                Next::End(self.reader.resume_at(self.start))
            }
            Err(error)
                if self.invalid == 0
                    || !error.wants_more() && error.span().end < self.text.len() =>
            {
                Next::Broken(self.broken(&error))
            }
            Ok(_) | Err(_) => {
                let (start, end) = (self.text.len(), self.text.len() + self.invalid);
                Next::Broken(self.broken(&SyntaxError::not_utf8(start, end)))
            }
        }
    }

    /// The reader of elements, if the records are elements.
    pub(crate) fn as_xml(&self) -> Option<&RecordReader<'a>> {
        self.reader.as_xml()
    }

    /// The same, for taking from it what it has to say.
    pub(crate) fn as_xml_mut(&mut self) -> Option<&mut RecordReader<'a>> {
        self.reader.as_xml_mut()
    }

    /// Passes over the broken record. Gives how many bytes of the block are then used up, if it was the last.
    pub(crate) fn skip_broken(&mut self) -> Option<usize> {
        let next = self.reader.behind_broken(self.bytes, self.begin());
        if next >= self.text.len() {
            // The broken bytes are in the line that the text ends in.
            let line = memchr::memchr(b'\n', &self.bytes[next.max(1) - 1..]);
            let end = line.map_or(self.bytes.len(), |at| next.max(1) + at);
            return Some(if self.invalid == 0 { next } else { end });
        }
        self.reader.seek(next);
        None
    }

    /// How many bytes of the block have been read.
    pub(crate) fn used(&self) -> usize {
        self.reader.position()
    }

    /// What was passed over since this was last asked, since it fails a condition.
    pub(crate) fn take_passed_over(&mut self) -> PassedOver {
        self.reader.take_passed_over()
    }

    /// Members that the records read since the last call held twice.
    pub(crate) fn take_duplicates(&mut self) -> Vec<Duplicate> {
        self.reader.take_duplicates()
    }

    /// What was repaired since this was last asked.
    pub(crate) fn take_repairs(&mut self) -> Vec<Repair> {
        self.reader.take_repairs()
    }

    /// The place of those bytes of the block.
    pub(crate) fn place_of(&self, span: Span) -> Place {
        self.places.place(span.start, span.end).behind(self.input.before)
    }

    /// The place of the value that was read at `origin`.
    pub(crate) fn place(&self, origin: Origin) -> Place {
        self.place_at(self.input.base.offset(origin))
    }

    /// The place of the value at byte `offset` of the block.
    pub(crate) fn place_at(&self, offset: usize) -> Place {
        let end = value_end(self.input.format, self.text, offset);
        self.place_of(Span::new(offset, end))
    }

    /// The first byte of the record that was read last.
    fn begin(&self) -> usize {
        let blank = self.bytes[self.start..].iter().take_while(|byte| byte.is_ascii_whitespace());
        self.start + blank.count()
    }

    /// Where the record broke, and where it began if that is on another line.
    fn broken(&self, error: &SyntaxError) -> Diagnostic {
        let began = self.place_of(Span::new(self.begin(), self.begin() + 1));
        let mut places = 0;
        let first_only = error.diagnostic(self.input.name, self.bytes).resolve(|place| {
            places += 1;
            (places == 1).then(|| place.behind(self.input.before))
        });
        let is_elsewhere =
            first_only.places().first().is_some_and(|first| first.at.line != began.at.line);
        first_only.at_opt(is_elsewhere.then_some(began))
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
