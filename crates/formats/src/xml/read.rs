//! The XML reader: text in, elements in an arena out, in one pass without recursion.
//!
//! What is not well-formed ends the read with its place or, in a lenient one, is repaired, and the repair listed.

mod ends;
mod text;

pub use ends::{node_end, value_end};
use std::borrow::Cow;
use std::collections::HashSet;

use kyanite_tree::{
    Advice, Arena, Attribute, Base, Content, Element, Name, Nodes, NodesBuilder, Origin, Setting,
    Span, Value,
};

use super::cursor::Cursor;
use super::dropped::Dropping;
use super::dtd::Dtd;
use super::entities::Budget;
use super::names::Scope;
use super::projected_elements::ProjectedElements;
use super::repair::{MarkupError, Repair};
use crate::SyntaxError;
use crate::projection::Projected;

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

/// A document that was read.
#[derive(Debug)]
pub struct Document<'a> {
    /// The document as an element without a name.
    pub root: &'a Element<'a>,
    /// Where it is.
    pub origin: Origin,
    /// What was repaired, and references that were left as they are written, since they lead out of the document.
    pub repairs: Vec<Repair>,
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

/// Reads a document as a table of its nodes, as [`document`] reads it as elements; gives what was repaired, too.
///
/// # Errors
/// As [`document`].
pub fn nodes<'a>(
    text: &'a str,
    arena: &'a Arena,
    options: Options,
) -> Result<(Nodes<'a>, Vec<Repair>), SyntaxError> {
    Reader::new(text, arena, options).into_nodes()
}

pub(super) struct Reader<'a> {
    pub(super) cursor: Cursor<'a>,
    pub(super) arena: &'a Arena,
    pub(super) options: Options,
    pub(super) dtd: Cow<'a, Dtd<'a>>,
    pub(super) budget: Budget,
    pub(super) scope: Scope<'a>,
    /// The attributes of the tag that is being read.
    pub(super) attributes: Vec<Attribute<'a>>,
    pub(super) seen: HashSet<(&'a str, &'a str)>,
    /// The texts around the entities that are being read.
    pub(super) outer: Vec<Outer<'a>>,
    /// The elements around what is read, outermost first: those that begin before the text, or that nothing is made of.
    pub(super) around: Vec<Ancestor<'a>>,
    /// The content of the elements that are open.
    pub(super) nodes: Vec<Content<'a>>,
    /// The table of nodes that is filled in place of making elements, if that is wanted.
    pub(super) table: Option<NodesBuilder<'a>>,
    pub(super) open: Vec<Open<'a>>,
    /// The text that has been read since the last markup.
    pub(super) text: Option<(Origin, &'a str)>,
    /// The same text, when it came in several pieces.
    pub(super) joined: String,
    pub(super) is_joined: bool,
    pub(super) has_root: bool,
    pub(super) has_type: bool,
    /// Whether the text is a part of a document that more may follow, so that what is open at its end is no fault.
    pub(super) is_part: bool,
    pub(super) repairs: Vec<Repair>,
    /// Which names do without their namespaces, if they are dropped.
    pub(super) dropping: Dropping<'a>,
    /// What is needed of records; all without it.
    pub(super) projected_elements: Option<Box<ProjectedElements<'a>>>,
    /// Whether names and attributes of elements of which nothing is made are wanted.
    pub(super) keeps_around: bool,
    /// Whether elements are only told of as they begin and end, and nothing is made of them.
    pub(super) makes_nothing: bool,
    /// The element that began last, and how many ended, where that is told.
    pub(super) begun: Option<Name<'a>>,
    pub(super) closed: usize,
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
    pub(super) projected: Projected,
}

/// An open element of which nothing is made. Two are the same if they are called the same and declare the same namespaces.
#[derive(Clone, Copy, Debug)]
pub(super) struct Ancestor<'a> {
    pub(super) written: &'a str,
    /// The namespaces that it declares, with their prefixes.
    pub(super) bindings: &'a [(&'a str, &'a str)],
    /// Its name and its attributes, if they are wanted.
    pub(super) element: Option<&'a Element<'a>>,
    /// Where its start tag stands in the text that is read, if it is there, and not in that of an entity.
    pub(super) tag: Option<(usize, usize)>,
}

impl PartialEq for Ancestor<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.written == other.written && self.bindings == other.bindings
    }
}

impl Eq for Ancestor<'_> {}

impl Ancestor<'_> {
    /// Whether it declares namespaces.
    pub(super) fn declares(&self) -> bool {
        !self.bindings.is_empty()
    }
}

/// A text in which an entity is referred to, and how far it was read.
pub(super) struct Outer<'a> {
    pub(super) cursor: Cursor<'a>,
    pub(super) entity: &'a str,
    /// How many elements were open at the reference.
    pub(super) depth: usize,
}

pub(super) type Read<T> = Result<T, SyntaxError>;

/// What to do about a document that ends too early.
const CUT_OFF: (&str, Setting) =
    ("the input looks cut off: fetch it again, or read what is there with ", Setting::Lenient);

/// What to do about elements that are closed in another order than they should be.
pub(super) const IN_ORDER: (&str, Setting) =
    ("close elements in the reverse order, or read with ", Setting::Lenient);

/// How a name with an undeclared prefix is read.
pub(super) const NAMED: Mended = (MarkupError::Name, "it is read as a name of urn:undeclared");

/// How most of what is out of place is read.
const AS_TEXT: &str = "it is read as text";

