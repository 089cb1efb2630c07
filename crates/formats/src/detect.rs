//! Which format an input is in, and why.
//!
//! In this order: what the user said, the file's extension, the first significant bytes. The reason is kept, so
//! that it can be shown.

use std::fmt;
use std::path::Path;

use crate::Format;

/// A format and the reason it was chosen.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Detected {
    /// The format.
    pub format: Format,
    /// Why.
    pub reason: Reason,
}

/// Why a format was chosen.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Reason {
    /// The user said so.
    Told,
    /// By the file's extension, given here.
    Extension(String),
    /// By the first significant byte, or because there was none.
    Content(Option<char>),
}

impl fmt::Display for Detected {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let format = self.format;
        match &self.reason {
            Reason::Told => write!(f, "read as {format}, as told"),
            Reason::Extension(extension) => {
                write!(f, "read as {format}, by its extension .{extension}")
            }
            Reason::Content(Some(first)) => {
                write!(f, "read as {format}, as it begins with `{first}`")
            }
            Reason::Content(None) => write!(f, "read as {format}, though it is empty"),
        }
    }
}

/// Chooses by option, else by extension; `None` when the content has to be looked at.
#[must_use]
pub fn by_name(told: Option<Format>, path: Option<&Path>) -> Option<Detected> {
    if let Some(format) = told {
        return Some(Detected { format, reason: Reason::Told });
    }
    let extension = path?.extension()?.to_str()?;
    let format = Format::of_extension(extension).filter(|format| format.is_input())?;
    Some(Detected { format, reason: Reason::Extension(extension.to_owned()) })
}

/// The byte order mark of UTF-8.
pub const UTF8_MARK: &[u8] = b"\xEF\xBB\xBF";

/// Chooses by the first bytes of the content; `None` when they begin no format that can be read.
#[must_use]
pub fn by_content(head: &[u8]) -> Option<Detected> {
    let head = head.strip_prefix(UTF8_MARK).unwrap_or(head);
    let first = head.iter().find(|byte| !byte.is_ascii_whitespace()).map(|byte| char::from(*byte));
    let starts_json = |c: char| matches!(c, '{' | '[' | '"' | '-' | '0'..='9' | 't' | 'f' | 'n');
    first
        .is_none_or(starts_json)
        .then_some(Detected { format: Format::Json, reason: Reason::Content(first) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn order_of_evidence() {
        let path = Path::new("pier/bookings.JSONL");
        assert_eq!(by_name(Some(Format::Json), Some(path)).unwrap().format, Format::Json);
        assert_eq!(by_name(None, Some(path)).unwrap().format, Format::JsonLines);
        for unknown in ["answer.bin", "answer", "notes.txt"] {
            assert_eq!(by_name(None, Some(Path::new(unknown))), None, "{unknown}");
        }
        for (head, format) in [
            ("\u{feff} {", Some(Format::Json)),
            ("", Some(Format::Json)),
            ("-3", Some(Format::Json)),
            ("<manifest/>", None),
            ("port,berth", None),
        ] {
            assert_eq!(by_content(head.as_bytes()).map(|d| d.format), format, "{head}");
        }
    }
}
