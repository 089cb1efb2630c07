//! Records of one text, counted as their events come by.

mod around;
mod templates;

use std::collections::{HashMap, HashSet};

use foldhash::fast::FixedState;
use indexmap::IndexMap;
use kyanite_formats::json;
use kyanite_tree::{Arena, Event, Pull, RawText};

use crate::enumerated::{ByValue, Enumerated, LONGEST, MOST_VALUES};
use crate::paths::{Counts, DOCUMENT, PathStep, RECORDS, Sort};
use crate::shapes::{Feature, Shapes};
use crate::unique::BatchKeys;
use crate::values::{Scalar, Values, hash_of};
pub(crate) use around::Around;
use templates::{Learned, MOST_LEARNED};

/// How many different values are looked up by their text before they are summed up.
const COLUMN: usize = 65_536;

/// How many values of a path are shown as examples.
pub(crate) const EXAMPLES: usize = 3;

/// Counts records that lie in one text.
pub struct Batch<'t> {
    arena: &'t Arena,
    nodes: Vec<Node<'t>>,
    known: HashMap<(usize, Option<&'t str>), usize, FixedState>,
    open: Vec<Open>,
    depth: usize,
    /// How many records and maps there were.
    records: u64,
    maps: u64,
    shapes: Shapes,
    /// The hash and the features of the record under way.
    shape: u64,
    features: Vec<Feature>,
    /// The values of the record under way that may tell its kind: a path, and the number of the value there.
    told: Vec<(usize, usize)>,
    /// What the record under way has, in order, as far as there is any use in it: its values, and the ends of its lists and maps.
    values: Vec<(usize, Sort)>,
    ends: Vec<Open>,
    /// What records have that follow a template, by the numbers of these.
    learned: Vec<Option<Learned>>,
    /// The names of the members that the maps have which were open before the text, outermost first; no names for lists.
    before: Vec<HashSet<Box<str>>>,
    /// Members that a map has had before, with their offsets; none where such a map is not counted.
    repeated: Option<Vec<(&'t str, usize)>>,
}

/// A path in the records of the batch.
#[derive(Debug)]
struct Node<'t> {
    /// The name of the member; none of the items of a list.
    name: Option<&'t str>,
    parent: usize,
    children: Vec<usize>,
    /// Where it stands among the children of its parent.
    position: usize,
    /// A hash of the path, the same in each batch, and those of the sorts of values there.
    hash: u64,
    sort_hashes: [u64; 6],
    /// Whether records may have several values there.
    is_in_list: bool,
    counts: Counts,
    /// The record that had it last, and the sorts that it had.
    record: u64,
    sorts: u8,
    /// The map that had it last.
    map: u64,
    column: IndexMap<(Scalar, &'t str), Occurrences, FixedState>,
    /// What was too much for the column.
    values: Values,
    is_summed_up: bool,
    /// Its first values.
    first: Vec<(Scalar, &'t str, usize)>,
    /// For each value how many records of each shape hold it.
    shapes_of_values: Vec<Vec<u32>>,
    has_many_values: bool,
}

/// How often a value was there, and where first.
#[derive(Clone, Copy, Debug)]
struct Occurrences {
    count: u64,
    offset: usize,
}

/// A list or map that is under way.
#[derive(Clone, Copy, Debug)]
struct Open {
    node: usize,
    is_map: bool,
    /// How many items or members came so far.
    count: u64,
    /// The child whose name is expected next.
    next: usize,
    /// The number of the map.
    map: u64,
}

/// How far the events of a value led.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Progress {
    /// To its end.
    Over,
    /// Not to its end.
    Paused,
    /// To what a batch does not count.
    Refused,
}

/// What came of a batch.
#[derive(Debug)]
pub struct Ended {
    pub(crate) nodes: Vec<EndedNode>,
    pub(crate) shapes: Shapes,
    pub(crate) records: u64,
}

impl Ended {
    /// How many records the batch had.
    #[must_use]
    pub fn records(&self) -> u64 {
        self.records
    }

    /// The same, of values that are no records, but in one.
    pub(crate) fn without_records(mut self) -> Self {
        for node in &mut self.nodes {
            (node.counts.records, node.keys) = (0, None);
        }
        Self { shapes: Shapes::default(), records: 0, ..self }
    }
}

/// What a batch says of a path.
#[derive(Debug)]
pub(crate) struct EndedNode {
    pub(crate) step: PathStep,
    pub(crate) parent: usize,
    pub(crate) counts: Counts,
    pub(crate) values: Values,
    pub(crate) keys: Option<BatchKeys>,
    pub(crate) enumerated: Enumerated,
    /// Values and the lines on which they stand.
    pub(crate) examples: Vec<(Scalar, Box<str>, u64)>,
}

impl Counts {
    /// Counts the end of a list or map `times` times.
    fn end(&mut self, ended: Open, times: u64) {
        self.empty += u64::from(ended.count == 0) * times;
        if !ended.is_map {
            self.items.add(ended.count, times);
        }
    }
}

fn boolean_text(value: bool) -> &'static str {
    if value { "true" } else { "false" }
}

