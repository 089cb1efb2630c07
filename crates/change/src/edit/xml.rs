//! Edits of XML: each node that was read has its span in the text, and the bytes of unchanged nodes stay as they are.

use std::collections::HashMap;

use kyanite_formats::losses::Losses;
use kyanite_formats::{Format, span_of, xml};
use kyanite_tree::{Attribute, Content, Element, Origin, Span, Value};

use super::{EditProblem, Edits, Splice, offset_of, problem};

/// The splices that make one document of another, which shares with it what did not change.
pub(super) fn splices(text: &str, old: Value<'_>, new: Value<'_>) -> Edits<Vec<Splice>> {
    let (Value::Element(_, before), Value::Element(_, after)) = (old, new) else {
        let advice = "write the result to another file";
        return Err(problem("the result is no document of XML", advice, None));
    };
    let mut editor = XmlEditor::new(text);
    editor.content(before, after, Span::new(0, text.len()))?;
    Ok(editor.splices)
}

/// A document as markup; none where it cannot be written.
pub(super) fn markup(value: Value<'_>) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let layout = xml::Layout { indent: None, ..xml::Layout::default() };
    xml::write(value, &layout, &mut out, &mut Losses::new(false)).ok().map(|()| out)
}

/// Makes splices in a text of XML.
pub(super) struct XmlEditor<'t> {
    pub(super) text: &'t str,
    pub(super) splices: Vec<Splice>,
}

/// Whether two pieces of content are the same, as they were read.
fn is_same(old: &Content<'_>, new: &Content<'_>) -> bool {
    match (old, new) {
        (Content::Element(_, old), Content::Element(_, new)) => std::ptr::eq(*old, *new),
        (Content::Text(_, old), Content::Text(_, new)) => old == new,
        (Content::Comment(_, old), Content::Comment(_, new)) => old == new,
        (Content::Instruction(_, old), Content::Instruction(_, new)) => old == new,
        (Content::DocumentType(_, old), Content::DocumentType(_, new)) => old == new,
        _ => false,
    }
}

impl<'t> XmlEditor<'t> {
    pub(super) fn new(text: &'t str) -> Self {
        Self { text, splices: Vec::new() }
    }

    pub(super) fn splice(&mut self, start: usize, end: usize, text: impl Into<String>) {
        self.splices.push(Splice { start, end, text: text.into() });
    }

    pub(super) fn span(&self, origin: Origin) -> Edits<Span> {
        let span = offset_of(origin).and_then(|at| span_of(Format::Xml, self.text, at, None));
        span.ok_or_else(Self::misplaced)
    }

    /// What stands between the quotes of an attribute.
    fn value_span(&self, origin: Origin) -> Option<Span> {
        let start = offset_of(origin)?;
        let quote =
            self.text[..start].chars().next_back().filter(|sign| matches!(sign, '"' | '\''))?;
        let length = self.text[start..].find(quote)?;
        Some(Span::new(start, start + length))
    }

    pub(super) fn misplaced() -> EditProblem {
        let advice = "write the result to another file";
        problem("something is changed that is not written where it stands", advice, None)
    }

    /// Edits an element that begins at some byte.
    fn element(&mut self, old: &Element<'_>, new: &Element<'_>, origin: Origin) -> Edits<()> {
        let span = self.span(origin)?;
        if old.name != new.name {
            return Err(Self::misplaced());
        }
        let tag_end = self.tag_end(span).ok_or_else(Self::misplaced)?;
        self.attributes(old.attributes, new.attributes, tag_end)?;
        let is_empty = self.text[..tag_end].ends_with("/>");
        if !is_empty {
            let close = self.text[..span.end].rfind("</").ok_or_else(Self::misplaced)?;
            return self.content(old, new, Span::new(tag_end, close));
        }
        if new.content.is_empty() {
            return Ok(());
        }
        let inside = self.markup_of(new.content)?;
        self.fill(tag_end, &inside, new.name.qualified());
        Ok(())
    }

    /// Puts something into an empty element whose tag ends there: that becomes two.
    pub(super) fn fill(&mut self, tag_end: usize, inside: &str, name: &str) {
        self.splice(tag_end - 2, tag_end, format!(">{inside}</{name}>"));
    }

    /// Behind the start tag.
    pub(super) fn tag_end(&self, span: Span) -> Option<usize> {
        let mut quote = None;
        for (at, byte) in self.text[span.start..span.end].bytes().enumerate() {
            match (quote, byte) {
                (None, b'"' | b'\'') => quote = Some(byte),
                (Some(open), byte) if open == byte => quote = None,
                (None, b'>') => return Some(span.start + at + 1),
                _ => {}
            }
        }
        None
    }

