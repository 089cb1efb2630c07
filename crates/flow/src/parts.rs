//! Reads a document part by part: as much of it at a time as its reader uses.

use kyanite_formats::SyntaxError;
use kyanite_tree::{Base, Passed, TextPlaces};

use crate::blocks::{Blocks, Then};
use crate::input::{InputOptions, cannot_read};
use crate::records::valid_start;
use crate::repairs::Repairs;
use crate::run_error::{Events, RunError};
use crate::transcode::Replaced;

/// The text of a part of a document.
pub(crate) struct Part<'t> {
    /// The input's name in messages.
    pub(crate) name: &'t str,
    pub(crate) text: &'t str,
    pub(crate) is_last: bool,
    /// Where it begins in the space of origins.
    pub(crate) base: Base,
    /// How much of the document stands before it.
    pub(crate) before: Passed,
}

impl<'t> Part<'t> {
    /// A document that is held.
    pub(crate) fn whole(name: &'t str, text: &'t str) -> Self {
        Self { name, text, is_last: true, base: Base::default(), before: Passed::default() }
    }

    /// Finds places in it.
    pub(crate) fn places(&self) -> TextPlaces<'t> {
        TextPlaces::new(self.name, self.text.as_bytes()).behind(self.before)
    }

    /// What is wrong with the document, as the end of a run.
    pub(crate) fn failed(&self, error: &SyntaxError) -> RunError {
        let found = error.diagnostic(self.name, self.text.as_bytes());
        RunError::Input(found.behind(self.before))
    }
}

/// Looks at a part; gives how much of it was used. Where that is nothing, the part comes again with more behind it.
pub(crate) type Visit<'v> = &'v mut dyn FnMut(
    &Part<'_>,
    (&mut Events<'_>, &mut Repairs),
) -> Result<Option<usize>, RunError>;

/// Goes through the parts of a document.
pub(crate) fn go_through(
    name: &str,
    (mut blocks, replaced): (Blocks, &Replaced),
    options: &InputOptions,
    events: &mut Events<'_>,
    visit: Visit<'_>,
) -> Result<(), RunError> {
    let mut repairs = Repairs::new(options.repairs);
    let (mut base, mut before) = (Base::default(), Passed::default());
    let read = loop {
        let block = match blocks.next() {
            Ok(block) => block,
            Err(error) => break Err(RunError::Input(cannot_read(name, &error))),
        };
        let (text, invalid) = valid_start(block.bytes);
        let is_last = block.then == Then::End && invalid == 0;
        let part = Part { name, text, is_last, base, before };
        let used = match visit(&part, (events, &mut repairs)) {
            Ok(Some(used)) => used,
            Ok(None) if invalid == 0 => {
                blocks.put_back(0);
                continue;
            }
            Ok(None) => 0,
            Err(failed) => break Err(failed),
        };
        if invalid > 0 {
            let wrong = SyntaxError::not_utf8(text.len(), text.len() + invalid);
            let told = wrong.diagnostic(name, block.bytes).behind(before);
            break Err(RunError::Input(told));
        }
        events.read(used);
        if is_last {
            break Ok(());
        }
        before.pass(&text.as_bytes()[..used]);
        base = base.behind(used);
        blocks.used(used);
    };
    repairs.take_replaced(replaced);
    repairs.finish(events);
    read
}
