//! Building only the child elements that are needed: the others are stepped over.

use kyanite_tree::is_same_name;

use super::chars;
use super::lines::Lines;
use super::read::{Read, Reader};
use crate::needs::{Need, Needs};

/// What is needed of records, and what steps over the rest.
pub(super) struct Needed<'a> {
    pub(super) needs: &'a Needs,
    /// How many namespaces are declared around the records.
    pub(super) scope: usize,
    pub(super) lines: Lines,
    /// Where children of the record begin and end, as far as that is known already.
    pub(super) extents: Vec<(usize, usize)>,
    /// How many of them were passed.
    pub(super) passed: usize,
}

impl<'a> Needed<'a> {
    pub(super) fn new(needs: &'a Needs) -> Self {
        Self { needs, scope: 0, lines: Lines::default(), extents: Vec::new(), passed: 0 }
    }

    /// The end of the child of the record that begins there, if it is known.
    #[inline]
    fn known_end(&mut self, start: usize) -> Option<usize> {
        let left = self.extents.get(self.passed..)?;
        self.passed += left.iter().take_while(|(known, _)| *known < start).count();
        self.extents.get(self.passed).filter(|(known, _)| *known == start).map(|(_, end)| *end)
    }

    /// What is needed of the record.
    pub(super) fn of_record(&self) -> Need {
        self.needs.of_record()
    }
}

impl<'a> Reader<'a> {
    /// The start tag that stands here, or the whole element where nothing is needed of it.
    #[inline]
    pub(super) fn needed_tag(&mut self) -> Read<()> {
        let (Some(needed), Some(open)) = (&self.needed, self.open.last()) else {
            return self.start_tag();
        };
        let names = match open.need {
            Need::ALL => None,
            need => needed.needs.named_members(need),
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
                let (need, depth) = (needed.needs.resolved(named.need), self.open.len());
                self.start_tag()?;
                if let Some(open) = self.open.get_mut(depth) {
                    open.need = need;
                }
                Ok(())
            }
            // Two steps that may mean it.
            _ => self.start_tag(),
        }
    }

    /// Steps over the element that begins here, if it is plain.
    fn step_over(&mut self) -> Option<()> {
        let mut needed = self.needed.take_if(|needed| needed.scope == self.scope.depth())?;
        if let Some(end) = needed.known_end(self.cursor.at) {
            self.needed = Some(needed);
            self.cursor.at = end;
            return Some(());
        }
        let end = needed.lines.step_over(self, &[]);
        self.needed = Some(needed);
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
