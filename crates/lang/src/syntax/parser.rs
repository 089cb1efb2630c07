//! From tokens to expressions, loosest operator first.
//!
//! `||`; `&&`; comparisons (no chains); `+ -`; `* / %`; unary `! -`; `??`; segments and calls.

use kyanite_tree::{Advice, Code};

use super::ast::{Binary, Expr, ExprKind, Literal, Unary};
use super::hyphen::Hyphenated;
use super::lexer::{Lexeme, Lexer, Token, continues_name};
use crate::finding::{Finding, Span, instead, near_advice};
use crate::words;

/// What a parsing function gives: the thing, or the first finding that kept it from being one.
pub(super) type Parsed<T> = Result<T, Finding>;

/// The words that are never names of bindings.
pub(crate) const RESERVED: [&str; 15] = [
    "for", "in", "at", "let", "where", "return", "if", "then", "else", "case", "when", "end",
    "true", "false", "null",
];

/// The words that clauses begin with, and `return`.
pub(crate) const CLAUSE_WORDS: [&str; 10] =
    ["for", "let", "where", "group", "order", "carry", "skip", "first", "window", "return"];

/// What to say where a clause is missing.
const CLAUSES: &str =
    "clauses are for, let, where, group by, order by, carry, skip, first, window, return";

/// How deep expressions may nest.
const DEPTH: usize = 200;

/// How many operators one expression may have: those in a row nest, too.
const OPERATORS: usize = 5_000;

/// Reads one rule.
pub(super) struct Parser<'s> {
    pub(super) lexer: Lexer<'s>,
    /// The token to be read next.
    pub(super) next: Lexeme,
    /// The end of the token read last.
    pub(super) last_end: usize,
    /// Findings of parts that were passed over so that all can be shown at once.
    pub(super) findings: Vec<Finding>,
    /// Whether an expression ends with its line (in header items, outside brackets).
    pub(super) ends_with_line: bool,
    /// Where header items and the body begin, and where clauses and their `return`: for the layout of rules.
    pub(super) items: Vec<usize>,
    pub(super) clauses: Vec<usize>,
    /// Where the paths of edits begin.
    pub(super) edits: Vec<usize>,
    depth: usize,
    /// How many operators the expression under way has so far.
    operators: usize,
}

impl<'s> Parser<'s> {
    pub(super) fn new(source: &'s str) -> Parsed<Self> {
        Self::from(source, 0)
    }

    /// A parser of what stands in `source` from byte `at` on.
    pub(super) fn from(source: &'s str, at: usize) -> Parsed<Self> {
        let mut lexer = Lexer::from(source, at);
        let next = lexer.next()?;
        Ok(Self {
            lexer,
            next,
            last_end: 0,
            findings: Vec::new(),
            ends_with_line: false,
            items: Vec::new(),
            clauses: Vec::new(),
            edits: Vec::new(),
            depth: 0,
            operators: 0,
        })
    }

    pub(super) fn advance(&mut self) -> Parsed<Lexeme> {
        self.last_end = self.next.span.end;
        match self.lexer.next() {
            Ok(next) => Ok(std::mem::replace(&mut self.next, next)),
            Err(finding) => {
                // The token before the broken one is used up, too, or going on would meet it again.
                self.next.token = Token::Broken;
                self.next.on_new_line = false;
                Err(finding)
            }
        }
    }

    /// Reads the token behind a piece of f-text, which the lexer has just passed.
    pub(super) fn advance_template(&mut self) -> Parsed<()> {
        self.next = self.lexer.next()?;
        self.last_end = self.next.span.start;
        Ok(())
    }

    pub(super) fn at_symbol(&self, symbol: &str) -> bool {
        matches!(self.next.token, Token::Symbol(next) if next == symbol)
    }

    pub(super) fn at_word(&self, word: &str) -> bool {
        matches!(&self.next.token, Token::Name(name) if name == word)
    }

