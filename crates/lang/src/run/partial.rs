//! The state of a run over some of the records: the groups and aggregates that their tuples went into. States are joined in any order, and
//! the run is ended over all of them as if it had been one.
//!
//! Groups stand in the order of their first tuples. To know it whichever states come first, each state names the [`Portion`]s of the
//! records that it covers, and each group the portion in which it was first met.

use kyanite_eval::accumulator::{Accumulator, Aggregate};
use kyanite_tree::{Arena, Foreign, ForeignType, Key, Name, Number, Origin, Value};

use super::RecordState;
use super::folded::{Folded, Running, Scalar};
use crate::functions::CallError;
use crate::plan::{ClauseKind, Plan, RecordUnit};

/// Some of the records of a run, in the order that they would have in one run over all.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Default, Debug)]
pub struct Portion {
    /// Its number, by whoever cut the input.
    pub number: u64,
    /// The inputs, by their names.
    pub inputs: Vec<String>,
    /// The byte that the first record begins from.
    pub from: u64,
    /// The byte before which the last record begins.
    pub to: u64,
}

impl Portion {
    /// Whether some records are in both.
    #[must_use]
    pub fn meets(&self, other: &Self) -> bool {
        let is_same = self.number == other.number && self.inputs == other.inputs;
        is_same && self.from < other.to && other.from < self.to || self == other
    }

    /// The portion as a map, for a line of a state.
    #[must_use]
    pub fn line<'a>(&self, arena: &'a Arena) -> Value<'a> {
        let inputs: Vec<_> = self.inputs.iter().map(|name| Value::text(arena.text(name))).collect();
        let to = if self.to == u64::MAX { Value::NULL } else { number(self.to, arena) };
        arena.map([
            ("number", number(self.number, arena)),
            ("inputs", arena.list(&inputs)),
            ("from", number(self.from, arena)),
            ("to", to),
        ])
    }

    /// The portion that a map is; None if it is none.
    #[must_use]
    pub fn of_line(line: Value<'_>) -> Option<Self> {
        let map = line.as_map()?;
        let inputs = map.get("inputs")?.as_list()?.iter();
        Some(Self {
            number: whole(map.get("number")?)?,
            inputs: inputs
                .map(|name| name.scalar_text().map(str::to_owned))
                .collect::<Option<_>>()?,
            from: whole(map.get("from")?)?,
            to: match map.get("to")? {
                Value::Null(_) => u64::MAX,
                to => whole(to)?,
            },
        })
    }
}

/// Why states have no common one.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum CannotAdd {
    /// Both are over these records.
    Twice(Portion),
    /// The aggregate over all records has numbers in one and texts in the other, or is too large.
    Aggregate,
    /// They are not of the same records.
    Unit,
}

/// The state of a run over some of the records.
#[derive(Clone, Debug)]
pub struct Partial {
    unit: RecordUnit,
    /// How many records it is over.
    records: u64,
    /// Which these are, in order.
    portions: Vec<Portion>,
    fold: Option<Accumulator>,
    folded: Folded,
    /// In which portion each group was first met, and how many groups of that were met before.
    firsts: Vec<(usize, u64)>,
}

impl Partial {
    /// The state of a run over the `records` records of a portion.
    #[must_use]
    pub fn of(state: RecordState, unit: RecordUnit, records: u64, portion: Portion) -> Self {
        let mut folded = state.tally.folded;
        folded.forget_places();
        let firsts = (0..folded.groups.len() as u64).map(|before| (0, before)).collect();
        Self { unit, records, portions: vec![portion], fold: state.fold, folded, firsts }
    }

    /// What the records are.
    #[must_use]
    pub fn unit(&self) -> RecordUnit {
        self.unit
    }

    /// How many records it is over.
    #[must_use]
    pub fn records(&self) -> u64 {
        self.records
    }

    /// Adds the state of other records, wherever they stand among all.
    ///
    /// # Errors
    /// When that cannot be; this state is then of no use.
    pub fn add(&mut self, other: &Self) -> Result<(), CannotAdd> {
        if self.unit != other.unit {
            return Err(CannotAdd::Unit);
        }
        let place = self.add_portions(&other.portions)?;
        if let (Some(own), Some(other)) = (&self.fold, &other.fold) {
            self.fold = Some(own.merged(other).map_err(|_| CannotAdd::Aggregate)?);
        }
        self.folded.join_what_can_be(&other.folded);
        self.firsts.resize(self.folded.groups.len(), (usize::MAX, 0));
        for (key, position) in other.folded.known() {
            let (portion, before) = other.firsts[position];
            let (first, own) = ((place[portion], before), self.folded.position(key));
            // How a key is spelled is as it was met first.
            if let Some(own) = own.filter(|own| first < self.firsts[*own]) {
                self.firsts[own] = first;
                self.folded.groups[own].keys.clone_from(&other.folded.groups[position].keys);
            }
        }
        self.records += other.records;
        Ok(())
    }

