//! Atomic values as keys: of maps, and of sets of distinct values (F&O 3.1 section 17.1.1, `op:same-key`).

use super::{Atomic, Numeric};

/// What an atomic value is as the key of a map: two keys are equal where the standard calls them the same.
#[derive(Clone, PartialEq, Eq, Hash, Debug, PartialOrd, Ord)]
pub struct AtomicKey(String);

impl AtomicKey {
    /// The key of a value. Numbers are the same by their exact values, texts of the three sorts by their characters, and times
    /// only where both have a zone or neither has.
    #[must_use]
    pub fn of(value: &Atomic<'_>) -> Self {
        let exact = |number: &Numeric| match number {
            Numeric::Double(number) if !number.is_finite() => format!("#{number}"),
            Numeric::Float(number) if !number.is_finite() => format!("#{number}"),
            number => format!("#{}", number.exact().map_or_else(String::new, |n| n.to_string())),
        };
        Self(match value {
            Atomic::Integer(number) => format!("#{number}"),
            Atomic::Untyped(text) | Atomic::String(text) | Atomic::AnyUri(text) => {
                format!("\"{}", &**text)
            }
            Atomic::Boolean(value) => format!("b{value}"),
            Atomic::Time(time) => {
                let zone = if time.zone.is_some() { 'z' } else { 'l' };
                format!("t{:?}{zone}{}", time.kind, time.instant(0))
            }
            Atomic::Duration(duration) => format!("d{} {}", duration.months, duration.seconds),
            Atomic::QName(name) => format!("q{{{}}}{}", name.namespace, name.local),
            number => number.numeric().as_ref().map_or_else(String::new, exact),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::atomic::AtomicType;

    #[test]
    fn keys_are_those_of_the_standard() {
        let cast = |text: &'static str, of| {
            AtomicKey::of(&Atomic::string(text).cast(AtomicType::named(of).unwrap()).unwrap())
        };
        assert_eq!(cast("1", "integer"), cast("1.0", "double"));
        assert_eq!(cast("1", "integer"), cast("1.00", "decimal"));
        assert_eq!(cast("NaN", "double"), cast("NaN", "float"));
        assert_eq!(cast("a", "anyURI"), cast("a", "untypedAtomic"));
        assert_ne!(cast("1", "integer"), cast("1", "string"));
        assert_ne!(cast("0.1", "float"), cast("0.1", "double"));
        assert_ne!(cast("2026-06-01", "date"), cast("2026-06-01Z", "date"));
        assert_eq!(cast("12:00:00Z", "time"), cast("13:00:00+01:00", "time"));
    }
}
