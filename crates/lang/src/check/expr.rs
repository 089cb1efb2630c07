//! Lowering of expressions, and what is known of their values.

use kyanite_tree::Code;

use super::Checker;
use crate::finding::{Finding, Span, instead};
use crate::plan::{Case, Entry, Expr, Item, Kind, Piece, Shape, Start};
use crate::syntax::ast::{self, Binary, ExprKind, Literal, Unary};
use crate::types::Type;

impl Checker<'_> {
    /// An expression where nodes of a path stay nodes: the body of a rule.
    pub(super) fn either(&mut self, expr: &ast::Expr) -> Expr {
        match &expr.kind {
            ExprKind::Path(path) => self.path(path, expr.span),
            ExprKind::Loop(_) => self.clauses(expr),
            _ => self.value(expr),
        }
    }

    /// An expression that is one value or nothing; the nodes of a path become one list.
    pub(super) fn value(&mut self, expr: &ast::Expr) -> Expr {
        let lowered = self.lower(expr);
        match lowered.shape() {
            Shape::One => lowered,
            Shape::Many => Expr { span: lowered.span, kind: Kind::Collected(Box::new(lowered)) },
        }
    }

    /// An operand: one value or nothing. Nodes of a path are refused here.
    pub(super) fn operand(&mut self, expr: &ast::Expr, operator: &str) -> Expr {
        let lowered = self.lower(expr);
        if lowered.shape() == Shape::One {
            return lowered;
        }
        let path = self.rule.slice(expr.span);
        let finding = Finding::error_at(
            Code::RuleShape,
            expr.span,
            format!("`{path}` may select many values; `{operator}` takes one"),
        );
        self.broken(match operator {
            "==" | "!=" | "<" | "<=" | ">" | ">=" => finding.advise(format!(
                "to ask whether any does, filter inside the path: exists({})",
                filter_form(&path, operator)
            )),
            _ => finding
                .advise(format!("write ({path})[0] for the first, or sum({path}), min({path}) …")),
        })
    }

    fn boxed_operand(&mut self, expr: &ast::Expr, operator: &str) -> Box<Expr> {
        Box::new(self.operand(expr, operator))
    }

    fn lower(&mut self, expr: &ast::Expr) -> Expr {
        let span = expr.span;
        let kind = match &expr.kind {
            ExprKind::Literal(literal) => Kind::Constant(literal.clone()),
            ExprKind::Template(pieces) => Kind::Template(self.pieces(pieces)),
            ExprKind::List(items) => Kind::List(
                items
                    .iter()
                    .map(|item| Item { spread: item.spread, value: self.value(&item.value) })
                    .collect(),
            ),
            ExprKind::Map(entries) => {
                Kind::Map(entries.iter().map(|entry| self.entry(entry)).collect())
            }
            ExprKind::Path(path) => return self.path(path, span),
            ExprKind::Group(inner) => return self.value(inner),
            ExprKind::Call(call) => return self.call(call, span),
            ExprKind::Unary(Unary::Not, inner) => Kind::Not(Box::new(self.condition(inner))),
            ExprKind::Unary(Unary::Negate, inner) => {
                let operand = self.boxed_operand(inner, "-");
                self.must_be(&operand, Type::Number, "-");
                Kind::Negate(operand)
            }
            ExprKind::Binary(operator, left, right) => self.binary(*operator, left, right),
            ExprKind::If(conditional) => Kind::If(
                Box::new(self.condition(&conditional.condition)),
                Box::new(self.value(&conditional.then)),
                conditional.otherwise.as_ref().map(|otherwise| Box::new(self.value(otherwise))),
            ),
            ExprKind::Case(case) => Kind::Case(Box::new(self.case(case))),
            ExprKind::Loop(_) => return self.clauses(expr),
            ExprKind::Edit(edit) => self.edit(edit),
        };
        Expr { kind, span }
    }

    fn pieces(&mut self, pieces: &[ast::Piece]) -> Vec<Piece> {
        let mut lowered = Vec::with_capacity(pieces.len());
        for piece in pieces {
            lowered.push(match piece {
                ast::Piece::Text(text) => Piece::Text(text.clone()),
                ast::Piece::Value(value) => {
                    let value = self.operand(value, "f-text");
                    let known = self.type_of(&value);
                    if matches!(known, Type::Null | Type::List | Type::Map) {
                        let finding = Finding::error_at(
                            Code::RuleType,
                            value.span,
                            "lists, maps and null have no text",
                        )
                        .advise("use join(…) or encode(\"json\", …)");
                        self.find(finding);
                    }
                    Piece::Value(value)
                }
            });
        }
        lowered
    }

    fn entry(&mut self, entry: &ast::Entry) -> Entry {
        match entry {
            ast::Entry::Named { name, value, .. } => Entry::Named(name.clone(), self.value(value)),
            ast::Entry::Computed { name, value } => {
                let name = self.operand(name, "a computed name");
                self.must_be(&name, Type::Text, "a computed name");
                Entry::Computed(name, self.value(value))
            }
            ast::Entry::Spread(value) => Entry::Spread(self.value(value)),
        }
    }

    fn case(&mut self, case: &ast::Case) -> Case {
        let subject = case.subject.as_ref().map(|subject| self.operand(subject, "case"));
        self.unreachable(case);
        let branches = case
            .branches
            .iter()
            .map(|(waits, value)| {
                let waits = waits
                    .iter()
                    .map(|wait| match subject {
                        Some(_) => self.operand(wait, "when"),
                        None => self.condition(wait),
                    })
                    .collect();
                (waits, self.value(value))
            })
            .collect();
        let otherwise = case.otherwise.as_ref().map(|otherwise| self.value(otherwise));
        Case { subject, branches, otherwise }
    }

    /// Warns of values that an earlier branch of a `case` waits for already.
    fn unreachable(&mut self, case: &ast::Case) {
        let mut seen: Vec<(&Literal, Span)> = Vec::new();
        for wait in case.branches.iter().flat_map(|(waits, _)| waits) {
            let ExprKind::Literal(literal) = &wait.kind else { continue };
            if let Some((_, first)) = seen.iter().find(|(known, _)| *known == literal) {
                let message = "this is never reached: an earlier branch waits for the same";
                let finding = Finding::warning_at(Code::RuleSuspect, wait.span, message).at(*first);
                self.find(finding);
            } else if case.subject.is_some() {
                seen.push((literal, wait.span));
            }
        }
    }

    fn binary(&mut self, operator: Binary, left: &ast::Expr, right: &ast::Expr) -> Kind {
        let symbol = operator.symbol();
        let (left, right) = match operator {
            Binary::And | Binary::Or => (self.condition(left), self.condition(right)),
            Binary::Coalesce => (self.or_else(left, right), self.operand(right, symbol)),
            _ => (self.operand(left, symbol), self.operand(right, symbol)),
        };
        match operator {
            Binary::Coalesce => self.may_be_absent(&left.kind),
            Binary::Add
            | Binary::Subtract
            | Binary::Multiply
            | Binary::Divide
            | Binary::Remainder => {
                for operand in [&left, &right] {
                    self.must_be(operand, Type::Number, symbol);
                }
            }
            Binary::Equal | Binary::NotEqual => self.null_hint(operator, &left, &right),
            _ => {}
        }
        Kind::Binary(operator, Box::new(left), Box::new(right))
    }

    /// The left side of `??`. Nodes of a path are no value that could be absent; what stands in for them where there are none
    /// is a choice.
    fn or_else(&mut self, left: &ast::Expr, right: &ast::Expr) -> Expr {
        let lowered = self.lower(left);
        if lowered.shape() == Shape::One {
            return lowered;
        }
        let (path, otherwise) = (self.words(left.span), self.words(right.span));
        let message = format!("`{path}` may select many values; `??` takes one");
        let text = format!("(if exists({path}) then ({path}) else {otherwise})");
        let advice = instead(left.span.to(right.span), text, " for the list of them");
        self.broken(Finding::error_at(Code::RuleShape, left.span, message).advise(advice))
    }

    /// `x.y != null` is true for an absent y, which is seldom what is meant.
    fn null_hint(&mut self, operator: Binary, left: &Expr, right: &Expr) {
        let (Kind::One(path), Kind::Constant(Literal::Null)) = (&left.kind, &right.kind) else {
            return;
        };
        if operator == Binary::NotEqual && !path.steps.is_empty() {
            let text = self.rule.slice(left.span);
            self.find(
                Finding::warning_at(
                    Code::RuleSuspect,
                    left.span.to(right.span),
                    format!("this is true where `{text}` is absent"),
                )
                .advise(instead(
                    left.span.to(right.span),
                    format!("present({text})"),
                    " for neither absent nor null",
                )),
            );
        }
    }

    /// Refuses a value that is known to be of another type than `wanted`.
    pub(super) fn must_be(&mut self, expr: &Expr, wanted: Type, operator: &str) {
        let known = self.type_of(expr);
        if known == Type::Any || known == wanted {
            return;
        }
        let finding = Finding::error_at(
            Code::RuleType,
            expr.span,
            format!("{} takes {}; this is {}", quoted(operator), wanted.words(), known.words()),
        );
        self.find(if operator == "+" && known == Type::Text {
            finding.advise("put texts together with f\"{a}{b}\"")
        } else {
            finding
        });
    }

    /// What is known of the values of an expression.
    pub(super) fn type_of(&self, expr: &Expr) -> Type {
        match &expr.kind {
            Kind::Constant(Literal::Null) => Type::Null,
            Kind::Constant(Literal::Boolean(_))
            | Kind::Not(_)
            | Kind::Exists(_)
            | Kind::Binary(
                Binary::And
                | Binary::Or
                | Binary::Equal
                | Binary::NotEqual
                | Binary::Less
                | Binary::LessOrEqual
                | Binary::Greater
                | Binary::GreaterOrEqual,
                ..,
            ) => Type::Boolean,
            Kind::Binary(Binary::Coalesce, left, right) => {
                both(self.type_of(left), self.type_of(right))
            }
            Kind::Constant(Literal::Number(_))
            | Kind::Negate(_)
            | Kind::Binary(..)
            | Kind::Count(_) => Type::Number,
            Kind::Constant(Literal::Text(_)) | Kind::Template(_) => Type::Text,
            Kind::List(_) | Kind::Loop(_) | Kind::Collected(_) | Kind::Many(_) => Type::List,
            Kind::Map(_) => Type::Map,
            Kind::If(_, then, Some(otherwise)) => both(self.type_of(then), self.type_of(otherwise)),
            Kind::Lets(_, result) => self.type_of(result),
            Kind::Edit(edit) => self.type_of(&edit.subject),
            Kind::Recover(tried, otherwise) => both(self.type_of(tried), self.type_of(otherwise)),
            Kind::Call(signature, _) => signature.result,
            Kind::CallDef(def, _) => self.defs[*def].result,
            Kind::One(path) if path.steps.is_empty() => self.type_of_start(&path.start),
            Kind::One(_)
            | Kind::If(..)
            | Kind::Case(_)
            | Kind::ValueOf(_)
            | Kind::DocumentUri
            | Kind::Folded
            | Kind::GroupFolded(..)
            | Kind::XPath(_)
            | Kind::Broken => Type::Any,
        }
    }

    fn type_of_start(&self, start: &Start) -> Type {
        match start {
            Start::Value(value) => self.type_of(value),
            Start::Local(_) | Start::Global(_) | Start::Root | Start::Current => {
                self.scope.known(start)
            }
        }
    }

    /// The value of a let: what it is, what is known of it, and the path it stands for.
    pub(super) fn bound_value(&mut self, value: &ast::Expr) -> (Expr, Type, Option<String>) {
        let value = self.value(value);
        let known = self.type_of(&value);
        let base = match &value.kind {
            Kind::One(path) => Some(self.paths[path.id].prefix(path.steps.len())),
            _ => None,
        };
        (value, known, base)
    }

    pub(super) fn words(&self, span: Span) -> String {
        self.rule.slice(span)
    }
}

fn both(one: Type, other: Type) -> Type {
    if one == other { one } else { Type::Any }
}

/// An operator in backquotes; words as they are.
fn quoted(operator: &str) -> String {
    if operator.contains(char::is_alphabetic) {
        operator.to_owned()
    } else {
        format!("`{operator}`")
    }
}

/// How a comparison of many is written as a filter: `a.b[*].c == …` as `a.b[?@.c == …]`.
fn filter_form(path: &str, operator: &str) -> String {
    match path.rfind("[*]") {
        Some(at) => format!("{}[?@{} {operator} …]", &path[..at], &path[at + 3..]),
        None => format!("{path}[?@ {operator} …]"),
    }
}
