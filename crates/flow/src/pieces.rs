//! Takes an input apart into pieces of whole documents. Of an input that may have many documents a few are in memory at a time, in input
//! order; any other input is one piece.

use std::cell::RefCell;
use std::collections::VecDeque;
use std::io;
use std::rc::Rc;

use kyanite_formats::{Format, documents};
use kyanite_lang::Flow;
use kyanite_tree::Passed;

use crate::blocks::{Blocks, Then};
use crate::document::Duplicates;
use crate::in_order::{Made, Workers};
use crate::input::{InputOptions, Source, cannot_read};
use crate::repairs::Repairs;
use crate::run_error::{Events, RunError};
use crate::transcode::Replaced;

/// What a piece of an input goes on from.
#[derive(Clone, Default)]
pub(crate) struct Before {
    /// How much of the input stands before it.
    pub(crate) passed: Passed,
    /// Members that were met twice so far.
    pub(crate) duplicates: Rc<RefCell<Duplicates>>,
}

/// Takes an input to pieces.
pub(crate) enum Pieces {
    /// An input of one document, until it was handed on.
    One(Option<Source>),
    /// Documents one behind the other.
    Several(Box<Several>),
}

/// An input of several documents.
pub(crate) struct Several {
    /// What is known of the input: it is read by `blocks`.
    about: Source,
    format: Format,
    blocks: Blocks,
    /// What comes behind the piece that was handed on last.
    then: Then,
    before: Before,
    replaced: Replaced,
    /// The piece that was handed on last.
    last: Vec<u8>,
    /// Documents that come one by one, since they cannot be read together.
    again: VecDeque<Vec<u8>>,
}

impl Source {
    /// The input in pieces.
    pub(crate) fn in_pieces(mut self, options: &InputOptions) -> Pieces {
        let format = self.detected.format;
        if !format.has_documents() || options.unwrap {
            return Pieces::One(Some(self));
        }
        let reader = std::mem::replace(&mut self.reader, Box::new(io::empty()));
        let blocks = Blocks::of_documents(reader, self.live.take(), format, options.size);
        let replaced = std::mem::take(&mut self.replaced);
        Pieces::Several(Box::new(Several {
            about: self,
            format,
            blocks,
            then: Then::More,
            before: Before::default(),
            replaced,
            last: Vec::new(),
            again: VecDeque::new(),
        }))
    }
}

impl Pieces {
    /// Hands the pieces to `take`, each with what comes behind it, as long as that wants more. It reads a piece before it does anything
    /// else: where documents cannot be read together, they come again one by one, since those before the broken one are well-formed.
    pub(crate) fn each(
        &mut self,
        mut take: impl FnMut(Source, Then) -> Result<Flow, RunError>,
    ) -> Result<(), RunError> {
        let several = match self {
            Self::One(source) => {
                return source.take().map_or(Ok(()), |source| take(source, Then::End).map(drop));
            }
            Self::Several(several) => several,
        };
        while let Some((piece, then)) = several.next()? {
            match take(piece, then) {
                Err(RunError::Input(_)) if several.has_several() => several.take_apart(),
                done => {
                    if done?.is_break() {
                        break;
                    }
                }
            }
        }
        Ok(())
    }

    /// Tells what was met in all pieces.
    pub(crate) fn finish(self, options: &InputOptions, events: &mut Events<'_>) {
        if let Self::Several(several) = self {
            several.before.duplicates.borrow().finish(events);
            let mut repairs = Repairs::new(options.repairs);
            repairs.take_replaced(&several.replaced);
            repairs.finish(events);
        }
    }
}

impl Several {
    /// Runs `work` over blocks of documents on several threads as far as each is clean, and hands on what comes of them, with how much
    /// of the input stands before each.
    pub(crate) fn on_threads<T: Send>(
        &mut self,
        workers: Workers,
        work: &(dyn Fn(&[u8]) -> Made<T> + Sync),
        take: &mut dyn FnMut(&[u8], T, Passed),
    ) -> Result<(), RunError> {
        let (name, passed) = (&self.about.name, &mut self.before.passed);
        let none = Blocks::of_documents(Box::new(io::empty()), None, self.format, u64::MAX);
        let blocks = std::mem::replace(&mut self.blocks, none);
        self.blocks = workers.run(blocks, name, work, &mut |block, value| {
            take(block, value, *passed);
            passed.pass(block);
        })?;
        Ok(())
    }

    fn next(&mut self) -> Result<Option<(Source, Then)>, RunError> {
        self.before.passed.pass(&self.last);
        let is_first = self.before.passed == Passed::default();
        let (piece, then) = match self.again.pop_front() {
            Some(document) if self.again.is_empty() => (document, self.then),
            Some(document) => (document, Then::More),
            None if self.then == Then::End => return Ok(None),
            None => {
                let next = self.blocks.next_used();
                let name = &self.about.name;
                let (piece, then) =
                    next.map_err(|error| RunError::Input(cannot_read(name, &error)))?;
                self.then = then;
                (piece, then)
            }
        };
        self.last.clone_from(&piece);
        let Source { name, uri, detected, looks_like, .. } = &self.about;
        let source = Source {
            uri: uri.clone(),
            detected: detected.clone(),
            looks_like: looks_like.filter(|_| is_first),
            before: Some(self.before.clone()),
            ..Source::of_bytes(name, piece, self.format)
        };
        Ok(Some((source, then)))
    }

    fn has_several(&self) -> bool {
        documents::last_begin(self.format, &self.last).is_some()
    }

    /// Has the documents of the last piece come one by one.
    fn take_apart(&mut self) {
        let last = std::mem::take(&mut self.last);
        let apart = documents::texts(self.format, &last);
        self.again = apart.into_iter().map(<[u8]>::to_vec).collect();
    }
}
