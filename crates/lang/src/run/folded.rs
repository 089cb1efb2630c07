//! Groups whose turns go into running aggregates, and are not kept.

use std::collections::HashMap;
use std::ops::{ControlFlow, Range};

use foldhash::fast::RandomState;
use kyanite_tree::{Arena, Key, Origin, Packed, Value, pack};

use super::{Ran, Runner};
use crate::functions::{Fault, Fold, FoldKind};
use crate::plan::{Expr, GroupFolds, Kind, ManyPath, Segment, Selector};

/// Groups whose turns went into aggregates.
#[derive(Clone, Debug, Default)]
pub(super) struct Folded {
    /// The position of each group, by what [`Key::add_to`] makes of its keys.
    known: HashMap<Box<str>, usize, RandomState>,
    pub(super) groups: Vec<FoldedGroup>,
    /// Groups that were met of late, by how their only key stands in the text.
    recent: Vec<(Short, usize)>,
}

/// Up to 16 bytes of a text, as numbers: the first and the last eight, or all of fewer, and how many there are.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub(super) struct Short(u64, u64, usize);

/// How many groups are found by how their key stands in the text.
const RECENT: usize = 64;

impl Short {
    #[inline]
    pub(super) fn of(token: &[u8]) -> Option<Self> {
        let word = |bytes: &[u8; 8]| u64::from_le_bytes(*bytes);
        let (first, last) = match (token.first_chunk(), token.last_chunk()) {
            (Some(first), Some(last)) if token.len() <= 16 => (word(first), word(last)),
            (Some(_), _) => return None,
            _ => (token.iter().fold(0, |all, byte| all << 8 | u64::from(*byte)), 0),
        };
        (!token.is_empty()).then_some(Self(first, last, token.len()))
    }

    /// Where it is looked for.
    #[inline]
    fn place(self) -> usize {
        let mixed = (self.0 ^ self.1.rotate_left(29)).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        (mixed >> 32) as usize % RECENT
    }
}

#[derive(Clone, Debug)]
pub(super) struct FoldedGroup {
    pub(super) keys: Vec<Option<Scalar>>,
    pub(super) folds: Vec<Running>,
}

/// An aggregate under way, or what was wrong with an item: that matters only when somebody asks.
#[derive(Clone, Debug)]
pub(super) struct Running {
    fold: Result<Fold, Fault>,
    /// The items, while a run is traced.
    of: Vec<Origin>,
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

    fn value<'a>(&self, arena: &'a Arena) -> Option<Value<'a>> {
        Packed::new(arena.text(&self.0)).next(arena)?
    }
}

impl Folded {
    /// The group with these keys.
    fn group(&mut self, key: &str, new: impl FnOnce() -> FoldedGroup) -> usize {
        if let Some(position) = self.known.get(key) {
            return *position;
        }
        let position = self.groups.len();
        self.known.insert(key.into(), position);
        self.groups.push(new());
        position
    }

    /// The position of the group that was met before with a key that stood so in the text.
    #[inline]
    pub(super) fn recent(&self, token: Short) -> Option<usize> {
        let (known, position) = self.recent.get(token.place())?;
        (*known == token).then_some(*position)
    }

