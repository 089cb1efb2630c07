//! YAML documents by their events, part by part: values that end within a part come whole, and lists and maps that do not, by what they
//! hold (YAML 1.2.2 section 3.1).
//!
//! ```
//! use kyanite_formats::yaml::{EventReader, Options, Place, PartEvent};
//! use kyanite_tree::Arena;
//!
//! let (held, arena) = (Arena::new(), Arena::new());
//! let place = Place::default();
//! let text = "- code: B-1\n- code: B-2\n";
//! let mut reader = EventReader::new(text, &arena, Options::default(), &place).unwrap();
//! assert!(matches!(reader.next().unwrap(), Some(PartEvent::Begin { is_map: false })));
//! assert!(matches!(reader.next().unwrap(), Some(PartEvent::Value(item)) if item.member("code").is_some()));
//! // Whether the second item goes on is not known.
//! assert!(reader.next().unwrap().is_none());
//! let (used, place) = reader.end(&held);
//! let mut reader = EventReader::new(&text[used..], &arena, Options::default(), &place).unwrap();
//! reader.is_last();
//! assert!(matches!(reader.next().unwrap(), Some(PartEvent::Value(_))));
//! assert!(matches!(reader.next().unwrap(), Some(PartEvent::End { is_map: false })));
//! assert!(matches!(reader.next().unwrap(), Some(PartEvent::EndDocument)));
//! ```

use std::collections::{HashMap, VecDeque};

use kyanite_tree::{Arena, Event, Pull, RawText, Value, ValueEvents};

use super::parser::{Checkpoint, Parser, State};
use super::read::{Key, Node, Open, Options, Reader, check_characters};
use crate::SyntaxError;
use crate::json::Duplicate;

/// An error so near to the end of a part may be mended by what comes behind.
const TAIL: usize = 4096;

/// What a part of a YAML stream has.
#[derive(Clone, Copy, Debug)]
pub enum PartEvent<'t> {
    /// A list or map begins that does not end in the part.
    Begin {
        /// Which of them.
        is_map: bool,
    },
    /// The list or map ends that began last.
    End {
        /// Which of them.
        is_map: bool,
    },
    /// The name of a member; its value follows.
    Name(&'t str),
    /// A value, whole.
    Value(Value<'t>),
    /// A document ends.
    EndDocument,
}

/// Where in a stream a part begins. What anchors name is held.
#[derive(Debug, Default)]
pub struct Place<'h> {
    checkpoint: Option<Checkpoint>,
    /// The prefixes of the tag handles that the document declares.
    handles: Vec<(&'h str, &'h str)>,
    /// The lists and maps that came by what they hold: whether each is a map.
    streamed: Vec<bool>,
    /// The name of the member of the innermost whose value comes next.
    name: Option<&'h str>,
    anchors: HashMap<&'h str, Node<'h>>,
    /// Anchors of lists and maps that came by what they hold.
    large: Vec<&'h str>,
}

/// Reads a part of a stream.
pub struct EventReader<'t, 'h> {
    parser: Parser<'t>,
    reader: Reader<'t>,
    place: &'t Place<'h>,
    /// The lists and maps that came by what they hold, and have not ended: whether each is a map.
    streamed: Vec<bool>,
    ready: VecDeque<PartEvent<'t>>,
    /// Behind all that came.
    checkpoint: Checkpoint,
    is_last: bool,
    /// Whether the next list or map comes by what it holds.
    streams_next: bool,
    /// The value whose events come.
    value: Option<ValueEvents<'t>>,
    error: Option<SyntaxError>,
}

