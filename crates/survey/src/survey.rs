//! The survey of all batches, in bounded memory.

use std::collections::HashMap;
use std::hash::BuildHasher;

use foldhash::fast::FixedState;
use serde::{Deserialize, Serialize};

use crate::batch::{EXAMPLES, Ended, EndedNode};
use crate::distinct::Distinct;
use crate::enumerated::Enumerated;
use crate::paths::{Counts, DOCUMENT, PathStep, Paths, Sort};
use crate::shapes::{Feature, Shapes};
use crate::unique::Keys;
use crate::values::{Scalar, Values, hash_of};

/// What a survey keeps to.
#[derive(Clone, Debug)]
pub struct Bounds {
    /// About how many bytes it may hold. Past it no keys are found any more, and members of maps that have many are no longer told
    /// apart, the rare ones first.
    pub memory: usize,
}

impl Default for Bounds {
    /// 512 MB.
    fn default() -> Self {
        Self { memory: 512 * 1024 * 1024 }
    }
}

/// Inputs up to this many are told apart where they share values.
const FILES: usize = 32;

/// How often memory is measured: in batches, and in new paths.
const MEASURED: usize = 16;
const NEW_PATHS: usize = 1000;

/// The part of the memory that the shapes of records may take.
const SHAPES: usize = 4;

/// Maps with fewer members are never taken together.
const FEW_MEMBERS: usize = 8;

/// Keys that hold less are not given up for want of memory.
const KEYS: usize = 4096;

/// What is kept of a path besides its counts.
#[derive(Debug, Default)]
pub(crate) struct Extra {
    pub(crate) keys: Keys,
    pub(crate) enumerated: Enumerated,
    pub(crate) examples: Vec<ExampleValue>,
    /// The values in each file.
    pub(crate) by_file: Vec<InFile>,
    /// Of members that are not told apart: their names.
    pub(crate) names: Distinct,
    /// Where it went, once it is no longer told apart.
    pub(crate) merged_into: Option<usize>,
}

impl Extra {
    /// Takes the values in other files, or others in the same.
    fn take_files(&mut self, by_file: &[InFile]) {
        for InFile { file, records, values, distinct } in by_file {
            self.take_file(*file, (*records, *values), distinct);
        }
    }

    /// Takes values in a file: how many records have some, how many there are, and which; unless the file is one too many.
    fn take_file(&mut self, file: usize, (records, values): (u64, u64), distinct: &Distinct) {
        if file >= FILES {
            return;
        }
        // They mostly come in the order of files.
        let place = self.by_file.iter().rposition(|known| known.file == file);
        let place = place.unwrap_or_else(|| {
            let distinct = Distinct::default();
            self.by_file.push(InFile { file, records: 0, values: 0, distinct });
            self.by_file.len() - 1
        });
        let known = &mut self.by_file[place];
        known.records += records;
        known.values += values;
        known.distinct.merge(distinct);
    }

    /// Takes an example, if there is room for it and it is not shown already.
    fn show(&mut self, new: ExampleValue) {
        let is_known = |kept: &ExampleValue| kept.sort == new.sort && kept.text == new.text;
        if self.examples.len() < EXAMPLES && !self.examples.iter().any(is_known) {
            self.examples.push(new);
        }
    }
}

/// The values of a path in one input.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct InFile {
    pub(crate) file: usize,
    pub(crate) records: u64,
    pub(crate) values: u64,
    pub(crate) distinct: Distinct,
}

/// A value as an example.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct ExampleValue {
    pub(crate) sort: Scalar,
    pub(crate) text: Box<str>,
    pub(crate) file: usize,
    pub(crate) line: u64,
}

/// What records hold.
#[derive(Debug)]
pub struct Survey {
    bounds: Bounds,
    pub(crate) records: u64,
    pub(crate) files: Vec<String>,
    /// How many records each has.
    pub(crate) file_records: Vec<u64>,
    pub(crate) paths: Paths<Extra>,
    pub(crate) shapes: Shapes,
    batches: usize,
    /// How many paths there were when memory was measured last.
    measured: usize,
}

impl Survey {
    /// Nothing so far.
    #[must_use]
    pub fn new(bounds: Bounds) -> Self {
        Self {
            bounds,
            records: 0,
            files: Vec::new(),
            file_records: Vec::new(),
            paths: Paths::new(),
            shapes: Shapes::default(),
            batches: 0,
            measured: 0,
        }
    }

    /// How many records were counted.
    #[must_use]
    pub fn records(&self) -> u64 {
        self.records
    }

