//! How the structure of two surveys differs: paths that came or went, and shares and types that moved.

use std::collections::HashMap;

use crate::report::{PathReport, Report, share};

/// A path that differs.
#[derive(Clone, PartialEq, Debug)]
pub struct PathChange {
    /// The path.
    pub path: String,
    /// What happened.
    pub sort: PathChangeSort,
    /// How it was, unless it came.
    pub old: Option<Presence>,
    /// How it is, unless it went.
    pub new: Option<Presence>,
}

/// What happened to a path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum PathChangeSort {
    /// It was not there.
    Came,
    /// It is there no more.
    Went,
    /// More or fewer records have it, or its values are of other types.
    Moved,
}

impl PathChangeSort {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Came => "came",
            Self::Went => "went",
            Self::Moved => "moved",
        }
    }
}

/// How a path is there.
#[derive(Clone, PartialEq, Debug)]
pub struct Presence {
    /// How many records have it.
    pub records: u64,
    /// Their share; where there is only one record, the share of the maps that could have the member.
    pub share: f64,
    /// The kinds of its values, with their shares.
    pub types: Vec<(&'static str, f64)>,
}

/// Shares that differ by less have not moved.
const MOVED: f64 = 0.01;

impl Presence {
    fn of(path: &PathReport, report: &Report) -> Self {
        let share_of = match path.maps {
            Some(maps) if report.records == 1 => share(path.values, maps),
            _ => share(path.records, report.records),
        };
        let types = path.types.iter().map(|(of, count)| (*of, share(*count, path.values)));
        Self { records: path.records, share: share_of, types: types.collect() }
    }

    /// Whether it is noticeably another.
    fn differs(&self, other: &Self) -> bool {
        let of = |presence: &Self, kind: &str| {
            presence.types.iter().find(|(of, _)| *of == kind).map(|(_, share)| *share)
        };
        let moved = |(kind, share): &(&'static str, f64)| match of(other, kind) {
            Some(there) => (there - share).abs() >= MOVED,
            None => true,
        };
        let is_new = |(kind, _): &(&'static str, f64)| of(self, kind).is_none();
        (self.share - other.share).abs() >= MOVED
            || self.types.iter().any(moved)
            || other.types.iter().any(is_new)
    }
}

/// What differs between two reports: in the order of the new one, and then what went.
#[must_use]
pub fn against(old: &Report, new: &Report) -> Vec<PathChange> {
    let known: HashMap<&str, &PathReport> =
        old.paths.iter().map(|path| (path.path.as_str(), path)).collect();
    let is_there: HashMap<&str, ()> =
        new.paths.iter().map(|path| (path.path.as_str(), ())).collect();
    let there = new.paths.iter().filter_map(|path| {
        let now = Presence::of(path, new);
        let before = known.get(path.path.as_str()).map(|path| Presence::of(path, old));
        let sort = match &before {
            None => PathChangeSort::Came,
            Some(before) if before.differs(&now) => PathChangeSort::Moved,
            Some(_) => return None,
        };
        Some(PathChange { path: path.path.clone(), sort, old: before, new: Some(now) })
    });
    let gone = old.paths.iter().filter(|path| !is_there.contains_key(path.path.as_str()));
    let gone = gone.map(|path| PathChange {
        path: path.path.clone(),
        sort: PathChangeSort::Went,
        old: Some(Presence::of(path, old)),
        new: None,
    });
    there.chain(gone).collect()
}
