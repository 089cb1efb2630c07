//! How numbers are spelled: read from text, and written out.

use std::fmt;

use num_bigint::BigInt;
use num_traits::Signed;

use super::{Decimal, DecimalError, MAX_DIGITS, Repr, Result, SMALL_POWER};
use crate::Number;

impl Decimal {
    /// Reads a number in the grammar of RFC 8259 section 6.
    ///
    /// # Errors
    /// [`DecimalError::Malformed`], or [`DecimalError::TooLarge`] past [`MAX_DIGITS`] digits.
    pub fn parse(text: &str) -> Result {
        if let Some((coefficient, places)) = Self::short(text.as_bytes()) {
            let exponent = if coefficient == 0 { 0 } else { -(places as i64) };
            return Ok(Self(Repr::Small(i128::from(coefficient), exponent)));
        }
        let (mantissa, exponent) = match text.find(['e', 'E']) {
            Some(at) => {
                let digits = text[at + 1..].strip_prefix('+').unwrap_or(&text[at + 1..]);
                (&text[..at], digits.parse::<i64>().map_err(|_| DecimalError::TooLarge)?)
            }
            None => (text, 0),
        };
        let (negative, digits) = match mantissa.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, mantissa),
        };
        let mut coefficient: u128 = 0;
        let mut fraction: i64 = 0;
        let mut in_fraction = false;
        let mut count = 0u32;
        for byte in digits.bytes() {
            match byte {
                b'0'..=b'9' => {
                    fraction += i64::from(in_fraction);
                    count += u32::from(coefficient != 0 || byte != b'0');
                    if count >= SMALL_POWER {
                        return Self::parse_big(negative, digits, exponent);
                    }
                    coefficient = coefficient * 10 + u128::from(byte - b'0');
                }
                b'.' if !in_fraction => in_fraction = true,
                _ => return Err(DecimalError::Malformed),
            }
        }
        let exponent = exponent.checked_sub(fraction).ok_or(DecimalError::TooLarge)?;
        let coefficient = i128::try_from(coefficient).map_err(|_| DecimalError::TooLarge)?;
        let coefficient = if negative { -coefficient } else { coefficient };
        Ok(Self(Repr::Small(coefficient, if coefficient == 0 { 0 } else { exponent })))
    }

    /// A number of few digits without an exponent: its coefficient, and how many digits stand behind the point.
    #[inline]
    pub(super) fn short(text: &[u8]) -> Option<(i64, usize)> {
        /// So many digits fit 63 bits.
        const MOST: usize = 18;
        let (is_negative, digits) = match text {
            [b'-', digits @ ..] => (true, digits),
            digits => (false, digits),
        };
        if digits.len() > MOST {
            return None;
        }
        let (mut coefficient, mut point) = (0_i64, digits.len());
        for (at, byte) in digits.iter().enumerate() {
            let digit = byte.wrapping_sub(b'0');
            if digit < 10 {
                coefficient = coefficient * 10 + i64::from(digit);
            } else if *byte == b'.' && point == digits.len() {
                point = at;
            } else {
                return None;
            }
        }
        let places = digits.len().saturating_sub(point + 1);
        Some((if is_negative { -coefficient } else { coefficient }, places))
    }

    /// The number that a text from elsewhere spells: a sign, digits (zeros in front are allowed), a fraction and an
    /// exponent, blanks around them. `None` when it spells none, or one with more than [`MAX_DIGITS`] digits.
    #[must_use]
    pub fn spelled(text: &str) -> Option<Self> {
        let text = text.trim();
        let unsigned = text.strip_prefix(['+', '-']).unwrap_or(text);
        let zeros = unsigned.len() - unsigned.trim_start_matches('0').len();
        // JSON has no zeros in front of other digits, and no plus.
        let significant = &unsigned[zeros..];
        let is_number = match significant.bytes().next() {
            Some(b'0'..=b'9') => Number::parse(significant).is_some(),
            _ if zeros == 0 => false,
            _ => Number::parse(&unsigned[zeros - 1..]).is_some(),
        };
        if !is_number {
            return None;
        }
        let magnitude = Self::parse(unsigned).ok()?;
        Some(if text.starts_with('-') { magnitude.neg() } else { magnitude })
    }

    #[cold]
    fn parse_big(negative: bool, digits: &str, exponent: i64) -> Result {
        if digits.len() as u64 > MAX_DIGITS {
            return Err(DecimalError::TooLarge);
        }
        let fraction = digits.find('.').map_or(0, |at| digits.len() - at - 1);
        let whole: Vec<u8> = digits.bytes().filter(|byte| *byte != b'.').collect();
        let magnitude = BigInt::parse_bytes(&whole, 10).ok_or(DecimalError::Malformed)?;
        let exponent = exponent.checked_sub(fraction as i64).ok_or(DecimalError::TooLarge)?;
        Ok(Self::from_big(if negative { -magnitude } else { magnitude }, exponent))
    }
}

