//! XPaths that are evaluated for records, and those in rules.

use std::rc::Rc;

use kyanite_eval::atomic::Atomic;
use kyanite_tree::{Arena, Element, Nodes, Value};
use kyanite_xpath::{Context, Error, Expression, Item, NoDocuments, Sequence, Store, item_value};

use super::Runner;
use crate::plan::XPathCall;
use crate::rule_error::{Flow, RunResult};
use crate::xpath::xpath_failure;

impl<'a> Runner<'_, 'a> {
    /// What an XPath gives for a record.
    pub(super) fn xpath_record(
        &mut self,
        expression: &'a Expression,
        record: Value<'a>,
        emit: &mut dyn FnMut(Option<Value<'a>>) -> Flow,
    ) -> RunResult<Flow> {
        let nodes = match self.spare_nodes.take() {
            Some(spare) => spare.refilled_within(record, &self.around),
            None if self.around.is_empty() => Nodes::of(record),
            None => Nodes::of(Value::NULL).refilled_within(record, &self.around),
        };
        let values = self.xpath_values(expression, &nodes);
        self.spare_nodes = Some(nodes);
        for value in values? {
            if emit(Some(value)).is_break() {
                return Ok(Flow::Break(()));
            }
        }
        Ok(Flow::Continue(()))
    }

    /// What an XPath gives for the element of a table that is within those that are around it.
    fn xpath_values(
        &self,
        expression: &'a Expression,
        nodes: &Nodes<'a>,
    ) -> RunResult<Vec<Value<'a>>> {
        let outer = (0..self.around.len()).try_fold(nodes.root(), |node, _| node.children().next());
        let Some(element) = outer.and_then(|node| node.children().next()) else {
            return Ok(Vec::new());
        };
        let Some(coverage) = self.session.coverage.xpath(0) else { return Ok(Vec::new()) };
        let store = Store::new(self.arena);
        let variables = self.xpath_variables();
        let context = Context { variables, ..Context::of(Item::Node(element)) };
        let found = match self.holds {
            true => expression.evaluate_fitting(&context, &store, coverage),
            false => expression.evaluate(&context, &store, coverage),
        };
        found.and_then(|found| values_of(&found, self.arena)).map_err(|error| xpath_failure(&error))
    }

    /// What a call of xpath() gives: a list or, of an expression that gives one item at most, that.
    pub(super) fn xpath_call(&mut self, call: &'a XPathCall) -> RunResult<Option<Value<'a>>> {
        let plan = self.plan;
        let xpath = &plan.xpaths[call.number];
        let value = self.value(&call.value)?;
        let slots = call.variables.iter().map(|(slot, _)| slot + 1).max().unwrap_or(0);
        let mut variables = vec![Sequence::Empty; slots];
        for (slot, value) in &call.variables {
            variables[*slot] = self.value(value)?.map_or(Sequence::Empty, variable);
        }
        let nodes = value.and_then(|value| self.nodes_of(value));
        let item = match (&nodes, value) {
            (Some(nodes), Some(Value::Element(_, element))) => {
                let root = nodes.root();
                let inner = if element.is_document() { Some(root) } else { root.children().next() };
                inner.map(Item::Node)
            }
            (_, None | Some(Value::Null(_))) => None,
            (_, Some(value)) => Some(Item::Value(value)),
        };
        let gives_one = xpath.expression.gives_one();
        if item.is_none() && xpath.expression.uses_context() {
            return Ok((!gives_one).then(|| self.arena.list(&[])));
        }
        let store = Store::new(self.arena);
        let context = Context { item, variables, documents: &NoDocuments, now: None, zone: 0 };
        let Some(coverage) = self.session.coverage.xpath(call.number) else { return Ok(None) };
        let found = xpath.expression.evaluate(&context, &store, coverage);
        let values = found.and_then(|found| values_of(&found, self.arena));
        let values = values.map_err(|error| xpath.rule_error(&error))?;
        match values.as_slice() {
            [] if gives_one => Ok(None),
            [one] if gives_one => Ok(Some(*one)),
            values => Ok(Some(self.arena.list(values))),
        }
    }

    /// The nodes of an element, which are kept: the next call is often about the same.
    fn nodes_of(&mut self, value: Value<'a>) -> Option<Rc<Nodes<'a>>> {
        /// The elements whose nodes are kept.
        const KEPT: usize = 4;
        let element: &'a Element<'a> = value.as_element()?;
        let is_it = |(known, _): &&(&'a Element<'a>, Rc<Nodes<'a>>)| std::ptr::eq(*known, element);
        if let Some((_, nodes)) = self.nodes.iter().find(is_it) {
            return Some(Rc::clone(nodes));
        }
        let nodes = Rc::new(Nodes::of(value));
        if self.nodes.len() >= KEPT {
            self.nodes.remove(0);
        }
        self.nodes.push((element, Rc::clone(&nodes)));
        Some(nodes)
    }

    /// The values of the variables: params are text without a type.
    fn xpath_variables<'v>(&self) -> Vec<Sequence<'v>>
    where
        'a: 'v,
    {
        let slots = self.plan.params.iter().map(|param| param.slot + 1).max().unwrap_or(0);
        (0..slots)
            .map(|slot| match self.names.global(slot).and_then(Value::as_text) {
                Some(text) => Sequence::atomic(Atomic::untyped(text)),
                None => Sequence::Empty,
            })
            .collect()
    }
}

/// What was found, as values that outlive the documents that it is in; they keep their places.
fn values_of<'a: 'd, 'd>(found: &Sequence<'d>, arena: &'a Arena) -> Result<Vec<Value<'a>>, Error> {
    let items = found.items().iter();
    items.map(|item| item_value(item, arena).map(|value| arena.copy_read(value))).collect()
}

/// A value as that of a variable: a list is the sequence of its items, an element is a document of its own.
fn variable(value: Value<'_>) -> Sequence<'_> {
    match value {
        Value::List(_, items) => {
            items.iter().flat_map(|item| Sequence::of_value(*item).into_items()).collect()
        }
        other => Sequence::of_value(other),
    }
}
