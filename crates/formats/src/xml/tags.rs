//! Start and end tags (XML 1.0 section 3.1), and the elements that they make.

use kyanite_tree::{Arena, Content, Element, Name, Setting, Span, is_same_name};

use super::chars;
use super::read::{Ancestor, IN_ORDER, NAMED, Open, Read, Reader};
use super::repair::{MarkupError, Repair};
use crate::SyntaxError;
use crate::projection::Projected;

/// How an end tag without its `>` is read.
const AS_CLOSED: &str = "it is read as closed";

impl<'a> Reader<'a> {
    /// `<name …>` or `<name …/>` (productions 40 and 44), or in a repair a `<` that begins no tag.
    pub(super) fn start_tag(&mut self) -> Read<()> {
        let start = self.cursor.at;
        let text = self.cursor.text;
        let end = chars::name_end(text, start + 1);
        if end == start + 1 {
            self.broken(
                start,
                start + 1,
                "no tag begins like this",
                "write &lt; for the character <",
                (MarkupError::Tag, "it is read as text"),
            )?;
            self.cursor.at = end;
            self.add_text(start, "<");
            return Ok(());
        }
        if self.depth() >= self.options.depth {
            let message = format!("elements nest deeper than {} levels", self.options.depth);
            let advice = ("if this is meant, raise the limit with ", Setting::Depth);
            return Err(self.cursor.placed(SyntaxError::limit(start, end, message, advice)));
        }
        self.end_text();
        self.cursor.at = end;
        let scope = self.scope.depth();
        let Some(is_empty) = self.attributes(start)? else { return Ok(()) };
        let raw = &text[start + 1..end];
        let name = match self.scope.element(raw) {
            Ok(_) if !self.options.namespaces => Name::plain(raw),
            Ok(name) => name,
            Err(_) if !self.options.namespaces => Name::plain(raw),
            Err((message, advice)) => {
                self.broken(start, end, message, advice, NAMED)?;
                self.repaired(raw)
            }
        };
        let name = if self.options.drop_namespaces { self.dropped(name) } else { name };
        let origin = self.origin(start);
        let attributes = match &mut self.table {
            None if self.makes_nothing => {
                self.begun = Some(name);
                &[]
            }
            None => self.arena.attributes(&self.attributes),
            Some(table) => {
                table.open(name, origin);
                table.attributes(&self.attributes);
                &[]
            }
        };
        let first = self.nodes.len();
        self.open.push(Open {
            start,
            name,
            written: raw,
            attributes,
            first,
            scope,
            projected: Projected::ALL,
        });
        if is_empty {
            self.close();
        }
        Ok(())
    }

