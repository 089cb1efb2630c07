//! The report of a survey, as plain data.

use crate::distinct::Count;
use crate::forms::Form;
use crate::kinds::{KindOfRecord, kinds};
use crate::numbers::{Numbers, NumbersReport};
use crate::paths::{DOCUMENT, PathStep, RECORDS, Sort};
use crate::remarks::{Remark, remarks};
use crate::survey::{InFile, Survey};
use crate::times::TimesReport;
use crate::unique::Keys;
use crate::values::{LengthCounts, Scalar};

/// What documents hold.
#[derive(Clone, PartialEq, Debug)]
pub struct Report {
    /// How many records there are: the items of lists and streams, and documents that are no lists.
    pub records: u64,
    /// The inputs that had any.
    pub inputs: Vec<String>,
    /// All paths, as first met, each before what goes on from it.
    pub paths: Vec<PathReport>,
    /// The kinds of records; none where all are of one.
    pub kinds: Vec<KindOfRecord>,
    /// How many records were too different from each other to be looked at for kinds.
    pub without_kind: u64,
    /// Members that could be a key.
    pub keys: Vec<Key>,
    /// Members that refer to a key in another input.
    pub references: Vec<Reference>,
    /// What is worth a look.
    pub remarks: Vec<Remark>,
}

/// What is told of a path.
#[derive(Clone, PartialEq, Debug)]
pub struct PathReport {
    /// The path (RFC 9535), with `[*]` for lists.
    pub path: String,
    /// How many steps it is from a record.
    pub depth: usize,
    /// How many records have it.
    pub records: u64,
    /// How often it is there.
    pub values: u64,
    /// Of a member, how many maps there are that could have it.
    pub maps: Option<u64>,
    /// How many values of each kind there are, in the words of the rule language; those that there are.
    pub types: Vec<(&'static str, u64)>,
    /// How many texts, lists and maps are empty.
    pub empty: u64,
    /// How many different scalars there are; none where there are none.
    pub distinct: Option<Count>,
    /// The scalars that are there most often.
    pub frequent: Vec<Frequent>,
    /// The most by which their counts are too low.
    pub frequent_error: u64,
    /// What is told of numbers, and of texts that spell one.
    pub numbers: Option<NumbersReport>,
    /// What is told of dates and times.
    pub times: Option<TimesReport>,
    /// How long texts are, in characters.
    pub text_lengths: Option<Lengths>,
    /// How many items lists have.
    pub list_lengths: Option<Lengths>,
    /// How many texts have each form; those that there are.
    pub forms: Vec<(Form, u64)>,
    /// Values and where they stand.
    pub examples: Vec<Example>,
}

/// Least, greatest and mean length.
#[derive(Clone, Copy, PartialEq, Debug)]
pub struct Lengths {
    /// The least.
    pub least: u64,
    /// The greatest.
    pub greatest: u64,
    /// The mean.
    pub mean: f64,
}

/// A value that is there often.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Frequent {
    /// Its text.
    pub text: String,
    /// Whether it is a text; if not it is a number or a boolean.
    pub is_text: bool,
    /// How often it is there.
    pub count: u64,
}

/// A value, and where it stands.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Example {
    /// Its text.
    pub text: String,
    /// Whether it is a text.
    pub is_text: bool,
    /// The number of the input.
    pub input: usize,
    /// The line, from 1.
    pub line: u64,
}

/// A member that could be a key: a scalar in each record, each time another.
#[derive(Clone, PartialEq, Debug)]
pub struct Key {
    /// Its path.
    pub path: String,
    /// The number of the input if it is a key among the records of this one alone.
    pub input: Option<usize>,
}

/// A member whose values are those of a key in another input.
#[derive(Clone, PartialEq, Debug)]
pub struct Reference {
    /// The path of the key.
    pub key: String,
    /// The number of the input that has the key.
    pub key_input: usize,
    /// The path of the member.
    pub path: String,
    /// The number of the input that has the member.
    pub input: usize,
    /// The share of its different values that are among those of the key; an estimate where these are many.
    pub share: f64,
}

/// How many frequent values are told.
const FREQUENT: usize = 10;

#[allow(clippy::cast_precision_loss)]
pub(crate) fn share(part: u64, whole: u64) -> f64 {
    if whole == 0 { 0.0 } else { part as f64 / whole as f64 }
}

/// A share as a percentage, with enough digits to tell it from none and all.
pub(crate) fn percent(share: f64) -> String {
    let percent = share * 100.0;
    let text = match percent {
        0.0 | 100.0 => format!("{percent:.0}"),
        small if small < 0.1 => format!("{percent:.2}"),
        _ if (1.0..99.5).contains(&percent) => format!("{percent:.0}"),
        _ => format!("{percent:.1}"),
    };
    match text.as_str() {
        "0.00" => "under 0.01 %".into(),
        "100.0" => "over 99.9 %".into(),
        _ => format!("{text} %"),
    }
}

impl From<LengthCounts> for Option<Lengths> {
    #[allow(clippy::cast_precision_loss)]
    fn from(counts: LengthCounts) -> Self {
        let LengthCounts { count, least, greatest, sum } = counts;
        (count > 0).then(|| Lengths { least, greatest, mean: sum as f64 / count as f64 })
    }
}

impl Survey {
    /// What was found.
    #[must_use]
    pub fn report(&self) -> Report {
        self.told("$[*]", true)
    }

