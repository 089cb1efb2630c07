//! The report at the end of a run: steps that led nowhere, what stood there instead, and what to write.

use std::collections::{BTreeSet, HashMap};

use kyanite_tree::{Advice, Code, Diagnostic, Setting, Severity, Span, counted};

use super::{Coverage, StepCoverage};
use crate::Expression;
use crate::syntax::StepInfo;
use crate::syntax::ast::{Axis, Name, NodeTest};

impl Expression {
    /// The path up to a step, as it is written: in a predicate that of what the predicate is for.
    fn before(&self, info: &StepInfo) -> &str {
        let before = self.text[info.path.start..info.span.start].trim_end().trim_end_matches('/');
        if !before.is_empty() {
            return before;
        }
        if self.text[info.path.start..].starts_with('/') {
            return "/";
        }
        let around = self.parsed.predicates.iter().filter(|span| span.contains(info.span));
        let owner = around.max_by_key(|span| span.start).and_then(|predicate| {
            let steps = self.parsed.steps.iter().filter(|step| step.span.end <= predicate.start);
            let owner = steps.max_by_key(|step| step.span.end)?;
            Some(&self.text[owner.path.start..predicate.start])
        });
        owner.unwrap_or(".")
    }
}

impl StepInfo {
    /// The local name that is asked for.
    pub(super) fn local(&self) -> Option<&str> {
        match &self.test {
            NodeTest::Name(
                Name::Plain(local)
                | Name::Prefixed(_, local)
                | Name::Local(local)
                | Name::Expanded(_, local),
            )
            | NodeTest::Kind(_, Some(Name::Plain(local) | Name::Prefixed(_, local))) => Some(local),
            _ => None,
        }
    }
}

/// `there are: a, b, …`
pub(super) fn some(names: &HashMap<String, u64>) -> Option<String> {
    if names.is_empty() {
        return Some("what is there is empty".into());
    }
    let mut names: Vec<(&String, &u64)> = names.iter().collect();
    names.sort_by(|a, b| b.1.cmp(a.1).then(a.0.cmp(b.0)));
    let more = if names.len() > 8 { ", …" } else { "" };
    let names: Vec<&str> = names.into_iter().take(8).map(|(name, _)| name.as_str()).collect();
    Some(format!("there are: {}{more}", names.join(", ")))
}

impl Coverage {
    /// What is to be said at the end: steps that found nothing, predicates that never held.
    #[must_use]
    pub fn report(&self, expression: &Expression) -> Vec<Diagnostic<Span>> {
        let mut found: Vec<Diagnostic<Span>> = Vec::new();
        let mut explained: Vec<Span> = Vec::new();
        for (coverage, info) in self.steps.iter().zip(&expression.parsed.steps) {
            if !coverage.found && coverage.misses > 0 {
                let message = self.explain(coverage, info, expression);
                if message.severity() == Severity::Warning {
                    explained.push(info.span);
                }
                found.push(message);
            }
        }
        for lookup in self.lookups.iter().filter(|lookup| !lookup.found && lookup.seen > 0) {
            found.extend(lookup.report(expression));
            explained.push(lookup.span);
        }
        for ((seen, held), span) in self.predicates.iter().zip(&expression.parsed.predicates) {
            let is_explained = explained.iter().any(|inner| span.contains(*inner));
            if *seen > 0 && *held == 0 && !is_explained {
                let text = &expression.text[span.start..span.end];
                let message = format!("`{text}` held for none of {}", counted(*seen, "node"));
                found.push(Diagnostic::warning_at(Code::PathEmpty, *span, message));
                explained.push(*span);
            }
        }
        for (span, a, b) in &self.texts {
            let message = format!(
                "values are compared as texts, such as {a:?} and {b:?}; as numbers their \
                 order is another"
            );
            let advice = "write number(…) around one of them to compare numbers";
            found.push(Diagnostic::warning_at(Code::RuleSuspect, *span, message).advise(advice));
        }
        for (message, count) in &self.notes {
            let often = if *count == 1 { String::new() } else { format!(" ({count} times)") };
            found.push(Diagnostic::warning(Code::RaisedNote, format!("{message}{often}")));
        }
        found
    }

