//! References to characters and entities (XML 1.0 sections 4.1 to 4.6).

use kyanite_tree::{Setting, Span};

use super::chars;
use super::dtd::{Dtd, Entity};
use super::repair::MarkupError;
use crate::SyntaxError;

/// A reference in a text.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Reference<'t> {
    /// To a character, by its number or as one of the five that are predefined.
    Character(char),
    /// To an entity.
    Entity(&'t str),
}

/// Reads the reference whose `&` stands at `at`; gives its end.
pub(super) fn reference(text: &str, at: usize) -> Result<(Reference<'_>, usize), SyntaxError> {
    let rest = &text[at + 1..];
    if let Some(digits) = rest.strip_prefix('#') {
        let (digits, radix, lead) = match digits.strip_prefix('x') {
            Some(hexadecimal) => (hexadecimal, 16, 3),
            None => (digits, 10, 2),
        };
        let length = digits.bytes().take_while(|byte| char::from(*byte).is_digit(radix)).count();
        let end = at + lead + length;
        let is_closed = digits.as_bytes().get(length) == Some(&b';');
        if length == 0 || !is_closed {
            return Err(SyntaxError::new(
                at,
                end,
                "this begins a reference to a character, but is none",
                "write &#233; or &#xE9; with the semicolon, or &amp; for the character &",
            ));
        }
        // Saturates: what is too long is no character either.
        let number = digits[..length]
            .chars()
            .filter_map(|digit| digit.to_digit(radix))
            .fold(0u32, |number, digit| number.saturating_mul(radix).saturating_add(digit));
        return match char::from_u32(number).filter(|character| chars::is_char(*character)) {
            Some(character) => Ok((Reference::Character(character), end + 1)),
            None => Err(SyntaxError::new(
                at,
                end + 1,
                format!("the character U+{number:04X} cannot stand in XML"),
                "take the reference away",
            )),
        };
    }
    let end = chars::name_end(text, at + 1);
    if end == at + 1 || text.as_bytes().get(end) != Some(&b';') {
        return Err(SyntaxError::new(
            at,
            at + 1,
            "a bare & stands here",
            ("write &amp; for the character, or have it read so with ", Setting::Lenient),
        ));
    }
    let name = &text[at + 1..end];
    let character = match name {
        "amp" => '&',
        "lt" => '<',
        "gt" => '>',
        "quot" => '"',
        "apos" => '\'',
        _ => return Ok((Reference::Entity(name), end + 1)),
    };
    Ok((Reference::Character(character), end + 1))
}

/// A text with references to characters resolved; to entities, and what is no reference, it is as written.
///
/// ```
/// assert_eq!(kyanite_formats::xml::resolved("a &lt; &#98; &amp; &c; &"), "a < b & &c; &");
/// ```
#[must_use]
pub fn resolved(text: &str) -> String {
    let (mut out, mut from) = (String::new(), 0);
    for at in memchr::memchr_iter(b'&', text.as_bytes()) {
        if let Ok((Reference::Character(character), end)) = reference(text, at) {
            out.push_str(&text[from..at]);
            out.push(character);
            from = end;
        }
    }
    out.push_str(&text[from..]);
    out
}

/// How many bytes of replacement text may be put in, and how deep in other replacement text.
#[derive(Clone, Copy, Debug)]
pub(super) struct Budget {
    left: usize,
    limit: usize,
    depth: usize,
}

impl Budget {
    pub(super) fn new(limit: usize, depth: usize) -> Self {
        Self { left: limit, limit, depth }
    }

    /// Enters the text of the entity that is referred to at `start..end`, inside the texts of `others` other entities.
    pub(super) fn enter(
        &mut self,
        text: &str,
        others: usize,
        start: usize,
        end: usize,
    ) -> Result<(), SyntaxError> {
        if others < self.depth {
            return self.spend(text.len(), start, end);
        }
        Err(SyntaxError::limit(
            start,
            end,
            format!("entities refer to each other more than {} deep", self.depth),
            ("if this is meant, raise the limit with ", Setting::Depth),
        ))
    }

