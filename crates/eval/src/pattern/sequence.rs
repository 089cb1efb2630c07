//! Patterns that fit a whole text by one class of characters after another, as most patterns of identifiers, dates and codes do: they
//! are matched byte by byte, with nothing to go back to.

use regex_syntax::hir::{Class, Hir, HirKind, Look};

/// The most steps that a pattern may come to.
const MOST: usize = 64;

/// A pattern that may take more bytes than this, as far as what it repeats is bounded, is no sequence: it may be too large to compile.
const LONGEST: usize = 10_000;

/// A pattern as steps through the bytes of a text.
#[derive(Clone, Debug)]
pub(super) struct Sequence {
    steps: Vec<Step>,
    /// The sets of the steps, each once: whether a byte is in it.
    sets: Vec<[bool; 256]>,
    /// The bytes that a text has at least and at most.
    least: usize,
    most: usize,
}

/// Bytes of a set, so many of them.
#[derive(Clone, Copy, Debug)]
struct Step {
    /// The number of the set.
    set: usize,
    least: usize,
    most: usize,
}

/// ASCII characters, a bit each, and how many of them stand there.
#[derive(Clone, Copy)]
struct Part {
    set: u128,
    least: u32,
    most: u32,
}

impl Sequence {
    /// The steps of a translated pattern; nothing where it is not such a pattern, or a step could take too much.
    pub(super) fn of(translated: &str) -> Option<Self> {
        let pattern = regex_syntax::parse(translated).ok()?;
        let HirKind::Concat(parts) = pattern.kind() else { return None };
        let is_end = |part: &Hir, look| matches!(part.kind(), HirKind::Look(at) if *at == look);
        let [first, parts @ .., last] = parts.as_slice() else { return None };
        if !is_end(first, Look::Start) || !is_end(last, Look::End) {
            return None;
        }
        let mut found: Vec<Part> = Vec::new();
        parts.iter().try_for_each(|part| add(part, &mut found))?;
        let takes_its_own = |at: usize| {
            let (part, behind) = (found[at], &found[at + 1..]);
            let needed = behind.iter().position(|next| next.least > 0);
            let next = &behind[..needed.map_or(behind.len(), |needed| needed + 1)];
            part.least == part.most || next.iter().all(|next| next.set & part.set == 0)
        };
        let bounded = found.iter().map(|part| match part.most {
            u32::MAX => part.least as usize,
            most => most as usize,
        });
        let is_short = bounded.sum::<usize>() <= LONGEST;
        (is_short && (0..found.len()).all(takes_its_own)).then(|| Self::from_parts(&found))
    }

    fn from_parts(parts: &[Part]) -> Self {
        let (mut known, mut steps) = (Vec::new(), Vec::new());
        for part in parts {
            let at = known.iter().position(|set| *set == part.set).unwrap_or(known.len());
            if at == known.len() {
                known.push(part.set);
            }
            steps.push(Step { set: at, least: part.least as usize, most: part.most as usize });
        }
        let table = |set: &u128| std::array::from_fn(|byte| byte < 128 && set >> byte & 1 == 1);
        Self {
            sets: known.iter().map(table).collect(),
            least: steps.iter().fold(0, |sum, step| step.least.saturating_add(sum)),
            most: steps.iter().fold(0, |sum, step| step.most.saturating_add(sum)),
            steps,
        }
    }

    /// Whether it fits the whole text.
    pub(super) fn fits(&self, text: &str) -> bool {
        let mut left = text.as_bytes();
        if !(self.least..=self.most).contains(&left.len()) {
            return false;
        }
        for step in &self.steps {
            let set = &self.sets[step.set];
            let (first, rest) = left.split_at(left.len().min(step.most));
            let taken = first.iter().take_while(|byte| set[usize::from(**byte)]).count();
            if taken < step.least {
                return false;
            }
            left = if taken == first.len() { rest } else { &left[taken..] };
        }
        left.is_empty()
    }
}

/// Adds what an expression is made of.
fn add(expression: &Hir, found: &mut Vec<Part>) -> Option<()> {
    let one = |set| Part { set, least: 1, most: 1 };
    match expression.kind() {
        HirKind::Empty => {}
        HirKind::Literal(literal) => {
            for byte in &literal.0 {
                found.push(one(byte.is_ascii().then(|| 1 << byte)?));
            }
        }
        HirKind::Class(class) => found.push(one(ascii(class)?)),
        HirKind::Capture(capture) => add(&capture.sub, found)?,
        HirKind::Concat(parts) => parts.iter().try_for_each(|part| add(part, found))?,
        HirKind::Repetition(repetition) => {
            let mut inner = Vec::new();
            add(&repetition.sub, &mut inner)?;
            let (least, most) = (repetition.min, repetition.max.unwrap_or(u32::MAX));
            match inner.as_slice() {
                [Part { set, least: 1, most: 1 }] => found.push(Part { set: *set, least, most }),
                _ if least == most && least as usize <= MOST => {
                    (0..least).for_each(|_| found.extend(&inner));
                }
                _ => return None,
            }
        }
        HirKind::Look(_) | HirKind::Alternation(_) => return None,
    }
    (found.len() <= MOST).then_some(())
}

/// The characters of a class, if all are ASCII.
fn ascii(class: &Class) -> Option<u128> {
    let Class::Unicode(class) = class else { return None };
    class.ranges().iter().try_fold(0, |set, range| {
        let is_ascii = range.end().is_ascii();
        is_ascii.then(|| (range.start()..=range.end()).fold(set, |set, one| set | 1 << one as u32))
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn patterns_that_are_sequences() {
        for (pattern, is_one) in [
            ("^TB-[0-9]{6}$", true),
            ("^(?:[A-Z]{2}(-[0-9]+)?)$", false),
            ("^[A-Z]{2,3}-?[0-9]+$", true),
            ("^[0-9]*[0-9]$", false),
            ("^[a-z]?[0-9]?[a-z]$", false),
            ("^([a-f]{2}:){5}[a-f]{2}$", true),
            ("^(a{2}){3}$", true),
            ("^(a{1,2}){2}$", false),
            ("^(ab){2,3}$", false),
            ("^a|b$", false),
            ("^ä$", false),
            ("^[a-ä]$", false),
            ("a$", false),
            ("^a", false),
            ("^(ab){65}$", false),
            ("^a{9000}$", true),
            ("^a{9000}b{0,2000}$", false),
        ] {
            assert_eq!(Sequence::of(pattern).is_some(), is_one, "{pattern}");
        }
    }

    proptest! {
        #[test]
        fn as_the_package_has_it(
            parts in proptest::collection::vec("(a|b|\\[ab\\]|\\[bc\\]|\\[a-c\\]|\\(ab\\)|\\(\\[ab\\]c\\))(\\{1,2\\}|\\{2\\}|\\?|\\*|\\+|)", 0..5),
            texts in proptest::collection::vec("[abcä]{0,8}", 12),
        ) {
            let pattern = format!("^{}$", parts.concat());
            if let Some(sequence) = Sequence::of(&pattern) {
                let regex = regex::Regex::new(&pattern).unwrap();
                for text in texts {
                    prop_assert_eq!(sequence.fits(&text), regex.is_match(&text), "{} {}", &pattern, &text);
                }
            }
        }
    }
}
