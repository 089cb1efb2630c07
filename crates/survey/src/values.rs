//! Summaries of the scalars at a path.

use foldhash::quality::FixedState;
use kyanite_tree::Decimal;
use serde::{Deserialize, Serialize};
use std::hash::BuildHasher;

use crate::distinct::{Count, Distinct};
use crate::forms::Form;
use crate::frequent::{FrequentValues, OF_BATCH};
use crate::numbers::Numbers;
use crate::times::{Times, instant};

/// What a scalar is, other than null.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Scalar {
    Boolean,
    Number,
    Text,
}

/// Least, greatest and sum of some lengths.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize)]
pub(crate) struct LengthCounts {
    pub(crate) count: u64,
    pub(crate) least: u64,
    pub(crate) greatest: u64,
    pub(crate) sum: u64,
}

impl LengthCounts {
    /// Takes a length that occurred so often.
    pub(crate) fn add(&mut self, length: u64, count: u64) {
        self.merge(Self { count, least: length, greatest: length, sum: length * count });
    }

    /// Whether these lengths are possible for `values` values.
    pub(crate) fn is_sound(&self, values: u64) -> bool {
        let bounds = (self.least.checked_mul(self.count), self.greatest.checked_mul(self.count));
        self.count <= values
            && matches!(bounds, (Some(least), Some(most)) if (least..=most).contains(&self.sum))
    }

    /// Takes what another counted.
    pub(crate) fn merge(&mut self, other: Self) {
        if other.count > 0 {
            self.least = if self.count == 0 { other.least } else { self.least.min(other.least) };
            self.greatest = self.greatest.max(other.greatest);
            self.count += other.count;
            self.sum += other.sum;
        }
    }
}

/// What is known of the scalars at a path.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct Values {
    pub(crate) distinct: Distinct,
    pub(crate) frequent: FrequentValues,
    /// Numbers, and texts that spell one.
    pub(crate) numbers: Option<Numbers>,
    pub(crate) times: Option<Times>,
    pub(crate) lengths: LengthCounts,
    /// How many texts have each of [`Form::ALL`].
    pub(crate) forms: [u64; Form::ALL.len()],
}

/// The hash of a value, by which different ones are told apart: numbers are the same if their values are.
pub(crate) fn hash_of(sort: Scalar, text: &str) -> u64 {
    const STATE: FixedState = FixedState::with_seed(0x7e57_15e5);
    let plain = match sort {
        Scalar::Number => match plain_number(text) {
            Some(plain) => plain,
            None => {
                let value = Decimal::parse(text).map(|value| value.to_string());
                return STATE.hash_one((sort, value.as_deref().unwrap_or(text)));
            }
        },
        _ => text,
    };
    STATE.hash_one((sort, plain))
}

/// The one spelling of a number that is spelled without an exponent: without zeros at the end of its fraction.
fn plain_number(text: &str) -> Option<&str> {
    let bytes = text.as_bytes();
    if bytes.first() == Some(&b'-') && !bytes.iter().any(|byte| matches!(byte, b'1'..=b'9')) {
        return Some("0");
    }
    if bytes.iter().any(|byte| matches!(byte, b'e' | b'E' | b'+')) {
        return None;
    }
    let has_fraction = bytes.contains(&b'.');
    Some(if has_fraction { text.trim_end_matches('0').trim_end_matches('.') } else { text })
}

impl Values {
    /// Takes values that differ from each other, each with how often it occurred, and their hashes.
    pub(crate) fn add<'v>(
        &mut self,
        values: impl ExactSizeIterator<Item = (Scalar, &'v str, u64)> + Clone,
        hashes: Vec<u64>,
    ) {
        self.distinct.add(hashes);
        let least = least_kept(&values);
        let mut left_out = 0;
        for (sort, text, count) in values {
            if count >= least {
                self.frequent.add(sort, text, count);
            } else {
                left_out = left_out.max(count);
            }
            match sort {
                Scalar::Boolean => {}
                Scalar::Number => self.add_number(text, Decimal::parse(text).ok(), count),
                Scalar::Text => self.add_text(text, count),
            }
        }
        self.frequent.leave_out(left_out);
    }

