//! Collections in brackets and braces (YAML 1.2.2 section 7.4).

use std::collections::VecDeque;

use super::cursor::{is_blank, is_break, is_flow_indicator, is_white};
use super::event::{Event, Properties, Receiver};
use super::parser::{Frame, Parsed, Parser, Side, State};

impl<'a> Parser<'a> {
    /// Opens the collection whose bracket is at the position.
    pub(super) fn flow_start<R: Receiver<'a>>(
        &mut self,
        to: &mut R,
        properties: Properties<'a>,
    ) -> Parsed<()> {
        let at = self.cursor.at;
        self.cursor.at += 1;
        let flow = true;
        if self.cursor.byte(at) == Some(b'[') {
            self.open(Frame::FlowSequence(at));
            self.emit(to, Event::SequenceStart { flow, properties }, at, at + 1)?;
        } else {
            self.open(Frame::FlowMapping(at, Side::ImplicitKey));
            self.emit(to, Event::MappingStart { flow, properties }, at, at + 1)?;
        }
        self.state = State::FlowItem;
        Ok(())
    }

    /// Steps to the next token in brackets; gives its byte.
    fn flow_skip(&mut self) -> Parsed<u8> {
        let gap = self.cursor.skip();
        let Some(byte) = self.cursor.peek() else {
            let message = "the text ends inside brackets";
            return Err(self.error_here(message, "close them").also(self.innermost_bracket()));
        };
        if !gap.new_line || self.cursor.at == 0 {
            return Ok(byte);
        }
        if self.cursor.is_marker(self.cursor.line) {
            let at = self.cursor.line;
            let error = self.error(at, "a document ends inside brackets", "close them before");
            return Err(error.also(self.innermost_bracket()));
        }
        let spaces = self.cursor.indentation();
        // Closing brackets may stand in the column of the key, where nearly everybody writes them.
        let is_closer = matches!(byte, b']' | b'}');
        if self.indent().is_some_and(|indent| spaces + usize::from(is_closer) <= indent) {
            let message = "this line inside brackets is not indented far enough";
            let advice = "indent it by more blanks than the line with the key";
            return Err(self.error_here(message, advice).also(self.innermost_bracket()));
        }
        Ok(byte)
    }

    /// The innermost bracket that is open, if it stands in the text.
    fn innermost_bracket(&self) -> Option<usize> {
        let innermost = self.stack.iter().rev().find_map(|frame| match frame {
            Frame::FlowSequence(at) | Frame::FlowMapping(at, _) => Some(*at),
            _ => None,
        });
        innermost.filter(|at| *at < self.cursor.text.len())
    }

    /// Whether the collection in which something is expected ends with this byte.
    fn closes(&self, byte: u8) -> bool {
        let around = self.stack.iter().rev().find(|frame| !matches!(frame, Frame::FlowPair(_)));
        match around {
            Some(Frame::FlowSequence(_)) => byte == b']',
            _ => byte == b'}',
        }
    }

    /// Whether the byte at the position ends a node without content.
    fn ends_node(&self, byte: u8) -> bool {
        byte == b',' || self.closes(byte) || byte == b':' && self.at_value()
    }

    /// Whether the colon at the position begins a value: a blank or indicator follows it.
    fn at_value(&self) -> bool {
        let next = self.cursor.byte(self.cursor.at + 1);
        self.cursor.peek() == Some(b':') && (is_blank(next) || next.is_some_and(is_flow_indicator))
    }

    /// Whether a value begins at the position, behind the node that was just read: then the colon may touch what follows if
    /// that node is in quotes or brackets (section 7.4.2).
    fn at_adjacent_value(&self) -> bool {
        self.at_value() || self.is_json_like && self.cursor.peek() == Some(b':')
    }

    /// An item of a sequence or a key of a mapping, or the end of either.
    pub(super) fn flow_item<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let byte = self.flow_skip()?;
        if self.closes(byte) {
            self.close(to, 1)?;
            return Ok(());
        }
        if byte == b',' {
            let message = "an item is missing before this comma";
            return Err(self.error_here(message, "take the comma away, or write null"));
        }
        match self.stack.last() {
            Some(Frame::FlowMapping(..)) => self.flow_key(to, byte),
            _ => self.sequence_item(to, byte),
        }
    }

    fn flow_key<R: Receiver<'a>>(&mut self, to: &mut R, byte: u8) -> Parsed<()> {
        if self.cursor.at_indicator(b'?') {
            self.side(Side::ExplicitKey);
            self.cursor.at += 1;
            return self.flow_node(to);
        }
        self.side(Side::ImplicitKey);
        if byte == b':' && self.at_value() {
            self.emit_nothing(to, Properties::default())?;
            self.after_node();
            return Ok(());
        }
        self.flow_node(to)
    }

    /// A node, or None where none stands.
    fn flow_node<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let byte = self.flow_skip()?;
        if self.ends_node(byte) {
            self.emit_nothing(to, Properties::default())?;
            self.after_node();
            return Ok(());
        }
        let properties = self.properties()?;
        let behind = self.cursor.at;
        let byte = self.flow_skip()?;
        if self.ends_node(byte) {
            let at = std::mem::replace(&mut self.cursor.at, behind);
            self.emit_nothing(to, properties)?;
            self.cursor.at = at;
            self.after_node();
            return Ok(());
        }
        self.node_content(to, self.indent(), properties)
    }

    /// An item of a sequence; one with a colon behind it is the key of a single pair.
    fn sequence_item<R: Receiver<'a>>(&mut self, to: &mut R, byte: u8) -> Parsed<()> {
        let start = self.cursor.at;
        if self.cursor.at_indicator(b'?') {
            self.pair(to, start, Side::ExplicitKey)?;
            self.cursor.at += 1;
            return self.flow_node(to);
        }
        if byte == b':' && self.at_value() {
            self.pair(to, start, Side::ImplicitKey)?;
            self.emit_nothing(to, Properties::default())?;
            self.after_node();
            return Ok(());
        }
        let line = self.cursor.line;
        let properties = self.properties()?;
        let byte = self.flow_skip()?;
        let in_line = self.cursor.line == line;
        match byte {
            b':' if self.at_value() => {
                self.pair(to, start, Side::ImplicitKey)?;
                self.emit_nothing(to, properties)?;
                self.after_node();
                return Ok(());
            }
            byte if self.ends_node(byte) => {
                self.emit_nothing(to, properties)?;
                self.after_node();
                return Ok(());
            }
            b'[' | b'{' => {
                if in_line && self.closes_before_colon(true) {
                    self.pair(to, start, Side::ImplicitKey)?;
                }
                return self.flow_start(to, properties);
            }
            b'*' => {
                self.refuse_properties(start, &properties)?;
                let at = self.cursor.at;
                let name = self.anchor_name()?;
                self.is_json_like = false;
                let end = self.cursor.at;
                if in_line && self.is_key(line) {
                    self.pair(to, start, Side::ImplicitKey)?;
                }
                self.emit(to, Event::Alias(name), at, end)?;
            }
            _ => {
                if !self.scalar(self.indent())? {
                    return Err(self.no_node());
                }
                self.is_json_like = self.read.is_quoted();
                if in_line && self.is_key(line) {
                    self.pair(to, start, Side::ImplicitKey)?;
                }
                self.emit_scalar(to, properties)?;
            }
        }
        self.after_node();
        Ok(())
    }

    /// Whether a colon follows the scalar or alias that was just read, on the line that it began on.
    fn is_key(&self, line: usize) -> bool {
        let white =
            self.cursor.bytes()[self.cursor.at..].iter().take_while(|byte| is_white(**byte));
        let at = self.cursor.at + white.count();
        let next = self.cursor.byte(at + 1);
        self.cursor.line == line
            && self.cursor.byte(at) == Some(b':')
            && (self.is_json_like || is_blank(next) || next.is_some_and(is_flow_indicator))
    }

    /// Opens a single pair in brackets.
    fn pair<R: Receiver<'a>>(&mut self, to: &mut R, start: usize, side: Side) -> Parsed<()> {
        self.open(Frame::FlowPair(side));
        let properties = Properties::default();
        self.emit(to, Event::MappingStart { flow: true, properties }, start, start)
    }

    /// The value of a single pair, or its end.
    pub(super) fn pair_value<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        if self.stack.last() == Some(&Frame::FlowPair(Side::Value)) {
            self.close(to, 0)?;
            return Ok(());
        }
        self.flow_value(to)
    }

    /// The value to the key that was read, or nothing.
    pub(super) fn flow_value<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let before = self.cursor.at;
        self.flow_skip()?;
        let is_there = self.at_adjacent_value();
        self.side(Side::Value);
        if is_there {
            self.cursor.at += 1;
            return self.flow_node(to);
        }
        let at = std::mem::replace(&mut self.cursor.at, before);
        self.emit_nothing(to, Properties::default())?;
        self.cursor.at = at;
        self.after_node();
        Ok(())
    }

    /// What stands behind an item: a comma, or the end.
    pub(super) fn flow_comma<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let byte = self.flow_skip()?;
        if byte == b',' {
            self.cursor.at += 1;
            self.state = State::FlowItem;
            return Ok(());
        }
        if self.closes(byte) {
            self.close(to, 1)?;
            return Ok(());
        }
        if byte == b'#' {
            return Err(
                self.error_here("a comment begins with a blank before its #", "put one there")
            );
        }
        if byte == b':' {
            let message = "a colon stands where no key can be";
            let advice =
                "a key in [ ] stands on one line with its colon; put texts with colons in quotes";
            return Err(self.error_here(message, advice));
        }
        let close = if self.closes(b']') { ']' } else { '}' };
        let message = format!("a comma or `{close}` is missing here");
        let advice = "check the value before it, too; put texts with brackets or commas in quotes";
        Err(self.error_here(message, advice).also(self.innermost_bracket()))
    }

    /// Whether the bracket at the position is closed on this line, with a colon behind it: then it is an implicit key.
    pub(super) fn closes_before_colon(&mut self, in_flow: bool) -> bool {
        let (bytes, at, line) = (self.cursor.bytes(), self.cursor.at, self.cursor.line);
        let Some(close) = self.closers.of(bytes, at, line) else { return false };
        let rest = &bytes[close + 1..];
        let white = rest.iter().take_while(|byte| is_white(**byte)).count();
        rest.get(white) == Some(&b':') && (in_flow || is_blank(rest.get(white + 1).copied()))
    }
}

