//! The YAML parser: from a text to events, one at a time (YAML 1.2.2 chapters 6 to 9).
//!
//! It follows the productions of the specification by indentation. Nesting is a stack, not recursion, so depth costs no stack
//! of the thread; nothing is looked at more than a fixed number of times, so time grows with the text. What stands on the
//! line of a block node decides by what follows it whether it is the first key of a mapping.

use std::borrow::Cow;
use std::collections::VecDeque;

use kyanite_tree::{Advice, Span};

use super::cursor::{Cursor, Gap};
use super::event::{Event, Placed, Properties, Receiver, ScalarStyle};
use super::flow::Closers;
use super::scalars::Read;
use crate::SyntaxError;

/// What a parsing function gives, or what is wrong.
pub(super) type Parsed<T> = Result<T, SyntaxError>;

/// A collection whose end has not been met.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Frame {
    /// A block sequence whose dashes stand in this column.
    BlockSequence(usize),
    /// A block mapping whose keys stand in this column.
    BlockMapping(usize, Side),
    /// A sequence in brackets, opened at this byte.
    FlowSequence(usize),
    /// A mapping in braces, opened at this byte.
    FlowMapping(usize, Side),
    /// A single pair in brackets.
    FlowPair(Side),
}

/// Which node of a pair is being read.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Side {
    /// A key behind `?`.
    ExplicitKey,
    /// A key that its colon tells.
    ImplicitKey,
    /// The value.
    Value,
}

/// What comes next.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum State {
    /// A document, or the end of the stream.
    Stream,
    /// The root node of a document.
    Root(Start),
    /// The end of a document.
    DocumentEnd,
    /// An item of the innermost block sequence, or its end.
    BlockItem,
    /// A key of the innermost block mapping, or its end.
    BlockKey,
    /// The value to the key that was read, if there is one.
    BlockValue,
    /// An item or key of the innermost flow collection, or its end.
    FlowItem,
    /// A comma, or the end of the innermost flow collection.
    FlowComma,
    /// The value to a key in braces, if there is one.
    FlowValue,
    /// The value of a single pair in brackets.
    PairValue,
    /// Nothing.
    Ended,
}

/// Where on its line a block node begins.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Start {
    /// At the beginning of a line.
    Line,
    /// Behind `-`, `?` or `:` and blanks, so that a collection may begin there.
    Compact,
    /// Behind a key, a `---` or a tab, so that no block collection may.
    Inline,
}

/// Gives the events of a text.
pub struct Parser<'a> {
    pub(super) cursor: Cursor<'a>,
    pub(super) state: State,
    pub(super) stack: Vec<Frame>,
    /// How many of the frames are flow collections.
    flow: usize,
    /// The scalar that was read last.
    pub(super) read: Read<'a>,
    /// Events that come before the next state.
    pub(super) waiting: VecDeque<Placed<'a>>,
    /// The tag handles that the document declares, with their prefixes.
    pub(super) handles: Vec<(&'a str, &'a str)>,
    /// Where brackets on a line are closed.
    pub(super) closers: Closers,
    /// A collection was just opened, so that its first item or key may stand on this line.
    pub(super) is_fresh: bool,
    /// Whether simple lines are read in one go.
    is_simple: bool,
    /// The scalar or collection before the position may have a colon right behind it: it is in quotes or brackets.
    pub(super) is_json_like: bool,
}

impl<'a> Parser<'a> {
    /// A parser of `text`.
    #[must_use]
    pub fn new(text: &'a str) -> Self {
        Self {
            cursor: Cursor::new(text),
            state: State::Stream,
            stack: Vec::new(),
            flow: 0,
            read: Read {
                text: Cow::Borrowed(""),
                style: ScalarStyle::Plain,
                span: Span::default(),
                is_long: false,
            },
            waiting: VecDeque::new(),
            handles: Vec::new(),
            closers: Closers::default(),
            is_fresh: false,
            is_simple: true,
            is_json_like: false,
        }
    }

    /// The same parser, which reads each line by the productions, also the simple ones.
    #[must_use]
    pub fn without_simple_lines(self) -> Self {
        Self { is_simple: false, ..self }
    }

