//! Templates of elements: their text without its values. Elements that one program writes mostly differ only in their values; what was
//! learned from the first of them holds for the others, so that only values are examined.
//!
//! Values are the texts between tags and those of attributes. What stands between values (tags, names of attributes, white
//! space) is compared as a whole; the templates of elements of one name form a tree by their common beginnings.
//!
//! ```
//! use kyanite_formats::xml::Templates;
//!
//! let text = "<pier no='4'>Ness</pier><pier no='5'>Holm</pier>";
//! let (mut templates, mut values) = (Templates::default(), Vec::new());
//! assert!(templates.follow(text, 0, &mut values).is_none());
//! let first = templates.learn(text, 0..24, &mut values).unwrap();
//! let second = templates.follow(text, 24, &mut values).unwrap();
//! assert_eq!((second.template, second.end), (first, text.len()));
//! assert_eq!(values, [("5", 34), ("Holm", 37)]);
//! ```

use std::collections::HashMap;
use std::ops::Range;

use foldhash::fast::RandomState;

use super::chars;
use crate::templates::{Followed, Follows, Forest, Node};

/// The longest elements that are learned, in bytes.
const LONGEST: usize = 1 << 15;

/// The most nodes of all trees; elements that would need more are not learned.
const MOST: usize = 1 << 14;

/// The most names of elements that have templates.
const NAMES: usize = 1024;

/// How many elements of a name are learned.
const LEARNED: u32 = 64;

/// How many are tried of a name of which there is nothing to learn.
const TRIED: u32 = 4;

/// Elements of a name that followed no template, beyond those that did, before it has templates no more.
const PATIENCE: u32 = 200;

/// The templates of elements so far.
#[derive(Debug)]
pub struct Templates {
    names: HashMap<Box<str>, Named, RandomState>,
    /// A tree for each name.
    forest: Forest,
}

impl Default for Templates {
    fn default() -> Self {
        Self { names: HashMap::default(), forest: Forest::new(MOST, &FOLLOWS) }
    }
}

/// What is known of elements of one name.
#[derive(Clone, Copy, Debug)]
struct Named {
    /// The node before any value of them.
    root: usize,
    /// How many were learned.
    learned: u32,
    /// Those that followed none, less those that did.
    misses: u32,
}

/// A value, and where it begins.
pub type ValueAt<'t> = (&'t str, usize);

impl Templates {
    /// Follows a template from byte `at` on, where a start tag begins; `None` if there is none that fits. Every byte of an element that
    /// fits is known to be well-formed, as far as that can be told without the prefixes that are declared around it; `values` are
    /// then its values, in order. None of them is empty, none has references, and texts do not begin with white space.
    #[inline]
    pub fn follow<'t>(
        &mut self,
        text: &'t str,
        at: usize,
        values: &mut Vec<ValueAt<'t>>,
    ) -> Option<Followed> {
        values.clear();
        let named = self.names.get_mut(name(text, at))?;
        if named.misses >= PATIENCE {
            return None;
        }
        let followed = walk(&self.forest, named.root, text, at, values);
        named.misses = match followed {
            Some(_) => named.misses.saturating_sub(1),
            None => named.misses + 1,
        };
        followed
    }

    /// The element at byte `at` followed a template in vain.
    pub fn missed(&mut self, text: &str, at: usize) {
        if let Some(named) = self.names.get_mut(name(text, at)) {
            named.misses += 2;
        }
    }

    /// Whether elements with the name of the one at byte `at` are still learned.
    #[must_use]
    pub fn may_learn(&self, text: &str, at: usize) -> bool {
        match self.names.get(name(text, at)) {
            Some(named) => named.learned < LEARNED && named.misses < PATIENCE,
            None => self.names.len() < NAMES && self.forest.has_room(),
        }
    }

    /// There was nothing to learn of the element at byte `at`: not many of its name are tried then.
    pub fn learned_nothing(&mut self, text: &str, at: usize) {
        if let Some(named) = self.names.get_mut(name(text, at)) {
            named.learned += LEARNED / TRIED;
        }
    }

    /// Whether an element that began at byte `from` and has not ended at byte `to` is too long to be learned; elements of its name
    /// are then learned no more.
    pub fn is_too_long(&mut self, text: &str, from: usize, to: usize) -> bool {
        let is_too_long = to.saturating_sub(from) > LONGEST;
        if is_too_long && let Some(named) = self.named(text, from) {
            named.learned = LEARNED;
        }
        is_too_long
    }

    /// Learns the template of an element, which is well-formed; gives its number, and its values as [`follow`](Self::follow) does. An
    /// element that is not of a kind that can be followed, or one more than there is room for, has none.
    pub fn learn<'t>(
        &mut self,
        text: &'t str,
        element: Range<usize>,
        values: &mut Vec<ValueAt<'t>>,
    ) -> Option<usize> {
        values.clear();
        let named = self.named(text, element.start)?;
        named.learned += 1;
        let mut here = named.root;
        values_of(text.get(element.clone())?, values)?;
        let mut from = element.start;
        for (value, at) in values.iter_mut() {
            *at += element.start;
            here = self.forest.grow(here, &text.as_bytes()[from..*at])?;
            from = *at + value.len();
        }
        let last = self.forest.grow(here, &text.as_bytes()[from..element.end])?;
        Some(self.forest.end(last))
    }

    /// What is known of elements with the name of the one at byte `at`; `None` where there is no room for another name.
    fn named(&mut self, text: &str, at: usize) -> Option<&mut Named> {
        let name = name(text, at);
        if !self.names.contains_key(name) {
            if self.names.len() >= NAMES || !self.forest.has_room() {
                return None;
            }
            let named = Named { root: self.forest.plant(), learned: 0, misses: 0 };
            self.names.insert(name.into(), named);
        }
        self.names.get_mut(name)
    }
}