    /// Adds portions where they belong in the order; gives the place of each.
    fn add_portions(&mut self, added: &[Portion]) -> Result<Vec<usize>, CannotAdd> {
        let twice = added.iter().find(|portion| self.portions.iter().any(|own| own.meets(portion)));
        if let Some(twice) = twice {
            return Err(CannotAdd::Twice(twice.clone()));
        }
        let mut all = self.portions.clone();
        all.extend_from_slice(added);
        all.sort_unstable();
        let place = |portion| all.binary_search(portion).unwrap_or_default();
        for (portion, _) in &mut self.firsts {
            *portion = place(&self.portions[*portion]);
        }
        let places = added.iter().map(place).collect();
        self.portions = all;
        Ok(places)
    }

    /// Puts what was joined in the place of a state before the first record; the groups in order.
    pub fn put_into(self, state: &mut RecordState) {
        let Self { folded, firsts, fold, .. } = self;
        state.fold = fold;
        state.tally.folded = folded.in_order(|position| firsts[position]);
    }

    /// The state, as values that stand in a line each.
    pub fn lines<'a>(&self, arena: &'a Arena) -> impl Iterator<Item = Value<'a>> {
        let text = |text: &str| Value::text(arena.text(text));
        let unit = match self.unit {
            RecordUnit::Items => "items",
            RecordUnit::Elements => "elements",
        };
        let portions: Vec<_> = self.portions.iter().map(|portion| portion.line(arena)).collect();
        let head = arena.map([
            ("unit", text(unit)),
            ("records", number(self.records, arena)),
            ("portions", arena.list(&portions)),
            ("aggregate", self.fold.as_ref().map_or(Value::NULL, |fold| text(&fold.to_string()))),
            ("groups", number(self.firsts.len() as u64, arena)),
        ]);
        let groups = self.firsts.iter().zip(&self.folded.groups).map(move |(first, group)| {
            let first = arena.list(&[number(first.0 as u64, arena), number(first.1, arena)]);
            let keys = group.keys.iter();
            let keys: Vec<_> = keys.map(|key| key_line(key.as_ref(), arena)).collect();
            let aggregates: Vec<_> =
                group.folds.iter().map(|running| running_line(running, arena)).collect();
            arena.list(&[first, arena.list(&keys), arena.list(&aggregates)])
        });
        std::iter::once(head).chain(groups)
    }

    /// The state that these lines are; None if they are not those of one, for this plan.
    #[must_use]
    pub fn read<'a>(
        plan: &Plan,
        mut lines: impl Iterator<Item = Value<'a>>,
        arena: &'a Arena,
    ) -> Option<Self> {
        let head = lines.next()?.as_map()?;
        let unit = match head.get("unit")?.scalar_text()? {
            "items" => RecordUnit::Items,
            "elements" => RecordUnit::Elements,
            _ => return None,
        };
        plan.can_be_cut(unit).ok()?;
        let portions = head.get("portions")?.as_list()?.iter();
        let portions: Vec<_> =
            portions.map(|line| Portion::of_line(*line)).collect::<Option<_>>()?;
        let fold = match head.get("aggregate")? {
            Value::Null(_) => None,
            state => Some(state.scalar_text()?.parse::<Accumulator>().ok()?),
        };
        let wanted = plan.fold.as_ref().map(|fold| fold.kind);
        if fold.as_ref().map(Accumulator::kind) != wanted {
            return None;
        }
        let kinds = plan.group_kinds();
        let (records, groups) = (whole(head.get("records")?)?, whole(head.get("groups")?)?);
        let mut own =
            Self { unit, records, portions, fold, folded: Folded::default(), firsts: Vec::new() };
        for line in lines {
            own.add_group(line, kinds.as_ref()?, arena)?;
        }
        (own.firsts.len() as u64 == groups && own.portions.is_sorted()).then_some(own)
    }
}

impl Partial {
    /// Adds the group that a line is; None where its keys or aggregates are others, or it is there already.
    fn add_group<'a>(
        &mut self,
        line: Value<'a>,
        (key_count, kinds): &(usize, Vec<Aggregate>),
        arena: &'a Arena,
    ) -> Option<()> {
        let [first, keys, aggregates] = line.as_list()? else { return None };
        let [portion, before] = first.as_list()? else { return None };
        let first = (usize::try_from(whole(*portion)?).ok()?, whole(*before)?);
        self.portions.get(first.0)?;
        let keys = keys.as_list()?.iter().map(|key| key_of_line(*key, arena));
        let keys: Vec<_> = keys.collect::<Option<_>>()?;
        let folds = aggregates.as_list()?.iter().map(|line| running_of_line(*line));
        let folds: Vec<Running> = folds.collect::<Option<_>>()?;
        let is_of_kind = |(running, kind): (&Running, &Aggregate)| {
            running.fold.as_ref().map_or(true, |fold| fold.kind() == *kind)
        };
        let mut key = String::new();
        keys.iter().for_each(|value| Key::add_to(*value, &mut key));
        let fits = keys.len() == *key_count
            && folds.len() == kinds.len()
            && folds.iter().zip(kinds).all(is_of_kind)
            && self.folded.position(&key).is_none();
        if fits {
            self.folded.add(&key, &keys, folds);
            self.firsts.push(first);
        }
        fits.then_some(())
    }
}