    /// Reads `symbol` if it comes next.
    pub(super) fn take(&mut self, symbol: &str) -> Parsed<bool> {
        let there = self.at_symbol(symbol);
        if there {
            self.advance()?;
        }
        Ok(there)
    }

    pub(super) fn take_word(&mut self, word: &str) -> Parsed<bool> {
        let there = self.at_word(word);
        if there {
            self.advance()?;
        }
        Ok(there)
    }

    pub(super) fn expect(&mut self, symbol: &'static str, why: &str) -> Parsed<Span> {
        if self.at_symbol(symbol) {
            return Ok(self.advance()?.span);
        }
        Err(self.unexpected(&format!("`{symbol}` is missing {why}")))
    }

    pub(super) fn expect_word(&mut self, word: &str, why: &str) -> Parsed<Span> {
        if self.at_word(word) {
            return Ok(self.advance()?.span);
        }
        Err(self.unexpected(&format!("`{word}` is missing {why}")))
    }

    /// A finding at the next token.
    pub(super) fn unexpected(&self, message: &str) -> Finding {
        let span = match self.next.token {
            Token::End => Span::new(self.last_end, self.last_end + 1),
            _ => self.next.span,
        };
        Finding::error_at(Code::RuleSyntax, span, message)
    }

    /// The next token in words.
    pub(super) fn next_words(&self) -> String {
        match &self.next.token {
            Token::End => "the end of the rule".into(),
            _ => format!("`{}`", &self.lexer.source()[self.next.span.start..self.next.span.end]),
        }
    }

    pub(super) fn span_from(&self, start: usize) -> Span {
        Span::new(start, self.last_end.max(start))
    }

    /// Parses inside brackets, where line ends mean nothing.
    pub(super) fn inside<T>(&mut self, parse: impl FnOnce(&mut Self) -> Parsed<T>) -> Parsed<T> {
        let outer = std::mem::replace(&mut self.ends_with_line, false);
        let parsed = parse(self);
        self.ends_with_line = outer;
        parsed
    }

    /// A whole expression: also `for`, `let … return` and `if`.
    pub(super) fn whole(&mut self) -> Parsed<Expr> {
        if self.depth == 0 {
            self.operators = 0;
        }
        self.depth += 1;
        if self.depth > DEPTH {
            let message = format!("expressions nest deeper than {DEPTH} levels");
            return Err(self.unexpected(&message).advise("bind the inner ones with let"));
        }
        let start = self.next.span.start;
        let parsed = if self.at_word("for") || self.at_word("let") {
            self.clauses()
        } else if self.at_word("if") {
            self.conditional()
        } else {
            self.operators()
        };
        self.depth -= 1;
        parsed.map(|expr| Expr { span: self.span_from(start), ..expr })
    }

    fn operators(&mut self) -> Parsed<Expr> {
        self.left_associative(&["||"], Self::and)
    }

    fn and(&mut self) -> Parsed<Expr> {
        self.left_associative(&["&&"], Self::comparison)
    }

    fn left_associative(
        &mut self,
        symbols: &[&str],
        operand: fn(&mut Self) -> Parsed<Expr>,
    ) -> Parsed<Expr> {
        let mut left = operand(self)?;
        while let Some(operator) = self.operator(symbols)? {
            let right = operand(self)?;
            left = binary(operator, left, right);
        }
        Ok(left)
    }

    fn comparison(&mut self) -> Parsed<Expr> {
        const SYMBOLS: [&str; 6] = ["==", "!=", "<=", ">=", "<", ">"];
        let left = self.additive()?;
        if self.at_symbol("=") && !self.ends_with_line {
            let compares = instead(self.next.span, "==", "");
            return Err(self.unexpected("a single `=` compares nothing").advise(compares));
        }
        self.refuse_foreign_symbol()?;
        let Some(operator) = self.operator(&SYMBOLS)? else { return Ok(left) };
        if let ExprKind::Unary(Unary::Not, _) = left.kind {
            return Err(Finding::error_at(
                Code::RuleSyntax,
                left.span,
                "`!` binds tighter than a comparison",
            )
            .advise(format!("write !(… {} …)", operator.symbol())));
        }
        let right = self.additive()?;
        if SYMBOLS.iter().any(|symbol| self.at_symbol(symbol)) {
            return Err(self.unexpected("comparisons do not chain").advise("write a < b && b < c"));
        }
        Ok(binary(operator, left, right))
    }

