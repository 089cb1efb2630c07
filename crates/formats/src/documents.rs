//! Whole documents of any format: one interface over their readers.

use kyanite_tree::{Arena, Base, Setting, Value};

use crate::json::{self, Duplicate, Origins};
use crate::losses::Losses;
use crate::xml::{self, Repair};
use crate::{Format, SyntaxError, toml, yaml};

/// Limits that every reader keeps.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Limits {
    /// The deepest nesting.
    pub depth: usize,
    /// The most bytes that entities of XML may expand to.
    pub expansion: usize,
    /// The most values that aliases of YAML may stand for.
    pub aliases: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            depth: json::DEFAULT_DEPTH,
            expansion: xml::DEFAULT_EXPANSION,
            aliases: yaml::DEFAULT_ALIASES,
        }
    }
}

/// How documents are read.
#[derive(Clone, Copy, Debug, Default)]
pub struct Options {
    /// Their limits.
    pub limits: Limits,
    /// Whether broken XML is repaired.
    pub lenient: bool,
    /// Whether the prefixes of XML are left out.
    pub drop_namespaces: bool,
    /// Where the text begins in the space of origins.
    pub base: Base,
}

impl Options {
    /// The same for XML alone.
    #[must_use]
    pub fn xml(self) -> xml::Options {
        xml::Options {
            depth: self.limits.depth,
            expansion: self.limits.expansion,
            lenient: self.lenient,
            drop_namespaces: self.drop_namespaces,
            namespaces: true,
            base: self.base,
        }
    }
}

/// Documents that were read from one text.
#[derive(Debug, Default)]
pub struct Documents<'a> {
    /// Their roots, in order.
    pub roots: Vec<Value<'a>>,
    /// Members that maps held twice.
    pub duplicates: Vec<Duplicate>,
    /// What the reader could not keep.
    pub losses: Losses,
    /// What was repaired, and references that lead out of the document.
    pub repairs: Vec<Repair>,
}

/// Reads all documents of a text in a format that is not one of records.
///
/// # Errors
/// A [`SyntaxError`].
pub fn read<'a>(
    format: Format,
    text: &'a str,
    arena: &'a Arena,
    options: Options,
) -> Result<Documents<'a>, SyntaxError> {
    let Options { limits: Limits { depth, aliases, .. }, base, .. } = options;
    match format {
        Format::Xml => {
            let read = xml::document(text, arena, options.xml())?;
            let roots = vec![read.value()];
            Ok(Documents { roots, repairs: read.repairs, ..Documents::default() })
        }
        Format::Yaml => {
            let read = yaml::documents(text, arena, yaml::Options { depth, aliases, base })?;
            let yaml::Documents { mut documents, duplicates, losses } = read;
            if documents.is_empty() {
                documents.push(Value::Null(base.origin(0)));
            }
            Ok(Documents { roots: documents, duplicates, losses, ..Documents::default() })
        }
        Format::Toml => {
            let read = toml::document(text, arena, toml::Options { depth, base })?;
            Ok(Documents { roots: vec![read.root], losses: read.losses, ..Documents::default() })
        }
        Format::JsonSequence => sequence(text, arena, depth, base),
        _ => {
            let options = json::ReaderOptions { depth, origins: Origins::Text(base) };
            let (root, duplicates) = json::document(text, arena, options)?;
            Ok(Documents { roots: vec![root], duplicates, ..Documents::default() })
        }
    }
}

/// The documents of a text in a format of which an input [may be many](Format::has_documents), each with what belongs to it, so that they
/// are the text again behind one another. Some may come as one.
#[must_use]
pub fn texts(format: Format, text: &[u8]) -> Vec<&[u8]> {
    match format {
        Format::Yaml => yaml::DocumentTexts::new(text).collect(),
        Format::JsonSequence => sequence_apart(text),
        _ => vec![text],
    }
}

/// Where the last document of the beginning of a text begins, if there is one before it: where a text of documents may be cut, whatever
/// follows.
#[must_use]
pub fn last_begin(format: Format, text: &[u8]) -> Option<usize> {
    match format {
        // What the beginning of a line says may be known only at its end.
        Format::Yaml => yaml::DocumentTexts::last_begin(&text[..memchr::memrchr(b'\n', text)? + 1]),
        Format::JsonSequence => memchr::memrchr(RECORD_SEPARATOR, text).filter(|begin| *begin > 0),
        _ => None,
    }
}

