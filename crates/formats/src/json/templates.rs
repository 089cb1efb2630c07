//! Templates: the text of records without their scalars. Records that one program writes mostly differ only in their scalars; what was
//! learned from the first record of a template holds for the others, so that only scalars are examined.
//!
//! The text between scalars (brackets, names, colons, commas and blanks) is compared as a whole. Templates form a tree by their common
//! beginnings, so that records with optional members share what they have in common.
//!
//! ```
//! use kyanite_formats::json::{EventReader, Templates};
//! use kyanite_formats::records::Structure;
//! use kyanite_tree::Event;
//!
//! let text = "{\"berth\": \"A\", \"depth\": 6.5}\n{\"berth\": \"B\", \"depth\": 4}\n";
//! let structure = Structure::of(text.as_bytes());
//! let (mut templates, mut scalars) = (Templates::default(), Vec::new());
//! assert!(templates.follow(text, 0, &mut scalars).is_none());
//! let first = templates.learn(&mut EventReader::new(text, &structure).unwrap(), 0);
//! let second = templates.follow(text, 29, &mut scalars).unwrap();
//! assert_eq!((first, second.end), (Some(second.template), 55));
//! let events: Vec<Event<'_>> = scalars.iter().map(|scalar| scalar.event(text)).collect();
//! assert!(matches!(events[..], [Event::Text(berth), Event::Number("4")] if berth.text == "B"));
//! ```

use kyanite_scan::{number_end, short_number, unescaped_bytes};
use kyanite_tree::{Pull, ScalarKind, ScalarSpan};

use super::events::EventReader;
use super::string::quoted_end;
use crate::templates::{Followed, Follows, Forest};

/// The most nodes of the tree; records that would need more are not learned.
const MOST: usize = 4096;

/// The most bytes between two scalars.
const LONGEST: usize = 4096;

/// The surplus of records that followed no template over those that did, at which templates are given up.
const PATIENCE: u32 = 200;

/// The templates of records so far.
#[derive(Debug)]
pub struct Templates {
    /// One tree, once there is a template.
    forest: Forest,
    /// Records that followed none, less those that did.
    misses: u32,
    /// Records that followed one since this was last asked.
    followed: u64,
}

impl Default for Templates {
    fn default() -> Self {
        Self { forest: Forest::new(MOST, &FOLLOWS), misses: 0, followed: 0 }
    }
}

impl Templates {
    /// None, and no search for any.
    #[must_use]
    pub fn unused() -> Self {
        Self { misses: PATIENCE, ..Self::default() }
    }

    /// Whether it is worth while to look for templates.
    #[inline]
    #[must_use]
    pub fn are_useful(&self) -> bool {
        self.misses < PATIENCE
    }

    /// How many records followed one since this was last asked.
    pub fn take_followed(&mut self) -> u64 {
        std::mem::take(&mut self.followed)
    }

    /// Follows a template from byte `at` on, where a record begins that a blank ends; `None` if there is none that fits. Every byte of a
    /// record that fits is known to be well-formed; `scalars` are then those of it, in order.
    pub fn follow(
        &mut self,
        text: &str,
        at: usize,
        scalars: &mut Vec<ScalarSpan>,
    ) -> Option<Followed> {
        scalars.clear();
        let followed = self.walk(text.as_bytes(), at, scalars);
        self.followed += u64::from(followed.is_some());
        self.misses = match followed {
            Some(_) => self.misses.saturating_sub(1),
            None => self.misses.saturating_add(1),
        };
        followed
    }

    #[inline]
    fn walk(&self, bytes: &[u8], at: usize, scalars: &mut Vec<ScalarSpan>) -> Option<Followed> {
        let (mut node, mut rest) = (self.forest.root(0)?, bytes.get(at..)?);
        loop {
            let next = self.forest.step(node, rest)?;
            let behind = rest.get(next.length()..)?;
            let start = bytes.len() - behind.len();
            let scalar = match next.behind() {
                IN_TEXT => Some(quoted(behind)?),
                BEGINS_SCALAR => unquoted(behind),
                _ if next.may_end(&FOLLOWS, rest) => {
                    return Some(Followed { template: next.template()?, end: start });
                }
                _ => None,
            };
            let Some((kind, length)) = scalar else {
                // Another node may have the same text and be followed by what stands there.
                if self.forest.turn(node, next, rest) { continue } else { return None }
            };
            scalars.push(ScalarSpan { kind, start, end: start + length });
            (node, rest) = (next, behind.get(length..)?);
        }
    }

