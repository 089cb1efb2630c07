//! Reports what was repaired in an input and what was skipped: for each kind the number and the first places.

use std::sync::atomic::Ordering;

use kyanite_formats::xml::{MarkupError, Repair};
use kyanite_tree::{Advice, Code, Diagnostic, Place, Setting, Span};

use crate::run_error::Events;
use crate::transcode::Replaced;

/// How many places of one sort are told.
const PLACES: u64 = 3;

/// Repairs so far.
pub(crate) struct Repairs {
    /// Whether each is told as it is met.
    each: bool,
    /// What was met, in the order in which it first was.
    sorts: Vec<Sort>,
}

/// Repairs of one sort.
struct Sort {
    fault: MarkupError,
    count: u64,
    /// The message about the first, and the first places.
    message: String,
    places: Vec<Place>,
}

impl Repairs {
    pub(crate) fn new(each: bool) -> Self {
        Self { each, sorts: Vec::new() }
    }

    /// Takes repairs; `place` finds where they are.
    pub(crate) fn take(
        &mut self,
        repairs: Vec<Repair>,
        place: impl Fn(Span) -> Place,
        events: &mut Events<'_>,
    ) {
        for Repair { fault, message, span, also } in repairs {
            if self.each {
                let told = Diagnostic::warning(code(fault), words(fault, &message)).at(place(span));
                events.tell(told.at_opt(also.map(&place)));
            }
            let tells_each = self.each;
            let sort = self.sort(fault, message);
            sort.count += 1;
            events.counters.repaired.fetch_add(1, Ordering::Relaxed);
            if sort.count <= PLACES && !tells_each {
                sort.places.push(place(span));
                // What belongs to the first is worth its lines.
                if sort.count == 1 {
                    sort.places.extend(also.map(&place));
                }
            }
        }
    }

    fn sort(&mut self, fault: MarkupError, message: String) -> &mut Sort {
        let known = self.sorts.iter().position(|sort| sort.fault == fault);
        let position = known.unwrap_or(self.sorts.len());
        if known.is_none() {
            self.sorts.push(Sort { fault, count: 0, message, places: Vec::new() });
        }
        &mut self.sorts[position]
    }

    /// Takes characters that were put in place of bytes that are none.
    pub(crate) fn take_replaced(&mut self, replaced: &Replaced) {
        if let Some((count, place)) = replaced.take() {
            let message = "bytes that are no characters; they are read as U+FFFD".to_owned();
            let sort = self.sort(MarkupError::Encoding, message);
            (sort.count, sort.places) = (count, vec![place]);
        }
    }

    /// Tells of each sort.
    pub(crate) fn finish(self, events: &mut Events<'_>) {
        for Sort { fault, count, message, places } in self.sorts {
            if self.each && fault != MarkupError::Encoding {
                if count > 1 {
                    events.tell(Diagnostic::warning(code(fault), in_all(fault, count)));
                }
                continue;
            }
            let told = if count == 1 {
                words(fault, &message)
            } else {
                format!("{}; the first: {message}", in_all(fault, count))
            };
            let mut told = Diagnostic::warning(code(fault), told);
            for place in places {
                told = told.at(place);
            }
            let is_cut = count > PLACES && fault != MarkupError::Encoding;
            let advice = || Advice::words("see each of them with ").setting(Setting::Repairs);
            events.tell(told.advise_opt(is_cut.then(advice)));
        }
    }
}

fn code(fault: MarkupError) -> Code {
    if fault == MarkupError::Unread { Code::NotRead } else { Code::Repaired }
}

fn words(fault: MarkupError, message: &str) -> String {
    if fault == MarkupError::Unread { message.to_owned() } else { format!("repaired: {message}") }
}

fn in_all(fault: MarkupError, count: u64) -> String {
    let several = fault.several();
    match fault {
        MarkupError::Unread => format!("{count} {several} were left as they are"),
        _ => format!("repaired {count} {several}"),
    }
}
