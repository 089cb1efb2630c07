//! How deep values are nested, without recursion: for values that programs nest in themselves again and again.

use std::collections::HashMap;

/// How many levels deep a value may be that a program has nested in itself: what goes through values needs stack for each level.
pub const DEEPEST: usize = 10_000;

/// What is said of a value that is deeper.
pub const TOO_DEEP: &str = "nested more than 10,000 levels deep";

/// How many steps there are at the most between two looks at how deep a value is.
const CHECKED: u64 = 1024;

/// Whether it is time to look how deep a value is that has been put into the next one for `steps` times: after twice as many steps
/// as before, so that the looks cost little beside the steps, and after 1024 at the latest.
///
/// ```
/// use kyanite_tree::nesting::is_due;
///
/// let due: Vec<u64> = (1..20).filter(|steps| is_due(*steps)).collect();
/// assert_eq!(due, [1, 2, 4, 8, 16]);
/// assert!(is_due(5 * 1024));
/// ```
#[must_use]
pub fn is_due(steps: u64) -> bool {
    steps.is_power_of_two() || steps.is_multiple_of(CHECKED)
}

/// What one value holds.
#[derive(Debug)]
pub enum Holds<T> {
    /// Others, and its place in memory, by which it is known where it stands again.
    Values(usize, Vec<T>),
    /// Its depth in levels is known.
    Levels(usize),
}

/// How many levels deep the deepest of these values is, up to `most`: more are counted as one more. What stands in several places
/// is looked at once.
pub fn depth<T>(values: Vec<T>, most: usize, holds: impl Fn(T) -> Holds<T>) -> usize {
    let mut known: HashMap<usize, usize> = HashMap::new();
    let mut open = vec![(None, values, 0)];
    while let Some((place, inner, deepest)) = open.last_mut() {
        let Some(value) = inner.pop() else {
            let depth = *deepest + usize::from(place.is_some());
            known.extend(place.map(|place| (place, depth)));
            open.pop();
            match open.last_mut() {
                Some((.., above)) => *above = depth.max(*above),
                None => return depth,
            }
            continue;
        };
        let (place, values) = match holds(value) {
            Holds::Values(place, values) => (place, values),
            Holds::Levels(levels) => {
                *deepest = levels.max(*deepest);
                continue;
            }
        };
        match known.get(&place) {
            Some(depth) => *deepest = (*depth).max(*deepest),
            None if open.len() > most => return most + 1,
            None => open.push((Some(place), values, 0)),
        }
    }
    0
}
