//! One JSON document that comes in parts. What is open where a part begins is opened again in front of it, so that the part is a text of its
//! own, whose structure and events are found as those of any other.
//!
//! ```
//! use kyanite_formats::json::Parts;
//! use kyanite_formats::records::Structure;
//! use kyanite_tree::{Event, Pull};
//!
//! let mut parts = Parts::default();
//! for (part, first) in [(r#"{"sailings": [4,"#, Event::BeginMap), ("5]}", Event::Number("5"))] {
//!     let text = parts.text(part);
//!     let structure = Structure::of(text.as_bytes());
//!     let mut events = parts.events(&text, &structure).unwrap();
//!     assert_eq!(events.next_event(), Some(first));
//!     while events.next_event().is_some() {}
//!     parts.go_on(&events, text.len());
//! }
//! ```

use kyanite_scan::{Nesting, Structure};
use kyanite_tree::{Arena, Base, Pull};

use super::error::{ErrorKind, ReadError};
use super::events::EventReader;
use super::read::{Origins, ReaderOptions, document};
use crate::SyntaxError;

/// Where the next part of a document begins: behind a bracket or a comma.
#[derive(Clone, Debug, Default)]
pub struct Parts {
    open: Nesting,
    behind: Behind,
    /// How many bytes stand in front of the part.
    front: usize,
}

/// What the last part ended with.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
enum Behind {
    /// The beginning of the document, or an opening bracket.
    #[default]
    Begin,
    Comma,
    /// A value.
    Value,
}

/// As many lines are looked at from the end for one where a part may end.
const LINES: usize = 16;

/// As many commas are looked at from the end for one that is in no text.
const COMMAS: usize = 256;

impl Parts {
    /// Where a part of a document may end, the last place in a text that begins outside of quotes: behind a bracket or a comma.
    #[must_use]
    pub fn cut(text: &str) -> Option<usize> {
        let bytes = text.as_bytes();
        let mut end = bytes.len();
        for _ in 0..LINES {
            // A line ends in no text.
            let Some(line_end) = memchr::memrchr(b'\n', &bytes[..end]) else { break };
            let line = bytes[..line_end].trim_ascii_end();
            if line.last().is_some_and(|byte| b",[]{}".contains(byte)) {
                return Some(line.len());
            }
            end = line_end;
        }
        let mut structure = Structure::default();
        structure.find_unchecked(bytes);
        let commas = memchr::memrchr_iter(b',', bytes).take(COMMAS);
        let comma = commas.into_iter().find(|at| !structure.is_in_text(*at));
        comma.max(structure.last_bracket()).map(|at| at + 1)
    }

    /// The text of a part, behind what opens the lists and maps again that are open where it begins. A byte order mark becomes blanks.
    #[must_use]
    pub fn text(&mut self, part: &str) -> String {
        let (mut around, mut front) = (self.open.clone(), Vec::new());
        let mut is_innermost = true;
        while !around.is_empty() {
            front.push(match (around.is_in_map(), is_innermost, self.behind) {
                (true, true, Behind::Begin) => "{",
                (true, true, Behind::Comma) => "{\"\":0,",
                (true, true, Behind::Value) => "{\"\":0",
                (true, false, _) => "{\"\":",
                (false, true, Behind::Comma) => "[0,",
                (false, true, Behind::Value) => "[0",
                (false, ..) => "[",
            });
            is_innermost = false;
            around.end();
        }
        front.reverse();
        let front = front.concat();
        self.front = front.len();
        match part.strip_prefix('\u{feff}') {
            Some(rest) => front + "   " + rest,
            None => front + part,
        }
    }

    /// How many bytes of that text stand in front of the part.
    #[must_use]
    pub fn front(&self) -> usize {
        self.front
    }

    /// The events of a part, by the [text](Self::text) that was made of it. `None` if it is not well-formed, for which there is
    /// [`error`](Self::error).
    #[must_use]
    pub fn events<'t, 's>(
        &self,
        text: &'t str,
        structure: &'s Structure,
    ) -> Option<EventReader<'t, 's>> {
        let mut events = EventReader::new(text, structure)?;
        // A comma is no event.
        let front = self.front - usize::from(self.front > 0 && self.behind == Behind::Comma);
        while events.position() < front {
            events.next_event()?;
        }
        Some(events)
    }

