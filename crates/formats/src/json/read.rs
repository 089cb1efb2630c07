//! The JSON reader: text in, a tree in an arena out (RFC 8259).
//!
//! It takes text that is known to be UTF-8, reads it once from front to back without recursion, and borrows
//! names, numbers and texts from it wherever nothing needs unescaping. One reader reads one value after
//! another, so that the scratch space it builds containers in is allocated once for a whole batch of records.
//!
//! ```
//! use kyanite_formats::json::{Reader, ReaderOptions};
//! use kyanite_tree::Arena;
//!
//! let arena = Arena::new();
//! let mut reader = Reader::new("{\"berth\": 4} [1]", &arena, ReaderOptions::default());
//! let first = reader.next_value().unwrap().unwrap();
//! assert_eq!(first.member("berth").unwrap().as_number().unwrap().as_str(), "4");
//! assert!(reader.next_value().unwrap().is_some());
//! assert!(reader.next_value().unwrap().is_none());
//! ```

use kyanite_tree::{Arena, Base, Map, Member, Origin, ScalarSpan, Value};

use super::build::{Begun, ValueTemplates};
use super::error::{ErrorKind, ReadError};
use super::part::PartStructure;
use super::walk::Found;
use crate::projection::Projection;

/// What the values of a reader say about where they come from.
#[derive(Clone, Copy, Debug)]
pub enum Origins {
    /// Each its own, in a text that begins at this base.
    Text(Base),
    /// All the same: the place of the text that the JSON was found in.
    Fixed(Origin),
}

impl Origins {
    /// Where the text begins.
    fn base(self) -> Base {
        match self {
            Self::Text(base) => base,
            Self::Fixed(_) => Base::NONE,
        }
    }
}

/// Limits and bookkeeping of a reader.
#[derive(Clone, Copy, Debug)]
pub struct ReaderOptions {
    /// The deepest nesting that is read.
    pub depth: usize,
    /// What origins values get.
    pub origins: Origins,
}

/// The nesting that is read unless more is asked for.
pub const DEFAULT_DEPTH: usize = 512;

impl Default for ReaderOptions {
    fn default() -> Self {
        Self { depth: DEFAULT_DEPTH, origins: Origins::Text(Base::default()) }
    }
}

/// A member that a map held twice; the later value was kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Duplicate {
    /// The member's name.
    pub name: String,
    /// Where the value stands that was dropped.
    pub earlier: usize,
    /// Where the value stands that was kept.
    pub later: usize,
}

/// Reads the one JSON value of `text`.
///
/// # Errors
/// A [`ReadError`] where the text is not one JSON value, or passes the depth limit.
pub fn document<'a>(
    text: &'a str,
    arena: &'a Arena,
    options: ReaderOptions,
) -> Result<(Value<'a>, Vec<Duplicate>), ReadError> {
    let mut reader = Reader::new(text, arena, options);
    let end = text.len();
    let value = reader.next_value()?.ok_or_else(|| ReadError::new(ErrorKind::Empty, end, end))?;
    reader.skip_blank();
    if reader.at < end {
        return Err(reader.unexpected(ErrorKind::TextAfterEnd, reader.at + 1));
    }
    Ok((value, reader.duplicates))
}

/// Where the value that begins at byte `offset` of `text` ends, for marking it: the whole of a scalar, the
/// bracket of a list or map.
#[must_use]
pub fn value_end(text: &str, offset: usize) -> usize {
    let arena = Arena::new();
    let mut reader = Reader::new(text, &arena, ReaderOptions::default());
    reader.seek(offset);
    match text.as_bytes().get(offset) {
        Some(b'{' | b'[') | None => offset + 1,
        Some(_) => match reader.begin_value() {
            Ok(_) => reader.at,
            Err(_) => offset + 1,
        },
    }
}

/// Reads one JSON value after another.
pub struct Reader<'a> {
    pub(super) text: &'a str,
    pub(super) bytes: &'a [u8],
    pub(super) at: usize,
    pub(super) arena: &'a Arena,
    pub(super) options: ReaderOptions,
    /// The values of the lists that are open.
    pub(super) items: Vec<Value<'a>>,
    /// The members of the maps that are open; the last one's value may be still to come.
    pub(super) members: Vec<Member<'a>>,
    pub(super) open: Vec<Open>,
    pub(super) unescaped: String,
    pub(super) duplicates: Vec<Duplicate>,
    /// What is needed of each record; all without it.
    pub(super) projection: Option<&'a Projection>,
    /// The templates of records before, if values are built by these.
    pub(super) known: Option<&'a mut ValueTemplates>,
    /// Scratch space for what is met in records that follow none.
    pub(super) found: Found,
    /// Scratch space for the lists and maps that are built.
    pub(super) begun: Vec<Begun>,
    /// The structure of a part of the text, for records that follow no template.
    pub(super) part: PartStructure,
    /// Scratch space for the scalars of a record that follows a template.
    pub(super) scalars: Vec<ScalarSpan>,
}

