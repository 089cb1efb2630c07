//! What operators stand between: literals, constructors, calls, `case`, and the starts of paths.

use kyanite_tree::Code;

use super::ast::{
    Binding, Call, Case, Entry, Expr, ExprKind, If, Item, Literal, Path, Piece, Selector, Start,
};
use super::lexer::Token;
use super::parser::{Parsed, Parser, RESERVED};
use super::text::TextEnd;
use crate::finding::{Finding, Span};

impl Parser<'_> {
    /// A primary expression with the segments behind it, and the edits of that.
    pub(super) fn with_segments(&mut self) -> Parsed<Expr> {
        let unedited = self.unedited()?;
        if self.at_edit() { self.edit(unedited) } else { Ok(unedited) }
    }

    fn unedited(&mut self) -> Parsed<Expr> {
        let start = self.next.span.start;
        let primary = self.primary()?;
        let is_path = matches!(primary.kind, ExprKind::Path(_));
        if !is_path && !self.at_segment() {
            return Ok(primary);
        }
        let mut path = match primary.kind {
            ExprKind::Path(path) => path,
            kind => {
                let value = Expr { kind, span: primary.span };
                Path {
                    start: Start::Value(Box::new(value)),
                    start_span: primary.span,
                    segments: Vec::new(),
                }
            }
        };
        self.segments(&mut path.segments)?;
        Ok(Expr { kind: ExprKind::Path(path), span: self.span_from(start) })
    }

    fn primary(&mut self) -> Parsed<Expr> {
        let start = self.next.span;
        let kind = match &self.next.token {
            Token::Number(_) | Token::Text(_) => match self.advance()?.token {
                Token::Number(number) => ExprKind::Literal(Literal::Number(number)),
                Token::Text(text) => ExprKind::Literal(Literal::Text(text)),
                _ => return Err(self.no_expression()),
            },
            Token::Template(quote) => {
                let quote = *quote;
                self.template(quote)?
            }
            Token::Symbol("$") => self.path_start(Start::Root)?,
            Token::Symbol("@") => self.path_start(Start::Current)?,
            Token::Symbol("(") => {
                self.advance()?;
                let inner = self.inside(|parser| {
                    let inner = parser.whole()?;
                    parser.expect(")", "after this expression")?;
                    Ok(inner)
                })?;
                ExprKind::Group(Box::new(inner))
            }
            Token::Symbol("[") => self.list()?,
            Token::Symbol("{") => self.map()?,
            Token::Name(name) => match name.as_str() {
                "true" => self.literal(Literal::Boolean(true))?,
                "false" => self.literal(Literal::Boolean(false))?,
                "null" => self.literal(Literal::Null)?,
                "case" => self.case()?,
                reserved if RESERVED.contains(&reserved) => return Err(self.no_expression()),
                _ => self.name_or_call()?,
            },
            _ => return Err(self.no_expression()),
        };
        Ok(Expr { kind, span: self.span_from(start.start) })
    }

    fn literal(&mut self, literal: Literal) -> Parsed<ExprKind> {
        self.advance()?;
        Ok(ExprKind::Literal(literal))
    }

    fn path_start(&mut self, start: Start) -> Parsed<ExprKind> {
        let start_span = self.advance()?.span;
        Ok(ExprKind::Path(Path { start, start_span, segments: Vec::new() }))
    }

    fn name_or_call(&mut self) -> Parsed<ExprKind> {
        let lexeme = self.advance()?;
        let Token::Name(name) = lexeme.token else { return Err(self.no_expression()) };
        if !self.at_symbol("(") || self.next.after_blank {
            return Ok(ExprKind::Path(Path {
                start: Start::Name(name),
                start_span: lexeme.span,
                segments: Vec::new(),
            }));
        }
        self.advance()?;
        let arguments = self.separated(")", |parser| {
            let argument = parser.whole()?;
            parser.refuse_edit(&argument, "among arguments")?;
            Ok(argument)
        })?;
        Ok(ExprKind::Call(Call { name, name_span: lexeme.span, arguments }))
    }

    /// Things separated by commas up to `close`; a comma may stand before it.
    fn separated<T>(
        &mut self,
        close: &'static str,
        parse: fn(&mut Self) -> Parsed<T>,
    ) -> Parsed<Vec<T>> {
        self.inside(|parser| {
            let mut things = Vec::new();
            while !parser.at_symbol(close) {
                things.push(parse(parser)?);
                if !parser.take(",")? && !parser.at_symbol(close) {
                    let words = parser.next_words();
                    return Err(parser
                        .misplaced(&format!("a comma or `{close}` is missing before {words}")));
                }
            }
            parser.advance()?;
            Ok(things)
        })
    }

    fn list(&mut self) -> Parsed<ExprKind> {
        self.advance()?;
        let items = self.separated("]", |parser| {
            let spread = parser.take("...")?;
            let value = parser.whole()?;
            parser.refuse_edit(&value, "in a list")?;
            Ok(Item { spread, value })
        })?;
        Ok(ExprKind::List(items))
    }

    fn map(&mut self) -> Parsed<ExprKind> {
        self.advance()?;
        let entries = self.separated("}", Self::entry)?;
        let mut names: Vec<(&str, Span)> = Vec::new();
        for entry in &entries {
            let Entry::Named { name, name_span, .. } = entry else { continue };
            if let Some((_, first)) = names.iter().find(|(known, _)| known == name) {
                return Err(Finding::error_at(
                    Code::RuleSyntax,
                    *name_span,
                    format!("the member `{name}` is written twice"),
                )
                .at(*first)
                .advise("take one of them away"));
            }
            names.push((name, *name_span));
        }
        Ok(ExprKind::Map(entries))
    }

    fn entry(&mut self) -> Parsed<Entry> {
        if self.take("...")? {
            return Ok(Entry::Spread(self.whole()?));
        }
        if self.at_symbol("(") {
            self.advance()?;
            let name = self.inside(|parser| {
                let name = parser.whole()?;
                parser.expect(")", "after the computed name")?;
                Ok(name)
            })?;
            self.expect(":", "after the computed name")?;
            return Ok(Entry::Computed { name, value: self.whole()? });
        }
        let span = self.next.span;
        if let Token::Text(name) = &self.next.token {
            let name = name.clone();
            self.advance()?;
            self.expect(":", "after the member's name")?;
            return Ok(Entry::Named { name, name_span: span, value: self.whole()? });
        }
        // `name: e`, or a path such as `b.fare.amount`; any word may stand before a colon.
        if let Token::Name(name) = &self.next.token {
            let name = name.clone();
            if self.lexer.next_is_colon() {
                self.advance()?;
                self.advance()?;
                return Ok(Entry::Named { name, name_span: span, value: self.whole()? });
            }
        }
        let value = self.whole()?;
        if let ExprKind::Path(path) = &value.kind
            && let Some(name) = shorthand_name(path)
        {
            return Ok(Entry::Named { name: name.to_owned(), name_span: value.span, value });
        }
        Err(Finding::error_at(Code::RuleSyntax, value.span, "this member has no name")
            .advise("write name: before it"))
    }

    fn template(&mut self, quote: char) -> Parsed<ExprKind> {
        let opened = self.next.span.start + 1;
        let mut from = self.next.span.end;
        let mut pieces = Vec::new();
        loop {
            let (text, end) = self.lexer.template_text(opened, from, quote)?;
            if !text.is_empty() {
                pieces.push(Piece::Text(text));
            }
            self.advance_template()?;
            if end == TextEnd::Quote {
                return Ok(ExprKind::Template(pieces));
            }
            let value = self.inside(Self::whole)?;
            if !self.at_symbol("}") {
                return Err(self
                    .unexpected("`}` is missing after the expression in this f-text")
                    .advise("write {{ for a brace that is text"));
            }
            from = self.next.span.end;
            pieces.push(Piece::Value(value));
        }
    }

    fn case(&mut self) -> Parsed<ExprKind> {
        self.advance()?;
        let subject = if self.at_word("when") { None } else { Some(self.whole()?) };
        let mut branches = Vec::new();
        while self.take_word("when")? {
            let mut waits = vec![self.whole()?];
            while self.take(",")? {
                waits.push(self.whole()?);
            }
            if subject.is_none() && waits.len() > 1 {
                return Err(Finding::error_at(
                    Code::RuleSyntax,
                    waits[1].span,
                    "a `case` without a value has one condition a branch",
                )
                .advise("join conditions with ||"));
            }
            self.expect_word("then", "after `when`")?;
            branches.push((waits, self.whole()?));
        }
        if branches.is_empty() {
            return Err(self.unexpected("`when` is missing after `case`"));
        }
        let otherwise = if self.take_word("else")? { Some(self.whole()?) } else { None };
        self.expect_word("end", "after the branches of `case`")?;
        Ok(ExprKind::Case(Box::new(Case { subject, branches, otherwise })))
    }

    pub(super) fn conditional(&mut self) -> Parsed<Expr> {
        let start = self.advance()?.span.start;
        let condition = self.whole()?;
        self.expect_word("then", "after the condition of `if`")?;
        let then = self.whole()?;
        let otherwise = if self.take_word("else")? { Some(self.whole()?) } else { None };
        let kind = ExprKind::If(Box::new(If { condition, then, otherwise }));
        Ok(Expr { kind, span: self.span_from(start) })
    }

    /// A name where it is bound.
    pub(super) fn binding(&mut self, what: &str) -> Parsed<Binding> {
        let span = self.next.span;
        match &self.next.token {
            Token::Name(name) if RESERVED.contains(&name.as_str()) => {
                Err(self.unexpected(&format!("`{name}` is a word of the language, not a name")))
            }
            Token::Name(name) => {
                let name = name.clone();
                self.advance()?;
                Ok(Binding { name, span })
            }
            _ => Err(self.unexpected(&format!(
                "the name of {what} is missing before {}",
                self.next_words()
            ))),
        }
    }
}

impl Expr {
    /// The name of what the expression is, if it is a name or a path that ends in one.
    pub(super) fn own_name(&self) -> Option<&str> {
        match &self.kind {
            ExprKind::Path(path) => shorthand_name(path),
            _ => None,
        }
    }
}

/// The name that a path gives to the member it is the value of: its last name.
fn shorthand_name(path: &Path) -> Option<&str> {
    match (path.segments.last(), &path.start) {
        (Some(segment), _) => match segment.selectors.as_slice() {
            [Selector::Name(name)] => {
                // In XML the local name of an element or attribute.
                let name = name.strip_prefix('@').unwrap_or(name);
                Some(name.rsplit_once(':').map_or(name, |(_, local)| local))
            }
            _ => None,
        },
        (None, Start::Name(name)) => Some(name),
        _ => None,
    }
}
