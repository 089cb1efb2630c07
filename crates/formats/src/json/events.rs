//! Events of a JSON text (RFC 8259), whose whole grammar is checked on the way.
//!
//! ```
//! use kyanite_formats::json::EventReader;
//! use kyanite_tree::{Event, Pull};
//!
//! let mut events = EventReader::new(r#"{"no": 4}"#, 0);
//! assert_eq!(events.next_event(), Some(Event::BeginMap));
//! assert!(matches!(events.next_event(), Some(Event::Name(name)) if name.text == "no"));
//! assert_eq!(events.next_event(), Some(Event::Number("4")));
//! assert_eq!(events.next_event(), Some(Event::EndMap));
//! assert_eq!((events.next_event(), events.end()), (None, Some(9)));
//! ```

use kyanite_tree::{Event, Pull, RawText};

use super::string::{plain_end, unescape};
use kyanite_scan::number_end;

/// What may come next.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Expects {
    Value,
    /// A name, or the end of a map that has none yet.
    FirstName,
    /// An item, or the end of a list that has none yet.
    FirstItem,
    /// A comma, or the end of the map or list.
    More,
    /// The value is over.
    Nothing,
}

/// Reads one value as events.
#[derive(Debug)]
pub struct EventReader<'t> {
    text: &'t str,
    at: usize,
    expects: Expects,
    /// Whether each of those that are open is a map.
    open: Vec<bool>,
    /// Room for texts with escapes.
    unescaped: String,
}

impl<'t> EventReader<'t> {
    /// A reader of the value that begins at byte `at` of a text, or behind blanks there.
    #[must_use]
    pub fn new(text: &'t str, at: usize) -> Self {
        Self { text, at, expects: Expects::Value, open: Vec::new(), unescaped: String::new() }
    }

    /// Begins again, with the value at another byte.
    pub fn seek(&mut self, at: usize) {
        (self.at, self.expects) = (at, Expects::Value);
        self.open.clear();
    }

    /// The offset behind the event that was given last.
    #[must_use]
    pub fn position(&self) -> usize {
        self.at
    }

    /// The offset behind the value, once all of its events were given.
    #[must_use]
    pub fn end(&self) -> Option<usize> {
        (self.expects == Expects::Nothing).then_some(self.at)
    }

    #[inline]
    fn skip_blank(&mut self) -> Option<u8> {
        let bytes = self.text.as_bytes();
        loop {
            match *bytes.get(self.at)? {
                b' ' | b'\t' | b'\n' | b'\r' => self.at += 1,
                other => return Some(other),
            }
        }
    }

    /// A text in quotes, at the first of them.
    #[inline]
    fn quoted(&mut self) -> Option<RawText<'t>> {
        let (bytes, start) = (self.text.as_bytes(), self.at + 1);
        let end = plain_end(bytes, start);
        match *bytes.get(end)? {
            b'"' => {
                self.at = end + 1;
                Some(RawText { text: &self.text[start..end], has_escapes: false })
            }
            b'\\' => {
                let quote = unescape(self.text, start, end, &mut self.unescaped).ok()?;
                self.at = quote + 1;
                Some(RawText { text: &self.text[start..quote], has_escapes: true })
            }
            _ => None,
        }
    }

    /// What follows once a value is over.
    #[inline]
    fn behind_value(&self) -> Expects {
        if self.open.is_empty() { Expects::Nothing } else { Expects::More }
    }

    #[inline]
    fn word(&mut self, word: &str, event: Event<'t>) -> Option<Event<'t>> {
        if !self.text.as_bytes()[self.at..].starts_with(word.as_bytes()) {
            return None;
        }
        self.at += word.len();
        self.expects = self.behind_value();
        Some(event)
    }

    #[inline]
    fn value(&mut self, byte: u8) -> Option<Event<'t>> {
        match byte {
            b'"' => {
                let text = self.quoted()?;
                self.expects = self.behind_value();
                Some(Event::Text(text))
            }
            b'{' | b'[' => {
                let is_map = byte == b'{';
                self.at += 1;
                self.open.push(is_map);
                self.expects = if is_map { Expects::FirstName } else { Expects::FirstItem };
                Some(if is_map { Event::BeginMap } else { Event::BeginList })
            }
            b'-' | b'0'..=b'9' => {
                let start = self.at;
                self.at = number_end(self.text.as_bytes(), start).ok()?;
                self.expects = self.behind_value();
                Some(Event::Number(&self.text[start..self.at]))
            }
            b't' => self.word("true", Event::Boolean(true)),
            b'f' => self.word("false", Event::Boolean(false)),
            b'n' => self.word("null", Event::Null),
            _ => None,
        }
    }

    #[inline]
    fn name(&mut self) -> Option<Event<'t>> {
        let name = self.quoted()?;
        if self.skip_blank()? != b':' {
            return None;
        }
        self.at += 1;
        self.expects = Expects::Value;
        Some(Event::Name(name))
    }

    #[inline]
    fn close(&mut self, is_map: bool) -> Option<Event<'t>> {
        self.at += 1;
        self.open.pop();
        self.expects = self.behind_value();
        Some(if is_map { Event::EndMap } else { Event::EndList })
    }
}

