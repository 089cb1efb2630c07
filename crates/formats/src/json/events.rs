//! Events of a JSON text (RFC 8259) whose [structure](kyanite_scan::Structure) is known, and with it that every byte of the text is
//! well-formed: what is left to do is to go from one value to the next.
//!
//! ```
//! use kyanite_formats::json::EventReader;
//! use kyanite_formats::records::Structure;
//! use kyanite_tree::{Event, Pull};
//!
//! let text = r#"{"no": 4}"#;
//! let structure = Structure::of(text.as_bytes());
//! let mut events = EventReader::new(text, &structure).unwrap();
//! assert_eq!(events.next_event(), Some(Event::BeginMap));
//! assert!(matches!(events.next_event(), Some(Event::Name(name)) if name.text == "no"));
//! assert_eq!(events.next_event(), Some(Event::Number("4")));
//! assert_eq!(events.next_event(), Some(Event::EndMap));
//! assert_eq!((events.next_event(), events.end()), (None, Some(9)));
//! ```

use kyanite_scan::{Nesting, Structure};
use kyanite_tree::{Event, Pull, RawText, ScalarSpan, is_blank};

/// Reads one value after another as events.
#[derive(Clone, Debug)]
pub struct EventReader<'t, 's> {
    text: &'t str,
    structure: &'s Structure,
    at: usize,
    open: Nesting,
    /// Whether a text that comes next is a name.
    awaits_name: bool,
    is_over: bool,
}

impl<'t, 's> EventReader<'t, 's> {
    /// A reader of the value with which a text begins. `None` if the text is not well-formed by its structure; a reader of values
    /// tells what is wrong then.
    #[must_use]
    pub fn new(text: &'t str, structure: &'s Structure) -> Option<Self> {
        structure.is_well_formed().then_some(Self {
            text,
            structure,
            at: 0,
            open: Nesting::default(),
            awaits_name: false,
            is_over: false,
        })
    }

    /// Begins again, with the value at byte `at` or behind blanks there.
    pub fn seek(&mut self, at: usize) {
        self.open.clear();
        (self.at, self.awaits_name, self.is_over) = (at, false, false);
    }

    /// The text that is read.
    pub(super) fn text(&self) -> &'t str {
        self.text
    }

    /// What is open behind the event that was given last.
    pub(super) fn open(&self) -> &Nesting {
        &self.open
    }

    /// The offset behind the event that was given last.
    #[must_use]
    pub fn position(&self) -> usize {
        self.at
    }

    /// Where the scalar stands that was given last as that event; None if it is none.
    pub(super) fn scalar(&self, event: &Event<'t>) -> Option<ScalarSpan> {
        // A text ends before its quote.
        let quote = usize::from(matches!(event, Event::Text(_)));
        ScalarSpan::of(event, self.at - quote)
    }

    /// Where what comes next begins.
    #[must_use]
    pub fn next_position(&self) -> usize {
        let rest = self.text.as_bytes().get(self.at..).unwrap_or_default();
        self.at + rest.iter().take_while(|byte| **byte <= b' ' || **byte == b',').count()
    }

    /// Passes over the rest of the list or map that began last; false where the text ends before it.
    pub fn pass(&mut self) -> bool {
        let mut open = 1;
        while open > 0 {
            match self.next_event() {
                Some(Event::BeginMap | Event::BeginList) => open += 1,
                Some(Event::EndMap | Event::EndList) => open -= 1,
                Some(_) => {}
                None => return false,
            }
        }
        true
    }

    /// The offset behind the value, once all of its events were given.
    #[must_use]
    pub fn end(&self) -> Option<usize> {
        self.is_over.then_some(self.at)
    }

    #[inline(always)]
    fn skip_blank(&mut self) -> Option<u8> {
        // Of a well-formed text that is not in quotes only blanks are as low.
        let bytes = self.text.as_bytes();
        while *bytes.get(self.at)? <= b' ' {
            self.at += 1;
        }
        Some(bytes[self.at])
    }

    /// Takes the colon behind a name.
    #[inline(always)]
    fn end_name(&mut self) -> Option<()> {
        while *self.text.as_bytes().get(self.at)? != b':' {
            self.at += 1;
        }
        self.at += 1;
        self.awaits_name = false;
        Some(())
    }

    #[inline(always)]
    fn end_value(&mut self) {
        self.awaits_name = self.open.is_in_map();
        self.is_over = self.open.is_empty();
    }

    /// A text, at its opening quote.
    #[inline(always)]
    fn quoted(&mut self) -> Option<RawText<'t>> {
        let (start, end) = (self.at + 1, self.structure.closing_quote(self.at)?);
        let text = self.text.get(start..end)?;
        self.at = end + 1;
        let has_escapes = self.structure.has_escapes() && text.contains('\\');
        Some(RawText { text, has_escapes })
    }

    #[inline]
    fn number(&mut self) -> Option<Event<'t>> {
        let (bytes, start) = (self.text.as_bytes(), self.at);
        let is_part = |byte: &u8| matches!(byte, b'0'..=b'9' | b'.' | b'-' | b'+' | b'e' | b'E');
        let mut end = start + 1;
        while bytes.get(end).is_some_and(is_part) {
            end += 1;
        }
        self.at = end;
        self.end_value();
        Some(Event::Number(self.text.get(start..end)?))
    }

    #[inline]
    fn word(&mut self, word: &str, event: Event<'t>) -> Event<'t> {
        self.at += word.len();
        self.end_value();
        event
    }

    #[inline(always)]
    fn begin(&mut self, is_map: bool) {
        self.at += 1;
        self.open.begin(is_map);
        self.awaits_name = is_map;
    }

    #[inline(always)]
    fn close(&mut self) {
        self.at += 1;
        self.open.end();
        self.end_value();
    }
}

