//! The items of one list inside a JSON document, told apart as the document comes by: for documents larger than memory.
//!
//! What stands around the items is checked for its brackets and looked at only for the names that lead to the list; it is
//! made blank, as are the commas between items, so that what is left is a run of values at the places that they have in
//! the document.

use kyanite_scan::Structure;
use kyanite_tree::{Advice, Code, Diagnostic, Setting};

/// Follows a document from its first byte.
#[derive(Debug)]
pub struct Frame {
    path: Vec<String>,
    /// Whether each bracket that is open around the items is a curly one.
    open: Vec<bool>,
    /// How many of these belong to maps on the path.
    on: usize,
    expects: Expects,
    /// The name that is read in a map on the path, or was read last.
    name: Vec<u8>,
    is_naming: bool,
    in_text: bool,
    is_escaped: bool,
    /// Brackets that are open inside the item.
    depth: usize,
    phase: Phase,
    /// Bytes that were looked at.
    at: u64,
    /// Room for the structure of items.
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

/// What comes next in a map on the path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Expects {
    Name,
    Colon,
    Value,
    Comma,
}

/// What the first bytes of a document show.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Found {
    /// Nothing yet.
    Nothing,
    /// The list, whose first item may begin behind so many bytes.
    List(usize),
    /// That there is no such list, or that only a reader of the whole document can tell.
    Other,
}

/// What is wrong with a document around the items of its list.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Trouble {
    /// What is wrong, in one sentence.
    message: &'static str,
    /// What to do about it; the words, and the setting that they end with.
    advice: &'static str,
    setting: Option<Setting>,
}

/// What a look at more bytes gave.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Framed {
    /// Behind so many of them an item has ended, and none has begun.
    pub cut: Option<usize>,
    /// Behind so many of them something is wrong.
    pub trouble: Option<(usize, Trouble)>,
}

const NO_COMMA: Trouble = Trouble::new("a comma is missing between these items", "put one there");
const NO_ITEM: Trouble =
    Trouble::new("an item is missing here", "take the comma away, or write the item");
const CROSSED: Trouble = Trouble::new("this bracket closes nothing", "take it away, or open it");
const BEHIND: Trouble = Trouble {
    message: "something stands behind the end of the document",
    advice: "take it away; for several documents say ",
    setting: Some(Setting::From(Some("jsonl"))),
};
const TWICE: Trouble = Trouble::new(
    "the list that the rule goes through is given a second time",
    "take one of the two away: which one is meant cannot be known",
);
const ENDS_INSIDE: Trouble =
    Trouble::new("the document ends inside", "close its brackets, or get the rest of it");

impl Trouble {
    const fn new(message: &'static str, advice: &'static str) -> Self {
        Self { message, advice, setting: None }
    }

    /// What is wrong, as a message.
    #[must_use]
    pub fn diagnostic(&self) -> Diagnostic {
        let advice = Advice::words(self.advice);
        let advice = match &self.setting {
            Some(setting) => advice.setting(setting.clone()),
            None => advice,
        };
        Diagnostic::error(Code::Syntax, self.message).advise(advice)
    }
}

