//! Building only the child elements that are needed: the others are stepped over.

use super::chars;
use super::lines::Lines;
use super::read::{Read, Reader};
use crate::needs::{Need, Needs};
use crate::record_view::View;

/// What is needed of records, and what steps over the rest.
pub(super) struct Needed<'a> {
    needs: &'a Needs,
    /// How many namespaces are declared around the records.
    pub(super) scope: usize,
    pub(super) lines: Lines,
    /// What stepping over leaves behind, and nobody looks at.
    view: View,
    out: Vec<u8>,
}

impl<'a> Needed<'a> {
    pub(super) fn new(needs: &'a Needs) -> Self {
        let (view, out) = (View::default(), Vec::new());
        Self { needs, scope: 0, lines: Lines::default(), view, out }
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
        let mut fitting = names.iter().filter(|named| local(&named.name) == name);
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
        let depth = self.options.depth.checked_sub(self.open.len())?;
        let needed = self.needed.as_mut().filter(|needed| needed.scope == self.scope.depth())?;
        let aside = (&mut needed.view, &mut needed.out);
        let (text, at) = (self.cursor.text, self.cursor.at);
        self.cursor.at = needed.lines.step_over(text, at, depth, &self.scope, aside)?;
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
