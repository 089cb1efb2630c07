//! Compares two streams of records by a key: each is sorted by the key, then both are merged side by side.

use std::cmp::Ordering;
use std::io;

use kyanite_change::{Comparison, compare_items, key_of, lacks_key};
use kyanite_formats::Format;
use kyanite_formats::json::{ReaderOptions, document};
use kyanite_tree::{
    Advice, Arena, Base, Code, Diagnostic, LineColumn, Packed, Passed, TextPlaces, Value, pack,
};

use super::tally::{Located, Tally};
use super::{Compared, Diffing};
use crate::blocks::Blocks;
use crate::input::{InputOptions, Source};
use crate::records::InputPart;
use crate::run_error::{Events, RunError};
use crate::runs::{Entry, Sorted, Sorter};
use crate::walk::{Step, Walk};

/// Shares of the memory: the records of each side, and the changes.
const SHARES: usize = 3;

/// Compares the records of two streams, told by these members.
pub(super) fn compare_streams(
    what: &Diffing<'_>,
    [old, new]: [Source; 2],
    members: &[String],
    comparison: &Comparison,
    events: &mut Events<'_>,
) -> Result<Compared, RunError> {
    let memory = what.options.memory / SHARES;
    let names = [old.name.clone(), new.name.clone()];
    let mut tally = Tally::new(names, memory);
    let mut side = |source: Source| {
        let key = Keys { members, crosses: comparison.crosses };
        let (sorted, lacking) = sorted(source, what.options, key, memory, events)?;
        tally.unclear(lacking, 0);
        Ok::<Sorted, RunError>(sorted)
    };
    let sides = [side(old)?, side(new)?];
    merged(sides, comparison, what.options.limits.depth, &mut tally)?;
    Ok(tally.finish())
}

/// By which members records are told.
#[derive(Clone, Copy)]
struct Keys<'k> {
    members: &'k [String],
    crosses: bool,
}

/// Puts the records of a stream in order by their keys; gives how many lack a member of it, too.
fn sorted(
    source: Source,
    options: &InputOptions,
    keys: Keys<'_>,
    memory: usize,
    events: &mut Events<'_>,
) -> Result<(Sorted, u64), RunError> {
    let Source { name, detected, reader, live, replaced, .. } = source;
    let format = detected.format;
    let mut blocks = Blocks::new(reader, live);
    let mut sorter = Sorter::new(memory);
    let counters = events.counters;
    let input = InputPart { name: &name, format, base: Base::default(), before: Passed::default() };
    let (mut number, mut lacking) = (0, 0);
    let (mut body, mut packed) = (Vec::new(), String::new());
    Walk::new(options, events).over(
        &mut blocks,
        input,
        &replaced,
        &mut |records, _, steps| loop {
            match steps.next(records)? {
                Step::Record(record) => {
                    lacking += u64::from(lacks_key(record, keys.members));
                    let key = key_of(record, keys.members, keys.crosses);
                    // JSON stays as it is spelled: records that are spelled alike need no second look.
                    let text = records.last_text().trim_ascii();
                    let is_text = format == Format::JsonLines && !options.unwrap;
                    Record { number, at: records.last_at(), is_text }.begin(&mut body);
                    match is_text {
                        true => body.extend_from_slice(text),
                        false => {
                            packed.clear();
                            pack(Some(record), &mut packed);
                            body.extend_from_slice(packed.as_bytes());
                        }
                    }
                    sorter.push(key.as_bytes(), &body).map_err(|error| no_room(&error))?;
                    number += 1;
                    counters.count(1);
                }
                Step::End(used) => return Ok(used),
            }
        },
    )?;
    Ok((sorter.finish().map_err(|error| no_room(&error))?, lacking))
}

/// Goes through both sides.
fn merged(
    [mut olds, mut news]: [Sorted; 2],
    comparison: &Comparison,
    depth: usize,
    tally: &mut Tally,
) -> Result<(), RunError> {
    let mut shared = 0;
    let mut next = |side: &mut Sorted, last: Option<&Entry>| {
        let next = side.next().map_err(|error| no_room(&error))?;
        let is_shared = next.as_ref().zip(last).is_some_and(|(next, last)| next.key == last.key);
        shared += u64::from(is_shared);
        Ok::<Option<Entry>, RunError>(next)
    };
    let (mut old, mut new) = (next(&mut olds, None)?, next(&mut news, None)?);
    loop {
        let order = match (&old, &new) {
            (None, None) => break,
            (Some(old), Some(new)) => old.key.cmp(&new.key),
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
        };
        let before = if order.is_le() { old.take() } else { None };
        let after = if order.is_ge() { new.take() } else { None };
        one(before.as_ref(), after.as_ref(), comparison, depth, tally)?;
        if order.is_le() {
            old = next(&mut olds, before.as_ref())?;
        }
        if order.is_ge() {
            new = next(&mut news, after.as_ref())?;
        }
    }
    tally.unclear(0, shared);
    Ok(())
}

