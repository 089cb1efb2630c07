//! The YAML reader: from a parser's events to values.

use std::collections::HashMap;

use kyanite_tree::{Advice, Arena, Base, Map, Member, Origin, Setting, Value};
use saphyr_parser::{Event, Marker, Parser, ScalarStyle, ScanError, Span, Tag};

use super::scalar;
use crate::SyntaxError;
use crate::json::{self, Duplicate, Style};
use crate::losses::{Loss, Losses};

/// Limits of a reader.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// The deepest nesting that is read.
    pub depth: usize,
    /// The most values that aliases may stand for, all together.
    pub aliases: usize,
    /// Where the text begins in the space of origins.
    pub base: Base,
}

/// The values that aliases may stand for unless more is asked for.
pub const DEFAULT_ALIASES: usize = 1_000_000;

impl Default for Options {
    fn default() -> Self {
        Self { depth: json::DEFAULT_DEPTH, aliases: DEFAULT_ALIASES, base: Base::default() }
    }
}

/// The documents of a stream.
#[derive(Debug)]
pub struct Documents<'a> {
    /// Their values, in order.
    pub documents: Vec<Value<'a>>,
    /// Keys that maps held twice; the later value was kept.
    pub duplicates: Vec<Duplicate>,
    /// What was not kept: comments, tags, keys that are no texts.
    pub losses: Losses,
}

/// Reads all documents of `text`; none when it is empty.
///
/// # Errors
/// A [`SyntaxError`] where the text is not YAML or passes a limit.
pub fn documents<'a>(
    text: &'a str,
    arena: &'a Arena,
    options: Options,
) -> Result<Documents<'a>, SyntaxError> {
    let mut reader = Reader {
        text,
        arena,
        options,
        offsets: Offsets { text, index: 0, offset: 0 },
        open: Vec::new(),
        anchors: HashMap::new(),
        alias_values: 0,
        read: Documents {
            documents: Vec::new(),
            duplicates: Vec::new(),
            losses: Losses::new(true),
        },
        commented: 0,
    };
    let mut parser = Parser::new_from_str(text);
    while let Some(event) = parser.next_event() {
        let (event, span) = event.map_err(|error| reader.scan_error(&error))?;
        reader.event(event, span)?;
    }
    reader.comments(text.len());
    Ok(reader.read)
}

/// Where the value that begins at byte `offset` ends, for marking it.
#[must_use]
pub fn value_end(text: &str, offset: usize) -> usize {
    let line = text.get(offset..).unwrap_or_default();
    let line = &line[..line.find('\n').unwrap_or(line.len())];
    let end = match line.as_bytes().first() {
        Some(b'#') => Some(line.trim_end().len()),
        Some(quote @ (b'"' | b'\'')) => line[1..].find(char::from(*quote)).map(|at| at + 2),
        _ => line.find([',', ']', '}', ':']).or_else(|| line.find(" #")),
    };
    offset + end.unwrap_or(line.trim_end().len()).max(1)
}

/// From the character indexes of the parser to byte offsets; they are asked for in nearly rising order.
struct Offsets<'a> {
    text: &'a str,
    index: usize,
    offset: usize,
}

impl Offsets<'_> {
    fn of(&mut self, marker: Marker) -> usize {
        let wanted = marker.index();
        if wanted < self.index {
            (self.index, self.offset) = (0, 0);
        }
        let rest = self.text.get(self.offset..).unwrap_or_default();
        let ahead = wanted - self.index;
        let length = match rest.as_bytes().get(..ahead) {
            Some(bytes) if bytes.is_ascii() => ahead,
            _ => rest.char_indices().nth(ahead).map_or(rest.len(), |(at, _)| at),
        };
        self.offset += length;
        self.index = wanted;
        self.offset
    }
}

/// A list or map whose end has not been met.
struct Open<'a> {
    origin: Origin,
    anchor: usize,
    /// How many values are in it, itself included.
    values: usize,
    children: Children<'a>,
}

