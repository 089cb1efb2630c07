//! The regular expressions of XML Schema (XSD 1.1 part 2 appendix G), and those of XPath, which add to them (F&O 3.1
//! section 5.6.1): anchors, reluctant quantifiers, groups, references back to one, and flags.
//!
//! ```
//! use kyanite_eval::pattern::xsd;
//!
//! let berth = xsd::compile_xpath("^[A-Z-[IO]]\\d+$", "").unwrap();
//! assert!(berth.is_match("A9").unwrap() && !berth.is_match("O9").unwrap());
//! ```

mod blocks;
mod to_ecma;

use std::borrow::Cow;
use std::iter::Peekable;
use std::str::Chars;

use super::{DEPTH, Pattern};

pub use to_ecma::to_ecma;

/// Why a pattern cannot be used.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum PatternError {
    /// It does not follow the grammar, and why.
    Syntax(String),
    /// A flag that is none of s, m, i, x and q.
    Flag(char),
}

impl std::fmt::Display for PatternError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Syntax(why) => f.write_str(why),
            Self::Flag(flag) => write!(f, "`{flag}` is no flag; there are s, m, i, x and q"),
        }
    }
}

impl std::error::Error for PatternError {}

/// Which of the two grammars it is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Grammar {
    Xsd,
    XPath,
}

/// Compiles a pattern of XML Schema, which is to fit the whole text.
///
/// # Errors
/// [`PatternError::Syntax`].
pub fn compile(pattern: &str) -> Result<Pattern, PatternError> {
    let (translated, _) = Translator::new(pattern, Grammar::Xsd, Flags::default()).translate()?;
    build(&format!(r"\A(?:{translated})\z"), Flags::default(), false)
}

/// Compiles a pattern of XPath, which is to fit some part of the text. Groups are numbered as in the standard.
///
/// # Errors
/// [`PatternError`].
pub fn compile_xpath(pattern: &str, flags: &str) -> Result<Pattern, PatternError> {
    let flags = Flags::read(flags)?;
    if flags.literal {
        return build(&regex::escape(pattern), flags, false);
    }
    let closed =
        if flags.ignores_blanks { Cow::Owned(without_blanks(pattern)) } else { pattern.into() };
    let (translated, refers_back) = Translator::new(&closed, Grammar::XPath, flags).translate()?;
    build(&translated, flags, refers_back)
}

/// The pattern without white space, but for that in classes.
fn without_blanks(pattern: &str) -> String {
    let mut depth = 0u32;
    let mut is_escaped = false;
    let mut kept = String::with_capacity(pattern.len());
    for character in pattern.chars() {
        if depth == 0 && matches!(character, ' ' | '\t' | '\n' | '\r') {
            continue;
        }
        kept.push(character);
        match character {
            _ if is_escaped => is_escaped = false,
            '\\' => is_escaped = true,
            '[' => depth += 1,
            ']' => depth = depth.saturating_sub(1),
            _ => {}
        }
    }
    kept
}

fn build(pattern: &str, flags: Flags, refers_back: bool) -> Result<Pattern, PatternError> {
    let too_large = || PatternError::Syntax("it is too large".into());
    Pattern::build(pattern, flags.ignores_case, refers_back).ok_or_else(too_large)
}

#[derive(Clone, Copy, Default)]
struct Flags {
    dot_is_all: bool,
    lines: bool,
    ignores_case: bool,
    ignores_blanks: bool,
    literal: bool,
}

impl Flags {
    fn read(text: &str) -> Result<Self, PatternError> {
        let mut flags = Self::default();
        for flag in text.chars() {
            match flag {
                's' => flags.dot_is_all = true,
                'm' => flags.lines = true,
                'i' => flags.ignores_case = true,
                'x' => flags.ignores_blanks = true,
                'q' => flags.literal = true,
                other => return Err(PatternError::Flag(other)),
            }
        }
        Ok(flags)
    }
}