    /// What a name is without its namespace. Where another namespace has that name already, it keeps its own.
    fn dropped(&mut self, name: Name<'a>) -> Name<'a> {
        self.drop_prefixes();
        if self.dropping.may_drop(name) { Name::plain(name.local()) } else { name }
    }

    /// What a repair makes of a name whose prefix nothing declares, or that can have none.
    pub(super) fn repaired(&self, raw: &'a str) -> Name<'a> {
        let prefix = Name::new(raw, "").prefix();
        if !chars::is_qualified(raw) || prefix == "xmlns" {
            return Name::plain(self.arena.text(&raw.replace(':', "_")));
        }
        Name::new(raw, self.arena.concat(&["urn:undeclared:", prefix]))
    }

    /// `</name>` (production 42).
    pub(super) fn end_tag(&mut self) -> Read<()> {
        let start = self.cursor.at;
        let bytes = self.cursor.bytes();
        let depth = self.outer_depth();
        if self.depth() > depth
            && let Some(open) = self.open.last()
        {
            let (from, end) = (start + 2, start + 2 + open.written.len());
            let is_it = |name: &str| is_same_name(name, open.written);
            if bytes.get(end) == Some(&b'>') && self.cursor.text.get(from..end).is_some_and(is_it) {
                self.cursor.at = end + 1;
                self.close();
                return Ok(());
            }
        }
        self.odd_end_tag()
    }

    /// An end tag that is not just the name of the innermost element.
    #[cold]
    pub(super) fn odd_end_tag(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += 2;
        let name = self.cursor.name().unwrap_or_default();
        let end = self.cursor.at;
        self.cursor.space();
        if !self.cursor.eat(">") {
            let at = self.cursor.at;
            let (message, advice) = ("this end tag is not closed", "write </name>");
            if self.cursor.peek().is_none() {
                self.unclosed(at, at + 1, message, advice, (MarkupError::EndTag, AS_CLOSED))?;
            } else {
                self.broken(at, at + 1, message, advice, (MarkupError::EndTag, AS_CLOSED))?;
            }
            // What stands in the tag is no text.
            let rest = self.cursor.rest();
            let length = rest.find(['<', '>']).unwrap_or(rest.len());
            self.cursor.at += length;
            self.cursor.eat(">");
        }
        let (outer, depth) = (self.outer_depth(), self.depth());
        let written = |level: usize| match self.around.get(level) {
            Some(ancestor) => ancestor.written,
            None => self.open[level - self.around.len()].written,
        };
        let level = (outer..depth).rev().find(|level| written(*level) == name);
        if level.is_none_or(|level| level + 1 < depth) && depth > outer && !self.options.lenient {
            return Err(self.crossed(start, end, name));
        }
        let Some(level) = level else {
            return self.broken(
                start,
                end,
                format!("</{name}> closes no element that is open"),
                "take it away",
                (MarkupError::EndTag, "it is left out"),
            );
        };
        while self.depth() > level + 1 {
            self.close_unclosed(&format!("before </{name}>"), Span::new(start, end));
        }
        self.close();
        Ok(())
    }

    fn crossed(&self, start: usize, end: usize, name: &str) -> SyntaxError {
        let inner = self.innermost().unwrap_or_default();
        let message = format!("</{name}> stands where </{inner}> is missing");
        let opened = self.open.last().filter(|_| self.cursor.stands_for.is_none());
        let error = self.cursor.error(start, end, message, IN_ORDER);
        error.also(opened.map(|open| open.start))
    }

    /// Closes the innermost element though nothing in the text does, at the span `at`, which is told as `place`.
    pub(super) fn close_unclosed(&mut self, place: &str, at: Span) {
        let name = self.innermost().unwrap_or_default();
        let message = format!("<{name}> is not closed; it is read as closed {place}");
        let (span, also) = match (self.cursor.stands_for, self.open.last()) {
            (Some((start, end)), _) => (Span::new(start, end), None),
            (None, Some(open)) => (Span::new(open.start, open.start + 1 + name.len()), Some(at)),
            (None, None) => (at, None),
        };
        self.repairs.push(Repair { fault: MarkupError::Unclosed, message, span, also });
        self.close();
    }

    /// Makes an element of the innermost open one, if anything is made of it.
    #[inline]
    pub(super) fn close(&mut self) {
        self.closed += 1;
        let Some(open) = self.open.pop() else {
            if let Some(ancestor) = self.around.pop() {
                self.scope.leave(self.scope.depth() - ancestor.bindings.len());
            }
            return;
        };
        self.scope.leave(open.scope);
        if let Some(table) = &mut self.table {
            table.close();
            return;
        }
        if self.makes_nothing {
            return;
        }
        let nodes = &self.nodes[open.first..];
        let text = match nodes {
            [] => Some(""),
            [Content::Text(_, text)] => Some(*text),
            [Content::Element(..), ..] | [Content::Text(..), Content::Element(..), ..] => None,
            nodes => leaf_text(nodes, self.arena),
        };
        let content = self.arena.nodes(nodes);
        let element = Element { name: open.name, attributes: open.attributes, content, text };
        let element = self.arena.element(element);
        self.nodes.truncate(open.first);
        self.nodes.push(Content::Element(self.origin(open.start), element));
    }

    /// The name of the element whose start tag was read last.
    pub(super) fn last_name(&self) -> Option<Name<'a>> {
        if let Some(open) = self.open.last() {
            return Some(open.name);
        }
        match self.nodes.last() {
            Some(Content::Element(_, element)) => Some(element.name),
            _ => None,
        }
    }

    /// Makes nothing of the element whose start tag was read last; tells whether it is open, and not empty.
    pub(super) fn make_nothing(&mut self) -> bool {
        let Some(open) = self.open.pop() else { return false };
        let bindings = self.arena.slice(self.scope.since(open.scope));
        let element = self.keeps_around.then(|| {
            let Open { name, attributes, .. } = open;
            self.arena.element(Element { name, attributes, content: &[], text: None })
        });
        let tag = self.outer.is_empty().then_some((open.start, self.cursor.at));
        self.around.push(Ancestor { written: open.written, bindings, element, tag });
        true
    }
}

/// The text of content without elements.
fn leaf_text<'a>(nodes: &[Content<'a>], arena: &'a Arena) -> Option<&'a str> {
    let mut texts = Vec::new();
    for node in nodes {
        match node {
            Content::Element(..) => return None,
            Content::Text(_, text) => texts.push(*text),
            _ => {}
        }
    }
    Some(match texts.as_slice() {
        [text] => text,
        texts => arena.concat(texts),
    })
}
