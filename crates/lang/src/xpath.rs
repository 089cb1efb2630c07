//! Plans that are one XPath: what is known of it before it runs.

use kyanite_tree::{Advice, Code, Locus};
use kyanite_xpath::{Error, ErrorCode, Expression};

use crate::finding::{Finding, Span};
use crate::rule_error::RuleError;

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
    pub(crate) fn rule_error(&self, error: &Error) -> RuleError {
        let place = self.place.map_or(self.span, |start| {
            Span::new(start + error.span().start, start + error.span().end)
        });
        let found = xpath_finding(error);
        RuleError::error_at(found.code(), Locus::Rule(place), found.message().to_owned())
            .read_at(error.origin())
            .advise_opt(found.advice().cloned().map(Advice::elsewhere))
    }
}

/// The failure of an XPath on the data.
#[must_use]
pub fn xpath_failure(error: &Error) -> RuleError {
    let found = xpath_finding(error);
    RuleError::error_at(found.code(), Locus::Rule(error.span()), found.message().to_owned())
        .read_at(error.origin())
        .advise_opt(found.advice().cloned().map(Advice::elsewhere))
}