    fn attributes(
        &mut self,
        old: &[Attribute<'_>],
        new: &[Attribute<'_>],
        tag_end: usize,
    ) -> Edits<()> {
        for attribute in old {
            match new.iter().find(|other| other.name == attribute.name) {
                Some(same) if same.value == attribute.value => {}
                Some(other) => self.set_attribute(attribute, other.value)?,
                None => self.remove_attribute(attribute)?,
            }
        }
        let is_new = |of: &&Attribute<'_>| old.iter().all(|other| other.name != of.name);
        for attribute in new.iter().filter(is_new) {
            self.add_attribute(attribute.name.qualified(), attribute.value, tag_end);
        }
        Ok(())
    }

    pub(super) fn set_attribute(&mut self, attribute: &Attribute<'_>, value: &str) -> Edits<()> {
        let span = self.value_span(attribute.origin).ok_or_else(Self::misplaced)?;
        let is_double = self.text[..span.start].ends_with('"');
        self.splice(span.start, span.end, escaped(value, Some(is_double)));
        Ok(())
    }

    pub(super) fn remove_attribute(&mut self, attribute: &Attribute<'_>) -> Edits<()> {
        let span = self.value_span(attribute.origin).ok_or_else(Self::misplaced)?;
        let before = &self.text[..span.start];
        let name = before.rfind(attribute.name.qualified()).ok_or_else(Self::misplaced)?;
        self.splice(before[..name].trim_end().len(), span.end + 1, "");
        Ok(())
    }

    /// Puts an attribute behind those of an element whose start tag ends there.
    pub(super) fn add_attribute(&mut self, name: &str, value: &str, tag_end: usize) {
        let sign = if self.text[..tag_end].ends_with("/>") { 2 } else { 1 };
        let place = self.text[..tag_end - sign].trim_end().len();
        self.splice(place, place, format!(" {name}=\"{}\"", escaped(value, Some(true))));
    }

    /// Where each piece of content begins, and where the last ends: each ends where the next begins.
    pub(super) fn bounds(&self, content: &[Content<'_>], end: usize) -> Edits<Vec<usize>> {
        let starts = content.iter().map(|piece| offset_of(piece.origin()));
        starts.chain([Some(end)]).map(|start| start.ok_or_else(Self::misplaced)).collect()
    }

    /// Edits what stands in an element.
    fn content(&mut self, old: &Element<'_>, new: &Element<'_>, inside: Span) -> Edits<()> {
        let places: HashMap<usize, usize> = old
            .content
            .iter()
            .enumerate()
            .filter_map(|(number, content)| Some((offset_of(content.origin())?, number)))
            .collect();
        let bounds = self.bounds(old.content, inside.end)?;
        let mut next = 0;
        for content in new.content {
            let known = offset_of(content.origin()).and_then(|at| places.get(&at).copied());
            match known.filter(|number| *number >= next) {
                Some(number) => {
                    for gone in next..number {
                        self.splice(bounds[gone], bounds[gone + 1], "");
                    }
                    next = number + 1;
                    let before = &old.content[number];
                    if is_same(before, content) {
                        continue;
                    }
                    match (before, content) {
                        (Content::Element(origin, old), Content::Element(_, new)) => {
                            self.element(old, new, *origin)?;
                        }
                        _ => {
                            let markup = self.markup_of(std::slice::from_ref(content))?;
                            self.splice(bounds[number], bounds[number + 1], markup);
                        }
                    }
                }
                None => {
                    let place = bounds.get(next).copied().unwrap_or(inside.end);
                    let markup = self.markup_of(std::slice::from_ref(content))?;
                    // Behind a line end and blanks stands what was there.
                    self.splice(place, place, markup);
                }
            }
        }
        for gone in next..old.content.len() {
            self.splice(bounds[gone], bounds[gone + 1], "");
        }
        Ok(())
    }

    /// Content as markup.
    fn markup_of(&self, content: &[Content<'_>]) -> Edits<String> {
        let mut markup = String::new();
        for piece in content {
            match piece {
                Content::Text(_, text) => markup.push_str(&escaped(text, None)),
                Content::Element(origin, element) => {
                    let layout =
                        xml::Layout { indent: None, declaration: false, ..xml::Layout::default() };
                    let mut out = Vec::new();
                    let value = Value::Element(*origin, element);
                    xml::write(value, &layout, &mut out, &mut Losses::new(false))
                        .map_err(|_| Self::misplaced())?;
                    markup.push_str(String::from_utf8_lossy(&out).trim_end());
                }
                Content::Comment(_, text) => markup.push_str(&format!("<!--{text}-->")),
                Content::Instruction(_, (target, data)) => {
                    markup.push_str(&format!("<?{target} {data}?>"));
                }
                Content::DocumentType(..) => return Err(Self::misplaced()),
            }
        }
        Ok(markup)
    }
}

/// A text as it stands in content, or in an attribute between double or single quotes.
pub(super) fn escaped(text: &str, in_double: Option<bool>) -> String {
    let mut out = String::with_capacity(text.len());
    for character in text.chars() {
        match (character, in_double) {
            ('&', _) => out.push_str("&amp;"),
            ('<', _) => out.push_str("&lt;"),
            ('>', None) => out.push_str("&gt;"),
            ('"', Some(true)) => out.push_str("&quot;"),
            ('\'', Some(false)) => out.push_str("&apos;"),
            ('\n' | '\t', Some(_)) | ('\r', _) => {
                out.push_str(&format!("&#{};", u32::from(character)));
            }
            (other, _) => out.push(other),
        }
    }
    out
}
