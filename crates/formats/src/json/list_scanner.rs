//! Finds the items of one list in a JSON document while the document streams by, for documents larger than memory.
//!
//! The scanner checks everything around the items, matches the names that lead to the list, and overwrites both, and the commas between
//! items, with blanks. What remains is a sequence of JSON values at their original positions, whose grammar their reader checks.

use kyanite_scan::Structure;
use kyanite_tree::{Advice, Code, Diagnostic};

use super::bytewise::{Bytewise, Step};
use super::error::{ErrorKind, ReadError};
use super::inside::Inside;

/// Follows a document from its first byte.
#[derive(Debug)]
pub struct ListScanner {
    path: Vec<String>,
    /// What stands around the list, which itself is empty there.
    around: Bytewise,
    /// How many of those that are open there are maps on the path.
    on: usize,
    /// The name that is read in a map on the path, or was read last.
    name: Vec<u8>,
    is_naming: bool,
    /// The text, list or map that is the item under way.
    item: Inside,
    phase: Phase,
    /// Bytes that were looked at.
    at: u64,
    /// Scratch space for the structure of items.
    structure: Structure,
}

/// The structure of the items from one on.
#[derive(Clone, Copy)]
struct Reach {
    /// Where the first begins.
    at: usize,
    /// The number of a bracket near to where the next begins.
    near: usize,
}

/// So many brackets may be open in an item that is passed over by its structure.
const DEPTH: usize = 64;

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Phase {
    /// Before the list.
    Before,
    /// In the list, and what there is of the item.
    Items(Item),
    /// Behind the list.
    Behind,
    /// Behind the document.
    Done,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Item {
    /// The first may come, or the end.
    First,
    /// One has to come.
    Wanted,
    /// A number or word is under way.
    Word,
    /// A list or map is under way.
    Inside,
    /// It has ended.
    Ended,
}

/// What the first bytes of a document show.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Found {
    /// Nothing yet.
    Nothing,
    /// The list; its first item may begin behind this number of bytes.
    List(usize),
    /// There is no such list, or only a reader of the whole document can tell.
    Other,
}

/// What is wrong with a document around the items of its list.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ListScanError {
    /// It breaks the grammar.
    Grammar(ErrorKind),
    /// The list is not what it has to be.
    List {
        /// What is wrong, in one sentence.
        message: &'static str,
        /// What to do about it.
        advice: &'static str,
    },
}

/// What a look at more bytes gave.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct ScannedItems {
    /// The number of bytes behind which an item has ended and none has begun.
    pub cut: Option<usize>,
    /// What is wrong, and the number of bytes before it.
    pub list_error: Option<(usize, ListScanError)>,
}

const NO_COMMA: ListScanError =
    ListScanError::new("a comma is missing between these items", "put one there");
const NO_ITEM: ListScanError =
    ListScanError::new("an item is missing here", "take the comma away, or write the item");
const CROSSED: ListScanError =
    ListScanError::new("this bracket closes nothing", "take it away, or open it");
const TWICE: ListScanError = ListScanError::new(
    "the list that the rule goes through is given a second time",
    "take one of the two away: which one is meant cannot be known",
);
const ENDS_INSIDE: ListScanError =
    ListScanError::new("the document ends inside", "close its brackets, or get the rest of it");

impl ListScanError {
    const fn new(message: &'static str, advice: &'static str) -> Self {
        Self::List { message, advice }
    }

    /// What is wrong, as a message.
    #[must_use]
    pub fn diagnostic(&self) -> Diagnostic {
        let (message, advice) = match self {
            Self::Grammar(kind) => {
                let error = ReadError::new(kind.clone(), 0, 0);
                (error.message(), error.advice())
            }
            Self::List { message, advice } => ((*message).to_owned(), Advice::words(*advice)),
        };
        Diagnostic::error(Code::Syntax, message).advise(advice)
    }
}

