//! The attributes of a start tag (XML 1.0 sections 3.1 and 3.3).

use std::collections::HashMap;

use kyanite_tree::{Attribute, Name, Origin};

use super::chars;
use super::cursor::behind;
use super::entities;
use super::read::{NAMED, Reader};
use super::repair::MarkupError;
use crate::SyntaxError;

type Read<T> = Result<T, SyntaxError>;

/// The most attributes that are compared with each other; more go through a hash table.
const FEW: usize = 12;

impl<'a> Reader<'a> {
    /// Reads the attributes of the tag that begins at `start`, behind its name, into `self.attributes`. Tells whether the
    /// tag is that of an empty element; None when the input ended in it, and it is left out.
    #[inline]
    pub(super) fn attributes(&mut self, start: usize) -> Read<Option<bool>> {
        self.attributes.clear();
        let named = self.cursor.at;
        let is_empty = loop {
            let before = self.cursor.at;
            self.cursor.space();
            match self.cursor.peek() {
                Some(b'>') => {
                    self.cursor.at += 1;
                    break false;
                }
                Some(b'/') if self.cursor.is_at("/>") => {
                    self.cursor.at += 2;
                    break true;
                }
                None => {
                    if !self.mends_ends() {
                        let opened = self.cursor.stands_for.is_none().then_some(start);
                        return Err(self.cut_off().also(opened));
                    }
                    self.broken(
                        start,
                        named,
                        "the document ends inside this tag",
                        "",
                        (MarkupError::Tag, "it is left out"),
                    )?;
                    return Ok(None);
                }
                Some(b'<') => {
                    let at = self.cursor.at;
                    self.broken(
                        at,
                        at + 1,
                        "a < stands inside a tag",
                        "write > before it",
                        (MarkupError::Tag, "the tag is read as closed"),
                    )?;
                    break false;
                }
                Some(_) => self.attribute(before)?,
            }
        };
        if self.dtd.has_attributes() {
            self.declared(start, named)?;
        }
        if !self.attributes.is_empty() {
            self.resolve()?;
        }
        Ok(Some(is_empty))
    }

    /// Reads `name="value"`.
    #[inline]
    fn attribute(&mut self, before: usize) -> Read<()> {
        let start = self.cursor.at;
        if start == before {
            self.broken(
                start,
                start + 1,
                "white space is missing before this attribute",
                "write a blank between attributes",
                (MarkupError::Attribute, "it is read as if it stood there"),
            )?;
        }
        let Some(name) = self.cursor.name() else {
            let length = self.cursor.rest().chars().next().map_or(1, char::len_utf8);
            self.broken(
                start,
                start + length,
                "no attribute begins like this",
                "attributes are written name=\"value\"",
                (MarkupError::Attribute, "the character is left out"),
            )?;
            self.cursor.at = start + length;
            return Ok(());
        };
        let named = self.cursor.at;
        if self.cursor.peek() != Some(b'=') {
            self.cursor.space();
        }
        if !self.cursor.eat("=") {
            self.broken(
                start,
                named,
                format!("the attribute {name} has no value"),
                "write name=\"value\"",
                (MarkupError::Attribute, "its value is read as empty"),
            )?;
            self.cursor.at = named;
            let origin = self.origin(start);
            self.attributes.push(Attribute { name: Name::plain(name), value: "", origin });
            return Ok(());
        }
        self.cursor.space();
        let (at, value) = match self.cursor.peek() {
            Some(quote @ (b'"' | b'\'')) => (self.cursor.at + 1, self.quoted(quote)?),
            _ => (self.cursor.at, self.unquoted(name)?),
        };
        let origin = self.origin(at);
        self.attributes.push(Attribute { name: Name::plain(name), value, origin });
        Ok(())
    }

