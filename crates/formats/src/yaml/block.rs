//! Collections told by indentation (YAML 1.2.2 section 8.2).

use super::cursor::Gap;
use super::event::{Event, Properties, Receiver};
use super::parser::{Frame, Parsed, Parser, Side, Start, State};

impl<'a> Parser<'a> {
    /// Goes to the next item or key of the collection in this column, or ends it; gives the gap before it.
    #[inline]
    fn entry<R: Receiver<'a>>(&mut self, to: &mut R, column: usize) -> Parsed<Option<Gap>> {
        let gap = self.cursor.skip();
        let is_first = std::mem::replace(&mut self.is_fresh, false);
        if self.at_document_end() || gap.new_line && self.cursor.column() < column {
            self.close(to, 0)?;
            return Ok(None);
        }
        if !gap.new_line && !is_first {
            return Err(self.leftover(gap));
        }
        Ok(Some(gap))
    }

    /// An item of a block sequence, or its end (section 8.2.1).
    pub(super) fn block_item<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let Some(Frame::BlockSequence(column)) = self.stack.last().copied() else { return Ok(()) };
        let Some(gap) = self.entry(to, column)? else { return Ok(()) };
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
    pub(super) fn block_key<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
        let Some(Frame::BlockMapping(column, _)) = self.stack.last().copied() else {
            return Ok(());
        };
        let Some(gap) = self.entry(to, column)? else { return Ok(()) };
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

    /// The value to the key of a block mapping.
    pub(super) fn block_value<R: Receiver<'a>>(&mut self, to: &mut R) -> Parsed<()> {
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
    pub(super) fn block_node<R: Receiver<'a>>(
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
