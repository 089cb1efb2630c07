//! Goes on, in a batch of its own, with a record that began in a text before.

use std::collections::HashSet;

use kyanite_tree::Pull;

use super::{Batch, Open, Progress};
use crate::paths::{DOCUMENT, PathStep};

/// The lists and maps of a record that are open where a text ends, outermost first.
#[derive(Debug, Default)]
pub(crate) struct Around(Vec<OpenValue>);

#[derive(Debug)]
struct OpenValue {
    /// How the path leads to it from what is around it.
    step: PathStep,
    is_map: bool,
    /// How many items or members came so far.
    count: u64,
    /// The names of these members.
    names: HashSet<Box<str>>,
}

impl<'t> Batch<'t> {
    /// The same, which counts all of the members that a map has more than once.
    #[must_use]
    pub fn with_repeated(self) -> Self {
        Self { repeated: Some(Vec::new()), ..self }
    }

    /// Goes on with the document that is open `around` a text, or begins with it, as one record. Gives whether the document is over; None
    /// where it is nested too deep, or a map has a member twice and duplicates are not counted.
    pub(crate) fn part(&mut self, around: Around, events: &mut impl Pull<'t>) -> Option<bool> {
        self.records = 1;
        self.open.clear();
        self.before.clear();
        for OpenValue { step, is_map, count, names } in around.0 {
            let node = match (step, self.open.last()) {
                (PathStep::Member(name), Some(parent)) => {
                    let (parent, name) = (parent.node, self.arena.text(&name));
                    self.child(parent, Some(name))
                }
                (_, Some(parent)) => self.child(parent.node, None),
                (_, None) => DOCUMENT,
            };
            self.maps += 1;
            self.open.push(Open { node, is_map, count, next: 0, map: self.maps });
            self.before.push(names);
        }
        let Some(first) = events.next_event() else { return Some(false) };
        let at = self.place_of(&first);
        match self.go_on((at, first), events) {
            Progress::Over => Some(true),
            Progress::Paused => Some(false),
            Progress::Refused => None,
        }
    }

    /// What is open of the document behind the text.
    pub(crate) fn around(&mut self) -> Around {
        let mut before = std::mem::take(&mut self.before).into_iter();
        let open = std::mem::take(&mut self.open).into_iter();
        let around = open.map(|Open { node, is_map, count, map, .. }| {
            let mut names = before.next().unwrap_or_default();
            let members = self.nodes[node].children.iter().map(|child| &self.nodes[*child]);
            let own = members.filter(|member| is_map && member.map == map);
            names.extend(own.filter_map(|member| member.name.map(Box::from)));
            let step = match self.nodes[node].name {
                Some(name) => PathStep::Member(name.into()),
                None if node == DOCUMENT => PathStep::Root,
                None => PathStep::Items,
            };
            OpenValue { step, is_map, count, names }
        });
        Around(around.collect())
    }

    /// Whether the map under way had a member of that name before the text.
    pub(super) fn was_before(&self, name: &str) -> bool {
        self.open.len().checked_sub(1).is_some_and(|map| self.before[map].contains(name))
    }

    /// Members that their map has had before, with their offsets.
    pub fn take_repeated(&mut self) -> Vec<(&'t str, usize)> {
        self.repeated.as_mut().map(std::mem::take).unwrap_or_default()
    }
}
