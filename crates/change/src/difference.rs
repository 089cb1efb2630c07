//! What a comparison is asked for, and what it gives: changes, and a delta that leads from one document to the other.

use kyanite_tree::{Decimal, Map, Member, Step, Value};

use crate::pattern::Pattern;

/// When two numbers are the same.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub enum Numbers {
    /// When they have the same value: `1.0` and `1`.
    #[default]
    Value,
    /// When they are spelled alike.
    Spelling,
}

/// How documents are compared.
#[derive(Clone, Debug, Default)]
pub struct Comparison {
    /// When numbers are the same.
    pub numbers: Numbers,
    /// By how much numbers may differ and be the same.
    pub tolerance: Option<Decimal>,
    /// Paths that are left out.
    pub ignored: Vec<Pattern>,
    /// By which members the items of lists are told, by the paths of the lists.
    pub keys: Vec<(Pattern, Vec<String>)>,
    /// Whether texts without a type are the numbers and booleans that they spell, and a single value is a list of one: as they are where
    /// one document comes from XML and the other does not.
    pub crosses: bool,
}

impl Comparison {
    /// By which members the items of the list at a path are told, if that is said.
    #[must_use]
    pub fn key_at(&self, steps: &[Step<'_>]) -> Option<&[String]> {
        let mut of_list = self.keys.iter().filter(|(path, _)| path.matches(steps));
        of_list.next().map(|(_, members)| members.as_slice())
    }

    /// Whether a path is left out.
    pub(crate) fn leaves_out(&self, steps: &[Step<'_>]) -> bool {
        self.ignored.iter().any(|pattern| pattern.matches(steps))
    }
}

/// What differs.
#[derive(Debug)]
pub struct Difference<'a> {
    /// As a tree, along both documents.
    pub delta: Delta<'a>,
    /// The same, change by change, in the order of the old document as far as it goes.
    pub changes: Vec<Change<'a>>,
    /// What was taken to be the same though it is spelled in another way.
    pub assumed: Assumed,
    /// Lists whose items could be told by a member.
    pub keys: Vec<KeyChoice>,
    /// Lists whose items are not all told by the key that was said.
    pub unclear: Vec<UnclearKey>,
}

/// What was taken to be the same.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Assumed {
    /// Single values that are lists of one on the other side.
    pub singles: u64,
    /// Texts that spell the number or boolean on the other side.
    pub spelled: u64,
}

/// A list whose items could be told by a member, since it differs in each of them, on both sides.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct KeyChoice {
    /// The path of these lists.
    pub path: String,
    /// The member.
    pub member: String,
}

/// Lists with items that a key does not tell from others: these are set beside each other in the order in which they come.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct UnclearKey {
    /// The path of these lists.
    pub path: String,
    /// How many items lack a member of the key.
    pub lacking: u64,
    /// How many have the key of an item before them, on the same side.
    pub shared: u64,
}

impl UnclearKey {
    /// Adds what was found in another list, or in more of it.
    pub fn add_to(self, all: &mut Vec<Self>) {
        match all.iter_mut().find(|other| other.path == self.path) {
            Some(other) => {
                other.lacking += self.lacking;
                other.shared += self.shared;
            }
            None if self.lacking + self.shared > 0 => all.push(self),
            None => {}
        }
    }
}

/// One change.
#[derive(Clone, Debug)]
pub struct Change<'a> {
    /// What happened.
    pub sort: ChangeSort,
    /// Where it was, and what.
    pub old: Option<(Vec<Step<'a>>, Value<'a>)>,
    /// Where it is, and what.
    pub new: Option<(Vec<Step<'a>>, Value<'a>)>,
}

/// What happened to a value.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum ChangeSort {
    /// It is there now.
    Added,
    /// It is gone.
    Removed,
    /// It is another.
    Changed,
    /// It is elsewhere in its list.
    Moved,
}

impl ChangeSort {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Added => "added",
            Self::Removed => "removed",
            Self::Changed => "changed",
            Self::Moved => "moved",
        }
    }
}

/// How a value becomes another.
#[derive(Debug)]
pub enum Delta<'a> {
    /// It is the same.
    Same,
    /// Another is in its place.
    Other(Value<'a>),
    /// A map with other members.
    Map {
        /// Names of members that are gone.
        removed: Vec<&'a str>,
        /// Members that are new.
        added: Vec<Member<'a>>,
        /// Members that are different.
        changed: Vec<(&'a str, Delta<'a>)>,
        /// The map as it is now.
        new: &'a Map<'a>,
        /// The map as it was.
        old: &'a Map<'a>,
    },
    /// A list with other items.
    List {
        /// Positions of items that are gone.
        removed: Vec<usize>,
        /// The items that there are now, in order.
        items: Vec<Aligned<'a>>,
    },
    /// An element with other attributes or content.
    Element,
}

impl Delta<'_> {
    pub(crate) fn is_same(&self) -> bool {
        matches!(self, Self::Same)
    }
}

/// An item of a list.
#[derive(Debug)]
pub enum Aligned<'a> {
    /// It was there, at this position.
    Both {
        /// Where it was.
        old: usize,
        /// Whether it has another place among those that were there.
        is_moved: bool,
        /// How it became what it is.
        delta: Delta<'a>,
        /// What it is now.
        value: Value<'a>,
    },
    /// It is new.
    Added(Value<'a>),
}