/// Compares a record with the one that has its key, if there is one.
fn one(
    old: Option<&Entry>,
    new: Option<&Entry>,
    comparison: &Comparison,
    depth: usize,
    tally: &mut Tally,
) -> Result<(), RunError> {
    let (old, new) = (old.map(Record::read).transpose()?, new.map(Record::read).transpose()?);
    if let (Some((_, old)), Some((_, new))) = (old, new)
        && old == new
        && !comparison.crosses
    {
        return Ok(());
    }
    let arena = Arena::new();
    // The texts lie one behind the other in the space of origins.
    let behind = old.map_or(0, |(_, text)| text.len());
    let bases = [Base::default(), Base::default().behind(behind)];
    let item = |side: Option<(Record, &'_ str)>, base: Base| {
        let (record, text) = side?;
        let text = arena.text(text);
        let number = usize::try_from(record.number).unwrap_or(usize::MAX);
        Some((number, record.value(text, &arena, base, depth)?))
    };
    let difference = compare_items(item(old, bases[0]), item(new, bases[1]), comparison);
    let sides = [(old, bases[0]), (new, bases[1])].map(|(side, base)| Side { side, base });
    let [old, new] = &sides;
    tally.take(difference, [old, new]);
    Ok(())
}

/// A record of one side, with where its text lies.
struct Side<'t> {
    side: Option<(Record, &'t str)>,
    base: Base,
}

impl Located for Side<'_> {
    fn line_column(&self, origin: kyanite_tree::Origin) -> Option<LineColumn> {
        let (record, text) = self.side?;
        if !record.is_text {
            return Some(record.at);
        }
        let inside = TextPlaces::new("", text.as_bytes()).line_column(self.base.offset(origin));
        let LineColumn { line, column } = record.at;
        Some(match inside.line {
            1 => LineColumn { line, column: column + inside.column - 1 },
            further => LineColumn { line: line + further - 1, column: inside.column },
        })
    }
}

/// What is kept of a record beside its value.
#[derive(Clone, Copy)]
struct Record {
    /// Its number in its stream, from 0.
    number: u64,
    at: LineColumn,
    /// Whether its value is a text of JSON, and not packed.
    is_text: bool,
}

/// The bytes in front of the value.
const HEAD: usize = 25;

impl Record {
    /// Begins the body of an entry.
    fn begin(self, body: &mut Vec<u8>) {
        body.clear();
        for number in [self.number, self.at.line, self.at.column] {
            body.extend_from_slice(&number.to_le_bytes());
        }
        body.push(u8::from(self.is_text));
    }

    /// What stands in an entry.
    fn read(entry: &Entry) -> Result<(Self, &str), RunError> {
        let damaged = || no_room(&io::Error::from(io::ErrorKind::InvalidData));
        let (head, text) = entry.body.split_first_chunk::<HEAD>().ok_or_else(damaged)?;
        let number =
            |at: usize| head[at..].first_chunk::<8>().map_or(0, |bytes| u64::from_le_bytes(*bytes));
        let at = LineColumn { line: number(8), column: number(16) };
        let record = Self { number: number(0), at, is_text: head[HEAD - 1] == 1 };
        Ok((record, std::str::from_utf8(text).map_err(|_| damaged())?))
    }

    fn value<'a>(
        self,
        text: &'a str,
        arena: &'a Arena,
        base: Base,
        depth: usize,
    ) -> Option<Value<'a>> {
        if !self.is_text {
            return Packed::new(text).next(arena)?;
        }
        let origins = kyanite_formats::json::Origins::Text(base);
        document(text, arena, ReaderOptions { depth, origins }).ok().map(|(value, _)| value)
    }
}

fn no_room(error: &io::Error) -> RunError {
    let message =
        format!("records that wait to be compared cannot go to a temporary file: {error}");
    RunError::Output(
        Diagnostic::error(Code::OutputFailed, message).advise(Advice::temporary_room()),
    )
}
