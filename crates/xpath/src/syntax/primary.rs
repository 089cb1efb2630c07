//! Primary and postfix expressions: literals, calls, lookups, maps, arrays, inline functions (XPath 3.1 sections 3.1, 3.2
//! and 3.11).

use std::sync::Arc;

use kyanite_eval::atomic::AtomicType;
use kyanite_tree::{Decimal, Span, counted, near_words};

use super::ast::{Callee, Expr, ExprKind, Inline, Key, Literal};
use super::lexer::Token;
use super::parser::{Parse, Parser};
use crate::error::{Error, ErrorCode};
use crate::functions::{self, Function, Library};
use crate::{ARRAY, FN, MAP, MATH, Version, XS};

/// Words that before a parenthesis are never functions (XPath 3.1 appendix A.3).
const RESERVED: [&str; 8] =
    ["if", "switch", "typeswitch", "function", "item", "empty-sequence", "map", "array"];

/// The name of a function as it is written.
struct FunctionName {
    library: Option<Library>,
    prefix: String,
    local: String,
    span: Span,
}

impl Parser<'_> {
    /// A primary expression with what follows it: predicates, arguments, lookups.
    pub(super) fn postfix(&mut self) -> Parse<Expr> {
        let start = self.span();
        let mut value = self.primary()?;
        loop {
            if self.is_sign("[") {
                let predicates = self.predicates()?;
                value = self.made(start, ExprKind::Filter(Box::new(value), predicates));
            } else if self.version == Version::V31 && self.is_sign("(") {
                let arguments = self.arguments()?;
                value = self.dynamic(start, value, arguments);
            } else if self.version == Version::V31 && self.is_sign("?") {
                self.advance();
                let key = self.key()?;
                value = self.made(start, ExprKind::Lookup(Box::new(value), Box::new(key)));
            } else {
                return Ok(value);
            }
        }
    }

    fn dynamic(&mut self, start: Span, callee: Expr, arguments: Vec<Option<Expr>>) -> Expr {
        if arguments.iter().all(Option::is_some) {
            let arguments = arguments.into_iter().flatten().collect();
            return self.made(start, ExprKind::DynamicCall(Box::new(callee), arguments));
        }
        self.made(start, ExprKind::Partial(Box::new(Callee::Computed(callee)), arguments))
    }

    fn primary(&mut self) -> Parse<Expr> {
        let start = self.span();
        let token = self.peek().clone();
        let kind = match token {
            Token::Text(text) => {
                self.advance();
                ExprKind::Literal(Literal::Text(Arc::from(text)))
            }
            Token::Integer(_) | Token::Decimal(_) | Token::Double(_) => {
                let literal = self.number()?;
                ExprKind::Literal(literal)
            }
            Token::Sign("$") => return self.variable(),
            Token::Sign(".") => {
                self.advance();
                ExprKind::ContextItem
            }
            Token::Sign("(") => {
                self.advance();
                if self.is_sign(")") {
                    self.newer("`()`", start)?;
                    self.advance();
                    return Ok(self.made(start, ExprKind::Sequence(Vec::new())));
                }
                let mut inner = self.expr()?;
                self.projected(")")?;
                inner.span = self.since(start);
                return Ok(inner);
            }
            Token::Sign("[") => {
                self.newer("an array", start)?;
                self.advance();
                let members = self.list("]")?;
                ExprKind::Array(members)
            }
            Token::Sign("?") => {
                self.newer("`?`", start)?;
                self.advance();
                let key = self.key()?;
                let context = Expr { kind: ExprKind::ContextItem, span: start };
                ExprKind::Lookup(Box::new(context), Box::new(key))
            }
            Token::Name(name) => match (name.as_str(), self.peek_at(1).clone()) {
                ("map", Token::Sign("{")) => return self.map_constructor(),
                ("array", Token::Sign("{")) => {
                    self.newer("an array", start)?;
                    self.advance();
                    self.advance();
                    let inner = if self.is_sign("}") {
                        Expr { kind: ExprKind::Sequence(Vec::new()), span: start }
                    } else {
                        self.expr()?
                    };
                    self.projected("}")?;
                    ExprKind::CurlyArray(Box::new(inner))
                }
                ("function", Token::Sign("(")) => return self.inline(),
                (_, Token::Sign("(")) => return self.call(),
                (_, Token::Sign("#")) => return self.reference(),
                _ => return Err(self.expected("an expression")),
            },
            Token::Prefixed(..) | Token::Braced(..) => match self.peek_at(1) {
                Token::Sign("#") => return self.reference(),
                _ => return self.call(),
            },
            _ => return Err(self.expected("an expression")),
        };
        Ok(self.made(start, kind))
    }

    fn number(&mut self) -> Parse<Literal> {
        let span = self.span();
        let too_large =
            || Error::new(ErrorCode::Other("FOAR0002"), span, "the number is too large");
        let literal = match self.advance() {
            // All numbers of XPath 1.0 are doubles.
            Token::Integer(text) | Token::Decimal(text) if self.version == Version::V1 => {
                Literal::Double(text.parse().map_err(|_| too_large())?)
            }
            Token::Double(_) if self.version == Version::V1 => {
                self.newer("a number with an exponent", span)?;
                return Err(too_large());
            }
            Token::Integer(text) => match text.parse() {
                Ok(small) => Literal::Integer(small),
                Err(_) => {
                    let digits = text.trim_start_matches('0');
                    let large = Decimal::parse(digits).map_err(|_| too_large())?;
                    Literal::Decimal(Arc::new(large), true)
                }
            },
            Token::Decimal(text) => {
                let digits = text.trim_start_matches('0');
                let digits = digits.strip_suffix('.').unwrap_or(digits);
                let zero = if digits.is_empty() || digits.starts_with('.') { "0" } else { "" };
                let number = Decimal::parse(&format!("{zero}{digits}")).map_err(|_| too_large())?;
                Literal::Decimal(Arc::new(number), false)
            }
            Token::Double(text) => Literal::Double(text.parse().map_err(|_| too_large())?),
            _ => return Err(self.expected("a number")),
        };
        Ok(literal)
    }

    /// What stands behind the `?` of a lookup.
    fn key(&mut self) -> Parse<Key> {
        let key = match self.peek().clone() {
            Token::Name(name) => Key::Name(Self::shared(&name)),
            Token::Integer(text) => Key::Integer(text.parse().map_err(|_| {
                Error::new(ErrorCode::Other("FOAR0002"), self.span(), "the number is too large")
            })?),
            Token::Sign("*") => Key::All,
            Token::Sign("(") => {
                self.advance();
                let key = if self.is_sign(")") {
                    Expr { kind: ExprKind::Sequence(Vec::new()), span: self.span() }
                } else {
                    self.expr()?
                };
                self.projected(")")?;
                return Ok(Key::Expr(key));
            }
            Token::Text(text) => {
                let span = self.span();
                let message =
                    "behind `?` stands a name, a number, `*` or an expression in parentheses";
                let error = Error::new(ErrorCode::Syntax, span, message);
                return Err(error.advise(format!("write ?({text:?})")));
            }
            _ => return Err(self.expected("a name, a number, `*` or `(`")),
        };
        self.advance();
        Ok(key)
    }

    /// Expressions with commas between them, up to a closing bracket.
    fn list(&mut self, close: &str) -> Parse<Vec<Expr>> {
        let mut items = Vec::new();
        if !self.is_sign(close) {
            items.push(self.single()?);
            while self.take(",") {
                items.push(self.single()?);
            }
        }
        self.projected(close)?;
        Ok(items)
    }

    fn map_constructor(&mut self) -> Parse<Expr> {
        let start = self.span();
        self.newer("a map", start)?;
        self.advance();
        self.projected("{")?;
        let mut entries = Vec::new();
        if !self.is_sign("}") {
            loop {
                let key = self.single()?;
                self.projected(":")?;
                entries.push((key, self.single()?));
                if !self.take(",") {
                    break;
                }
            }
        }
        self.projected("}")?;
        Ok(self.made(start, ExprKind::Map(entries)))
    }

    fn inline(&mut self) -> Parse<Expr> {
        let start = self.span();
        self.newer("a function", start)?;
        self.advance();
        self.projected("(")?;
        let mut names: Vec<String> = Vec::new();
        let mut parameters = Vec::new();
        while self.is_sign("$") {
            let (name, span) = self.variable_name()?;
            if names.contains(&name) {
                let message = format!("the parameter ${name} is there twice");
                return Err(Error::new(ErrorCode::Other("XQST0039"), span, message));
            }
            names.push(name);
            parameters.push(if self.take_word("as") { Some(self.sequence_type()?) } else { None });
            if !self.take(",") {
                break;
            }
        }
        self.projected(")")?;
        let result = if self.take_word("as") { Some(self.sequence_type()?) } else { None };
        self.projected("{")?;
        self.scopes.enter();
        names.iter().for_each(|name| {
            self.scopes.bind(name);
        });
        let body = if self.is_sign("}") {
            Ok(Expr { kind: ExprKind::Sequence(Vec::new()), span: self.span() })
        } else {
            self.expr()
        };
        let (captures, slots) = self.scopes.leave();
        let body = body?;
        self.projected("}")?;
        let inline = Inline { parameters, result, body, captures, slots };
        Ok(self.made(start, ExprKind::Inline(Arc::new(inline))))
    }

    fn function_name(&mut self) -> Parse<FunctionName> {
        let span = self.span();
        let (prefix, local, library) = match self.advance() {
            Token::Name(local) => (String::new(), local, Some(Library::Fn)),
            Token::Prefixed(prefix, local) => {
                let library = Library::of_prefix(&prefix);
                (prefix, local, library)
            }
            Token::Braced(uri, local) => {
                let library = match uri.as_str() {
                    FN => Some(Library::Fn),
                    MAP => Some(Library::Map),
                    ARRAY => Some(Library::Array),
                    MATH => Some(Library::Math),
                    XS => Some(Library::Xs),
                    _ => None,
                };
                (format!("Q{{{uri}}}"), local, library)
            }
            _ => return Err(self.expected("a function")),
        };
        Ok(FunctionName { library, prefix, local, span })
    }

    /// The function of that name and arity.
    fn function(&self, name: &FunctionName, arity: usize) -> Parse<&'static Function> {
        let FunctionName { library, prefix, local, span } = name;
        let shown = match prefix.as_str() {
            "" => local.clone(),
            braced if braced.ends_with('}') => format!("{braced}{local}"),
            prefix => format!("{prefix}:{local}"),
        };
        let Some(library) = library else {
            let what = if prefix.ends_with('}') { "namespace" } else { "prefix" };
            let message = format!("the {what} of {shown}() stands for no functions");
            let error = Error::new(ErrorCode::Function, *span, message);
            return Err(
                error.advise("functions have the prefixes fn, map, array, math and xs, or none")
            );
        };
        if self.is_hosted
            && *library == Library::Fn
            && let Some(found) = functions::find_hosted(local)
            && found.takes(arity)
        {
            return Ok(found);
        }
        let is_old = |function: &&Function| self.version == Version::V31 || function.is_in_1_0();
        if let Some(found) = functions::find(*library, local).filter(is_old) {
            if found.takes(arity) {
                return Ok(found);
            }
            let message = format!("{shown}() does not take {}", counted(arity, "argument"));
            let error = Error::new(ErrorCode::Function, *span, message);
            return Err(error.advise(format!("it is called as {}", found.usage())));
        }
        let error =
            Error::new(ErrorCode::Function, *span, format!("there is no function {shown}()"));
        if functions::find(*library, local).is_some() {
            return Err(error.advise("it is not in XPath 1.0; read the expression as XPath 3.1"));
        }
        if let Some(elsewhere) = functions::libraries_with(local).next() {
            return Err(error.advise(format!("write {}", elsewhere.usage())));
        }
        let names = functions::names(*library);
        Err(match near_words(local, names) {
            Some(near) => error.advise(near),
            None => error,
        })
    }

    fn arguments(&mut self) -> Parse<Vec<Option<Expr>>> {
        self.projected("(")?;
        let mut arguments = Vec::new();
        if !self.is_sign(")") {
            loop {
                let is_blank =
                    self.is_sign("?") && matches!(self.peek_at(1), Token::Sign("," | ")"));
                if is_blank {
                    self.newer("`?` for an argument", self.span())?;
                    self.advance();
                    arguments.push(None);
                } else {
                    arguments.push(Some(self.single()?));
                }
                if !self.take(",") {
                    break;
                }
            }
        }
        self.projected(")")?;
        Ok(arguments)
    }

    fn call(&mut self) -> Parse<Expr> {
        let start = self.span();
        let name = self.function_name()?;
        if name.prefix.is_empty() && RESERVED.contains(&name.local.as_str()) {
            let message = format!("`{}(` cannot begin a step", name.local);
            return Err(Error::new(ErrorCode::Syntax, name.span, message));
        }
        // Functions that ask whether something is there.
        let asks = matches!(name.local.as_str(), "exists" | "empty" | "not" | "boolean" | "count");
        let arguments = if asks { self.asked(Self::arguments)? } else { self.arguments()? };
        self.complete_call(start, &name, arguments)
    }

    fn complete_call(
        &mut self,
        start: Span,
        name: &FunctionName,
        mut arguments: Vec<Option<Expr>>,
    ) -> Parse<Expr> {
        if name.library == Some(Library::Xs) {
            return self.constructor(start, name, arguments);
        }
        let function = self.function(name, arguments.len())?;
        if arguments.iter().all(Option::is_some) {
            let arguments = arguments.drain(..).flatten().collect();
            return Ok(self.made(start, ExprKind::Call(function, arguments)));
        }
        Ok(self.made(start, ExprKind::Partial(Box::new(Callee::Named(function)), arguments)))
    }

    /// `xs:integer(e)`
    fn constructor(
        &mut self,
        start: Span,
        name: &FunctionName,
        mut arguments: Vec<Option<Expr>>,
    ) -> Parse<Expr> {
        let of = AtomicType::named(&name.local)
            .filter(|of| !matches!(of, AtomicType::Any | AtomicType::Numeric));
        let Some(of) = of else {
            let message = format!("there is no function xs:{}()", name.local);
            let error = Error::new(ErrorCode::Function, name.span, message);
            let names = AtomicType::NAMES.iter().map(|(name, _)| *name);
            return Err(match near_words(&name.local, names) {
                Some(near) => error.advise(near),
                None => error,
            });
        };
        match (arguments.pop(), arguments.is_empty()) {
            (Some(Some(value)), true) => {
                Ok(self.made(start, ExprKind::Constructor(of, Box::new(value))))
            }
            (Some(None), true) => {
                Ok(self.made(start, ExprKind::Inline(Arc::new(cast_function(of, start)))))
            }
            _ => Err(one_argument(name)),
        }
    }

    /// `name#1`
    fn reference(&mut self) -> Parse<Expr> {
        let start = self.span();
        let name = self.function_name()?;
        self.newer("a reference to a function", start)?;
        self.projected("#")?;
        let Token::Integer(text) = self.peek().clone() else {
            return Err(self.expected("the number of arguments"));
        };
        self.advance();
        let arity: usize = text.parse().unwrap_or(usize::MAX);
        if name.library == Some(Library::Xs)
            && let Some(of) = AtomicType::named(&name.local)
        {
            if arity != 1 {
                return Err(one_argument(&name));
            }
            return Ok(self.made(start, ExprKind::Inline(Arc::new(cast_function(of, start)))));
        }
        let function = self.function(&name, arity)?;
        Ok(self.made(start, ExprKind::FunctionReference(function, arity)))
    }

    /// What stands behind `=>`: a call that gets `value` as its first argument.
    pub(super) fn arrow_call(&mut self, start: Span, value: Expr) -> Parse<Expr> {
        match self.peek().clone() {
            Token::Sign("$") => {
                let callee = self.variable()?;
                let arguments = self.arguments()?;
                Ok(self.dynamic(start, callee, with_first(value, arguments)))
            }
            Token::Sign("(") => {
                self.advance();
                let callee = self.expr()?;
                self.projected(")")?;
                let arguments = self.arguments()?;
                Ok(self.dynamic(start, callee, with_first(value, arguments)))
            }
            Token::Name(_) | Token::Prefixed(..) | Token::Braced(..) => {
                let name = self.function_name()?;
                let arguments = self.arguments()?;
                self.complete_call(start, &name, with_first(value, arguments))
            }
            _ => Err(self.expected("a function, a variable or a parenthesis")),
        }
    }
}

fn with_first(value: Expr, arguments: Vec<Option<Expr>>) -> Vec<Option<Expr>> {
    std::iter::once(Some(value)).chain(arguments).collect()
}

/// What is said of a constructor that is called with another number of arguments.
fn one_argument(name: &FunctionName) -> Error {
    let message = format!("xs:{}() takes one argument", name.local);
    Error::new(ErrorCode::Function, name.span, message)
}

/// The function that casts its argument.
fn cast_function(of: AtomicType, span: Span) -> Inline {
    let argument = Expr { kind: ExprKind::Variable(0), span };
    let body = Expr { kind: ExprKind::Constructor(of, Box::new(argument)), span };
    Inline { parameters: vec![None], result: None, body, captures: Vec::new(), slots: 1 }
}
