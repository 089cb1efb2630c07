//! The regular expressions of ECMAScript (ECMA-262 section 22.2), as JSON Schema uses them: with the flag `u`, but for braces
//! that close no quantifier, which stand for themselves.
//!
//! ```
//! use kyanite_eval::pattern::ecma;
//!
//! let plate = ecma::compile(r"^[A-Z]{2} \d+$").unwrap();
//! assert!(plate.is_match("NX 20417").unwrap() && !plate.is_match("NX ٣").unwrap());
//! ```

use std::iter::Peekable;
use std::str::Chars;

use super::{DEPTH, Pattern};

/// What is wrong with a pattern, in a sentence.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PatternError(pub String);

impl std::fmt::Display for PatternError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for PatternError {}

type Read<T> = Result<T, PatternError>;

fn wrong<T>(why: impl Into<String>) -> Read<T> {
    Err(PatternError(why.into()))
}

/// White space and line ends of ECMAScript, inside a class.
const SPACE: &str = r"\t\n\x0B\x0C\r\x{A0}\x{FEFF}\x{2028}\x{2029}\p{Zs}";
const DIGIT: &str = "0-9";
const WORD: &str = "A-Za-z0-9_";

/// Compiles a pattern, which is to fit some part of a text.
///
/// # Errors
/// A [`PatternError`].
pub fn compile(pattern: &str) -> Read<Pattern> {
    let mut translator = Translator {
        rest: pattern.chars().peekable(),
        out: String::new(),
        depth: 0,
        looks_around: false,
    };
    translator.branches()?;
    if translator.rest.next().is_some() {
        return wrong("a parenthesis is closed that is not open");
    }
    let Translator { out, looks_around, .. } = translator;
    let refused = || PatternError("it refers to a group that is not there, or is too large".into());
    Pattern::build(&out, false, looks_around).ok_or_else(refused)
}

struct Translator<'p> {
    rest: Peekable<Chars<'p>>,
    out: String,
    depth: usize,
    /// Whether what stands around a place is looked at, or what a group fitted.
    looks_around: bool,
}

/// What an escape stands for.
enum Escape {
    Character(char),
    /// What stands in a class.
    Class {
        items: String,
        is_negated: bool,
    },
}

