//! Calls of xpath(): the expression is compiled with the rule.

use kyanite_tree::Code;
use kyanite_xpath::{Expression, Namespaces, Version};

use super::Checker;
use crate::finding::{Finding, Span};
use crate::plan::{Expr, Kind, XPathCall};
use crate::syntax::ast::{self, ExprKind, Literal, Path, Start};
use crate::xpath::{RuleXPath, xpath_finding};

impl Checker<'_> {
    /// A call of xpath() with a value and the text of an expression.
    pub(super) fn xpath_call(&mut self, value: &ast::Expr, text: &ast::Expr, span: Span) -> Expr {
        let value = self.value(value);
        let ExprKind::Literal(Literal::Text(written)) = &text.kind else {
            let finding = Finding::error_at(
                Code::RuleCall,
                text.span,
                "the expression of xpath() is a text in quotes, so that it can be checked with the rule",
            );
            return self.broken(
                finding.advise("bind what changes to a name, and write $name in the expression"),
            );
        };
        let mut names: Vec<String> = self.scope.names().map(str::to_owned).collect();
        // A later name hides an earlier one.
        names.reverse();
        let mut seen = std::collections::HashSet::new();
        names.retain(|name| seen.insert(name.clone()));
        let mut namespaces = Namespaces::new();
        for (prefix, uri) in self.namespaces.all() {
            // The default namespace is that of elements that are made.
            if !prefix.is_empty() {
                namespaces.declare(prefix, uri);
            }
        }
        // Escapes aside, the text stands behind its quote.
        let is_plain = self
            .rule
            .text
            .get(text.span.start + 1..)
            .is_some_and(|t| t.starts_with(written.as_str()));
        let place = is_plain.then_some(text.span.start + 1);
        let expression = match Expression::compile(written, Version::V31, namespaces, &names) {
            Ok(expression) => expression,
            Err(error) => {
                let found = xpath_finding(&error).resolve(|inner: Span| {
                    Some(match place {
                        Some(start) => Span::new(start + inner.start, start + inner.end),
                        None => text.span,
                    })
                });
                return self.broken(found);
            }
        };
        let mut variables = Vec::new();
        for (slot, name) in names.iter().enumerate() {
            if expression.uses_variable(slot) {
                let path = Path {
                    start: Start::Name(name.clone()),
                    start_span: text.span,
                    segments: Vec::new(),
                };
                let named = ast::Expr { kind: ExprKind::Path(path), span: text.span };
                variables.push((slot, self.value(&named)));
            }
        }
        let xpath = RuleXPath { expression, span: text.span, place };
        self.xpaths.push(xpath);
        let number = self.xpaths.len() - 1;
        Expr { kind: Kind::XPath(Box::new(XPathCall { number, value, variables })), span }
    }
}