/// The name of the start tag at byte `at`; empty where none begins.
#[inline]
fn name(text: &str, at: usize) -> &str {
    match text.as_bytes().get(at) {
        Some(b'<') => &text[at + 1..chars::name_end(text, at + 1)],
        _ => "",
    }
}

#[inline]
fn walk<'t>(
    forest: &Forest,
    root: usize,
    text: &'t str,
    mut at: usize,
    values: &mut Vec<ValueAt<'t>>,
) -> Option<Followed> {
    let mut node = forest.root(root)?;
    loop {
        let rest = text.as_bytes().get(at..)?;
        let next = forest.step(node, rest)?;
        if !next.may_end(&FOLLOWS, rest) {
            // Another node may have the same text and be followed by what stands there.
            if forest.turn(node, next, rest) { continue } else { return None }
        }
        node = next;
        at += node.length();
        if let Some(template) = node.template() {
            return Some(Followed { template, end: at });
        }
        let end = match quote(node) {
            Some(quote) => quoted_end(text, at, quote)?,
            None => text_end(text, at)?,
        };
        values.push((text.get(at..end)?, at));
        at = end;
    }
}

/// The quote that the value behind a node ends with, if it is that of an attribute.
#[inline]
fn quote(node: &Node) -> Option<u8> {
    node.last().filter(|last| matches!(last, b'"' | b'\''))
}

/// A value that is not empty follows what stands between two, and anything where the element ends.
static FOLLOWS: Follows = Follows {
    classes: {
        let mut classes = [IN_TEXT | IN_QUOTES | IN_APOSTROPHES; 256];
        const NO_TEXT: &[u8] = b"< \t\n";
        let mut at = 0;
        while at < NO_TEXT.len() {
            classes[NO_TEXT[at] as usize] &= !IN_TEXT;
            at += 1;
        }
        classes[b'"' as usize] &= !IN_QUOTES;
        classes[b'\'' as usize] &= !IN_APOSTROPHES;
        classes
    },
    behind: |last| match last {
        Some(b'"') => IN_QUOTES,
        Some(b'\'') => IN_APOSTROPHES,
        _ => IN_TEXT,
    },
    behind_end: IN_TEXT | IN_QUOTES | IN_APOSTROPHES,
    ends_with_text: true,
};
const IN_TEXT: u8 = 1;
const IN_QUOTES: u8 = 2;
const IN_APOSTROPHES: u8 = 4;

/// Where the text at byte `at` ends, before a tag; `None` where something else follows, or what may not stand there.
#[inline]
fn text_end(text: &str, mut at: usize) -> Option<usize> {
    let bytes = text.as_bytes();
    loop {
        at = chars::text_end(bytes, at);
        match bytes.get(at)? {
            b'<' => return Some(at),
            b']' if !bytes[at..].starts_with(b"]]>") => at += 1,
            0xEF => at = past_character(text, at)?,
            _ => return None,
        }
    }
}

/// Where the value of an attribute at byte `at` ends, before its quote; `None` where it does not, or holds what is not taken as it is.
#[inline]
fn quoted_end(text: &str, mut at: usize, quote: u8) -> Option<usize> {
    let bytes = text.as_bytes();
    loop {
        at = chars::value_end(bytes, at);
        match *bytes.get(at)? {
            end if end == quote => return Some(at),
            b'"' | b'\'' => at += 1,
            0xEF => at = past_character(text, at)?,
            _ => return None,
        }
    }
}