struct Translator<'p> {
    rest: Peekable<Chars<'p>>,
    out: String,
    depth: usize,
    grammar: Grammar,
    flags: Flags,
    /// For each group that was opened whether it is closed.
    groups: Vec<bool>,
    refers_back: bool,
}

type Step = Result<(), PatternError>;

fn wrong<T>(why: impl Into<String>) -> Result<T, PatternError> {
    Err(PatternError::Syntax(why.into()))
}

impl<'p> Translator<'p> {
    fn new(pattern: &'p str, grammar: Grammar, flags: Flags) -> Self {
        let (rest, out, groups) = (pattern.chars().peekable(), String::new(), Vec::new());
        Self { rest, out, depth: 0, grammar, flags, groups, refers_back: false }
    }

    /// The translation, and whether it refers back to a group.
    fn translate(mut self) -> Result<(String, bool), PatternError> {
        self.branches()?;
        match self.rest.next() {
            None => Ok((self.out, self.refers_back)),
            Some(left) => wrong(format!("`{left}` stands where nothing can follow")),
        }
    }

    fn branches(&mut self) -> Step {
        self.depth += 1;
        if self.depth > DEPTH {
            return wrong("its parentheses nest too deep");
        }
        loop {
            match self.rest.peek() {
                None | Some(')') => break,
                Some('|') => {
                    self.rest.next();
                    self.out.push('|');
                }
                Some(_) => self.piece()?,
            }
        }
        self.depth -= 1;
        Ok(())
    }

    fn piece(&mut self) -> Step {
        self.atom()?;
        match self.rest.peek() {
            Some('*' | '+' | '?') => self.out.extend(self.rest.next()),
            Some('{') => self.range()?,
            _ => return Ok(()),
        }
        if self.grammar == Grammar::XPath && self.rest.next_if_eq(&'?').is_some() {
            self.out.push('?');
        }
        Ok(())
    }

    /// `{n}`, `{n,}`, `{n,m}`.
    fn range(&mut self) -> Step {
        self.rest.next();
        let least = self.number()?;
        let most = if self.rest.next_if_eq(&',').is_none() {
            Some(least)
        } else if self.rest.peek() == Some(&'}') {
            None
        } else {
            Some(self.number()?)
        };
        if self.rest.next() != Some('}') {
            return wrong("a quantifier is not closed");
        }
        match most {
            Some(most) if most < least => {
                wrong(format!("the quantifier {{{least},{most}}} runs backwards"))
            }
            Some(most) => {
                self.out.push_str(&format!("{{{least},{most}}}"));
                Ok(())
            }
            None => {
                self.out.push_str(&format!("{{{least},}}"));
                Ok(())
            }
        }
    }

    fn number(&mut self) -> Result<u32, PatternError> {
        let mut digits = String::new();
        while let Some(digit) = self.rest.next_if(char::is_ascii_digit) {
            digits.push(digit);
        }
        digits.parse().or_else(|_| wrong("a quantifier has no number, or one that is too large"))
    }

    fn atom(&mut self) -> Step {
        let is_xpath = self.grammar == Grammar::XPath;
        match self.rest.next() {
            Some('(') => {
                let mut group = None;
                if is_xpath && self.rest.next_if_eq(&'?').is_some() {
                    if self.rest.next() != Some(':') {
                        return wrong("behind `(?` only `:` may stand");
                    }
                    self.out.push_str("(?:");
                } else {
                    self.out.push('(');
                    group = Some(self.groups.len());
                    self.groups.push(false);
                }
                self.branches()?;
                if self.rest.next() != Some(')') {
                    return wrong("a parenthesis is not closed");
                }
                if let Some(group) = group {
                    self.groups[group] = true;
                }
                self.out.push(')');
                Ok(())
            }
            Some('.') => {
                self.out.push_str(if self.flags.dot_is_all { r"(?s:.)" } else { r"[^\n\r]" });
                Ok(())
            }
            Some('^') if is_xpath => {
                self.out.push_str(if self.flags.lines { "(?m:^)" } else { r"\A" });
                Ok(())
            }
            Some('$') if is_xpath => {
                self.out.push_str(if self.flags.lines { "(?m:$)" } else { r"\z" });
                Ok(())
            }
            Some('[') => self.class(),
            Some('\\') if is_xpath && matches!(self.rest.peek(), Some('1'..='9')) => {
                self.reference_back()
            }
            Some('\\') => {
                let class = self.escape()?;
                self.out.push_str(&class);
                Ok(())
            }
            Some(special @ ('*' | '+' | '?' | ']' | '{' | '}')) => {
                wrong(format!("`{special}` stands where a character is expected"))
            }
            Some(normal) => {
                self.out.push_str(&literal(normal));
                Ok(())
            }
            None => wrong("it ends too early"),
        }
    }

