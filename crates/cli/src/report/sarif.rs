//! The report as SARIF 2.1.0 (OASIS Static Analysis Results Interchange Format).

use std::path::Path;

use kyanite_tree::{Arena, Place, Severity, Value};

use super::{Report, Row, as_json, number, with_advice};

/// The schema of the format.
const SCHEMA: &str =
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

pub(super) fn render(report: &Report) -> Vec<u8> {
    let arena = Arena::new();
    let rows: Vec<Row<'_>> = report.rows().collect();
    let mut rules: Vec<&str> = rows.iter().map(rule_id).collect();
    rules.sort_unstable();
    rules.dedup();
    let described: Vec<Value<'_>> =
        rules.iter().map(|rule| arena.map([("id", Value::text(rule))])).collect();
    let driver = arena.map([
        ("name", Value::text("Kyanite")),
        ("version", Value::text(env!("CARGO_PKG_VERSION"))),
        ("rules", arena.list(&described)),
    ]);
    let results: Vec<Value<'_>> = rows.iter().map(|row| result(row, &rules, &arena)).collect();
    let failed: Vec<Value<'_>> = report
        .unreadable()
        .map(|(name, why)| {
            arena.map([
                ("level", Value::text("error")),
                ("message", message(why.message(), &arena)),
                (
                    "locations",
                    arena.list(&[
                        arena.map([("physicalLocation", artifact(name, Vec::new(), &arena))])
                    ]),
                ),
            ])
        })
        .collect();
    let invocation = arena.map([
        ("executionSuccessful", Value::boolean(failed.is_empty())),
        ("toolExecutionNotifications", arena.list(&failed)),
    ]);
    let run = arena.map([
        ("tool", arena.map([("driver", driver)])),
        ("columnKind", Value::text("unicodeCodePoints")),
        ("invocations", arena.list(&[invocation])),
        ("results", arena.list(&results)),
    ]);
    let log = arena.map([
        ("$schema", Value::text(SCHEMA)),
        ("version", Value::text("2.1.0")),
        ("runs", arena.list(&[run])),
    ]);
    as_json(log)
}

/// What sort of rule was broken: the word of the schema's standard, or the code of the message.
fn rule_id<'r>(row: &Row<'r>) -> &'r str {
    if row.finding.keyword.is_empty() { row.finding.code.word() } else { &row.finding.keyword }
}

fn message<'a>(text: &'a str, arena: &'a Arena) -> Value<'a> {
    arena.map([("text", Value::text(text))])
}

fn result<'a>(row: &'a Row<'_>, rules: &[&str], arena: &'a Arena) -> Value<'a> {
    let finding = row.finding;
    let id = rule_id(row);
    let index = rules.binary_search(&id).unwrap_or_default();
    let level = match finding.severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Note => "note",
    };
    let text = arena.text(&with_advice(finding));
    let here = match &finding.place {
        Some(place) => location(place, arena),
        None => arena.map([("physicalLocation", artifact(&row.verdict.name, Vec::new(), arena))]),
    };
    let mut members = vec![
        ("ruleId", Value::text(id)),
        ("ruleIndex", arena.integer(i64::try_from(index).unwrap_or_default())),
        ("level", Value::text(level)),
        ("message", message(text, arena)),
        ("locations", arena.list(&[here])),
        ("partialFingerprints", arena.map([("kyaniteFinding/v1", Value::text(&row.fingerprint))])),
    ];
    if let Some(rule) = &finding.rule {
        members.push(("relatedLocations", arena.list(&[location(rule, arena)])));
    }
    arena.map(members)
}

fn location<'a>(place: &'a Place, arena: &'a Arena) -> Value<'a> {
    let number = |number: u64| self::number(number, arena);
    let mut region =
        vec![("startLine", number(place.at.line)), ("startColumn", number(place.at.column))];
    if !place.excerpt.line.is_empty() {
        region.push(("endColumn", number(place.at.column + place.excerpt.length as u64)));
        region.push(("snippet", message(&place.excerpt.line, arena)));
    }
    let physical = artifact(&place.file, vec![("region", arena.map(region))], arena);
    let mut members = vec![("physicalLocation", physical)];
    if let Some(path) = &place.path {
        let logical = arena.map([("fullyQualifiedName", Value::text(path))]);
        members.push(("logicalLocations", arena.list(&[logical])));
    }
    arena.map(members)
}

/// A file, and a part of it.
fn artifact<'a>(file: &str, more: Vec<(&'a str, Value<'a>)>, arena: &'a Arena) -> Value<'a> {
    let is_absolute = Path::new(file).is_absolute();
    let mut uri = String::new();
    for part in file.chars() {
        match part {
            std::path::MAIN_SEPARATOR => uri.push('/'),
            ' ' => uri.push_str("%20"),
            '%' => uri.push_str("%25"),
            '#' => uri.push_str("%23"),
            '?' => uri.push_str("%3F"),
            other => uri.push(other),
        }
    }
    if is_absolute {
        uri.insert_str(0, "file://");
    }
    let artifact = arena.map([("uri", Value::text(arena.text(&uri)))]);
    let mut members = vec![("artifactLocation", artifact)];
    members.extend(more);
    arena.map(members)
}
