//! Values that can be handed on just as they stand in the text: [written](super::write) compactly they would be the same bytes.
//!
//! Of such a value the whole grammar is checked (RFC 8259), by the structure of the text, but nothing is built.

use kyanite_scan::Structure;
use kyanite_tree::Value;

use super::compact::compact_end;
use super::error::ReadError;
use super::key::Key;
use super::read::Reader;

/// A record that was read.
#[derive(Clone, Copy, Debug)]
pub enum Verbatim<'a> {
    /// It can be handed on as this text.
    Text(&'a str),
    /// It has to be written.
    Value(Value<'a>),
}

impl<'a> Reader<'a> {
    /// The same reader, with the structure of the text for [`Self::next_verbatim`], found in the room of another.
    #[must_use]
    pub fn with_structure(mut self, structure: &'a mut Structure) -> Self {
        structure.find(self.bytes);
        self.structure = Some(&*structure).filter(|structure| structure.is_well_formed());
        self
    }

    /// The next record, as its text where it can be handed on just so; gives nothing when only blank space is left.
    ///
    /// # Errors
    /// As [`Reader::next_value`].
    pub fn next_verbatim(&mut self) -> Result<Option<Verbatim<'a>>, ReadError> {
        if !self.begin_record() {
            return Ok(None);
        }
        if let Some(text) = self.verbatim(self.at, &[]) {
            self.at += text.len();
            return Ok(Some(Verbatim::Text(text)));
        }
        self.whole_value().map(|value| Some(Verbatim::Value(value)))
    }

    /// The text of the value that begins at byte `at`, if it can be handed on as it stands, and has itself none of these
    /// names.
    pub(super) fn verbatim(&mut self, at: usize, without: &[Key]) -> Option<&'a str> {
        let structure = self.structure?;
        let mut room = std::mem::take(&mut self.room);
        let end = compact_end(self.bytes, structure, at, self.options.depth, without, &mut room);
        self.room = room;
        let end = end.filter(|end| {
            !structure.has_escapes() || memchr::memchr(b'\\', &self.bytes[at..*end]).is_none()
        })?;
        self.text.get(at..end)
    }
}
