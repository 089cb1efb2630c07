//! Streams of records against JSON Schemas, a block at a time.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError, mpsc};

use kyanite_formats::Format;
use kyanite_formats::json::EventReader;
use kyanite_formats::records::Layout;
use kyanite_schema::{Finding as Found, json};
use kyanite_tree::{Arena, Base, Diagnostic, Passed, Place, Value, locate};

use super::check::{Raw, check_value};
use crate::document::{Duplicates, Skipped};
use crate::failed::{Events, Failed};
use crate::input::{Beginning, Held, InputOptions, Source, cannot_read};
use crate::records::{Block, Blocks, InputPart, Next, Records, Then, valid_start};
use crate::repairs::Repairs;
use crate::run::stack_size;

/// How far a stream was checked.
#[derive(Clone, Copy, Default)]
struct Progress {
    /// How many records there were.
    number: usize,
    base: Base,
    before: Passed,
}

/// What came of a block that was checked apart from the others.
struct Apart {
    bytes: Vec<u8>,
    /// What is wrong, with the number of the record in the block, the place as if the block began the file, and the path in the
    /// record.
    findings: Vec<(usize, Found, Place, String)>,
    records: usize,
    /// Whether all of the block was used, and nothing else is to be said of it.
    is_clean: bool,
}

/// How many blocks each thread may be ahead.
const AHEAD: usize = 3;

