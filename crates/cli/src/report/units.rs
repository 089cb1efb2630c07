//! The report in the `basic` form of JSON Schema's output (2020-12 core section 12.4.2): one unit for the run, with one for each error.
//!
//! Beyond the members of the standard each has the file, line and column. What is no error of a JSON Schema (a document that is
//! malformed, another schema's finding) stands at the roots of both; `remarks` has what makes nothing invalid.

use kyanite_flow::Finding;
use kyanite_tree::{Arena, Severity, Value};

use super::{Report, as_json, number};

pub(super) fn render(report: &Report) -> Vec<u8> {
    let arena = Arena::new();
    let (mut errors, mut remarks) = (Vec::new(), Vec::new());
    for verdict in &report.verdicts {
        for finding in &verdict.findings {
            let list = match finding.severity {
                Severity::Error => &mut errors,
                Severity::Warning | Severity::Note => &mut remarks,
            };
            list.push(unit(&verdict.name, finding, &arena));
        }
        if let Some(why) = &verdict.unreadable {
            let mut members = at_roots();
            members.push(("error", Value::text(why.message())));
            members.push(("file", Value::text(&verdict.name)));
            errors.push(arena.map(members));
        }
    }
    let mut whole = vec![("valid", Value::boolean(errors.is_empty()))];
    if !errors.is_empty() {
        whole.push(("errors", arena.list(&errors)));
    }
    if !remarks.is_empty() {
        whole.push(("remarks", arena.list(&remarks)));
    }
    as_json(arena.map(whole))
}

/// The locations of what no keyword of a JSON Schema found.
fn at_roots<'a>() -> Vec<(&'a str, Value<'a>)> {
    vec![("keywordLocation", Value::text("")), ("instanceLocation", Value::text(""))]
}

fn unit<'a>(file: &'a str, finding: &'a Finding, arena: &'a Arena) -> Value<'a> {
    let mut members = match &finding.unit {
        Some(unit) => vec![
            ("keywordLocation", Value::text(&unit.keyword_location)),
            ("absoluteKeywordLocation", Value::text(&unit.absolute_keyword_location)),
            ("instanceLocation", Value::text(&unit.instance_location)),
        ],
        None => at_roots(),
    };
    members.push(("error", Value::text(&finding.message)));
    members.push(("file", Value::text(file)));
    if let Some(place) = &finding.place {
        members.push(("line", number(place.at.line, arena)));
        members.push(("column", number(place.at.column, arena)));
    }
    arena.map(members)
}
