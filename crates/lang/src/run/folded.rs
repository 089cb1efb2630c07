//! Groups whose tuples go into running aggregates, and are not kept.

use std::collections::HashMap;

use foldhash::fast::RandomState;
use kyanite_tree::{Arena, Origin, Packed, ShortText, Value, pack};

use crate::functions::CallError;
use crate::plan::GroupFolds;
use kyanite_eval::accumulator::{Accumulator, Aggregate, Joint};

/// Groups whose tuples went into aggregates.
#[derive(Clone, Debug, Default)]
pub(super) struct Folded {
    /// The position of each group, by what [`Key::add_to`](kyanite_tree::Key::add_to) makes of its keys.
    known: HashMap<Box<str>, usize, RandomState>,
    pub(super) groups: Vec<FoldedGroup>,
    /// Groups that were met of late, by how their only key stands in the text.
    recent: Vec<(ShortText, usize)>,
}

/// How many groups are found by how their key stands in the text.
const RECENT: usize = 64;

#[derive(Clone, Debug)]
pub(super) struct FoldedGroup {
    pub(super) keys: Vec<Option<Scalar>>,
    pub(super) folds: Vec<Running>,
}

/// An aggregate under way, or what was wrong with an item: that matters only when somebody asks.
#[derive(Clone, Debug)]
pub(super) struct Running {
    pub(super) fold: Result<Accumulator, CallError>,
    /// The items, while a run is traced.
    pub(super) of: Vec<Origin>,
}

/// The value of a key, packed, apart from what it was read from.
#[derive(Clone, Debug)]
pub(super) struct Scalar(String);

impl Scalar {
    fn of(value: Value<'_>) -> Self {
        let mut packed = String::new();
        pack(Some(value), &mut packed);
        Self(packed)
    }

    pub(super) fn value<'a>(&self, arena: &'a Arena) -> Option<Value<'a>> {
        Packed::new(arena.text(&self.0)).next(arena)?
    }
}

impl Folded {
    /// What stands for the keys of each group, and its position.
    pub(super) fn known(&self) -> impl Iterator<Item = (&str, usize)> {
        self.known.iter().map(|(key, position)| (&**key, *position))
    }

    /// The position of the group whose keys this stands for.
    pub(super) fn position(&self, key: &str) -> Option<usize> {
        self.known.get(key).copied()
    }

    /// The same groups in the order of what `of` gives for the position of each.
    pub(super) fn in_order<O: Ord>(self, of: impl Fn(usize) -> O) -> Self {
        let Self { known, groups, .. } = self;
        let mut order: Vec<(Box<str>, usize)> = known.into_iter().collect();
        order.sort_unstable_by_key(|(_, position)| of(*position));
        let mut groups: Vec<_> = groups.into_iter().map(Some).collect();
        let mut ordered = Self::default();
        for (key, position) in order {
            if let Some(group) = groups.get_mut(position).and_then(Option::take) {
                ordered.known.insert(key, ordered.groups.len());
                ordered.groups.push(group);
            }
        }
        ordered
    }