impl Translator<'_> {
    fn branches(&mut self) -> Read<()> {
        self.depth += 1;
        if self.depth > DEPTH {
            return wrong("its parentheses nest too deep");
        }
        loop {
            match self.rest.peek() {
                None | Some(')') => break,
                Some('|') => self.out.extend(self.rest.next()),
                Some(_) => self.term()?,
            }
        }
        self.depth -= 1;
        Ok(())
    }

    fn term(&mut self) -> Read<()> {
        let Some(first) = self.rest.next() else { return Ok(()) };
        match first {
            '^' => {
                self.out.push_str(r"\A");
                return Ok(());
            }
            '$' => {
                self.out.push_str(r"\z");
                return Ok(());
            }
            '.' => self.out.push_str(r"[^\n\r\x{2028}\x{2029}]"),
            '(' => self.group()?,
            '[' => self.class()?,
            '*' | '+' | '?' => return wrong(format!("`{first}` stands where nothing can repeat")),
            '\\' => match self.rest.peek() {
                Some('b' | 'B') => {
                    let letter = self.rest.next().unwrap_or('b');
                    self.out.push_str(&format!(r"(?-u:\{letter})"));
                    return Ok(());
                }
                Some('1'..='9') => {
                    let mut number = String::new();
                    while let Some(digit) = self.rest.next_if(char::is_ascii_digit) {
                        number.push(digit);
                    }
                    self.looks_around = true;
                    self.out.push_str(&format!(r"(?:\{number})"));
                }
                Some('k') => {
                    self.rest.next();
                    let name = self.name('<', '>')?;
                    self.looks_around = true;
                    self.out.push_str(&format!(r"(?:\k<{name}>)"));
                }
                _ => match self.escape()? {
                    Escape::Character(character) => self.literal(character),
                    Escape::Class { items, is_negated } => {
                        let sign = if is_negated { "^" } else { "" };
                        self.out.push_str(&format!("[{sign}{items}]"));
                    }
                },
            },
            other => self.literal(other),
        }
        self.quantifier()
    }

    fn literal(&mut self, character: char) {
        self.out.push_str(&regex::escape(character.encode_utf8(&mut [0; 4])));
    }

    fn group(&mut self) -> Read<()> {
        if self.rest.next_if_eq(&'?').is_none() {
            self.out.push('(');
        } else {
            let sign = match (self.rest.next(), self.rest.peek()) {
                (Some(':'), _) => "(?:",
                (Some('='), _) => "(?=",
                (Some('!'), _) => "(?!",
                (Some('<'), Some('=')) => "(?<=",
                (Some('<'), Some('!')) => "(?<!",
                (Some('<'), Some(_)) => "(?<",
                _ => {
                    return wrong("behind `(?` stands none of `:`, `=`, `!`, `<=`, `<!`, `<name>`");
                }
            };
            self.out.push_str(sign);
            match sign {
                "(?<" => {
                    let name = self.until('>')?;
                    self.out.push_str(&name);
                    self.out.push('>');
                }
                "(?<=" | "(?<!" => {
                    self.rest.next();
                }
                _ => {}
            }
            self.looks_around |= matches!(sign, "(?=" | "(?!" | "(?<=" | "(?<!");
        }
        self.branches()?;
        if self.rest.next() != Some(')') {
            return wrong("a parenthesis is not closed");
        }
        self.out.push(')');
        Ok(())
    }

    /// A name between two signs.
    fn name(&mut self, open: char, close: char) -> Read<String> {
        if self.rest.next() != Some(open) {
            return wrong(format!("`{open}` is missing"));
        }
        self.until(close)
    }

    fn until(&mut self, close: char) -> Read<String> {
        let mut name = String::new();
        loop {
            match self.rest.next() {
                Some(end) if end == close && !name.is_empty() => return Ok(name),
                Some(other) if other.is_alphanumeric() || matches!(other, '_' | '=') => {
                    name.push(other);
                }
                _ => return wrong(format!("a name is not closed with `{close}`")),
            }
        }
    }

    /// `*`, `+`, `?`, `{n}`, `{n,}`, `{n,m}`, each perhaps with `?`.
    fn quantifier(&mut self) -> Read<()> {
        match self.rest.peek() {
            Some('*' | '+' | '?') => self.out.extend(self.rest.next()),
            Some('{') => {
                let mut ahead = self.rest.clone();
                let mut text = String::new();
                for character in ahead.by_ref() {
                    text.push(character);
                    if character == '}' {
                        break;
                    }
                }
                let inner = text.strip_prefix('{').and_then(|text| text.strip_suffix('}'));
                let Some(inner) = inner.filter(|inner| is_range(inner)) else { return Ok(()) };
                if let Some((least, most)) = inner.split_once(',')
                    && let (Ok(least), Ok(most)) = (least.parse::<u32>(), most.parse::<u32>())
                    && most < least
                {
                    return wrong(format!("the quantifier {text} runs backwards"));
                }
                self.rest = ahead;
                self.out.push_str(&text);
            }
            _ => return Ok(()),
        }
        if self.rest.next_if_eq(&'?').is_some() {
            self.out.push('?');
        }
        match self.rest.peek() {
            Some('*' | '+' | '?') => wrong("a quantifier is repeated"),
            _ => Ok(()),
        }
    }

    /// A class behind its bracket.
    fn class(&mut self) -> Read<()> {
        let is_negated = self.rest.next_if_eq(&'^').is_some();
        let mut items = String::new();
        loop {
            match self.rest.next() {
                None => return wrong("a class is not closed"),
                Some(']') => break,
                Some(first) => self.class_item(first, &mut items)?,
            }
        }
        self.out.push_str(&match (items.is_empty(), is_negated) {
            (true, true) => "(?s:.)".to_owned(),
            (true, false) => r"[^\x{0}-\x{10FFFF}]".to_owned(),
            (false, true) => format!("[^{items}]"),
            (false, false) => format!("[{items}]"),
        });
        Ok(())
    }

    fn class_item(&mut self, first: char, items: &mut String) -> Read<()> {
        let low = match self.class_atom(first)? {
            Escape::Character(low) => low,
            Escape::Class { items: class, is_negated } => {
                let sign = if is_negated { "^" } else { "" };
                items.push_str(&format!("[{sign}{class}]"));
                return Ok(());
            }
        };
        let mut ahead = self.rest.clone();
        let is_range = ahead.next() == Some('-') && !matches!(ahead.peek(), Some(']') | None);
        if !is_range {
            items.push_str(&format!(r"\x{{{:X}}}", low as u32));
            return Ok(());
        }
        self.rest.next();
        let Some(end) = self.rest.next() else { return wrong("a class is not closed") };
        match self.class_atom(end)? {
            Escape::Character(high) if low <= high => {
                items.push_str(&format!(r"\x{{{:X}}}-\x{{{:X}}}", low as u32, high as u32));
                Ok(())
            }
            Escape::Character(_) => wrong("a range of characters runs backwards"),
            Escape::Class { .. } => wrong("a range of characters ends in a class"),
        }
    }

    fn class_atom(&mut self, first: char) -> Read<Escape> {
        match (first, self.rest.peek()) {
            ('\\', Some('b')) => {
                self.rest.next();
                Ok(Escape::Character('\u{8}'))
            }
            ('\\', Some('-')) => {
                self.rest.next();
                Ok(Escape::Character('-'))
            }
            ('\\', _) => self.escape(),
            (other, _) => Ok(Escape::Character(other)),
        }
    }

    /// What follows a backslash.
    fn escape(&mut self) -> Read<Escape> {
        let Some(letter) = self.rest.next() else { return wrong("it ends in a backslash") };
        let class = |items: &str, is_negated| Ok(Escape::Class { items: items.into(), is_negated });
        Ok(Escape::Character(match letter {
            'd' | 'D' => return class(DIGIT, letter == 'D'),
            'w' | 'W' => return class(WORD, letter == 'W'),
            's' | 'S' => return class(SPACE, letter == 'S'),
            'p' | 'P' => {
                let name = self.name('{', '}')?;
                let items = format!(r"\p{{{name}}}");
                if regex::Regex::new(&items).is_err() {
                    return wrong(format!("`{name}` is no property of characters"));
                }
                return class(&items, letter == 'P');
            }
            't' => '\t',
            'n' => '\n',
            'v' => '\u{B}',
            'f' => '\u{C}',
            'r' => '\r',
            '0' if !self.rest.peek().is_some_and(char::is_ascii_digit) => '\0',
            'c' => match self.rest.next() {
                Some(control) if control.is_ascii_alphabetic() => char::from(control as u8 & 0x1F),
                _ => return wrong("no letter stands behind `\\c`"),
            },
            'x' => self.hexadecimal(2)?,
            'u' if self.rest.next_if_eq(&'{').is_some() => {
                let digits = self.until('}')?;
                let code = u32::from_str_radix(&digits, 16).ok().and_then(char::from_u32);
                match code {
                    Some(character) => character,
                    None => return wrong(format!("`\\u{{{digits}}}` is no character")),
                }
            }
            'u' => self.hexadecimal(4)?,
            '^' | '$' | '\\' | '.' | '*' | '+' | '?' | '(' | ')' | '[' | ']' | '{' | '}' | '|'
            | '/' => letter,
            '-' => '-',
            other => return wrong(format!("`\\{other}` is no escape")),
        }))
    }

    /// The character that `count` hexadecimal digits stand for, or two halves of a surrogate pair.
    fn hexadecimal(&mut self, count: usize) -> Read<char> {
        let first = self.digits(count)?;
        if (0xD800..0xDC00).contains(&first) {
            let mut ahead = self.rest.clone();
            if ahead.next() == Some('\\') && ahead.next() == Some('u') {
                self.rest = ahead;
                let second = self.digits(4)?;
                let low = second.checked_sub(0xDC00).filter(|low| *low < 0x400);
                let code = low.map(|low| 0x10000 + ((first - 0xD800) << 10) + low);
                if let Some(character) = code.and_then(char::from_u32) {
                    return Ok(character);
                }
            }
        }
        char::from_u32(first).map_or_else(|| wrong("half of a surrogate pair is no character"), Ok)
    }

    fn digits(&mut self, count: usize) -> Read<u32> {
        let mut code = 0;
        for _ in 0..count {
            match self.rest.next().and_then(|c| c.to_digit(16)) {
                Some(digit) => code = code * 16 + digit,
                None => return wrong("hexadecimal digits are missing"),
            }
        }
        Ok(code)
    }
}

