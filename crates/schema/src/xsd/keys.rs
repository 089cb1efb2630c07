//! Keys and references to them, as a document goes by (XSD 1.0 part 1 section 3.11.4).
//!
//! A constraint is in force while the element is open that it stands on. Its selector is matched step by step as elements begin;
//! for each element that is selected a [`Selection`] waits for the values of the fields, until that element ends.

use std::collections::HashMap;

use foldhash::fast::RandomState;
use indexmap::IndexMap;
use indexmap::map::Entry;
use kyanite_tree::{LineColumn, Origin};
use smallvec::SmallVec;

use super::components::{Components, ConstraintId, SimpleId};
use super::identity::{Kind, Path};
use super::value::text_of_key;

/// A constraint that is in force.
#[derive(Debug)]
pub(super) struct Scope {
    constraint: ConstraintId,
    depth: usize,
    /// The keys that were met.
    keys: Table,
    /// Of a keyref, those that have to be there.
    references: HashMap<String, Met, RandomState>,
}

/// Keys, and the lines that they were met in. Their hashes are kept, so that no key is looked at when there are more.
type Table = IndexMap<String, u64, RandomState>;

/// An element whose fields are a key or a reference, and where it is. How it is shown and its path are there of references only.
#[derive(Clone, Debug)]
pub(super) struct Met {
    pub(super) shown: String,
    pub(super) origin: Origin,
    pub(super) at: LineColumn,
    pub(super) path: String,
}

/// An element that a selector led to.
#[derive(Debug)]
struct Selection {
    scope: usize,
    depth: usize,
    values: SmallVec<[FieldValue; 1]>,
    met: Met,
}

/// A path that is being followed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) struct Following {
    /// The scope, or the selection.
    owner: usize,
    /// The field, of a selection.
    field: usize,
    path: usize,
    position: usize,
}

/// What stands at one depth of the document.
#[derive(Debug, Default)]
struct Level {
    selectors: Vec<Following>,
    fields: Vec<Following>,
    /// Fields that are the element itself: the selection and the field.
    targets: Vec<(usize, usize)>,
    /// Keys of elements inside, for references from around.
    tables: Vec<(ConstraintId, Table)>,
}

/// All constraints in force.
#[derive(Debug, Default)]
pub(super) struct Keys {
    scopes: Vec<Scope>,
    selections: Vec<Selection>,
    levels: Vec<Level>,
    depth: usize,
    /// What elements that ended had as keys, for whoever wants to know.
    pub(super) settled: Option<Vec<Settled>>,
    /// The scopes that keys were added to since [`start_adding`](Self::start_adding).
    added: Vec<usize>,
}

/// The fields of an element that was selected.
#[derive(Debug)]
pub(super) struct Settled {
    pub(super) scope: usize,
    /// Where the element is.
    pub(super) origin: Origin,
    /// Its path, of a reference.
    pub(super) path: Option<String>,
    pub(super) fields: SmallVec<[Field; 1]>,
}

/// A constraint that is broken.
pub(super) struct Broken {
    pub(super) message: String,
    pub(super) constraint: ConstraintId,
    pub(super) met: Met,
    /// How many elements above the innermost open one it is; None where its path is known.
    pub(super) above: Option<usize>,
}

/// The value of a field, if it has one.
pub(super) type FieldValue = Option<Field>;

/// A value by its key, and its text, where that is another.
#[derive(Clone, Debug)]
pub(super) struct Field {
    key: String,
    text: Option<Box<str>>,
    pub(super) of_type: SimpleId,
    /// Where the text is.
    pub(super) origin: Origin,
}

impl Field {
    pub(super) fn new(key: String, text: &str, of_type: SimpleId, origin: Origin) -> Self {
        let text = (text_of_key(&key) != Some(text)).then(|| text.into());
        Self { key, text, of_type, origin }
    }

    /// Adds what it is to a key.
    pub(super) fn write_key(&self, out: &mut String) {
        out.push_str(&self.key);
    }

    pub(super) fn text(&self) -> &str {
        self.text.as_deref().or_else(|| text_of_key(&self.key)).unwrap_or_default()
    }
}

/// Gives the values of the attributes that a path means, one by one.
type Attributes<'b> = dyn Fn(&Path, &mut dyn FnMut(FieldValue)) + 'b;