impl Scalar {
    fn sort(self) -> Sort {
        match self {
            Self::Boolean => Sort::Boolean,
            Self::Number => Sort::Number,
            Self::Text => Sort::Text,
        }
    }
}

fn mixed(hash: u64, with: u64) -> u64 {
    // The finalizer of SplitMix64 (Steele et al., 2014).
    let mut mixed = hash ^ with.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    mixed ^ (mixed >> 31)
}

fn name_hash(name: Option<&str>) -> u64 {
    use std::hash::BuildHasher;
    FixedState::with_seed(3).hash_one(name)
}

impl<'t> Batch<'t> {
    /// Nothing counted yet; texts with escapes go to the arena.
    #[must_use]
    pub fn new(arena: &'t Arena) -> Self {
        let mut batch = Self {
            arena,
            nodes: Vec::new(),
            known: HashMap::default(),
            open: Vec::new(),
            depth: usize::MAX,
            records: 0,
            maps: 0,
            shapes: Shapes::default(),
            shape: 0,
            features: Vec::new(),
            told: Vec::new(),
            values: Vec::new(),
            ends: Vec::new(),
            learned: Vec::new(),
            before: Vec::new(),
            repeated: None,
        };
        batch.add_node(DOCUMENT, None);
        batch.child(DOCUMENT, None);
        batch
    }

    fn add_node(&mut self, parent: usize, name: Option<&'t str>) -> usize {
        let number = self.nodes.len();
        let (position, hash, is_in_list) = match self.nodes.get(parent) {
            Some(node) => (
                node.children.len(),
                mixed(node.hash, name_hash(name)),
                node.is_in_list || name.is_none() && number != RECORDS,
            ),
            None => (0, 1, false),
        };
        self.nodes.push(Node {
            name,
            parent,
            children: Vec::new(),
            position,
            hash,
            sort_hashes: Sort::ALL.map(|sort| mixed(hash, sort as u64 + 1)),
            is_in_list,
            counts: Counts::default(),
            record: 0,
            sorts: 0,
            map: 0,
            column: IndexMap::default(),
            values: Values::default(),
            is_summed_up: false,
            first: Vec::new(),
            shapes_of_values: Vec::new(),
            has_many_values: is_in_list,
        });
        number
    }

    fn child(&mut self, parent: usize, name: Option<&'t str>) -> usize {
        if let Some(known) = self.known.get(&(parent, name)) {
            return *known;
        }
        let number = self.add_node(parent, name);
        self.nodes[parent].children.push(number);
        self.known.insert((parent, name), number);
        number
    }

    /// The same, for lists and maps that are nested no deeper than that: a record that is deeper counts as one that ends early.
    #[must_use]
    pub fn within(self, depth: usize) -> Self {
        Self { depth, ..self }
    }

