//! Operators, loosest first (XPath 3.1 section A.4): comparisons, arithmetic, sets, types, arrows and unary signs.

use kyanite_eval::atomic::Arithmetic;
use kyanite_tree::Comparison;

use super::{CHAIN, Parse, Parser};
use crate::Version;
use crate::error::{Error, ErrorCode};
use crate::syntax::ast::{Expr, ExprKind, NodeComparison, Pair, SetOperator, SingleType};
use crate::syntax::lexer::Token;

impl Parser<'_> {
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

    pub(super) fn or(&mut self) -> Parse<Expr> {
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
}