/// An element that begins, as constraints see it.
pub(super) struct Begun<'b> {
    pub(super) namespace: &'b str,
    pub(super) local: &'b str,
    /// The constraints that stand on it.
    pub(super) constraints: &'b [ConstraintId],
    /// Where it is.
    pub(super) met: &'b dyn Fn() -> Met,
    /// The values of the attributes that a path means.
    pub(super) attributes: &'b Attributes<'b>,
}

impl Keys {
    /// Forgets all.
    pub(super) fn clear(&mut self) {
        self.scopes.clear();
        self.selections.clear();
        self.levels.clear();
        self.depth = 0;
    }

    /// Whether no constraint is in force.
    #[inline]
    pub(super) fn is_idle(&self) -> bool {
        self.scopes.is_empty()
    }

    /// The paths of selectors that are followed into elements of the innermost open one; None where no constraint is in force.
    #[inline]
    pub(super) fn selectors(&self) -> Option<&[Following]> {
        let level = self.depth.checked_sub(1).filter(|_| !self.is_idle())?;
        Some(&self.levels.get(level)?.selectors)
    }

    /// Whether elements of the innermost open one may be fields of a key.
    #[inline]
    pub(super) fn awaits_fields(&self) -> bool {
        let level = self.depth.checked_sub(1).and_then(|level| self.levels.get(level));
        !self.is_idle() && level.is_some_and(|level| !level.fields.is_empty())
    }

    /// The constraint that a selector belongs to.
    #[inline]
    pub(super) fn constraint(&self, selector: &Following) -> ConstraintId {
        self.scopes[selector.owner].constraint
    }

    /// Keys that are added from here on can be taken back.
    pub(super) fn start_adding(&mut self) {
        self.added.clear();
    }

    /// Takes the keys back that were added. References stay: whoever is asked again refers to the same.
    pub(super) fn take_back(&mut self) {
        for scope in self.added.drain(..) {
            self.scopes[scope].keys.pop();
        }
    }

    /// Adds the key of an element that is selected, in a scope; tells whether it is a new one. `line` and `met` tell where the element
    /// is.
    pub(super) fn add(
        &mut self,
        components: &Components,
        (number, key): (usize, String),
        (line, met): (&dyn Fn() -> u64, &dyn Fn() -> Met),
    ) -> bool {
        let scope = &mut self.scopes[number];
        if let Kind::Reference(_) = components.constraints[scope.constraint.0].kind {
            scope.references.entry(key).or_insert_with(met);
            return true;
        }
        let Entry::Vacant(place) = scope.keys.entry(key) else { return false };
        place.insert(line());
        self.added.push(number);
        true
    }

    /// An element begins.
    pub(super) fn begin(
        &mut self,
        components: &Components,
        begun: &Begun<'_>,
        broken: &mut Vec<Broken>,
    ) {
        let depth = self.depth;
        self.depth += 1;
        while self.levels.len() <= depth {
            self.levels.push(Level::default());
        }
        let mut own = std::mem::take(&mut self.levels[depth]);
        own.selectors.clear();
        own.fields.clear();
        own.targets.clear();
        own.tables.clear();
        let mut selected = Vec::new();
        if depth > 0 {
            let outer = &self.levels[depth - 1];
            for following in &outer.selectors {
                let constraint = self.scopes[following.owner].constraint;
                let path = &components.constraints[constraint.0].selector[following.path];
                if follow(path, *following, (begun.namespace, begun.local), &mut own.selectors) {
                    selected.push(following.owner);
                }
            }
            let mut met = Vec::new();
            for following in &outer.fields {
                let selection = &self.selections[following.owner];
                let constraint = self.scopes[selection.scope].constraint;
                let path =
                    &components.constraints[constraint.0].fields[following.field][following.path];
                if follow(path, *following, (begun.namespace, begun.local), &mut own.fields) {
                    met.push((following.owner, following.field, path));
                }
            }
            for (selection, field, path) in met {
                self.reach((selection, field), path, begun, &mut own, components, broken);
            }
        }
        for constraint in begun.constraints {
            let scope = self.scopes.len();
            self.scopes.push(Scope {
                constraint: *constraint,
                depth,
                keys: Table::default(),
                references: HashMap::default(),
            });
            for (number, path) in components.constraints[constraint.0].selector.iter().enumerate() {
                let following = Following { owner: scope, field: 0, path: number, position: 0 };
                if path.steps.is_empty() {
                    selected.push(scope);
                }
                if !path.steps.is_empty() || path.is_deep {
                    own.selectors.push(following);
                }
            }
        }
        selected.sort_unstable();
        selected.dedup();
        for scope in selected {
            self.select(scope, depth, begun, &mut own, components, broken);
        }
        self.levels[depth] = own;
    }