    /// `\1`, behind the backslash: what a group fitted, or None if it took no part. A number of more digits than there are
    /// groups ends before them.
    fn reference_back(&mut self) -> Step {
        let mut number = 0;
        while let Some(digit) = self.rest.peek().and_then(|c| c.to_digit(10)) {
            let longer = number * 10 + digit as usize;
            if number > 0 && longer > self.groups.len() {
                break;
            }
            number = longer;
            self.rest.next();
        }
        match self.groups.get(number - 1) {
            Some(true) => {
                self.refers_back = true;
                self.out.push_str(&format!(r"(?:(?({number})\{number}))"));
                Ok(())
            }
            Some(false) => wrong(format!("`\\{number}` stands in the group that it refers to")),
            None => wrong(format!("`\\{number}` refers to a group that is not there yet")),
        }
    }

    /// What follows a backslash, in a class as well.
    fn escape(&mut self) -> Result<String, PatternError> {
        let Some(letter) = self.rest.next() else { return wrong("it ends in a backslash") };
        let class = match letter {
            'n' => literal('\n'),
            'r' => literal('\r'),
            't' => literal('\t'),
            '\\' | '|' | '.' | '?' | '*' | '+' | '(' | ')' | '{' | '}' | '-' | '[' | ']' | '^' => {
                literal(letter)
            }
            '$' if self.grammar == Grammar::XPath => literal('$'),
            's' => r"[\t\n\r ]".into(),
            'S' => r"[^\t\n\r ]".into(),
            'd' => r"\p{Nd}".into(),
            'D' => r"\P{Nd}".into(),
            'w' => r"[^\p{P}\p{Z}\p{C}]".into(),
            'W' => r"[\p{P}\p{Z}\p{C}]".into(),
            'i' => format!("[{NAME_START}]"),
            'I' => format!("[^{NAME_START}]"),
            'c' => format!("[{NAME_START}{NAME_REST}]"),
            'C' => format!("[^{NAME_START}{NAME_REST}]"),
            'p' | 'P' => return self.category(letter),
            other => return wrong(format!("`\\{other}` is no escape")),
        };
        Ok(class)
    }

    /// `\p{Lu}`, `\P{IsGreek}`, behind the letter.
    fn category(&mut self, letter: char) -> Result<String, PatternError> {
        if self.rest.next() != Some('{') {
            return wrong(format!("`{{` is missing after `\\{letter}`"));
        }
        let mut name = String::new();
        loop {
            match self.rest.next() {
                Some('}') => break,
                Some(other) => name.push(other),
                None => return wrong("a character category is not closed"),
            }
        }
        let negation = if letter == 'P' { "^" } else { "" };
        if let Some(block) = name.strip_prefix("Is") {
            let Some((first, last)) = blocks::named(block) else {
                return wrong(format!("`{block}` is no block of Unicode"));
            };
            return Ok(format!(r"[{negation}\x{{{first:X}}}-\x{{{last:X}}}]"));
        }
        if !super::iregexp::is_category(&name) {
            return wrong(format!("`{name}` is no character category"));
        }
        Ok(format!(r"\{letter}{{{name}}}"))
    }

