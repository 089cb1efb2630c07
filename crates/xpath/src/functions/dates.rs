//! Functions on dates, times and durations (F&O 3.1 sections 8 and 9).

use std::sync::Arc;

use kyanite_eval::atomic::{Atomic, AtomicType};
use kyanite_eval::picture;
use kyanite_eval::time::{DateTime, Duration, DurationKind, TimeKind};
use kyanite_tree::Decimal;

use super::{
    Call, Function, Occurs, Outcome, Parameter, atomic, failed, function, optional_text, text,
};
use crate::error::Error;
use crate::value::Sequence;

const fn date_time() -> Parameter {
    atomic("value", AtomicType::Time(TimeKind::DateTime), Occurs::Optional)
}

const fn date() -> Parameter {
    atomic("value", AtomicType::Time(TimeKind::Date), Occurs::Optional)
}

const fn time() -> Parameter {
    atomic("value", AtomicType::Time(TimeKind::Time), Occurs::Optional)
}

const fn duration() -> Parameter {
    atomic("value", AtomicType::Duration(DurationKind::Any), Occurs::Optional)
}

const fn zone() -> Parameter {
    atomic("zone", AtomicType::Duration(DurationKind::DayTime), Occurs::Optional)
}

/// The arguments of a function that shows a value by a picture.
const fn shown(value: Parameter) -> [Parameter; 5] {
    [
        value,
        text("picture"),
        optional_text("language"),
        optional_text("calendar"),
        optional_text("place"),
    ]
}

const SHOWN_DATE_TIME: [Parameter; 5] = shown(date_time());
const SHOWN_DATE: [Parameter; 5] = shown(date());
const SHOWN_TIME: [Parameter; 5] = shown(time());

pub(super) const TABLE: &[Function] = &[
    function("dateTime", &[date(), time()], 2, combined),
    function("years-from-duration", &[duration()], 1, |call| of_duration(call, 0)),
    function("months-from-duration", &[duration()], 1, |call| of_duration(call, 1)),
    function("days-from-duration", &[duration()], 1, |call| of_duration(call, 2)),
    function("hours-from-duration", &[duration()], 1, |call| of_duration(call, 3)),
    function("minutes-from-duration", &[duration()], 1, |call| of_duration(call, 4)),
    function("seconds-from-duration", &[duration()], 1, |call| match call.atomic(0) {
        Some(Atomic::Duration(d)) => Ok(Sequence::atomic(Atomic::decimal(d.components().1))),
        _ => Ok(Sequence::Empty),
    }),
    function("year-from-dateTime", &[date_time()], 1, |call| part(call, |t| t.year)),
    function("month-from-dateTime", &[date_time()], 1, |call| part(call, |t| i64::from(t.month))),
    function("day-from-dateTime", &[date_time()], 1, |call| part(call, |t| i64::from(t.day))),
    function("hours-from-dateTime", &[date_time()], 1, |call| part(call, |t| i64::from(t.hour))),
    function("minutes-from-dateTime", &[date_time()], 1, |call| {
        part(call, |t| i64::from(t.minute))
    }),
    function("seconds-from-dateTime", &[date_time()], 1, seconds),
    function("timezone-from-dateTime", &[date_time()], 1, zone_of),
    function("year-from-date", &[date()], 1, |call| part(call, |t| t.year)),
    function("month-from-date", &[date()], 1, |call| part(call, |t| i64::from(t.month))),
    function("day-from-date", &[date()], 1, |call| part(call, |t| i64::from(t.day))),
    function("timezone-from-date", &[date()], 1, zone_of),
    function("hours-from-time", &[time()], 1, |call| part(call, |t| i64::from(t.hour))),
    function("minutes-from-time", &[time()], 1, |call| part(call, |t| i64::from(t.minute))),
    function("seconds-from-time", &[time()], 1, seconds),
    function("timezone-from-time", &[time()], 1, zone_of),
    function("adjust-dateTime-to-timezone", &[date_time(), zone()], 1, adjust),
    function("adjust-date-to-timezone", &[date(), zone()], 1, adjust),
    function("adjust-time-to-timezone", &[time(), zone()], 1, adjust),
    function("format-dateTime", &SHOWN_DATE_TIME, 2, format),
    function("format-date", &SHOWN_DATE, 2, format),
    function("format-time", &SHOWN_TIME, 2, format),
    function("parse-ietf-date", &[optional_text("text")], 1, ietf),
];

