//! Arithmetic on atomic values (XPath 3.1 section 3.5, F&O 3.1 sections 4.2, 8.4 and 9.7).

use std::sync::Arc;

use kyanite_tree::{Decimal, DecimalError};

use super::cast::phrase;
use super::{Atomic, AtomicError};
use crate::number;
use crate::time::{Duration, DurationKind, TimeError, TimeKind};

/// A number in the type that it is computed in.
#[derive(Clone, Debug)]
pub enum Numeric {
    /// `xs:integer`.
    Integer(Decimal),
    /// `xs:decimal`.
    Decimal(Decimal),
    /// `xs:float`.
    Float(f32),
    /// `xs:double`.
    Double(f64),
}

impl Numeric {
    /// The nearest double.
    #[must_use]
    pub fn double(&self) -> f64 {
        match self {
            Self::Integer(number) | Self::Decimal(number) => number::double_of(number),
            Self::Float(number) => f64::from(*number),
            Self::Double(number) => *number,
        }
    }

    /// The nearest float.
    #[must_use]
    pub fn float(&self) -> f32 {
        match self {
            Self::Float(number) => *number,
            Self::Double(number) => *number as f32,
            Self::Integer(number) | Self::Decimal(number) => {
                number.to_string().parse().unwrap_or(f32::NAN)
            }
        }
    }

    /// The exact value; none where it is not finite.
    #[must_use]
    pub fn exact(&self) -> Option<Decimal> {
        match self {
            Self::Integer(number) | Self::Decimal(number) => Some(number.clone()),
            Self::Float(number) => number::decimal_of(f64::from(*number)),
            Self::Double(number) => number::decimal_of(*number),
        }
    }

    /// Its effective boolean value: neither zero nor NaN.
    #[must_use]
    pub fn is_true(&self) -> bool {
        match self {
            Self::Integer(number) | Self::Decimal(number) => number.signum() != 0,
            Self::Float(number) => *number != 0.0 && !number.is_nan(),
            Self::Double(number) => *number != 0.0 && !number.is_nan(),
        }
    }

    /// The number as a value.
    #[must_use]
    pub fn into_atomic<'a>(self) -> Atomic<'a> {
        match self {
            Self::Integer(number) => Atomic::integer(number),
            Self::Decimal(number) => Atomic::decimal(number),
            Self::Float(number) => Atomic::Float(number),
            Self::Double(number) => Atomic::Double(number),
        }
    }

    /// The number changed by a function that has one form for exact numbers and one for doubles; it keeps its type.
    ///
    /// # Errors
    /// Those of the form for exact numbers.
    pub fn map(
        self,
        exact: impl FnOnce(&Decimal) -> Result<Decimal, DecimalError>,
        double: impl FnOnce(f64) -> f64,
    ) -> Result<Self, AtomicError> {
        Ok(match self {
            Self::Integer(number) => Self::Integer(exact(&number).map_err(failed)?),
            Self::Decimal(number) => Self::Decimal(exact(&number).map_err(failed)?),
            Self::Float(number) => Self::Float(double(f64::from(number)) as f32),
            Self::Double(number) => Self::Double(double(number)),
        })
    }
}

/// An operator of arithmetic.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Arithmetic {
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `div`
    Divide,
    /// `idiv`: the quotient without its fraction.
    DivideWhole,
    /// `mod`: what is left, with the sign of the dividend.
    Remainder,
}

impl Arithmetic {
    /// How it is written.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Add => "+",
            Self::Subtract => "-",
            Self::Multiply => "*",
            Self::Divide => "div",
            Self::DivideWhole => "idiv",
            Self::Remainder => "mod",
        }
    }

    /// The result in doubles (IEEE 754).
    #[must_use]
    pub fn doubles(self, a: f64, b: f64) -> f64 {
        match self {
            Self::Add => a + b,
            Self::Subtract => a - b,
            Self::Multiply => a * b,
            Self::Divide => a / b,
            Self::DivideWhole => (a / b).trunc(),
            Self::Remainder => a % b,
        }
    }
}

fn failed(error: DecimalError) -> AtomicError {
    match error {
        DecimalError::DivisionByZero => AtomicError::new("FOAR0001", "a number is divided by zero"),
        other => AtomicError::new("FOAR0002", other.to_string()),
    }
}