    /// The number of a file, which is the last one or comes behind it.
    fn file(&mut self, file: &str) -> usize {
        if self.files.last().is_none_or(|last| last != file) {
            self.files.push(file.to_owned());
            self.file_records.push(0);
        }
        self.files.len() - 1
    }

    /// Takes what a batch had, whose text stands behind `lines_before` line ends of the file. Batches come in the order of the input.
    pub fn take(&mut self, ended: Ended, file: &str, lines_before: u64) {
        let file = self.file(file);
        let Ended { nodes, shapes, records } = ended;
        let before = self.records;
        self.records += records;
        self.file_records[file] += records;
        let mut numbers: Vec<usize> = Vec::with_capacity(nodes.len());
        for node in nodes {
            let number = match node.step {
                PathStep::Root => 0,
                _ => self.number_of(numbers[node.parent], &node.step),
            };
            numbers.push(number);
            self.take_node(number, node, before, (file, lines_before));
        }
        for (hash, shape) in shapes.all {
            let translated = |(node, sort): &Feature| (numbers[*node], *sort);
            let features = || shape.features.iter().map(translated).collect();
            self.shapes.add(hash, shape.count, features);
        }
        self.shapes.others += shapes.others;
        self.measure();
    }

    /// Takes the survey of later records. If these go on in the input that this survey ended in, `lines_before` is how many lines of it
    /// stand before them.
    ///
    /// All is told as by one survey over all records, as long as neither reached the bounds of its memory; but values that are
    /// repeated only between the two are counted, and none of them is shown.
    pub fn join(&mut self, mut later: Self, lines_before: u64) {
        let mut files = Vec::with_capacity(later.files.len());
        for (name, records) in later.files.iter().zip(&later.file_records) {
            let file = self.file(name);
            self.file_records[file] += records;
            files.push(file);
        }
        let before = self.records;
        self.records += later.records;
        let mut numbers = vec![DOCUMENT; later.paths.nodes.len()];
        for number in later.paths.in_order() {
            let node = &mut later.paths.nodes[number];
            let own = match node.step {
                PathStep::Root => DOCUMENT,
                _ => self.number_of(numbers[node.parent], &node.step),
            };
            numbers[number] = own;
            let mut extra = std::mem::take(&mut node.extra);
            for example in &mut extra.examples {
                let passed = if example.file == 0 { lines_before } else { 0 };
                example.line = example.line.saturating_add(passed);
                example.file = files[example.file];
            }
            extra.by_file.iter_mut().for_each(|in_file| in_file.file = files[in_file.file]);
            let (counts, values) =
                (std::mem::take(&mut node.counts), std::mem::take(&mut node.values));
            self.take_path(own, &counts, values, extra, before);
        }
        self.shapes.others += later.shapes.others;
        for (hash, count, features) in later.settled_shapes() {
            let translated = |(node, sort): &Feature| (numbers[*node], *sort);
            self.shapes.add(hash, count, || features.iter().map(translated).collect());
        }
        if later.shapes.is_given_up() {
            self.shapes.give_up();
        }
        self.keep_bounds();
    }

    /// Takes what is known of a path in later records, before which `before` stand.
    fn take_path(
        &mut self,
        number: usize,
        counts: &Counts,
        values: Values,
        extra: Extra,
        before: u64,
    ) {
        let node = &mut self.paths.nodes[number];
        let own = &mut node.extra;
        own.keys.join(extra.keys, node.counts.records == before);
        own.enumerated.merge(extra.enumerated);
        extra.examples.into_iter().for_each(|example| own.show(example));
        own.take_files(&extra.by_file);
        own.names.merge(&extra.names);
        node.counts.merge(counts);
        node.values.merge(values);
    }

    /// Takes a record that was counted apart, by itself.
    pub(crate) fn take_record(&mut self, record: &mut Self, file: &str) {
        for node in &mut record.paths.nodes {
            node.counts.records = u64::from(node.counts.values > 0);
        }
        let file = self.file(file);
        self.records += 1;
        self.file_records[file] += 1;
        let mut features = self.adopt(record, DOCUMENT, DOCUMENT);
        features.sort_unstable();
        features.dedup();
        let hash = FixedState::default().hash_one(&features);
        self.shapes.add(hash, 1, || features.into());
        self.measure();
    }

    /// Counts `times` values of a sort.
    pub(crate) fn count(&mut self, number: usize, sort: Sort, times: u64) {
        let counts = &mut self.paths.nodes[number].counts;
        counts.values += times;
        counts.sorts[sort as usize] += times;
    }

    /// Counts a list of `items` items.
    pub(crate) fn count_list(&mut self, number: usize, items: u64) {
        self.count(number, Sort::List, 1);
        self.paths.nodes[number].counts.items.add(items, 1);
    }

