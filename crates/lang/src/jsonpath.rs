//! JSONPath and nothing else: the grammar of RFC 9535 to the letter, with its well-typedness (section 2.4.3).
//!
//! The rule language accepts all of this and more, with friendlier blanks. Whoever asks for JSONPath proper gets
//! this parser: it refuses all that the RFC's ABNF (appendix A) does not derive, and says why.

use kyanite_tree::Code;

use crate::finding::{Finding, Span, near_advice};
use crate::syntax::ast::{
    Binary, Call, Expr, ExprKind, Literal, Path, Rule, Segment, Selector, Start, Unary,
};
use crate::syntax::{begins_name, decode_text, name_length, parse_integer};

/// Parses a JSONPath query into a rule that is just that path.
///
/// # Errors
/// The first place where `source` leaves the grammar or is not well-typed.
pub fn parse(source: &str) -> Result<Rule, Finding> {
    let mut parser = Query { source, at: 0, depth: 0 };
    if !parser.take("$") {
        return Err(parser.wrong("a JSONPath begins with $"));
    }
    let (path, _) = parser.path(Start::Root, 0)?;
    if parser.at < source.len() {
        let rest = &source[parser.at..];
        return Err(if rest.trim().is_empty() {
            parser.wrong("a blank stands after the path")
        } else {
            parser.wrong("this does not continue the path")
        });
    }
    Ok(Rule { header: Vec::new(), body: path })
}

/// How deep filters may nest.
const DEPTH: usize = 100;

/// The types of RFC 9535 section 2.4.1.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Typed {
    Value,
    Logical,
    Nodes,
}

/// The functions of RFC 9535 section 2.4: name, parameter types, result type.
const FUNCTIONS: [(&str, &[Typed], Typed); 5] = [
    ("length", &[Typed::Value], Typed::Value),
    ("count", &[Typed::Nodes], Typed::Value),
    ("match", &[Typed::Value, Typed::Value], Typed::Logical),
    ("search", &[Typed::Value, Typed::Value], Typed::Logical),
    ("value", &[Typed::Nodes], Typed::Value),
];

/// What an operand of a filter turned out to be.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Operand {
    Literal,
    /// A query; singular in the sense of `singular-query`.
    Query {
        singular: bool,
    },
    Function(Typed),
    /// Parentheses, `!`, `&&`, `||` or a comparison.
    Logical,
}

struct Query<'s> {
    source: &'s str,
    at: usize,
    depth: usize,
}

type Parsed<T> = Result<T, Finding>;

