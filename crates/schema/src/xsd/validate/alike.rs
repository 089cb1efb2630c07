//! Templates in validation: an element whose markup equals that of a valid element before it is valid but for its values, so that only
//! values of simple types and fields of keys are checked.
//!
//! This module reports nothing. An element that is not certainly valid is validated in full.

use kyanite_tree::{Base, Origin};
use smallvec::SmallVec;

use super::{Places, Validator};
use crate::xsd::components::{ConstraintId, ElementId, NameId, SimpleId};
use crate::xsd::keys::{Field, Following, Keys, Met, Settled};
use crate::xsd::model::{Fit, State};

/// The most contexts that one template is known in.
const CONTEXTS: usize = 8;

/// A value of an element, and the byte of the text that it begins at.
pub type ValueAt<'v> = (&'v str, usize);

/// What came of an element that follows a template.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Alike {
    /// It is valid, and counts as met.
    Valid,
    /// It has to be validated as any element.
    Other,
    /// The same, and it can be [learned](Validator::learn) from.
    Unknown,
}

/// What is known of templates, by their numbers.
#[derive(Debug, Default)]
pub(super) struct Known<'s> {
    templates: Vec<Vec<Template<'s>>>,
    /// Declarations of namespaces that were in scope somewhere.
    scopes: Vec<Vec<(String, String)>>,
    /// The ones that are in scope, if that was looked up.
    pub(super) scope: Option<usize>,
}

/// What is known of a template in one context.
#[derive(Debug)]
struct Template<'s> {
    context: Context,
    name: NameId,
    element: ElementId,
    checks: Box<[Check<'s>]>,
    tuples: Box<[TupleOf]>,
}

/// What else decides whether an element is valid.
#[derive(Debug)]
struct Context {
    scope: usize,
    /// How deep it stands; less deep is as good.
    depth: usize,
    /// The paths to keys that are followed where it stands; None where no constraint is in force.
    selectors: Option<Vec<(ConstraintId, Following)>>,
}

impl Context {
    #[inline]
    fn holds(&self, scope: usize, depth: usize, keys: &Keys) -> bool {
        self.scope == scope
            && depth <= self.depth
            && match (&self.selectors, keys.selectors()) {
                (None, None) => true,
                (Some(known), Some(selectors)) => {
                    let is_same = |((constraint, known), own): (&(_, Following), &Following)| {
                        known == own && *constraint == keys.constraint(own)
                    };
                    !keys.awaits_fields()
                        && known.len() == selectors.len()
                        && known.iter().zip(selectors).all(is_same)
                }
                _ => false,
            }
    }
}

/// A value that has to be one of a type.
#[derive(Debug)]
struct Check<'s> {
    value: usize,
    of_type: SimpleId,
    fixed: Option<&'s str>,
}

/// Values that make a key.
#[derive(Debug)]
struct TupleOf {
    scope: usize,
    /// Where the element begins that has it: the number of a value, and the distance in bytes before it; or before the end.
    element: (usize, usize),
    /// Of a reference, the name of the element that is followed as it is written, and the rest of the path to the one that has it.
    path: Option<(Box<str>, Box<str>)>,
    fields: SmallVec<[FieldOf; 1]>,
}

#[derive(Debug)]
enum FieldOf {
    Value(usize, SimpleId),
    Constant(Field),
}

impl FieldOf {
    /// Its text, as it is shown.
    fn text<'v>(&'v self, values: &[ValueAt<'v>]) -> Option<&'v str> {
        match self {
            Self::Constant(field) => Some(field.text()),
            Self::Value(value, _) => values.get(*value).map(|(text, _)| text.trim()),
        }
    }
}

/// An element that is being learned from.
#[derive(Debug)]
pub(super) struct Learning<'s> {
    /// How many findings there were before it.
    found: usize,
    outer: (usize, State),
    context: Context,
    name: Option<NameId>,
    /// The texts that were checked: their types, what they had to be, and where they are.
    checks: Vec<(SimpleId, Option<&'s str>, Origin)>,
    is_possible: bool,
}

impl<'s> Learning<'s> {
    /// An element begins inside `depth` others.
    pub(super) fn begin(&mut self, depth: usize, name: Option<NameId>) {
        if depth == self.context.depth {
            self.name = name;
        }
    }