fn value(call: &Call<'_, '_, '_>, at: usize) -> Option<Arc<DateTime>> {
    match call.atomic(at) {
        Some(Atomic::Time(time)) => Some(time),
        _ => None,
    }
}

fn combined<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let (Some(date), Some(time)) = (value(call, 0), value(call, 1)) else {
        return Ok(Sequence::Empty);
    };
    match DateTime::of(&date, &time) {
        Some(both) => Ok(Sequence::atomic(Atomic::time(both))),
        None => Err(failed("FORG0008", "the date and the time have different zones")),
    }
}

fn of_duration<'d>(call: &Call<'_, '_, 'd>, part: usize) -> Outcome<'d> {
    match call.atomic(0) {
        Some(Atomic::Duration(duration)) => {
            Ok(Sequence::atomic(Atomic::Integer(duration.components().0[part])))
        }
        _ => Ok(Sequence::Empty),
    }
}

fn part<'d>(call: &Call<'_, '_, 'd>, of: fn(&DateTime) -> i64) -> Outcome<'d> {
    Ok(value(call, 0).map_or(Sequence::Empty, |t| Sequence::atomic(Atomic::Integer(of(&t)))))
}

fn seconds<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let second = value(call, 0).map(|time| Atomic::decimal(time.second.clone()));
    Ok(second.map_or(Sequence::Empty, Sequence::atomic))
}

fn zone_of<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let zone = value(call, 0).and_then(|time| time.zone);
    Ok(zone.map_or(Sequence::Empty, |zone| Sequence::atomic(zone_value(zone))))
}

/// A zone as a duration.
pub(super) fn zone_value<'d>(minutes: i16) -> Atomic<'d> {
    Atomic::duration(Duration::of_seconds(Decimal::from(i64::from(minutes) * 60)))
}

fn adjust<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(time) = value(call, 0) else { return Ok(Sequence::Empty) };
    let zone = match (call.has(1), call.atomic(1)) {
        (false, _) => call.run.context.zone,
        (true, Some(Atomic::Duration(duration))) => zone_minutes(&duration)?,
        _ => return Ok(Sequence::atomic(Atomic::time(DateTime { zone: None, ..(*time).clone() }))),
    };
    let adjusted = time.in_zone(zone).map_err(|e| failed("FODT0001", e.to_string()))?;
    Ok(Sequence::atomic(Atomic::time(adjusted)))
}

fn zone_minutes(duration: &Duration) -> Result<i16, Error> {
    let minutes = duration.seconds.div(&Decimal::from(60)).ok().and_then(|m| m.to_i64());
    let minutes = minutes.filter(|minutes| minutes.abs() <= 14 * 60);
    minutes.and_then(|minutes| i16::try_from(minutes).ok()).ok_or_else(|| {
        failed("FODT0003", format!("{duration} is no zone: whole minutes, up to 14 hours, are"))
    })
}

fn format<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(time) = value(call, 0) else { return Ok(Sequence::Empty) };
    let calendar = call.optional_text(3);
    if let Some(other) = calendar.filter(|name| !matches!(&**name, "" | "ISO" | "AD" | "CE")) {
        return Err(failed("FOFD1340", format!("the calendar {:?} is not known", &*other)));
    }
    let shown = picture::date::format(&time, &call.text(1))?;
    // Words are English; another language is said as the standard says (F&O 3.1 section 9.8.4.1).
    let is_english = call.optional_text(2).is_none_or(|l| l.is_empty() || l.starts_with("en"));
    Ok(Sequence::text(if is_english { shown } else { format!("[Language: en]{shown}") }))
}

const MONTHS: [&str; 12] =
    ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

