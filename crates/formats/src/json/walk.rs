//! Goes through a record by its events, and learns where its scalars are and by which steps the projected values are built from them:
//! the same in all records that follow its [template](super::templates).

use kyanite_tree::{Event, Pull, ScalarSpan};

use super::events::EventReader;
use super::names::Names;
use crate::projection::{Projected, Projection};

/// As many lists and maps may be open where a value is built.
const DEEPEST: usize = 100;

/// A step in building a value.
#[derive(Clone, Copy, Debug)]
pub(super) enum Step {
    /// A map, or else a list, begins.
    Begin { is_map: bool, at: Place },
    /// A member begins whose name has `length` bytes.
    Name { at: Place, length: usize },
    /// A member has a name of `length` bytes, and is the scalar of that number.
    Member { at: Place, length: usize, scalar: usize },
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
    pub(super) fn among(self, start: usize, scalars: &[ScalarSpan]) -> Option<usize> {
        self.at(start, |last| scalars.get(last).map(|scalar| scalar.end))
    }
}

/// Goes through a record by its events.
pub(super) struct Walk<'t, 's> {
    events: EventReader<'t, 's>,
    start: usize,
    projection: Option<&'s Projection>,
    names: Names<'t>,
    found: Found,
}

/// What was met in a record.
#[derive(Debug, Default)]
pub(super) struct Found {
    /// All scalars.
    pub(super) scalars: Vec<ScalarSpan>,
    /// How what is needed is built.
    pub(super) steps: Vec<Step>,
}

impl<'t, 's> Walk<'t, 's> {
    /// Through the record that begins at a byte of the text of these events, in which lists and maps are at most so deep.
    pub(super) fn new(
        mut events: EventReader<'t, 's>,
        start: usize,
        (projection, depth): (Option<&'s Projection>, usize),
    ) -> Self {
        events.seek(start);
        Self { events, start, projection, names: Names::within(depth), found: Found::default() }
    }

    /// The same walk, which reuses the lists of another.
    pub(super) fn reusing(mut self, mut found: Found) -> Self {
        found.scalars.clear();
        found.steps.clear();
        self.found = found;
        self
    }

    /// Goes on to the end; gives what was met.
    pub(super) fn end(mut self) -> (EventReader<'t, 's>, Found) {
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
            scalar => self.found.scalars.extend(self.events.scalar(&scalar)),
        }
        Some(event)
    }

    /// Goes through a value, and adds the steps that build what is needed of it.
    pub(super) fn value(&mut self, projected: Option<Projected>) -> Option<()> {
        let event = self.next()?;
        self.value_of(event, projected)
    }

    fn value_of(&mut self, event: Event<'t>, projected: Option<Projected>) -> Option<()> {
        if self.names.open() > DEEPEST {
            return None;
        }
        let (is_map, around) = match event {
            Event::BeginMap | Event::BeginList => (event == Event::BeginMap, self.names.open() - 1),
            _ => {
                if projected.is_some() {
                    self.found.steps.push(Step::Scalar(self.scalars() - 1));
                }
                return Some(());
            }
        };
        let Some(projected) = projected else {
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
                    let projected = self.projection.map_or(Some(projected), |projection| {
                        projection.member(projected, name.text)
                    });
                    let first = self.steps();
                    if projected.is_some() {
                        let at = self.place(self.name_end() - 1 - name.text.len());
                        self.found.steps.push(Step::Name { at, length: name.text.len() });
                    }
                    self.value(projected)?;
                    if let [Step::Name { at, length }, Step::Scalar(scalar)] =
                        *self.steps_from(first)
                    {
                        self.found.steps.truncate(first);
                        self.found.steps.push(Step::Member { at, length, scalar });
                    }
                }
                item => {
                    let projected = self
                        .projection
                        .map_or(Some(projected), |projection| projection.item(projected));
                    if projected.is_none() {
                        self.found.steps.push(Step::Skipped);
                    }
                    self.value_of(item, projected)?;
                }
            }
        }
        self.found.steps.push(Step::End);
        Some(())
    }

    /// Where the name that was met last ends, behind its closing quote.
    pub(super) fn name_end(&self) -> usize {
        let before_colon = self.text().get(..self.position() - 1).unwrap_or_default();
        before_colon.trim_ascii_end().len()
    }

    /// A place behind the scalars so far.
    pub(super) fn place(&self, at: usize) -> Place {
        let before = self.found.scalars.last().map_or(self.start, |scalar| scalar.end);
        Place { scalars: self.scalars(), behind: at - before }
    }
}