impl Frame {
    /// A frame of the list that these names lead to from the root of a document.
    #[must_use]
    pub fn new(path: Vec<String>) -> Self {
        Self {
            path,
            open: Vec::new(),
            on: 0,
            expects: Expects::Value,
            name: Vec::new(),
            is_naming: false,
            in_text: false,
            is_escaped: false,
            depth: 0,
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
    pub fn follow(&mut self, bytes: &mut [u8]) -> Framed {
        let mut framed = Framed::default();
        let (mut at, mut from) = (0, None);
        while at < bytes.len() {
            let byte = bytes[at];
            let Phase::Items(item) = self.phase else {
                if let Err(trouble) = self.outside(byte) {
                    framed.trouble = Some((at, trouble));
                    return framed;
                }
                blank(&mut bytes[at]);
                at += 1;
                continue;
            };
            if self.in_text || item == Item::Inside {
                at = self.inside(bytes, at);
                continue;
            }
            let begin = at;
            match self.between(item, byte) {
                Err(trouble) => {
                    framed.trouble = Some((at, trouble));
                    return framed;
                }
                Ok(true) => {
                    blank(&mut bytes[at]);
                    framed.cut = Some(at + 1);
                }
                Ok(false) => {}
            }
            at += 1;
            if self.depth > 0
                && let Some(end) = self.end_of_item(bytes, begin, &mut from)
            {
                self.depth = 0;
                self.phase = Phase::Items(Item::Ended);
                at = end;
            }
        }
        framed
    }

    /// Where the item ends that begins with the bracket at byte `at`, if its structure shows that.
    fn end_of_item(&mut self, bytes: &[u8], at: usize, from: &mut Option<Reach>) -> Option<usize> {
        let Reach { at: first, near } = *from.get_or_insert_with(|| {
            self.structure.find(&bytes[at..]);
            Reach { at, near: 0 }
        });
        let opening = self.structure.number_at(at - first, near)?;
        let closing = self.structure.container_end(opening, DEPTH)?;
        *from = Some(Reach { at: first, near: closing + 1 });
        Some(first + self.structure.bracket(closing)? + 1)
    }

    /// What is wrong when the document ends here.
    #[must_use]
    pub fn finish(&self) -> Option<Trouble> {
        (self.phase != Phase::Done).then_some(ENDS_INSIDE)
    }

    /// Passes over the inside of an item, from byte `at` on; gives the byte behind it, or the end.
    fn inside(&mut self, bytes: &[u8], mut at: usize) -> usize {
        while let Some(byte) = bytes.get(at) {
            at += 1;
            if self.in_text {
                if self.is_escaped {
                    self.is_escaped = false;
                    continue;
                }
                match byte {
                    b'"' => self.in_text = false,
                    b'\\' => self.is_escaped = true,
                    // Most of a text is nothing to look at.
                    _ => {
                        let rest = &bytes[at..];
                        at += memchr::memchr2(b'"', b'\\', rest).unwrap_or(rest.len());
                        continue;
                    }
                }
                if !self.in_text && self.depth == 0 {
                    self.phase = Phase::Items(Item::Ended);
                    return at;
                }
                continue;
            }
            match byte {
                b'"' => self.in_text = true,
                b'{' | b'[' => self.depth += 1,
                b'}' | b']' => {
                    self.depth -= 1;
                    if self.depth == 0 {
                        self.phase = Phase::Items(Item::Ended);
                        return at;
                    }
                }
                _ => {}
            }
        }
        at
    }

    /// Takes a byte that stands in the list and in no text, list or map of it; tells whether an item may end behind it.
    fn between(&mut self, item: Item, byte: u8) -> Result<bool, Trouble> {
        let may_begin = matches!(item, Item::First | Item::Wanted);
        let next = match byte {
            b' ' | b'\t' | b'\n' | b'\r' if item == Item::Word => Item::Ended,
            b' ' | b'\t' | b'\n' | b'\r' => item,
            b',' if may_begin => return Err(NO_ITEM),
            b',' => Item::Wanted,
            b']' if item == Item::Wanted => return Err(NO_ITEM),
            b']' => {
                self.open.pop();
                self.phase = Phase::Behind;
                self.expects = Expects::Comma;
                self.close_if_done();
                return Ok(true);
            }
            b'}' => return Err(CROSSED),
            _ if item == Item::Ended => return Err(NO_COMMA),
            b'"' | b'{' | b'[' if !may_begin => return Err(NO_COMMA),
            b'"' => {
                self.in_text = true;
                Item::Inside
            }
            b'{' | b'[' => {
                self.depth = 1;
                Item::Inside
            }
            _ => Item::Word,
        };
        self.phase = Phase::Items(next);
        Ok(byte == b',')
    }

    fn close_if_done(&mut self) {
        if self.open.is_empty() {
            self.phase = Phase::Done;
        }
    }

    /// Takes a byte that stands around the list.
    fn outside(&mut self, byte: u8) -> Result<(), Trouble> {
        if self.in_text {
            if self.is_escaped {
                self.is_escaped = false;
            } else if byte == b'\\' {
                self.is_escaped = true;
            } else if byte == b'"' {
                self.in_text = false;
                if std::mem::take(&mut self.is_naming) {
                    self.expects = Expects::Colon;
                }
                return Ok(());
            }
            if self.is_naming {
                self.name.push(byte);
            }
            return Ok(());
        }
        let is_on_path = self.open.len() == self.on;
        match byte {
            b' ' | b'\t' | b'\n' | b'\r' => {}
            _ if self.phase == Phase::Done => return Err(BEHIND),
            b'"' => {
                self.in_text = true;
                if is_on_path && self.expects == Expects::Name {
                    self.is_naming = true;
                    self.name.clear();
                } else if is_on_path {
                    self.scalar()?;
                }
            }
            b'{' | b'[' => {
                let leads_on = is_on_path && self.leads_on()?;
                self.open.push(byte == b'{');
                match (leads_on, self.on == self.path.len(), byte) {
                    (true, true, b'[') => self.phase = Phase::Items(Item::First),
                    (true, false, b'{') => {
                        self.on += 1;
                        self.expects = Expects::Name;
                    }
                    (true, ..) => return Err(CROSSED),
                    (false, ..) if is_on_path => self.expects = Expects::Comma,
                    _ => {}
                }
            }
            b'}' | b']' => {
                if self.open.pop() != Some(byte == b'}') {
                    return Err(CROSSED);
                }
                if is_on_path {
                    // A map on the path ends: before the list that means that it is not there.
                    if self.phase == Phase::Before {
                        return Err(CROSSED);
                    }
                    self.on = self.open.len();
                    self.expects = Expects::Comma;
                    self.close_if_done();
                }
            }
            b':' if is_on_path && self.expects == Expects::Colon => self.expects = Expects::Value,
            b',' if is_on_path && self.expects == Expects::Comma => self.expects = Expects::Name,
            _ if is_on_path => self.scalar()?,
            _ => {}
        }
        Ok(())
    }

    /// Whether the value that begins is that of the next name of the path.
    fn leads_on(&self) -> Result<bool, Trouble> {
        if self.open.is_empty() {
            return Ok(true);
        }
        // A name with escapes may be any.
        let is_next = self.path.get(self.on - 1).is_some_and(|name| name.as_bytes() == self.name);
        let is_unclear = self.name.contains(&b'\\');
        match self.expects {
            Expects::Value if self.phase == Phase::Behind && (is_next || is_unclear) => Err(TWICE),
            Expects::Value if is_unclear => Err(CROSSED),
            Expects::Value => Ok(is_next),
            _ => Err(NO_COMMA),
        }
    }

    /// A number, word or text begins, or goes on, in a map on the path.
    fn scalar(&mut self) -> Result<(), Trouble> {
        match self.expects {
            Expects::Value if self.leads_on()? => Err(CROSSED),
            Expects::Value => {
                self.expects = Expects::Comma;
                Ok(())
            }
            Expects::Comma if !self.in_text => Ok(()),
            _ => Err(NO_COMMA),
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
    fn framed(
        text: &str,
        path: &[&str],
        size: usize,
    ) -> Result<String, Option<(usize, &'static str)>> {
        let mut frame = Frame::new(path.iter().map(|name| (*name).to_owned()).collect());
        let mut bytes = text.as_bytes().to_vec();
        let mut at = 0;
        loop {
            let end = (at + size).min(bytes.len());
            match frame.find(&bytes[at..end]) {
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
            let found = frame.follow(&mut bytes[at..end]);
            if let Some((wrong, trouble)) = found.trouble {
                return Err(Some((at + wrong, trouble.message)));
            }
            cut = found.cut.map_or(cut, |cut| at + cut);
            at = end;
        }
        assert!(frame.finish().is_some() || bytes[cut..].iter().all(u8::is_ascii_whitespace));
        match frame.finish() {
            Some(trouble) => Err(Some((at, trouble.message))),
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
                assert_eq!(framed(text, path, size).as_deref(), Ok(left), "{text} {size}");
            }
        }
    }

    #[test]
    fn what_is_wrong() {
        for (text, path, found) in [
            ("{}", &[][..], None),
            ("{\"a\":1}", &["a"], None),
            ("{\"a\":{}}", &["a"], None),
            ("{\"a\":\"x\"}", &["a"], None),
            ("{\"b\":[1]}", &["a"], None),
            ("{\"\\u0061\":[1]}", &["a"], None),
            ("[1 2]", &[], Some((3, NO_COMMA.message))),
            ("[1,,2]", &[], Some((3, NO_ITEM.message))),
            ("[,1]", &[], Some((1, NO_ITEM.message))),
            ("[1,]", &[], Some((3, NO_ITEM.message))),
            ("[1}", &[], Some((2, CROSSED.message))),
            ("[1] 2", &[], Some((4, BEHIND.message))),
            ("[1", &[], Some((2, ENDS_INSIDE.message))),
            ("[\"", &[], Some((2, ENDS_INSIDE.message))),
            ("{\"a\":[1]", &["a"], Some((8, ENDS_INSIDE.message))),
            ("{\"a\":[1]]", &["a"], Some((8, CROSSED.message))),
            ("{\"a\":[1],\"a\":[2]}", &["a"], Some((13, TWICE.message))),
            ("{\"a\":[1] \"b\":2}", &["a"], Some((9, NO_COMMA.message))),
        ] {
            for size in [1, 2, 3, 100] {
                assert_eq!(framed(text, path, size), Err(found), "{text} {size}");
            }
        }
    }

    proptest! {
        #[test]
        fn the_items_are_those_of_the_list(items in proptest::collection::vec(crate::json::write::tests::any_json(), 0..6), size in 1usize..9, pretty in any::<bool>()) {
            let document = serde_json::json!({"n": {"a": [1]}, "a": {"b": items, "c": [[], "]"]}, "z": null});
            let text = if pretty { serde_json::to_string_pretty(&document) } else { serde_json::to_string(&document) }.unwrap();
            let left = framed(&text, &["a", "b"], size).unwrap();
            prop_assert_eq!(left.len(), text.len());
            let read: Vec<serde_json::Value> = serde_json::Deserializer::from_str(&left).into_iter().map(Result::unwrap).collect();
            prop_assert_eq!(read, items);
        }

        #[test]
        fn never_panics(text in "[\\[\\]{}\",:a1\\\\ \n]{0,40}", size in 1usize..9) {
            let _ = framed(&text, &["a"], size);
            let _ = framed(&text, &[], size);
        }
    }
}
