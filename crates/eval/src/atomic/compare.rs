//! Comparing atomic values: value comparison (XPath 3.1 section 3.7.1, F&O 3.1 sections 4.3, 7, 8.2 and 9.4).

use std::cmp::Ordering;

use kyanite_tree::Comparison;

use super::cast::phrase;
use super::{Atomic, AtomicError, Numeric};

impl Atomic<'_> {
    /// Whether the comparison holds between two values; text without a type compares as text. `zone` is that of times
    /// without one, in minutes.
    ///
    /// # Errors
    /// `XPTY0004` where values of these types are not compared so.
    pub fn compare(&self, how: Comparison, other: &Self, zone: i16) -> Result<bool, AtomicError> {
        if let (Self::Integer(a), Self::Integer(b)) = (self, other) {
            return Ok(how.holds(Some(a.cmp(b))));
        }
        if let (Some(a), Some(b)) = (self.as_text(), other.as_text()) {
            // UTF-8 was made so that byte order is the order of code points.
            return Ok(how.holds(Some(str::cmp(a, b))));
        }
        if let (Some(a), Some(b)) = (self.numeric(), other.numeric()) {
            return Ok(how.holds(numbers(&a, &b)));
        }
        match (self, other) {
            (Self::Boolean(a), Self::Boolean(b)) => Ok(how.holds(Some(a.cmp(b)))),
            (Self::Time(a), Self::Time(b)) if a.kind == b.kind => {
                Ok(how.holds(Some(a.order(b, zone))))
            }
            (Self::Duration(a), Self::Duration(b)) if how.is_equality() => {
                let order = if a.is_equal(b) { Ordering::Equal } else { Ordering::Less };
                Ok(how.holds(Some(order)))
            }
            (Self::Duration(a), Self::Duration(b)) if a.order(b).is_some() => {
                Ok(how.holds(a.order(b)))
            }
            (Self::QName(a), Self::QName(b)) if how.is_equality() => {
                let order = (&a.namespace, &a.local).cmp(&(&b.namespace, &b.local));
                Ok(how.holds(Some(order)))
            }
            _ => Err(self.no_comparison(other)),
        }
    }

    #[cold]
    fn no_comparison(&self, other: &Self) -> AtomicError {
        let message = format!(
            "{} cannot be compared with {}: {self} and {other}",
            phrase(self.atomic_type()),
            phrase(other.atomic_type())
        );
        AtomicError::new("XPTY0004", message)
    }
}

/// The order of two numbers, computed in the wider of their types.
fn numbers(a: &Numeric, b: &Numeric) -> Option<Ordering> {
    match (a, b) {
        (Numeric::Double(_), _) | (_, Numeric::Double(_)) => a.double().partial_cmp(&b.double()),
        (Numeric::Float(_), _) | (_, Numeric::Float(_)) => a.float().partial_cmp(&b.float()),
        (Numeric::Integer(a) | Numeric::Decimal(a), Numeric::Integer(b) | Numeric::Decimal(b)) => {
            Some(a.cmp(b))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::atomic::AtomicType;

    fn value(text: &str, of: &str) -> Atomic<'static> {
        Atomic::string(text.to_owned()).cast(AtomicType::named(of).unwrap()).unwrap()
    }

    #[test]
    fn orders() {
        for (a, of_a, b, of_b, order) in [
            ("1", "integer", "1.0", "decimal", Some(Ordering::Equal)),
            ("1", "integer", "1.5", "double", Some(Ordering::Less)),
            ("0.1", "float", "0.1", "double", Some(Ordering::Greater)),
            ("NaN", "double", "NaN", "double", None),
            ("a", "string", "b", "anyURI", Some(Ordering::Less)),
            (
                "2002-04-02T12:00:00-01:00",
                "dateTime",
                "2002-04-02T17:00:00+04:00",
                "dateTime",
                Some(Ordering::Equal),
            ),
            ("12:00:00-05:00", "time", "23:00:00+06:00", "time", Some(Ordering::Equal)),
            ("2004-12-25Z", "date", "2004-12-25+07:00", "date", Some(Ordering::Greater)),
            ("P1Y", "yearMonthDuration", "P13M", "yearMonthDuration", Some(Ordering::Less)),
        ] {
            let (a, b) = (value(a, of_a), value(b, of_b));
            for how in [Comparison::Equal, Comparison::Less, Comparison::GreaterOrEqual] {
                assert_eq!(a.compare(how, &b, 0), Ok(how.holds(order)), "{a} {how:?} {b}");
            }
        }
        let year = value("P1Y", "duration");
        assert_eq!(
            year.compare(Comparison::Equal, &value("P12M", "yearMonthDuration"), 0),
            Ok(true)
        );
        assert_eq!(
            year.compare(Comparison::Less, &value("P12M", "yearMonthDuration"), 0)
                .unwrap_err()
                .code,
            "XPTY0004"
        );
        assert!(
            value("1", "integer").compare(Comparison::Equal, &value("1", "string"), 0).is_err()
        );
    }
}