/// An implicit key may be so long, about (section 7.4.2 says 1024 characters).
const LONGEST_KEY: usize = 4096;

/// Where brackets are closed on their line: found ahead of the parser, each byte once.
#[derive(Debug, Default)]
pub(super) struct Closers {
    /// The start of the line that was looked at.
    line: usize,
    /// Up to where.
    until: usize,
    /// A token begins there, so that a quote opens a quoted scalar.
    at_token: bool,
    /// Brackets, in order, each with where it is closed; the first has the number `first`.
    brackets: VecDeque<(usize, Option<usize>)>,
    first: usize,
    /// The numbers of those that are open.
    open: Vec<usize>,
}

impl Closers {
    /// Where the bracket at `at` is closed, if that is on its line and not too far away.
    fn of(&mut self, bytes: &[u8], at: usize, line: usize) -> Option<usize> {
        while self.brackets.front().is_some_and(|(open, _)| *open < at) {
            self.brackets.pop_front();
            self.first += 1;
        }
        let is_known =
            self.line == line && self.brackets.front().is_some_and(|(open, _)| *open == at);
        if !is_known {
            *self = Self { line, until: at, at_token: true, ..Self::default() };
        }
        while self.brackets.front().is_none_or(|(_, close)| close.is_none())
            && self.until < bytes.len().min(at + LONGEST_KEY)
            && !is_break(bytes[self.until])
        {
            self.step(bytes);
        }
        self.brackets.front()?.1
    }

