//! Rows as events, without values in between.

use kyanite_tree::{Event, Pull, RawText};

/// The events of a row: a map where there is a header, else a list. Cells are texts.
///
/// ```
/// use kyanite_formats::csv::{Reader, Settings};
/// use kyanite_tree::{Arena, Base, Event, Pull};
///
/// let arena = Arena::new();
/// let mut reader = Reader::new("ness,A9\n", &arena, Settings::default(), None, Base::default());
/// let mut events = reader.next_events().unwrap().unwrap();
/// assert_eq!(events.next_event(), Some(Event::BeginList));
/// assert!(matches!(events.next_event(), Some(Event::Text(port)) if port.text == "ness"));
/// ```
#[derive(Debug)]
pub struct RowEvents<'a, 'r> {
    names: Option<&'a [&'a str]>,
    cells: &'r [(usize, &'a str)],
    /// The number of the event that comes next: the beginning, for each cell its name, if it has one, and its text, and the end.
    next: usize,
}

impl<'a, 'r> RowEvents<'a, 'r> {
    /// Those of a row with these cells, each with the byte that it begins at.
    pub(super) fn new(names: Option<&'a [&'a str]>, cells: &'r [(usize, &'a str)]) -> Self {
        Self { names, cells, next: 0 }
    }
}

impl<'a> Pull<'a> for RowEvents<'a, '_> {
    #[inline]
    fn next_event(&mut self) -> Option<Event<'a>> {
        let number = self.next;
        self.next += 1;
        let text = |text| RawText { text, has_escapes: false };
        let Some(behind_begin) = number.checked_sub(1) else {
            return Some(if self.names.is_some() { Event::BeginMap } else { Event::BeginList });
        };
        let (cell, is_name) = match self.names {
            Some(_) => (behind_begin / 2, behind_begin % 2 == 0),
            None => (behind_begin, false),
        };
        match (self.cells.get(cell), self.names) {
            (Some(_), Some(names)) if is_name => Some(Event::Name(text(names.get(cell)?))),
            (Some((_, of_cell)), _) => Some(Event::Text(text(of_cell))),
            (None, Some(_)) => (is_name && cell == self.cells.len()).then_some(Event::EndMap),
            (None, None) => (cell == self.cells.len()).then_some(Event::EndList),
        }
    }

    #[inline]
    fn offset(&self) -> usize {
        let given = self.next.saturating_sub(2);
        let cell = if self.names.is_some() { given / 2 } else { given };
        self.cells.get(cell).or(self.cells.last()).map_or(0, |(at, _)| *at)
    }
}
