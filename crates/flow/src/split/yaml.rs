//! The documents of a YAML stream, one after another.

use std::io::{BufRead, BufReader};

use kyanite_formats::{Format, SyntaxError};
use kyanite_tree::{Arena, Diagnostic, Passed, Place};

use super::parts::Around;
use super::{Cut, Keys};
use crate::document::Library;
use crate::failed::{Events, Failed};
use crate::input::{Limited, Source, cannot_read};

impl Cut<'_, '_> {
    /// Cuts YAML between its documents, each of which is held by itself.
    pub(super) fn yaml(&mut self, source: Source) -> Result<(), Failed> {
        let name = source.name;
        let mut lines = BufReader::new(Limited::new(source.reader, self.what.options.size));
        let (mut documents, mut before) = (Documents::default(), Passed::default());
        let mut keys = Keys::new(self.what.by);
        loop {
            let mut line = Vec::new();
            let read = lines.read_until(b'\n', &mut line);
            read.map_err(|error| Failed::Input(cannot_read(&name, &error)))?;
            let document = match line.is_empty() {
                true => Some(documents.end()),
                false => documents.line(&line),
            };
            if let Some(document) = document {
                if holds_any(&document) {
                    self.document(&name, &document, before, &mut keys)?;
                }
                self.events.read(document.len());
                before.pass(&document);
            }
            if line.is_empty() {
                return Ok(());
            }
        }
    }

    /// Puts a document into its part; so much of the stream is before it.
    fn document(
        &mut self,
        name: &str,
        document: &[u8],
        before: Passed,
        keys: &mut Keys<'_>,
    ) -> Result<(), Failed> {
        let behind = |place: Place| Some(place.behind(before));
        let moved = |failed: Failed| match failed {
            Failed::Input(told) => Failed::Input(told.resolve(behind)),
            other => other,
        };
        let text = std::str::from_utf8(document).map_err(|error| {
            let at = error.valid_up_to();
            let wrong = SyntaxError::not_utf8(at, at + 1).diagnostic(name, document);
            moved(Failed::Input(wrong))
        })?;
        let arena = Arena::new();
        let library = Library::new(&arena);
        let mut tell = |told: Diagnostic| (self.events.tell)(told.resolve(behind));
        let mut events = Events { tell: &mut tell, counters: self.events.counters };
        let source = Source::of_text(name, text, Format::Yaml);
        let loaded = library.load(source, self.what.options, &mut events).map_err(moved)?;
        let [root] = loaded.roots.as_slice() else {
            let message =
                format!("{name} has documents that cannot be told apart by their first lines");
            return Err(Failed::command(message, "convert it to JSON Lines first"));
        };
        let place = || library.place(root.origin()).map(|place| place.behind(before));
        let key = keys.of(*root, &arena, &place)?;
        self.parts.put(document, Some(*root), key, Around::Nothing, &place)
    }
}

/// Tells documents apart by their lines: one that begins with three hyphens ends whatever was open (YAML 1.2.2 section 9.1.2).
#[derive(Default)]
struct Documents {
    /// The document under way, with the lines before it that belong to it.
    text: Vec<u8>,
    has_content: bool,
}

impl Documents {
    /// Takes a line; gives the document that ends before it or with it.
    fn line(&mut self, line: &[u8]) -> Option<Vec<u8>> {
        let marks = |sign: &[u8]| {
            line.strip_prefix(sign)
                .is_some_and(|rest| rest.first().is_none_or(u8::is_ascii_whitespace))
        };
        if marks(b"---") {
            let ended = self.has_content.then(|| std::mem::take(&mut self.text));
            self.text.extend_from_slice(line);
            self.has_content = true;
            return ended;
        }
        self.text.extend_from_slice(line);
        if marks(b"...") {
            return std::mem::take(&mut self.has_content).then(|| std::mem::take(&mut self.text));
        }
        self.has_content |= is_content(line);
        None
    }

    /// What is left at the end.
    fn end(&mut self) -> Vec<u8> {
        std::mem::take(&mut self.text)
    }
}

/// Whether a line is more than a comment or a directive.
fn is_content(line: &[u8]) -> bool {
    !line.trim_ascii().is_empty() && !line.starts_with(b"#") && !line.starts_with(b"%")
}

fn holds_any(document: &[u8]) -> bool {
    document.split(|byte| *byte == b'\n').any(is_content)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_between_marks() {
        for (text, count) in [
            ("a: 1\n", 1),
            ("a: 1\n---\nb: 2\n", 2),
            ("# c\n---\na: 1\n---\nb: 2\n...\n", 2),
            ("%YAML 1.2\n---\na: |\n  x\n  --- y\n...\n%YAML 1.2\n---\nb\n", 2),
            ("--- 1\n--- 2\n---\n", 3),
            ("a: 1\n...\n# end\n", 1),
            ("", 0),
        ] {
            let mut documents = Documents::default();
            let lines = text.split_inclusive('\n').map(str::as_bytes);
            let mut found: Vec<Vec<u8>> = lines.filter_map(|line| documents.line(line)).collect();
            found.push(documents.end());
            assert_eq!(found.concat(), text.as_bytes());
            found.retain(|document| holds_any(document));
            assert_eq!(found.len(), count, "{text}: {found:?}");
        }
    }
}
