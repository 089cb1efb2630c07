//! Fingerprints of values: equal ones where values are the same by the rules of a comparison.

use std::collections::HashMap;
use std::hash::{BuildHasher, Hash, Hasher};

use foldhash::quality::FixedState;
use kyanite_tree::{Content, Decimal, Step, Value};

use crate::difference::{Comparison, Numbers};

/// 128 bits that tell values apart: among a billion values the chance that any two that differ have the same is below 10⁻²⁰.
pub(crate) type Fingerprint = [u64; 2];

/// Two hashes side by side.
struct Twins<H>(H, H);

impl<H: Hasher> Twins<H> {
    fn write(&mut self, value: impl Hash) {
        value.hash(&mut self.0);
        value.hash(&mut self.1);
    }

    fn end(self) -> Fingerprint {
        [self.0.finish(), self.1.finish()]
    }
}

/// Takes fingerprints, each once.
pub(crate) struct Fingerprints<'c> {
    comparison: &'c Comparison,
    /// By where a list or map is in memory: one that stands in several places has the same in each, unless paths are left out.
    known: HashMap<usize, Fingerprint>,
}

impl<'c> Fingerprints<'c> {
    pub(crate) fn new(comparison: &'c Comparison) -> Self {
        Self { comparison, known: HashMap::new() }
    }

    /// The fingerprint of the value that steps lead to.
    pub(crate) fn of<'a>(&mut self, value: Value<'a>, steps: &mut Vec<Step<'a>>) -> Fingerprint {
        let place = match value {
            Value::List(_, items) => items.as_ptr() as usize,
            Value::Map(_, map) => map.members().as_ptr() as usize,
            Value::Element(_, element) => std::ptr::from_ref(element) as usize,
            _ => return self.made(value, steps),
        };
        let may_keep = self.comparison.ignored.is_empty() && !is_empty(value);
        if let Some(known) = self.known.get(&place).filter(|_| may_keep) {
            return *known;
        }
        let made = self.made(value, steps);
        if may_keep {
            self.known.insert(place, made);
        }
        made
    }

    fn made<'a>(&mut self, value: Value<'a>, steps: &mut Vec<Step<'a>>) -> Fingerprint {
        let state = |seed| FixedState::with_seed(seed).build_hasher();
        let mut twins = Twins(state(1), state(2));
        match value {
            Value::Null(_) => twins.write(0_u8),
            Value::Boolean(_, boolean) => twins.write((1_u8, boolean)),
            Value::Number(_, number) => self.number(number.as_str(), &mut twins),
            Value::Untyped(_, text)
                if self.comparison.crosses && Decimal::spelled(text).is_some() =>
            {
                self.number(text, &mut twins);
            }
            Value::Text(_, text) | Value::Untyped(_, text) => twins.write((3_u8, text)),
            Value::Foreign(_, foreign) => twins.write((3_u8, foreign.text)),
            // A list of one may be the item itself.
            Value::List(_, [one]) if self.comparison.crosses => return self.of(*one, steps),
            Value::List(_, items) => {
                twins.write((4_u8, items.len()));
                for (index, item) in items.iter().enumerate() {
                    steps.push(Step::Index(index));
                    twins.write(self.of(*item, steps));
                    steps.pop();
                }
            }
            Value::Map(_, map) => {
                // The sum does not depend on the order of members.
                let mut sum = [0_u64; 2];
                for member in map.members() {
                    steps.push(Step::Name(member.name));
                    if !self.comparison.leaves_out(steps) {
                        let mut twins = Twins(state(3), state(4));
                        twins.write(member.name);
                        twins.write(self.of(member.value, steps));
                        let of_member = twins.end();
                        sum = [0, 1].map(|at| sum[at].wrapping_add(of_member[at]));
                    }
                    steps.pop();
                }
                twins.write((5_u8, sum));
            }
            Value::Element(_, element) => {
                twins.write((6_u8, element.name.local(), element.name.namespace()));
                let attributes =
                    element.attributes.iter().filter(|of| !of.name.declares_namespace());
                let mut attributes: Vec<(&str, &str, &str)> =
                    attributes.map(|of| (of.name.namespace(), of.name.local(), of.value)).collect();
                attributes.sort_unstable();
                twins.write(attributes);
                let texts = element.content.iter();
                let is_mixed = texts
                    .clone()
                    .any(|content| matches!(content, Content::Text(..)) && !content.is_blank());
                for content in texts {
                    match content {
                        Content::Element(origin, child) => {
                            twins.write(self.of(Value::Element(*origin, child), steps))
                        }
                        // Between elements alone, blanks are layout.
                        Content::Text(_, text) if is_mixed => twins.write((7_u8, *text)),
                        _ => {}
                    }
                }
            }
        }
        twins.end()
    }

    fn number(&self, text: &str, twins: &mut Twins<impl Hasher>) {
        if self.comparison.tolerance.is_some() {
            // Which numbers are near enough is told when they are compared.
            twins.write(2_u8);
        } else if self.comparison.numbers == Numbers::Spelling {
            twins.write((2_u8, text));
        } else {
            match Decimal::spelled(text) {
                Some(value) => twins.write((2_u8, value.to_string())),
                None => twins.write((2_u8, text)),
            }
        }
    }
}

fn is_empty(value: Value<'_>) -> bool {
    match value {
        Value::List(_, items) => items.is_empty(),
        Value::Map(_, map) => map.is_empty(),
        _ => false,
    }
}
