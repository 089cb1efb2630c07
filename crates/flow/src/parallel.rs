//! Blocks of records, each run over apart, on several threads or one; their results in the order of the input.
//!
//! A block ends at a line end, which nearly always ends a record. Workers take that for granted; what they did counts only
//! when all blocks before it ended just there. A block in which anything is worth saying, or whose last record goes on in
//! the next, is run over again, in its turn, by the thread that keeps the order; so messages, places and failures are those
//! of one thread.

use std::collections::BTreeMap;
use std::io;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};

use kyanite_formats::records::Layout;
use kyanite_formats::xml::LineOrRecord;
use kyanite_formats::{csv, xml};
use kyanite_lang::{Grain, Kept, Names, Plan, RecordState, Room, Runner, Session, Watch};
use kyanite_tree::Arena;

use crate::Sink;
use crate::part::Part;
use crate::records::{Block, Blocks, InputPart, Next, Records};

/// What workers need of a run.
#[derive(Clone, Copy)]
pub(crate) struct Work<'w> {
    pub(crate) plan: &'w Plan,
    pub(crate) grain: Grain,
    pub(crate) layout: Layout<'w>,
    pub(crate) input: InputPart<'w>,
    pub(crate) names: &'w Names<'w>,
    pub(crate) state: &'w RecordState,
    pub(crate) room: &'w Room,
    /// Where records go to lines of JSON just as they are.
    pub(crate) lines: Option<AsLines<'w>>,
}

/// Records that become lines of JSON with no values in between.
#[derive(Clone, Copy)]
pub(crate) enum AsLines<'w> {
    /// Rows of CSV, with what stands before the cells of each.
    Rows { settings: csv::Settings, header: Option<csv::Header<'w>>, starts: &'w [Vec<u8>] },
    /// Elements of XML.
    Elements { path: &'w [xml::StepName], place: xml::Place<'w>, options: xml::Options },
}

/// A block that waits to be run over.
struct Task {
    sequence: u64,
    bytes: Vec<u8>,
    part: Part,
}

/// A block that was run over.
pub(crate) struct Done {
    pub(crate) bytes: Vec<u8>,
    pub(crate) part: Part,
    /// What came of it; nothing when it has to be run over again.
    pub(crate) clean: Option<Clean>,
}

/// What came of a block in which nothing was worth saying.
pub(crate) struct Clean {
    pub(crate) watch: Watch,
    pub(crate) state: RecordState,
    pub(crate) records: u64,
}

/// Blocks on each thread that are run over or wait.
const AHEAD: usize = 3;

/// Runs over all blocks that are left. `commit` gets them in order, and says whether it wants more.
///
/// # Errors
/// When the input cannot be read, or no thread can be started.
pub(crate) fn run<E>(
    work: Work<'_>,
    threads: usize,
    stack: usize,
    blocks: &mut Blocks,
    new_part: impl Fn() -> Part,
    mut commit: impl FnMut(&mut Done, bool) -> Result<bool, E>,
    failed: impl Fn(io::Error) -> E,
) -> Result<(), E> {
    if threads <= 1 {
        return run_here(work, blocks, new_part, commit, failed);
    }
    std::thread::scope(|scope| {
        let (tasks, waiting) = channel::<Task>();
        let (results, done) = channel::<(u64, Done)>();
        let waiting = Arc::new(Mutex::new(waiting));
        for _ in 0..threads {
            let (waiting, results) = (Arc::clone(&waiting), results.clone());
            std::thread::Builder::new()
                .stack_size(stack)
                .spawn_scoped(scope, move || worker(work, &waiting, &results))
                .map_err(&failed)?;
        }
        drop(results);
        let mut order = Order { next: 0, early: BTreeMap::new(), done };
        let (mut sent, mut is_end, mut parts) = (0, false, Vec::new());
        let mut spare: Vec<Vec<u8>> = Vec::new();
        loop {
            while !is_end && sent - order.next < (threads * AHEAD) as u64 {
                let mut bytes = spare.pop().unwrap_or_default();
                is_end = blocks.next_owned(&mut bytes).map_err(&failed)?;
                let part = parts.pop().unwrap_or_else(&new_part);
                // A worker that is gone has panicked, which the scope hands on.
                let _ = tasks.send(Task { sequence: sent, bytes, part });
                sent += 1;
            }
            if order.next == sent {
                return Ok(());
            }
            let Some(mut result) = order.take() else { return Ok(()) };
            let is_last = is_end && order.next == sent;
            if !commit(&mut result, is_last)? {
                return Ok(());
            }
            result.part.clear();
            parts.push(result.part);
            spare.push(result.bytes);
        }
    })
}

