//! Clauses: `for`, `let`, `where`, `group by`, `order by`, `carry`, `skip`, `first`, `window`, and the `return` that ends
//! them.

use kyanite_tree::Code;

use super::ast::{Binding, Clause, ClauseKind, Expr, ExprKind, Literal, Loop, OrderKey};
use super::lexer::Token;
use super::parser::{CLAUSE_WORDS, Parsed, Parser};
use crate::finding::Finding;

impl Parser<'_> {
    fn at_clause(&self) -> bool {
        matches!(&self.next.token, Token::Name(name) if CLAUSE_WORDS.contains(&name.as_str()))
    }

    /// Clauses from `for` or `let` to the end of `return e`.
    pub(super) fn clauses(&mut self) -> Parsed<Expr> {
        self.clauses_after(Vec::new())
    }

    /// Clauses that go on after `clauses`.
    pub(super) fn clauses_after(&mut self, mut clauses: Vec<Clause>) -> Parsed<Expr> {
        let start = clauses.first().map_or(self.next.span.start, |clause| clause.span.start);
        loop {
            match self.clause() {
                Ok(clause) => clauses.push(clause),
                Err(finding) => clauses.push(self.recover(finding)?),
            }
            if self.at_word("return") {
                break;
            }
            if !self.at_clause() {
                return Err(match self.next.token {
                    Token::End => self
                        .unexpected("the clauses have no `return`")
                        .advise("end them with return and the value that each tuple gives"),
                    _ => self.not_a_clause(),
                });
            }
        }
        let has_for = clauses.iter().any(|clause| matches!(clause.kind, ClauseKind::For { .. }));
        // What was passed over may have been the `for`.
        if !has_for
            && self.findings.is_empty()
            && let Some(clause) = clauses.iter().find(|c| !matches!(c.kind, ClauseKind::Let(..)))
        {
            return Err(Finding::error_at(
                Code::RuleSyntax,
                clause.span,
                "this clause has no `for` before it",
            ));
        }
        self.clauses.push(self.next.span.start);
        self.advance()?;
        let result = self.whole()?;
        let kind = ExprKind::Loop(Box::new(Loop { clauses, result }));
        Ok(Expr { kind, span: self.span_from(start) })
    }

    fn clause(&mut self) -> Parsed<Clause> {
        self.clauses.push(self.next.span.start);
        let start = self.next.span.start;
        let Token::Name(word) = &self.next.token else { return Err(self.not_a_clause()) };
        let kind = match word.as_str() {
            "for" => {
                self.advance()?;
                let name = self.binding("each item")?;
                let at =
                    if self.take_word("at")? { Some(self.binding("the index")?) } else { None };
                self.expect_word("in", "after the name in `for`")?;
                ClauseKind::For { name, at, source: self.whole()? }
            }
            "let" => {
                self.advance()?;
                let (name, value) = self.let_binding()?;
                ClauseKind::Let(name, value)
            }
            "where" => {
                self.advance()?;
                ClauseKind::Where(self.whole()?)
            }
            "order" => {
                self.advance()?;
                self.expect_word("by", "after `order`")?;
                ClauseKind::OrderBy(self.order_keys()?)
            }
            "group" => {
                self.advance()?;
                self.expect_word("by", "after `group`")?;
                ClauseKind::GroupBy(self.group_keys()?)
            }
            "carry" => {
                self.advance()?;
                let name = self.binding("the running value")?;
                self.expect_word("from", "after the name in `carry`")?;
                // Up to the equals sign, which a comparison would take for its own.
                let from = self.additive()?;
                self.expect("=", "after the first value in `carry`")?;
                ClauseKind::Carry { name, from, step: self.whole()? }
            }
            "window" => {
                self.advance()?;
                let size = self.whole()?;
                let step = if self.take_word("step")? { Some(self.whole()?) } else { None };
                ClauseKind::Window { size, step }
            }
            "skip" => {
                self.advance()?;
                ClauseKind::Skip(self.whole()?)
            }
            "first" => {
                self.advance()?;
                ClauseKind::First(self.whole()?)
            }
            _ => return Err(self.not_a_clause()),
        };
        Ok(Clause { kind, span: self.span_from(start) })
    }

    fn order_keys(&mut self) -> Parsed<Vec<OrderKey>> {
        let mut keys = Vec::new();
        loop {
            let value = self.whole()?;
            let descending = self.take_word("descending")?;
            if !descending {
                self.take_word("ascending")?;
            }
            keys.push(OrderKey { value, descending });
            if !self.take(",")? {
                return Ok(keys);
            }
        }
    }

    /// `k = e`, or a path alone, which is named by its last name.
    fn group_keys(&mut self) -> Parsed<Vec<(Binding, Expr)>> {
        let mut keys = Vec::new();
        loop {
            let span = self.next.span;
            if let Token::Name(_) = &self.next.token
                && self.lexer.next_is_equals()
            {
                let name = self.binding("the key")?;
                self.expect("=", "after the name of the key")?;
                keys.push((name, self.whole()?));
            } else {
                let value = self.whole()?;
                let Some(name) = value.own_name() else {
                    return Err(Finding::error_at(
                        Code::RuleSyntax,
                        span.to(value.span),
                        "this key has no name",
                    )
                    .advise("write name = … before it"));
                };
                let name = Binding { name: name.to_owned(), span: value.span };
                keys.push((name, value));
            }
            if !self.take(",")? {
                return Ok(keys);
            }
        }
    }

    /// The part of a let behind its word.
    pub(super) fn let_binding(&mut self) -> Parsed<(Binding, Expr)> {
        let name = self.binding("what is bound")?;
        self.expect("=", "after the name in `let`")?;
        Ok((name, self.whole()?))
    }

    /// Notes a finding and goes on at the next line that begins with a clause word, with a clause in place of the
    /// broken one; without such a line the finding ends the parsing.
    fn recover(&mut self, finding: Finding) -> Parsed<Clause> {
        let span = finding.places().first().copied().unwrap_or_default();
        self.ends_with_line = false;
        if !self.skip_to_line(CLAUSE_WORDS) {
            return Err(finding);
        }
        self.findings.push(finding);
        let nothing = Expr { kind: ExprKind::Literal(Literal::Boolean(true)), span };
        Ok(Clause { kind: ClauseKind::Where(nothing), span })
    }

    /// Passes over lines until one begins with one of `words`.
    pub(super) fn skip_to_line<const N: usize>(&mut self, words: [&str; N]) -> bool {
        loop {
            if self.next.on_new_line
                && self.next.span.start > 0
                && matches!(&self.next.token, Token::Name(name) if words.contains(&name.as_str()))
            {
                return true;
            }
            match self.lexer.next() {
                Ok(lexeme) if lexeme.token == Token::End => return false,
                Ok(lexeme) => self.next = lexeme,
                Err(_) => self.lexer.skip_line(),
            }
        }
    }
}