    /// Learns the template of the record that begins at byte `at`, whose events `events` gives from there on; gives its number. A record
    /// that is too large, or one more than there is room for, has none.
    pub fn learn(&mut self, events: &mut EventReader<'_, '_>, at: usize) -> Option<usize> {
        let bytes = events.text().as_bytes();
        let (mut here, mut from) = (0, at);
        if self.forest.is_empty() {
            self.forest.plant();
        }
        events.seek(at);
        while let Some(event) = events.next_event() {
            // The quotes of a text belong to what is around it.
            let Some(scalar) = events.scalar(&event) else { continue };
            here = self.grow(here, &bytes[from..scalar.start])?;
            from = scalar.end;
        }
        let end = events.end()?;
        let last = self.grow(here, &bytes[from..end])?;
        Some(self.forest.end(last))
    }

    fn grow(&mut self, node: usize, between: &[u8]) -> Option<usize> {
        if between.len() > LONGEST { None } else { self.forest.grow(node, between) }
    }
}

/// Behind a quote a text goes on or ends, else a scalar without quotes begins, and where the record ends a blank.
static FOLLOWS: Follows = Follows {
    classes: {
        const BEGIN_SCALARS: &[u8] = b"-0123456789tfn";
        const BLANKS: &[u8] = b" \t\r\n";
        let (mut classes, mut at) = ([IN_TEXT; 256], 0);
        while at < BEGIN_SCALARS.len() {
            classes[BEGIN_SCALARS[at] as usize] |= BEGINS_SCALAR;
            at += 1;
        }
        at = 0;
        while at < BLANKS.len() {
            classes[BLANKS[at] as usize] |= BLANK;
            at += 1;
        }
        classes
    },
    behind: |last| if last == Some(b'"') { IN_TEXT } else { BEGINS_SCALAR },
    behind_end: BLANK,
    ends_with_text: false,
};
const IN_TEXT: u8 = 1;
const BEGINS_SCALAR: u8 = 2;
const BLANK: u8 = 4;

/// The text that begins behind a quote, and how long it is up to the other. `None` where it is none. Most are short.
#[inline(always)]
fn quoted(text: &[u8]) -> Option<(ScalarKind, usize)> {
    let plain = text.first_chunk().map_or(0, unescaped_bytes);
    if text.get(plain)? == &b'"' {
        return Some((ScalarKind::Text, plain));
    }
    let (end, has_escapes) = quoted_end(text, plain)?;
    Some((if has_escapes { ScalarKind::Escaped } else { ScalarKind::Text }, end))
}

/// The scalar without quotes that a text begins with, and how long it is. `None` where it is none. Most are short numbers.
#[inline(always)]
fn unquoted(text: &[u8]) -> Option<(ScalarKind, usize)> {
    match text.first_chunk().and_then(short_number) {
        Some(length) => Some((ScalarKind::Number, length)),
        None => any_unquoted(text),
    }
}

#[inline(never)]
fn any_unquoted(text: &[u8]) -> Option<(ScalarKind, usize)> {
    let word = |word: &[u8], kind| text.starts_with(word).then_some((kind, word.len()));
    match *text.first()? {
        b'-' | b'0'..=b'9' => Some((ScalarKind::Number, number_end(text, 0).ok()?)),
        b't' => word(b"true", ScalarKind::True),
        b'f' => word(b"false", ScalarKind::False),
        _ => word(b"null", ScalarKind::Null),
    }
}

#[cfg(test)]
mod tests {
    use kyanite_scan::Structure;
    use kyanite_tree::Event;
    use proptest::prelude::*;

    use super::*;
    use crate::json::is_one_value;
    use crate::templates::WIDEST;

    /// The scalars of the value that begins at byte `at`.
    fn scalars<'t>(events: &mut EventReader<'t, '_>, at: usize) -> Vec<Event<'t>> {
        let is_scalar = |event: &Event<'_>| ScalarSpan::of(event, usize::MAX).is_some();
        events.seek(at);
        std::iter::from_fn(|| events.next_event()).filter(is_scalar).collect()
    }

