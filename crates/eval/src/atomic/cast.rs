//! Casting between atomic types (F&O 3.1 section 19).

use std::sync::Arc;

use kyanite_tree::Decimal;

use super::{Atomic, AtomicError, AtomicType, Text};
use crate::number;
use crate::time::{DateTime, Duration, DurationKind, TimeError, TimeKind};

/// What a cast gives.
type Cast<'a> = Result<Atomic<'a>, AtomicError>;

/// The most characters of a value that a message shows.
const SHOWN: usize = 40;

/// A value for a message, cut where it is long.
#[must_use]
pub(super) fn shown(text: &str) -> String {
    match text.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{:?}…", &text[..end]),
        None => format!("{text:?}"),
    }
}

impl<'a> Atomic<'a> {
    /// The value as one of another type.
    ///
    /// # Errors
    /// `XPTY0004` where no value of its type can be cast to the other, `FORG0001` where this one cannot, `FOCA0002` and
    /// the like where a number has no place in the other type.
    pub fn cast(&self, to: AtomicType) -> Cast<'a> {
        let of = self.atomic_type();
        if of.is_a(to) {
            // A duration of months is a duration, and so on; what is there stays what it is.
            return Ok(match (self, to) {
                (Self::Integer(_) | Self::Large(_), AtomicType::Decimal) => {
                    Self::decimal(self.exact().unwrap_or(Decimal::ZERO))
                }
                (Self::Duration(duration), AtomicType::Duration(kind)) => {
                    Self::duration(duration.to_kind(kind))
                }
                _ => self.clone(),
            });
        }
        match (self, to) {
            (Self::Untyped(text) | Self::String(text), _) => self.read(text, to),
            (_, AtomicType::String) => Ok(Self::String(self.to_text())),
            (_, AtomicType::Untyped) => Ok(Self::Untyped(self.to_text())),
            (_, AtomicType::Boolean) if of.is_numeric() => {
                Ok(Self::Boolean(self.numeric().is_some_and(|number| number.is_true())))
            }
            (Self::Boolean(value), _) if to.is_numeric() => {
                Self::Integer(i64::from(*value)).cast(to)
            }
            (_, AtomicType::Double) if of.is_numeric() => {
                Ok(Self::Double(self.numeric().map_or(f64::NAN, |number| number.double())))
            }
            (_, AtomicType::Float) if of.is_numeric() => {
                Ok(Self::Float(self.numeric().map_or(f32::NAN, |number| number.float())))
            }
            (_, AtomicType::Decimal | AtomicType::Integer) if of.is_numeric() => {
                let exact = self.exact().ok_or_else(|| {
                    let message = format!("{self} has no exact value");
                    AtomicError::new("FOCA0002", message)
                })?;
                if to == AtomicType::Decimal {
                    return Ok(Self::decimal(exact));
                }
                let whole = if exact.signum() < 0 { exact.ceiling() } else { exact.floor() };
                whole.map(Self::integer).map_err(|error| too_large(&error))
            }
            (Self::Time(time), AtomicType::Time(kind)) if time.kind == TimeKind::DateTime => {
                Ok(Self::time(time.to_kind(kind)))
            }
            (Self::Time(time), AtomicType::Time(TimeKind::DateTime))
                if time.kind == TimeKind::Date =>
            {
                Ok(Self::time(time.to_kind(TimeKind::DateTime)))
            }
            (Self::Duration(duration), AtomicType::Duration(kind)) => {
                Ok(Self::duration(duration.to_kind(kind)))
            }
            _ => Err(AtomicError::new(
                "XPTY0004",
                format!("{} cannot be cast to {}", phrase(of), to.name()),
            )),
        }
    }

    /// The value whose lexical form a text is.
    fn read(&self, text: &Text<'a>, to: AtomicType) -> Cast<'a> {
        let trimmed = number::trim(text);
        let lexical =
            || AtomicError::new("FORG0001", format!("{} is no {}", shown(text), to.name()));
        let of_time = |error: TimeError| match error {
            TimeError::Lexical => lexical(),
            TimeError::Overflow => {
                AtomicError::new("FODT0001", format!("{} lies too far off", shown(text)))
            }
        };
        Ok(match to {
            AtomicType::String => Self::String(text.clone()),
            AtomicType::Untyped => Self::Untyped(text.clone()),
            AtomicType::AnyUri => Self::AnyUri(collapsed(text)),
            AtomicType::Boolean => match trimmed {
                "true" | "1" => Self::Boolean(true),
                "false" | "0" => Self::Boolean(false),
                _ => return Err(lexical()),
            },
            AtomicType::Integer => {
                let digits = trimmed.strip_prefix(['+', '-']).unwrap_or(trimmed);
                if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
                    return Err(lexical());
                }
                match trimmed.parse() {
                    Ok(small) => Self::Integer(small),
                    Err(_) => Self::integer(read_decimal(trimmed)?),
                }
            }
            AtomicType::Decimal => {
                if !number::is_number(trimmed, false) {
                    return Err(lexical());
                }
                Self::decimal(read_decimal(trimmed)?)
            }
            AtomicType::Float => {
                let double = number::read_double(trimmed).ok_or_else(lexical)?;
                Self::Float(trimmed.parse().unwrap_or(double as f32))
            }
            AtomicType::Double | AtomicType::Numeric => {
                Self::Double(number::read_double(trimmed).ok_or_else(lexical)?)
            }
            AtomicType::Time(kind) => Self::time(DateTime::read(trimmed, kind).map_err(of_time)?),
            AtomicType::Duration(kind) => {
                Self::duration(Duration::read(trimmed, kind).map_err(of_time)?)
            }
            AtomicType::QName => {
                return Err(AtomicError::new(
                    "XPTY0004",
                    "a text becomes an xs:QName only where the namespaces of its prefix are known",
                ));
            }
            AtomicType::Any => self.clone(),
        })
    }

    /// The exact value of a number, of a float as well; none of those that are not finite, and of what is no number.
    #[must_use]
    pub fn exact(&self) -> Option<Decimal> {
        match self {
            Self::Integer(number) => Some(Decimal::from(*number)),
            Self::Large(number) | Self::Decimal(number) => Some(Decimal::clone(number)),
            Self::Float(number) => number::decimal_of(f64::from(*number)),
            Self::Double(number) => number::decimal_of(*number),
            _ => None,
        }
    }
}

