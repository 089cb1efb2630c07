//! No silent nothing: what the paths and tests of a rule met, for what is said of those that met nothing.
//!
//! Counting costs next to nothing once a path has selected something; until then each miss is looked at, so that
//! the report can name the step where it stopped and the names that were there.

mod calls;
mod report;

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap, HashSet};

use kyanite_formats::Format;
use kyanite_formats::losses::Losses;
use kyanite_tree::{Element, Kind, Name, Place, Value};

use calls::CallCoverage;

use crate::finding::Span;
use crate::functions::Remarks;
use crate::plan::Plan;
use crate::rule_error::RuleError;

/// Misses that are looked at for each path; later ones are only counted.
const LOOKED_AT: u64 = 5_000;

/// Different names that are remembered for each path.
const NAMES: usize = 2_000;

/// The namespaces that are told of one name.
const NAMESPACES: usize = 4;

/// Counts for the paths and tests of one rule.
#[derive(Debug)]
pub struct Coverage {
    paths: Vec<PathCoverage>,
    tests: Vec<TestCoverage>,
    /// What the rule itself has said, with how often.
    notes: RefCell<Vec<(String, u64)>>,
    recovered: RefCell<Vec<Recovered>>,
    /// Calls that name members of maps.
    calls: RefCell<Vec<CallCoverage>>,
    /// The namespaces of the elements that steps without prefix met.
    mixed: RefCell<Vec<Mixed>>,
    /// What texts could not carry that calls made, by where these stand.
    lost: RefCell<Vec<(Span, Format, Losses)>>,
    /// What texts held twice that calls read, by where these stand.
    twice: RefCell<Vec<Twice>>,
    /// What the steps of XPaths met, by the numbers of these.
    xpaths: Vec<RefCell<kyanite_xpath::Coverage>>,
}

/// A call of recover() that stood in for failures.
#[derive(Clone, Debug)]
struct Recovered {
    span: Span,
    count: u64,
    first: RuleError,
    /// Where in an input the first failed, once that is worked out.
    place: Option<Option<Place>>,
}

/// Members that texts held twice which a call read.
#[derive(Clone, Debug)]
struct Twice {
    span: Span,
    count: u64,
    first: String,
}

/// The namespaces of the elements that a step met.
#[derive(Clone, Debug)]
struct Mixed {
    span: Span,
    /// Where the last of them is in memory, and how long it is: most are just the same.
    last: (usize, usize),
    namespaces: BTreeSet<String>,
}

#[derive(Clone, Debug, Default)]
struct PathCoverage {
    asked: bool,
    selected: bool,
    /// The furthest step that could not be taken, and what was there.
    stop: Stop,
    /// Name steps that met a list, at the step given.
    lists: u64,
    list_step: usize,
}

#[derive(Clone, Debug, Default)]
struct Stop {
    step: usize,
    misses: u64,
    /// What the misses met: maps and elements, and at the names of how many of them was looked.
    maps: u64,
    looked: u64,
    lists: u64,
    /// Items of those lists, all together.
    items: u64,
    others: Option<&'static str>,
    /// A text was met that looks like a JSON document.
    json_text: bool,
    names: HashMap<String, u64>,
    /// Whether any of what was met is an element.
    elements: bool,
    /// The namespaces of elements by their local names.
    namespaces: HashMap<String, BTreeSet<String>>,
}

#[derive(Clone, Copy, Debug, Default)]
struct TestCoverage {
    seen: u64,
    held: u64,
}

impl Coverage {
    /// A coverage over nothing.
    #[must_use]
    pub fn empty() -> Self {
        Self {
            paths: Vec::new(),
            tests: Vec::new(),
            notes: RefCell::default(),
            recovered: RefCell::default(),
            calls: RefCell::default(),
            mixed: RefCell::default(),
            lost: RefCell::default(),
            twice: RefCell::default(),
            xpaths: Vec::new(),
        }
    }

    pub(crate) fn new(plan: &Plan) -> Self {
        Self {
            paths: vec![PathCoverage::default(); plan.paths.len()],
            tests: vec![TestCoverage::default(); plan.tests.len()],
            xpaths: plan
                .xpaths
                .iter()
                .map(|xpath| RefCell::new(kyanite_xpath::Coverage::new(&xpath.expression)))
                .collect(),
            ..Self::empty()
        }
    }

    /// The coverage over an XPath.
    pub(crate) fn xpath(&self, number: usize) -> Option<&RefCell<kyanite_xpath::Coverage>> {
        self.xpaths.get(number)
    }