    /// What was found, where `records` is the path of the records, and no value of a document is shown unless `shows_values`.
    #[must_use]
    pub fn told(&self, records: &str, shows_values: bool) -> Report {
        let path = |number: usize| self.paths.written(number, records);
        let order = self.paths.in_order();
        // What a list of records is in is no path of a record.
        let is_told = |number: &usize| {
            let counts = &self.paths.nodes[*number].counts;
            counts.values > 0 && (*number != DOCUMENT || counts.records > 0)
        };
        let paths = order.iter().copied().filter(is_told);
        Report {
            records: self.records,
            inputs: self.files.clone(),
            paths: paths.map(|number| self.path_report(number, records, shows_values)).collect(),
            kinds: kinds(self, shows_values, &path),
            without_kind: self.shapes.others,
            keys: self.keys(&order, &path),
            references: self.references(&order, &path),
            remarks: remarks(self, shows_values, &path),
        }
    }

    fn path_report(&self, number: usize, records: &str, shows_values: bool) -> PathReport {
        let node = &self.paths.nodes[number];
        let (counts, values) = (&node.counts, &node.values);
        let types = Sort::ALL.into_iter().map(|sort| (sort.word(), counts.of(sort)));
        let scalars = counts.of(Sort::Boolean) + counts.of(Sort::Number) + counts.of(Sort::Text);
        let exact = || -> Option<Vec<(f64, u64)>> {
            let all = values.frequent.all()?;
            let numbers = all.filter_map(|(_, text, count)| {
                kyanite_tree::Decimal::spelled(text)?;
                Some((text.trim().parse().ok()?, count))
            });
            Some(numbers.collect())
        };
        let frequent = values.frequent.top(FREQUENT).into_iter().map(|(sort, text, count)| {
            Frequent { text: text.to_owned(), is_text: sort == Scalar::Text, count }
        });
        let examples = node.extra.examples.iter().map(|kept| Example {
            text: kept.text.to_string(),
            is_text: kept.sort == Scalar::Text,
            input: kept.file,
            line: kept.line,
        });
        let forms = Form::ALL.into_iter().zip(values.forms);
        let numbers = values.numbers.as_ref().filter(|_| shows_values);
        let times = values.times.as_ref().filter(|_| shows_values);
        let mut depth = 0;
        let mut at = number;
        while at != RECORDS && at != DOCUMENT {
            depth += usize::from(self.paths.nodes[at].step != PathStep::Items);
            at = self.paths.nodes[at].parent;
        }
        PathReport {
            path: self.paths.written(number, records),
            depth,
            records: counts.records,
            values: counts.values,
            maps: match node.step {
                PathStep::Member(_) => Some(self.paths.nodes[node.parent].counts.of(Sort::Map)),
                _ => None,
            },
            types: types.filter(|(_, count)| *count > 0).collect(),
            empty: counts.empty,
            distinct: (scalars > 0).then(|| match node.extra.keys.different() {
                Some(count) if counts.records == self.records => Count { count, error: 0.0 },
                _ => values.distinct(),
            }),
            frequent: if shows_values { frequent.collect() } else { Vec::new() },
            frequent_error: values.frequent.error(),
            numbers: numbers.map(|numbers| numbers.report(exact())),
            times: times.map(|times| times.report()),
            text_lengths: values.lengths.into(),
            list_lengths: counts.items.into(),
            forms: forms.filter(|(_, count)| *count > 0).collect(),
            examples: if shows_values { examples.collect() } else { Vec::new() },
        }
    }

    /// Members that could be keys: of all records, else of those of one input.
    fn keys(&self, order: &[usize], path: &dyn Fn(usize) -> String) -> Vec<Key> {
        let mut keys = Vec::new();
        for number in order {
            let node = &self.paths.nodes[*number];
            let is_name = node.counts.of(Sort::Boolean) == 0
                && node.values.numbers.as_ref().is_none_or(Numbers::are_whole);
            if !is_name || self.paths.is_in_list(*number) {
                continue;
            }
            let is_unique = matches!(&node.extra.keys, Keys::Open { repeated: 0, .. });
            if is_unique && node.counts.records == self.records && self.records > 1 {
                keys.push(Key { path: path(*number), input: None });
            } else if self.files.len() > 1 {
                let of_files = node.extra.by_file.iter().filter(|own| self.is_key(own));
                keys.extend(of_files.map(|own| Key { path: path(*number), input: Some(own.file) }));
            }
        }
        keys
    }

    /// Whether values are a key of the records of their input.
    fn is_key(&self, own: &InFile) -> bool {
        let records = self.file_records.get(own.file).copied().unwrap_or_default();
        let Count { count, error } = own.distinct.count();
        let is_unique = if error > 0.0 {
            (share(count, own.values) - 1.0).abs() < 3.0 * error
        } else {
            count == own.values
        };
        records > 1 && own.records == records && own.values == records && is_unique
    }

    /// Where the values of keys are in other inputs.
    fn references(&self, order: &[usize], path: &dyn Fn(usize) -> String) -> Vec<Reference> {
        let of_files = || {
            order.iter().flat_map(|number| {
                self.paths.nodes[*number].extra.by_file.iter().map(move |own| (*number, own))
            })
        };
        let mut references = Vec::new();
        for (key, own) in of_files() {
            if self.paths.is_in_list(key) || !self.is_key(own) {
                continue;
            }
            for (other, elsewhere) in of_files() {
                let found = elsewhere.distinct.share_in(&own.distinct);
                let is_many = elsewhere.distinct.count().count >= FEW;
                if elsewhere.file != own.file && is_many && found >= REFERS {
                    references.push(Reference {
                        key: path(key),
                        key_input: own.file,
                        path: path(other),
                        input: elsewhere.file,
                        share: found,
                    });
                }
            }
        }
        references
    }
}

/// The least share of values that makes a member refer to a key.
const REFERS: f64 = 0.9;

/// With fewer different values than these, two members may have the same by chance.
const FEW: u64 = 4;
