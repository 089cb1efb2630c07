//! Dates, times and durations with the lexical and value spaces of XML Schema (W3C XSD 1.1 part 2 sections 3.3.6 to 3.3.13,
//! and appendix E for the arithmetic).
//!
//! Years are any 64-bit number, seconds are exact decimals, and a zone is an offset in minutes or absent: jiff, which the
//! functions of the rule language use for zones and patterns, ends at the year 9999 and at nanoseconds.
//!
//! ```
//! use kyanite_eval::time::{DateTime, Duration};
//!
//! let sails: DateTime = "2026-06-01T07:00:00Z".parse().unwrap();
//! let later: Duration = "P1DT2H".parse().unwrap();
//! assert_eq!(sails.plus(&later).unwrap().to_string(), "2026-06-02T09:00:00Z");
//! ```

mod duration;
mod read;

use std::cmp::Ordering;
use std::fmt;

pub use duration::{Duration, DurationKind};
use kyanite_tree::Decimal;

/// Why a text is no time, or a time cannot be computed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum TimeError {
    /// The text is not in the lexical space.
    Lexical,
    /// The result lies outside of what can be held.
    Overflow,
}

impl fmt::Display for TimeError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Lexical => "it is not spelled like one",
            Self::Overflow => "the result is outside of what can be held",
        })
    }
}

impl std::error::Error for TimeError {}

/// Which parts of a date and time a value has.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Hash, PartialOrd, Ord)]
pub enum TimeKind {
    /// `2026-06-01T07:00:00`.
    DateTime,
    /// `2026-06-01`.
    Date,
    /// `07:00:00`.
    Time,
}

/// A date, a time, or both, with an offset from UTC or without.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct DateTime {
    /// Which parts it has; the others have values that nothing shows.
    pub kind: TimeKind,
    /// The year; 0 is the year before 1.
    pub year: i64,
    /// The month, from 1.
    pub month: u8,
    /// The day of the month, from 1.
    pub day: u8,
    /// The hour, 0 to 23.
    pub hour: u8,
    /// The minute.
    pub minute: u8,
    /// The second, with its fraction.
    pub second: Decimal,
    /// Minutes east of UTC.
    pub zone: Option<i16>,
}

/// The seconds of a day.
const DAY: i64 = 86_400;

/// The date that a time without one is computed with (F&O 3.1 section 9.4).
const REFERENCE: (i64, u8, u8) = (1972, 12, 31);

