//! What can be wrong with a JSON text, with the words for it.

use kyanite_tree::{Advice, Setting};

use crate::SyntaxError;

/// The first thing that is wrong with a JSON text, and where.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ReadError {
    /// What is wrong.
    pub kind: ErrorKind,
    /// The first byte that is wrong.
    pub start: usize,
    /// The byte after the last that is wrong; at least `start`.
    pub end: usize,
}

/// What is wrong.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ErrorKind {
    /// There is no value at all.
    Empty,
    /// The text ends inside a list or map, which was opened at this offset.
    EndsInside(usize),
    /// The text ends inside a quoted text.
    EndsInText,
    /// No value begins with what is here.
    NotAValue,
    /// Something that other notations have, and JSON has not.
    Elsewhere(Elsewhere),
    /// A comma with nothing behind it.
    TrailingComma,
    /// A member name is missing, or is not in double quotes.
    NotAName,
    /// No colon between a name and its value.
    NoColon,
    /// No comma between values; the closing bracket belongs to what is open.
    NoComma(char),
    /// A number that is not spelled by the grammar.
    BadNumber(&'static str),
    /// A control character inside a quoted text.
    ControlCharacter(u8),
    /// A backslash followed by something that is no escape.
    BadEscape,
    /// Half of a surrogate pair.
    LoneSurrogate,
    /// More text after the value.
    TextAfterEnd,
    /// Nested deeper than this limit.
    TooDeep(usize),
}

/// What other notations have in place of what JSON has.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Elsewhere {
    /// A comment.
    Comment,
    /// A text or a name in single quotes.
    SingleQuotes,
    /// A word, and what JSON has in its place.
    Word(&'static str, &'static str),
}

/// Words that stand for values elsewhere, and what to write.
const WORDS: [(&str, &str); 9] = [
    ("True", "true"),
    ("False", "false"),
    ("None", "null"),
    ("nil", "null"),
    ("undefined", "null"),
    ("NaN", "null, or a text"),
    ("nan", "null, or a text"),
    ("Infinity", "null, or a text"),
    ("inf", "null, or a text"),
];

impl Elsewhere {
    /// What a text begins with that is not JSON, and how many bytes of it are that.
    pub(super) fn of(text: &str) -> Option<(Self, usize)> {
        if text.starts_with("//") || text.starts_with("/*") {
            return Some((Self::Comment, 2));
        }
        match text.bytes().next()? {
            b'#' => Some((Self::Comment, 1)),
            b'\'' => Some((Self::SingleQuotes, 1)),
            _ => {
                let ends = |word: &str| {
                    let next = text[word.len()..].chars().next();
                    next.is_none_or(|next| !next.is_alphanumeric() && next != '_')
                };
                let known = WORDS.iter().find(|(word, _)| text.starts_with(word) && ends(word));
                known.map(|(word, instead)| (Self::Word(word, instead), word.len()))
            }
        }
    }
}

impl ReadError {
    /// The error that `kind` is at `start..end`.
    #[must_use]
    pub fn new(kind: ErrorKind, start: usize, end: usize) -> Self {
        Self { kind, start, end: end.max(start) }
    }

    /// Whether more text at the end could mend it.
    #[must_use]
    pub fn wants_more(&self) -> bool {
        matches!(self.kind, ErrorKind::EndsInside(_) | ErrorKind::EndsInText)
    }

    /// What is wrong, in one sentence.
    #[must_use]
    pub fn message(&self) -> String {
        match &self.kind {
            ErrorKind::Empty => "there is no JSON value in this input".into(),
            ErrorKind::EndsInside(_) => "the JSON text ends inside a list or map".into(),
            ErrorKind::EndsInText => "the JSON text ends inside a quoted text".into(),
            ErrorKind::NotAValue => "no JSON value begins like this".into(),
            ErrorKind::Elsewhere(Elsewhere::Comment) => "JSON has no comments".into(),
            ErrorKind::Elsewhere(Elsewhere::SingleQuotes) => {
                "JSON has texts and names in double quotes only".into()
            }
            ErrorKind::Elsewhere(Elsewhere::Word(word, _)) => format!("JSON has no {word}"),
            ErrorKind::TrailingComma => "a comma stands before the closing bracket".into(),
            ErrorKind::NotAName => "a member name in double quotes is missing here".into(),
            ErrorKind::NoColon => "a colon is missing after the member name".into(),
            ErrorKind::NoComma(close) => format!("a comma or `{close}` is missing here"),
            ErrorKind::BadNumber(why) => format!("this is not a JSON number: {why}"),
            ErrorKind::ControlCharacter(byte) => {
                format!("the control character U+{byte:04X} stands in a quoted text")
            }
            ErrorKind::BadEscape => "this backslash begins no JSON escape".into(),
            ErrorKind::LoneSurrogate => "this escape is only half of a surrogate pair".into(),
            ErrorKind::TextAfterEnd => "more text follows the end of the JSON value".into(),
            ErrorKind::TooDeep(limit) => format!("lists and maps nest deeper than {limit} levels"),
        }
    }

    /// What to do about it.
    #[must_use]
    pub fn advice<P>(&self) -> Advice<P> {
        match &self.kind {
            ErrorKind::Empty => "check that the command before this one wrote anything".into(),
            ErrorKind::EndsInside(_) | ErrorKind::EndsInText => {
                "the input looks cut off: fetch it again, or close what is open".into()
            }
            ErrorKind::NotAValue => {
                "values are \"text\", numbers, true, false, null, [lists] and {maps}".into()
            }
            ErrorKind::Elsewhere(Elsewhere::Comment) => "take it away".into(),
            ErrorKind::Elsewhere(Elsewhere::SingleQuotes) => {
                "write double quotes, and \\\" for those inside".into()
            }
            ErrorKind::Elsewhere(Elsewhere::Word(_, instead)) => format!("write {instead}").into(),
            ErrorKind::TrailingComma => "take the comma away".into(),
            ErrorKind::NotAName => "write the name in double quotes".into(),
            ErrorKind::NoColon => "write \"name\": value".into(),
            ErrorKind::NoComma(_) => "check the value before it, too".into(),
            ErrorKind::BadNumber(_) => "write it as 12, -0.5 or 6e23, or put it in quotes".into(),
            ErrorKind::ControlCharacter(b'\n') => "close the text on its line, or write \\n".into(),
            ErrorKind::ControlCharacter(_) => "write it as an escape: \\t, \\n, \\u0000".into(),
            ErrorKind::BadEscape => {
                "the escapes are \\\" \\\\ \\/ \\b \\f \\n \\r \\t \\uXXXX".into()
            }
            ErrorKind::LoneSurrogate => {
                "write both halves, as in \\uD83D\\uDEA2, or the character".into()
            }
            ErrorKind::TextAfterEnd => {
                ("for a run of JSON values, say ", Setting::From(Some("jsonl"))).into()
            }
            ErrorKind::TooDeep(_) => {
                ("if this is meant, raise the limit with ", Setting::Depth).into()
            }
        }
    }
}

impl std::fmt::Display for ReadError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.message())
    }
}

impl std::error::Error for ReadError {}

impl From<ReadError> for SyntaxError {
    fn from(error: ReadError) -> Self {
        let (start, end) = (error.start, error.end);
        let made = match error.kind {
            ErrorKind::TooDeep(_) => Self::limit(start, end, error.message(), error.advice()),
            _ => Self::new(start, end, error.message(), error.advice()),
        };
        let opened = match error.kind {
            ErrorKind::EndsInside(opened) => Some(opened),
            _ => None,
        };
        made.also(opened).if_more(error.wants_more())
    }
}
