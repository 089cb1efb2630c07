//! Records that follow a template: what stands around their scalars is counted once for all of them.

use kyanite_tree::{Event, ScalarKind, ScalarSpan};

use super::{Batch, Open, boolean_text};
use crate::paths::Sort;
use crate::shapes::Feature;
use crate::values::Scalar;

/// What records have that follow a template: each the same, but for its scalars.
#[derive(Debug)]
pub(super) struct Learned {
    /// The paths of the scalars, in order.
    scalars: Vec<usize>,
    /// The lists and maps, as they begin and as they end.
    containers: Vec<(usize, Sort)>,
    ends: Vec<Open>,
    /// Those that have scalars of the same sorts.
    variants: Vec<Variant>,
}

/// Records that follow a template and have scalars of the same sorts.
#[derive(Debug)]
struct Variant {
    sorts: Vec<Sort>,
    shape: u64,
    features: Box<[Feature]>,
    /// How many there were, beyond those that were counted one by one.
    count: u64,
}

/// Records with more values, or lists and maps, than that are not learned.
pub(super) const MOST_LEARNED: usize = 16_384;

/// As many variants of a template are told apart.
const VARIANTS: usize = 16;

impl<'t> Batch<'t> {
    /// The record that was counted last is the first of a template: what stands around its scalars is the same in others.
    pub fn learn(&mut self, template: usize) {
        if self.values.len().max(self.ends.len()) > MOST_LEARNED {
            return;
        }
        let is_container = |sort: &Sort| matches!(sort, Sort::Map | Sort::List);
        let (containers, scalars): (Vec<_>, Vec<_>) =
            self.values.iter().copied().partition(|(_, sort)| is_container(sort));
        if self.learned.len() <= template {
            self.learned.resize_with(template + 1, || None);
        }
        let scalars = scalars.into_iter().map(|(at, _)| at).collect();
        let ends = self.ends.clone();
        let learned = self.learned[template].get_or_insert_with(|| Learned {
            scalars,
            containers,
            ends,
            variants: Vec::new(),
        });
        if learned.variants.len() < VARIANTS {
            let sorts = self.values.iter().map(|(_, sort)| *sort);
            learned.variants.push(Variant {
                sorts: sorts.filter(|sort| !is_container(sort)).collect(),
                shape: self.shape,
                features: self.features.as_slice().into(),
                count: 0,
            });
        }
    }

    /// Counts a record that follows a template and has these scalars of a text. This gives false, and nothing is counted, where no record
    /// like it was learned.
    pub fn record_alike(
        &mut self,
        template: usize,
        (text, scalars): (&'t str, &[ScalarSpan]),
    ) -> bool {
        let Some(Some(learned)) = self.learned.get_mut(template) else { return false };
        let is_like = |variant: &Variant| {
            let sorts = scalars.iter().zip(&variant.sorts);
            sorts.len() == variant.sorts.len()
                && sorts.clone().all(|(scalar, sort)| sort_of(scalar.kind) == *sort)
        };
        let Some(number) = learned.variants.iter().position(is_like) else { return false };
        learned.variants.swap(0, number);
        let variant = &mut learned.variants[0];
        variant.count += 1;
        self.records += 1;
        self.told.clear();
        let features = &variant.features;
        let shape = self.shapes.add(variant.shape, 1, || features.clone());
        let paths = std::mem::take(&mut learned.scalars);
        for (scalar, at) in scalars.iter().zip(&paths) {
            let (sort, text) = match scalar.event(text) {
                Event::Number(number) => (Scalar::Number, number),
                Event::Text(text) => (Scalar::Text, self.text(text)),
                Event::Boolean(value) => (Scalar::Boolean, boolean_text(value)),
                _ => continue,
            };
            self.count_scalar(*at, sort, text, scalar.end);
        }
        if let Some(Some(learned)) = self.learned.get_mut(template) {
            learned.scalars = paths;
        }
        self.note_told(shape);
        true
    }

    /// Adds what records that follow a template have besides the values of their scalars.
    pub(super) fn add(&mut self, learned: &Learned) {
        for Variant { sorts, count, .. } in &learned.variants {
            let scalars = learned.scalars.iter().copied().zip(sorts.iter().copied());
            let mut nodes = Vec::new();
            for (at, sort) in learned.containers.iter().copied().chain(scalars) {
                let counts = &mut self.nodes[at].counts;
                counts.values += count;
                counts.sorts[sort as usize] += count;
                nodes.push(at);
            }
            nodes.sort_unstable();
            nodes.dedup();
            for at in nodes {
                self.nodes[at].counts.records += count;
            }
            for ended in &learned.ends {
                self.nodes[ended.node].counts.end(*ended, *count);
            }
        }
    }
}

/// The sort of a scalar.
fn sort_of(kind: ScalarKind) -> Sort {
    match kind {
        ScalarKind::Text | ScalarKind::Escaped => Sort::Text,
        ScalarKind::Number => Sort::Number,
        ScalarKind::True | ScalarKind::False => Sort::Boolean,
        ScalarKind::Null => Sort::Null,
    }
}