/// The number of days in a month.
#[must_use]
pub fn days_in_month(year: i64, month: u8) -> u8 {
    match month {
        2 if year.rem_euclid(4) == 0
            && (year.rem_euclid(100) != 0 || year.rem_euclid(400) == 0) =>
        {
            29
        }
        2 => 28,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// The days from 1970-01-01 to a date of the proleptic Gregorian calendar.
#[must_use]
pub fn days_from_date(year: i64, month: u8, day: u8) -> i64 {
    // Years that begin in March end with the day that leap years add.
    let shifted = if month <= 2 { year - 1 } else { year };
    let era = shifted.div_euclid(400);
    let year_of_era = shifted.rem_euclid(400);
    let month = (i64::from(month) + 9) % 12;
    let day_of_year = (153 * month + 2) / 5 + i64::from(day) - 1;
    era * 146_097 + year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year - 719_468
}

/// The date that many days after 1970-01-01.
#[must_use]
pub fn date_from_days(days: i64) -> (i64, u8, u8) {
    let days = days + 719_468;
    let era = days.div_euclid(146_097);
    let of_era = days.rem_euclid(146_097);
    let year = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    let year = year + era * 400 + i64::from(month <= 2);
    (year, month as u8, day as u8)
}

impl DateTime {
    /// The same instant or part of it as a value with other parts.
    #[must_use]
    pub fn to_kind(&self, kind: TimeKind) -> Self {
        let mut value = Self { kind, ..self.clone() };
        if kind == TimeKind::Date || self.kind == TimeKind::Date {
            (value.hour, value.minute, value.second) = (0, 0, Decimal::ZERO);
        }
        if kind == TimeKind::Time {
            (value.year, value.month, value.day) = REFERENCE;
        }
        value
    }

    /// A date and time of their parts; none where both have a zone and these differ.
    #[must_use]
    pub fn of(date: &Self, time: &Self) -> Option<Self> {
        let zone = match (date.zone, time.zone) {
            (Some(a), Some(b)) if a != b => return None,
            (a, b) => a.or(b),
        };
        let Self { year, month, day, .. } = *date;
        Some(Self { kind: TimeKind::DateTime, year, month, day, zone, ..time.clone() })
    }

    /// Whole seconds from 1970-01-01T00:00:00 on its own clock, and the fraction.
    fn clock(&self) -> (i64, Decimal) {
        let whole = self.second.floor().ok().and_then(|s| s.to_i64()).unwrap_or_default();
        let fraction = self.second.sub(&Decimal::from(whole)).unwrap_or(Decimal::ZERO);
        let days = days_from_date(self.year, self.month, self.day);
        let minutes = i64::from(self.hour) * 60 + i64::from(self.minute);
        (days.saturating_mul(DAY).saturating_add(minutes * 60 + whole), fraction)
    }

    /// Seconds from 1970-01-01T00:00:00Z; `implicit` is the zone, in minutes, where it has none.
    #[must_use]
    pub fn instant(&self, implicit: i16) -> Decimal {
        let (seconds, fraction) = self.clock();
        let zone = i64::from(self.zone.unwrap_or(implicit)) * 60;
        Decimal::from(seconds.saturating_sub(zone)).add(&fraction).unwrap_or(Decimal::ZERO)
    }

    /// A value whose clock shows that many seconds after 1970-01-01T00:00:00.
    fn from_clock(kind: TimeKind, seconds: &Decimal, zone: Option<i16>) -> Result<Self, TimeError> {
        let whole = seconds.floor().map_err(|_| TimeError::Overflow)?;
        let fraction = seconds.sub(&whole).map_err(|_| TimeError::Overflow)?;
        let whole = whole.to_i64().ok_or(TimeError::Overflow)?;
        let (year, month, day) = date_from_days(whole.div_euclid(DAY));
        if year.abs() > MOST_YEARS {
            return Err(TimeError::Overflow);
        }
        let of_day = whole.rem_euclid(DAY);
        let second = Decimal::from(of_day % 60).add(&fraction).map_err(|_| TimeError::Overflow)?;
        let (hour, minute) = ((of_day / 3600) as u8, (of_day / 60 % 60) as u8);
        let value = Self { kind: TimeKind::DateTime, year, month, day, hour, minute, second, zone };
        Ok(value.to_kind(kind))
    }

    /// The value a duration later (XSD 1.1 part 2 appendix E.3.3): months first, with the day kept inside the month, then
    /// seconds.
    ///
    /// # Errors
    /// [`TimeError::Overflow`].
    pub fn plus(&self, duration: &Duration) -> Result<Self, TimeError> {
        let months =
            (i64::from(self.month) - 1).checked_add(duration.months).ok_or(TimeError::Overflow)?;
        let year = self.year.checked_add(months.div_euclid(12)).ok_or(TimeError::Overflow)?;
        if year.abs() > MOST_YEARS {
            return Err(TimeError::Overflow);
        }
        let month = months.rem_euclid(12) as u8 + 1;
        let day = self.day.min(days_in_month(year, month));
        let moved = Self { year, month, day, ..self.clone() };
        let (seconds, fraction) = moved.clock();
        let sum = Decimal::from(seconds)
            .add(&fraction)
            .and_then(|clock| clock.add(&duration.seconds))
            .map_err(|_| TimeError::Overflow)?;
        Self::from_clock(self.kind, &sum, self.zone)
    }

    /// The same instant on the clock of another zone; without a zone, the same clock with that zone.
    ///
    /// # Errors
    /// [`TimeError::Overflow`].
    pub fn in_zone(&self, zone: i16) -> Result<Self, TimeError> {
        let Some(own) = self.zone else { return Ok(Self { zone: Some(zone), ..self.clone() }) };
        let shift = Decimal::from((i64::from(zone) - i64::from(own)) * 60);
        let duration = Duration { months: 0, seconds: shift, kind: DurationKind::DayTime };
        Ok(Self { zone: Some(zone), ..self.plus(&duration)? })
    }

    /// The order of two values of one kind; `implicit` is the zone of those without.
    #[must_use]
    pub fn order(&self, other: &Self, implicit: i16) -> Ordering {
        self.instant(implicit).cmp(&other.instant(implicit))
    }

    /// How long it is from `other` to this value.
    #[must_use]
    pub fn since(&self, other: &Self, implicit: i16) -> Duration {
        let seconds = self.instant(implicit).sub(&other.instant(implicit));
        let seconds = seconds.unwrap_or(Decimal::ZERO);
        Duration { months: 0, seconds, kind: DurationKind::DayTime }
    }

    /// The day of the week, 1 for Monday to 7 for Sunday (ISO 8601).
    #[must_use]
    pub fn weekday(&self) -> u8 {
        // 1970-01-01 was a Thursday.
        (days_from_date(self.year, self.month, self.day) + 3).rem_euclid(7) as u8 + 1
    }

    /// The day of the year, from 1.
    #[must_use]
    pub fn day_of_year(&self) -> i64 {
        days_from_date(self.year, self.month, self.day) - days_from_date(self.year, 1, 1) + 1
    }

    /// The week of the year that it is in (ISO 8601), from 1.
    #[must_use]
    pub fn week_of_year(&self) -> i64 {
        // The week belongs to the year that its Thursday is in.
        let days = days_from_date(self.year, self.month, self.day);
        let thursday = days + 4 - i64::from(self.weekday());
        let (year, ..) = date_from_days(thursday);
        (thursday - days_from_date(year, 1, 1)) / 7 + 1
    }
}

/// The largest year, before or after 0, that arithmetic gives.
const MOST_YEARS: i64 = 100_000_000_000;

impl fmt::Display for DateTime {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.kind != TimeKind::Time {
            let sign = if self.year < 0 { "-" } else { "" };
            write!(f, "{sign}{:04}-{:02}-{:02}", self.year.unsigned_abs(), self.month, self.day)?;
        }
        if self.kind == TimeKind::DateTime {
            f.write_str("T")?;
        }
        if self.kind != TimeKind::Date {
            write!(f, "{:02}:{:02}:{}", self.hour, self.minute, two_digits(&self.second))?;
        }
        match self.zone {
            None => Ok(()),
            Some(0) => f.write_str("Z"),
            Some(zone) => f.write_str(&zone_text(zone)),
        }
    }
}

/// Seconds with two digits before the point.
fn two_digits(second: &Decimal) -> String {
    let text = plain(second);
    let whole = text.find('.').unwrap_or(text.len());
    if whole < 2 { format!("0{text}") } else { text }
}

/// A decimal without an exponent.
#[must_use]
pub fn plain(decimal: &Decimal) -> String {
    crate::number::decimal_text(decimal)
}

/// A zone as it is written: `+01:00`, `-05:30`.
#[must_use]
pub fn zone_text(zone: i16) -> String {
    let sign = if zone < 0 { '-' } else { '+' };
    let minutes = zone.unsigned_abs();
    format!("{sign}{:02}:{:02}", minutes / 60, minutes % 60)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn time(text: &str) -> DateTime {
        text.parse().unwrap()
    }

    #[test]
    fn days_and_dates_are_each_others_inverse() {
        for days in (-1_000_000..1_000_000).step_by(13) {
            let (year, month, day) = date_from_days(days);
            assert_eq!(days_from_date(year, month, day), days);
            assert!(day <= days_in_month(year, month));
        }
        assert_eq!(date_from_days(0), (1970, 1, 1));
    }

    #[test]
    fn arithmetic_on_dates_and_times() {
        // F&O 3.1 sections 9.7.3 to 9.7.14.
        for (value, duration, wanted) in [
            ("2000-10-30T11:12:00", "P1Y2M", "2001-12-30T11:12:00"),
            ("2000-10-30T11:12:00", "P3DT1H15M", "2000-11-02T12:27:00"),
            ("2000-10-30", "P1Y2M", "2001-12-30"),
            ("2004-10-30Z", "P2DT2H30M0S", "2004-11-01Z"),
            ("11:12:00", "P3DT1H15M", "12:27:00"),
            ("23:12:00+03:00", "P1DT3H15M", "02:27:00+03:00"),
            ("2000-10-30T11:12:00", "-P1Y2M", "1999-08-30T11:12:00"),
            ("2000-02-29Z", "-P1Y", "1999-02-28Z"),
            ("2000-10-31-05:00", "-P1Y1M", "1999-09-30-05:00"),
            ("2000-10-30", "-P3DT1H15M", "2000-10-26"),
            ("08:20:00-05:00", "-P23DT10H10M", "22:10:00-05:00"),
        ] {
            let sum = time(value).plus(&duration.parse().unwrap()).unwrap();
            assert_eq!(sum.to_string(), wanted, "{value} {duration}");
        }
    }

    #[test]
    fn zones_and_differences() {
        for (value, zone, wanted) in [
            ("2002-03-07T10:00:00", -600, "2002-03-07T10:00:00-10:00"),
            ("2002-03-07T10:00:00-07:00", -600, "2002-03-07T07:00:00-10:00"),
            ("2002-03-07T10:00:00-07:00", 600, "2002-03-08T03:00:00+10:00"),
            ("2002-03-07T00:00:00+01:00", -480, "2002-03-06T15:00:00-08:00"),
            ("2002-03-07-07:00", -600, "2002-03-06-10:00"),
            ("10:00:00-07:00", 600, "03:00:00+10:00"),
        ] {
            assert_eq!(time(value).in_zone(zone).unwrap().to_string(), wanted);
        }
        let implicit = -300;
        let between = time("2000-10-30T06:12:00").since(&time("1999-11-28T09:00:00Z"), implicit);
        assert_eq!(between.to_string(), "P337DT2H12M");
        assert_eq!(time("12:00:00-05:00").order(&time("17:00:00Z"), 0), Ordering::Equal);
        assert_eq!((time("2026-11-28").weekday(), time("2026-01-01").week_of_year()), (6, 1));
        assert_eq!(time("2021-01-03").week_of_year(), 53);
    }
}