    /// None of the elements was found that an XPath was to be evaluated for: these names stood where the step at `level` of
    /// their path looked.
    pub(crate) fn xpath_stopped<'n>(
        &mut self,
        plan: &Plan,
        level: usize,
        names: impl Iterator<Item = Name<'n>>,
    ) {
        if let (Some(expression), Some(coverage)) = (plan.xpath(), self.xpath(0)) {
            coverage.borrow_mut().stopped(expression, level, names);
        }
    }

    fn add_note(&self, message: &str, count: u64) {
        let mut notes = self.notes.borrow_mut();
        match notes.iter().position(|(known, _)| known == message) {
            Some(position) => notes[position].1 += count,
            None if notes.len() < NAMES => notes.push((message.to_owned(), count)),
            None => {}
        }
    }

    fn add_twice(&self, span: Span, count: u64, first: &str) {
        let mut twice = self.twice.borrow_mut();
        match twice.iter_mut().find(|call| call.span == span) {
            Some(call) => call.count += count,
            None => twice.push(Twice { span, count, first: first.to_owned() }),
        }
    }

    /// The call of recover() at `span` stands in for a failure.
    pub(crate) fn recovered(&self, span: Span, error: RuleError) {
        self.add_recovered(Recovered { span, count: 1, first: error, place: None });
    }

    fn add_recovered(&self, later: Recovered) {
        let mut recovered = self.recovered.borrow_mut();
        match recovered.iter_mut().find(|known| known.span == later.span) {
            Some(known) => known.count += later.count,
            None => recovered.push(later),
        }
    }

    /// Finds the places of the first failures that recover() stood in for, as long as the input is at hand.
    pub fn place_recovered(&self, mut find: impl FnMut(&RuleError) -> Option<Place>) {
        for new in self.recovered.borrow_mut().iter_mut().filter(|call| call.place.is_none()) {
            new.place = Some(find(&new.first));
        }
    }

    /// A step without prefix met elements of these namespaces.
    pub(crate) fn met_namespaces<'n>(&self, span: Span, found: impl Iterator<Item = &'n str>) {
        let mut mixed = self.mixed.borrow_mut();
        let position = mixed.iter().position(|known| known.span == span).unwrap_or_else(|| {
            mixed.push(Mixed { span, last: (0, 0), namespaces: BTreeSet::new() });
            mixed.len() - 1
        });
        let known = &mut mixed[position];
        for namespace in found {
            let place = (namespace.as_ptr() as usize, namespace.len());
            if known.last != place {
                known.last = place;
                add_namespaces(&mut known.namespaces, std::iter::once(namespace));
            }
        }
    }

    /// A batch ends: other texts may be where its texts were in memory.
    pub(crate) fn forget_batch(&mut self) {
        self.mixed.get_mut().iter_mut().for_each(|mixed| mixed.last = (0, 0));
    }

    #[inline]
    pub(crate) fn asked(&mut self, path: usize) {
        self.paths[path].asked = true;
    }

    #[inline]
    pub(crate) fn selected(&mut self, path: usize) {
        self.paths[path].selected = true;
    }

    /// A path was asked for, and selected something.
    #[inline]
    pub(crate) fn met(&mut self, path: usize) {
        if let Some(path) = self.paths.get_mut(path) {
            (path.asked, path.selected) = (true, true);
        }
    }

    #[inline]
    pub(crate) fn tested(&mut self, test: usize, holds: bool) {
        let test = &mut self.tests[test];
        test.seen += 1;
        test.held += u64::from(holds);
    }

    /// A step of a path led nowhere from `node`.
    #[inline]
    pub(crate) fn missed(&mut self, path: usize, step: usize, node: Value<'_>, by_name: bool) {
        let coverage = &mut self.paths[path];
        if by_name && node.kind() == Kind::List {
            coverage.lists += 1;
            coverage.list_step = step;
        }
        if !coverage.selected && step >= coverage.stop.step {
            coverage.stop.note(step, node);
        }
    }

    /// A step that looks at any depth led nowhere from `node`, unless something below it did.
    pub(crate) fn missed_below(&mut self, path: usize, step: usize, node: Value<'_>) {
        let coverage = &mut self.paths[path];
        if !coverage.selected && step >= coverage.stop.step {
            coverage.stop.note(step, node);
            coverage.stop.note_below(step, node);
        }
    }

    /// The member at which a path begins is not there.
    pub(crate) fn not_in_slot(&mut self, path: usize) {
        self.missed(path, 0, Value::NULL, false);
    }

    /// The list of records that step `step` of a path goes through had `count` items.
    pub(crate) fn ended(&mut self, path: usize, step: usize, count: u64) {
        let coverage = &mut self.paths[path];
        if !coverage.selected && coverage.stop.misses == 0 {
            coverage.asked = true;
            coverage.stop = Stop { step, misses: 1, lists: 1, items: count, ..Stop::default() };
        }
    }

    /// Adds what was met elsewhere, in later records.
    pub fn join(&mut self, later: &Self) {
        for call in later.recovered.borrow().iter() {
            self.add_recovered(call.clone());
        }
        for (message, count) in later.notes.borrow().iter() {
            self.add_note(message, *count);
        }
        for (span, format, losses) in later.lost.borrow().iter() {
            self.lost(*span, *format, losses);
        }
        for Twice { span, count, first } in later.twice.borrow().iter() {
            self.add_twice(*span, *count, first);
        }
        for (own, later) in self.paths.iter_mut().zip(&later.paths) {
            own.join(later);
        }
        for (own, later) in self.xpaths.iter().zip(&later.xpaths) {
            own.borrow_mut().join(&later.borrow());
        }
        for (own, later) in self.tests.iter_mut().zip(&later.tests) {
            own.seen += later.seen;
            own.held += later.held;
        }
        let calls = self.calls.get_mut();
        for later in later.calls.borrow().iter() {
            match calls.iter_mut().find(|own| own.span == later.span) {
                Some(own) => own.join(later),
                None => calls.push(later.clone()),
            }
        }
        for Mixed { span, namespaces, .. } in later.mixed.borrow().iter() {
            self.met_namespaces(*span, namespaces.iter().map(String::as_str));
        }
        self.forget_batch();
    }

    /// A path selected nothing, since at one of its steps there were only children of these names.
    pub(crate) fn stopped<'n>(
        &mut self,
        path: usize,
        step: usize,
        names: impl Iterator<Item = Name<'n>>,
    ) {
        let coverage = &mut self.paths[path];
        coverage.asked = true;
        if !coverage.selected && step >= coverage.stop.step {
            coverage.stop = Stop { step, misses: 1, maps: 1, looked: 1, ..Stop::default() };
            for name in names {
                coverage.stop.names.insert(name.local().to_owned(), 1);
                coverage.stop.note_namespace(name);
            }
        }
    }

    /// Whether the report needs to look at no further names: every path has selected something, or has missed often
    /// enough. Until then records are to be read whole.
    #[must_use]
    pub fn has_seen_enough(&self, plan: &Plan) -> bool {
        let has_found_all =
            |expression| self.xpath(0).is_none_or(|own| own.borrow().has_found_all(expression));
        self.open_paths(plan).next().is_none()
            && self.calls.borrow().iter().all(CallCoverage::is_settled)
            && plan.xpath().is_none_or(has_found_all)
    }

    /// Whether `records` records are enough to go on without looking at names: paths that none of them asked for are not
    /// waited for, but [`Self::learns_from`] has to be asked then.
    #[must_use]
    pub fn may_look_away(&self, plan: &Plan, records: u64) -> bool {
        self.open_paths(plan).all(|path| records >= LOOKED_AT && !self.paths[path].asked)
            && self.calls.borrow().iter().all(CallCoverage::is_settled)
    }

    /// Whether every path that was asked so far has selected something, so that none would have to be explained.
    #[must_use]
    pub fn explains_nothing(&self, plan: &Plan) -> bool {
        let mut paths = self.paths.iter().zip(&plan.paths).enumerate();
        paths.all(|(number, (path, info))| {
            !path.asked || path.selected || info.steps.is_empty() || plan.is_late(number)
        }) && self.calls.borrow().iter().all(CallCoverage::is_met)
    }

    /// Whether what was met later says something of a path about which too little is known, so that the names that stood
    /// there are wanted; or recover() stood in for the first failure, whose place is wanted.
    #[must_use]
    pub fn learns_from(&self, later: &Self, plan: &Plan) -> bool {
        self.open_paths(plan).any(|path| {
            later.paths.get(path).is_some_and(|later| later.stop.misses > 0 && !later.selected)
        }) || later.calls.borrow().iter().any(|later| {
            let calls = self.calls.borrow();
            let own = calls.iter().find(|own| own.span == later.span);
            !own.is_some_and(CallCoverage::is_settled) && !later.is_met()
        }) || later
            .recovered
            .borrow()
            .iter()
            .any(|later| self.recovered.borrow().iter().all(|own| own.span != later.span))
            || self
                .xpaths
                .iter()
                .zip(&later.xpaths)
                .any(|(own, later)| own.borrow().learns_from(&later.borrow()))
    }

    /// Paths that may have to be reported with the names that stood where they stopped.
    fn open_paths(&self, plan: &Plan) -> impl Iterator<Item = usize> {
        let paths = self.paths.iter().zip(&plan.paths).enumerate();
        paths.filter_map(|(number, (path, info))| {
            let is_settled = path.selected
                || path.stop.misses >= LOOKED_AT
                || info.steps.is_empty()
                // What is asked behind the last record cannot be waited for.
                || plan.is_late(number);
            (!is_settled).then_some(number)
        })
    }
}

