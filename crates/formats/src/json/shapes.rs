//! Records that look like one before: with the same brackets in the same order, and the same names where names matter, the
//! members that are wanted stand at the same places, so that nothing has to be looked for.
//!
//! A shape is learned of a record that was [gone through](super::slots). The brackets of a record close at its end and not before,
//! so that those of two records are the same or part ways; and where they are the same, a record has the names of one shape only.

use kyanite_scan::{Structure, Work, tuned};

use crate::needs::Need;

/// Shapes that are told apart; records that look otherwise are gone through.
const MOST: usize = 48;

/// The brackets that a shape has at most.
const LONGEST: usize = 200;

/// Records that fit no shape, beyond those that fit one, before shapes are looked for no more.
const PATIENCE: u32 = 200;

/// As many brackets as are compared at once.
const CHUNK: usize = 32;

/// The shapes of records so far.
#[derive(Debug, Default)]
pub struct Shapes {
    shapes: Vec<Shape>,
    /// Records that fit no shape, less those that fit one.
    misses: u32,
    /// Where the wanted values of the record under way begin.
    places: Vec<usize>,
}

/// What a record looks like.
#[derive(Debug)]
pub(super) struct Shape {
    /// Its brackets, from the opening to the closing one.
    kinds: Vec<u8>,
    /// The first of them, and ones where there are any.
    first: Chunk,
    mask: Chunk,
    layout: Layout,
}

/// Where names stand in a record, in the maps that are looked into. Brackets are counted from that of the record.
#[derive(Debug, Default)]
pub(super) struct Layout {
    /// What is looked into from one map or list that is not to the next.
    runs: Vec<Run>,
    /// The brackets that close maps that are looked into.
    closing: Vec<usize>,
    /// Where the values go that are wanted, in the order of their names.
    slots: Vec<SlotAt>,
}

/// Names that have nothing between them that is not looked into.
#[derive(Debug)]
struct Run {
    /// The brackets in front and at the end.
    first: usize,
    last: usize,
    names: Vec<NameAt>,
    /// The quotes of the names, and of values that are texts and nothing else.
    quotes: u32,
}

/// A name, its colon, and the first byte of its value.
#[derive(Debug)]
struct NameAt {
    /// They at the end of a word, as far as they find room there, and ones where they have bytes. Of a value that may be any
    /// scalar the first byte is left open.
    word: u128,
    mask: u128,
    /// How far behind the colon the value begins.
    ahead: usize,
    /// The bracket that comes next.
    bracket: usize,
    /// Whether the value is wanted.
    is_wanted: bool,
    /// Whether there is more to see to than the word: the name finds no room there, or the value is left open.
    is_special: bool,
    quoted: Box<str>,
}

/// Where a value goes.
#[derive(Clone, Copy, Debug)]
pub(super) struct SlotAt {
    pub(super) slot: usize,
    pub(super) need: Need,
    /// How many maps it is in.
    pub(super) depth: usize,
    /// The number of the bracket that comes next where it begins, counted from that of the record.
    pub(super) bracket: usize,
}

/// A record that has a known shape.
#[derive(Clone, Copy, Debug)]
pub(super) struct Fit<'s> {
    slots: &'s [SlotAt],
    places: &'s [usize],
    next: usize,
}

impl<'s> Fit<'s> {
    /// The bytes where wanted values begin, and where they go.
    #[inline]
    pub(super) fn places(&self) -> impl Iterator<Item = (usize, SlotAt)> + use<'s> {
        self.places.iter().copied().zip(self.slots.iter().copied())
    }

    /// Whether it has a value for each of so many slots.
    #[inline]
    pub(super) fn fills(&self, slots: usize) -> bool {
        self.slots.len() == slots
    }

    /// The number of the first bracket behind the record.
    #[inline]
    pub(super) fn next(&self) -> usize {
        self.next
    }
}

type Chunk = [u128; CHUNK / 16];

/// What is looked at before, at and behind a colon.
const WORD: usize = 16;

impl Shapes {
    /// Whether it is worth while to look for shapes.
    #[inline]
    pub(super) fn are_useful(&self) -> bool {
        self.misses < PATIENCE
    }

    /// Notes whether a record had a known shape.
    #[inline]
    pub(super) fn note(&mut self, is_known: bool) {
        self.misses = if is_known { self.misses.saturating_sub(1) } else { self.misses + 1 };
    }

