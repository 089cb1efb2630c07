//! The kinds of records that are mixed in one stream, and a filter that tells each.
//!
//! Records are parted where that shortens their description (minimum description length, Rissanen 1978): the bits that say which
//! members each record has, given what the others of its kind have, the bits that say of which kind it is, and those for the shares in
//! each kind. A member that comes and goes by itself parts nothing; members that come together, or never do, part the records. What
//! parts them is the presence of a member, the sort of its values, or the value of a member that has few.

use std::collections::HashMap;

use crate::enumerated::Enumerated;
use crate::paths::{PathStep, Paths, Sort};
use crate::survey::{Extra, Survey};
use crate::values::Scalar;

/// The most kinds that are told.
const MOST: usize = 16;

/// The most shapes that are looked at, the most frequent ones.
const SHAPES: usize = 8192;

/// Fewer records than these are not parted: each would be a kind of its own.
const FEWEST: u64 = 8;

/// Some records that are alike.
#[derive(Clone, PartialEq, Debug)]
pub struct KindOfRecord {
    /// What tells them, to be put into `$[?…]`.
    pub filter: String,
    /// How many there are.
    pub records: u64,
    /// Paths that each of them has, and none of the others.
    pub only: Vec<String>,
    /// Paths that none of them has, and each of another kind does.
    pub never: Vec<String>,
}

/// A yes or no about a record.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
enum Trait {
    /// It has a path.
    Has(usize),
    /// It has a value of a sort there.
    Is(usize, Sort),
}

/// What records of a kind have in common.
#[derive(Clone, Debug)]
enum Condition {
    Holds(Trait),
    Fails(Trait),
    /// A member has one of these values.
    OneOf(usize, Vec<(Scalar, String)>),
    /// It has none of these.
    NoneOf(usize, Vec<(Scalar, String)>),
}

/// The traits of all shapes.
struct Traits {
    all: Vec<Trait>,
    /// For each the one that has to hold for it to be possible, if there is one.
    condition: Vec<Option<usize>>,
    /// How often each shape came, and what holds for it.
    shapes: Vec<(u64, Vec<usize>)>,
}

/// Records that are taken together.
#[derive(Clone, Debug)]
struct Group {
    /// Shapes, and how many records of each.
    shapes: Vec<(usize, u64)>,
    conditions: Vec<Condition>,
    /// Whether it is all records of its shapes.
    is_whole: bool,
}

/// How often each trait holds in a group, and how many records it has.
#[derive(Clone, Debug)]
struct Tally {
    records: u64,
    holds: Vec<u64>,
}

/// A member with few values.
struct Choice {
    node: usize,
    values: Vec<(Scalar, String)>,
    /// For each value, how many records of each shape.
    counts: Vec<HashMap<usize, u64>>,
}

#[allow(clippy::cast_precision_loss)]
fn entropy(part: u64, whole: u64) -> f64 {
    if part == 0 || part >= whole {
        return 0.0;
    }
    let share = part as f64 / whole as f64;
    let bits = -share * share.log2() - (1.0 - share) * (1.0 - share).log2();
    bits * whole as f64
}

/// The bits that say of which group each record is.
#[allow(clippy::cast_precision_loss)]
fn assignment(sizes: impl Iterator<Item = u64> + Clone) -> f64 {
    let total: u64 = sizes.clone().sum();
    sizes
        .filter(|size| *size > 0)
        .map(|size| size as f64 * (total as f64 / size as f64).log2())
        .sum()
}

