//! Plans that are one XPath: what is known of it before it runs.

use kyanite_formats::xml::StepName;
use kyanite_xpath::{Expression, Namespaces, Streamed, Version};

use super::{Expr, Kind, Param, Plan};
use crate::finding::{Finding, RuleText, Span};
use crate::syntax::ast::{Literal, ParamType};
use crate::xpath::{RuleXPath, xpath_finding};

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
        let param = |param: &Param| Param { name: param.name.clone(), default: None, ..*param };
        let plan = Self {
            params: self.params.iter().map(param).collect(),
            globals: self.params.iter().map(|param| param.slot + 1).max().unwrap_or(0),
            root_uses: self.root_uses,
            xpaths: vec![RuleXPath { expression, span: self.body.span, place: Some(0) }],
            is_xpath: true,
            xpath_records: Some(path.into_iter().map(StepName::from).collect()),
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
