//! Which format an input is in, and why.
//!
//! In this order: what the user said, the file's extension, the content type that a server gave, the first significant
//! bytes and, where they leave it open, a trial. The reason is kept, so that it can be shown.

use std::fmt;

use kyanite_tree::{Arena, Kind};

use crate::encoding::UTF8_MARK;
use crate::{Format, json, toml, yaml};

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
    /// By the content type that a server gave.
    MediaType(String),
    /// By the first significant byte, or because there was none.
    Content(Option<char>),
    /// Because it reads as that.
    Trial,
}

impl fmt::Display for Detected {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let format = self.format;
        match &self.reason {
            Reason::Told => write!(f, "read as {format}, as told"),
            Reason::Extension(extension) => {
                write!(f, "read as {format}, by its extension .{extension}")
            }
            Reason::MediaType(media) => {
                write!(f, "read as {format}, by its content type {media}")
            }
            Reason::Content(Some(first)) if first.is_control() => {
                write!(f, "read as {format}, as it begins with U+{:04X}", u32::from(*first))
            }
            Reason::Content(Some(first)) => {
                write!(f, "read as {format}, as it begins with `{first}`")
            }
            Reason::Content(None) => write!(f, "read as {format}, though it is empty"),
            Reason::Trial => write!(f, "read as {format}, since its beginning reads as that"),
        }
    }
}

/// Chooses by option, else by the extension of the file's name; `None` when the content has to be looked at.
#[must_use]
pub fn by_name(told: Option<Format>, file: Option<&str>) -> Option<Detected> {
    if let Some(format) = told {
        return Some(Detected { format, reason: Reason::Told });
    }
    let name = file?.rsplit(['/', '\\']).next()?;
    let mut parts = name.rsplit('.').peekable();
    let mut extension = parts.next()?;
    // What is compressed has its own extension in front.
    if COMPRESSED.iter().any(|compressed| extension.eq_ignore_ascii_case(compressed)) {
        extension = parts.next()?;
    }
    parts.peek()?;
    let format = Format::of_extension(extension)?;
    Some(Detected { format, reason: Reason::Extension(extension.to_owned()) })
}

/// The extensions of compressed files.
pub const COMPRESSED: [&str; 3] = ["gz", "zst", "zstd"];

/// Chooses by the first bytes of the content; `None` when they begin no format that can be told. With `is_all` there is no
/// more than these bytes.
#[must_use]
pub fn by_content(head: &[u8], is_all: bool) -> Option<Detected> {
    let head = head.strip_prefix(UTF8_MARK).unwrap_or(head);
    let first = head.iter().find(|byte| !byte.is_ascii_whitespace()).map(|byte| char::from(*byte));
    let found = |format, reason| Some(Detected { format, reason });
    match first {
        None => return found(Format::Json, Reason::Content(None)),
        Some('\u{1E}') => return found(Format::JsonSequence, Reason::Content(first)),
        Some('<') => return found(Format::Xml, Reason::Content(first)),
        _ => {}
    }
    // A trial sees whole lines only, for the last may be cut off.
    let whole =
        if is_all { head.len() } else { memchr::memrchr(b'\n', head).map_or(0, |end| end + 1) };
    let lines = std::str::from_utf8(&head[..whole]).unwrap_or_default();
    match first {
        // These begin JSON nearly always, but also tables of TOML and flow style of YAML.
        Some('{' | '[')
            if reads_as_json(head) || !reads_as_toml(lines) && !reads_as_yaml(lines) =>
        {
            return found(Format::Json, Reason::Content(first));
        }
        Some('"' | '-' | '0'..='9' | 't' | 'f' | 'n') if reads_as_json(head) => {
            return found(Format::Json, Reason::Content(first));
        }
        _ => {}
    }
    if reads_as_toml(lines) {
        return found(Format::Toml, Reason::Trial);
    }
    reads_as_yaml(lines).then_some(Detected { format: Format::Yaml, reason: Reason::Trial })
}

/// Whether a text begins with a JSON value, or with one that is cut off.
fn reads_as_json(head: &[u8]) -> bool {
    let valid = match std::str::from_utf8(head) {
        Ok(text) => text,
        Err(error) => std::str::from_utf8(&head[..error.valid_up_to()]).unwrap_or_default(),
    };
    let arena = Arena::new();
    let mut reader = json::Reader::new(valid, &arena, json::ReaderOptions::default());
    match reader.next_value() {
        Ok(Some(value)) => {
            let is_container = matches!(value.kind(), Kind::List | Kind::Map);
            is_container || valid[reader.position()..].trim().is_empty()
        }
        Ok(None) => false,
        Err(error) => {
            error.wants_more()
                || error.end >= valid.len()
                || matches!(error.kind, json::ErrorKind::TooDeep(_))
        }
    }
}

