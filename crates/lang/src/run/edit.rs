//! Edits: a value with some places in it changed, and all else as it was.
//!
//! What holds a change is made anew, one level after the other; everything else is shared with the value before. So a change
//! costs what its path passes, and the members and items beside that.

mod elements;

use elements::only_child;
use kyanite_tree::{Content, Member, Value};
use smallvec::{SmallVec, smallvec};

use super::Runner;
use super::element::{Wanted, wanted};
use super::path::{Key, from_end, is_name, slice};
use crate::plan::{Change, Edit, Segment, Selector, Step, StepKind};
use crate::rule_error::RunResult;

/// Where a child stands: an item of a list, a member of a map, a piece of the content of an element; or an attribute.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum Child {
    At(usize),
    Attribute(usize),
}

/// How far along the path a node is, in segments.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
struct Stage {
    segments: usize,
    /// Whether the next segment selects at any depth, from a node around this one.
    is_below: bool,
}

/// Things of one node: most nodes have few children.
type Few<T> = SmallVec<[T; 12]>;

/// The children that the stages of a node lead to.
#[derive(Default)]
struct Picked<'a> {
    children: Few<(Child, Stage)>,
    /// The steps to members and attributes that are not there and may be added.
    missing: SmallVec<[&'a Step; 1]>,
}

