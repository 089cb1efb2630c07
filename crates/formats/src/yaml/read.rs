//! The YAML reader: from events to values.

use std::borrow::Cow;
use std::collections::HashMap;

use kyanite_tree::{
    Advice, Arena, Base, Foreign, ForeignType, Map, MapBuilder, Member, Origin, Setting, Span,
    Value,
};

use super::event::{Event, Properties, Receiver, ScalarStyle};
use super::parser::Parser;
use super::properties::CORE;
use super::scalar;
use super::write::write_flow;
use crate::SyntaxError;
use crate::json::{self, Duplicate};
use crate::losses::{Loss, Losses};

/// Limits of a reader.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// The deepest nesting that is read.
    pub depth: usize,
    /// The most values that aliases may stand for, all together; long texts count by their bytes.
    pub aliases: usize,
    /// Where the text begins in the space of origins.
    pub base: Base,
}

/// The values that aliases may stand for unless more is asked for.
pub const DEFAULT_ALIASES: usize = 1_000_000;

/// The bytes of a text that count as one value more among those that aliases stand for.
const BYTES_A_VALUE: usize = 64;

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
    /// What was not kept: comments, and tags of lists and maps.
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
    check_characters(text)?;
    let mut reader = Reader::new(text, arena, options);
    let mut parser = Parser::new(text);
    while parser.step(&mut reader)? {}
    for comment in parser.take_comments() {
        reader.read.losses.add(Loss::Comment, options.base.origin(comment.start));
    }
    Ok(reader.read)
}

/// Control characters stand in no YAML text, quoted or not (section 5.1).
pub(super) fn check_characters(text: &str) -> Result<(), SyntaxError> {
    let is_control = |byte: u8| byte < b' ' && !matches!(byte, b'\t' | b'\n' | b'\r');
    // Without a way out in the middle, many bytes are looked at at once.
    if !text.bytes().fold(false, |found, byte| found | is_control(byte)) {
        return Ok(());
    }
    let at = text.bytes().position(is_control).unwrap_or_default();
    let message = format!("the control character U+{:04X} stands here", text.as_bytes()[at]);
    Err(SyntaxError::new(at, at + 1, message, "write it as an escape in double quotes: \"\\x1B\""))
}

#[cold]
pub(super) fn too_large(span: Span, what: &str) -> SyntaxError {
    let message = format!("{what} is too large to be held");
    let advice = ("if there is memory for it, say more with ", Setting::Memory);
    SyntaxError::limit(span.start, span.end, message, advice)
}

/// Where the value that begins at byte `offset` ends on its line, for marking it.
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

/// Where the node ends whose content begins at byte `offset`, if one does.
#[must_use]
pub fn node_end(text: &str, offset: usize) -> Option<usize> {
    let mut finder = Finder { offset, depth: 0, end: None };
    let mut parser = Parser::new(text);
    while finder.depth > 0 || finder.end.is_none() {
        if !parser.step(&mut finder).ok()? {
            break;
        }
    }
    finder.end.filter(|_| finder.depth == 0)
}

/// Follows the events up to the end of one node.
struct Finder {
    offset: usize,
    /// How many collections are open, itself among them.
    depth: usize,
    /// Where the last thing in it ended.
    end: Option<usize>,
}

impl<'a> Receiver<'a> for Finder {
    fn event(&mut self, event: Event<'a>, span: Span) -> Result<(), SyntaxError> {
        if self.depth == 0 && (self.end.is_some() || span.start != self.offset) {
            return Ok(());
        }
        let opens = matches!(event, Event::SequenceStart { .. } | Event::MappingStart { .. });
        let closes = matches!(event, Event::SequenceEnd | Event::MappingEnd);
        let is_node = opens || closes || matches!(event, Event::Scalar { .. } | Event::Alias(_));
        if is_node {
            self.depth = self.depth + usize::from(opens) - usize::from(closes);
            // Where a collection in a block ends nothing is written, and what is empty is nowhere.
            if span.start < span.end || self.end.is_none() {
                self.end = self.end.max(Some(span.end));
            }
        }
        Ok(())
    }
}

