//! What calls of functions met: names that they ask maps for, and what is told of texts that they read and made.

use std::collections::HashMap;

use kyanite_formats::Format;
use kyanite_formats::json::Duplicate;
use kyanite_formats::losses::Losses;
use kyanite_tree::Map;

use super::{Coverage, LOOKED_AT, NAMES, add_name};
use crate::finding::Span;
use crate::functions::Remarks;

/// Different names that one call may ask for before further ones are let be: then they are computed.
const CALLED: usize = 64;

/// A call that names members: whether any map had them.
#[derive(Clone, Debug)]
pub(super) struct CallCoverage {
    pub(super) span: Span,
    pub(super) function: &'static str,
    pub(super) names: Vec<(String, bool)>,
    pub(super) seen: u64,
    /// Names that were there when one was not, with how often.
    pub(super) others: HashMap<String, u64>,
}

impl Remarks for Coverage {
    fn note(&self, message: &str) {
        self.add_note(message, 1);
    }

    fn lost(&self, span: Span, format: Format, losses: &Losses) {
        if losses.is_empty() {
            return;
        }
        let mut lost = self.lost.borrow_mut();
        match lost.iter_mut().find(|(at, of, _)| (*at, *of) == (span, format)) {
            Some((.., known)) => known.add_all(losses),
            None => lost.push((span, format, losses.clone())),
        }
    }

    fn twice(&self, span: Span, duplicates: &[Duplicate]) {
        if let Some(first) = duplicates.first() {
            self.add_twice(span, duplicates.len() as u64, &first.name);
        }
    }

    fn named(
        &self,
        span: Span,
        function: &'static str,
        names: &mut dyn Iterator<Item = &str>,
        map: &Map<'_>,
    ) {
        let mut calls = self.calls.borrow_mut();
        let position = calls.iter().position(|call| call.span == span).unwrap_or_else(|| {
            let (names, others) = (Vec::new(), HashMap::new());
            calls.push(CallCoverage { span, function, names, seen: 0, others });
            calls.len() - 1
        });
        calls[position].see(names, map);
    }
}

impl CallCoverage {
    fn see(&mut self, names: &mut dyn Iterator<Item = &str>, map: &Map<'_>) {
        self.seen += 1;
        let mut misses = false;
        for name in names {
            match self.name(name) {
                Some((_, true)) | None => {}
                Some((_, is_met)) => {
                    *is_met = map.get(name).is_some();
                    misses |= !*is_met;
                }
            }
        }
        if misses && self.seen <= LOOKED_AT {
            for member in map.members() {
                add_name(&mut self.others, member.name);
            }
        }
    }

    /// What is known of a name; None where there are too many.
    fn name(&mut self, name: &str) -> Option<&mut (String, bool)> {
        let position = match self.names.iter().position(|(known, _)| known == name) {
            Some(position) => position,
            None if self.names.len() < CALLED => {
                self.names.push((name.to_owned(), false));
                self.names.len() - 1
            }
            None => return None,
        };
        self.names.get_mut(position)
    }

    /// Whether all names were there.
    pub(super) fn is_met(&self) -> bool {
        self.names.iter().all(|(_, is_met)| *is_met)
    }

    /// Whether no more names have to be looked at.
    pub(super) fn is_settled(&self) -> bool {
        self.is_met() || self.seen >= LOOKED_AT
    }

    pub(super) fn join(&mut self, later: &Self) {
        self.seen += later.seen;
        for (name, is_met) in &later.names {
            if let Some((_, own)) = self.name(name) {
                *own |= is_met;
            }
        }
        for (name, count) in &later.others {
            if self.others.len() < NAMES || self.others.contains_key(name) {
                *self.others.entry(name.clone()).or_default() += count;
            }
        }
    }
}
