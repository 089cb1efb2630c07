//! Durations: months, and seconds (XSD 1.1 part 2 sections 3.3.6, 3.4.26 and 3.4.27).

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use kyanite_tree::Decimal;

use super::read::Front;
use super::{TimeError, plain};

/// Which parts a duration may have.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Hash, PartialOrd, Ord)]
pub enum DurationKind {
    /// Years, months, days and times of day.
    Any,
    /// Years and months.
    YearMonth,
    /// Days and times of day.
    DayTime,
}

/// A duration. Months and seconds have the same sign.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Duration {
    /// The months, twelve a year.
    pub months: i64,
    /// The seconds, 86,400 a day.
    pub seconds: Decimal,
    /// Which parts it may have.
    pub kind: DurationKind,
}

impl Duration {
    /// A duration of seconds.
    #[must_use]
    pub fn of_seconds(seconds: Decimal) -> Self {
        Self { months: 0, seconds, kind: DurationKind::DayTime }
    }

    /// A duration of months.
    #[must_use]
    pub fn of_months(months: i64) -> Self {
        Self { months, seconds: Decimal::ZERO, kind: DurationKind::YearMonth }
    }

    /// Reads a duration whose parts are those of `kind`.
    ///
    /// # Errors
    /// [`TimeError::Lexical`], and [`TimeError::Overflow`] for more months than 64 bits hold.
    pub fn read(text: &str, kind: DurationKind) -> Result<Self, TimeError> {
        let mut front = Front(text);
        let is_negative = front.take('-');
        front.need('P')?;
        let mut duration = Self { months: 0, seconds: Decimal::ZERO, kind };
        let mut units: &[char] = &['Y', 'M', 'D'];
        let mut is_time = false;
        let mut has_any = false;
        loop {
            if !is_time && front.take('T') {
                (is_time, units, has_any) = (true, &['H', 'M', 'S'], false);
            }
            if front.0.is_empty() {
                break;
            }
            let start = front.0;
            front.digits()?;
            let has_fraction = front.take('.');
            if has_fraction {
                front.digits()?;
            }
            let number = &start[..start.len() - front.0.len()];
            let place = units.iter().position(|unit| front.0.starts_with(*unit));
            let place = place.ok_or(TimeError::Lexical)?;
            let unit = units[place];
            front.need(unit)?;
            units = &units[place + 1..];
            has_any = true;
            if has_fraction && unit != 'S' {
                return Err(TimeError::Lexical);
            }
            duration.add(number, unit, is_time)?;
        }
        let is_outside = match kind {
            DurationKind::Any => false,
            DurationKind::YearMonth => is_time || start_of_days(text),
            DurationKind::DayTime => text.split('T').next().is_some_and(|d| d.contains(['Y', 'M'])),
        };
        if !has_any || is_outside {
            return Err(TimeError::Lexical);
        }
        Ok(if is_negative { duration.negated() } else { duration })
    }

    fn add(&mut self, number: &str, unit: char, is_time: bool) -> Result<(), TimeError> {
        let factor = match (unit, is_time) {
            ('Y', _) | ('M', false) => {
                let count: i64 = number.parse().map_err(|_| TimeError::Overflow)?;
                let months = count.checked_mul(if unit == 'Y' { 12 } else { 1 });
                let sum = months.and_then(|months| self.months.checked_add(months));
                self.months = sum.ok_or(TimeError::Overflow)?;
                return Ok(());
            }
            ('D', _) => 86_400,
            ('H', _) => 3_600,
            ('M', true) => 60,
            _ => 1,
        };
        let digits = number.trim_start_matches('0');
        let digits = if digits.is_empty() || digits.starts_with('.') {
            format!("0{digits}")
        } else {
            digits.to_owned()
        };
        let count = Decimal::parse(&digits).map_err(|_| TimeError::Overflow)?;
        let sum = count.mul(&Decimal::from(factor)).and_then(|seconds| self.seconds.add(&seconds));
        self.seconds = sum.map_err(|_| TimeError::Overflow)?;
        Ok(())
    }

    /// The same length in the other direction.
    #[must_use]
    pub fn negated(&self) -> Self {
        Self { months: -self.months, seconds: self.seconds.neg(), kind: self.kind }
    }

    /// As a duration of another kind: parts that it may not have are dropped, as casting does (F&O 3.1 section 19.1.4).
    #[must_use]
    pub fn to_kind(&self, kind: DurationKind) -> Self {
        match kind {
            DurationKind::Any => Self { kind, ..self.clone() },
            DurationKind::YearMonth => Self::of_months(self.months),
            DurationKind::DayTime => Self::of_seconds(self.seconds.clone()),
        }
    }

