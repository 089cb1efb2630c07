//! Runs blocks of records independently, on one thread or several, and hands on their results in input order.
//!
//! A block ends at a line end, which nearly always ends a record. Workers assume that it does; a result counts only if every block
//! before it ended exactly there. A block is run again, in order, by the committing thread if it has anything to report, or if its last
//! record goes on in the next block; so messages, places and errors are the same as with one thread.

mod worker;

use std::collections::BTreeMap;
use std::io;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::Duration;

use kyanite_formats::json;
use kyanite_formats::records::Layout;
use kyanite_formats::xml::{Ancestry, StepName};
use kyanite_formats::{csv, xml};
use kyanite_lang::{
    Coverage, Cutoff, DocumentUris, FieldPlan, Names, PackedTuples, Plan, RecordState, RecordUnit,
    SpillSettings, Written,
};
use kyanite_schema::json::Schema;
use kyanite_tree::{Arena, Passed, Value};

use crate::blocks::{Blocks, Then};
use crate::ensure::allow;
use crate::part::Part;
use crate::records::InputPart;
use crate::rows::RowKeys;
use crate::run_error::WayCounts;
use crate::types::DocumentTypes;
use worker::Worker;

/// What workers need of a run.
#[derive(Clone, Copy)]
pub(crate) struct WorkerContext<'w> {
    pub(crate) plan: &'w Plan,
    pub(crate) documents: &'w DocumentUris,
    pub(crate) unit: RecordUnit,
    pub(crate) layout: Layout<'w>,
    pub(crate) input: InputPart<'w>,
    pub(crate) names: &'w Names<'w>,
    pub(crate) state: &'w RecordState,
    pub(crate) spill: &'w SpillSettings,
    /// What is known of tuples that are wanted, by the blocks that were taken.
    pub(crate) cutoff: &'w RwLock<Cutoff>,
    /// Where members of records go into slots.
    pub(crate) field_plan: Option<&'w FieldPlan>,
    /// Where what the rule returns is written while it is computed.
    pub(crate) row_keys: Option<&'w RowKeys<'w>>,
    /// Where records go to lines of JSON just as they are.
    pub(crate) lines: Option<AsLines<'w>>,
    pub(crate) written: Written,
    /// Whether records are known by those before them.
    pub(crate) learns: bool,
    /// Whether names and attributes of elements around records are asked for.
    pub(crate) looks_above: bool,
    /// What gives records their types, and the names that lead to these.
    pub(crate) types: Option<(&'w DocumentTypes<'w>, &'w [StepName])>,
    /// What results keep to.
    pub(crate) ensures: Option<&'w [Schema<'w>]>,
}

impl WorkerContext<'_> {
    /// Whether a result may be written.
    pub(crate) fn allows(&self, value: Value<'_>) -> bool {
        self.ensures.is_none_or(|schemas| allow(schemas, value))
    }

    /// Whether results come as lines of JSON, however they are laid out in the end.
    pub(crate) fn gives_lines(&self) -> bool {
        match self.lines {
            Some(AsLines::Values { .. }) => false,
            Some(_) => self.written == Written::Json,
            None => self.written == Written::Json && self.row_keys.is_some(),
        }
    }
}

/// Records that are written with no values in between.
#[derive(Clone, Copy)]
pub(crate) enum AsLines<'w> {
    /// Rows of CSV.
    Rows { settings: csv::Settings, header: Option<csv::Header<'w>>, lines: &'w csv::RowLines },
    /// JSON values, which are laid out at once, `depth` lists deep.
    Values { depth: usize, style: (json::Style, usize) },
    /// Elements of XML.
    Elements { elements: xml::Elements<'w>, place: Ancestry<'w> },
}

/// A block and what came of it. There is a fixed number of these, so that no more blocks are under way than may
/// be.
pub(crate) struct WorkerBlock {
    pub(crate) bytes: Vec<u8>,
    /// How much of the input the block is.
    pub(crate) passed: Passed,
    pub(crate) part: Part,
    /// What came of it; None when it has to be run over again.
    pub(crate) result: Option<BlockResult>,
    pub(crate) then: Then,
}

