//! Plans that are one XPath: what is known of it before it runs.

use kyanite_formats::xml::StepName;
use kyanite_tree::{Advice, Code, Locus};
use kyanite_xpath::{Error, ErrorCode, Expression, Namespaces, RecordStep, Streamed, Version};

use crate::finding::{Finding, RuleText, Span};
use crate::plan::{Expr, Kind, Param, Plan};
use crate::run::Failure;
use crate::syntax::ast::{Literal, ParamType};

/// Parses an XPath whose variables are params of these names.
///
/// # Errors
/// The text back, with what is wrong.
pub fn compile_xpath(
    rule: RuleText,
    version: Version,
    namespaces: Namespaces,
    variables: &[String],
) -> Result<Plan, (RuleText, Vec<Finding>)> {
    let expression = match Expression::compile(&rule.text, version, namespaces, variables) {
        Ok(expression) => expression,
        Err(error) => return Err((rule, vec![xpath_finding(&error)])),
    };
    let whole = Span::new(0, rule.text.len());
    let param = |(slot, name): (usize, &String)| Param {
        name: name.clone(),
        of: ParamType::Text,
        optional: true,
        default: None,
        slot,
        span: whole,
    };
    let used = variables.iter().enumerate().filter(|(slot, _)| expression.uses_variable(*slot));
    let params = used.map(param).collect();
    let body = Expr { kind: Kind::Constant(Literal::Null), span: whole };
    let root_uses = usize::from(expression.uses_context());
    let plan = Plan { params, root_uses, ..Plan::of(rule, body) };
    let xpaths = vec![RuleXPath { expression, span: whole, place: Some(0) }];
    Ok(Plan { xpaths, is_xpath: true, ..plan })
}

/// What is wrong with an XPath, as a finding.
#[must_use]
pub fn xpath_finding(error: &Error) -> Finding {
    let code = match error.code() {
        ErrorCode::Syntax => Code::RuleSyntax,
        ErrorCode::Variable | ErrorCode::Prefix => Code::RuleName,
        ErrorCode::Function => Code::RuleCall,
        ErrorCode::Type | ErrorCode::NoContext => Code::RuleType,
        ErrorCode::Other(_) => Code::CallFailed,
    };
    let message = format!("{} ({})", error.message(), error.code_word());
    Finding::error_at(code, error.span(), message).advise_opt(error.advice().cloned())
}

/// An XPath in a rule, and where it stands.
#[derive(Debug)]
pub(crate) struct RuleXPath {
    pub(crate) expression: Expression,
    pub(crate) span: Span,
    /// Where its text begins, unless escapes in it keep its places from being told.
    pub(crate) place: Option<usize>,
}

impl RuleXPath {
    /// A finding about the expression, as one about the rule.
    pub(crate) fn placed(&self, found: Finding) -> Finding {
        found.resolve(|inner| {
            Some(match self.place {
                Some(start) => Span::new(start + inner.start, start + inner.end),
                None => self.span,
            })
        })
    }

    /// The failure of the expression on the data.
    pub(crate) fn failure(&self, error: &Error) -> Failure {
        let place = self.place.map_or(self.span, |start| {
            Span::new(start + error.span().start, start + error.span().end)
        });
        let found = xpath_finding(error);
        Failure::error_at(found.code(), Locus::Rule(place), found.message().to_owned())
            .read_at(error.origin())
            .advise_opt(found.advice().cloned().map(Advice::elsewhere))
    }
}

/// The failure of an XPath on the data.
#[must_use]
pub fn xpath_failure(error: &Error) -> Failure {
    let found = xpath_finding(error);
    Failure::error_at(found.code(), Locus::Rule(error.span()), found.message().to_owned())
        .read_at(error.origin())
        .advise_opt(found.advice().cloned().map(Advice::elsewhere))
}

impl Plan {
    /// The same XPath for one element after another of a document whose root declares these namespaces, if it does not need the
    /// document; and whether only the number of what it gives is wanted.
    #[must_use]
    pub fn streamed(
        &self,
        root: &[(String, String)],
        variables: &[String],
    ) -> Option<(Self, bool)> {
        let Streamed { path, expression, is_counted } = self.xpath()?.streamed(root, variables)?;
        let body = Expr { kind: Kind::Constant(Literal::Null), span: self.body.span };
        let step = |step: RecordStep| StepName {
            at_any_depth: step.at_any_depth,
            ..StepName::new(&step.local, step.namespace.as_deref())
        };
        let param = |param: &Param| Param { name: param.name.clone(), default: None, ..*param };
        let plan = Self {
            params: self.params.iter().map(param).collect(),
            globals: self.params.iter().map(|param| param.slot + 1).max().unwrap_or(0),
            root_uses: self.root_uses,
            xpaths: vec![RuleXPath { expression, span: self.body.span, place: Some(0) }],
            is_xpath: true,
            xpath_records: Some(path.into_iter().map(step).collect()),
            ..Self::of(self.rule.clone(), body)
        };
        Some((plan, is_counted))
    }

    /// The XPath that the plan is, if it is one.
    #[must_use]
    pub fn xpath(&self) -> Option<&Expression> {
        self.xpaths.first().filter(|_| self.is_xpath).map(|xpath| &xpath.expression)
    }
}
