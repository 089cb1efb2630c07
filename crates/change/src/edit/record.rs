//! Edits of XML by its [record view](kyanite_formats::record_view): what a patch changes in records is changed in the attributes, texts
//! and elements that they stand for.

mod content;

use std::collections::{HashMap, HashSet};

use kyanite_formats::losses::{Loss, Losses};
use kyanite_formats::record_view::{ATTRIBUTE, CONTENT, TEXT};
use kyanite_formats::{Format, xml};
use kyanite_tree::{Attribute, Content, Element, Member, Origin, Place, Span, Value, is_blank};

use super::xml::{XmlEditor, escaped};
use super::{EditProblem, Edits, Splice, problem};
use crate::difference::{Aligned, Delta};

/// The splices that make the text of a document hold records that differ so from those that it holds.
pub(super) fn splices(text: &str, document: &Element<'_>, delta: &Delta<'_>) -> Edits<Vec<Splice>> {
    let mut editor =
        RecordEditor { xml: XmlEditor::new(text), indent: indent_of(document), scope: Vec::new() };
    match delta {
        Delta::Same => {}
        Delta::Map { removed, added, changed, .. } if removed.is_empty() && added.is_empty() => {
            for (name, delta) in changed {
                let root = document.content.iter().find_map(|content| match content {
                    Content::Element(origin, root) if root.name.qualified() == *name => {
                        Some((*origin, *root))
                    }
                    _ => None,
                });
                let (origin, element) = root.ok_or_else(XmlEditor::misplaced)?;
                editor.element(&Here { origin, element, line: None }, delta)?;
            }
        }
        _ => {
            let advice =
                "change what stands in the root element, or write the result to another file";
            return Err(problem("a document of XML keeps its root element", advice, None));
        }
    }
    Ok(editor.xml.splices)
}

/// How far the first child of the root is indented, if it stands on a line of its own.
fn indent_of(document: &Element<'_>) -> Option<usize> {
    let root = document.children().next()?.as_element()?;
    let blanks = line_before(root.content, first_child(root.content)?)?.strip_prefix('\n')?;
    (!blanks.is_empty() && blanks.bytes().all(|byte| byte == b' ')).then_some(blanks.len())
}

/// The line end and blanks before a piece of content, if it begins a line.
fn line_before<'a>(content: &[Content<'a>], at: usize) -> Option<&'a str> {
    let Content::Text(_, text) = content.get(at.checked_sub(1)?)? else { return None };
    let line = &text[text.rfind('\n')?..];
    is_blank(line).then_some(line)
}

fn first_child(content: &[Content<'_>]) -> Option<usize> {
    content.iter().position(|piece| matches!(piece, Content::Element(..)))
}

/// An element, and the line end and blanks before it.
struct Here<'h, 'a> {
    origin: Origin,
    element: &'h Element<'a>,
    line: Option<&'a str>,
}

impl<'h, 'a> Here<'h, 'a> {
    /// A child of it.
    fn child(&self, at: usize) -> Edits<Here<'h, 'a>> {
        match self.element.content.get(at) {
            Some(Content::Element(origin, element)) => {
                let line = line_before(self.element.content, at);
                Ok(Here { origin: *origin, element, line })
            }
            _ => Err(XmlEditor::misplaced()),
        }
    }

    /// The positions of its children, by their names.
    fn by_name(&self) -> HashMap<&'a str, Vec<usize>> {
        let mut by_name: HashMap<&str, Vec<usize>> = HashMap::new();
        for (at, content) in self.element.content.iter().enumerate() {
            if let Content::Element(_, child) = content {
                by_name.entry(child.name.qualified()).or_default().push(at);
            }
        }
        by_name
    }
}

/// What stands in an element, byte by byte.
struct Inside {
    tag_end: usize,
    /// Where each piece of content begins, and where the last one ends.
    bounds: Vec<usize>,
}

impl Inside {
    fn span(&self, at: usize) -> Span {
        Span::new(self.bounds[at], self.bounds[at + 1])
    }
}

/// Something that is put among the children of an element.
struct Insertion {
    at: usize,
    /// Whether the child stands before that byte, and not behind it.
    is_behind: bool,
}

struct RecordEditor<'t> {
    xml: XmlEditor<'t>,
    /// By how many blanks children are indented, if they are.
    indent: Option<usize>,
    /// The prefixes that are declared where the editor is.
    scope: Vec<(String, String)>,
}