impl Traits {
    fn of(survey: &Survey) -> (Self, HashMap<u64, usize>) {
        let mut settled = survey.settled_shapes();
        if settled.len() > SHAPES {
            settled.sort_by_key(|(_, count, _)| std::cmp::Reverse(*count));
            settled.truncate(SHAPES);
        }
        let mut sorts: HashMap<usize, Vec<Sort>> = HashMap::new();
        for (node, sort) in settled.iter().flat_map(|(_, _, features)| features) {
            let known = sorts.entry(*node).or_default();
            if !known.contains(sort) {
                known.push(*sort);
            }
        }
        let mut traits = Self { all: Vec::new(), condition: Vec::new(), shapes: Vec::new() };
        let mut numbers: HashMap<Trait, usize> = HashMap::new();
        let mut by_hash = HashMap::new();
        for (hash, count, features) in settled {
            let mut holds = Vec::with_capacity(features.len());
            for (node, sort) in features {
                holds.push(traits.number(Trait::Has(node), &mut numbers));
                if sorts.get(&node).is_some_and(|sorts| sorts.len() > 1) {
                    holds.push(traits.number(Trait::Is(node, sort), &mut numbers));
                }
            }
            holds.sort_unstable();
            holds.dedup();
            by_hash.insert(hash, traits.shapes.len());
            traits.shapes.push((count, holds));
        }
        let paths = &survey.paths;
        let condition = traits.all.iter().map(|of| match of {
            Trait::Is(node, _) => numbers.get(&Trait::Has(*node)).copied(),
            Trait::Has(node) => {
                let PathStep::Root = paths.nodes[*node].step else {
                    let parent = paths.nodes[*node].parent;
                    let holder = if paths.nodes[*node].step == PathStep::Items {
                        Sort::List
                    } else {
                        Sort::Map
                    };
                    let is_holder = numbers.get(&Trait::Is(parent, holder));
                    return is_holder.or(numbers.get(&Trait::Has(parent))).copied();
                };
                None
            }
        });
        traits.condition = condition.collect();
        (traits, by_hash)
    }

    fn number(&mut self, of: Trait, numbers: &mut HashMap<Trait, usize>) -> usize {
        *numbers.entry(of).or_insert_with(|| {
            self.all.push(of);
            self.all.len() - 1
        })
    }

    fn tally(&self, shapes: &[(usize, u64)]) -> Tally {
        let mut tally = Tally { records: 0, holds: vec![0; self.all.len()] };
        for (shape, count) in shapes {
            tally.records += count;
            self.shapes[*shape].1.iter().for_each(|holds| tally.holds[*holds] += count);
        }
        tally
    }

    /// The bits that describe which traits hold for records.
    #[allow(clippy::cast_precision_loss)]
    fn bits(&self, tally: &Tally) -> f64 {
        let of = |(number, holds): (usize, &u64)| {
            let possible = self.condition[number].map_or(tally.records, |at| tally.holds[at]);
            let share = if possible == 0 { 0.0 } else { ((possible + 1) as f64).log2() / 2.0 };
            entropy(*holds, possible) + share
        };
        tally.holds.iter().enumerate().map(of).sum()
    }
}

impl Tally {
    fn add(&mut self, other: &Self) {
        self.records += other.records;
        self.holds.iter_mut().zip(&other.holds).for_each(|(own, other)| *own += other);
    }
}

/// The kinds of a survey's records; none where all are of one. Values are not looked at unless `by_value`.
pub(crate) fn kinds(
    survey: &Survey,
    by_value: bool,
    path: &dyn Fn(usize) -> String,
) -> Vec<KindOfRecord> {
    let (traits, by_hash) = Traits::of(survey);
    let choices = if by_value { choices(survey, &by_hash) } else { Vec::new() };
    let all = traits.shapes.iter().enumerate().map(|(number, (count, _))| (number, *count));
    let all = Group { shapes: all.collect(), conditions: Vec::new(), is_whole: true };
    let mut ended: Vec<Group> = Vec::new();
    let mut open = vec![(best_parting(&traits, &choices, &all), all)];
    while !open.is_empty() {
        let gain =
            |of: &(Option<Parting>, Group)| of.0.as_ref().map_or(0.0, |parting| parting.gain);
        let best = (0..open.len()).max_by(|a, b| gain(&open[*a]).total_cmp(&gain(&open[*b])));
        let Some(best) = best else { break };
        match open.swap_remove(best) {
            (Some(parting), _) if open.len() + ended.len() + parting.groups.len() <= MOST => {
                for group in parting.groups {
                    open.push((best_parting(&traits, &choices, &group), group));
                }
            }
            (_, group) => ended.push(group),
        }
    }
    if ended.len() < 2 {
        return Vec::new();
    }
    let tallies: Vec<Tally> = ended.iter().map(|group| traits.tally(&group.shapes)).collect();
    let mut kinds: Vec<KindOfRecord> = ended
        .iter()
        .enumerate()
        .map(|(number, group)| {
            let (only, never) = distinguishing(&traits, &tallies, number, survey, path);
            KindOfRecord {
                filter: filter(&traits, &choices, group, survey),
                records: tallies[number].records,
                only,
                never,
            }
        })
        .collect();
    kinds.sort_by_key(|kind| std::cmp::Reverse(kind.records));
    kinds
}