    fn add_text(&mut self, text: &str, count: u64) {
        self.lengths.add(text.chars().count() as u64, count);
        let Some(form) = Form::of(text) else { return };
        self.forms[form as usize] += count;
        match form {
            Form::Number => self.add_number(text, Decimal::spelled(text), count),
            Form::Date | Form::DateTime => {
                let Some(at) = instant(text) else { return };
                match &mut self.times {
                    Some(times) => times.add(text, at, count),
                    None => self.times = Some(Times::of(text, at, count)),
                }
            }
            _ => {}
        }
    }

    fn add_number(&mut self, text: &str, value: Option<Decimal>, count: u64) {
        let Some(value) = value else { return };
        match &mut self.numbers {
            Some(numbers) => numbers.add(text, &value, count),
            None => self.numbers = Some(Numbers::of(text, &value, count)),
        }
    }

    /// Takes what is known of later values.
    pub(crate) fn merge(&mut self, other: Self) {
        self.distinct.merge(&other.distinct);
        self.frequent.merge(other.frequent);
        self.lengths.merge(other.lengths);
        self.forms.iter_mut().zip(other.forms).for_each(|(own, other)| *own += other);
        match (&mut self.numbers, other.numbers) {
            (Some(own), Some(other)) => own.merge(other),
            (own @ None, other) => *own = other,
            (Some(_), None) => {}
        }
        match (&mut self.times, other.times) {
            (Some(own), Some(other)) => own.merge(other),
            (own @ None, other) => *own = other,
            (Some(_), None) => {}
        }
    }

    /// Whether these figures are possible for `values` values: a state may come from anywhere.
    pub(crate) fn is_sound(&self, values: u64) -> bool {
        self.times.as_ref().is_none_or(|times| times.is_sound(values))
            && self.numbers.as_ref().is_none_or(|numbers| numbers.is_sound(values))
            && self.frequent.is_sound(values)
            && self.lengths.is_sound(values)
            && self.forms.iter().all(|count| *count <= values)
    }

    /// About how many bytes are held.
    pub(crate) fn held(&self) -> usize {
        let buckets = self.numbers.as_ref().map_or(0, |numbers| 256 + numbers.buckets() * 24)
            + self.times.as_ref().map_or(0, |times| 128 + times.buckets() * 24);
        self.distinct.held() + self.frequent.held() + buckets
    }

    /// How many different values there are.
    pub(crate) fn distinct(&self) -> Count {
        let estimate = self.distinct.count();
        match self.frequent.exact_count() {
            Some(count) if estimate.error > 0.0 => Count { count, error: 0.0 },
            _ => estimate,
        }
    }
}

/// How often a value has to occur to be kept among the frequent ones of a batch. Of values that nearly all differ none is: that saves a
/// copy of each.
fn least_kept<'v>(values: &(impl ExactSizeIterator<Item = (Scalar, &'v str, u64)> + Clone)) -> u64 {
    if values.len() <= OF_BATCH {
        return 1;
    }
    let mut counts: Vec<u64> =
        values.clone().map(|(_, _, count)| count).filter(|count| *count > 1).collect();
    counts.sort_unstable_by(|a, b| b.cmp(a));
    counts.get(OF_BATCH).map_or(2, |count| count + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_the_same_by_value() {
        let mut values = Values::default();
        let spelled = ["1", "1.0", "1e0", "10", "1E1", "-0.5", "-5e-1", "0", "-0.0", "0e5", "100"];
        let numbers = spelled.map(|text| (Scalar::Number, text, 1));
        let all: Vec<_> = [(Scalar::Text, "1", 1)].into_iter().chain(numbers).collect();
        let hashes = all.iter().map(|(sort, text, _)| hash_of(*sort, text)).collect();
        values.add(all.into_iter(), hashes);
        assert_eq!(values.distinct().count, 6);
        assert_eq!(values.numbers.map(|numbers| numbers.report(None).count), Some(12));
    }
}