    /// Counts the replacement text of the entity that is referred to at `start..end`.
    pub(super) fn spend(
        &mut self,
        bytes: usize,
        start: usize,
        end: usize,
    ) -> Result<(), SyntaxError> {
        // Empty texts count as well, for a million references to nothing take time, too.
        match self.left.checked_sub(bytes + 1) {
            Some(left) => {
                self.left = left;
                Ok(())
            }
            None => Err(SyntaxError::limit(
                start,
                end,
                format!("the entities of this document expand to more than {} bytes", self.limit),
                ("if this is meant, raise the limit with ", Setting::Expansion),
            )),
        }
    }
}

/// Says that the name of a reference is that of no entity.
pub(super) fn undeclared(name: &str, start: usize, end: usize) -> SyntaxError {
    let message = format!("the entity &{name}; is not declared");
    let advice =
        "declare it in the document type declaration, write the character itself, or read with ";
    SyntaxError::new(start, end, message, (advice, Setting::Lenient))
}

/// Puts the normalized value of an attribute into `out` (section 3.3.3): white space becomes blanks, references what they
/// stand for. `inside` names the entities whose text `raw` is from.
///
/// Faults go to `mend`, which gives them back or, in a repair, takes them; the reference then stays as it is written.
pub(super) fn attribute_value<'a>(
    raw: &str,
    dtd: &Dtd<'a>,
    budget: &mut Budget,
    inside: &mut Vec<&'a str>,
    out: &mut String,
    mend: &mut dyn FnMut(SyntaxError, MarkupError) -> Result<(), SyntaxError>,
) -> Result<(), SyntaxError> {
    let mut from = 0;
    let bytes = raw.as_bytes();
    while from < raw.len() {
        let end = chars::value_end(bytes, from);
        out.push_str(&raw[from..end]);
        let Some(&byte) = bytes.get(end) else { break };
        from = end + 1;
        match byte {
            b'\t' | b'\n' | b'\r' => out.push(' '),
            b'"' | b'\'' => out.push(char::from(byte)),
            b'<' => {
                let message = "a < stands in an attribute value";
                mend(SyntaxError::new(end, end + 1, message, "write &lt;"), MarkupError::Tag)?;
                out.push('<');
            }
            b'&' => match reference(raw, end) {
                Ok((Reference::Character(character), behind)) => {
                    out.push(character);
                    from = behind;
                }
                Ok((Reference::Entity(name), behind)) => {
                    from = behind;
                    let refused = match dtd.entity(name) {
                        Some((known, _)) if inside.contains(&known) => {
                            return Err(recursive(name, end, behind));
                        }
                        Some((known, Entity::Internal(text))) => {
                            budget.enter(text, inside.len(), end, behind)?;
                            inside.push(known);
                            // The text of an entity has no places of its own.
                            let here = Span::new(end, behind);
                            let inner =
                                &mut |inner: SyntaxError, fault| mend(inner.moved(|_| here), fault);
                            attribute_value(text, dtd, budget, inside, out, inner)?;
                            inside.pop();
                            continue;
                        }
                        Some((_, Entity::External | Entity::Unparsed)) => {
                            let message = format!(
                                "the entity &{name}; lies outside the document, so it cannot stand in an attribute"
                            );
                            SyntaxError::new(end, behind, message, "write its text here")
                        }
                        None if dtd.is_open() => {
                            out.push_str(&raw[end..behind]);
                            continue;
                        }
                        None => undeclared(name, end, behind),
                    };
                    mend(refused, MarkupError::Entity)?;
                    out.push_str(&raw[end..behind]);
                }
                Err(fault) => {
                    mend(fault, MarkupError::Reference)?;
                    out.push('&');
                }
            },
            _ => {
                let character = raw[end..].chars().next().unwrap_or('\0');
                from = end + character.len_utf8();
                if chars::is_char(character) {
                    out.push(character);
                } else {
                    let message =
                        format!("the character U+{:04X} cannot stand in XML", character as u32);
                    mend(
                        SyntaxError::new(end, from, message, "take it away"),
                        MarkupError::Character,
                    )?;
                }
            }
        }
    }
    Ok(())
}

/// Says that an entity holds itself.
pub(super) fn recursive(name: &str, start: usize, end: usize) -> SyntaxError {
    let message = format!("the entity &{name}; refers to itself");
    SyntaxError::new(start, end, message, "take one of the references in its declaration away")
}

/// A value of another type than CDATA: blanks around it are left out, those in it become one (section 3.3.3).
pub(super) fn tokens(value: &str) -> String {
    value.split(' ').filter(|token| !token.is_empty()).collect::<Vec<_>>().join(" ")
}
