//! Numbers as they were written.
//!
//! A number that only passes through a rule keeps every digit, so the tree stores its spelling and
//! nothing else. Whoever computes asks for a [`Decimal`].

use crate::{Decimal, DecimalError};

/// A number, held as its spelling in the grammar of RFC 8259 section 6.
#[derive(Clone, Copy, Debug)]
pub struct Number<'a>(&'a str);

impl<'a> Number<'a> {
    /// Takes `text` as a number if it is spelled like one (RFC 8259 section 6).
    #[must_use]
    pub fn parse(text: &'a str) -> Option<Self> {
        (scan(text.as_bytes()) == Some(text.len())).then_some(Self(text))
    }

    /// Wraps a spelling that a reader has already checked against the grammar.
    ///
    /// A wrong spelling breaks no memory, but computing with it reports [`DecimalError::Malformed`].
    #[inline]
    #[must_use]
    pub fn from_checked(text: &'a str) -> Self {
        Self(text)
    }

    /// The digits as written: `1.50`, `-0`, `6.02e23`.
    #[inline]
    #[must_use]
    pub fn as_str(self) -> &'a str {
        self.0
    }

    /// The exact value.
    ///
    /// # Errors
    /// [`DecimalError::TooLarge`] when the exponent does not fit 64 bits or the digits pass the limit.
    #[inline]
    pub fn decimal(self) -> Result<Decimal, DecimalError> {
        Decimal::parse(self.0)
    }

    /// The value as a whole number, where it is one and fits; `1.0` and `1e2` are whole.
    #[must_use]
    pub fn as_integer(self) -> Option<i64> {
        match self.0.parse() {
            Ok(integer) => Some(integer),
            Err(_) => self.decimal().ok()?.to_i64(),
        }
    }
}

/// How many bytes at the start of `bytes` spell a number, or `None` if they do not begin with one.
///
/// The longest prefix that fits `[-] int [frac] [exp]` is taken (RFC 8259 section 6).
#[inline]
fn scan(bytes: &[u8]) -> Option<usize> {
    let mut at = usize::from(bytes.first() == Some(&b'-'));
    match bytes.get(at)? {
        b'0' => at += 1,
        b'1'..=b'9' => at += digits(&bytes[at..]),
        _ => return None,
    }
    if bytes.get(at) == Some(&b'.') {
        let fraction = digits(&bytes[at + 1..]);
        if fraction == 0 {
            return None;
        }
        at += 1 + fraction;
    }
    if let Some(b'e' | b'E') = bytes.get(at) {
        let sign = usize::from(matches!(bytes.get(at + 1), Some(b'+' | b'-')));
        let exponent = digits(&bytes[at + 1 + sign..]);
        if exponent == 0 {
            return None;
        }
        at += 1 + sign + exponent;
    }
    Some(at)
}

#[inline]
fn digits(bytes: &[u8]) -> usize {
    bytes.iter().take_while(|byte| byte.is_ascii_digit()).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings() {
        for good in ["0", "-0", "7", "120", "1.50", "-1.5e+3", "1E400", "0.0e-0"] {
            assert_eq!(Number::parse(good).map(Number::as_str), Some(good));
        }
        for bad in ["", "-", "+1", "01", "1.", ".5", "1e", "1e+", "0x1", "1 ", " 1", "NaN", "1_0"] {
            assert!(Number::parse(bad).is_none(), "{bad}");
        }
    }

    #[test]
    fn whole_numbers() {
        for (spelling, whole) in
            [("42", Some(42)), ("1.0", Some(1)), ("1e2", Some(100)), ("1.5", None), ("1e30", None)]
        {
            assert_eq!(Number::parse(spelling).unwrap().as_integer(), whole, "{spelling}");
        }
    }
}