    /// The next part begins at byte `end` of the [text](Self::text) that was made of this one, behind the events that came so far.
    pub fn go_on(&mut self, events: &EventReader<'_, '_>, end: usize) {
        self.open = events.open().clone();
        let part = events.text().get(self.front..end).unwrap_or_default().trim_ascii_end();
        self.behind = match part.bytes().last() {
            Some(b',') => Behind::Comma,
            Some(b'{' | b'[') => Behind::Begin,
            Some(_) => Behind::Value,
            None => self.behind,
        };
    }

    /// What is wrong with a part, by the text that was made of it: its places are those of the part.
    #[must_use]
    pub fn error(&self, text: &str, depth: usize) -> SyntaxError {
        let arena = Arena::new();
        let options = ReaderOptions { depth, origins: Origins::Text(Base::default()) };
        let found = document(text, &arena, options).err();
        let error = found.unwrap_or_else(|| ReadError::new(ErrorKind::NotAValue, 0, text.len()));
        SyntaxError::from(error).behind(self.front)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// The events of a document that comes in parts of about `size` bytes; or what is wrong, and at which byte.
    fn events(text: &str, size: usize) -> Result<Vec<String>, (usize, String)> {
        let (mut parts, mut found, mut at) = (Parts::default(), Vec::new(), 0);
        loop {
            let mut end = (at + size).min(text.len());
            let part = loop {
                while !text.is_char_boundary(end) {
                    end += 1;
                }
                match Parts::cut(&text[at..end]) {
                    _ if end == text.len() => break &text[at..],
                    Some(cut) => break &text[at..at + cut],
                    None => end += 1,
                }
            };
            let begin = at;
            at += part.len();
            let part = parts.text(part);
            let structure = Structure::of(part.as_bytes());
            let wrong = |parts: &Parts| {
                let error = parts.error(&part, 100);
                Err((begin + error.span().start, error.message().to_owned()))
            };
            let Some(mut events) = parts.events(&part, &structure) else { return wrong(&parts) };
            while let Some(event) = events.next_event() {
                found.push(format!("{event:?}"));
            }
            if events.end().is_some() {
                return match text[at..].trim() {
                    "" => Ok(found),
                    _ => Err((at, "more text follows".to_owned())),
                };
            }
            if at == text.len() {
                return wrong(&parts);
            }
            parts.go_on(&events, part.len());
        }
    }

    #[test]
    fn parts_are_one_document() {
        let texts = [
            r#"{"a": [1, 2, {"b": "x,]}\"y", "c": []}], "d": {}, "e": "f"}"#,
            "[[[\"a,b\", \"[\"]],\n {\"a\":\n{\"b\":\n[1\n,\n2\n]}}]",
            "{\"a\"\n:\n1\n,\n\"b,\"\n:\n\"c\"\n}\n",
            "\"a,b\"",
        ];
        for text in texts {
            let whole = events(text, text.len());
            assert!(whole.is_ok(), "{text}");
            for size in 1..text.len() {
                assert_eq!(events(text, size), whole, "{text} in {size}");
            }
        }
    }

    #[test]
    fn what_is_wrong_with_a_part() {
        for (text, start, message) in [
            ("[[1,2],[3 4]]", 10, "a comma or `]` is missing here"),
            ("{\"a\":1,\"b\" 2}", 11, "a colon is missing after the member name"),
            ("[1,2,,3]", 5, "no JSON value begins like this"),
            ("[1,[2]", 6, "the JSON text ends inside a list or map"),
            ("[1,{\"a\":[1,}]", 11, "no JSON value begins like this"),
            ("[[1],[2],[3]}", 12, "a comma or `]` is missing here"),
        ] {
            for size in [3, 6, 100] {
                let found = events(text, size).unwrap_err();
                assert_eq!(found, (start, message.to_owned()), "{text} in {size}");
            }
        }
    }

    proptest! {
        #[test]
        fn any_document(document in crate::json::write::tests::any_json(), size in 1usize..40, pretty in any::<bool>()) {
            let text = if pretty { serde_json::to_string_pretty(&document) } else { serde_json::to_string(&document) }.unwrap();
            prop_assert_eq!(events(&text, size), events(&text, text.len()));
        }

        #[test]
        fn never_panics(text in "[\\[\\]{}:,\"a1\\\\ \n]{0,40}", size in 1usize..9) {
            let _ = events(&text, size);
        }
    }
}
