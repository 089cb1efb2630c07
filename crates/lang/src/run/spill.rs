//! Tuples beyond the memory of a run: sorted runs in temporary files, and the merge of all runs.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, Write};

use kyanite_tree::{Advice, Arena, Code, Key, Packed, Value, pack};

use super::order::{add_ranks, order, places, ranks};
use super::tuples::Tuple;
use crate::finding::Span;
use crate::plan::{ClauseKind, OrderKey};
use crate::rule_error::{RuleError, RunResult, rule_error};
use kyanite_eval::rank::Rank;

/// How much room there is for tuples that wait, and where those go for which there is none.
pub struct SpillSettings {
    /// The bytes that tuples may take in memory, about.
    pub memory: usize,
    /// Makes a file that is gone when it is closed, however the program ends.
    pub file: Box<dyn Fn() -> io::Result<File> + Send + Sync>,
}

/// What a tuple takes in memory beside its packed values, about, once it is put in order.
const PER_TUPLE: usize = 256;

/// Runs that are merged at a time.
const RUNS: usize = 64;

/// Tuples in the order that they came, packed.
#[derive(Debug, Default)]
pub(super) struct TupleBuffer {
    text: String,
    /// Where each begins.
    starts: Vec<usize>,
}

impl TupleBuffer {
    pub(super) fn push(&mut self, tuple: &Tuple<'_>) {
        self.starts.push(self.text.len());
        tuple.keys.iter().chain(&tuple.names).for_each(|value| pack(*value, &mut self.text));
    }

    /// Adds tuples that come behind these.
    pub(super) fn append(&mut self, later: &Self) {
        let before = self.text.len();
        self.text.push_str(&later.text);
        self.starts.extend(later.starts.iter().map(|start| before + start));
    }

    /// Each of its tuples.
    pub(super) fn texts(&self) -> impl Iterator<Item = &str> {
        (0..self.starts.len()).filter_map(|place| self.text(place))
    }

    /// One of its tuples.
    fn text(&self, place: usize) -> Option<&str> {
        let end = self.starts.get(place + 1).copied().unwrap_or(self.text.len());
        self.text.get(*self.starts.get(place)?..end)
    }

    /// About how many bytes its tuples take.
    pub(super) fn size(&self) -> usize {
        self.text.len() + self.starts.len() * PER_TUPLE
    }

    pub(super) fn is_empty(&self) -> bool {
        self.starts.is_empty()
    }

    /// All its tuples, with `keys` keys each.
    pub(super) fn unpacked<'g>(self, keys: usize, arena: &'g Arena) -> Vec<Tuple<'g>> {
        let text = arena.keep(self.text);
        let ends = self.starts.iter().skip(1).copied().chain([text.len()]);
        let each = self.starts.iter().zip(ends);
        each.filter_map(|(start, end)| tuple(text.get(*start..end)?, keys, arena)).collect()
    }
}

/// The values of the names of a packed tuple, which stand behind its keys.
pub(super) fn names_of<'a>(
    text: &'a str,
    keys: usize,
    arena: &'a Arena,
    names: &mut Vec<Option<Value<'a>>>,
) -> Option<()> {
    let mut values = Packed::new(text);
    (0..keys).try_for_each(|_| values.next(arena).map(drop))?;
    names.clear();
    rest(&mut values, text.len(), arena, names)
}

/// Adds the values that are left of a text of that length.
fn rest<'a>(
    values: &mut Packed<'a>,
    length: usize,
    arena: &'a Arena,
    names: &mut Vec<Option<Value<'a>>>,
) -> Option<()> {
    while values.position() < length {
        names.push(values.next(arena)?);
    }
    Some(())
}

/// A tuple of packed values, the first of which are its keys.
pub(super) fn tuple<'a>(text: &'a str, keys: usize, arena: &'a Arena) -> Option<Tuple<'a>> {
    let mut values = Packed::new(text);
    let keys = keys_of(&mut values, keys, arena)?;
    let mut names = Vec::new();
    rest(&mut values, text.len(), arena, &mut names)?;
    Some(Tuple { keys, names })
}

pub(super) fn keys_of<'a>(
    values: &mut Packed<'a>,
    keys: usize,
    arena: &'a Arena,
) -> Option<Vec<Option<Value<'a>>>> {
    (0..keys).map(|_| values.next(arena)).collect()
}

/// What the clause that holds tuples puts them in order by.
#[derive(Clone, Copy)]
pub(super) enum By<'p> {
    /// Their ranks.
    Keys(&'p [OrderKey]),
    /// The first appearance of their group, which has this number of keys.
    Groups(usize, Span),
}

impl<'p> By<'p> {
    /// The order of a clause that holds tuples.
    pub(super) fn of(clause: &'p ClauseKind) -> Option<Self> {
        match clause {
            ClauseKind::OrderBy { keys, .. } => Some(Self::Keys(keys)),
            ClauseKind::GroupBy { keys, folds: None, .. } => {
                Some(Self::Groups(keys.len(), keys.first()?.1.span))
            }
            _ => None,
        }
    }

