//! Whole documents that are written as they are read, by their events and with no values in between.

use kyanite_scan::Structure;
use kyanite_tree::{Event, Pull};

use super::events::EventReader;
use super::lines::LineWriter;
use super::names::Names;
use super::write::Style;
use crate::Target;

/// Writes the value that a text holds as it is laid out in a document, without a line end. `None`, and nothing written, where the
/// [reader of values](super::document) has to look at it: the text is broken, nests deeper than `depth` levels, or has a name twice in a
/// map or with escapes.
///
/// ```
/// use kyanite_formats::json::{Style, write_document};
///
/// let mut out = Vec::new();
/// write_document(" {\"berth\": [4, null]}\n", Style::Compact, 512, &mut out).unwrap();
/// assert_eq!(out, br#"{"berth":[4,null]}"#);
/// assert!(write_document("[4", Style::Compact, 512, &mut out).is_none());
/// ```
pub fn write_document(
    text: &str,
    style: Style,
    depth: usize,
    target: &mut impl Target,
) -> Option<()> {
    let structure = Structure::of(text.as_bytes());
    let start = text.len() - text.trim_ascii_start().len();
    let mut events = EventReader::new(text, &structure).filter(|_| structure.is_closed())?;
    // What was written cannot be taken back, so all of it is gone through before.
    events.seek(start);
    let end = checked_end(&mut events, depth)?;
    if !text.get(end..)?.trim_ascii().is_empty() {
        return None;
    }
    events.seek(start);
    LineWriter::new(style, 0).write_events::<false, _>(&mut events, depth, target).map(|_| ())
}

/// Where the value ends whose events these are, if [`Names`] can tell that no map in it has a name twice.
fn checked_end(events: &mut EventReader<'_, '_>, depth: usize) -> Option<usize> {
    let mut names = Names::within(depth);
    while let Some(event) = events.next_event() {
        match event {
            Event::BeginMap | Event::BeginList => names.begin()?,
            Event::EndMap | Event::EndList => names.end()?,
            Event::Name(name) => names.add(name)?,
            _ => {}
        }
    }
    events.end()
}

#[cfg(test)]
mod tests {
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    use super::super::write::tests::any_json;
    use super::super::{ReaderOptions, document, write};
    use super::*;

    #[test]
    fn which_documents_are_written_so() {
        for (text, is_written) in [
            ("{}", true),
            ("\n[1, {\"a\": \"\\u00e9\\n\"}] ", true),
            ("-0.0", true),
            ("\"text\"\n", true),
            ("{\"a\":1,\"a\":2}", false),
            ("{\"\\u0061\":1}", false),
            ("[[[1]]]", false),
            ("[1] [2]", false),
            ("[1,]", false),
            ("{\"a\":[1}", false),
            ("", false),
        ] {
            let mut out = Vec::new();
            let written = write_document(text, Style::Compact, 2, &mut out);
            assert_eq!(written.is_some(), is_written, "{text}");
            assert_eq!(out.is_empty(), !is_written, "{text}");
        }
    }

    proptest! {
        #[test]
        fn as_its_value_is_written(value in any_json(), step in 0_usize..4) {
            let (text, arena) = (serde_json::to_string_pretty(&value).unwrap(), Arena::new());
            let style = if step == 0 { Style::Compact } else { Style::Indented(step) };
            let (read, _) = document(&text, &arena, ReaderOptions::default()).unwrap();
            let (mut out, mut by_value) = (Vec::new(), Vec::new());
            if write_document(&text, style, 512, &mut out).is_some() {
                write(read, style, &mut by_value);
                prop_assert_eq!(String::from_utf8(out), String::from_utf8(by_value));
            }
        }
    }
}