fn reads_as_toml(lines: &str) -> bool {
    let arena = Arena::new();
    let read = toml::document(lines, &arena, toml::Options::default());
    read.is_ok_and(|read| read.root.as_map().is_some_and(|map| !map.is_empty()))
}

/// Whether lines are a list or map of YAML; nearly every text is a scalar of it.
fn reads_as_yaml(lines: &str) -> bool {
    let arena = Arena::new();
    let read = yaml::documents(lines, &arena, yaml::Options::default());
    read.is_ok_and(|read| {
        let kinds = read.documents.iter().map(|document| document.kind());
        kinds.into_iter().any(|kind| matches!(kind, Kind::List | Kind::Map))
    })
}

/// Whether the content looks like another format than the name says; only where that is plain to see.
#[must_use]
pub fn contradicts(named: Format, head: &[u8]) -> Option<Format> {
    let head = head.strip_prefix(UTF8_MARK).unwrap_or(head);
    let first = head.iter().copied().find(|byte| !byte.is_ascii_whitespace())?;
    let is_json = |format| {
        matches!(format, Format::Json | Format::JsonLines | Format::JsonSequence | Format::Yaml)
    };
    match (named, first) {
        (Format::Text | Format::Xml, b'<') => None,
        (_, b'<') => Some(Format::Xml),
        (Format::Text, _) => None,
        (named, 0x1E) if named != Format::JsonSequence => Some(Format::JsonSequence),
        (named, b'{') if !is_json(named) && reads_as_json(head) => Some(Format::Json),
        (Format::Xml | Format::Csv | Format::Tsv, b'[') if reads_as_json(head) => {
            Some(Format::Json)
        }
        (Format::Json | Format::JsonLines | Format::Xml, _) if !matches!(first, b'{' | b'[') => {
            by_content(head, false)
                .map(|found| found.format)
                .filter(|found| matches!(found, Format::Yaml | Format::Toml))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn order_of_evidence() {
        let name = |told, file| by_name(told, Some(file)).map(|detected| detected.format);
        assert_eq!(name(Some(Format::Json), "pier/bookings.JSONL"), Some(Format::Json));
        for (file, format) in [
            ("pier/bookings.JSONL", Some(Format::JsonLines)),
            ("bookings.jsonl.gz", Some(Format::JsonLines)),
            ("manifest.xml.ZST", Some(Format::Xml)),
            ("answer.bin", None),
            ("answer", None),
            ("json", None),
            ("a.json/answer", None),
            ("answer.gz", None),
        ] {
            assert_eq!(name(None, file), format, "{file}");
        }
    }

    #[test]
    fn content() {
        for (head, format) in [
            ("\u{feff} {", Some(Format::Json)),
            ("", Some(Format::Json)),
            ("-3", Some(Format::Json)),
            ("{\"a\": [1, 2", Some(Format::Json)),
            ("<manifest/>", Some(Format::Xml)),
            ("\u{1e}{}\n", Some(Format::JsonSequence)),
            ("[vessel]\nname = \"Skua\"\n", Some(Format::Toml)),
            ("depth = 4.5\nopen = true\n", Some(Format::Toml)),
            ("# ports\nness:\n  depth: 4\n", Some(Format::Yaml)),
            ("---\n- a\n- b\n", Some(Format::Yaml)),
            ("{a: b, c: d}\n", Some(Format::Yaml)),
            ("{\"a\": ", Some(Format::Json)),
            ("{oops", Some(Format::Json)),
            ("port,berth\nness,A9\n", None),
            ("just a line\n", None),
            ("2026-05-01,4\n", None),
        ] {
            assert_eq!(by_content(head.as_bytes(), true).map(|d| d.format), format, "{head}");
        }
    }

    #[test]
    fn names_that_the_content_contradicts() {
        for (named, head, other) in [
            (Format::Json, "<a/>", Some(Format::Xml)),
            (Format::Csv, "{\"a\": 1}", Some(Format::Json)),
            (Format::Json, "a: 1\nb: 2\n", Some(Format::Yaml)),
            (Format::Yaml, "{\"a\": 1}", None),
            (Format::Json, "{broken", None),
            (Format::Csv, "a,b\n", None),
            (Format::Text, "<a/>", None),
        ] {
            assert_eq!(contradicts(named, head.as_bytes()), other, "{head}");
        }
    }
}
