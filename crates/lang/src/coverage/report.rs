//! What is said of what a [`Coverage`] has counted.

use std::collections::BTreeSet;

use kyanite_tree::{
    Advice, Code, Diagnostic, Setting, Severity, counted, name_step, near, near_words,
};

use super::{CallCoverage, Mixed, NAMESPACES, PathCoverage, Recovered, Stop, Twice};
use crate::coverage::Coverage;
use crate::finding::{Finding, RuleText, Span};
use crate::plan::{PathInfo, Plan, StepInfo};

impl Coverage {
    /// What is to be said at the end of a run: paths that selected nothing, name steps that met lists, and tests
    /// that never held.
    #[must_use]
    pub fn report(&self, plan: &Plan) -> Vec<Diagnostic> {
        let mut findings: Vec<Finding> = Vec::new();
        // What has been explained: spans in the rule, and paths as far as they got.
        let (mut spans, mut prefixes): (Vec<Span>, Vec<String>) = (Vec::new(), Vec::new());
        let holds_explained = |spans: &[Span], test: Span| {
            spans.iter().any(|span| test.start <= span.start && span.end <= test.end)
        };
        for (coverage, info) in self.paths.iter().zip(&plan.paths) {
            if coverage.asked && !coverage.selected && coverage.stop.misses > 0 {
                let step = coverage.stop.step;
                let test = info.steps.get(step).and_then(|step| step.test);
                let because_of_test =
                    test.is_some_and(|test| holds_explained(&spans, plan.tests[test].span));
                // A name that stands for a path reports that path only once.
                let prefix = info.prefix(step + 1);
                if because_of_test || prefixes.contains(&prefix) {
                    spans.push(info.span);
                    continue;
                }
                let finding = self.explain(coverage, info, plan);
                // A note is seldom seen, so it explains nothing for others.
                if finding.severity() == Severity::Warning {
                    spans.push(info.span);
                    prefixes.push(prefix);
                }
                findings.push(finding);
            } else if coverage.lists > 0 && !(info.from_any && coverage.list_step == 0) {
                findings.extend(met_lists(coverage, info));
            }
        }
        for (coverage, info) in self.tests.iter().zip(&plan.tests) {
            if info.is_where
                && coverage.seen > 0
                && coverage.held == 0
                && !holds_explained(&spans, info.span)
            {
                let message =
                    format!("this `where` held for none of {}", counted(coverage.seen, "tuple"));
                findings.push(Finding::warning_at(Code::WhereEmpty, info.span, message));
            }
        }
        findings.extend(self.calls.borrow().iter().flat_map(CallCoverage::report));
        let mixed = self.mixed.borrow();
        let mixed = mixed.iter().filter(|mixed| mixed.namespaces.len() > 1);
        findings.extend(mixed.map(|Mixed { span, namespaces, .. }| {
            let text = plan.rule.slice(*span);
            let message = format!("`{text}` met elements of {}", namespaces_in_words(namespaces));
            let advice = "declare the namespace that is meant, namespace p = \"…\", and write the step as \
                          ['p:name']";
            Finding::warning_at(Code::RuleSuspect, *span, message).advise(advice)
        }));
        findings.extend(self.lost.borrow().iter().filter_map(|(span, format, losses)| {
            let message = format!("{} could not carry {}", format.name(), losses.summary()?);
            Some(Finding::warning_at(Code::Loss, *span, message))
        }));
        findings.extend(self.twice.borrow().iter().map(|Twice { span, count, first }| {
            let (members, values) = match count {
                1 => (format!("the member `{first}` is given twice"), "the later value is"),
                _ => (
                    format!("members are given twice {count} times, `{first}` first"),
                    "the later values are",
                ),
            };
            Finding::warning_at(Code::MemberTwice, *span, format!("{members}; {values} taken"))
        }));
        findings.extend(self.notes.borrow().iter().map(|(message, count)| {
            let often = if *count == 1 { String::new() } else { format!(" ({count} times)") };
            Finding::warning(Code::RaisedNote, format!("{message}{often}"))
        }));
        for (coverage, xpath) in self.xpaths.iter().zip(&plan.xpaths) {
            let found = coverage.borrow().report(&xpath.expression);
            findings.extend(found.into_iter().map(|found| xpath.placed(found)));
        }
        let told = findings.into_iter().map(|finding| plan.rule.diagnostic(finding));
        told.chain(self.recovered.borrow().iter().map(|call| call.report(&plan.rule))).collect()
    }

