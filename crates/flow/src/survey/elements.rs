//! Surveys XML documents too large for memory: elements that end within a part are counted as records, one by one; the elements
//! around them are put together from their children.

use kyanite_formats::record_view::View;
use kyanite_formats::xml::{Event, EventReader};
use kyanite_survey::{Batch, Bounds, LargeElement, Survey};
use kyanite_tree::{Arena, Origin, Value, ValueEvents};

use super::{Surveyed, view};
use crate::blocks::Blocks;
use crate::elements::{XmlPart, go_through};
use crate::run_error::{Events, RunError};
use crate::transcode::Replaced;

/// Surveys a document, part by part.
pub(super) fn survey(
    (name, replaced): (&str, &Replaced),
    blocks: Blocks,
    what: Surveyed<'_>,
    survey: &mut Survey,
    events: &mut Events<'_>,
) -> Result<(), RunError> {
    let bounds = Bounds { memory: what.options.memory };
    let view = view(what.options);
    let mut open = Open {
        name,
        around: vec![LargeElement::new("", bounds.clone())],
        bounds,
        view,
        text: None,
    };
    let from = (blocks, replaced);
    go_through(name, from, what.options, events, &mut |events, part| open.part(events, part))?;
    events.counters.count(1);
    if let Some(document) = open.around.pop() {
        document.end(survey, name);
    }
    Ok(())
}

/// What is open of a document.
struct Open<'o> {
    name: &'o str,
    /// The document, and the elements that are open, outermost first.
    around: Vec<LargeElement>,
    bounds: Bounds,
    view: View,
    /// The text that is under way, and where its last piece begins.
    text: Option<(Origin, String)>,
}

impl Open<'_> {
    /// Looks at what a part of the document has.
    fn part<'t>(
        &mut self,
        events: &mut EventReader<'t>,
        part: &XmlPart<'t>,
    ) -> Result<(), RunError> {
        let mut counting = Counting { batch: Batch::new(part.arena), part };
        loop {
            if let Some(at) = events.at_element() {
                match events.element().map_err(|error| part.failed(&error))? {
                    Some(element) => {
                        self.element(element, &mut counting);
                        continue;
                    }
                    // One that goes on behind the part comes again with the next one, unless it is large.
                    None if at > part.text.len() / 2 => break,
                    None => {}
                }
            }
            match events.next_event() {
                Ok(None) => break,
                Err(error) if error.wants_more() && !part.is_last => break,
                Err(error) => return Err(part.failed(&error)),
                Ok(Some(event)) => self.event(event, events, &mut counting),
            }
        }
        // The origin of a text means nothing in the next part.
        if let Some((origin, _)) = &mut self.text {
            *origin = Origin::NONE;
        }
        self.take(&mut counting);
        Ok(())
    }

    fn event<'t>(
        &mut self,
        event: Event<'t>,
        events: &EventReader<'t>,
        counting: &mut Counting<'_, 't>,
    ) {
        match event {
            Event::Begin { name, .. } => {
                self.end_text(counting);
                self.take(counting);
                let mut element = LargeElement::new(name.qualified(), self.bounds.clone());
                for attribute in events.attributes() {
                    let value = attribute.to_value();
                    let text = value.scalar_text().unwrap_or_default();
                    counting.count(element.attribute(attribute.name.qualified(), text), value);
                }
                self.around.push(element);
            }
            Event::Text(origin, piece) => {
                let (at, text) = self.text.get_or_insert_with(|| (origin, String::new()));
                *at = origin;
                text.push_str(piece);
            }
            Event::End(origin) => {
                // An element that has nothing in it is an empty text.
                if self.around.last().is_some_and(LargeElement::is_empty) {
                    self.text.get_or_insert((origin, String::new()));
                }
                self.end_text(counting);
                self.take(counting);
                if let (Some(ended), Some(parent)) = (self.around.pop(), self.around.last_mut()) {
                    ended.end_in(parent);
                }
            }
            Event::Comment(..) | Event::Instruction(..) => {}
        }
    }

    /// Counts an element that is held.
    fn element<'t>(&mut self, element: Value<'t>, counting: &mut Counting<'_, 't>) {
        self.end_text(counting);
        let Some(name) = element.as_element().map(|element| element.name.qualified()) else {
            return;
        };
        if let Some(parent) = self.around.last_mut() {
            parent.child(name);
            counting.count(name, self.view.record(element, counting.part.arena));
        }
    }

    /// Counts the text under way, which ends.
    fn end_text(&mut self, counting: &mut Counting<'_, '_>) {
        if let (Some((origin, text)), Some(parent)) = (self.text.take(), self.around.last_mut()) {
            let member = parent.text(&text);
            counting.count(member, Value::Untyped(origin, counting.part.arena.text(&text)));
        }
    }

    /// Adds what was counted to what is known of the innermost element.
    fn take(&mut self, counting: &mut Counting<'_, '_>) {
        let part = counting.part;
        let batch = std::mem::replace(&mut counting.batch, Batch::new(part.arena));
        let ended = batch.end(&mut |offset| part.places.line_column(offset).line);
        if let Some(parent) = self.around.last_mut() {
            parent.take(ended, self.name);
        }
    }
}

/// Counts members of the innermost element.
struct Counting<'c, 't> {
    batch: Batch<'t>,
    part: &'c XmlPart<'t>,
}

impl<'t> Counting<'_, 't> {
    fn count(&mut self, member: &str, value: Value<'t>) {
        let arena: &'t Arena = self.part.arena;
        self.batch
            .member_of_document(arena.text(member), &mut ValueEvents::new(value, self.part.base));
    }
}
