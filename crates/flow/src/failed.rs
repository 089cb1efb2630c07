//! How a run ends early, and what is said along the way.

use std::sync::atomic::{AtomicU64, Ordering};

use kyanite_tree::Problem;

/// Why a run ended: whose fault it is, and what to say.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Failed {
    /// The command or the rule is wrong; nothing was read.
    Command(Vec<Problem>),
    /// An input cannot be read.
    Input(Problem),
    /// The rule failed on the data.
    Rule(Problem),
    /// The output cannot be written.
    Output(Problem),
}

impl Failed {
    /// What to say.
    #[must_use]
    pub fn problems(&self) -> &[Problem] {
        match self {
            Self::Command(problems) => problems,
            Self::Input(problem) | Self::Rule(problem) | Self::Output(problem) => {
                std::slice::from_ref(problem)
            }
        }
    }
}

/// What a run tells while it goes on.
pub struct Events<'e> {
    /// Takes warnings and notes.
    pub tell: &'e mut dyn FnMut(Problem),
    /// How many bytes of input have been read so far.
    pub bytes: &'e AtomicU64,
}

impl Events<'_> {
    pub(crate) fn tell(&mut self, problem: Problem) {
        (self.tell)(problem);
    }

    pub(crate) fn read(&self, bytes: usize) {
        self.bytes.fetch_add(bytes as u64, Ordering::Relaxed);
    }
}

/// Problems of one sort that may come by the thousand: the first are told, the others counted.
#[derive(Debug)]
pub(crate) struct Repeated {
    count: u64,
}

/// How many of one sort are told one by one.
const TOLD: u64 = 3;

impl Repeated {
    pub(crate) fn new() -> Self {
        Self { count: 0 }
    }

    pub(crate) fn tell(&mut self, events: &mut Events<'_>, problem: impl FnOnce() -> Problem) {
        self.count += 1;
        if self.count <= TOLD {
            events.tell(problem());
        }
    }

    /// How many there were, if any was not told.
    pub(crate) fn untold(&self) -> Option<u64> {
        (self.count > TOLD).then_some(self.count)
    }

    /// How many there were.
    pub(crate) fn count(&self) -> u64 {
        self.count
    }
}