fn late(error: TimeError) -> AtomicError {
    AtomicError::new("FODT0001", error.to_string())
}

/// What an operation gives.
type Outcome<'a> = Result<Atomic<'a>, AtomicError>;

impl<'a> Atomic<'a> {
    /// The value as a number, if it is one. Text without a type is none.
    #[must_use]
    pub fn numeric(&self) -> Option<Numeric> {
        match self {
            Self::Integer(number) => Some(Numeric::Integer(Decimal::from(*number))),
            Self::Large(number) => Some(Numeric::Integer(Decimal::clone(number))),
            Self::Decimal(number) => Some(Numeric::Decimal(Decimal::clone(number))),
            Self::Float(number) => Some(Numeric::Float(*number)),
            Self::Double(number) => Some(Numeric::Double(*number)),
            _ => None,
        }
    }

    /// The result of an operator. Text without a type is to be cast to a double before. `zone` is that of times without
    /// one, in minutes.
    ///
    /// # Errors
    /// `XPTY0004` where the operator has no meaning for these types, `FOAR0001` and the like where this result has none.
    pub fn compute(&self, operator: Arithmetic, other: &Self, zone: i16) -> Outcome<'a> {
        if let (Self::Integer(a), Self::Integer(b)) = (self, other) {
            let small = match operator {
                Arithmetic::Add => a.checked_add(*b),
                Arithmetic::Subtract => a.checked_sub(*b),
                Arithmetic::Multiply => a.checked_mul(*b),
                Arithmetic::DivideWhole => a.checked_div(*b),
                Arithmetic::Remainder => a.checked_rem(*b),
                Arithmetic::Divide => None,
            };
            if let Some(small) = small {
                return Ok(Self::Integer(small));
            }
        }
        if let (Some(a), Some(b)) = (self.numeric(), other.numeric()) {
            return numbers(operator, &a, &b).map(Numeric::into_atomic);
        }
        self.times(operator, other, zone).unwrap_or_else(|| {
            let message = format!(
                "`{}` does not take {} and {}",
                operator.word(),
                phrase(self.atomic_type()),
                phrase(other.atomic_type())
            );
            Err(AtomicError::new("XPTY0004", message))
        })
    }

    /// Operators on times and durations; none where they have no meaning.
    fn times(&self, operator: Arithmetic, other: &Self, zone: i16) -> Option<Outcome<'a>> {
        use Arithmetic::{Add, Divide, Multiply, Subtract};
        let is_date = |kind: TimeKind, duration: &Duration| {
            duration.kind != DurationKind::Any
                && (kind.has_date() || duration.kind == DurationKind::DayTime)
        };
        let moved = |time: &crate::time::DateTime, duration: &Duration| {
            time.plus(duration).map(Self::time).map_err(late)
        };
        Some(match (self, operator, other) {
            (Self::Time(time), Add, Self::Duration(by))
            | (Self::Duration(by), Add, Self::Time(time))
                if is_date(time.kind, by) =>
            {
                moved(time, by)
            }
            (Self::Time(time), Subtract, Self::Duration(by)) if is_date(time.kind, by) => {
                moved(time, &by.negated())
            }
            (Self::Time(a), Subtract, Self::Time(b)) if a.kind == b.kind => {
                Ok(Self::duration(a.since(b, zone)))
            }
            (Self::Duration(a), Add | Subtract, Self::Duration(b))
                if a.kind == b.kind && a.kind.is_ordered() =>
            {
                let b = if operator == Add { Duration::clone(b) } else { b.negated() };
                a.plus(&b).map(Self::duration).map_err(late)
            }
            (Self::Duration(a), Divide, Self::Duration(b)) => quotient(a, b)?,
            (Self::Duration(duration), Multiply, number) if duration.kind.is_ordered() => {
                scaled(duration, &number.numeric()?, false)
            }
            (number, Multiply, Self::Duration(duration)) if duration.kind.is_ordered() => {
                scaled(duration, &number.numeric()?, false)
            }
            (Self::Duration(duration), Divide, number) if duration.kind.is_ordered() => {
                scaled(duration, &number.numeric()?, true)
            }
            _ => return None,
        })
    }

    /// The number with its sign turned round; none of what is no number.
    #[must_use]
    pub fn negated(&self) -> Option<Self> {
        Some(match self.numeric()? {
            Numeric::Integer(number) => Self::integer(number.neg()),
            Numeric::Decimal(number) => Self::Decimal(Arc::new(number.neg())),
            Numeric::Float(number) => Self::Float(-number),
            Numeric::Double(number) => Self::Double(-number),
        })
    }
}