enum Children<'a> {
    Items(Vec<Value<'a>>),
    Members {
        members: Vec<Member<'a>>,
        /// Members that come in by merge keys, with their places among the own ones.
        merged: Vec<Member<'a>>,
        /// The key whose value comes next.
        key: Option<Key<'a>>,
    },
}

#[derive(Clone, Copy)]
enum Key<'a> {
    Name(&'a str),
    Merge,
}

/// A value that aliases may stand for.
struct Anchored<'a> {
    value: Option<Value<'a>>,
    values: usize,
}

struct Reader<'a> {
    text: &'a str,
    arena: &'a Arena,
    options: Options,
    offsets: Offsets<'a>,
    open: Vec<Open<'a>>,
    anchors: HashMap<usize, Anchored<'a>>,
    alias_values: usize,
    read: Documents<'a>,
    /// Up to where comments have been looked for.
    commented: usize,
}

impl<'a> Reader<'a> {
    fn event(&mut self, event: Event<'a>, span: Span) -> Result<(), SyntaxError> {
        let start = self.offsets.of(span.start);
        match event {
            Event::DocumentStart(_) => self.anchors.clear(),
            Event::Scalar(text, style, anchor, tag) => {
                let end = match style {
                    ScalarStyle::SingleQuoted | ScalarStyle::DoubleQuoted => self.quoted_end(start),
                    _ => self.offsets.of(span.end),
                };
                self.comments(start);
                self.commented = end.max(self.commented);
                let value = self.scalar(text, style, tag.as_deref(), start);
                self.anchor(anchor, value, 1);
                self.value(value, 1)?;
            }
            Event::SequenceStart(anchor, tag) => {
                self.collection_tag(tag.as_deref(), start);
                self.begin(anchor, start, Children::Items(Vec::new()))?;
            }
            Event::MappingStart(anchor, tag) => {
                self.collection_tag(tag.as_deref(), start);
                let children =
                    Children::Members { members: Vec::new(), merged: Vec::new(), key: None };
                self.begin(anchor, start, children)?;
            }
            Event::SequenceEnd | Event::MappingEnd => self.end()?,
            Event::Alias(anchor) => self.alias(anchor, start)?,
            Event::Nothing | Event::StreamStart | Event::StreamEnd | Event::DocumentEnd => {}
        }
        Ok(())
    }

    fn begin(
        &mut self,
        anchor: usize,
        start: usize,
        children: Children<'a>,
    ) -> Result<(), SyntaxError> {
        if self.open.len() >= self.options.depth {
            let message = format!("lists and maps nest deeper than {} levels", self.options.depth);
            let advice = ("if this is meant, raise the limit with ", Setting::Depth);
            return Err(SyntaxError::limit(start, start + 1, message, advice));
        }
        if anchor > 0 {
            self.anchors.insert(anchor, Anchored { value: None, values: 0 });
        }
        let origin = self.origin(start);
        self.open.push(Open { origin, anchor, values: 1, children });
        Ok(())
    }

    fn end(&mut self) -> Result<(), SyntaxError> {
        let Some(Open { origin, anchor, values, children }) = self.open.pop() else {
            return Ok(());
        };
        let value = match children {
            Children::Items(items) => Value::List(origin, self.arena.items(&items)),
            Children::Members { members, merged, .. } => self.map(origin, members, merged),
        };
        self.anchor(anchor, value, values);
        self.value(value, values)
    }