    /// Looks at the next byte, or at the quoted scalar there.
    fn step(&mut self, bytes: &[u8]) {
        let at = self.until;
        let byte = bytes[at];
        self.until += 1;
        match byte {
            b'[' | b'{' => {
                self.open.push(self.first + self.brackets.len());
                self.brackets.push_back((at, None));
                self.at_token = true;
            }
            b']' | b'}' => {
                let number = self.open.pop().and_then(|number| number.checked_sub(self.first));
                if let Some((_, close)) = number.and_then(|number| self.brackets.get_mut(number)) {
                    *close = Some(at);
                }
                self.at_token = false;
            }
            b',' => self.at_token = true,
            b':' | b'?' if is_blank(bytes.get(at + 1).copied()) => self.at_token = true,
            b' ' | b'\t' => {}
            // A comment: nothing is closed behind it.
            b'#' if at > 0 && is_white(bytes[at - 1]) => {
                self.until +=
                    bytes[self.until..].iter().take_while(|byte| !is_break(**byte)).count();
            }
            b'"' | b'\'' if self.at_token => {
                self.until = quoted_end(bytes, at);
                self.at_token = false;
            }
            b'&' | b'!' if self.at_token => {
                let rest = &bytes[self.until..];
                let length =
                    rest.iter().take_while(|b| !is_blank(Some(**b)) && !is_flow_indicator(**b));
                self.until += length.count();
            }
            _ => self.at_token = false,
        }
    }
}

/// Where a quoted scalar ends on its line, or the line does.
fn quoted_end(bytes: &[u8], start: usize) -> usize {
    let quote = bytes[start];
    let mut at = start + 1;
    while let Some(byte) = bytes.get(at).copied() {
        match byte {
            b'\\' if quote == b'"' => at += 1,
            byte if byte == quote => return at + 1,
            byte if is_break(byte) => return at,
            _ => {}
        }
        at += 1;
    }
    bytes.len()
}