impl<'t, 'h> EventReader<'t, 'h> {
    /// A reader of a part, which begins at a place and consists of whole lines.
    ///
    /// # Errors
    /// A [`SyntaxError`] where it has characters that stand in no YAML.
    pub fn new(
        text: &'t str,
        arena: &'t Arena,
        options: Options,
        place: &'t Place<'h>,
    ) -> Result<Self, SyntaxError> {
        check_characters(text)?;
        let mut parser = Parser::new(text);
        parser.handles.extend_from_slice(&place.handles);
        if let Some(checkpoint) = &place.checkpoint {
            parser.restore(checkpoint);
        }
        let mut reader = Reader::new(text, arena, options);
        let innermost = place.streamed.len().saturating_sub(1);
        for (number, is_map) in place.streamed.iter().enumerate() {
            // The value of the member under way is what comes by what it holds.
            let name = if number < innermost { Some("") } else { place.name };
            reader.open.push(Open::streamed(*is_map, name.map(|name| Key::Name(name, None))));
        }
        reader.commit();
        reader.earlier = Some(&place.anchors);
        reader.large.extend_from_slice(&place.large);
        let (checkpoint, streamed) = (parser.checkpoint(), place.streamed.clone());
        let ready = VecDeque::new();
        let (is_last, streams_next, value, error) = (false, false, None, None);
        Ok(Self {
            parser,
            reader,
            place,
            streamed,
            ready,
            checkpoint,
            is_last,
            streams_next,
            value,
            error,
        })
    }

    /// The stream ends with this part.
    pub fn is_last(&mut self) {
        self.is_last = true;
    }

    /// The list or map that begins next comes by what it holds, since it is large.
    pub fn stream_next(&mut self) {
        self.streams_next = true;
    }

    /// Members that maps had twice in values that came whole, since this was last asked.
    pub fn take_duplicates(&mut self) -> Vec<Duplicate> {
        std::mem::take(&mut self.reader.read.duplicates)
    }

