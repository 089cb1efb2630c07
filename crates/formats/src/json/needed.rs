//! Reading only the members of a map that are needed, by the structure of the text: the others are stepped over.
//!
//! Whatever looks odd on the way is read again byte by byte, which tells what is wrong with it.

use kyanite_scan::Structure;
use kyanite_tree::{Member, Value};

use super::error::ReadError;
use super::read::Reader;
use crate::needs::{Named, Need};

/// The name before a colon.
enum Name<'a> {
    /// A member that is not needed.
    Other,
    /// A member that is needed, and what of it.
    Needed(&'a str, Need),
    /// No name, or one that is not written as it is.
    Odd,
}

impl<'a> Reader<'a> {
    /// Steps over the text, list or map that begins here, if it is seen to end.
    #[inline]
    pub(super) fn step_over(&mut self) -> bool {
        let Some(structure) = self.structure else { return false };
        let end = match self.bytes.get(self.at) {
            Some(b'"') => structure.closing_quote(self.at),
            _ => structure.number_at(self.at, self.mark).and_then(|opening| {
                let end = structure.container_end(self.bytes, opening, self.depth_left())?;
                self.mark = end;
                structure.mark(end)
            }),
        };
        end.map(|end| self.at = end + 1).is_some()
    }

    /// Passes over the records that begin here and certainly fail the condition of the sieve.
    #[inline]
    pub(super) fn sift(&mut self) {
        let (Some(sieve), Some(structure)) = (self.sieve, self.structure) else { return };
        while self.bytes.get(self.at) == Some(&b'{')
            && let Some(opening) = structure.number_at(self.at, self.mark)
            && let Some(closing) = sieve.fails(self.bytes, structure, opening, self.options.depth)
            && let Some(end) = structure.mark(closing)
        {
            (self.at, self.mark) = (end + 1, closing + 1);
            self.sifted += 1;
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
                self.at = structure.mark(closing).unwrap_or(self.at);
                self.close().map(Some)
            }
            None => {
                self.structure = None;
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
        if names.is_empty() {
            return Ok(structure.container_end(self.bytes, opening, self.depth_left() + 1));
        }
        let mut number = opening + 1;
        let mut is_behind_name = false;
        loop {
            let Some(at) = structure.mark(number) else { return Ok(None) };
            match self.bytes.get(at) {
                Some(b':') => match self.name_before(structure, at, names) {
                    Name::Odd => return Ok(None),
                    Name::Other => {
                        let value = match self.bytes.get(at + 1) {
                            Some(b' ' | b'\t' | b'\n' | b'\r') => {
                                self.bytes[at + 1..].trim_ascii_start().first()
                            }
                            value => value,
                        };
                        if let None | Some(b',' | b':' | b'}' | b']') = value {
                            return Ok(None);
                        }
                        number += 1;
                        is_behind_name = true;
                    }
                    Name::Needed(name, need) => {
                        number = self.needed_member(structure, number, at, name, need)?;
                        is_behind_name = false;
                    }
                },
                Some(b'{' | b'[') if is_behind_name => {
                    let end = structure.container_end(self.bytes, number, self.depth_left());
                    let Some(end) = end else { return Ok(None) };
                    number = end + 1;
                    is_behind_name = false;
                }
                Some(b'}') => return Ok(Some(number)),
                _ => return Ok(None),
            }
        }
    }

    /// Reads the value behind the colon at byte `colon`, the mark of number `number`; gives the number of the mark behind it.
    #[inline]
    fn needed_member(
        &mut self,
        structure: &Structure,
        number: usize,
        colon: usize,
        name: &'a str,
        need: Need,
    ) -> Result<usize, ReadError> {
        let slot = self.members.len();
        self.members.push(Member { name, value: Value::NULL });
        (self.at, self.need, self.mark) = (colon + 1, Some(need), number + 1);
        self.skip_blank();
        let floor = std::mem::replace(&mut self.floor, self.open.len());
        let value = self.whole_value()?;
        self.floor = floor;
        if let Some(member) = self.members.get_mut(slot) {
            member.value = value;
        }
        if !matches!(self.skip_blank(), Some(b',' | b'}')) {
            return Err(self.no_comma('}'));
        }
        let mut next = number + 1;
        while structure.mark(next).is_some_and(|mark| mark < self.at) {
            next += 1;
        }
        Ok(next)
    }

    /// The name before the colon at byte `colon`.
    #[inline]
    fn name_before(&self, structure: &Structure, colon: usize, names: &[Named]) -> Name<'a> {
        let (text, bytes) = (self.text, self.bytes);
        let before = match bytes[..colon].split_last() {
            Some((b'"', before)) => before,
            _ => match bytes[..colon].trim_ascii_end().split_last() {
                Some((b'"', before)) => before,
                _ => return Name::Odd,
            },
        };
        let end = before.len();
        if structure.has_escapes()
            && let Some(opened) = structure.opening_quote(end)
            && memchr::memchr(b'\\', &bytes[opened..end]).is_some()
        {
            return Name::Odd;
        }
        let found = names.iter().find(|named| named.key.ends(&bytes[..end + 1]));
        let Some(Named { name, need, .. }) = found else { return Name::Other };
        let of = self.needs.map_or(*need, |needs| needs.resolved(*need));
        // Its quotes are those of the text: there is no backslash in it.
        match text.get(end - name.len()..end) {
            Some(name) => Name::Needed(name, of),
            None => Name::Odd,
        }
    }
}