impl ListScanner {
    /// A scanner for the list that these names lead to from the root of a document.
    #[must_use]
    pub fn new(path: Vec<String>) -> Self {
        Self {
            path,
            around: Bytewise::new(),
            on: 0,
            name: Vec::new(),
            is_naming: false,
            item: Inside::default(),
            phase: Phase::Before,
            at: 0,
            structure: Structure::default(),
        }
    }

    /// Looks for the list in the bytes that come next.
    pub fn find(&mut self, bytes: &[u8]) -> Found {
        for (position, byte) in bytes.iter().enumerate() {
            self.at += 1;
            // A byte order mark.
            if self.at <= 3 && matches!(byte, 0xEF | 0xBB | 0xBF) {
                continue;
            }
            match self.outside(*byte) {
                Ok(()) if matches!(self.phase, Phase::Items(_)) => {
                    return Found::List(position + 1);
                }
                Ok(()) if self.phase == Phase::Before => {}
                _ => return Found::Other,
            }
        }
        Found::Nothing
    }

    /// Follows the items in the bytes that come next, and makes blank what is not part of them.
    pub fn follow(&mut self, bytes: &mut [u8]) -> ScannedItems {
        let mut scanned = ScannedItems::default();
        let (mut at, mut from) = (0, None);
        while at < bytes.len() {
            let byte = bytes[at];
            let Phase::Items(item) = self.phase else {
                if let Err(list_error) = self.outside(byte) {
                    scanned.list_error = Some((at, list_error));
                    return scanned;
                }
                blank(&mut bytes[at]);
                at += 1;
                continue;
            };
            if item == Item::Inside {
                let end = self.item.pass(bytes, at);
                if end.is_some() {
                    self.phase = Phase::Items(Item::Ended);
                }
                at = end.unwrap_or(bytes.len());
                continue;
            }
            let begin = at;
            match self.between(item, byte) {
                Err(list_error) => {
                    scanned.list_error = Some((at, list_error));
                    return scanned;
                }
                Ok(true) => {
                    blank(&mut bytes[at]);
                    scanned.cut = Some(at + 1);
                }
                Ok(false) => {}
            }
            at += 1;
            if matches!(byte, b'{' | b'[')
                && let Some(end) = self.end_of_item(bytes, begin, &mut from)
            {
                self.phase = Phase::Items(Item::Ended);
                at = end;
            }
        }
        scanned
    }

    /// Where the item ends that begins with the bracket at byte `at`, if its structure shows that.
    fn end_of_item(&mut self, bytes: &[u8], at: usize, from: &mut Option<Reach>) -> Option<usize> {
        let Reach { at: first, near } = *from.get_or_insert_with(|| {
            self.structure.find_unchecked(&bytes[at..]);
            Reach { at, near: 0 }
        });
        let opening = self.structure.number_at(at - first, near)?;
        let closing = self.structure.container_end(opening, DEPTH)?;
        *from = Some(Reach { at: first, near: closing + 1 });
        Some(first + self.structure.bracket(closing)? + 1)
    }

    /// What is wrong when the document ends here.
    #[must_use]
    pub fn finish(&self) -> Option<ListScanError> {
        (self.phase != Phase::Done).then_some(ENDS_INSIDE)
    }

    /// Takes a byte that stands in the list and in no text, list or map of it; tells whether an item may end behind it.
    fn between(&mut self, item: Item, byte: u8) -> Result<bool, ListScanError> {
        let may_begin = matches!(item, Item::First | Item::Wanted);
        let next = match byte {
            b' ' | b'\t' | b'\n' | b'\r' if item == Item::Word => Item::Ended,
            b' ' | b'\t' | b'\n' | b'\r' => item,
            b',' if may_begin => return Err(NO_ITEM),
            b',' => Item::Wanted,
            b']' if item == Item::Wanted => return Err(NO_ITEM),
            b']' => {
                self.phase = Phase::Behind;
                self.outside(byte)?;
                return Ok(true);
            }
            b'}' => return Err(CROSSED),
            _ if item == Item::Ended => return Err(NO_COMMA),
            b'"' | b'{' | b'[' if !may_begin => return Err(NO_COMMA),
            b'"' | b'{' | b'[' => {
                self.item = Inside::begin(byte);
                Item::Inside
            }
            _ => Item::Word,
        };
        self.phase = Phase::Items(next);
        Ok(byte == b',')
    }