/// Counts a name among others.
fn add_name(names: &mut HashMap<String, u64>, name: &str) {
    if let Some(count) = names.get_mut(name) {
        *count += 1;
    } else if names.len() < NAMES {
        names.insert(name.to_owned(), 1);
    }
}

fn add_namespaces<'n>(to: &mut BTreeSet<String>, found: impl Iterator<Item = &'n str>) {
    for namespace in found {
        if to.len() < NAMESPACES && !to.contains(namespace) {
            to.insert(namespace.to_owned());
        }
    }
}

impl PathCoverage {
    fn join(&mut self, later: &Self) {
        self.asked |= later.asked;
        self.selected |= later.selected;
        self.lists += later.lists;
        self.list_step = self.list_step.max(later.list_step);
        let (own, other) = (&mut self.stop, &later.stop);
        if other.misses == 0 || other.step < own.step {
            return;
        }
        if other.step > own.step {
            *own = other.clone();
            return;
        }
        own.misses += other.misses;
        own.maps += other.maps;
        own.looked += other.looked;
        own.lists += other.lists;
        own.items += other.items;
        own.others = own.others.or(other.others);
        own.json_text |= other.json_text;
        own.elements |= other.elements;
        for (name, count) in &other.names {
            if own.names.len() < NAMES || own.names.contains_key(name) {
                *own.names.entry(name.clone()).or_default() += count;
            }
        }
        for (name, namespaces) in &other.namespaces {
            let own = own.namespaces.entry(name.clone()).or_default();
            add_namespaces(own, namespaces.iter().map(String::as_str));
        }
    }
}