/// What is changed in a node.
#[derive(Default)]
struct Changes<'a> {
    /// What becomes of children, in order.
    children: Few<(Child, Outcome<'a>)>,
    /// Members or attributes that are added.
    added: SmallVec<[(&'a Step, &'a str, Value<'a>); 1]>,
}

/// What becomes of a child.
#[derive(Clone, Copy)]
enum Outcome<'a> {
    /// The same child, changed inside.
    Changed(Value<'a>),
    /// Another value is in its place, or nothing.
    Replaced(Option<Value<'a>>),
}

impl<'a> Outcome<'a> {
    fn value(self) -> Option<Value<'a>> {
        match self {
            Self::Changed(value) => Some(value),
            Self::Replaced(value) => value,
        }
    }
}

impl<'a> Runner<'_, 'a> {
    /// The value of an edit, or nothing.
    pub(super) fn edited(&mut self, edit: &'a Edit) -> RunResult<Option<Value<'a>>> {
        let Some(mut value) = self.value(&edit.subject)? else { return Ok(None) };
        for change in &edit.changes {
            self.session.coverage.asked(change.id);
            let begin = Stage { segments: 0, is_below: false };
            if let Some(changed) = self.change(change, value, &[begin])? {
                value = changed;
            }
        }
        Ok(Some(value))
    }

    /// A node after a change, if there is any in it. The nodes of the path are selected on the way down, in the value as it was,
    /// and replaced on the way up.
    fn change(
        &mut self,
        change: &'a Change,
        node: Value<'a>,
        stages: &[Stage],
    ) -> RunResult<Option<Value<'a>>> {
        if let [stage @ Stage { segments: position, .. }] = *stages
            && let Segment { descendant, selectors } = &change.segments[position]
            && let [Selector::Step(step)] = selectors.as_slice()
        {
            match node {
                Value::Map(..) | Value::List(..) if *descendant => {
                    return self.change_below(change, stage, step, node);
                }
                Value::Map(..) | Value::List(..) => {
                    return self.change_at(change, position, step, node);
                }
                _ if *descendant => {}
                Value::Element(_, element) if let Some(at) = only_child(step, element) => {
                    return self.change_child(change, position, node, at);
                }
                _ => {}
            }
        }
        let mut picked = Picked::default();
        for stage in stages {
            self.pick(change, node, *stage, &mut picked)?;
        }
        let Picked { children: mut found, missing } = picked;
        found.sort_unstable();
        found.dedup_by_key(|(child, stage)| (*child, stage.segments));
        let mut changes = Changes::default();
        for group in found.chunk_by(|a, b| a.0 == b.0) {
            let child = group[0].0;
            let Some(old) = child_of(node, child) else { continue };
            let stages: SmallVec<[Stage; 4]> = group.iter().map(|(_, stage)| *stage).collect();
            let (inner, is_selected) = match stages.split_last() {
                Some((last, inner)) if last.segments == change.segments.len() => (inner, true),
                _ => (&stages[..], false),
            };
            let changed = if inner.is_empty() { None } else { self.change(change, old, inner)? };
            if is_selected {
                self.session.coverage.selected(change.id);
                let new = self.replacement(change, Some(changed.unwrap_or(old)))?;
                changes.children.push((child, Outcome::Replaced(new)));
            } else if let Some(changed) = changed {
                changes.children.push((child, Outcome::Changed(changed)));
            }
        }
        for step in missing {
            let Some(Key::Name(name)) = self.key(step, node)? else { continue };
            self.session.coverage.selected(change.id);
            if let Some(value) = self.replacement(change, None)? {
                changes.added.push((step, name, value));
            }
        }
        if changes.children.is_empty() && changes.added.is_empty() {
            return Ok(None);
        }
        self.with_changes(change, node, &changes).map(Some)
    }

    /// The same for a step at any depth, in a map or a list.
    fn change_below(
        &mut self,
        change: &'a Change,
        stage: Stage,
        step: &'a Step,
        node: Value<'a>,
    ) -> RunResult<Option<Value<'a>>> {
        let position = stage.segments;
        let with_cutoff = Stage { segments: position, is_below: true };
        let next = Stage { segments: position + 1, is_below: false };
        let is_last = position + 1 == change.segments.len();
        if !stage.is_below {
            self.session.coverage.missed_below(change.id, position, node);
        }
        let key = self.key(step, node)?;
        let selected = position_of(node, key);
        let mut outcomes = Few::new();
        for at in 0..width(node) {
            let Some(old) = child_of(node, Child::At(at)) else { continue };
            let is_selected = selected == Some(at);
            let changed = match (has_children(old), is_selected && !is_last) {
                (true, true) => self.change(change, old, &[with_cutoff, next])?,
                (true, false) => self.change(change, old, &[with_cutoff])?,
                (false, true) => self.change(change, old, &[next])?,
                (false, false) => None,
            };
            if is_selected && is_last {
                self.session.coverage.selected(change.id);
                outcomes.push((at, self.replacement(change, Some(changed.unwrap_or(old)))?));
            } else if changed.is_some() {
                outcomes.push((at, changed));
            }
        }
        if outcomes.is_empty() {
            return Ok(None);
        }
        Ok(Some(self.with_children(node, outcomes.into_iter())))
    }

    /// The same for a step to one child of a map or a list, which most are.
    fn change_at(
        &mut self,
        change: &'a Change,
        position: usize,
        step: &'a Step,
        node: Value<'a>,
    ) -> RunResult<Option<Value<'a>>> {
        let key = self.key(step, node)?;
        let is_last = position + 1 == change.segments.len();
        let Some(at) = position_of(node, key) else {
            if let (Some(Key::Name(name)), Value::Map(..), true, true) =
                (key, node, is_last, change.value.is_some())
            {
                self.session.coverage.selected(change.id);
                let value = self.replacement(change, None)?;
                return Ok(value.map(|value| self.with_members(node, &[Member { name, value }])));
            }
            self.session.coverage.missed(change.id, position, node, is_name(step));
            return Ok(None);
        };
        self.change_child(change, position, node, at)
    }

    /// A node whose only child on the path is changed.
    fn change_child(
        &mut self,
        change: &'a Change,
        position: usize,
        node: Value<'a>,
        at: usize,
    ) -> RunResult<Option<Value<'a>>> {
        let Some(old) = child_of(node, Child::At(at)) else { return Ok(None) };
        let outcome = if position + 1 == change.segments.len() {
            self.session.coverage.selected(change.id);
            Outcome::Replaced(self.replacement(change, Some(old))?)
        } else {
            let next = Stage { segments: position + 1, is_below: false };
            match self.change(change, old, &[next])? {
                None => return Ok(None),
                Some(changed) => Outcome::Changed(changed),
            }
        };
        if let Value::Element(..) = node {
            let children = smallvec![(Child::At(at), outcome)];
            return self
                .with_changes(change, node, &Changes { children, ..Changes::default() })
                .map(Some);
        }
        Ok(Some(self.with_children(node, std::iter::once((at, outcome.value())))))
    }

    /// What takes the place of a node that a change selects: `@` of the expression is the node.
    pub(super) fn replacement(
        &mut self,
        change: &'a Change,
        old: Option<Value<'a>>,
    ) -> RunResult<Option<Value<'a>>> {
        let Some(value) = &change.value else { return Ok(None) };
        let outer = std::mem::replace(&mut self.current, old);
        let new = self.value(value);
        self.current = outer;
        new
    }

    /// Picks the children that one stage of a node leads to.
    fn pick(
        &mut self,
        change: &'a Change,
        node: Value<'a>,
        stage: Stage,
        picked: &mut Picked<'a>,
    ) -> RunResult<()> {
        let position = stage.segments;
        let segment = &change.segments[position];
        let before = picked.children.len();
        let mut stopped = position;
        for selector in &segment.selectors {
            stopped = stopped.max(self.pick_by(change, position, selector, node, picked)?);
        }
        if segment.descendant {
            let with_cutoff = Stage { segments: position, is_below: true };
            let children = (0..width(node)).map(Child::At);
            let leads_on = |child: &Child| child_of(node, *child).is_some_and(has_children);
            picked.children.extend(children.filter(leads_on).map(|child| (child, with_cutoff)));
            if !stage.is_below {
                self.session.coverage.missed_below(change.id, position, node);
            }
            return Ok(());
        }
        if picked.children.len() > before {
            return Ok(());
        }
        let is_last = position + 1 == change.segments.len();
        match segment.selectors.as_slice() {
            [Selector::Step(step)]
                if is_last && change.value.is_some() && may_be_added(step, node) =>
            {
                picked.missing.push(step);
            }
            selectors => {
                let is_name = stopped == position
                    && matches!(selectors, [Selector::Step(step)] if is_name(step));
                self.session.coverage.missed(change.id, stopped, node, is_name);
            }
        }
        Ok(())
    }

    /// Picks the children that one selector of a segment leads to; gives the segment at which it stops where it leads to none.
    fn pick_by(
        &mut self,
        change: &'a Change,
        position: usize,
        selector: &'a Selector,
        node: Value<'a>,
        picked: &mut Picked<'a>,
    ) -> RunResult<usize> {
        let next = Stage { segments: position + 1, is_below: false };
        let (Selector::Step(step), Value::Element(_, element)) = (selector, node) else {
            let chosen = self.chosen(selector, node)?;
            picked.children.extend(chosen.into_iter().map(|at| (Child::At(at), next)));
            return Ok(position);
        };
        let children = self.places_in_element(step, element, node)?;
        match change.segments.get(position + 1) {
            // Brackets behind a name range over the children of that name.
            Some(brackets) if step.ranges && !children.is_empty() => {
                let values: Vec<Value<'a>> =
                    children.iter().filter_map(|child| child_of(node, *child)).collect();
                let next = Stage { segments: position + 2, is_below: false };
                for selector in &brackets.selectors {
                    let chosen = self.chosen(selector, self.arena.list(&values))?;
                    picked.children.extend(chosen.into_iter().map(|at| (children[at], next)));
                }
                Ok(position + 1)
            }
            _ => {
                picked.children.extend(children.into_iter().map(|child| (child, next)));
                Ok(position)
            }
        }
    }

    /// The positions of the children of a node that a selector selects.
    fn chosen(&mut self, selector: &'a Selector, node: Value<'a>) -> RunResult<Few<usize>> {
        let is_child = |at: &usize| child_of(node, Child::At(*at)).is_some();
        Ok(match selector {
            Selector::Step(step) => {
                let key = self.key(step, node)?;
                position_of(node, key).into_iter().collect()
            }
            Selector::Wildcard => (0..width(node)).filter(is_child).collect(),
            Selector::Slice { start, end, step } => {
                let length = node.as_list().map_or(0, <[_]>::len);
                slice(length, *start, *end, *step).collect()
            }
            Selector::Filter(filter) => {
                let mut chosen = Few::new();
                for at in 0..width(node) {
                    if let Some(child) = child_of(node, Child::At(at))
                        && self.test(filter, child)?
                    {
                        chosen.push(at);
                    }
                }
                chosen
            }
        })
    }

    /// The node with these changes in it.
    fn with_changes(
        &self,
        change: &'a Change,
        node: Value<'a>,
        changes: &Changes<'a>,
    ) -> RunResult<Value<'a>> {
        let children = changes.children.iter().filter_map(|(child, outcome)| match child {
            Child::At(at) => Some((*at, outcome.value())),
            Child::Attribute(_) => None,
        });
        Ok(match node {
            Value::Element(origin, element) => {
                let element = self.element_with(change, element, changes)?;
                Value::Element(origin, self.arena.element(element))
            }
            other => {
                let added = changes.added.iter();
                let added = added.map(|(_, name, value)| Member { name, value: *value });
                self.with_members(self.with_children(other, children), &added.collect::<Few<_>>())
            }
        })
    }

    /// A map with these members behind its own.
    fn with_members(&self, node: Value<'a>, added: &[Member<'a>]) -> Value<'a> {
        match node {
            Value::Map(origin, map) if !added.is_empty() => {
                let members = [map.members(), added].concat();
                Value::Map(origin, map.with_members(self.arena, &members))
            }
            other => other,
        }
    }

    /// A list or a map with these items or members in place of others.
    fn with_children(
        &self,
        node: Value<'a>,
        children: impl Iterator<Item = (usize, Option<Value<'a>>)>,
    ) -> Value<'a> {
        match node {
            Value::List(origin, items) => {
                let items = with_outcomes(items, children, |_, value| value);
                Value::List(origin, self.arena.items(&items))
            }
            Value::Map(origin, map) => {
                let put = |member: &Member<'a>, value| Member { value, ..*member };
                let members = with_outcomes(map.members(), children, put);
                Value::Map(origin, map.with_members(self.arena, &members))
            }
            other => other,
        }
    }
}

