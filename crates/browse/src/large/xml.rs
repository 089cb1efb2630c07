//! Finds the children of XML elements by their tags alone.

use std::collections::HashMap;

use kyanite_formats::xml::resolved;
use kyanite_tree::{counted, is_blank};

use super::scan::Kind;
use super::{Child, Glance, Scanned, Step, Take, as_text};

/// Follows the bytes of an element, or of a document.
#[derive(Clone, Default)]
pub(super) struct Scan {
    /// Elements that are open: itself, and those in it.
    depth: u32,
    /// How many elements of each name there were.
    counts: HashMap<String, u64>,
    texts: u64,
    /// Whether an element was found in it.
    has_elements: bool,
    /// Texts that wait for an element to stand beside.
    waiting: Vec<(u64, u64)>,
}

/// What begins with a `<`.
enum Markup<'b> {
    /// A tag that opens an element, which is over as well if it is empty.
    Begin {
        name: &'b str,
        inside: &'b [u8],
        is_empty: bool,
    },
    End,
    /// Characters that are no markup.
    Characters(&'b [u8]),
    /// A comment, an instruction, or a document type.
    Other,
}

/// The markup at a byte of a block, and where it ends; `None` if that is not in the block. More may come unless it is the last.
fn markup(block: &[u8], at: usize, is_last: bool) -> Option<(Markup<'_>, usize)> {
    let rest = &block[at..];
    let until = |from: usize, what: &[u8]| {
        let end = memchr::memmem::find(rest.get(from..).unwrap_or_default(), what)?;
        Some(at + from + end + what.len())
    };
    // What may be the beginning of a longer mark waits for the rest.
    if rest.len() < b"<![CDATA[".len() && !is_last {
        return None;
    }
    if rest.starts_with(b"<!--") {
        return Some((Markup::Other, until(4, b"-->")?));
    }
    if rest.starts_with(b"<![CDATA[") {
        let end = until(9, b"]]>")?;
        return Some((Markup::Characters(&block[at + 9..end - 3]), end));
    }
    if rest.starts_with(b"<?") {
        return Some((Markup::Other, until(2, b"?>")?));
    }
    if rest.starts_with(b"<!") {
        return Some((Markup::Other, at + type_end(rest)?));
    }
    if rest.starts_with(b"</") {
        return Some((Markup::End, until(2, b">")?));
    }
    let end = tag_end(rest)?;
    let inside = &rest[1..end - 1];
    let is_empty = inside.ends_with(b"/");
    let inside = if is_empty { &inside[..inside.len() - 1] } else { inside };
    let name_end = inside.iter().position(u8::is_ascii_whitespace).unwrap_or(inside.len());
    let (name, inside) = inside.split_at(name_end);
    Some((Markup::Begin { name: as_text(name), inside, is_empty }, at + end))
}

/// Where a tag ends: quotes may hold what would end it.
fn tag_end(rest: &[u8]) -> Option<usize> {
    let mut at = 1;
    loop {
        at += rest[at..].iter().position(|byte| matches!(byte, b'>' | b'"' | b'\''))?;
        if rest[at] == b'>' {
            return Some(at + 1);
        }
        at += 2 + memchr::memchr(rest[at], &rest[at + 1..])?;
    }
}

/// Where a document type ends: brackets may hold declarations.
fn type_end(rest: &[u8]) -> Option<usize> {
    let mut depth = 0_u32;
    let mut quote = None;
    for (at, byte) in rest.iter().enumerate() {
        match (quote, byte) {
            (Some(open), byte) if *byte == open => quote = None,
            (Some(_), _) => {}
            (None, b'"' | b'\'') => quote = Some(*byte),
            (None, b'[' | b'<') => depth += 1,
            (None, b']') => depth = depth.saturating_sub(1),
            (None, b'>') => {
                depth = depth.saturating_sub(1);
                if depth == 0 {
                    return Some(at + 1);
                }
            }
            _ => {}
        }
    }
    None
}

/// Attributes of a tag: the byte at which each begins, its name, and its value.
fn attributes(inside: &[u8]) -> Vec<(usize, &str, &str)> {
    let mut found = Vec::new();
    let mut at = 0;
    loop {
        at += inside[at..].iter().take_while(|byte| byte.is_ascii_whitespace()).count();
        let Some(equals) = memchr::memchr(b'=', &inside[at..]) else { return found };
        let name = as_text(&inside[at..at + equals]).trim_end();
        let behind = at + equals + 1;
        let blanks = inside[behind..].iter().take_while(|byte| byte.is_ascii_whitespace()).count();
        let Some(quote) = inside.get(behind + blanks).copied() else { return found };
        let begin = behind + blanks + 1;
        let Some(end) = memchr::memchr(quote, &inside[begin..]) else { return found };
        found.push((at, name, as_text(&inside[begin..begin + end])));
        at = begin + end + 1;
    }
}

impl Scan {
    /// A scan of what stands outermost.
    pub(super) fn of_document() -> Self {
        Self { depth: 1, has_elements: true, ..Self::default() }
    }

    fn before_child(&self) -> Kind {
        Kind::Xml(Self { waiting: Vec::new(), ..self.clone() })
    }

