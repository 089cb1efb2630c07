//! The TOML reader: headers, keys, and what stands between them. Values are read in [`super::value`].

use kyanite_tree::{Advice, Arena, Base, Origin, Setting, Span, Value};

use super::table::{Key, Made, Table, Taken};
use crate::losses::{Loss, Losses};
use crate::{SyntaxError, json};

/// Limits of a reader.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// The deepest nesting that is read.
    pub depth: usize,
    /// Where the text begins in the space of origins.
    pub base: Base,
}

impl Default for Options {
    fn default() -> Self {
        Self { depth: json::DEFAULT_DEPTH, base: Base::default() }
    }
}

/// A document that was read.
#[derive(Debug)]
pub struct Document<'a> {
    /// The root table.
    pub root: Value<'a>,
    /// What was not kept: comments, and the types of dates and times.
    pub losses: Losses,
}

/// Reads a document.
///
/// # Errors
/// A [`SyntaxError`] where the text is not TOML or passes a limit.
pub fn document<'a>(
    text: &'a str,
    arena: &'a Arena,
    options: Options,
) -> Result<Document<'a>, SyntaxError> {
    let mut reader = Reader { text, at: 0, arena, options, losses: Losses::new(true) };
    if reader.rest().starts_with('\u{feff}') {
        reader.at = 3;
    }
    let mut root = Table::new(reader.origin(0), Made::Header);
    reader.tables(&mut root)?;
    Ok(Document { root: root.finish(arena), losses: reader.losses })
}

/// Where the value that begins at byte `offset` ends, for marking it.
#[must_use]
pub fn value_end(text: &str, offset: usize) -> usize {
    crate::yaml::value_end(text, offset)
}

/// Where the value ends that is written at byte `offset`, if one is.
#[must_use]
pub fn inline_end(text: &str, offset: usize) -> Option<usize> {
    let arena = Arena::new();
    let options = Options { depth: usize::MAX, base: Base::default() };
    let mut reader = Reader { text, at: 0, arena: &arena, options, losses: Losses::default() };
    reader.go_to(offset).ok()?;
    if reader.at == offset {
        return None;
    }
    reader.at = offset;
    reader.value(0).ok()?;
    Some(reader.at)
}

pub(super) struct Reader<'a> {
    pub(super) text: &'a str,
    pub(super) at: usize,
    pub(super) arena: &'a Arena,
    pub(super) options: Options,
    pub(super) losses: Losses,
}

pub(super) type Read<T> = Result<T, SyntaxError>;

impl<'a> Reader<'a> {
    fn tables(&mut self, root: &mut Table<'a>) -> Read<()> {
        let mut path: Vec<Key<'a>> = Vec::new();
        let mut table = &mut *root;
        loop {
            self.blank_lines()?;
            let start = self.at;
            match self.peek() {
                None => return Ok(()),
                Some(b'[') => {
                    let is_array = self.rest().starts_with("[[");
                    self.at += if is_array { 2 } else { 1 };
                    self.key(&mut path)?;
                    let close = if is_array { "]]" } else { "]" };
                    if !self.rest().starts_with(close) {
                        return Err(self.error_here(
                            format!("`{close}` is missing behind the table's name"),
                            "a header is written [name] or [[name]]",
                        ));
                    }
                    self.at += close.len();
                    let origin = self.origin(start);
                    if path.len() > self.options.depth {
                        return Err(self.too_deep(start));
                    }
                    table =
                        root.open(&path, is_array, origin).map_err(|taken| self.taken(&taken))?;
                }
                Some(_) => {
                    self.key(&mut path)?;
                    if path.len() > self.options.depth {
                        return Err(self.too_deep(start));
                    }
                    self.equals()?;
                    let value = self.value(path.len())?;
                    table.insert(&path, value).map_err(|taken| self.taken(&taken))?;
                }
            }
            self.line_end()?;
        }
    }

    /// Goes over whole lines up to the one that byte `offset` is in or, where it begins a header, to that byte.
    fn go_to(&mut self, offset: usize) -> Read<()> {
        let mut path = Vec::new();
        while self.at < offset {
            self.blank_lines()?;
            match self.peek() {
                None => return Ok(()),
                Some(b'[') if self.at >= offset => return Ok(()),
                Some(b'[') => self.at += self.rest().find('\n').unwrap_or(self.rest().len()),
                Some(_) => {
                    self.key(&mut path)?;
                    self.equals()?;
                    self.value(0)?;
                    self.line_end()?;
                }
            }
        }
        Ok(())
    }

