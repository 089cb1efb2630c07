//! Values of records that follow a [template](super::templates), built of their scalars: what lists, maps and names there are, and what of
//! them is needed, was learned with the first.

use std::ops::Range;

use kyanite_tree::{Event, Map, Member, Number, Origin, Pull, Value};

use super::error::ReadError;
use super::events::EventReader;
use super::names::Names;
use super::part::PartStructure;
use super::read::Reader;
use super::string::unescape;
use super::templates::Templates;
use crate::needs::{Need, Needs};
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

/// As many lists and maps may be open where a value is built.
const DEEPEST: usize = 100;

impl ValueTemplates {
    /// None, and none are looked for.
    #[must_use]
    pub fn unused() -> Self {
        Self { templates: Templates::unused(), ..Self::default() }
    }

    /// How many records followed one since this was last asked.
    pub fn take_followed(&mut self) -> u64 {
        self.templates.take_followed()
    }
}

/// A step in building a value.
#[derive(Clone, Copy, Debug)]
pub(super) enum Step {
    /// A map, or else a list, begins.
    Begin { is_map: bool, at: Place },
    /// A member has a name of so many bytes.
    Name { at: Place, length: usize },
    /// The scalar of that number.
    Scalar(usize),
    /// An item that is not needed.
    Skipped,
    /// The last map or list ends.
    End,
}

/// So many bytes behind the end of a scalar, or of the beginning of the record.
#[derive(Clone, Copy, Debug)]
pub(super) struct Place {
    /// How many scalars are before it.
    scalars: usize,
    behind: usize,
}

impl Place {
    /// Where it is in a record that begins at a byte, and whose scalars end there.
    #[inline]
    pub(super) fn at(self, start: usize, end_of: impl Fn(usize) -> Option<usize>) -> Option<usize> {
        Some(self.behind + self.scalars.checked_sub(1).map_or(Some(start), end_of)?)
    }