    fn select(
        &mut self,
        scope: usize,
        depth: usize,
        begun: &Begun<'_>,
        own: &mut Level,
        components: &Components,
        broken: &mut Vec<Broken>,
    ) {
        let constraint = &components.constraints[self.scopes[scope].constraint.0];
        let selection = self.selections.len();
        let values = SmallVec::from_elem(None, constraint.fields.len());
        self.selections.push(Selection { scope, depth, values, met: (begun.met)() });
        for (field, paths) in constraint.fields.iter().enumerate() {
            for (number, path) in paths.iter().enumerate() {
                if path.steps.is_empty() {
                    self.reach((selection, field), path, begun, own, components, broken);
                }
                if !path.steps.is_empty() || path.is_deep {
                    own.fields.push(Following {
                        owner: selection,
                        field,
                        path: number,
                        position: 0,
                    });
                }
            }
        }
    }

    /// A field is this element, or attributes of it.
    fn reach(
        &mut self,
        (selection, field): (usize, usize),
        path: &Path,
        begun: &Begun<'_>,
        own: &mut Level,
        components: &Components,
        broken: &mut Vec<Broken>,
    ) {
        if path.attribute.is_none() {
            own.targets.push((selection, field));
            return;
        }
        (begun.attributes)(path, &mut |value| {
            self.set((selection, field), value, self.depth - 1, components, broken);
        });
    }

    /// A field has a value, in an element at that level.
    fn set(
        &mut self,
        (selection, field): (usize, usize),
        value: FieldValue,
        level: usize,
        components: &Components,
        broken: &mut Vec<Broken>,
    ) {
        let scope = self.selections[selection].scope;
        let constraint = self.scopes[scope].constraint;
        let place = &mut self.selections[selection].values[field];
        if place.is_some() {
            let name = components.names.local(components.constraints[constraint.0].name);
            let message = format!(
                "a field of {name:?} is there more than once, and it can be one value only"
            );
            let met = self.selections[selection].met.clone();
            let above = Some(level - self.selections[selection].depth);
            broken.push(Broken { message, constraint, met, above });
        } else {
            *place = value;
        }
    }

    /// An element ends; `value` is what its text spells, if it has only text.
    pub(super) fn end(
        &mut self,
        components: &Components,
        (value, path): (&dyn Fn() -> FieldValue, &dyn Fn() -> String),
        broken: &mut Vec<Broken>,
    ) {
        let Some(depth) = self.depth.checked_sub(1) else { return };
        self.depth = depth;
        let targets = std::mem::take(&mut self.levels[depth].targets);
        if !targets.is_empty() {
            let value = value();
            for (selection, field) in targets {
                self.set((selection, field), value.clone(), depth, components, broken);
            }
        }
        while self.selections.last().is_some_and(|selection| selection.depth == depth) {
            if let Some(selection) = self.selections.pop() {
                self.settle(selection, path, components, broken);
            }
        }
        self.end_scopes(depth, components, broken);
    }

    /// A selected element ends: its fields make a key.
    fn settle(
        &mut self,
        selection: Selection,
        path: &dyn Fn() -> String,
        components: &Components,
        broken: &mut Vec<Broken>,
    ) {
        let scope = &mut self.scopes[selection.scope];
        let constraint = &components.constraints[scope.constraint.0];
        let name = components.names.local(constraint.name);
        let Selection { scope: number, values, met, .. } = selection;
        let fields: Option<SmallVec<[Field; 1]>> = values.into_iter().collect();
        let Some(mut fields) = fields else {
            if constraint.kind == Kind::Key {
                let message = format!(
                    "the key {name:?} needs {} here, and not all of it is there",
                    constraint.written
                );
                let (constraint, above) = (scope.constraint, Some(0));
                broken.push(Broken { message, constraint, met, above });
            }
            return;
        };
        let is_reference = matches!(constraint.kind, Kind::Reference(_));
        if let Some(settled) = &mut self.settled {
            let path = is_reference.then(path);
            let (scope, origin, fields) = (number, met.origin, fields.clone());
            settled.push(Settled { scope, origin, path, fields });
        }
        if is_reference {
            let met = || Met { shown: shown(&fields), path: path(), ..met };
            scope.references.entry(joined(&fields)).or_insert_with(met);
            return;
        }
        match scope.keys.entry(key(&mut fields)) {
            Entry::Occupied(known) => {
                let shown = match fields.as_slice() {
                    [Field { text: None, .. }] => {
                        text_of_key(known.key()).unwrap_or_default().to_owned()
                    }
                    several => shown(several),
                };
                let line = known.get();
                let message = format!(
                    "{shown:?} is there twice for {name:?}; it stands in line {line} already"
                );
                let (constraint, above) = (scope.constraint, Some(0));
                broken.push(Broken { message, constraint, met, above });
            }
            Entry::Vacant(place) => {
                place.insert(met.at.line);
            }
        }
    }

