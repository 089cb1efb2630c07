//! What differs between two documents.

use std::collections::{HashMap, HashSet};

use kyanite_tree::{
    Content, Decimal, Element, Key, Map, Name, Origin, Step, Value, equal, is_blank,
};

use crate::align::align;
use crate::difference::{
    Aligned, Assumed, Change, ChangeSort, Comparison, Delta, Difference, KeyChoice, Numbers,
    UnclearKey,
};
use crate::fingerprint::{Fingerprint, Fingerprints};
use crate::matching::{ByKey, Matched, are_alike, by_key, matched, would_differ};
use crate::pattern::Pattern;

/// Compares two documents.
#[must_use]
pub fn compare<'a>(old: Value<'a>, new: Value<'a>, comparison: &Comparison) -> Difference<'a> {
    let mut walk = Walk::new(comparison);
    let delta = walk.delta(old, new);
    walk.end(delta)
}

/// Compares an item of one list with the item of another that it became, each with its position; one alone is gone, or new.
#[must_use]
pub fn compare_items<'a>(
    old: Option<(usize, Value<'a>)>,
    new: Option<(usize, Value<'a>)>,
    comparison: &Comparison,
) -> Difference<'a> {
    let mut walk = Walk::new(comparison);
    let delta = match (old, new) {
        (Some((from, old)), Some((to, new))) => {
            walk.enter(Step::Index(from), Step::Index(to));
            walk.delta(old, new)
        }
        (old, new) => {
            for (side, alone) in [(OLD, old), (NEW, new)] {
                if let Some((at, value)) = alone {
                    walk.alone(side, Step::Index(at), value);
                }
            }
            new.map_or(Delta::Same, |(_, value)| Delta::Other(value))
        }
    };
    walk.end(delta)
}

/// The old document, and the new one.
const OLD: usize = 0;
const NEW: usize = 1;

