//! Builds the values of records that follow a [template](super::templates). Which lists, maps and names a record has, and what of
//! them the projection keeps, was learned from the first one; only scalars are filled in.

use kyanite_tree::{Map, Member, Number, Origin, ScalarKind, ScalarSpan, Value};

use super::error::ReadError;
use super::part::PartStructure;
use super::read::Reader;
use super::string::unescape;
use super::templates::Templates;
use super::walk::{Step, Walk};
use crate::projection::{Projected, Projection};
use crate::templates::Followed;

/// What is known of records so far of which the same is needed.
#[derive(Debug, Default)]
pub struct ValueTemplates {
    templates: Templates,
    /// How the values of each template are built; `None` where these have to be read.
    plans: Vec<Option<Box<[Step]>>>,
    /// Whether only a part of records is needed, and not all.
    are_parts: bool,
}

impl ValueTemplates {
    /// None, and no search for any.
    #[must_use]
    pub fn unused() -> Self {
        Self { templates: Templates::unused(), ..Self::default() }
    }

    /// How many records followed one since this was last asked.
    pub fn take_followed(&mut self) -> u64 {
        self.templates.take_followed()
    }
}

/// A list or map under way: where its children begin among all, and where it begins in the text.
#[derive(Clone, Copy, Debug)]
pub(super) struct Begun {
    is_map: bool,
    first: usize,
    origin: Origin,
}

impl<'a> Reader<'a> {
    /// The same reader, building of each value only what is needed, by the templates of records before of which the same was needed.
    /// Members that are not needed are not in the maps, and items that are not needed are null; their grammar is checked all the same.
    /// Whatever cannot be told so is read whole: where a map has a name twice, say.
    #[must_use]
    pub fn with_templates(
        mut self,
        known: &'a mut ValueTemplates,
        projection: Option<&'a Projection>,
    ) -> Self {
        self.projection = projection;
        if known.are_parts != self.projection.is_some() && !known.plans.is_empty() {
            *known = ValueTemplates::default();
        }
        known.are_parts = self.projection.is_some();
        self.known = Some(known);
        self
    }

    /// The next value, built where it can be.
    #[inline]
    pub(super) fn built_or_read(&mut self) -> Result<Value<'a>, ReadError> {
        if self.known.is_some() {
            let start = self.at;
            if let Some(value) = self.built() {
                return Ok(value);
            }
            self.forget_open();
            self.at = start;
        }
        self.whole_value()
    }

    /// The record at this byte, if it follows a template, or can be read by its events.
    pub(super) fn built(&mut self) -> Option<Value<'a>> {
        let known = self.known.take()?;
        let (start, mut scalars) = (self.at, std::mem::take(&mut self.scalars));
        let followed = match known.templates.are_useful() {
            true => known.templates.follow(self.text, start, &mut scalars),
            false => None,
        };
        let built = match followed {
            Some(Followed { template, end }) => known.plans[template]
                .as_deref()
                .and_then(|plan| self.build(start, plan, &scalars))
                .map(|value| (value, end)),
            None => {
                let mut part = std::mem::take(&mut self.part);
                let built = self.built_by_events(start, known, &mut part);
                self.part = part;
                built
            }
        };
        self.scalars = scalars;
        self.known = Some(known);
        let (value, end) = built?;
        self.at = end;
        Some(value)
    }

    fn built_by_events(
        &mut self,
        start: usize,
        known: &mut ValueTemplates,
        part: &mut PartStructure,
    ) -> Option<(Value<'a>, usize)> {
        let (events, before) = part.events(self.text, start)?;
        let found = std::mem::take(&mut self.found);
        let walk = Walk::new(events, start - before, (self.projection, self.options.depth));
        let mut walk = walk.reusing(found);
        let plan = walk.value(Some(self.projection.map_or(Projected::ALL, Projection::of_record)));
        let (mut events, mut found) = walk.end();
        let end = before + events.end()?;
        if known.templates.are_useful()
            && let Some(template) = known.templates.learn(&mut events, start - before)
        {
            if known.plans.len() <= template {
                known.plans.resize(template + 1, None);
            }
            known.plans[template] = plan.map(|()| found.steps.as_slice().into());
        }
        plan?;
        found.scalars.iter_mut().for_each(|scalar| *scalar = scalar.behind(before));
        let value = self.build(start, &found.steps, &found.scalars);
        self.found = found;
        Some((value?, end))
    }

    /// Builds the value of the record that begins at a byte and has these scalars, or a part of it.
    pub(super) fn build(
        &mut self,
        start: usize,
        plan: &[Step],
        scalars: &[ScalarSpan],
    ) -> Option<Value<'a>> {
        self.forget_open();
        let mut begun = std::mem::take(&mut self.begun);
        begun.clear();
        let value = self.build_with(start, plan, scalars, &mut begun);
        self.begun = begun;
        value
    }

    #[inline]
    fn build_with(
        &mut self,
        start: usize,
        plan: &[Step],
        scalars: &[ScalarSpan],
        begun: &mut Vec<Begun>,
    ) -> Option<Value<'a>> {
        for step in plan {
            let value = match *step {
                Step::Begin { is_map, at } => {
                    let origin = self.origin(at.among(start, scalars)?);
                    let first = if is_map { self.members.len() } else { self.items.len() };
                    begun.push(Begun { is_map, first, origin });
                    continue;
                }
                Step::Name { at, length } => {
                    let name = self.name_at(at.among(start, scalars)?, length)?;
                    self.members.push(Member { name, value: Value::NULL });
                    continue;
                }
                Step::Member { at, length, scalar } => {
                    let name = self.name_at(at.among(start, scalars)?, length)?;
                    let value = self.scalar(scalars.get(scalar)?)?;
                    self.members.push(Member { name, value });
                    continue;
                }
                Step::Scalar(scalar) => self.scalar(scalars.get(scalar)?)?,
                Step::Skipped => Value::NULL,
                Step::End => {
                    let Begun { is_map, first, origin } = begun.pop()?;
                    if is_map {
                        let map = Map::of_different(self.arena, self.members.get(first..)?);
                        self.members.truncate(first);
                        Value::Map(origin, map)
                    } else {
                        let items = self.arena.items(self.items.get(first..)?);
                        self.items.truncate(first);
                        Value::List(origin, items)
                    }
                }
            };
            match begun.last() {
                None => return Some(value),
                Some(Begun { is_map: true, .. }) => self.members.last_mut()?.value = value,
                Some(_) => self.items.push(value),
            }
        }
        None
    }

    /// The name of `length` bytes at byte `at`.
    #[inline(always)]
    fn name_at(&self, at: usize, length: usize) -> Option<&'a str> {
        self.text.get(at..at + length)
    }

    /// The value of a scalar.
    #[inline(always)]
    pub(super) fn scalar(&mut self, scalar: &ScalarSpan) -> Option<Value<'a>> {
        let (start, end) = (scalar.start, scalar.end);
        Some(match scalar.kind {
            ScalarKind::Text => Value::Text(self.origin(start - 1), self.text.get(start..end)?),
            ScalarKind::Escaped => {
                unescape(self.text, start, start, &mut self.unescaped).ok()?;
                Value::Text(self.origin(start - 1), self.arena.text(&self.unescaped))
            }
            ScalarKind::Number => {
                let number = Number::from_checked(self.text.get(start..end)?);
                Value::Number(self.origin(start), number)
            }
            ScalarKind::True => Value::Boolean(self.origin(start), true),
            ScalarKind::False => Value::Boolean(self.origin(start), false),
            ScalarKind::Null => Value::Null(self.origin(start)),
        })
    }
}
