//! Finds the children of JSON lists and maps by quotes, brackets and commas alone, without parsing values.

use kyanite_formats::json::{self, Inside, Reader, ReaderOptions};
use kyanite_tree::Arena;

use super::scan::Kind;
use super::{Child, Glance, Scanned, Step, Take, as_text};
use crate::{has_children, kind_of, laid_out, scalar_text};

/// Follows the bytes of a list or map, or of values one behind the other.
#[derive(Clone, Default)]
pub(super) struct Scan {
    /// Whether there are no brackets around.
    is_stream: bool,
    is_map: bool,
    state: State,
    /// The name of the member, as it is written.
    name: Vec<u8>,
    /// Where it begins.
    entry: u64,
    /// Whether the last byte of the name escapes the next.
    is_escaped: bool,
    /// The text, list or map under way.
    inside: Inside,
}

#[derive(Clone, Copy, PartialEq, Eq, Default)]
enum State {
    /// Before the bracket.
    #[default]
    Begin,
    /// Between children.
    Between,
    Name,
    /// Between a name and its value.
    Colon,
    /// At the first byte of a value.
    Value,
    /// In a text, list or map.
    Inside,
    /// In a number or word.
    Word,
}

fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\r' | b'\n')
}

impl Scan {
    pub(super) fn of_stream() -> Self {
        Self { is_stream: true, state: State::Between, ..Self::default() }
    }

    /// The same scan, before the child that comes next.
    fn before_child(&self) -> Kind {
        let Self { is_stream, is_map, .. } = *self;
        Kind::Json(Self { is_stream, is_map, state: State::Between, ..Self::default() })
    }

    /// Scans a block that begins at byte `at`, with the number of children that were found before it.
    pub(super) fn block(
        &mut self,
        block: &[u8],
        (at, mut count): (u64, u64),
        take: Take<'_>,
    ) -> Scanned {
        let mut next = 0;
        while let Some(byte) = block.get(next).copied() {
            let here = at + next as u64;
            match self.state {
                State::Begin => {
                    // What stands in front of the root, as a byte order mark does.
                    if matches!(byte, b'{' | b'[') {
                        self.is_map = byte == b'{';
                        self.state = State::Between;
                    } else if !is_blank(byte) && byte < 0x80 {
                        return Scanned { used: next, is_over: true };
                    }
                    next += 1;
                }
                State::Between if is_blank(byte) || byte == b',' || byte >= 0x80 => next += 1,
                State::Between if matches!(byte, b']' | b'}') => {
                    next += 1;
                    if !self.is_stream {
                        return Scanned { used: next, is_over: true };
                    }
                }
                State::Between if self.is_map && byte == b'"' => {
                    (self.entry, self.state) = (here, State::Name);
                    self.name.clear();
                    next += 1;
                }
                State::Between => {
                    let child = Child { step: Step::Item(count), at: here, entry: here };
                    if !take(child, &|| self.before_child()) {
                        return Scanned { used: next, is_over: true };
                    }
                    count += 1;
                    self.state = State::Value;
                }
                State::Name => {
                    next += 1;
                    match byte {
                        b'"' if !self.is_escaped => {
                            self.state = State::Colon;
                            continue;
                        }
                        b'\\' => self.is_escaped = !self.is_escaped,
                        _ => self.is_escaped = false,
                    }
                    self.name.push(byte);
                }
                State::Colon if is_blank(byte) || byte == b':' => next += 1,
                State::Colon => {
                    let name = String::from_utf8_lossy(&self.name).into_owned();
                    let child = Child { step: Step::Member(name), at: here, entry: self.entry };
                    if !take(child, &|| self.before_child()) {
                        return Scanned { used: next, is_over: true };
                    }
                    self.state = State::Value;
                }
                State::Value => match byte {
                    b'"' | b'{' | b'[' => {
                        self.inside = Inside::begin(byte);
                        self.state = State::Inside;
                        next += 1;
                    }
                    _ => self.state = State::Word,
                },
                State::Word if is_blank(byte) || matches!(byte, b',' | b']' | b'}') => {
                    self.state = State::Between;
                }
                State::Word => next += 1,
                State::Inside => {
                    let end = self.inside.pass(block, next);
                    if end.is_some() {
                        self.state = State::Between;
                    }
                    next = end.unwrap_or(block.len());
                }
            }
        }
        Scanned { used: next, is_over: false }
    }
}

/// A value whose first bytes these are.
pub(super) fn glance(bytes: &[u8]) -> Glance {
    let text = as_text(bytes);
    let arena = Arena::new();
    let mut reader = Reader::new(text, &arena, ReaderOptions::default());
    match reader.next_value() {
        Ok(Some(value)) => Glance {
            value: scalar_text(value),
            kind: kind_of(value),
            has_children: has_children(value),
            is_whole: true,
        },
        other => {
            let first = text.trim_start_matches('\u{feff}').trim_start().bytes().next();
            let kind = match first {
                Some(b'{') => "map",
                Some(b'[') => "list",
                Some(b'"') => "text",
                _ => "no JSON",
            };
            let has_children = matches!(first, Some(b'{' | b'['));
            let is_long = other.is_err_and(|error| error.wants_more());
            let value = (!has_children).then(|| text.lines().next().unwrap_or("").to_owned());
            Glance { value, kind: kind.to_owned(), has_children, is_whole: !is_long }
        }
    }
}

/// A value whose first bytes these are, laid out; as it is written where its end is not among them.
pub(super) fn whole(bytes: &[u8]) -> String {
    let text = as_text(bytes);
    let arena = Arena::new();
    match Reader::new(text, &arena, ReaderOptions::default()).next_value() {
        Ok(Some(value)) => laid_out(value),
        _ => format!("{text}…"),
    }
}

/// A name as it is meant.
pub(super) fn unescaped(name: &str) -> String {
    if name.contains('\\') { json::unescaped(name) } else { name.to_owned() }
}