    /// Scans a block that begins at byte `at`, as far as its markup has its end there.
    pub(super) fn block(
        &mut self,
        block: &[u8],
        at: u64,
        is_last: bool,
        take: Take<'_>,
    ) -> Scanned {
        let mut next = 0;
        while next < block.len() {
            if block[next] != b'<' {
                let end = memchr::memchr(b'<', &block[next..]).map(|end| next + end);
                // What stands directly in the element has to be seen whole.
                if end.is_none() && self.depth == 1 && !is_last && block.len() < super::BLOCK {
                    break;
                }
                let end = end.unwrap_or(block.len());
                if self.depth == 1 && !self.characters(&block[next..end], at + next as u64, take) {
                    return Scanned { used: next, is_over: true };
                }
                next = end;
                continue;
            }
            let Some((markup, end)) = markup(block, next, is_last) else { break };
            let here = at + next as u64;
            match markup {
                Markup::Other => {}
                Markup::Characters(text) if self.depth == 1 => {
                    if !self.characters(text, here, take) {
                        return Scanned { used: next, is_over: true };
                    }
                }
                Markup::Characters(_) => {}
                Markup::End => {
                    self.depth = self.depth.saturating_sub(1);
                    if self.depth == 0 {
                        return Scanned { used: end, is_over: true };
                    }
                }
                Markup::Begin { name, inside, is_empty } => {
                    if self.depth == 0 {
                        let begin = here + 1 + name.len() as u64;
                        for (offset, name, _) in attributes(inside) {
                            let at = begin + offset as u64;
                            let step = Step::Attribute(name.to_owned());
                            take(Child { step, at, entry: here }, &|| self.before_child());
                        }
                    } else if self.depth == 1 && !self.element(name, here, take) {
                        return Scanned { used: next, is_over: true };
                    }
                    self.depth += u32::from(!is_empty);
                    if self.depth == 0 {
                        return Scanned { used: end, is_over: true };
                    }
                }
            }
            next = end;
        }
        Scanned { used: next, is_over: false }
    }

    /// Takes characters that stand directly in the element; tells whether more is wanted.
    fn characters(&mut self, text: &[u8], at: u64, take: Take<'_>) -> bool {
        self.texts += 1;
        if is_blank(as_text(text)) {
            return true;
        }
        if self.has_elements {
            let step = Step::Text(self.texts);
            return take(Child { step, at, entry: at }, &|| self.before_child());
        }
        self.waiting.push((self.texts, at));
        true
    }

    /// Takes an element that stands directly in the element; tells whether more is wanted.
    fn element(&mut self, name: &str, at: u64, take: Take<'_>) -> bool {
        self.has_elements = true;
        for (position, at) in std::mem::take(&mut self.waiting) {
            let step = Step::Text(position);
            take(Child { step, at, entry: at }, &|| self.before_child());
        }
        let position = self.counts.get(name).map_or(1, |count| count + 1);
        let step = Step::Element(name.to_owned(), position);
        if !take(Child { step, at, entry: at }, &|| self.before_child()) {
            return false;
        }
        self.counts.insert(name.to_owned(), position);
        true
    }
}

/// A node whose first bytes these are.
pub(super) fn glance(bytes: &[u8], step: &Step) -> Glance {
    let leaf = |value: String, kind: &str, is_whole: bool| Glance {
        value: Some(value),
        kind: kind.to_owned(),
        has_children: false,
        is_whole,
    };
    match step {
        Step::Attribute(_) => {
            let value = attributes(bytes).first().map(|(.., value)| resolved(value));
            leaf(value.unwrap_or_default(), "text", true)
        }
        Step::Text(_) => {
            let end = memchr::memchr(b'<', bytes).unwrap_or(bytes.len());
            let text = match markup(bytes, 0, true) {
                Some((Markup::Characters(text), _)) => as_text(text).trim().to_owned(),
                _ => resolved(as_text(&bytes[..end]).trim()),
            };
            leaf(text, "text", true)
        }
        _ => element(bytes),
    }
}

/// An element whose first bytes these are.
fn element(bytes: &[u8]) -> Glance {
    let (mut elements, mut attributes) = (0_u64, 0);
    let mut scan = Scan::default();
    let scanned = scan.block(bytes, 0, true, &mut |child, _| {
        match child.step {
            Step::Element(..) => elements += 1,
            Step::Attribute(_) => attributes += 1,
            _ => {}
        }
        true
    });
    let is_whole = scanned.is_over;
    if is_whole && elements == 0 {
        let text = text_of(&bytes[..scanned.used]);
        let kind = "element".to_owned();
        return Glance { value: Some(text), kind, has_children: attributes > 0, is_whole };
    }
    let kind = if is_whole { counted(elements, "element") } else { "element".to_owned() };
    Glance { value: None, kind, has_children: true, is_whole }
}

/// The text of an element without elements in it.
fn text_of(bytes: &[u8]) -> String {
    let mut text = String::new();
    let mut next = 0;
    while next < bytes.len() {
        if bytes[next] != b'<' {
            let end = memchr::memchr(b'<', &bytes[next..]).map_or(bytes.len(), |end| next + end);
            text.push_str(&resolved(as_text(&bytes[next..end])));
            next = end;
            continue;
        }
        let Some((markup, end)) = markup(bytes, next, true) else { break };
        if let Markup::Characters(characters) = markup {
            text.push_str(as_text(characters));
        }
        next = end;
    }
    text.trim().to_owned()
}

/// A node whose first bytes these are, as it is written; a text or attribute as it is meant.
pub(super) fn whole(bytes: &[u8], step: &Step) -> String {
    if !matches!(step, Step::Element(..) | Step::Root) {
        return glance(bytes, step).value.unwrap_or_default();
    }
    let scanned = Scan::default().block(bytes, 0, true, &mut |_, _| true);
    let text = as_text(&bytes[..scanned.used]);
    if scanned.is_over { text.to_owned() } else { format!("{}…", as_text(bytes)) }
}