    /// Takes a byte that stands around the list.
    fn outside(&mut self, byte: u8) -> Result<(), ListScanError> {
        let step = self.around.byte(byte).map_err(ListScanError::Grammar)?;
        let depth = self.around.depth();
        match step {
            Step::Inside if self.is_naming => self.name.push(byte),
            Step::Inside => {}
            Step::BeginName if depth == self.on => {
                self.is_naming = true;
                self.name.clear();
            }
            Step::BeginName => {}
            Step::EndName => self.is_naming = false,
            Step::Begin { is_map } if depth - 1 == self.on && self.leads_on()? => {
                match (is_map, self.on == self.path.len()) {
                    (false, true) => self.phase = Phase::Items(Item::First),
                    (true, false) => self.on += 1,
                    _ => return Err(CROSSED),
                }
            }
            Step::Scalar if depth == self.on && self.leads_on()? => return Err(CROSSED),
            Step::Begin { .. } | Step::Scalar => {}
            // A map on the path ends: before the list that means that it is not there.
            Step::End if depth < self.on && self.phase == Phase::Before => return Err(CROSSED),
            Step::End => {
                self.on = self.on.min(depth);
                if depth == 0 {
                    self.phase = Phase::Done;
                }
            }
        }
        Ok(())
    }

    /// Whether the value that begins is that of the next name of the path.
    fn leads_on(&self) -> Result<bool, ListScanError> {
        let Some(wanted) = self.on.checked_sub(1).map(|before| self.path.get(before)) else {
            return Ok(true);
        };
        let is_next = wanted.is_some_and(|name| name.as_bytes() == self.name);
        // A name with escapes may be any.
        let is_unclear = self.name.contains(&b'\\');
        match self.phase {
            Phase::Behind if is_next || is_unclear => Err(TWICE),
            _ if is_unclear => Err(CROSSED),
            _ => Ok(is_next),
        }
    }
}