/// Whether a text is `n`, `n,` or `n,m`.
fn is_range(text: &str) -> bool {
    let is_number = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    match text.split_once(',') {
        None => is_number(text),
        Some((least, most)) => is_number(least) && (most.is_empty() || is_number(most)),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that fails may panic")]
mod tests {
    use super::*;

    #[test]
    fn patterns() {
        for (pattern, text, wanted) in [
            ("^a*$", "aaa", true),
            ("a", "xax", true),
            ("^a$", "a\n", false),
            (r"^\d$", "٣", false),
            (r"^\W$", "é", true),
            (r"^\s$", "\u{A0}", true),
            (r"^\S$", "\u{2003}", false),
            (r"^[\s\d]$", "\u{FEFF}", true),
            (r"^[^\D]$", "7", true),
            (r"\bx\b", "a x b", true),
            (r"^[\b]$", "\u{8}", true),
            (r"^\cA\x41\u0042\u{43}$", "\u{1}ABC", true),
            (r"^\ud83d\udc32$", "🐲", true),
            (r"^\p{Lu}\P{Lu}$", "Éa", true),
            (r"^\p{Script=Greek}$", "λ", true),
            ("^a{2}b{1,}?c{0,1}$", "aabb", true),
            ("^a{,2}$", "a{,2}", true),
            ("^{}$", "{}", true),
            ("^(?:a|b)+$", "abba", true),
            ("^(?=.*1)(?!.*2)[0-9]+$", "31", true),
            ("^(?=.*1)(?!.*2)[0-9]+$", "312", false),
            (r"(?<=\$)\d", "$5", true),
            (r"(?<!\$)5", "$5", false),
            (r"^(['x]).*\1$", "'a'", true),
            (r"^(?<q>['x]).*\k<q>$", "'a'", true),
            ("[]", "a", false),
            ("^[^]$", "\n", true),
            ("^.$", "\u{2028}", false),
            ("^[a&&b]$", "&", true),
            ("^[[]$", "[", true),
            (r"^\/$", "/", true),
            ("", "x", true),
        ] {
            let regex = compile(pattern).unwrap();
            assert_eq!(regex.is_match(text), Ok(wanted), "{pattern} {text:?}");
        }
        for pattern in [
            "(",
            ")",
            "[",
            "a**",
            "*",
            "(?",
            "(?<",
            "(?i)a",
            r"\a",
            r"\Z",
            r"\q",
            r"\",
            r"\x1",
            r"\u12",
            r"\u{110000}",
            r"\ud800",
            r"\p{Nowhere}",
            "[z-a]",
            r"[a-\d]",
            "a{3,2}",
            r"\1",
            r"\c1",
            "a++",
            r"\k<x>",
        ] {
            assert!(compile(pattern).is_err(), "{pattern}");
        }
    }
}