/// What came of a block in which nothing was worth saying.
pub(crate) struct BlockResult {
    pub(crate) coverage: Coverage,
    pub(crate) state: RecordState,
    /// The tuples that wait for those of other records.
    pub(crate) tuples: PackedTuples,
    pub(crate) records: u64,
    /// How they were taken.
    pub(crate) taken: WayCounts,
    /// What was met of names of elements.
    pub(crate) met: ElementNames,
    /// What is known of the elements around records, where these are asked for.
    pub(crate) enclosing: Option<Enclosing>,
}

/// What is known of the elements around the records of a block. Those that are open where it begins are called as it was taken for
/// granted; what attributes they have is known in its turn.
pub(crate) struct Enclosing {
    /// Up to where records stand in elements of that name other than the root: these were not run over.
    pub(crate) head: usize,
    /// How many of them are open all through the block.
    still_open: usize,
    /// The start tags of the others that are open at its end.
    tags: Vec<String>,
}

impl Enclosing {
    fn of(reader: &xml::RecordReader<'_>, head: usize) -> Option<Self> {
        let tags = reader.open_tags()?.into_iter().map(str::to_owned).collect();
        Some(Self { head, still_open: reader.still_open(), tags })
    }

    /// The place behind the block, given the one behind its head.
    pub(crate) fn behind<'h>(
        &self,
        place: Ancestry<'_>,
        layout: Layout<'_>,
        arena: &'h Arena,
    ) -> Option<Ancestry<'h>> {
        let Layout::Xml { elements, .. } = layout else { return None };
        let tags: Vec<&str> = self.tags.iter().map(String::as_str).collect();
        place.behind(self.still_open, &tags, elements, arena)
    }
}

/// What was met of the names of the elements of a block.
#[derive(Default)]
pub(crate) struct ElementNames {
    /// Local names that did without their namespaces, with these.
    pub(crate) dropped: Vec<(String, String)>,
    /// Namespaces of records that a name without prefix means.
    pub(crate) namespaces: Vec<String>,
}

impl ElementNames {
    /// What a reader met.
    pub(crate) fn of(reader: &mut xml::RecordReader<'_>) -> Self {
        let namespaces = reader.namespaces().iter().map(|uri| (*uri).to_owned()).collect();
        Self { dropped: reader.take_dropped(), namespaces }
    }
}

/// What the threads are called that run over blocks.
pub const WORKER: &str = "kyanite-worker";

/// Blocks on each thread that are run over or wait.
const AHEAD: usize = 3;

/// Runs over all blocks that are left. `commit` gets them in order, and says whether it wants more.
///
/// # Errors
/// When the input cannot be read, or no thread can be started.
pub(crate) fn run<E>(
    context: WorkerContext<'_>,
    threads: usize,
    stack: usize,
    blocks: &mut Blocks,
    new_part: impl Fn() -> Part,
    mut commit: impl FnMut(&mut WorkerBlock) -> Result<bool, E>,
    failed: impl Fn(io::Error) -> E,
) -> Result<(), E> {
    let worker_block = || WorkerBlock {
        bytes: Vec::new(),
        passed: Passed::default(),
        part: new_part(),
        result: None,
        then: Then::More,
    };
    let threads = threads.max(1);
    let free = (0..threads * AHEAD).map(|_| worker_block()).collect();
    let feed = Feed {
        state: Mutex::new(FeedState { blocks, free, next: 0, is_over: false }),
        is_freed: Condvar::new(),
    };
    std::thread::scope(|scope| {
        let end = EndOnDrop(&feed);
        let (results, done) = channel();
        // This thread, which keeps the order, works along: else it would be woken for each block.
        for _ in 1..threads {
            let (feed, results) = (&feed, results.clone());
            std::thread::Builder::new()
                .name(WORKER.into())
                .stack_size(stack)
                .spawn_scoped(scope, move || worker(context, feed, &results))
                .map_err(&failed)?;
        }
        drop(results);
        let mut order = Order { next: 0, early: BTreeMap::new(), done };
        let mut worker = Worker::new(context);
        let is_alone = threads == 1;
        loop {
            let done = match order.take() {
                Some(done) => done,
                None => match feed.next(is_alone) {
                    Some((number, read)) => {
                        order.early.insert(number, worker.run_read(context, read));
                        continue;
                    }
                    None => match order.wait() {
                        Some(done) => done,
                        // A worker that is gone without the last block has panicked, which the scope hands on.
                        None => return Ok(()),
                    },
                },
            };
            let mut worker_block = done.map_err(&failed)?;
            if !commit(&mut worker_block)? || worker_block.then == Then::End {
                return Ok(());
            }
            worker_block.part.clear();
            end.0.free(worker_block);
        }
    })
}