    pub(super) fn additive(&mut self) -> Parsed<Expr> {
        self.left_associative(&["+", "-"], Self::multiplicative)
    }

    fn multiplicative(&mut self) -> Parsed<Expr> {
        self.left_associative(&["*", "/", "%"], Self::unary)
    }

    /// Reads an operator if one of `symbols` comes next and still belongs to this expression.
    fn operator(&mut self, symbols: &[&str]) -> Parsed<Option<Binary>> {
        let Token::Symbol(symbol) = self.next.token else { return Ok(None) };
        if !symbols.contains(&symbol) {
            return Ok(None);
        }
        let operator = match symbol {
            "||" => Binary::Or,
            "&&" => Binary::And,
            "==" => Binary::Equal,
            "!=" => Binary::NotEqual,
            "<" => Binary::Less,
            "<=" => Binary::LessOrEqual,
            ">" => Binary::Greater,
            ">=" => Binary::GreaterOrEqual,
            "+" => Binary::Add,
            "-" => Binary::Subtract,
            "*" => Binary::Multiply,
            "/" => Binary::Divide,
            "%" => Binary::Remainder,
            _ => Binary::Coalesce,
        };
        if operator == Binary::Subtract {
            // On a new line of a header a minus begins the next item.
            if self.ends_with_line && self.next.on_new_line {
                return Ok(None);
            }
            // A minus that touches names is nearly always part of a member's name.
            if let Some(finding) = Hyphenated::refused(self.lexer.source(), self.next.span.start) {
                return Err(finding);
            }
        }
        self.operators += 1;
        if self.operators > OPERATORS {
            let message = format!("an expression has more than {OPERATORS} operators");
            return Err(self
                .unexpected(&message)
                .advise("use sum([…]) or contains([…], value), or bind parts of it with let"));
        }
        self.advance()?;
        Ok(Some(operator))
    }

    /// Symbols of other languages that begin like operators of this one: `<>`, `===`.
    fn refuse_foreign_symbol(&self) -> Parsed<()> {
        let at = self.next.span.start;
        let text = self.lexer.source().get(at..).unwrap_or_default();
        match words::instead_of_symbol(text) {
            Some((symbol, advice)) => {
                let span = Span::new(at, at + symbol.len());
                Err(Finding::error_at(Code::RuleSyntax, span, format!("`{symbol}` means nothing"))
                    .advise(fixed(span, advice)))
            }
            None => Ok(()),
        }
    }

    /// A finding at the next token, which does not belong there; where it, or the word before it, is one that people bring
    /// along from elsewhere, with what to write in its place.
    pub(super) fn misplaced(&self, message: &str) -> Finding {
        let finding = self.unexpected(message);
        let instead = |word: &str| words::instead_of_operator(word);
        if let Token::Name(name) = &self.next.token
            && let Some(advice) = instead(name)
        {
            return finding.advise(fixed(self.next.span, advice));
        }
        let source = self.lexer.source().get(..self.last_end).unwrap_or_default();
        let before = source.rfind(|c| !continues_name(c)).map_or(0, |at| at + 1);
        let is_member = source[..before].ends_with(['.', '@']);
        let word = source.get(before..).filter(|_| !is_member);
        match word.and_then(instead) {
            // The word stood where a name may, and what comes behind it has shown that it is none.
            Some(advice) => {
                let span = Span::new(before, self.last_end);
                let message = format!("`{}` is no word of the language", &source[before..]);
                Finding::error_at(Code::RuleSyntax, span, message).advise(fixed(span, advice))
            }
            None => finding,
        }
    }

