//! References to characters and entities (XML 1.0 sections 4.1 to 4.6).

use super::chars;
use super::dtd::{Dtd, Entity};

/// A reference in a text.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Reference<'t> {
    /// To a character, by its number or as one of the five that are predefined.
    Character(char),
    /// To an entity.
    Entity(&'t str),
}

/// What is wrong with a reference: the bytes of the text it is in, the sentence, and what to do.
#[derive(Debug)]
pub(super) struct Fault {
    pub(super) start: usize,
    pub(super) end: usize,
    pub(super) message: String,
    pub(super) advice: &'static str,
}

/// Reads the reference whose `&` stands at `at`; gives its end.
pub(super) fn reference(text: &str, at: usize) -> Result<(Reference<'_>, usize), Fault> {
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
            return Err(Fault {
                start: at,
                end,
                message: "this begins a reference to a character, but is none".into(),
                advice: "write &#233; or &#xE9; with the semicolon, or &amp; for the character &",
            });
        }
        // Saturates: what is too long is no character either.
        let number = digits[..length]
            .chars()
            .filter_map(|digit| digit.to_digit(radix))
            .fold(0u32, |number, digit| number.saturating_mul(radix).saturating_add(digit));
        return match char::from_u32(number).filter(|character| chars::is_char(*character)) {
            Some(character) => Ok((Reference::Character(character), end + 1)),
            None => Err(Fault {
                start: at,
                end: end + 1,
                message: format!("the character U+{number:04X} cannot stand in XML"),
                advice: "take the reference away",
            }),
        };
    }
    let end = chars::name_end(text, at + 1);
    if end == at + 1 || text.as_bytes().get(end) != Some(&b';') {
        return Err(Fault {
            start: at,
            end: at + 1,
            message: "a bare & stands here".into(),
            advice: "write &amp; for the character, or --lenient to have it read so",
        });
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

/// How many bytes of replacement text may be put in.
#[derive(Clone, Copy, Debug)]
pub(super) struct Budget {
    pub(super) left: usize,
    pub(super) limit: usize,
}

impl Budget {
    pub(super) fn new(limit: usize) -> Self {
        Self { left: limit, limit }
    }

    /// Counts the replacement text of the entity called `name`.
    pub(super) fn spend(&mut self, bytes: usize) -> Result<(), (String, &'static str)> {
        // Empty texts count as well, for a million references to nothing take time, too.
        match self.left.checked_sub(bytes + 1) {
            Some(left) => {
                self.left = left;
                Ok(())
            }
            None => Err((
                format!("the entities of this document expand to more than {} bytes", self.limit),
                "raise the limit with --expansion if this is meant",
            )),
        }
    }
}

/// Says that a name is that of no entity.
pub(super) fn undeclared(name: &str) -> (String, &'static str) {
    (
        format!("the entity &{name}; is not declared"),
        "declare it in the document type declaration, write the character itself, or read with --lenient",
    )
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
    mend: &mut dyn FnMut(Fault) -> Result<(), Fault>,
) -> Result<(), Fault> {
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
                mend(Fault {
                    start: end,
                    end: end + 1,
                    message: "a < stands in an attribute value".into(),
                    advice: "write &lt;",
                })?;
                out.push('<');
            }
            b'&' => match reference(raw, end) {
                Ok((Reference::Character(character), behind)) => {
                    out.push(character);
                    from = behind;
                }
                Ok((Reference::Entity(name), behind)) => {
                    from = behind;
                    let fault =
                        |(message, advice)| Fault { start: end, end: behind, message, advice };
                    let refused = match dtd.entity(name) {
                        Some((known, _)) if inside.contains(&known) => {
                            return Err(fault(recursive(name)));
                        }
                        Some((known, Entity::Internal(text))) => {
                            budget.spend(text.len()).map_err(fault)?;
                            inside.push(known);
                            // The text of an entity has no places of its own.
                            let inner = &mut |inner: Fault| {
                                mend(Fault { start: end, end: behind, ..inner })
                            };
                            attribute_value(text, dtd, budget, inside, out, inner)?;
                            inside.pop();
                            continue;
                        }
                        Some((_, Entity::External | Entity::Unparsed)) => (
                            format!(
                                "the entity &{name}; lies outside the document, so it cannot stand in an attribute"
                            ),
                            "write its text here",
                        ),
                        None if dtd.is_open() => {
                            out.push_str(&raw[end..behind]);
                            continue;
                        }
                        None => undeclared(name),
                    };
                    mend(fault(refused))?;
                    out.push_str(&raw[end..behind]);
                }
                Err(fault) => {
                    mend(fault)?;
                    out.push('&');
                }
            },
            _ => {
                let character = raw[end..].chars().next().unwrap_or('\0');
                from = end + character.len_utf8();
                if chars::is_char(character) {
                    out.push(character);
                } else {
                    mend(Fault {
                        start: end,
                        end: from,
                        message: format!(
                            "the character U+{:04X} cannot stand in XML",
                            character as u32
                        ),
                        advice: "take it away",
                    })?;
                }
            }
        }
    }
    Ok(())
}

/// Says that an entity holds itself.
pub(super) fn recursive(name: &str) -> (String, &'static str) {
    (
        format!("the entity &{name}; refers to itself"),
        "take one of the references in its declaration away",
    )
}

/// A value of another type than CDATA: blanks around it are left out, those in it become one (section 3.3.3).
pub(super) fn tokens(value: &str) -> String {
    value.split(' ').filter(|token| !token.is_empty()).collect::<Vec<_>>().join(" ")
}
