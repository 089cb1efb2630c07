//! No silent nothing: which steps and predicates found something, and what stood where one did not.
//!
//! Once a step has found something, watching it costs next to nothing; until then the names that it met are kept, so that
//! the report can say what was there.

mod report;

use std::collections::{BTreeSet, HashMap, HashSet};

use kyanite_eval::atomic::Atomic;
use kyanite_formats::records::PassedOver;
use kyanite_tree::{
    Advice, Code, Diagnostic, Name as NodeName, Node, NodeKind, Span, counted, near,
};

use crate::Expression;
use crate::syntax::StepInfo;
use crate::syntax::ast::{Axis, AxisStep};
use crate::value::Item;
use report::some;

/// Misses that are looked at for each step; later ones are only counted.
const LOOKED_AT: u64 = 5_000;

/// Different names that are remembered for each step.
const NAMES: usize = 2_000;

/// Nodes that are looked at along an axis from one node.
const ALONG: usize = 10_000;

/// Counts for the steps and predicates of one expression.
#[derive(Clone, Debug, Default)]
pub struct Coverage {
    steps: Vec<StepCoverage>,
    predicates: Vec<(u64, u64)>,
    lookups: Vec<LookupCoverage>,
    /// The prefixes and namespaces of the elements of the documents, by local names.
    elements: HashMap<String, BTreeSet<(String, String)>>,
    texts: Vec<(Span, String, String)>,
    notes: Vec<(String, u64)>,
    /// How many nodes steps have looked at.
    visited: u64,
}

#[derive(Clone, Debug, Default)]
struct StepCoverage {
    found: bool,
    misses: u64,
    looked: u64,
    names: HashMap<String, u64>,
    /// What the misses met that cannot hold what was asked for, if nothing else.
    leaf: Option<&'static str>,
}

/// A lookup in maps and arrays.
#[derive(Clone, Debug)]
struct LookupCoverage {
    span: Span,
    found: bool,
    seen: u64,
    key: String,
    names: HashMap<String, u64>,
}

impl Coverage {
    /// A coverage over an expression.
    #[must_use]
    pub fn new(expression: &Expression) -> Self {
        Self {
            steps: vec![StepCoverage::default(); expression.parsed.steps.len()],
            predicates: vec![(0, 0); expression.parsed.predicates.len()],
            ..Self::default()
        }
    }

    /// How many nodes steps along axes have looked at: the work that an evaluation was.
    #[must_use]
    pub fn visited(&self) -> u64 {
        self.visited
    }

    #[inline]
    pub(super) fn visit(&mut self, nodes: u64) {
        self.visited += nodes;
    }

    /// A step was taken from nodes of one document; whether any node passed its test.
    #[inline]
    pub(super) fn step(&mut self, step: &AxisStep, from: &[Node<'_>], is_there: bool) {
        let Some(coverage) = self.steps.get_mut(step.number) else { return };
        if is_there {
            coverage.found = true;
        } else if !coverage.found {
            coverage.miss(step, from);
            if let Some(node) = from.first()
                && self.elements.is_empty()
            {
                self.note_elements(*node);
            }
        }
    }

    /// None of the elements at a path came by: these names stood where the step at `level` looked.
    pub fn stopped<'n>(
        &mut self,
        expression: &Expression,
        level: usize,
        names: impl Iterator<Item = NodeName<'n>>,
    ) {
        let number = expression.record_steps.get(level);
        let Some(coverage) = number.and_then(|number| self.steps.get_mut(*number)) else { return };
        (coverage.misses, coverage.looked) = (coverage.misses.max(1), coverage.looked.max(1));
        for name in names {
            coverage.names.insert(name.qualified().to_owned(), 1);
            let known = self.elements.entry(name.local().to_owned()).or_default();
            known.insert((name.prefix().to_owned(), name.namespace().to_owned()));
        }
    }

