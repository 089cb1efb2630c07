//! Counts and lists differences.

use kyanite_change::{Change, Difference, Pattern, UnclearKey};
use kyanite_formats::losses::Losses;
use kyanite_formats::{json, xml};
use kyanite_tree::{LineColumn, Location, Origin, Step, Value};

use super::{Compared, FoundChange, Side};
use crate::document::Library;
use crate::run::is_xml;

/// Takes differences.
pub(super) struct Tally {
    found: Compared,
    /// The bytes that the changes that are listed may take, about.
    budget: usize,
}

/// Knows where values were read.
pub(super) trait Located {
    /// The line and column of a value.
    fn line_column(&self, origin: Origin) -> Option<LineColumn>;
}

impl Located for Library<'_> {
    fn line_column(&self, origin: Origin) -> Option<LineColumn> {
        Library::line_column(self, origin)
    }
}

impl Tally {
    /// One of two inputs with these names, that lists changes up to about `budget` bytes.
    pub(super) fn new([old, new]: [String; 2], budget: usize) -> Self {
        Self { found: Compared { old, new, ..Compared::default() }, budget }
    }

    /// Takes a difference of values that were read on either side.
    pub(super) fn take(&mut self, difference: Difference<'_>, sides: [&dyn Located; 2]) {
        let found = &mut self.found;
        found.assumed.singles += difference.assumed.singles;
        found.assumed.spelled += difference.assumed.spelled;
        for choice in difference.keys {
            if !found.keys.contains(&choice) {
                found.keys.push(choice);
            }
        }
        for unclear in difference.unclear {
            unclear.add_to(&mut found.unclear);
        }
        for change in &difference.changes {
            let steps = change.new.as_ref().or(change.old.as_ref());
            let under = under(steps.map_or(&[][..], |(steps, _)| steps));
            *found.counts.entry((under.clone(), change.sort)).or_default() += 1;
            if self.budget > 0 {
                let change = listed(change, under, sides);
                self.budget = self.budget.saturating_sub(size(&change));
                found.changes.push(change);
            }
        }
    }

    /// Notes that records of a stream are not told by their key.
    pub(super) fn unclear(&mut self, lacking: u64, shared: u64) {
        let path = "$".to_owned();
        UnclearKey { path, lacking, shared }.add_to(&mut self.found.unclear);
    }

    pub(super) fn finish(self) -> Compared {
        self.found
    }
}

/// About how many bytes a change takes.
fn size(change: &FoundChange) -> usize {
    let sides = [&change.old, &change.new].into_iter().flatten();
    let texts: usize = sides.map(|side| side.text.len() + side.path.len()).sum();
    size_of::<FoundChange>() + change.under.len() + texts
}

/// A change, with its places.
fn listed(change: &Change<'_>, under: String, [old, new]: [&dyn Located; 2]) -> FoundChange {
    let side = |(steps, value): &(Vec<Step<'_>>, Value<'_>), located: &dyn Located| {
        let location = Location::new(steps.clone());
        Side {
            path: if location.is_in_xml() { location.to_string() } else { location.readable() },
            text: shown(*value),
            at: located.line_column(value.origin()),
        }
    };
    FoundChange {
        sort: change.sort,
        under,
        old: change.old.as_ref().map(|spot| side(spot, old)),
        new: change.new.as_ref().map(|spot| side(spot, new)),
    }
}

/// The path of all places that differ by their indices alone.
fn under(steps: &[Step<'_>]) -> String {
    if !Location::new(steps.to_vec()).is_in_xml() {
        return Pattern::of(steps).to_string();
    }
    let mut path = String::new();
    for step in steps {
        path.push('/');
        match step {
            Step::Element { name, .. } => path.push_str(name.qualified()),
            Step::Attribute(name) => path.push_str(&format!("@{}", name.qualified())),
            _ => path.push_str("text()"),
        }
    }
    path
}

/// A value on one line.
fn shown(value: Value<'_>) -> String {
    if is_xml(value) {
        let layout = xml::Layout { indent: None, declaration: false, ..xml::Layout::default() };
        let mut markup = Vec::new();
        if xml::write(value, &layout, &mut markup, &mut Losses::new(false)).is_ok() {
            return String::from_utf8_lossy(&markup).trim_end().to_owned();
        }
    }
    json::compact(value)
}