/// Where the item or the member is that a key means.
fn position_of(node: Value<'_>, key: Option<Key<'_>>) -> Option<usize> {
    match (node, key?) {
        (Value::Map(_, map), Key::Name(name)) => map.position(name),
        (Value::List(_, items), Key::Index(index)) => from_end(index, items.len()),
        _ => None,
    }
}

/// Whether what a step leads to is added where it is not there: a member of a map, an attribute of an element.
fn may_be_added(step: &Step, node: Value<'_>) -> bool {
    match node {
        Value::Map(..) => !matches!(step.kind, StepKind::Index(_)),
        Value::Element(..) => matches!(wanted(step), Some(Wanted::Attribute(_))),
        _ => false,
    }
}

/// Whether paths may lead on from a node.
fn has_children(node: Value<'_>) -> bool {
    width(node) > 0 || matches!(node, Value::Element(..))
}

/// How many places for children a node has.
fn width(node: Value<'_>) -> usize {
    match node {
        Value::List(_, items) => items.len(),
        Value::Map(_, map) => map.len(),
        Value::Element(_, element) => element.content.len(),
        _ => 0,
    }
}

/// The child at a place, if one is there that paths can lead to.
fn child_of(node: Value<'_>, child: Child) -> Option<Value<'_>> {
    match (node, child) {
        (Value::List(_, items), Child::At(at)) => items.get(at).copied(),
        (Value::Map(_, map), Child::At(at)) => Some(map.members().get(at)?.value),
        (Value::Element(_, element), Child::At(at)) => match element.content.get(at)? {
            Content::Element(origin, child) => Some(Value::Element(*origin, child)),
            _ => None,
        },
        (Value::Element(_, element), Child::Attribute(at)) => {
            Some(element.attributes.get(at)?.to_value())
        }
        _ => None,
    }
}

/// What is there after the outcomes at these places; the rest stays as it is.
fn with_outcomes<'a, T: Copy>(
    old: &[T],
    outcomes: impl Iterator<Item = (usize, Option<Value<'a>>)>,
    put: impl Fn(&T, Value<'a>) -> T,
) -> Few<T> {
    let mut outcomes = outcomes.peekable();
    let mut new = Few::with_capacity(old.len());
    for (at, thing) in old.iter().enumerate() {
        match outcomes.next_if(|(place, _)| *place == at) {
            None => new.push(*thing),
            Some((_, outcome)) => new.extend(outcome.map(|value| put(thing, value))),
        }
    }
    new
}
