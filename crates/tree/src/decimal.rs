//! Exact decimal arithmetic.
//!
//! A [`Decimal`] is a whole coefficient times a power of ten. Coefficients that fit 128 bits, which is nearly
//! all, are computed without allocation; larger ones go to big integers. Sums and products are exact; a
//! quotient that does not end is rounded half-even at [`QUOTIENT_DIGITS`] significant digits; whatever would
//! need more than [`MAX_DIGITS`] digits is an error, never a silent loss.

mod spelling;

use std::cmp::Ordering;
use std::fmt;

use num_bigint::BigInt;
use num_integer::Integer;
use num_traits::{One, Signed, ToPrimitive, Zero};

/// Significant digits of a quotient that has no end.
pub const QUOTIENT_DIGITS: u32 = 28;

/// The most digits a number that is computed with may have.
pub const MAX_DIGITS: u64 = 10_000;

/// Powers of ten up to this exponent fit 128 bits.
const SMALL_POWER: u32 = 38;

/// An exact decimal number.
#[derive(Clone, Debug)]
pub struct Decimal(Repr);

/// coefficient × 10^exponent, in the smallest form that holds it.
#[derive(Clone, Debug)]
enum Repr {
    Small(i128, i64),
    Big(BigInt, i64),
}

/// Why a number could not be computed with.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum DecimalError {
    /// The spelling is not a number.
    Malformed,
    /// More digits than [`MAX_DIGITS`], or an exponent out of range.
    TooLarge,
    /// The divisor is zero.
    DivisionByZero,
}

impl fmt::Display for DecimalError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Malformed => "this is not spelled like a number",
            Self::TooLarge => "the number needs more than 10,000 digits",
            Self::DivisionByZero => "the divisor is zero",
        })
    }
}

impl std::error::Error for DecimalError {}

type Result<T = Decimal> = std::result::Result<T, DecimalError>;

/// How to drop digits.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Rounding {
    /// Towards minus infinity.
    Floor,
    /// Towards plus infinity.
    Ceiling,
    /// To the nearest; a half goes away from zero.
    HalfAway,
}

impl Decimal {
    /// Zero.
    pub const ZERO: Self = Self(Repr::Small(0, 0));

    fn from_big(coefficient: BigInt, exponent: i64) -> Self {
        match coefficient.to_i128() {
            Some(0) => Self::ZERO,
            Some(small) => Self(Repr::Small(small, exponent)),
            None => Self(Repr::Big(coefficient, exponent)),
        }
    }

    fn big(&self) -> (BigInt, i64) {
        match &self.0 {
            Repr::Small(coefficient, exponent) => (BigInt::from(*coefficient), *exponent),
            Repr::Big(coefficient, exponent) => (coefficient.clone(), *exponent),
        }
    }

    fn exponent(&self) -> i64 {
        match &self.0 {
            Repr::Small(_, exponent) | Repr::Big(_, exponent) => *exponent,
        }
    }

    /// Digits of the coefficient.
    fn digits(&self) -> u64 {
        match &self.0 {
            Repr::Small(coefficient, _) => {
                u64::from(coefficient.unsigned_abs().checked_ilog10().unwrap_or(0)) + 1
            }
            Repr::Big(coefficient, _) => big_digits(coefficient),
        }
    }

    /// -1, 0 or 1.
    #[must_use]
    pub fn signum(&self) -> i32 {
        match &self.0 {
            Repr::Small(coefficient, _) => coefficient.signum() as i32,
            Repr::Big(coefficient, _) => {
                if coefficient.is_negative() {
                    -1
                } else {
                    1
                }
            }
        }
    }

    /// The negated number.
    #[must_use]
    pub fn neg(&self) -> Self {
        match &self.0 {
            Repr::Small(coefficient, exponent) => match coefficient.checked_neg() {
                Some(negated) => Self(Repr::Small(negated, *exponent)),
                None => Self(Repr::Big(-BigInt::from(*coefficient), *exponent)),
            },
            Repr::Big(coefficient, exponent) => Self::from_big(-coefficient, *exponent),
        }
    }

