//! Joins: an equality between an inner list and an outer value is answered from an index, built once.
//!
//! The index only says which items may fit; the condition itself is still asked of each of them, so that the result is that
//! of a scan.

use std::ops::ControlFlow;
use std::sync::{Arc, PoisonError};

use kyanite_tree::Value;

use super::Runner;
use super::index::{Index, SHORT};
use crate::functions::Remarks;
use crate::plan::{Expr, Filter, ForSource, Join, Kind, Segment, Selector, Start};
use crate::rule_error::{Flow, RunResult};
use crate::syntax::ast::Binary;
use crate::visit::and_parts;

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

impl<'a> Runner<'_, 'a> {
    /// The items of a filtered list that may fit, or None when all have to be asked.
    pub(super) fn indexed(
        &mut self,
        filter: &'a Filter,
        node: Value<'a>,
    ) -> RunResult<Option<Vec<Value<'a>>>> {
        let Some(join) = &filter.join else { return Ok(None) };
        let Value::List(_, items) = node else { return Ok(None) };
        if items.len() < SHORT {
            return Ok(None);
        }
        let Some((inner, outer)) = sides(&filter.condition, join) else { return Ok(None) };
        let wanted = self.value(outer)?;
        let id = (items.as_ptr() as usize, filter.test);
        let index = self.index(id, items, &mut |runner, item| {
            let current = runner.current.replace(item);
            let value = runner.value(inner);
            runner.current = current;
            value
        })?;
        let found = index.find(wanted);
        self.tell_absent(outer, wanted, &found);
        Ok(Some(found.into_iter().filter_map(|at| items.get(at as usize).copied()).collect()))
    }

    /// The index over a list: each is built once and, over a list that lasts for the whole run, also for the batches of
    /// records that follow.
    fn index(
        &mut self,
        id: (usize, usize),
        items: &'a [Value<'a>],
        key: &mut dyn FnMut(&mut Self, Value<'a>) -> RunResult<Option<Value<'a>>>,
    ) -> RunResult<Arc<Index>> {
        if let Some(index) = self.indexes.get(&id) {
            return Ok(Arc::clone(index));
        }
        let lasts = self.names.globals.iter().flatten().any(|global| {
            matches!(global, Value::List(_, list) if std::ptr::eq(list.as_ptr(), items.as_ptr()))
        });
        let joins = Arc::clone(&self.names.joins);
        let shared = || joins.lock().unwrap_or_else(PoisonError::into_inner);
        let known = if lasts { shared().get(&id).cloned() } else { None };
        let index = match known {
            Some(index) => index,
            None => {
                let mut index = Index::default();
                for (position, item) in items.iter().enumerate() {
                    index.add(position, key(self, *item)?);
                }
                let index = Arc::new(index);
                if lasts {
                    shared().insert(id, Arc::clone(&index));
                }
                index
            }
        };
        self.indexes.insert(id, Arc::clone(&index));
        Ok(index)
    }

    /// The items that a `for` of a join goes through, which are the same in each tuple.
    fn fixed_items(
        &mut self,
        condition: usize,
        source: &'a ForSource,
    ) -> RunResult<&'a [Value<'a>]> {
        let path = match source {
            ForSource::List(list) => return self.items(list),
            ForSource::Nodes(path) => path,
        };
        // All items of a list that has a name are just that list.
        if let (Start::Global(slot), [Segment { descendant: false, selectors }]) =
            (&path.start, path.segments.as_slice())
            && let [Selector::Wildcard] = selectors.as_slice()
            && let Some(Value::List(_, items)) = self.names.globals[*slot]
        {
            self.session.coverage.asked(path.id);
            if !items.is_empty() {
                self.session.coverage.selected(path.id);
                return Ok(items);
            }
        }
        if let Some(items) = self.fixed.get(&condition) {
            return Ok(items);
        }
        let mut nodes = Vec::new();
        let _ = self.each(path, &mut |_, node| {
            nodes.push(node);
            Ok(ControlFlow::Continue(()))
        })?;
        let items = self.arena.items(&nodes);
        self.fixed.insert(condition, items);
        Ok(items)
    }

    /// Nothing equals nothing, which is seldom what a join is meant to pair.
    fn tell_absent(&self, outer: &Expr, wanted: Option<Value<'a>>, found: &[u32]) {
        if wanted.is_none() && !found.is_empty() {
            let words = self.plan.rule.slice(outer.span);
            let message = format!(
                "a join pairs items that have no value with `{words}`, which is not there either; \
                 write present({words}) && … before it"
            );
            self.session.coverage.note(&message);
        }
    }

    /// Gives the items of a `for` that may fit the `where` behind it to `tuple`, in order.
    pub(super) fn joined(
        &mut self,
        slot: usize,
        source: &'a ForSource,
        join: &'a Join,
        condition: &'a Expr,
        tuple: &mut dyn FnMut(&mut Self, Value<'a>) -> RunResult<Flow>,
    ) -> RunResult<Option<Flow>> {
        let Some((inner, outer)) = sides(condition, join) else { return Ok(None) };
        let address = std::ptr::from_ref(condition) as usize;
        let items = self.fixed_items(address, source)?;
        let index = self.index((address, usize::MAX), items, &mut |runner, item| {
            runner.set_local(slot, Some(item));
            runner.value(inner)
        })?;
        let wanted = self.value(outer)?;
        let found = index.find(wanted);
        self.tell_absent(outer, wanted, &found);
        let found = found.into_iter().filter_map(|at| items.get(at as usize).copied());
        for item in found {
            if tuple(self, item)?.is_break() {
                return Ok(Some(ControlFlow::Break(())));
            }
        }
        Ok(Some(ControlFlow::Continue(())))
    }
}
