//! A text and how far it has been read: lines, indentation, blanks, comments (YAML 1.2.2 sections 5.4 and 6.1 to 6.7).

use kyanite_tree::Span;

/// What was skipped between two tokens.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub(super) struct Gap {
    /// A line ended in it, or the token before ended with its line.
    pub(super) new_line: bool,
    /// A tab stands on the line of the next token, before it.
    pub(super) tab: bool,
}

/// A text and a position in it.
#[derive(Clone, Debug)]
pub(super) struct Cursor<'a> {
    pub(super) text: &'a str,
    pub(super) at: usize,
    /// Where the line begins that `at` is in.
    pub(super) line: usize,
    /// The comments passed so far.
    pub(super) comments: Vec<Span>,
    /// What was skipped last, and up to where: whoever skips there once more has skipped nothing.
    skipped: (usize, Gap),
}

/// Whether a byte is a space or a tab (`s-white`).
pub(super) fn is_white(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t')
}

/// Whether a byte ends a line (`b-char`).
pub(super) fn is_break(byte: u8) -> bool {
    matches!(byte, b'\n' | b'\r')
}

/// Whether a byte is white, or ends a line; so does the end of the text.
pub(super) fn is_blank(byte: Option<u8>) -> bool {
    byte.is_none_or(|byte| is_white(byte) || is_break(byte))
}

/// Whether a byte is one of `,[]{}` (`c-flow-indicator`).
pub(super) fn is_flow_indicator(byte: u8) -> bool {
    matches!(byte, b',' | b'[' | b']' | b'{' | b'}')
}

impl<'a> Cursor<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        let skipped = (usize::MAX, Gap::default());
        Self { text, at: 0, line: 0, comments: Vec::new(), skipped }
    }

    #[inline]
    pub(super) fn bytes(&self) -> &'a [u8] {
        self.text.as_bytes()
    }

    #[inline]
    pub(super) fn peek(&self) -> Option<u8> {
        self.byte(self.at)
    }

    #[inline]
    pub(super) fn byte(&self, at: usize) -> Option<u8> {
        self.bytes().get(at).copied()
    }

    /// How many bytes of the line stand before the position. What stands before block content is ASCII.
    #[inline]
    pub(super) fn column(&self) -> usize {
        self.at - self.line
    }

    /// The spaces that the line begins with.
    pub(super) fn indentation(&self) -> usize {
        self.bytes()[self.line..].iter().take_while(|byte| **byte == b' ').count()
    }

    /// The spaces that the line begins with, at its first token.
    #[inline]
    pub(super) fn spaces_before(&self) -> usize {
        if self.skipped == (self.at, Gap { new_line: true, tab: false }) {
            return self.column();
        }
        self.indentation()
    }

    /// The text between two positions.
    pub(super) fn slice(&self, start: usize, end: usize) -> &'a str {
        self.text.get(start..end).unwrap_or_default()
    }

    /// Whether the indicator at the position has nothing but blanks behind it, or a line end.
    #[inline]
    pub(super) fn at_indicator(&self, indicator: u8) -> bool {
        self.peek() == Some(indicator) && is_blank(self.byte(self.at + 1))
    }

    /// Whether a line of `---` or `...` begins at `at`, the start of a line.
    pub(super) fn is_marker(&self, at: usize) -> bool {
        let rest = &self.bytes()[at..];
        (rest.starts_with(b"---") || rest.starts_with(b"...")) && is_blank(rest.get(3).copied())
    }

    /// Whether the position is at the start of a line of this marker.
    pub(super) fn at_indicator_line(&self, marker: &[u8; 3]) -> bool {
        self.at_marker() && self.bytes()[self.at..].starts_with(marker)
    }

    /// Whether the position is at the start of a line of `---` or `...`.
    pub(super) fn at_marker(&self) -> bool {
        self.at == self.line && self.is_marker(self.at)
    }

    /// Steps over spaces and tabs; tells whether there were any.
    #[inline]
    pub(super) fn white(&mut self) -> bool {
        let from = self.at;
        while self.peek().is_some_and(is_white) {
            self.at += 1;
        }
        self.at > from
    }

    /// Steps over a line end; a carriage return before a line feed belongs to it.
    pub(super) fn line_end(&mut self) {
        if self.peek() == Some(b'\r') && self.byte(self.at + 1) == Some(b'\n') {
            self.at += 1;
        }
        self.at += 1;
        self.line = self.at;
    }

    /// Steps to the end of the line.
    pub(super) fn pass_line(&mut self) {
        let rest = &self.bytes()[self.at..];
        self.at += memchr::memchr2(b'\n', b'\r', rest).unwrap_or(rest.len());
    }

    /// Steps over blanks, comments and line ends to the next token.
    pub(super) fn skip(&mut self) -> Gap {
        if self.skipped.0 == self.at {
            return self.skipped.1;
        }
        let gap = self.skip_on();
        self.skipped = (self.at, gap);
        gap
    }

    fn skip_on(&mut self) -> Gap {
        let mut gap = Gap { new_line: self.at == self.line, tab: false };
        loop {
            match self.peek() {
                Some(b' ') => self.at += 1,
                Some(b'\t') => {
                    gap.tab = true;
                    self.at += 1;
                }
                Some(b'\n' | b'\r') => {
                    self.line_end();
                    gap = Gap { new_line: true, tab: false };
                }
                Some(b'#') if self.at_comment() => self.comment(),
                _ => return gap,
            }
        }
    }

    /// What was skipped right before the position.
    pub(super) fn gap(&self) -> Option<Gap> {
        (self.skipped.0 == self.at).then_some(self.skipped.1)
    }

    /// Goes to a position, on the line that begins at `line`, and what was skipped right before it.
    pub(super) fn go_to(&mut self, at: usize, line: usize, gap: Option<Gap>) {
        (self.at, self.line) = (at, line);
        self.skipped = gap.map_or((usize::MAX, Gap::default()), |gap| (at, gap));
    }

    /// Steps to the first token of a line that is indented by blanks alone, as [`Self::skip`] would.
    pub(super) fn pass(&mut self, line: usize, at: usize) {
        (self.line, self.at) = (line, at);
        self.skipped = (at, Gap { new_line: true, tab: false });
    }

    /// Whether the `#` at the position begins a comment: nothing, or a blank, stands before it.
    pub(super) fn at_comment(&self) -> bool {
        self.at == self.line || is_white(self.bytes()[self.at - 1])
    }

    /// Steps over a comment to the end of its line.
    pub(super) fn comment(&mut self) {
        let start = self.at;
        self.pass_line();
        self.comments.push(Span::new(start, self.at));
    }

    /// Whether nothing but blanks and a comment stands between the position and the end of the line.
    pub(super) fn rest_is_blank(&self) -> bool {
        let white = self.bytes()[self.at..].iter().take_while(|byte| is_white(**byte)).count();
        match self.byte(self.at + white) {
            None | Some(b'\n' | b'\r') => true,
            Some(b'#') => white > 0 || self.at_comment(),
            Some(_) => false,
        }
    }
}