    /// Counts a record of a stream. Where its events end before the value does, or a map has a member twice, this gives false, and the
    /// batch is of no use: a reader of values says what is wrong.
    pub fn record(&mut self, events: &mut impl Pull<'t>) -> bool {
        events.next_event().is_some_and(|first| self.one(RECORDS, first, events))
    }

    /// Counts a document: the records are the items if it is a list, else it is one record.
    pub fn document(&mut self, events: &mut impl Pull<'t>) -> bool {
        match events.next_event() {
            Some(Event::BeginList) => {
                self.list_of_records();
                loop {
                    match events.next_event() {
                        Some(Event::EndList) => return true,
                        Some(first) if self.one(RECORDS, first, events) => {}
                        _ => return false,
                    }
                }
            }
            Some(first) => self.one(DOCUMENT, first, events),
            None => false,
        }
    }

    /// Counts a document that is a list, whose items come as records.
    pub fn list_of_records(&mut self) {
        let counts = &mut self.nodes[DOCUMENT].counts;
        counts.values += 1;
        counts.sorts[Sort::List as usize] += 1;
    }

    /// Counts a value as one of a member of the document that may have several, one after another.
    pub fn member_of_document(&mut self, name: &'t str, events: &mut impl Pull<'t>) -> bool {
        let member = self.child(DOCUMENT, Some(name));
        let items = self.child(member, None);
        events.next_event().is_some_and(|first| self.one(items, first, events))
    }

    /// Counts the record that begins with an event.
    fn one(&mut self, root: usize, first: Event<'t>, events: &mut impl Pull<'t>) -> bool {
        self.records += 1;
        self.shape = 0;
        self.features.clear();
        self.told.clear();
        self.open.clear();
        self.values.clear();
        self.ends.clear();
        self.go_on((root, first), events) == Progress::Over
    }