    /// Adds a group with aggregates under way.
    pub(super) fn add(&mut self, key: &str, keys: &[Option<Value<'_>>], folds: Vec<Running>) {
        let keys = keys.iter().map(|key| key.map(Scalar::of)).collect();
        self.group(key, || FoldedGroup { keys, folds });
    }

    /// The group with these keys.
    fn group(&mut self, key: &str, new: impl FnOnce() -> FoldedGroup) -> usize {
        if let Some(position) = self.position(key) {
            return position;
        }
        let position = self.groups.len();
        self.known.insert(key.into(), position);
        self.groups.push(new());
        position
    }

    /// The position of the group that was met before with a key that stood so in the text.
    #[inline]
    pub(super) fn recent(&self, token: ShortText) -> Option<usize> {
        let (known, position) = self.recent.get(token.place(0, RECENT))?;
        (*known == token).then_some(*position)
    }

    /// Notes that the only key of the group at this position stood so in the text.
    pub(super) fn met(&mut self, token: ShortText, position: usize) {
        self.recent.resize(RECENT, Default::default());
        self.recent[token.place(0, RECENT)] = (token, position);
    }

    /// The position of the group with these keys, which `key` was made of.
    #[inline]
    pub(super) fn of_keys(
        &mut self,
        key: &str,
        keys: &[Option<Value<'_>>],
        folds: &GroupFolds,
    ) -> usize {
        self.group(key, || FoldedGroup {
            keys: keys.iter().map(|key| key.map(Scalar::of)).collect(),
            folds: folds.folds.iter().map(|fold| Running::new(fold.kind)).collect(),
        })
    }

    /// Adds the groups of the records that follow.
    ///
    /// # Errors
    /// When two aggregates cannot be joined; nothing is changed then.
    pub(super) fn join(&mut self, later: &Self) -> Result<(), CallError> {
        let mut joints = Vec::with_capacity(later.groups.len());
        for (key, group) in later.in_tuple() {
            let own = self.position(key);
            let pairs = own.map(|own| self.groups[own].folds.iter().zip(&group.folds));
            let of_group = pairs.into_iter().flatten().map(|(own, later)| own.joint(later));
            joints.push((key, group, own, of_group.collect::<Result<Vec<_>, CallError>>()?));
        }
        for (key, group, own, of_group) in joints {
            let Some(own) = own else {
                self.group(key, || group.clone());
                continue;
            };
            let pairs = self.groups[own].folds.iter_mut().zip(&group.folds);
            pairs.zip(of_group).for_each(|((own, later), joint)| own.join(later, joint));
        }
        Ok(())
    }

    /// Adds the groups of other records. Where two aggregates cannot be joined, that matters only when somebody asks.
    pub(super) fn join_what_can_be(&mut self, later: &Self) {
        for (key, group) in later.in_tuple() {
            let Some(own) = self.position(key) else {
                self.group(key, || group.clone());
                continue;
            };
            for (own, later) in self.groups[own].folds.iter_mut().zip(&group.folds) {
                match own.joint(later) {
                    Ok(joint) => own.join(later, joint),
                    Err(fault) => own.fold = Err(fault),
                }
            }
        }
    }

    /// The groups in the order in which they were met, with what stands for their keys.
    fn in_tuple(&self) -> impl Iterator<Item = (&str, &FoldedGroup)> {
        let mut order: Vec<(&str, usize)> = self.known().collect();
        order.sort_unstable_by_key(|(_, position)| *position);
        order.into_iter().map(|(key, position)| (key, &self.groups[position]))
    }

    /// Forgets where items were read, since what they were read from is gone.
    pub(super) fn forget_places(&mut self) {
        for running in self.groups.iter_mut().flat_map(|group| &mut group.folds) {
            match &mut running.fold {
                Ok(fold) => fold.forget_place(),
                Err(fault) => fault.origin = None,
            }
        }
    }
}

impl Running {
    fn new(kind: Aggregate) -> Self {
        Self { fold: Ok(Accumulator::new(kind)), of: Vec::new() }
    }

    /// What this and a later one come to; None where something was wrong with an item.
    fn joint(&self, later: &Self) -> Result<Option<Joint>, CallError> {
        Ok(match (&self.fold, &later.fold) {
            (Ok(own), Ok(later)) => Some(own.joint(later)?),
            _ => None,
        })
    }

    /// Takes the items of a later one, with what the two come to.
    fn join(&mut self, later: &Self, joint: Option<Joint>) {
        match (&mut self.fold, &later.fold, joint) {
            (Ok(own), Ok(later), Some(joint)) => own.join(later, joint),
            (Ok(_), Err(fault), _) => self.fold = Err(fault.clone()),
            _ => {}
        }
    }
}

impl Running {
    pub(super) fn traced(&mut self, item: Value<'_>, is_traced: bool) {
        if is_traced {
            self.of.push(item.origin());
        }
        self.add(item);
    }

    #[inline]
    pub(super) fn add(&mut self, item: Value<'_>) {
        if let Ok(fold) = &mut self.fold
            && let Err(fault) = fold.add(item)
        {
            self.fold = Err(fault.into());
        }
    }
}
