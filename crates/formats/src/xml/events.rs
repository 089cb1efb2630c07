//! Reads a document by its events: elements begin and end, with text, comments and processing instructions between.
//!
//! The text may be only a part of a document, behind its [`Prolog`]; between two parts an [`Ancestry`] says which elements are
//! open, as for the [`RecordReader`](super::RecordReader). Only the open elements are held.
//!
//! ```
//! use kyanite_formats::xml::{Ancestry, Event, EventReader, Options, prolog};
//! use kyanite_tree::Arena;
//!
//! let (text, arena) = ("<pier no='4'>Ness</pier>", Arena::new());
//! let prolog = prolog(text, &arena, Options::default(), true).unwrap();
//! let mut events = EventReader::new(text, &arena, &prolog, Options::default(), Ancestry::default());
//! events.seek(prolog.end);
//! events.is_last();
//! assert!(matches!(events.next_event(), Ok(Some(Event::Begin { name, .. })) if name.local() == "pier"));
//! assert_eq!(events.attributes()[0].value, "4");
//! assert!(matches!(events.next_event(), Ok(Some(Event::Text(_, "Ness")))));
//! assert!(matches!(events.next_event(), Ok(Some(Event::End(_)))));
//! assert!(matches!(events.next_event(), Ok(None)));
//! ```

use std::borrow::Cow;

use kyanite_tree::{Arena, Attribute, Content, Name, Origin, Value};

use super::ancestry::Ancestry;
use super::prolog::Prolog;
use super::read::{Ancestor, Options, Read, Reader};
use super::repair::Repair;
use super::stand::Stand;
use crate::SyntaxError;