    /// How the record fits whose bracket is that of number `opening`, if it has a shape that is known.
    #[inline]
    pub(super) fn fit(
        &mut self,
        text: &[u8],
        structure: &Structure,
        opening: usize,
    ) -> Option<Fit<'_>> {
        let kinds = structure.kinds(opening);
        let first = chunk(kinds);
        let places = &mut self.places;
        let Shape { kinds, layout, .. } = self.shapes.iter().find(|shape| {
            let Shape { kinds: own, layout, .. } = shape;
            let mut chunks = first.iter().zip(&shape.first).zip(&shape.mask);
            chunks.all(|((a, b), mask)| a & mask == *b)
                && (own.len() <= CHUNK || kinds.starts_with(own))
                && structure.brackets(opening..opening + own.len()).is_some_and(|brackets| {
                    tuned(Look { layout, text, structure, brackets, places }).is_some()
                })
        })?;
        Some(Fit { slots: &layout.slots, places, next: opening + kinds.len() })
    }

    /// Keeps the layout of the record between two brackets.
    pub(super) fn learn(&mut self, layout: Layout, kinds: &[u8]) {
        if kinds.len() > LONGEST {
            return;
        }
        let mask = chunk(&vec![0xFF; kinds.len()]);
        if self.places.len() < layout.slots.len() {
            self.places.resize(layout.slots.len(), 0);
        }
        let mut of_same_kinds = self.shapes.iter_mut().filter(|known| known.kinds == kinds);
        if of_same_kinds.any(|known| known.layout.join(&layout)) {
            return;
        }
        if self.shapes.len() < MOST {
            self.shapes.push(Shape { kinds: kinds.to_vec(), first: chunk(kinds), mask, layout });
        }
    }
}

/// The first of these kinds, and zeros where there are none.
#[inline]
fn chunk(kinds: &[u8]) -> Chunk {
    let first = kinds.first_chunk::<CHUNK>().copied().unwrap_or_else(|| {
        let mut first = [0; CHUNK];
        first[..kinds.len()].copy_from_slice(kinds);
        first
    });
    let (words, _) = first.as_chunks::<16>();
    std::array::from_fn(|at| words.get(at).map_or(0, |word| u128::from_ne_bytes(*word)))
}

/// Whether a record has a layout, and where its wanted values begin.
struct Look<'l> {
    layout: &'l Layout,
    text: &'l [u8],
    structure: &'l Structure,
    /// The brackets of the record.
    brackets: &'l [u32],
    places: &'l mut [usize],
}

impl Work for Look<'_> {
    type Output = Option<()>;

    #[inline(always)]
    fn run(self) -> Option<()> {
        let Self { layout, text, structure, brackets, places } = self;
        let bracket = |number: usize| brackets.get(number).map(|at| *at as usize);
        let has_escapes = structure.has_escapes();
        let mut places = places.iter_mut();
        for run in &layout.runs {
            let (from, to) = (bracket(run.first)?, bracket(run.last)?);
            let (mut colons, mut quotes) = (structure.colons(from), run.quotes);
            for name in &run.names {
                let colon = colons.next_before(bracket(name.bracket)?)?;
                let value = colon + name.ahead;
                let window = text.get(value.wrapping_sub(WORD - 1)..)?.first_chunk()?;
                if u128::from_le_bytes(*window) & name.mask != name.word
                    || colon < bracket(name.bracket - 1)?
                {
                    return None;
                }
                if name.is_wanted {
                    *places.next()? = value;
                }
                if name.is_special | has_escapes {
                    quotes += name.looks_special(text, structure, colon)?;
                }
            }
            // No other member, and no text that has no place there.
            if quotes != structure.quotes_between(from, to) || colons.next_before(to).is_some() {
                return None;
            }
        }
        let goes_on = |at: usize| matches!(text.get(at + 1), Some(b',' | b'}'));
        layout.closing.iter().all(|number| bracket(*number).is_some_and(goes_on)).then_some(())
    }
}

impl Layout {
    /// Notes that a map that is looked into ends at the bracket of that number.
    pub(super) fn end(&mut self, bracket: usize) {
        self.run(bracket);
    }

    /// Notes that the record goes on behind a map that ends at the bracket of that number.
    pub(super) fn behind_map(&mut self, bracket: usize) {
        self.closing.push(bracket);
    }

    /// Notes a name before the bracket of that number: where its closing quote and its value stand in `text`. Gives nothing
    /// where it is none to learn of.
    pub(super) fn name(
        &mut self,
        bracket: usize,
        text: &str,
        quotes: (usize, usize),
        value: usize,
        slot: Option<SlotAt>,
    ) -> Option<()> {
        let name = NameAt::new(bracket, text, quotes, value, slot.is_some())?;
        let run = self.run(bracket);
        run.quotes += name.quotes();
        run.names.push(name);
        self.slots.extend(slot);
        Some(())
    }

    /// The run that what stands before the bracket of that number belongs to.
    fn run(&mut self, bracket: usize) -> &mut Run {
        if self.runs.last().is_none_or(|run| run.last + 1 < bracket) {
            let first = bracket - 1;
            self.runs.push(Run { first, last: bracket, names: Vec::new(), quotes: 0 });
        }
        let last = self.runs.len() - 1;
        self.runs[last].last = bracket;
        &mut self.runs[last]
    }