/// Runs over all blocks that are left on this thread.
fn run_here<E>(
    work: Work<'_>,
    blocks: &mut Blocks,
    new_part: impl Fn() -> Part,
    mut commit: impl FnMut(&mut Done, bool) -> Result<bool, E>,
    failed: impl Fn(io::Error) -> E,
) -> Result<(), E> {
    let mut arena = Arena::new();
    let mut session = Session::new(work.plan);
    let mut done = Done { bytes: Vec::new(), part: new_part(), clean: None };
    loop {
        let is_last = blocks.next_owned(&mut done.bytes).map_err(&failed)?;
        session.restart(work.plan);
        done.clean = block(work, &done.bytes, &mut done.part, &arena, &mut session);
        arena.reset();
        if !commit(&mut done, is_last)? || is_last {
            return Ok(());
        }
        done.part.clear();
    }
}

/// Puts results in the order of their blocks.
struct Order {
    next: u64,
    early: BTreeMap<u64, Done>,
    done: Receiver<(u64, Done)>,
}

impl Order {
    fn take(&mut self) -> Option<Done> {
        loop {
            if let Some(done) = self.early.remove(&self.next) {
                self.next += 1;
                return Some(done);
            }
            let (sequence, done) = self.done.recv().ok()?;
            self.early.insert(sequence, done);
        }
    }
}

fn worker(work: Work<'_>, waiting: &Mutex<Receiver<Task>>, results: &Sender<(u64, Done)>) {
    let mut arena = Arena::new();
    let mut session = Session::new(work.plan);
    loop {
        let task = waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(Task { sequence, bytes, mut part }) = task else { return };
        session.restart(work.plan);
        let clean = block(work, &bytes, &mut part, &arena, &mut session);
        arena.reset();
        if results.send((sequence, Done { bytes, part, clean })).is_err() {
            return;
        }
    }
}

/// Runs over one block; gives nothing when there is something to say about it.
fn block(
    work: Work<'_>,
    bytes: &[u8],
    part: &mut Part,
    arena: &Arena,
    session: &mut Session,
) -> Option<Clean> {
    let Work { plan, grain, layout, input, names, state, room, lines } = work;
    let mut state = state.apart(plan);
    if let Some(lines) = lines {
        as_lines(lines, std::str::from_utf8(bytes).ok()?, part, arena, input.document)?;
        return Some(Clean { watch: Watch::empty(), state, records: part.items });
    }
    // Plans that keep turns do not run on several threads.
    let mut kept = Kept::new(plan, arena, room);
    let mut count = 0;
    {
        let block = Block { bytes, is_last: false };
        let mut records = Records::new(block, 0, input, layout, arena);
        let mut runner = Runner::for_batch(plan, grain, names.clone(), arena, session);
        loop {
            let next = records.next();
            let sifted = records.take_sifted();
            runner.passed_over(sifted);
            count += sifted;
            match next {
                Next::Record(record) => {
                    let ran =
                        runner.record(
                            &mut state,
                            &mut kept,
                            count,
                            record,
                            &mut |value| match value {
                                Some(value) => part.item(value),
                                None => kyanite_lang::Flow::Continue(()),
                            },
                        );
                    count += 1;
                    if ran.is_err() || part.failed {
                        return None;
                    }
                }
                Next::End(used) if used == bytes.len() => break,
                Next::End(_) | Next::Broken(_) => return None,
            }
        }
        if !records.take_duplicates().is_empty() {
            return None;
        }
        // The next block is run over as if it began where this one did.
        let place = records.as_xml().map(|reader| reader.place(arena));
        if place != layout.place() {
            return None;
        }
    }
    let watch = std::mem::replace(&mut session.watch, Watch::empty());
    Some(Clean { watch, state, records: count })
}

/// Writes the records of a block as lines; gives nothing when there is something to say about it.
fn as_lines(
    lines: AsLines<'_>,
    text: &str,
    part: &mut Part,
    arena: &Arena,
    document: u16,
) -> Option<()> {
    match lines {
        AsLines::Rows { settings, header, starts } => {
            let mut rows = csv::Reader::new(text, arena, settings, header, document);
            while rows.next_line(starts, &mut part.bytes).ok()? {
                part.items += 1;
            }
        }
        AsLines::Elements { path, place, options } => {
            let options = xml::Options { document, ..options };
            let mut reader = xml::RecordReader::new(text, arena, options, path, place);
            loop {
                let view = part.renderer.as_mut()?.view();
                match reader.next_line(view, &mut part.bytes).ok()? {
                    Some(LineOrRecord::Line) => part.items += 1,
                    Some(LineOrRecord::Record(record)) => {
                        if part.item(record).is_break() {
                            return None;
                        }
                    }
                    None => break,
                }
            }
            // The next block is run over as if it began where this one did.
            if reader.place(arena) != place {
                return None;
            }
        }
    }
    Some(())
}
