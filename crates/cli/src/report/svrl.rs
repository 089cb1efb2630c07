//! The report as SVRL (ISO/IEC 19757-3 annex D). What other schemas found is told as assertions that failed about the document.

use std::collections::HashSet;

use kyanite_flow::{Finding, Step, Verdict};
use kyanite_tree::Severity;

use super::markup::Markup;
use super::{Report, with_advice};

pub(super) fn render(report: &Report) -> String {
    let mut out = Markup::new();
    let head = [("xmlns:svrl", "http://purl.oclc.org/dsdl/svrl"), ("schemaVersion", "iso")];
    out.begin("svrl:schematron-output", &head);
    report.verdicts.iter().for_each(|verdict| verdict_of(verdict, &mut out));
    out.finish()
}

fn verdict_of(verdict: &Verdict, out: &mut Markup) {
    let name = verdict.name.as_str();
    let own: HashSet<usize> = verdict
        .steps
        .iter()
        .filter_map(|step| match step {
            Step::Finding(number) => Some(*number),
            _ => None,
        })
        .collect();
    let others: Vec<&Finding> =
        (0..).zip(&verdict.findings).filter(|(at, _)| !own.contains(at)).map(|(_, f)| f).collect();
    if !others.is_empty() || verdict.unreadable.is_some() || verdict.steps.is_empty() {
        out.leaf("svrl:active-pattern", &[("document", name)], "");
        out.leaf("svrl:fired-rule", &[("context", "/")], "");
        others.into_iter().for_each(|finding| finding_of(finding, out));
        if let Some(why) = &verdict.unreadable {
            let attributes = [("test", why.code().word()), ("location", "/"), ("role", "fatal")];
            out.begin("svrl:failed-assert", &attributes);
            out.leaf("svrl:text", &[], why.message());
            out.end();
        }
    }
    for step in &verdict.steps {
        match step {
            Step::Pattern(id) => {
                let attributes = given(&[("id", id), ("document", name)]);
                out.leaf("svrl:active-pattern", &attributes, "");
            }
            Step::Rule { id, context, role, flag } => {
                let attributes =
                    [("id", id.as_str()), ("context", context), ("role", role), ("flag", flag)];
                out.leaf("svrl:fired-rule", &given(&attributes), "");
            }
            Step::Finding(number) => {
                if let Some(finding) = verdict.findings.get(*number) {
                    finding_of(finding, out);
                }
            }
        }
    }
}

/// The attributes that have a value.
fn given<'a>(attributes: &[(&'a str, &'a str)]) -> Vec<(&'a str, &'a str)> {
    attributes.iter().copied().filter(|(_, value)| !value.is_empty()).collect()
}

fn finding_of(finding: &Finding, out: &mut Markup) {
    let location = finding.place.as_ref().and_then(|place| place.path.as_deref()).unwrap_or("/");
    let Some(assertion) = &finding.assertion else {
        let test = if finding.keyword.is_empty() { finding.code.word() } else { &finding.keyword };
        let role = match finding.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
            Severity::Note => "info",
        };
        let attributes = [("test", test), ("location", location), ("role", role)];
        out.begin("svrl:failed-assert", &attributes);
        out.leaf("svrl:text", &[], &with_advice(finding));
        out.end();
        return;
    };
    let name = if assertion.is_assert { "svrl:failed-assert" } else { "svrl:successful-report" };
    let attributes = [
        ("test", assertion.test.as_str()),
        ("id", &assertion.id),
        ("role", &assertion.role),
        ("flag", &assertion.flag),
        ("location", location),
    ];
    out.begin(name, &given(&attributes));
    for (id, text) in &assertion.diagnostics {
        out.begin("svrl:diagnostic-reference", &[("diagnostic", id)]);
        out.leaf("svrl:text", &[], text);
        out.end();
    }
    for (id, text) in &assertion.properties {
        out.begin("svrl:property-reference", &[("property", id)]);
        out.leaf("svrl:text", &[], text);
        out.end();
    }
    out.leaf("svrl:text", &[], &finding.message);
    out.end();
}
