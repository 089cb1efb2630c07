//! The survey for programs: one object.

use kyanite_survey::{NumbersReport, PathReport, QUANTILES, Report};
use kyanite_tree::{Arena, Number, Value};

use crate::report::as_json;

/// Writes the survey as one object.
pub fn render(report: &Report) -> Vec<u8> {
    let arena = Arena::new();
    as_json(whole(report, &arena))
}

/// The whole as a value.
pub fn whole<'a>(report: &'a Report, arena: &'a Arena) -> Value<'a> {
    let count = |count: u64| crate::report::number(count, arena);
    let input = |number: usize| Value::text(report.inputs.get(number).map_or("", String::as_str));
    let texts = |texts: &'a [String]| {
        let texts: Vec<Value<'a>> = texts.iter().map(|text| Value::text(text)).collect();
        arena.list(&texts)
    };
    let paths: Vec<Value<'a>> =
        report.paths.iter().map(|path| of_path(path, report, arena)).collect();
    let kinds: Vec<Value<'a>> = report
        .kinds
        .iter()
        .map(|kind| {
            arena.map([
                ("where", Value::text(&kind.filter)),
                ("records", count(kind.records)),
                ("only", texts(&kind.only)),
                ("never", texts(&kind.never)),
            ])
        })
        .collect();
    let keys: Vec<Value<'a>> = report
        .keys
        .iter()
        .map(|key| {
            let of = key.input.map(|of| ("input", input(of)));
            arena.map([("path", Value::text(&key.path))].into_iter().chain(of).collect::<Vec<_>>())
        })
        .collect();
    let references: Vec<Value<'a>> = report
        .references
        .iter()
        .map(|found| {
            arena.map([
                ("path", Value::text(&found.path)),
                ("input", input(found.input)),
                ("key", Value::text(&found.key)),
                ("key_input", input(found.key_input)),
                ("share", real(found.share, arena)),
            ])
        })
        .collect();
    let remarks: Vec<Value<'a>> = report
        .remarks
        .iter()
        .map(|remark| {
            arena.map([
                ("about", Value::text(remark.sort.word())),
                ("path", Value::text(&remark.path)),
                ("message", Value::text(&remark.message)),
            ])
        })
        .collect();
    let mut members = vec![
        ("records", count(report.records)),
        ("inputs", texts(&report.inputs)),
        ("paths", arena.list(&paths)),
        ("kinds", arena.list(&kinds)),
    ];
    if report.without_kind > 0 {
        members.push(("records_without_kind", count(report.without_kind)));
    }
    members.push(("keys", arena.list(&keys)));
    members.push(("references", arena.list(&references)));
    members.push(("remarks", arena.list(&remarks)));
    arena.map(members)
}

/// A number that was computed, in the shortest spelling that stands for it.
pub fn real(number: f64, arena: &Arena) -> Value<'_> {
    let text = arena.text(&number.to_string());
    Number::parse(text).map_or(Value::NULL, Value::number)
}

fn scalar<'a>(text: &'a str, is_text: bool) -> Value<'a> {
    match (is_text, text) {
        (true, text) => Value::text(text),
        (false, "true") => Value::boolean(true),
        (false, "false") => Value::boolean(false),
        (false, number) => Number::parse(number).map_or(Value::text(number), Value::number),
    }
}

fn of_path<'a>(path: &'a PathReport, report: &'a Report, arena: &'a Arena) -> Value<'a> {
    let count = |count: u64| crate::report::number(count, arena);
    let types: Vec<(&str, Value<'a>)> =
        path.types.iter().map(|(of, times)| (*of, count(*times))).collect();
    let mut members = vec![
        ("path", Value::text(&path.path)),
        ("records", count(path.records)),
        ("values", count(path.values)),
    ];
    members.extend(path.maps.map(|maps| ("maps", count(maps))));
    members.push(("types", arena.map(types)));
    if path.empty > 0 {
        members.push(("empty", count(path.empty)));
    }
    if let Some(distinct) = path.distinct {
        members.push(("distinct", count(distinct.count)));
        if distinct.error > 0.0 {
            members.push(("distinct_error", real(distinct.error, arena)));
        }
    }
    let spread = |parts: &[u64]| {
        let parts: Vec<Value<'a>> = parts.iter().map(|part| count(*part)).collect();
        arena.list(&parts)
    };
    if let Some(numbers) = &path.numbers {
        members.push(("numbers", of_numbers(numbers, spread(&numbers.spread), arena)));
    }
    if let Some(times) = &path.times {
        let quantiles = QUANTILES.iter().zip(&times.quantiles);
        let quantiles: Vec<(&str, Value<'a>)> = quantiles
            .map(|(share, time)| (arena.text(&share.to_string()), Value::text(time)))
            .collect();
        let of_times = [
            ("count", count(times.count)),
            ("first", Value::text(&times.first)),
            ("last", Value::text(&times.last)),
            ("quantiles", arena.map(quantiles)),
            ("spread", spread(&times.spread)),
        ];
        members.push(("times", arena.map(of_times)));
    }
    for (name, lengths) in
        [("text_lengths", path.text_lengths), ("list_lengths", path.list_lengths)]
    {
        members.extend(lengths.map(|lengths| {
            let of_lengths = [
                ("least", count(lengths.least)),
                ("greatest", count(lengths.greatest)),
                ("mean", real(lengths.mean, arena)),
            ];
            (name, arena.map(of_lengths))
        }));
    }
    if !path.forms.is_empty() {
        let forms: Vec<(&str, Value<'a>)> =
            path.forms.iter().map(|(form, times)| (form.word(), count(*times))).collect();
        members.push(("forms", arena.map(forms)));
    }
    if !path.frequent.is_empty() {
        let frequent: Vec<Value<'a>> = path
            .frequent
            .iter()
            .map(|value| {
                arena.map([
                    ("value", scalar(&value.text, value.is_text)),
                    ("count", count(value.count)),
                ])
            })
            .collect();
        members.push(("frequent", arena.list(&frequent)));
        if path.frequent_error > 0 {
            members.push(("frequent_error", count(path.frequent_error)));
        }
    }
    if !path.examples.is_empty() {
        let examples: Vec<Value<'a>> = path
            .examples
            .iter()
            .map(|example| {
                let mut members = vec![("value", scalar(&example.text, example.is_text))];
                if let Some(file) =
                    report.inputs.get(example.input).filter(|_| report.inputs.len() > 1)
                {
                    members.push(("file", Value::text(file)));
                }
                members.push(("line", count(example.line)));
                arena.map(members)
            })
            .collect();
        members.push(("examples", arena.list(&examples)));
    }
    arena.map(members)
}

fn of_numbers<'a>(numbers: &'a NumbersReport, spread: Value<'a>, arena: &'a Arena) -> Value<'a> {
    let quantiles = QUANTILES.iter().zip(&numbers.quantiles);
    let quantiles: Vec<(&str, Value<'a>)> = quantiles
        .map(|(share, number)| (arena.text(&share.to_string()), real(*number, arena)))
        .collect();
    let mut members = vec![
        ("count", crate::report::number(numbers.count, arena)),
        ("least", scalar(numbers.least.trim(), false)),
        ("greatest", scalar(numbers.greatest.trim(), false)),
    ];
    if let Some(mean) = &numbers.mean {
        members.push(("mean", scalar(arena.text(&mean.to_string()), false)));
    }
    members.push(("quantiles", arena.map(quantiles)));
    members.push(("spread", spread));
    arena.map(members)
}
