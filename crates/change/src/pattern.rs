//! Path patterns, which match many places: `$.sailings[*].updated`, `$..departs`, `$.page.*`.

use std::fmt;
use std::str::FromStr;

use kyanite_tree::{Step, name_step};

/// A path of names, `.*`, `[*]`, `[n]`, and `..` for any depth (in the forms of RFC 9535).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Pattern(Vec<PatternStep>);

#[derive(Clone, PartialEq, Eq, Debug)]
enum PatternStep {
    Name(String),
    AnyMember,
    Index(usize),
    AnyItem,
    /// Any steps, or none.
    Any,
}

/// How a pattern may be written.
const FORM: &str = "write a path of names, .*, [*], [n] and .., as in $.sailings[*].updated";

impl FromStr for Pattern {
    type Err = String;

    /// Reads a pattern.
    ///
    /// # Errors
    /// What may be written, in words.
    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || FORM.to_owned();
        let mut rest = text.strip_prefix('$').ok_or_else(wrong)?;
        let mut steps = Vec::new();
        while !rest.is_empty() {
            if let Some(after) = rest.strip_prefix('[') {
                let (step, after) = bracketed(after).ok_or_else(wrong)?;
                steps.push(step);
                rest = after;
                continue;
            }
            let mut after = rest.strip_prefix('.').ok_or_else(wrong)?;
            if let Some(deeper) = after.strip_prefix('.') {
                steps.push(PatternStep::Any);
                if deeper.starts_with('[') {
                    rest = deeper;
                    continue;
                }
                after = deeper;
            }
            let end = after.find(['.', '[']).unwrap_or(after.len());
            let name = &after[..end];
            if name.is_empty() {
                return Err(wrong());
            }
            steps.push(match name {
                "*" => PatternStep::AnyMember,
                name => PatternStep::Name(name.to_owned()),
            });
            rest = &after[end..];
        }
        Ok(Self(steps))
    }
}

/// What stands in brackets, and what is behind them.
fn bracketed(text: &str) -> Option<(PatternStep, &str)> {
    if let Some(after) = text.strip_prefix("*]") {
        return Some((PatternStep::AnyItem, after));
    }
    if let Some(quote) = text.chars().next().filter(|sign| matches!(sign, '\'' | '"')) {
        let (name, after) = text[1..].split_once(quote)?;
        let after = after.strip_prefix(']')?;
        // An escape would need the whole grammar of strings.
        return (!name.contains('\\')).then(|| (PatternStep::Name(name.to_owned()), after));
    }
    let (number, after) = text.split_once(']')?;
    Some((PatternStep::Index(kyanite_tree::pointer::index(number)?), after))
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("$")?;
        let mut steps = self.0.iter().peekable();
        while let Some(step) = steps.next() {
            match step {
                PatternStep::Name(name) => f.write_str(&name_step(name))?,
                PatternStep::AnyMember => f.write_str(".*")?,
                PatternStep::Index(index) => write!(f, "[{index}]")?,
                PatternStep::AnyItem => f.write_str("[*]")?,
                PatternStep::Any => {
                    let is_bracket = match steps.peek() {
                        Some(PatternStep::Name(name)) => name_step(name).starts_with('['),
                        next => !matches!(next, Some(PatternStep::AnyMember)),
                    };
                    f.write_str(if is_bracket { ".." } else { "." })?;
                }
            }
        }
        Ok(())
    }
}

impl Pattern {
    /// Whether steps lead to a place that the pattern stands for.
    #[must_use]
    pub fn matches(&self, steps: &[Step<'_>]) -> bool {
        fits(&self.0, steps)
    }

    /// The pattern of all places that differ from these steps by their indices alone.
    #[must_use]
    pub fn of(steps: &[Step<'_>]) -> Self {
        let general = |step: &Step<'_>| match step {
            Step::Index(_) => PatternStep::AnyItem,
            Step::Name(name) => PatternStep::Name((*name).to_owned()),
            // Steps of XML have paths of their own.
            _ => PatternStep::Any,
        };
        Self(steps.iter().map(general).collect())
    }
}

fn fits(pattern: &[PatternStep], steps: &[Step<'_>]) -> bool {
    let Some((first, rest)) = pattern.split_first() else { return steps.is_empty() };
    if *first == PatternStep::Any {
        return (0..=steps.len()).any(|skipped| fits(rest, &steps[skipped..]));
    }
    let Some((step, deeper)) = steps.split_first() else { return false };
    let fits_here = match (first, step) {
        (PatternStep::Name(name), Step::Name(other)) => name == other,
        (PatternStep::Index(index), Step::Index(other)) => index == other,
        (PatternStep::AnyMember, Step::Name(_)) | (PatternStep::AnyItem, Step::Index(_)) => true,
        _ => false,
    };
    fits_here && fits(rest, deeper)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns() {
        let steps = [Step::Name("a"), Step::Index(2), Step::Name("b c")];
        for (text, fits) in [
            ("$.a[*]['b c']", Some(true)),
            ("$.a[2].*", Some(true)),
            ("$..['b c']", Some(true)),
            ("$.a..*", Some(true)),
            ("$..[2]['b c']", Some(true)),
            ("$.a[1]['b c']", Some(false)),
            ("$.a[*]", Some(false)),
            ("$.*.*.*", Some(false)),
            ("$", Some(false)),
            ("a", None),
            ("$.", None),
            ("$..", None),
            ("$[01]", None),
            ("$[?@.a]", None),
        ] {
            let pattern = text.parse::<Pattern>().ok();
            assert_eq!(pattern.as_ref().map(|pattern| pattern.matches(&steps)), fits, "{text}");
            if let Some(pattern) = pattern {
                assert_eq!(pattern.to_string().parse(), Ok(pattern), "{text}");
            }
        }
        assert_eq!(Pattern::of(&steps).to_string(), "$.a[*]['b c']");
    }
}