/// A walk along both documents.
struct Walk<'a, 'c> {
    comparison: &'c Comparison,
    prints: [Fingerprints<'c>; 2],
    /// The steps to where it is in each.
    steps: [Vec<Step<'a>>; 2],
    changes: Vec<Change<'a>>,
    assumed: Assumed,
    keys: Vec<KeyChoice>,
    unclear: Vec<UnclearKey>,
}

impl<'a, 'c> Walk<'a, 'c> {
    fn new(comparison: &'c Comparison) -> Self {
        Self {
            comparison,
            prints: [Fingerprints::new(comparison), Fingerprints::new(comparison)],
            steps: [Vec::new(), Vec::new()],
            changes: Vec::new(),
            assumed: Assumed::default(),
            keys: Vec::new(),
            unclear: Vec::new(),
        }
    }

    fn end(self, delta: Delta<'a>) -> Difference<'a> {
        let Self { changes, assumed, keys, unclear, .. } = self;
        Difference { delta, changes, assumed, keys, unclear }
    }

    fn print(&mut self, side: usize, value: Value<'a>) -> Fingerprint {
        self.prints[side].of(value, &mut self.steps[side])
    }

    fn is_left_out(&self) -> bool {
        !self.comparison.ignored.is_empty()
            && self.steps.iter().any(|steps| self.comparison.leaves_out(steps))
    }

    fn enter(&mut self, old: Step<'a>, new: Step<'a>) {
        self.steps[OLD].push(old);
        self.steps[NEW].push(new);
    }

    fn leave(&mut self) {
        self.steps.iter_mut().for_each(|steps| {
            steps.pop();
        });
    }

    /// Notes that a value one step below is there on one side alone.
    fn alone(&mut self, side: usize, step: Step<'a>, value: Value<'a>) {
        self.steps[side].push(step);
        if !self.comparison.leaves_out(&self.steps[side]) {
            let spot = Some((self.steps[side].clone(), value));
            let change = match side {
                OLD => Change { sort: ChangeSort::Removed, old: spot, new: None },
                _ => Change { sort: ChangeSort::Added, old: None, new: spot },
            };
            self.changes.push(change);
        }
        self.steps[side].pop();
    }

    /// Notes what happened to a value that is on both sides.
    fn both(&mut self, sort: ChangeSort, old: Value<'a>, new: Value<'a>) {
        let [before, after] = &self.steps;
        let (old, new) = (Some((before.clone(), old)), Some((after.clone(), new)));
        self.changes.push(Change { sort, old, new });
    }

    fn delta(&mut self, old: Value<'a>, new: Value<'a>) -> Delta<'a> {
        if self.is_left_out() {
            return Delta::Same;
        }
        // Near numbers, and what crosses formats, have the same fingerprints and may differ all the same.
        let is_decided = self.comparison.tolerance.is_none() && !self.comparison.crosses;
        if is_decided && self.print(OLD, old) == self.print(NEW, new) {
            return Delta::Same;
        }
        match (old, new) {
            (Value::Map(_, before), Value::Map(_, after)) => self.maps(before, after),
            (Value::List(_, before), Value::List(_, after)) => self.lists(before, after),
            (Value::Element(_, before), Value::Element(_, after)) if before.name == after.name => {
                self.elements(before, after)
            }
            (Value::List(_, [one]), other) if self.comparison.crosses => {
                self.assumed.singles += 1;
                self.steps[OLD].push(Step::Index(0));
                let delta = self.delta(*one, other);
                self.steps[OLD].pop();
                delta
            }
            (other, Value::List(_, [one])) if self.comparison.crosses => {
                self.assumed.singles += 1;
                self.steps[NEW].push(Step::Index(0));
                let delta = self.delta(other, *one);
                self.steps[NEW].pop();
                delta
            }
            _ if self.is_same_scalar(old, new) => Delta::Same,
            _ => {
                self.both(ChangeSort::Changed, old, new);
                Delta::Other(new)
            }
        }
    }

    fn is_same_scalar(&mut self, old: Value<'a>, new: Value<'a>) -> bool {
        let spelled = |text: &'a str| Decimal::spelled(text);
        let (a, b) = match (old, new) {
            (Value::Number(_, a), Value::Number(_, b)) => (a.as_str(), b.as_str()),
            (Value::Number(_, number), Value::Untyped(_, text))
            | (Value::Untyped(_, text), Value::Number(_, number))
                if self.comparison.crosses =>
            {
                self.assumed.spelled += 1;
                (number.as_str(), text)
            }
            (Value::Boolean(_, boolean), Value::Untyped(_, text))
            | (Value::Untyped(_, text), Value::Boolean(_, boolean))
                if self.comparison.crosses =>
            {
                self.assumed.spelled += 1;
                return text == if boolean { "true" } else { "false" };
            }
            (Value::Untyped(..), Value::Number(..)) | (Value::Number(..), Value::Untyped(..)) => {
                return false;
            }
            _ => return equal(old, new),
        };
        if a == b {
            return true;
        }
        if self.comparison.numbers == Numbers::Spelling && self.comparison.tolerance.is_none() {
            return false;
        }
        match (spelled(a), spelled(b), &self.comparison.tolerance) {
            (Some(a), Some(b), Some(tolerance)) => {
                a.sub(&b).is_ok_and(|difference| difference.abs() <= *tolerance)
            }
            (Some(a), Some(b), None) => a == b,
            _ => equal(old, new),
        }
    }

    fn maps(&mut self, old: &'a Map<'a>, new: &'a Map<'a>) -> Delta<'a> {
        let (mut removed, mut added, mut changed) = (Vec::new(), Vec::new(), Vec::new());
        for member in old.members() {
            let step = Step::Name(member.name);
            let Some(after) = new.get(member.name) else {
                self.alone(OLD, step, member.value);
                if !self.leaves_out(OLD, step) {
                    removed.push(member.name);
                }
                continue;
            };
            self.enter(step, step);
            let delta = self.delta(member.value, after);
            self.leave();
            if !delta.is_same() {
                changed.push((member.name, delta));
            }
        }
        for member in new.members().iter().filter(|member| old.get(member.name).is_none()) {
            let step = Step::Name(member.name);
            self.alone(NEW, step, member.value);
            if !self.leaves_out(NEW, step) {
                added.push(*member);
            }
        }
        match removed.is_empty() && added.is_empty() && changed.is_empty() {
            true => Delta::Same,
            false => Delta::Map { removed, added, changed, new, old },
        }
    }

    fn leaves_out(&mut self, side: usize, step: Step<'a>) -> bool {
        self.steps[side].push(step);
        let is_left_out = self.comparison.leaves_out(&self.steps[side]);
        self.steps[side].pop();
        is_left_out
    }

    fn lists(&mut self, old: &'a [Value<'a>], new: &'a [Value<'a>]) -> Delta<'a> {
        let pairs = match self.comparison.key_at(&self.steps[OLD]) {
            Some(members) => {
                let found = by_key(old, new, members, self.comparison.crosses);
                let path = Pattern::of(&self.steps[OLD]).to_string();
                let ByKey { pairs, lacking, shared } = found;
                UnclearKey { path, lacking, shared }.add_to(&mut self.unclear);
                pairs
            }
            None => {
                let pairs = self.by_position(old, new);
                self.propose(old, new, &pairs);
                pairs
            }
        };
        self.aligned(old, new, pairs)
    }

    /// Items beside each other by what they are, then by where they stand.
    fn by_position(&mut self, old: &'a [Value<'a>], new: &'a [Value<'a>]) -> Vec<Matched> {
        let prints = |walk: &mut Self, side: usize, items: &'a [Value<'a>]| {
            let of = |(at, item): (usize, &Value<'a>)| {
                walk.steps[side].push(Step::Index(at));
                let print = walk.print(side, *item);
                walk.steps[side].pop();
                print
            };
            items.iter().enumerate().map(of).collect::<Vec<Fingerprint>>()
        };
        let (before, after) = (prints(self, OLD, old), prints(self, NEW, new));
        matched(align(&before, &after), &before, &after, |a, b| are_alike(old[a], new[b]))
    }

    /// The delta of lists whose items stand beside each other.
    fn aligned(
        &mut self,
        old: &'a [Value<'a>],
        new: &'a [Value<'a>],
        pairs: Vec<Matched>,
    ) -> Delta<'a> {
        let (mut removed, mut items) = (Vec::new(), Vec::new());
        let mut is_same = true;
        for pair in pairs {
            match pair {
                Matched::Old(at) => {
                    self.alone(OLD, Step::Index(at), old[at]);
                    removed.push(at);
                    is_same = false;
                }
                Matched::New(at) => {
                    self.alone(NEW, Step::Index(at), new[at]);
                    items.push((at, Aligned::Added(new[at])));
                    is_same = false;
                }
                Matched::Both { old: from, new: to, is_moved } => {
                    self.enter(Step::Index(from), Step::Index(to));
                    if is_moved {
                        self.both(ChangeSort::Moved, old[from], new[to]);
                    }
                    let delta = self.delta(old[from], new[to]);
                    self.leave();
                    is_same &= !is_moved && delta.is_same();
                    items.push((to, Aligned::Both { old: from, is_moved, delta, value: new[to] }));
                }
            }
        }
        if is_same {
            return Delta::Same;
        }
        items.sort_by_key(|(at, _)| *at);
        removed.sort_unstable();
        Delta::List { removed, items: items.into_iter().map(|(_, item)| item).collect() }
    }

    /// Notes a member by which the items of two lists of maps could be told, if other items would then stand beside each other.
    fn propose(&mut self, old: &[Value<'_>], new: &[Value<'_>], pairs: &[Matched]) {
        let path = Pattern::of(&self.steps[OLD]).to_string();
        let is_list = |items: &[Value<'_>]| items.len() > 1;
        if !is_list(old) || !is_list(new) || self.keys.iter().any(|choice| choice.path == path) {
            return;
        }
        let Some(first) = old[0].as_map() else { return };
        let is_key = |name: &str| {
            [old, new].iter().all(|items| {
                let mut seen = HashSet::new();
                items.iter().all(|item| {
                    let value = item.member(name).filter(|value| value.scalar_text().is_some());
                    value.is_some_and(|value| seen.insert(Key::of(value)))
                })
            })
        };
        let found = first.members().iter().find(|member| {
            let is_name = matches!(member.value, Value::Text(..) | Value::Untyped(..))
                || member.value.as_number().is_some_and(|number| number.as_integer().is_some());
            is_name && is_key(member.name) && would_differ(old, new, pairs, member.name)
        });
        if let Some(member) = found {
            self.keys.push(KeyChoice { path, member: member.name.to_owned() });
        }
    }

    fn elements(&mut self, old: &'a Element<'a>, new: &'a Element<'a>) -> Delta<'a> {
        let before = self.changes.len();
        let attributes = |element: &'a Element<'a>| {
            element.attributes.iter().filter(|of| !of.name.declares_namespace())
        };
        let same = |name: Name<'a>, of: &'a Element<'a>| {
            attributes(of).find(|other| {
                other.name.local() == name.local() && other.name.namespace() == name.namespace()
            })
        };
        for attribute in attributes(old) {
            let step = Step::Attribute(attribute.name);
            match same(attribute.name, new) {
                None => self.alone(OLD, step, attribute.to_value()),
                Some(after) if after.value != attribute.value => {
                    self.enter(step, Step::Attribute(after.name));
                    if !self.is_left_out() {
                        self.both(ChangeSort::Changed, attribute.to_value(), after.to_value());
                    }
                    self.leave();
                }
                Some(_) => {}
            }
        }
        for attribute in attributes(new).filter(|attribute| same(attribute.name, old).is_none()) {
            self.alone(NEW, Step::Attribute(attribute.name), attribute.to_value());
        }
        if let (Some(text), Some(other)) = (old.text, new.text) {
            if text != other {
                let origin = |of: &Element<'a>| match of.content.first() {
                    Some(Content::Text(origin, _)) => *origin,
                    _ => Origin::NONE,
                };
                let (was, is) = (origin(old), origin(new));
                self.both(
                    ChangeSort::Changed,
                    Value::Untyped(was, text),
                    Value::Untyped(is, other),
                );
            }
            return if self.changes.len() == before { Delta::Same } else { Delta::Element };
        }
        let (olds, news) = (children(old), children(new));
        let prints = |walk: &mut Self, side: usize, items: &[(Step<'a>, Value<'a>)]| {
            let of = |(_, value): &(Step<'a>, Value<'a>)| walk.print(side, *value);
            items.iter().map(of).collect::<Vec<Fingerprint>>()
        };
        let (prints_old, prints_new) = (prints(self, OLD, &olds), prints(self, NEW, &news));
        let pairs = align(&prints_old, &prints_new);
        for pair in matched(pairs, &prints_old, &prints_new, |a, b| are_alike(olds[a].1, news[b].1))
        {
            match pair {
                Matched::Old(at) => self.alone(OLD, olds[at].0, olds[at].1),
                Matched::New(at) => self.alone(NEW, news[at].0, news[at].1),
                Matched::Both { old, new, is_moved } => {
                    self.enter(olds[old].0, news[new].0);
                    if is_moved {
                        self.both(ChangeSort::Moved, olds[old].1, news[new].1);
                    }
                    let _ = self.delta(olds[old].1, news[new].1);
                    self.leave();
                }
            }
        }
        if self.changes.len() == before { Delta::Same } else { Delta::Element }
    }
}

