//! Dates and times: the first, the last, and quantiles.
//!
//! Instants are counted in buckets that are a power of two of seconds wide, aligned to it: the narrowest of which a bounded number covers
//! all of them. So what is told does not depend on the order in which times come.

use std::collections::BTreeMap;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use crate::numbers::{quantiles, spread};
use crate::state::total;

/// The most buckets.
const BUCKETS: i64 = 4096;

/// What is told of dates and times.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct TimesReport {
    /// How many there are.
    pub count: u64,
    /// The first in time, as it was spelled.
    pub first: String,
    /// The last in time.
    pub last: String,
    /// The times at [`QUANTILES`](crate::QUANTILES): a date where all are dates, else a time in UTC.
    pub quantiles: Vec<String>,
    /// How many lie in each of some parts of equal length between the first and the last.
    pub spread: Vec<u64>,
}

/// Times, counted.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Times {
    count: u64,
    first: (i64, Box<str>),
    last: (i64, Box<str>),
    are_dates: bool,
    /// The width of a bucket as a power of two of seconds.
    width: u32,
    buckets: BTreeMap<i64, u64>,
}

/// The second since 1970 that a date or a time with its date spells; without an offset it is taken for UTC.
pub(crate) fn instant(text: &str) -> Option<i64> {
    if text.len() == 10 {
        let date: Date = text.parse().ok()?;
        return seconds(date.to_datetime(jiff::civil::Time::midnight()));
    }
    match text.parse::<Timestamp>() {
        Ok(instant) => Some(instant.as_second()),
        Err(_) => seconds(text.parse().ok()?),
    }
}

fn seconds(local: DateTime) -> Option<i64> {
    local.to_zoned_datetime(TimeZone::UTC).ok().map(|zoned| zoned.timestamp().as_second())
}

impl Times {
    /// The first time, which occurred so often.
    pub(crate) fn of(spelled: &str, instant: i64, count: u64) -> Self {
        let bound = (instant, Box::<str>::from(spelled));
        let mut times = Self {
            count: 0,
            first: bound.clone(),
            last: bound,
            are_dates: true,
            width: 0,
            buckets: BTreeMap::new(),
        };
        times.add(spelled, instant, count);
        times
    }

    /// Takes a time that occurred so often.
    pub(crate) fn add(&mut self, spelled: &str, instant: i64, count: u64) {
        self.count += count;
        if instant < self.first.0 {
            self.first = (instant, spelled.into());
        }
        if instant > self.last.0 {
            self.last = (instant, spelled.into());
        }
        self.are_dates &= spelled.len() == 10;
        self.widen(0);
        *self.buckets.entry(instant >> self.width).or_default() += count;
    }

    /// Makes buckets so wide that few cover all, and at least so wide.
    fn widen(&mut self, least: u32) {
        let mut width = self.width.max(least);
        while (self.last.0 >> width) - (self.first.0 >> width) >= BUCKETS {
            width += 1;
        }
        let by = width - self.width;
        if by > 0 {
            self.width = width;
            for (bucket, count) in std::mem::take(&mut self.buckets) {
                *self.buckets.entry(bucket >> by).or_default() += count;
            }
        }
    }

    /// Takes what another counted later.
    pub(crate) fn merge(&mut self, mut other: Self) {
        self.count += other.count;
        if other.first.0 < self.first.0 {
            self.first = other.first.clone();
        }
        if other.last.0 > self.last.0 {
            self.last = other.last.clone();
        }
        self.are_dates &= other.are_dates;
        self.widen(other.width);
        other.widen(self.width);
        for (bucket, count) in other.buckets {
            *self.buckets.entry(bucket).or_default() += count;
        }
    }

    /// Whether all is within the years that there are, and in order, and possible for `values` values.
    pub(crate) fn is_sound(&self, values: u64) -> bool {
        let years = Timestamp::MIN.as_second()..=Timestamp::MAX.as_second();
        years.contains(&self.first.0)
            && years.contains(&self.last.0)
            && self.first.0 <= self.last.0
            && self.width < 48
            && self.count <= values
            && total(self.buckets.values()) == Some(self.count)
    }

    /// In how many buckets they are.
    pub(crate) fn buckets(&self) -> usize {
        self.buckets.len()
    }

    /// What is told of them.
    #[allow(clippy::cast_possible_truncation, clippy::cast_precision_loss)]
    pub(crate) fn report(&self) -> TimesReport {
        let middle = |bucket: &i64| {
            let begin = bucket << self.width;
            (begin + (1_i64 << self.width) / 2).clamp(self.first.0, self.last.0) as f64
        };
        let counts: Vec<(f64, u64)> =
            self.buckets.iter().map(|(bucket, count)| (middle(bucket), *count)).collect();
        let spelled = |seconds: f64| {
            let instant = Timestamp::from_second(seconds as i64).unwrap_or_default();
            let local = instant.to_zoned_datetime(TimeZone::UTC).datetime();
            if self.are_dates { local.date().to_string() } else { instant.to_string() }
        };
        TimesReport {
            count: self.count,
            first: self.first.1.to_string(),
            last: self.last.1.to_string(),
            quantiles: quantiles(&counts).into_iter().map(spelled).collect(),
            spread: spread(&counts, self.first.0 as f64, self.last.0 as f64),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn instants() {
        assert_eq!(instant("1970-01-02"), Some(86_400));
        assert_eq!(instant("1970-01-01T01:00:00+01:00"), Some(0));
        assert_eq!(instant("1970-01-01T00:00:05Z"), Some(5));
        assert_eq!(instant("1970-01-01T00:00:05"), Some(5));
        assert_eq!((instant("2026-02-30"), instant("soon")), (None, None));
    }

    #[test]
    fn parts_make_what_the_whole_makes() {
        let all: Vec<String> = (1..=28)
            .flat_map(|day| (2000..2026).map(move |year| format!("{year}-06-{day:02}")))
            .collect();
        let of = |texts: &[String]| {
            let mut texts = texts.iter().map(|text| (text, instant(text).unwrap()));
            let (first, at) = texts.next().unwrap();
            let mut times = Times::of(first, at, 1);
            texts.for_each(|(text, at)| times.add(text, at, 1));
            times
        };
        let mut joined = of(&all[400..]);
        joined.merge(of(&all[..400]));
        let report = joined.report();
        assert_eq!(report, of(&all).report());
        assert_eq!((report.first.as_str(), report.last.as_str()), ("2000-06-01", "2025-06-28"));
        assert!(report.quantiles[2].starts_with("2012-06"), "{}", report.quantiles[2]);
    }
}
