//! The members of a map, gone through by the structure of the text: where the name of each ends and its value begins. What stands
//! in values that nobody looks into is passed over from bracket to bracket.

use kyanite_scan::{Colons, Structure};

/// Goes through the members of one map; `CHECKED` where a text that is no name and no value is to be seen, so that no member is
/// missed whose colon is missing.
pub(super) struct Members<'s, const CHECKED: bool> {
    bytes: &'s [u8],
    structure: &'s Structure,
    colons: Colons<'s>,
    /// The number of the bracket that comes next.
    bracket: usize,
    /// Whether the bracket that comes next opens the value of the last member.
    is_open: bool,
    /// Where to count quotes from, and how many there are before the next name: those of a value that is a text. More, or
    /// fewer, are those of a name without a colon, say.
    from: usize,
    quotes: u32,
    /// How many more containers may be open in values.
    depth: usize,
}

/// What comes next in a map.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Next {
    /// A member: the byte of the quote that closes its name, which has no escapes, and the first byte of its value.
    Member { quote: usize, value: usize },
    /// The end of the map: the number of its closing bracket.
    End(usize),
    /// Something that has to be read byte by byte.
    Odd,
}

impl<'s, const CHECKED: bool> Members<'s, CHECKED> {
    /// The members of the map that the bracket of number `opening` opens. In their values `depth` containers may be open at
    /// once.
    #[inline]
    pub(super) fn new(
        bytes: &'s [u8],
        structure: &'s Structure,
        opening: usize,
        depth: usize,
    ) -> Self {
        let at = structure.bracket(opening).unwrap_or(bytes.len());
        let colons = structure.colons(at);
        let bracket = opening + 1;
        Self { bytes, structure, colons, bracket, is_open: false, from: at, quotes: 0, depth }
    }

    /// The number of the bracket that comes next: that of the value of the last member, if it is a list or map.
    #[inline]
    pub(super) fn bracket(&self) -> usize {
        self.bracket
    }

    /// Goes on at byte `at`, behind the value of the last member, with the bracket of number `bracket` or one of the next.
    #[inline]
    pub(super) fn go_on(&mut self, bracket: usize, at: usize) {
        self.pass(bracket, at);
        while self.structure.bracket(self.bracket).is_some_and(|bracket| bracket < at) {
            self.bracket += 1;
        }
    }

    #[inline(always)]
    fn pass(&mut self, bracket: usize, at: usize) {
        (self.bracket, self.is_open, self.from, self.quotes) = (bracket, false, at, 0);
        self.colons = self.structure.colons(at);
    }

    /// What comes next.
    #[inline(always)]
    pub(super) fn next(&mut self) -> Next {
        self.look().unwrap_or(Next::Odd)
    }

    #[inline(always)]
    fn look(&mut self) -> Option<Next> {
        let (bytes, structure) = (self.bytes, self.structure);
        if self.is_open {
            let end = structure.container_end(self.bracket, self.depth)?;
            self.pass(end + 1, structure.bracket(end)?);
        }
        let bracket = structure.bracket(self.bracket)?;
        let Some(colon) = self.colons.next_before(bracket) else {
            let is_end = bytes.get(bracket) == Some(&b'}')
                && (!CHECKED || structure.quotes_between(self.from, bracket) == self.quotes);
            return is_end.then_some(Next::End(self.bracket));
        };
        if CHECKED && structure.quotes_between(self.from, colon) != self.quotes + 2 {
            return None;
        }
        let mut value = colon + 1;
        while matches!(bytes.get(value)?, b' ' | b'\t' | b'\n' | b'\r') {
            value += 1;
        }
        // An opening bracket is the one that comes next, or it is no structure.
        match bytes[value] {
            b',' | b':' | b'}' | b']' => return None,
            b'{' | b'[' if value != bracket => return None,
            _ => self.is_open = value == bracket,
        }
        let mut quote = colon.checked_sub(1)?;
        if bytes[quote] != b'"' {
            quote = bytes[..colon].trim_ascii_end().len().checked_sub(1)?;
            if bytes[quote] != b'"' {
                return None;
            }
        }
        if structure.has_escapes() {
            let opened = structure.opening_quote(quote)?;
            if memchr::memchr(b'\\', &bytes[opened..quote]).is_some() {
                return None;
            }
        }
        (self.from, self.quotes) = (value, if bytes[value] == b'"' { 2 } else { 0 });
        Some(Next::Member { quote, value })
    }
}
