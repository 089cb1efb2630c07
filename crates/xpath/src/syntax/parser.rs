//! The parser: by recursive descent, each level of precedence a function (XPath 3.1 appendix A.1).

mod operators;

use std::sync::Arc;

use kyanite_tree::{Span, near_words};

use super::ast::{Axis, Expr, ExprKind, NodeTest, Predicate};
use super::facts::Facts;
use super::lexer::{self, Placed, Token};
use super::scope::Scopes;
use crate::Version;
use crate::error::{Error, ErrorCode};

/// How deep expressions may nest.
const DEPTH: usize = 400;

/// How many operators of one level may follow each other.
const CHAIN: usize = 20_000;

/// A parsed expression.
#[derive(Debug)]
pub(crate) struct Parsed {
    pub(crate) body: Expr,
    pub(crate) slots: usize,
    /// The steps on axes, by their numbers.
    pub(crate) steps: Vec<StepInfo>,
    /// Where predicates stand, by their numbers.
    pub(crate) predicates: Vec<Span>,
    pub(crate) facts: Facts,
}

/// What is told of a step on an axis.
#[derive(Clone, Debug)]
pub(crate) struct StepInfo {
    pub(crate) span: Span,
    /// Where its path begins.
    pub(crate) path: Span,
    pub(crate) axis: Axis,
    pub(crate) test: NodeTest,
    /// Whether nothing is wrong when it finds nothing.
    pub(crate) may_be_absent: bool,
}

pub(super) type Parse<T> = Result<T, Error>;

/// Parses an expression in which the variables have the first slots.
pub(crate) fn parse(
    text: &str,
    version: Version,
    variables: &[String],
    is_hosted: bool,
) -> Parse<Parsed> {
    let tokens = lexer::tokens(text)?;
    let mut parser = Parser {
        text,
        tokens,
        at: 0,
        version,
        is_hosted,
        scopes: Scopes::new(variables),
        steps: Vec::new(),
        predicates: Vec::new(),
        depth: 0,
        asks: 0,
    };
    let body = parser.expr()?;
    if *parser.peek() != Token::End {
        return Err(parser.expected("an operator or the end"));
    }
    let facts = Facts::of(&body, variables.len());
    let slots = parser.scopes.slots();
    Ok(Parsed { body, slots, steps: parser.steps, predicates: parser.predicates, facts })
}

pub(super) struct Parser<'t> {
    pub(super) text: &'t str,
    pub(super) tokens: Vec<Placed>,
    pub(super) at: usize,
    pub(super) version: Version,
    /// Whether functions can be called that a language around expressions adds.
    pub(super) is_hosted: bool,
    pub(super) scopes: Scopes,
    pub(super) steps: Vec<StepInfo>,
    pub(super) predicates: Vec<Span>,
    depth: usize,
    /// In how many places around it only is asked whether something is there.
    pub(super) asks: usize,
}

