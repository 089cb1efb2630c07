//! The tree of paths: what a survey knows of each.

use std::collections::HashMap;

use foldhash::fast::FixedState;
use kyanite_tree::name_step;
use serde::{Deserialize, Serialize};

use crate::state::total;
use crate::values::{LengthCounts, Values};

/// What a value is, as an index: null, boolean, number, text, list, map.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Sort {
    Null,
    Boolean,
    Number,
    Text,
    List,
    Map,
}

impl Sort {
    pub(crate) const ALL: [Self; 6] =
        [Self::Null, Self::Boolean, Self::Number, Self::Text, Self::List, Self::Map];

    /// The word of the rule language.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Null => "null",
            Self::Boolean => "boolean",
            Self::Number => "number",
            Self::Text => "text",
            Self::List => "list",
            Self::Map => "map",
        }
    }
}

/// How a path goes on.
#[derive(Clone, PartialEq, Eq, Hash, Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum PathStep {
    /// It begins: the whole document.
    Root,
    /// To the items of a list.
    Items,
    /// To a member.
    Member(Box<str>),
    /// To members that are too many to be told apart.
    Others,
}

/// What is counted at a path.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct Counts {
    /// How many records have it.
    pub(crate) records: u64,
    /// How often it is there.
    pub(crate) values: u64,
    /// Of which sorts, in the order of [`Sort::ALL`].
    pub(crate) sorts: [u64; 6],
    /// How many texts, lists and maps are empty.
    pub(crate) empty: u64,
    /// How many items lists have.
    pub(crate) items: LengthCounts,
}

impl Counts {
    /// How often values of a sort are there.
    pub(crate) fn of(&self, sort: Sort) -> u64 {
        self.sorts[sort as usize]
    }

    /// Whether these counts are possible at a path in `records` records.
    pub(crate) fn is_sound(&self, records: u64) -> bool {
        // So that any number of surveys can be joined.
        const MOST: u64 = 1 << 48;
        total(&self.sorts) == Some(self.values)
            && self.values <= MOST
            && self.records <= records.min(self.values)
            && self.empty <= self.values
            && self.items.is_sound(self.of(Sort::List))
    }

    /// Takes what was counted later.
    pub(crate) fn merge(&mut self, later: &Self) {
        self.records += later.records;
        self.values += later.values;
        self.sorts.iter_mut().zip(later.sorts).for_each(|(own, later)| *own += later);
        self.empty += later.empty;
        self.items.merge(later.items);
    }
}

/// A path: its last step, and what is known of it.
#[derive(Debug)]
pub(crate) struct PathNode<X> {
    pub(crate) step: PathStep,
    pub(crate) parent: usize,
    pub(crate) children: Vec<usize>,
    pub(crate) counts: Counts,
    pub(crate) values: Values,
    /// What else whoever keeps the tree knows of a path.
    pub(crate) extra: X,
}

/// The document.
pub(crate) const DOCUMENT: usize = 0;
/// The records of a stream, or the items of a document that is a list.
pub(crate) const RECORDS: usize = 1;

/// Paths; each is behind the one that it goes on from.
#[derive(Debug)]
pub(crate) struct Paths<X> {
    pub(crate) nodes: Vec<PathNode<X>>,
    known: HashMap<(usize, PathStep), usize, FixedState>,
}

impl<X: Default> Paths<X> {
    pub(crate) fn new() -> Self {
        let mut paths = Self { nodes: Vec::new(), known: HashMap::default() };
        paths.add(DOCUMENT, PathStep::Root);
        paths.child(DOCUMENT, PathStep::Items);
        paths
    }

    fn add(&mut self, parent: usize, step: PathStep) -> usize {
        let number = self.nodes.len();
        let (counts, values) = (Counts::default(), Values::default());
        let (children, extra) = (Vec::new(), X::default());
        self.nodes.push(PathNode { step, parent, children, counts, values, extra });
        number
    }

    /// The path that goes on with a step, if it is known.
    pub(crate) fn find(&self, parent: usize, step: &PathStep) -> Option<usize> {
        self.known.get(&(parent, step.clone())).copied()
    }

    /// The path that goes on with a step.
    pub(crate) fn child(&mut self, parent: usize, step: PathStep) -> usize {
        if let Some(known) = self.find(parent, &step) {
            return known;
        }
        let number = self.add(parent, step.clone());
        self.nodes[parent].children.push(number);
        self.known.insert((parent, step), number);
        number
    }

    /// Takes a path out of those that its parent leads to.
    pub(crate) fn unlink(&mut self, number: usize) {
        let (parent, step) = (self.nodes[number].parent, self.nodes[number].step.clone());
        self.nodes[parent].children.retain(|child| *child != number);
        self.known.remove(&(parent, step));
    }

    /// All that can be reached, each before what goes on from it, as first met.
    pub(crate) fn in_order(&self) -> Vec<usize> {
        let (mut order, mut open) = (Vec::new(), vec![DOCUMENT]);
        while let Some(number) = open.pop() {
            order.push(number);
            open.extend(self.nodes[number].children.iter().rev());
        }
        order
    }

    /// Whether a path leads into lists that are in a record, so that a record may have several values there.
    pub(crate) fn is_in_list(&self, mut number: usize) -> bool {
        while number != RECORDS && number != DOCUMENT {
            if self.nodes[number].step == PathStep::Items {
                return true;
            }
            number = self.nodes[number].parent;
        }
        false
    }

    /// The steps from a record to a path.
    fn steps(&self, mut number: usize) -> (usize, Vec<usize>) {
        let mut steps = Vec::new();
        while number != RECORDS && number != DOCUMENT {
            steps.push(number);
            number = self.nodes[number].parent;
        }
        steps.reverse();
        (number, steps)
    }

    /// The path as JSONPath (RFC 9535), where that of the records is `records`.
    pub(crate) fn written(&self, number: usize, records: &str) -> String {
        let (begin, steps) = self.steps(number);
        self.write(if begin == RECORDS { records } else { "$" }, &steps)
    }

    /// The path in a filter on records: `@.leg.from`.
    pub(crate) fn in_filter(&self, number: usize) -> String {
        let (_, steps) = self.steps(number);
        self.write("@", &steps)
    }

    fn write(&self, begin: &str, steps: &[usize]) -> String {
        let mut text = begin.to_owned();
        for step in steps {
            match &self.nodes[*step].step {
                PathStep::Root => {}
                PathStep::Items => text.push_str("[*]"),
                PathStep::Member(name) => text.push_str(&name_step(name)),
                PathStep::Others => text.push_str(".*"),
            }
        }
        text
    }
}