impl RecordEditor<'_> {
    fn element(&mut self, here: &Here<'_, '_>, delta: &Delta<'_>) -> Edits<()> {
        match delta {
            Delta::Same => Ok(()),
            Delta::Other(value) => self.replace(here, *value),
            Delta::Map { removed, added, changed, new, .. } => {
                // From members by name to content in order, or back.
                let is_content = |name: &&str| *name == CONTENT;
                let is_new = added.iter().any(|member| member.name == CONTENT);
                if is_new || removed.iter().any(is_content) {
                    if !is_plain(here.element) {
                        return Err(XmlEditor::misplaced());
                    }
                    return self.replace(here, Value::Map(Origin::NONE, new));
                }
                let declared = self.scope.len();
                for attribute in here.element.attributes {
                    if attribute.name.declares_namespace() {
                        let prefix = attribute.name.qualified().trim_start_matches("xmlns");
                        let prefix = prefix.trim_start_matches(':').to_owned();
                        self.scope.push((prefix, attribute.value.to_owned()));
                    }
                }
                let edited = self.members(here, (removed, added, changed));
                self.scope.truncate(declared);
                edited
            }
            Delta::List { .. } | Delta::Element => Err(XmlEditor::misplaced()),
        }
    }

    /// Puts another value in the place of what an element holds.
    fn replace(&mut self, here: &Here<'_, '_>, value: Value<'_>) -> Edits<()> {
        if here.element.attributes.is_empty()
            && here.element.text.is_some()
            && let Some(text) = value.scalar_text()
        {
            return self.set_text(here, &self.inside(here)?, text);
        }
        let span = self.xml.span(here.origin)?;
        let markup = self.markup(here.element.name.qualified(), value, here.line)?;
        self.xml.splice(span.start, span.end, markup);
        Ok(())
    }

    fn inside(&self, here: &Here<'_, '_>) -> Edits<Inside> {
        let span = self.xml.span(here.origin)?;
        let tag_end = self.xml.tag_end(span).ok_or_else(XmlEditor::misplaced)?;
        let end = match self.xml.text[..tag_end].ends_with("/>") {
            true => tag_end,
            false => self.xml.text[..span.end].rfind("</").ok_or_else(XmlEditor::misplaced)?,
        };
        let bounds = self.xml.bounds(here.element.content, end)?;
        Ok(Inside { tag_end, bounds })
    }

    /// Has an element hold a text in place of the one that it holds; comments in it stay.
    fn set_text(&mut self, here: &Here<'_, '_>, inside: &Inside, text: &str) -> Edits<()> {
        let markup = escaped(text, None);
        if self.xml.text[..inside.tag_end].ends_with("/>") {
            self.xml.fill(inside.tag_end, &markup, here.element.name.qualified());
            return Ok(());
        }
        let pieces = here.element.content.iter().enumerate();
        let texts = pieces.filter(|(_, piece)| matches!(piece, Content::Text(..)));
        let texts: Vec<Span> = texts.map(|(at, _)| inside.span(at)).collect();
        self.set_texts(&texts, inside.tag_end, markup);
        Ok(())
    }

    /// Puts one text in the place of some, or at a byte where there are none.
    fn set_texts(&mut self, texts: &[Span], at: usize, markup: String) {
        match texts {
            [] => self.xml.splice(at, at, markup),
            [first, others @ ..] => {
                self.xml.splice(first.start, first.end, markup);
                others.iter().for_each(|other| self.xml.splice(other.start, other.end, ""));
            }
        }
    }

    fn members(
        &mut self,
        here: &Here<'_, '_>,
        (removed, added, changed): (&[&str], &[Member<'_>], &[(&str, Delta<'_>)]),
    ) -> Edits<()> {
        let (inside, by_name) = (self.inside(here)?, here.by_name());
        let called = |name: &str| by_name.get(name).map(Vec::as_slice).unwrap_or_default();
        let attribute = |name: &str| -> Edits<Attribute<'_>> {
            let found = here.element.attributes.iter().find(|of| of.name.qualified() == name);
            found.copied().ok_or_else(XmlEditor::misplaced)
        };
        for (name, delta) in changed {
            match (*name, delta) {
                (TEXT, Delta::Other(value)) => {
                    self.set_text(here, &inside, text_of(name, *value)?)?;
                }
                (CONTENT, Delta::List { removed, items }) => {
                    self.in_order(here, &inside, removed, items)?;
                }
                (TEXT | CONTENT, _) => return Err(XmlEditor::misplaced()),
                (name, delta) => match (name.strip_prefix(ATTRIBUTE), delta) {
                    (Some(of), Delta::Other(value)) => {
                        self.xml.set_attribute(&attribute(of)?, text_of(name, *value)?)?;
                    }
                    (Some(_), _) => return Err(XmlEditor::misplaced()),
                    (None, delta) => {
                        self.children(here, &inside, (name, called(name)), delta)?;
                    }
                },
            }
        }
        let mut gone = HashSet::new();
        for name in removed {
            match (*name, name.strip_prefix(ATTRIBUTE)) {
                (TEXT, _) => self.set_text(here, &inside, "")?,
                (_, Some(of)) => self.xml.remove_attribute(&attribute(of)?)?,
                (name, None) => gone.extend(called(name)),
            }
        }
        self.remove_children(here, &inside, &gone, added);
        let (mut markups, mut text) = (Vec::new(), None);
        let line = self.line_inside(here);
        for Member { name, value } in added {
            match (*name, name.strip_prefix(ATTRIBUTE)) {
                (TEXT, _) => text = Some(text_of(name, *value)?),
                (name, Some(of)) => {
                    self.xml.add_attribute(of, text_of(name, *value)?, inside.tag_end);
                }
                (name, None) => markups.push(self.markup(name, *value, line.as_deref())?),
            }
        }
        match text {
            Some(text) if markups.is_empty() => self.set_text(here, &inside, text),
            Some(_) => Err(XmlEditor::misplaced()),
            None => self.add_children(here, &inside, &gone, markups),
        }
    }

    /// The line end and blanks before the children of an element, if they stand on lines of their own or would.
    fn line_inside(&self, here: &Here<'_, '_>) -> Option<String> {
        match first_child(here.element.content) {
            Some(first) => line_before(here.element.content, first).map(str::to_owned),
            None => {
                let line = here.line.or(self.indent.map(|_| "\n"))?;
                Some(format!("{line}{}", " ".repeat(self.indent?)))
            }
        }
    }

    /// Puts elements behind the last child of an element.
    fn add_children(
        &mut self,
        here: &Here<'_, '_>,
        inside: &Inside,
        gone: &HashSet<usize>,
        markups: Vec<String>,
    ) -> Edits<()> {
        if markups.is_empty() {
            return Ok(());
        }
        let line = self.line_inside(here).unwrap_or_default();
        let markup: String = markups.iter().map(|markup| format!("{line}{markup}")).collect();
        let content = here.element.content.iter().enumerate();
        let stays = |(at, piece): &(usize, &Content<'_>)| {
            matches!(piece, Content::Element(..)) && !gone.contains(at)
        };
        let name = here.element.name.qualified();
        if let Some((last, _)) = content.rev().find(stays) {
            let end = inside.span(last).end;
            self.xml.splice(end, end, markup);
        } else if here.element.content.is_empty() {
            let end = here.line.filter(|_| !line.is_empty()).unwrap_or_default();
            let markup = format!("{markup}{end}");
            match self.xml.text[..inside.tag_end].ends_with("/>") {
                true => self.xml.fill(inside.tag_end, &markup, name),
                false => self.xml.splice(inside.tag_end, inside.tag_end, markup),
            }
        } else {
            self.xml.splice(inside.tag_end, inside.tag_end, markup);
        }
        Ok(())
    }

    /// Takes children away; where none is left, also the blanks that were between them.
    fn remove_children(
        &mut self,
        here: &Here<'_, '_>,
        inside: &Inside,
        gone: &HashSet<usize>,
        added: &[Member<'_>],
    ) {
        let stays = |(at, piece): (usize, &Content<'_>)| match piece {
            Content::Element(..) => !gone.contains(&at),
            Content::Text(_, text) => !is_blank(text),
            _ => false,
        };
        let mut content = here.element.content.iter().enumerate();
        let is_emptied = !gone.is_empty()
            && !content.any(stays)
            && added.iter().all(|member| member.name.starts_with(ATTRIBUTE));
        for (at, piece) in here.element.content.iter().enumerate() {
            match piece {
                Content::Element(..) | Content::Text(..) if is_emptied => {
                    let span = inside.span(at);
                    self.xml.splice(span.start, span.end, "");
                }
                Content::Element(..) if gone.contains(&at) => self.remove(here, inside, at),
                _ => {}
            }
        }
    }

    /// Takes a child away, with the line end and blanks before it.
    fn remove(&mut self, here: &Here<'_, '_>, inside: &Inside, at: usize) {
        let span = inside.span(at);
        let line = line_before(here.element.content, at).map_or(0, str::len);
        self.xml.splice(span.start - line, span.end, "");
    }

    /// Edits the children that are the member `name`.
    fn children(
        &mut self,
        here: &Here<'_, '_>,
        inside: &Inside,
        (name, olds): (&str, &[usize]),
        delta: &Delta<'_>,
    ) -> Edits<()> {
        match (olds, delta) {
            ([first, others @ ..], Delta::Other(value)) => {
                self.replace(&here.child(*first)?, *value)?;
                others.iter().for_each(|at| self.remove(here, inside, *at));
                Ok(())
            }
            ([only], delta) => self.element(&here.child(*only)?, delta),
            ([first, ..], Delta::List { removed, items }) if are_all(olds, removed, items) => {
                for at in removed {
                    self.remove(here, inside, olds[*at]);
                }
                let mut place = Insertion { at: inside.span(*first).start, is_behind: false };
                for item in items {
                    match item {
                        Aligned::Both { old, is_moved: false, delta, .. } => {
                            self.element(&here.child(olds[*old])?, delta)?;
                            place = Insertion { at: inside.span(olds[*old]).end, is_behind: true };
                        }
                        Aligned::Both { old, value, delta, .. } => {
                            let markup = match delta {
                                Delta::Same => Some(inside.span(olds[*old])),
                                _ => None,
                            };
                            self.remove(here, inside, olds[*old]);
                            self.insert(here, &place, (name, *value), markup)?;
                        }
                        Aligned::Added(value) => {
                            self.insert(here, &place, (name, *value), None)?;
                        }
                    }
                }
                Ok(())
            }
            _ => Err(XmlEditor::misplaced()),
        }
    }

    /// Puts an element among the children of another; `written` is where it is written already.
    fn insert(
        &mut self,
        here: &Here<'_, '_>,
        place: &Insertion,
        (name, value): (&str, Value<'_>),
        written: Option<Span>,
    ) -> Edits<()> {
        let line = self.line_inside(here);
        let markup = match written {
            Some(span) => self.xml.text[span.start..span.end].to_owned(),
            None => self.markup(name, value, line.as_deref())?,
        };
        let line = line.unwrap_or_default();
        let text =
            if place.is_behind { format!("{line}{markup}") } else { format!("{markup}{line}") };
        self.xml.splice(place.at, place.at, text);
        Ok(())
    }

    /// The elements that a member stands for, as they are written behind that line end and blanks; those of a list on lines of their own.
    fn markup(&self, name: &str, value: Value<'_>, line: Option<&str>) -> Edits<String> {
        let blanks = line.map_or(0, |line| line.len() - 1);
        // Where the indentation is no multiple of that of the root's children, elements stay on their line.
        let level = match (self.indent, line) {
            (Some(indent), Some(_)) if blanks.is_multiple_of(indent) => Some(blanks / indent),
            _ => None,
        };
        let indent = self.indent.filter(|_| level.is_some());
        let layout = xml::Layout { indent, declaration: false, ..xml::Layout::default() };
        let mut writer = xml::Writer::new(layout);
        for (prefix, uri) in &self.scope {
            writer.declared(prefix, uri);
        }
        let items = match value {
            Value::List(_, items) if !items.is_empty() => items,
            ref other => std::slice::from_ref(other),
        };
        let mut losses = Losses::new(false);
        let mut markups = Vec::with_capacity(items.len());
        for item in items {
            if matches!(item, Value::List(..)) {
                losses.add(Loss::NestedList, item.origin());
            }
            let mut out = Vec::new();
            writer.member(name, *item, level.unwrap_or_default(), &mut out, &mut losses).map_err(
                |cannot| {
                    let cannot = cannot.resolve(|_| None::<Place>);
                    let (message, advice) = (cannot.message().to_owned(), cannot.advice().cloned());
                    EditProblem { message, advice, offset: None }
                },
            )?;
            markups.push(String::from_utf8_lossy(&out).into_owned());
        }
        losses.add_types(value, Format::Xml);
        match losses.summary() {
            None => Ok(markups.join(line.unwrap_or_default())),
            Some(lost) => {
                let message = format!("XML cannot hold all of the new {name:?}: {lost}");
                Err(problem(message, "give it a text, a number or a map", None))
            }
        }
    }
}

/// Whether a list has an item for each of those that were there.
pub(super) fn are_all<T>(olds: &[T], removed: &[usize], items: &[Aligned<'_>]) -> bool {
    let stay = items.iter().filter(|item| matches!(item, Aligned::Both { .. })).count();
    removed.len() + stay == olds.len()
}

/// Whether there are only elements and texts in an element.
fn is_plain(element: &Element<'_>) -> bool {
    element.content.iter().all(|piece| match piece {
        Content::Element(_, child) => is_plain(child),
        Content::Text(..) => true,
        _ => false,
    })
}

/// The text that a scalar is in XML.
fn text_of<'a>(name: &str, value: Value<'a>) -> Edits<&'a str> {
    value.scalar_text().ok_or_else(|| {
        let message =
            format!("{name:?} holds text in XML, and is to hold {}", value.kind().phrase());
        problem(message, "give it a text or a number", None)
    })
}