impl<'t> Pull<'t> for EventReader<'t> {
    #[inline]
    fn next_event(&mut self) -> Option<Event<'t>> {
        if self.expects == Expects::Nothing {
            return None;
        }
        let byte = self.skip_blank()?;
        match (self.expects, byte) {
            (Expects::Value, _) => self.value(byte),
            (Expects::FirstName, b'"') => self.name(),
            (Expects::FirstName, b'}') => self.close(true),
            (Expects::FirstItem, b']') => self.close(false),
            (Expects::FirstItem, _) => self.value(byte),
            (Expects::More, b',') => {
                let is_map = *self.open.last()?;
                self.at += 1;
                match self.skip_blank()? {
                    b'"' if is_map => self.name(),
                    _ if is_map => None,
                    other => self.value(other),
                }
            }
            (Expects::More, b'}') if self.open.last() == Some(&true) => self.close(true),
            (Expects::More, b']') if self.open.last() == Some(&false) => self.close(false),
            _ => None,
        }
    }

    #[inline]
    fn offset(&self) -> usize {
        self.at.saturating_sub(1)
    }
}

#[cfg(test)]
mod tests {
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    use super::*;
    use crate::json::{ReaderOptions, Style, document, write};

    /// What events make, written as compact JSON; nothing where they end before the value does.
    fn rebuilt(text: &str) -> Option<String> {
        let mut events = EventReader::new(text, 0);
        let (mut out, mut is_first) = (String::new(), true);
        while let Some(event) = events.next_event() {
            let is_end = matches!(event, Event::EndMap | Event::EndList);
            if !is_first && !is_end {
                out.push(',');
            }
            is_first = matches!(event, Event::BeginMap | Event::BeginList | Event::Name(_));
            match event {
                Event::BeginMap => out.push('{'),
                Event::EndMap => out.push('}'),
                Event::BeginList => out.push('['),
                Event::EndList => out.push(']'),
                Event::Name(name) => out.push_str(&format!("\"{}\":", name.text)),
                Event::Text(text) => out.push_str(&format!("\"{}\"", text.text)),
                Event::Number(number) => out.push_str(number),
                Event::Boolean(boolean) => out.push_str(&boolean.to_string()),
                Event::Null => out.push_str("null"),
            }
        }
        let end = events.end()?;
        text[end..].trim_matches([' ', '\t', '\n', '\r']).is_empty().then_some(out)
    }

    /// The same of the value that the reader of values gives.
    fn read(text: &str) -> Option<String> {
        let arena = Arena::new();
        let write_out = |text: &str| {
            let (value, duplicates) = document(text, &arena, ReaderOptions::default()).ok()?;
            let mut out = Vec::new();
            write(value, Style::Compact, &mut out);
            duplicates.is_empty().then(|| String::from_utf8(out).unwrap())
        };
        write_out(text)
    }

    fn assert_same(text: &str) {
        let (own, other) = (rebuilt(text), read(text));
        match (&own, &other) {
            // Escapes stay as they are in events, and members that are given twice are told by the reader.
            (Some(own), Some(other)) => assert_eq!(read(own).as_ref(), Some(other), "{text}"),
            (None, Some(_)) => panic!("events end in {text}"),
            (Some(own), None) => {
                let arena = Arena::new();
                let is_read = document(own, &arena, ReaderOptions::default()).is_ok();
                assert!(is_read, "events of what is no JSON: {text}");
            }
            (None, None) => {}
        }
    }

    #[test]
    fn as_the_reader_of_values_has_it() {
        for text in [
            "{}",
            "[]",
            "[[]]",
            "{\"a\":{}}",
            " [ 1 , -0.5e+3 , true , false , null , \"\" ] ",
            "{\"a\" : [1,{\"b\":2}],\"c\":3}",
            "\"a\\u00e9\\n\\\"b\"",
            "1",
            "-",
            "01",
            "1.",
            "[1,]",
            "[,1]",
            "[1 2]",
            "{\"a\":1,}",
            "{\"a\" 1}",
            "{a:1}",
            "{\"a\":1]",
            "[1}",
            "tru",
            "nul",
            "\"a",
            "\"a\nb\"",
            "\"\\x\"",
            "\"\\ud800\"",
            "{\"a\":}",
            "{:1}",
            "[",
            "{\"a\":1",
            "1 1",
            "",
            " ",
            "{\"a\":1,\"a\":2}",
            "[1,2",
            "]",
            "{\"a\":1,2}",
            "[\"a\":1]",
        ] {
            assert_same(text);
        }
    }

    proptest! {
        #[test]
        fn whatever_stands_there(text in "[\\[\\]{}:,\"a1\\-.e tn\\\\]{0,24}") {
            assert_same(&text);
        }
    }
}