impl<'t> Pull<'t> for EventReader<'t, '_> {
    #[inline(always)]
    fn next_event(&mut self) -> Option<Event<'t>> {
        if self.is_over {
            return None;
        }
        let mut byte = self.skip_blank()?;
        if byte == b',' {
            self.at += 1;
            byte = self.skip_blank()?;
        }
        match byte {
            b'"' if self.awaits_name => {
                let name = self.quoted()?;
                self.end_name()?;
                Some(Event::Name(name))
            }
            b'"' => {
                let text = self.quoted()?;
                self.end_value();
                Some(Event::Text(text))
            }
            b'{' => {
                self.begin(true);
                Some(Event::BeginMap)
            }
            b'[' => {
                self.begin(false);
                Some(Event::BeginList)
            }
            b'}' => {
                self.close();
                Some(Event::EndMap)
            }
            b']' => {
                self.close();
                Some(Event::EndList)
            }
            b't' => Some(self.word("true", Event::Boolean(true))),
            b'f' => Some(self.word("false", Event::Boolean(false))),
            b'n' => Some(self.word("null", Event::Null)),
            _ => self.number(),
        }
    }

    #[inline(always)]
    fn takes_name(&mut self, name: &str) -> bool {
        let bytes = self.text.as_bytes();
        let mut at = self.at;
        // A comma, and blanks around it: it cannot be anything else.
        while bytes.get(at).is_some_and(|byte| *byte <= b' ' || *byte == b',') {
            at += 1;
        }
        let behind = bytes.get(at + 1..).unwrap_or_default();
        let is_it = self.awaits_name
            && behind.get(name.len()) == Some(&b'"')
            && bytes[at] == b'"'
            && behind.starts_with(name.as_bytes());
        if is_it {
            self.at = at + name.len() + 2;
        }
        is_it && self.end_name().is_some()
    }

    #[inline]
    fn offset(&self) -> usize {
        self.at.saturating_sub(1)
    }
}

/// Whether a text is one value, and nothing but blanks around it.
///
/// ```
/// assert!(kyanite_formats::json::is_one_value(r#" {"no": 4} "#));
/// assert!(!kyanite_formats::json::is_one_value(r#"{"no": 4} 5"#));
/// ```
#[must_use]
pub fn is_one_value(text: &str) -> bool {
    let structure = Structure::of(text.as_bytes());
    let Some(mut events) = EventReader::new(text, &structure) else { return false };
    while events.next_event().is_some() {}
    events.end().is_some_and(|end| is_blank(&text[end..]))
}

#[cfg(test)]
mod tests {
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    use super::*;
    use crate::json::{ReaderOptions, Style, document, write};

    /// What events make, written as compact JSON; None where they end before the value does.
    fn rebuilt(text: &str) -> Option<String> {
        let structure = Structure::of(text.as_bytes());
        let mut events = EventReader::new(text, &structure)?;
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
        // As deep as values are read, and within that.
        for depth in [63, 64, 65, 128, 200, 512] {
            assert_same(&format!("{}{}", "[".repeat(depth), "]".repeat(depth)));
            assert_same(&format!("{}1{}", "{\"a\":[".repeat(depth / 2), "]}".repeat(depth / 2)));
            assert_same(&format!("{}1{}", "{\"a\":[".repeat(depth / 2), "}]".repeat(depth / 2)));
        }
    }

    proptest! {
        #[test]
        fn whatever_stands_there(text in "[\\[\\]{}:,\"a1\\-.e tn\\\\]{0,24}") {
            assert_same(&text);
        }
    }
}
