//! A survey as lines of JSON: the state of a survey over some of the records, to be joined with those of others.
//!
//! The first line counts what follows: the paths, each behind the one that it goes on from, and then the shapes of records. Hashes, of
//! values and of shapes, are those of one version of this crate, so a state is read by the version that wrote it.

use std::collections::HashSet;

use foldhash::fast::FixedState;
use serde::{Deserialize, Serialize, Serializer};
use serde_json::{from_str, to_string};

use crate::distinct::Distinct;
use crate::enumerated::Enumerated;
use crate::paths::{Counts, DOCUMENT, PathStep, RECORDS};
use crate::shapes::Feature;
use crate::survey::{Bounds, ExampleValue, Extra, InFile, Survey};
use crate::unique::Keys;
use crate::values::Values;

/// The first line.
#[derive(Serialize, Deserialize)]
struct Head {
    /// Each input with how many records it has.
    files: Vec<(String, u64)>,
    paths: usize,
    shapes: usize,
    /// How many records have shapes that were not told apart, and whether none is any more.
    other_shapes: u64,
    shapes_given_up: bool,
}

/// What is known of a path.
#[derive(Serialize, Deserialize)]
struct Path {
    parent: usize,
    step: PathStep,
    counts: Counts,
    values: Values,
    keys: Keys,
    enumerated: Enumerated,
    examples: Vec<ExampleValue>,
    files: Vec<InFile>,
    names: Distinct,
}

/// How many records have a shape: its hash, their number, and which sorts of values stand at which paths.
type Shape = (u64, u64, Vec<Feature>);

impl Survey {
    /// The survey as lines, without their ends.
    ///
    /// ```
    /// use kyanite_survey::{Bounds, Survey};
    ///
    /// let lines = Survey::new(Bounds::default()).into_state();
    /// let read = Survey::of_state(lines.iter().map(String::as_str), Bounds::default()).unwrap();
    /// assert_eq!(read.records(), 0);
    /// ```
    #[must_use]
    pub fn into_state(mut self) -> Vec<String> {
        let shapes = self.settled_shapes();
        let order = self.paths.in_order();
        let mut places = vec![DOCUMENT; self.paths.nodes.len()];
        order.iter().enumerate().for_each(|(place, number)| places[*number] = place);
        let mut lines = vec![line(&Head {
            files: self.files.into_iter().zip(self.file_records).collect(),
            paths: order.len(),
            shapes: shapes.len(),
            other_shapes: self.shapes.others,
            shapes_given_up: self.shapes.is_given_up(),
        })];
        for number in order {
            let node = &mut self.paths.nodes[number];
            let extra = std::mem::take(&mut node.extra);
            lines.push(line(&Path {
                parent: places[node.parent],
                step: node.step.clone(),
                counts: std::mem::take(&mut node.counts),
                values: std::mem::take(&mut node.values),
                keys: extra.keys,
                enumerated: extra.enumerated,
                examples: extra.examples,
                files: extra.by_file,
                names: extra.names,
            }));
        }
        for (hash, count, mut features) in shapes {
            features.iter_mut().for_each(|feature| feature.0 = places[feature.0]);
            lines.push(line::<Shape>(&(hash, count, features)));
        }
        lines
    }

    /// Reads a survey from the lines that [`into_state`](Self::into_state) gives. Returns None for any other lines.
    #[must_use]
    pub fn of_state<'l>(mut lines: impl Iterator<Item = &'l str>, bounds: Bounds) -> Option<Self> {
        let head: Head = from_str(lines.next()?).ok()?;
        let mut survey = Self::new(bounds);
        (survey.files, survey.file_records) = head.files.into_iter().unzip();
        survey.records = total(&survey.file_records)?;
        let mut numbers = Vec::new();
        for _ in 0..head.paths {
            let path: Path = from_str(lines.next()?).ok()?;
            let number = match path.step {
                PathStep::Root if numbers.is_empty() => DOCUMENT,
                PathStep::Root => return None,
                step => survey.paths.child(*numbers.get(path.parent)?, step),
            };
            let files = survey.files.len();
            let has_files = path.examples.iter().all(|example| example.file < files)
                && path.files.iter().all(|in_file| in_file.file < files);
            let is_sound =
                path.counts.is_sound(survey.records) && path.values.is_sound(path.counts.values);
            if !has_files || !is_sound {
                return None;
            }
            numbers.push(number);
            let node = &mut survey.paths.nodes[number];
            (node.counts, node.values) = (path.counts, path.values);
            node.extra = Extra {
                keys: path.keys,
                enumerated: path.enumerated,
                examples: path.examples,
                by_file: path.files,
                names: path.names,
                ..Extra::default()
            };
        }
        for _ in 0..head.shapes {
            let (hash, count, mut features): Shape = from_str(lines.next()?).ok()?;
            if count > survey.records {
                return None;
            }
            for feature in &mut features {
                feature.0 = *numbers.get(feature.0)?;
            }
            survey.shapes.add(hash, count, || features.into());
        }
        survey.shapes.others = head.other_shapes;
        if head.shapes_given_up {
            survey.shapes.give_up();
        }
        let has_ends = numbers.contains(&DOCUMENT) && numbers.contains(&RECORDS);
        (has_ends && lines.next().is_none()).then_some(survey)
    }

    /// Calls the only input by another name.
    pub fn rename_input(&mut self, name: String) {
        if let [only] = self.files.as_mut_slice() {
            *only = name;
        }
    }
}