    fn unary(&mut self) -> Parsed<Expr> {
        let operator = match self.next.token {
            Token::Symbol("!") => Unary::Not,
            Token::Symbol("-") => Unary::Negate,
            _ => return self.coalesce(),
        };
        self.depth += 1;
        if self.depth > DEPTH {
            return Err(self.unexpected("too many operators in a row"));
        }
        let start = self.advance()?.span;
        let operand = self.unary()?;
        self.depth -= 1;
        let span = start.to(operand.span);
        // A negative number is written, not computed.
        if let (Unary::Negate, ExprKind::Literal(Literal::Number(number))) =
            (operator, &operand.kind)
            && !number.starts_with('-')
        {
            let kind = ExprKind::Literal(Literal::Number(format!("-{number}")));
            return Ok(Expr { kind, span });
        }
        Ok(Expr { kind: ExprKind::Unary(operator, Box::new(operand)), span })
    }

    fn coalesce(&mut self) -> Parsed<Expr> {
        let mut left = self.with_segments()?;
        while let Some(operator) = self.operator(&["??"])? {
            // A negative number may stand after ?? though other signs may not.
            let start = self.next.span;
            let negative = self.take("-")?;
            let mut right = self.with_segments()?;
            if negative {
                let span = start.to(right.span);
                let ExprKind::Literal(Literal::Number(number)) = right.kind else {
                    return Err(Finding::error_at(
                        Code::RuleSyntax,
                        span,
                        "`??` binds tighter than a minus",
                    )
                    .advise("put parentheses around it: a ?? (-b)"));
                };
                right =
                    Expr { kind: ExprKind::Literal(Literal::Number(format!("-{number}"))), span };
            }
            left = binary(operator, left, right);
        }
        Ok(left)
    }

    /// What to say where an expression should begin and none does.
    pub(super) fn no_expression(&self) -> Finding {
        let words = self.next_words();
        let finding = self.unexpected(&format!("an expression is missing before {words}"));
        match &self.next.token {
            Token::Name(name) if matches!(name.as_str(), "for" | "if" | "let") => self
                .unexpected(&format!("`{name}` cannot stand inside an operator"))
                .advise(format!("put parentheses around it: ({name} …)")),
            Token::Name(name) if RESERVED.contains(&name.as_str()) => finding.advise(format!(
                "`{name}` is a word of the language; members of that name are written .{name}"
            )),
            Token::Symbol(".") => {
                finding.advise("a path begins with $, with @ in a filter, or with a name")
            }
            Token::Symbol("=") => finding.advise("== compares; = stands in let, param and def"),
            _ => finding,
        }
    }

    /// What to say about a word where a clause or the end should be.
    pub(super) fn not_a_clause(&self) -> Finding {
        let words = self.next_words();
        let finding = self.misplaced(&format!("{words} does not continue this rule"));
        match &self.next.token {
            _ if finding.advice().is_some() => finding,
            Token::Name(name) => {
                let near = near_advice(self.next.span, name, CLAUSE_WORDS);
                finding.advise(near.unwrap_or_else(|| CLAUSES.into()))
            }
            _ => finding,
        }
    }
}

fn binary(operator: Binary, left: Expr, right: Expr) -> Expr {
    let span = left.span.to(right.span);
    Expr { kind: ExprKind::Binary(operator, Box::new(left), Box::new(right)), span }
}

/// An advice from the list of words: where it says just what to write, that can be typed.
fn fixed(span: Span, advice: &'static str) -> Advice<Span> {
    let written =
        advice.strip_prefix("write ").map(|text| text.split(" for ").next().unwrap_or(text));
    match written.filter(|text| !text.contains([' ', ',', '…'])) {
        Some(text) => Advice::words(advice).fix(span, text),
        None => advice.into(),
    }
}
