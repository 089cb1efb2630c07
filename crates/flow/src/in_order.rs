//! Runs the blocks of a stream on several threads, and hands on their results in input order.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError, mpsc};

use crate::blocks::{Blocks, Then};
use crate::input::cannot_read;
use crate::run_error::RunError;

/// What came of a block.
pub(crate) struct Made<T> {
    pub(crate) value: T,
    /// Whether all of the block was used, and nothing else is to be said of it.
    pub(crate) is_clean: bool,
}

/// What is learned in one block and of use in the next, whichever thread takes that.
pub(crate) struct Shared<T, N> {
    idle: Mutex<Vec<T>>,
    new: N,
}

impl<T, N: Fn() -> T> Shared<T, N> {
    /// Nothing learned yet; `new` gives what a thread begins with.
    pub(crate) fn new(new: N) -> Self {
        Self { idle: Mutex::default(), new }
    }

    /// Works with what was learned before.
    pub(crate) fn with<O>(&self, work: impl FnOnce(&mut T) -> O) -> O {
        let idle = || self.idle.lock().unwrap_or_else(PoisonError::into_inner);
        let known = idle().pop();
        let mut known = known.unwrap_or_else(&self.new);
        let made = work(&mut known);
        idle().push(known);
        made
    }
}

/// Threads, and the size of their stacks in bytes.
#[derive(Clone, Copy)]
pub(crate) struct Workers {
    pub(crate) threads: usize,
    pub(crate) stack: usize,
}

/// How many blocks each thread may be ahead.
const AHEAD: usize = 3;

/// A block, and what came of it.
type Done<T> = (Vec<u8>, Made<T>);

impl Workers {
    /// Runs `work` over the blocks of a stream that is called `name`, until the end or as far as each is clean. `take` gets the blocks and
    /// what came of them, in order. What is left, from the first that is not clean, is given back.
    pub(crate) fn run<T: Send>(
        self,
        mut blocks: Blocks,
        name: &str,
        work: &(dyn Fn(&[u8]) -> Made<T> + Sync),
        take: &mut dyn FnMut(&[u8], T),
    ) -> Result<Blocks, RunError> {
        let Self { threads, stack } = self;
        let mut left = None;
        let (to_workers, jobs) = mpsc::sync_channel::<(usize, Vec<u8>)>(threads * AHEAD);
        let jobs = &Mutex::new(jobs);
        std::thread::scope(|scope| -> Result<(), RunError> {
            // Once it is gone, so are the workers.
            let to_workers = to_workers;
            let (results, from_workers) = mpsc::channel::<(usize, Done<T>)>();
            let mut started = 0;
            for _ in 0..threads {
                let results = results.clone();
                let work = move || {
                    loop {
                        let next = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
                        let Ok((number, block)) = next else { break };
                        let made = work(&block);
                        if results.send((number, (block, made))).is_err() {
                            break;
                        }
                    }
                };
                let spawned =
                    std::thread::Builder::new().stack_size(stack).spawn_scoped(scope, work);
                started += usize::from(spawned.is_ok());
            }
            drop(results);
            let (mut sent, mut taken, mut ended) = (0, 0, started == 0);
            let mut waiting = Waiting { from_workers, early: BTreeMap::new() };
            loop {
                while !ended && sent - taken < threads * AHEAD {
                    let mut block = Vec::new();
                    let then = blocks
                        .next_owned(&mut block)
                        .map_err(|error| RunError::Input(cannot_read(name, &error)))?;
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
                let Some((block, made)) = waiting.next(taken) else { break };
                taken += 1;
                if made.is_clean {
                    take(&block, made.value);
                    continue;
                }
                // It and all behind it are run over once more, one after another.
                let mut rest = block;
                while taken < sent {
                    let next = waiting.next(taken);
                    rest.extend(next.map(|(block, _)| block).unwrap_or_default());
                    taken += 1;
                }
                rest.extend(left.take().unwrap_or_default());
                left = Some(rest);
                break;
            }
            Ok(())
        })?;
        blocks.put_in_front(left.unwrap_or_default());
        Ok(blocks)
    }
}

/// What comes early waits for what is before it.
struct Waiting<T> {
    from_workers: mpsc::Receiver<(usize, Done<T>)>,
    early: BTreeMap<usize, Done<T>>,
}

impl<T> Waiting<T> {
    /// What comes of the block with a number, once it is there.
    fn next(&mut self, number: usize) -> Option<Done<T>> {
        loop {
            if let Some(done) = self.early.remove(&number) {
                return Some(done);
            }
            let (number, done) = self.from_workers.recv().ok()?;
            self.early.insert(number, done);
        }
    }
}