    /// The number without its sign.
    #[must_use]
    pub fn abs(&self) -> Self {
        if self.signum() < 0 { self.neg() } else { self.clone() }
    }

    /// Both coefficients at the smaller of the two exponents.
    fn aligned(&self, other: &Self) -> Result<(BigInt, BigInt, i64)> {
        let exponent = self.exponent().min(other.exponent());
        Ok((self.scaled_to(exponent)?, other.scaled_to(exponent)?, exponent))
    }

    fn scaled_to(&self, exponent: i64) -> Result<BigInt> {
        let (coefficient, own) = self.big();
        Ok(coefficient * big_power(own.abs_diff(exponent))?)
    }

    /// Both coefficients at the smaller exponent, where all fits 128 bits.
    fn aligned_small(&self, other: &Self) -> Option<(i128, i128, i64)> {
        let (Repr::Small(a, a_exponent), Repr::Small(b, b_exponent)) = (&self.0, &other.0) else {
            return None;
        };
        if a_exponent == b_exponent {
            return Some((*a, *b, *a_exponent));
        }
        let exponent = *a_exponent.min(b_exponent);
        let scale = |coefficient: i128, own: i64| {
            let zeros = own.abs_diff(exponent);
            match (i64::try_from(coefficient), usize::try_from(zeros).map(|at| POWERS.get(at))) {
                // No product of two of these is too large.
                (Ok(coefficient), Ok(Some(power))) => {
                    Some(i128::from(coefficient) * i128::from(*power))
                }
                _ => coefficient.checked_mul(small_power(u32::try_from(zeros).ok()?)?),
            }
        };
        Some((scale(*a, *a_exponent)?, scale(*b, *b_exponent)?, exponent))
    }

    /// The exact sum.
    ///
    /// # Errors
    /// [`DecimalError::TooLarge`].
    pub fn add(&self, other: &Self) -> Result {
        if self.signum() == 0 {
            return Ok(other.clone());
        }
        if other.signum() == 0 {
            return Ok(self.clone());
        }
        if let Some((a, b, exponent)) = self.aligned_small(other)
            && let Some(sum) = a.checked_add(b)
        {
            return Ok(Self(Repr::Small(sum, if sum == 0 { 0 } else { exponent })));
        }
        let (a, b, exponent) = self.aligned(other)?;
        Self::from_big(a + b, exponent).checked()
    }

    /// Adds the number that `text` is in the grammar of RFC 8259 section 6.
    ///
    /// # Errors
    /// As [`Decimal::parse`], and [`DecimalError::TooLarge`] for the sum; the number is then as it was.
    #[inline]
    pub fn add_spelled(&mut self, text: &str) -> Result<()> {
        // Sums of numbers with as many places as each other, which is what columns have.
        if let (Repr::Small(sum, exponent), Some((more, places))) =
            (&mut self.0, Self::short(text.as_bytes()))
            && *exponent == -(places as i64)
            && let Some(total) = sum.checked_add(i128::from(more))
            && total != 0
        {
            *sum = total;
            return Ok(());
        }
        *self = self.add(&Self::parse(text)?)?;
        Ok(())
    }

    /// The exact difference.
    ///
    /// # Errors
    /// [`DecimalError::TooLarge`].
    pub fn sub(&self, other: &Self) -> Result {
        self.add(&other.neg())
    }

    /// The exact product.
    ///
    /// # Errors
    /// [`DecimalError::TooLarge`].
    pub fn mul(&self, other: &Self) -> Result {
        let exponent =
            self.exponent().checked_add(other.exponent()).ok_or(DecimalError::TooLarge)?;
        if let (Repr::Small(a, _), Repr::Small(b, _)) = (&self.0, &other.0)
            && let Some(product) = a.checked_mul(*b)
        {
            return Ok(Self(Repr::Small(product, if product == 0 { 0 } else { exponent })));
        }
        Self::from_big(self.big().0 * other.big().0, exponent).checked()
    }