    /// Keeps what the names of elements in a document are in full.
    fn note_elements(&mut self, node: Node<'_>) {
        for name in node.nodes().names().filter(|name| !name.local().is_empty()) {
            if self.elements.len() < NAMES {
                let known = self.elements.entry(name.local().to_owned()).or_default();
                known.insert((name.prefix().to_owned(), name.namespace().to_owned()));
            }
        }
    }

    pub(super) fn predicate(&mut self, number: usize, seen: usize, held: usize) {
        if let Some((all, holding)) = self.predicates.get_mut(number) {
            *all += seen as u64;
            *holding += held as u64;
        }
    }

    /// Elements were passed over by the [prefilter](Expression::record_prefilter) of the expression, or certainly pass it.
    pub fn passed_over(&mut self, expression: &Expression, passed_over: &PassedOver) {
        let records = passed_over.records + u64::from(passed_over.holds);
        let Some(prefilter) = expression.record_prefilter.as_ref().filter(|_| records > 0) else {
            return;
        };
        if let Some((seen, held)) = self.predicates.get_mut(prefilter.predicate) {
            *seen += records;
            *held += u64::from(passed_over.holds);
        }
        let mut leads_here = true;
        for (place, (number, is_first)) in prefilter.steps.iter().enumerate() {
            let Some(coverage) = self.steps.get_mut(*number) else { continue };
            let is_reached = passed_over.reached & (1 << place) != 0;
            if is_reached {
                coverage.found = true;
            } else if *is_first || leads_here {
                coverage.misses += records;
            }
            leads_here = is_reached;
        }
    }

    /// A key was looked up in a map or an array.
    pub(super) fn lookup(&mut self, span: Span, key: &Atomic<'_>, item: &Item<'_>, found: bool) {
        let at = self.lookup_at(span);
        let coverage = &mut self.lookups[at];
        if found || coverage.found || coverage.seen > LOOKED_AT || !item.is_map() {
            return;
        }
        coverage.key = key.to_string();
        for (name, _) in item.entries().unwrap_or_default() {
            add_name(&mut coverage.names, &name.to_string());
        }
    }

    /// A lookup was made in `count` items, and found something or not.
    pub(super) fn looked(&mut self, span: Span, count: usize, found: bool) {
        let at = self.lookup_at(span);
        self.lookups[at].seen += count as u64;
        self.lookups[at].found |= found;
    }

    fn lookup_at(&mut self, span: Span) -> usize {
        match self.lookups.iter().position(|known| known.span == span) {
            Some(at) => at,
            None => {
                let (key, names) = (String::new(), HashMap::new());
                self.lookups.push(LookupCoverage { span, found: false, seen: 0, key, names });
                self.lookups.len() - 1
            }
        }
    }

    /// Two texts were ordered as texts that as numbers are the other way round.
    pub(super) fn compared_as_texts(&mut self, span: Span, a: String, b: String) {
        if self.texts.iter().all(|(known, ..)| *known != span) {
            self.texts.push((span, a, b));
        }
    }

    /// The expression says something: trace().
    pub(crate) fn note(&mut self, message: &str) {
        match self.notes.iter().position(|(known, _)| known == message) {
            Some(at) => self.notes[at].1 += 1,
            None if self.notes.len() < NAMES => self.notes.push((message.to_owned(), 1)),
            None => {}
        }
    }