    /// Learns the first lines, each a value, and follows all; gives how many fit.
    fn followed(lines: &[String], learned: usize) -> usize {
        let first: String = lines.iter().take(learned).map(|line| format!("{line}\n")).collect();
        let structure = Structure::of(first.as_bytes());
        let mut events = EventReader::new(&first, &structure).unwrap();
        let (mut templates, mut at) = (Templates::default(), 0);
        let mut numbers = Vec::new();
        for line in lines.iter().take(learned) {
            numbers.push(templates.learn(&mut events, at).unwrap());
            at += line.len() + 1;
        }
        let mut count = 0;
        for (number, line) in lines.iter().enumerate() {
            let (text, mut found) = (format!("  {line}\n"), Vec::new());
            let Some(Followed { template, end }) = templates.follow(&text, 2, &mut found) else {
                assert!(number >= learned, "{line} was learned");
                continue;
            };
            count += 1;
            assert!(is_one_value(line), "{line} is no value");
            assert_eq!(end, text.len() - 1);
            assert!(number >= learned || numbers[number] == template);
            let structure = Structure::of(text.as_bytes());
            let mut events = EventReader::new(&text, &structure).unwrap();
            let found: Vec<Event<'_>> = found.iter().map(|scalar| scalar.event(&text)).collect();
            assert_eq!(found, scalars(&mut events, 2), "{line}");
        }
        count
    }

    #[test]
    fn what_follows_what() {
        for (first, second, fits) in [
            (r#"{"a":1}"#, r#"{"a":-2.5e3}"#, true),
            (r#"{"a":1}"#, r#"{"a":true}"#, true),
            (r#"{"a":"x"}"#, r#"{"a":"\u00e9\"}"}"#, true),
            (r#"{"a":[1, {"b": null}]}"#, r#"{"a":[2, {"b": false}]}"#, true),
            ("12", "null", true),
            ("{}", "{}", true),
            (r#"{"a":1}"#, r#"{"a":"1"}"#, false),
            (r#"{"a":1}"#, r#"{"a": 1}"#, false),
            (r#"{"a":1}"#, r#"{"b":1}"#, false),
            (r#"{"a":1}"#, r#"{"a":1,"b":2}"#, false),
            (r#"{"a":1}"#, r#"{"a":01}"#, false),
            (r#"{"a":1}"#, r#"{"a":1}}"#, false),
            (r#"{"a":1}"#, r#"{"a":tru}"#, false),
            (r#"{"a":"x"}"#, "{\"a\":\"\t\"}", false),
            (r#"{"a":"x"}"#, r#"{"a":"\q"}"#, false),
            (r#"["x"]"#, r#"["x"#, false),
        ] {
            let count = followed(&[first.to_owned(), second.to_owned()], 1);
            assert_eq!(count, 1 + usize::from(fits), "{first} {second}");
        }
    }

    #[test]
    fn records_that_all_differ_are_not_kept() {
        let lines: String = (0..5 * WIDEST).map(|number| format!("{{\"{number}\":1}}\n")).collect();
        let structure = Structure::of(lines.as_bytes());
        let mut events = EventReader::new(&lines, &structure).unwrap();
        let (mut templates, mut scalars, mut at) = (Templates::default(), Vec::new(), 0);
        let mut learned = 0;
        for line in lines.lines() {
            assert!(templates.follow(&lines, at, &mut scalars).is_none());
            learned += usize::from(templates.learn(&mut events, at).is_some());
            at += line.len() + 1;
        }
        assert_eq!((learned, templates.are_useful()), (WIDEST, false));
        assert!(templates.forest.len() < 3 * WIDEST);
    }

    proptest! {
        /// Values of a few forms, and some that are none.
        #[test]
        fn as_events_have_it(
            values in proptest::collection::vec(
                r#"(\{("a": ?("[xy\\n]{0,3}"|[0-9.]{1,3}|null|\[1,2\]|\{\}))?(,"b":("\}"|tru?e|\["[,\]"]?"\]))?\}|\[(1|"a")(,(2|"b"|\{"c":3\})){0,2}\])\]?"#, 2..10,
            ),
        ) {
            let (valid, other): (Vec<_>, Vec<_>) =
                values.into_iter().partition(|value| is_one_value(value));
            let learned = valid.len().div_ceil(2);
            let lines: Vec<String> = valid.into_iter().chain(other).collect();
            followed(&lines, learned);
        }
    }
}
