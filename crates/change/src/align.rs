//! Aligns the items of two lists.
//!
//! Items that are equal and occur once in each list are anchors where they come in the same order (patience diff, Cohen). Between two
//! anchors a short stretch is aligned by its longest common subsequence and a long one from its two ends, so that the time grows with
//! the lists and not with their product.

use std::collections::HashMap;

use similar::{Algorithm, DiffOp, capture_diff_slices};

use crate::fingerprint::Fingerprint;

/// Two items beside each other, or one alone.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Pair {
    /// Items that are the same, by their positions.
    Both(usize, usize),
    Old(usize),
    New(usize),
}

/// The longest parts that are aligned exactly.
const EXACT: usize = 1000;

/// Sets items beside each other: those that are the same, in the order of both lists.
pub(crate) fn align(old: &[Fingerprint], new: &[Fingerprint]) -> Vec<Pair> {
    let mut pairs = Vec::with_capacity(old.len().max(new.len()));
    let anchors = anchors(old, new);
    let (mut from_old, mut from_new) = (0, 0);
    for (at_old, at_new) in anchors.into_iter().chain([(old.len(), new.len())]) {
        between(old, new, (from_old, at_old), (from_new, at_new), &mut pairs);
        if at_old < old.len() {
            pairs.push(Pair::Both(at_old, at_new));
        }
        (from_old, from_new) = (at_old + 1, at_new + 1);
    }
    pairs
}

/// The anchors: positions in both lists, each behind the one before.
fn anchors(old: &[Fingerprint], new: &[Fingerprint]) -> Vec<(usize, usize)> {
    // How often each occurs in both, and where.
    let mut known: HashMap<Fingerprint, (usize, usize, usize)> = HashMap::new();
    for (at, print) in old.iter().enumerate() {
        let entry = known.entry(*print).or_insert((0, at, 0));
        entry.0 += 1;
    }
    let mut unique: Vec<(usize, usize)> = Vec::new();
    for print in new {
        if let Some(entry) = known.get_mut(print) {
            entry.2 += 1;
        }
    }
    for (at, print) in new.iter().enumerate() {
        if let Some((1, at_old, 1)) = known.get(print) {
            unique.push((*at_old, at));
        }
    }
    let rising = longest_rising(&unique.iter().map(|(at, _)| *at).collect::<Vec<_>>());
    rising.into_iter().map(|at| unique[at]).collect()
}

/// The positions of a longest subsequence whose numbers rise (Schensted 1961).
pub(crate) fn longest_rising(numbers: &[usize]) -> Vec<usize> {
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = Vec::with_capacity(numbers.len());
    for (at, number) in numbers.iter().enumerate() {
        let length = ends.partition_point(|end| numbers[*end] < *number);
        before.push(length.checked_sub(1).map(|shorter| ends[shorter]));
        if length == ends.len() {
            ends.push(at);
        } else {
            ends[length] = at;
        }
    }
    let mut rising = Vec::with_capacity(ends.len());
    let mut at = ends.last().copied();
    while let Some(position) = at {
        rising.push(position);
        at = before[position];
    }
    rising.reverse();
    rising
}

/// Aligns what lies between two anchors.
fn between(
    old: &[Fingerprint],
    new: &[Fingerprint],
    (mut from_old, mut to_old): (usize, usize),
    (mut from_new, mut to_new): (usize, usize),
    pairs: &mut Vec<Pair>,
) {
    while from_old < to_old && from_new < to_new && old[from_old] == new[from_new] {
        pairs.push(Pair::Both(from_old, from_new));
        (from_old, from_new) = (from_old + 1, from_new + 1);
    }
    let mut tail = Vec::new();
    while from_old < to_old && from_new < to_new && old[to_old - 1] == new[to_new - 1] {
        (to_old, to_new) = (to_old - 1, to_new - 1);
        tail.push(Pair::Both(to_old, to_new));
    }
    if to_old - from_old <= EXACT && to_new - from_new <= EXACT {
        let (before, after) = (&old[from_old..to_old], &new[from_new..to_new]);
        for op in capture_diff_slices(Algorithm::Myers, before, after) {
            let (olds, news) = (op.old_range(), op.new_range());
            if let DiffOp::Equal { .. } = op {
                let both = olds.zip(news);
                pairs.extend(both.map(|(at, to)| Pair::Both(from_old + at, from_new + to)));
            } else {
                pairs.extend(olds.map(|at| Pair::Old(from_old + at)));
                pairs.extend(news.map(|at| Pair::New(from_new + at)));
            }
        }
    } else {
        pairs.extend((from_old..to_old).map(Pair::Old));
        pairs.extend((from_new..to_new).map(Pair::New));
    }
    pairs.extend(tail.into_iter().rev());
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(old: &str, new: &str) -> String {
        let prints = |text: &str| text.bytes().map(|byte| [u64::from(byte), 0]).collect::<Vec<_>>();
        let pairs = align(&prints(old), &prints(new));
        let shown = pairs.into_iter().map(|pair| match pair {
            Pair::Both(at, _) => char::from(old.as_bytes()[at]).to_string(),
            Pair::Old(at) => format!("-{}", char::from(old.as_bytes()[at])),
            Pair::New(at) => format!("+{}", char::from(new.as_bytes()[at])),
        });
        shown.collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn items_beside_each_other() {
        for (old, new, expected) in [
            ("", "", ""),
            ("abc", "abc", "a b c"),
            ("abc", "xabc", "+x a b c"),
            ("abc", "ac", "a -b c"),
            ("abcd", "acbd", "a +c b -c d"),
            ("aaa", "aa", "a a -a"),
            ("ab", "cd", "-a -b +c +d"),
        ] {
            let found = of(old, new);
            let swapped = expected == "a +c b -c d" && found == "a -b c +b d";
            assert!(found == expected || swapped, "{old} {new}: {found}");
        }
    }

    #[test]
    fn rising() {
        assert_eq!(longest_rising(&[3, 0, 1, 5, 2]), [1, 2, 4]);
        assert_eq!(longest_rising(&[]), [0; 0]);
    }
}