/// The child elements and texts of an element with the steps to them; text between elements that is only layout is none.
fn children<'a>(element: &'a Element<'a>) -> Vec<(Step<'a>, Value<'a>)> {
    let is_mixed = element
        .content
        .iter()
        .any(|content| matches!(content, Content::Text(_, text) if !is_blank(text)));
    let mut counts: HashMap<(&str, &str), usize> = HashMap::new();
    let name_of = |name: Name<'a>| (name.namespace(), name.local());
    let mut found = Vec::new();
    let mut texts = 0;
    for content in element.content {
        match content {
            Content::Element(origin, child) => {
                let count = counts.entry(name_of(child.name)).or_default();
                let step = Step::Element { name: child.name, position: *count, is_only: false };
                *count += 1;
                found.push((step, Value::Element(*origin, child)));
            }
            Content::Text(origin, text) if is_mixed => {
                let step =
                    Step::Node { kind: kyanite_tree::NodeKind::Text, name: "", position: texts };
                texts += 1;
                found.push((step, Value::Untyped(*origin, text)));
            }
            _ => {}
        }
    }
    for (step, _) in &mut found {
        if let Step::Element { name, is_only, .. } = step {
            *is_only = counts.get(&name_of(*name)) == Some(&1);
        }
    }
    found
}