fn sequence_apart(text: &[u8]) -> Vec<&[u8]> {
    let begins = memchr::memchr_iter(RECORD_SEPARATOR, text).filter(|begin| *begin > 0);
    let mut from = 0;
    let ends = begins.chain([text.len()]);
    ends.map(|end| &text[std::mem::replace(&mut from, end)..end]).collect()
}

/// What stands before each text of a sequence (RFC 7464 section 2.2).
pub const RECORD_SEPARATOR: u8 = 0x1E;

/// The texts of a JSON text sequence (RFC 7464 section 2.1).
fn sequence<'a>(
    text: &'a str,
    arena: &'a Arena,
    depth: usize,
    base: Base,
) -> Result<Documents<'a>, SyntaxError> {
    let bytes = text.as_bytes();
    let mut read = Documents::default();
    let mut at = bytes.iter().position(|byte| !byte.is_ascii_whitespace()).unwrap_or(bytes.len());
    while at < bytes.len() {
        if bytes[at] != RECORD_SEPARATOR {
            return Err(SyntaxError::new(
                at,
                at + 1,
                "a text of a JSON sequence begins with the character U+001E",
                ("for JSON values without it, say ", Setting::From(Some("jsonl"))),
            ));
        }
        let start = at + 1;
        let length =
            memchr::memchr(RECORD_SEPARATOR, &bytes[start..]).unwrap_or(bytes.len() - start);
        at = start + length;
        let part = &text[..at];
        if part[start..].trim().is_empty() {
            continue;
        }
        let options = json::ReaderOptions { depth, origins: Origins::Text(base) };
        let mut reader = json::Reader::new(part, arena, options);
        reader.seek(start);
        let value = reader.next_value()?;
        // A number or word may be cut off, which only the white space behind it tells (section 2.4).
        let behind = reader.position();
        let is_closed = value.is_some_and(|value| {
            value.as_list().is_some() || value.as_map().is_some() || bytes[behind - 1] == b'"'
        });
        if behind == at && !is_closed {
            return Err(SyntaxError::new(
                start,
                at,
                "this text of the sequence may be cut off",
                "a text that is no list, map or quoted text ends with a line feed",
            ));
        }
        if !part[behind..].trim().is_empty() {
            return Err(SyntaxError::new(
                behind,
                behind + 1,
                "more text follows the JSON value",
                "each text of a sequence holds one value",
            ));
        }
        read.roots.extend(value);
        read.duplicates.extend(reader.take_duplicates());
    }
    Ok(read)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_behind_one_another() {
        for (format, text, begin) in [
            (Format::Yaml, "a\n---\nb\n---\nc\n", Some(8)),
            (Format::Yaml, "a\n---\nb\n---", Some(2)),
            (Format::Yaml, "a\n...\n# c\n", None),
            (Format::Yaml, "a\n", None),
            (Format::JsonSequence, "\u{1e}1\n\u{1e}2\n", Some(3)),
            (Format::JsonSequence, "\u{1e}1\n", None),
            (Format::Toml, "a = 1\n", None),
        ] {
            assert_eq!(last_begin(format, text.as_bytes()), begin, "{text:?}");
            assert_eq!(texts(format, text.as_bytes()).concat(), text.as_bytes());
        }
    }

    #[test]
    fn sequences() {
        let arena = Arena::new();
        let count = |text| {
            read(Format::JsonSequence, text, &arena, Options::default())
                .map(|read| read.roots.len())
        };
        for (text, roots) in
            [("", 0), ("\u{1e}{\"a\":1}\n\u{1e}[2]\n", 2), ("\u{1e}\u{1e}7\n\u{1e}\"x\"", 2)]
        {
            assert_eq!(count(text), Ok(roots), "{text:?}");
        }
        for text in ["{}", "\u{1e}7", "\u{1e}1 2\n", "\u{1e}{\n\u{1e}{}\n", "\u{1e}tru\n"] {
            assert!(count(text).is_err(), "{text:?}");
        }
    }
}
