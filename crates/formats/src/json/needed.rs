//! Reading only the members of a map that are needed, by the structure of the text: the others are stepped over.
//!
//! Whatever looks odd on the way is read again byte by byte, which tells what is wrong with it.

use kyanite_scan::Structure;
use kyanite_tree::{Member, Value};

use super::error::ReadError;
use super::members::{Members, Next};
use super::read::Reader;
use crate::needs::{Named, Need};

impl<'a> Reader<'a> {
    /// Steps over the text, list or map that begins here, if it is seen to end.
    #[inline]
    pub(super) fn step_over(&mut self) -> bool {
        let Some(structure) = self.structure else { return false };
        let end = match self.bytes.get(self.at) {
            Some(b'"') => structure.closing_quote(self.at),
            _ => structure.number_at(self.at, self.mark).and_then(|opening| {
                let end = structure.container_end(opening, self.depth_left())?;
                self.mark = end;
                structure.bracket(end)
            }),
        };
        end.map(|end| self.at = end + 1).is_some()
    }

    /// Passes over the records that begin here and certainly fail the condition of the prefilter.
    #[inline]
    pub(super) fn sift(&mut self) {
        let (Some(prefilter), Some(structure)) = (self.prefilter, self.structure) else { return };
        while self.bytes.get(self.at) == Some(&b'{')
            && let Some(opening) = structure.number_at(self.at, self.mark)
            && let Some(closing) =
                prefilter.fails(self.bytes, structure, opening, self.options.depth)
            && let Some(end) = structure.bracket(closing)
        {
            (self.at, self.mark) = (end + 1, closing + 1);
            self.passed_over += 1;
            while let Some(b' ' | b'\n' | b'\r' | b'\t') = self.bytes.get(self.at) {
                self.at += 1;
            }
        }
    }

    /// How many more containers may be open.
    pub(super) fn depth_left(&self) -> usize {
        self.options.depth.saturating_sub(self.open.len())
    }

    /// Reads the map that begins at byte `start` with the members that are needed by name; `None` when it has to be read
    /// byte by byte.
    #[inline]
    pub(super) fn needed_members(&mut self, start: usize) -> Result<Option<Value<'a>>, ReadError> {
        let (Some(need), Some(needs), Some(structure)) = (self.need, self.needs, self.structure)
        else {
            return Ok(None);
        };
        let Some(names) = needs.named_members(need) else { return Ok(None) };
        let Some(opening) = structure.number_at(start, self.mark) else { return Ok(None) };
        let (first, duplicates) = (self.members.len(), self.duplicates.len());
        self.push_open(start, true)?;
        match self.members_between(structure, opening, names)? {
            Some(closing) => {
                self.mark = closing;
                self.at = structure.bracket(closing).unwrap_or(self.at);
                self.close().map(Some)
            }
            None => {
                self.aside = self.structure.take();
                self.open.pop();
                self.members.truncate(first);
                self.duplicates.truncate(duplicates);
                (self.at, self.need) = (start, Some(need));
                Ok(None)
            }
        }
    }

    /// Reads the needed members behind the opening bracket of a map; gives the number of its closing bracket.
    fn members_between(
        &mut self,
        structure: &Structure,
        opening: usize,
        names: &'a [Named],
    ) -> Result<Option<usize>, ReadError> {
        let bytes = self.bytes;
        if names.is_empty() {
            return Ok(structure.container_end(opening, self.depth_left() + 1));
        }
        let mut members = Members::<true>::new(bytes, structure, opening, self.depth_left());
        loop {
            match members.next() {
                Next::Odd => return Ok(None),
                Next::End(closing) => return Ok(Some(closing)),
                Next::Member { quote, value } => {
                    let Some(named) = names.iter().find(|named| named.key.ends(&bytes[..=quote]))
                    else {
                        continue;
                    };
                    let name = self.text.get(quote - named.name.len()..quote);
                    let Some(name) = name else { return Ok(None) };
                    let need = self.needs.map_or(named.need, |needs| needs.resolved(named.need));
                    let slot = self.members.len();
                    self.members.push(Member { name, value: Value::NULL });
                    let value = self.inner_value(need, members.bracket(), value)?;
                    if let Some(member) = self.members.get_mut(slot) {
                        member.value = value;
                    }
                    if !matches!(self.skip_blank(), Some(b',' | b'}')) {
                        return Err(self.no_comma('}'));
                    }
                    members.go_on(members.bracket(), self.at);
                }
            }
        }
    }

    /// Reads the value that begins at byte `at`, in the containers that are open; the bracket of number `bracket` comes next.
    #[inline]
    pub(super) fn inner_value(
        &mut self,
        need: Need,
        bracket: usize,
        at: usize,
    ) -> Result<Value<'a>, ReadError> {
        (self.at, self.need, self.mark) = (at, Some(need), bracket);
        let floor = std::mem::replace(&mut self.floor, self.open.len());
        let value = self.whole_value()?;
        self.floor = floor;
        Ok(value)
    }
}
