//! The elements at a path of a document, one after another, from a text that may be only a part of it.
//!
//! Between two parts a [`Ancestry`] says which elements are open around the records. So a document of any size is read in
//! memory that holds one part; all of it is checked, also what is not among the records.

use kyanite_tree::{Arena, Name, Node, Value};

use super::chars;
use super::lines::Lines;
use super::needed::Needed;
use super::read::{CUT_OFF, IN_ORDER, Options, Reader};
use crate::SyntaxError;
use crate::needs::{Need, Needs};
use crate::record_view::View;

/// A step of the path to the records.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct StepName {
    /// The local name or, without a namespace, perhaps the name as written.
    pub name: String,
    /// The namespace that the name must be in.
    pub namespace: Option<String>,
}

impl StepName {
    fn fits(&self, name: Name<'_>) -> bool {
        match &self.namespace {
            Some(namespace) => name.local() == self.name && name.namespace() == namespace,
            None => name.is_called(&self.name),
        }
    }
}

/// Where in a document a part of it begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Ancestry<'a> {
    /// The elements that are open, outermost first; all are on the path to the records.
    open: &'a [Ancestor<'a>],
    /// Whether the root element has begun.
    has_root: bool,
    /// Whether anything stands before.
    is_begun: bool,
}

/// An open element around the records.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ancestor<'a> {
    written: &'a str,
    /// The namespaces that it declares, with their prefixes.
    bindings: &'a [(&'a str, &'a str)],
}

impl Ancestry<'_> {
    /// The same place, kept in another arena.
    #[must_use]
    pub fn keep<'h>(&self, arena: &'h Arena) -> Ancestry<'h> {
        let open: Vec<Ancestor<'h>> = self
            .open
            .iter()
            .map(|ancestor| {
                let bindings: Vec<(&str, &str)> = ancestor
                    .bindings
                    .iter()
                    .map(|(prefix, uri)| (arena.text(prefix), arena.text(uri)))
                    .collect();
                Ancestor { written: arena.text(ancestor.written), bindings: arena.slice(&bindings) }
            })
            .collect();
        Ancestry { open: arena.slice(&open), has_root: self.has_root, is_begun: self.is_begun }
    }
}

/// Reads the elements at a path.
pub struct RecordReader<'a> {
    reader: Reader<'a>,
    path: &'a [StepName],
    open: Vec<Ancestor<'a>>,
    has_root: bool,
    is_begun: bool,
    /// Up to where the text was read and need not be read again.
    committed: usize,
    /// How the tag of the last record is written.
    record_name: Option<&'a str>,
    /// The name in the tag of the last record, as long as the elements around it are the same.
    again: Option<&'a str>,
    lines: Lines,
    /// Names of elements that stood where one on the path was looked for, with the level.
    others: Vec<(usize, &'a str)>,
}

/// What comes next in a run of records that are wanted as lines of JSON.
pub enum LineOrRecord<'a> {
    /// A line that was written.
    Line,
    /// A record that is not so plain that it could be.
    Record(Value<'a>),
}

/// Names that are kept for the report of a path that leads nowhere.
const NAMES: usize = 200;

impl<'a> RecordReader<'a> {
    /// A reader of the elements at `path` in a part of a document that begins at `place`.
    #[must_use]
    pub fn new(
        text: &'a str,
        arena: &'a Arena,
        options: Options,
        path: &'a [StepName],
        place: Ancestry<'a>,
    ) -> Self {
        let mut reader = Reader::new(text, arena, options);
        for ancestor in place.open {
            reader.scope.enter(ancestor.bindings);
        }
        if !place.is_begun && text.starts_with('\u{feff}') {
            reader.cursor.at = 3;
        }
        Self {
            reader,
            path,
            open: place.open.to_vec(),
            has_root: place.has_root,
            is_begun: place.is_begun,
            committed: 0,
            record_name: None,
            again: None,
            lines: Lines::default(),
            others: Vec::new(),
        }
    }

    /// The same reader, building of each record only the child elements that are needed, as far as the others are plain. Their
    /// grammar is checked all the same.
    #[must_use]
    pub fn with_needs(mut self, needs: &'a Needs) -> Self {
        if needs.of_record() != Need::ALL && !self.reader.options.lenient {
            self.reader.needed = Some(Box::new(Needed::new(needs)));
        }
        self
    }