    /// What comes next; None at the end of the part, or where more of the stream has to be known.
    ///
    /// # Errors
    /// A [`SyntaxError`] where the stream is not YAML or passes a limit.
    #[expect(clippy::should_implement_trait, reason = "it may fail")]
    pub fn next(&mut self) -> Result<Option<PartEvent<'t>>, SyntaxError> {
        while self.ready.is_empty() {
            if !self.go_on()? {
                return Ok(None);
            }
        }
        Ok(self.ready.pop_front())
    }

    /// Has an event come once more.
    pub fn put_back(&mut self, event: PartEvent<'t>) {
        self.ready.push_front(event);
    }

    /// What was wrong where the [events of a value](Pull) ended.
    pub fn take_error(&mut self) -> Option<SyntaxError> {
        self.error.take()
    }

    /// How many bytes stand before the next part, and where in the stream that begins; all of this one has come.
    #[must_use]
    pub fn end(self, held: &'h Arena) -> (usize, Place<'h>) {
        let Self { parser, reader, place, streamed, checkpoint, .. } = self;
        let mut anchors =
            if reader.earlier.is_some() { place.anchors.clone() } else { HashMap::new() };
        for (name, node) in &reader.anchors {
            match node {
                Some(node) => anchors.insert(held.text(name), node.copied(held)),
                None => anchors.remove(*name),
            };
        }
        let text = |text| held.text(text) as &str;
        let handles = match parser.handles == place.handles {
            true => place.handles.clone(),
            false => parser.handles.iter().map(|(name, of)| (text(name), text(of))).collect(),
        };
        let large = reader.large.iter().map(|name| {
            let known = place.large.iter().find(|known| *known == name);
            known.copied().unwrap_or_else(|| text(name))
        });
        let used = checkpoint.line();
        let checkpoint = Some(checkpoint.behind(used));
        let innermost = streamed.len().checked_sub(1);
        let name = innermost.and_then(|map| reader.name_under_way(map)).map(text);
        (used, Place { checkpoint, handles, streamed, name, large: large.collect(), anchors })
    }

    /// Reads up to the next place at which no value is under way but those that come by what they hold; false where that is not in
    /// the part.
    fn go_on(&mut self) -> Result<bool, SyntaxError> {
        loop {
            let is_over = self.parser.state == State::Ended;
            if is_over || self.may_go_on_behind() {
                self.roll_back();
                return Ok(false);
            }
            match self.parser.step(&mut self.reader) {
                Ok(_) => {}
                Err(error)
                    if self.is_last || error.span().end + TAIL < self.parser.cursor.text.len() =>
                {
                    return Err(error);
                }
                Err(_) => {
                    self.roll_back();
                    return Ok(false);
                }
            }
            let open = self.reader.open.len();
            if open > self.streamed.len() {
                // A document is not held if there is more than this part of it.
                let is_root = self.streamed.is_empty() && !self.is_last;
                if !((self.streams_next || is_root) && self.reader.may_stream(self.streamed.len()))
                {
                    continue;
                }
                self.begin_streaming();
                break;
            }
            if open == self.streamed.len() && self.reader.awaits_value() {
                continue;
            }
            if self.may_go_on_behind() {
                self.roll_back();
                return Ok(false);
            }
            match self.streamed.pop() {
                Some(is_map) if open == self.streamed.len() => {
                    self.reader.drop_last(self.streamed.last().copied());
                    self.ready.push_back(PartEvent::End { is_map });
                }
                is_map => self.streamed.extend(is_map),
            }
            self.take_values();
            break;
        }
        if self.parser.state == State::Stream {
            self.ready.push_back(PartEvent::EndDocument);
        }
        self.parser.checkpoint_into(&mut self.checkpoint);
        self.reader.commit();
        Ok(true)
    }

    /// Whether what is behind the part may belong to what ends with it.
    fn may_go_on_behind(&mut self) -> bool {
        !self.is_last && self.parser.is_at_end()
    }

    /// Goes back behind all that came.
    fn roll_back(&mut self) {
        self.parser.restore(&self.checkpoint);
        self.reader.roll_back(self.streamed.len());
    }

    /// Gives the beginning of the values under way, whose content comes by itself from now on.
    fn begin_streaming(&mut self) {
        self.streams_next = false;
        while let Some(is_map) = self.reader.begin_streaming(self.streamed.len()) {
            if let Some(around) = self.streamed.len().checked_sub(1) {
                let name = self.reader.name_under_way(around);
                self.ready.extend(name.map(PartEvent::Name));
            }
            self.streamed.push(is_map);
            self.ready.push_back(PartEvent::Begin { is_map });
        }
        self.take_values();
    }

    /// Takes what the innermost list or map has, as far as it is whole.
    fn take_values(&mut self) {
        let Reader { items, members, read, .. } = &mut self.reader;
        match self.streamed.last() {
            None => self.ready.extend(read.documents.drain(..).map(PartEvent::Value)),
            Some(false) => self.ready.extend(items.drain(..).map(PartEvent::Value)),
            Some(true) => {
                self.ready.extend(members.drain(..).flat_map(|member| {
                    [PartEvent::Name(member.name), PartEvent::Value(member.value)]
                }))
            }
        }
    }
}

impl<'t> Pull<'t> for EventReader<'t, '_> {
    fn next_event(&mut self) -> Option<Event<'t>> {
        loop {
            if let Some(event) = self.value.as_mut().and_then(Pull::next_event) {
                return Some(event);
            }
            let next = match self.next() {
                Ok(next) => next?,
                Err(error) => {
                    self.error = Some(error);
                    return None;
                }
            };
            return Some(match next {
                PartEvent::Begin { is_map: true } => Event::BeginMap,
                PartEvent::Begin { is_map: false } => Event::BeginList,
                PartEvent::End { is_map: true } => Event::EndMap,
                PartEvent::End { is_map: false } => Event::EndList,
                PartEvent::Name(text) => Event::Name(RawText { text, has_escapes: false }),
                PartEvent::Value(value) => {
                    self.value = Some(ValueEvents::new(value, self.reader.options.base));
                    continue;
                }
                PartEvent::EndDocument => return None,
            });
        }
    }

    fn offset(&self) -> usize {
        self.value.as_ref().map_or(0, Pull::offset)
    }
}
