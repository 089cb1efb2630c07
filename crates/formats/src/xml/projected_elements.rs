//! Builds only the child elements that a projection names, and skips the others.

use kyanite_tree::is_same_name;

use super::chars;
use super::lines::ElementLines;
use super::read::{Read, Reader};
use crate::projection::{Projected, Projection};

/// What is needed of records, and what steps over the rest.
pub(super) struct ProjectedElements<'a> {
    pub(super) projection: &'a Projection,
    /// How many namespaces are declared around the records.
    pub(super) scope: usize,
    pub(super) lines: ElementLines,
    /// Where children of the record begin and end, as far as that is known already.
    pub(super) extents: Vec<(usize, usize)>,
    /// How many of them were passed.
    pub(super) passed: usize,
}

impl<'a> ProjectedElements<'a> {
    pub(super) fn new(projection: &'a Projection) -> Self {
        Self {
            projection,
            scope: 0,
            lines: ElementLines::default(),
            extents: Vec::new(),
            passed: 0,
        }
    }

    /// The end of the child of the record that begins there, if it is known.
    #[inline]
    fn known_end(&mut self, start: usize) -> Option<usize> {
        let left = self.extents.get(self.passed..)?;
        self.passed += left.iter().take_while(|(known, _)| *known < start).count();
        self.extents.get(self.passed).filter(|(known, _)| *known == start).map(|(_, end)| *end)
    }

    /// What is needed of the record.
    pub(super) fn of_record(&self) -> Projected {
        self.projection.of_record()
    }
}

impl<'a> Reader<'a> {
    /// The start tag that stands here, or the whole element where nothing is needed of it.
    #[inline]
    pub(super) fn projected_tag(&mut self) -> Read<()> {
        let (Some(projected_elements), Some(open)) = (&self.projected_elements, self.open.last())
        else {
            return self.start_tag();
        };
        let names = match open.projected {
            Projected::ALL => None,
            projected => projected_elements.projection.named_members(projected),
        };
        let Some(names) = names else { return self.start_tag() };
        let start = self.cursor.at + 1;
        let name = local(&self.cursor.text[start..chars::name_end(self.cursor.text, start)]);
        let mut fitting = names.iter().filter(|named| is_same_name(local(&named.name), name));
        match (fitting.next(), fitting.next()) {
            (None, _) => {
                self.end_text();
                if self.step_over().is_some() { Ok(()) } else { self.start_tag() }
            }
            (Some(named), None) => {
                let (projected, depth) =
                    (projected_elements.projection.resolved(named.projected), self.open.len());
                self.start_tag()?;
                if let Some(open) = self.open.get_mut(depth) {
                    open.projected = projected;
                }
                Ok(())
            }
            // Two steps that may mean it.
            _ => self.start_tag(),
        }
    }

    /// Steps over the element that begins here, if it is plain.
    fn step_over(&mut self) -> Option<()> {
        let mut projected_elements = self
            .projected_elements
            .take_if(|projected_elements| projected_elements.scope == self.scope.depth())?;
        if let Some(end) = projected_elements.known_end(self.cursor.at) {
            self.projected_elements = Some(projected_elements);
            self.cursor.at = end;
            return Some(());
        }
        let end = projected_elements.lines.step_over(self, &[]);
        self.projected_elements = Some(projected_elements);
        self.cursor.at = end?;
        Some(())
    }
}

/// A name without its prefix: rules may have another for the same namespace.
#[inline]
fn local(name: &str) -> &str {
    // Names are short: to look at their bytes is faster than to set a search up.
    let colon = name.bytes().rposition(|byte| byte == b':');
    colon.map_or(name, |colon| &name[colon + 1..])
}
