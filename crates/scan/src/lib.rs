//! The structure of JSON texts (RFC 8259), found 64 bytes at a time: where texts in quotes begin and end, where brackets stand outside
//! of them, and whether all of it is well-formed.
//!
//! What is found is the same on every processor; how fast depends on its vector instructions, which are detected when
//! the program runs.
//!
//! ```
//! use kyanite_scan::Structure;
//!
//! let text = br#"{"berths": [{"no": 4, "note": "a ] in a text"}], "depth": 6.5}"#;
//! let structure = Structure::of(text);
//! assert!(structure.is_well_formed());
//! // The brackets are the opening one and that of the list.
//! assert_eq!((structure.bracket(0), structure.bracket(1)), (Some(0), Some(11)));
//! let end = structure.container_end(1, 10).and_then(|end| structure.bracket(end));
//! assert_eq!(end, Some(46));
//! assert_eq!(structure.closing_quote(1), Some(8));
//! ```

/// The function `words`, which finds the structure of a text word by word, and `CHECKS` its grammar on the way, perhaps with more instructions; a call of it is
/// sound only where the processor has these.
macro_rules! words {
    ($(#[$instructions:meta])? $parity:path) => {
        $(#[$instructions])?
        pub(crate) fn words<const CHECKS: bool>(
            text: &[u8],
            words: &mut [u64],
            brackets: &mut Brackets,
        ) -> Finder {
            let mut finder = Finder::default();
            for (bytes, words) in text.chunks(GROUP * WORD).zip(words.chunks_mut(GROUP)) {
                let mut more = More::behind(brackets);
                let (whole, rest) = bytes.as_chunks::<WORD>();
                let mut words = words.iter_mut();
                for (bytes, word) in whole.iter().zip(&mut words) {
                    let classes = classes(bytes);
                    *word = finder.word::<CHECKS>(text, bytes, classes, |bits| $parity(bits), &mut more);
                }
                if let (false, Some(word)) = (rest.is_empty(), words.next()) {
                    let bytes = padded(rest);
                    *word = finder.word::<CHECKS>(text, &bytes, classes(&bytes), parity, &mut more);
                }
                more.keep();
            }
            finder
        }
    };
}

#[cfg(target_arch = "x86_64")]
mod avx2;
#[cfg(target_arch = "x86_64")]
mod avx512;
mod classes;
#[cfg(target_arch = "x86_64")]
mod clmul;
mod escapes;
mod finder;
mod grammar;
#[cfg(target_arch = "aarch64")]
mod neon;
mod nesting;
mod number;
mod plain;
mod portable;
#[cfg(target_arch = "x86_64")]
mod sse;

use finder::{Brackets, Finder};
pub use nesting::Nesting;
pub use number::{number_end, short_number};
pub use plain::{CHUNK, content_bytes, equal_bits, is_plain, plain_bytes, unescaped_bytes};

/// The bytes that one mask stands for.
pub(crate) const WORD: usize = 64;

/// Where the structure of a text is.
#[derive(Clone, Debug, Default)]
pub struct Structure {
    /// Quotes that begin or end a text, a bit a byte, the lowest bit for the first byte.
    words: Vec<u64>,
    brackets: Brackets,
    is_well_formed: bool,
    is_closed: bool,
    has_escapes: bool,
}

/// Writes down the structure of a text: its words, of which there are as many as it has, and behind others its brackets.
type Scan = fn(&[u8], &mut [u64], &mut Brackets) -> Finder;

impl Structure {
    /// The structure of `text`, which begins outside of quotes.
    #[must_use]
    pub fn of(text: &[u8]) -> Self {
        let mut structure = Self::default();
        structure.find(text);
        structure
    }

    /// Finds the structure of another text, in place of the one before.
    pub fn find(&mut self, text: &[u8]) {
        self.find_by(ways::<true>().next().unwrap_or(portable::words::<true>), text);
    }

    /// The same without a look at the grammar, for a text that somebody else checks: whether it is well-formed is not known then.
    pub fn find_unchecked(&mut self, text: &[u8]) {
        self.find_by(ways::<false>().next().unwrap_or(portable::words::<false>), text);
        self.is_well_formed = false;
    }

    fn find_by(&mut self, scan: Scan, text: &[u8]) {
        self.brackets.clear();
        // Places are kept in 32 bits.
        let fits = u32::try_from(text.len()).is_ok();
        self.words.resize(if fits { text.len().div_ceil(WORD) } else { 0 }, 0);
        let text = if fits { text } else { &[] };
        let found = scan(text, &mut self.words, &mut self.brackets);
        self.is_well_formed = fits && found.is_well_formed();
        self.is_closed = found.is_closed();
        self.has_escapes = found.has_escapes();
    }

    /// Whether the text is one of JSON values, one behind the other, the last of which may lack its end: every byte was looked at
    /// for that (RFC 8259 sections 2 to 7). Of a text of 4 GiB or more nothing is known.
    ///
    /// ```
    /// use kyanite_scan::Structure;
    ///
    /// assert!(Structure::of(b"{\"berth\": [4, null]}\n{\"berth\": [").is_well_formed());
    /// assert!(!Structure::of(b"{\"berth\": [4 null]}").is_well_formed());
    /// ```
    #[must_use]
    pub fn is_well_formed(&self) -> bool {
        self.is_well_formed
    }

    /// Whether a well-formed text ends with a value, or blanks behind one: no list, map or text is open there.
    #[must_use]
    pub fn is_closed(&self) -> bool {
        self.is_well_formed && self.is_closed
    }

    /// Whether there is a backslash anywhere.
    #[must_use]
    pub fn has_escapes(&self) -> bool {
        self.has_escapes
    }

    /// Where the bracket of that number stands.
    #[inline]
    #[must_use]
    pub fn bracket(&self, number: usize) -> Option<usize> {
        self.brackets.places.get(number).map(|at| *at as usize)
    }

    /// Where the last bracket stands.
    #[must_use]
    pub fn last_bracket(&self) -> Option<usize> {
        self.brackets.places.last().map(|at| *at as usize)
    }

    /// Whether byte `at` stands in a text, or is the quote that begins one.
    ///
    /// ```
    /// use kyanite_scan::Structure;
    ///
    /// let structure = Structure::of(br#"["a,", 4]"#);
    /// assert!(structure.is_in_text(3) && !structure.is_in_text(5));
    /// ```
    #[must_use]
    pub fn is_in_text(&self, at: usize) -> bool {
        let (before, bit) = self.words.split_at((at / WORD).min(self.words.len()));
        let quotes: u32 = before.iter().map(|word| word.count_ones()).sum();
        let upto = !0 >> (WORD - 1 - at % WORD);
        (quotes + bit.first().map_or(0, |word| (word & upto).count_ones())) % 2 == 1
    }

    /// The bytes that the brackets from that number on are.
    #[inline]
    fn kinds(&self, from: usize) -> &[u8] {
        self.brackets.kinds.get(from..).unwrap_or_default()
    }

    /// The number of the bracket at byte `at`, if there is one; the search begins at number `near`.
    #[inline]
    #[must_use]
    pub fn number_at(&self, at: usize, near: usize) -> Option<usize> {
        const STEPS: usize = 8;
        let from = if self.bracket(near).is_some_and(|bracket| bracket <= at) { near } else { 0 };
        let is_behind = |number: &usize| self.bracket(*number).is_none_or(|bracket| bracket >= at);
        let number = (from..from + STEPS).find(is_behind).unwrap_or_else(|| {
            self.brackets.places.partition_point(|bracket| (*bracket as usize) < at)
        });
        (self.bracket(number) == Some(at)).then_some(number)
    }

    /// The quote that closes the text that is opened at byte `opened`.
    #[inline]
    #[must_use]
    pub fn closing_quote(&self, opened: usize) -> Option<usize> {
        let mut at = (opened + 1) / WORD;
        let mut quotes = self.words.get(at)? & (!0 << ((opened + 1) % WORD));
        while quotes == 0 {
            at += 1;
            quotes = *self.words.get(at)?;
        }
        Some(at * WORD + quotes.trailing_zeros() as usize)
    }

    /// The number of the bracket that closes the list or map that the bracket of number `opening` opens; `None` when there is
    /// none, when brackets are crossed, or when more than `depth` of them, or 64, are open at once.
    #[inline]
    #[must_use]
    pub fn container_end(&self, opening: usize, depth: usize) -> Option<usize> {
        // The open brackets, one bit each: whether it is a curly one. Which bracket comes next is nothing to guess at, so that
        // all kinds go one way: one bit of a bracket says whether it closes, another whether it is curly.
        let (mut curly, mut open, mut crossed) = (0_u64, 0_usize, 0_u64);
        let depth = depth.min(u64::BITS as usize);
        for (distance, kind) in self.kinds(opening).iter().enumerate() {
            let byte = u64::from(*kind);
            let (closes, is_curly) = (byte >> 2 & 1, byte >> 5 & 1);
            let opens = closes ^ 1;
            crossed |= closes & (curly ^ is_curly);
            curly = curly >> closes << opens | opens & is_curly;
            open = open.wrapping_add(opens as usize).wrapping_sub(closes as usize);
            // The first bracket closed something, or too much is open.
            if open > depth {
                return None;
            }
            if open == 0 {
                return (crossed == 0).then_some(opening + distance);
            }
        }
        None
    }
}

/// All ways that this processor has, the fastest first.
fn ways<const CHECKS: bool>() -> impl Iterator<Item = Scan> {
    #[cfg(target_arch = "x86_64")]
    let ways = [avx512::scan::<CHECKS>(), avx2::scan::<CHECKS>(), sse::scan::<CHECKS>()];
    #[cfg(target_arch = "aarch64")]
    let ways = [neon::scan::<CHECKS>()];
    #[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
    let ways: [Option<Scan>; 0] = [];
    ways.into_iter().flatten().chain([portable::words::<CHECKS> as Scan])
}

/// The last bytes of a text, with blanks behind them up to a whole word.
#[inline]
pub(crate) fn padded(rest: &[u8]) -> [u8; WORD] {
    let mut word = [b' '; WORD];
    word[..rest.len()].copy_from_slice(rest);
    word
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The structure by one look at each byte after another.
    fn by_hand(text: &[u8]) -> (Vec<usize>, Vec<u32>) {
        let (mut quotes, mut brackets) = (Vec::new(), Vec::new());
        let (mut inside, mut escaped) = (false, false);
        for (at, byte) in text.iter().enumerate() {
            let is_escaped = std::mem::take(&mut escaped);
            match byte {
                b'\\' => escaped = !is_escaped,
                b'"' if !is_escaped => {
                    quotes.push(at);
                    inside = !inside;
                }
                b'{' | b'}' | b'[' | b']' if !inside => brackets.push(at as u32),
                _ => {}
            }
        }
        (quotes, brackets)
    }

    fn bits(words: &[u64]) -> Vec<usize> {
        let bits = words.iter().enumerate();
        bits.flat_map(|(at, word)| {
            (0..WORD).filter(move |bit| word >> bit & 1 == 1).map(move |bit| at * WORD + bit)
        })
        .collect()
    }

    proptest! {
        #[test]
        fn every_way_finds_the_same(text in proptest::collection::vec(
            prop_oneof![3 => proptest::sample::select(&b"\"\\{}[],:a1 \n\t\x01\x1f\x7f\x80\xffeE+-.x/Z@`"[..]), 1 => any::<u8>()],
            0..300,
        )) {
            let (quotes, brackets) = by_hand(&text);
            let is_well_formed = Structure::of(&text).is_well_formed();
            let mut found = Structure::default();
            let checked = ways::<true>().map(|way| (way, true));
            for (way, checks) in checked.chain(ways::<false>().map(|way| (way, false))) {
                found.find_by(way, &text);
                prop_assert_eq!(bits(&found.words), quotes.clone());
                prop_assert_eq!(&found.brackets.places, &brackets);
                let kinds: Vec<u8> = brackets.iter().map(|at| text[*at as usize]).collect();
                prop_assert_eq!(found.kinds(0), kinds);
                if checks {
                    prop_assert_eq!(found.is_well_formed(), is_well_formed);
                }
                prop_assert_eq!(found.has_escapes(), text.contains(&b'\\'));
            }
        }

        #[test]
        fn what_is_asked_of_it(text in "[\"{}a:\\[\\]\\\\ ]{0,200}", at in 0usize..300, near in 0usize..99, depth in 0usize..9) {
            let structure = Structure::of(text.as_bytes());
            prop_assert_eq!(
                structure.number_at(at, near),
                structure.brackets.places.iter().position(|bracket| *bracket as usize == at)
            );
            let quotes = bits(&structure.words);
            prop_assert_eq!(
                structure.closing_quote(at),
                quotes.iter().copied().find(|quote| *quote > at)
            );
            if let Some(end) = structure.container_end(near, depth) {
                prop_assert!(end > near && structure.bracket(end).is_some());
            }
        }
    }

    /// Whether a text is made of JSON values, as serde_json has it; `None` where it refuses a number for its size.
    fn is_json(text: &str) -> Option<bool> {
        let values = serde_json::Deserializer::from_str(text).into_iter::<serde_json::Value>();
        let failed = values.into_iter().find_map(Result::err);
        match failed {
            Some(error) if error.to_string().contains("out of range") => None,
            failed => Some(failed.is_none()),
        }
    }

    /// Whether as many brackets close as open.
    fn is_closed(structure: &Structure) -> bool {
        let closing = structure.kinds(0).iter().filter(|kind| matches!(kind, b']' | b'}'));
        closing.count() * 2 == structure.kinds(0).len()
    }

    /// Texts of tokens, most of which stand where they may.
    fn nearly_json() -> impl Strategy<Value = String> {
        let scalar = prop_oneof![
            "\"[a\u{e9}:,\\[{} ]{0,70}\"",
            "\"(a|\\\\[\"\\\\/bfnrt]|\\\\u[0-9abefABEF][0-9a-fA-F]{3}|\\\\uD83D\\\\uDE00){0,9}\"",
            "-?(0|[1-9][0-9]{0,30})(\\.[0-9]{1,3})?([eE][+-]?[0-9]{1,2})?",
            "true|false|null",
        ];
        let value = scalar.prop_recursive(5, 40, 5, |inner| {
            let blank = "[ \n\t\r]{0,3}( {70})?";
            let item =
                (blank, inner, blank).prop_map(|(before, item, behind)| before + &item + &behind);
            let member = ("\"[ab:\\[{]{0,20}\"", blank, item.clone())
                .prop_map(|(name, blank, item)| format!("{name}{blank}:{item}"));
            let joined = |items: Vec<String>, open: &str, close: &str| {
                format!("{open}{}{close}", items.join(","))
            };
            prop_oneof![
                proptest::collection::vec(item, 0..6)
                    .prop_map(move |items| joined(items, "[", "]")),
                proptest::collection::vec(member, 0..6)
                    .prop_map(move |items| joined(items, "{", "}")),
            ]
        });
        proptest::collection::vec(value, 0..4).prop_map(|values| values.join("\n"))
    }

    proptest! {
        /// What is well-formed, and what one changed byte makes of it, is told as serde_json has it.
        #[test]
        fn the_grammar_is_that_of_json(
            text in nearly_json(),
            at in any::<proptest::sample::Index>(),
            with in proptest::option::of(proptest::sample::select(&b"\"\\{}[],:a1 0.-+e\n\x01tun/D8"[..])),
        ) {
            prop_assert!(Structure::of(text.as_bytes()).is_well_formed(), "{text}");
            let mut bytes = text.into_bytes();
            if let Some(byte) = at.index(bytes.len() + 1).checked_sub(1) {
                bytes.splice(byte..=byte, with);
            }
            // Where what is outermost is a list, all tokens have a place.
            bytes.insert(0, b'[');
            bytes.push(b']');
            let Ok(text) = String::from_utf8(bytes) else { return Ok(()) };
            let mut structure = Structure::default();
            for way in ways::<true>() {
                structure.find_by(way, text.as_bytes());
                let is_closed = is_closed(&structure);
                if is_closed || !structure.is_well_formed() {
                    let expected = is_json(&text).unwrap_or(structure.is_well_formed());
                    prop_assert_eq!(structure.is_well_formed(), expected, "{}", text);
                }
            }
        }

        #[test]
        fn tokens_in_any_order(text in "(\\[|\\]|\\{|\\}|,|:|\"\"|\"a\"|1|-|0|\\.|e|true|nul| |\\\\){0,12}") {
            let text = format!("[{text}]");
            let structure = Structure::of(text.as_bytes());
            let is_closed = is_closed(&structure);
            if is_closed || !structure.is_well_formed() {
                prop_assert_eq!(Some(structure.is_well_formed()), is_json(&text), "{}", text);
            }
        }
    }

    #[test]
    fn what_is_not_well_formed() {
        for text in [
            "{\"a\":9,\"b\":[1 2]}",
            "[1,]",
            "[,1]",
            "{\"a\"}",
            "{\"a\":}",
            "{\"a\":1,}",
            "{,}",
            "{1:2}",
            "[\"a\":1]",
            "{\"a\":1 \"b\":2}",
            "[01]",
            "[1.]",
            "[-]",
            "[1e]",
            "[+1]",
            "[tru]",
            "[truefalse]",
            "[12a]",
            "[\"\\x\"]",
            "[\"\\u12g4\"]",
            "[\"\\ud800\"]",
            "[\"\\udc00\"]",
            "[\"\\ud800a\\udc00\"]",
            "[\"\\\\ud83d\\ude00\"]",
            "[}",
            "{]",
            "]",
            "[]]",
            "1,2",
            ":",
            "[\"a\x01\"]",
            "[\"a",
        ] {
            assert!(!Structure::of(text.as_bytes()).is_well_formed(), "{text}");
            // The same across the border of words.
            let moved = format!("{}{text}", " ".repeat(63 - text.len() / 2));
            assert!(!Structure::of(moved.as_bytes()).is_well_formed(), "{text}");
        }
    }

    #[test]
    fn containers() {
        for (text, depth, end) in [
            ("[]", 1, Some(1)),
            ("[[],{\"]\":[1]}] ]", 3, Some(13)),
            ("[[],{\"]\":[1]}] ]", 2, None),
            ("[}", 9, None),
            ("[{]}", 9, None),
            ("[", 9, None),
            ("{\"a\\\"}\": {}}", 9, Some(11)),
            (&format!("{}{}", "[".repeat(64), "]".repeat(64)), 200, Some(127)),
            (&format!("{}{}", "[".repeat(65), "]".repeat(65)), 200, None),
            ("]", 9, None),
        ] {
            let structure = Structure::of(text.as_bytes());
            let found = structure.container_end(0, depth);
            assert_eq!(found.and_then(|end| structure.bracket(end)), end, "{text}");
        }
    }
}