    /// Why a step found nothing.
    fn explain(
        &self,
        coverage: &StepCoverage,
        info: &StepInfo,
        expression: &Expression,
    ) -> Diagnostic<Span> {
        let text = expression.text[info.span.start..info.span.end].trim_start_matches('/');
        let before = expression.before(info);
        let mut message = match (info.axis, coverage.leaf) {
            (Axis::Child | Axis::Attribute | Axis::Descendant, Some(leaf))
                if coverage.names.is_empty() =>
            {
                format!("no `{text}` at {before}: it is {leaf}")
            }
            (Axis::Descendant | Axis::DescendantOrSelf, _) => {
                format!("no `{text}` anywhere under {before}")
            }
            (Axis::Child | Axis::Attribute, _) => format!("no `{text}` under {before}"),
            _ => format!("`{text}` found nothing from {before}"),
        };
        let mut advice = None;
        if let Some(elsewhere) = self.elsewhere(info, expression) {
            let (local, names) = elsewhere;
            let namespaces: BTreeSet<&str> = names.iter().map(|(_, uri)| uri.as_str()).collect();
            let words: Vec<&str> = namespaces.iter().copied().collect();
            message.push_str(&match &info.test {
                NodeTest::Name(Name::Plain(_)) => {
                    format!(": {local} is there, in the namespace {}", words.join(" and "))
                }
                _ if words == [""] => format!(": {local} is there, in no namespace"),
                _ => format!(": {local} is there, in the namespace {}", words.join(" and ")),
            });
            advice = Some(self.working_path(info, expression));
        }
        let near = advice.is_none().then(|| coverage.near_names(info)).flatten();
        let may_be_absent = info.may_be_absent && near.is_none() && advice.is_none();
        let severity = if may_be_absent { Severity::Note } else { Severity::Warning };
        let others = || near.or_else(|| coverage.some_names(info).map(Advice::words));
        Diagnostic::warning_at(Code::PathEmpty, info.span, message)
            .with_severity(severity)
            .advise_opt(advice.or_else(others))
    }

    /// The full names of elements that have the local name of a step, where its namespace is what differs.
    pub(super) fn elsewhere(
        &self,
        info: &StepInfo,
        expression: &Expression,
    ) -> Option<(&str, &BTreeSet<(String, String)>)> {
        if !matches!(info.axis, Axis::Child | Axis::Descendant) {
            return None;
        }
        let NodeTest::Name(name @ (Name::Plain(local) | Name::Prefixed(_, local))) = &info.test
        else {
            return None;
        };
        let (local, names) = self.elements.get_key_value(local.as_str())?;
        let is_meant = |(prefix, uri): &(String, String)| match name {
            Name::Prefixed(meant, _) => match expression.namespaces.declared(meant) {
                Some(declared) => uri == declared,
                None => prefix == meant,
            },
            _ => uri.is_empty(),
        };
        if names.iter().any(is_meant) {
            return None;
        }
        Some((local, names))
    }

    /// The expression with the prefixes that its names have in the document.
    fn working_path(&self, info: &StepInfo, expression: &Expression) -> Advice<Span> {
        let mut text = expression.text.clone();
        let mut default = None;
        let steps = expression.parsed.steps.iter().rev();
        for step in steps.filter(|step| matches!(step.axis, Axis::Child | Axis::Descendant)) {
            let NodeTest::Name(Name::Plain(local)) = &step.test else { continue };
            let Some(names) = self.elements.get(local.as_str()) else { continue };
            let mut names = names.iter();
            let (Some((prefix, uri)), None) = (names.next(), names.next()) else { continue };
            if uri.is_empty() {
                continue;
            }
            if prefix.is_empty() {
                default = Some(uri.clone());
                continue;
            }
            let written = &expression.text[step.span.start..step.span.end];
            if let Some(at) = written.find(local.as_str()) {
                text.insert_str(step.span.start + at, &format!("{prefix}:"));
            }
        }
        match default {
            Some(uri) if text == expression.text => {
                Advice::words("the document's names without a prefix are in it: say ")
                    .setting(Setting::Namespace(String::new(), uri))
            }
            Some(uri) => Advice::words(format!("write {text}, and say "))
                .setting(Setting::Namespace(String::new(), uri)),
            None if text == expression.text => match &info.test {
                NodeTest::Name(Name::Prefixed(prefix, local)) => {
                    let uris = self.elements.get(local.as_str());
                    let uri =
                        uris.and_then(|names| names.iter().next()).map(|(_, uri)| uri.clone());
                    Advice::words("say ")
                        .setting(Setting::Namespace(prefix.clone(), uri.unwrap_or_default()))
                }
                _ => Advice::words("match local names with ").setting(Setting::IgnoreNamespaces),
            },
            None => Advice::words(format!("write {text}, or match local names with "))
                .setting(Setting::IgnoreNamespaces)
                .fix(Span::new(0, expression.text.len()), text),
        }
    }
}
