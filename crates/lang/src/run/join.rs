//! Joins: an equality between an inner list and an outer value is answered from an index, built once.
//!
//! The index only says which items may fit; the condition itself is still asked of each of them, so that the result is that
//! of a scan.

use std::collections::HashMap;
use std::ops::ControlFlow;

use kyanite_tree::{Decimal, Key, Value};

use super::{Flow, Ran, Runner};
use crate::plan::{Expr, Filter, ForSource, Join, Kind};
use crate::syntax::ast::Binary;

/// Lists shorter than this are scanned.
const SHORT: usize = 8;

/// The items of a list by what an expression gives for them.
#[derive(Default)]
pub(super) struct Index<'a> {
    pub(super) items: Vec<Value<'a>>,
    by_key: HashMap<Key, Vec<u32>>,
    /// Those for which it gives nothing.
    absent: Vec<u32>,
}

impl<'a> Index<'a> {
    fn add(&mut self, position: usize, value: Option<Value<'a>>) {
        // Past 4 thousand million items nothing fits in memory.
        let position = position as u32;
        match value.map(Value::simple) {
            None => self.absent.push(position),
            Some(value) => {
                self.by_key.entry(Key::of(value)).or_default().push(position);
                if let Some(number) = spelled(value) {
                    self.by_key.entry(number).or_default().push(position);
                }
            }
        }
    }

    /// The positions of the items that may equal `value`, in order.
    pub(super) fn find(&self, value: Option<Value<'a>>) -> Vec<u32> {
        let Some(value) = value.map(Value::simple) else { return self.absent.clone() };
        let of = |key: &Key| self.by_key.get(key).map(Vec::as_slice).unwrap_or_default();
        let mut found = of(&Key::of(value)).to_vec();
        if let Some(number) = spelled(value) {
            found.extend_from_slice(of(&number));
            found.sort_unstable();
            found.dedup();
        }
        found
    }
}

/// The key of the number that untyped text spells: it is equal to that number, too.
fn spelled(value: Value<'_>) -> Option<Key> {
    let Value::Untyped(_, text) = value else { return None };
    let arena = kyanite_tree::Arena::new();
    Some(Key::of(arena.number(&Decimal::spelled(text)?)))
}

/// The two sides of the equality that a join goes by: of the inner item, and of the outer value.
pub(super) fn sides<'p>(condition: &'p Expr, join: &Join) -> Option<(&'p Expr, &'p Expr)> {
    let mut conjuncts = Vec::new();
    and_parts(condition, &mut conjuncts);
    match &conjuncts.get(join.part)?.kind {
        Kind::Binary(Binary::Equal, left, right) if join.inner_is_left => Some((left, right)),
        Kind::Binary(Binary::Equal, left, right) => Some((right, left)),
        _ => None,
    }
}

/// The parts of a condition that all have to hold.
pub(crate) fn and_parts<'p>(condition: &'p Expr, parts: &mut Vec<&'p Expr>) {
    match &condition.kind {
        Kind::Binary(Binary::And, left, right) => {
            and_parts(left, parts);
            and_parts(right, parts);
        }
        _ => parts.push(condition),
    }
}

impl<'a> Runner<'_, 'a> {
    /// The items of a filtered list that may fit, or nothing when all have to be asked.
    pub(super) fn indexed(
        &mut self,
        filter: &'a Filter,
        node: Value<'a>,
    ) -> Ran<Option<Vec<Value<'a>>>> {
        let Some(join) = &filter.join else { return Ok(None) };
        let Value::List(_, items) = node else { return Ok(None) };
        if items.len() < SHORT {
            return Ok(None);
        }
        let Some((inner, outer)) = sides(&filter.condition, join) else { return Ok(None) };
        let wanted = self.value(outer)?;
        let id = (items.as_ptr() as usize, filter.test);
        if !self.indexes.contains_key(&id) {
            let mut index = Index::default();
            for (position, item) in items.iter().enumerate() {
                let current = self.current.replace(*item);
                let value = self.value(inner);
                self.current = current;
                index.add(position, value?);
            }
            self.indexes.insert(id, index);
        }
        let found = self.indexes.get(&id).map(|index| index.find(wanted)).unwrap_or_default();
        self.tell_absent(outer, wanted, &found);
        Ok(Some(found.into_iter().filter_map(|at| items.get(at as usize).copied()).collect()))
    }

    /// Nothing equals nothing, which is seldom what a join is meant to pair.
    fn tell_absent(&self, outer: &Expr, wanted: Option<Value<'a>>, found: &[u32]) {
        if wanted.is_none() && !found.is_empty() {
            let words = self.plan.rule.slice(outer.span);
            let message = format!(
                "a join pairs items that have no value with `{words}`, which is not there either; \
                 write present({words}) && … before it"
            );
            self.session.watch.note(&message);
        }
    }

    /// Gives the items of a `for` that may fit the `where` behind it to `turn`, in order.
    pub(super) fn joined(
        &mut self,
        slot: usize,
        source: &'a ForSource,
        join: &'a Join,
        condition: &'a Expr,
        turn: &mut dyn FnMut(&mut Self, Value<'a>) -> Ran<Flow>,
    ) -> Ran<Option<Flow>> {
        let Some((inner, outer)) = sides(condition, join) else { return Ok(None) };
        let id = (std::ptr::from_ref(condition) as usize, usize::MAX);
        if !self.indexes.contains_key(&id) {
            let mut index = Index::default();
            match source {
                ForSource::Nodes(path) => {
                    let _ = self.each(path, &mut |_, node| {
                        index.items.push(node);
                        Ok(ControlFlow::Continue(()))
                    })?;
                }
                ForSource::List(list) => index.items.extend_from_slice(self.items(list)?),
            }
            for position in 0..index.items.len() {
                self.set_local(slot, Some(index.items[position]));
                let value = self.value(inner)?;
                index.add(position, value);
            }
            self.indexes.insert(id, index);
        }
        let wanted = self.value(outer)?;
        let found = self.indexes.get(&id).map(|index| index.find(wanted)).unwrap_or_default();
        self.tell_absent(outer, wanted, &found);
        let found: Vec<Value<'a>> = self.indexes.get(&id).map_or_else(Vec::new, |index| {
            found.into_iter().map(|at| index.items[at as usize]).collect()
        });
        for item in found {
            if turn(self, item)?.is_break() {
                return Ok(Some(ControlFlow::Break(())));
            }
        }
        Ok(Some(ControlFlow::Continue(())))
    }
}
