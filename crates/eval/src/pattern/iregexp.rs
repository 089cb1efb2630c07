//! I-Regexp (RFC 9485): the patterns of `match()` and `search()`.
//!
//! A pattern is checked against the RFC's grammar and rewritten for the `regex` package, character by
//! character, so that nothing outside the RFC means anything here: `\d` or `(?i)` is refused, `^` is a caret.

mod patterns;

use std::iter::Peekable;
use std::str::Chars;

use regex::{Regex, RegexBuilder};

use super::{DEPTH, SIZE};
pub use patterns::Patterns;

/// Why a text is no I-Regexp.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct NotIRegexp(pub String);

/// Compiles a pattern that is to fit the whole text, or some part of it.
///
/// # Errors
/// [`NotIRegexp`] when it is outside RFC 9485 section 4, or too large.
pub fn compile(pattern: &str, whole: bool) -> Result<Regex, NotIRegexp> {
    let translated = translate(pattern)?;
    let anchored = if whole { format!(r"\A(?:{translated})\z") } else { translated };
    RegexBuilder::new(&anchored)
        .size_limit(SIZE)
        .build()
        .map_err(|_| NotIRegexp("it is too large".into()))
}

fn translate(pattern: &str) -> Result<String, NotIRegexp> {
    let mut parser = Pattern { rest: pattern.chars().peekable(), out: String::new(), depth: 0 };
    parser.branches()?;
    match parser.rest.next() {
        None => Ok(parser.out),
        Some(left) => Err(NotIRegexp(format!("`{left}` stands where nothing can follow"))),
    }
}

struct Pattern<'p> {
    rest: Peekable<Chars<'p>>,
    out: String,
    depth: usize,
}

type Step = Result<(), NotIRegexp>;

fn wrong<T>(why: impl Into<String>) -> Result<T, NotIRegexp> {
    Err(NotIRegexp(why.into()))
}

impl Pattern<'_> {
    /// `i-regexp = branch *( "|" branch )`
    fn branches(&mut self) -> Step {
        self.depth += 1;
        if self.depth > DEPTH {
            return wrong("its parentheses nest too deep");
        }
        loop {
            while let Some(next) = self.rest.peek() {
                if matches!(next, '|' | ')') {
                    break;
                }
                self.piece()?;
            }
            if self.rest.next_if_eq(&'|').is_none() {
                break;
            }
            self.out.push('|');
        }
        self.depth -= 1;
        Ok(())
    }

    /// `piece = atom [ quantifier ]`
    fn piece(&mut self) -> Step {
        self.atom()?;
        match self.rest.peek() {
            Some('*' | '+' | '?') => self.out.extend(self.rest.next()),
            Some('{') => self.range()?,
            _ => {}
        }
        Ok(())
    }

    /// `range-quantifier = "{" QuantExact [ "," [ QuantExact ] ] "}"`
    fn range(&mut self) -> Step {
        self.out.extend(self.rest.next());
        self.quantity(true)?;
        if self.rest.next_if_eq(&',').is_some() {
            self.out.push(',');
            self.quantity(false)?;
        }
        match self.rest.next() {
            Some('}') => self.out.push('}'),
            _ => return wrong("a quantifier is not closed"),
        }
        Ok(())
    }

    fn quantity(&mut self, required: bool) -> Step {
        let start = self.out.len();
        while let Some(digit) = self.rest.next_if(char::is_ascii_digit) {
            self.out.push(digit);
        }
        if required && self.out.len() == start {
            return wrong("a quantifier has no number");
        }
        Ok(())
    }

    fn atom(&mut self) -> Step {
        match self.rest.next() {
            Some('(') => {
                self.out.push_str("(?:");
                self.branches()?;
                if self.rest.next() != Some(')') {
                    return wrong("a parenthesis is not closed");
                }
                self.out.push(')');
                Ok(())
            }
            // RFC 9485 section 5.3: a dot is any character but line feed and carriage return.
            Some('.') => {
                self.out.push_str(r"[^\n\r]");
                Ok(())
            }
            Some('[') => self.class(),
            Some('\\') => self.escape(),
            Some(special @ ('*' | '+' | '?' | ']' | '{' | '}')) => {
                wrong(format!("`{special}` stands where a character is expected"))
            }
            Some(normal) => {
                self.literal(normal);
                Ok(())
            }
            None => wrong("it ends too early"),
        }
    }

    fn literal(&mut self, character: char) {
        if character.is_alphanumeric() {
            self.out.push(character);
        } else {
            self.out.push_str(&format!(r"\x{{{:X}}}", character as u32));
        }
    }

    /// What follows a backslash: `SingleCharEsc` or `charClassEsc`.
    fn escape(&mut self) -> Step {
        match self.rest.next() {
            Some(complement @ ('p' | 'P')) => self.category(complement),
            Some(letter) => match single_escape(letter) {
                Some(character) => {
                    self.literal(character);
                    Ok(())
                }
                None => wrong(format!("`\\{letter}` is no escape of RFC 9485")),
            },
            None => wrong("it ends in a backslash"),
        }
    }

    /// `catEsc` and `complEsc`: `\p{Lu}`, `\P{N}`.
    fn category(&mut self, letter: char) -> Step {
        if self.rest.next() != Some('{') {
            return wrong(format!("`{{` is missing after `\\{letter}`"));
        }
        let mut name = String::new();
        loop {
            match self.rest.next() {
                Some('}') => break,
                Some(other) if name.len() < 2 => name.push(other),
                _ => return wrong("a character category is not closed"),
            }
        }
        if !is_category(&name) {
            return wrong(format!("`{name}` is no character category"));
        }
        self.out.push_str(&format!(r"\{letter}{{{name}}}"));
        Ok(())
    }

    /// `charClassExpr = "[" [ "^" ] ( "-" / CCE1 ) *CCE1 [ "-" ] "]"`, behind its bracket.
    fn class(&mut self) -> Step {
        self.out.push('[');
        if self.rest.next_if_eq(&'^').is_some() {
            self.out.push('^');
        }
        if self.rest.next_if_eq(&'-').is_some() {
            self.literal('-');
        } else {
            self.class_item()?;
        }
        loop {
            match self.rest.peek() {
                Some(']') => break,
                Some('-') => {
                    self.rest.next();
                    self.literal('-');
                    break;
                }
                _ => self.class_item()?,
            }
        }
        if self.rest.next() != Some(']') {
            return wrong("a character class is not closed");
        }
        self.out.push(']');
        Ok(())
    }

    /// `CCE1 = ( CCchar [ "-" CCchar ] ) / charClassEsc`
    fn class_item(&mut self) -> Step {
        let mut ahead = self.rest.clone();
        if ahead.next() == Some('\\') && matches!(ahead.peek(), Some('p' | 'P')) {
            self.rest.next();
            return self.escape();
        }
        let low = self.class_character()?;
        self.literal(low);
        let mut ahead = self.rest.clone();
        if ahead.next() != Some('-') || ahead.peek() == Some(&']') {
            return Ok(());
        }
        self.rest.next();
        let high = self.class_character()?;
        if high < low {
            return wrong(format!("the range `{low}-{high}` runs backwards"));
        }
        self.out.push('-');
        self.literal(high);
        Ok(())
    }

    fn class_character(&mut self) -> Result<char, NotIRegexp> {
        match self.rest.next() {
            Some('\\') => match self.rest.next() {
                Some(letter) => single_escape(letter)
                    .map_or_else(|| wrong(format!("`\\{letter}` is no escape of RFC 9485")), Ok),
                None => wrong("it ends in a backslash"),
            },
            Some(special @ ('[' | ']' | '-')) => {
                wrong(format!("`{special}` needs a backslash in a character class"))
            }
            Some(character) => Ok(character),
            None => wrong("a character class is not closed"),
        }
    }
}

