//! Functions of time: texts of ISO 8601 in and out.
//!
//! A time is a date and time with an offset (`2026-06-01T07:00:00Z`), one without, or a date.

use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp, Unit, Zoned, fmt::strtime};
use kyanite_tree::{Decimal, Value};

use super::{Call, Fault, Outcome, Run, Signature, Takes, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "timestamp",
        parameters: &[takes("text", Takes::TEXT), takes("pattern", Takes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The time that a text holds by a pattern (%Y %m %d %H %M %S %z %b …), in ISO 8601.",
        example: ("timestamp(\"01.06.2026 07:30\", \"%d.%m.%Y %H:%M\")", "\"2026-06-01T07:30:00\""),
        run: Run::Values(timestamp),
    },
    Signature {
        name: "format_time",
        parameters: &[takes("time", Takes::TEXT), takes("pattern", Takes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "A time as the pattern has it.",
        example: ("format_time(\"2026-06-01T07:30:00Z\", \"%d %b, %H:%M\")", "\"01 Jun, 07:30\""),
        run: Run::Values(format_time),
    },
    Signature {
        name: "add_time",
        parameters: &[takes("time", Takes::TEXT), takes("duration", Takes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The time a duration of ISO 8601 later, or earlier when it begins with a minus.",
        example: ("add_time(\"2026-05-31T23:00:00Z\", \"P1DT2H\")", "\"2026-06-02T01:00:00Z\""),
        run: Run::Values(add_time),
    },
    Signature {
        name: "time_between",
        parameters: &[
            takes("from", Takes::TEXT),
            takes("to", Takes::TEXT),
            takes("unit", Takes::TEXT),
        ],
        required: 3,
        repeats: false,
        result: Type::Number,
        summary: "How long it is from one time to another, in \"seconds\", \"minutes\", \"hours\" or \"days\" of 24 hours.",
        example: (
            "time_between(\"2026-06-01T07:00:00Z\", \"2026-06-01T08:30:00Z\", \"hours\")",
            "1.5",
        ),
        run: Run::Values(time_between),
    },
    Signature {
        name: "in_zone",
        parameters: &[takes("time", Takes::TEXT), takes("zone", Takes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The same time on the clocks of a time zone of the IANA database.",
        example: (
            "in_zone(\"2026-06-01T07:00:00Z\", \"Atlantic/Faroe\")",
            "\"2026-06-01T08:00:00+01:00\"",
        ),
        run: Run::Values(in_zone),
    },
];

/// A time as it was written.
enum Time {
    /// With an offset; whether that was written as `Z`.
    Zoned(Box<Zoned>, bool),
    Civil(DateTime),
    Date(Date),
}

impl Time {
    fn read(call: &Call<'_, '_>, position: usize) -> Result<Self, Fault> {
        let text = call.text(position);
        let wrong = || {
            let fault = Fault::new(position, format!("the text {text:?} is no time of ISO 8601"));
            fault.advise("write 2026-06-01T07:00:00Z, or read it with timestamp(text, pattern)")
        };
        let has_clock = text.contains(['T', 't']) || text.contains(' ') || text.contains(':');
        if !has_clock {
            return text.parse().map(Self::Date).map_err(|_| wrong());
        }
        let parts = jiff::fmt::temporal::DateTimeParser::new();
        if let Ok(pieces) = parts.parse_timestamp(text) {
            let is_utc = text.ends_with(['Z', 'z']);
            let offset = if is_utc {
                jiff::tz::Offset::UTC
            } else {
                jiff::fmt::temporal::Pieces::parse(text)
                    .ok()
                    .and_then(|pieces| pieces.to_numeric_offset())
                    .unwrap_or(jiff::tz::Offset::UTC)
            };
            let zoned = pieces.to_zoned(TimeZone::fixed(offset));
            return Ok(Self::Zoned(Box::new(zoned), is_utc));
        }
        text.parse().map(Self::Civil).map_err(|_| wrong())
    }

    fn spelled(&self) -> String {
        match self {
            Self::Zoned(zoned, true) => zoned.timestamp().to_string(),
            Self::Zoned(zoned, false) => {
                let offset = zoned.offset();
                let seconds = offset.seconds();
                let sign = if seconds < 0 { '-' } else { '+' };
                let minutes = seconds.abs() / 60;
                format!("{}{sign}{:02}:{:02}", zoned.datetime(), minutes / 60, minutes % 60)
            }
            Self::Civil(civil) => civil.to_string(),
            Self::Date(date) => date.to_string(),
        }
    }
}

fn fault(argument: usize, error: &jiff::Error) -> Fault {
    Fault::new(argument, error.to_string())
}

fn give<'a>(call: &Call<'_, 'a>, time: &Time) -> Outcome<'a> {
    Ok(Some(Value::text(call.arena.text(&time.spelled()))))
}

fn timestamp<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let (text, pattern) = (call.text(0), call.text(1));
    let read = strtime::parse(pattern, text).map_err(|error| {
        Fault::new(0, format!("the text {text:?} does not fit the pattern {pattern:?}: {error}"))
    })?;
    if read.offset().is_some()
        && let Ok(zoned) = read.to_zoned()
    {
        let is_utc = zoned.offset().is_zero();
        return give(call, &Time::Zoned(Box::new(zoned), is_utc));
    }
    match (read.to_datetime(), read.to_date()) {
        (Ok(civil), _) => give(call, &Time::Civil(civil)),
        (_, Ok(date)) => give(call, &Time::Date(date)),
        (Err(error), _) => Err(fault(1, &error)),
    }
}

fn format_time<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let pattern = call.text(1);
    let broken = match Time::read(call, 0)? {
        Time::Zoned(zoned, _) => strtime::BrokenDownTime::from(&*zoned),
        Time::Civil(civil) => strtime::BrokenDownTime::from(civil),
        Time::Date(date) => strtime::BrokenDownTime::from(date),
    };
    let text = broken.to_string(pattern).map_err(|error| fault(1, &error))?;
    Ok(Some(Value::text(call.arena.text(&text))))
}

fn add_time<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let text = call.text(1);
    let span: Span = text.parse().map_err(|_| {
        Fault::new(1, format!("the text {text:?} is no duration of ISO 8601"))
            .advise("write P1D for a day, PT90M for ninety minutes, -P1M for a month earlier")
    })?;
    let failed = |error: jiff::Error| fault(1, &error);
    let later = match Time::read(call, 0)? {
        Time::Zoned(zoned, is_utc) => {
            Time::Zoned(Box::new(zoned.checked_add(span).map_err(failed)?), is_utc)
        }
        Time::Civil(civil) => Time::Civil(civil.checked_add(span).map_err(failed)?),
        Time::Date(date) => Time::Date(date.checked_add(span).map_err(failed)?),
    };
    give(call, &later)
}

/// The instant of a time; one without an offset counts as UTC, so that two of them can be compared.
fn instant(time: &Time) -> Result<Timestamp, jiff::Error> {
    match time {
        Time::Zoned(zoned, _) => Ok(zoned.timestamp()),
        Time::Civil(civil) => civil.to_zoned(TimeZone::UTC).map(|zoned| zoned.timestamp()),
        Time::Date(date) => date.to_zoned(TimeZone::UTC).map(|zoned| zoned.timestamp()),
    }
}

fn time_between<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let (from, to) = (Time::read(call, 0)?, Time::read(call, 1)?);
    if matches!(from, Time::Zoned(..)) != matches!(to, Time::Zoned(..)) {
        let message = "one of the times has an offset, and the other has none";
        return Err(Fault::new(1, message).advise("give both an offset, such as Z"));
    }
    let per_unit = match call.text(2) {
        "seconds" => 1,
        "minutes" => 60,
        "hours" => 3600,
        "days" => 86_400,
        other => {
            let fault = Fault::new(2, format!("`{other}` is no unit"));
            return Err(fault.advise("units are seconds, minutes, hours, days"));
        }
    };
    let (from, to) = (instant(&from), instant(&to));
    let (Ok(from), Ok(to)) = (from, to) else {
        return Err(Fault::new(0, "the time is outside the years that can be counted"));
    };
    let span = from.until((Unit::Nanosecond, to)).map_err(|error| fault(0, &error))?;
    let nanoseconds = Decimal::from(span.get_nanoseconds());
    let seconds = nanoseconds
        .div(&Decimal::from(1_000_000_000))
        .and_then(|seconds| seconds.div(&Decimal::from(per_unit)))
        .map_err(|error| super::number_fault(0, error))?;
    Ok(Some(call.arena.number(&seconds)))
}

fn in_zone<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let name = call.text(1);
    let zone = TimeZone::get(name).map_err(|_| {
        Fault::new(1, format!("there is no time zone {name:?}"))
            .advise("zones are named as in Atlantic/Faroe")
    })?;
    match Time::read(call, 0)? {
        Time::Zoned(zoned, _) => {
            let there = zoned.with_time_zone(zone);
            give(call, &Time::Zoned(Box::new(there), false))
        }
        _ => Err(Fault::new(0, "the time has no offset, so it is not known when it is")
            .advise("write 2026-06-01T07:00:00Z")),
    }
}
