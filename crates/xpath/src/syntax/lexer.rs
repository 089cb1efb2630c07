//! Tokens (XPath 3.1 appendix A.2). No word is reserved: whether `div` is an operator or a name is for the parser to say.

use kyanite_tree::Span;

use crate::error::{Error, ErrorCode};

#[derive(Clone, PartialEq, Debug)]
pub(crate) enum Token {
    /// A name without a colon.
    Name(String),
    /// `p:a`
    Prefixed(String, String),
    /// `Q{u}a`, or with `*` for the local name.
    Braced(String, String),
    /// `p:*`
    PrefixStar(String),
    /// `*:a`
    StarLocal(String),
    Text(String),
    Integer(String),
    Decimal(String),
    Double(String),
    /// A sign or a group of them, `*` among them.
    Sign(&'static str),
    End,
}

/// The signs, the longer ones first.
const SIGNS: &[&str] = &[
    "<<", ">>", "<=", ">=", "!=", "||", "::", "//", "..", "=>", ":=", "(", ")", "[", "]", "{", "}",
    ",", ".", "/", "@", "$", "|", "+", "-", "*", "=", "<", ">", "?", "!", "#", ":",
];

/// A token and where it stands.
#[derive(Clone, Debug)]
pub(crate) struct Placed {
    pub(crate) token: Token,
    pub(crate) span: Span,
}

/// All tokens of an expression, `End` the last.
pub(crate) fn tokens(text: &str) -> Result<Vec<Placed>, Error> {
    let mut lexer = Lexer { text, at: 0 };
    let mut all = Vec::new();
    loop {
        lexer.skip()?;
        let start = lexer.at;
        let token = lexer.token()?;
        let is_end = token == Token::End;
        all.push(Placed { token, span: Span::new(start, lexer.at) });
        if is_end {
            return Ok(all);
        }
    }
}

struct Lexer<'t> {
    text: &'t str,
    at: usize,
}

/// Whether a name may begin with this character (Namespaces in XML 1.0 production 4).
pub(crate) fn starts_name(c: char) -> bool {
    c.is_ascii_alphabetic()
        || c == '_'
        || matches!(c, '\u{C0}'..='\u{D6}' | '\u{D8}'..='\u{F6}' | '\u{F8}'..='\u{2FF}'
            | '\u{370}'..='\u{37D}' | '\u{37F}'..='\u{1FFF}' | '\u{200C}'..='\u{200D}'
            | '\u{2070}'..='\u{218F}' | '\u{2C00}'..='\u{2FEF}' | '\u{3001}'..='\u{D7FF}'
            | '\u{F900}'..='\u{FDCF}' | '\u{FDF0}'..='\u{FFFD}' | '\u{10000}'..='\u{EFFFF}')
}

fn continues_name(c: char) -> bool {
    starts_name(c)
        || c.is_ascii_digit()
        || matches!(c, '-' | '.' | '\u{B7}' | '\u{300}'..='\u{36F}' | '\u{203F}'..='\u{2040}')
}

/// Whether a text is a name without a colon.
pub(crate) fn is_ncname(text: &str) -> bool {
    let mut characters = text.chars();
    characters.next().is_some_and(starts_name) && characters.all(continues_name)
}

