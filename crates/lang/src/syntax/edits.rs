//! Edits: `e set .a = b, .c = d` and `e remove .a, .b`.

use kyanite_tree::{Advice, Code};

use super::ast::{Change, Edit, Expr, ExprKind};
use super::lexer::Token;
use super::parser::{Parsed, Parser};
use crate::finding::{Finding, Span, instead};

/// The words that edits begin with.
pub(super) const EDITS: [&str; 2] = ["set", "remove"];

impl Parser<'_> {
    /// Whether the word of an edit comes next; behind a value no name can stand.
    pub(super) fn at_edit(&self) -> bool {
        matches!(&self.next.token, Token::Name(name) if EDITS.contains(&name.as_str()))
            && !(self.ends_with_line && self.next.on_new_line)
    }

    /// The edits of what was read.
    pub(super) fn edit(&mut self, subject: Expr) -> Parsed<Expr> {
        let sets = self.at_word("set");
        let (word, start) = (if sets { "set" } else { "remove" }, subject.span.start);
        if !matches!(subject.kind, ExprKind::Path(_) | ExprKind::Call(_) | ExprKind::Group(_)) {
            let words = &self.lexer.source()[subject.span.start..subject.span.end];
            let message =
                format!("`{word}` changes a path, a name, a call or what stands in parentheses");
            let advice = instead(subject.span, format!("({words})"), "");
            return Err(Finding::error_at(Code::RuleSyntax, subject.span, message).advise(advice));
        }
        self.advance()?;
        let mut changes = vec![self.change(word, sets)?];
        while self.at_symbol(",") && self.lexer.next_begins_segment() {
            self.advance()?;
            changes.push(self.change(word, sets)?);
        }
        let kind = ExprKind::Edit(Box::new(Edit { subject, changes }));
        Ok(Expr { kind, span: self.span_from(start) })
    }

    fn change(&mut self, word: &str, sets: bool) -> Parsed<Change> {
        let start = self.next.span.start;
        self.edits.push(start);
        if !matches!(self.next.token, Token::Symbol("." | ".." | "[")) {
            let finding = self.unexpected(&format!(
                "a path is missing between `{word}` and {}",
                self.next_words()
            ));
            return Err(match &self.next.token {
                Token::Name(name) => {
                    finding.advise(instead(self.next.span, format!(".{name}"), ""))
                }
                _ => finding.advise(format!("write {word} .name …")),
            });
        }
        let mut path = Vec::new();
        // The path may stand on a new line of a header.
        let ends_with_line = std::mem::replace(&mut self.ends_with_line, false);
        let parsed = self.segments(&mut path);
        self.ends_with_line = ends_with_line;
        parsed?;
        let span = self.span_from(start);
        let value = match (sets, self.at_symbol("=")) {
            (true, true) => {
                self.advance()?;
                Some(self.whole()?)
            }
            (true, false) => {
                let finding = self.unexpected("`=` is missing behind the path that is set");
                let is_comparison = self.at_symbol("==");
                let advice = || instead(self.next.span, "=", "");
                return Err(finding.advise_opt(is_comparison.then(advice)));
            }
            (false, true) => {
                return Err(self
                    .unexpected("`=` stands behind a path that is removed")
                    .advise("write set to give it another value"));
            }
            (false, false) => None,
        };
        Ok(Change { path, span, value })
    }

    /// Refuses an edit among commas that are not its own.
    pub(super) fn refuse_edit(&self, value: &Expr, among: &str) -> Parsed<()> {
        if !matches!(value.kind, ExprKind::Edit(_)) {
            return Ok(());
        }
        let words = &self.lexer.source()[value.span.start..value.span.end];
        let message = format!(
            "an edited value {among} needs parentheses, for its edits have commas of their own"
        );
        let advice: Advice<Span> = instead(value.span, format!("({words})"), "");
        Err(Finding::error_at(Code::RuleSyntax, value.span, message).advise(advice))
    }
}
