//! The documents of a YAML stream, one after another.

use kyanite_formats::{Format, documents};
use kyanite_lang::Flow;
use kyanite_tree::Arena;

use super::parts::Around;
use super::{Cut, Keys};
use crate::document::Library;
use crate::input::Source;
use crate::run_error::RunError;

impl Cut<'_, '_> {
    /// Cuts YAML between its documents, a few of which are held at a time.
    pub(super) fn yaml(&mut self, source: Source) -> Result<(), RunError> {
        let options = self.what.options;
        let mut keys = Keys::new(self.what.by);
        let mut pieces = source.in_pieces(options);
        pieces.each(|piece, _| {
            self.documents(piece, &mut keys)?;
            Ok(Flow::Continue(()))
        })?;
        pieces.finish(options, self.events);
        Ok(())
    }

    /// Puts the documents of a piece into their parts.
    fn documents(&mut self, piece: Source, keys: &mut Keys<'_>) -> Result<(), RunError> {
        let name = piece.name.clone();
        let arena = Arena::new();
        let library = Library::new(&arena);
        let roots = library.load(piece, self.what.options, self.events)?.roots;
        let text = library.first_text().map_or("", |(_, text)| text);
        let texts = documents::texts(Format::Yaml, text.as_bytes());
        // Without any text there is a document all the same, which is null.
        if texts.is_empty() {
            return Ok(());
        }
        if texts.len() != roots.len() {
            let message =
                format!("{name} has documents that cannot be told apart by their first lines");
            return Err(RunError::command(message, "convert it to JSON Lines first"));
        }
        for (root, text) in roots.into_iter().zip(texts) {
            let place = || library.place(root.origin());
            let key = keys.of(root, &arena, &place)?;
            self.parts.put(text, Some(root), key, Around::Nothing, &place)?;
        }
        Ok(())
    }
}
