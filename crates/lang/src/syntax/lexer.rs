//! From characters to tokens.

use kyanite_tree::Code;

use super::text::{self, TextEnd};
use crate::finding::{Finding, Span, instead};

/// A token of the rule language.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Token {
    /// A name or a word.
    Name(String),
    /// A number without sign, in the grammar of RFC 8259.
    Number(String),
    /// A quoted text, unescaped.
    Text(String),
    /// The opening of an f-text, with its quote.
    Template(char),
    /// A symbol, one of [`SYMBOLS`].
    Symbol(&'static str),
    /// In place of what is no token; a finding has told.
    Broken,
    /// The end of the rule.
    End,
}

/// All symbols, the longer of a common start first.
const SYMBOLS: [&str; 30] = [
    "...", "..", "??", "==", "!=", "<=", ">=", "&&", "||", "$", "@", ".", "[", "]", "(", ")", "{",
    "}", ",", ":", ";", "?", "*", "+", "-", "/", "%", "<", ">", "!",
];

/// A token and how it stands in the text.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct Lexeme {
    pub(crate) token: Token,
    pub(crate) span: Span,
    /// Whether it is the first on its line.
    pub(crate) on_new_line: bool,
    /// Whether a blank, a comment or a line end stands before it.
    pub(crate) after_blank: bool,
}

/// Whether a name may begin with `c` (RFC 9535 section 2.5.1.1, `name-first`).
pub(crate) fn begins_name(c: char) -> bool {
    c.is_ascii_alphabetic() || c == '_' || !c.is_ascii()
}

/// Whether a name may go on with `c` (`name-char`).
pub(crate) fn continues_name(c: char) -> bool {
    begins_name(c) || c.is_ascii_digit()
}

/// The length of the name that `text` begins with, in bytes; 0 if it begins with none.
pub(crate) fn name_length(text: &str) -> usize {
    if !text.starts_with(begins_name) {
        return 0;
    }
    text.find(|c| !continues_name(c)).unwrap_or(text.len())
}

/// Gives the tokens of a rule, one at a time.
pub(crate) struct Lexer<'s> {
    source: &'s str,
    at: usize,
}

impl<'s> Lexer<'s> {
    /// The tokens of `source` from byte `at` on.
    pub(crate) fn from(source: &'s str, at: usize) -> Self {
        Self { source, at }
    }

