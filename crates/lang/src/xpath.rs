//! Plans that are one XPath: what is known of it before it runs.

use kyanite_tree::Code;
use kyanite_xpath::{Error, ErrorCode, Expression, Namespaces, Version};

use crate::finding::{Finding, RuleText, Span};
use crate::plan::{Expr, Kind, Param, Plan};
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
    Ok(Plan { xpath: Some(expression), ..plan })
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

impl Plan {
    /// The XPath that the plan is, if it is one.
    #[must_use]
    pub fn xpath(&self) -> Option<&Expression> {
        self.xpath.as_ref()
    }
}
