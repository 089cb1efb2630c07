//! Scalars by where they stand in a text, for readers that look only at some of them.

use crate::{Event, RawText};

/// What a scalar is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ScalarKind {
    /// A text that means what stands between its quotes.
    Text,
    /// A text with escapes in it.
    Escaped,
    /// A number.
    Number,
    /// `true`.
    True,
    /// `false`.
    False,
    /// `null`.
    Null,
}

/// A scalar of a text: the bytes that it takes, those of a text without its quotes.
///
/// ```
/// use kyanite_tree::{Event, ScalarKind, ScalarSpan};
///
/// let scalar = ScalarSpan { kind: ScalarKind::Number, start: 5, end: 8 };
/// assert_eq!(scalar.event("[1,2,3.5]"), Event::Number("3.5"));
/// ```
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct ScalarSpan {
    /// What it is.
    pub kind: ScalarKind,
    /// Where it begins.
    pub start: usize,
    /// Where it ends.
    pub end: usize,
}

impl ScalarSpan {
    /// That of the scalar that an event is, which ends at a byte; None if the event is none.
    #[must_use]
    pub fn of(event: &Event<'_>, end: usize) -> Option<Self> {
        let (kind, length) = match event {
            Event::Text(RawText { text, has_escapes: false }) => (ScalarKind::Text, text.len()),
            Event::Text(RawText { text, has_escapes: true }) => (ScalarKind::Escaped, text.len()),
            Event::Number(text) => (ScalarKind::Number, text.len()),
            Event::Boolean(true) => (ScalarKind::True, 4),
            Event::Boolean(false) => (ScalarKind::False, 5),
            Event::Null => (ScalarKind::Null, 4),
            _ => return None,
        };
        Some(Self { kind, start: end - length, end })
    }

    /// The same span with `before` bytes in front of the text.
    #[must_use]
    pub fn behind(self, before: usize) -> Self {
        Self { start: self.start + before, end: self.end + before, ..self }
    }

    /// The event that it is in its text.
    #[inline]
    #[must_use]
    pub fn event<'t>(&self, text: &'t str) -> Event<'t> {
        let written = || text.get(self.start..self.end).unwrap_or_default();
        match self.kind {
            ScalarKind::Text => Event::Text(RawText { text: written(), has_escapes: false }),
            ScalarKind::Escaped => Event::Text(RawText { text: written(), has_escapes: true }),
            ScalarKind::Number => Event::Number(written()),
            ScalarKind::True => Event::Boolean(true),
            ScalarKind::False => Event::Boolean(false),
            ScalarKind::Null => Event::Null,
        }
    }
}