    fn map(
        &mut self,
        origin: Origin,
        mut members: Vec<Member<'a>>,
        merged: Vec<Member<'a>>,
    ) -> Value<'a> {
        let duplicates = &mut self.read.duplicates;
        let own = Map::from_read(self.arena, &mut members, |name, earlier, later| {
            duplicates.push(Duplicate {
                name: name.to_owned(),
                earlier: self.options.base.offset(earlier.origin()),
                later: self.options.base.offset(later.origin()),
            });
        });
        if merged.is_empty() {
            return Value::Map(origin, own);
        }
        // What is merged comes first; own members, and what was merged earlier, count.
        let mut builder = kyanite_tree::MapBuilder::new();
        for member in &merged {
            if let Some(earlier) = builder.insert(member.name, member.value) {
                builder.insert(member.name, earlier);
            }
        }
        for member in own.members() {
            builder.insert(member.name, member.value);
        }
        Value::Map(origin, builder.finish(self.arena))
    }

    fn anchor(&mut self, anchor: usize, value: Value<'a>, values: usize) {
        if anchor > 0 {
            self.anchors.insert(anchor, Anchored { value: Some(value), values });
        }
    }

    fn alias(&mut self, anchor: usize, start: usize) -> Result<(), SyntaxError> {
        let Some(Anchored { value, values }) = self.anchors.get(&anchor) else {
            return Err(self.error(
                start,
                "this alias has no anchor".into(),
                "write &name before the value",
            ));
        };
        let values = *values;
        let Some(value) = *value else {
            let message = "this alias stands inside the value that it stands for".into();
            return Err(self.error(start, message, "a document that holds itself has no end"));
        };
        self.alias_values = self.alias_values.saturating_add(values);
        if self.alias_values > self.options.aliases {
            let message =
                format!("the aliases stand for more than {} values", self.options.aliases);
            let advice = ("if this is meant, raise the limit with ", Setting::Aliases);
            return Err(SyntaxError::limit(start, start + 1, message, advice));
        }
        self.value(value, values)
    }

    /// Puts a value where it belongs.
    fn value(&mut self, value: Value<'a>, values: usize) -> Result<(), SyntaxError> {
        let Some(open) = self.open.last_mut() else {
            self.read.documents.push(value);
            return Ok(());
        };
        open.values = open.values.saturating_add(values);
        let start = self.options.base.offset(value.origin());
        match &mut open.children {
            Children::Items(items) => items.push(value),
            Children::Members { members, merged, key } => match key.take() {
                None => {
                    let name = self.key(value);
                    if let Some(Open { children: Children::Members { key, .. }, .. }) =
                        self.open.last_mut()
                    {
                        *key = Some(name);
                    }
                }
                Some(Key::Name(name)) => members.push(Member { name, value }),
                Some(Key::Merge) => {
                    let sources = value.as_list().unwrap_or(std::slice::from_ref(&value));
                    for source in sources {
                        let Some(map) = source.as_map() else {
                            let message = format!(
                                "a merge key takes a map or a list of maps, not {}",
                                source.kind().phrase()
                            );
                            return Err(self.error(
                                start,
                                message,
                                "write \"<<\" in quotes for a member of that name",
                            ));
                        };
                        merged.extend_from_slice(map.members());
                    }
                }
            },
        }
        Ok(())
    }

    /// The name of a member: the text of its key as it is written.
    fn key(&mut self, key: Value<'a>) -> Key<'a> {
        match key {
            Value::Text(_, "<<")
                if self
                    .text
                    .get(self.options.base.offset(key.origin())..)
                    .is_some_and(|rest| rest.starts_with("<<")) =>
            {
                Key::Merge
            }
            Value::Text(_, text) => Key::Name(text),
            Value::List(..) | Value::Map(..) => {
                self.read.losses.add(Loss::Key, key.origin());
                let mut text = Vec::new();
                json::write(key, Style::Compact, &mut text);
                Key::Name(self.arena.text(&String::from_utf8_lossy(&text)))
            }
            Value::Null(_) => Key::Name(""),
            scalar => Key::Name(scalar.scalar_text().unwrap_or_default()),
        }
    }

    fn scalar(
        &mut self,
        text: std::borrow::Cow<'a, str>,
        style: ScalarStyle,
        tag: Option<&Tag>,
        start: usize,
    ) -> Value<'a> {
        let origin = self.origin(start);
        let text: &'a str = match text {
            std::borrow::Cow::Borrowed(text) => text,
            std::borrow::Cow::Owned(text) => self.arena.text(&text),
        };
        let is_core = tag.is_some_and(Tag::is_yaml_core_schema);
        let resolved = || scalar::resolve(text, origin, self.arena);
        match tag.map(|tag| tag.suffix.as_str()) {
            None if style == ScalarStyle::Plain => {
                if scalar::is_not_finite(text) {
                    self.read.losses.add(Loss::NotFinite, origin);
                }
                resolved()
            }
            None => Value::Text(origin, text),
            Some("str") if is_core => Value::Text(origin, text),
            Some("int" | "float" | "bool" | "null") if is_core => resolved(),
            Some("") if tag.is_some_and(|tag| tag.handle == "!" || tag.handle.is_empty()) => {
                Value::Text(origin, text)
            }
            Some(_) => {
                self.read.losses.add(Loss::Tag, origin);
                Value::Text(origin, text)
            }
        }
    }

    fn collection_tag(&mut self, tag: Option<&Tag>, start: usize) {
        let Some(tag) = tag else { return };
        let is_usual = tag.is_yaml_core_schema() && matches!(tag.suffix.as_str(), "seq" | "map");
        let is_plain = tag.handle == "!" && tag.suffix.is_empty();
        if !is_usual && !is_plain {
            let origin = self.origin(start);
            self.read.losses.add(Loss::Tag, origin);
        }
    }

    /// Where a scalar in quotes ends that begins at byte `start`; the parser's end is behind the comment that follows.
    fn quoted_end(&self, start: usize) -> usize {
        let bytes = self.text.as_bytes();
        let quote = bytes.get(start).copied();
        let mut at = start + 1;
        while let Some(byte) = bytes.get(at) {
            let next = bytes.get(at + 1).copied();
            match byte {
                b'\\' if quote == Some(b'"') => at += 1,
                b'\'' if quote == Some(b'\'') && next == Some(b'\'') => at += 1,
                byte if Some(*byte) == quote => return at + 1,
                _ => {}
            }
            at += 1;
        }
        bytes.len()
    }

    /// Counts the comments between the last scalar and byte `end`.
    fn comments(&mut self, end: usize) {
        let from = self.commented;
        let between = self.text.get(from..end).unwrap_or_default();
        let mut at = 0;
        while let Some(hash) = memchr::memchr(b'#', &between.as_bytes()[at..]).map(|hash| at + hash)
        {
            let begins = hash
                .checked_sub(1)
                .map_or(from == 0, |before| between.as_bytes()[before].is_ascii_whitespace())
                || hash == 0
                    && self
                        .text
                        .as_bytes()
                        .get(from.wrapping_sub(1))
                        .is_none_or(|byte| byte.is_ascii_whitespace());
            if begins {
                let origin = self.origin(from + hash);
                self.read.losses.add(Loss::Comment, origin);
                at = memchr::memchr(b'\n', &between.as_bytes()[hash..])
                    .map_or(between.len(), |line| hash + line);
            } else {
                at = hash + 1;
            }
        }
        self.commented = end.max(from);
    }

    fn origin(&self, start: usize) -> Origin {
        self.options.base.origin(start)
    }

    #[cold]
    fn error(
        &self,
        start: usize,
        message: String,
        advice: impl Into<Advice<kyanite_tree::Span>>,
    ) -> SyntaxError {
        SyntaxError::new(start, value_end(self.text, start), message, advice)
    }

    #[cold]
    fn scan_error(&mut self, error: &ScanError) -> SyntaxError {
        let start = self.offsets.of(*error.marker());
        let advice = "check the indentation of this line and the one before, and quotes around texts with : or #";
        let message = match error.info() {
            "recursion limit exceeded" => "the brackets of YAML nest deeper than 255 levels".into(),
            why => format!("this is not YAML: {why}"),
        };
        SyntaxError::new(start, start + 1, message, advice)
    }
}