    /// Why a path selected nothing.
    fn explain(&self, coverage: &PathCoverage, info: &PathInfo, plan: &Plan) -> Finding {
        let Stop { step, .. } = coverage.stop;
        let prefix = info.prefix(step);
        let Some(stopped) = info.steps.get(step) else {
            let message = format!("`{prefix}` selected nothing");
            return Finding::warning_at(Code::PathEmpty, info.span, message);
        };
        let near = coverage.stop.near_names(stopped);
        let (mut message, advice) = self.reason(&coverage.stop, stopped, info, &prefix, plan);
        if info.is_of_edit {
            let parents = counted(coverage.stop.misses, "place");
            message.push_str(&format!("; nothing is changed in {parents}"));
        }
        let is_asked = info.may_be_absent && near.is_none() && coverage.stop.lists == 0;
        let others = || near.or_else(|| coverage.stop.some_names(stopped).map(Advice::words));
        let severity = if is_asked { Severity::Note } else { Severity::Warning };
        Finding::warning_at(Code::PathEmpty, stopped.span, message)
            .with_severity(severity)
            .advise_opt(advice.or_else(others))
    }

    fn reason(
        &self,
        stop: &Stop,
        step: &StepInfo,
        info: &PathInfo,
        prefix: &str,
        plan: &Plan,
    ) -> (String, Option<Advice<Span>>) {
        let text = step.text.trim_start_matches('.');
        if let (Some("#text"), true) = (step.name.as_deref(), stop.elements) {
            let message =
                format!("no `{text}` at {prefix}: it is an element, and #text a name of records");
            return (message, Some(info.called("text", stop.step, &plan.rule)));
        }
        if let Some(test) = step.test
            && self.tests[test].seen > 0
        {
            let seen = counted(self.tests[test].seen, "node");
            return (format!("`{text}` held for none of {seen} under {prefix}"), None);
        }
        if stop.lists > 0 && stop.maps == 0 {
            let items =
                if stop.lists == 1 { format!("a list of {}", stop.items) } else { "a list".into() };
            return match &step.name {
                Some(_) if !step.descendant => (
                    format!("no `{text}` at {prefix}: it is {items}, and a name steps into maps"),
                    Some(info.within_items(step, prefix)),
                ),
                _ => (format!("`{text}` selected nothing at {prefix}, which is {items}"), None),
            };
        }
        if stop.maps == 0
            && let Some(kind) = stop.others
        {
            let advice = stop.json_text.then(|| {
                if prefix == "$" {
                    ("the document is one text that holds JSON: say ", Setting::Unwrap).into()
                } else {
                    info.decoded(stop.step, &plan.rule)
                }
            });
            return (format!("no `{text}` at {prefix}: it is {kind}"), advice);
        }
        let under = if step.descendant { "anywhere under" } else { "under" };
        (format!("no `{text}` {under} {prefix}"), stop.elsewhere(step))
    }
}

impl Recovered {
    fn report(&self, rule: &RuleText) -> Diagnostic {
        let Self { span, count, first, place } = self;
        let (failures, first) = (counted(*count, "failure"), first.message());
        let message = format!("recover() stood in for {failures}; the first: {first}");
        Diagnostic::warning(Code::Recovered, message)
            .at_opt(place.clone().flatten())
            .at(rule.place(*span))
    }
}