    /// Where the next part begins, once this one is read to its end.
    #[must_use]
    pub fn place(&self, arena: &'a Arena) -> Ancestry<'a> {
        Ancestry { open: arena.slice(&self.open), has_root: self.has_root, is_begun: self.is_begun }
    }

    /// The offset up to which the text need not be read again.
    #[must_use]
    pub fn committed(&self) -> usize {
        self.committed
    }

    /// The offset of the byte to be read next.
    #[must_use]
    pub fn position(&self) -> usize {
        self.reader.cursor.at
    }

    /// Goes on reading at byte `offset`.
    pub fn seek(&mut self, offset: usize) {
        self.reader.cursor.at = offset;
        self.committed = offset;
    }

    /// How the start tag of the last record begins: `<v:vessel`.
    #[must_use]
    pub fn record_name(&self) -> Option<&'a str> {
        self.record_name
    }

    /// Names of elements that stood where one on the path was looked for, with how many steps of the path led there.
    #[must_use]
    pub fn others(&self) -> &[(usize, &'a str)] {
        &self.others
    }

    /// Whether the text that was read may be the whole document.
    ///
    /// # Errors
    /// When it ends inside an element, or has none.
    pub fn finish(&self) -> Result<(), SyntaxError> {
        let end = self.reader.cursor.text.len();
        let error = match self.open.last() {
            Some(open) => {
                let message = format!("the document ends inside <{}>", open.written);
                self.reader.cursor.error(end, end, message, CUT_OFF)
            }
            None if !self.has_root => {
                let advice = "check that the command before this one wrote XML";
                self.reader.cursor.error(end, end, "there is no element in this input", advice)
            }
            None => return Ok(()),
        };
        Err(error.if_more(true))
    }

    /// The next record, or `None` at the end of the text.
    ///
    /// # Errors
    /// A [`SyntaxError`]; it wants more when the text ends inside something.
    pub fn next_record(&mut self) -> Result<Option<Value<'a>>, SyntaxError> {
        match self.next(None)? {
            Some(LineOrRecord::Record(record)) => Ok(Some(record)),
            _ => Ok(None),
        }
    }

