//! Elements at a path of an XML document, each with the elements that it stands in.

use kyanite_formats::{Format, span_of};
use kyanite_tree::{Arena, Base, Code, Content, Diagnostic, Element, Origin, Value, counted};

use super::parts::Around;
use super::{Cut, Keys};
use crate::document::Library;
use crate::failed::Failed;
use crate::input::Source;
use crate::survey::RecordPath;

/// An element that is a record, and those that it stands in, the outermost first.
struct Found<'a> {
    element: Value<'a>,
    around: Vec<(Origin, &'a Element<'a>)>,
}

impl Cut<'_, '_> {
    pub(super) fn xml(&mut self, source: Source, at: &RecordPath) -> Result<(), Failed> {
        let arena = Arena::new();
        let library = Library::new(&arena);
        let roots = library.load(source, self.what.options, self.events)?.roots;
        let Some((_, text)) = library.first_text() else { return Ok(()) };
        let mut records = Vec::new();
        let mut beside = 0;
        for root in roots {
            let Value::Element(_, document) = root else { continue };
            let names: Vec<&str> = at.names().collect();
            find(document, &names, &mut Vec::new(), &mut records, &mut beside);
        }
        if records.is_empty() {
            return Err(at.leads_nowhere());
        }
        if beside > 0 {
            let pieces = counted(beside, "element");
            let verb = if beside == 1 { "is" } else { "are" };
            let message = format!("{pieces} beside the records {verb} in no part");
            self.events.tell(Diagnostic::warning(Code::NotRead, message));
        }
        let offset = |origin: Origin| Base::default().offset(origin);
        let mut keys = Keys::new(self.what.by);
        for Found { element, around } in records {
            let place = || library.place(element.origin());
            let key = keys.of(element, &arena, &place)?;
            let Some(span) = span_of(Format::Xml, text, offset(element.origin()), None) else {
                continue;
            };
            let start = around.first().map_or(span.start, |(origin, _)| offset(*origin));
            let tags: Vec<(&str, &str)> = around
                .iter()
                .filter_map(|(origin, element)| {
                    let first = element.content.first().map(Content::origin)?;
                    let tag = text.get(offset(*origin)..offset(first))?;
                    Some((tag, arena.concat(&["</", element.name.qualified(), ">"])))
                })
                .collect();
            let prolog = text.get(..start).unwrap_or_default();
            let around = Around::Elements { prolog, tags: &tags };
            let text = text.get(span.start..span.end).unwrap_or_default();
            self.parts.put(text.as_bytes(), element, key, around, &place)?;
        }
        Ok(())
    }
}

/// Finds the elements that names lead to, in the order of the document; counts elements beside them.
fn find<'a>(
    within: &'a Element<'a>,
    names: &[&str],
    around: &mut Vec<(Origin, &'a Element<'a>)>,
    found: &mut Vec<Found<'a>>,
    beside: &mut usize,
) {
    let Some((name, rest)) = names.split_first() else { return };
    for content in within.content {
        let Content::Element(origin, element) = content else { continue };
        if !element.name.is_called(name) {
            *beside += 1;
        } else if rest.is_empty() {
            found.push(Found { element: Value::Element(*origin, element), around: around.clone() });
        } else {
            around.push((*origin, element));
            find(element, rest, around, found, beside);
            around.pop();
        }
    }
}
