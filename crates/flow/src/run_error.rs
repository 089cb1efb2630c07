//! How a run ends early, and what is said along the way.

use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};

use kyanite_formats::CannotHold;
use kyanite_lang::{Finding, RuleText};
use kyanite_tree::{Advice, Code, Diagnostic, Origin, Place};

/// Why a run ended: whose fault it is, and what to say.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum RunError {
    /// The command or the rule is wrong; nothing was read.
    Command(Vec<Diagnostic>),
    /// An input cannot be read.
    Input(Diagnostic),
    /// The rule failed on the data.
    Rule(Diagnostic),
    /// The output cannot be written.
    Output(Diagnostic),
    /// A document, or the result, breaks a schema.
    Invalid(Vec<Diagnostic>),
}

impl RunError {
    /// The command or the rule is wrong: what, and what to do.
    pub fn command(message: impl Into<String>, advice: impl Into<Advice>) -> Self {
        Self::Command(vec![Diagnostic::error(Code::CommandLine, message).advise(advice)])
    }

    /// A rule does not compile: its text, and all that is wrong with it.
    #[must_use]
    pub fn of_rule((rule, findings): (RuleText, Vec<Finding>)) -> Self {
        Self::Command(findings.into_iter().map(|finding| rule.diagnostic(finding)).collect())
    }

    /// What to say.
    #[must_use]
    pub fn diagnostics(&self) -> &[Diagnostic] {
        match self {
            Self::Command(found) | Self::Invalid(found) => found,
            Self::Input(found) | Self::Rule(found) | Self::Output(found) => {
                std::slice::from_ref(found)
            }
        }
    }
}

impl fmt::Display for RunError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut found = self.diagnostics().iter();
        if let Some(first) = found.next() {
            first.fmt(f)?;
        }
        found.try_for_each(|further| write!(f, "; {further}"))
    }
}

impl std::error::Error for RunError {}

/// Why an output failed; where the value is that it is about is looked up when somebody knows the inputs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum OutputFailure {
    /// A value cannot be written.
    Value(CannotHold),
    /// The place that results go to does not take them, or all is said.
    Told(Diagnostic),
}

impl OutputFailure {
    /// Looks up where the value was read.
    pub(crate) fn place(&mut self, find: &dyn Fn(Origin) -> Option<Place>) {
        if let Self::Value(failure) = self {
            *self = Self::Told(failure.clone().resolve(find));
        }
    }
}

impl From<OutputFailure> for RunError {
    fn from(failure: OutputFailure) -> Self {
        Self::Output(match failure {
            OutputFailure::Value(failure) => failure.resolve(|_| None),
            OutputFailure::Told(told) => told,
        })
    }
}

/// What is counted while a run goes on.
#[derive(Debug, Default)]
pub struct Counters {
    /// Bytes of input that have been read.
    pub bytes: AtomicU64,
    /// Records and documents that have been read.
    pub records: AtomicU64,
    /// Records that were left out, since they are broken.
    pub skipped: AtomicU64,
    /// Repairs of what was broken.
    pub repaired: AtomicU64,
    /// How records of rules were taken.
    pub taken: WayCounters,
}

/// How many records were taken in some ways.
#[derive(Debug, Default)]
pub struct WayCounters {
    /// They were known by the text of those before them.
    pub by_templates: AtomicU64,
    /// Their members were in fields, and they were no values.
    pub in_fields: AtomicU64,
    /// They were written as they were read.
    pub copied: AtomicU64,
    /// Results that were written while they were computed, and were no values.
    pub lines: AtomicU64,
}

/// The same of a block.
#[derive(Clone, Copy, Default, Debug)]
pub(crate) struct WayCounts {
    pub(crate) by_templates: u64,
    pub(crate) in_fields: u64,
    pub(crate) copied: u64,
    pub(crate) lines: u64,
}

impl Counters {
    /// Counts bytes that were read.
    pub(crate) fn read(&self, bytes: u64) {
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    /// Counts how records were taken.
    pub(crate) fn take(&self, taken: WayCounts) {
        let WayCounters { by_templates, in_fields, copied, lines } = &self.taken;
        by_templates.fetch_add(taken.by_templates, Ordering::Relaxed);
        in_fields.fetch_add(taken.in_fields, Ordering::Relaxed);
        copied.fetch_add(taken.copied, Ordering::Relaxed);
        lines.fetch_add(taken.lines, Ordering::Relaxed);
    }

    /// Counts records that were read.
    pub(crate) fn count(&self, records: u64) {
        self.records.fetch_add(records, Ordering::Relaxed);
    }
}

/// What a run tells while it goes on.
pub struct Events<'e> {
    /// Takes warnings and notes.
    pub tell: &'e mut dyn FnMut(Diagnostic),
    /// What is counted.
    pub counters: &'e Counters,
}

impl Events<'_> {
    pub(crate) fn tell(&mut self, diagnostic: Diagnostic) {
        (self.tell)(diagnostic);
    }

    pub(crate) fn read(&self, bytes: usize) {
        self.counters.read(bytes as u64);
    }
}

/// Problems of one sort that may come by the thousand: the first are told, the others counted.
#[derive(Debug, Default)]
pub(crate) struct Repeated {
    count: u64,
}

/// How many of one sort are told one by one.
const TOLD: u64 = 3;

impl Repeated {
    pub(crate) fn tell(
        &mut self,
        events: &mut Events<'_>,
        diagnostic: impl FnOnce() -> Diagnostic,
    ) {
        self.count += 1;
        if self.count <= TOLD {
            events.tell(diagnostic());
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