/// A list or map whose end has not been met.
pub(super) struct Open<'a> {
    origin: Origin,
    anchor: Option<&'a str>,
    /// How many values are in it, itself included.
    values: usize,
    /// Where its items or members begin among those that are read.
    first: usize,
    children: Children<'a>,
}

impl<'a> Open<'a> {
    /// A list or map whose content was taken so far; in a map, with the key whose value is under way.
    pub(super) fn streamed(is_map: bool, key: Option<Key<'a>>) -> Self {
        let children = if is_map { Children::Members { key, rare: None } } else { Children::Items };
        Self { origin: Origin::NONE, anchor: None, values: 1, first: 0, children }
    }
}

enum Children<'a> {
    Items,
    Members {
        /// The key whose value comes next.
        key: Option<Key<'a>>,
        /// What few maps have: members that come in by merge keys, and keys that are no texts.
        rare: Option<Box<Rare<'a>>>,
    },
}

#[derive(Default)]
struct Rare<'a> {
    merged: Vec<Member<'a>>,
    keys: Vec<(&'a str, Value<'a>)>,
}

#[derive(Clone, Copy)]
pub(super) enum Key<'a> {
    /// The name of a member, and the key itself where that is no text.
    Name(&'a str, Option<Value<'a>>),
    Merge,
}

/// A value that was read, and what is known of it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Node<'a> {
    value: Value<'a>,
    /// How many values are in it, itself included.
    values: usize,
    /// Where it, or the alias that stands for it, is in the text.
    span: Span,
}

impl Node<'_> {
    /// The same in another arena, for a text in which it has no place.
    pub(super) fn copied(self, arena: &Arena) -> Node<'_> {
        Node { value: arena.copy(self.value), values: self.values, span: self.span }
    }
}

/// What an anchor names; nothing while that is being read.
type Named<'a> = Option<Node<'a>>;

/// What a reader goes back to.
#[derive(Default)]
struct ReaderCheckpoint<'a> {
    /// Anchors that were met since, with what they named before.
    met: Vec<(&'a str, Option<Named<'a>>)>,
    alias_values: usize,
    duplicates: usize,
    /// The key whose value comes next.
    key: Option<Key<'a>>,
}

pub(super) struct Reader<'a> {
    text: &'a str,
    arena: &'a Arena,
    pub(super) options: Options,
    pub(super) open: Vec<Open<'a>>,
    /// The items of the lists that are open, one list behind the other; likewise the members of maps.
    pub(super) items: Vec<Value<'a>>,
    pub(super) members: Vec<Member<'a>>,
    /// What aliases may stand for, and what they may from texts before.
    pub(super) anchors: HashMap<&'a str, Named<'a>>,
    pub(super) earlier: Option<&'a HashMap<&'a str, Node<'a>>>,
    /// Anchors of what is too large to be held.
    pub(super) large: Vec<&'a str>,
    alias_values: usize,
    checkpoint: ReaderCheckpoint<'a>,
    pub(super) read: Documents<'a>,
}

impl<'a> Receiver<'a> for Reader<'a> {
    #[inline]
    fn event(&mut self, event: Event<'a>, span: Span) -> Result<(), SyntaxError> {
        match event {
            Event::DocumentStart { .. } => {
                self.anchors.clear();
                self.large.clear();
                self.earlier = None;
            }
            Event::DocumentEnd { .. } => {}
            Event::Scalar { text, style, properties } => {
                let value = self.scalar(text, style, properties.tag(), span.start);
                let values = 1 + value.as_text().map_or(0, str::len) / BYTES_A_VALUE;
                self.node(properties.anchor(), Node { value, values, span })?;
            }
            Event::SequenceStart { properties, .. } => {
                self.begin(&properties, span, self.items.len(), Children::Items)?;
            }
            Event::MappingStart { properties, .. } => {
                let children = Children::Members { key: None, rare: None };
                self.begin(&properties, span, self.members.len(), children)?;
            }
            Event::SequenceEnd | Event::MappingEnd => self.end(span)?,
            Event::Alias(anchor) => self.alias(anchor, span)?,
        }
        Ok(())
    }
}