    pub(super) fn keys(self) -> usize {
        match self {
            Self::Keys(keys) => keys.len(),
            Self::Groups(keys, _) => keys,
        }
    }

    fn ranked(self) -> &'p [OrderKey] {
        if let Self::Keys(keys) = self { keys } else { &[] }
    }

    fn failed(self, error: &io::Error) -> RuleError {
        let span = match self {
            Self::Keys(keys) => keys.first().map_or(Span::default(), |key| key.value.span),
            Self::Groups(_, span) => span,
        };
        let message = format!("the tuples that wait here cannot go to a temporary file: {error}");
        rule_error(Code::OutputFailed, span, message).advise(Advice::temporary_room())
    }
}

/// A packed tuple with what it is ordered by.
struct Ranked {
    /// The number of its group.
    group: u64,
    ranks: Vec<Option<Rank<'static>>>,
    /// The run that it comes from: the earlier one is first.
    run: usize,
    text: String,
}

impl Ranked {
    fn order(&self, other: &Self, keys: &[OrderKey]) -> Ordering {
        self.group
            .cmp(&other.group)
            .then_with(|| order(keys, &self.ranks, &other.ranks))
            .then(self.run.cmp(&other.run))
    }
}

/// Runs of tuples in temporary files.
#[derive(Default)]
pub(super) struct Spilled {
    runs: Vec<File>,
    /// The groups so far, by their keys.
    groups: HashMap<Vec<Option<Key>>, u64>,
}

impl Spilled {
    /// Puts the tuples of a buffer in order, and into a file.
    pub(super) fn spill(
        &mut self,
        tuples: TupleBuffer,
        by: By<'_>,
        spill: &SpillSettings,
    ) -> RunResult<()> {
        let mut sorted = self.sorted(tuples, by)?;
        let mut write = || {
            let mut out = BufWriter::new((spill.file)()?);
            while let Some((group, text)) = sorted.next() {
                write_tuple(&mut out, group, text)?;
            }
            rewound(out)
        };
        self.runs.push(write().map_err(|error| by.failed(&error))?);
        if self.runs.len() == RUNS {
            let runs = std::mem::take(&mut self.runs);
            self.runs.push(MergedRuns::of(files(runs).collect(), by)?.write(by, spill)?);
        }
        Ok(())
    }

    /// The tuples of a buffer in order.
    fn sorted(&mut self, tuples: TupleBuffer, by: By<'_>) -> RunResult<Sorted> {
        let arena = Arena::new();
        let mut first = Vec::new();
        let mut ranked = Vec::with_capacity(tuples.starts.len());
        let mut groups = Vec::with_capacity(tuples.starts.len());
        for text in tuples.texts() {
            let mut values = Packed::new(text);
            match by {
                By::Keys(order_keys) => {
                    let values = std::iter::repeat_with(|| values.next(&arena).flatten());
                    add_ranks(order_keys, values, &mut first, &mut ranked)?;
                }
                By::Groups(..) => {
                    let keys = keys_of(&mut values, by.keys(), &arena).unwrap_or_default();
                    let next = self.groups.len() as u64;
                    let key = keys.iter().map(|key| key.map(Key::of)).collect();
                    groups.push(*self.groups.entry(key).or_insert(next));
                }
            }
        }
        let places = match by {
            By::Keys(keys) => places(keys, &ranked),
            By::Groups(..) => {
                let mut places: Vec<usize> = (0..groups.len()).collect();
                places.sort_by_key(|place| groups[*place]);
                places
            }
        };
        Ok(Sorted { tuples, groups, places: places.into_iter() })
    }

    pub(super) fn is_empty(&self) -> bool {
        self.runs.is_empty()
    }

    /// Begins to read all tuples in order: those in files, and those of a buffer.
    pub(super) fn merge(mut self, tuples: TupleBuffer, by: By<'_>) -> RunResult<Merge> {
        let last = self.sorted(tuples, by)?;
        if self.runs.is_empty() {
            return Ok(Merge::Memory(last));
        }
        let runs = files(self.runs).chain([Run::Memory(last)]).collect();
        MergedRuns::of(runs, by).map(Merge::Runs)
    }
}

/// Tuples of a buffer, in order.
pub(super) struct Sorted {
    tuples: TupleBuffer,
    /// The group of each, if they are put in order by groups.
    groups: Vec<u64>,
    /// The numbers of those that are left.
    places: std::vec::IntoIter<usize>,
}

impl Sorted {
    /// The next tuple: its group and its packed values.
    fn next(&mut self) -> Option<(u64, &str)> {
        let group = self.next_group()?;
        let place = self.places.next()?;
        Some((group, self.tuples.text(place)?))
    }

    /// The group of the next tuple.
    fn next_group(&self) -> Option<u64> {
        let place = self.places.as_slice().first()?;
        Some(self.groups.get(*place).copied().unwrap_or_default())
    }
}