/// `SingleCharEsc`.
fn single_escape(letter: char) -> Option<char> {
    Some(match letter {
        'n' => '\n',
        'r' => '\r',
        't' => '\t',
        '(' | ')' | '*' | '+' | '-' | '.' | '?' | '[' | '\\' | ']' | '^' | '{' | '|' | '}' => {
            letter
        }
        _ => return None,
    })
}

/// `IsCategory`.
pub(super) fn is_category(name: &str) -> bool {
    let mut letters = name.chars();
    let minor = match letters.next() {
        Some('L') => "lmotu",
        Some('M') => "cen",
        Some('N') => "dlo",
        Some('P') => "cdefios",
        Some('Z') => "lps",
        Some('S') => "ckmo",
        Some('C') => "cfno",
        _ => return false,
    };
    letters.next().is_none_or(|letter| minor.contains(letter))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_and_what_fits_them() {
        for (pattern, whole, part, neither) in [
            ("a.c", "abc", "xabcx", "a\nc"),
            ("[AB][0-9]+", "A10", "berth B2", "C3"),
            ("a|b*", "bbb", "a", "\u{0}"),
            ("(ab){2,3}", "abab", "xababx", "ab"),
            (r"\p{Lu}\P{Lu}", "Éa", "xÉax", "ab"),
            ("[^a-c-]", "d", "abd", "-"),
            ("[-a]", "-", "x-", "b"),
            (r"[\]\-\\]", "]", "x\\", "a"),
            ("^a$", "^a$", "x^a$", "a"),
            (r"\n\^", "\n^", "a\n^", "n^"),
            ("[&&~]", "~", "a&", "x"),
            ("x{2,}", "xxx", "axxa", "x"),
            ("ö🚢", "ö🚢", "aö🚢", "o"),
        ] {
            let fits = |text, whole| compile(pattern, whole).unwrap().is_match(text);
            assert!(fits(whole, true) && fits(whole, false), "{pattern} {whole}");
            assert!(fits(part, false), "{pattern} {part}");
            assert!(!fits(neither, true), "{pattern} {neither}");
        }
    }

    #[test]
    fn outside_the_rfc() {
        for pattern in [
            r"\d",
            r"\w",
            r"\bx",
            "(?i)a",
            "(?:a)",
            "a**",
            "a*?",
            "[a",
            "[]",
            "(a",
            "a)",
            "{1}",
            "a{,2}",
            "a{1",
            "[b-a]",
            "[a-]b]",
            r"\p{Xx}",
            r"\p{Greek}",
            r"\pL",
            "\\",
            "[[:alpha:]]",
            "a{9999}{9999}",
            "]",
        ] {
            assert!(compile(pattern, true).is_err(), "{pattern}");
        }
    }

    proptest::proptest! {
        #[test]
        fn no_pattern_panics(pattern in r"[a\[\](){}^\-|*+?.\\pPLu,1é]{0,16}") {
            let _ = compile(&pattern, false);
        }
    }
}
