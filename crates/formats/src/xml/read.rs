//! The XML reader: text in, elements in an arena out, in one pass without recursion.
//!
//! What is not well-formed ends the read with its place or, in a lenient one, is repaired, and the repair listed.

use std::collections::HashSet;

use kyanite_tree::{Arena, Attribute, Element, Name, Node, Origin, Value};

use super::chars;
use super::cursor::Cursor;
use super::declarations::Declarations;
use super::dtd::{Dtd, Entity};
use super::entities::{self, Budget, Fault, Reference};
use super::names::Scope;
use crate::SyntaxError;

/// Limits and ways of reading.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// The deepest nesting that is read.
    pub depth: usize,
    /// The most bytes that entities may expand to.
    pub expansion: usize,
    /// Whether what is not well-formed is repaired.
    pub lenient: bool,
    /// Whether names have prefixes that must be declared.
    pub namespaces: bool,
    /// Whether prefixes and declarations of namespaces are left out.
    pub drop_namespaces: bool,
    /// The number of the document in origins.
    pub document: u16,
}

/// The bytes that entities may expand to unless more is asked for.
pub const DEFAULT_EXPANSION: usize = 16 * 1024 * 1024;

impl Default for Options {
    fn default() -> Self {
        Self {
            depth: crate::json::DEFAULT_DEPTH,
            expansion: DEFAULT_EXPANSION,
            lenient: false,
            namespaces: true,
            drop_namespaces: false,
            document: Origin::INPUT,
        }
    }
}

/// Something that is said about a place in a document: what was wrong there, and how it was read.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Repair {
    /// What was wrong, and what was made of it.
    pub message: String,
    /// The first byte.
    pub start: usize,
    /// The byte behind the last.
    pub end: usize,
}

/// A document that was read.
#[derive(Debug)]
pub struct Document<'a> {
    /// The document as an element without a name.
    pub root: &'a Element<'a>,
    /// Where it is.
    pub origin: Origin,
    /// What was repaired.
    pub repairs: Vec<Repair>,
    /// References to what lies outside the document; they are left as they are written.
    pub unread: Vec<Repair>,
}

/// Reads a document whose line ends are `\n`, as [`decode`](super::decode) gives it.
///
/// # Errors
/// A [`SyntaxError`] where the text is not well-formed or passes a limit.
pub fn document<'a>(
    text: &'a str,
    arena: &'a Arena,
    options: Options,
) -> Result<Document<'a>, SyntaxError> {
    Reader::new(text, arena, options).read()
}

/// Where the mark for what was read at byte `offset` ends: a start tag's name, or a value up to its quote.
#[must_use]
pub fn value_end(text: &str, offset: usize) -> usize {
    let bytes = text.as_bytes();
    match bytes.get(offset) {
        Some(b'<') => chars::name_end(text, offset + 1),
        Some(_) => chars::value_end(bytes, offset).max(offset + 1),
        None => offset + 1,
    }
}

pub(super) struct Reader<'a> {
    pub(super) cursor: Cursor<'a>,
    pub(super) arena: &'a Arena,
    pub(super) options: Options,
    pub(super) dtd: Dtd<'a>,
    pub(super) budget: Budget,
    pub(super) scope: Scope<'a>,
    /// The attributes of the tag that is being read.
    pub(super) attributes: Vec<Attribute<'a>>,
    pub(super) seen: HashSet<(&'a str, &'a str)>,
    /// The texts around the entities that are being read.
    outer: Vec<Outer<'a>>,
    /// The content of the elements that are open.
    pub(super) nodes: Vec<Node<'a>>,
    open: Vec<Open<'a>>,
    /// The text that has been read since the last markup.
    pub(super) text: Option<(Origin, &'a str)>,
    /// The same text, when it came in several pieces.
    joined: String,
    pub(super) is_joined: bool,
    has_root: bool,
    has_type: bool,
    repairs: Vec<Repair>,
    unread: Vec<Repair>,
}

/// An element whose end tag has not been read.
struct Open<'a> {
    start: usize,
    name: Name<'a>,
    /// The name as it stands in the tag.
    written: &'a str,
    attributes: &'a [Attribute<'a>],
    /// Where its content begins in the nodes.
    first: usize,
    /// How many namespaces were declared around it.
    scope: usize,
}