/// What sort of fault is mended, and how.
pub(super) type Mended = (MarkupError, &'static str);

impl<'a> Reader<'a> {
    pub(super) fn new(text: &'a str, arena: &'a Arena, options: Options) -> Self {
        Self {
            cursor: Cursor::new(text),
            arena,
            options,
            dtd: Cow::default(),
            budget: Budget::new(options.expansion, options.depth),
            scope: Scope::default(),
            attributes: Vec::new(),
            seen: HashSet::new(),
            outer: Vec::new(),
            around: Vec::new(),
            nodes: Vec::new(),
            table: None,
            open: Vec::new(),
            text: None,
            joined: String::new(),
            is_joined: false,
            has_root: false,
            has_type: false,
            is_part: false,
            repairs: Vec::new(),
            dropping: Dropping::default(),
            projected_elements: None,
            keeps_around: false,
            makes_nothing: false,
            begun: None,
            closed: 0,
        }
    }

    /// Adds a piece to the content of the innermost open element.
    #[inline]
    pub(super) fn add(&mut self, content: Content<'a>) {
        match &mut self.table {
            None => self.nodes.push(content),
            Some(table) => table.content(content),
        }
    }

    /// Reads the document to its end (production 1).
    fn read(mut self) -> Read<Document<'a>> {
        self.whole()?;
        let content = self.arena.nodes(&self.nodes);
        let root = Element { name: Name::plain(""), attributes: &[], content, text: None };
        Ok(Document {
            root: self.arena.element(root),
            origin: self.options.base.origin(0),
            repairs: self.repairs,
        })
    }

    /// Reads the document into a table of nodes.
    fn into_nodes(mut self) -> Read<(Nodes<'a>, Vec<Repair>)> {
        let mut table = NodesBuilder::new();
        table.begins_at(self.options.base.origin(0));
        self.table = Some(table);
        self.whole()?;
        let table = self.table.take().unwrap_or_default();
        Ok((table.finish(), self.repairs))
    }

    fn whole(&mut self) -> Read<()> {
        self.declaration()?;
        loop {
            while !self.before_root()? {}
            if self.cursor.peek().is_none() {
                break;
            }
            if self.has_root {
                self.second_root(self.cursor.at)?;
            }
            self.has_root = true;
            self.start_tag()?;
            self.content()?;
        }
        if !self.has_root {
            return Err(self.no_element());
        }
        Ok(())
    }

    /// Reads what stands in the elements that are open, to the end tag of the outermost (production 43).
    pub(super) fn content(&mut self) -> Read<()> {
        self.content_of(0)
    }

    /// The same of the elements but for the outermost ones.
    pub(super) fn content_of(&mut self, outermost: usize) -> Read<()> {
        while self.open.len() > outermost {
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
                    _ => self.projected_tag()?,
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
            if !self.mends_ends() {
                return Err(self.ends_inside());
            }
            let end = self.cursor.text.len();
            while self.depth() > 0 {
                self.close_unclosed("at the end of the document", Span::new(end, end));
            }
            return Ok(());
        };
        let (entity, depth) = (outer.entity, outer.depth);
        if self.depth() > depth {
            let (start, end) = self.cursor.stands_for.unwrap_or_default();
            self.broken(
                start,
                end,
                format!("the entity &{entity}; opens an element that it does not close"),
                "write both tags in the entity, or none",
                (MarkupError::Unclosed, "the element is read as closed"),
            )?;
            self.end_text();
            while self.depth() > depth {
                self.close();
            }
        }
        if let Some(outer) = self.outer.pop() {
            self.cursor = outer.cursor;
        }
        Ok(())
    }

    /// The error about a text that ends inside a tag.
    #[cold]
    pub(super) fn cut_off(&self) -> SyntaxError {
        let end = self.cursor.text.len();
        let message = "the document ends inside a tag";
        self.cursor.error(end, end, message, CUT_OFF).if_more(true)
    }

    /// The error about a text that ends before the elements do that are open.
    #[cold]
    pub(super) fn ends_inside(&self) -> SyntaxError {
        let end = self.cursor.text.len();
        let message = match self.innermost() {
            Some(name) => format!("the document ends inside <{name}>"),
            None => "the document ends too early".into(),
        };
        let opened = self.open.last().map(|open| open.start);
        self.cursor.error(end, end, message, CUT_OFF).also(opened).if_more(true)
    }

    /// Whether what is open at the end of the text is mended: no more of it may follow.
    pub(super) fn mends_ends(&self) -> bool {
        self.options.lenient && !self.is_part
    }

    /// How many elements are open.
    pub(super) fn depth(&self) -> usize {
        self.around.len() + self.open.len()
    }

    /// How many elements are open around the text that is being read.
    pub(super) fn outer_depth(&self) -> usize {
        self.outer.last().map_or(0, |outer| outer.depth)
    }

    /// The name of the innermost open element, as it is written.
    pub(super) fn innermost(&self) -> Option<&'a str> {
        let around = || self.around.last().map(|ancestor| ancestor.written);
        self.open.last().map(|open| open.written).or_else(around)
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
        repair: Mended,
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
        repair: Mended,
    ) -> Read<()> {
        let error = self.cursor.placed(SyntaxError::new(start, end, message, advice));
        if self.is_part { Err(error.if_more(true)) } else { self.mend(error.if_more(true), repair) }
    }

    /// The same for an error about the text that the cursor is in.
    #[cold]
    pub(super) fn mend(&mut self, error: SyntaxError, (fault, repair): Mended) -> Read<()> {
        let error = self.cursor.placed(error);
        // What looks wrong at the end of a part may only be cut off.
        if self.is_part && self.outer.is_empty() && self.cursor.is_near_end(&error) {
            return Err(error.if_more(true));
        }
        if !self.options.lenient {
            return Err(error);
        }
        let message = format!("{}; {repair}", error.message());
        self.repairs.push(Repair { fault, message, span: error.span(), also: None });
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