/// Holds the spelling of most numbers.
type SpellingBuffer = [u8; 48];

/// So many digits behind the point leave room for the zeros in front of them.
const MOST_PLACES: usize = 18;

impl Decimal {
    /// Hands on the spelling, as it is displayed.
    pub(crate) fn spelled_to<T>(&self, take: impl FnOnce(&str) -> T) -> T {
        match self.short_spelling(&mut [0; 48]) {
            Some(short) => take(short),
            None => take(&self.to_string()),
        }
    }

    /// The spelling of a number of few digits; `None` for others.
    fn short_spelling<'r>(&self, buffer: &'r mut SpellingBuffer) -> Option<&'r str> {
        let Repr::Small(coefficient, exponent) = self.0 else { return None };
        let mut magnitude = u64::try_from(coefficient.unsigned_abs()).ok()?;
        let mut places = usize::try_from(exponent.checked_neg()?).ok()?;
        if places > MOST_PLACES {
            return None;
        }
        while places > 0 && magnitude.is_multiple_of(10) {
            (magnitude, places) = (magnitude / 10, places - 1);
        }
        let mut digits = itoa::Buffer::new();
        let digits = digits.format(magnitude).as_bytes();
        let mut length = 0;
        let mut put = |bytes: &[u8]| {
            buffer[length..length + bytes.len()].copy_from_slice(bytes);
            length += bytes.len();
        };
        if coefficient < 0 {
            put(b"-");
        }
        match digits.len().checked_sub(places) {
            Some(whole) if places == 0 || whole > 0 => {
                put(&digits[..whole]);
                if places > 0 {
                    put(b".");
                    put(&digits[whole..]);
                }
            }
            _ => {
                put(b"0.");
                put(&[b'0'; MOST_PLACES][..places - digits.len()]);
                put(digits);
            }
        }
        std::str::from_utf8(&buffer[..length]).ok()
    }
}

/// Zeros that are written out before the exponent form is shorter to read.
const PLAIN_ZEROS: i64 = 30;

impl fmt::Display for Decimal {
    /// The shortest plain spelling: no trailing zeros, an exponent only past 30 padding zeros.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.short_spelling(&mut [0; 48]) {
            Some(short) => f.write_str(short),
            None => self.write_any(f),
        }
    }
}

impl Decimal {
    fn write_any(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let plain = self.stripped();
        let (coefficient, exponent) = plain.big();
        let sign = if coefficient.is_negative() { "-" } else { "" };
        let digits = coefficient.magnitude().to_string();
        let point = digits.len() as i64 + exponent;
        match exponent {
            0 => write!(f, "{sign}{digits}"),
            1..=PLAIN_ZEROS => write!(f, "{sign}{digits}{}", "0".repeat(exponent as usize)),
            _ if exponent < 0 && point > 0 => {
                let (whole, fraction) = digits.split_at(point as usize);
                write!(f, "{sign}{whole}.{fraction}")
            }
            _ if exponent < 0 && point > -PLAIN_ZEROS => {
                write!(f, "{sign}0.{}{digits}", "0".repeat(point.unsigned_abs() as usize))
            }
            _ => {
                let (first, rest) = digits.split_at(1);
                let dot = if rest.is_empty() { "" } else { "." };
                write!(f, "{sign}{first}{dot}{rest}e{}", point - 1)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A number in the spelling that any number has.
    struct Any(Decimal);

    impl fmt::Display for Any {
        fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            self.0.write_any(f)
        }
    }

    proptest! {
        #[test]
        fn short_numbers_are_spelled_as_any(
            coefficient in prop_oneof![any::<i128>(), (-2000_i128..2000), any::<i64>().prop_map(i128::from)],
            zeros in 0_u32..6,
            exponent in -24_i64..4,
        ) {
            let coefficient = coefficient.saturating_mul(10_i128.pow(zeros));
            let number = Decimal(Repr::Small(coefficient, exponent));
            prop_assert_eq!(number.to_string(), Any(number.clone()).to_string());
            if let Some(short) = number.short_spelling(&mut [0; 48]) {
                prop_assert_eq!(short, number.to_string());
            }
        }
    }
}