    pub(crate) fn source(&self) -> &'s str {
        self.source
    }

    /// Where the next token begins, or the blanks before it.
    pub(crate) fn position(&self) -> usize {
        self.at
    }

    /// Skips the rest of the line; for going on after an error.
    pub(crate) fn skip_line(&mut self) {
        let rest = &self.source[self.at..];
        self.at += rest.find('\n').unwrap_or(rest.len());
    }

    fn skip_blank(&mut self) -> (bool, bool) {
        let (start, mut new_line) = (self.at, self.at == 0);
        loop {
            let rest = &self.source[self.at..];
            match rest.chars().next() {
                Some('#') => self.skip_line(),
                Some('\n') => {
                    new_line = true;
                    self.at += 1;
                }
                Some(' ' | '\t' | '\r') => self.at += 1,
                Some('\u{feff}') if self.at == 0 => self.at += 3,
                _ => return (new_line, self.at > start || start == 0),
            }
        }
    }

    /// The next token.
    pub(crate) fn next(&mut self) -> Result<Lexeme, Finding> {
        let (on_new_line, after_blank) = self.skip_blank();
        let start = self.at;
        // Behind an error reading goes on with the next line, so that it always gets on.
        let token = match self.token() {
            Ok(token) => token,
            Err(finding) => {
                self.skip_line();
                return Err(finding);
            }
        };
        Ok(Lexeme { token, span: Span::new(start, self.at), on_new_line, after_blank })
    }

    fn token(&mut self) -> Result<Token, Finding> {
        let rest = &self.source[self.at..];
        let Some(first) = rest.chars().next() else { return Ok(Token::End) };
        if let Some(quote @ ('"' | '\'')) = rest.strip_prefix('f').and_then(|r| r.chars().next()) {
            self.at += 2;
            return Ok(Token::Template(quote));
        }
        if matches!(first, '"' | '\'') {
            let (text, _, end) = text::decode(self.source, self.at, self.at + 1, first, false)?;
            self.at = end;
            return Ok(Token::Text(text));
        }
        if first.is_ascii_digit() {
            return self.number();
        }
        let length = name_length(rest);
        if length > 0 {
            self.at += length;
            return Ok(Token::Name(rest[..length].to_owned()));
        }
        let start = self.at;
        if let Some(symbol) = SYMBOLS.iter().find(|symbol| rest.starts_with(**symbol)) {
            self.at += symbol.len();
            return Ok(Token::Symbol(symbol));
        }
        // A single `=` stands only in headers and clauses; it is no symbol of its own list, so that `==` wins.
        self.at += first.len_utf8();
        let span = Span::new(start, self.at);
        match first {
            '=' => Ok(Token::Symbol("=")),
            '&' => Err(Finding::error_at(Code::RuleSyntax, span, "a single `&` means nothing")
                .advise(instead(span, "&&", ""))),
            '|' => Err(Finding::error_at(Code::RuleSyntax, span, "a single `|` means nothing")
                .advise(instead(span, "||", ""))),
            other => Err(Finding::error_at(
                Code::RuleSyntax,
                span,
                format!("`{other}` means nothing here"),
            )
            .advise("put text in quotes, and member names like this in ['…']")),
        }
    }

    fn number(&mut self) -> Result<Token, Finding> {
        let start = self.at;
        let bytes = self.source.as_bytes();
        let digits = |mut at: usize| {
            while bytes.get(at).is_some_and(u8::is_ascii_digit) {
                at += 1;
            }
            at
        };
        let mut at = digits(start);
        let leading_zero = bytes[start] == b'0' && at > start + 1;
        if bytes.get(at) == Some(&b'.') && bytes.get(at + 1).is_some_and(u8::is_ascii_digit) {
            at = digits(at + 1);
        }
        if let Some(b'e' | b'E') = bytes.get(at) {
            let exponent = at + 1 + usize::from(matches!(bytes.get(at + 1), Some(b'+' | b'-')));
            if bytes.get(exponent).is_some_and(u8::is_ascii_digit) {
                at = digits(exponent);
            }
        }
        self.at = at;
        let glued = self.source[at..].chars().next().is_some_and(continues_name);
        if leading_zero || glued {
            let end = at + name_length(&self.source[at..]);
            self.at = end;
            let why = if leading_zero {
                "a number has no zeros in front"
            } else {
                "this is neither number nor name"
            };
            return Err(Finding::error_at(Code::RuleSyntax, Span::new(start, end), why)
                .advise("put codes in quotes: \"0700\""));
        }
        Ok(Token::Number(self.source[start..at].to_owned()))
    }

    /// Whether a colon comes next, behind blanks: then the name before it is a member's.
    pub(crate) fn next_is_colon(&mut self) -> bool {
        let here = self.at;
        self.skip_blank();
        let colon = self.source[self.at..].starts_with(':');
        self.at = here;
        colon
    }

    /// Whether a name comes next, behind blanks.
    pub(crate) fn next_begins_name(&mut self) -> bool {
        let here = self.at;
        self.skip_blank();
        let name = self.source[self.at..].starts_with(begins_name);
        self.at = here;
        name
    }

    /// Whether a segment of a path comes next, behind blanks.
    pub(crate) fn next_begins_segment(&mut self) -> bool {
        let here = self.at;
        self.skip_blank();
        let rest = &self.source[self.at..];
        let is_there = rest.starts_with(['.', '[']) && !rest.starts_with("...");
        self.at = here;
        is_there
    }

    /// Whether a text in quotes comes behind the token that comes next.
    pub(crate) fn next_begins_text(&mut self) -> bool {
        let here = self.at;
        self.skip_blank();
        let is_text = self.source[self.at..].starts_with(['"', '\'']);
        self.at = here;
        is_text
    }

    /// Whether a single `=` comes behind the token that comes next.
    pub(crate) fn next_is_equals(&mut self) -> bool {
        let here = self.at;
        self.skip_blank();
        let rest = &self.source[self.at..];
        let is_there = rest.starts_with('=') && !rest.starts_with("==");
        self.at = here;
        is_there
    }

    /// Goes on with the text of an f-text behind `at`, which is behind its quote or behind a `}`.
    pub(crate) fn template_text(
        &mut self,
        opened: usize,
        at: usize,
        quote: char,
    ) -> Result<(String, TextEnd), Finding> {
        let (text, how, end) = text::decode(self.source, opened, at, quote, true)?;
        self.at = end;
        Ok((text, how))
    }
}