fn numbers(operator: Arithmetic, a: &Numeric, b: &Numeric) -> Result<Numeric, AtomicError> {
    let (exact_a, exact_b, both_whole) = match (a, b) {
        (Numeric::Integer(a), Numeric::Integer(b)) => (a, b, true),
        (Numeric::Integer(a) | Numeric::Decimal(a), Numeric::Integer(b) | Numeric::Decimal(b)) => {
            (a, b, false)
        }
        _ if operator == Arithmetic::DivideWhole => return whole(a.double(), b.double()),
        (Numeric::Double(_), _) | (_, Numeric::Double(_)) => {
            return Ok(Numeric::Double(operator.doubles(a.double(), b.double())));
        }
        _ => {
            let (a, b) = (a.float(), b.float());
            return Ok(Numeric::Float(match operator {
                Arithmetic::Add => a + b,
                Arithmetic::Subtract => a - b,
                Arithmetic::Multiply => a * b,
                Arithmetic::Remainder => a % b,
                Arithmetic::Divide | Arithmetic::DivideWhole => a / b,
            }));
        }
    };
    let number = match operator {
        Arithmetic::Add => exact_a.add(exact_b),
        Arithmetic::Subtract => exact_a.sub(exact_b),
        Arithmetic::Multiply => exact_a.mul(exact_b),
        Arithmetic::Divide => return exact_a.div(exact_b).map(Numeric::Decimal).map_err(failed),
        Arithmetic::Remainder => exact_a.rem(exact_b),
        Arithmetic::DivideWhole => {
            // What is left is taken away first, so that the quotient is not rounded.
            let whole = exact_a.rem(exact_b).and_then(|left| exact_a.sub(&left)?.div(exact_b));
            return whole.map(Numeric::Integer).map_err(failed);
        }
    };
    let number = number.map_err(failed)?;
    Ok(if both_whole { Numeric::Integer(number) } else { Numeric::Decimal(number) })
}

/// The whole quotient of two doubles.
fn whole(a: f64, b: f64) -> Result<Numeric, AtomicError> {
    if b == 0.0 {
        return Err(failed(DecimalError::DivisionByZero));
    }
    match number::decimal_of((a / b).trunc()) {
        Some(quotient) if a.is_finite() => Ok(Numeric::Integer(quotient)),
        _ => Err(AtomicError::new("FOAR0002", "the quotient is no number")),
    }
}

/// How often one duration goes into another of its kind.
fn quotient<'a>(a: &Duration, b: &Duration) -> Option<Outcome<'a>> {
    if a.kind != b.kind || !a.kind.is_ordered() {
        return None;
    }
    let length = |duration: &Duration| match duration.kind {
        DurationKind::YearMonth => Decimal::from(duration.months),
        _ => duration.seconds.clone(),
    };
    Some(length(a).div(&length(b)).map(Atomic::decimal).map_err(failed))
}

