//! The lines that most YAML consists of, in one go: `key: value`, both plain, on one line.
//!
//! What these lines mean is what the productions say of them; [`Parser`] reads any line without this. It is here for speed: it
//! spares an eighth of the instructions over a stream of bookings (docs/benchmarks.md). A property test holds the two against
//! each other.

use std::borrow::Cow;

use kyanite_tree::Span;

use super::cursor::is_blank;
use super::event::{Event, Properties, Receiver, ScalarStyle};
use super::parser::{Parsed, Parser};

/// What a byte may do in a simple line: begin a plain scalar, go on with a key, go on with a value.
const CLASSES: [u8; 256] = {
    let mut classes = [VALUE; 256];
    let mut at = 0;
    while at < 256 {
        let byte = at as u8;
        if byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'/' || byte == b'.' {
            classes[at] = FIRST | KEY | VALUE;
        } else if byte == b'-' {
            classes[at] = KEY | VALUE;
        } else if byte <= b' ' || byte == b':' || byte == b'#' {
            classes[at] = 0;
        }
        at += 1;
    }
    classes
};
const FIRST: u8 = 1;
const KEY: u8 = 2;
const VALUE: u8 = 4;

/// A line that was looked at: where its key and its value end, and where the next line has its first token.
struct Line {
    key: Span,
    value: Span,
    next_line: usize,
    next: usize,
}

impl<'a> Parser<'a> {
    /// Reads simple lines of the block mapping whose keys stand in `column`, as long as there are any, the first at the
    /// position. What comes behind them, and whatever is not so simple, is left to [`Self::step`].
    pub(super) fn simple_lines<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        column: usize,
    ) -> Parsed<bool> {
        let mut any = false;
        while let Some(Line { key, value, next_line, next }) = self.simple_line(column) {
            any = true;
            for span in [key, value] {
                let text = Cow::Borrowed(self.cursor.slice(span.start, span.end));
                let (style, properties) = (ScalarStyle::Plain, Properties::default());
                to.event(Event::Scalar { text, style, properties }, span)?;
            }
            self.cursor.pass(next_line, next);
            if next - next_line != column {
                break;
            }
        }
        self.is_json_like &= !any;
        Ok(any)
    }

    #[inline]
    fn simple_line(&self, column: usize) -> Option<Line> {
        let bytes = self.cursor.bytes();
        let is = |at: usize, class: u8| {
            bytes.get(at).is_some_and(|b| CLASSES[usize::from(*b)] & class != 0)
        };
        let start = self.cursor.at;
        if !is(start, FIRST) || self.cursor.is_marker(start) {
            return None;
        }
        let mut colon = start + 1;
        while is(colon, KEY) {
            colon += 1;
        }
        let begin = colon + 2;
        if bytes.get(colon..begin) != Some(b": ") || !is(begin, FIRST) {
            return None;
        }
        let mut end = begin + 1;
        loop {
            while is(end, VALUE) {
                end += 1;
            }
            match *bytes.get(end)? {
                b'\n' => break,
                b':' if !is_blank(bytes.get(end + 1).copied()) => end += 1,
                // A blank between two words.
                b' ' if is(end + 1, VALUE) => end += 2,
                // Comments, blanks at the end, tabs, carriage returns.
                _ => return None,
            }
        }
        let next_line = end + 1;
        let mut next = next_line;
        while bytes.get(next) == Some(&b' ') {
            next += 1;
        }
        // Neither an empty line nor a comment, nor a line that goes on with the value.
        let ends =
            next - next_line <= column && !matches!(bytes.get(next)?, b'\n' | b'\r' | b'\t' | b'#');
        let (key, value) = (Span::new(start, colon), Span::new(begin, end));
        ends.then_some(Line { key, value, next_line, next })
    }
}