    /// Adds what was met elsewhere, in later documents or records.
    pub fn join(&mut self, later: &Self) {
        for (own, later) in self.steps.iter_mut().zip(&later.steps) {
            own.found |= later.found;
            own.misses += later.misses;
            if own.looked >= LOOKED_AT {
                continue;
            }
            own.looked += later.looked;
            own.leaf = own.leaf.or(later.leaf);
            for (name, count) in &later.names {
                if own.names.len() < NAMES || own.names.contains_key(name) {
                    *own.names.entry(name.clone()).or_default() += count;
                }
            }
        }
        for (own, later) in self.predicates.iter_mut().zip(&later.predicates) {
            own.0 += later.0;
            own.1 += later.1;
        }
        for later in &later.lookups {
            let at = self.lookup_at(later.span);
            let own = &mut self.lookups[at];
            own.found |= later.found;
            own.seen += later.seen;
            later.key.clone_into(&mut own.key);
            later.names.iter().for_each(|(name, count)| {
                *own.names.entry(name.clone()).or_default() += count;
            });
        }
        for (local, names) in &later.elements {
            if self.elements.len() < NAMES {
                self.elements.entry(local.clone()).or_default().extend(names.iter().cloned());
            }
        }
        for (span, a, b) in &later.texts {
            self.compared_as_texts(*span, a.clone(), b.clone());
        }
        for (message, count) in &later.notes {
            (0..*count).for_each(|_| self.note(message));
        }
    }

    /// Whether each step from the elements that `expression` is evaluated for one by one has found something, so that none has
    /// to be explained.
    #[must_use]
    pub fn has_found_all(&self, expression: &Expression) -> bool {
        let is_found = |step: &usize| self.steps.get(*step).is_none_or(|coverage| coverage.found);
        let leads_to_records = |step: &usize| expression.record_steps.contains(step);
        (0..self.steps.len()).filter(|step| !leads_to_records(step)).all(|step| is_found(&step))
    }

    /// Whether `later` met misses of a step of which too little is known, so that the names that stood there are wanted.
    #[must_use]
    pub fn learns_from(&self, later: &Self) -> bool {
        let mut steps = self.steps.iter().zip(&later.steps);
        steps.any(|(own, later)| {
            !own.found && own.looked < LOOKED_AT && !later.found && later.misses > 0
        })
    }

    /// Whether each step that was taken has found something.
    #[must_use]
    pub fn explains_nothing(&self) -> bool {
        self.steps.iter().all(|step| step.found || step.misses == 0)
    }
}

impl StepCoverage {
    fn miss(&mut self, step: &AxisStep, from: &[Node<'_>]) {
        self.misses += from.len() as u64;
        for node in from {
            if self.looked >= LOOKED_AT {
                return;
            }
            self.looked += 1;
            self.note(step.axis, *node);
        }
    }

    fn note(&mut self, axis: Axis, node: Node<'_>) {
        let mut met: HashSet<String> = HashSet::new();
        let full = |name: NodeName<'_>| name.qualified().to_owned();
        let element = |node: Node<'_>, met: &mut HashSet<String>| {
            if node.kind() == NodeKind::Element {
                met.insert(full(node.name()));
            }
        };
        match axis {
            Axis::Child | Axis::Attribute => {
                node.children().take(ALONG).for_each(|child| element(child, &mut met));
                met.extend(node.attributes().map(|a| format!("@{}", a.name().qualified())));
            }
            Axis::Descendant | Axis::DescendantOrSelf => {
                node.descendants().take(ALONG).for_each(|below| element(below, &mut met));
            }
            Axis::Parent | Axis::Ancestor | Axis::AncestorOrSelf => {
                node.ancestors().for_each(|above| element(above, &mut met));
            }
            Axis::FollowingSibling => {
                let siblings = std::iter::successors(node.next_sibling(), |n| n.next_sibling());
                siblings.take(ALONG).for_each(|sibling| element(sibling, &mut met));
            }
            Axis::PrecedingSibling => {
                let siblings =
                    std::iter::successors(node.previous_sibling(), |n| n.previous_sibling());
                siblings.take(ALONG).for_each(|sibling| element(sibling, &mut met));
            }
            Axis::Following => node.following().take(ALONG).for_each(|n| element(n, &mut met)),
            Axis::Preceding => node.preceding().take(ALONG).for_each(|n| element(n, &mut met)),
            Axis::Namespace => {
                met.extend(node.namespaces().iter().map(|n| n.name().qualified().to_owned()));
            }
            Axis::Itself => element(node, &mut met),
        }
        if met.is_empty() && !matches!(node.kind(), NodeKind::Element | NodeKind::Document) {
            self.leaf = Some(match node.kind() {
                NodeKind::Attribute => "an attribute",
                NodeKind::Text => "a text node",
                NodeKind::Comment => "a comment",
                NodeKind::Namespace => "a namespace node",
                _ => "a processing instruction",
            });
        }
        met.iter().for_each(|name| add_name(&mut self.names, name));
    }