/// Groups that a group is parted into, and how many bits that saves.
struct Parting {
    gain: f64,
    groups: Vec<Group>,
}

/// The best way of parting a group, if any saves bits.
fn best_parting(traits: &Traits, choices: &[Choice], group: &Group) -> Option<Parting> {
    let tally = traits.tally(&group.shapes);
    if tally.records < FEWEST {
        return None;
    }
    let bits = traits.bits(&tally);
    let mut best: Option<(f64, usize)> = None;
    for (number, holds) in tally.holds.iter().enumerate() {
        if *holds == 0 || *holds == tally.records || !can_be_said(traits.all[number]) {
            continue;
        }
        let (with, without) = parted(traits, group, number);
        let (with, without) = (traits.tally(&with), traits.tally(&without));
        let sizes = [with.records, without.records];
        let gain =
            bits - traits.bits(&with) - traits.bits(&without) - assignment(sizes.into_iter());
        if gain > best.map_or(0.0, |(gain, _)| gain + 1e-6) {
            best = Some((gain, number));
        }
    }
    let by_trait = best.map(|(gain, number)| {
        let (with, without) = parted(traits, group, number);
        let made = |shapes, condition| {
            let conditions = group.conditions.iter().cloned().chain([condition]).collect();
            Group { shapes, conditions, is_whole: group.is_whole }
        };
        let of = traits.all[number];
        let groups = vec![made(with, Condition::Holds(of)), made(without, Condition::Fails(of))];
        Parting { gain, groups }
    });
    let by_choice = choices.iter().filter(|_| group.is_whole).filter_map(|choice| {
        let parting = parted_by(traits, choice, group, bits)?;
        let is_plain = parting.groups.iter().all(|group| {
            matches!(group.conditions.last(), Some(Condition::OneOf(_, values)) if values.len() == 1)
        });
        Some((parting, is_plain))
    });
    let by_choice = by_choice.max_by(|a, b| a.0.gain.total_cmp(&b.0.gain));
    match (by_trait, by_choice) {
        // Of two that save about as much, one value in each record says more than what is there: `@.type == "seat"`.
        (Some(by_trait), Some((by_choice, is_plain)))
            if by_choice.gain < by_trait.gain * if is_plain { 0.99 } else { 1.01 } =>
        {
            Some(by_trait)
        }
        (by_trait, by_choice) => by_choice.map(|(parting, _)| parting).or(by_trait),
    }
}

/// Whether a filter can ask for a trait.
fn can_be_said(of: Trait) -> bool {
    !matches!(of, Trait::Is(_, Sort::List | Sort::Map))
}

type ShapeCounts = Vec<(usize, u64)>;

fn parted(traits: &Traits, group: &Group, number: usize) -> (ShapeCounts, ShapeCounts) {
    let holds = |(shape, _): &&(usize, u64)| traits.shapes[*shape].1.binary_search(&number).is_ok();
    let (with, without): (Vec<&(usize, u64)>, Vec<_>) = group.shapes.iter().partition(holds);
    (with.into_iter().copied().collect(), without.into_iter().copied().collect())
}