/// A type of values for a sentence, with its article: `an xs:integer`.
pub(super) fn phrase(of: AtomicType) -> String {
    format!("an {}", of.name())
}

fn too_large(error: &impl std::fmt::Display) -> AtomicError {
    AtomicError::new("FOAR0002", error.to_string())
}

/// A number in the lexical space of xs:decimal: zeros in front and a plus are allowed, a side of the point may be empty.
fn read_decimal(text: &str) -> Result<Decimal, AtomicError> {
    let (sign, digits) = match text.strip_prefix('-') {
        Some(digits) => ("-", digits),
        None => ("", text.strip_prefix('+').unwrap_or(text)),
    };
    let digits = digits.trim_start_matches('0');
    let digits = digits.strip_suffix('.').unwrap_or(digits);
    let zero = if digits.is_empty() || digits.starts_with('.') { "0" } else { "" };
    Decimal::parse(&format!("{sign}{zero}{digits}")).map_err(|error| too_large(&error))
}

/// Text without white space around it, and with one blank for each run of it inside.
fn collapsed<'a>(text: &Text<'a>) -> Text<'a> {
    let is_space = [' ', '\t', '\n', '\r'];
    let words: Vec<&str> = text.split(is_space).filter(|word| !word.is_empty()).collect();
    let joined = words.join(" ");
    if joined == **text { text.clone() } else { Text::Made(Arc::from(joined)) }
}