/// A container whose end has not been read.
pub(super) struct Open {
    pub(super) start: usize,
    /// Where its children begin in `items` or `members`.
    first: usize,
    is_map: bool,
}

impl<'a> Reader<'a> {
    /// A reader over `text`, whose values live in `arena`. A byte order mark in front is skipped.
    #[must_use]
    pub fn new(text: &'a str, arena: &'a Arena, options: ReaderOptions) -> Self {
        Self {
            text,
            bytes: text.as_bytes(),
            at: if text.starts_with('\u{feff}') { 3 } else { 0 },
            arena,
            options,
            items: Vec::new(),
            members: Vec::new(),
            open: Vec::new(),
            unescaped: String::new(),
            duplicates: Vec::new(),
            projection: None,
            known: None,
            found: Found::default(),
            begun: Vec::new(),
            part: PartStructure::default(),
            scalars: Vec::new(),
        }
    }

    /// The offset of the byte to be read next.
    #[must_use]
    pub fn position(&self) -> usize {
        self.at
    }

    /// Goes on reading at byte `offset`, a character boundary.
    pub fn seek(&mut self, offset: usize) {
        self.at = offset;
    }

    /// Members that maps held twice since this was last asked.
    pub fn take_duplicates(&mut self) -> Vec<Duplicate> {
        std::mem::take(&mut self.duplicates)
    }