    /// A text is a value of its type.
    pub(super) fn check(&mut self, of_type: SimpleId, fixed: Option<&'s str>, origin: Origin) {
        self.checks.push((of_type, fixed, origin));
    }

    /// Something was met that is different for each element.
    pub(super) fn refuse(&mut self) {
        self.is_possible = false;
    }
}

impl<'s> Validator<'s> {
    /// The number of the declarations of namespaces that are in scope.
    fn scope(&mut self) -> usize {
        if let Some(scope) = self.known.scope {
            return scope;
        }
        let scopes = &mut self.known.scopes;
        let known = scopes.iter().position(|known| *known == self.bindings);
        let scope = known.unwrap_or_else(|| {
            // Documents have few; where one has more, what was known of the others is forgotten.
            if scopes.len() == CONTEXTS {
                scopes.clear();
                self.known.templates.clear();
            }
            scopes.push(self.bindings.clone());
            scopes.len() - 1
        });
        self.known.scope = Some(scope);
        scope
    }

    /// Takes an element that follows a template, if it is valid; its `values` are in order, and it ends at byte `end`.
    pub fn follow(
        &mut self,
        template: usize,
        (values, end): (&[ValueAt<'_>], usize),
        (base, places): (Base, Places<'_>),
    ) -> Alike {
        let scope = self.scope();
        let Some(outer) = self.frames.last() else { return Alike::Other };
        let (Some((number, state)), false) = (outer.model, outer.is_nil) else {
            return Alike::Other;
        };
        let known = std::mem::take(&mut self.known);
        let all = known.templates.get(template).map_or(&[][..], Vec::as_slice);
        let depth = self.frames.len();
        let alike = match all.iter().find(|one| one.context.holds(scope, depth, &self.keys)) {
            None if all.len() < CONTEXTS => Alike::Unknown,
            None => Alike::Other,
            Some(template) => {
                let namespace = self.components.names.namespace(template.name);
                let model = &self.components.models[number];
                match self.run(number).step(model, state, (Some(template.name), namespace)) {
                    Some((next, Fit::Element(id)))
                        if id == template.element
                            && self.are_valid(template, values)
                            && self.take_tuples(template, (values, end), (base, places)) =>
                    {
                        if let Some(outer) = self.frames.last_mut() {
                            outer.model = Some((number, next));
                            outer.has_content = true;
                            outer.counts.count(template.name.0 as u64);
                        }
                        Alike::Valid
                    }
                    _ => Alike::Other,
                }
            }
        };
        self.known = known;
        alike
    }

    /// Whether the values of an element are of their types.
    fn are_valid(&mut self, template: &Template<'s>, values: &[ValueAt<'_>]) -> bool {
        template.checks.iter().all(|check| {
            let Some((text, _)) = values.get(check.value) else { return false };
            self.simple(check.of_type, text).is_ok()
                && self.named.is_empty()
                && check.fixed.is_none_or(|fixed| fixed == *text)
        })
    }

    /// Takes up the keys of an element, all or none.
    fn take_tuples(
        &mut self,
        template: &Template<'s>,
        (values, end): (&[ValueAt<'_>], usize),
        (base, places): (Base, Places<'_>),
    ) -> bool {
        if template.tuples.is_empty() {
            return true;
        }
        let mut keys = std::mem::take(&mut self.keys);
        keys.start_adding();
        let is_taken = template.tuples.iter().all(|tuple| {
            let Some(key) = self.key_of(tuple, values) else { return false };
            let (next, back) = tuple.element;
            let origin = base.origin(values.get(next).map_or(end, |(_, at)| *at) - back);
            let line = || places(origin).line;
            let met = || {
                let path = || self.path_of_next(template.name, tuple.path.as_ref()?);
                let shown: Vec<&str> =
                    tuple.fields.iter().filter_map(|field| field.text(values)).collect();
                Met {
                    shown: shown.join(", "),
                    origin,
                    at: places(origin),
                    path: path().unwrap_or_default(),
                }
            };
            keys.add(self.components, (tuple.scope, key), (&line, &met))
        });
        if !is_taken {
            keys.take_back();
        }
        self.keys = keys;
        is_taken
    }

    /// The key that values make, if they make one.
    fn key_of(&self, tuple: &TupleOf, values: &[ValueAt<'_>]) -> Option<String> {
        let mut key = String::new();
        for field in &tuple.fields {
            match field {
                FieldOf::Constant(field) => field.write_key(&mut key),
                FieldOf::Value(value, of_type) => {
                    let prefixes = |prefix: &str| self.namespace(prefix);
                    let (text, _) = values.get(*value)?;
                    self.components.simple.write_key(*of_type, text, &prefixes, &mut key)?;
                }
            }
        }
        Some(key)
    }

    /// The path of what stands in the next element of the innermost open one.
    fn path_of_next(&self, name: NameId, (written, rest): &(Box<str>, Box<str>)) -> Option<String> {
        let position = self.frames.last()?.counts.next(name.0 as u64);
        Some(format!("{}/{written}[{position}]{rest}", self.path_of(None)))
    }

    /// Begins to learn from the next element; tells whether that can be.
    pub fn start_learning(&mut self) -> bool {
        let scope = self.scope();
        let Some(outer) = self.frames.last() else { return false };
        let (Some(model), false) = (outer.model, outer.is_nil) else { return false };
        // Fields of an element around it may be in it.
        if self.keys.awaits_fields() {
            return false;
        }
        let selectors = self.keys.selectors().map(|all| {
            let of = |one: &Following| (self.keys.constraint(one), *one);
            all.iter().map(of).collect()
        });
        let depth = self.frames.len();
        let context = Context { scope, depth, selectors };
        self.keys.settled = Some(Vec::new());
        self.learning = Some(Learning {
            found: self.found.len(),
            outer: model,
            context,
            name: None,
            checks: Vec::new(),
            is_possible: true,
        });
        true
    }

    /// Ends learning without having learned anything.
    pub fn stop_learning(&mut self) {
        self.learning = None;
        self.keys.settled = None;
    }

    /// Learns of a template from the element that ended last, at byte `end`, whose start tag was the first one after
    /// [`start_learning`](Self::start_learning). Nothing is learned of one that is not valid. Tells whether elements like it can be learned
    /// from.
    pub fn learn(
        &mut self,
        template: usize,
        (values, end): (&[ValueAt<'_>], usize),
        base: Base,
    ) -> bool {
        let learning = self.learning.take();
        let settled = self.keys.settled.take();
        let Some((learning, settled)) = learning.zip(settled) else { return false };
        let Learning { found, outer, context, name, checks, is_possible } = learning;
        if found < self.found.len() {
            return true;
        }
        let is_one = context.depth == self.frames.len();
        let Some(name) = name.filter(|_| is_possible && is_one) else { return false };
        let (number, state) = outer;
        let namespace = self.components.names.namespace(name);
        let model = &self.components.models[number];
        let step = self.run(number).step(model, state, (Some(name), namespace));
        let Some((_, Fit::Element(element))) = step else { return false };
        let value_at = |origin: Origin| {
            let at = base.offset(origin);
            values.binary_search_by_key(&at, |(_, at)| *at).ok().filter(|_| origin.is_known())
        };
        // A text that is no value belongs to what is always the same.
        let check = |(of_type, fixed, origin)| {
            value_at(origin).map(|value| Check { value, of_type, fixed })
        };
        let checks = checks.into_iter().filter_map(check).collect();
        let around = self.path_of(None);
        let tuple = |Settled { scope, origin, path, fields }: Settled| {
            let at = base.offset(origin);
            let value = values.partition_point(|(_, value)| *value < at);
            let element = (value, values.get(value).map_or(end, |(_, at)| *at) - at);
            let field = |field: Field| match value_at(field.origin) {
                Some(value) => FieldOf::Value(value, field.of_type),
                None => FieldOf::Constant(field),
            };
            let fields = fields.into_iter().map(field).collect();
            let path = path.and_then(|path| {
                let own = path.strip_prefix(&around)?.strip_prefix('/')?;
                let (written, rest) = own.split_once('[')?;
                Some((written.into(), rest.split_once(']')?.1.into()))
            });
            TupleOf { scope, element, path, fields }
        };
        let tuples = settled.into_iter().map(tuple).collect();
        let templates = &mut self.known.templates;
        if templates.len() <= template {
            templates.resize_with(template + 1, Vec::new);
        }
        templates[template].push(Template { context, name, element, checks, tuples });
        true
    }
}
