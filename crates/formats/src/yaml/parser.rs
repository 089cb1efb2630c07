//! The YAML parser: from a text to events, one at a time (YAML 1.2.2 chapters 6 to 9).
//!
//! It follows the productions of the specification by indentation. Nesting is a stack, not recursion, so depth costs no stack
//! of the thread; nothing is looked at more than a fixed number of times, so time grows with the text. What stands on the
//! line of a block node decides by what follows it whether it is the first key of a mapping.

use std::borrow::Cow;
use std::collections::VecDeque;

use kyanite_tree::Span;

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

/// Where a parser stands in a text, between two of its steps.
#[derive(Clone, Debug)]
pub(super) struct Checkpoint {
    state: State,
    stack: Vec<Frame>,
    at: usize,
    line: usize,
    /// What was skipped right before.
    gap: Option<Gap>,
    is_fresh: bool,
    is_json_like: bool,
}

impl Checkpoint {
    /// Where the line begins.
    pub(super) fn line(&self) -> usize {
        self.line
    }

    /// The same in what is behind the first bytes of the text, which is the line or what is before it.
    pub(super) fn behind(mut self, bytes: usize) -> Self {
        self.at -= bytes;
        self.line -= bytes;
        for frame in &mut self.stack {
            if let Frame::FlowSequence(at) | Frame::FlowMapping(at, _) = frame {
                // What stands before the text is nowhere in it.
                *at = at.checked_sub(bytes).unwrap_or(usize::MAX);
            }
        }
        self
    }
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
    pub(super) is_simple: bool,
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

    /// Where it stands.
    pub(super) fn checkpoint(&self) -> Checkpoint {
        let (is_fresh, is_json_like) = (self.is_fresh, self.is_json_like);
        let cursor = &self.cursor;
        let (state, stack, gap) = (self.state, self.stack.clone(), cursor.gap());
        Checkpoint { state, stack, at: cursor.at, line: cursor.line, gap, is_fresh, is_json_like }
    }

    /// The same, in place of another.
    pub(super) fn checkpoint_into(&self, checkpoint: &mut Checkpoint) {
        checkpoint.stack.clone_from(&self.stack);
        let stack = std::mem::take(&mut checkpoint.stack);
        let (is_fresh, is_json_like) = (self.is_fresh, self.is_json_like);
        let Cursor { at, line, .. } = self.cursor;
        let (state, gap) = (self.state, self.cursor.gap());
        *checkpoint = Checkpoint { state, stack, at, line, gap, is_fresh, is_json_like };
    }

    /// Goes on from where it stood.
    pub(super) fn restore(&mut self, checkpoint: &Checkpoint) {
        let Checkpoint { state, ref stack, at, line, gap, is_fresh, is_json_like } = *checkpoint;
        self.cursor.go_to(at, line, gap);
        (self.state, self.is_fresh, self.is_json_like) = (state, is_fresh, is_json_like);
        self.stack.clone_from(stack);
        self.flow = stack.iter().filter(|frame| frame.is_flow()).count();
        self.closers = Closers::default();
        self.waiting.clear();
    }

    /// Whether nothing but blanks and comments is left of the text, at a place where these may stand.
    pub(super) fn is_at_end(&mut self) -> bool {
        let is_within = matches!(
            self.state,
            State::Root(_) | State::BlockValue | State::FlowValue | State::PairValue
        );
        if !is_within {
            self.cursor.skip();
        }
        self.cursor.peek().is_none()
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
    pub(super) fn at_document_end(&self) -> bool {
        self.cursor.peek().is_none() || self.cursor.at_marker()
    }

    fn document_start<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        loop {
            self.cursor.skip();
            // A byte order mark may stand before each document, behind comments, too (section 9.1.1).
            while self.cursor.slice(self.cursor.at, self.cursor.at + 3) == "\u{feff}" {
                self.cursor.at += 3;
                self.cursor.line = self.cursor.at;
                self.cursor.skip();
            }
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
}

impl Frame {
    fn is_flow(self) -> bool {
        matches!(self, Self::FlowSequence(_) | Self::FlowMapping(..) | Self::FlowPair(_))
    }
}