    /// The next value, or `None` when only blank space is left.
    ///
    /// # Errors
    /// A [`ReadError`]; the position is then somewhere inside the broken value.
    pub fn next_value(&mut self) -> Result<Option<Value<'a>>, ReadError> {
        if self.begin_record() { self.built_or_read().map(Some) } else { Ok(None) }
    }

    /// Goes to where the next record begins; tells whether there is one.
    #[inline]
    pub(super) fn begin_record(&mut self) -> bool {
        self.forget_open();
        self.skip_blank().is_some()
    }

    /// Forgets all containers that are open, to begin with a record.
    pub(super) fn forget_open(&mut self) {
        self.items.clear();
        self.members.clear();
        self.open.clear();
    }

    /// The value that begins here, with all that is in it.
    pub(super) fn whole_value(&mut self) -> Result<Value<'a>, ReadError> {
        loop {
            if let Some(value) = self.begin_value()?
                && let Some(whole) = self.end_value(value)?
            {
                return Ok(whole);
            }
        }
    }

    /// Skips blank space; gives the byte there.
    #[inline]
    pub(super) fn skip_blank(&mut self) -> Option<u8> {
        loop {
            match self.bytes.get(self.at) {
                Some(b' ' | b'\n' | b'\r' | b'\t') => self.at += 1,
                other => return other.copied(),
            }
        }
    }

    #[inline]
    pub(super) fn origin(&self, start: usize) -> Origin {
        match self.options.origins {
            Origins::Text(base) => base.origin(start),
            Origins::Fixed(origin) => origin,
        }
    }

    /// Reads a scalar, an empty container, or the opening of a container (then there is no value yet).
    #[inline]
    fn begin_value(&mut self) -> Result<Option<Value<'a>>, ReadError> {
        let start = self.at;
        match self.bytes.get(start) {
            Some(b'"') => {
                let text = self.quoted()?;
                Ok(Some(Value::Text(self.origin(start), text)))
            }
            Some(b'-' | b'0'..=b'9') => {
                let number = self.number()?;
                Ok(Some(Value::Number(self.origin(start), number)))
            }
            Some(b'{') => {
                self.push_open(start, true)?;
                if self.skip_blank() == Some(b'}') {
                    return self.close().map(Some);
                }
                self.name(false)?;
                Ok(None)
            }
            Some(b'[') => {
                self.push_open(start, false)?;
                if self.skip_blank() == Some(b']') {
                    return self.close().map(Some);
                }
                Ok(None)
            }
            Some(b't') => self.word("true", Value::Boolean(self.origin(start), true)).map(Some),
            Some(b'f') => self.word("false", Value::Boolean(self.origin(start), false)).map(Some),
            Some(b'n') => self.word("null", Value::Null(self.origin(start))).map(Some),
            _ => Err(self.not_a_value()),
        }
    }

    /// Puts a finished value where it belongs and reads on to the next one; gives the value back when nothing
    /// is open any more.
    #[inline]
    fn end_value(&mut self, mut value: Value<'a>) -> Result<Option<Value<'a>>, ReadError> {
        loop {
            let Some(open) = self.open.last() else { return Ok(Some(value)) };
            if open.is_map {
                if let Some(member) = self.members.last_mut() {
                    member.value = value;
                }
                match self.skip_blank() {
                    Some(b',') => {
                        self.at += 1;
                        self.name(true)?;
                        return Ok(None);
                    }
                    Some(b'}') => value = self.close()?,
                    _ => return Err(self.no_comma('}')),
                }
            } else {
                self.items.push(value);
                match self.skip_blank() {
                    Some(b',') => {
                        let comma = self.at;
                        self.at += 1;
                        if self.skip_blank() == Some(b']') {
                            return Err(ReadError::new(ErrorKind::TrailingComma, comma, comma + 1));
                        }
                        return Ok(None);
                    }
                    Some(b']') => value = self.close()?,
                    _ => return Err(self.no_comma(']')),
                }
            }
        }
    }

    #[inline]
    pub(super) fn push_open(&mut self, start: usize, is_map: bool) -> Result<(), ReadError> {
        if self.open.len() >= self.options.depth {
            return Err(ReadError::new(ErrorKind::TooDeep(self.options.depth), start, start + 1));
        }
        let first = if is_map { self.members.len() } else { self.items.len() };
        self.open.push(Open { start, first, is_map });
        self.at += 1;
        Ok(())
    }

    /// Closes the innermost container at its closing bracket.
    #[inline]
    pub(super) fn close(&mut self) -> Result<Value<'a>, ReadError> {
        self.at += 1;
        let Some(open) = self.open.pop() else { return Err(self.not_a_value()) };
        let origin = self.origin(open.start);
        if open.is_map {
            let duplicates = &mut self.duplicates;
            let base = self.options.origins.base();
            let map = Map::from_read(
                self.arena,
                &mut self.members[open.first..],
                |name, earlier, later| {
                    duplicates.push(Duplicate {
                        name: name.to_owned(),
                        earlier: base.offset(earlier.origin()),
                        later: base.offset(later.origin()),
                    });
                },
            );
            self.members.truncate(open.first);
            Ok(Value::Map(origin, map))
        } else {
            let items = self.arena.items(&self.items[open.first..]);
            self.items.truncate(open.first);
            Ok(Value::List(origin, items))
        }
    }

    /// Reads a member's name and colon, up to the first byte of its value.
    #[inline]
    fn name(&mut self, after_comma: bool) -> Result<(), ReadError> {
        match self.skip_blank() {
            Some(b'"') => {}
            Some(b'}') if after_comma => {
                let comma = self.text[..self.at].rfind(',').unwrap_or(self.at);
                return Err(ReadError::new(ErrorKind::TrailingComma, comma, comma + 1));
            }
            None => return Err(self.ends_inside()),
            Some(_) => {
                return Err(self.unexpected(ErrorKind::NotAName, self.word_end()));
            }
        }
        let name = self.quoted()?;
        self.members.push(Member { name, value: Value::NULL });
        match self.skip_blank() {
            Some(b':') => self.at += 1,
            None => return Err(self.ends_inside()),
            Some(_) => return Err(ReadError::new(ErrorKind::NoColon, self.at, self.at + 1)),
        }
        self.skip_blank();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::json::{Style, write};
    use kyanite_tree::{Location, Step, locate};
    use proptest::prelude::*;

    fn read(text: &str) -> Result<String, ReadError> {
        let arena = Arena::new();
        let (value, _) = document(text, &arena, ReaderOptions { depth: 4, ..Default::default() })?;
        let mut out = Vec::new();
        write(value, Style::Compact, &mut out);
        Ok(String::from_utf8(out).unwrap())
    }

    #[test]
    fn values_keep_order_and_spelling() {
        for (text, written) in [
            (
                " {\"b\": 1.50, \"a\": [1E2, -0, true, null]} ",
                r#"{"b":1.50,"a":[1E2,-0,true,null]}"#,
            ),
            ("\u{feff}[]", "[]"),
            (r#""\u00e9\/\n\uD83D\uDEA2""#, "\"é/\\n🚢\""),
            (r#"{"a":1,"b":2,"a":3}"#, r#"{"a":3,"b":2}"#),
            ("[[[[]]]]", "[[[[]]]]"),
        ] {
            assert_eq!(read(text).as_deref(), Ok(written), "{text}");
        }
    }

    #[test]
    fn errors_have_their_kind_and_place() {
        use crate::json::Elsewhere::*;
        use ErrorKind::*;
        for (text, kind, start, end) in [
            ("", Empty, 0, 0),
            ("  ", Empty, 2, 2),
            ("[1, ", EndsInside(0), 4, 4),
            ("{\"a\": ", EndsInside(0), 6, 6),
            ("{\"a\"", EndsInside(0), 4, 4),
            ("{", EndsInside(0), 1, 1),
            ("[\"ab", EndsInText, 1, 2),
            ("[\"a\\n", EndsInText, 1, 2),
            ("[1,]", TrailingComma, 2, 3),
            ("{\"a\":1 , }", TrailingComma, 7, 8),
            ("{a: 1}", NotAName, 1, 2),
            ("{\"a\" 1}", NoColon, 5, 6),
            ("[1 2]", NoComma(']'), 3, 4),
            ("{\"a\":1 \"b\":2}", NoComma('}'), 7, 8),
            ("[True]", Elsewhere(Word("True", "true")), 1, 5),
            ("[Trueish]", NotAValue, 1, 8),
            ("{\"a\": NaN}", Elsewhere(Word("NaN", "null, or a text")), 6, 9),
            ("['é']", Elsewhere(SingleQuotes), 1, 2),
            ("{'a': 1}", Elsewhere(SingleQuotes), 1, 2),
            ("// c\n{}", Elsewhere(Comment), 0, 2),
            ("{ # c\n}", Elsewhere(Comment), 2, 3),
            ("[1 /* c */]", Elsewhere(Comment), 3, 5),
            ("[] // c", Elsewhere(Comment), 3, 5),
            ("[truth]", NotAValue, 1, 6),
            ("[01]", BadNumber("zeros may not stand in front"), 1, 3),
            ("[1.]", BadNumber("a digit is missing after the point"), 1, 4),
            ("[+1]", BadNumber("it begins with a digit or a minus"), 1, 2),
            ("-", BadNumber("a digit is missing after the minus"), 0, 1),
            ("1e", BadNumber("a digit is missing in the exponent"), 0, 2),
            ("[\"a\nb\"]", ControlCharacter(b'\n'), 3, 4),
            ("[\"\\n\t\"]", ControlCharacter(b'\t'), 4, 5),
            (r#"["\x"]"#, BadEscape, 2, 3),
            (r#"["\u12G4"]"#, BadEscape, 2, 4),
            (r#"["\uD800"]"#, LoneSurrogate, 2, 8),
            (r#"["\uDC00\uD800"]"#, LoneSurrogate, 2, 8),
            ("1 2", TextAfterEnd, 2, 3),
            ("[[[[[]]]]]", TooDeep(4), 4, 5),
        ] {
            assert_eq!(read(text), Err(ReadError::new(kind, start, end)), "{text}");
        }
    }

    #[test]
    fn duplicates_are_told_with_both_places() {
        let arena = Arena::new();
        let text = r#"{"a": 1, "a": [2]}"#;
        let (_, duplicates) = document(text, &arena, ReaderOptions::default()).unwrap();
        assert_eq!(duplicates, [Duplicate { name: "a".into(), earlier: 6, later: 14 }]);
    }

    #[test]
    fn every_value_is_found_again_by_its_origin() {
        let arena = Arena::new();
        let text = r#"{"a": {"x": [1, {"y": [[], "t"]}]}, "b": 2, "a": [[3], 4]}"#;
        let (root, _) = document(text, &arena, ReaderOptions::default()).unwrap();
        let find = |needle: &str| locate(root, Base::default().origin(text.rfind(needle).unwrap()));
        let a = Step::Name("a");
        assert_eq!(find("4]"), Some(Location::new(vec![a, Step::Index(1)])));
        assert_eq!(find("3]"), Some(Location::new(vec![a, Step::Index(0), Step::Index(0)])));
        assert_eq!(find("2,"), Some(Location::new(vec![Step::Name("b")])));
        assert_eq!(find("1,"), None, "the overridden member is not in the document");
        assert_eq!(locate(root, Origin::NONE), None);
    }

    proptest! {
        #[test]
        fn never_panics_and_agrees_with_serde_json(text in r#"([\[\]{},:"\\ \n01eE.+-]|"a"|true|null|\\u00e9|\\uD83D){0,24}"#) {
            let ours = read(&text);
            let theirs = serde_json::from_str::<serde_json::Value>(&text);
            // The depth limit is the only difference.
            if !matches!(ours, Err(ReadError { kind: ErrorKind::TooDeep(_), .. })) {
                // Theirs refuses numbers that overflow a float; ours keeps them.
                let overflow = theirs.as_ref().is_err_and(|error| error.to_string().contains("out of range"));
                prop_assert!(overflow || ours.is_ok() == theirs.is_ok(), "{ours:?} {theirs:?}");
            }
        }

        #[test]
        fn written_values_read_back(value in write::tests::any_json()) {
            let text = value.to_string();
            let ours = read_deep(&text);
            prop_assert_eq!(serde_json::from_str::<serde_json::Value>(&ours).unwrap(), value);
        }
    }

    fn read_deep(text: &str) -> String {
        let arena = Arena::new();
        let (value, _) = document(text, &arena, ReaderOptions::default()).unwrap();
        let mut out = Vec::new();
        write(value, Style::Indented(3), &mut out);
        String::from_utf8(out).unwrap()
    }
}