    /// The next event; none at the end.
    ///
    /// # Errors
    /// A [`SyntaxError`] where the text is not YAML. Behind it there are no events.
    pub fn next_event(&mut self) -> Result<Option<Placed<'a>>, SyntaxError> {
        let mut waiting = std::mem::take(&mut self.waiting);
        while waiting.is_empty() && self.step(&mut waiting)? {}
        let next = waiting.pop_front();
        self.waiting = waiting;
        Ok(next)
    }

    /// Reads on to the next events, and hands them to `to`; tells whether there may be more.
    ///
    /// # Errors
    /// A [`SyntaxError`] where the text is not YAML, or that of the receiver. Behind it there are no events.
    pub fn step<R: Receiver<'a>>(&mut self, to: &mut R) -> Result<bool, SyntaxError> {
        let stepped = match self.state {
            State::Stream => self.document_start(to),
            State::Root(start) => self.block_node(to, start, None, false),
            State::DocumentEnd => self.document_end(to),
            State::BlockItem => self.block_item(to),
            State::BlockKey => self.block_key(to),
            State::BlockValue => self.block_value(to),
            State::FlowItem => self.flow_item(to),
            State::FlowComma => self.flow_comma(to),
            State::FlowValue => self.flow_value(to),
            State::PairValue => self.pair_value(to),
            State::Ended => return Ok(false),
        };
        if stepped.is_err() {
            self.state = State::Ended;
        }
        stepped.map(|()| true)
    }

    /// The comments passed since this was last asked.
    pub fn take_comments(&mut self) -> Vec<Span> {
        std::mem::take(&mut self.cursor.comments)
    }

    pub(super) fn flow_level(&self) -> usize {
        self.flow
    }

    pub(super) fn emit<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        event: Event<'a>,
        start: usize,
        end: usize,
    ) -> Parsed<()> {
        to.event(event, Span::new(start, end))
    }

    /// The scalar that was read last is a node.
    #[inline]
    pub(super) fn emit_scalar<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        properties: Properties<'a>,
    ) -> Parsed<()> {
        let Read { style, span, .. } = self.read;
        let text = std::mem::take(&mut self.read.text);
        self.is_json_like = self.read.is_quoted();
        to.event(Event::Scalar { text, style, properties }, span)
    }

    /// A node without content (section 7.2).
    pub(super) fn emit_nothing<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        properties: Properties<'a>,
    ) -> Parsed<()> {
        let (text, style, at) = (Cow::Borrowed(""), ScalarStyle::Plain, self.cursor.at);
        self.is_json_like = false;
        self.emit(to, Event::Scalar { text, style, properties }, at, at)
    }

    pub(super) fn open(&mut self, frame: Frame) {
        self.flow += usize::from(frame.is_flow());
        self.stack.push(frame);
        self.is_fresh = true;
    }

    /// Closes the innermost collection, which ends at the position behind `length` more bytes.
    pub(super) fn close<R: Receiver<'a>>(&mut self, to: &mut R, length: usize) -> Parsed<()> {
        let Some(frame) = self.stack.pop() else { return Ok(()) };
        self.flow -= usize::from(frame.is_flow());
        let start = self.cursor.at;
        self.cursor.at += length;
        let end = match frame {
            Frame::BlockSequence(_) | Frame::FlowSequence(_) => Event::SequenceEnd,
            Frame::BlockMapping(..) | Frame::FlowMapping(..) | Frame::FlowPair(_) => {
                Event::MappingEnd
            }
        };
        self.emit(to, end, start, self.cursor.at)?;
        if let Frame::FlowSequence(_) | Frame::FlowMapping(..) = frame {
            self.is_json_like = true;
        }
        self.after_node();
        Ok(())
    }

    /// A node has ended: what comes next.
    #[inline]
    pub(super) fn after_node(&mut self) {
        self.is_fresh = false;
        self.state = match self.stack.last() {
            None => State::DocumentEnd,
            Some(Frame::BlockSequence(_)) => State::BlockItem,
            Some(Frame::BlockMapping(_, Side::Value)) => State::BlockKey,
            Some(Frame::BlockMapping(..)) => State::BlockValue,
            Some(Frame::FlowSequence(_) | Frame::FlowMapping(_, Side::Value)) => State::FlowComma,
            Some(Frame::FlowMapping(..)) => State::FlowValue,
            Some(Frame::FlowPair(_)) => State::PairValue,
        };
    }

    /// Says which node of the innermost pair comes.
    pub(super) fn side(&mut self, next: Side) {
        if let Some(
            Frame::BlockMapping(_, side) | Frame::FlowMapping(_, side) | Frame::FlowPair(side),
        ) = self.stack.last_mut()
        {
            *side = next;
        }
    }

    /// The column of the innermost block collection; none at the root.
    pub(super) fn indent(&self) -> Option<usize> {
        self.stack.iter().rev().find_map(|frame| match frame {
            Frame::BlockSequence(column) | Frame::BlockMapping(column, _) => Some(*column),
            _ => None,
        })
    }

    /// Nothing but the end of the text, or the end of the document, is at the position.
    fn at_document_end(&self) -> bool {
        self.cursor.peek().is_none() || self.cursor.at_marker()
    }

    fn document_start<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        loop {
            if self.cursor.slice(self.cursor.at, self.cursor.at + 3) == "\u{feff}" {
                self.cursor.at += 3;
                self.cursor.line = self.cursor.at;
            }
            self.cursor.skip();
            if !self.cursor.at_indicator_line(b"...") {
                break;
            }
            self.marker_end()?;
        }
        if self.cursor.peek().is_none() {
            self.state = State::Ended;
            return Ok(());
        }
        let has_directives = self.directives()?;
        let start = self.cursor.at;
        if self.cursor.at_indicator_line(b"---") {
            self.cursor.at += 3;
            self.emit(to, Event::DocumentStart { explicit: true }, start, self.cursor.at)?;
            let gap = self.cursor.skip();
            self.state = State::Root(if gap.new_line { Start::Line } else { Start::Inline });
        } else if has_directives {
            let advice = "write --- on a line of its own before the document";
            return Err(self.error_here("a document is missing behind the directives", advice));
        } else {
            self.emit(to, Event::DocumentStart { explicit: false }, start, start)?;
            self.state = State::Root(Start::Line);
        }
        Ok(())
    }

    fn document_end<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let gap = self.cursor.skip();
        let start = self.cursor.at;
        if !self.at_document_end() {
            return Err(self.leftover(gap));
        }
        let explicit = self.cursor.at_indicator_line(b"...");
        if explicit {
            self.marker_end()?;
        }
        self.emit(to, Event::DocumentEnd { explicit }, start, self.cursor.at.min(start + 3))?;
        self.state = State::Stream;
        Ok(())
    }

    /// Steps over `...` to the end of its line.
    fn marker_end(&mut self) -> Parsed<()> {
        self.cursor.at += 3;
        let gap = self.cursor.skip();
        if gap.new_line || self.cursor.peek().is_none() {
            return Ok(());
        }
        Err(self.error_here(
            "something stands behind the end of a document",
            "put it on a line of its own",
        ))
    }

    /// An item of a block sequence, or its end (section 8.2.1).
    fn block_item<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let Some(Frame::BlockSequence(column)) = self.stack.last().copied() else { return Ok(()) };
        let gap = self.cursor.skip();
        let is_first = std::mem::replace(&mut self.is_fresh, false);
        if self.at_document_end() || gap.new_line && self.cursor.column() < column {
            self.close(to, 0)?;
            return Ok(());
        }
        if !gap.new_line && !is_first {
            return Err(self.leftover(gap));
        }
        let is_item = self.cursor.at_indicator(b'-');
        if self.cursor.column() == column && is_item {
            self.refuse_tab(gap)?;
            self.cursor.at += 1;
            let start = self.behind_indicator();
            return self.block_node(to, start, Some(column), false);
        }
        let around = self.stack.iter().rev().nth(1);
        if self.cursor.column() == column
            && matches!(around, Some(Frame::BlockMapping(outer, _)) if *outer == column)
        {
            self.close(to, 0)?;
            return Ok(());
        }
        Err(if self.cursor.column() > column {
            self.too_deep_line("an item")
        } else {
            let advice =
                "write a dash and a blank before the item, or indent it less to end the list";
            self.error_here("a dash is missing before this item of a list", advice)
        })
    }

    /// Where a node stands behind an indicator, once blanks and line ends are skipped.
    #[inline]
    fn behind_indicator(&mut self) -> Start {
        match self.cursor.skip() {
            Gap { new_line: true, .. } => Start::Line,
            Gap { tab: true, .. } => Start::Inline,
            Gap { .. } => Start::Compact,
        }
    }

    /// A key of a block mapping, or its end (section 8.2.2).
    fn block_key<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let Some(Frame::BlockMapping(column, _)) = self.stack.last().copied() else {
            return Ok(());
        };
        let gap = self.cursor.skip();
        let is_first = std::mem::replace(&mut self.is_fresh, false);
        if self.at_document_end() || gap.new_line && self.cursor.column() < column {
            self.close(to, 0)?;
            return Ok(());
        }
        if !gap.new_line && !is_first {
            return Err(self.leftover(gap));
        }
        self.refuse_tab(gap)?;
        if self.cursor.column() > column && gap.new_line {
            return Err(self.too_deep_line("a key"));
        }
        if self.is_simple && self.simple_lines(to, column)? {
            return Ok(());
        }
        if self.cursor.at_indicator(b'?') {
            self.cursor.at += 1;
            self.side(Side::ExplicitKey);
            let start = self.behind_indicator();
            return self.block_node(to, start, Some(column), true);
        }
        self.side(Side::ImplicitKey);
        let start = self.cursor.at;
        let mut properties = self.properties()?;
        match self.key(to, start, &mut properties, Some(column), None)? {
            Key::Read => Ok(()),
            Key::Scalar(_) | Key::None(_) => Err(self.no_key(start, &properties)),
        }
    }

    /// Reads an implicit key at the position, if one is there: what is on one line with a colon behind it (section 8.2.2). The
    /// first key opens its mapping.
    fn key<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        start: usize,
        properties: &mut Properties<'a>,
        indent: Option<usize>,
        opening: Option<Opening<'a>>,
    ) -> Parsed<Key<'a>> {
        let begun = self.cursor.at;
        let outer =
            |opening: Option<Opening<'a>>| opening.map(|o| o.properties).unwrap_or_default();
        match self.cursor.peek() {
            Some(b':') if self.cursor.at_indicator(b':') => {
                self.open_mapping(to, opening)?;
                self.emit_nothing(to, std::mem::take(properties))?;
            }
            Some(b'*') => {
                let name = self.anchor_name()?;
                let end = self.cursor.at;
                if !self.colon_follows() {
                    self.cursor.at = begun;
                    return Ok(Key::None(outer(opening)));
                }
                self.refuse_properties(start, properties)?;
                self.open_mapping(to, opening)?;
                self.emit(to, Event::Alias(name), begun, end)?;
            }
            Some(b'[' | b'{') => {
                if !self.closes_before_colon(false) {
                    return Ok(Key::None(outer(opening)));
                }
                self.open_mapping(to, opening)?;
                self.flow_start(to, std::mem::take(properties))?;
                return Ok(Key::Read);
            }
            Some(_) => {
                if !self.scalar(indent)? {
                    return Ok(Key::None(outer(opening)));
                }
                if self.read.is_long || !self.colon_follows() {
                    return Ok(Key::Scalar(outer(opening)));
                }
                self.open_mapping(to, opening)?;
                self.emit_scalar(to, std::mem::take(properties))?;
            }
            None => return Ok(Key::None(outer(opening))),
        }
        self.state = State::BlockValue;
        Ok(Key::Read)
    }

    /// Opens a block mapping before its first key.
    fn open_mapping<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        opening: Option<Opening<'a>>,
    ) -> Parsed<()> {
        let Some(Opening { start, begun, line, properties }) = opening else { return Ok(()) };
        self.may_begin(start, begun, line)?;
        self.open(Frame::BlockMapping(begun - line, Side::ImplicitKey));
        self.emit(to, Event::MappingStart { flow: false, properties }, begun, begun)
    }

    pub(super) fn refuse_properties(
        &self,
        start: usize,
        properties: &Properties<'_>,
    ) -> Parsed<()> {
        if properties.is_empty() {
            return Ok(());
        }
        Err(self.error(start, "an alias has no anchor or tag", "take it away"))
    }

    /// Reads the scalar at the position, in quotes or plain, if there is one.
    #[inline]
    pub(super) fn scalar(&mut self, indent: Option<usize>) -> Parsed<bool> {
        match self.cursor.peek() {
            Some(b'"' | b'\'') => self.quoted(indent)?,
            Some(_) if self.begins_plain() => self.plain(indent),
            _ => return Ok(false),
        }
        Ok(true)
    }

    /// The value to the key of a block mapping.
    fn block_value<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let Some(Frame::BlockMapping(column, side)) = self.stack.last().copied() else {
            return Ok(());
        };
        let start = if side == Side::ImplicitKey {
            self.cursor.white();
            if !self.cursor.at_indicator(b':') {
                return Err(self.leftover(Gap::default()));
            }
            self.cursor.at += 1;
            match self.behind_indicator() {
                Start::Line => Start::Line,
                _ => Start::Inline,
            }
        } else {
            let before = self.cursor.at;
            let gap = self.cursor.skip();
            let is_there =
                gap.new_line && self.cursor.column() == column && self.cursor.at_indicator(b':');
            if !is_there {
                if !gap.new_line && self.cursor.peek().is_some() {
                    return Err(self.leftover(gap));
                }
                self.side(Side::Value);
                let at = std::mem::replace(&mut self.cursor.at, before);
                self.emit_nothing(to, Properties::default())?;
                self.cursor.at = at;
                self.after_node();
                return Ok(());
            }
            self.refuse_tab(gap)?;
            self.cursor.at += 1;
            self.behind_indicator()
        };
        self.side(Side::Value);
        self.block_node(to, start, Some(column), true)
    }

    /// A node of a block collection, or the root (section 8.2.3). `indent` is the column of the collection around it; a
    /// sequence that is a `value` may stand in the same column.
    fn block_node<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        start: Start,
        indent: Option<usize>,
        is_value: bool,
    ) -> Parsed<()> {
        if self.is_absent(start, indent, is_value) {
            self.emit_nothing(to, Properties::default())?;
            self.after_node();
            return Ok(());
        }
        let (mut start, mut outer) = (start, Properties::default());
        loop {
            let begun = self.cursor.at;
            let inner = self.properties()?;
            if inner.is_empty() || !self.cursor.rest_is_blank() {
                return self.block_content(to, start, indent, outer, begun, inner);
            }
            // What they belong to stands on a further line.
            outer = self.joined(outer, inner, begun)?;
            let behind = self.cursor.at;
            self.cursor.skip();
            start = Start::Line;
            if self.is_absent(start, indent, is_value) {
                let at = std::mem::replace(&mut self.cursor.at, behind);
                self.emit_nothing(to, outer)?;
                self.cursor.at = at;
                self.after_node();
                return Ok(());
            }
        }
    }

    /// The properties of a node that stand on several lines.
    fn joined(
        &self,
        outer: Properties<'a>,
        inner: Properties<'a>,
        begun: usize,
    ) -> Parsed<Properties<'a>> {
        outer.join(inner).map_err(|_| {
            let advice = "take one of the two away";
            self.error(begun, "a node has one anchor and one tag", advice)
        })
    }

    /// Whether the node that comes next has no content: what is at the position stands too far to the left.
    fn is_absent(&self, start: Start, indent: Option<usize>, is_value: bool) -> bool {
        if self.at_document_end() {
            return true;
        }
        let (Start::Line, Some(indent)) = (start, indent) else { return false };
        let spaces = self.cursor.spaces_before();
        spaces < indent || spaces == indent && !(is_value && self.cursor.at_indicator(b'-'))
    }

    /// The content of a block node: `outer` properties stood on a line before, `inner` ones, which begin at `begun`, on this
    /// one; they belong to the first key if there is one.
    fn block_content<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        start: Start,
        indent: Option<usize>,
        outer: Properties<'a>,
        begun: usize,
        mut inner: Properties<'a>,
    ) -> Parsed<()> {
        let column = begun - self.cursor.line;
        let at = self.cursor.at;
        if self.cursor.at_indicator(b'-') || self.cursor.at_indicator(b'?') {
            if !inner.is_empty() {
                let advice = "put them on the line before";
                return Err(self.error(
                    begun,
                    "an anchor or tag stands before this on its line",
                    advice,
                ));
            }
            self.may_begin(start, begun, self.cursor.line)?;
            if self.cursor.at_indicator(b'-') {
                self.open(Frame::BlockSequence(column));
                self.emit(to, Event::SequenceStart { flow: false, properties: outer }, at, at + 1)?;
                self.state = State::BlockItem;
            } else {
                self.open(Frame::BlockMapping(column, Side::ExplicitKey));
                self.emit(to, Event::MappingStart { flow: false, properties: outer }, at, at + 1)?;
                self.state = State::BlockKey;
            }
            return Ok(());
        }
        if let Some(b'|' | b'>') = self.cursor.peek() {
            let properties = self.joined(outer, inner, begun)?;
            self.block(indent)?;
            self.emit_scalar(to, properties)?;
            self.after_node();
            return Ok(());
        }
        if start == Start::Inline {
            // A colon behind a scalar is told as what is left over.
            let properties = self.joined(outer, inner, begun)?;
            return self.node_content(to, indent, properties);
        }
        let line = self.cursor.line;
        let opening = Opening { start, begun, line, properties: outer };
        match self.key(to, begun, &mut inner, indent, Some(opening))? {
            Key::Read => Ok(()),
            Key::Scalar(outer) => {
                let properties = self.joined(outer, inner, begun)?;
                self.emit_scalar(to, properties)?;
                self.after_node();
                Ok(())
            }
            Key::None(outer) => {
                let properties = self.joined(outer, inner, begun)?;
                self.node_content(to, indent, properties)
            }
        }
    }

    /// The content of a node that is no block collection.
    pub(super) fn node_content<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        indent: Option<usize>,
        properties: Properties<'a>,
    ) -> Parsed<()> {
        let start = self.cursor.at;
        match self.cursor.peek() {
            Some(b'*') => {
                self.refuse_properties(start, &properties)?;
                let name = self.anchor_name()?;
                self.is_json_like = false;
                self.emit(to, Event::Alias(name), start, self.cursor.at)?;
            }
            Some(b'[' | b'{') => return self.flow_start(to, properties),
            _ => {
                if !self.scalar(indent)? {
                    return Err(self.no_node());
                }
                self.emit_scalar(to, properties)?;
            }
        }
        self.after_node();
        Ok(())
    }

    /// Whether a colon that ends an implicit key comes next on this line.
    #[inline]
    fn colon_follows(&mut self) -> bool {
        let end = self.cursor.at;
        self.cursor.white();
        let follows = self.cursor.at_indicator(b':');
        self.cursor.at = end;
        follows
    }

    /// Refuses a block collection that begins where none may.
    #[inline]
    fn may_begin(&self, start: Start, begun: usize, line: usize) -> Parsed<()> {
        let is_tabbed = start == Start::Line && self.cursor.bytes()[line..begun].contains(&b'\t');
        if start != Start::Inline && !is_tabbed {
            return Ok(());
        }
        let before = &self.cursor.bytes()[line..begun];
        Err(if before.last() == Some(&b'\t') {
            self.tab(begun - 1)
        } else {
            let advice = "put it on the next line and indent it; put a text with a colon in quotes";
            self.error(begun, "a list or map cannot begin in the middle of this line", advice)
        })
    }

    fn refuse_tab(&self, gap: Gap) -> Parsed<()> {
        if gap.new_line && gap.tab {
            let line = self.cursor.line;
            let spaces = self.cursor.indentation();
            return Err(self.tab(line + spaces));
        }
        Ok(())
    }

    #[cold]
    fn tab(&self, at: usize) -> SyntaxError {
        self.error(at, "a tab stands where YAML is indented", "indent with blanks")
    }

    #[cold]
    fn too_deep_line(&self, what: &str) -> SyntaxError {
        let message =
            format!("this line is indented further than the lines that it could be {what} beside");
        self.error_here(message, "give it the indentation of the line that it belongs to")
    }

    /// What stands behind a node on its line, or behind the document.
    #[cold]
    fn leftover(&self, gap: Gap) -> SyntaxError {
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
    fn late_directive(&self) -> SyntaxError {
        let message = "a directive stands inside a document";
        self.error_here(message, "end the document before it: write ... on a line of its own")
    }

    #[cold]
    fn no_key(&self, start: usize, properties: &Properties<'_>) -> SyntaxError {
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

impl Frame {
    fn is_flow(self) -> bool {
        matches!(self, Self::FlowSequence(_) | Self::FlowMapping(..) | Self::FlowPair(_))
    }
}

/// A block mapping that begins if a key is found: where on its line, at which byte, and with which properties.
struct Opening<'a> {
    start: Start,
    begun: usize,
    line: usize,
    properties: Properties<'a>,
}

/// What was found where an implicit key may be. Where there is none, the properties of the mapping come back.
enum Key<'a> {
    /// One, and its events have gone.
    Read,
    /// A scalar that is none; it has been read.
    Scalar(Properties<'a>),
    /// None.
    None(Properties<'a>),
}
