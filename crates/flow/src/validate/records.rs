//! Streams of records against JSON Schemas, a block at a time.

use std::sync::atomic::{AtomicU64, Ordering};

use kyanite_schema::json;
use kyanite_tree::{Arena, Base, Diagnostic, Passed, locate};

use super::check::{Raw, check_value};
use crate::document::{Duplicates, Skipped};
use crate::failed::{Events, Failed};
use crate::input::{Beginning, Held, InputOptions, Source, cannot_read};
use crate::records::{Block, Blocks, InputPart, Next, Records, Then, valid_start};

/// Checks each record of a stream.
pub(super) fn stream(
    source: Source,
    schemas: &[json::Schema<'_>],
    raw: &mut Raw,
    options: &InputOptions,
    bytes: &AtomicU64,
) -> Result<(), Failed> {
    let format = source.detected.format;
    if let Some(message) = source.contradiction() {
        raw.tell(Diagnostic::warning(kyanite_tree::Code::InputFormat, message));
    }
    let Source { name, reader, live, .. } = source;
    let mut blocks = Blocks::new(reader, live);
    let held = Held::default();
    let mut layout = None;
    let (mut base, mut before) = (Base::default(), Passed::default());
    let mut told = Vec::new();
    let mut tell = |found: Diagnostic| told.push(found);
    let mut events = Events { tell: &mut tell, bytes };
    let mut duplicates = Duplicates::new();
    let mut skipped = Skipped::new(options.lenient);
    let mut number = 0_usize;
    let read = 'blocks: loop {
        let block = match blocks.next() {
            Ok(block) => block,
            Err(error) => break Err(Failed::Input(cannot_read(&name, &error))),
        };
        let mut from = 0;
        let is_last = block.then == Then::End;
        if layout.is_none() {
            let (text, _) = valid_start(block.bytes);
            match Beginning::read(format, options, held.arena.text(text), &held.arena) {
                Ok(beginning) => {
                    from = beginning.from;
                    duplicates.tell(beginning.duplicates, &mut events, |_| None);
                    layout = Some(beginning.layout);
                }
                Err(error) if error.wants_more() && !is_last => {
                    blocks.put_back(0);
                    continue;
                }
                Err(error) => break Err(Failed::Input(error.diagnostic(&name, block.bytes))),
            }
        }
        let Some(layout) = layout else { continue };
        let arena = Arena::new();
        let input = InputPart { name: &name, format, base, before };
        let Block { bytes: all, then } = block;
        let mut records =
            Records::new(Block { bytes: all, then }, from, input, layout, &arena, None);
        let used = loop {
            match records.next() {
                Next::Record(record) => {
                    raw.checked += 1;
                    let place = |origin| {
                        let path =
                            locate(record, origin).map(|path| path.readable()).unwrap_or_default();
                        let path =
                            format!("$[{number}]{}", path.strip_prefix('$').unwrap_or_default());
                        Some(records.place(origin).with_path(path))
                    };
                    check_value(schemas, record, raw, &place);
                    number += 1;
                }
                Next::End(used) => break used,
                Next::Broken(problem) => {
                    if let Err(failed) = skipped.or_fail(problem, &mut events) {
                        break 'blocks Err(failed);
                    }
                    if let Some(used) = records.skip_broken() {
                        break used;
                    }
                }
            }
            duplicates.tell(records.take_duplicates(), &mut events, |offset| {
                Some(records.place_at(offset))
            });
        };
        events.bytes.fetch_add(used as u64, Ordering::Relaxed);
        before.pass(&all[..used]);
        base = base.behind(used);
        let ends = then == Then::End;
        drop(records);
        if ends {
            break Ok(());
        }
        blocks.used(used);
    };
    skipped.finish(&mut events);
    duplicates.finish(&mut events);
    told.into_iter().for_each(|found| raw.tell(found));
    read
}
