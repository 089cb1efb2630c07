//! The records in a block of a stream, and where they stand.

use std::ops::Range;

use kyanite_formats::Format;
use kyanite_formats::SyntaxError;
use kyanite_formats::json::{Duplicate, PartStructure, Slot, Slotted, Templates, ValueTemplates};
use kyanite_formats::records::{Layout, PassedOver, Reader, SlotTemplates, value_end};
use kyanite_formats::xml::{RecordReader, Repair};
use kyanite_lang::FieldPlan;
use kyanite_tree::{
    Arena, Base, Diagnostic, LineColumn, Origin, Passed, Place, Span, TextPlaces, Value,
};

use crate::blocks::{Block, Then};
use crate::consume::{Consumer, consume};

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
    /// The end of the block, of which this number of bytes is used up.
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
