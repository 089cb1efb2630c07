//! What the parser says of a text that is no YAML.

use kyanite_tree::{Advice, Span};

use super::cursor::Gap;
use super::event::Properties;
use super::parser::Parser;
use crate::SyntaxError;

impl Parser<'_> {
    #[cold]
    pub(super) fn tab(&self, at: usize) -> SyntaxError {
        self.error(at, "a tab stands where YAML is indented", "indent with blanks")
    }

    #[cold]
    pub(super) fn too_deep_line(&self, what: &str) -> SyntaxError {
        let message =
            format!("this line is indented further than the lines that it could be {what} beside");
        self.error_here(message, "give it the indentation of the line that it belongs to")
    }

    /// What stands behind a node on its line, or behind the document.
    #[cold]
    pub(super) fn leftover(&self, gap: Gap) -> SyntaxError {
        if self.cursor.peek() == Some(b'%') && self.cursor.column() == 0 {
            return self.late_directive();
        }
        if self.cursor.peek() == Some(b':') && self.read.is_long {
            let message = "this line goes on with the text above it, so no key can stand in it";
            let advice =
                "give the key the indentation of the keys beside it, or put the text in quotes";
            return self.error_here(message, advice);
        }
        if self.cursor.peek() == Some(b':') {
            let message = "a colon stands where no key can be";
            let advice = "a key stands on one line; put a text with a colon and a blank in quotes";
            return self.error_here(message, advice);
        }
        if self.cursor.peek() == Some(b'#') {
            return self.error_here("a comment begins with a blank before its #", "put one there");
        }
        if gap.new_line {
            let message =
                "this belongs neither to the value above it nor to a list or map around that";
            return self
                .error_here(message, "check its indentation; a second document begins with ---");
        }
        self.error_here(
            "something stands behind the value on its line",
            "put it on a line of its own, or all in quotes",
        )
    }

    #[cold]
    pub(super) fn late_directive(&self) -> SyntaxError {
        let message = "a directive stands inside a document";
        self.error_here(message, "end the document before it: write ... on a line of its own")
    }

    #[cold]
    pub(super) fn no_key(&self, start: usize, properties: &Properties<'_>) -> SyntaxError {
        if self.cursor.at_indicator(b'-') {
            let advice = "indent it to make it the value of the key above";
            return self.error(start, "an item of a list stands where a key is expected", advice);
        }
        if !properties.is_empty() && self.cursor.rest_is_blank() {
            return self.error(start, "an anchor or tag stands here without a node", "indent it");
        }
        if self.cursor.peek() == Some(b'%') && self.cursor.column() == 0 {
            return self.late_directive();
        }
        let message = "a colon is missing behind this key";
        self.error(
            start,
            message,
            "write key: value; a text goes on in lines that are indented further",
        )
    }

    #[cold]
    pub(super) fn no_node(&self) -> SyntaxError {
        let byte = self.cursor.peek().map(char::from);
        match byte {
            Some(sign @ ('@' | '`')) => {
                let message = format!("a text cannot begin with {sign}");
                self.error_here(message, "put it in quotes")
            }
            Some('%') => self.error_here("a text cannot begin with %", "put it in quotes"),
            Some(sign @ (',' | ']' | '}')) => {
                let message = format!("`{sign}` stands where a value is expected");
                self.error_here(message, "take it away, or put the text in quotes")
            }
            Some('-' | '?' | ':') if self.flow_level() > 0 => {
                self.error_here("this sign is no value in brackets", "put it in quotes")
            }
            Some('|' | '>') => {
                let advice = "put the text in quotes";
                self.error_here("a block of lines cannot stand in brackets", advice)
            }
            _ => self.error_here("no value begins like this", "put a text in quotes"),
        }
    }

    /// What is wrong with the character at `at`.
    #[cold]
    pub(super) fn error(
        &self,
        at: usize,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> SyntaxError {
        let length = self
            .cursor
            .text
            .get(at..)
            .and_then(|rest| rest.chars().next())
            .map_or(0, char::len_utf8);
        SyntaxError::new(at, at + length, message, advice)
    }

    #[cold]
    pub(super) fn error_here(
        &self,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> SyntaxError {
        self.error(self.cursor.at, message, advice)
    }
}