    /// Notes that the only key of the group at this position stood so in the text.
    pub(super) fn met(&mut self, token: Short, position: usize) {
        self.recent.resize(RECENT, Default::default());
        self.recent[token.place()] = (token, position);
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
    pub(super) fn join(&mut self, later: &Self) -> Result<(), Fault> {
        let mut order: Vec<(&str, usize)> =
            later.known.iter().map(|(key, position)| (&**key, *position)).collect();
        order.sort_unstable_by_key(|(_, position)| *position);
        let mut joined = Vec::with_capacity(order.len());
        for (key, position) in order {
            let group = &later.groups[position];
            let folds = match self.known.get(key) {
                None => group.folds.clone(),
                Some(own) => {
                    let pairs = self.groups[*own].folds.iter().zip(&group.folds);
                    pairs.map(|(own, later)| own.joined(later)).collect::<Result<_, Fault>>()?
                }
            };
            joined.push((key, group, folds));
        }
        for (key, group, folds) in joined {
            let position = self.group(key, || group.clone());
            self.groups[position].folds = folds;
        }
        Ok(())
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
    fn new(kind: FoldKind) -> Self {
        Self { fold: Ok(Fold::new(kind)), of: Vec::new() }
    }

    fn joined(&self, later: &Self) -> Result<Self, Fault> {
        let fold = match (&self.fold, &later.fold) {
            (Ok(own), Ok(later)) => Ok(own.joined(later)?),
            (Err(fault), _) | (_, Err(fault)) => Err(Fault::clone(fault)),
        };
        Ok(Self { fold, of: Vec::new() })
    }
}

impl<'a> Runner<'_, 'a> {
    /// Adds the current turn to the aggregates of its group.
    pub(super) fn fold_turn(
        &mut self,
        folds: &'a GroupFolds,
        keys: &'a [(usize, Expr)],
        folded: &mut Folded,
    ) -> Ran<()> {
        let (mut values, mut key) = std::mem::take(&mut self.group_room);
        values.clear();
        key.clear();
        for (_, expr) in keys {
            let value = self.group_key(expr)?;
            values.push(value);
            Key::add_to(value, &mut key);
        }
        let position = folded.of_keys(&key, &values, folds);
        self.group_room = (values, key);
        for (fold, running) in folds.folds.iter().zip(&mut folded.groups[position].folds) {
            let Some((slot, path)) = fold.over() else { continue };
            let Some(value) = self.local(slot) else { continue };
            match path {
                None => running.traced(value, self.session.trace.is_some()),
                Some(path) => self.fold_path(path, value, running)?,
            }
        }
        Ok(())
    }

    /// Adds the nodes that a path selects in the value of one turn.
    fn fold_path(
        &mut self,
        path: &'a ManyPath,
        value: Value<'a>,
        running: &mut Running,
    ) -> Ran<()> {
        self.session.watch.asked(path.id);
        if let Some((member, steps)) = self.sight(path.id) {
            return match member {
                Some(member) => self.fold_nodes(path, steps, member, running),
                None => {
                    self.session.watch.not_in_slot(path.id);
                    Ok(())
                }
            };
        }
        if let Some(Segment { selectors, .. }) = path.segments.first()
            && let [Selector::Filter(filter)] = selectors.as_slice()
            && !self.test(filter, value)?
        {
            return Ok(());
        }
        self.fold_nodes(path, 1, value, running)
    }

    /// Adds the nodes that the segments of a path from `position` on select.
    fn fold_nodes(
        &mut self,
        path: &'a ManyPath,
        position: usize,
        value: Value<'a>,
        running: &mut Running,
    ) -> Ran<()> {
        if position == path.segments.len() {
            self.session.watch.selected(path.id);
            running.traced(value, self.session.trace.is_some());
            return Ok(());
        }
        let _ = self.walk(path, position, value, &mut |runner, node| {
            running.traced(node, runner.session.trace.is_some());
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(())
    }

    /// Hands the groups on: their number goes into its slot, nothing into those of the names of their turns.
    pub(super) fn bind_folded(&mut self, folds: &GroupFolds, slots: Range<usize>, number: usize) {
        slots.for_each(|slot| self.set_local(slot, None));
        let number = self.arena.integer(number as i64);
        self.set_local(folds.slot, Some(number));
    }

    /// The value of a key of a group.
    pub(super) fn key_of(&self, key: Option<&Scalar>) -> Option<Value<'a>> {
        key?.value(self.arena)
    }

    /// The aggregate of that number over the group that is bound.
    pub(super) fn group_folded(&mut self, slot: usize, number: usize) -> Ran<Option<Value<'a>>> {
        let group = match self.local(slot) {
            Some(Value::Number(_, group)) => group.as_integer(),
            _ => None,
        };
        let found = self.folded_groups.get(&(self.frame + slot)).and_then(|(folds, folded)| {
            let folds: &'a GroupFolds = folds;
            let group = folded.groups.get(usize::try_from(group?).ok()?)?;
            Some((folds.folds.get(number)?, group.folds.get(number)?))
        });
        let Some((fold, running)) = found else { return Ok(None) };
        if let Some(trace) = &mut self.session.trace {
            trace.met(&running.of);
        }
        let outcome = match &running.fold {
            Ok(fold) => fold.finish(self.arena),
            Err(fault) => Err(fault.clone()),
        };
        match (outcome, &fold.call.kind) {
            (Ok(value), _) => Ok(value),
            (Err(fault), Kind::Call(signature, arguments)) => {
                Err(self.faulted(signature, fault, &fold.call, arguments, None))
            }
            (Err(_), _) => Ok(None),
        }
    }
}

impl Running {
    fn traced(&mut self, item: Value<'_>, is_traced: bool) {
        if is_traced {
            self.of.push(item.origin());
        }
        self.add(item);
    }

    /// Takes something that is only counted.
    #[inline]
    pub(super) fn count(&mut self) {
        self.add(Value::NULL);
    }

    #[inline]
    pub(super) fn add(&mut self, item: Value<'_>) {
        if let Ok(fold) = &mut self.fold
            && let Err(fault) = fold.add(item)
        {
            self.fold = Err(fault);
        }
    }
}