impl<'a> Reader<'a> {
    pub(super) fn new(text: &'a str, arena: &'a Arena, options: Options) -> Self {
        Self {
            text,
            arena,
            options,
            open: Vec::new(),
            items: Vec::new(),
            members: Vec::new(),
            anchors: HashMap::new(),
            earlier: None,
            large: Vec::new(),
            alias_values: 0,
            checkpoint: ReaderCheckpoint::default(),
            read: Documents {
                documents: Vec::new(),
                duplicates: Vec::new(),
                losses: Losses::new(true),
            },
        }
    }

    /// Only lists and maps are open whose content is taken: what was read so far stays.
    pub(super) fn commit(&mut self) {
        let mut met = std::mem::take(&mut self.checkpoint.met);
        met.clear();
        let key = match self.open.last_mut().map(|open| &mut open.children) {
            Some(Children::Members { key, rare }) => {
                // The keys of a map that nobody holds.
                *rare = None;
                *key
            }
            _ => None,
        };
        let (alias_values, duplicates) = (self.alias_values, self.read.duplicates.len());
        self.checkpoint = ReaderCheckpoint { met, alias_values, duplicates, key };
    }

    /// Forgets what was read since [`commit`](Self::commit), when `open` lists and maps were open.
    pub(super) fn roll_back(&mut self, open: usize) {
        while let Some((anchor, before)) = self.checkpoint.met.pop() {
            match before {
                Some(before) => self.anchors.insert(anchor, before),
                None => self.anchors.remove(anchor),
            };
        }
        self.open.truncate(open);
        self.items.clear();
        self.members.clear();
        self.read.documents.clear();
        self.read.duplicates.truncate(self.checkpoint.duplicates);
        self.alias_values = self.checkpoint.alias_values;
        if let Some(Open { children: Children::Members { key, rare }, .. }) = self.open.last_mut() {
            (*key, *rare) = (self.checkpoint.key, None);
        }
    }

    /// Whether the map that is open innermost has a key whose value comes next.
    pub(super) fn awaits_value(&self) -> bool {
        let children = self.open.last().map(|open| &open.children);
        matches!(children, Some(Children::Members { key: Some(_), .. }))
    }

