//! A place in a text that is being read, and the errors that are made there.

use kyanite_tree::{Advice, Span};

use super::chars;
use crate::SyntaxError;

/// A text and how far it has been read.
#[derive(Clone, Debug)]
pub(super) struct Cursor<'a> {
    pub(super) text: &'a str,
    pub(super) at: usize,
    /// For replacement texts: the reference that stands for all of it in the document.
    pub(super) stands_for: Option<(usize, usize)>,
    /// Whether a search for the end of something has gone through all of the text that is left.
    pub(super) has_seen_end: bool,
}

/// No sign of XML has more bytes.
const LONGEST_SIGN: usize = 16;

impl<'a> Cursor<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        Self::within(text, None)
    }

    /// A cursor in the text that a reference stands for.
    pub(super) fn within(text: &'a str, stands_for: Option<(usize, usize)>) -> Self {
        Self { text, at: 0, stands_for, has_seen_end: false }
    }

    pub(super) fn bytes(&self) -> &'a [u8] {
        self.text.as_bytes()
    }

    #[inline]
    pub(super) fn peek(&self) -> Option<u8> {
        self.bytes().get(self.at).copied()
    }

    #[inline]
    pub(super) fn rest(&self) -> &'a str {
        self.text.get(self.at..).unwrap_or_default()
    }

    #[inline]
    pub(super) fn is_at(&self, word: &str) -> bool {
        self.rest().as_bytes().starts_with(word.as_bytes())
    }

    /// Steps over `word` if it stands here.
    #[inline]
    pub(super) fn eat(&mut self, word: &str) -> bool {
        let is_there = self.is_at(word);
        if is_there {
            self.at += word.len();
        }
        is_there
    }

    /// Steps over white space; tells whether there was any.
    #[inline]
    pub(super) fn space(&mut self) -> bool {
        let start = self.at;
        self.at = chars::space_end(self.bytes(), start);
        self.at > start
    }

    /// Steps over the name that stands here.
    pub(super) fn name(&mut self) -> Option<&'a str> {
        let start = self.at;
        self.at = chars::name_end(self.text, start);
        (self.at > start).then(|| &self.text[start..self.at])
    }

    /// Steps behind the next `end`; gives what stands before it.
    pub(super) fn until(&mut self, end: &str) -> Option<&'a str> {
        let rest = self.rest();
        let found = memchr::memmem::find(rest.as_bytes(), end.as_bytes());
        self.has_seen_end |= found.is_none();
        let length = found?;
        self.at += length + end.len();
        Some(&rest[..length])
    }

    /// The error, which more text might mend if it is about the end of this text.
    #[cold]
    pub(super) fn if_at_end(&self, error: SyntaxError) -> SyntaxError {
        let wants_more = error.wants_more() || self.has_seen_end || self.is_near_end(&error);
        error.if_more(wants_more)
    }

    /// Whether an error is so near the end of the text that the sign it is about may be cut off.
    pub(super) fn is_near_end(&self, error: &SyntaxError) -> bool {
        error.span().end + LONGEST_SIGN > self.text.len()
    }

    /// An error about the text from `start` to `end`.
    #[cold]
    pub(super) fn error(
        &self,
        start: usize,
        end: usize,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> SyntaxError {
        self.placed(SyntaxError::new(start, end, message, advice))
    }

    /// An error about this text where it shows: in the text of an entity, at the reference to it.
    #[cold]
    pub(super) fn placed(&self, error: SyntaxError) -> SyntaxError {
        match self.stands_for {
            Some((start, end)) => error.moved(|_| Span::new(start, end)),
            None => error,
        }
    }

    /// An error about what stands here.
    #[cold]
    pub(super) fn error_here(
        &self,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> SyntaxError {
        self.error(self.at, self.at + 1, message, advice)
    }
}

/// An error about a part of a text that begins at byte `start` of it.
pub(super) fn behind(start: usize, error: SyntaxError) -> SyntaxError {
    error.moved(|span| Span::new(start + span.start, start + span.end))
}
