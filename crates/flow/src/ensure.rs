//! Checks results against schemas; a result that breaks one is not written.

use std::ops::ControlFlow;

use kyanite_formats::json as json_format;
use kyanite_formats::losses::{Loss, Losses};
use kyanite_formats::record_view::{RecordShape, View};
use kyanite_lang::{Flow, Plan, Trace, Written};
use kyanite_schema::json::Schema;
use kyanite_tree::{Arena, Base, Code, Diagnostic, Location, Origin, Place, Region, Step, Value};

use crate::Sink;
use crate::output::Aside;
use crate::part::Part;
use crate::run::DocumentText;
use crate::trace::numbered;
use crate::validate::Schemas;

/// The number of a value of a result that is looked at.
const RESULT: Base = Base::of(Region::Result);

/// Hands results on that keep to schemas.
pub struct Ensured<'k, 's> {
    sink: &'k mut dyn Sink,
    schemas: Option<&'k Schemas<'s>>,
    plan: &'k Plan,
    /// Where each item is a document of its own; otherwise all items are one.
    by_item: bool,
    /// Items that are one document, until all are there.
    arena: &'k Arena,
    held: Vec<Value<'k>>,
    /// Where items go that break a schema.
    aside: Option<&'k mut Aside>,
    /// How many went there.
    skipped: u64,
    number: usize,
    /// What is wrong, with the values that were read whose places are not known yet.
    waiting: Vec<(Diagnostic, Option<Origin>, Option<Place>)>,
    /// All that is wrong.
    findings: Vec<Diagnostic>,
    /// Whether a result broke a schema that could not be set aside.
    has_failed: bool,
}

/// So many findings are kept of items that are set aside.
const KEPT: usize = 1_000;