    /// A class behind its bracket: `[a-z-[aeiou]]`.
    fn class(&mut self) -> Step {
        self.depth += 1;
        if self.depth > DEPTH {
            return wrong("its classes nest too deep");
        }
        let is_negated = self.rest.next_if_eq(&'^').is_some();
        let mut items = String::new();
        let mut without = None;
        let mut is_first = true;
        loop {
            let Some(next) = self.rest.next() else { return wrong("a class is not closed") };
            match next {
                ']' if is_first => return wrong("a class is empty"),
                ']' => break,
                '-' if self.rest.peek() == Some(&'[') && !is_first => {
                    self.rest.next();
                    let outer = std::mem::take(&mut self.out);
                    self.class()?;
                    without = Some(std::mem::replace(&mut self.out, outer));
                    if self.rest.next() != Some(']') {
                        return wrong("a class ends behind the class that is taken away from it");
                    }
                    break;
                }
                '[' => return wrong("`[` in a class needs a backslash"),
                _ => self.item(next, is_first, &mut items)?,
            }
            is_first = false;
        }
        self.depth -= 1;
        let negation = if is_negated { "^" } else { "" };
        match without {
            None => self.out.push_str(&format!("[{negation}{items}]")),
            Some(without) => self.out.push_str(&format!("[[{negation}{items}]--{without}]")),
        }
        Ok(())
    }

    /// A character, a range or an escape in a class, of which the first character was read.
    fn item(&mut self, first: char, is_first: bool, items: &mut String) -> Step {
        let low = match first {
            '\\' => {
                let class = self.escape()?;
                match single(&class) {
                    Some(character) => character,
                    None => {
                        items.push_str(&class);
                        return Ok(());
                    }
                }
            }
            '-' if !is_first && self.rest.peek() != Some(&']') => {
                return wrong("`-` in a class needs a backslash, or stands first or last");
            }
            other => other,
        };
        let mut ahead = self.rest.clone();
        let is_range = ahead.next() == Some('-') && !matches!(ahead.peek(), Some(']' | '[') | None);
        if !is_range {
            items.push_str(&literal(low));
            return Ok(());
        }
        self.rest.next();
        let high = match self.rest.next() {
            Some('\\') => {
                let class = self.escape()?;
                let end = single(&class);
                match end {
                    Some(character) => character,
                    None => return wrong("a range of characters ends in a class"),
                }
            }
            Some(character) => character,
            None => return wrong("a class is not closed"),
        };
        if high < low {
            return wrong(format!("the range `{low}-{high}` runs backwards"));
        }
        items.push_str(&format!("{}-{}", literal(low), literal(high)));
        Ok(())
    }
}

/// A character as the package has it.
fn literal(character: char) -> String {
    format!(r"\x{{{:X}}}", character as u32)
}

/// The character that [`literal`] wrote.
fn single(class: &str) -> Option<char> {
    let digits = class.strip_prefix(r"\x{")?.strip_suffix('}')?;
    char::from_u32(u32::from_str_radix(digits, 16).ok()?)
}

/// The characters that names begin with (XML 1.0 production 4, and the colon).
const NAME_START: &str = r"\x{3A}A-Z_a-z\x{C0}-\x{D6}\x{D8}-\x{F6}\x{F8}-\x{2FF}\x{370}-\x{37D}\x{37F}-\x{1FFF}\x{200C}-\x{200D}\x{2070}-\x{218F}\x{2C00}-\x{2FEF}\x{3001}-\x{D7FF}\x{F900}-\x{FDCF}\x{FDF0}-\x{FFFD}\x{10000}-\x{EFFFF}";

