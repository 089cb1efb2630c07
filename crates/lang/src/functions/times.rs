//! Functions of time: texts of ISO 8601 in and out.
//!
//! A time is a date and time with an offset (`2026-06-01T07:00:00Z`), one without, or a date.

use std::borrow::Cow;

use jiff::civil::{Date, DateTime};
use jiff::fmt::strtime::{self, BrokenDownTime};
use jiff::fmt::temporal::{Pieces, PiecesOffset};
use jiff::tz::{Offset, TimeZone};
use jiff::{SignedDuration, Span, Timestamp};
use kyanite_tree::{Decimal, Value};

use super::{Call, CallError, Outcome, ParameterTypes, Run, Signature, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "timestamp",
        parameters: &[takes("text", ParameterTypes::TEXT), takes("pattern", ParameterTypes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The time that a text holds by a pattern (%Y %m %d %H %M %S %z %b …), in ISO 8601.",
        example: ("timestamp(\"01.06.2026 07:30\", \"%d.%m.%Y %H:%M\")", "\"2026-06-01T07:30:00\""),
        run: Run::Values(timestamp),
    },
    Signature {
        name: "format_time",
        parameters: &[takes("time", ParameterTypes::TEXT), takes("pattern", ParameterTypes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "A time as the pattern has it.",
        example: ("format_time(\"2026-06-01T07:30:00Z\", \"%d %b, %H:%M\")", "\"01 Jun, 07:30\""),
        run: Run::Values(format_time),
    },
    Signature {
        name: "add_time",
        parameters: &[takes("time", ParameterTypes::TEXT), takes("duration", ParameterTypes::TEXT)],
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
            takes("from", ParameterTypes::TEXT),
            takes("to", ParameterTypes::TEXT),
            takes("unit", ParameterTypes::TEXT),
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
        parameters: &[takes("time", ParameterTypes::TEXT), takes("zone", ParameterTypes::TEXT)],
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
    /// With an offset.
    Zoned(Instant),
    Civil(DateTime),
    Date(Date),
}

/// A date and time with the offset of its clock.
#[derive(Clone, Copy)]
struct Instant {
    clock: DateTime,
    offset: Offset,
    /// Whether the offset was written as `Z`.
    is_utc: bool,
}

/// What to do about a time that is none.
const TIMES: &str = "write 2026-06-01T07:00:00Z, or read it with timestamp(text, pattern)";

impl Time {
    fn read(call: &Call<'_, '_>, position: usize) -> Result<Self, CallError> {
        let text = call.text(position);
        let wrong = || {
            let message = format!("the text {text:?} is no time of ISO 8601");
            CallError::new(position, message).advise(TIMES)
        };
        let has_clock = text.contains(['T', 't']) || text.contains(' ') || text.contains(':');
        if !has_clock {
            return text.parse().map(Self::Date).map_err(|_| wrong());
        }
        let pieces = Pieces::parse(text).map_err(|_| wrong())?;
        let clock = pieces.date().to_datetime(pieces.time().ok_or_else(wrong)?);
        if clock.second() == 59 && has_second_60(text) {
            return Err(leap_second(position, text));
        }
        Ok(match pieces.offset() {
            None if pieces.time_zone_annotation().is_some() => return Err(wrong()),
            None => Self::Civil(clock),
            Some(PiecesOffset::Zulu) => {
                Self::Zoned(Instant { clock, offset: Offset::UTC, is_utc: true })
            }
            Some(_) => {
                let offset = pieces.to_numeric_offset().ok_or_else(wrong)?;
                Self::Zoned(Instant { clock, offset, is_utc: false })
            }
        })
    }

    fn spelled(&self) -> String {
        match self {
            Self::Zoned(Instant { clock, is_utc: true, .. }) => format!("{clock}Z"),
            Self::Zoned(Instant { clock, offset, .. }) => {
                let seconds = offset.seconds();
                let sign = if seconds < 0 { '-' } else { '+' };
                let minutes = seconds.abs() / 60;
                format!("{clock}{sign}{:02}:{:02}", minutes / 60, minutes % 60)
            }
            Self::Civil(civil) => civil.to_string(),
            Self::Date(date) => date.to_string(),
        }
    }

    /// Date and clock; a date alone begins its day.
    fn clock(&self) -> DateTime {
        match self {
            Self::Zoned(Instant { clock, .. }) | Self::Civil(clock) => *clock,
            Self::Date(date) => date.to_datetime(jiff::civil::Time::midnight()),
        }
    }
}

/// Whether the clock of a time of ISO 8601 says 60 seconds.
fn has_second_60(text: &str) -> bool {
    let clock = text.split(['T', 't', ' ']).nth(1).unwrap_or_default();
    let clock = clock.split(['.', ',', 'Z', 'z', '+', '-', '[']).next().unwrap_or_default();
    let digits: String = clock.chars().filter(char::is_ascii_digit).collect();
    digits.get(4..6) == Some("60")
}

/// A second that only clocks of UTC have, and no calendar computes with.
fn leap_second(position: usize, text: &str) -> CallError {
    CallError::new(
        position,
        format!("the text {text:?} is a leap second, which cannot be computed with"),
    )
    .advise("give the second before it, or the one behind it")
}

/// What leads out of the years that are computed with.
fn out_of_range(position: usize) -> CallError {
    CallError::new(position, "the time is outside the years -9999 to 9999")
}

fn give<'a>(call: &Call<'_, 'a>, time: &Time) -> Outcome<'a> {
    Ok(Some(Value::text(call.arena.text(&time.spelled()))))
}

fn timestamp<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let (text, pattern) = (call.text(0), call.text(1));
    if let Some(unknown) = conversions(pattern).find(|conversion| !is_known(conversion)) {
        return Err(unknown_conversion(unknown));
    }
    let read = strtime::parse(pattern, text).map_err(|_| {
        CallError::new(0, format!("the text {text:?} does not fit the pattern {pattern:?}"))
    })?;
    if read.second() == Some(59) && fits_with_second_60(&read, pattern, text) {
        return Err(leap_second(0, text));
    }
    let offset = read.offset();
    match (read.to_datetime(), read.to_date()) {
        (Ok(clock), _) => {
            let zoned =
                |offset: Offset| Time::Zoned(Instant { clock, offset, is_utc: offset.is_zero() });
            give(call, &offset.map_or(Time::Civil(clock), zoned))
        }
        (_, Ok(date)) => give(call, &Time::Date(date)),
        _ => match read.to_timestamp() {
            Ok(instant) => {
                let clock = Offset::UTC.to_datetime(instant);
                give(call, &Time::Zoned(Instant { clock, offset: Offset::UTC, is_utc: true }))
            }
            Err(_) => Err(CallError::new(1, format!("the pattern {pattern:?} gives no date"))
                .advise("a date has a year, a month and a day: %Y %m %d")),
        },
    }
}

/// Whether the text is the time that was read but for a 60 in place of 59 seconds.
fn fits_with_second_60(read: &BrokenDownTime, pattern: &str, text: &str) -> bool {
    let Ok(written) = read.to_string(pattern) else { return false };
    text.match_indices("60").any(|(at, _)| {
        written.len() == text.len() && format!("{}59{}", &text[..at], &text[at + 2..]) == written
    })
}

/// The conversions of a pattern, each with its flags and its `%`.
fn conversions(pattern: &str) -> impl Iterator<Item = &str> {
    let mut rest = pattern;
    std::iter::from_fn(move || {
        let start = rest.find('%')?;
        let from = &rest[start..];
        let is_flag = |c: char| !c.is_ascii_alphabetic() && c != '%';
        let end = from[1..].find(|c| !is_flag(c)).map_or(from.len(), |at| {
            1 + at + from[1 + at..].chars().next().map_or(0, char::len_utf8)
        });
        rest = &from[end..];
        Some(&from[..end])
    })
}

/// Whether a conversion means something for some time.
fn is_known(conversion: &str) -> bool {
    let noon = jiff::civil::date(2026, 6, 1).at(12, 0, 0, 0);
    let any = noon.to_zoned_datetime(TimeZone::UTC).map(|zoned| BrokenDownTime::from(&zoned));
    any.is_ok_and(|any| any.to_string(conversion).is_ok())
}

fn unknown_conversion(conversion: &str) -> CallError {
    CallError::new(1, format!("`{conversion}` in the pattern means nothing"))
        .advise("conversions are %Y %m %d %H %M %S %z %b %a …; %% is a percent sign")
}

fn format_time<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let mut pattern = Cow::Borrowed(call.text(1));
    let time = Time::read(call, 0)?;
    let parts = match time {
        Time::Zoned(Instant { clock, offset, .. }) => {
            match clock.to_zoned_datetime(TimeZone::fixed(offset)) {
                Ok(zoned) => BrokenDownTime::from(&zoned),
                // The very last hours have no number of seconds since 1970 in the library.
                Err(_) => {
                    let since = jiff::civil::date(1970, 1, 1).at(0, 0, 0, 0).duration_until(clock);
                    let seconds = (since.as_secs() - i64::from(offset.seconds())).to_string();
                    let parts = pattern.split("%%").map(|part| part.replace("%s", &seconds));
                    pattern = parts.collect::<Vec<_>>().join("%%").into();
                    let mut parts = BrokenDownTime::from(clock);
                    parts.set_offset(Some(offset));
                    parts
                }
            }
        }
        Time::Civil(civil) => BrokenDownTime::from(civil),
        Time::Date(date) => BrokenDownTime::from(date),
    };
    let text = parts.to_string(&*pattern).map_err(|_| {
        let wrong = conversions(&pattern).find(|conversion| parts.to_string(conversion).is_err());
        match wrong {
            Some(conversion) if is_known(conversion) => {
                let message = format!("the time {:?} has nothing for `{conversion}`", call.text(0));
                CallError::new(0, message)
            }
            wrong => unknown_conversion(wrong.unwrap_or(&pattern)),
        }
    })?;
    Ok(Some(Value::text(call.arena.text(&text))))
}

fn add_time<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let text = call.text(1);
    let span: Span = text.parse().map_err(|_| {
        CallError::new(1, format!("the text {text:?} is no duration of ISO 8601"))
            .advise("write P1D for a day, PT90M for ninety minutes, -P1M for a month earlier")
    })?;
    let later = match Time::read(call, 0)? {
        // A clock that is never put forward or back.
        Time::Zoned(instant) => {
            let clock = instant.clock.checked_add(span).map_err(|_| out_of_range(1))?;
            Time::Zoned(Instant { clock, ..instant })
        }
        Time::Civil(civil) => Time::Civil(civil.checked_add(span).map_err(|_| out_of_range(1))?),
        Time::Date(date) => Time::Date(date.checked_add(span).map_err(|_| out_of_range(1))?),
    };
    give(call, &later)
}

fn time_between<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let (from, to) = (Time::read(call, 0)?, Time::read(call, 1)?);
    // Times without an offset are on the same clock.
    let offsets = match (&from, &to) {
        (Time::Zoned(from), Time::Zoned(to)) => to.offset.seconds() - from.offset.seconds(),
        (Time::Zoned(_), _) | (_, Time::Zoned(_)) => {
            let message = "one of the times has an offset, and the other has none";
            return Err(CallError::new(1, message).advise("give both an offset, such as Z"));
        }
        _ => 0,
    };
    let per_unit = match call.text(2) {
        "seconds" => 1,
        "minutes" => 60,
        "hours" => 3600,
        "days" => 86_400,
        other => {
            let fault = CallError::new(2, format!("`{other}` is no unit"));
            return Err(fault.advise("units are seconds, minutes, hours, days"));
        }
    };
    let between = from.clock().duration_until(to.clock());
    let between = between.saturating_sub(SignedDuration::from_secs(i64::from(offsets)));
    let nanoseconds = Decimal::from(i64::from(between.subsec_nanos()));
    let seconds = nanoseconds
        .div(&Decimal::from(1_000_000_000))
        .and_then(|part| part.add(&Decimal::from(between.as_secs())))
        .and_then(|seconds| seconds.div(&Decimal::from(per_unit)))
        .map_err(|error| super::number_fault(0, error))?;
    Ok(Some(call.arena.number(&seconds)))
}

fn in_zone<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let name = call.text(1);
    let zone = TimeZone::get(name).map_err(|_| {
        CallError::new(1, format!("there is no time zone {name:?}"))
            .advise("zones are named as in Atlantic/Faroe")
    })?;
    let Time::Zoned(Instant { clock, offset, .. }) = Time::read(call, 0)? else {
        return Err(CallError::new(0, "the time has no offset, so it is not known when it is")
            .advise("write 2026-06-01T07:00:00Z"));
    };
    let by = |offset: Offset| SignedDuration::from_secs(i64::from(offset.seconds()));
    let utc = clock.checked_sub(by(offset)).map_err(|_| out_of_range(0))?;
    // The very last hours are later than any instant here; no zone changes its offset in them.
    let last = if utc.year() > 0 { Timestamp::MAX } else { Timestamp::MIN };
    let instant = Offset::UTC.to_timestamp(utc).unwrap_or(last);
    let offset = zone.to_offset(instant);
    let clock = utc.checked_add(by(offset)).map_err(|_| out_of_range(0))?;
    give(call, &Time::Zoned(Instant { clock, offset, is_utc: false }))
}
