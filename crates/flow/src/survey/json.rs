//! Surveys documents of JSON too large for memory, each one record, part by part.

use kyanite_formats::json::{ErrorKind, EventReader, Parts, ReadError, unescaped};
use kyanite_formats::records::Structure;
use kyanite_survey::{Batch, Bounds, LargeDocument, Survey};
use kyanite_tree::{Arena, Code, Diagnostic, Event, Place, Pull, RawText, TextPlaces, is_blank};

use super::at::Follow;
use super::{Surveyed, largest_record};
use crate::blocks::Blocks;
use crate::parts::{Part, go_through};
use crate::run_error::{Events, Repeated, RunError};
use crate::transcode::Replaced;

/// Members that a map has more than once, all of which are counted.
#[derive(Default)]
pub(super) struct GivenTwice(Repeated);

impl GivenTwice {
    pub(super) fn tell(
        &mut self,
        name: &str,
        place: impl FnOnce() -> Place,
        events: &mut Events<'_>,
    ) {
        self.0.tell(events, || {
            let message = format!("the member `{name}` is given twice; both values are counted");
            Diagnostic::warning(Code::MemberTwice, message).at(place())
        });
    }

    pub(super) fn finish(&self, events: &mut Events<'_>) {
        if let Some(count) = self.0.untold() {
            let message = format!("{count} members were given twice; all values are counted");
            events.tell(Diagnostic::warning(Code::MemberTwice, message));
        }
    }
}

/// A document under way.
struct Counting<'w> {
    what: Surveyed<'w>,
    into: &'w mut Survey,
    parts: Parts,
    under_way: UnderWay<'w>,
    is_over: bool,
    repeated: GivenTwice,
}

enum UnderWay<'w> {
    /// One that is a record.
    Record(Box<LargeDocument>),
    /// One with records at a path.
    At(Follow<'w>),
}

/// Surveys a document of JSON that is a map, or has records at a path.
pub(super) fn survey(
    (name, replaced): (&str, &Replaced),
    mut blocks: Blocks,
    what: Surveyed<'_>,
    into: &mut Survey,
    events: &mut Events<'_>,
) -> Result<(), RunError> {
    blocks.cut_anywhere();
    let bounds = Bounds { memory: what.options.memory };
    let under_way = match what.at {
        Some(at) => UnderWay::At(Follow::new(at)),
        None => UnderWay::Record(Box::new(LargeDocument::new(bounds))),
    };
    let (parts, is_over, repeated) = (Parts::default(), false, GivenTwice::default());
    let mut counting = Counting { what, into, parts, under_way, is_over, repeated };
    let blocks = blocks.at_most(largest_record(what.options));
    go_through(name, (blocks, replaced), what.options, events, &mut |part, (events, _)| {
        let end = match counting.is_over || part.is_last {
            true => Some(part.text.len()),
            false => Parts::cut(part.text),
        };
        end.map_or(Ok(None), |end| counting.part(part, end, events))
    })?;
    counting.repeated.finish(events);
    if let UnderWay::Record(document) = counting.under_way {
        events.counters.count(1);
        document.end(counting.into, name);
    }
    Ok(())
}

impl Counting<'_> {
    /// Counts what a part has up to a byte; gives how much of it was used, or None where that is nothing.
    fn part(
        &mut self,
        part: &Part<'_>,
        end: usize,
        events: &mut Events<'_>,
    ) -> Result<Option<usize>, RunError> {
        let behind = |from: usize| {
            let rest = &part.text[from..];
            let at = from + rest.len() - rest.trim_start().len();
            let error = ReadError::new(ErrorKind::TextAfterEnd, at, at + 1);
            if is_blank(rest) { Ok(Some(end)) } else { Err(part.failed(&error.into())) }
        };
        if self.is_over {
            return behind(0);
        }
        let depth = self.what.options.limits.depth;
        let (arena, text) = (Arena::new(), self.parts.text(&part.text[..end]));
        let (front, parts) = (self.parts.front(), &mut self.parts);
        let structure = Structure::of(text.as_bytes());
        let failed = |parts: &Parts| part.failed(&parts.error(&text, depth));
        let Some(mut reader) = parts.events(&text, &structure) else { return Err(failed(parts)) };
        let mut batch = Batch::new(&arena).within(depth).with_repeated();
        let read = match &mut self.under_way {
            UnderWay::Record(document) => document.part(&mut batch, &mut reader).map(|_| None),
            UnderWay::At(follow) => records(follow, (&mut reader, depth), &mut batch),
        };
        let Some(stopped) = read else { return Err(failed(parts)) };
        let value_end = reader.end();
        if value_end.is_none() && part.is_last {
            return Err(failed(parts));
        }
        let used = stopped.unwrap_or(text.len());
        parts.go_on(&reader, used);
        for (name, offset) in batch.take_repeated() {
            let quoted = format!("\"{name}\"");
            let found = text[..=offset].rfind(&quoted).filter(|at| *at >= front);
            let (at, length) = found.map_or((offset, 1), |at| (at, quoted.len()));
            let place = || part.places().place(at - front, at - front + length);
            self.repeated.tell(name, place, events);
        }
        let places = TextPlaces::new(part.name, text.as_bytes());
        let ended = batch.end(&mut |offset| places.line_column(offset).line);
        match &mut self.under_way {
            UnderWay::Record(document) => document.take(ended, part.name, part.before.lines()),
            UnderWay::At(_) => {
                events.counters.count(ended.records());
                self.into.take(ended, part.name, part.before.lines());
            }
        }
        if let Some(end) = value_end {
            self.is_over = true;
            return behind(end - front);
        }
        Ok((used > front).then_some(used - front))
    }
}

/// Counts the records of a part; gives at which byte of its text one begins that does not end in it, if one does, and leaves the reader
/// before that. None where one is nested too deep.
fn records<'t>(
    follow: &mut Follow<'_>,
    (reader, depth): (&mut EventReader<'t, '_>, usize),
    batch: &mut Batch<'t>,
) -> Option<Option<usize>> {
    loop {
        let before = reader.clone();
        let Some(event) = reader.next_event() else { return Some(None) };
        let (is_list, is_map) = (event == Event::BeginList, event == Event::BeginMap);
        match event {
            Event::Name(RawText { text, has_escapes: false }) => follow.name(text),
            Event::Name(RawText { text, .. }) => follow.name(&unescaped(text)),
            Event::EndMap | Event::EndList => drop(follow.end()),
            _ if follow.is_at_record(is_list) => {
                if (is_list || is_map) && !reader.pass() {
                    *reader = before;
                    return Some(Some(reader.next_position()));
                }
                if !batch.record(&mut before.clone()) {
                    return None;
                }
            }
            _ if is_list || is_map => {
                if follow.depth() >= depth {
                    return None;
                }
                follow.begin(is_list);
            }
            _ => {}
        }
    }
}
