//! What stands before and beside the root element: the XML declaration, the document type, and what should not be there.

use kyanite_tree::{Arena, Content};

use super::chars;
use super::declarations::Declarations;
use super::dtd::Dtd;
use super::read::{Options, Read, Reader};
use super::repair::{MarkupError, Repair};
use crate::SyntaxError;

/// XML declarations are shorter; what is longer is read as far as it goes.
const LONGEST_DECLARATION: usize = 4096;

/// What stands before the root element of a document: what all parts of it are read by.
#[derive(Debug, Default)]
pub struct Prolog<'a> {
    pub(super) dtd: Dtd<'a>,
    /// The offset of the root element.
    pub end: usize,
    /// What was repaired, and references that lead out of the document.
    pub repairs: Vec<Repair>,
    /// Whether comments, processing instructions or a document type declaration stand there.
    pub has_markup: bool,
}

impl<'a> Prolog<'a> {
    /// The names of the unparsed entities that the document declares (section 4.2.2), in order.
    #[must_use]
    pub fn unparsed_entities(&self) -> Vec<&'a str> {
        self.dtd.unparsed()
    }

    /// Whether the document declares attributes, so that elements may have others than are written.
    #[must_use]
    pub fn declares_attributes(&self) -> bool {
        self.dtd.has_attributes()
    }
}

/// Reads what stands before the root element (production 22). Unless it `is_all`, more may follow behind the text.
///
/// # Errors
/// A [`SyntaxError`]; it wants more when the text ends before the root element begins.
pub fn prolog<'a>(
    text: &'a str,
    arena: &'a Arena,
    options: Options,
    is_all: bool,
) -> Result<Prolog<'a>, SyntaxError> {
    let mut reader = Reader::new(text, arena, options);
    reader.is_part = !is_all;
    if text.starts_with('\u{feff}') {
        reader.cursor.at = 3;
    }
    reader.declaration()?;
    while !reader.before_root()? {}
    if reader.cursor.peek().is_none() {
        return Err(reader.no_element());
    }
    Ok(Prolog {
        end: reader.cursor.at,
        has_markup: !reader.nodes.is_empty(),
        dtd: reader.dtd.into_owned(),
        repairs: reader.repairs,
    })
}

/// The namespaces that the root element declares, with their prefixes, told from the beginning of a document; none where its
/// start tag is not all there, or not well-formed.
#[must_use]
pub fn root_namespaces(text: &str, options: Options) -> Option<Vec<(String, String)>> {
    let arena = Arena::new();
    let mut reader = Reader::new(text, &arena, options);
    reader.is_part = true;
    if text.starts_with('\u{feff}') {
        reader.cursor.at = 3;
    }
    reader.declaration().ok()?;
    while !reader.before_root().ok()? {}
    reader.start_tag().ok()?;
    reader.last_name()?;
    let declared = reader.attributes.iter().filter(|a| a.name.declares_namespace());
    let binding = |a: &kyanite_tree::Attribute<'_>| {
        let prefix = a.name.qualified().strip_prefix("xmlns:").unwrap_or_default();
        (prefix.to_owned(), a.value.to_owned())
    };
    Some(declared.map(binding).collect())
}

impl<'a> Reader<'a> {
    /// Steps over one piece of what stands before or behind the root element; tells whether it is reached, or the end.
    pub(super) fn before_root(&mut self) -> Read<bool> {
        self.cursor.space();
        let start = self.cursor.at;
        match self.cursor.peek() {
            None => return Ok(true),
            Some(b'<') if self.cursor.is_at("<!--") => self.comment()?,
            Some(b'<') if self.cursor.is_at("<?") => self.instruction()?,
            Some(b'<') if self.cursor.is_at("<!DOCTYPE") => self.document_type()?,
            Some(b'<') if self.cursor.is_at("</") => self.odd_end_tag()?,
            Some(b'<') if chars::name_end(self.cursor.text, start + 1) > start + 1 => {
                return Ok(true);
            }
            // What may be the beginning of one of these.
            Some(b'<') if self.is_part && self.cursor.rest().len() < "<!DOCTYPE".len() => {
                return Err(self.no_element());
            }
            Some(_) => self.text_outside()?,
        }
        Ok(false)
    }

    /// The error about a text without elements.
    #[cold]
    pub(super) fn no_element(&self) -> SyntaxError {
        let end = self.cursor.text.len();
        let message = "there is no element in this input";
        let advice = "check that the command before this one wrote XML";
        self.cursor.error(end, end, message, advice).if_more(true)
    }

    /// `<?xml version="1.0" … ?>` (production 23).
    pub(super) fn declaration(&mut self) -> Read<()> {
        let text = self.cursor.text;
        if !text.starts_with("<?xml")
            || text.as_bytes().get(5).is_none_or(|byte| !byte.is_ascii_whitespace())
        {
            return Ok(());
        }
        if self.is_part && text.len() < LONGEST_DECLARATION && !text.contains("?>") {
            return Err(self.no_element());
        }
        self.cursor.at = 5;
        let read = self.declared_pairs();
        match read {
            Err(error) if self.options.lenient && !(self.is_part && error.wants_more()) => {
                self.cursor.at = 5;
                let end = if self.cursor.until("?>").is_some() { self.cursor.at } else { 5 };
                self.cursor.at = end;
                let mended = (MarkupError::Declaration, "it is left out");
                self.broken(0, end, "the XML declaration is not well-formed", "", mended)
            }
            other => other,
        }
    }

    pub(super) fn declared_pairs(&mut self) -> Read<()> {
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
                return Err(error.if_more(wants_more));
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
            if which == 2 && value == "yes" {
                self.dtd.to_mut().is_standalone = true;
            }
            at_least = which + 1;
        }
    }

    pub(super) fn document_type(&mut self) -> Read<()> {
        let start = self.cursor.at;
        if self.has_type || self.has_root {
            self.broken(
                start,
                start + 9,
                "the document type declaration stands before the root element, once",
                "take this one away",
                (MarkupError::Declaration, "it is left out"),
            )?;
            self.skip_document_type();
            return Ok(());
        }
        self.has_type = true;
        let mut declarations = Declarations {
            cursor: self.cursor.clone(),
            dtd: self.dtd.to_mut(),
            budget: &mut self.budget,
            arena: self.arena,
            namespaces: self.options.namespaces,
            inside: Vec::new(),
        };
        let read = declarations.document_type();
        match read.map_err(|error| declarations.cursor.if_at_end(error)) {
            Ok(()) => self.cursor.at = declarations.cursor.at,
            Err(error) if self.options.lenient && !(self.is_part && error.wants_more()) => {
                let message =
                    format!("{}; the rest of the declaration is left out", error.message());
                let (fault, span) = (MarkupError::Declaration, error.span());
                self.repairs.push(Repair { fault, message, span, also: None });
                self.skip_document_type();
            }
            Err(error) => return Err(error),
        }
        let written = &self.cursor.text[start..self.cursor.at];
        self.add(Content::DocumentType(self.origin(start), written));
        Ok(())
    }

    /// Goes behind a document type declaration that cannot be read: the `]>` or the `>` that looks like its end.
    pub(super) fn skip_document_type(&mut self) {
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
            (MarkupError::Outside, "it is left out"),
        )?;
        self.cursor.at = end;
        Ok(())
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
            (MarkupError::Outside, "it is read as a further root"),
        )
    }
}
