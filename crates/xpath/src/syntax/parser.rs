//! The parser: by recursive descent, each level of precedence a function (XPath 3.1 appendix A.1).

use std::sync::Arc;

use kyanite_eval::atomic::Arithmetic;
use kyanite_tree::{Comparison, Span, near_words};

use super::ast::{
    Axis, Expr, ExprKind, NodeComparison, NodeTest, Pair, Predicate, SetOperator, SingleType,
};
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

    /// Operands with operators between them, from left to right.
    fn chain(
        &mut self,
        operand: fn(&mut Self) -> Parse<Expr>,
        operator: impl Fn(&mut Self) -> Parse<Option<fn(Pair) -> ExprKind>>,
    ) -> Parse<Expr> {
        let start = self.span();
        let mut left = operand(self)?;
        for _ in 0..CHAIN {
            let Some(make) = operator(self)? else { return Ok(left) };
            let right = operand(self)?;
            left = self.made(start, make(Box::new([left, right])));
        }
        let message = format!("more than {CHAIN} operators follow each other");
        Err(Error::new(ErrorCode::Syntax, self.since(start), message))
    }

    fn or(&mut self) -> Parse<Expr> {
        self.chain(Self::and, |parser| Ok(parser.take_word("or").then_some(ExprKind::Or)))
    }

    fn and(&mut self) -> Parse<Expr> {
        self.chain(Self::comparison, |parser| Ok(parser.take_word("and").then_some(ExprKind::And)))
    }

    fn comparison(&mut self) -> Parse<Expr> {
        if self.version == Version::V1 {
            // Equality binds less than order there, and both chain (XPath 1.0 section 3.4).
            return self.chain(Self::order, |parser| {
                Ok(parser.general(&["=", "!="]).map(|how| -> fn(Pair) -> ExprKind {
                    match how {
                        Comparison::Equal => |pair| ExprKind::General(Comparison::Equal, pair),
                        _ => |pair| ExprKind::General(Comparison::NotEqual, pair),
                    }
                }))
            });
        }
        let start = self.span();
        let left = self.concat()?;
        let words = [
            ("eq", Comparison::Equal),
            ("ne", Comparison::NotEqual),
            ("lt", Comparison::Less),
            ("le", Comparison::LessOrEqual),
            ("gt", Comparison::Greater),
            ("ge", Comparison::GreaterOrEqual),
        ];
        let kind: Box<dyn FnOnce(Pair) -> ExprKind> =
            if let Some(how) = self.general(&["=", "!=", "<", "<=", ">", ">="]) {
                Box::new(move |pair| ExprKind::General(how, pair))
            } else if let Some((_, how)) = words.into_iter().find(|(word, _)| self.is_word(word)) {
                self.advance();
                Box::new(move |pair| ExprKind::Value(how, pair))
            } else if self.take_word("is") {
                Box::new(|pair| ExprKind::Nodes(NodeComparison::Is, pair))
            } else if self.take("<<") {
                Box::new(|pair| ExprKind::Nodes(NodeComparison::Before, pair))
            } else if self.take(">>") {
                Box::new(|pair| ExprKind::Nodes(NodeComparison::After, pair))
            } else {
                return Ok(left);
            };
        let right = self.concat()?;
        Ok(self.made(start, kind(Box::new([left, right]))))
    }

    fn order(&mut self) -> Parse<Expr> {
        self.chain(Self::additive, |parser| {
            Ok(parser.general(&["<", "<=", ">", ">="]).map(|how| -> fn(Pair) -> ExprKind {
                match how {
                    Comparison::Less => |pair| ExprKind::General(Comparison::Less, pair),
                    Comparison::LessOrEqual => {
                        |pair| ExprKind::General(Comparison::LessOrEqual, pair)
                    }
                    Comparison::Greater => |pair| ExprKind::General(Comparison::Greater, pair),
                    _ => |pair| ExprKind::General(Comparison::GreaterOrEqual, pair),
                }
            }))
        })
    }

    fn general(&mut self, signs: &[&str]) -> Option<Comparison> {
        let Token::Sign(sign) = self.peek() else { return None };
        if !signs.contains(sign) {
            return None;
        }
        let how = match *sign {
            "=" => Comparison::Equal,
            "!=" => Comparison::NotEqual,
            "<" => Comparison::Less,
            "<=" => Comparison::LessOrEqual,
            ">" => Comparison::Greater,
            _ => Comparison::GreaterOrEqual,
        };
        self.advance();
        Some(how)
    }

    fn concat(&mut self) -> Parse<Expr> {
        self.chain(Self::range, |parser| Ok(parser.take("||").then_some(ExprKind::Concat)))
    }

    fn range(&mut self) -> Parse<Expr> {
        let start = self.span();
        let left = self.additive()?;
        if !self.take_word("to") {
            return Ok(left);
        }
        let right = self.additive()?;
        Ok(self.made(start, ExprKind::Range(Box::new([left, right]))))
    }

    fn additive(&mut self) -> Parse<Expr> {
        self.chain(Self::multiplicative, |parser| {
            Ok(if parser.take("+") {
                Some(|pair| ExprKind::Arithmetic(Arithmetic::Add, pair))
            } else if parser.take("-") {
                Some(|pair| ExprKind::Arithmetic(Arithmetic::Subtract, pair))
            } else {
                None
            })
        })
    }

    fn multiplicative(&mut self) -> Parse<Expr> {
        let operand = if self.version == Version::V1 { Self::unary } else { Self::union };
        self.chain(operand, |parser| {
            Ok(if parser.take("*") {
                Some(|pair| ExprKind::Arithmetic(Arithmetic::Multiply, pair))
            } else if parser.take_word("div") {
                Some(|pair| ExprKind::Arithmetic(Arithmetic::Divide, pair))
            } else if parser.is_word("idiv") {
                parser.newer("`idiv`", parser.span())?;
                parser.advance();
                Some(|pair| ExprKind::Arithmetic(Arithmetic::DivideWhole, pair))
            } else if parser.take_word("mod") {
                Some(|pair| ExprKind::Arithmetic(Arithmetic::Remainder, pair))
            } else {
                None
            })
        })
    }

    fn union(&mut self) -> Parse<Expr> {
        let operand = if self.version == Version::V1 { Self::map } else { Self::intersect };
        self.chain(operand, |parser| {
            let is_there =
                parser.take("|") || (parser.version == Version::V31 && parser.take_word("union"));
            Ok(is_there.then_some(|pair| ExprKind::Set(SetOperator::Union, pair)))
        })
    }

    fn intersect(&mut self) -> Parse<Expr> {
        self.chain(Self::instance_of, |parser| {
            Ok(if parser.take_word("intersect") {
                Some(|pair| ExprKind::Set(SetOperator::Intersect, pair))
            } else if parser.take_word("except") {
                Some(|pair| ExprKind::Set(SetOperator::Except, pair))
            } else {
                None
            })
        })
    }

    /// Whether two words stand here, which are then read.
    fn take_words(&mut self, first: &str, second: &str) -> bool {
        let is_second = matches!(self.peek_at(1), Token::Name(name) if name == second);
        let is_there = self.is_word(first) && is_second;
        if is_there {
            self.advance();
            self.advance();
        }
        is_there
    }

    fn instance_of(&mut self) -> Parse<Expr> {
        let start = self.span();
        let value = self.treat()?;
        if !self.take_words("instance", "of") {
            return Ok(value);
        }
        let of = self.sequence_type()?;
        Ok(self.made(start, ExprKind::InstanceOf(Box::new(value), of)))
    }

    fn treat(&mut self) -> Parse<Expr> {
        let start = self.span();
        let value = self.castable()?;
        if !self.take_words("treat", "as") {
            return Ok(value);
        }
        let of = self.sequence_type()?;
        Ok(self.made(start, ExprKind::Treat(Box::new(value), of)))
    }

    fn castable(&mut self) -> Parse<Expr> {
        let start = self.span();
        let value = self.cast()?;
        if !self.take_words("castable", "as") {
            return Ok(value);
        }
        let of = self.single_type()?;
        Ok(self.made(start, ExprKind::Castable(Box::new(value), of)))
    }

    fn cast(&mut self) -> Parse<Expr> {
        let start = self.span();
        let value = self.arrow()?;
        if !self.take_words("cast", "as") {
            return Ok(value);
        }
        let of = self.single_type()?;
        Ok(self.made(start, ExprKind::Cast(Box::new(value), of)))
    }

    fn single_type(&mut self) -> Parse<SingleType> {
        let of = self.atomic_type()?;
        Ok(SingleType { of, is_optional: self.take("?") })
    }

    /// `a => f(b)`
    fn arrow(&mut self) -> Parse<Expr> {
        let start = self.span();
        let mut value = self.unary()?;
        let mut count = 0;
        while self.take("=>") {
            count += 1;
            if count > CHAIN {
                let message = format!("more than {CHAIN} operators follow each other");
                return Err(Error::new(ErrorCode::Syntax, self.since(start), message));
            }
            value = self.arrow_call(start, value)?;
        }
        Ok(value)
    }

    fn unary(&mut self) -> Parse<Expr> {
        let start = self.span();
        let mut signs = 0usize;
        let mut is_negative = false;
        loop {
            if self.take("-") {
                is_negative = !is_negative;
            } else if self.version == Version::V31 && self.take("+") {
            } else {
                break;
            }
            signs += 1;
        }
        // In XPath 1.0 the minus binds less than the union.
        let operand = if self.version == Version::V1 { self.union()? } else { self.map()? };
        if signs == 0 {
            return Ok(operand);
        }
        Ok(self.made(start, ExprKind::Sign(is_negative, Box::new(operand))))
    }

    /// `a ! b`
    fn map(&mut self) -> Parse<Expr> {
        self.chain(Self::path, |parser| {
            if !parser.is_sign("!") {
                return Ok(None);
            }
            parser.newer("`!`", parser.span())?;
            parser.advance();
            Ok(Some(ExprKind::SimpleMap))
        })
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