/// Where workers get their blocks.
struct Feed<'f> {
    state: Mutex<FeedState<'f>>,
    is_freed: Condvar,
}

struct FeedState<'f> {
    blocks: &'f mut Blocks,
    free: Vec<WorkerBlock>,
    /// The number of the next block.
    next: u64,
    /// Whether no more blocks are there, or wanted.
    is_over: bool,
}

impl<'f> Feed<'f> {
    fn lock(&self) -> MutexGuard<'_, FeedState<'f>> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads the next block: its number, and the worker block that it lies on. Returns None when no more blocks come, or when it may
    /// not wait and no worker block is free, or the input pauses.
    fn next(&self, waits: bool) -> Option<(u64, io::Result<WorkerBlock>)> {
        loop {
            let mut state = self.lock();
            let mut worker_block = loop {
                if state.is_over {
                    return None;
                }
                match state.free.pop() {
                    Some(worker_block) => break worker_block,
                    None if !waits => return None,
                    None => {
                        state = self.is_freed.wait(state).unwrap_or_else(PoisonError::into_inner);
                    }
                }
            };
            let read = match state.blocks.next_owned(&mut worker_block.bytes) {
                Ok(Some(then)) => {
                    worker_block.then = then;
                    Ok(worker_block)
                }
                Ok(None) => {
                    state.free.push(worker_block);
                    drop(state);
                    if !waits {
                        return None;
                    }
                    std::thread::sleep(Duration::from_millis(1));
                    continue;
                }
                Err(error) => Err(error),
            };
            state.is_over = !matches!(&read, Ok(worker_block) if worker_block.then != Then::End);
            if state.is_over {
                self.is_freed.notify_all();
            }
            let number = state.next;
            state.next += 1;
            return Some((number, read));
        }
    }

    /// Takes a worker block back.
    fn free(&self, worker_block: WorkerBlock) {
        self.lock().free.push(worker_block);
        self.is_freed.notify_one();
    }
}

/// Ends the feed when it goes, so that nobody is left waiting.
struct EndOnDrop<'e, 'f>(&'e Feed<'f>);

impl Drop for EndOnDrop<'_, '_> {
    fn drop(&mut self) {
        self.0.lock().is_over = true;
        self.0.is_freed.notify_all();
    }
}

/// Puts results in the order of their blocks.
struct Order {
    next: u64,
    early: BTreeMap<u64, io::Result<WorkerBlock>>,
    done: Receiver<(u64, io::Result<WorkerBlock>)>,
}

impl Order {
    /// What is next, if it is done.
    fn take(&mut self) -> Option<io::Result<WorkerBlock>> {
        self.early.extend(self.done.try_iter());
        let done = self.early.remove(&self.next)?;
        self.next += 1;
        Some(done)
    }

    /// What is next, waiting until it is done; None when nobody is at work.
    fn wait(&mut self) -> Option<io::Result<WorkerBlock>> {
        loop {
            if let Some(done) = self.take() {
                return Some(done);
            }
            let (number, done) = self.done.recv().ok()?;
            self.early.insert(number, done);
        }
    }
}

fn worker(
    context: WorkerContext<'_>,
    feed: &Feed<'_>,
    results: &Sender<(u64, io::Result<WorkerBlock>)>,
) {
    // A worker ends when all have to: at the end of the feed, or by a panic.
    let _end = EndOnDrop(feed);
    let mut worker = Worker::new(context);
    while let Some((number, read)) = feed.next(true) {
        if results.send((number, worker.run_read(context, read))).is_err() {
            return;
        }
    }
}
