//! The report for programs.

use kyanite_tree::{Arena, Place, Value};

use super::{Report, Row, advice, as_json, number};

/// Writes the report as one object.
pub(super) fn render(report: &Report) -> Vec<u8> {
    let arena = Arena::new();
    let rows: Vec<Row<'_>> = report.rows().collect();
    let findings: Vec<Value<'_>> = rows.iter().map(|row| finding(row, &arena)).collect();
    let unreadable: Vec<Value<'_>> = report
        .unreadable()
        .map(|(name, why)| {
            arena.map([("file", Value::text(name)), ("message", Value::text(why.message()))])
        })
        .collect();
    let whole = arena.map([
        ("summary", summary(report, &arena)),
        ("findings", arena.list(&findings)),
        ("unreadable", arena.list(&unreadable)),
    ]);
    as_json(whole)
}

/// What is counted.
pub(super) fn summary<'a>(report: &Report, arena: &'a Arena) -> Value<'a> {
    let counts = report.counts();
    let size = |count: usize| number(count as u64, arena);
    arena.map([
        ("documents", number(counts.documents, arena)),
        ("inputs", size(counts.inputs)),
        ("findings", size(counts.findings())),
        ("errors", size(counts.errors)),
        ("warnings", size(counts.warnings)),
        ("notes", size(counts.notes)),
        ("known", size(report.known)),
        ("unreadable", size(counts.unreadable)),
        ("complete", Value::boolean(!report.is_cut)),
    ])
}

/// A finding as a map.
pub(super) fn finding<'a>(row: &'a Row<'_>, arena: &'a Arena) -> Value<'a> {
    let finding = row.finding;
    let number = |number: u64| self::number(number, arena);
    let mut members = vec![("file", Value::text(&row.verdict.name))];
    if let Some(place) = &finding.place {
        members.push(("line", number(place.at.line)));
        members.push(("column", number(place.at.column)));
        members.extend(place.path.as_deref().map(|path| ("path", Value::text(path))));
    }
    members.push(("severity", Value::text(finding.severity.word())));
    members.push(("code", Value::text(finding.code.word())));
    members.push(("message", Value::text(&finding.message)));
    members.extend(advice(finding).map(|advice| ("advice", Value::text(arena.text(&advice)))));
    if let Some(Place { file, at, path, .. }) = &finding.rule {
        members.push(("schema", Value::text(file)));
        members.push(("schema_line", number(at.line)));
        members.push(("schema_column", number(at.column)));
        members.extend(path.as_deref().map(|path| ("schema_path", Value::text(path))));
    }
    if !finding.keyword.is_empty() {
        members.push(("rule", Value::text(&finding.keyword)));
    }
    if let Some(place) = finding.place.as_ref().filter(|place| !place.excerpt.line.is_empty()) {
        members.push(("source", Value::text(&place.excerpt.line)));
        members.push(("mark", number(place.excerpt.start as u64)));
        members.push(("length", number(place.excerpt.length as u64)));
    }
    members.extend(row.verdict.set.as_deref().map(|set| ("validation", Value::text(set))));
    members.push(("fingerprint", Value::text(&row.fingerprint)));
    arena.map(members)
}