/// A group parted by the values of a member; values whose records are alike stay together.
fn parted_by(traits: &Traits, choice: &Choice, group: &Group, bits: f64) -> Option<Parting> {
    let total: HashMap<usize, u64> = group.shapes.iter().copied().collect();
    let mut left = total.clone();
    let mut parts: Vec<(Vec<usize>, ShapeCounts, Tally)> = Vec::new();
    for (value, counts) in choice.counts.iter().enumerate() {
        let mut shapes: ShapeCounts = counts
            .iter()
            .filter(|(shape, _)| total.contains_key(shape))
            .map(|(shape, count)| (*shape, *count))
            .collect();
        shapes.sort_unstable();
        for (shape, count) in &shapes {
            if let Some(left) = left.get_mut(shape) {
                *left = left.saturating_sub(*count);
            }
        }
        if !shapes.is_empty() {
            let tally = traits.tally(&shapes);
            parts.push((vec![value], shapes, tally));
        }
    }
    // Those that have none of the values.
    left.retain(|_, count| *count > 0);
    let rest = usize::MAX;
    if !left.is_empty() {
        let mut shapes: ShapeCounts = left.into_iter().collect();
        shapes.sort_unstable();
        let tally = traits.tally(&shapes);
        parts.push((vec![rest], shapes, tally));
    }
    let cost = |parts: &[(Vec<usize>, ShapeCounts, Tally)]| {
        parts.iter().map(|part| traits.bits(&part.2)).sum::<f64>()
            + assignment(parts.iter().map(|part| part.2.records))
    };
    loop {
        let now = cost(&parts);
        let mut best: Option<(f64, usize, usize)> = None;
        for a in 0..parts.len() {
            for b in a + 1..parts.len() {
                let mut joined = parts[a].2.clone();
                joined.add(&parts[b].2);
                let sizes = parts.iter().enumerate().filter(|(at, _)| *at != a && *at != b);
                let sizes = sizes.map(|(_, part)| part.2.records).chain([joined.records]);
                let before = traits.bits(&parts[a].2)
                    + traits.bits(&parts[b].2)
                    + assignment(parts.iter().map(|part| part.2.records));
                let saved = before - traits.bits(&joined) - assignment(sizes);
                if saved > best.map_or(0.0, |(saved, ..)| saved) {
                    best = Some((saved, a, b));
                }
            }
        }
        let Some((_, a, b)) = best else {
            let gain = bits - now;
            if parts.len() < 2 || gain <= 0.0 {
                return None;
            }
            let groups = groups_of(choice, group, parts, rest);
            return Some(Parting { gain, groups });
        };
        let (values, shapes, tally) = parts.remove(b);
        parts[a].0.extend(values);
        parts[a].1.extend(shapes);
        parts[a].2.add(&tally);
    }
}

fn groups_of(
    choice: &Choice,
    group: &Group,
    parts: Vec<(Vec<usize>, ShapeCounts, Tally)>,
    rest: usize,
) -> Vec<Group> {
    let named = |values: &[usize]| -> Vec<(Scalar, String)> {
        values.iter().filter_map(|value| choice.values.get(*value).cloned()).collect()
    };
    let all = |but: &[usize]| -> Vec<(Scalar, String)> {
        let others = (0..choice.values.len()).filter(|value| !but.contains(value));
        named(&others.collect::<Vec<usize>>())
    };
    parts
        .into_iter()
        .map(|(values, shapes, _)| {
            let condition = if values.contains(&rest) {
                Condition::NoneOf(choice.node, all(&values))
            } else {
                Condition::OneOf(choice.node, named(&values))
            };
            let mut merged: HashMap<usize, u64> = HashMap::new();
            shapes
                .into_iter()
                .for_each(|(shape, count)| *merged.entry(shape).or_default() += count);
            let mut shapes: ShapeCounts = merged.into_iter().collect();
            shapes.sort_unstable();
            let conditions = group.conditions.iter().cloned().chain([condition]).collect();
            Group { shapes, conditions, is_whole: false }
        })
        .collect()
}

/// The members with few values that are there in records, not in lists of them.
fn choices(survey: &Survey, by_hash: &HashMap<u64, usize>) -> Vec<Choice> {
    let mut choices = Vec::new();
    for number in survey.paths.in_order() {
        let node = &survey.paths.nodes[number];
        let Enumerated::Few(few) = &node.extra.enumerated else { continue };
        // Values of shapes that are not told apart are not counted.
        if few.len() < 2 && node.counts.records == survey.records || survey.shapes.others > 0 {
            continue;
        }
        let values = few.keys().map(|(sort, text)| (*sort, text.to_string())).collect();
        let counts = few.values().map(|shapes| {
            let known =
                shapes.iter().filter_map(|(hash, count)| Some((*by_hash.get(hash)?, *count)));
            known.collect()
        });
        choices.push(Choice { node: number, values, counts: counts.collect() });
    }
    choices
}