    /// The quotient: exact where it ends, else rounded half-even at [`QUOTIENT_DIGITS`] significant digits.
    ///
    /// # Errors
    /// [`DecimalError::DivisionByZero`] and [`DecimalError::TooLarge`].
    pub fn div(&self, other: &Self) -> Result {
        if other.signum() == 0 {
            return Err(DecimalError::DivisionByZero);
        }
        if self.signum() == 0 {
            return Ok(Self::ZERO);
        }
        // With this many zeros appended, the whole quotient has at least QUOTIENT_DIGITS + 1 digits.
        let zeros = (u64::from(QUOTIENT_DIGITS) + 2 + other.digits()).saturating_sub(self.digits());
        let (dividend, dividend_exponent) = self.big();
        let (divisor, divisor_exponent) = other.big();
        let (quotient, rest) = (dividend * big_power(zeros)?).div_rem(&divisor);
        let exponent = dividend_exponent
            .checked_sub(divisor_exponent)
            .and_then(|exponent| exponent.checked_sub_unsigned(zeros))
            .ok_or(DecimalError::TooLarge)?;
        if rest.is_zero() {
            return Self::from_big(quotient, exponent).stripped().checked();
        }
        let extra = big_digits(&quotient) - u64::from(QUOTIENT_DIGITS);
        let power = big_power(extra)?;
        let (kept, dropped) = quotient.div_rem(&power);
        // A dropped half is more than a half: the remainder of the division lies beyond it.
        let up = dropped.abs() * 2u8 >= power;
        let away = BigInt::from(self.signum() * other.signum());
        let kept = if up { kept + away } else { kept };
        let exponent = exponent.checked_add_unsigned(extra).ok_or(DecimalError::TooLarge)?;
        Ok(Self::from_big(kept, exponent))
    }

    /// The remainder of the truncated division; it has the sign of `self`.
    ///
    /// # Errors
    /// [`DecimalError::DivisionByZero`] and [`DecimalError::TooLarge`].
    pub fn rem(&self, other: &Self) -> Result {
        if other.signum() == 0 {
            return Err(DecimalError::DivisionByZero);
        }
        if let Some((a, b, exponent)) = self.aligned_small(other) {
            // Nearly always both have 64 bits, and then it is one instruction.
            let rest = match (i64::try_from(a), i64::try_from(b)) {
                (Ok(a), Ok(b)) => a.checked_rem(b).map(i128::from),
                _ => a.checked_rem(b),
            };
            return Ok(Self(Repr::Small(rest.unwrap_or(0), exponent)));
        }
        let (a, b, exponent) = self.aligned(other)?;
        Ok(Self::from_big(a % b, exponent))
    }

    /// Rounded to `digits` places after the point (before it, when negative); a half goes away from zero.
    ///
    /// # Errors
    /// [`DecimalError::TooLarge`].
    pub fn round(&self, digits: i64) -> Result {
        self.quantized(digits, Rounding::HalfAway)
    }

    /// The largest whole number that is not greater.
    ///
    /// # Errors
    /// [`DecimalError::TooLarge`].
    pub fn floor(&self) -> Result {
        self.quantized(0, Rounding::Floor)
    }

    /// The smallest whole number that is not less.
    ///
    /// # Errors
    /// [`DecimalError::TooLarge`].
    pub fn ceiling(&self) -> Result {
        self.quantized(0, Rounding::Ceiling)
    }

    fn quantized(&self, digits: i64, rounding: Rounding) -> Result {
        let target = digits.checked_neg().ok_or(DecimalError::TooLarge)?;
        if self.exponent() >= target || self.signum() == 0 {
            return Ok(self.clone());
        }
        let (coefficient, exponent) = self.big();
        let dropped_digits = target.abs_diff(exponent);
        // A number far smaller than the last place kept: only its sign matters.
        let tiny = dropped_digits > self.digits() + 1;
        let power = if tiny { BigInt::one() } else { big_power(dropped_digits)? };
        let (kept, rest) = if tiny {
            (BigInt::zero(), BigInt::from(self.signum()))
        } else {
            coefficient.div_rem(&power)
        };
        let step = match rounding {
            _ if rest.is_zero() => 0,
            Rounding::Floor => -i32::from(rest.is_negative()),
            Rounding::Ceiling => i32::from(rest.is_positive()),
            Rounding::HalfAway if !tiny && rest.abs() * 2u8 >= power => self.signum(),
            Rounding::HalfAway => 0,
        };
        Ok(Self::from_big(kept + step, target))
    }

