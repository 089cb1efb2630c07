//! The report for programs that read XML: what the JSON has, as elements.

use super::markup::Markup;
use super::{Report, advice};

pub(super) fn render(report: &Report) -> String {
    let counts = report.counts();
    let mut out = Markup::new();
    out.begin("report", &[]);
    let count = |count: usize| count.to_string();
    out.leaf(
        "summary",
        &[
            ("documents", &counts.documents.to_string()),
            ("inputs", &count(counts.inputs)),
            ("findings", &count(counts.findings())),
            ("errors", &count(counts.errors)),
            ("warnings", &count(counts.warnings)),
            ("notes", &count(counts.notes)),
            ("known", &count(report.known)),
            ("unreadable", &count(counts.unreadable)),
            ("complete", if report.is_cut { "false" } else { "true" }),
        ],
        "",
    );
    for row in report.rows() {
        let finding = row.finding;
        let mut attributes = vec![("file", row.verdict.name.clone())];
        if let Some(place) = &finding.place {
            attributes.push(("line", place.at.line.to_string()));
            attributes.push(("column", place.at.column.to_string()));
            attributes.extend(place.path.clone().map(|path| ("path", path)));
        }
        attributes.push(("severity", finding.severity.word().to_owned()));
        attributes.push(("code", finding.code.word().to_owned()));
        if let Some(rule) = &finding.rule {
            attributes.push(("schema", rule.file.clone()));
            attributes.push(("schema-line", rule.at.line.to_string()));
            attributes.push(("schema-column", rule.at.column.to_string()));
            attributes.extend(rule.path.clone().map(|path| ("schema-path", path)));
        }
        if !finding.keyword.is_empty() {
            attributes.push(("rule", finding.keyword.clone()));
        }
        attributes.extend(row.verdict.set.clone().map(|set| ("validation", set)));
        attributes.push(("fingerprint", row.fingerprint.clone()));
        let attributes: Vec<(&str, &str)> =
            attributes.iter().map(|(name, value)| (*name, value.as_str())).collect();
        out.begin("finding", &attributes);
        out.leaf("message", &[], &finding.message);
        if let Some(advice) = advice(finding) {
            out.leaf("advice", &[], &advice);
        }
        if let Some(place) = finding.place.as_ref().filter(|place| !place.excerpt.line.is_empty()) {
            let (mark, length) =
                (place.excerpt.start.to_string(), place.excerpt.length.to_string());
            out.leaf("source", &[("mark", &mark), ("length", &length)], &place.excerpt.line);
        }
        out.end();
    }
    for (name, why) in report.unreadable() {
        out.leaf("unreadable", &[("file", name)], why.message());
    }
    out.finish()
}
