//! Names of members that have a minus in them, written like other names: `$.leg-from` is a difference, and hardly ever meant so.

use std::convert::identity;

use kyanite_tree::{Advice, Code};

use super::lexer::{begins_name, continues_name};
use crate::finding::{Finding, Span};

/// What a minus and all that touches it on both sides would be as one name.
pub(crate) struct Hyphenated<'s> {
    pub(crate) name: &'s str,
    span: Span,
    /// Whether the name stands behind a dot, so that brackets can stand in place of both.
    behind_dot: bool,
    /// What follows.
    rest: &'s str,
}

impl<'s> Hyphenated<'s> {
    /// What the minus at this byte of a text, or the one that follows there, touches on both sides, if it does.
    pub(crate) fn around(source: &'s str, minus: usize) -> Option<Self> {
        let (before, behind) = (source.get(..minus)?, source.get(minus..)?);
        if !(before.ends_with(continues_name)
            && behind.strip_prefix('-')?.starts_with(continues_name))
        {
            return None;
        }
        let is_inner = |c: char| continues_name(c) || c == '-';
        let start = before.trim_end_matches(is_inner).len();
        let rest = behind.trim_start_matches(is_inner);
        let end = source.len() - rest.len();
        let behind_dot = source[..start].ends_with('.');
        Some(Self { name: source.get(start..end)?, span: Span::new(start, end), behind_dot, rest })
    }

    /// What is wrong with the minus at this byte of a rule, if it can be none: it touches names on both sides, or a number
    /// with steps behind it.
    pub(super) fn refused(source: &'s str, minus: usize) -> Option<Finding> {
        let found = Self::around(source, minus)?;
        let subtrahend = source.get(minus + 1..found.span.end)?;
        let message = match subtrahend.starts_with(begins_name) {
            true => "a minus touches names on both sides",
            false if are_numbers(subtrahend) && !found.has_steps() => return None,
            false => "a minus touches a name, and what follows is no number alone",
        };
        let finding = Finding::error_at(Code::RuleSyntax, found.span, message);
        let why = " for a member of that name, or blanks around the minus";
        Some(finding.advise(found.advice(why, identity)))
    }

    /// The advice to write it as the name of a member, over places that `of` makes of spans.
    pub(crate) fn advice<P>(&self, why: &str, of: impl Fn(Span) -> P) -> Advice<P> {
        let step = format!("['{}']", self.name);
        let advice = Advice::words(format!("write {step}{why}"));
        match self.behind_dot {
            true => advice.fix(of(Span::new(self.span.start - 1, self.span.end)), step),
            false => advice,
        }
    }

    fn has_steps(&self) -> bool {
        let step = self.rest.strip_prefix('.').map(|behind| behind.starts_with(begins_name));
        step.unwrap_or_else(|| self.rest.starts_with('['))
    }
}

/// Whether the text is numbers with a minus between them, as far as they can stand before a dot or a plus.
fn are_numbers(text: &str) -> bool {
    let is_digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    text.split('-').all(|part| match part.split_once(['e', 'E']) {
        Some((digits, exponent)) => is_digits(digits) && is_digits(exponent),
        None => is_digits(part),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Texts, where a minus stands, and the name that is refused, if one is.
    #[test]
    fn refused_or_not() {
        for (source, refused) in [
            ("$.leg-from", Some("leg-from")),
            ("$.iso_3166-2[0]", Some("iso_3166-2")),
            ("$.iso_3166-2.name", Some("iso_3166-2")),
            ("$.part-2b", Some("part-2b")),
            ("$.part-2-b", Some("part-2-b")),
            ("$.iso-3166-2[0]", Some("iso-3166-2")),
            ("$.größe-x", Some("größe-x")),
            ("count-on", Some("count-on")),
            ("$.a-2", None),
            ("$.a-2-3", None),
            ("$.a-2.5", None),
            ("$.a-2e3", None),
            ("$.a-2e-3", None),
            ("$.a-2e+3", None),
            ("$.a - b", None),
            ("$.a -b", None),
            ("$.a- b", None),
            ("$[0]-b", None),
            ("$.a-(b)", None),
        ] {
            let minus = source.find('-').unwrap();
            let span = Hyphenated::refused(source, minus)
                .and_then(|finding| finding.places().first().copied())
                .map(|span| &source[span.start..span.end]);
            assert_eq!(span, refused, "{source}");
        }
    }
}