/// The characters that names go on with besides (XML 1.0 production 4a).
const NAME_REST: &str = r"\x{2D}\x{2E}0-9\x{B7}\x{300}-\x{36F}\x{203F}-\x{2040}";

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_of_xpath() {
        for (pattern, flags, text, wanted) in [
            ("bra", "", "abracadabra", true),
            ("^a.*a$", "", "abracadabra", true),
            ("^bra", "", "abracadabra", false),
            ("^b", "m", "a\nb", true),
            ("a$", "m", "a\nb", true),
            ("a$", "", "a\nb", false),
            ("a.b", "", "a\nb", false),
            ("a.b", "s", "a\nb", true),
            ("HELLO", "i", "Hello", true),
            ("hello[ ]world", "x", "hello world", true),
            ("hello[ ]world", "x", "helloworld", false),
            ("hello\\ sworld", "x", "hello world", true),
            ("hello world", "x", "helloworld", true),
            ("a.b", "q", "a.b", true),
            ("a.b", "q", "axb", false),
            ("[a-z-[aeiou]]+x", "", "brx", true),
            ("^[a-z-[aeiou]]+$", "", "bra", false),
            ("\\p{IsBasicLatin}", "", "é", false),
            ("\\P{IsBasicLatin}", "", "é", true),
            ("^\\i\\c*$", "", "m:deck-1", true),
            ("^\\i\\c*$", "", "1deck", false),
            ("^\\d$", "", "٣", true),
            ("^(?:ab)+?$", "", "abab", true),
            ("[\\^\\-]", "", "-", true),
            ("[-a]", "", "-", true),
            ("a{2,3}", "", "aa", true),
            ("", "", "x", true),
            ("|a", "", "", true),
            ("(['\"]).*\\1", "", "a 'b' c", true),
            ("(['\"]).*\\1", "", "a 'b\" c", false),
            ("([a-z])\\1", "i", "Ab bB", true),
            ("^(a)?\\1b$", "", "b", true),
            ("^(?:(a)|b)\\1$", "", "aa", true),
            ("^(?:(a)|b)\\1$", "", "ba", false),
            ("^(a)\\12$", "", "aa2", true),
            ("^(a)(b)(c)(d)(e)(f)(g)(h)(i)(j)\\10$", "", "abcdefghijj", true),
        ] {
            let regex = compile_xpath(pattern, flags).unwrap();
            assert_eq!(regex.is_match(text), Ok(wanted), "{pattern} {flags} {text}");
        }
        for pattern in [
            "(",
            ")",
            "[",
            "[]",
            "a{2",
            "a{3,2}",
            "*a",
            "a**",
            "\\y",
            "\\",
            "(?=a)",
            "(a\\1)",
            "\\1(a)",
            "(a)\\2",
            "[(a)\\1]",
            "[z-a]",
            "\\p{Xx}",
            "\\p{IsNowhere}",
            "[a[b]]",
            "a{,2}",
            "]",
        ] {
            assert!(compile_xpath(pattern, "").is_err(), "{pattern}");
        }
        assert_eq!(compile_xpath("a", "g").unwrap_err(), PatternError::Flag('g'));
    }

    #[test]
    fn a_pattern_that_refers_back_is_given_up() {
        let explodes = compile_xpath("^(a|aa|a?)+\\1b$", "").unwrap();
        assert_eq!(explodes.is_match(&"a".repeat(5_000)), Err(crate::pattern::TooMuchWork));
        let linear = compile_xpath("^(a|aa|a?)+b$", "").unwrap();
        assert_eq!(linear.is_match(&"a".repeat(5_000)), Ok(false));
    }

    #[test]
    fn patterns_of_xml_schema_fit_whole_texts() {
        for (pattern, text, wanted) in [
            ("[A-Z]{2} \\d{5}", "NX 20417", true),
            ("[A-Z]{2}", "NX 2", false),
            ("a^b$", "a^b$", true),
            ("a|b", "b", true),
        ] {
            assert_eq!(compile(pattern).unwrap().is_match(text), Ok(wanted), "{pattern}");
        }
        assert!(["a*?", "(?:a)", "(a)\\1"].into_iter().all(|pattern| compile(pattern).is_err()));
    }
}