    /// A value in quotes, the cursor on the first.
    #[inline]
    fn quoted(&mut self, quote: u8) -> Read<&'a str> {
        let text = self.cursor.text;
        let bytes = text.as_bytes();
        let start = self.cursor.at + 1;
        let plain = chars::value_end(bytes, start);
        if bytes.get(plain) == Some(&quote) {
            self.cursor.at = plain + 1;
            return Ok(&text[start..plain]);
        }
        let Some(length) = memchr::memchr(quote, &bytes[plain.min(bytes.len())..]) else {
            self.unclosed(
                start - 1,
                start,
                "this attribute value is not closed",
                "write the same quote at its end",
                (MarkupError::Attribute, "it is read up to the end of the tag"),
            )?;
            let end = bytes[start..].iter().position(|byte| matches!(byte, b'>' | b'<' | b'\n'));
            let end = start + end.unwrap_or(bytes.len() - start);
            self.cursor.at = end;
            return self.value(start, end);
        };
        let end = plain + length;
        self.cursor.at = end + 1;
        self.value(start, end)
    }

    /// A value without quotes.
    #[cold]
    fn unquoted(&mut self, name: &str) -> Read<&'a str> {
        let start = self.cursor.at;
        let rest = self.cursor.rest();
        let ends = |byte: u8| byte.is_ascii_whitespace() || matches!(byte, b'>' | b'<');
        let mut length = rest.bytes().position(ends).unwrap_or(rest.len());
        if rest[length..].starts_with('>') && rest[..length].ends_with('/') {
            length -= 1;
        }
        let end = start + length;
        self.broken(
            start,
            end.max(start + 1),
            format!("the value of the attribute {name} stands without quotes"),
            "write name=\"value\"",
            (MarkupError::Attribute, "it is read as if it had quotes"),
        )?;
        self.cursor.at = end;
        self.value(start, end)
    }

    /// The normalized value that is written at `start..end`.
    fn value(&mut self, start: usize, end: usize) -> Read<&'a str> {
        let raw = &self.cursor.text[start..end];
        let mut value = String::new();
        let mut faults = Vec::new();
        let lenient = self.options.lenient;
        let read = entities::attribute_value(
            raw,
            &self.dtd,
            &mut self.budget,
            &mut Vec::new(),
            &mut value,
            &mut |error, fault| {
                if lenient {
                    faults.push((error, fault));
                    return Ok(());
                }
                Err(error)
            },
        );
        for (error, fault) in faults {
            self.mend(behind(start, error), (fault, "it is read as it is written"))?;
        }
        match read {
            Ok(()) => Ok(self.arena.text(&value)),
            Err(fault) => Err(self.cursor.placed(behind(start, fault))),
        }
    }

    /// Goes by what the document type declares for the attributes of the element whose name stands at `start + 1..named`:
    /// types and defaults (section 3.3). Defaults count as what entities expand to: a few declarations may stand for much.
    fn declared(&mut self, start: usize, named: usize) -> Read<()> {
        let element = &self.cursor.text[start + 1..named];
        let given = self.attributes.len();
        let positions: HashMap<&str, usize> = if given > FEW {
            // Of two that are the same the first counts.
            self.attributes
                .iter()
                .enumerate()
                .rev()
                .map(|(at, a)| (a.name.qualified(), at))
                .collect()
        } else {
            HashMap::new()
        };
        for declared in self.dtd.attributes_of(element) {
            let found = if given > FEW {
                positions.get(declared.name).copied()
            } else {
                let few = &self.attributes[..given];
                few.iter().position(|given| given.name.qualified() == declared.name)
            };
            match (found.map(|position| &mut self.attributes[position]), declared.default) {
                (Some(given), _) if declared.is_tokens => {
                    given.value = self.arena.text(&entities::tokens(given.value));
                }
                (None, Some(value)) => {
                    let written = declared.name.len() + value.len() + " =\"\"".len();
                    let spent = self.budget.spend(written, start, named);
                    spent.map_err(|error| self.cursor.placed(error))?;
                    let (name, origin) = (Name::plain(declared.name), Origin::NONE);
                    self.attributes.push(Attribute { name, value, origin });
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Settles the namespaces of the attributes, and refuses two of the same name.
    fn resolve(&mut self) -> Read<()> {
        let mut attributes = std::mem::take(&mut self.attributes);
        let settled = self.resolve_all(&mut attributes);
        self.attributes = attributes;
        settled
    }

    fn resolve_all(&mut self, attributes: &mut Vec<Attribute<'a>>) -> Read<()> {
        let base = self.options.base;
        let place = |attribute: &Attribute<'a>| {
            let at = base.offset(attribute.origin);
            (at, at + attribute.value.len().max(1))
        };
        if self.options.namespaces {
            for attribute in attributes.iter() {
                let declared = self.scope.declare(attribute.name.qualified(), attribute.value);
                if let Err((message, advice)) = declared {
                    let (start, end) = place(attribute);
                    self.broken(
                        start,
                        end,
                        message,
                        advice,
                        (MarkupError::Name, "it declares nothing"),
                    )?;
                }
            }
            for attribute in attributes.iter_mut() {
                match self.scope.attribute(attribute.name.qualified()) {
                    Ok(name) => attribute.name = name,
                    Err((message, advice)) => {
                        let (start, end) = place(attribute);
                        let raw = attribute.name.qualified();
                        attribute.name = self.repaired(raw);
                        self.broken(start, end, message, advice, NAMED)?;
                    }
                }
            }
        }
        let twins = self.twins(attributes);
        for twin in &twins {
            let (start, end) = place(&attributes[*twin]);
            let message =
                format!("the attribute {} is given twice", attributes[*twin].name.qualified());
            self.broken(
                start,
                end,
                message,
                "take one away",
                (MarkupError::Twice, "the first is kept"),
            )?;
        }
        let mut position = 0;
        attributes.retain(|_| {
            position += 1;
            twins.binary_search(&(position - 1)).is_err()
        });
        Ok(())
    }

    /// Leaves prefixes and declarations of namespaces out; where two attributes would then be called the same, only one of
    /// them does without.
    pub(super) fn drop_prefixes(&mut self) {
        self.attributes.retain(|attribute| !attribute.name.declares_namespace());
        for position in 0..self.attributes.len() {
            let local = self.attributes[position].name.local();
            let is_taken = |(other, attribute): (usize, &Attribute<'a>)| {
                other != position && attribute.name.qualified() == local
            };
            if !self.attributes.iter().enumerate().any(is_taken) {
                self.attributes[position].name = Name::plain(local);
            }
        }
    }

    /// The positions of attributes that were given before, by their name or by their namespace and local name.
    fn twins(&mut self, attributes: &[Attribute<'a>]) -> Vec<usize> {
        let same = |a: &Name<'a>, b: &Name<'a>| {
            a.qualified() == b.qualified()
                || (!a.namespace().is_empty()
                    && a.namespace() == b.namespace()
                    && a.local() == b.local())
        };
        if attributes.len() <= FEW {
            let is_twin = |later: &usize| {
                let name = &attributes[*later].name;
                attributes[..*later].iter().any(|earlier| same(&earlier.name, name))
            };
            return (1..attributes.len()).filter(is_twin).collect();
        }
        self.seen.clear();
        let mut is_twin = |name: &Name<'a>| {
            let is_new = self.seen.insert(("", name.qualified()));
            let namespace = name.namespace();
            !(is_new && (namespace.is_empty() || self.seen.insert((namespace, name.local()))))
        };
        (0..attributes.len()).filter(|position| is_twin(&attributes[*position].name)).collect()
    }
}