    /// Takes what another survey, of the last file, knows of a path, and of what goes on from it, for a path of its own; gives which sorts
    /// of values were there, on which paths.
    pub(crate) fn adopt(&mut self, other: &mut Self, from: usize, into: usize) -> Vec<Feature> {
        let mut features = Vec::new();
        let mut open = vec![(from, into)];
        while let Some((from, into)) = open.pop() {
            for child in std::mem::take(&mut other.paths.nodes[from].children) {
                let child_into = self.number_of(into, &other.paths.nodes[child].step);
                open.push((child, child_into));
            }
            let node = &mut other.paths.nodes[from];
            let (counts, values) =
                (std::mem::take(&mut node.counts), std::mem::take(&mut node.values));
            let mut extra = std::mem::take(&mut node.extra);
            let sorts = Sort::ALL.into_iter().filter(|sort| counts.of(*sort) > 0);
            features.extend(sorts.map(|sort| (into, sort)));
            let file = self.files.len().saturating_sub(1);
            extra.examples.iter_mut().for_each(|kept| kept.file = file);
            extra.by_file.iter_mut().for_each(|own| own.file = file);
            self.absorb(into, &counts, values, extra);
        }
        features
    }

    /// Adds what is known of one path to what is known of another.
    fn absorb(&mut self, into: usize, counts: &Counts, values: Values, extra: Extra) {
        let records = self.records;
        let target = &mut self.paths.nodes[into];
        target.counts.merge(counts);
        // A record may have several of them.
        target.counts.records = target.counts.records.min(records);
        target.values.merge(values);
        target.extra.keys = Keys::No;
        target.extra.enumerated = Enumerated::Many;
        extra.examples.into_iter().for_each(|kept| target.extra.show(kept));
        target.extra.take_files(&extra.by_file);
    }

    /// Keeps within bounds, now and then.
    fn measure(&mut self) {
        self.batches += 1;
        let is_due = self.batches.is_multiple_of(MEASURED)
            || self.paths.nodes.len() >= self.measured + NEW_PATHS;
        if is_due {
            self.keep_bounds();
        }
    }

    /// The path that goes on with a step of a batch.
    fn number_of(&mut self, parent: usize, step: &PathStep) -> usize {
        if let Some(known) = self.paths.find(parent, step) {
            return known;
        }
        match (self.paths.find(parent, &PathStep::Others), step) {
            (Some(others), PathStep::Member(name)) => {
                self.name_other(others, name);
                others
            }
            _ => self.paths.child(parent, step.clone()),
        }
    }

    fn name_other(&mut self, others: usize, name: &str) {
        let hash = hash_of(Scalar::Text, name);
        self.paths.nodes[others].extra.names.add(vec![hash]);
    }

    fn take_node(
        &mut self,
        number: usize,
        ended: EndedNode,
        records_before: u64,
        (file, lines): (usize, u64),
    ) {
        let EndedNode { counts, values, keys, enumerated, examples, .. } = ended;
        let node = &mut self.paths.nodes[number];
        let extra = &mut node.extra;
        // What was not there before is not in every record.
        let was_always = node.counts.records == records_before;
        extra.keys.take(keys.filter(|_| was_always));
        extra.enumerated.merge(enumerated);
        for (sort, text, line) in examples {
            extra.show(ExampleValue { sort, text, file, line: lines + line });
        }
        if counts.of(Sort::Number) + counts.of(Sort::Text) > 0 {
            extra.take_file(file, (counts.records, counts.values), &values.distinct);
        }
        node.counts.merge(&counts);
        node.values.merge(values);
    }

    /// Where a path is now.
    pub(crate) fn settled(&self, mut number: usize) -> usize {
        while let Some(into) = self.paths.nodes[number].extra.merged_into {
            number = into;
        }
        number
    }

    /// About how many bytes are held.
    fn held(&self) -> usize {
        let of_node = |extra: &Extra, values: &Values| {
            let by_file: usize = extra.by_file.iter().map(|own| own.distinct.held()).sum();
            values.held() + extra.keys.held() + by_file + 512
        };
        let nodes = self.paths.nodes.iter();
        let nodes: usize = nodes
            .filter(|node| node.extra.merged_into.is_none())
            .map(|node| of_node(&node.extra, &node.values))
            .sum();
        nodes + self.shapes.held()
    }

