//! Paths: steps, axes and node tests (XPath 3.1 section 3.3).

use kyanite_tree::{NodeKind, Span, near_words};

use super::ast::{Axis, AxisStep, Expr, ExprKind, Name, NodeTest, Path, Position, Start, Step};
use super::lexer::Token;
use super::parser::{Parse, Parser, StepInfo};
use crate::Version;
use crate::error::{Error, ErrorCode};

/// Words that before a parenthesis are node tests, and no functions.
pub(super) const KIND_TESTS: [&str; 10] = [
    "node",
    "text",
    "comment",
    "processing-instruction",
    "element",
    "attribute",
    "document-node",
    "namespace-node",
    "schema-element",
    "schema-attribute",
];

impl Parser<'_> {
    /// A path, or an expression without steps.
    pub(super) fn path(&mut self) -> Parse<Expr> {
        let start = self.span();
        let mut steps = Vec::new();
        let mut from = Start::Context;
        if self.take("/") {
            from = Start::Root;
            if !self.begins_step() {
                return Ok(self.made(start, ExprKind::Path(Path { start: from, steps })));
            }
            steps.push(self.later_step()?);
        } else if self.is_sign("//") {
            from = Start::Root;
            self.descend(&mut steps)?;
        } else {
            steps.push(self.step()?);
        }
        loop {
            if self.take("/") {
                steps.push(self.later_step()?);
            } else if self.is_sign("//") {
                self.descend(&mut steps)?;
            } else {
                break;
            }
        }
        if from == Start::Context && steps.len() == 1 && matches!(steps[0], Step::Expr(_)) {
            let Some(Step::Expr(only)) = steps.pop() else { return Err(self.expected("a step")) };
            return Ok(only);
        }
        for step in &steps {
            match step {
                Step::Axis(step) => self.steps[step.number].path = start,
                Step::Expr(_) => {}
            }
        }
        Ok(self.made(start, ExprKind::Path(Path { start: from, steps })))
    }

    /// `//` and the step behind it. Where nothing counts places, both are one step.
    fn descend(&mut self, steps: &mut Vec<Step>) -> Parse<()> {
        let span = self.span();
        self.projected("//")?;
        let number = self.step_number(Axis::DescendantOrSelf, NodeTest::Any, span);
        let next = self.later_step()?;
        let is_free = |step: &AxisStep| {
            step.axis == Axis::Child && step.predicates.iter().all(|p| p.position == Position::Free)
        };
        match next {
            Step::Axis(step) if is_free(&step) => {
                let span = span.to(step.span);
                self.steps[step.number].axis = Axis::Descendant;
                self.steps[step.number].span = span;
                steps.push(Step::Axis(AxisStep { axis: Axis::Descendant, span, ..step }));
            }
            next => {
                steps.push(Step::Axis(self.any_depth(number, span)));
                steps.push(next);
            }
        }
        Ok(())
    }

    /// `descendant-or-self::node()`
    fn any_depth(&self, number: usize, span: Span) -> AxisStep {
        AxisStep {
            axis: Axis::DescendantOrSelf,
            test: NodeTest::Any,
            predicates: Vec::new(),
            span,
            number,
        }
    }

    /// Numbers a step, and keeps what is told of it.
    fn step_number(&mut self, axis: Axis, test: NodeTest, span: Span) -> usize {
        let may_be_absent = self.asks > 0;
        self.steps.push(StepInfo { span, path: span, axis, test, may_be_absent });
        self.steps.len() - 1
    }

    /// Whether what stands here can begin a step.
    fn begins_step(&self) -> bool {
        match self.peek() {
            Token::Sign(sign) => {
                matches!(*sign, "." | ".." | "@" | "*" | "(" | "$" | "?" | "[")
            }
            Token::End => false,
            _ => true,
        }
    }

    /// A step behind a slash, which in XPath 1.0 is one on an axis.
    fn later_step(&mut self) -> Parse<Step> {
        let start = self.span();
        let step = self.step()?;
        if let (Version::V1, Step::Expr(expr)) = (self.version, &step)
            && !matches!(expr.kind, ExprKind::ContextItem)
        {
            self.newer("an expression as a step", self.since(start))?;
        }
        Ok(step)
    }

    fn step(&mut self) -> Parse<Step> {
        let is_call = matches!(self.peek_at(1), Token::Sign("("));
        let is_axis_step = match self.peek() {
            Token::Sign(sign) => matches!(*sign, ".." | "@" | "*"),
            Token::StarLocal(_) | Token::PrefixStar(_) => true,
            Token::Braced(..) | Token::Prefixed(..) => {
                !is_call && !matches!(self.peek_at(1), Token::Sign("#"))
            }
            Token::Name(name) => match self.peek_at(1) {
                Token::Sign("::") => true,
                Token::Sign("(") => KIND_TESTS.contains(&name.as_str()),
                Token::Sign("#") => false,
                Token::Sign("{") => !matches!(name.as_str(), "map" | "array"),
                _ => true,
            },
            _ => false,
        };
        if is_axis_step { self.axis_step().map(Step::Axis) } else { self.postfix().map(Step::Expr) }
    }

    fn axis_step(&mut self) -> Parse<AxisStep> {
        let start = self.span();
        let (axis, test) = if self.take("..") {
            (Axis::Parent, NodeTest::Any)
        } else if self.take("@") {
            (Axis::Attribute, self.node_test()?)
        } else if let (Token::Name(name), Token::Sign("::")) =
            (self.peek().clone(), self.peek_at(1))
        {
            let Some(axis) = Axis::named(&name) else {
                let message = format!("`{name}` is no axis");
                let words = Axis::ALL.map(|(word, _)| word);
                let advice = near_words(&name, words)
                    .unwrap_or_else(|| format!("the axes: {}", words.join(", ")));
                return Err(Error::new(ErrorCode::Syntax, start, message).advise(advice));
            };
            self.advance();
            self.advance();
            (axis, self.node_test()?)
        } else {
            let test = self.node_test()?;
            let axis = match test {
                NodeTest::Kind(NodeKind::Attribute, _) => Axis::Attribute,
                NodeTest::Kind(NodeKind::Namespace, _) => Axis::Namespace,
                _ => Axis::Child,
            };
            (axis, test)
        };
        let span = self.since(start);
        let number = self.step_number(axis, test.clone(), span);
        let predicates = self.predicates()?;
        Ok(AxisStep { axis, test, predicates, span, number })
    }

    pub(super) fn node_test(&mut self) -> Parse<NodeTest> {
        if let (Token::Name(name), Token::Sign("(")) = (self.peek(), self.peek_at(1))
            && KIND_TESTS.contains(&name.as_str())
        {
            return self.kind_test();
        }
        self.name_test().map(NodeTest::Name)
    }

    pub(super) fn name_test(&mut self) -> Parse<Name> {
        let span = self.span();
        let name = match self.peek().clone() {
            Token::Sign("*") => Name::Any,
            Token::Name(local) => Name::Plain(local),
            Token::Prefixed(prefix, local) => Name::Prefixed(prefix, local),
            Token::PrefixStar(prefix) => Name::Prefix(prefix),
            Token::StarLocal(local) => {
                self.newer("`*:name`", span)?;
                Name::Local(local)
            }
            Token::Braced(uri, local) => {
                self.newer("`Q{…}`", span)?;
                if local == "*" { Name::Namespace(uri) } else { Name::Expanded(uri, local) }
            }
            _ => return Err(self.expected("a name, `*` or a node test")),
        };
        self.advance();
        Ok(name)
    }

    /// `text()`, `element(a)`, …
    pub(super) fn kind_test(&mut self) -> Parse<NodeTest> {
        let start = self.span();
        let Token::Name(word) = self.advance() else { return Err(self.expected("a node test")) };
        self.projected("(")?;
        let test = match word.as_str() {
            "node" => NodeTest::Any,
            "text" => NodeTest::Kind(NodeKind::Text, None),
            "comment" => NodeTest::Kind(NodeKind::Comment, None),
            "processing-instruction" => {
                let target = match self.peek().clone() {
                    Token::Text(text) => Some(text.trim().to_owned()),
                    Token::Name(name) => {
                        self.newer("a name without quotes here", self.span())?;
                        Some(name)
                    }
                    _ => None,
                };
                if target.is_some() {
                    self.advance();
                }
                NodeTest::Kind(NodeKind::Instruction, target.map(Name::Plain))
            }
            _ => {
                self.newer(&format!("`{word}()`"), start)?;
                self.newer_kind_test(&word, start)?
            }
        };
        self.projected(")")?;
        Ok(test)
    }

    fn newer_kind_test(&mut self, word: &str, start: Span) -> Parse<NodeTest> {
        Ok(match word {
            "element" => NodeTest::Kind(NodeKind::Element, self.optional_name()?),
            "attribute" => NodeTest::Kind(NodeKind::Attribute, self.optional_name()?),
            "namespace-node" => NodeTest::Kind(NodeKind::Namespace, None),
            "document-node" => {
                if self.is_sign(")") {
                    NodeTest::Kind(NodeKind::Document, None)
                } else if self.is_word("element") {
                    match self.kind_test()? {
                        NodeTest::Kind(NodeKind::Element, name) => NodeTest::DocumentOf(name),
                        _ => return Err(self.expected("`element(…)`")),
                    }
                } else {
                    return Err(self.expected("`element(…)` or `)`"));
                }
            }
            _ => {
                let message = format!("`{word}()` needs a schema, and none is read here");
                return Err(Error::new(ErrorCode::Other("XPST0008"), self.since(start), message));
            }
        })
    }

    fn optional_name(&mut self) -> Parse<Option<Name>> {
        if self.is_sign(")") {
            return Ok(None);
        }
        let name = self.name_test()?;
        if self.is_sign(",") {
            let message = "a type behind the name needs a schema, and none is read here";
            return Err(Error::new(ErrorCode::Other("XPST0008"), self.span(), message));
        }
        Ok((name != Name::Any).then_some(name))
    }
}