/// Something that a document is made of, with where it begins.
#[derive(Clone, Copy, Debug)]
pub enum Event<'a> {
    /// An element begins; its attributes are told by [`EventReader::attributes`] until the next event.
    Begin {
        /// Where its tag begins.
        origin: Origin,
        /// Its name.
        name: Name<'a>,
    },
    /// The innermost element ends, with an end tag that begins there, or with its start tag if it is empty.
    End(Origin),
    /// Text; there may be more right behind it.
    Text(Origin, &'a str),
    /// A comment.
    Comment(Origin, &'a str),
    /// A processing instruction: its target and its data.
    Instruction(Origin, &'a str, &'a str),
}

/// Reads the events of a document, or of a part of one.
pub struct EventReader<'a> {
    reader: Reader<'a>,
    /// How many pieces of text and the like were given on of those that were read.
    given: usize,
    /// The name of an element whose start tag was read and not given on.
    begun: Option<(Origin, Name<'a>)>,
    /// How many elements ended that were not given on, and where the tag begins that did it.
    ended: (usize, Origin),
    /// How many elements are open by what was read.
    depth: usize,
    /// Up to where the text was read and need not be read again.
    committed: usize,
    /// Where elements begin that are known not to end in the text, in order.
    cut: Vec<usize>,
}

impl<'a> EventReader<'a> {
    /// A reader of a part of a document that begins at `place`, behind the prolog.
    #[must_use]
    pub fn new(
        text: &'a str,
        arena: &'a Arena,
        prolog: &'a Prolog<'a>,
        options: Options,
        place: Ancestry<'a>,
    ) -> Self {
        let mut reader = Reader::new(text, arena, options);
        reader.dtd = Cow::Borrowed(&prolog.dtd);
        reader.makes_nothing = true;
        (reader.is_part, reader.has_root) = (true, place.has_root);
        reader.around = place.open.to_vec();
        for ancestor in place.open {
            reader.scope.enter(ancestor.bindings);
        }
        let depth = reader.around.len();
        let (ended, cut) = ((0, Origin::NONE), Vec::new());
        Self { reader, given: 0, begun: None, ended, depth, committed: 0, cut }
    }

    /// The same reader of a part behind which nothing follows.
    pub fn is_last(&mut self) {
        self.reader.is_part = false;
    }

    /// Goes on reading at byte `offset`.
    pub fn seek(&mut self, offset: usize) {
        self.reader.cursor.at = offset;
        self.committed = offset;
    }

    /// Where the next part begins, once this one was read to its end.
    #[must_use]
    pub fn place(&self, arena: &'a Arena) -> Ancestry<'a> {
        let mut open = self.reader.around.clone();
        for (at, inner) in self.reader.open.iter().enumerate() {
            let end = self.reader.open.get(at + 1).map(|next| next.scope);
            let own = self.reader.scope.since(inner.scope);
            let own = end.map_or(own, |end| &own[..end - inner.scope]);
            let (written, bindings) = (inner.written, arena.slice(own));
            open.push(Ancestor { written, bindings, element: None, tag: None });
        }
        Ancestry::at(arena.slice(&open), self.reader.has_root)
    }

    /// The offset up to which the text need not be read again.
    #[must_use]
    pub fn committed(&self) -> usize {
        self.committed
    }

    /// Up to where the text was read.
    #[must_use]
    pub fn position(&self) -> usize {
        self.reader.cursor.at
    }

    /// Where the element begins that comes next, inside another, if that is what comes next; not in the text of an entity. One may then
    /// [go on](Self::seek) behind it.
    #[inline]
    #[must_use]
    pub fn at_element(&self) -> Option<usize> {
        let reader = &self.reader;
        let is_between = self.given == reader.nodes.len()
            && self.begun.is_none()
            && self.ended.0 == 0
            && reader.text.is_none()
            && reader.outer.is_empty();
        let at = reader.cursor.at;
        let begins = || match reader.cursor.bytes().get(at..) {
            Some([b'<', next, ..]) => !matches!(next, b'/' | b'!' | b'?'),
            _ => false,
        };
        (is_between && self.depth > 0 && begins()).then_some(at)
    }

    /// Reads the element whole that comes next, if [one does](Self::at_element) and it ends in the text; its events are then not given.
    ///
    /// # Errors
    /// A [`SyntaxError`].
    pub fn element(&mut self) -> Result<Option<Value<'a>>, SyntaxError> {
        let Some(at) = self.at_element() else { return Ok(None) };
        // Whatever stands before it was given.
        self.committed = at;
        if self.cut.binary_search(&at).is_ok() {
            return Ok(None);
        }
        let reader = &mut self.reader;
        let (before, open) = (Stand::of(reader), reader.open.len());
        reader.makes_nothing = false;
        let read = reader.start_tag().and_then(|()| reader.content_of(open));
        reader.makes_nothing = true;
        let element = reader.last_element();
        reader.closed = 0;
        let is_cut = read.as_ref().is_err_and(SyntaxError::wants_more) && reader.is_part;
        if is_cut || reader.open.len() != open || element.is_none() {
            // Whatever is open at the end of the text does not end in it.
            self.cut = reader.open.iter().skip(open).map(|open| open.start).collect();
            before.restore(&mut self.reader);
            self.given = 0;
            read.or_else(|error| if is_cut { Ok(()) } else { Err(error) })?;
            return Ok(None);
        }
        read?;
        self.reader.forget();
        self.given = 0;
        self.committed = self.reader.cursor.at;
        Ok(element)
    }

    /// The attributes of the element that began last, declarations of namespaces among them.
    #[must_use]
    pub fn attributes(&self) -> &[Attribute<'a>] {
        &self.reader.attributes
    }

    /// What was repaired since this was last asked, and references that lead out of the document.
    pub fn take_repairs(&mut self) -> Vec<Repair> {
        std::mem::take(&mut self.reader.repairs)
    }

    /// The next event, or `None` at the end of the text.
    ///
    /// # Errors
    /// A [`SyntaxError`]; it wants more when the text ends inside something.
    #[inline]
    pub fn next_event(&mut self) -> Result<Option<Event<'a>>, SyntaxError> {
        loop {
            if let Some(content) = self.reader.nodes.get(self.given) {
                self.given += 1;
                return Ok(Some(match *content {
                    Content::Text(origin, text) => Event::Text(origin, text),
                    Content::Comment(origin, text) => Event::Comment(origin, text),
                    Content::Instruction(origin, (target, data)) => {
                        Event::Instruction(origin, target, data)
                    }
                    Content::Element(..) | Content::DocumentType(..) => continue,
                }));
            }
            if let Some((origin, name)) = self.begun.take() {
                return Ok(Some(Event::Begin { origin, name }));
            }
            if self.ended.0 > 0 {
                self.ended.0 -= 1;
                return Ok(Some(Event::End(self.ended.1)));
            }
            self.reader.nodes.clear();
            self.given = 0;
            if self.reader.outer.is_empty() && self.reader.text.is_none() {
                self.committed = self.reader.cursor.at;
            }
            if self.step()? {
                return Ok(None);
            }
        }
    }

    /// Reads one piece of the text; tells whether its end was reached.
    fn step(&mut self) -> Read<bool> {
        let reader = &mut self.reader;
        let bytes = reader.cursor.bytes();
        let at = reader.cursor.at;
        if self.depth == 0 {
            if reader.before_root()? && reader.cursor.peek().is_some() {
                if reader.has_root {
                    reader.second_root(reader.cursor.at)?;
                }
                self.tag()?;
                self.reader.has_root = true;
                return Ok(false);
            }
            return if reader.cursor.peek().is_some() {
                Ok(false)
            } else if reader.is_part || reader.has_root {
                Ok(true)
            } else {
                Err(reader.no_element())
            };
        }
        let is_cut = |reader: &Reader<'_>, sign: &str| {
            reader.is_part && reader.outer.is_empty() && reader.cursor.rest().len() < sign.len()
        };
        match bytes.get(at) {
            Some(b'<') => match bytes.get(at + 1) {
                None if is_cut(reader, "<>") => return Err(reader.cut_off()),
                Some(b'/') => {
                    let origin = reader.origin(at);
                    reader.end_text();
                    reader.end_tag()?;
                    self.note_ended(origin);
                }
                Some(b'!') if reader.cursor.is_at("<![CDATA[") => reader.character_data()?,
                Some(b'!') if reader.cursor.is_at("<!--") => {
                    reader.end_text();
                    reader.comment()?;
                }
                Some(b'!') if is_cut(reader, "<![CDATA[") => return Err(reader.cut_off()),
                Some(b'?') => {
                    reader.end_text();
                    reader.instruction()?;
                }
                // What stands before a tag is given on before the tag is read.
                _ if reader.text.is_some() => reader.end_text(),
                _ => self.tag()?,
            },
            Some(_) => {
                reader.plain_text()?;
                self.keep_brackets()?;
            }
            None => return self.at_end(),
        }
        Ok(false)
    }

    /// A start tag.
    fn tag(&mut self) -> Read<()> {
        let origin = self.reader.origin(self.reader.cursor.at);
        let closed = self.reader.closed;
        self.reader.start_tag()?;
        // What was no tag was read as text.
        if let Some(name) = self.reader.begun.take() {
            self.begun = Some((origin, name));
            self.depth += 1;
            if self.reader.closed > closed {
                self.ended = (1, origin);
                self.depth -= 1;
            }
        }
        self.reader.closed = 0;
        Ok(())
    }

    fn note_ended(&mut self, origin: Origin) {
        self.ended = (std::mem::take(&mut self.reader.closed), origin);
        self.depth -= self.ended.0.min(self.depth);
    }

    /// The text ends: that of an entity, of a part, or of the document.
    fn at_end(&mut self) -> Read<bool> {
        let end = self.reader.origin(self.reader.cursor.at);
        if self.reader.outer.is_empty() && self.reader.is_part {
            self.reader.end_text();
            self.committed = self.reader.cursor.at;
            return Ok(self.reader.nodes.is_empty());
        }
        // Text that goes on behind an entity is a piece of its own: what was read is then all given on.
        self.reader.end_text();
        self.reader.end_of_input()?;
        self.note_ended(end);
        Ok(false)
    }

    /// Leaves brackets at the end of the part to be read again: `]]>` may begin with them.
    fn keep_brackets(&mut self) -> Read<()> {
        let reader = &mut self.reader;
        let end = reader.cursor.text.len();
        let may_go_on = reader.is_part && reader.outer.is_empty() && reader.cursor.at == end;
        if may_go_on && reader.cursor.text.ends_with(']') {
            // All of the text is read again.
            (reader.text, reader.is_joined) = (None, false);
            return Err(reader.cut_off());
        }
        Ok(())
    }
}
