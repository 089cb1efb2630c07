//! Patterns that fit a whole text by one class of characters after another, as most patterns of identifiers, dates and codes do: they
//! are matched byte by byte, with nothing to go back to.

use regex_syntax::hir::{Class, Hir, HirKind, Look};

/// The most sequences that a pattern may be one of.
const BRANCHES: usize = 8;

/// The most steps that a pattern may come to.
const MOST: usize = 64;

/// A pattern that may take more bytes than this, as far as what it repeats is bounded, is no sequence: it may be too large to compile.
const LONGEST: usize = 10_000;

/// The same for one with characters beyond ASCII, whose classes are larger.
const LONGEST_BEYOND: usize = 100;

/// A pattern as the sequences of which a text has to fit one.
#[derive(Clone, Debug)]
pub(super) struct Sequences {
    any: Vec<Sequence>,
    /// Whether it also fits texts with characters beyond ASCII, which the sequences do not tell.
    has_others: bool,
}

/// Steps through the bytes of a text.
#[derive(Clone, Debug)]
struct Sequence {
    steps: Vec<Step>,
    /// The sets of the steps, each once: whether a byte is in it.
    sets: Vec<[bool; 256]>,
    /// The bytes that a text has at least and at most.
    least: usize,
    most: usize,
}

/// A run of bytes out of one set.
#[derive(Clone, Copy, Debug)]
struct Step {
    /// The number of the set.
    set: usize,
    least: usize,
    most: usize,
}

/// ASCII characters, a bit each, whether there are others, and how many of them stand there.
#[derive(Clone, Copy)]
struct Part {
    set: u128,
    has_others: bool,
    least: u32,
    most: u32,
}

impl Sequences {
    /// The sequences of a translated pattern; None where the pattern is no sequence, or a step could take too much.
    pub(super) fn of(translated: &str) -> Option<Self> {
        let pattern = regex_syntax::parse(translated).ok()?;
        let HirKind::Concat(parts) = pattern.kind() else { return None };
        let is_end = |part: &Hir, look| matches!(part.kind(), HirKind::Look(at) if *at == look);
        let [first, parts @ .., last] = parts.as_slice() else { return None };
        if !is_end(first, Look::Start) || !is_end(last, Look::End) {
            return None;
        }
        let mut only = parts.first().filter(|_| parts.len() == 1);
        while let Some(HirKind::Capture(capture)) = only.map(Hir::kind) {
            only = Some(&capture.sub);
        }
        let branches = match only.map(Hir::kind) {
            Some(HirKind::Alternation(branches)) if branches.len() <= BRANCHES => {
                branches.iter().map(std::slice::from_ref).collect()
            }
            _ => vec![parts],
        };
        let all: Vec<Vec<Part>> = branches.into_iter().map(parts_of).collect::<Option<_>>()?;
        let has_others = all.iter().flatten().any(|part| part.has_others);
        let longest: usize = all.iter().flatten().map(Part::bounded).sum();
        let is_short = longest <= if has_others { LONGEST_BEYOND } else { LONGEST };
        let any = all.iter().map(|parts| Sequence::from_parts(parts)).collect();
        is_short.then_some(Self { any, has_others })
    }

    /// Whether one fits the whole text; `None` where they do not tell.
    pub(super) fn fits(&self, text: &str) -> Option<bool> {
        let is_told = !self.has_others || text.is_ascii();
        is_told.then(|| self.any.iter().any(|sequence| sequence.fits(text)))
    }
}

/// The parts of a sequence; None where a step could take what the next one needs.
fn parts_of(expressions: &[Hir]) -> Option<Vec<Part>> {
    let mut found: Vec<Part> = Vec::new();
    expressions.iter().try_for_each(|expression| add(expression, &mut found))?;
    let takes_its_own = |at: usize| {
        let (part, behind) = (found[at], &found[at + 1..]);
        let needed = behind.iter().position(|next| next.least > 0);
        let next = &behind[..needed.map_or(behind.len(), |needed| needed + 1)];
        part.least == part.most || next.iter().all(|next| next.set & part.set == 0)
    };
    (0..found.len()).all(takes_its_own).then_some(found)
}

impl Part {
    /// The bytes that it takes, as far as that is bounded.
    fn bounded(&self) -> usize {
        if self.most == u32::MAX { self.least as usize } else { self.most as usize }
    }
}

impl Sequence {
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
    fn fits(&self, text: &str) -> bool {
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
    let one = |(set, has_others)| Part { set, has_others, least: 1, most: 1 };
    match expression.kind() {
        HirKind::Empty => {}
        HirKind::Literal(literal) => {
            for byte in &literal.0 {
                found.push(one(if byte.is_ascii() { (1 << byte, false) } else { (0, true) }));
            }
        }
        HirKind::Class(class) => found.push(one(ascii(class))),
        HirKind::Capture(capture) => add(&capture.sub, found)?,
        HirKind::Concat(parts) => parts.iter().try_for_each(|part| add(part, found))?,
        HirKind::Repetition(repetition) => {
            let mut inner = Vec::new();
            add(&repetition.sub, &mut inner)?;
            let (least, most) = (repetition.min, repetition.max.unwrap_or(u32::MAX));
            match inner.as_slice() {
                [part @ Part { least: 1, most: 1, .. }] => {
                    found.push(Part { least, most, ..*part });
                }
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

/// The ASCII characters of a class, and whether it has others.
fn ascii(class: &Class) -> (u128, bool) {
    let Class::Unicode(class) = class else { return (0, true) };
    let mut found = (0, false);
    for range in class.ranges() {
        found.1 |= !range.end().is_ascii();
        for one in range.start()..=range.end().min('\x7f') {
            found.0 |= 1 << one as u32;
        }
    }
    found
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
            ("^([A-Z]{2} [0-9]{5}|[0-9]{4} [A-Z]{2})$", true),
            ("^((ab|[0-9]*x))$", true),
            ("^((ab|[0-9]*0))$", false),
            ("^(ab|[0-9]+)x$", false),
            ("^ä$", true),
            ("^[a-ä]$", true),
            (r"^\d{4}-\d{1,4}$", true),
            (r"^\d{101}$", false),
            (r"^\d*٣$", true),
            (r"^\w+\d$", false),
            ("a$", false),
            ("^a", false),
            ("^(ab){65}$", false),
            ("^a{9000}$", true),
            ("^a{9000}b{0,2000}$", false),
        ] {
            assert_eq!(Sequences::of(pattern).is_some(), is_one, "{pattern}");
        }
    }

    proptest! {
        #[test]
        fn as_the_package_has_it(
            parts in proptest::collection::vec("(a|b|ä|\\[ä-ö\\]|\\[ab\\]|\\[bc\\]|\\[a-c\\]|\\(ab\\)|\\(\\[ab\\]c\\))(\\{1,2\\}|\\{2\\}|\\?|\\*|\\+|)", 0..5),
            branch in "[abc]{0,3}",
            texts in proptest::collection::vec("[abcä]{0,8}", 12),
        ) {
            let pattern = match branch.as_str() {
                "" => format!("^{}$", parts.concat()),
                branch => format!("^({}|{branch}+)$", parts.concat()),
            };
            if let Some(sequence) = Sequences::of(&pattern) {
                let regex = regex::Regex::new(&pattern).unwrap();
                for text in texts {
                    if let Some(fits) = sequence.fits(&text) {
                        prop_assert_eq!(fits, regex.is_match(&text), "{} {}", &pattern, &text);
                    }
                    prop_assert!(sequence.fits(&text).is_some() || !text.is_ascii());
                }
            }
        }
    }
}
