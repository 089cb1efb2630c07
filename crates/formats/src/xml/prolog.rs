//! What stands before and beside the root element: the XML declaration, the document type, and what should not be there.

use kyanite_tree::{Node, Span};

use super::chars;
use super::declarations::Declarations;
use super::read::{Read, Reader, Repair};

impl<'a> Reader<'a> {
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
            self.dtd.is_standalone |= which == 2 && value == "yes";
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
                let message =
                    format!("{}; the rest of the declaration is left out", error.message());
                let Span { start, end } = error.span();
                self.repairs.push(Repair { message, start, end });
                self.skip_document_type();
            }
            Err(error) => return Err(error),
        }
        let written = &self.cursor.text[start..self.cursor.at];
        self.nodes.push(Node::DocumentType(self.origin(start), written));
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
            "it is left out",
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
            "it is read as a further root",
        )
    }
}