impl Plan {
    /// How many keys groups over records have, and which aggregates.
    fn group_kinds(&self) -> Option<(usize, Vec<Aggregate>)> {
        let (repeat, position) = self.holding()?;
        match &repeat.clauses[position].kind {
            ClauseKind::GroupBy { keys, folds: Some(folds), .. } => {
                Some((keys.len(), folds.folds.iter().map(|fold| fold.kind).collect()))
            }
            _ => None,
        }
    }
}

fn number(number: u64, arena: &Arena) -> Value<'_> {
    arena.integer(number.try_into().unwrap_or(i64::MAX))
}

fn whole(value: Value<'_>) -> Option<u64> {
    match value {
        Value::Number(_, number) => number.as_str().parse().ok(),
        _ => None,
    }
}

/// A key as a list: what it is, and its text. How a number is spelled is kept.
fn key_line<'a>(key: Option<&Scalar>, arena: &'a Arena) -> Value<'a> {
    let list = |words: &[&str]| {
        let words: Vec<Value<'a>> =
            words.iter().map(|word| Value::text(arena.text(word))).collect();
        arena.list(&words)
    };
    let Some(value) = key.and_then(|key| key.value(arena)) else { return list(&["absent"]) };
    match value {
        Value::Boolean(_, is_true) => list(&["boolean", if is_true { "true" } else { "false" }]),
        Value::Number(_, number) => list(&["number", number.as_str()]),
        Value::Text(_, text) => list(&["text", text]),
        Value::Untyped(_, text) => list(&["untyped", text]),
        Value::Foreign(_, Foreign { text, of }) => match of {
            ForeignType::NotFinite => list(&["not-finite", text]),
            ForeignType::DateTime => list(&["date-time", text]),
            ForeignType::Tagged(tag) => list(&["tagged", text, tag]),
            ForeignType::Name(name) => list(&["name", text, name.qualified(), name.namespace()]),
        },
        _ => list(&["null"]),
    }
}

/// The key that a list is; the outer nothing where it is none.
fn key_of_line<'a>(line: Value<'a>, arena: &'a Arena) -> Option<Option<Value<'a>>> {
    let words: Vec<&str> =
        line.as_list()?.iter().map(|word| word.scalar_text()).collect::<Option<_>>()?;
    let origin = Origin::NONE;
    let foreign = |text, of| Value::Foreign(origin, arena.put(Foreign { text, of }));
    Some(Some(match words.as_slice() {
        ["absent"] => return Some(None),
        ["null"] => Value::NULL,
        ["boolean", "true"] => Value::boolean(true),
        ["boolean", "false"] => Value::boolean(false),
        ["number", text] => Value::number(Number::parse(text)?),
        ["text", text] => Value::Text(origin, text),
        ["untyped", text] => Value::Untyped(origin, text),
        ["not-finite", text] => foreign(text, ForeignType::NotFinite),
        ["date-time", text] => foreign(text, ForeignType::DateTime),
        ["tagged", text, tag] => foreign(text, ForeignType::Tagged(tag)),
        ["name", text, qualified, namespace] => {
            foreign(text, ForeignType::Name(Name::new(qualified, namespace)))
        }
        _ => return None,
    }))
}

/// An aggregate as its state; a list of what was wrong with an item, where something was.
fn running_line<'a>(running: &Running, arena: &'a Arena) -> Value<'a> {
    match &running.fold {
        Ok(fold) => Value::text(arena.text(&fold.to_string())),
        Err(fault) => {
            let advice = fault.advice.as_ref().map(ToString::to_string);
            let words = [fault.message.clone()].into_iter().chain(advice);
            let words: Vec<_> = words.map(|word| Value::text(arena.text(&word))).collect();
            arena.list(&words)
        }
    }
}

fn running_of_line(line: Value<'_>) -> Option<Running> {
    let fold = match line {
        Value::List(_, words) => {
            let [message, advice @ ..] = words else { return None };
            let fault = CallError::new(0, message.scalar_text()?);
            let advice = advice.first().and_then(|word| word.scalar_text());
            Err(match advice {
                Some(advice) => fault.advise(advice.to_owned()),
                None => fault,
            })
        }
        state => Ok(state.scalar_text()?.parse::<Accumulator>().ok()?),
    };
    Some(Running { fold, of: Vec::new() })
}