    /// Makes of two layouts that differ in scalars alone one that has both; tells whether it could.
    fn join(&mut self, other: &Self) -> bool {
        let runs = || self.runs.iter().zip(&other.runs);
        let are_like = self.runs.len() == other.runs.len()
            && self.closing == other.closing
            && runs().all(|(own, other)| own.is_like(other));
        if are_like {
            for (own, other) in self.runs.iter_mut().zip(&other.runs) {
                own.join(other);
            }
        }
        are_like
    }
}

impl Run {
    fn is_like(&self, other: &Self) -> bool {
        (self.first, self.last, self.names.len()) == (other.first, other.last, other.names.len())
            && self.names.iter().zip(&other.names).all(|(own, other)| own.is_like(other))
    }

    fn join(&mut self, other: &Self) {
        for (own, other) in self.names.iter_mut().zip(&other.names) {
            if own.word != other.word {
                own.open();
            }
        }
        self.quotes = self.names.iter().map(NameAt::quotes).sum();
    }
}

/// Whether a scalar may begin with the byte.
#[inline]
fn is_scalar(byte: u8) -> bool {
    matches!(byte, b'"' | b'-' | b'0'..=b'9' | b't' | b'f' | b'n')
}

impl NameAt {
    /// A name by its quotes and the first byte of its value.
    fn new(
        bracket: usize,
        text: &str,
        quotes: (usize, usize),
        value: usize,
        is_wanted: bool,
    ) -> Option<Self> {
        let quoted = text.get(quotes.0..=quotes.1)?;
        let behind = text.get(quotes.1 + 1..=value)?;
        // A blank before the colon, or several behind it, is nothing to learn of.
        let ahead = match behind.as_bytes() {
            [b':', _] => 1,
            [b':', b' ', _] => 2,
            _ => return None,
        };
        let begin = (value + 1).saturating_sub(WORD).max(quotes.0);
        let known = text.as_bytes().get(begin..=value)?;
        let (mut word, mut mask) = ([0; WORD], [0; WORD]);
        word[WORD - known.len()..].copy_from_slice(known);
        mask[WORD - known.len()..].fill(!0);
        let mut name = Self {
            word: u128::from_le_bytes(word),
            mask: u128::from_le_bytes(mask),
            ahead,
            bracket,
            is_wanted,
            is_special: begin > quotes.0,
            quoted: quoted.into(),
        };
        match known.last()? {
            b'"' | b'{' | b'[' => {}
            first if is_scalar(*first) => name.open(),
            _ => return None,
        }
        Some(name)
    }

    /// Sees to what the word does not tell: that a long name, or one in a text with escapes, is just this, and that an open
    /// value is a scalar. Gives how many quotes that has.
    #[inline(never)]
    fn looks_special(&self, text: &[u8], structure: &Structure, colon: usize) -> Option<u32> {
        let begin = colon.checked_sub(self.quoted.len())?;
        let is_long = self.quoted.len() + self.ahead > WORD;
        if is_long && text.get(begin..colon)? != self.quoted.as_bytes() {
            return None;
        }
        // A longer name may end like it, behind a quote that is escaped.
        if structure.has_escapes() && !structure.is_quote(begin) {
            return None;
        }
        if !self.is_open() {
            return Some(0);
        }
        let first = *text.get(colon + self.ahead)?;
        is_scalar(first).then_some(if first == b'"' { 2 } else { 0 })
    }

    /// Lets the value be any scalar.
    fn open(&mut self) {
        let last = u128::MAX >> u8::BITS;
        self.word &= last;
        self.mask &= last;
        self.is_special = true;
    }

    /// Whether the value may be any scalar; else it begins just so.
    fn is_open(&self) -> bool {
        self.mask.to_le_bytes()[WORD - 1] == 0
    }

    /// How many quotes it has for certain, and its value.
    fn quotes(&self) -> u32 {
        if self.is_before_text() { 4 } else { 2 }
    }

    /// Whether its value is a text for certain.
    fn is_before_text(&self) -> bool {
        self.word.to_le_bytes()[WORD - 1] == b'"'
    }

    /// Whether it is the same name, before a value of the same kind or before scalars.
    fn is_like(&self, other: &Self) -> bool {
        let is_scalar = |name: &Self| name.is_open() || name.is_before_text();
        self.quoted == other.quoted
            && (self.ahead, self.bracket) == (other.ahead, other.bracket)
            && self.is_wanted == other.is_wanted
            && (self.word == other.word || is_scalar(self) && is_scalar(other))
    }
}