/// A text in which an entity is referred to, and how far it was read.
struct Outer<'a> {
    cursor: Cursor<'a>,
    entity: &'a str,
    /// How many elements were open at the reference.
    open: usize,
}

type Read<T> = Result<T, SyntaxError>;

/// How a name with an undeclared prefix is read.
pub(super) const NAMED: &str = "it is read as a name of urn:undeclared";

impl<'a> Reader<'a> {
    pub(super) fn new(text: &'a str, arena: &'a Arena, options: Options) -> Self {
        Self {
            cursor: Cursor::new(text),
            arena,
            options,
            dtd: Dtd::default(),
            budget: Budget::new(options.expansion),
            scope: Scope::default(),
            attributes: Vec::new(),
            seen: HashSet::new(),
            outer: Vec::new(),
            nodes: Vec::new(),
            open: Vec::new(),
            text: None,
            joined: String::new(),
            is_joined: false,
            has_root: false,
            has_type: false,
            repairs: Vec::new(),
            unread: Vec::new(),
        }
    }

    /// Reads the document to its end (production 1).
    fn read(mut self) -> Read<Document<'a>> {
        self.declaration()?;
        loop {
            self.cursor.space();
            let start = self.cursor.at;
            match self.cursor.peek() {
                None => break,
                Some(b'<') if self.cursor.is_at("<!--") => self.comment()?,
                Some(b'<') if self.cursor.is_at("<?") => self.instruction()?,
                Some(b'<') if self.cursor.is_at("<!DOCTYPE") => self.document_type()?,
                Some(b'<') if self.cursor.is_at("</") => self.stray_end_tag()?,
                Some(b'<') if chars::name_end(self.cursor.text, start + 1) > start + 1 => {
                    if self.has_root {
                        self.second_root(start)?;
                    }
                    self.has_root = true;
                    self.start_tag()?;
                    self.content()?;
                }
                Some(_) => self.text_outside()?,
            }
        }
        let end = self.cursor.text.len();
        if !self.has_root {
            return Err(self.cursor.error(
                end,
                end,
                "there is no element in this input",
                "check that the command before this one wrote XML",
            ));
        }
        let content = self.arena.nodes(&self.nodes);
        let root = Element { name: Name::plain(""), attributes: &[], content, text: None };
        Ok(Document {
            root: self.arena.element(root),
            origin: Origin::new(self.options.document, 0),
            repairs: self.repairs,
            unread: self.unread,
        })
    }

    /// An element beside the root element.
    #[cold]
    pub(super) fn second_root(&mut self, start: usize) -> Read<()> {
        let end = chars::name_end(self.cursor.text, start + 1);
        self.broken(
            start,
            end,
            "a second element stands beside the root element",
            "put one element around all, or split the input",
            "it is read as a further root",
        )
    }

    /// The name of the element whose start tag was read last.
    pub(super) fn last_name(&self) -> Option<Name<'a>> {
        if let Some(open) = self.open.last() {
            return Some(open.name);
        }
        match self.nodes.last() {
            Some(Node::Element(_, element)) => Some(element.name),
            _ => None,
        }
    }

    /// Leaves the element whose start tag was read last open, for what is around to close; gives its name as written.
    pub(super) fn take_open(&mut self) -> Option<&'a str> {
        self.open.pop().map(|open| open.written)
    }

    /// Reads what stands in the elements that are open, to the end tag of the outermost (production 43).
    pub(super) fn content(&mut self) -> Read<()> {
        while !self.open.is_empty() {
            let bytes = self.cursor.bytes();
            match bytes.get(self.cursor.at) {
                Some(b'<') => match bytes.get(self.cursor.at + 1) {
                    Some(b'/') => {
                        self.end_text();
                        self.end_tag()?;
                    }
                    Some(b'!') if self.cursor.is_at("<![CDATA[") => self.character_data()?,
                    Some(b'!') if self.cursor.is_at("<!--") => {
                        self.end_text();
                        self.comment()?;
                    }
                    Some(b'?') => {
                        self.end_text();
                        self.instruction()?;
                    }
                    _ => self.start_tag()?,
                },
                Some(_) => self.plain_text()?,
                None => self.end_of_input()?,
            }
        }
        Ok(())
    }

    /// What ends here is the text of an entity, or a document that was cut off.
    fn end_of_input(&mut self) -> Read<()> {
        let Some(outer) = self.outer.last() else {
            self.end_text();
            let end = self.cursor.text.len();
            if !self.options.lenient {
                let mut error = self.cursor.error(
                    end,
                    end,
                    match self.open.last() {
                        Some(open) => format!("the document ends inside <{}>", open.written),
                        None => "the document ends too early".into(),
                    },
                    "the input looks cut off: fetch it again, or read what is there with --lenient",
                );
                error.also = self.open.last().map(|open| open.start);
                error.wants_more = true;
                return Err(error);
            }
            while let Some(open) = self.open.last() {
                let (start, name) = (open.start, open.written);
                let message = format!(
                    "<{name}> is not closed; it is read as closed at the end of the document"
                );
                self.repairs.push(Repair { message, start, end: start + 1 + name.len() });
                self.close();
            }
            return Ok(());
        };
        let (entity, depth) = (outer.entity, outer.open);
        if self.open.len() > depth {
            let (start, end) = self.cursor.stands_for.unwrap_or_default();
            self.broken(
                start,
                end,
                format!("the entity &{entity}; opens an element that it does not close"),
                "write both tags in the entity, or none",
                "the element is read as closed",
            )?;
            self.end_text();
            while self.open.len() > depth {
                self.close();
            }
        }
        if let Some(outer) = self.outer.pop() {
            self.cursor = outer.cursor;
        }
        Ok(())
    }

    /// `<?xml version="1.0" … ?>` (production 23).
    pub(super) fn declaration(&mut self) -> Read<()> {
        let text = self.cursor.text;
        if !text.starts_with("<?xml")
            || text.as_bytes().get(5).is_none_or(|byte| !byte.is_ascii_whitespace())
        {
            return Ok(());
        }
        self.cursor.at = 5;
        let read = self.declared_pairs();
        match read {
            Err(_) if self.options.lenient => {
                self.cursor.at = 5;
                let end = if self.cursor.until("?>").is_some() { self.cursor.at } else { 5 };
                self.cursor.at = end;
                self.broken(0, end, "the XML declaration is not well-formed", "", "it is left out")
            }
            other => other,
        }
    }

    fn declared_pairs(&mut self) -> Read<()> {
        const FORM: &str =
            "it is written <?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>";
        let mut at_least = 0;
        loop {
            let spaced = self.cursor.space();
            if self.cursor.eat("?>") && at_least > 0 {
                return Ok(());
            }
            let names = ["version", "encoding", "standalone"];
            let start = self.cursor.at;
            let which = (at_least..3).find(|which| self.cursor.eat(names[*which]));
            let Some(which) = which.filter(|which| spaced && (*which == 0) == (at_least == 0))
            else {
                let message = "this is not an XML declaration";
                let wants_more = self.cursor.peek().is_none();
                let error = self.cursor.error(start, start + 1, message, FORM);
                return Err(SyntaxError { wants_more, ..error });
            };
            self.cursor.space();
            let has_equals = self.cursor.eat("=");
            self.cursor.space();
            let at = self.cursor.at;
            let value = match self.cursor.peek() {
                Some(b'"') if has_equals => {
                    self.cursor.at += 1;
                    self.cursor.until("\"")
                }
                Some(b'\'') if has_equals => {
                    self.cursor.at += 1;
                    self.cursor.until("'")
                }
                _ => None,
            };
            let value = value.filter(|value| match which {
                0 => value.strip_prefix("1.").is_some_and(|minor| {
                    !minor.is_empty() && minor.bytes().all(|byte| byte.is_ascii_digit())
                }),
                1 => {
                    value.starts_with(|c: char| c.is_ascii_alphabetic())
                        && value
                            .bytes()
                            .all(|byte| byte.is_ascii_alphanumeric() || b"._-".contains(&byte))
                }
                _ => matches!(*value, "yes" | "no"),
            });
            let Some(value) = value else {
                return Err(self.cursor.error(
                    at,
                    at + 1,
                    format!("this is no {} of XML", names[which]),
                    FORM,
                ));
            };
            self.dtd.is_standalone |= which == 2 && value == "yes";
            at_least = which + 1;
        }
    }

    fn document_type(&mut self) -> Read<()> {
        let start = self.cursor.at;
        if self.has_type || self.has_root {
            self.broken(
                start,
                start + 9,
                "the document type declaration stands before the root element, once",
                "take this one away",
                "it is left out",
            )?;
            self.skip_document_type();
            return Ok(());
        }
        self.has_type = true;
        let mut declarations = Declarations {
            cursor: self.cursor.clone(),
            dtd: &mut self.dtd,
            budget: &mut self.budget,
            arena: self.arena,
            namespaces: self.options.namespaces,
            inside: Vec::new(),
        };
        match declarations.document_type() {
            Ok(()) => self.cursor.at = declarations.cursor.at,
            Err(error) if self.options.lenient => {
                let message = format!("{}; the rest of the declaration is left out", error.message);
                self.repairs.push(Repair { message, start: error.start, end: error.end });
                self.skip_document_type();
            }
            Err(error) => return Err(error),
        }
        let written = &self.cursor.text[start..self.cursor.at];
        self.nodes.push(Node::DocumentType(self.origin(start), written));
        Ok(())
    }

    /// Goes behind a document type declaration that cannot be read: the `]>` or the `>` that looks like its end.
    fn skip_document_type(&mut self) {
        let rest = self.cursor.rest();
        let close = rest.find('>').unwrap_or(rest.len());
        let length = match rest.find('[').filter(|bracket| *bracket < close) {
            Some(_) => rest.find("]>").map(|end| end + 2),
            None => rest.find('>').map(|end| end + 1),
        };
        self.cursor.at += length.unwrap_or(rest.len());
    }

    /// Text beside the root element.
    #[cold]
    pub(super) fn text_outside(&mut self) -> Read<()> {
        let start = self.cursor.at;
        let rest = &self.cursor.bytes()[start + 1..];
        let end = start + 1 + memchr::memchr(b'<', rest).unwrap_or(rest.len());
        self.broken(
            start,
            end,
            "text stands outside the root element",
            "check that the input is XML, and whole",
            "it is left out",
        )?;
        self.cursor.at = end;
        Ok(())
    }

    /// Text up to the next markup or reference (production 14).
    #[inline]
    pub(super) fn plain_text(&mut self) -> Read<()> {
        let bytes = self.cursor.bytes();
        let start = self.cursor.at;
        let mut at = start;
        loop {
            let end = chars::text_end(bytes, at);
            match bytes.get(end) {
                Some(b'<') => {
                    self.cursor.at = end;
                    // Nearly always one piece of text fills the space between two tags.
                    if self.text.is_none() && bytes.get(end + 1) != Some(&b'!') {
                        let origin = self.origin(start);
                        self.nodes.push(Node::Text(origin, &self.cursor.text[start..end]));
                    } else {
                        self.add_text(start, &self.cursor.text[start..end]);
                    }
                    return Ok(());
                }
                None => {
                    self.cursor.at = end;
                    self.add_text(start, &self.cursor.text[start..end]);
                    return Ok(());
                }
                Some(b'&') => {
                    if end > start {
                        self.add_text(start, &self.cursor.text[start..end]);
                    }
                    self.cursor.at = end;
                    return self.reference();
                }
                Some(b']') => {
                    if bytes[end..].starts_with(b"]]>") {
                        self.broken(
                            end,
                            end + 3,
                            "the characters ]]> stand outside a CDATA section",
                            "write ]]&gt;",
                            "they are read as text",
                        )?;
                    }
                    at = end + 1;
                }
                Some(_) => {
                    let character = self.cursor.text[end..].chars().next().unwrap_or('\0');
                    let behind = end + character.len_utf8();
                    if !chars::is_char(character) {
                        self.refused_character(end, character)?;
                        self.add_text(start, &self.cursor.text[start..end]);
                        self.cursor.at = behind;
                        return Ok(());
                    }
                    at = behind;
                }
            }
        }
    }

    pub(super) fn refused_character(&mut self, at: usize, character: char) -> Read<()> {
        self.broken(
            at,
            at + character.len_utf8(),
            format!("the character U+{:04X} cannot stand in XML", character as u32),
            "take it away, or read with --lenient",
            "it is left out",
        )
    }

    /// Adds a piece to the text between two tags.
    fn add_text(&mut self, start: usize, piece: &'a str) {
        match self.text {
            None => self.text = Some((self.origin(start), piece)),
            Some((_, first)) => {
                if !self.is_joined {
                    self.joined.clear();
                    self.joined.push_str(first);
                    self.is_joined = true;
                }
                self.joined.push_str(piece);
            }
        }
    }

    fn add_character(&mut self, start: usize, character: char) {
        if self.text.is_none() {
            self.text = Some((self.origin(start), ""));
        }
        self.add_text(start, "");
        self.joined.push(character);
    }

    /// Puts the text that was read into the content.
    #[inline]
    fn end_text(&mut self) {
        if let Some((origin, text)) = self.text.take() {
            let text = if self.is_joined { self.arena.text(&self.joined) } else { text };
            self.is_joined = false;
            if !text.is_empty() {
                self.nodes.push(Node::Text(origin, text));
            }
        }
    }

    /// `&…;` in content.
    fn reference(&mut self) -> Read<()> {
        let start = self.cursor.at;
        let (name, end) = match entities::reference(self.cursor.text, start) {
            Ok((Reference::Character(character), end)) => {
                self.cursor.at = end;
                self.add_character(start, character);
                return Ok(());
            }
            Ok((Reference::Entity(name), end)) => (name, end),
            Err(fault) => {
                self.mend(fault, "it is read as text")?;
                self.cursor.at = start + 1;
                self.add_text(start, "&");
                return Ok(());
            }
        };
        self.cursor.at = end;
        let fault = |(message, advice)| Fault { start, end, message, advice };
        match self.dtd.entity(name) {
            Some((known, Entity::Internal(text))) => {
                if self.outer.iter().any(|outer| outer.entity == known) {
                    // Without end, so there is nothing to repair.
                    let Fault { message, advice, .. } = fault(entities::recursive(name));
                    return Err(self.cursor.error(start, end, message, advice));
                }
                if let Err((message, advice)) = self.budget.spend(text.len()) {
                    return Err(self.cursor.error(start, end, message, advice));
                }
                let stands_for = Some(self.cursor.stands_for.unwrap_or((start, end)));
                let inner = Cursor { text, at: 0, stands_for };
                let cursor = std::mem::replace(&mut self.cursor, inner);
                self.outer.push(Outer { cursor, entity: known, open: self.open.len() });
                return Ok(());
            }
            Some((_, Entity::External)) => self.leave_unread(start, end, name),
            None if self.dtd.is_open() => self.leave_unread(start, end, name),
            Some((_, Entity::Unparsed)) => {
                let message = format!("the entity &{name}; is data, not text");
                self.mend(
                    fault((message, "name it in an attribute of type ENTITY")),
                    "it is read as text",
                )?;
            }
            None => self.mend(fault(entities::undeclared(name)), "it is read as text")?,
        }
        self.add_text(start, &self.cursor.text[start..end]);
        Ok(())
    }

    fn leave_unread(&mut self, start: usize, end: usize, name: &str) {
        let message = format!(
            "the entity &{name}; is declared outside the document, which is never fetched; it is read as it is written"
        );
        let (start, end) = self.cursor.stands_for.unwrap_or((start, end));
        self.unread.push(Repair { message, start, end });
    }

    /// `<![CDATA[…]]>` (production 18).
    pub(super) fn character_data(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += "<![CDATA[".len();
        let at = self.cursor.at;
        let text = match self.cursor.until("]]>") {
            Some(text) => text,
            None => {
                self.unclosed(
                    start,
                    at,
                    "this CDATA section is not closed",
                    "write ]]>",
                    "it ends with the input",
                )?;
                let rest = self.cursor.rest();
                self.cursor.at = self.cursor.text.len();
                rest
            }
        };
        let text = self.clean(text, at)?;
        self.add_text(start, text);
        Ok(())
    }

    /// Refuses characters that may not stand in a document; in a repair, gives the text without them.
    fn clean(&mut self, text: &'a str, at: usize) -> Read<&'a str> {
        match chars::first_refused(text) {
            None => Ok(text),
            Some((offset, character)) => {
                self.refused_character(at + offset, character)?;
                let clean: String = text.chars().filter(|c| chars::is_char(*c)).collect();
                Ok(self.arena.text(&clean))
            }
        }
    }

    /// `<!--…-->` (production 15).
    pub(super) fn comment(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += "<!--".len();
        let at = self.cursor.at;
        let mut text = self.cursor.until("--");
        if text.is_some() && !self.cursor.eat(">") {
            let hyphens = self.cursor.at - 2;
            self.broken(
                hyphens,
                hyphens + 2,
                "two hyphens stand inside a comment",
                "take one away",
                "the comment is read up to -->",
            )?;
            self.cursor.at = at;
            text = self.cursor.until("-->");
        }
        let Some(text) = text else {
            self.unclosed(
                start,
                start + 4,
                "this comment is not closed",
                "write -->",
                "the rest is left out",
            )?;
            self.cursor.at = self.cursor.text.len();
            return Ok(());
        };
        let text = self.clean(text, at)?;
        self.nodes.push(Node::Comment(self.origin(start), text));
        Ok(())
    }

    /// `<?target data?>` (production 16).
    pub(super) fn instruction(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += 2;
        let name = self.cursor.name();
        let named = self.cursor.at;
        let wrong = match name {
            None => Some("a processing instruction begins with a name"),
            Some(name) if name.eq_ignore_ascii_case("xml") => {
                Some("an XML declaration stands at the very start of the document, or nowhere")
            }
            Some(name) if self.options.namespaces && name.contains(':') => {
                Some("the name of a processing instruction has no colon")
            }
            Some(_) if !self.cursor.is_at("?>") && !self.cursor.space() => {
                Some("white space is missing behind the name of a processing instruction")
            }
            Some(_) => None,
        };
        let at = self.cursor.at;
        let data = self.cursor.until("?>");
        let end = if data.is_some() { self.cursor.at } else { named };
        let wrong = wrong.or(data.is_none().then_some("this processing instruction is not closed"));
        if let Some(wrong) = wrong {
            let advice = "take it away, or write <?name data?>";
            if data.is_some() {
                self.broken(start, end, wrong, advice, "it is left out")?;
            } else {
                self.unclosed(start, end, wrong, advice, "it is left out")?;
                self.cursor.at = self.cursor.text.len();
            }
            return Ok(());
        }
        let data = data.unwrap_or_default();
        let data = self.clean(data, at)?;
        let instruction = self.arena.pair(name.unwrap_or_default(), data);
        self.nodes.push(Node::Instruction(self.origin(start), instruction));
        Ok(())
    }

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
                "it is read as text",
            )?;
            self.cursor.at = end;
            self.add_text(start, "<");
            return Ok(());
        }
        if self.open.len() >= self.options.depth {
            let message = format!("elements nest deeper than {} levels", self.options.depth);
            let advice = "raise the limit with --depth N if this is meant";
            return Err(self.cursor.error(start, end, message, advice));
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
        let name = if self.options.drop_namespaces {
            self.drop_prefixes();
            Name::plain(name.local())
        } else {
            name
        };
        let attributes = self.arena.attributes(&self.attributes);
        let first = self.nodes.len();
        self.open.push(Open { start, name, written: raw, attributes, first, scope });
        if is_empty {
            self.close();
        }
        Ok(())
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
    fn end_tag(&mut self) -> Read<()> {
        let start = self.cursor.at;
        let bytes = self.cursor.bytes();
        let depth = self.outer.last().map_or(0, |outer| outer.open);
        if self.open.len() > depth
            && let Some(open) = self.open.last()
        {
            let name = open.written.as_bytes();
            let from = start + 2;
            if bytes[from..].starts_with(name) && bytes.get(from + name.len()) == Some(&b'>') {
                self.cursor.at = from + name.len() + 1;
                self.close();
                return Ok(());
            }
        }
        self.odd_end_tag(depth)
    }

    /// An end tag that is not just the name of the innermost element.
    #[cold]
    fn odd_end_tag(&mut self, depth: usize) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += 2;
        let name = self.cursor.name().unwrap_or_default();
        let end = self.cursor.at;
        self.cursor.space();
        if !self.cursor.eat(">") {
            let at = self.cursor.at;
            let (message, advice) = ("this end tag is not closed", "write </name>");
            if self.cursor.peek().is_none() {
                self.unclosed(at, at + 1, message, advice, "it is read as closed")?;
            } else {
                self.broken(at, at + 1, message, advice, "it is read as closed")?;
            }
            // What stands in the tag is no text.
            let rest = self.cursor.rest();
            let length = rest.find(['<', '>']).unwrap_or(rest.len());
            self.cursor.at += length;
            self.cursor.eat(">");
        }
        let inner = self.open.get(depth..).unwrap_or_default();
        let Some(position) = inner.iter().rposition(|open| open.written == name) else {
            if let (Some(open), false) = (inner.last(), self.options.lenient) {
                return Err(self.crossed(start, end, name, open));
            }
            return self.broken(
                start,
                end,
                format!("</{name}> closes no element that is open"),
                "take it away",
                "it is left out",
            );
        };
        if position + 1 < inner.len()
            && let (Some(open), false) = (inner.last(), self.options.lenient)
        {
            return Err(self.crossed(start, end, name, open));
        }
        let target = depth + position;
        while self.open.len() > target + 1
            && let Some(open) = self.open.last()
        {
            let (at, inner) = (open.start, open.written);
            let line = kyanite_tree::LineColumn::of(self.cursor.bytes(), start);
            let message =
                format!("<{inner}> is not closed; it is read as closed before </{name}> at {line}");
            let (start, end) = self.cursor.stands_for.unwrap_or((at, at + 1 + inner.len()));
            self.repairs.push(Repair { message, start, end });
            self.close();
        }
        self.close();
        Ok(())
    }

    fn crossed(&self, start: usize, end: usize, name: &str, open: &Open<'_>) -> SyntaxError {
        let inner = open.written;
        let message = format!("</{name}> stands where </{inner}> is missing");
        let advice = "close elements in the reverse order, or read with --lenient";
        let mut error = self.cursor.error(start, end, message, advice);
        error.also = self.cursor.stands_for.is_none().then_some(open.start);
        error
    }

    #[cold]
    pub(super) fn stray_end_tag(&mut self) -> Read<()> {
        self.odd_end_tag(0)
    }

    /// Makes an element of the innermost open one.
    #[inline]
    fn close(&mut self) {
        let Some(open) = self.open.pop() else { return };
        self.scope.leave(open.scope);
        let nodes = &self.nodes[open.first..];
        let text = match nodes {
            [] => Some(""),
            [Node::Text(_, text)] => Some(*text),
            [Node::Element(..), ..] => None,
            nodes => leaf_text(nodes, self.arena),
        };
        let content = self.arena.nodes(nodes);
        let element = Element { name: open.name, attributes: open.attributes, content, text };
        let element = self.arena.element(element);
        self.nodes.truncate(open.first);
        self.nodes.push(Node::Element(self.origin(open.start), element));
    }

    /// The origin of what begins at `start`; in the text of an entity, that of the reference.
    #[inline]
    pub(super) fn origin(&self, start: usize) -> Origin {
        let at = match self.cursor.stands_for {
            None => start,
            Some((reference, _)) => reference,
        };
        Origin::new(self.options.document, at)
    }

    /// Fails for something that is not well-formed or, in a lenient read, lists that it is read as `repair` says.
    #[cold]
    pub(super) fn broken(
        &mut self,
        start: usize,
        end: usize,
        message: impl Into<String>,
        advice: &'static str,
        repair: &str,
    ) -> Read<()> {
        let error = self.cursor.error(start, end, message, advice);
        if !self.options.lenient {
            return Err(error);
        }
        let message = format!("{}; {repair}", error.message);
        self.repairs.push(Repair { message, start: error.start, end: error.end });
        Ok(())
    }

    /// The same for something that more text at the end might close.
    #[cold]
    pub(super) fn unclosed(
        &mut self,
        start: usize,
        end: usize,
        message: &str,
        advice: &'static str,
        repair: &str,
    ) -> Read<()> {
        self.broken(start, end, message, advice, repair)
            .map_err(|error| SyntaxError { wants_more: true, ..error })
    }

    #[cold]
    pub(super) fn mend(&mut self, fault: Fault, repair: &str) -> Read<()> {
        self.broken(fault.start, fault.end, fault.message, fault.advice, repair)
    }
}

/// The text of content without elements.
fn leaf_text<'a>(nodes: &[Node<'a>], arena: &'a Arena) -> Option<&'a str> {
    let mut texts = Vec::new();
    for node in nodes {
        match node {
            Node::Element(..) => return None,
            Node::Text(_, text) => texts.push(*text),
            _ => {}
        }
    }
    Some(match texts.as_slice() {
        [text] => text,
        texts => arena.concat(texts),
    })
}

impl<'a> Document<'a> {
    /// The document as a value.
    #[must_use]
    pub fn value(&self) -> Value<'a> {
        Value::Element(self.origin, self.root)
    }
}
