//! Places in texts, for people: line, column, and the line itself.

use std::cell::{Cell, RefCell};
use std::fmt;

/// A line and a column, both from 1; columns count Unicode scalar values.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub struct LineColumn {
    /// The line, from 1.
    pub line: u64,
    /// The column, from 1.
    pub column: u64,
}

impl LineColumn {
    /// The line and column of byte `offset` in `text`; past the end, the end.
    #[must_use]
    pub fn of(text: &[u8], offset: usize) -> Self {
        let before = &text[..offset.min(text.len())];
        let line_start = memchr::memrchr(b'\n', before).map_or(0, |at| at + 1);
        let column = characters(&before[line_start..]);
        Self {
            line: memchr::memchr_iter(b'\n', before).count() as u64 + 1,
            column: column as u64 + 1,
        }
    }

    /// The same place in a text that goes on where `before` is the last.
    #[must_use]
    pub fn behind(self, before: Passed) -> Self {
        let column = if self.line == 1 { before.characters } else { 0 };
        Self { line: self.line + before.lines, column: self.column + column }
    }
}

/// How much of a text was passed: its lines, and the characters of the line that goes on.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Passed {
    lines: u64,
    characters: u64,
}

impl Passed {
    /// How many line ends were passed.
    #[must_use]
    pub fn lines(self) -> u64 {
        self.lines
    }

    /// Passes more of the text.
    pub fn pass(&mut self, bytes: &[u8]) {
        let last = match memchr::memrchr(b'\n', bytes) {
            None => bytes,
            Some(end) => {
                self.lines += memchr::memchr_iter(b'\n', bytes).count() as u64;
                self.characters = 0;
                &bytes[end + 1..]
            }
        };
        self.characters += characters(last) as u64;
    }

    /// Passes a text of which so much was passed elsewhere.
    pub fn pass_all(&mut self, later: Self) {
        if later.lines > 0 {
            self.characters = 0;
        }
        self.lines += later.lines;
        self.characters += later.characters;
    }
}

/// Finds many places of one text: what lies before one is passed once, not for each.
#[derive(Debug)]
pub struct TextPlaces<'t> {
    file: &'t str,
    text: &'t [u8],
    /// What stands before the text.
    before: Passed,
    /// How much of the text was passed at each multiple of [`STEP`], as far as that was needed.
    marks: RefCell<Vec<Passed>>,
    /// The place that was asked for last, and how much of the text was passed there: mostly the next one is not far behind.
    last: Cell<(usize, Passed)>,
}

/// How far a place is from the mark before it, at most: in bytes.
const STEP: usize = 4096;

impl<'t> TextPlaces<'t> {
    /// Those of `text`, which is called `file`.
    #[must_use]
    pub fn new(file: &'t str, text: &'t [u8]) -> Self {
        let before = Passed::default();
        Self { file, text, before, marks: RefCell::default(), last: Cell::default() }
    }

    /// The same, of a text that goes on where `before` is the last.
    #[must_use]
    pub fn behind(self, before: Passed) -> Self {
        Self { before, ..self }
    }

    /// The line and column of byte `offset`; past the end, the end.
    #[must_use]
    pub fn line_column(&self, offset: usize) -> LineColumn {
        let offset = offset.min(self.text.len());
        let (from, mut passed) = self.last.get();
        if (from..from + STEP).contains(&offset) {
            passed.pass(&self.text[from..offset]);
        } else {
            passed = self.mark(offset / STEP);
            passed.pass(&self.text[offset / STEP * STEP..offset]);
        }
        self.last.set((offset, passed));
        LineColumn { line: passed.lines + 1, column: passed.characters + 1 }.behind(self.before)
    }

    /// How much of the text was passed at a multiple of [`STEP`].
    fn mark(&self, wanted: usize) -> Passed {
        let mut marks = self.marks.borrow_mut();
        if marks.is_empty() {
            marks.push(Passed::default());
        }
        while marks.len() <= wanted
            && let Some(last) = marks.last()
        {
            let (mut passed, from) = (*last, (marks.len() - 1) * STEP);
            passed.pass(&self.text[from..from + STEP]);
            marks.push(passed);
        }
        marks[wanted]
    }

    /// The place of `start..end`, in bytes.
    #[must_use]
    pub fn place(&self, start: usize, end: usize) -> Place {
        Place {
            part: Part::Input,
            file: self.file.to_owned(),
            at: self.line_column(start),
            path: None,
            excerpt: Excerpt::of(self.text, start, end),
        }
    }
}

impl fmt::Display for LineColumn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.line, self.column)
    }
}

/// How many characters `bytes` hold: the bytes that do not continue one.
fn characters(bytes: &[u8]) -> usize {
    bytes.iter().filter(|byte| (*byte & 0xC0) != 0x80).count()
}

/// The part of a source line around a place, with the columns that are meant.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Excerpt {
    /// The line or, of a long one, the part around the place, with `…` where it was cut.
    pub line: String,
    /// The first marked character of `line`, from 0.
    pub start: usize,
    /// How many characters are marked; at least 1.
    pub length: usize,
}

/// The most characters that are shown of a line.
const SHOWN: usize = 112;

/// Of a long line, the characters shown before the place.
const BEFORE: usize = 48;

