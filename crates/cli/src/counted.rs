//! Counts results on their way to the output.

use kyanite_flow::{DocumentText, Part, Sink};
use kyanite_formats::losses::{Loss, Losses};
use kyanite_lang::{Flow, Written};
use kyanite_tree::{Origin, Place, Value};

/// Counts what is found, and hands it on unless only the count is wanted.
pub struct Counted<'o> {
    /// Where it goes on to.
    pub sink: Option<&'o mut dyn Sink>,
    /// How many were found.
    pub found: i64,
    /// Whether some document's single result was nothing.
    pub nothing: bool,
}

impl Sink for Counted<'_> {
    fn item(&mut self, value: Value<'_>) -> Flow {
        self.found += 1;
        self.sink.as_mut().map_or(Flow::Continue(()), |sink| sink.item(value))
    }

    fn single(&mut self, value: Option<Value<'_>>) -> Flow {
        self.found += i64::from(value.is_some());
        self.nothing |= value.is_none();
        self.sink.as_mut().map_or(Flow::Continue(()), |sink| sink.single(value))
    }

    fn document(&mut self, document: DocumentText<'_>) -> bool {
        let is_taken = self.sink.as_mut().is_some_and(|sink| sink.document(document));
        self.found += i64::from(is_taken);
        is_taken
    }

    fn end_items(&mut self) {
        if let Some(sink) = &mut self.sink {
            sink.end_items();
        }
    }

    fn pause(&mut self) {
        if let Some(sink) = &mut self.sink {
            sink.pause();
        }
    }

    fn is_closed(&self) -> bool {
        self.sink.as_ref().is_some_and(|sink| sink.is_closed())
    }

    fn written(&self) -> Written {
        self.sink.as_ref().map_or(Written::Values, |sink| sink.written())
    }

    fn part(&self) -> Option<Part> {
        self.sink.as_ref().map_or(Some(Part::counting()), |sink| sink.part())
    }

    fn join(&mut self, part: &mut Part) -> Flow {
        self.found += part.items as i64;
        self.sink.as_mut().map_or(Flow::Continue(()), |sink| sink.join(part))
    }

    fn expect_elements(&mut self) {
        if let Some(sink) = &mut self.sink {
            sink.expect_elements();
        }
    }

    fn expect_columns(&mut self, columns: &[&str]) {
        if let Some(sink) = &mut self.sink {
            sink.expect_columns(columns);
        }
    }

    fn expect_foreign_types(&mut self) {
        if let Some(sink) = &mut self.sink {
            sink.expect_foreign_types();
        }
    }

    fn take_losses(&mut self) -> Vec<(Loss, Origin)> {
        self.sink.as_mut().map(|sink| sink.take_losses()).unwrap_or_default()
    }

    fn add_losses(&mut self, losses: &Losses) {
        if let Some(sink) = &mut self.sink {
            sink.add_losses(losses);
        }
    }

    fn waits_for_places(&self) -> bool {
        self.sink.as_ref().is_some_and(|sink| sink.waits_for_places())
    }

    fn place_failure(&mut self, find: &dyn Fn(Origin) -> Option<Place>) {
        if let Some(sink) = &mut self.sink {
            sink.place_failure(find);
        }
    }
}
