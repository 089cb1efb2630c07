//! The words of a survey: shares, numbers and values for people.

use kyanite_survey::{Frequent, PathReport, Report};
use kyanite_tree::counted;

/// A share of a whole.
#[allow(clippy::cast_precision_loss)]
pub fn share(part: u64, whole: u64) -> f64 {
    if whole == 0 { 0.0 } else { part as f64 / whole as f64 }
}

/// A share in percent, with enough digits to tell some from none and nearly all from all.
pub fn percent(part: u64, whole: u64) -> String {
    if part == 0 || part == whole {
        return if part == 0 { "0 %" } else { "100 %" }.to_owned();
    }
    let percent = share(part, whole) * 100.0;
    match percent {
        tiny if tiny < 0.01 => "<0.01 %".to_owned(),
        small if small < 0.1 => format!("{small:.2} %"),
        nearly if nearly >= 99.95 => "99.9 %".to_owned(),
        edge if !(1.0..99.0).contains(&edge) => format!("{edge:.1} %"),
        other => format!("{other:.0} %"),
    }
}

/// A number with few digits.
pub fn short(number: f64) -> String {
    let magnitude = number.abs();
    let text = if number.fract() == 0.0 && magnitude < 1e15 {
        format!("{number:.0}")
    } else if !(1e-3..1e15).contains(&magnitude) {
        return format!("{number:.3e}");
    } else if magnitude >= 100.0 {
        format!("{number:.1}")
    } else {
        format!("{number:.3}")
    };
    if text.contains('.') {
        text.trim_end_matches('0').trim_end_matches('.').to_owned()
    } else {
        text
    }
}

/// A number as it is spelled, unless that is long.
fn spelled(number: &str) -> String {
    match number.trim().parse::<f64>() {
        Ok(value) if number.len() > 12 => short(value),
        _ => number.trim().to_owned(),
    }
}

/// A value as it would be written in a rule, cut if it is long.
pub fn value(text: &str, is_text: bool, most: usize) -> String {
    if !is_text {
        return text.to_owned();
    }
    let mut cut: String = text.chars().take(most).collect();
    if cut.len() < text.len() {
        cut.push('…');
    }
    format!("{cut:?}")
}

/// How often something is there, as a part of a whole.
type PartOfWhole = fn(&PathReport, &Report) -> (u64, u64);

/// What the presence of a path is a share of: of the records, or, where there is but one, of the maps that could have the member.
pub fn presence(report: &Report) -> (&'static str, PartOfWhole) {
    if report.records == 1 {
        ("in its maps", |path, _| path.maps.map_or((1, 1), |maps| (path.values, maps)))
    } else {
        ("in records", |path, report| (path.records, report.records))
    }
}

/// `text`, or `number 98 %, text 2 %`
pub fn types(path: &PathReport) -> String {
    match path.types.as_slice() {
        [(one, _)] => (*one).to_owned(),
        several => {
            let each =
                several.iter().map(|(of, count)| format!("{of} {}", percent(*count, path.values)));
            each.collect::<Vec<String>>().join(", ")
        }
    }
}

/// What the values of a path are, in short.
pub fn values(path: &PathReport) -> String {
    let mut parts = Vec::new();
    if let Some(lengths) = &path.list_lengths {
        parts.push(if lengths.least == lengths.greatest {
            counted(lengths.least, "item")
        } else {
            format!("{} to {} items, mean {}", lengths.least, lengths.greatest, short(lengths.mean))
        });
    }
    if let Some(times) = &path.times {
        if times.first == times.last {
            parts.push(times.first.clone());
        } else {
            parts.push(format!("{} to {}", times.first, times.last));
        }
    }
    if let Some(numbers) = &path.numbers {
        let mean = numbers.mean.as_ref().and_then(|mean| mean.to_string().parse().ok());
        let mean = mean.map(|mean: f64| format!(", mean {}", short(mean))).unwrap_or_default();
        let (least, greatest) = (spelled(&numbers.least), spelled(&numbers.greatest));
        parts.push(match least == greatest {
            true => least,
            false => format!("{least} to {greatest}{mean}"),
        });
    }
    parts.extend(scalars(path));
    for (form, count) in &path.forms {
        let texts = path.types.iter().find(|(of, _)| *of == "text").map_or(0, |(_, count)| *count);
        let word = form.word();
        parts.push(match *count == texts {
            true => word.to_owned(),
            false => format!("{word} {}", percent(*count, texts)),
        });
    }
    if path.empty > 0 {
        parts.push(format!("{} empty", percent(path.empty, path.values)));
    }
    parts.join(" · ")
}

/// How many different scalars there are, and which.
fn scalars(path: &PathReport) -> Option<String> {
    let distinct = path.distinct?;
    // As many digits as the error leaves.
    let all = match distinct.error > 0.0 {
        true => {
            let unit = 10_u64.pow(distinct.count.ilog10().saturating_sub(1));
            format!("about {}", (distinct.count + unit / 2) / unit * unit)
        }
        false => distinct.count.to_string(),
    };
    let is_measured = path.numbers.is_some() || path.times.is_some();
    let scalars: u64 = path
        .types
        .iter()
        .filter(|(of, _)| !matches!(*of, "null" | "list" | "map"))
        .map(|(_, count)| count)
        .sum();
    // A few values that repeat are named, with their shares.
    let covered: u64 = path.frequent.iter().map(|value| value.count).sum();
    let shown = |value: &Frequent| {
        format!("{} {}", self::value(&value.text, value.is_text, 20), percent(value.count, scalars))
    };
    let repeats = distinct.count < scalars;
    if repeats && !path.frequent.is_empty() && !is_measured && covered * 2 >= scalars {
        let most = path.frequent.iter().take(4).map(shown).collect::<Vec<String>>().join(", ");
        let more = if distinct.count > 4 { format!(", {all} in all") } else { String::new() };
        return Some(format!("{most}{more}"));
    }
    let example = path.examples.first().filter(|_| !is_measured);
    let such = example
        .map(|example| format!(", such as {}", value(&example.text, example.is_text, 30)))
        .unwrap_or_default();
    Some(match distinct.count {
        count if count == scalars && count > 1 => format!("all different{such}"),
        1 => such.trim_start_matches(", such as ").to_owned(),
        _ => format!("{all} different{such}"),
    })
    .filter(|text| !text.is_empty())
}

/// `2400 records in bookings.jsonl, 24 paths`
pub fn summary(report: &Report) -> String {
    let inputs = match report.inputs.as_slice() {
        [one] => one.clone(),
        several => counted(several.len(), "input"),
    };
    format!(
        "{} in {inputs}, {}",
        counted(report.records, "record"),
        counted(report.paths.len(), "path")
    )
}