    fn checked(self) -> Result {
        if self.digits() > MAX_DIGITS { Err(DecimalError::TooLarge) } else { Ok(self) }
    }

    /// Without trailing zeros in the coefficient.
    fn stripped(&self) -> Self {
        match &self.0 {
            Repr::Small(0, _) => Self::ZERO,
            Repr::Small(coefficient, exponent) => {
                let (mut coefficient, mut exponent) = (*coefficient, *exponent);
                while coefficient % 10 == 0 {
                    coefficient /= 10;
                    exponent += 1;
                }
                Self(Repr::Small(coefficient, exponent))
            }
            Repr::Big(coefficient, exponent) => {
                let digits = coefficient.to_string();
                let zeros = digits.len() - digits.trim_end_matches('0').len();
                match big_power(zeros as u64) {
                    Ok(power) => Self::from_big(coefficient / power, exponent + zeros as i64),
                    Err(_) => self.clone(),
                }
            }
        }
    }

    /// The number as a 64-bit integer, where it is whole and fits.
    #[must_use]
    pub fn to_i64(&self) -> Option<i64> {
        i64::try_from(self.to_i128()?).ok()
    }

    /// The number as a 128-bit integer, where it is whole and fits.
    fn to_i128(&self) -> Option<i128> {
        if let Repr::Small(coefficient, 0) = self.0 {
            return Some(coefficient);
        }
        let Self(Repr::Small(coefficient, exponent)) = self.stripped() else { return None };
        let power = small_power(u32::try_from(exponent).ok()?)?;
        coefficient.checked_mul(power)
    }

    /// The largest multiple of 10^-`places` that is not greater, as how many of these units it is; `None` where these do not fit into 128
    /// bits.
    #[must_use]
    pub fn floor_units(&self, places: u32) -> Option<i128> {
        let (coefficient, exponent) = match &self.0 {
            Repr::Small(coefficient, exponent) => (coefficient, exponent),
            Repr::Big(coefficient, exponent) => {
                let units = Self(Repr::Big(coefficient.clone(), exponent + i64::from(places)));
                return units.floor().ok()?.to_i128();
            }
        };
        let shift = exponent.checked_add(i64::from(places))?;
        match u32::try_from(shift.unsigned_abs()).ok().and_then(small_power) {
            Some(power) if shift >= 0 => coefficient.checked_mul(power),
            Some(power) => Some(coefficient.div_euclid(power)),
            // The power is more than any small coefficient.
            None if shift >= 0 => (*coefficient == 0).then_some(0),
            None => Some(-i128::from(*coefficient < 0)),
        }
    }

    /// The place of the first digit: a larger one means a larger magnitude.
    fn magnitude(&self) -> i128 {
        i128::from(self.exponent()) + i128::from(self.digits())
    }
}

impl From<i64> for Decimal {
    fn from(integer: i64) -> Self {
        Self(Repr::Small(i128::from(integer), 0))
    }
}

impl Ord for Decimal {
    fn cmp(&self, other: &Self) -> Ordering {
        if let Some((a, b, _)) = self.aligned_small(other) {
            return a.cmp(&b);
        }
        let sign = self.signum();
        sign.cmp(&other.signum()).then_with(|| {
            // Of one magnitude the exponents differ by no more than the digits, so this stays small.
            let magnitudes = self.magnitude().cmp(&other.magnitude()).then_with(|| {
                match self.abs().aligned(&other.abs()) {
                    Ok((a, b, _)) => a.cmp(&b),
                    Err(_) => Ordering::Equal,
                }
            });
            if sign < 0 { magnitudes.reverse() } else { magnitudes }
        })
    }
}