impl<'k, 's> Ensured<'k, 's> {
    /// Results of a plan go on to `sink`, all of them where there are no schemas. Where results are records, `by_item`, those that break a schema go to `aside`, if that
    /// is there.
    pub fn new(
        sink: &'k mut dyn Sink,
        schemas: Option<&'k Schemas<'s>>,
        plan: &'k Plan,
        (by_item, arena): (bool, &'k Arena),
        aside: Option<&'k mut Aside>,
    ) -> Self {
        Self {
            sink,
            schemas,
            plan,
            by_item,
            arena,
            held: Vec::new(),
            aside,
            skipped: 0,
            number: 0,
            waiting: Vec::new(),
            findings: Vec::new(),
            has_failed: false,
        }
    }

    /// Whether a value keeps to all schemas; what is wrong with it waits to be placed.
    fn keeps(&mut self, value: Value<'_>, item: Option<usize>) -> bool {
        let Some(schemas) = self.schemas else { return true };
        if allow(schemas.json(), value) {
            return true;
        }
        let scratch = Arena::new();
        let value = as_record(value, &scratch);
        // Values that were computed have no places, so each gets a number to be found by.
        let mut all = Vec::new();
        let looked_at =
            numbered(value, &Trace::default(), Origin::NONE, &mut Vec::new(), &scratch, &mut all);
        for schema in schemas.json() {
            for found in schema.validate(looked_at) {
                let number = RESULT.offset(found.origin);
                let Some(there) = all.get(number) else { continue };
                let steps = there.location.steps();
                let of_item = match (item, steps.first()) {
                    (None, Some(Step::Index(_)))
                        if self.plan.result_shape() == kyanite_lang::ResultShape::Items =>
                    {
                        &steps[1..]
                    }
                    _ => steps,
                };
                let rule = self.plan.rule().place(self.plan.maker(of_item));
                let location = match item {
                    Some(number) => Location::new(steps.to_vec()).within(Step::Index(number)),
                    None => Location::new(steps.to_vec()),
                };
                let message = format!(
                    "the result breaks its schema at {}: {}",
                    location.readable(),
                    found.message
                );
                let diagnostic = match self.aside {
                    Some(_) if item.is_some() => Diagnostic::warning(Code::NotValid, message),
                    _ => Diagnostic::error(Code::NotValid, message),
                };
                let diagnostic = diagnostic.at(rule).advise_opt(found.advice);
                // Of a value that was computed what stands beside it tells the record that it comes from.
                let around = all[..=number]
                    .iter()
                    .rev()
                    .filter(|other| steps.starts_with(other.location.steps()));
                let read = around.filter_map(|other| origin_of(other.value)).next();
                let schema = schemas.place(found.rule.origin);
                self.waiting.push((diagnostic, read, schema));
            }
        }
        false
    }

    /// Places what waits, as far as that can be.
    fn settle(&mut self, find: &dyn Fn(Origin) -> Option<Place>) {
        for (diagnostic, origin, schema) in self.waiting.drain(..) {
            if self.findings.len() < KEPT {
                let read = origin.and_then(find);
                self.findings.push(diagnostic.at_opt(read).at_opt(schema));
            }
        }
    }

    /// All that is wrong, once the run is over.
    pub fn finish(mut self) -> (Vec<Diagnostic>, u64, bool) {
        self.settle(&|_| None);
        (self.findings, self.skipped, self.has_failed)
    }
}

/// Whether a value keeps to schemas; an element as its record.
pub(crate) fn allow(schemas: &[Schema<'_>], value: Value<'_>) -> bool {
    let scratch = Arena::new();
    let value = as_record(value, &scratch);
    schemas.iter().all(|schema| schema.is_valid(value))
}

fn as_record<'a>(value: Value<'a>, arena: &'a Arena) -> Value<'a> {
    match value {
        Value::Element(..) => View::new(&RecordShape::default(), true).record(value, arena),
        other => other,
    }
}

/// Where a value was read, or the first of those in it that were.
fn origin_of(value: Value<'_>) -> Option<Origin> {
    let mut left = vec![value];
    while let Some(value) = left.pop() {
        let origin = value.origin();
        if origin.is_known() && origin.region() != Some(Region::Result) {
            return Some(origin);
        }
        match value {
            Value::List(_, items) => left.extend(items.iter().rev()),
            Value::Map(_, map) => {
                left.extend(map.members().iter().rev().map(|member| member.value))
            }
            _ => {}
        }
    }
    None
}

impl Sink for Ensured<'_, '_> {
    fn item(&mut self, value: Value<'_>) -> Flow {
        if self.schemas.is_none() {
            return self.sink.item(value);
        }
        if !self.by_item {
            self.held.push(self.arena.copy_read(value));
            return ControlFlow::Continue(());
        }
        let number = self.number;
        self.number += 1;
        if self.keeps(value, Some(number)) {
            return self.sink.item(value);
        }
        let Some(aside) = &mut self.aside else {
            self.has_failed = true;
            return ControlFlow::Break(());
        };
        self.skipped += 1;
        let mut line = Vec::new();
        json_format::write(value, json_format::Style::Compact, &mut line);
        line.push(b'\n');
        if !aside.put(&line) {
            self.has_failed = true;
            return ControlFlow::Break(());
        }
        ControlFlow::Continue(())
    }

    fn single(&mut self, value: Option<Value<'_>>) -> Flow {
        if let Some(found) = value
            && !self.keeps(found, None)
        {
            self.has_failed = true;
            return ControlFlow::Break(());
        }
        self.sink.single(value)
    }

    fn document(&mut self, document: DocumentText<'_>) -> bool {
        self.schemas.is_none() && self.sink.document(document)
    }

    fn end_items(&mut self) {
        if self.has_failed {
            return;
        }
        if !self.by_item && self.schemas.is_some() {
            let held = std::mem::take(&mut self.held);
            let list = self.arena.list(&held);
            if !self.keeps(list, None) {
                self.has_failed = true;
                return;
            }
            for item in held {
                if self.sink.item(item).is_break() {
                    return;
                }
            }
        }
        self.sink.end_items();
    }

    fn pause(&mut self) {
        self.sink.pause();
    }

    fn is_closed(&self) -> bool {
        self.has_failed || self.sink.is_closed()
    }

    fn written(&self) -> Written {
        match self.schemas {
            None => self.sink.written(),
            Some(_) => Written::Values,
        }
    }

    fn part(&self) -> Option<Part> {
        match (self.schemas, self.by_item) {
            (None, _) => self.sink.part(),
            // What keeps to the schemas is taken as it comes; the rest is looked at in its order.
            (Some(_), true) => self.sink.part().map(Part::ensuring),
            (Some(_), false) => None,
        }
    }

    fn join(&mut self, part: &mut Part) -> Flow {
        self.number += part.items as usize;
        self.sink.join(part)
    }

    fn expect_elements(&mut self) {
        self.sink.expect_elements();
    }

    fn expect_foreign_types(&mut self) {
        self.sink.expect_foreign_types();
    }

    fn expect_columns(&mut self, columns: &[&str]) {
        self.sink.expect_columns(columns);
    }

    fn take_losses(&mut self) -> Vec<(Loss, Origin)> {
        self.sink.take_losses()
    }

    fn add_losses(&mut self, losses: &Losses) {
        self.sink.add_losses(losses);
    }

    fn waits_for_places(&self) -> bool {
        !self.waiting.is_empty() || self.sink.waits_for_places()
    }

    fn place_failure(&mut self, find: &dyn Fn(Origin) -> Option<Place>) {
        self.settle(find);
        self.sink.place_failure(find);
    }
}
