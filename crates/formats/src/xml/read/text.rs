//! Text between tags: characters, references, and what they mean where the text comes from entities.

use kyanite_tree::{Content, Setting, Span};

use super::{AS_TEXT, Outer, Read, Reader};
use crate::xml::chars;
use crate::xml::cursor::Cursor;
use crate::xml::dtd::Entity;
use crate::xml::entities::{self, Reference};
use crate::xml::repair::{MarkupError, Repair};

impl<'a> Reader<'a> {
    /// Text up to the next markup or reference (production 14).
    #[inline]
    pub(in crate::xml) fn plain_text(&mut self) -> Read<()> {
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
                        self.add(Content::Text(origin, &self.cursor.text[start..end]));
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
                            (MarkupError::Markup, "they are read as text"),
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

    pub(in crate::xml) fn refused_character(&mut self, at: usize, character: char) -> Read<()> {
        self.broken(
            at,
            at + character.len_utf8(),
            format!("the character U+{:04X} cannot stand in XML", character as u32),
            ("take it away, or read with ", Setting::Lenient),
            (MarkupError::Character, "it is left out"),
        )
    }

    /// Adds a piece to the text between two tags.
    pub(in crate::xml) fn add_text(&mut self, start: usize, piece: &'a str) {
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

    pub(in crate::xml) fn add_character(&mut self, start: usize, character: char) {
        if self.text.is_none() {
            self.text = Some((self.origin(start), ""));
        }
        self.add_text(start, "");
        self.joined.push(character);
    }

    /// Puts the text that was read into the content.
    #[inline]
    pub(in crate::xml) fn end_text(&mut self) {
        if let Some((origin, text)) = self.text.take() {
            let text = if self.is_joined { self.arena.text(&self.joined) } else { text };
            self.is_joined = false;
            if !text.is_empty() {
                self.add(Content::Text(origin, text));
            }
        }
    }

    /// `&…;` in content.
    pub(in crate::xml) fn reference(&mut self) -> Read<()> {
        let start = self.cursor.at;
        let (name, end) = match entities::reference(self.cursor.text, start) {
            Ok((Reference::Character(character), end)) => {
                self.cursor.at = end;
                self.add_character(start, character);
                return Ok(());
            }
            Ok((Reference::Entity(name), end)) => (name, end),
            Err(fault) => {
                self.mend(fault, (MarkupError::Reference, AS_TEXT))?;
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
                let entered = self.budget.enter(text, self.outer.len(), start, end);
                entered.map_err(|error| self.cursor.placed(error))?;
                let stands_for = Some(self.cursor.stands_for.unwrap_or((start, end)));
                let inner = Cursor::within(text, stands_for);
                let cursor = std::mem::replace(&mut self.cursor, inner);
                self.outer.push(Outer { cursor, entity: known, depth: self.depth() });
                return Ok(());
            }
            Some((_, Entity::External)) => self.leave_unread(start, end, name),
            None if self.dtd.is_open() => self.leave_unread(start, end, name),
            Some((_, Entity::Unparsed)) => {
                let message = format!("the entity &{name}; is data, not text");
                let advice = "name it in an attribute of type ENTITY";
                self.broken(start, end, message, advice, (MarkupError::Entity, AS_TEXT))?;
            }
            None => {
                self.mend(entities::undeclared(name, start, end), (MarkupError::Entity, AS_TEXT))?;
            }
        }
        self.add_text(start, &self.cursor.text[start..end]);
        Ok(())
    }

    pub(in crate::xml) fn leave_unread(&mut self, start: usize, end: usize, name: &str) {
        let message = format!(
            "the entity &{name}; is declared outside the document, which is never fetched; it is read as it is written"
        );
        let (start, end) = self.cursor.stands_for.unwrap_or((start, end));
        let (fault, span) = (MarkupError::Unread, Span::new(start, end));
        self.repairs.push(Repair { fault, message, span, also: None });
    }
}