impl CallCoverage {
    fn report(&self) -> impl Iterator<Item = Finding> {
        let maps = if self.seen == 1 {
            "not in the map".to_owned()
        } else {
            format!("in none of {} maps", self.seen)
        };
        let unmet = self.names.iter().filter(|(_, is_met)| !is_met);
        unmet.map(move |(name, _)| {
            let message =
                format!("the member `{name}`, which {}() names, is {maps}", self.function);
            let advice = near_words(name, self.others.keys().map(String::as_str));
            Finding::warning_at(Code::NameAbsent, self.span, message).advise_opt(advice)
        })
    }
}

impl Stop {
    /// Where a name with a prefix is, if it is in another namespace.
    fn elsewhere(&self, step: &StepInfo) -> Option<Advice<Span>> {
        let (prefix, local) = step.name.as_deref()?.split_once(':')?;
        let namespaces = self.namespaces.get(local)?;
        let is_in = namespaces.iter().next()?;
        let is_in = match is_in.as_str() {
            "" => "no namespace".to_owned(),
            uri => format!("the namespace {uri}"),
        };
        let here = format!("{local} is there, in {is_in}");
        Some(Advice::words(match &step.namespace {
            Some(_) => here,
            None => format!(
                "{here}: the rule's header says which one `{prefix}` is, namespace {prefix} = \"…\""
            ),
        }))
    }

    /// The names that were there and are near, with how often.
    fn near_names(&self, step: &StepInfo) -> Option<Advice<Span>> {
        let looked = self.looked;
        let among =
            if self.maps > looked { format!("{looked} looked at") } else { looked.to_string() };
        let near = near(step.name.as_deref()?, self.names.keys().map(String::as_str));
        let first = *near.first()?;
        let near: Vec<String> = near
            .iter()
            .map(|near| format!("{near}, in {} of {among}", self.names[*near]))
            .collect();
        let advice = Advice::words(format!("near: {}", near.join("; ")));
        let depth = if step.descendant { "." } else { "" };
        Some(advice.fix(step.span, format!("{depth}{}", name_step(first))))
    }

    /// Some of the names that were there, the most frequent first.
    fn some_names(&self, step: &StepInfo) -> Option<String> {
        if step.name.is_none() || self.maps == 0 {
            return None;
        }
        let mut names: Vec<(&String, &u64)> = self.names.iter().collect();
        if names.is_empty() {
            return Some("what is there is empty".into());
        }
        names.sort_by(|a, b| b.1.cmp(a.1).then(a.0.cmp(b.0)));
        let more = if names.len() > 8 { ", …" } else { "" };
        let names: Vec<&str> = names.into_iter().take(8).map(|(name, _)| name.as_str()).collect();
        Some(format!("there are: {}{more}", names.join(", ")))
    }
}

/// `2 namespaces: none and urn:a`.
fn namespaces_in_words(namespaces: &BTreeSet<String>) -> String {
    let words: Vec<&str> =
        namespaces.iter().map(|uri| if uri.is_empty() { "none" } else { uri.as_str() }).collect();
    let more = if words.len() == NAMESPACES { " or more" } else { "" };
    format!("{}{more} namespaces: {}", words.len(), words.join(", "))
}

/// A name step that selected something elsewhere, but met lists as well.
fn met_lists(coverage: &PathCoverage, info: &PathInfo) -> Option<Finding> {
    let step = info.steps.get(coverage.list_step)?;
    let (prefix, text) = (info.prefix(coverage.list_step), &step.text);
    let often =
        if coverage.lists == 1 { "once".into() } else { format!("{} times", coverage.lists) };
    let message = format!("`{text}` met a list under {prefix} {often} and selected nothing there");
    let finding = Finding::warning_at(Code::PathList, step.span, message);
    let advice = Advice::words(format!("write [*]{text} to step into the items"));
    Some(finding.advise(advice.fix(step.span, format!("[*]{text}"))))
}
