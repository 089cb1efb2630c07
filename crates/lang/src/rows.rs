//! Where the results of a loop over records go that are written while they are computed, so that no values are made of them.

use std::ops::Range;

use kyanite_tree::Value;

/// Takes results one by one, each a row.
pub trait Rows {
    /// Begins a row that is a map; the members of the record with this text come first, if it is given.
    fn begin(&mut self, record: Option<&str>);
    /// Adds a member to the row, whose name is that of this number.
    fn member(&mut self, name: usize, value: RowValue<'_, '_>);
    /// Ends the row.
    fn end(&mut self);
    /// Adds a row that is not made of members.
    fn whole(&mut self, value: RowValue<'_, '_>);
    /// Adds a row that is a record, which `write` appends as it is written as JSON.
    fn record(&mut self, write: &mut dyn FnMut(&mut Vec<u8>));
    /// Adds a row that is the record with this text but for some edits, in the order of their places.
    fn edited(&mut self, record: &str, edits: &[RowEdit<'_>]);
    /// Takes back the row that was begun and not ended.
    fn take_back(&mut self);
    /// Hands the last row to `take`, as a line of JSON without its end, and takes it back; there is none where rows cannot wait.
    fn pop(&mut self, take: &mut dyn FnMut(&str));
}

/// A value of a row.
#[derive(Clone, Copy, Debug)]
pub struct RowValue<'v, 'a> {
    /// The value.
    pub value: &'v Value<'a>,
    /// How JSON writes it, where that is how it stands in the record; else empty.
    pub token: &'v [u8],
}

impl<'v, 'a> From<&'v Value<'a>> for RowValue<'v, 'a> {
    #[inline]
    fn from(value: &'v Value<'a>) -> Self {
        Self { value, token: &[] }
    }
}

/// A change in the text of a record.
#[derive(Debug)]
pub struct RowEdit<'a> {
    /// The bytes of the old value; where a new member would begin, if it is not there.
    pub at: Range<usize>,
    /// Whether a member is there.
    pub is_there: bool,
    /// Its new value, and how JSON writes that, where it is how it stands in the record; nothing for a member that is left out.
    pub new: Option<(Value<'a>, &'a [u8])>,
    /// The number of its name.
    pub name: usize,
}