fn blank(byte: &mut u8) {
    if !matches!(byte, b'\n' | b'\r') {
        *byte = b' ';
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What is left of a text that comes in pieces of these sizes, or what is wrong and where.
    fn scanned(
        text: &str,
        path: &[&str],
        size: usize,
    ) -> Result<String, Option<(usize, ListScanError)>> {
        let mut list_scanner =
            ListScanner::new(path.iter().map(|name| (*name).to_owned()).collect());
        let mut bytes = text.as_bytes().to_vec();
        let mut at = 0;
        loop {
            let end = (at + size).min(bytes.len());
            match list_scanner.find(&bytes[at..end]) {
                Found::List(begin) => {
                    at += begin;
                    break;
                }
                Found::Nothing if end < bytes.len() => at = end,
                Found::Nothing | Found::Other => return Err(None),
            }
        }
        bytes[..at].iter_mut().for_each(blank);
        let mut cut = at;
        while at < bytes.len() {
            let end = (at + size).min(bytes.len());
            let found = list_scanner.follow(&mut bytes[at..end]);
            if let Some((wrong, list_error)) = found.list_error {
                return Err(Some((at + wrong, list_error)));
            }
            cut = found.cut.map_or(cut, |cut| at + cut);
            at = end;
        }
        assert!(
            list_scanner.finish().is_some() || bytes[cut..].iter().all(u8::is_ascii_whitespace)
        );
        match list_scanner.finish() {
            Some(list_error) => Err(Some((at, list_error))),
            None => Ok(String::from_utf8(bytes).unwrap()),
        }
    }

    #[test]
    fn items_keep_their_places() {
        for (text, path, left) in [
            ("[1, 2]", &[][..], " 1  2 "),
            ("[]", &[], "  "),
            ("[[1,\"]\"],{\"a\":[2,3]}]", &[], " [1,\"]\"] {\"a\":[2,3]} "),
            ("\u{feff}[1]", &[], "    1 "),
            ("{\"a\":\n[1,\n\"x\"]}", &["a"], "     \n 1 \n\"x\"  "),
            (
                "{\"x\":{\"a\":[9]},\"a\":[{}], \"b\": [1]}",
                &["a"],
                "                    {}            ",
            ),
            (
                "{\"a\":{\"c\":\"b\",\"b\":[true ,null]}}",
                &["a", "b"],
                "                   true  null   ",
            ),
        ] {
            for size in [1, 2, 3, 100] {
                assert_eq!(scanned(text, path, size).as_deref(), Ok(left), "{text} {size}");
            }
        }
    }

    #[test]
    fn what_is_wrong() {
        let grammar = |at, kind| Some((at, ListScanError::Grammar(kind)));
        for (text, path, found) in [
            ("{}", &[][..], None),
            ("{\"a\":1}", &["a"], None),
            ("{\"a\":{}}", &["a"], None),
            ("{\"a\":\"x\"}", &["a"], None),
            ("{\"b\":[1]}", &["a"], None),
            ("{\"\\u0061\":[1]}", &["a"], None),
            ("[1 2]", &[], Some((3, NO_COMMA))),
            ("[1,,2]", &[], Some((3, NO_ITEM))),
            ("[,1]", &[], Some((1, NO_ITEM))),
            ("[1,]", &[], Some((3, NO_ITEM))),
            ("[1}", &[], Some((2, CROSSED))),
            ("[1] 2", &[], grammar(4, ErrorKind::TextAfterEnd)),
            ("[1", &[], Some((2, ENDS_INSIDE))),
            ("[\"", &[], Some((2, ENDS_INSIDE))),
            ("{\"a\":[1]", &["a"], Some((8, ENDS_INSIDE))),
            ("{\"a\":[1]]", &["a"], grammar(8, ErrorKind::NoComma('}'))),
            ("{\"a\":[1],}", &["a"], grammar(9, ErrorKind::TrailingComma)),
            ("{\"a\":[1],\"b\":[1 2]}", &["a"], grammar(16, ErrorKind::NoComma(']'))),
            ("{\"a\":[1],\"b\":{\"c\" 2}}", &["a"], grammar(18, ErrorKind::NoColon)),
            ("{\"a\":[1],\"b\":tru}", &["a"], grammar(16, ErrorKind::NotAValue)),
            ("{\"b\":[1 2],\"a\":[1]}", &["a"], None),
            ("{\"a\":[1],\"a\":[2]}", &["a"], Some((13, TWICE))),
            ("{\"a\":[1] \"b\":2}", &["a"], grammar(9, ErrorKind::NoComma('}'))),
        ] {
            for size in [1, 2, 3, 100] {
                assert_eq!(scanned(text, path, size), Err(found.clone()), "{text} {size}");
            }
        }
    }

    proptest! {
        #[test]
        fn the_items_are_those_of_the_list(items in proptest::collection::vec(crate::json::write::tests::any_json(), 0..6), size in 1usize..9, pretty in any::<bool>()) {
            let document = serde_json::json!({"n": {"a": [1]}, "a": {"b": items, "c": [[], "]"]}, "z": null});
            let text = if pretty { serde_json::to_string_pretty(&document) } else { serde_json::to_string(&document) }.unwrap();
            let left = scanned(&text, &["a", "b"], size).unwrap();
            prop_assert_eq!(left.len(), text.len());
            let read: Vec<serde_json::Value> = serde_json::Deserializer::from_str(&left).into_iter().map(Result::unwrap).collect();
            prop_assert_eq!(read, items);
        }

        #[test]
        fn never_panics(text in "[\\[\\]{}\",:a1\\\\ \n]{0,40}", size in 1usize..9) {
            let _ = scanned(&text, &["a"], size);
            let _ = scanned(&text, &[], size);
        }
    }
}
