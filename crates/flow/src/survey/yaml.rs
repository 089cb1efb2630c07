//! Surveys documents of YAML too large for memory, part by part.

use kyanite_formats::yaml::{EventReader, Options, PartEvent, Place};
use kyanite_survey::{Batch, Bounds, LargeDocument, Survey};
use kyanite_tree::{Advice, Arena, Code, Diagnostic, Setting, TextPlaces, ValueEvents};

use super::at::Follow;
use super::json::GivenTwice;
use super::{Surveyed, largest_record};
use crate::blocks::Blocks;
use crate::document::Duplicates;
use crate::parts::{Part, go_through};
use crate::run_error::{Events, RunError};
use crate::transcode::Replaced;

/// The size of a part, in bytes. A value that does not end in its part comes by what it holds, unless it is a record.
const LARGE: usize = 64 * 1024;

/// Surveys a stream of documents.
pub(super) fn survey(
    (name, replaced): (&str, &Replaced),
    blocks: Blocks,
    what: Surveyed<'_>,
    into: &mut Survey,
    events: &mut Events<'_>,
) -> Result<(), RunError> {
    let held = Arena::new();
    let mut counting = Counting {
        what,
        into,
        under_way: UnderWay::Nothing,
        streams_next: false,
        repeated: GivenTwice::default(),
        duplicates: Duplicates::default(),
    };
    let blocks = blocks.at_most(largest_record(what.options));
    let mut place = Place::default();
    go_through(name, (blocks, replaced), what.options, events, &mut |part, (events, _)| {
        counting.part(part, &mut place, &held, events)
    })?;
    counting.repeated.finish(events);
    counting.duplicates.finish(events);
    Ok(())
}

fn too_large(part: &Part<'_>) -> RunError {
    let message = format!("a record of {} is larger than is held", part.name);
    let advice = Advice::words("survey what is in it, or say more with ").setting(Setting::Memory);
    RunError::Input(Diagnostic::error(Code::Limit, message).advise(advice))
}

struct Counting<'w> {
    what: Surveyed<'w>,
    into: &'w mut Survey,
    under_way: UnderWay<'w>,
    /// Whether the value that comes next is large.
    streams_next: bool,
    repeated: GivenTwice,
    duplicates: Duplicates,
}

/// A document under way.
enum UnderWay<'w> {
    /// None has begun.
    Nothing,
    /// A list of records.
    Records,
    /// One that is a record.
    Record(Box<LargeDocument>),
    /// One with records at a path.
    At(Follow<'w>),
}