/// The kinds of time that have a date, or a clock.
impl TimeKind {
    /// Whether values have a year, a month and a day.
    #[must_use]
    pub fn has_date(self) -> bool {
        self != Self::Time
    }

    /// Whether values have an hour, a minute and a second.
    #[must_use]
    pub fn has_clock(self) -> bool {
        self != Self::Date
    }
}

/// What a duration must be so that a value of a time can be moved by it.
impl DurationKind {
    /// Whether durations of this kind have days and times of day only, or months only.
    #[must_use]
    pub fn is_ordered(self) -> bool {
        self != Self::Any
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn casts_from_text() {
        for (text, to, wanted) in [
            (" 18200 ", "integer", "18200"),
            ("+007", "integer", "7"),
            ("123456789012345678901234567890", "integer", "123456789012345678901234567890"),
            ("-.50", "decimal", "-0.5"),
            ("5.", "decimal", "5"),
            ("1e3", "double", "1000"),
            ("1.5e10", "float", "1.5E10"),
            ("INF", "double", "INF"),
            (" true", "boolean", "true"),
            ("0", "boolean", "false"),
            ("  urn:a  b ", "anyURI", "urn:a b"),
            ("2026-06-01", "date", "2026-06-01"),
            ("P14M", "yearMonthDuration", "P1Y2M"),
        ] {
            let cast = Atomic::untyped(text).cast(AtomicType::named(to).unwrap());
            assert_eq!(cast.unwrap().to_string(), wanted, "{text} {to}");
        }
        for (text, to, code) in [
            ("1.5", "integer", "FORG0001"),
            ("", "integer", "FORG0001"),
            ("1e3", "decimal", "FORG0001"),
            ("yes", "boolean", "FORG0001"),
            ("inf", "double", "FORG0001"),
            ("P1D", "yearMonthDuration", "FORG0001"),
            ("a:b", "QName", "XPTY0004"),
        ] {
            let cast = Atomic::untyped(text).cast(AtomicType::named(to).unwrap());
            assert_eq!(cast.unwrap_err().code, code, "{text} {to}");
        }
    }

    #[test]
    fn casts_between_types() {
        let moment: DateTime = "2026-06-01T07:00:00Z".parse().unwrap();
        let moment = Atomic::time(moment);
        let long = Atomic::duration("P1Y2M3DT4H".parse().unwrap());
        for (value, to, wanted) in [
            (&moment, "date", "2026-06-01Z"),
            (&moment, "time", "07:00:00Z"),
            (&moment, "string", "2026-06-01T07:00:00Z"),
            (&long, "dayTimeDuration", "P3DT4H"),
            (&long, "yearMonthDuration", "P1Y2M"),
            (&Atomic::Double(-1.9), "integer", "-1"),
            (&Atomic::Double(0.5), "decimal", "0.5"),
            (&Atomic::Boolean(true), "integer", "1"),
            (&Atomic::Boolean(true), "double", "1"),
            (&Atomic::Double(f64::NAN), "boolean", "false"),
            (&Atomic::Integer(7), "boolean", "true"),
            (&Atomic::Integer(7), "decimal", "7"),
        ] {
            let cast = value.cast(AtomicType::named(to).unwrap()).unwrap();
            assert_eq!(cast.to_string(), wanted, "{value} {to}");
            assert_eq!(cast.atomic_type(), AtomicType::named(to).unwrap());
        }
        for (value, to, code) in [
            (&Atomic::Double(f64::NAN), "integer", "FOCA0002"),
            (&Atomic::Integer(1), "date", "XPTY0004"),
            (&moment, "integer", "XPTY0004"),
            (&moment, "boolean", "XPTY0004"),
        ] {
            assert_eq!(value.cast(AtomicType::named(to).unwrap()).unwrap_err().code, code);
        }
    }
}