/// Checks the blocks of JSON Lines on several threads, until the end or as far as each ends with a record and there is nothing to
/// be said but findings. Gives what is left, and how far it came.
fn on_threads(
    mut blocks: Blocks,
    schemas: &[json::Schema<'_>],
    (raw, name, options): (&mut Raw, &str, &InputOptions),
    threads: usize,
    bytes: &AtomicU64,
) -> Result<(Blocks, Progress), Failed> {
    let layout = Layout::Json {
        depth: options.limits.depth,
        needs: None,
        sieve: None,
        strict: options.whole_grammar,
        structure: false,
    };
    let mut progress = Progress::default();
    let stack = stack_size(json::DEPTH.max(options.limits.depth));
    let mut left = None;
    let (to_workers, jobs) = mpsc::sync_channel::<(usize, Vec<u8>)>(threads * AHEAD);
    let jobs = &Mutex::new(jobs);
    std::thread::scope(|scope| -> Result<(), Failed> {
        // Once it is gone, so are the workers.
        let to_workers = to_workers;
        let (results, from_workers) = mpsc::channel::<(usize, Apart)>();
        let mut started = 0;
        for _ in 0..threads {
            let results = results.clone();
            let work = move || {
                loop {
                    let next = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
                    let Ok((number, block)) = next else { break };
                    if results.send((number, apart(block, schemas, name, layout))).is_err() {
                        break;
                    }
                }
            };
            let spawned = std::thread::Builder::new().stack_size(stack).spawn_scoped(scope, work);
            started += usize::from(spawned.is_ok());
        }
        drop(results);
        let (mut sent, mut taken, mut ended) = (0, 0, started == 0);
        let mut waiting: BTreeMap<usize, Apart> = BTreeMap::new();
        let mut is_clean = started > 0;
        loop {
            while is_clean && !ended && sent - taken < threads * AHEAD {
                let mut block = Vec::new();
                let then = blocks
                    .next_owned(&mut block)
                    .map_err(|error| Failed::Input(cannot_read(name, &error)))?;
                // The last may end within a record, which is then said in the usual way.
                if then != Some(Then::More) {
                    ended = true;
                    left = Some(block);
                    break;
                }
                if to_workers.send((sent, block)).is_err() {
                    break;
                }
                sent += 1;
            }
            if taken == sent {
                break;
            }
            let Ok((number, part)) = from_workers.recv() else { break };
            waiting.insert(number, part);
            while let Some(part) = waiting.remove(&taken) {
                taken += 1;
                is_clean &= part.is_clean;
                if !is_clean {
                    // It and all behind it are checked once more, one after another.
                    let mut all = part.bytes;
                    let mut rest = std::mem::take(&mut waiting);
                    while taken < sent {
                        let next = rest.remove(&taken).or_else(|| {
                            loop {
                                let (number, part) = from_workers.recv().ok()?;
                                if number == taken {
                                    break Some(part);
                                }
                                rest.insert(number, part);
                            }
                        });
                        taken += 1;
                        all.extend(next.map(|part| part.bytes).unwrap_or_default());
                    }
                    all.extend(left.take().unwrap_or_default());
                    left = Some(all);
                    break;
                }
                for (at, found, place, path) in part.findings {
                    let path = format!("$[{}]{path}", progress.number + at);
                    raw.add(found, Some(place.behind(progress.before).with_path(path)));
                }
                raw.checked += part.records as u64;
                progress.number += part.records;
                progress.before.pass(&part.bytes);
                progress.base = progress.base.behind(part.bytes.len());
                bytes.fetch_add(part.bytes.len() as u64, Ordering::Relaxed);
            }
        }
        Ok(())
    })?;
    let rest = blocks.into_rest(left.unwrap_or_default());
    Ok((Blocks::new(rest, None), progress))
}

/// Checks a block apart from the others.
fn apart(bytes: Vec<u8>, schemas: &[json::Schema<'_>], name: &str, layout: Layout<'_>) -> Apart {
    let arena = Arena::new();
    let (mut findings, mut records, mut is_clean) = (Vec::new(), 0, true);
    let input = InputPart {
        name,
        format: Format::JsonLines,
        base: Base::default(),
        before: Passed::default(),
    };
    {
        let block = Block { bytes: &bytes, then: Then::More };
        let mut reader = Records::new(block, 0, input, layout, &arena, None);
        let may_pass = schemas.iter().all(json::Schema::can_accept);
        loop {
            if may_pass {
                records += reader.pass(&mut |events, at| accepted(schemas, events, at));
            }
            match reader.next() {
                Next::Record(record) => {
                    check_value(schemas, record, &mut |found| {
                        let path = path_in(record, &found);
                        let place = reader.place(found.origin);
                        findings.push((records, found, place, path));
                    });
                    records += 1;
                }
                Next::End(used) => {
                    is_clean &= used == bytes.len();
                    break;
                }
                Next::Broken(_) => {
                    is_clean = false;
                    break;
                }
            }
            is_clean &= reader.take_duplicates().is_empty();
        }
    }
    Apart { findings, bytes, records, is_clean }
}

/// Where the value ends that begins at byte `at`, if it is certainly valid by all schemas.
pub(super) fn accepted(
    schemas: &[json::Schema<'_>],
    events: &mut EventReader<'_>,
    at: usize,
) -> Option<usize> {
    let mut end = None;
    for schema in schemas {
        events.seek(at);
        if !schema.accepts(events) {
            return None;
        }
        end = Some(events.end()?);
    }
    end
}

/// The path of a finding in its record, without the sign of the root.
fn path_in(record: Value<'_>, found: &Found) -> String {
    let path = locate(record, found.origin).map(|path| path.readable()).unwrap_or_default();
    path.strip_prefix('$').unwrap_or_default().to_owned()
}

/// Checks each record of a stream.
pub(super) fn stream(
    source: Source,
    schemas: &[json::Schema<'_>],
    raw: &mut Raw,
    (options, threads): (&InputOptions, usize),
    bytes: &AtomicU64,
) -> Result<(), Failed> {
    let format = source.detected.format;
    if let Some(message) = source.contradiction() {
        raw.tell(Diagnostic::warning(kyanite_tree::Code::InputFormat, message));
    }
    let Source { name, reader, live, replaced, .. } = source;
    let is_live = live.is_some();
    let mut blocks = Blocks::new(reader, live);
    let mut progress = Progress::default();
    let may_be_parted = format == Format::JsonLines && threads > 1 && !is_live && !options.lenient;
    if may_be_parted {
        (blocks, progress) = on_threads(blocks, schemas, (raw, &name, options), threads, bytes)?;
    }
    let held = Held::default();
    let mut layout = None;
    let may_pass = schemas.iter().all(json::Schema::can_accept);
    let Progress { mut number, mut base, mut before } = progress;
    let mut told = Vec::new();
    let mut tell = |found: Diagnostic| told.push(found);
    let mut events = Events { tell: &mut tell, bytes };
    let mut duplicates = Duplicates::new();
    let mut skipped = Skipped::new(options.lenient);
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
            if may_pass {
                let passed = records.pass(&mut |events, at| accepted(schemas, events, at));
                raw.checked += passed as u64;
                number += passed;
            }
            match records.next() {
                Next::Record(record) => {
                    raw.checked += 1;
                    check_value(schemas, record, &mut |found| {
                        let path = format!("$[{number}]{}", path_in(record, &found));
                        let place = records.place(found.origin);
                        raw.add(found, Some(place.with_path(path)));
                    });
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
    let mut repairs = Repairs::new(options.repairs);
    repairs.take_replaced(&replaced);
    repairs.finish(&mut events);
    told.into_iter().for_each(|found| raw.tell(found));
    read
}