    /// A key, dotted or not, with the blanks around it.
    pub(super) fn key(&mut self, path: &mut Vec<Key<'a>>) -> Read<()> {
        path.clear();
        loop {
            self.blanks();
            let start = self.at;
            let name = match self.peek() {
                Some(b'"') if !self.rest().starts_with("\"\"\"") => self.basic()?,
                Some(b'\'') if !self.rest().starts_with("'''") => self.literal()?,
                _ => {
                    let length = self.rest().bytes().take_while(|byte| is_bare(*byte)).count();
                    if length == 0 {
                        return Err(self.error_here(
                            "a key is missing here",
                            "a key is letters, digits, - and _, or stands in quotes",
                        ));
                    }
                    self.at += length;
                    &self.text[start..self.at]
                }
            };
            path.push(Key { name, start, end: self.at });
            self.blanks();
            if self.peek() != Some(b'.') {
                return Ok(());
            }
            self.at += 1;
        }
    }

    pub(super) fn equals(&mut self) -> Read<()> {
        if self.peek() != Some(b'=') {
            return Err(self.error_here("`=` is missing behind the key", "write key = value"));
        }
        self.at += 1;
        self.blanks();
        Ok(())
    }

    pub(super) fn taken(&self, taken: &Taken<'a>) -> SyntaxError {
        let message = format!("`{}` is there already", taken.key.name);
        let advice = "a key stands once; a table is opened once, and only from one place";
        let error = self.error(taken.key.start, taken.key.end, message, advice);
        error.also(Some(self.options.base.offset(taken.earlier)))
    }

    pub(super) fn blanks(&mut self) {
        self.at += self.rest().bytes().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
    }

    /// Blank lines and comments.
    pub(super) fn blank_lines(&mut self) -> Read<()> {
        loop {
            self.blanks();
            if self.peek() == Some(b'#') {
                self.comment()?;
            }
            if !self.newline() {
                return Ok(());
            }
        }
    }

    pub(super) fn newline(&mut self) -> bool {
        let rest = self.rest().as_bytes();
        let length = match rest {
            [b'\n', ..] => 1,
            [b'\r', b'\n', ..] => 2,
            _ => 0,
        };
        self.at += length;
        length > 0
    }

    fn comment(&mut self) -> Read<()> {
        let origin = self.origin(self.at);
        self.losses.add(Loss::Comment, origin);
        let rest = self.rest();
        let line = &rest[..rest.find('\n').unwrap_or(rest.len())];
        let line =
            if line.len() < rest.len() { line.strip_suffix('\r').unwrap_or(line) } else { line };
        if let Some(bad) = line.bytes().position(is_control) {
            self.at += bad;
            return Err(self.control());
        }
        self.at += line.len();
        Ok(())
    }

    /// The end of a line behind a header or value, comment and all.
    fn line_end(&mut self) -> Read<()> {
        self.blanks();
        if self.peek() == Some(b'#') {
            self.comment()?;
        }
        if self.newline() || self.peek().is_none() {
            return Ok(());
        }
        Err(self.error_here(
            "the line should end here",
            "one key and value, or one header, stands on a line",
        ))
    }

    pub(super) fn rest(&self) -> &'a str {
        self.text.get(self.at..).unwrap_or_default()
    }

    pub(super) fn peek(&self) -> Option<u8> {
        self.text.as_bytes().get(self.at).copied()
    }

    pub(super) fn origin(&self, start: usize) -> Origin {
        self.options.base.origin(start)
    }

    #[cold]
    pub(super) fn error(
        &self,
        start: usize,
        end: usize,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> SyntaxError {
        SyntaxError::new(start, end, message, advice)
    }

    #[cold]
    pub(super) fn error_here(
        &self,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> SyntaxError {
        self.error(self.at, self.at + 1, message, advice)
    }

    #[cold]
    pub(super) fn too_deep(&self, start: usize) -> SyntaxError {
        let message = format!("tables and arrays nest deeper than {} levels", self.options.depth);
        let advice = ("if this is meant, raise the limit with ", Setting::Depth);
        SyntaxError::limit(start, start + 1, message, advice)
    }

    #[cold]
    pub(super) fn control(&self) -> SyntaxError {
        let byte = self.peek().unwrap_or_default();
        self.error_here(
            format!("the control character U+{byte:04X} stands here"),
            "take it away or, in a text in double quotes, write it as an escape such as \\u0001",
        )
    }
}

/// Bytes of a bare key.
fn is_bare(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_')
}

/// Control characters that may not stand in texts and comments.
pub(super) fn is_control(byte: u8) -> bool {
    (byte < 0x20 && byte != b'\t') || byte == 0x7F
}