/// Tuples in order.
enum Run {
    Memory(Sorted),
    File(BufReader<File>),
}

impl Run {
    /// The next tuple: its group and its packed values.
    fn next(&mut self) -> io::Result<Option<(u64, String)>> {
        match self {
            Self::Memory(sorted) => Ok(sorted.next().map(|(group, text)| (group, text.to_owned()))),
            Self::File(file) => read_tuple(file),
        }
    }
}

fn files(runs: Vec<File>) -> impl Iterator<Item = Run> {
    runs.into_iter().map(|file| Run::File(BufReader::new(file)))
}

/// Goes back to the begin of a file that was written.
fn rewound(out: BufWriter<File>) -> io::Result<File> {
    let mut file = out.into_inner().map_err(io::IntoInnerError::into_error)?;
    file.rewind()?;
    Ok(file)
}

fn write_tuple(out: &mut impl Write, group: u64, text: &str) -> io::Result<()> {
    out.write_all(&group.to_le_bytes())?;
    out.write_all(&(text.len() as u64).to_le_bytes())?;
    out.write_all(text.as_bytes())
}

/// The next tuple of a run: its group and its packed values.
fn read_tuple(run: &mut impl Read) -> io::Result<Option<(u64, String)>> {
    let mut head = [0; 16];
    let mut filled = 0;
    while filled < head.len() {
        match run.read(&mut head[filled..])? {
            0 if filled == 0 => return Ok(None),
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            read => filled += read,
        }
    }
    let number = |bytes: &[u8]| bytes.iter().rev().fold(0, |n, byte| n << 8 | u64::from(*byte));
    let (group, length) = (number(&head[..8]), number(&head[8..]));
    let mut text = String::new();
    let read = run.take(length).read_to_string(&mut text)?;
    if read as u64 != length {
        return Err(io::ErrorKind::UnexpectedEof.into());
    }
    Ok(Some((group, text)))
}

/// All tuples, in order.
pub(super) enum Merge {
    /// They are in memory.
    Memory(Sorted),
    /// Some are in files.
    Runs(MergedRuns),
}

impl Merge {
    /// The group of the next tuple.
    pub(super) fn next_group(&self) -> Option<u64> {
        match self {
            Self::Memory(sorted) => sorted.next_group(),
            Self::Runs(runs) => runs.heads.last().map(|head| head.group),
        }
    }

    /// The packed values of the next tuple, which are then in the arena.
    pub(super) fn next<'a>(&mut self, by: By<'_>, arena: &'a Arena) -> RunResult<Option<&'a str>> {
        Ok(match self {
            Self::Memory(sorted) => sorted.next().map(|(_, text)| arena.text(text)),
            Self::Runs(runs) => runs.next(by)?.map(|tuple| arena.keep(tuple.text)),
        })
    }
}

/// The tuples of several runs, in order.
pub(super) struct MergedRuns {
    runs: Vec<Run>,
    /// The next tuple of each run, the last of them first.
    heads: Vec<Ranked>,
}

impl MergedRuns {
    fn of(runs: Vec<Run>, by: By<'_>) -> RunResult<Self> {
        let mut merged = Self { runs, heads: Vec::new() };
        for run in 0..merged.runs.len() {
            merged.refill(run, by)?;
        }
        Ok(merged)
    }

    /// The next tuple.
    fn next(&mut self, by: By<'_>) -> RunResult<Option<Ranked>> {
        let Some(head) = self.heads.pop() else { return Ok(None) };
        self.refill(head.run, by)?;
        Ok(Some(head))
    }

    /// Takes the next tuple of a run up among the heads.
    fn refill(&mut self, run: usize, by: By<'_>) -> RunResult<()> {
        let Some(tuples) = self.runs.get_mut(run) else { return Ok(()) };
        let next = tuples.next().map_err(|error| by.failed(&error))?;
        let Some((group, text)) = next else { return Ok(()) };
        let ranks = match by {
            By::Keys(keys) => {
                let arena = Arena::new();
                let mut values = Packed::new(&text);
                let values = std::iter::repeat_with(|| values.next(&arena).flatten());
                let ranks = ranks(keys, values, &mut Vec::new())?;
                ranks.into_iter().map(|rank| rank.map(Rank::into_owned)).collect()
            }
            By::Groups(..) => Vec::new(),
        };
        let head = Ranked { group, ranks, run, text };
        let keys = by.ranked();
        let at = self.heads.partition_point(|other| other.order(&head, keys).is_gt());
        self.heads.insert(at, head);
        Ok(())
    }

    /// Writes all tuples as one run.
    fn write(mut self, by: By<'_>, spill: &SpillSettings) -> RunResult<File> {
        let failed = |error: io::Error| by.failed(&error);
        let mut out = BufWriter::new((spill.file)().map_err(failed)?);
        while let Some(tuple) = self.next(by)? {
            write_tuple(&mut out, tuple.group, &tuple.text).map_err(failed)?;
        }
        rewound(out).map_err(failed)
    }
}