impl Excerpt {
    /// The line of `text` around `start..end` (bytes). Invalid UTF-8 and control characters are shown as
    /// replacement characters, tabs as one blank, so that the columns of the caret hold.
    #[must_use]
    pub fn of(text: &[u8], start: usize, end: usize) -> Self {
        let start = start.min(text.len());
        // Bytes bound the window first, so that a line of many megabytes costs nothing.
        let reach = SHOWN * 4;
        let (low, high) =
            (start.saturating_sub(reach), text.len().min(start.saturating_add(reach)));
        let line_start = memchr::memrchr(b'\n', &text[low..start]).map(|at| low + at + 1);
        let line_end = memchr::memchr(b'\n', &text[start..high]).map(|at| start + at);
        let from = line_start.unwrap_or(low);
        let to = line_end.unwrap_or(high);
        let head = printable(&text[from..start]);
        let tail = printable(&text[start..to]);
        let is_whole = (line_start.is_some() || low == 0) && head.len() + tail.len() <= SHOWN;
        let head_cut = if is_whole { 0 } else { head.len().saturating_sub(BEFORE) };
        let tail_kept = tail.len().min(SHOWN - (head.len() - head_cut).min(SHOWN));
        let mut line = String::new();
        let mut caret = head.len() - head_cut;
        if head_cut > 0 {
            line.push('…');
            caret += 1;
        }
        line.extend(&head[head_cut..]);
        line.extend(&tail[..tail_kept]);
        if tail_kept < tail.len() || (line_end.is_none() && high < text.len()) {
            line.push('…');
        }
        let marked = characters(&text[start..end.clamp(start, to)]);
        let length = marked.clamp(1, tail_kept.max(1));
        Self { line, start: caret, length }
    }
}

fn printable(bytes: &[u8]) -> Vec<char> {
    String::from_utf8_lossy(bytes)
        .chars()
        .filter(|character| *character != '\r')
        .map(|character| match character {
            '\t' => ' ',
            control if control.is_control() => char::REPLACEMENT_CHARACTER,
            other => other,
        })
        .collect()
}

/// What a place belongs to.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Part {
    /// A document that is read.
    Input,
    /// A rule, or a library of it.
    Rule,
    /// A schema.
    Schema,
}

impl Part {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Input => "input",
            Self::Rule => "rule",
            Self::Schema => "schema",
        }
    }
}

/// One place that a message points at: complete in itself, so that the text may be gone when it is shown.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Place {
    /// What it belongs to.
    pub part: Part,
    /// The file's name, or words such as `standard input`.
    pub file: String,
    /// Where in the file.
    pub at: LineColumn,
    /// The path of the value there (`$.sailings[0]`), when it is inside a document.
    pub path: Option<String>,
    /// The source line.
    pub excerpt: Excerpt,
}

impl Place {
    /// The place of `start..end` (bytes) in `text`, which is called `file`.
    #[must_use]
    pub fn of(file: &str, text: &[u8], start: usize, end: usize) -> Self {
        TextPlaces::new(file, text).place(start, end)
    }

    /// The same place in a text that goes on where `before` is the last.
    #[must_use]
    pub fn behind(mut self, before: Passed) -> Self {
        self.at = self.at.behind(before);
        self
    }

    /// The same place in a rule.
    #[must_use]
    pub fn in_rule(self) -> Self {
        Self { part: Part::Rule, ..self }
    }

    /// The same place, in a schema.
    #[must_use]
    pub fn in_schema(self) -> Self {
        Self { part: Part::Schema, ..self }
    }

    /// The same place with the path of the value there.
    #[must_use]
    pub fn with_path(mut self, path: impl Into<String>) -> Self {
        self.path = Some(path.into());
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_and_columns() {
        let text = "a\nbø x\n".as_bytes();
        for (offset, line, column) in
            [(0, 1, 1), (1, 1, 2), (2, 2, 1), (6, 2, 4), (8, 3, 1), (99, 3, 1)]
        {
            assert_eq!(LineColumn::of(text, offset), LineColumn { line, column }, "{offset}");
        }
    }

    /// Places in any order are those that are found one by one, and no part of the text is passed twice.
    #[test]
    fn places_in_any_order() {
        for line in ["", "a", "bø x", &"ø".repeat(3000), &"-".repeat(STEP)] {
            let text = format!("{line}\n").repeat(20 * STEP / (line.len() + 1));
            let places = TextPlaces::new("f", text.as_bytes());
            for count in 0..200 {
                let offset = count * 7919 % (text.len() + 5);
                let found = places.line_column(offset);
                assert_eq!(found, LineColumn::of(text.as_bytes(), offset), "{offset}");
            }
            assert!(places.marks.borrow().len() <= text.len() / STEP + 1);
        }
    }

    #[test]
    fn a_long_line_is_cut_around_the_place() {
        let text = format!("{{\"a\": 1}}\n{}X{}\n", "-".repeat(5000), "+".repeat(5000));
        let excerpt = Excerpt::of(text.as_bytes(), 9 + 5000, 9 + 5001);
        let marked: Vec<char> = excerpt.line.chars().collect();
        assert_eq!(marked[excerpt.start], 'X');
        assert!(
            marked.len() < SHOWN + 4 && marked.first() == Some(&'…') && marked.last() == Some(&'…')
        );
    }

    #[test]
    fn broken_bytes_and_ends_are_shown() {
        let excerpt = Excerpt::of(b"ab\xFFc", 2, 3);
        assert_eq!((excerpt.line.as_str(), excerpt.start, excerpt.length), ("ab\u{FFFD}c", 2, 1));
        let end = Excerpt::of(b"[1,", 3, 3);
        assert_eq!((end.line.as_str(), end.start, end.length), ("[1,", 3, 1));
    }
}
