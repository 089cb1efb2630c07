//! Drops namespaces from names, and decides which of several names that become equal keeps its prefix.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use kyanite_tree::Name;

/// Local names, and the namespace of the first name that had each.
type Names = HashMap<Box<str>, Box<str>>;

/// The local names that are given away in a document, for all parts of it.
#[derive(Debug, Default)]
pub struct Dropped(Mutex<Arc<Names>>);

/// Names that are remembered; further ones keep their prefixes.
const MOST: usize = 10_000;

impl Dropped {
    /// Adds names that a part gave away. Tells whether that was right: none of them is given away to another namespace.
    #[must_use]
    pub fn adopt(&self, added: &[(String, String)]) -> bool {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let fits = |(local, namespace): &(String, String)| {
            known.get(local.as_str()).is_none_or(|known| **known == **namespace)
        };
        if !added.iter().all(fits) {
            return false;
        }
        if added.iter().any(|(local, _)| !known.contains_key(local.as_str())) {
            let names = Arc::make_mut(&mut known);
            for (local, namespace) in added {
                names.entry(local.as_str().into()).or_insert_with(|| namespace.as_str().into());
            }
        }
        true
    }

    fn names(&self) -> Arc<Names> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Gives local names away in one part of a document.
#[derive(Debug, Default)]
pub(super) struct Dropping<'a> {
    known: Arc<Names>,
    added: HashMap<&'a str, &'a str>,
}

impl<'a> Dropping<'a> {
    /// In a part of a document in which these are given away.
    pub(super) fn of(dropped: &Dropped) -> Self {
        Self { known: dropped.names(), added: HashMap::new() }
    }

    /// Whether a name may do without its prefix and its namespace.
    pub(super) fn may_drop(&mut self, name: Name<'a>) -> bool {
        let (local, namespace) = (name.local(), name.namespace());
        if let Some(known) = self.known.get(local) {
            return **known == *namespace;
        }
        if self.known.len() + self.added.len() >= MOST && !self.added.contains_key(local) {
            return false;
        }
        *self.added.entry(local).or_insert(namespace) == namespace
    }

    /// The names that were given away here.
    pub(super) fn take_added(&mut self) -> Vec<(String, String)> {
        let added = std::mem::take(&mut self.added).into_iter();
        added.map(|(local, namespace)| (local.to_owned(), namespace.to_owned())).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_namespace_has_the_name_in_all_parts() {
        let dropped = Dropped::default();
        let mut part = Dropping::of(&dropped);
        let (a, b) = (Name::new("p:title", "urn:a"), Name::new("title", "urn:b"));
        assert!(part.may_drop(a) && !part.may_drop(b) && part.may_drop(Name::plain("x")));
        let mut other = Dropping::of(&dropped);
        assert!(other.may_drop(b));
        assert!(dropped.adopt(&part.take_added()));
        assert!(!dropped.adopt(&other.take_added()));
        let mut later = Dropping::of(&dropped);
        assert!(
            later.may_drop(a) && !later.may_drop(b) && !later.may_drop(Name::new("q:x", "urn:b"))
        );
        assert!(later.take_added().is_empty());
    }
}