impl Query<'_> {
    fn rest(&self) -> &str {
        &self.source[self.at..]
    }

    fn peek(&self) -> Option<char> {
        self.rest().chars().next()
    }

    fn take(&mut self, symbol: &str) -> bool {
        let there = self.rest().starts_with(symbol);
        self.at += if there { symbol.len() } else { 0 };
        there
    }

    /// `S`: blanks that mean nothing; whether there were any.
    fn blank(&mut self) -> bool {
        let start = self.at;
        while let Some(' ' | '\t' | '\n' | '\r') = self.peek() {
            self.at += 1;
        }
        self.at > start
    }

    fn wrong(&self, message: &str) -> Finding {
        let width = self.peek().map_or(1, char::len_utf8);
        Finding::error_at(Code::RuleSyntax, Span::new(self.at, self.at + width), message)
    }

    fn span(&self, start: usize) -> Span {
        Span::new(start, self.at)
    }

    /// Segments behind `$` or `@`; also whether they make a `singular-query`.
    fn path(&mut self, start: Start, from: usize) -> Parsed<(Expr, bool)> {
        let start_span = self.span(from);
        let (mut segments, mut singular) = (Vec::new(), true);
        loop {
            let before = self.at;
            self.blank();
            let here = self.at;
            let in_brackets = self.peek() == Some('[');
            let (descendant, selectors, blanks) = if self.take("..") {
                let (selectors, blanks) = self.after_descent()?;
                (true, selectors, blanks)
            } else if self.take(".") {
                (false, vec![self.wildcard_or_name()?], false)
            } else if self.take("[") {
                let (selectors, blanks) = self.selectors()?;
                (false, selectors, blanks)
            } else {
                self.at = before;
                break;
            };
            singular &= !descendant
                && !blanks
                && matches!(selectors.as_slice(), [Selector::Name(_) | Selector::Index(_)]);
            segments.push(Segment { descendant, in_brackets, selectors, span: self.span(here) });
        }
        let kind = ExprKind::Path(Path { start, start_span, segments });
        Ok((Expr { kind, span: self.span(from) }, singular))
    }

    fn after_descent(&mut self) -> Parsed<(Vec<Selector>, bool)> {
        if self.take("[") {
            return self.selectors();
        }
        Ok((vec![self.wildcard_or_name()?], false))
    }

    fn wildcard_or_name(&mut self) -> Parsed<Selector> {
        if self.take("*") {
            return Ok(Selector::Wildcard);
        }
        let length = name_length(self.rest());
        if length == 0 {
            return Err(self.wrong("a name or * is missing after the dot"));
        }
        let name = self.rest()[..length].to_owned();
        self.at += length;
        Ok(Selector::Name(name))
    }

    /// `bracketed-selection` behind its bracket, and whether blanks stood inside.
    fn selectors(&mut self) -> Parsed<(Vec<Selector>, bool)> {
        let mut selectors = Vec::new();
        let mut blanks = self.blank();
        loop {
            selectors.push(self.selector()?);
            blanks |= self.blank();
            if self.take("]") {
                return Ok((selectors, blanks));
            }
            if !self.take(",") {
                return Err(self.wrong("a comma or ] is missing here"));
            }
            blanks |= self.blank();
        }
    }

    fn selector(&mut self) -> Parsed<Selector> {
        match self.peek() {
            Some(quote @ ('"' | '\'')) => Ok(Selector::Name(self.text(quote)?)),
            Some('*') => {
                self.at += 1;
                Ok(Selector::Wildcard)
            }
            Some('?') => {
                self.at += 1;
                self.blank();
                Ok(Selector::Filter(Box::new(self.logical()?)))
            }
            Some(':' | '-' | '0'..='9') => self.index_or_slice(),
            Some(c) if begins_name(c) => Err(self.wrong("a name in brackets needs quotes")),
            _ => Err(self.wrong("a selector is missing here")),
        }
    }

    fn text(&mut self, quote: char) -> Parsed<String> {
        let (text, _, end) = decode_text(self.source, self.at, self.at + 1, quote, false)?;
        self.at = end;
        Ok(text)
    }

    fn index_or_slice(&mut self) -> Parsed<Selector> {
        let start = self.integer()?;
        let before = self.at;
        self.blank();
        if !self.take(":") {
            self.at = before;
            return start
                .map(Selector::Index)
                .ok_or_else(|| self.wrong("an index is missing here"));
        }
        self.blank();
        let end = self.integer()?;
        let before = self.at;
        self.blank();
        if !self.take(":") {
            self.at = before;
            return Ok(Selector::Slice { start, end, step: 1 });
        }
        let colon = self.at;
        self.blank();
        let step = self.integer()?;
        if step.is_none() {
            self.at = colon;
        }
        Ok(Selector::Slice { start, end, step: step.unwrap_or(1) })
    }

    fn integer(&mut self) -> Parsed<Option<i64>> {
        let start = self.at;
        let negative = self.take("-");
        let digits = self.digits().to_owned();
        if digits.is_empty() {
            return if negative {
                Err(self.wrong("a digit is missing after the minus"))
            } else {
                Ok(None)
            };
        }
        let wrong =
            |message| Finding::error_at(Code::RuleSyntax, Span::new(start, self.at), message);
        if digits.len() > 1 && digits.starts_with('0') {
            return Err(wrong("an index has no zeros in front"));
        }
        parse_integer(negative, &digits).map(Some).map_err(wrong)
    }

    fn digits(&mut self) -> &str {
        let rest = &self.source[self.at..];
        let length = rest.bytes().take_while(u8::is_ascii_digit).count();
        self.at += length;
        &rest[..length]
    }

    /// `logical-expr`.
    fn logical(&mut self) -> Parsed<Expr> {
        let start = self.at;
        let (expr, operand) = self.or()?;
        self.as_test(expr, operand, start)
    }

    /// An operand that stands alone in a filter: a `test-expr`.
    fn as_test(&self, expr: Expr, operand: Operand, start: usize) -> Parsed<Expr> {
        let wrong = |message| Err(Finding::error_at(Code::RuleSyntax, self.span(start), message));
        match operand {
            Operand::Logical
            | Operand::Query { .. }
            | Operand::Function(Typed::Logical | Typed::Nodes) => Ok(expr),
            Operand::Literal => wrong("a literal alone is no test"),
            Operand::Function(Typed::Value) => {
                wrong("this function gives a value, which has to be compared")
            }
        }
    }

    fn or(&mut self) -> Parsed<(Expr, Operand)> {
        self.joined("||", Binary::Or, Self::and)
    }

    fn and(&mut self) -> Parsed<(Expr, Operand)> {
        self.joined("&&", Binary::And, Self::basic)
    }

    fn joined(
        &mut self,
        symbol: &str,
        operator: Binary,
        operand: fn(&mut Self) -> Parsed<(Expr, Operand)>,
    ) -> Parsed<(Expr, Operand)> {
        let start = self.at;
        let (mut left, mut kind) = operand(self)?;
        loop {
            let before = self.at;
            self.blank();
            if !self.take(symbol) {
                self.at = before;
                return Ok((left, kind));
            }
            left = self.as_test(left, kind, start)?;
            self.blank();
            let right_start = self.at;
            let (right, right_kind) = operand(self)?;
            let right = self.as_test(right, right_kind, right_start)?;
            let kind_of = ExprKind::Binary(operator, Box::new(left), Box::new(right));
            left = Expr { kind: kind_of, span: self.span(start) };
            kind = Operand::Logical;
        }
    }

    /// `basic-expr`: parentheses, a comparison or a test.
    fn basic(&mut self) -> Parsed<(Expr, Operand)> {
        self.depth += 1;
        if self.depth > DEPTH {
            return Err(self.wrong("filters nest deeper than 100 levels"));
        }
        let start = self.at;
        let negated = self.take("!");
        if negated {
            self.blank();
        }
        let inner_start = self.at;
        let (mut expr, mut operand) = if self.take("(") {
            self.blank();
            let inner = self.logical()?;
            self.blank();
            if !self.take(")") {
                return Err(self.wrong("`)` is missing here"));
            }
            let group = ExprKind::Group(Box::new(inner));
            (Expr { kind: group, span: self.span(inner_start) }, Operand::Logical)
        } else {
            self.operand()?
        };
        if negated {
            expr = self.as_test(expr, operand, inner_start)?;
            let not = ExprKind::Unary(Unary::Not, Box::new(expr));
            (expr, operand) = (Expr { kind: not, span: self.span(start) }, Operand::Logical);
        }
        let compared = self.comparison(start, expr, operand)?;
        self.depth -= 1;
        Ok(compared)
    }

    /// The rest of a comparison, if an operator follows.
    fn comparison(
        &mut self,
        start: usize,
        left: Expr,
        operand: Operand,
    ) -> Parsed<(Expr, Operand)> {
        const OPERATORS: [(&str, Binary); 6] = [
            ("==", Binary::Equal),
            ("!=", Binary::NotEqual),
            ("<=", Binary::LessOrEqual),
            (">=", Binary::GreaterOrEqual),
            ("<", Binary::Less),
            (">", Binary::Greater),
        ];
        let before = self.at;
        self.blank();
        let Some((_, operator)) =
            OPERATORS.iter().find(|(symbol, _)| self.rest().starts_with(symbol))
        else {
            self.at = before;
            return Ok((left, operand));
        };
        self.comparable(&left, operand)?;
        self.at += operator.symbol().len();
        self.blank();
        let (right, right_operand) = self.operand()?;
        self.comparable(&right, right_operand)?;
        let kind = ExprKind::Binary(*operator, Box::new(left), Box::new(right));
        Ok((Expr { kind, span: self.span(start) }, Operand::Logical))
    }

    fn comparable(&self, expr: &Expr, operand: Operand) -> Parsed<()> {
        let message = match operand {
            Operand::Literal
            | Operand::Query { singular: true }
            | Operand::Function(Typed::Value) => {
                return Ok(());
            }
            Operand::Query { singular: false } => {
                "only a path of names and indexes, without blanks in its brackets, can be compared"
            }
            Operand::Function(_) => "the result of this function cannot be compared",
            Operand::Logical => "a logical expression cannot be compared",
        };
        Err(Finding::error_at(Code::RuleSyntax, expr.span, message))
    }

    /// A literal, a query or a call.
    fn operand(&mut self) -> Parsed<(Expr, Operand)> {
        let start = self.at;
        let literal = match self.peek() {
            Some('$' | '@') => {
                let from = if self.take("$") { Start::Root } else { Start::Current };
                self.at = start + 1;
                let (path, singular) = self.path(from, start)?;
                return Ok((path, Operand::Query { singular }));
            }
            Some(quote @ ('"' | '\'')) => Literal::Text(self.text(quote)?),
            Some('-' | '0'..='9') => Literal::Number(self.number()?),
            Some(c) if begins_name(c) => {
                let length = name_length(self.rest());
                let name = self.rest()[..length].to_owned();
                self.at += length;
                if self.take("(") {
                    return self.call(name, start);
                }
                match name.as_str() {
                    "true" => Literal::Boolean(true),
                    "false" => Literal::Boolean(false),
                    "null" => Literal::Null,
                    _ => {
                        let message = format!(
                            "`{name}` is no literal; a path in a filter begins with @ or $"
                        );
                        return Err(Finding::error_at(Code::RuleSyntax, self.span(start), message)
                            .advise(format!(
                                "write @.{name} for the member, '{name}' for the text"
                            )));
                    }
                }
            }
            _ => return Err(self.wrong("a path, a literal or a function is missing here")),
        };
        Ok((Expr { kind: ExprKind::Literal(literal), span: self.span(start) }, Operand::Literal))
    }

    /// `number`: `(int / "-0") [frac] [exp]`.
    fn number(&mut self) -> Parsed<String> {
        let start = self.at;
        self.take("-");
        let whole = self.digits();
        let zeros = whole.len() > 1 && whole.starts_with('0');
        if whole.is_empty() {
            return Err(self.wrong("a digit is missing here"));
        }
        if zeros {
            return Err(Finding::error_at(
                Code::RuleSyntax,
                self.span(start),
                "a number has no zeros in front",
            ));
        }
        if self.take(".") && self.digits().is_empty() {
            return Err(self.wrong("a digit is missing after the point"));
        }
        if self.take("e") || self.take("E") {
            let _signed = self.take("+") || self.take("-");
            if self.digits().is_empty() {
                return Err(self.wrong("a digit is missing in the exponent"));
            }
        }
        Ok(self.source[start..self.at].to_owned())
    }

    /// A call behind its opening parenthesis.
    fn call(&mut self, name: String, start: usize) -> Parsed<(Expr, Operand)> {
        let name_span = Span::new(start, self.at - 1);
        let known = FUNCTIONS.iter().find(|(known, ..)| *known == name);
        let Some((_, parameters, result)) = known else {
            let names = FUNCTIONS.map(|(name, ..)| name);
            let advice = near_advice(name_span, &name, names)
                .unwrap_or_else(|| format!("RFC 9535 has {}", names.join(", ")).into());
            return Err(Finding::error_at(
                Code::RuleSyntax,
                name_span,
                format!("JSONPath has no function `{name}`"),
            )
            .advise(advice));
        };
        let mut arguments = Vec::new();
        self.blank();
        while !self.take(")") {
            if !arguments.is_empty() {
                if !self.take(",") {
                    return Err(self.wrong("a comma or `)` is missing here"));
                }
                self.blank();
            }
            let argument_start = self.at;
            let (argument, operand) = self.or()?;
            if let Some(wanted) = parameters.get(arguments.len()) {
                self.well_typed(*wanted, operand, argument_start)?;
            }
            arguments.push(argument);
            self.blank();
        }
        if arguments.len() != parameters.len() {
            let message =
                format!("{name}() takes {} arguments, not {}", parameters.len(), arguments.len());
            return Err(Finding::error_at(Code::RuleSyntax, self.span(start), message));
        }
        let kind = ExprKind::Call(Call { name, name_span, arguments });
        Ok((Expr { kind, span: self.span(start) }, Operand::Function(*result)))
    }

    /// RFC 9535 section 2.4.3.
    fn well_typed(&self, wanted: Typed, operand: Operand, start: usize) -> Parsed<()> {
        let fits = match wanted {
            Typed::Value => matches!(
                operand,
                Operand::Literal
                    | Operand::Query { singular: true }
                    | Operand::Function(Typed::Value)
            ),
            Typed::Nodes => {
                matches!(operand, Operand::Query { .. } | Operand::Function(Typed::Nodes))
            }
            Typed::Logical => {
                !matches!(operand, Operand::Literal | Operand::Function(Typed::Value))
            }
        };
        let message = match wanted {
            _ if fits => return Ok(()),
            Typed::Value => {
                "this argument must be one value: a literal or a path of names and indexes"
            }
            Typed::Nodes => "this argument must be a path",
            Typed::Logical => "this argument must be a test",
        };
        Err(Finding::error_at(Code::RuleSyntax, self.span(start), message))
    }
}