const DAYS: [&str; 14] = [
    "mon",
    "tue",
    "wed",
    "thu",
    "fri",
    "sat",
    "sun",
    "monday",
    "tuesday",
    "wednesday",
    "thursday",
    "friday",
    "saturday",
    "sunday",
];

/// `Wed, 06 Jun 1994 07:29:35 GMT`, and the other forms that mail and web servers write (F&O 3.1 section 9.9.1).
fn ietf<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(text) = call.optional_text(0) else { return Ok(Sequence::Empty) };
    let wrong = || failed("FORG0010", format!("{:?} is no date of a mail or web server", &*text));
    let lower = text.to_lowercase();
    let mut words: Vec<String> = lower
        .replace(',', " ")
        .split_whitespace()
        .flat_map(|word| {
            // 06-Jun-1994 is one word, and a zone may stand close to the time.
            let parts: Vec<String> = match word.matches('-').count() {
                2 if word.chars().any(char::is_alphabetic) => {
                    word.split('-').map(str::to_owned).collect()
                }
                _ => vec![word.to_owned()],
            };
            parts
        })
        .collect();
    if words.first().is_some_and(|word| DAYS.contains(&word.as_str())) {
        words.remove(0);
    }
    let month_at =
        words.iter().position(|word| MONTHS.contains(&word.as_str())).ok_or_else(wrong)?;
    let month = MONTHS.iter().position(|m| *m == words[month_at]).map_or(1, |m| m as u8 + 1);
    let clock_at = words.iter().position(|word| word.contains(':')).ok_or_else(wrong)?;
    let (day, year, zone) = match (month_at, clock_at) {
        // 06 Jun 1994 07:29:35 GMT
        (1, 3) => (words.first(), words.get(2), words.get(4..)),
        // Jun 06 07:29:35 GMT 1994
        (0, 2) => (words.get(1), words.last(), words.get(3..words.len().saturating_sub(1))),
        _ => return Err(wrong()),
    };
    let day: u8 = day.and_then(|day| day.parse().ok()).ok_or_else(wrong)?;
    let year_text = year.ok_or_else(wrong)?;
    let year: i64 = year_text.parse().map_err(|_| wrong())?;
    let year = if year_text.len() == 2 { year + 1900 } else { year };
    let clock_word = &words[clock_at];
    let at = clock_word.find(['+', '-']).unwrap_or(clock_word.len());
    let (clock, close_zone) = clock_word.split_at(at);
    let zone_words: String = match zone {
        Some(words) if !words.is_empty() => words.concat(),
        _ => close_zone.to_owned(),
    };
    let zone = ietf_zone(zone_words.split('(').next().unwrap_or_default()).ok_or_else(wrong)?;
    let clock =
        if clock.matches(':').count() == 1 { format!("{clock}:00") } else { clock.to_owned() };
    let clock = if clock.find(':') == Some(1) { format!("0{clock}") } else { clock };
    let shown = format!("{year:04}-{month:02}-{day:02}T{clock}");
    let time = DateTime::read(&shown, TimeKind::DateTime).map_err(|_| wrong())?;
    Ok(Sequence::atomic(Atomic::time(DateTime { zone: Some(zone), ..time })))
}

fn ietf_zone(text: &str) -> Option<i16> {
    let hours = |hours: i16| Some(hours * 60);
    match text {
        "" | "gmt" | "ut" | "utc" | "z" => return Some(0),
        "est" => return hours(-5),
        "edt" => return hours(-4),
        "cst" => return hours(-6),
        "cdt" => return hours(-5),
        "mst" => return hours(-7),
        "mdt" => return hours(-6),
        "pst" => return hours(-8),
        "pdt" => return hours(-7),
        _ => {}
    }
    let (sign, digits) = match text.strip_prefix('-') {
        Some(digits) => (-1, digits),
        None => (1, text.strip_prefix('+')?),
    };
    let digits = digits.replace(':', "");
    let number: i16 = digits.parse().ok()?;
    let minutes = if digits.len() <= 2 { number * 60 } else { number / 100 * 60 + number % 100 };
    (minutes <= 14 * 60).then_some(sign * minutes)
}
