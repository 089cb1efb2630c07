//! Numbers: how many, the least and the greatest, their mean, and quantiles.
//!
//! Sums are exact. Quantiles come from counts of buckets whose bounds are 1/64 of a power of two apart, so that each is at most 0.8
//! percent off; they do not depend on the order in which numbers come.

use std::collections::BTreeMap;

use kyanite_tree::Decimal;
use serde::{Deserialize, Serialize};

use crate::state::total;

/// The shares at which quantiles are told.
pub const QUANTILES: [f64; 5] = [0.05, 0.25, 0.5, 0.75, 0.95];

/// What is told of numbers.
#[derive(Clone, PartialEq, Debug)]
pub struct NumbersReport {
    /// How many there are.
    pub count: u64,
    /// The least, as it was spelled where it came first.
    pub least: String,
    /// The greatest.
    pub greatest: String,
    /// The mean; none where numbers have more digits than are computed with.
    pub mean: Option<Decimal>,
    /// Whether all are whole.
    pub are_whole: bool,
    /// The quantiles at [`QUANTILES`].
    pub quantiles: Vec<f64>,
    /// How many lie in each of some parts of equal width between the least and the greatest.
    pub spread: Vec<u64>,
}

/// How many parts the spread of numbers is told in.
pub(crate) const PARTS: usize = 16;

/// The low bits of a double that a bucket leaves open: six bits of the mantissa are left.
const OPEN_BITS: u32 = 52 - 6;

/// Numbers, counted.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Numbers {
    count: u64,
    least: Bound,
    greatest: Bound,
    #[serde(with = "crate::state::decimal")]
    sum: Option<Decimal>,
    are_whole: bool,
    buckets: BTreeMap<i64, u64>,
}

/// An extreme number.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(into = "Box<str>", try_from = "Box<str>")]
struct Bound {
    value: Decimal,
    spelled: Box<str>,
}

impl From<Bound> for Box<str> {
    fn from(bound: Bound) -> Self {
        bound.spelled
    }
}

impl TryFrom<Box<str>> for Bound {
    type Error = &'static str;

    fn try_from(spelled: Box<str>) -> Result<Self, Self::Error> {
        let value = Decimal::parse(&spelled).ok().or_else(|| Decimal::spelled(&spelled));
        Ok(Self { value: value.ok_or("no number")?, spelled })
    }
}

/// The bucket of a number; buckets are in the order of numbers.
fn bucket(number: f64) -> i64 {
    let bits = (number.abs().to_bits() >> OPEN_BITS).cast_signed();
    if number < 0.0 { -bits } else { bits }
}

/// The number in the middle of a bucket.
fn middle(bucket: i64) -> f64 {
    let bits = bucket.unsigned_abs() << OPEN_BITS;
    let half = if bits == 0 { 0 } else { 1 << (OPEN_BITS - 1) };
    let number = f64::from_bits(bits | half);
    if bucket < 0 { -number } else { number }
}

impl Numbers {
    /// The first number, which occurred so often.
    pub(crate) fn of(spelled: &str, value: &Decimal, count: u64) -> Self {
        let bound = Bound { value: value.clone(), spelled: spelled.into() };
        let mut numbers = Self {
            count: 0,
            least: bound.clone(),
            greatest: bound,
            sum: Some(Decimal::ZERO),
            are_whole: true,
            buckets: BTreeMap::new(),
        };
        numbers.add(spelled, value, count);
        numbers
    }

    /// Takes a number that occurred so often.
    pub(crate) fn add(&mut self, spelled: &str, value: &Decimal, count: u64) {
        self.count += count;
        if *value < self.least.value {
            self.least = Bound { value: value.clone(), spelled: spelled.into() };
        }
        if *value > self.greatest.value {
            self.greatest = Bound { value: value.clone(), spelled: spelled.into() };
        }
        let times = i64::try_from(count).unwrap_or(i64::MAX);
        let added = |sum: &Decimal| value.mul(&Decimal::from(times)).and_then(|all| sum.add(&all));
        self.sum = self.sum.as_ref().and_then(|sum| added(sum).ok());
        self.are_whole &= value.to_i64().is_some() || value.floor().as_ref() == Ok(value);
        let number: f64 = spelled.trim().parse().unwrap_or_default();
        *self.buckets.entry(bucket(number)).or_default() += count;
    }

    /// Takes what another counted later.
    pub(crate) fn merge(&mut self, other: Self) {
        self.count += other.count;
        if other.least.value < self.least.value {
            self.least = other.least;
        }
        if other.greatest.value > self.greatest.value {
            self.greatest = other.greatest;
        }
        self.sum =
            self.sum.as_ref().and_then(|sum| other.sum.and_then(|other| sum.add(&other).ok()));
        self.are_whole &= other.are_whole;
        for (bucket, count) in other.buckets {
            *self.buckets.entry(bucket).or_default() += count;
        }
    }

    /// Whether all are whole.
    pub(crate) fn are_whole(&self) -> bool {
        self.are_whole
    }

