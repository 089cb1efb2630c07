//! The names of a table of nodes, each stored once.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::Name;

/// The names that were met, each once. Most documents have few, which are found without hashing: those that were asked for
/// last are kept in places that their text tells.
#[derive(Debug)]
pub(super) struct Names<'a> {
    /// By their numbers; the first is that of nodes without one.
    pub(super) all: Vec<Name<'a>>,
    /// For each name the first one with the same namespace and local part, as [`settle`](Self::settle) found them.
    pub(super) expanded: Vec<u32>,
    /// The names that were asked for last, by [`Name::spread`]: their numbers plus one.
    recent: [u32; RECENT],
    /// All of them, once there are many.
    numbers: HashMap<(&'a str, &'a str, &'a str), u32, RandomState>,
}

/// The places for names that were asked for last.
const RECENT: usize = 32;

/// Up to this many names are looked through one by one.
const FEW: usize = 24;

impl<'a> Names<'a> {
    pub(super) fn new() -> Self {
        Self {
            all: Vec::new(),
            expanded: Vec::new(),
            recent: [0; RECENT],
            numbers: HashMap::default(),
        }
    }

    /// Whether they are as few as those of most documents.
    pub(super) fn are_few(&self) -> bool {
        self.all.len() <= FEW
    }

    #[inline]
    pub(super) fn number(&mut self, name: Name<'a>) -> u32 {
        let place = Name::spread(name.qualified()) % RECENT;
        if let Some(recent) = self.recent[place].checked_sub(1)
            && self.all[recent as usize] == name
        {
            return recent;
        }
        let number = self.find(name).unwrap_or_else(|| self.add(name));
        self.recent[place] = number + 1;
        number
    }

    fn find(&self, name: Name<'a>) -> Option<u32> {
        if self.all.len() <= FEW {
            return self.all.iter().position(|known| *known == name).map(|at| at as u32);
        }
        self.numbers.get(&Self::key(name)).copied()
    }

    fn key(name: Name<'a>) -> (&'a str, &'a str, &'a str) {
        (name.prefix(), name.local(), name.namespace())
    }

    #[cold]
    fn add(&mut self, name: Name<'a>) -> u32 {
        // More names than 28 bits count share the last number: no text that memory holds has more.
        let number = u32::try_from(self.all.len()).unwrap_or(u32::MAX).min((1 << 28) - 1);
        self.all.push(name);
        match self.all.len() {
            0..=FEW => {}
            count if count == FEW + 1 => {
                let numbered = self.all.iter().enumerate();
                self.numbers = numbered.map(|(at, name)| (Self::key(*name), at as u32)).collect();
            }
            _ => {
                self.numbers.insert(Self::key(name), number);
            }
        }
        number
    }

    /// Says for each name, once all are there, which one is the first with the same namespace and local part.
    pub(super) fn settle(&mut self) {
        if self.expanded.len() != self.all.len() {
            self.expanded = self.expanded();
        }
    }

    fn expanded(&self) -> Vec<u32> {
        let same =
            |a: &Name<'a>, b: &Name<'a>| a.local() == b.local() && a.namespace() == b.namespace();
        if self.all.len() <= FEW {
            let first = |name: &Name<'a>| self.all.iter().position(|known| same(known, name));
            return self.all.iter().map(|name| first(name).unwrap_or_default() as u32).collect();
        }
        let mut firsts: HashMap<(&str, &str), u32, RandomState> = HashMap::default();
        let numbered = self.all.iter().enumerate();
        numbered
            .map(|(at, name)| *firsts.entry((name.namespace(), name.local())).or_insert(at as u32))
            .collect()
    }
}
