//! Evaluation of paths (RFC 9535 sections 2.3 and 2.5).

use std::ops::ControlFlow;

use kyanite_tree::{Code, Content, Member, Value};

use super::Runner;
use crate::plan::{Expr, Filter, ManyPath, Nodes, OnePath, Selector, Start, Step, StepKind};
use crate::rule_error::{Flow, RunResult, rule_error};

impl<'a> Runner<'_, 'a> {
    /// The value that a path starts from.
    #[inline]
    pub(super) fn start(&mut self, start: &'a Start) -> RunResult<Option<Value<'a>>> {
        Ok(match start {
            Start::Root => self.root,
            Start::Current => self.current,
            Start::Global(slot) => self.names.globals[*slot],
            Start::Local(slot) => self.local(*slot),
            Start::Value(value) => self.value(value)?,
        })
    }

    /// The node that a path of names and indexes selects, or nothing.
    #[inline]
    pub(super) fn one(&mut self, path: &'a OnePath) -> RunResult<Option<Value<'a>>> {
        if let Some((member, steps)) = self.slot_path(path.id) {
            return match member {
                // Most paths lead to a slot and no further.
                Some(member) if steps == path.steps.len() => {
                    self.session.coverage.met(path.id);
                    Ok(Some(member))
                }
                Some(member) => {
                    self.session.coverage.asked(path.id);
                    self.steps(path, steps, member)
                }
                None => {
                    self.session.coverage.asked(path.id);
                    self.session.coverage.not_in_slot(path.id);
                    Ok(None)
                }
            };
        }
        let Some(start) = self.start(&path.start)? else { return Ok(None) };
        match (path.steps.as_slice(), start) {
            ([], start) => return Ok(Some(start)),
            // Most other paths lead to a member.
            ([Step { kind: StepKind::Name(name), .. }], Value::Map(_, map)) => {
                if let Some(member) = map.get(name) {
                    self.session.coverage.met(path.id);
                    return Ok(Some(member));
                }
            }
            _ => {}
        }
        self.session.coverage.asked(path.id);
        self.steps(path, 0, start)
    }

    /// The nodes that a path of names and indexes selects: in XML its last name may mean several children.
    fn one_or_several(&mut self, path: &'a OnePath) -> RunResult<Vec<Value<'a>>> {
        if self.slot_path(path.id).is_some() {
            // Members in slots are of maps, where a name means one.
            return Ok(self.one(path)?.into_iter().collect());
        }
        let Some(start) = self.start(&path.start)? else { return Ok(Vec::new()) };
        self.session.coverage.asked(path.id);
        let mut node = start;
        for (position, step) in path.steps.iter().enumerate() {
            if let Value::Element(_, element) = node
                && position + 1 == path.steps.len()
            {
                let nodes = self.in_element(step, element);
                if nodes.is_empty() {
                    self.session.coverage.missed(path.id, position, node, is_name(step));
                } else {
                    self.session.coverage.selected(path.id);
                }
                return Ok(nodes);
            }
            match self.step(step, node)? {
                Some(child) => node = child,
                None => {
                    self.session.coverage.missed(path.id, position, node, is_name(step));
                    return Ok(Vec::new());
                }
            }
        }
        self.session.coverage.selected(path.id);
        Ok(vec![node])
    }

    /// Takes the steps of `path` from step `first` on.
    pub(super) fn steps(
        &mut self,
        path: &'a OnePath,
        first: usize,
        start: Value<'a>,
    ) -> RunResult<Option<Value<'a>>> {
        let mut node = start;
        for (position, step) in (first..).zip(path.steps.get(first..).unwrap_or_default()) {
            match self.step(step, node)? {
                Some(child) => node = child,
                None => {
                    self.session.coverage.missed(path.id, position, node, is_name(step));
                    return Ok(None);
                }
            }
        }
        self.session.coverage.selected(path.id);
        Ok(Some(node))
    }

    /// The child that one step leads to.
    #[inline]
    pub(super) fn step(&mut self, step: &'a Step, node: Value<'a>) -> RunResult<Option<Value<'a>>> {
        match (&step.kind, node) {
            // Most steps.
            (StepKind::Name(name), Value::Map(_, map)) => Ok(map.get(name)),
            _ => self.any_step(step, node),
        }
    }

    fn any_step(&mut self, step: &'a Step, node: Value<'a>) -> RunResult<Option<Value<'a>>> {
        if let Value::Element(_, element) = node
            && !matches!(step.kind, StepKind::Index(_) | StepKind::Computed(_))
        {
            return self.only_in_element(step, element, node);
        }
        Ok(match self.key(step, node)? {
            Some(Key::Name(name)) => node.member(name),
            Some(Key::Index(index)) => item(node, index),
            None => None,
        })
    }

    /// The name or the index that a step means in a node.
    #[inline]
    pub(super) fn key(&mut self, step: &'a Step, node: Value<'a>) -> RunResult<Option<Key<'a>>> {
        Ok(match &step.kind {
            StepKind::Name(name) | StepKind::Qualified { name, .. } => Some(Key::Name(name)),
            StepKind::Index(index) => Some(Key::Index(*index)),
            StepKind::Token(token) => match node {
                Value::List(..) => kyanite_tree::pointer::index(token)
                    .and_then(|index| i64::try_from(index).ok())
                    .map(Key::Index),
                _ => Some(Key::Name(token)),
            },
            StepKind::Computed(computed) => Some(self.computed(computed, step, node)?),
        })
    }

    /// The text or the whole number that a computed step is.
    fn computed(&mut self, computed: &'a Expr, step: &Step, node: Value<'a>) -> RunResult<Key<'a>> {
        let key = self.value(computed)?.map(Value::simple);
        match (node, key) {
            (_, None) => Err(self.missing(computed, None, "a step needs a name or an index")),
            (Value::Map(..), Some(Value::Text(_, name) | Value::Untyped(_, name))) => {
                Ok(Key::Name(name))
            }
            (Value::List(..), Some(Value::Number(_, number))) => {
                number.as_integer().map(Key::Index).ok_or_else(|| {
                    let message = format!("the index {} is no whole number", number.as_str());
                    rule_error(Code::ValueKind, computed.span, message).about(key)
                })
            }
            (_, Some(key)) => {
                let (key_is, node_is) = (key.kind().phrase(), node.kind().phrase());
                let message = format!("{key_is} cannot step into {node_is}");
                Err(rule_error(Code::ValueKind, step.span, message)
                    .about(Some(node))
                    .advise("step with a text into a map, with a whole number into a list"))
            }
        }
    }

    /// Visits the nodes that a path selects, in the order of RFC 9535.
    pub(super) fn each(
        &mut self,
        path: &'a ManyPath,
        visit: &mut dyn FnMut(&mut Self, Value<'a>) -> RunResult<Flow>,
    ) -> RunResult<Flow> {
        let (start, steps) = match self.slot_path(path.id) {
            Some(member) => member,
            None => (self.start(&path.start)?, 0),
        };
        if steps > 0 || start.is_some() {
            self.session.coverage.asked(path.id);
        }
        match start {
            Some(start) => self.walk(path, steps, start, visit),
            None => {
                if steps > 0 {
                    self.session.coverage.not_in_slot(path.id);
                }
                Ok(ControlFlow::Continue(()))
            }
        }
    }

    /// Visits what the segments from `position` on select under `node`.
    pub(super) fn walk(
        &mut self,
        path: &'a ManyPath,
        position: usize,
        node: Value<'a>,
        visit: &mut dyn FnMut(&mut Self, Value<'a>) -> RunResult<Flow>,
    ) -> RunResult<Flow> {
        let Some(segment) = path.segments.get(position) else {
            self.session.coverage.selected(path.id);
            return visit(self, node);
        };
        let flow = self.segment(path, position, node, visit)?;
        if segment.descendant && flow.is_continue() {
            self.session.coverage.missed_below(path.id, position, node);
        }
        Ok(flow)
    }

    /// Visits what the segment at `position`, and those behind it, select under `node`.
    fn segment(
        &mut self,
        path: &'a ManyPath,
        position: usize,
        node: Value<'a>,
        visit: &mut dyn FnMut(&mut Self, Value<'a>) -> RunResult<Flow>,
    ) -> RunResult<Flow> {
        let segment = &path.segments[position];
        for selector in &segment.selectors {
            if self.select(path, position, selector, node, visit)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        if segment.descendant {
            // The descendants in document order, each with the same segment.
            for child in Children::of(node) {
                if self.segment(path, position, child, visit)?.is_break() {
                    return Ok(ControlFlow::Break(()));
                }
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    /// Visits what one selector, and the segments behind it, select under `node`.
    fn select(
        &mut self,
        path: &'a ManyPath,
        position: usize,
        selector: &'a Selector,
        node: Value<'a>,
        visit: &mut dyn FnMut(&mut Self, Value<'a>) -> RunResult<Flow>,
    ) -> RunResult<Flow> {
        let descendant = path.segments[position].descendant;
        let mut any = false;
        match selector {
            Selector::Step(step) => {
                if let (Value::Element(_, element), false) = (node, step.ranges) {
                    for child in self.in_element(step, element) {
                        any = true;
                        if self.walk(path, position + 1, child, visit)?.is_break() {
                            return Ok(ControlFlow::Break(()));
                        }
                    }
                } else if let Some(child) = self.step(step, node)? {
                    return self.walk(path, position + 1, child, visit);
                }
                if !any && !descendant {
                    self.session.coverage.missed(path.id, position, node, is_name(step));
                }
                return Ok(ControlFlow::Continue(()));
            }
            Selector::Wildcard => {
                for child in Children::of(node) {
                    any = true;
                    if self.walk(path, position + 1, child, visit)?.is_break() {
                        return Ok(ControlFlow::Break(()));
                    }
                }
            }
            Selector::Slice { start, end, step } => {
                let items = node.as_list().unwrap_or_default();
                for index in slice(items.len(), *start, *end, *step) {
                    any = true;
                    if self.walk(path, position + 1, items[index], visit)?.is_break() {
                        return Ok(ControlFlow::Break(()));
                    }
                }
            }
            Selector::Filter(filter) => {
                // Of a join only those that may fit are asked.
                let children = match self.indexed(filter, node)? {
                    Some(candidates) => Children::Chosen(candidates.into_iter()),
                    None => Children::of(node),
                };
                for child in children {
                    if !self.test(filter, child)? {
                        continue;
                    }
                    any = true;
                    if self.walk(path, position + 1, child, visit)?.is_break() {
                        return Ok(ControlFlow::Break(()));
                    }
                }
            }
        }
        if !any && !descendant {
            self.session.coverage.missed(path.id, position, node, false);
        }
        Ok(ControlFlow::Continue(()))
    }

    /// Whether a filter holds for `node`.
    pub(super) fn test(&mut self, filter: &'a Filter, node: Value<'a>) -> RunResult<bool> {
        let outer = self.current.replace(node);
        let holds = self.truth(&filter.condition);
        self.current = outer;
        let holds = holds?;
        self.session.coverage.tested(filter.test, holds);
        Ok(holds)
    }

    /// The nodes of a path as a list value.
    pub(super) fn collect(&mut self, path: &'a ManyPath) -> RunResult<Value<'a>> {
        let mut nodes = Vec::new();
        let _ = self.each(path, &mut |_, node| {
            nodes.push(node);
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(self.arena.list(&nodes))
    }

    /// How many nodes a path selects, up to `most`, and the first of them.
    pub(super) fn count(
        &mut self,
        nodes: &'a Nodes,
        most: usize,
    ) -> RunResult<(usize, Option<Value<'a>>)> {
        match nodes {
            Nodes::One(path) => {
                let nodes = self.one_or_several(path)?;
                Ok((nodes.len(), nodes.first().copied()))
            }
            Nodes::Many(path) => {
                let (mut count, mut first) = (0, None);
                let _ = self.each(path, &mut |runner, node| {
                    runner.contribute(node);
                    count += 1;
                    first = first.or(Some(node));
                    Ok(if count >= most {
                        ControlFlow::Break(())
                    } else {
                        ControlFlow::Continue(())
                    })
                })?;
                Ok((count, first))
            }
        }
    }
}

pub(super) fn is_name(step: &Step) -> bool {
    matches!(step.kind, StepKind::Name(_) | StepKind::Qualified { .. })
}

/// What a step leads to in maps and lists.
#[derive(Clone, Copy)]
pub(super) enum Key<'a> {
    Name(&'a str),
    Index(i64),
}

/// The item at an index, which counts from the end when negative.
fn item(node: Value<'_>, index: i64) -> Option<Value<'_>> {
    let Value::List(_, items) = node else { return None };
    items.get(from_end(index, items.len())?).copied()
}

/// The position that an index means among `length` items, if there is one; it counts from the end when negative.
pub(super) fn from_end(index: i64, length: usize) -> Option<usize> {
    let index = if index < 0 { index.checked_add_unsigned(length as u64)? } else { index };
    usize::try_from(index).ok().filter(|index| *index < length)
}

/// The items of a list, the values of a map, the child elements of an element.
enum Children<'a> {
    Items(std::slice::Iter<'a, Value<'a>>),
    Members(std::slice::Iter<'a, Member<'a>>),
    Nodes(std::slice::Iter<'a, Content<'a>>),
    /// Some of the items of a list.
    Chosen(std::vec::IntoIter<Value<'a>>),
}

impl<'a> Children<'a> {
    fn of(node: Value<'a>) -> Self {
        match node {
            Value::List(_, items) => Self::Items(items.iter()),
            Value::Map(_, map) => Self::Members(map.members().iter()),
            Value::Element(_, element) => Self::Nodes(element.content.iter()),
            _ => Self::Items([].iter()),
        }
    }
}

impl<'a> Iterator for Children<'a> {
    type Item = Value<'a>;

    #[inline]
    fn next(&mut self) -> Option<Value<'a>> {
        match self {
            Self::Items(items) => items.next().copied(),
            Self::Chosen(chosen) => chosen.next(),
            Self::Members(members) => members.next().map(|member| member.value),
            Self::Nodes(nodes) => nodes.find_map(|node| match node {
                Content::Element(origin, element) => Some(Value::Element(*origin, element)),
                _ => None,
            }),
        }
    }
}

/// The indexes of a slice over `length` items (RFC 9535 section 2.3.4.2.2).
pub(super) fn slice(
    length: usize,
    start: Option<i64>,
    end: Option<i64>,
    step: i64,
) -> impl Iterator<Item = usize> {
    let length = length as i64;
    let from_end = |index: i64| if index >= 0 { index } else { length + index };
    let (first, stop) = if step >= 0 {
        let lower = from_end(start.unwrap_or(0)).clamp(0, length);
        let upper = from_end(end.unwrap_or(length)).clamp(0, length);
        (lower, upper)
    } else {
        let upper = from_end(start.unwrap_or(length - 1)).clamp(-1, length - 1);
        let lower = end.map_or(-1, |end| from_end(end).clamp(-1, length - 1));
        (upper, lower)
    };
    let mut next = first;
    std::iter::from_fn(move || {
        let more = if step > 0 { next < stop } else { step < 0 && next > stop };
        let index = usize::try_from(next).ok()?;
        next += step;
        more.then_some(index)
    })
}