impl Lexer<'_> {
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn error(&self, start: usize, message: impl Into<String>) -> Error {
        Error::new(ErrorCode::Syntax, Span::new(start, self.text.len().max(start + 1)), message)
    }

    /// Steps over white space and comments, which nest.
    fn skip(&mut self) -> Result<(), Error> {
        loop {
            let blank = self.rest().len() - self.rest().trim_start().len();
            self.at += blank;
            if !self.rest().starts_with("(:") {
                return Ok(());
            }
            let start = self.at;
            let mut depth = 0usize;
            loop {
                let rest = self.rest();
                if rest.starts_with("(:") {
                    (depth, self.at) = (depth + 1, self.at + 2);
                } else if rest.starts_with(":)") {
                    (depth, self.at) = (depth - 1, self.at + 2);
                } else if let Some(other) = rest.chars().next() {
                    self.at += other.len_utf8();
                } else {
                    return Err(self.error(start, "a comment is not closed; write :) at its end"));
                }
                if depth == 0 {
                    break;
                }
            }
        }
    }

    fn token(&mut self) -> Result<Token, Error> {
        let rest = self.rest();
        let Some(first) = rest.chars().next() else { return Ok(Token::End) };
        match first {
            '"' | '\'' => self.text_literal(first),
            '0'..='9' => self.number(),
            '.' if rest[1..].starts_with(|c: char| c.is_ascii_digit()) => self.number(),
            'Q' if rest.starts_with("Q{") => self.braced(),
            _ if starts_name(first) => Ok(self.name()),
            '*' if rest[1..].starts_with(':') && rest[2..].starts_with(starts_name) => {
                self.at += 2;
                let local = self.ncname();
                Ok(Token::StarLocal(local))
            }
            _ => match SIGNS.iter().find(|sign| rest.starts_with(**sign)) {
                Some(sign) => {
                    self.at += sign.len();
                    Ok(Token::Sign(sign))
                }
                None => {
                    let span = Span::new(self.at, self.at + first.len_utf8());
                    let message = format!("`{first}` means nothing in an XPath");
                    Err(Error::new(ErrorCode::Syntax, span, message))
                }
            },
        }
    }

    fn text_literal(&mut self, quote: char) -> Result<Token, Error> {
        let start = self.at;
        let mut text = String::new();
        self.at += 1;
        loop {
            let Some(end) = self.rest().find(quote) else {
                return Err(
                    self.error(start, format!("a text is not closed; write {quote} at its end"))
                );
            };
            text.push_str(&self.rest()[..end]);
            self.at += end + 1;
            // A quote inside is written twice.
            if !self.rest().starts_with(quote) {
                return Ok(Token::Text(text));
            }
            text.push(quote);
            self.at += 1;
        }
    }

    fn digits(&mut self) {
        self.at += self.rest().bytes().take_while(u8::is_ascii_digit).count();
    }

    fn number(&mut self) -> Result<Token, Error> {
        let start = self.at;
        self.digits();
        let mut is_decimal = false;
        if self.rest().starts_with('.') && !self.rest().starts_with("..") {
            is_decimal = true;
            self.at += 1;
            self.digits();
        }
        let exponent = self.rest().strip_prefix(['e', 'E']);
        let exponent = exponent.map(|rest| rest.strip_prefix(['+', '-']).unwrap_or(rest));
        let is_double = exponent.is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
        if is_double {
            self.at += 1;
            self.at += usize::from(self.rest().starts_with(['+', '-']));
            self.digits();
        }
        let text = self.text[start..self.at].to_owned();
        if self.rest().starts_with(starts_name) {
            let end = self.at + self.rest().chars().next().map_or(1, char::len_utf8);
            let message = "a blank is missing between a number and a name";
            return Err(Error::new(ErrorCode::Syntax, Span::new(start, end), message));
        }
        Ok(match (is_double, is_decimal) {
            (true, _) => Token::Double(text),
            (_, true) => Token::Decimal(text),
            _ => Token::Integer(text),
        })
    }

    fn ncname(&mut self) -> String {
        let rest = self.rest();
        let end = rest.find(|c| !continues_name(c)).unwrap_or(rest.len());
        let name = rest[..end].to_owned();
        self.at += end;
        name
    }

    fn name(&mut self) -> Token {
        let name = self.ncname();
        let behind = self.rest().strip_prefix(':');
        match behind {
            Some(rest) if rest.starts_with(starts_name) => {
                self.at += 1;
                let local = self.ncname();
                Token::Prefixed(name, local)
            }
            Some(rest) if rest.starts_with('*') => {
                self.at += 2;
                Token::PrefixStar(name)
            }
            _ => Token::Name(name),
        }
    }

    /// `Q{uri}local`
    fn braced(&mut self) -> Result<Token, Error> {
        let start = self.at;
        let Some(end) = self.rest().find('}') else {
            return Err(self.error(start, "the URI of a name is not closed; write } behind it"));
        };
        let uri = self.rest()[2..end].split_whitespace().collect::<Vec<_>>().join(" ");
        self.at += end + 1;
        if self.rest().starts_with('*') {
            self.at += 1;
            return Ok(Token::Braced(uri, "*".into()));
        }
        let local = self.ncname();
        if !is_ncname(&local) {
            return Err(self.error(start, "a name is missing behind the URI of its namespace"));
        }
        Ok(Token::Braced(uri, local))
    }
}