    /// The same in a record with these scalars.
    #[inline]
    pub(super) fn among(self, start: usize, scalars: &[(Event<'_>, usize)]) -> Option<usize> {
        self.at(start, |last| scalars.get(last).map(end_of))
    }
}

/// Where a scalar ends, without the quote of a text; given is its last byte, with that.
#[inline]
pub(super) fn end_of((scalar, last): &(Event<'_>, usize)) -> usize {
    last + usize::from(!matches!(scalar, Event::Text(_)))
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
        needs: Option<&'a Needs>,
    ) -> Self {
        self.needs = needs;
        if known.are_parts != self.needs.is_some() && !known.plans.is_empty() {
            *known = ValueTemplates::default();
        }
        known.are_parts = self.needs.is_some();
        self.known = Some(known);
        self
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
        let room = std::mem::take(&mut self.found);
        let walk = Walk::new(events, start - before, (self.needs, self.options.depth));
        let mut walk = walk.with_room(room);
        let plan = walk.value(Some(self.needs.map_or(Need::ALL, Needs::of_record)));
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
        found.scalars.iter_mut().for_each(|(_, last)| *last += before);
        let value = self.build(start, &found.steps, &found.scalars);
        self.found = found;
        Some((value?, end))
    }

    /// Builds the value of the record that begins at a byte and has these scalars, or a part of it.
    pub(super) fn build(
        &mut self,
        start: usize,
        plan: &[Step],
        scalars: &[(Event<'a>, usize)],
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
        scalars: &[(Event<'a>, usize)],
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
                    let at = at.among(start, scalars)?;
                    let name = self.text.get(at..at + length)?;
                    self.members.push(Member { name, value: Value::NULL });
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

    /// The value of a scalar.
    #[inline]
    pub(super) fn scalar(&mut self, (scalar, last): &(Event<'a>, usize)) -> Option<Value<'a>> {
        Some(match *scalar {
            Event::Text(text) => {
                let begin = last - text.text.len();
                let origin = self.origin(begin - 1);
                if text.has_escapes {
                    unescape(self.text, begin, begin, &mut self.unescaped).ok()?;
                    Value::Text(origin, self.arena.text(&self.unescaped))
                } else {
                    Value::Text(origin, text.text)
                }
            }
            Event::Number(number) => {
                let origin = self.origin(last + 1 - number.len());
                Value::Number(origin, Number::from_checked(number))
            }
            Event::Boolean(true) => Value::Boolean(self.origin(last - 3), true),
            Event::Boolean(false) => Value::Boolean(self.origin(last - 4), false),
            Event::Null => Value::Null(self.origin(last - 3)),
            _ => return None,
        })
    }
}

/// Goes through a record by its events.
pub(super) struct Walk<'t, 's> {
    events: EventReader<'t, 's>,
    start: usize,
    needs: Option<&'s Needs>,
    names: Names<'t>,
    found: Found<'t>,
}

/// What was met in a record.
#[derive(Debug, Default)]
pub(super) struct Found<'t> {
    /// All scalars, each with its last byte.
    pub(super) scalars: Vec<(Event<'t>, usize)>,
    /// How what is needed is built.
    pub(super) steps: Vec<Step>,
}

impl<'t, 's> Walk<'t, 's> {
    /// Through the record that begins at a byte of the text of these events, in which lists and maps are at most so deep.
    pub(super) fn new(
        mut events: EventReader<'t, 's>,
        start: usize,
        (needs, depth): (Option<&'s Needs>, usize),
    ) -> Self {
        events.seek(start);
        Self { events, start, needs, names: Names::within(depth), found: Found::default() }
    }

    /// The same walk, with the room of another.
    fn with_room(mut self, mut room: Found<'t>) -> Self {
        room.scalars.clear();
        room.steps.clear();
        self.found = room;
        self
    }

    /// Goes on to the end; gives what was met.
    pub(super) fn end(mut self) -> (EventReader<'t, 's>, Found<'t>) {
        while self.next().is_some() {}
        (self.events, self.found)
    }

    /// The steps from the one of that number on.
    pub(super) fn steps_from(&self, first: usize) -> &[Step] {
        self.found.steps.get(first..).unwrap_or_default()
    }

    /// How many steps there are.
    pub(super) fn steps(&self) -> usize {
        self.found.steps.len()
    }

    /// How many scalars were met.
    pub(super) fn scalars(&self) -> usize {
        self.found.scalars.len()
    }

    /// The text of the events.
    pub(super) fn text(&self) -> &'t str {
        self.events.text()
    }

    /// Where it is behind the last event.
    pub(super) fn position(&self) -> usize {
        self.events.position()
    }

    /// The next event; `None` at the end, and where a reader of values has to look at the record, for what [`Names`] cannot tell.
    pub(super) fn next(&mut self) -> Option<Event<'t>> {
        let event = self.events.next_event()?;
        match event {
            Event::BeginMap | Event::BeginList => self.names.begin()?,
            Event::EndMap | Event::EndList => self.names.end()?,
            Event::Name(name) => self.names.add(name)?,
            scalar => self.found.scalars.push((scalar, self.events.position() - 1)),
        }
        Some(event)
    }

    /// Goes through a value, and adds the steps that build what is needed of it.
    pub(super) fn value(&mut self, need: Option<Need>) -> Option<()> {
        let event = self.next()?;
        self.value_of(event, need)
    }

    fn value_of(&mut self, event: Event<'t>, need: Option<Need>) -> Option<()> {
        if self.names.open() > DEEPEST {
            return None;
        }
        let (is_map, around) = match event {
            Event::BeginMap | Event::BeginList => (event == Event::BeginMap, self.names.open() - 1),
            _ => {
                if need.is_some() {
                    self.found.steps.push(Step::Scalar(self.scalars() - 1));
                }
                return Some(());
            }
        };
        let Some(need) = need else {
            while self.names.open() > around {
                self.next()?;
            }
            return Some(());
        };
        self.found.steps.push(Step::Begin { is_map, at: self.place(self.position() - 1) });
        loop {
            match self.next()? {
                Event::EndMap | Event::EndList => break,
                Event::Name(name) => {
                    let need = self.needs.map_or(Some(need), |needs| needs.member(need, name.text));
                    if need.is_some() {
                        let quoted = self.quoted_name();
                        let at = self.place(quoted.end - 1 - name.text.len());
                        self.found.steps.push(Step::Name { at, length: name.text.len() });
                    }
                    self.value(need)?;
                }
                item => {
                    let need = self.needs.map_or(Some(need), |needs| needs.item(need));
                    if need.is_none() {
                        self.found.steps.push(Step::Skipped);
                    }
                    self.value_of(item, need)?;
                }
            }
        }
        self.found.steps.push(Step::End);
        Some(())
    }

    /// Where the name that was met last stands before its colon, with its quotes, in what is before it.
    pub(super) fn quoted_name(&self) -> Range<usize> {
        let before = self.text().get(..self.position() - 1).unwrap_or_default();
        0..before.trim_ascii_end().len()
    }

    /// A place behind the scalars so far.
    pub(super) fn place(&self, at: usize) -> Place {
        let before = self.found.scalars.last().map_or(self.start, end_of);
        Place { scalars: self.scalars(), behind: at - before }
    }
}

impl<'a> Reader<'a> {
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
}
