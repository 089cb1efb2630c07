//! Maps that a rule returns for its records, or these themselves, written as lines of JSON as they are computed: no map is built of them.

use kyanite_formats::json::{self, Style};
use kyanite_tree::Value;

use crate::plan::LineNames;

/// Lines under way.
#[derive(Debug)]
pub(super) struct Lines<'p> {
    pub(super) names: &'p LineNames,
    pub(super) out: Vec<u8>,
    pub(super) count: u64,
    /// How often the record in the slots is a result; whoever read it writes it.
    pub(super) records: usize,
    /// Where the edits of the record under way change its text, and what they put there.
    pub(super) cuts: Vec<Cut>,
    pub(super) scratch: Vec<u8>,
}

/// A change in the text of a record.
#[derive(Debug)]
pub(super) struct Cut {
    pub(super) start: usize,
    pub(super) end: usize,
    /// Whether a member is there.
    pub(super) is_there: bool,
    /// Where in the scratch space its new value is; nothing for a member that is left out.
    pub(super) new: Option<(usize, usize)>,
    /// Which edit it is.
    pub(super) number: usize,
}

impl Lines<'_> {
    /// Begins a member of the map under way.
    #[inline]
    pub(super) fn name(&mut self, written: &[u8]) {
        let is_first = self.out.last() == Some(&b'{');
        self.out.extend_from_slice(&written[usize::from(is_first)..]);
    }

    pub(super) fn value(&mut self, value: Value<'_>) {
        json::write(value, Style::Compact, &mut self.out);
        self.out.push(b'\n');
        self.count += 1;
    }

    /// Ends a line, which is a map.
    #[inline]
    pub(super) fn end(&mut self) {
        self.out.extend_from_slice(b"}\n");
        self.count += 1;
    }
}
