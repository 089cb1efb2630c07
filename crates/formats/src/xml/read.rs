//! The XML reader: text in, elements in an arena out, in one pass without recursion.
//!
//! What is not well-formed ends the read with its place or, in a lenient one, is repaired, and the repair listed.

use std::collections::HashSet;

use kyanite_tree::{
    Advice, Arena, Attribute, Base, Element, Name, Node, Origin, Setting, Span, Value,
};

use super::chars;
use super::cursor::Cursor;
use super::dtd::{Dtd, Entity};
use super::entities::{self, Budget, Reference};
use super::names::Scope;
use super::needed::Needed;
use crate::SyntaxError;
use crate::needs::Need;

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
    /// Where the text begins in the space of origins.
    pub base: Base,
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
            base: Base::default(),
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
    pub(super) outer: Vec<Outer<'a>>,
    /// The content of the elements that are open.
    pub(super) nodes: Vec<Node<'a>>,
    pub(super) open: Vec<Open<'a>>,
    /// The text that has been read since the last markup.
    pub(super) text: Option<(Origin, &'a str)>,
    /// The same text, when it came in several pieces.
    pub(super) joined: String,
    pub(super) is_joined: bool,
    pub(super) has_root: bool,
    pub(super) has_type: bool,
    pub(super) repairs: Vec<Repair>,
    pub(super) unread: Vec<Repair>,
    /// What is needed of records; all without it.
    pub(super) needed: Option<Box<Needed<'a>>>,
}

/// An element whose end tag has not been read.
pub(super) struct Open<'a> {
    pub(super) start: usize,
    pub(super) name: Name<'a>,
    /// The name as it stands in the tag.
    pub(super) written: &'a str,
    pub(super) attributes: &'a [Attribute<'a>],
    /// Where its content begins in the nodes.
    pub(super) first: usize,
    /// How many namespaces were declared around it.
    pub(super) scope: usize,
    /// What is needed of it.
    pub(super) need: Need,
}

/// A text in which an entity is referred to, and how far it was read.
pub(super) struct Outer<'a> {
    pub(super) cursor: Cursor<'a>,
    pub(super) entity: &'a str,
    /// How many elements were open at the reference.
    pub(super) open: usize,
}

pub(super) type Read<T> = Result<T, SyntaxError>;

/// What to do about a document that ends too early.
pub(super) const CUT_OFF: (&str, Setting) =
    ("the input looks cut off: fetch it again, or read what is there with ", Setting::Lenient);

/// What to do about elements that are closed in another order than they should be.
pub(super) const IN_ORDER: (&str, Setting) =
    ("close elements in the reverse order, or read with ", Setting::Lenient);

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
            needed: None,
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
            origin: self.options.base.origin(0),
            repairs: self.repairs,
            unread: self.unread,
        })
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
                    _ => self.needed_tag()?,
                },
                Some(_) => self.plain_text()?,
                None => self.end_of_input()?,
            }
        }
        Ok(())
    }

    /// What ends here is the text of an entity, or a document that was cut off.
    pub(super) fn end_of_input(&mut self) -> Read<()> {
        let Some(outer) = self.outer.last() else {
            self.end_text();
            let end = self.cursor.text.len();
            if !self.options.lenient {
                let message = match self.open.last() {
                    Some(open) => format!("the document ends inside <{}>", open.written),
                    None => "the document ends too early".into(),
                };
                let opened = self.open.last().map(|open| open.start);
                let error = self.cursor.error(end, end, message, CUT_OFF);
                return Err(error.also(opened).if_more(true));
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
            ("take it away, or read with ", Setting::Lenient),
            "it is left out",
        )
    }

    /// Adds a piece to the text between two tags.
    pub(super) fn add_text(&mut self, start: usize, piece: &'a str) {
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

    pub(super) fn add_character(&mut self, start: usize, character: char) {
        if self.text.is_none() {
            self.text = Some((self.origin(start), ""));
        }
        self.add_text(start, "");
        self.joined.push(character);
    }

    /// Puts the text that was read into the content.
    #[inline]
    pub(super) fn end_text(&mut self) {
        if let Some((origin, text)) = self.text.take() {
            let text = if self.is_joined { self.arena.text(&self.joined) } else { text };
            self.is_joined = false;
            if !text.is_empty() {
                self.nodes.push(Node::Text(origin, text));
            }
        }
    }

    /// `&…;` in content.
    pub(super) fn reference(&mut self) -> Read<()> {
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
        match self.dtd.entity(name) {
            Some((known, Entity::Internal(text))) => {
                if self.outer.iter().any(|outer| outer.entity == known) {
                    // Without end, so there is nothing to repair.
                    return Err(self.cursor.placed(entities::recursive(name, start, end)));
                }
                let spent = self.budget.spend(text.len(), start, end);
                spent.map_err(|error| self.cursor.placed(error))?;
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
                let advice = "name it in an attribute of type ENTITY";
                self.broken(start, end, message, advice, "it is read as text")?;
            }
            None => self.mend(entities::undeclared(name, start, end), "it is read as text")?,
        }
        self.add_text(start, &self.cursor.text[start..end]);
        Ok(())
    }

    pub(super) fn leave_unread(&mut self, start: usize, end: usize, name: &str) {
        let message = format!(
            "the entity &{name}; is declared outside the document, which is never fetched; it is read as it is written"
        );
        let (start, end) = self.cursor.stands_for.unwrap_or((start, end));
        self.unread.push(Repair { message, start, end });
    }

    /// The origin of what begins at `start`; in the text of an entity, that of the reference.
    #[inline]
    pub(super) fn origin(&self, start: usize) -> Origin {
        let at = match self.cursor.stands_for {
            None => start,
            Some((reference, _)) => reference,
        };
        self.options.base.origin(at)
    }

    /// Fails for something that is not well-formed or, in a lenient read, lists that it is read as `repair` says.
    #[cold]
    pub(super) fn broken(
        &mut self,
        start: usize,
        end: usize,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
        repair: &str,
    ) -> Read<()> {
        self.mend(SyntaxError::new(start, end, message, advice), repair)
    }

    /// The same for something that more text at the end might close.
    #[cold]
    pub(super) fn unclosed(
        &mut self,
        start: usize,
        end: usize,
        message: &str,
        advice: impl Into<Advice<Span>>,
        repair: &str,
    ) -> Read<()> {
        self.broken(start, end, message, advice, repair).map_err(|error| error.if_more(true))
    }

    /// The same for an error about the text that the cursor is in.
    #[cold]
    pub(super) fn mend(&mut self, error: SyntaxError, repair: &str) -> Read<()> {
        let error = self.cursor.placed(error);
        if !self.options.lenient {
            return Err(error);
        }
        let Span { start, end } = error.span();
        self.repairs.push(Repair { message: format!("{}; {repair}", error.message()), start, end });
        Ok(())
    }
}

impl<'a> Document<'a> {
    /// The document as a value.
    #[must_use]
    pub fn value(&self) -> Value<'a> {
        Value::Element(self.origin, self.root)
    }
}
