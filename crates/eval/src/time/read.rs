//! The lexical spaces of dates and times (XSD 1.1 part 2 sections 3.3.7 to 3.3.9).

use std::str::FromStr;

use kyanite_tree::Decimal;

use super::{DateTime, Duration, DurationKind, REFERENCE, TimeError, TimeKind, days_in_month};

/// A text that is read from its front.
pub(super) struct Front<'t>(pub(super) &'t str);

impl<'t> Front<'t> {
    pub(super) fn take(&mut self, symbol: char) -> bool {
        match self.0.strip_prefix(symbol) {
            Some(rest) => {
                self.0 = rest;
                true
            }
            None => false,
        }
    }

    pub(super) fn need(&mut self, symbol: char) -> Result<(), TimeError> {
        if self.take(symbol) { Ok(()) } else { Err(TimeError::Lexical) }
    }

    /// The digits that stand here; at least one.
    pub(super) fn digits(&mut self) -> Result<&'t str, TimeError> {
        let length = self.0.bytes().take_while(u8::is_ascii_digit).count();
        let (digits, rest) = self.0.split_at(length);
        self.0 = rest;
        if digits.is_empty() { Err(TimeError::Lexical) } else { Ok(digits) }
    }

    /// Two digits that are at most `most`.
    fn pair(&mut self, most: u8) -> Result<u8, TimeError> {
        let digits = self.0.get(..2).filter(|d| d.bytes().all(|b| b.is_ascii_digit()));
        let number = digits.and_then(|d| d.parse().ok()).ok_or(TimeError::Lexical)?;
        self.0 = &self.0[2..];
        if number <= most { Ok(number) } else { Err(TimeError::Lexical) }
    }

    fn year(&mut self) -> Result<i64, TimeError> {
        let is_negative = self.take('-');
        let digits = self.digits()?;
        if digits.len() < 4 || (digits.len() > 4 && digits.starts_with('0')) {
            return Err(TimeError::Lexical);
        }
        let year: i64 = digits.parse().map_err(|_| TimeError::Overflow)?;
        if year > super::MOST_YEARS {
            return Err(TimeError::Overflow);
        }
        Ok(if is_negative { -year } else { year })
    }

    fn date(&mut self) -> Result<(i64, u8, u8), TimeError> {
        let year = self.year()?;
        self.need('-')?;
        let month = self.pair(12)?;
        self.need('-')?;
        let day = self.pair(31)?;
        if month == 0 || day == 0 || day > days_in_month(year, month) {
            return Err(TimeError::Lexical);
        }
        Ok((year, month, day))
    }

    /// Hour, minute and second, of which the hour may be 24 at the end of a day.
    fn clock(&mut self) -> Result<(u8, u8, Decimal), TimeError> {
        let hour = self.pair(24)?;
        self.need(':')?;
        let minute = self.pair(59)?;
        self.need(':')?;
        let start = self.0;
        self.pair(59)?;
        if self.take('.') {
            self.digits()?;
        }
        let text = &start[..start.len() - self.0.len()];
        let text = text.strip_prefix('0').filter(|rest| !rest.starts_with('.')).unwrap_or(text);
        let second = Decimal::parse(text).map_err(|_| TimeError::Lexical)?;
        if hour == 24 && (minute > 0 || second.signum() != 0) {
            return Err(TimeError::Lexical);
        }
        Ok((hour, minute, second))
    }

    /// A zone, or none, at the end of the text.
    fn zone(&mut self) -> Result<Option<i16>, TimeError> {
        if self.0.is_empty() {
            return Ok(None);
        }
        if self.take('Z') {
            return if self.0.is_empty() { Ok(Some(0)) } else { Err(TimeError::Lexical) };
        }
        let sign = if self.take('-') {
            -1
        } else {
            self.need('+')?;
            1
        };
        let hours = i16::from(self.pair(14)?);
        self.need(':')?;
        let minutes = i16::from(self.pair(59)?);
        if !self.0.is_empty() || (hours == 14 && minutes > 0) {
            return Err(TimeError::Lexical);
        }
        Ok(Some(sign * (hours * 60 + minutes)))
    }
}

impl DateTime {
    /// Reads a value of one kind. White space around it is to be taken away before.
    ///
    /// # Errors
    /// [`TimeError::Lexical`], and [`TimeError::Overflow`] for years beyond what can be held.
    pub fn read(text: &str, kind: TimeKind) -> Result<Self, TimeError> {
        let mut front = Front(text);
        let (year, month, day) = if kind == TimeKind::Time { REFERENCE } else { front.date()? };
        if kind == TimeKind::DateTime {
            front.need('T')?;
        }
        let (hour, minute, second) =
            if kind == TimeKind::Date { (0, 0, Decimal::ZERO) } else { front.clock()? };
        let zone = front.zone()?;
        let midnight = Self { kind, year, month, day, hour: 0, minute, second, zone };
        if hour < 24 {
            return Ok(Self { hour, ..midnight });
        }
        // The end of a day is the beginning of the next.
        let day =
            Duration { months: 0, seconds: Decimal::from(86_400), kind: DurationKind::DayTime };
        midnight.plus(&day)
    }
}

impl FromStr for DateTime {
    type Err = TimeError;

    /// Reads a value of the kind that the text has the parts of.
    fn from_str(text: &str) -> Result<Self, TimeError> {
        let kind = match text {
            _ if text.contains('T') => TimeKind::DateTime,
            _ if text.as_bytes().get(2) == Some(&b':') => TimeKind::Time,
            _ => TimeKind::Date,
        };
        Self::read(text, kind)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lexical_spaces() {
        for text in [
            "2026-06-01T07:00:00",
            "2026-06-01T07:00:00.25Z",
            "-0044-03-15",
            "12026-01-31+14:00",
            "07:05:09.5-05:30",
            "0000-02-29",
        ] {
            assert_eq!(text.parse::<DateTime>().unwrap().to_string(), text);
        }
        for (text, canonical) in [
            ("2026-12-31T24:00:00", "2027-01-01T00:00:00"),
            ("24:00:00", "00:00:00"),
            ("07:05:09.50", "07:05:09.5"),
            ("2026-06-01-00:00", "2026-06-01Z"),
        ] {
            assert_eq!(text.parse::<DateTime>().unwrap().to_string(), canonical);
        }
        for text in [
            "2026-13-01",
            "2026-02-29",
            "26-02-01",
            "2026-06-01T07:00",
            "24:00:01",
            "07:60:00",
            "2026-06-01T07:00:00z",
            "2026-06-01+15:00",
            "2026-6-1",
            "",
            "2026-06-01T",
            "07:05:9",
            "02026-01-01",
            "2026-06-01T07:00:00.",
            "+2026-01-01",
            "2026-06-01+14:30",
        ] {
            assert!(text.parse::<DateTime>().is_err(), "{text}");
        }
    }
}