/// The shortest filter that holds for just the records of a group.
fn filter(traits: &Traits, choices: &[Choice], group: &Group, survey: &Survey) -> String {
    let paths = &survey.paths;
    let single = || {
        let records: u64 = group.shapes.iter().map(|(_, count)| count).sum();
        let holds_for_all = |number: usize| {
            group
                .shapes
                .iter()
                .all(|(shape, _)| traits.shapes[*shape].1.binary_search(&number).is_ok())
        };
        let total = |number: usize| -> u64 {
            let with =
                traits.shapes.iter().filter(|(_, holds)| holds.binary_search(&number).is_ok());
            with.map(|(count, _)| count).sum()
        };
        let found = (0..traits.all.len()).find(|number| {
            can_be_said(traits.all[*number]) && holds_for_all(*number) && total(*number) == records
        });
        if let Some(found) = found {
            return Some(said(&Condition::Holds(traits.all[found]), paths, true));
        }
        let of_choice = |choice: &Choice| {
            let at = choice.counts.iter().position(|counts| {
                let in_group = group.shapes.iter().filter_map(|(shape, _)| counts.get(shape));
                let all: u64 = counts.values().sum();
                group.is_whole && all == records && in_group.sum::<u64>() == records
            })?;
            let one = vec![choice.values.get(at)?.clone()];
            Some(said(&Condition::OneOf(choice.node, one), paths, true))
        };
        choices.iter().find_map(of_choice)
    };
    let is_plain =
        matches!(group.conditions.as_slice(), [Condition::Holds(_) | Condition::OneOf(..)]);
    if !is_plain && let Some(single) = single() {
        return single;
    }
    let is_alone = group.conditions.len() == 1;
    let all = group.conditions.iter().map(|condition| said(condition, paths, is_alone));
    all.collect::<Vec<String>>().join(" && ")
}

/// A condition in the words of a filter (RFC 9535 section 2.3.5).
fn said(condition: &Condition, paths: &Paths<Extra>, is_alone: bool) -> String {
    let compared = |node: usize, values: &[(Scalar, String)], sign: &str, join: &str| {
        let path = paths.in_filter(node);
        let each = values.iter().map(|(sort, text)| match sort {
            Scalar::Text => format!("{path} {sign} {}", quoted(text)),
            Scalar::Boolean | Scalar::Number => format!("{path} {sign} {text}"),
        });
        each.collect::<Vec<String>>().join(join)
    };
    match condition {
        Condition::Holds(Trait::Has(node)) => paths.in_filter(*node),
        Condition::Fails(Trait::Has(node)) => format!("!{}", paths.in_filter(*node)),
        Condition::Holds(Trait::Is(node, sort)) => {
            let text = of_sort(&paths.in_filter(*node), *sort);
            if text.contains("||") && !is_alone { format!("({text})") } else { text }
        }
        Condition::Fails(Trait::Is(node, sort)) => {
            format!("!({})", of_sort(&paths.in_filter(*node), *sort))
        }
        Condition::OneOf(node, values) => {
            let text = compared(*node, values, "==", " || ");
            if values.len() > 1 && !is_alone { format!("({text})") } else { text }
        }
        Condition::NoneOf(node, values) => compared(*node, values, "!=", " && "),
    }
}

/// That values at a path are of a sort: only texts are compared with texts, and only numbers with numbers (RFC 9535 section
/// 2.3.5.2.2).
fn of_sort(path: &str, sort: Sort) -> String {
    match sort {
        Sort::Null => format!("{path} == null"),
        Sort::Boolean => format!("{path} == true || {path} == false"),
        Sort::Number => format!("{path} >= 0 || {path} < 0"),
        Sort::Text => format!("{path} >= \"\""),
        Sort::List | Sort::Map => path.to_owned(),
    }
}

fn quoted(text: &str) -> String {
    let mut out = Vec::new();
    kyanite_formats::json::write_text(text, &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// The paths that only one kind has, and those that it alone never has.
fn distinguishing(
    traits: &Traits,
    tallies: &[Tally],
    own: usize,
    survey: &Survey,
    path: &dyn Fn(usize) -> String,
) -> (Vec<String>, Vec<String>) {
    let (mut only, mut never) = (Vec::new(), Vec::new());
    for (number, of) in traits.all.iter().enumerate() {
        let Trait::Has(node) = of else { continue };
        // What is below a path that tells them says nothing more.
        let is_told = traits.condition[number].is_some_and(|at| {
            tallies[own].holds[at] == 0
                || tallies
                    .iter()
                    .enumerate()
                    .all(|(other, tally)| other == own || tally.holds[at] == 0)
        });
        if is_told || survey.paths.nodes[*node].step == PathStep::Root {
            continue;
        }
        let others = || tallies.iter().enumerate().filter(|(other, _)| *other != own);
        let (holds, records) = (tallies[own].holds[number], tallies[own].records);
        if holds == records && others().all(|(_, tally)| tally.holds[number] == 0) {
            only.push(path(*node));
        } else if holds == 0 && others().any(|(_, tally)| tally.holds[number] == tally.records) {
            never.push(path(*node));
        }
    }
    (only, never)
}
