//! Elements at a path of an XML document, each with the elements that it stands in.

use kyanite_formats::Format;
use kyanite_formats::xml::{RecordReader, start_tag};
use kyanite_tree::{Base, Code, Diagnostic, Element, Passed};

use super::parts::Around;
use super::{Cut, Keys};
use crate::blocks::Blocks;
use crate::input::Source;
use crate::records::InputPart;
use crate::run_error::RunError;
use crate::survey::RecordPath;
use crate::walk::{Step, Walk};

impl Cut<'_, '_> {
    /// Cuts the elements that a path leads to, block by block.
    pub(super) fn xml(&mut self, source: Source, at: &RecordPath) -> Result<(), RunError> {
        let Source { name, reader, live, replaced, .. } = source;
        let path = at.element_names();
        let mut blocks = Blocks::new(reader, live);
        let (base, before) = (Base::default(), Passed::default());
        let input = InputPart { name: &name, format: Format::Xml, base, before };
        let parts = &mut self.parts;
        let mut keys = Keys::new(self.what.by);
        let (mut count, mut has_others) = (0_u64, false);
        let mut prolog: Option<String> = None;
        let counters = self.events.counters;
        let walk = Walk::new(self.what.options, self.events).over_elements(&path, true);
        walk.over(&mut blocks, input, &replaced, &mut |records, arena, steps| {
            let head = || String::from_utf8_lossy(records.head()).into_owned();
            let prolog = prolog.get_or_insert_with(head).clone();
            let used = loop {
                match steps.next(records)? {
                    Step::Record(element) => {
                        let around = records.as_xml().map(|reader| reader.around());
                        let tags: Vec<(String, String)> =
                            around.unwrap_or_default().into_iter().map(tags).collect();
                        let tags: Vec<(&str, &str)> = tags
                            .iter()
                            .map(|(begin, end)| (begin.as_str(), end.as_str()))
                            .collect();
                        let around = Around::Elements { prolog: &prolog, tags: &tags };
                        let place = || Some(records.last_place());
                        let key = keys.of(element, arena, &place)?;
                        let begin = records.base().offset(element.origin());
                        let text = records.last_text_from(begin);
                        parts.put(text, Some(element), key, around, &place)?;
                        count += 1;
                        counters.count(1);
                    }
                    Step::End(used) => break used,
                }
            };
            has_others |= records.as_xml().is_some_and(RecordReader::has_others);
            Ok(used)
        })?;
        if count == 0 {
            return Err(at.leads_nowhere());
        }
        if has_others {
            let message = "elements that stand beside the records are in no part";
            self.events.tell(Diagnostic::warning(Code::NotRead, message));
        }
        Ok(())
    }
}

/// The tag that begins an element, and the one that ends it.
fn tags(element: &Element<'_>) -> (String, String) {
    (start_tag(element), format!("</{}>", element.name.qualified()))
}