/// The sum of counts. Returns None if it is larger than counts can be.
pub(crate) fn total<'c>(counts: impl IntoIterator<Item = &'c u64>) -> Option<u64> {
    counts.into_iter().try_fold(0, |total: u64, count| total.checked_add(*count))
}

/// A value as a line.
fn line<T: Serialize>(value: &T) -> String {
    // Only a map whose keys are no texts cannot be written, and there is none.
    to_string(value).unwrap_or_default()
}

/// Hashes in order, so that a state is the same whenever the survey is.
pub(crate) fn in_order<S: Serializer>(
    hashes: &HashSet<u64, FixedState>,
    to: S,
) -> Result<S::Ok, S::Error> {
    let mut hashes: Vec<u64> = hashes.iter().copied().collect();
    hashes.sort_unstable();
    hashes.serialize(to)
}

/// Decimals as their exact spelling.
pub(crate) mod decimal {
    use kyanite_tree::Decimal;
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(crate) fn serialize<S: Serializer>(
        number: &Option<Decimal>,
        to: S,
    ) -> Result<S::Ok, S::Error> {
        number.as_ref().map(ToString::to_string).serialize(to)
    }

    pub(crate) fn deserialize<'d, D: Deserializer<'d>>(
        from: D,
    ) -> Result<Option<Decimal>, D::Error> {
        let text: Option<String> = Option::deserialize(from)?;
        text.map(|text| Decimal::parse(&text).map_err(D::Error::custom)).transpose()
    }
}

#[cfg(test)]
mod tests {
    use kyanite_formats::json::EventReader;
    use kyanite_formats::records::Structure;
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    use super::*;
    use crate::batch::Batch;

    const RECORDS: &str = r#"{"no": 1, "berth": "A", "at": "2026-06-01", "kg": -2.50, "to": ["holm", null]}
{"no": 2, "berth": "", "kg": "7", "to": [], "deck": {"open": true}}
{"no": 3, "berth": "B", "at": "2026-06-01T07:00:00Z", "kg": 1e3}"#;

    fn survey() -> Survey {
        let arena = Arena::new();
        let mut batch = Batch::new(&arena);
        let structure = Structure::of(RECORDS.as_bytes());
        let mut events = EventReader::new(RECORDS, &structure).unwrap();
        let mut at = 0;
        for line in RECORDS.lines() {
            events.seek(at);
            assert!(batch.record(&mut events));
            at += line.len() + 1;
        }
        let mut survey = Survey::new(Bounds::default());
        survey.take(batch.end(&mut |_| 1), "sailings.jsonl", 0);
        survey
    }

    fn read(lines: &[String]) -> Option<Survey> {
        Survey::of_state(lines.iter().map(String::as_str), Bounds::default())
    }

    #[test]
    fn what_is_read_is_what_was_written() {
        let lines = survey().into_state();
        let again = read(&lines).unwrap();
        assert!(again.report() == survey().report());
        assert!(again.into_state() == lines);
        for cut in 0..lines.len() {
            assert!(read(&lines[..cut]).is_none(), "{cut} lines");
        }
        assert!(read(&[lines.as_slice(), &lines[1..2]].concat()).is_none());
    }

    proptest! {
        /// Whatever a state was changed to, it is refused, or is one that can be told of and joined.
        #[test]
        fn never_panics(
            line in any::<prop::sample::Index>(),
            at in any::<prop::sample::Index>(),
            new in "[0-9]{1,3}|-|\"|,|\\]|\\}|[a-z]|",
        ) {
            let mut lines = survey().into_state();
            let changed = line.index(lines.len());
            let text = &mut lines[changed];
            let at = at.index(text.len());
            if text.is_char_boundary(at) && text.is_char_boundary(at + 1) {
                text.replace_range(at..=at, &new);
            }
            if let Some(changed) = read(&lines) {
                let _ = changed.report();
                let mut whole = survey();
                whole.join(changed, 5);
                let _ = whole.report();
            }
        }
    }
}
