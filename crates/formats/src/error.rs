//! What is wrong with a text, in whichever format, and what a format cannot write.

use std::fmt;

use kyanite_tree::{Advice, Code, Diagnostic, Origin, Place, Setting, Span};

use crate::encoding::Charset;

/// The first thing that is wrong with a text, and where: at the first of its spans. A second one points at what belongs to
/// it, such as the bracket that is not closed.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SyntaxError {
    what: Diagnostic<Span>,
    wants_more: bool,
}

impl SyntaxError {
    /// What is wrong at the bytes `start..end`, and what to do.
    #[must_use]
    pub fn new(
        start: usize,
        end: usize,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> Self {
        Self::of(Code::Syntax, start, end, message, advice)
    }

    /// A limit is passed at `start..end`.
    #[must_use]
    pub fn limit(
        start: usize,
        end: usize,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> Self {
        Self::of(Code::Limit, start, end, message, advice)
    }

    /// Bytes at `start..end` that are no text in the encoding of the input.
    #[must_use]
    pub fn encoding(
        start: usize,
        end: usize,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> Self {
        Self::of(Code::Encoding, start, end, message, advice)
    }

    /// Bytes at `start..end` that are not UTF-8.
    #[must_use]
    pub fn not_utf8(start: usize, end: usize) -> Self {
        Self::not_in(Charset::UTF8, start, end)
    }

    /// Bytes at `start..end` that are no characters in that encoding.
    #[must_use]
    pub fn not_in(charset: Charset, start: usize, end: usize) -> Self {
        let message = format!("these bytes are not {}", charset.name());
        Self::encoding(
            start,
            end,
            message,
            ("say the encoding of the input with ", Setting::Encoding),
        )
    }

    fn of(
        code: Code,
        start: usize,
        end: usize,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> Self {
        let what = Diagnostic::error_at(code, Span::new(start, end), message).advise(advice);
        Self { what, wants_more: false }
    }

    /// Points at another place that belongs to it: where what is not closed was opened.
    #[must_use]
    pub fn also(mut self, at: Option<usize>) -> Self {
        self.what = self.what.at_opt(at.map(|at| Span::new(at, at + 1)));
        self
    }

    /// More text at the end could mend it, or not.
    #[must_use]
    pub fn if_more(mut self, wants_more: bool) -> Self {
        self.wants_more = wants_more;
        self
    }

    /// Whether more text at the end could mend it.
    #[must_use]
    pub fn wants_more(&self) -> bool {
        self.wants_more
    }

    /// The bytes that are wrong.
    #[must_use]
    pub fn span(&self) -> Span {
        self.what.places().first().copied().unwrap_or_default()
    }

    /// What is wrong, in one sentence.
    #[must_use]
    pub fn message(&self) -> &str {
        self.what.message()
    }

    /// What to do about it.
    #[must_use]
    pub fn advice(&self) -> Option<&Advice<Span>> {
        self.what.advice()
    }

    /// The same about another part of the text: what stands for it there.
    #[must_use]
    pub(crate) fn moved(self, to: impl Fn(Span) -> Span) -> Self {
        Self { what: self.what.resolve(|span| Some(to(span))), wants_more: self.wants_more }
    }

    /// The same about the text behind the first bytes of this one; places in these are left out, and the first place stays.
    #[must_use]
    pub(crate) fn behind(self, front: usize) -> Self {
        let mut is_first = true;
        let what = self.what.resolve(|Span { start, end }| {
            let is_kept = std::mem::take(&mut is_first) || start >= front;
            is_kept.then(|| Span::new(start.saturating_sub(front), end.saturating_sub(front)))
        });
        Self { what, ..self }
    }

    /// The error as a message about `file`, which holds `text`.
    #[must_use]
    pub fn diagnostic(&self, file: &str, text: &[u8]) -> Diagnostic {
        self.what.clone().resolve(|span| Some(Place::of(file, text, span.start, span.end)))
    }

    /// The error as a message about something whose places are not those of this text.
    #[must_use]
    pub fn without_places<P>(&self) -> Diagnostic<P> {
        self.what.clone().resolve(|_| None)
    }
}

impl fmt::Display for SyntaxError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.what.fmt(f)
    }
}

impl std::error::Error for SyntaxError {}

/// A value that a format has no way to write, by where it was read.
pub type CannotHold = Diagnostic<Origin>;

/// The error about a value that a format has no way to write.
#[must_use]
pub fn cannot_hold(
    message: impl Into<String>,
    advice: impl Into<Advice<Origin>>,
    origin: Origin,
) -> CannotHold {
    Diagnostic::error_at(Code::CannotHold, origin, message).advise(advice)
}
