//! Texts that a pattern fits.

use regex_syntax::hir::{Class, Hir, HirKind};

use super::{Engine, Pattern};

/// A text is given up that would be longer.
const LONGEST: usize = 10_000;

impl Pattern {
    /// A text that the pattern fits, as far as it does not look around; `pick` gives a number below another one. Nothing for
    /// patterns that look around, or refer back to a group.
    ///
    /// ```
    /// use kyanite_eval::pattern::xsd;
    ///
    /// let ticket = xsd::compile(r"TB-\d{6}").unwrap();
    /// let text = ticket.example(&mut |_| 0).unwrap();
    /// assert!(ticket.is_match(&text).unwrap());
    /// ```
    pub fn example(&self, pick: &mut dyn FnMut(usize) -> usize) -> Option<String> {
        let Engine::Linear(regex) = self.engine()? else { return None };
        let tree = regex_syntax::parse(regex.as_str()).ok()?;
        let mut text = String::new();
        write(&tree, pick, &mut text)?;
        Some(text)
    }
}

fn write(tree: &Hir, pick: &mut dyn FnMut(usize) -> usize, text: &mut String) -> Option<()> {
    if text.len() > LONGEST {
        return None;
    }
    match tree.kind() {
        HirKind::Empty | HirKind::Look(_) => {}
        HirKind::Literal(literal) => text.push_str(std::str::from_utf8(&literal.0).ok()?),
        HirKind::Class(class) => text.push(one_of(class, pick)?),
        HirKind::Repetition(repeated) => {
            let most = repeated.max.unwrap_or(u32::MAX).min(repeated.min.saturating_add(2));
            let more = pick((most - repeated.min) as usize + 1);
            for _ in 0..repeated.min as usize + more {
                write(&repeated.sub, pick, text)?;
            }
        }
        HirKind::Capture(group) => write(&group.sub, pick, text)?,
        HirKind::Concat(parts) => {
            for part in parts {
                write(part, pick, text)?;
            }
        }
        HirKind::Alternation(parts) => write(parts.get(pick(parts.len()))?, pick, text)?,
    }
    Some(())
}

/// A sign of a class: a letter or digit of ASCII if it has one, else one that can be seen.
fn one_of(class: &Class, pick: &mut dyn FnMut(usize) -> usize) -> Option<char> {
    let Class::Unicode(class) = class else { return None };
    let has = |sign: char| class.iter().any(|range| (range.start()..=range.end()).contains(&sign));
    let seen = || ('!'..='~').filter(|sign| has(*sign));
    let plain: Vec<char> = seen().filter(char::is_ascii_alphanumeric).collect();
    let signs = if plain.is_empty() { seen().collect() } else { plain };
    match signs.as_slice() {
        [] => class.iter().next().map(|range| range.start()),
        signs => signs.get(pick(signs.len())).copied(),
    }
}

#[cfg(test)]
mod tests {
    use crate::pattern::{ecma, xsd};

    #[test]
    fn examples_fit() {
        for pattern in [
            r"TB-\d{6}",
            r"[A-Z]{2} \d{5}|x*",
            r"\p{Lu}\p{Ll}+",
            r"[^a-z]",
            r"\S+@\S+",
            "",
            r"(a|bc){3,}",
        ] {
            let (own, other) = (xsd::compile(pattern).unwrap(), ecma::compile(pattern).unwrap());
            for turn in 0..5 {
                let mut turns = turn;
                let mut pick = |below: usize| {
                    turns += 1;
                    turns % below
                };
                for pattern in [&own, &other] {
                    let text = pattern.example(&mut pick).unwrap();
                    assert_eq!(pattern.is_match(&text), Ok(true), "{pattern:?} {text:?}");
                }
            }
        }
        assert_eq!(ecma::compile("a(?=b)").unwrap().example(&mut |_| 0), None);
    }
}
