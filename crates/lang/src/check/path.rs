//! Paths: where they start, and whether they select one node or may select many.

use kyanite_tree::Code;

use super::Checker;
use super::clauses::{Side, find_join};
use crate::finding::{Finding, Span, instead, near_advice};
use crate::plan::{
    Expr, Filter, Kind, ManyPath, Nodes, OnePath, PathInfo, Segment, Selector, Start, Step,
    StepInfo, StepKind, TestInfo,
};
use crate::syntax::ast;
use crate::types::Type;

/// A path while it is lowered: as soon as one segment may select many, all are kept as segments.
enum Lowered {
    One(Vec<Step>),
    Many(Vec<Segment>),
}

impl Checker<'_> {
    pub(super) fn path(&mut self, path: &ast::Path, span: Span) -> Expr {
        let Some((start, base)) = self.start(path) else {
            // The filters may hold more findings.
            for segment in &path.segments {
                self.selectors(segment, false);
            }
            return Expr { kind: Kind::Broken, span };
        };
        self.refuse_name_of_list(&start, path);
        let (segments, steps) = self.lower_segments(&path.segments);
        let lowered = segments.into_iter().fold(Lowered::One(Vec::new()), append);
        let id = self.paths.len();
        self.paths.push(PathInfo {
            base,
            steps,
            span,
            may_be_absent: false,
            from_any: false,
            is_of_edit: false,
        });
        let kind = match lowered {
            Lowered::One(steps) => Kind::One(OnePath { id, start, steps }),
            Lowered::Many(segments) => Kind::Many(ManyPath { id, start, segments }),
        };
        Expr { kind, span }
    }

    /// Segments, and what is told of each.
    pub(super) fn lower_segments(
        &mut self,
        path: &[ast::Segment],
    ) -> (Vec<Segment>, Vec<StepInfo>) {
        let lower = |(position, segment): (usize, &ast::Segment)| {
            let ranges = path.get(position + 1).is_some_and(ranges);
            let selectors = self.selectors(segment, ranges);
            let info = self.step_info(segment, &selectors);
            (Segment { descendant: segment.descendant, selectors }, info)
        };
        path.iter().enumerate().map(lower).unzip()
    }

    /// A name steps into maps; a name that is bound to a list has none for it: that of each item was meant.
    fn refuse_name_of_list(&mut self, start: &Start, path: &ast::Path) {
        let Some(ast::Segment { descendant: false, selectors, span, .. }) = path.segments.first()
        else {
            return;
        };
        if let [ast::Selector::Name(_)] = selectors.as_slice()
            && matches!(start, Start::Local(_) | Start::Global(_))
            && self.scope.known(start) == Type::List
        {
            let (list, step) = (self.words(path.start_span), self.words(*span));
            let finding = Finding::error_at(
                Code::RuleShape,
                path.start_span.to(*span),
                format!("`{list}` is a list, and a name steps into maps"),
            );
            let why = format!(" for that of each item, {list}[0]{step} for that of the first");
            self.find(finding.advise(instead(
                path.start_span.to(*span),
                format!("{list}[*]{step}"),
                &why,
            )));
        }
    }

    /// Notes that the rule asks whether a path selects anything.
    pub(super) fn may_be_absent(&mut self, kind: &Kind) {
        let id = match kind {
            Kind::One(path) | Kind::Exists(Nodes::One(path)) => path.id,
            Kind::Many(path) | Kind::Exists(Nodes::Many(path)) => path.id,
            _ => return,
        };
        self.paths[id].may_be_absent = true;
    }

    /// Where a path starts, and how that is called in messages.
    fn start(&mut self, path: &ast::Path) -> Option<(Start, String)> {
        match &path.start {
            ast::Start::Root => {
                self.root_uses += 1;
                Some((Start::Root, "$".into()))
            }
            ast::Start::Current if self.filters > 0 || self.edits > 0 => {
                Some((Start::Current, "@".into()))
            }
            ast::Start::Current => {
                self.find(
                    Finding::error_at(
                        Code::RuleName,
                        path.start_span,
                        "`@` stands outside a filter and an edit",
                    )
                    .advise("write $ for the document, or the name bound by for"),
                );
                None
            }
            ast::Start::Name(name) => self.name_start(name, path.start_span),
            ast::Start::Value(value) => {
                let base = self.words(value.span);
                let value = self.value(value);
                if let Some(known) = scalar(self.type_of(&value)) {
                    let finding = Finding::error_at(
                        Code::RuleType,
                        value.span,
                        format!("{known} has nothing to step into"),
                    );
                    self.find(finding);
                }
                Some((Start::Value(Box::new(value)), base))
            }
        }
    }

    fn name_start(&mut self, name: &str, span: Span) -> Option<(Start, String)> {
        if let Some((start, bound)) = self.scope.find(name) {
            let base = bound.base.clone().unwrap_or_else(|| name.to_owned());
            if let Start::Global(slot) = start {
                self.used.insert(slot);
            }
            return Some((start, base));
        }
        let finding = Finding::error_at(
            Code::RuleName,
            span,
            format!("nothing is bound to the name `{name}`"),
        );
        let near = near_advice(span, name, self.scope.names());
        let (sign, what) = match self.filters {
            0 => ("$", "the document"),
            _ => ("@", "the node being tested"),
        };
        let why = format!(" for a member of {what}, '{name}' for a text");
        let member = || instead(span, format!("{sign}.{name}"), &why);
        self.find(finding.advise(near.unwrap_or_else(member)));
        None
    }

    fn selectors(&mut self, segment: &ast::Segment, ranges: bool) -> Vec<Selector> {
        let span = segment.span;
        let step = |kind| Selector::Step(Step { kind, span, ranges });
        segment
            .selectors
            .iter()
            .map(|selector| match selector {
                ast::Selector::Name(name) => step(self.name_step(name)),
                ast::Selector::Index(index) => step(StepKind::Index(*index)),
                ast::Selector::Token(token) => step(StepKind::Token(token.clone())),
                ast::Selector::Wildcard => Selector::Wildcard,
                ast::Selector::Slice { start, end, step } => {
                    Selector::Slice { start: *start, end: *end, step: *step }
                }
                ast::Selector::Filter(condition) => {
                    Selector::Filter(self.filter(condition, segment.descendant))
                }
                ast::Selector::Computed(computed) => {
                    let computed = self.operand(computed, "a computed step");
                    let known = self.type_of(&computed);
                    if !matches!(known, Type::Any | Type::Text | Type::Number) {
                        let message =
                            "a computed step is a text for a map, a whole number for a list";
                        self.find(Finding::error_at(Code::RuleType, computed.span, message));
                    }
                    step(StepKind::Computed(computed))
                }
            })
            .collect()
    }

    /// A step by name; one with a prefix that the header declares goes by the namespace.
    fn name_step(&self, name: &str) -> StepKind {
        let (is_attribute, bare) = match name.strip_prefix('@') {
            Some(bare) => (true, bare),
            None => (false, name),
        };
        let declared = bare
            .split_once(':')
            .and_then(|(prefix, local)| Some((local, self.namespaces.find(prefix)?)));
        match declared {
            Some((local, namespace)) => StepKind::Qualified {
                name: name.to_owned(),
                is_attribute,
                local: local.to_owned(),
                namespace: namespace.to_owned(),
            },
            None => StepKind::Name(name.to_owned()),
        }
    }

    fn filter(&mut self, condition: &ast::Expr, descendant: bool) -> Filter {
        let (test, first) = (self.tests.len(), self.paths.len());
        self.tests.push(TestInfo { span: condition.span, is_where: false });
        self.filters += 1;
        let condition = self.condition(condition);
        self.filters -= 1;
        for path in &mut self.paths[first..] {
            path.from_any |= descendant && path.base == "@";
        }
        let join = find_join(&condition, |start| match start {
            Start::Current => Side::Inner,
            Start::Root | Start::Global(_) | Start::Value(_) => Side::Both,
            Start::Local(_) => Side::Outer,
        });
        Filter { test, condition, join }
    }

    fn step_info(&self, segment: &ast::Segment, selectors: &[Selector]) -> StepInfo {
        let name = match segment.selectors.as_slice() {
            [ast::Selector::Name(name)] => Some(name.clone()),
            _ => None,
        };
        let namespace = match selectors {
            [Selector::Step(Step { kind: StepKind::Qualified { namespace, .. }, .. })] => {
                Some(namespace.clone())
            }
            _ => None,
        };
        let test = match selectors {
            [Selector::Filter(filter)] => Some(filter.test),
            _ => None,
        };
        let is_single = !segment.descendant && matches!(selectors, [Selector::Step(_)]);
        StepInfo {
            text: self.words(segment.span),
            span: segment.span,
            name,
            namespace,
            descendant: segment.descendant,
            test,
            is_single,
        }
    }
}

/// Whether a segment, behind a name, ranges over all child elements of that name.
fn ranges(segment: &ast::Segment) -> bool {
    segment.in_brackets
        && !segment.selectors.iter().any(|selector| matches!(selector, ast::Selector::Name(_)))
}

/// A type that has neither members nor items, in words.
fn scalar(known: Type) -> Option<&'static str> {
    matches!(known, Type::Null | Type::Boolean | Type::Number | Type::Text).then(|| known.words())
}

fn append(lowered: Lowered, mut segment: Segment) -> Lowered {
    let single = !segment.descendant && matches!(segment.selectors.as_slice(), [Selector::Step(_)]);
    match lowered {
        Lowered::One(mut steps) if single => {
            if let Some(Selector::Step(step)) = segment.selectors.pop() {
                steps.push(step);
            }
            Lowered::One(steps)
        }
        Lowered::One(steps) => {
            let mut segments: Vec<Segment> = steps
                .into_iter()
                .map(|step| Segment { descendant: false, selectors: vec![Selector::Step(step)] })
                .collect();
            segments.push(segment);
            Lowered::Many(segments)
        }
        Lowered::Many(mut segments) => {
            segments.push(segment);
            Lowered::Many(segments)
        }
    }
}