impl<'w> Counting<'w> {
    /// Counts what a part has; gives how much of it was used, or None where more has to be known.
    fn part<'h>(
        &mut self,
        part: &Part<'_>,
        place: &mut Place<'h>,
        held: &'h Arena,
        events: &mut Events<'_>,
    ) -> Result<Option<usize>, RunError> {
        let arena = Arena::new();
        let limits = self.what.options.limits;
        let options = Options { depth: limits.depth, aliases: limits.aliases, base: part.base };
        let failed = |error| part.failed(&error);
        let mut reader = EventReader::new(part.text, &arena, options, place).map_err(failed)?;
        if part.is_last {
            reader.is_last();
        }
        if std::mem::take(&mut self.streams_next) {
            reader.stream_next();
        }
        let mut batch = Batch::new(&arena);
        let mut any = false;
        loop {
            if let UnderWay::Record(_) = self.under_way {
                self.take(batch, part, events);
                let is_over = self.record(&mut reader, part, &arena, events)?;
                batch = Batch::new(&arena);
                if !is_over {
                    break;
                }
                any = true;
            }
            let Some(event) = reader.next().map_err(failed)? else { break };
            any = true;
            self.event(event, &mut reader, &mut batch, part)?;
        }
        self.take(batch, part, events);
        let places = part.places();
        self.duplicates.tell(reader.take_duplicates(), events, |at| Some(places.place(at, at + 1)));
        let is_at_records = match &self.under_way {
            UnderWay::Records => true,
            UnderWay::At(follow) => follow.is_at_records(),
            UnderWay::Nothing | UnderWay::Record(_) => false,
        };
        let (used, next) = reader.end(held);
        *place = next;
        if used > 0 || any || part.is_last {
            return Ok(Some(used));
        }
        self.streams_next = part.text.len() > LARGE && !is_at_records;
        Ok(None)
    }

    fn event<'t>(
        &mut self,
        event: PartEvent<'t>,
        reader: &mut EventReader<'t, '_>,
        batch: &mut Batch<'t>,
        part: &Part<'_>,
    ) -> Result<(), RunError> {
        let events_of = |value| ValueEvents::new(value, part.base);
        let mut record = |value| {
            batch.record(&mut events_of(value));
        };
        match (&mut self.under_way, event) {
            (UnderWay::At(follow), PartEvent::Begin { is_map }) => {
                if follow.is_at_record(!is_map) {
                    return Err(too_large(part));
                }
                follow.begin(!is_map);
            }
            (UnderWay::At(follow), PartEvent::Name(name)) => follow.name(name),
            (UnderWay::At(follow), PartEvent::Value(value)) => {
                follow.each(value, &mut record);
            }
            (UnderWay::At(follow), PartEvent::End { .. }) => {
                self.under_way = match follow.end() {
                    true => UnderWay::Nothing,
                    false => return Ok(()),
                };
            }
            (UnderWay::Nothing, PartEvent::Begin { is_map }) => {
                self.under_way = match self.what.at {
                    Some(at) => UnderWay::At(Follow::new(at)),
                    None if is_map => {
                        let bounds = Bounds { memory: self.what.options.memory };
                        UnderWay::Record(Box::new(LargeDocument::new(bounds)))
                    }
                    None => {
                        batch.list_of_records();
                        UnderWay::Records
                    }
                };
                if !matches!(self.under_way, UnderWay::Records) {
                    reader.put_back(event);
                }
            }
            (UnderWay::Nothing, PartEvent::Value(value)) => match self.what.at {
                Some(at) => at.each(value, &mut record),
                None => {
                    batch.document(&mut events_of(value));
                }
            },
            (UnderWay::Records, PartEvent::Value(value)) => record(value),
            (UnderWay::Records, PartEvent::End { .. }) => self.under_way = UnderWay::Nothing,
            _ => {}
        }
        Ok(())
    }

    /// Goes on with a document that is a record; tells whether it is over.
    fn record<'t>(
        &mut self,
        reader: &mut EventReader<'t, '_>,
        part: &Part<'_>,
        arena: &'t Arena,
        events: &mut Events<'_>,
    ) -> Result<bool, RunError> {
        let UnderWay::Record(document) = &mut self.under_way else { return Ok(true) };
        let mut batch = Batch::new(arena).with_repeated();
        let over = document.part(&mut batch, reader);
        for (name, offset) in batch.take_repeated() {
            let place = || part.places().place(offset, offset + 1);
            self.repeated.tell(name, place, events);
        }
        if let Some(error) = reader.take_error() {
            return Err(part.failed(&error));
        }
        let lines = TextPlaces::new(part.name, part.text.as_bytes());
        let ended = batch.end(&mut |offset| lines.line_column(offset).line);
        document.take(ended, part.name, part.before.lines());
        let is_over = over.unwrap_or(true);
        if is_over
            && let UnderWay::Record(document) =
                std::mem::replace(&mut self.under_way, UnderWay::Nothing)
        {
            document.end(self.into, part.name);
            events.counters.count(1);
        }
        Ok(is_over)
    }

    /// Takes records that were counted.
    fn take(&mut self, batch: Batch<'_>, part: &Part<'_>, events: &Events<'_>) {
        let lines = TextPlaces::new(part.name, part.text.as_bytes());
        let ended = batch.end(&mut |offset| lines.line_column(offset).line);
        events.counters.count(ended.records());
        self.into.take(ended, part.name, part.before.lines());
    }
}