/// Behind the character at byte `at`, if it may stand in a document.
fn past_character(text: &str, at: usize) -> Option<usize> {
    let character = text.get(at..)?.chars().next()?;
    chars::is_char(character).then(|| at + character.len_utf8())
}

/// The values of an element that is well-formed; `None` where it is not of a kind that can be followed: with sections of characters,
/// comments, instructions, references, texts that begin with white space, or declarations of namespaces.
fn values_of<'t>(element: &'t str, values: &mut Vec<ValueAt<'t>>) -> Option<()> {
    if element.len() > LONGEST {
        return None;
    }
    let bytes = element.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        // A tag begins here.
        at = match bytes.get(at + 1)? {
            b'!' | b'?' => return None,
            b'/' => at + memchr::memchr(b'>', &bytes[at..])?,
            _ => values_of_tag(element, at + 1, values)?,
        };
        at += 1;
        if at == bytes.len() {
            break;
        }
        let begin = chars::space_end(bytes, at);
        let end = text_end(element, begin)?;
        if begin < end {
            if begin > at {
                return None;
            }
            values.push((&element[begin..end], begin));
        }
        at = end;
    }
    Some(())
}

/// The values of a start tag whose name is at byte `at`; gives where it ends, at its `>`.
fn values_of_tag<'t>(element: &'t str, at: usize, values: &mut Vec<ValueAt<'t>>) -> Option<usize> {
    let bytes = element.as_bytes();
    let mut at = chars::name_end(element, at);
    loop {
        at = chars::space_end(bytes, at);
        match bytes.get(at)? {
            b'>' => return Some(at),
            b'/' => return Some(at + 1),
            _ => {}
        }
        let named = chars::name_end(element, at);
        let name = &element[at..named];
        at = chars::space_end(bytes, named);
        at = chars::space_end(bytes, at + 1);
        let quote = *bytes.get(at)?;
        let begin = at + 1;
        let end = quoted_end(element, begin, quote)?;
        if name == "xmlns" || name.starts_with("xmlns:") {
            return None;
        }
        if begin < end && !says_what_it_is(name) {
            values.push((&element[begin..end], begin));
        }
        at = end + 1;
    }
}

/// Whether an attribute may be one by which an element says its type, or that it is nil (XSD 1.0 part 1 section 2.6): those belong to
/// the template.
fn says_what_it_is(name: &str) -> bool {
    matches!(name.split_once(':'), Some((_, "type" | "nil")))
}

#[cfg(test)]
mod tests {
    use kyanite_tree::{Arena, Content, Element};
    use proptest::prelude::*;

    use super::*;
    use crate::xml::{self, Options};