impl Stop {
    fn note(&mut self, step: usize, node: Value<'_>) {
        if step > self.step {
            *self = Self { step, ..Self::default() };
        }
        self.misses += 1;
        match node {
            Value::Map(_, map) => {
                self.maps += 1;
                if self.misses > LOOKED_AT {
                    return;
                }
                self.looked += 1;
                for member in map.members() {
                    add_name(&mut self.names, member.name);
                }
            }
            Value::Element(_, element) => {
                self.maps += 1;
                self.elements = true;
                if self.misses > LOOKED_AT {
                    return;
                }
                self.looked += 1;
                self.note_names(element);
            }
            Value::List(_, items) => {
                self.lists += 1;
                self.items += items.len() as u64;
            }
            other => {
                self.others = Some(other.kind().phrase());
                let text = other.as_text().map(str::trim_start).unwrap_or_default();
                self.json_text |= text.starts_with(['{', '[']);
            }
        }
    }

    /// The names of child elements and attributes.
    fn note_names(&mut self, element: &Element<'_>) {
        let mut met = HashSet::new();
        for child in element.children().filter_map(Value::as_element) {
            met.insert(child.name.local().to_owned());
            self.note_namespace(child.name);
        }
        let attributes = element.attributes.iter().filter(|a| !a.name.declares_namespace());
        met.extend(attributes.map(|attribute| format!("@{}", attribute.name.local())));
        for name in met {
            add_name(&mut self.names, &name);
        }
    }

    fn note_namespace(&mut self, name: Name<'_>) {
        if self.namespaces.len() < NAMES || self.namespaces.contains_key(name.local()) {
            let known = self.namespaces.entry(name.local().to_owned()).or_default();
            add_namespaces(known, std::iter::once(name.namespace()));
        }
    }

    /// Notes what stands in a node, at any depth.
    fn note_below(&mut self, step: usize, node: Value<'_>) {
        let mut note = |child: Value<'_>| {
            if self.misses <= LOOKED_AT
                && matches!(child.kind(), Kind::List | Kind::Map | Kind::Element)
            {
                self.note(step, child);
                self.note_below(step, child);
            }
        };
        match node {
            Value::List(_, items) => items.iter().copied().for_each(note),
            Value::Map(_, map) => map.members().iter().for_each(|member| note(member.value)),
            Value::Element(_, element) => element.children().for_each(&mut note),
            _ => {}
        }
    }
}
