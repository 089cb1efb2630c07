//! Numbers of any size, for comparing: more digits, and larger exponents, than are computed with.
//!
//! A [`Decimal`](crate::Decimal) refuses numbers of more than 10,000 digits and exponents beyond 64 bits. Comparing them needs
//! no arithmetic: of two numbers the one with more places before its point is larger, and where these are as many the digits
//! tell.

use std::cmp::Ordering;

use num_bigint::{BigInt, Sign};

/// A number as its sign, its digits without zeros at either end, and where the point stands.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct Exact {
    sign: Sign,
    digits: Vec<u8>,
    /// The value is 0.digits × 10^exponent; 0 for zero.
    exponent: BigInt,
}

impl Exact {
    /// The number that `text` spells: a sign, digits, a fraction, an exponent. Zeros in front and a plus are taken, too.
    pub(crate) fn spelled(text: &str) -> Option<Self> {
        let text = text.trim();
        let (is_negative, unsigned) = match text.as_bytes().first()? {
            b'-' => (true, &text[1..]),
            b'+' => (false, &text[1..]),
            _ => (false, text),
        };
        let (mantissa, exponent) = match unsigned.find(['e', 'E']) {
            Some(at) => (&unsigned[..at], exponent(&unsigned[at + 1..])?),
            None => (unsigned, BigInt::ZERO),
        };
        let (whole, fraction) = match mantissa.split_once('.') {
            Some((_, "")) => return None,
            Some(parts) => parts,
            None => (mantissa, ""),
        };
        let is_digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
        if whole.is_empty() || !is_digits(whole) || !is_digits(fraction) {
            return None;
        }
        let all = [whole, fraction].concat();
        let significant = all.trim_start_matches('0');
        if significant.is_empty() {
            return Some(Self { sign: Sign::NoSign, digits: Vec::new(), exponent: BigInt::ZERO });
        }
        let zeros = all.len() - significant.len();
        Some(Self {
            sign: if is_negative { Sign::Minus } else { Sign::Plus },
            digits: significant.trim_end_matches('0').as_bytes().to_vec(),
            exponent: exponent + whole.len() - zeros,
        })
    }

    /// One spelling for all spellings of the number.
    pub(crate) fn canonical(&self) -> String {
        let sign = if self.sign == Sign::Minus { "-" } else { "" };
        let digits = String::from_utf8_lossy(&self.digits);
        format!("{sign}0.{digits}e{}", self.exponent)
    }
}

fn exponent(text: &str) -> Option<BigInt> {
    let digits = text.strip_prefix(['+', '-']).unwrap_or(text);
    if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let magnitude = BigInt::parse_bytes(digits.as_bytes(), 10)?;
    Some(if text.starts_with('-') { -magnitude } else { magnitude })
}

impl Ord for Exact {
    fn cmp(&self, other: &Self) -> Ordering {
        self.sign.cmp(&other.sign).then_with(|| {
            // Digits without zeros at the end order like fractions.
            let magnitudes =
                self.exponent.cmp(&other.exponent).then_with(|| self.digits.cmp(&other.digits));
            if self.sign == Sign::Minus { magnitudes.reverse() } else { magnitudes }
        })
    }
}

impl PartialOrd for Exact {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Decimal;
    use proptest::prelude::*;

    #[test]
    fn huge_numbers_are_ordered() {
        let long = "1".repeat(20_000);
        let rising = [
            "-1e99999999999999999999".to_owned(),
            format!("-{long}"),
            "-1".to_owned(),
            "-1e-99999999999999999999".to_owned(),
            "0e99999999999999999999".to_owned(),
            "1e-99999999999999999999".to_owned(),
            "0.5".to_owned(),
            long.clone(),
            format!("{long}.5"),
            format!("{long}0"),
            "1e99999999999999999999".to_owned(),
            "2e99999999999999999999".to_owned(),
            "1e99999999999999999999999".to_owned(),
        ];
        let numbers: Vec<Exact> = rising.iter().map(|text| Exact::spelled(text).unwrap()).collect();
        assert!(numbers.windows(2).all(|pair| pair[0] < pair[1]));
        for (one, same) in [
            ("1e99999999999999999999", "+0010.0e99999999999999999998"),
            ("0", "-0.000e5"),
            ("1.50", "15e-1"),
        ] {
            let (one, same) = (Exact::spelled(one).unwrap(), Exact::spelled(same).unwrap());
            assert_eq!(one, same);
            assert_eq!(one.canonical(), same.canonical());
        }
        for none in ["", "-", "1.", ".5", "1e", "1e+", "0x1", "1 2", "é", "+-1"] {
            assert!(Exact::spelled(none).is_none(), "{none}");
        }
    }

    proptest! {
        /// Where a decimal can be computed with, both order alike.
        #[test]
        fn as_decimals_are(a in "-?[0-9]{1,6}(\\.[0-9]{1,4})?(e-?[0-9]{1,2})?", b in "-?[0-9]{1,6}(\\.[0-9]{1,4})?(e-?[0-9]{1,2})?") {
            let decimals = (Decimal::spelled(&a).unwrap(), Decimal::spelled(&b).unwrap());
            let exact = (Exact::spelled(&a).unwrap(), Exact::spelled(&b).unwrap());
            prop_assert_eq!(exact.0.cmp(&exact.1), decimals.0.cmp(&decimals.1));
            prop_assert_eq!(exact.0 == exact.1, decimals.0 == decimals.1);
        }
    }
}