    /// The names that were there and are near, with how often.
    fn near_names(&self, info: &StepInfo) -> Option<Advice<Span>> {
        let looked = self.looked;
        let among =
            if self.misses > looked { format!("{looked} looked at") } else { looked.to_string() };
        let wanted = info.local()?;
        let is_attribute = info.axis == Axis::Attribute;
        // Names are compared without their prefixes, and shown with them.
        let bare = |name: &str| {
            let name = name.trim_start_matches('@');
            name.split_once(':').map_or(name, |(_, local)| local).to_owned()
        };
        let locals: Vec<(String, &String)> =
            self.names.keys().map(|name| (bare(name), name)).collect();
        let is_twin = |name: &str| bare(name) == wanted && name.starts_with('@') != is_attribute;
        let twin = self.names.keys().find(|name| is_twin(name));
        let near_locals = near(wanted, locals.iter().map(|(local, _)| local.as_str()));
        let mut near: Vec<&String> = twin.into_iter().collect();
        for local in near_locals {
            near.extend(locals.iter().filter(|(l, _)| l == local).map(|(_, name)| *name));
        }
        near.dedup();
        near.truncate(3);
        let first = (*near.first()?).clone();
        let words: Vec<String> = near
            .iter()
            .map(|name| format!("{name}, in {} of {among}", self.names[*name]))
            .collect();
        let advice = Advice::words(format!("near: {}", words.join("; ")));
        let depth = if info.axis == Axis::Descendant { "//" } else { "" };
        let slash = if matches!(info.axis, Axis::Child | Axis::Attribute | Axis::Descendant) {
            depth.to_owned()
        } else {
            format!("{}::", info.axis.word())
        };
        Some(advice.fix(info.span, format!("{slash}{first}")))
    }

    /// Some of the names that were there, the most frequent first.
    fn some_names(&self, info: &StepInfo) -> Option<String> {
        info.local()?;
        if self.names.is_empty() {
            return Some("what is there holds no elements".into());
        }
        some(&self.names)
    }
}

impl LookupCoverage {
    fn report(&self, expression: &Expression) -> Option<Diagnostic<Span>> {
        let text = &expression.text[self.span.start..self.span.end];
        if self.key.is_empty() {
            let message = format!(
                "`{text}` found nothing: {} empty",
                if self.seen == 1 { "it is" } else { "all are" }
            );
            return Some(Diagnostic::warning_at(Code::PathEmpty, self.span, message));
        }
        let maps = if self.seen == 1 { "the map".to_owned() } else { counted(self.seen, "map") };
        let none = if self.seen == 1 { "not in" } else { "in none of" };
        let message = format!("`{text}` found nothing: {:?} is {none} {maps}", self.key);
        let near = near(&self.key, self.names.keys().map(String::as_str));
        let advice = if near.is_empty() {
            some(&self.names)
        } else {
            let near: Vec<String> = near
                .iter()
                .map(|name| format!("{name}, in {} of {}", self.names[*name], self.seen))
                .collect();
            Some(format!("near: {}", near.join("; ")))
        };
        Some(
            Diagnostic::warning_at(Code::PathEmpty, self.span, message)
                .advise_opt(advice.map(Advice::words)),
        )
    }
}

fn add_name(names: &mut HashMap<String, u64>, name: &str) {
    if let Some(count) = names.get_mut(name) {
        *count += 1;
    } else if names.len() < NAMES {
        names.insert(name.to_owned(), 1);
    }
}
