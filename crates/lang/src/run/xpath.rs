//! XPaths that are evaluated for records.

use kyanite_eval::atomic::Atomic;
use kyanite_tree::{Nodes, Value};
use kyanite_xpath::{Context, Expression, Item, Sequence, Store, item_value};

use super::{Flow, Ran, Runner};
use crate::xpath::xpath_failure;

impl<'a> Runner<'_, 'a> {
    /// What an XPath gives for a record.
    pub(super) fn xpath_record(
        &mut self,
        expression: &'a Expression,
        record: Value<'a>,
        emit: &mut dyn FnMut(Option<Value<'a>>) -> Flow,
    ) -> Ran<Flow> {
        let store = Store::new(self.arena);
        let root = store.keep(Nodes::of(record));
        let Some(element) = root.children().next() else { return Ok(Flow::Continue(())) };
        let variables = self.xpath_variables();
        let context = Context { variables, ..Context::of(Item::Node(element)) };
        let watch = self.session.watch.xpath_mut(expression);
        let found = expression.evaluate(&context, &store, watch);
        let found = found.and_then(|found| {
            let items = found.items().iter();
            items.map(|item| item_value(item, self.arena)).collect::<Result<Vec<_>, _>>()
        });
        let values: Vec<Value<'a>> = match found {
            Ok(values) => values.into_iter().map(|value| self.arena.copy_read(value)).collect(),
            Err(error) => return Err(xpath_failure(&error)),
        };
        for value in values {
            if emit(Some(value)).is_break() {
                return Ok(Flow::Break(()));
            }
        }
        Ok(Flow::Continue(()))
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