    /// The name of the member under way in the list or map of that number, if it is a map.
    pub(super) fn name_under_way(&self, number: usize) -> Option<&'a str> {
        match self.open.get(number)?.children {
            Children::Members { key: Some(Key::Name(name, _)), .. } => Some(name),
            _ => None,
        }
    }

    /// Whether the content of all lists and maps from that number on may be taken: they are no keys, and nothing is merged into them.
    pub(super) fn may_stream(&self, number: usize) -> bool {
        let is_value = |open: &Open<'_>| match &open.children {
            Children::Items => true,
            Children::Members { key, .. } => matches!(key, Some(Key::Name(..))),
        };
        let around = self.open.iter().skip(number.saturating_sub(1)).rev().skip(1);
        let merges = |open: &Open<'_>| match &open.children {
            Children::Items => false,
            Children::Members { key, rare } => {
                matches!(key, Some(Key::Merge))
                    || rare.as_ref().is_some_and(|r| !r.merged.is_empty())
            }
        };
        around.into_iter().all(is_value) && !self.open.iter().skip(number).any(merges)
    }

    /// Lets the content of the list or map of that number be taken, if there is one; gives whether it is a map.
    pub(super) fn begin_streaming(&mut self, number: usize) -> Option<bool> {
        let open = self.open.get_mut(number)?;
        self.large.extend(open.anchor.take());
        open.origin = Origin::NONE;
        Some(matches!(open.children, Children::Members { .. }))
    }

    /// Drops the value that was read last, in a map, a list or, without either, as a document.
    pub(super) fn drop_last(&mut self, is_in_map: Option<bool>) {
        match is_in_map {
            Some(true) => drop(self.members.pop()),
            Some(false) => drop(self.items.pop()),
            None => drop(self.read.documents.pop()),
        }
    }

    /// An anchor names something, or will.
    fn name(&mut self, anchor: &'a str, named: Named<'a>) {
        self.large.retain(|large| *large != anchor);
        let before = self.anchors.insert(anchor, named);
        self.checkpoint.met.push((anchor, before));
    }

    fn begin(
        &mut self,
        properties: &Properties<'a>,
        span: Span,
        first: usize,
        children: Children<'a>,
    ) -> Result<(), SyntaxError> {
        if self.open.len() >= self.options.depth {
            let message = format!("lists and maps nest deeper than {} levels", self.options.depth);
            let advice = ("if this is meant, raise the limit with ", Setting::Depth);
            return Err(SyntaxError::limit(span.start, span.start + 1, message, advice));
        }
        let origin = self.options.base.origin(span.start);
        match properties.tag() {
            None | Some("!") => {}
            Some(tag)
                if tag.strip_prefix(CORE).is_some_and(|name| matches!(name, "seq" | "map")) => {}
            Some(_) => self.read.losses.add(Loss::Tag, origin),
        }
        let anchor = properties.anchor();
        if let Some(anchor) = anchor {
            self.name(anchor, None);
        }
        self.open.push(Open { origin, anchor, values: 1, first, children });
        Ok(())
    }

    fn end(&mut self, span: Span) -> Result<(), SyntaxError> {
        let Some(open) = self.open.pop() else { return Ok(()) };
        let Open { origin, anchor, values, first, children } = open;
        let value = match children {
            Children::Items => {
                let list = Value::List(origin, self.arena.items(&self.items[first..]));
                self.items.truncate(first);
                list
            }
            Children::Members { rare, .. } => Value::Map(origin, self.map(first, rare)),
        };
        self.node(anchor, Node { value, values, span })
    }

    /// The map of the members from `first` on.
    fn map(&mut self, first: usize, rare: Option<Box<Rare<'a>>>) -> &'a Map<'a> {
        let (base, duplicates) = (self.options.base, &mut self.read.duplicates);
        let own = Map::from_read(self.arena, &mut self.members[first..], |name, earlier, later| {
            duplicates.push(Duplicate {
                name: name.to_owned(),
                earlier: base.offset(earlier.origin()),
                later: base.offset(later.origin()),
            });
        });
        self.members.truncate(first);
        let Some(rare) = rare else { return own };
        let map = if rare.merged.is_empty() {
            own
        } else {
            // What is merged comes first; own members, and what was merged earlier, count.
            let mut builder = MapBuilder::new();
            for member in &rare.merged {
                if let Some(earlier) = builder.insert(member.name, member.value) {
                    builder.insert(member.name, earlier);
                }
            }
            for member in own.members() {
                builder.insert(member.name, member.value);
            }
            builder.finish(self.arena)
        };
        if rare.keys.is_empty() { map } else { map.with_keys(self.arena, &rare.keys) }
    }

    /// A node is complete.
    fn node(&mut self, anchor: Option<&'a str>, node: Node<'a>) -> Result<(), SyntaxError> {
        if let Some(anchor) = anchor {
            self.name(anchor, Some(node));
        }
        self.value(node)
    }

    fn alias(&mut self, anchor: &'a str, span: Span) -> Result<(), SyntaxError> {
        if self.large.contains(&anchor) {
            return Err(too_large(span, "what this alias stands for"));
        }
        let earlier = || self.earlier?.get(anchor).copied().map(Some);
        let Some(known) = self.anchors.get(anchor).copied().or_else(earlier) else {
            let earlier = self.earlier.into_iter().flat_map(HashMap::keys);
            let mut known: Vec<&str> = self.anchors.keys().chain(earlier).copied().collect();
            known.sort_unstable();
            let advice = kyanite_tree::near_words(anchor, known)
                .unwrap_or_else(|| format!("write &{anchor} before the value that is meant"));
            return Err(self.error(span, format!("the alias *{anchor} has no anchor"), advice));
        };
        let Some(node) = known else {
            let message = "this alias stands inside the value that it stands for";
            return Err(self.error(span, message, "a document that holds itself has no end"));
        };
        self.alias_values = self.alias_values.saturating_add(node.values);
        if self.alias_values > self.options.aliases {
            let message =
                format!("the aliases stand for more than {} values", self.options.aliases);
            let advice = ("if this is meant, raise the limit with ", Setting::Aliases);
            return Err(SyntaxError::limit(span.start, span.end, message, advice));
        }
        self.value(Node { span, ..node })
    }

    /// Puts a value where it belongs.
    fn value(&mut self, node: Node<'a>) -> Result<(), SyntaxError> {
        let Node { value, values, span } = node;
        let Some(open) = self.open.last_mut() else {
            self.read.documents.push(value);
            return Ok(());
        };
        open.values = open.values.saturating_add(values);
        let Children::Members { key, rare } = &mut open.children else {
            self.items.push(value);
            return Ok(());
        };
        match key.take() {
            None => {
                let is_plain = self.text.as_bytes().get(span.start) == Some(&b'<');
                *key = Some(match value {
                    Value::Text(_, "<<") if is_plain => Key::Merge,
                    Value::Text(_, text) => Key::Name(text, None),
                    Value::Null(_) => {
                        // An alias is not what its null was spelled as.
                        let written = self.text.get(span.start..span.end).unwrap_or_default();
                        let name = if written.starts_with('*') { "" } else { written };
                        Key::Name(name, Some(value))
                    }
                    Value::List(..) | Value::Map(..) => {
                        let mut name = Vec::new();
                        write_flow(value, &mut name);
                        let name = self.arena.text(&String::from_utf8_lossy(&name));
                        Key::Name(name, Some(value))
                    }
                    scalar => Key::Name(scalar.scalar_text().unwrap_or_default(), Some(scalar)),
                });
            }
            Some(Key::Name(name, typed)) => {
                if let Some(typed) = typed {
                    rare.get_or_insert_default().keys.push((name, typed));
                }
                self.members.push(Member { name, value });
            }
            Some(Key::Merge) => {
                let sources = value.as_list().unwrap_or(std::slice::from_ref(&value));
                for source in sources {
                    let Some(map) = source.as_map() else {
                        let message = format!(
                            "a merge key takes a map or a list of maps, not {}",
                            source.kind().phrase()
                        );
                        let advice = "write \"<<\" in quotes for a member of that name";
                        return Err(self.error(span, message, advice));
                    };
                    // Of what it is merged into only new members are known.
                    if open.origin == Origin::NONE {
                        return Err(too_large(span, "what this is merged into"));
                    }
                    let rare = rare.get_or_insert_default();
                    rare.merged.extend_from_slice(map.members());
                    let names = map.keys().iter().map(|(at, key)| (map.members()[*at].name, *key));
                    rare.keys.extend(names);
                }
            }
        }
        Ok(())
    }

    fn scalar(
        &mut self,
        text: Cow<'a, str>,
        style: ScalarStyle,
        tag: Option<&str>,
        start: usize,
    ) -> Value<'a> {
        let origin = self.options.base.origin(start);
        let text: &'a str = match text {
            Cow::Borrowed(text) => text,
            Cow::Owned(text) => self.arena.text(&text),
        };
        let foreign = |of| Value::Foreign(origin, self.arena.put(Foreign { text, of }));
        let resolved = || match scalar::is_not_finite(text) {
            true => foreign(ForeignType::NotFinite),
            false => scalar::resolve(text, origin, self.arena),
        };
        match tag.map(|tag| (tag, tag.strip_prefix(CORE))) {
            None if style == ScalarStyle::Plain => resolved(),
            None | Some(("!", _) | (_, Some("str"))) => Value::Text(origin, text),
            Some((_, Some("int" | "float" | "bool" | "null"))) => resolved(),
            Some((tag, _)) => foreign(ForeignType::Tagged(self.arena.text(tag))),
        }
    }

    #[cold]
    fn error(
        &self,
        span: Span,
        message: impl Into<String>,
        advice: impl Into<Advice<Span>>,
    ) -> SyntaxError {
        let end = span.end.max(span.start + 1);
        SyntaxError::new(span.start, end.min(self.text.len()), message, advice)
    }
}