    /// Gives up what costs most, until what is left is within bounds.
    fn keep_bounds(&mut self) {
        self.measured = self.paths.nodes.len();
        let mut held = self.held();
        while held > self.bounds.memory {
            if self.shapes.held() > self.bounds.memory / SHAPES {
                self.shapes.give_up();
                held = self.held();
                continue;
            }
            let keys = self.paths.nodes.iter_mut().map(|node| &mut node.extra.keys);
            let largest = keys.max_by_key(|keys| keys.held()).filter(|keys| keys.held() > KEYS);
            if let Some(largest) = largest {
                *largest = Keys::Unknown;
            } else if !self.merge_rare() {
                break;
            }
            held = self.held();
        }
    }

    /// No longer tells apart the rarer half of the members of the map that has most; whether there was one.
    fn merge_rare(&mut self) -> bool {
        let is_member =
            |number: &usize| matches!(self.paths.nodes[*number].step, PathStep::Member(_));
        let members = |number: &usize| {
            self.paths.nodes[*number].children.iter().filter(|child| is_member(child)).count()
        };
        let order = self.paths.in_order();
        let Some(widest) =
            order.into_iter().max_by_key(members).filter(|number| members(number) > FEW_MEMBERS)
        else {
            return false;
        };
        let children = self.paths.nodes[widest].children.iter().copied().filter(is_member);
        let mut children: Vec<usize> = children.collect();
        // The sort is stable: of those that are as rare, the later ones go.
        children.sort_by_key(|child| {
            let Counts { records, values, .. } = self.paths.nodes[*child].counts;
            std::cmp::Reverse((records, values))
        });
        let others = self.paths.child(widest, PathStep::Others);
        for child in children.split_off(children.len() / 2) {
            if let PathStep::Member(name) = self.paths.nodes[child].step.clone() {
                self.name_other(others, &name);
            }
            self.merge_path(child, others);
        }
        true
    }

    /// Makes one path of two, and of what goes on from them.
    fn merge_path(&mut self, from: usize, into: usize) {
        let mut open = vec![(from, into)];
        while let Some((from, into)) = open.pop() {
            for child in std::mem::take(&mut self.paths.nodes[from].children) {
                let step = self.paths.nodes[child].step.clone();
                open.push((child, self.paths.child(into, step)));
            }
            self.paths.unlink(from);
            let moved = &mut self.paths.nodes[from];
            let counts: Counts = std::mem::take(&mut moved.counts);
            let values: Values = std::mem::take(&mut moved.values);
            let extra = std::mem::take(&mut moved.extra);
            moved.extra.merged_into = Some(into);
            self.absorb(into, &counts, values, extra);
        }
    }

    /// Takes single values where others are lists for items of lists of one, as they are in XML. That there are both is still counted.
    pub fn join_singles(&mut self) {
        for number in self.paths.in_order() {
            let Some(items) = self.paths.find(number, &PathStep::Items) else { continue };
            let counts = &self.paths.nodes[number].counts;
            let singles = counts.values - counts.of(Sort::List);
            // The items of the document are the records.
            if number == DOCUMENT || singles == 0 {
                continue;
            }
            let records = counts.records;
            let mut moved = Counts { values: singles, sorts: counts.sorts, ..Counts::default() };
            moved.sorts[Sort::List as usize] = 0;
            moved.empty = counts.empty;
            let values = std::mem::take(&mut self.paths.nodes[number].values);
            let examples = std::mem::take(&mut self.paths.nodes[number].extra.examples);
            let target = &mut self.paths.nodes[items];
            target.counts.merge(&moved);
            target.counts.records = records;
            target.values.merge(values);
            examples.into_iter().for_each(|kept| target.extra.show(kept));
            let children = self.paths.nodes[number].children.clone();
            for child in children.into_iter().filter(|child| *child != items) {
                let step = self.paths.nodes[child].step.clone();
                let into = self.paths.child(items, step);
                self.merge_path(child, into);
            }
        }
    }

    /// The shapes with their features where these are now, each once.
    pub(crate) fn settled_shapes(&self) -> Vec<(u64, u64, Vec<Feature>)> {
        let is_moved = self.paths.nodes.iter().any(|node| node.extra.merged_into.is_some());
        let mut by_features: HashMap<Vec<Feature>, usize> = HashMap::new();
        let mut shapes: Vec<(u64, u64, Vec<Feature>)> = Vec::new();
        for (hash, shape) in &self.shapes.all {
            let mut features: Vec<Feature> = shape.features.to_vec();
            if is_moved {
                features.iter_mut().for_each(|feature| feature.0 = self.settled(feature.0));
                features.sort_unstable();
                features.dedup();
                if let Some(known) = by_features.get(&features) {
                    shapes[*known].1 += shape.count;
                    continue;
                }
                by_features.insert(features.clone(), shapes.len());
            }
            shapes.push((*hash, shape.count, features));
        }
        shapes
    }
}