    /// The values of an element as the reader has them, but empty ones and blank text.
    fn read<'a>(element: &Element<'a>, values: &mut Vec<&'a str>) {
        values.extend(element.attributes.iter().map(|attribute| attribute.value));
        for content in element.content {
            match content {
                Content::Element(_, inner) => read(inner, values),
                Content::Text(_, text) => values.push(text),
                _ => {}
            }
        }
        values.retain(|value| !value.trim().is_empty());
    }

    /// Whether an element follows the template of another; if so it is well-formed, and its values are as the reader has them.
    fn follows(first: &str, second: &str) -> bool {
        let (mut templates, mut values) = (Templates::default(), Vec::new());
        let Some(learned) = templates.learn(first, 0..first.len(), &mut values) else {
            return false;
        };
        let text = format!("\n{second}<x>");
        let Some(Followed { template, end }) = templates.follow(&text, 1, &mut values) else {
            return false;
        };
        assert_eq!((template, end), (learned, text.len() - 3), "{first} {second}");
        let arena = Arena::new();
        let document = xml::document(second, &arena, Options::default()).unwrap();
        let mut expected = Vec::new();
        read(document.root, &mut expected);
        let own: Vec<&str> = values
            .iter()
            .map(|(value, _)| *value)
            .filter(|value| !value.trim().is_empty())
            .collect();
        assert_eq!(own, expected, "{first} {second}");
        assert!(values.iter().all(|(value, at)| text[*at..].starts_with(value)));
        true
    }

    #[test]
    fn what_follows_what() {
        for (first, second, fits) in [
            ("<a>1</a>", "<a>x &gt; y</a>", false),
            ("<a>1</a>", "<a>x > ]y] \u{fffd}</a>", true),
            ("<a>1</a>", "<a>]]></a>", false),
            ("<a>1</a>", "<a>\u{ffff}</a>", false),
            ("<a>1</a>", "<a>\u{1}</a>", false),
            ("<a>1</a>", "<a></a>", false),
            ("<a>1</a>", "<a> 1</a>", false),
            ("<a> 1</a>", "<a> 1</a>", false),
            ("<a>1</a>", "<a>1</b>", false),
            ("<a>1</a>", "<a>1</a >", false),
            ("<a>1</a>", "<a>1<!-- --></a>", false),
            ("<a><![CDATA[1]]></a>", "<a><![CDATA[1]]></a>", false),
            ("<a b = '1'/>", "<a b = 'it is \"2\" > 1'/>", true),
            ("<a b='1'/>", "<a b='1<2'/>", false),
            ("<a b='1'/>", "<a b='1\n2'/>", false),
            ("<a b='1'/>", "<a b='1\u{ffff}'/>", false),
            ("<a b='1'/>", "<a b=\"1\"/>", false),
            ("<a b='1' c=''/>", "<a b='2' c=''/>", true),
            ("<a b='1' c=''/>", "<a b='2' c='3'/>", false),
            ("<a><b>1</b>\n  <b/>\n</a>", "<a><b>2</b>\n  <b/>\n</a>", true),
            ("<a><b>1</b>\n  <b/>\n</a>", "<a><b>2</b>\n <b/>\n</a>", false),
            ("<a>x<b>1</b>y</a>", "<a>y y<b>2</b>x </a>", true),
            ("<ä>1</ä>", "<ä>é</ä>", true),
            ("<a xmlns='u'>1</a>", "<a xmlns='u'>1</a>", false),
            ("<a>1</a>", "ä", false),
            ("<a>1</a>", "", false),
        ] {
            assert_eq!(follows(first, second), fits, "{first} {second}");
        }
    }

    /// What an element says of its type is compared whole.
    #[test]
    fn types_belong_to_templates() {
        let (mut templates, mut values) = (Templates::default(), Vec::new());
        let text = "<a x:type='t' x:b='1'/><a x:type='t' x:b='2'/><a x:type='u' x:b='3'/>";
        assert_eq!(templates.learn(text, 0..23, &mut values), Some(0));
        assert!(templates.follow(text, 23, &mut values).is_some());
        assert_eq!(values, [("2", 42)]);
        assert_eq!(templates.follow(text, 46, &mut values), None);
    }

    #[test]
    fn elements_that_all_differ_are_not_kept() {
        let (mut templates, mut learned) = (Templates::default(), 0);
        for number in 0..5 * LEARNED {
            let text = format!("<a n{number}='1'/>");
            assert!(templates.follow(&text, 0, &mut Vec::new()).is_none());
            if templates.may_learn(&text, 0) {
                learned += 1;
                assert!(templates.learn(&text, 0..text.len(), &mut Vec::new()).is_some());
            }
        }
        assert_eq!(learned, LEARNED);
        // After many elements without a template, templates are given up.
        assert!(templates.follow("<a n1='1'/>", 0, &mut Vec::new()).is_none());
        let long = format!("<b>{}</b>", "x".repeat(LONGEST));
        assert!(!templates.is_too_long(&long, 0, 100) && templates.may_learn(&long, 0));
        assert!(templates.is_too_long(&long, 0, long.len()) && !templates.may_learn(&long, 0));
        for number in 0..2 * NAMES {
            let text = format!("<a{number}/>");
            templates.learn(&text, 0..text.len(), &mut Vec::new());
        }
        assert!(templates.names.len() <= NAMES && templates.forest.len() <= MOST + 1);
    }

    proptest! {
        /// Elements of a few forms against each other, some of them not well-formed.
        #[test]
        fn as_the_reader_has_it(
            elements in proptest::collection::vec(
                r#"<a( b=("[x1<&']{0,2}"|'[x"]{0,2}'))?(/>|>[x ]{0,2}(<c>[x\]]{0,3}>?</c>|<d e='1'/>|<d/>|&lt;|<!--x-->|</c>)?[x\n]{0,2}</a>)"#, 2..8,
            ),
        ) {
            let is_one = |text: &str| xml::document(text, &Arena::new(), Options::default()).is_ok();
            for first in elements.iter().filter(|first| is_one(first)) {
                for second in &elements {
                    follows(first, second);
                }
            }
        }
    }
}