    /// Whether these figures are possible for `values` values.
    pub(crate) fn is_sound(&self, values: u64) -> bool {
        (1..=values).contains(&self.count)
            && total(self.buckets.values()) == Some(self.count)
            && self.least.value <= self.greatest.value
    }

    /// In how many buckets they are.
    pub(crate) fn buckets(&self) -> usize {
        self.buckets.len()
    }

    /// What is told of them; `exact` gives each number and how often it occurred, if all are known.
    pub(crate) fn report(&self, exact: Option<Vec<(f64, u64)>>) -> NumbersReport {
        let of = |bound: &Bound| bound.spelled.trim().parse().unwrap_or_default();
        let (least, greatest): (f64, f64) = (of(&self.least), of(&self.greatest));
        let counts = match exact {
            Some(mut counts) => {
                counts.sort_by(|a, b| a.0.total_cmp(&b.0));
                counts
            }
            None => {
                let middles = self.buckets.iter();
                middles.map(|(at, count)| (middle(*at).clamp(least, greatest), *count)).collect()
            }
        };
        let count = i64::try_from(self.count).unwrap_or(i64::MAX);
        NumbersReport {
            count: self.count,
            least: self.least.spelled.to_string(),
            greatest: self.greatest.spelled.to_string(),
            mean: self.sum.as_ref().and_then(|sum| sum.div(&Decimal::from(count)).ok()),
            are_whole: self.are_whole,
            quantiles: quantiles(&counts),
            spread: spread(&counts, least, greatest),
        }
    }
}

/// The numbers at the shares of [`QUANTILES`] of numbers that are in order, each with how often it occurs.
#[allow(clippy::cast_possible_truncation, clippy::cast_precision_loss, clippy::cast_sign_loss)]
pub(crate) fn quantiles(counts: &[(f64, u64)]) -> Vec<f64> {
    let total: u64 = counts.iter().map(|(_, count)| count).sum();
    let at = |share: &f64| {
        // The least number that has at least so large a share at or below it.
        let rank = ((total as f64 * share).ceil() as u64).max(1);
        let mut seen = 0;
        let found = counts.iter().find(|(_, count)| {
            seen += count;
            seen >= rank
        });
        found.or(counts.last()).map_or(0.0, |(number, _)| *number)
    };
    QUANTILES.iter().map(at).collect()
}

/// How many numbers lie in each part between the least and the greatest.
#[allow(clippy::cast_possible_truncation, clippy::cast_precision_loss, clippy::cast_sign_loss)]
pub(crate) fn spread(counts: &[(f64, u64)], least: f64, greatest: f64) -> Vec<u64> {
    let mut parts = vec![0; PARTS];
    let width = greatest - least;
    for (number, count) in counts {
        let share = if width > 0.0 { (number - least) / width } else { 0.0 };
        parts[((share * PARTS as f64) as usize).min(PARTS - 1)] += count;
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(numbers: &[&str]) -> Numbers {
        let mut made: Option<Numbers> = None;
        for text in numbers {
            let value = Decimal::spelled(text).unwrap();
            match &mut made {
                Some(made) => made.add(text, &value, 1),
                None => made = Some(Numbers::of(text, &value, 1)),
            }
        }
        made.unwrap()
    }

    #[test]
    fn sums_keep_every_digit() {
        let mut numbers = of(&["0.1", "12345678901234567890123", "-1e3"]);
        numbers.merge(of(&["0.2", "1E3"]));
        let report = numbers.report(None);
        assert_eq!(report.mean.unwrap().to_string(), "2469135780246913578024.66");
        assert_eq!((report.least.as_str(), report.count), ("-1e3", 5));
        assert_eq!(report.greatest, "12345678901234567890123");
        assert!(!report.are_whole && of(&["1", "2.0", "1e400"]).are_whole);
    }

    #[test]
    fn quantiles_are_near() {
        let texts: Vec<String> = (0..10_000).map(|number| (number - 2000).to_string()).collect();
        let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
        let report = of(&texts).report(None);
        for (near, exact) in report.quantiles.iter().zip([-1501.0, 499.0, 2999.0, 5499.0, 7499.0]) {
            assert!((near - exact).abs() <= 0.009 * f64::abs(exact), "{near} for {exact}");
        }
        assert_eq!(report.spread.iter().sum::<u64>(), 10_000);
        assert_eq!(quantiles(&[(1.0, 1), (5.0, 3)]), [1.0, 1.0, 5.0, 5.0, 5.0]);
    }

    #[test]
    fn buckets_are_in_order_and_narrow() {
        let numbers = [-1e300, -3.0, -0.001, 0.0, 1e-300, 0.5, 1.0, 64.0, 65.0, 1e9];
        assert!(numbers.windows(2).all(|pair| bucket(pair[0]) < bucket(pair[1])));
        for number in numbers {
            assert!((middle(bucket(number)) - number).abs() <= 0.008 * number.abs(), "{number}");
        }
    }
}