impl PartialOrd for Decimal {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Decimal {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Decimal {}

/// The powers of ten that 64 bits hold.
const POWERS: [i64; 19] = {
    let mut powers = [1; 19];
    let mut at = 1;
    while at < powers.len() {
        powers[at] = powers[at - 1] * 10;
        at += 1;
    }
    powers
};

fn small_power(exponent: u32) -> Option<i128> {
    match POWERS.get(exponent as usize) {
        Some(power) => Some(i128::from(*power)),
        None => 10i128.checked_pow(exponent),
    }
}

fn big_power(exponent: u64) -> Result<BigInt> {
    if exponent > MAX_DIGITS * 2 {
        return Err(DecimalError::TooLarge);
    }
    Ok(match u32::try_from(exponent).ok().and_then(small_power) {
        Some(small) => BigInt::from(small),
        None => num_traits::pow(BigInt::from(10u8), exponent as usize),
    })
}

fn big_digits(number: &BigInt) -> u64 {
    match number.to_i128() {
        Some(small) => u64::from(small.unsigned_abs().checked_ilog10().unwrap_or(0)) + 1,
        None => number.magnitude().to_string().len() as u64,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn d(text: &str) -> Decimal {
        Decimal::parse(text).unwrap()
    }

    #[test]
    fn arithmetic() {
        let cases = [
            ("0.1", '+', "0.2", "0.3"),
            ("1.50", '+', "1.50", "3"),
            ("1e20", '+', "1", "100000000000000000001"),
            ("99999999999999999999999999999999999999", '+', "1", "1e38"),
            (
                "123456789012345678901234567890123456789",
                '-',
                "1",
                "123456789012345678901234567890123456788",
            ),
            ("0.1", '*', "0.1", "0.01"),
            (
                "12345678901234567890123456789",
                '*',
                "98765432109876543210987654321",
                "1219326311370217952261850327336229233322374638011112635269",
            ),
            ("1", '/', "3", "0.3333333333333333333333333333"),
            ("2", '/', "3", "0.6666666666666666666666666667"),
            ("-2", '/', "3", "-0.6666666666666666666666666667"),
            ("1", '/', "8", "0.125"),
            ("10", '/', "2", "5"),
            ("1e30", '/', "7", "142857142857142857142857142900"),
            ("7", '%', "3", "1"),
            ("-7", '%', "3", "-1"),
            ("7.5", '%', "2", "1.5"),
            ("1e40", '%', "7", "4"),
        ];
        for (a, operator, b, expected) in cases {
            let (a, b) = (d(a), d(b));
            let result = match operator {
                '+' => a.add(&b),
                '-' => a.sub(&b),
                '*' => a.mul(&b),
                '/' => a.div(&b),
                _ => a.rem(&b),
            };
            assert_eq!(result.unwrap().to_string(), expected, "{a} {operator} {b}");
        }
    }

    #[test]
    fn spelled_by_others() {
        for (text, number) in [
            ("007", "7"),
            ("+5", "5"),
            ("-0.50", "-0.5"),
            (" 1e3 ", "1000"),
            ("0", "0"),
            ("00", "0"),
            ("00.5", "0.5"),
        ] {
            assert_eq!(
                Decimal::spelled(text).map(|n| n.to_string()).as_deref(),
                Some(number),
                "{text}"
            );
        }
        for text in ["", "-", "+-1", ".5", "5.", "1 2", "0x1", "1e", "a", "1,5", "Infinity", "--1"]
        {
            assert_eq!(Decimal::spelled(text), None, "{text}");
        }
    }

    #[test]
    fn refusals() {
        assert_eq!(d("1").div(&d("0.0")), Err(DecimalError::DivisionByZero));
        assert_eq!(d("1").rem(&d("0")), Err(DecimalError::DivisionByZero));
        assert_eq!(d("1e30000").add(&d("1")), Err(DecimalError::TooLarge));
        assert_eq!(Decimal::parse("1e99999999999999999999"), Err(DecimalError::TooLarge));
        assert_eq!(Decimal::parse(&"9".repeat(10_001)), Err(DecimalError::TooLarge));
    }

    #[test]
    fn ordering_never_scales_far() {
        assert!(d("1e999999999") > d("9e999999998"));
        assert!(d("-1e999999999") < d("1e-999999999"));
        assert_eq!(d("1.0"), d("1"));
        assert_eq!(d("0e5"), d("-0.00"));
        assert!(d("1e-40") > d("0"));
    }

    #[test]
    fn rounding() {
        let cases = [
            ("2.5", 0, "3"),
            ("-2.5", 0, "-3"),
            ("2.45", 1, "2.5"),
            ("1234", -2, "1200"),
            ("1250", -2, "1300"),
            ("0.004", 2, "0"),
            ("1e-500", 3, "0"),
            ("5", 3, "5"),
            ("0.5", 0, "1"),
            ("49", -2, "0"),
            ("50", -2, "100"),
            ("5", -2, "0"),
        ];
        for (number, digits, expected) in cases {
            assert_eq!(d(number).round(digits).unwrap().to_string(), expected, "{number} {digits}");
        }
        for (number, floor, ceiling) in [
            ("2.1", "2", "3"),
            ("-2.1", "-3", "-2"),
            ("7", "7", "7"),
            ("1e-99", "0", "1"),
            ("-1e-99", "-1", "0"),
        ] {
            assert_eq!(d(number).floor().unwrap().to_string(), floor);
            assert_eq!(d(number).ceiling().unwrap().to_string(), ceiling);
        }
    }

    #[test]
    fn spelling() {
        for (read, written) in [
            ("1e3", "1000"),
            ("1.10", "1.1"),
            ("-0", "0"),
            ("1e31", "1e31"),
            ("1.25e50", "1.25e50"),
            ("1e-5", "0.00001"),
            ("12e-40", "1.2e-39"),
            ("-0.5", "-0.5"),
            ("100", "100"),
        ] {
            assert_eq!(d(read).to_string(), written);
        }
    }

    proptest! {
        #[test]
        fn agrees_with_wide_integers(a in any::<i64>(), b in any::<i64>(), scale in -6i64..6) {
            let spelled = |n: i64| d(&format!("{n}e{scale}"));
            let sum = i128::from(a) + i128::from(b);
            prop_assert_eq!(spelled(a).add(&spelled(b)).unwrap(), d(&format!("{sum}e{scale}")));
            let product = i128::from(a) * i128::from(b);
            prop_assert_eq!(spelled(a).mul(&spelled(b)).unwrap(), d(&format!("{product}e{}", scale * 2)));
            prop_assert_eq!(spelled(a).cmp(&spelled(b)), a.cmp(&b));
            prop_assert_eq!(d(&spelled(a).to_string()), spelled(a));
        }

        /// Units are whole parts of the number in units, if those fit.
        #[test]
        fn whole_parts_in_units(
            text in "-?(0|[1-9][0-9]{0,22}|922337203685477580[0-9])(\\.[0-9]{1,25})?(e-?[0-9]{1,2})?",
            places in 0_u32..20,
        ) {
            let number = d(&text);
            let floor = number.mul(&d(&format!("1e{places}"))).unwrap().floor().unwrap();
            match number.floor_units(places) {
                Some(units) => prop_assert_eq!(d(&units.to_string()), floor),
                None => prop_assert!(floor.digits() + u64::try_from(floor.exponent()).unwrap() > 37),
            }
        }

        #[test]
        fn adding_what_is_spelled_is_adding(
            texts in prop::collection::vec("-?(0|[1-9][0-9]{0,20})(\\.[0-9]{1,4})?(e-?[0-9]{1,2})?", 0..12),
        ) {
            let (mut up, mut sum) = (Decimal::ZERO, Decimal::ZERO);
            for text in &texts {
                up.add_spelled(text).unwrap();
                sum = sum.add(&d(text)).unwrap();
            }
            prop_assert_eq!(up.to_string(), sum.to_string());
        }

        #[test]
        fn no_spelling_panics(text in "-?[0-9.eE+-]{0,60}") {
            if let Ok(number) = Decimal::parse(&text) {
                let _ = number.to_string();
                let _ = number.round(2);
                let _ = number.div(&d("7"));
            }
        }
    }
}