    /// Counts from an event on, which begins a value at a path or ends what is open.
    fn go_on(
        &mut self,
        (mut at, mut event): (usize, Event<'t>),
        events: &mut impl Pull<'t>,
    ) -> Progress {
        loop {
            match event {
                Event::BeginMap | Event::BeginList => {
                    if self.open.len() >= self.depth {
                        return Progress::Refused;
                    }
                    let is_map = event == Event::BeginMap;
                    self.touch(at, if is_map { Sort::Map } else { Sort::List });
                    self.maps += 1;
                    self.open.push(Open { node: at, is_map, count: 0, next: 0, map: self.maps });
                }
                Event::EndMap | Event::EndList => {
                    let Some(ended) = self.open.pop() else { return Progress::Refused };
                    self.before.truncate(self.open.len());
                    if self.ends.len() <= MOST_LEARNED {
                        self.ends.push(ended);
                    }
                    self.nodes[ended.node].counts.end(ended, 1);
                }
                Event::Name(name) => {
                    let name = self.text(name);
                    let Some(member) = self.member(name, events.offset()) else {
                        return Progress::Refused;
                    };
                    at = member;
                    let Some(value) = events.next_event() else { return Progress::Refused };
                    event = value;
                    continue;
                }
                Event::Null => self.touch(at, Sort::Null),
                Event::Boolean(value) => {
                    self.scalar(at, Scalar::Boolean, boolean_text(value), events.offset());
                }
                Event::Number(number) => self.scalar(at, Scalar::Number, number, events.offset()),
                Event::Text(text) => {
                    let text = self.text(text);
                    self.scalar(at, Scalar::Text, text, events.offset());
                }
            }
            if self.open.is_empty() {
                self.end_record();
                return Progress::Over;
            }
            let Some(next) = events.next_event() else { return Progress::Paused };
            (at, event) = (self.place_of(&next), next);
        }
    }

    /// The path of what an event begins in the list that is open; a map's is told by the name of the member.
    #[inline]
    fn place_of(&mut self, event: &Event<'t>) -> usize {
        let Some(open) = self.open.last_mut() else { return DOCUMENT };
        let list = open.node;
        if open.is_map || *event == Event::EndList {
            return list;
        }
        open.count += 1;
        match self.nodes[list].children.first() {
            Some(first) if self.nodes[*first].name.is_none() => *first,
            _ => self.child(list, None),
        }
    }

    #[inline]
    fn text(&self, raw: RawText<'t>) -> &'t str {
        if raw.has_escapes { self.arena.text(&json::unescaped(raw.text)) } else { raw.text }
    }

    /// The path of a member of the map that is under way; None if the map has it already, and duplicates are not counted.
    #[inline]
    fn member(&mut self, name: &'t str, offset: usize) -> Option<usize> {
        let open = self.open.last_mut()?;
        open.count += 1;
        let (parent, map) = (open.node, open.map);
        // Nearly always members come in the order in which they came before.
        let expected = self.nodes[parent].children.get(open.next).copied();
        let member = match expected.filter(|child| self.nodes[*child].name == Some(name)) {
            Some(member) => member,
            None => self.child(parent, Some(name)),
        };
        let node = &mut self.nodes[member];
        if let Some(open) = self.open.last_mut() {
            open.next = node.position + 1;
        }
        let was_there = std::mem::replace(&mut node.map, map) == map;
        let may_be_before = self.open.len() <= self.before.len();
        if was_there || may_be_before && self.was_before(name) {
            self.repeated.as_mut()?.push((name, offset));
        }
        Some(member)
    }

    /// Counts a value of a sort.
    #[inline]
    fn touch(&mut self, at: usize, sort: Sort) {
        if self.values.len() <= MOST_LEARNED {
            self.values.push((at, sort));
        }
        let node = &mut self.nodes[at];
        node.counts.values += 1;
        node.counts.sorts[sort as usize] += 1;
        if node.record != self.records {
            node.record = self.records;
            node.counts.records += 1;
            node.sorts = 0;
        }
        let bit = 1 << sort as u8;
        if node.sorts & bit == 0 {
            node.sorts |= bit;
            self.shape ^= node.sort_hashes[sort as usize];
            self.features.push((at, sort));
        }
    }

    #[inline]
    fn scalar(&mut self, at: usize, sort: Scalar, text: &'t str, offset: usize) {
        self.touch(at, sort.sort());
        self.count_scalar(at, sort, text, offset);
    }

    /// Counts a scalar among those of its path.
    #[inline]
    fn count_scalar(&mut self, at: usize, sort: Scalar, text: &'t str, offset: usize) {
        let node = &mut self.nodes[at];
        node.counts.empty += u64::from(text.is_empty());
        let entry = node.column.entry((sort, text));
        let index = entry.index();
        entry.and_modify(|seen| seen.count += 1).or_insert(Occurrences { count: 1, offset });
        if !node.has_many_values {
            // Numbers that are equal may be spelled in more than one way, unless they are short and whole.
            let is_plain = sort != Scalar::Number
                || text.len() <= 6 && text.bytes().all(|byte| byte.is_ascii_digit());
            if index < MOST_VALUES && text.len() <= LONGEST && is_plain {
                self.told.push((at, index));
            } else {
                node.has_many_values = true;
                node.shapes_of_values = Vec::new();
            }
        }
        if node.column.len() > COLUMN {
            node.sum_up();
        }
    }

    fn end_record(&mut self) {
        let features = &self.features;
        let shape = self.shapes.add(self.shape, 1, || features.as_slice().into());
        self.note_told(shape);
    }

    /// Notes which values a record of a shape has.
    fn note_told(&mut self, shape: Option<usize>) {
        for (at, value) in &self.told {
            let node = &mut self.nodes[*at];
            let Some(shape) = shape.filter(|_| !node.has_many_values) else { continue };
            if node.shapes_of_values.len() <= *value {
                node.shapes_of_values.resize(value + 1, Vec::new());
            }
            let shapes = &mut node.shapes_of_values[*value];
            if shapes.len() <= shape {
                shapes.resize(shape + 1, 0);
            }
            shapes[shape] += 1;
        }
    }

    /// Sums up what came; `line` gives the number of the line that an offset is on.
    #[must_use]
    pub fn end(mut self, line: &mut dyn FnMut(usize) -> u64) -> Ended {
        for learned in std::mem::take(&mut self.learned).into_iter().flatten() {
            self.add(&learned);
        }
        let Self { nodes, shapes, records, .. } = self;
        let hashes: Vec<u64> = shapes.all.keys().copied().collect();
        let ended = nodes.into_iter().enumerate().map(|(number, mut node)| {
            node.note_first();
            let first = node.first.iter();
            let examples = first
                .map(|(sort, text, offset)| (*sort, Box::from(*text), line(*offset)))
                .collect();
            let is_in_each = node.counts.values == records && node.counts.records == records;
            let scalars = node.column.values().map(|seen| seen.count).sum::<u64>();
            let may_be_key =
                is_in_each && scalars == records && !node.is_in_list && !node.is_summed_up;
            let of_values: Vec<u64> =
                node.column.keys().map(|(sort, text)| hash_of(*sort, text)).collect();
            let keys =
                may_be_key.then(|| BatchKeys::of(node.column(), &of_values, records)).flatten();
            let enumerated = node.enumerated(&hashes);
            node.sum_up_by(of_values);
            let step = match node.name {
                Some(name) => PathStep::Member(name.into()),
                None if number == DOCUMENT => PathStep::Root,
                None => PathStep::Items,
            };
            let Node { parent, counts, values, .. } = node;
            EndedNode { step, parent, counts, values, keys, enumerated, examples }
        });
        Ended { nodes: ended.collect(), shapes, records }
    }
}

impl<'t> Node<'t> {
    /// The different values, each with how often it was there.
    fn column(&self) -> impl ExactSizeIterator<Item = (Scalar, &'t str, u64)> + Clone {
        self.column.iter().map(|((sort, text), seen)| (*sort, *text, seen.count))
    }

    /// Keeps the first values for being shown.
    fn note_first(&mut self) {
        if self.first.is_empty() {
            let first = self.column.iter().take(EXAMPLES);
            self.first = first.map(|((sort, text), seen)| (*sort, *text, seen.offset)).collect();
        }
    }

    fn sum_up(&mut self) {
        self.sum_up_by(self.column.keys().map(|(sort, text)| hash_of(*sort, text)).collect());
    }

    /// The same, where the hashes of the values are known.
    fn sum_up_by(&mut self, hashes: Vec<u64>) {
        if self.column.is_empty() {
            return;
        }
        self.note_first();
        let mut values = std::mem::take(&mut self.values);
        values.add(self.column(), hashes);
        (self.values, self.is_summed_up) = (values, true);
        self.column.clear();
        // The numbers of values begin again.
        self.has_many_values = true;
    }

    /// How many records of each shape hold each value, where these are few.
    fn enumerated(&self, shapes: &[u64]) -> Enumerated {
        if self.counts.records == 0 || self.column.is_empty() && !self.has_many_values {
            return Enumerated::Nothing;
        }
        if self.has_many_values {
            return Enumerated::Many;
        }
        let by_value = self.column.keys().zip(&self.shapes_of_values);
        let few: ByValue = by_value
            .map(|((sort, text), counts)| {
                let of_shapes = shapes.iter().zip(counts).filter(|(_, count)| **count > 0);
                let of_shapes = of_shapes.map(|(shape, count)| (*shape, u64::from(*count)));
                ((*sort, Box::from(*text)), of_shapes.collect())
            })
            .collect();
        Enumerated::Few(few)
    }
}