    /// Writes the next record, as `view` sees it, as a line of JSON at the end of `out`, or gives it as it is.
    ///
    /// # Errors
    /// A [`SyntaxError`]; it wants more when the text ends inside something.
    pub fn next_line(
        &mut self,
        view: &mut View,
        out: &mut Vec<u8>,
    ) -> Result<Option<LineOrRecord<'a>>, SyntaxError> {
        self.next(Some((view, out)))
    }

    #[inline]
    fn next(
        &mut self,
        mut line: Option<(&mut View, &mut Vec<u8>)>,
    ) -> Result<Option<LineOrRecord<'a>>, SyntaxError> {
        if !self.is_begun {
            self.reader.declaration()?;
            self.is_begun = true;
        }
        loop {
            self.reader.cursor.space();
            self.committed = self.reader.cursor.at;
            self.reader.forget();
            let Some(byte) = self.reader.cursor.peek() else { return Ok(None) };
            let level = self.open.len();
            if byte != b'<' {
                if level == 0 {
                    self.reader.text_outside()?;
                } else {
                    self.reader.plain_text()?;
                }
                continue;
            }
            match self.reader.cursor.bytes().get(self.committed + 1) {
                None => return Err(self.cut_off()),
                Some(b'/') => self.end_tag()?,
                Some(b'!') if self.reader.cursor.is_at("<!DOCTYPE") => return Err(self.late_type()),
                Some(b'!') if self.reader.cursor.is_at("<!--") => self.reader.comment()?,
                Some(b'!') if level > 0 && self.reader.cursor.is_at("<![CDATA[") => {
                    self.reader.character_data()?;
                }
                // What may be the beginning of one of these.
                Some(b'!') if self.reader.cursor.rest().len() < "<![CDATA[".len() => {
                    return Err(self.cut_off());
                }
                Some(b'?') => self.reader.instruction()?,
                Some(_) => {
                    if let (Some(name), Some((view, out))) = (self.again, &mut line)
                        && self.lines.write(&mut self.reader, name, view, out).is_some()
                    {
                        return Ok(Some(LineOrRecord::Line));
                    }
                    if let Some(record) = self.element()? {
                        return Ok(Some(LineOrRecord::Record(record)));
                    }
                }
            }
        }
    }

    /// An element: a record, one around records, or another, which is checked and left out.
    fn element(&mut self) -> Result<Option<Value<'a>>, SyntaxError> {
        let level = self.open.len();
        let start = self.reader.cursor.at;
        if level == 0 && self.has_root {
            self.reader.second_root(start)?;
        }
        self.has_root = true;
        let scope = self.reader.scope.depth();
        self.reader.start_tag()?;
        let Some(name) = self.reader.last_name() else { return Ok(None) };
        let fits = self.path.get(level).is_some_and(|step| step.fits(name));
        if fits && level + 1 < self.path.len() {
            // An empty element is closed already.
            if let Some(written) = self.reader.take_open() {
                let bindings = self.reader.arena.slice(self.reader.scope.since(scope));
                self.open.push(Ancestor { written, bindings });
                self.other_scope(bindings);
            }
            return Ok(None);
        }
        if !fits && self.others.len() < NAMES {
            self.others.push((level, name.local()));
        }
        if fits
            && let Some(needed) = &mut self.reader.needed
            && let Some(open) = self.reader.open.last_mut()
        {
            (open.need, needed.scope) = (needed.of_record(), scope);
        }
        self.reader.content()?;
        if !fits {
            return Ok(None);
        }
        let text = self.reader.cursor.text;
        let tag = &text[start..chars::name_end(text, start + 1)];
        (self.record_name, self.again) = (Some(tag), Some(&tag[1..]));
        Ok(self.reader.last_element())
    }

    /// Forgets what names around records settled, where an element that declares namespaces begins or ends.
    fn other_scope(&mut self, bindings: &[(&str, &str)]) {
        self.again = None;
        if !bindings.is_empty() {
            self.lines.forget();
            if let Some(needed) = &mut self.reader.needed {
                needed.lines.forget();
            }
        }
    }

    fn end_tag(&mut self) -> Result<(), SyntaxError> {
        let Some(open) = self.open.last().copied() else { return self.reader.stray_end_tag() };
        let start = self.reader.cursor.at;
        self.reader.cursor.at += 2;
        let name = self.reader.cursor.name().unwrap_or_default();
        let end = self.reader.cursor.at;
        self.reader.cursor.space();
        if self.reader.cursor.peek().is_none() {
            return Err(self.cut_off());
        }
        if name != open.written {
            let message = format!("</{name}> stands where </{}> is missing", open.written);
            return Err(self.reader.cursor.error(start, end, message, IN_ORDER));
        }
        if !self.reader.cursor.eat(">") {
            return Err(self
                .reader
                .cursor
                .error_here("this end tag is not closed", "write </name>"));
        }
        self.open.pop();
        self.other_scope(open.bindings);
        let depth = self.reader.scope.depth() - open.bindings.len();
        self.reader.scope.leave(depth);
        Ok(())
    }

    #[cold]
    fn cut_off(&self) -> SyntaxError {
        let end = self.reader.cursor.text.len();
        let message = "the document ends inside a tag";
        self.reader.cursor.error(end, end, message, CUT_OFF).if_more(true)
    }

    #[cold]
    fn late_type(&self) -> SyntaxError {
        let at = self.reader.cursor.at;
        let message =
            "this document type declaration stands too far behind the start of the document";
        let advice = "put it right behind the XML declaration";
        self.reader.cursor.error(at, at + 9, message, advice)
    }
}

impl<'a> Reader<'a> {
    /// Forgets what was read and is not needed.
    fn forget(&mut self) {
        self.nodes.clear();
        self.text = None;
        self.is_joined = false;
    }

    /// The element that was read last.
    fn last_element(&self) -> Option<Value<'a>> {
        match self.nodes.last() {
            Some(Node::Element(origin, element)) => Some(Value::Element(*origin, element)),
            _ => None,
        }
    }
}