impl Parser<'_> {
    pub(super) fn peek(&self) -> &Token {
        &self.tokens[self.at].token
    }

    pub(super) fn peek_at(&self, ahead: usize) -> &Token {
        let at = (self.at + ahead).min(self.tokens.len() - 1);
        &self.tokens[at].token
    }

    pub(super) fn span(&self) -> Span {
        self.tokens[self.at].span
    }

    /// The span from `start` to the end of what was read last.
    pub(super) fn since(&self, start: Span) -> Span {
        let last = self.at.saturating_sub(1);
        start.to(self.tokens[last].span)
    }

    pub(super) fn advance(&mut self) -> Token {
        let token = self.tokens[self.at].token.clone();
        if self.at + 1 < self.tokens.len() {
            self.at += 1;
        }
        token
    }

    pub(super) fn is_sign(&self, sign: &str) -> bool {
        matches!(self.peek(), Token::Sign(found) if *found == sign)
    }

    pub(super) fn take(&mut self, sign: &str) -> bool {
        let is_there = self.is_sign(sign);
        if is_there {
            self.advance();
        }
        is_there
    }

    pub(super) fn projected(&mut self, sign: &str) -> Parse<()> {
        if self.take(sign) { Ok(()) } else { Err(self.expected(&format!("`{sign}`"))) }
    }

    pub(super) fn is_word(&self, word: &str) -> bool {
        matches!(self.peek(), Token::Name(name) if name == word)
    }

    pub(super) fn take_word(&mut self, word: &str) -> bool {
        let is_there = self.is_word(word);
        if is_there {
            self.advance();
        }
        is_there
    }

    pub(super) fn need_word(&mut self, word: &str) -> Parse<()> {
        if self.take_word(word) { Ok(()) } else { Err(self.expected(&format!("`{word}`"))) }
    }

    /// The error about what stands here in place of something else.
    pub(super) fn expected(&self, what: &str) -> Error {
        let span = self.span();
        let found = match self.peek() {
            Token::End => "the expression ends".to_owned(),
            _ => format!("`{}` stands", &self.text[span.start..span.end]),
        };
        Error::new(ErrorCode::Syntax, span, format!("{found} where {what} is expected"))
    }

    /// Refuses what XPath 1.0 does not have, where that is what is read.
    pub(super) fn newer(&self, what: &str, span: Span) -> Parse<()> {
        if self.version == Version::V31 {
            return Ok(());
        }
        let message = format!("{what} is not in XPath 1.0");
        Err(Error::new(ErrorCode::Syntax, span, message).advise("read it as XPath 3.1"))
    }

    fn deeper<T>(&mut self, parse: impl FnOnce(&mut Self) -> Parse<T>) -> Parse<T> {
        self.depth += 1;
        if self.depth > DEPTH {
            let message = format!("the expression nests deeper than {DEPTH} levels");
            return Err(Error::new(ErrorCode::Syntax, self.span(), message));
        }
        let parsed = parse(self);
        self.depth -= 1;
        parsed
    }

    pub(super) fn made(&self, start: Span, kind: ExprKind) -> Expr {
        Expr { kind, span: self.since(start) }
    }

    /// `a, b`
    pub(super) fn expr(&mut self) -> Parse<Expr> {
        let start = self.span();
        let first = self.single()?;
        if !self.is_sign(",") {
            return Ok(first);
        }
        self.newer("a sequence with commas", self.span())?;
        let mut items = vec![first];
        while self.take(",") {
            items.push(self.single()?);
        }
        Ok(self.made(start, ExprKind::Sequence(items)))
    }

    /// An expression without a comma at its top (ExprSingle).
    pub(super) fn single(&mut self) -> Parse<Expr> {
        self.deeper(|parser| {
            let (word, next) = match (parser.peek(), parser.peek_at(1)) {
                (Token::Name(word), Token::Sign(next)) => (word.clone(), *next),
                _ => return parser.or(),
            };
            match (word.as_str(), next) {
                ("for" | "let" | "some" | "every", "$") => {
                    parser.newer(&format!("`{word}`"), parser.span())?;
                    match word.as_str() {
                        "for" => parser.for_clause(),
                        "let" => parser.let_clause(),
                        _ => parser.quantified(word == "every"),
                    }
                }
                ("if", "(") => {
                    parser.newer("`if`", parser.span())?;
                    parser.condition()
                }
                _ => parser.or(),
            }
        })
    }

    /// The name of a variable behind its `$`.
    pub(super) fn variable_name(&mut self) -> Parse<(String, Span)> {
        let start = self.span();
        self.projected("$")?;
        let name = match self.peek().clone() {
            Token::Name(name) => name,
            Token::Prefixed(prefix, local) => format!("{prefix}:{local}"),
            Token::Braced(uri, local) if local != "*" => format!("Q{{{uri}}}{local}"),
            _ => return Err(self.expected("the name of a variable")),
        };
        self.advance();
        Ok((name, self.since(start)))
    }

    fn for_clause(&mut self) -> Parse<Expr> {
        let start = self.span();
        self.advance();
        self.for_binding(start)
    }

    fn for_binding(&mut self, start: Span) -> Parse<Expr> {
        let (name, _) = self.variable_name()?;
        self.need_word("in")?;
        let over = Box::new(self.single()?);
        let slot = self.scopes.bind(&name);
        let body = if self.take(",") {
            let start = self.span();
            self.deeper(|parser| parser.for_binding(start))
        } else {
            self.need_word("return").and_then(|()| self.single())
        };
        self.scopes.unbind();
        let body = Box::new(body?);
        Ok(self.made(start, ExprKind::For { slot, over, body }))
    }

    fn let_clause(&mut self) -> Parse<Expr> {
        let start = self.span();
        self.advance();
        self.let_binding(start)
    }

    fn let_binding(&mut self, start: Span) -> Parse<Expr> {
        let (name, _) = self.variable_name()?;
        self.projected(":=")?;
        let value = Box::new(self.single()?);
        let slot = self.scopes.bind(&name);
        let body = if self.take(",") {
            let start = self.span();
            self.deeper(|parser| parser.let_binding(start))
        } else {
            self.need_word("return").and_then(|()| self.single())
        };
        self.scopes.unbind();
        let body = Box::new(body?);
        Ok(self.made(start, ExprKind::Let { slot, value, body }))
    }

    fn quantified(&mut self, is_every: bool) -> Parse<Expr> {
        let start = self.span();
        self.advance();
        self.quantified_binding(start, is_every)
    }

    fn quantified_binding(&mut self, start: Span, is_every: bool) -> Parse<Expr> {
        let (name, _) = self.variable_name()?;
        self.need_word("in")?;
        let over = Box::new(self.single()?);
        let slot = self.scopes.bind(&name);
        let holds = if self.take(",") {
            let start = self.span();
            self.deeper(|parser| parser.quantified_binding(start, is_every))
        } else {
            self.need_word("satisfies").and_then(|()| self.single())
        };
        self.scopes.unbind();
        let holds = Box::new(holds?);
        Ok(self.made(start, ExprKind::Quantified { is_every, slot, over, holds }))
    }

    fn condition(&mut self) -> Parse<Expr> {
        let start = self.span();
        self.advance();
        self.projected("(")?;
        let test = self.asked(Self::expr)?;
        self.projected(")")?;
        self.need_word("then")?;
        let yes = self.single()?;
        self.need_word("else")?;
        let no = self.single()?;
        Ok(self.made(start, ExprKind::If(Box::new([test, yes, no]))))
    }

    /// Parses what is only asked whether it is there, so that nothing is wrong if it is not.
    pub(super) fn asked<T>(&mut self, parse: impl FnOnce(&mut Self) -> Parse<T>) -> Parse<T> {
        self.asks += 1;
        let parsed = parse(self);
        self.asks -= 1;
        parsed
    }

    /// Predicates in brackets, as many as follow.
    pub(super) fn predicates(&mut self) -> Parse<Vec<Predicate>> {
        let mut all = Vec::new();
        while self.is_sign("[") {
            all.push(self.predicate()?);
        }
        Ok(all)
    }

    pub(super) fn predicate(&mut self) -> Parse<Predicate> {
        let start = self.span();
        self.projected("[")?;
        let number = self.predicates.len();
        self.predicates.push(start);
        // A node that lacks what a predicate asks for is what predicates are for.
        let expr = self.expr()?;
        self.projected("]")?;
        self.predicates[number] = self.since(start);
        Ok(Predicate { position: super::position::of(&expr), expr, number })
    }

    /// The slot of a variable that is named here.
    pub(super) fn variable(&mut self) -> Parse<Expr> {
        let start = self.span();
        let (name, span) = self.variable_name()?;
        match self.scopes.find(&name) {
            Some(slot) => Ok(self.made(start, ExprKind::Variable(slot))),
            None => {
                let message = format!("the variable ${name} is not known");
                let error = Error::new(ErrorCode::Variable, span, message);
                let near = near_words(&name, self.scopes.names());
                Err(match near {
                    Some(near) => error.advise(near),
                    None => error.advise(
                        kyanite_tree::Advice::words("give it a value with ")
                            .setting(kyanite_tree::Setting::Param(name)),
                    ),
                })
            }
        }
    }

    /// A text as the syntax tree keeps it.
    pub(super) fn shared(text: &str) -> Arc<str> {
        Arc::from(text)
    }
}
