//! Whether bytes are what the grammar of JSON has (RFC 8259 sections 2 to 7), 64 of them at a time.
//!
//! Each token tells what may begin behind it, so that bits for the ends of tokens of one kind, moved past the blanks behind
//! them, are where tokens of other kinds may begin. Only brackets, scalars outside of quotes, and escapes are looked at
//! one by one.

use crate::classes::Classes;
use crate::number::number_end;

use crate::nesting::Nesting;

/// What the bytes so far come to.
#[derive(Clone, Debug, Default)]
pub(crate) struct Grammar {
    /// The containers that are open.
    open: Nesting,
    /// Behind what a value comes: a colon, the beginning of a list, a comma in a list.
    before_value: Follow,
    /// Behind what a name comes: the beginning of a map, a comma in a map.
    before_name: Follow,
    /// Behind the beginning of a list or map.
    opened: Follow,
    /// Behind names.
    name: Follow,
    /// Behind values.
    value: Follow,
    /// One when a name goes on in the next word.
    in_name: u64,
    /// One when the next word begins behind a byte of a scalar outside of quotes.
    in_scalar: u64,
    /// Bits that are set once something stands where it cannot.
    wrong: u64,
}

/// What one word is made of, besides its classes.
pub(crate) struct Quoted {
    /// Quotes that begin or end a text.
    pub(crate) quotes: u64,
    /// Texts, from the opening quote to before the closing one.
    pub(crate) texts: u64,
}

impl Grammar {
    /// Whether everything so far stands where it may.
    pub(crate) fn is_kept(&self) -> bool {
        self.wrong == 0
    }

    /// Whether no list or map is open, if everything stands where it may.
    pub(crate) fn is_closed(&self) -> bool {
        self.open.is_empty()
    }

    /// Takes the next 64 bytes of a text, which begin at byte `at`.
    #[inline(always)]
    pub(crate) fn word(&mut self, text: &[u8], at: usize, classes: &Classes, quoted: &Quoted) {
        let outside = !(quoted.texts | quoted.quotes);
        let (opening, closing) = (quoted.quotes & quoted.texts, quoted.quotes & !quoted.texts);
        let blanks = classes.blanks & outside;
        let (begins, ends) = (classes.opening & outside, classes.closing & outside);
        let (colons, commas) = (classes.colons & outside, classes.commas & outside);
        let scalars = outside & !(blanks | begins | ends | colons | commas);
        let behind_scalars = scalars << 1 | self.in_scalar;
        self.in_scalar = scalars >> 63;
        let first_bytes = scalars & !behind_scalars;

        let (inside, in_maps) = self.containers(begins | ends, ends, classes.curly);
        let in_lists = inside & !in_maps;
        let maps_begin = begins & classes.curly;
        let before_value = colons | begins & !classes.curly | commas & in_lists;
        let value_may_begin = self.before_value.behind(before_value, 0, blanks);
        let name_may_begin = self.before_name.behind(maps_begin | commas & in_maps, 0, blanks);
        let names_end = self.ends_of_names(opening & name_may_begin, quoted.texts);
        let colon_may_stand = self.name.behind(names_end, 0, blanks);
        let values_end = ends | closing & !names_end;
        let value_ended = self.value.behind(values_end, behind_scalars & !scalars, blanks);
        let is_empty = self.opened.behind(begins, 0, blanks) & ends;

        self.wrong |= (opening | first_bytes | begins)
            & inside
            & !(value_may_begin | opening & name_may_begin)
            | colons & !colon_may_stand
            | commas & !(value_ended & inside)
            | ends & !(value_ended | is_empty);
        self.scalars(text, at, first_bytes);
    }

    /// Follows brackets; gives which bytes stand inside a container, and which in a map, where a closing bracket stands inside
    /// and an opening one outside of what it belongs to.
    #[inline(always)]
    fn containers(&mut self, mut brackets: u64, ends: u64, curly: u64) -> (u64, u64) {
        let (mut inside, mut in_maps, mut rest) = (0, 0, !0);
        while brackets != 0 {
            let upto = brackets ^ (brackets - 1);
            let bit = upto & brackets;
            let is_inside = all(!self.open.is_empty());
            inside |= rest & upto & is_inside;
            in_maps |= rest & upto & all(self.open.is_in_map());
            rest &= !upto;
            brackets &= brackets - 1;
            let is_curly = curly & bit != 0;
            if ends & bit == 0 {
                self.open.begin(is_curly);
            } else {
                self.wrong |= !is_inside | u64::from(self.open.is_in_map() ^ is_curly);
                self.open.end();
            }
        }
        (inside | rest & all(!self.open.is_empty()), in_maps | rest & all(self.open.is_in_map()))
    }

    /// The closing quotes of the names that begin at some opening ones.
    #[inline(always)]
    fn ends_of_names(&mut self, begin: u64, texts: u64) -> u64 {
        // One more at the beginning of a run of ones goes through it, and comes out behind.
        let (sum, goes_on) = (begin | self.in_name).overflowing_add(texts);
        self.in_name = u64::from(goes_on);
        sum & !texts
    }

    #[inline(always)]
    fn scalars(&mut self, text: &[u8], at: usize, mut first_bytes: u64) {
        while first_bytes != 0 {
            let start = at + first_bytes.trailing_zeros() as usize;
            self.wrong |= u64::from(!is_scalar(text, start));
            first_bytes &= first_bytes - 1;
        }
    }
}

/// All ones, or none.
#[inline(always)]
fn all(ones: bool) -> u64 {
    u64::from(ones).wrapping_neg()
}

/// Where tokens may begin that come behind others, across blanks.
#[derive(Clone, Copy, Debug, Default)]
struct Follow {
    /// One when the next word begins behind a token of this kind, perhaps with blanks between them.
    next: u64,
}

impl Follow {
    /// Where something else than a blank first stands behind the ends of tokens, or at and behind bytes `from` on.
    #[inline(always)]
    fn behind(&mut self, ends: u64, from: u64, blanks: u64) -> u64 {
        // One more at the first blank of a run goes through it, and comes out behind.
        let (sum, goes_on) = (ends << 1 | from | self.next).overflowing_add(blanks);
        self.next = ends >> 63 | u64::from(goes_on);
        sum & !blanks
    }
}

/// Whether a number or a word begins at byte `at` of a text, and nothing goes on behind it.
#[inline(always)]
fn is_scalar(text: &[u8], at: usize) -> bool {
    let word = |word: &[u8]| text[at..].starts_with(word).then_some(at + word.len());
    let end = match text[at] {
        b'-' | b'0'..=b'9' => number_end(text, at).ok(),
        b't' => word(b"true"),
        b'f' => word(b"false"),
        b'n' => word(b"null"),
        _ => None,
    };
    end.is_some_and(|end| text.get(end).is_none_or(|byte| ENDS_SCALAR[usize::from(*byte)]))
}

/// Blanks, and what tokens of other kinds begin with.
const ENDS_SCALAR: [bool; 256] = {
    let mut table = [false; 256];
    let ends = b" \t\r\n\",:{}[]";
    let mut at = 0;
    while at < ends.len() {
        table[ends[at] as usize] = true;
        at += 1;
    }
    table
};