/// A duration times a number, or divided by it (F&O 3.1 section 8.4); months are rounded.
fn scaled<'a>(duration: &Duration, by: &Numeric, divides: bool) -> Outcome<'a> {
    let double = by.double();
    if double.is_nan() {
        return Err(AtomicError::new("FOCA0005", "a duration is multiplied or divided by NaN"));
    }
    let overflow = || AtomicError::new("FODT0002", "the duration is longer than can be held");
    let exact = match by.exact() {
        Some(exact) => exact,
        // Divided by infinity nothing is left.
        None if divides => Decimal::ZERO,
        None => return Err(overflow()),
    };
    let is_by_infinity = by.exact().is_none();
    let scale = |length: Decimal| {
        if is_by_infinity {
            return Ok(Decimal::ZERO);
        }
        if divides && exact.signum() == 0 {
            return Err(AtomicError::new("FODT0002", "a duration is divided by zero"));
        }
        let scaled = if divides { length.div(&exact) } else { length.mul(&exact) };
        scaled.map_err(|_| overflow())
    };
    Ok(Atomic::duration(match duration.kind {
        DurationKind::YearMonth => {
            let months = scale(Decimal::from(duration.months))?;
            let half = Decimal::parse("0.5").map_err(|_| overflow())?;
            let rounded = months.add(&half).and_then(|sum| sum.floor()).map_err(|_| overflow())?;
            Duration::of_months(rounded.to_i64().ok_or_else(overflow)?)
        }
        _ => Duration::of_seconds(scale(duration.seconds.clone())?),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::atomic::AtomicType;

    fn value(text: &str) -> Atomic<'static> {
        let (of, text) = text.split_once(' ').unwrap();
        Atomic::string(text.to_owned()).cast(AtomicType::named(of).unwrap()).unwrap()
    }

    #[test]
    fn results_and_their_types() {
        use Arithmetic::{Add, Divide, DivideWhole, Multiply, Remainder, Subtract};
        for (a, operator, b, wanted) in [
            ("integer 7", Add, "integer 5", "integer 12"),
            ("integer 9223372036854775807", Add, "integer 1", "integer 9223372036854775808"),
            ("integer 7", Divide, "integer 2", "decimal 3.5"),
            ("integer 10", DivideWhole, "integer 3", "integer 3"),
            ("integer -3", DivideWhole, "integer 2", "integer -1"),
            ("decimal 9.0", DivideWhole, "integer 3", "integer 3"),
            ("decimal 3.0", DivideWhole, "integer 4", "integer 0"),
            ("integer 10", Remainder, "integer 3", "integer 1"),
            ("integer -6", Remainder, "integer -2", "integer 0"),
            ("decimal 4.5", Remainder, "decimal 1.2", "decimal 0.9"),
            ("double 1.23E2", Remainder, "double 0.6E1", "double 3.0E0"),
            ("decimal 0.1", Multiply, "decimal 0.2", "decimal 0.02"),
            ("integer 1", Add, "double 0.5", "double 1.5"),
            ("float 1.5", Multiply, "integer 2", "float 3"),
            ("double 1", Divide, "double 0", "double INF"),
            ("yearMonthDuration P2Y11M", Add, "yearMonthDuration P3Y3M", "yearMonthDuration P6Y2M"),
            ("yearMonthDuration P2Y11M", Multiply, "decimal 2.3", "yearMonthDuration P6Y9M"),
            ("yearMonthDuration P2Y11M", Divide, "decimal 1.5", "yearMonthDuration P1Y11M"),
            ("yearMonthDuration P3Y4M", Divide, "yearMonthDuration -P1Y4M", "decimal -2.5"),
            ("dayTimeDuration PT2H10M", Multiply, "decimal 2.1", "dayTimeDuration PT4H33M"),
            (
                "dayTimeDuration P2DT12H5M",
                Subtract,
                "dayTimeDuration P1DT10H30M",
                "dayTimeDuration P1DT1H35M",
            ),
            ("date 2000-10-30", Subtract, "date 1999-11-28", "dayTimeDuration P337D"),
            ("time 11:12:00Z", Subtract, "time 04:00:00-05:00", "dayTimeDuration PT2H12M"),
            ("date 2000-10-30", Add, "yearMonthDuration P1Y2M", "date 2001-12-30"),
        ] {
            let (a, b, wanted) = (value(a), value(b), value(wanted));
            let found = a.compute(operator, &b, 0).unwrap();
            assert_eq!(found.to_string(), wanted.to_string(), "{a} {operator:?} {b}");
            assert_eq!(found.atomic_type(), wanted.atomic_type());
        }
        for (a, operator, b, code) in [
            ("integer 1", Divide, "integer 0", "FOAR0001"),
            ("integer 1", DivideWhole, "double 0", "FOAR0001"),
            ("double INF", DivideWhole, "double 2", "FOAR0002"),
            ("string a", Add, "integer 1", "XPTY0004"),
            ("date 2026-06-01", Add, "date 2026-06-01", "XPTY0004"),
            ("time 07:00:00", Add, "yearMonthDuration P1Y", "XPTY0004"),
            ("dayTimeDuration PT1H", Multiply, "double NaN", "FOCA0005"),
            ("dayTimeDuration PT1H", Divide, "integer 0", "FODT0002"),
        ] {
            let found = value(a).compute(operator, &value(b), 0);
            assert_eq!(found.unwrap_err().code, code, "{a} {operator:?} {b}");
        }
    }
}