    /// Whether both are as long; durations of different kinds can be (F&O 3.1 section 8.2.5).
    #[must_use]
    pub fn is_equal(&self, other: &Self) -> bool {
        self.months == other.months && self.seconds == other.seconds
    }

    /// The order of two durations that are both of months, or both of seconds.
    #[must_use]
    pub fn order(&self, other: &Self) -> Option<Ordering> {
        match (self.kind, other.kind) {
            (DurationKind::YearMonth, DurationKind::YearMonth) => {
                Some(self.months.cmp(&other.months))
            }
            (DurationKind::DayTime, DurationKind::DayTime) => {
                Some(self.seconds.cmp(&other.seconds))
            }
            _ => None,
        }
    }

    /// The sum of two durations of one kind.
    ///
    /// # Errors
    /// [`TimeError::Overflow`].
    pub fn plus(&self, other: &Self) -> Result<Self, TimeError> {
        Ok(Self {
            months: self.months.checked_add(other.months).ok_or(TimeError::Overflow)?,
            seconds: self.seconds.add(&other.seconds).map_err(|_| TimeError::Overflow)?,
            kind: self.kind,
        })
    }

    /// Whether it has a length.
    #[must_use]
    pub fn is_zero(&self) -> bool {
        self.months == 0 && self.seconds.signum() == 0
    }

    /// Its years, months, days, hours, minutes and seconds, as the components that F&O 3.1 section 8.3 gives; all have the
    /// sign of the duration.
    #[must_use]
    pub fn components(&self) -> ([i64; 5], Decimal) {
        let whole = self.seconds.abs().floor().ok();
        let whole = whole.and_then(|whole| whole.to_i64()).unwrap_or_default();
        let sign = if self.seconds.signum() < 0 { -1 } else { 1 };
        let minutes = Decimal::from(sign * (whole / 60 * 60));
        let second = self.seconds.sub(&minutes).unwrap_or(Decimal::ZERO);
        let [days, hours, minutes] = [whole / 86_400, whole / 3_600 % 24, whole / 60 % 60];
        let times = [days, hours, minutes].map(|part| sign * part);
        ([self.months / 12, self.months % 12, times[0], times[1], times[2]], second)
    }
}

/// Whether days stand in the text of a duration.
fn start_of_days(text: &str) -> bool {
    text.contains('D')
}

impl FromStr for Duration {
    type Err = TimeError;

    fn from_str(text: &str) -> Result<Self, TimeError> {
        [DurationKind::DayTime, DurationKind::YearMonth, DurationKind::Any]
            .into_iter()
            .find_map(|kind| Self::read(text, kind).ok())
            .ok_or(TimeError::Lexical)
    }
}

impl fmt::Display for Duration {
    /// The canonical form (XSD 1.1 part 2 section 3.3.6.2).
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_zero() {
            let zero = if self.kind == DurationKind::YearMonth { "P0M" } else { "PT0S" };
            return f.write_str(zero);
        }
        let ([years, months, days, hours, minutes], second) = self.components();
        f.write_str(if self.months < 0 || self.seconds.signum() < 0 { "-P" } else { "P" })?;
        let part = |f: &mut fmt::Formatter<'_>, count: i64, unit: char| match count {
            0 => Ok(()),
            count => write!(f, "{}{unit}", count.unsigned_abs()),
        };
        for (count, unit) in [(years, 'Y'), (months, 'M'), (days, 'D')] {
            part(f, count, unit)?;
        }
        if hours != 0 || minutes != 0 || second.signum() != 0 {
            f.write_str("T")?;
        }
        part(f, hours, 'H')?;
        part(f, minutes, 'M')?;
        if second.signum() != 0 { write!(f, "{}S", plain(&second.abs())) } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lexical_space_and_canonical_form() {
        for (text, canonical) in [
            ("P1Y2M", "P1Y2M"),
            ("P14M", "P1Y2M"),
            ("-P1DT2H3M4.50S", "-P1DT2H3M4.5S"),
            ("PT36H", "P1DT12H"),
            ("P0Y", "P0M"),
            ("PT0S", "PT0S"),
            ("P1Y2M3DT4H5M6S", "P1Y2M3DT4H5M6S"),
            ("PT00.5S", "PT0.5S"),
        ] {
            assert_eq!(text.parse::<Duration>().unwrap().to_string(), canonical, "{text}");
        }
        for text in ["", "P", "PT", "P1", "1Y", "P1YT", "P1.5D", "PT1S2M", "P-1Y", "P1M1Y", "P1H"] {
            assert!(text.parse::<Duration>().is_err(), "{text}");
        }
        assert!(Duration::read("P1D", DurationKind::YearMonth).is_err());
        assert!(Duration::read("P1M", DurationKind::DayTime).is_err());
        assert!(Duration::read("PT1M", DurationKind::DayTime).is_ok());
    }
}