    /// The constraints of an element end with it: first keys, then references, which may be to keys of elements inside.
    fn end_scopes(&mut self, depth: usize, components: &Components, broken: &mut Vec<Broken>) {
        let first =
            self.scopes.iter().rposition(|scope| scope.depth != depth).map_or(0, |at| at + 1);
        let mut tables = std::mem::take(&mut self.levels[depth].tables);
        if first == self.scopes.len() && tables.is_empty() {
            return;
        }
        let ended = self.scopes.split_off(first);
        let (references, keys): (Vec<Scope>, Vec<Scope>) = ended.into_iter().partition(|scope| {
            matches!(components.constraints[scope.constraint.0].kind, Kind::Reference(_))
        });
        for scope in keys {
            if components.constraints[scope.constraint.0].is_referred {
                add_table(&mut tables, scope.constraint, scope.keys);
            }
        }
        for scope in references {
            let constraint = &components.constraints[scope.constraint.0];
            let Kind::Reference(refer) = constraint.kind else { continue };
            let table = tables.iter().find(|(of, _)| *of == refer).map(|(_, table)| table);
            let name = components.names.local(components.constraints[refer.0].name);
            let mut lost: Vec<Met> = scope
                .references
                .into_iter()
                .filter(|(key, _)| !table.is_some_and(|table| table.contains_key(key.as_str())))
                .map(|(_, met)| met)
                .collect();
            lost.sort_by_key(|met| met.at);
            for met in lost {
                let message =
                    format!("{:?} refers to {name:?}, and nothing there has this value", met.shown);
                let (constraint, above) = (scope.constraint, None);
                broken.push(Broken { message, constraint, met, above });
            }
        }
        // Only references of elements around may still ask for them.
        let is_asked = |of: ConstraintId| {
            self.scopes
                .iter()
                .any(|scope| components.constraints[scope.constraint.0].kind == Kind::Reference(of))
        };
        tables.retain(|(of, _)| is_asked(*of));
        if let Some(outer) = depth.checked_sub(1) {
            for (of, table) in tables {
                add_table(&mut self.levels[outer].tables, of, table);
            }
        }
    }
}

/// Fields as they are shown.
fn shown(fields: &[Field]) -> String {
    let texts: Vec<&str> = fields.iter().map(Field::text).collect();
    texts.join(", ")
}

/// The key of fields; that of one that spells its key itself is taken from it.
fn key(fields: &mut [Field]) -> String {
    match fields {
        [one] if one.text.is_none() => std::mem::take(&mut one.key),
        several => joined(several),
    }
}

/// The key of several fields.
fn joined(fields: &[Field]) -> String {
    fields.iter().map(|field| field.key.as_str()).collect()
}

fn add_table(tables: &mut Vec<(ConstraintId, Table)>, of: ConstraintId, keys: Table) {
    match tables.iter_mut().find(|(known, _)| *known == of) {
        // The smaller goes into the larger, so that no key is moved more often than its elements are deep.
        Some((_, known)) if known.len() >= keys.len() => known.extend(keys),
        Some((_, known)) => {
            let smaller = std::mem::replace(known, keys);
            known.extend(smaller);
        }
        None => tables.push((of, keys)),
    }
}

/// Follows a path by one element; tells whether it ends there.
fn follow(
    path: &Path,
    following: Following,
    (namespace, local): (&str, &str),
    next: &mut Vec<Following>,
) -> bool {
    if path.is_deep && following.position == 0 {
        next.push(following);
    }
    match path.steps.get(following.position) {
        // `.//.` is every element below.
        None => path.is_deep && path.steps.is_empty(),
        Some(step) if step.fits(namespace, local) => {
            let position = following.position + 1;
            let is_end = position == path.steps.len();
            if !is_end {
                next.push(Following { position, ..following });
            }
            is_end
        }
        Some(_) => false,
    }
}
