//! The report as test results, the way CI systems read them: an input is a test, its findings are why it fails.

use kyanite_flow::Verdict;
use kyanite_tree::Severity;

use super::markup::Markup;
use super::{Report, with_advice};

pub(super) fn render(report: &Report) -> String {
    let mut suites: Vec<(&str, Vec<&Verdict>)> = Vec::new();
    for verdict in &report.verdicts {
        let name = verdict.set.as_deref().unwrap_or("validate");
        match suites.iter_mut().find(|(known, _)| *known == name) {
            Some((_, verdicts)) => verdicts.push(verdict),
            None => suites.push((name, vec![verdict])),
        }
    }
    let totals = totals(&report.verdicts.iter().collect::<Vec<_>>());
    let mut out = Markup::new();
    let [tests, failures, errors] = &totals;
    out.begin(
        "testsuites",
        &[("name", "kyanite"), ("tests", tests), ("failures", failures), ("errors", errors)],
    );
    for (name, verdicts) in suites {
        let [tests, failures, errors] = &self::totals(&verdicts);
        out.begin(
            "testsuite",
            &[("name", name), ("tests", tests), ("failures", failures), ("errors", errors)],
        );
        for verdict in verdicts {
            test(verdict, name, &mut out);
        }
        out.end();
    }
    out.finish()
}

/// How many tests there are, how many fail, and how many could not be run.
fn totals(verdicts: &[&Verdict]) -> [String; 3] {
    let failures = verdicts.iter().filter(|verdict| fails(verdict)).count();
    let errors = verdicts.iter().filter(|verdict| verdict.unreadable.is_some()).count();
    [verdicts.len(), failures, errors].map(|count| count.to_string())
}

fn fails(verdict: &Verdict) -> bool {
    verdict.findings.iter().any(|finding| finding.severity == Severity::Error)
}

fn test(verdict: &Verdict, suite: &str, out: &mut Markup) {
    let attributes =
        [("name", verdict.name.as_str()), ("classname", suite), ("file", &verdict.name)];
    if verdict.findings.is_empty() && verdict.unreadable.is_none() {
        out.leaf("testcase", &attributes, "");
        return;
    }
    out.begin("testcase", &attributes);
    if let Some(why) = &verdict.unreadable {
        out.leaf(
            "error",
            &[("message", why.message()), ("type", why.code().word())],
            why.message(),
        );
    }
    let errors = || verdict.findings.iter().filter(|finding| finding.severity == Severity::Error);
    // Many readers know one failure to a test, so all are told in one.
    if let Some(first) = errors().next() {
        let count = errors().count();
        let message = match count {
            1 => first.message.clone(),
            count => format!("{} (and {} more)", first.message, count - 1),
        };
        let lines: Vec<String> = errors().map(line).collect();
        out.leaf(
            "failure",
            &[("message", &message), ("type", first.code.word())],
            &lines.join("\n"),
        );
    }
    let others: Vec<String> = verdict
        .findings
        .iter()
        .filter(|finding| finding.severity != Severity::Error)
        .map(line)
        .collect();
    if !others.is_empty() {
        out.leaf("system-out", &[], &others.join("\n"));
    }
    out.end();
}

/// A finding in a line.
fn line(finding: &kyanite_flow::Finding) -> String {
    let place = finding.place.as_ref().map(|place| {
        let path = place.path.as_deref().map(|path| format!(" {path}")).unwrap_or_default();
        format!("{}:{}{path}: ", place.file, place.at)
    });
    let rule = finding.rule.as_ref().map(|rule| format!(" [{}:{}]", rule.file, rule.at));
    [place.unwrap_or_default(), with_advice(finding), rule.unwrap_or_default()].concat()
}
