//! Documents against a schema, as their elements begin and end (XSD 1.0 part 1 sections 3.2.4, 3.3.4 and 3.4.4).
//!
//! What is kept is what is open: a document of any size is validated in memory for its depth, and for its keys and identifiers.

use std::collections::HashMap;

use kyanite_tree::{Advice, Attribute, LineColumn, Name, Origin, is_blank, near_words};

use super::Schema;
use super::builtin::ANY_SIMPLE;
use super::check::block_of;
use super::components::{
    AttributeDeclaration, Components, Content, ElementId, NameId, SimpleId, TypeId,
};
use super::documents::XSI;
use super::identity::Path;
use super::keys::{Begun, Broken, FieldValue, Keys, Met};
use super::model::{Fit, Leaf, Model, Run, State};
use super::simple::{Named, Role, Wrong, normalized, shown};
use super::wildcard::Process;
use crate::{Finding, RulePlace};

/// Something in a document that breaks the schema.
#[derive(Clone, Debug)]
pub struct Found {
    /// What is wrong, and where.
    pub finding: Finding,
    /// The path of the element or attribute, as an XPath.
    pub path: String,
    /// The line and column, where the text may be gone by the time that this is known.
    pub at: Option<LineColumn>,
}

/// Tells lines and columns of what is being read.
pub type Places<'p> = &'p dyn Fn(Origin) -> LineColumn;

/// How an element is looked at.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Mode {
    /// By its type.
    Typed(TypeId),
    /// It would have to be declared, and is not.
    Undeclared,
    /// Only elements in it that are declared.
    Lax,
    /// Not at all.
    Skipped,
}

/// An open element.
#[derive(Debug)]
struct Frame {
    /// How many elements of its name stand before it, with itself.
    position: u32,
    declared: Option<ElementId>,
    mode: Mode,
    /// The model of its content, and the state in that.
    model: Option<(usize, State)>,
    /// Particles that were taken to be missing: where such an element comes later, it stands too late, and that was said.
    missed: Vec<u32>,
    is_nil: bool,
    /// Whether it was said already that something in it stands where it may not.
    has_odd_text: bool,
    has_content: bool,
    /// Where its name begins in the names of all that are open, and its text in their texts.
    name_start: usize,
    text_start: usize,
    keeps_text: bool,
    text_origin: Origin,
    origin: Origin,
    bindings: usize,
    counts: Counts,
}

/// How often children of each name were met.
#[derive(Debug, Default)]
struct Counts {
    few: Vec<(u64, u32)>,
    more: Option<HashMap<u64, u32>>,
}

/// Up to so many names are looked through one by one.
const FEW: usize = 8;

impl Counts {
    fn count(&mut self, name: u64) -> u32 {
        if let Some((_, count)) = self.few.iter_mut().find(|(known, _)| *known == name) {
            *count = count.saturating_add(1);
            return *count;
        }
        if self.few.len() < FEW {
            self.few.push((name, 1));
            return 1;
        }
        let count = self.more.get_or_insert_default().entry(name).or_default();
        *count = count.saturating_add(1);
        *count
    }
}

/// Validates documents, one after another.
#[derive(Debug)]
pub struct Validator<'s> {
    components: &'s Components,
    /// The models that were used.
    runs: Vec<Option<Run>>,
    frames: Vec<Frame>,
    /// Frames that ended, for others to take their room.
    spare: Vec<Counts>,
    /// The names of the open elements as they are written.
    names: String,
    /// The texts of those that have only text.
    texts: String,
    /// Prefixes that are declared, and namespaces.
    bindings: Vec<(String, String)>,
    keys: Keys,
    /// Identifiers that were met.
    identifiers: HashMap<String, ()>,
    /// Identifiers that were referred to and not met yet.
    references: HashMap<String, Met>,
    found: Vec<Found>,
    /// Named values of the text that is being looked at.
    named: Vec<Named>,
}

impl<'s> Validator<'s> {
    /// A validator for a schema.
    #[must_use]
    pub fn new(schema: &'s Schema) -> Self {
        let components = &schema.components;
        Self {
            components,
            runs: components.models.iter().map(|_| None).collect(),
            frames: Vec::new(),
            spare: Vec::new(),
            names: String::new(),
            texts: String::new(),
            bindings: Vec::new(),
            keys: Keys::default(),
            identifiers: HashMap::new(),
            references: HashMap::new(),
            found: Vec::new(),
            named: Vec::new(),
        }
    }

    /// What was found since this was last asked.
    pub fn take_found(&mut self) -> Vec<Found> {
        std::mem::take(&mut self.found)
    }

    /// The document ends; the next may begin.
    pub fn finish(&mut self) {
        let mut lost: Vec<(String, Met)> = self.references.drain().collect();
        lost.retain(|(name, _)| !self.identifiers.contains_key(name));
        lost.sort_by_key(|(_, met)| met.at);
        for (name, met) in lost {
            let message = format!("{name:?} refers to an identifier, and no element has it");
            let rule = RulePlace { origin: Origin::NONE, keyword: "IDREF" };
            let finding = Finding { message, advice: None, origin: met.origin, rule };
            self.found.push(Found { finding, path: met.path, at: Some(met.at) });
        }
        self.give_up();
    }

    /// The document is given up; the next may begin.
    pub fn give_up(&mut self) {
        self.references.clear();
        self.frames.clear();
        self.names.clear();
        self.texts.clear();
        self.bindings.clear();
        self.keys.clear();
        self.identifiers.clear();
    }

    /// An element begins. Declarations of namespaces are among its attributes.
    pub fn begin(
        &mut self,
        name: Name<'_>,
        attributes: &[Attribute<'_>],
        origin: Origin,
        places: Places<'_>,
    ) {
        let bindings = self.bindings.len();
        let (mut own_type, mut own_nil) = (None, None);
        for attribute in attributes {
            if attribute.name.declares_namespace() {
                let prefix = attribute.name.qualified().strip_prefix("xmlns:").unwrap_or_default();
                self.bindings.push((prefix.to_owned(), attribute.value.to_owned()));
            } else if attribute.name.namespace() == XSI {
                match attribute.name.local() {
                    "type" => own_type = Some(attribute),
                    "nil" => own_nil = Some(attribute),
                    _ => {}
                }
            }
        }
        let id = self.components.names.find(name.namespace(), name.local());
        let counted = id.map_or_else(|| hash(name), |id| id.0 as u64);
        let position = match self.frames.last_mut() {
            Some(outer) => {
                outer.has_content = true;
                outer.counts.count(counted)
            }
            None => 1,
        };
        let frame = Frame {
            position,
            declared: None,
            mode: Mode::Lax,
            model: None,
            missed: Vec::new(),
            is_nil: false,
            has_odd_text: false,
            has_content: false,
            name_start: self.names.len(),
            text_start: self.texts.len(),
            keeps_text: false,
            text_origin: Origin::NONE,
            origin,
            bindings,
            counts: self.spare.pop().unwrap_or_default(),
        };
        // Where it may stand is asked of the element around it; what is said of it names it itself.
        let (declared, mode) = self.placed(name, id, &frame);
        self.frames.push(frame);
        self.names.push_str(name.qualified());
        let (declared, mode) = self.typed(name, (declared, mode), own_type);
        let is_nil = own_nil.is_some_and(|nil| self.nil(declared, mode, nil));
        let model = match mode {
            Mode::Typed(TypeId::Complex(id)) => match self.components.complex(id).content {
                Content::Elements(model) => {
                    Some((model, Run::start(&self.components.models[model])))
                }
                _ => None,
            },
            _ => None,
        };
        let has_text_type = match mode {
            Mode::Typed(id) => self.components.text_type(id).is_some(),
            _ => false,
        };
        let given = declared.and_then(|id| self.components.element(id).given.as_ref());
        if let Some(frame) = self.frames.last_mut() {
            (frame.declared, frame.mode, frame.model, frame.is_nil) =
                (declared, mode, model, is_nil);
            frame.keeps_text = has_text_type || given.is_some() && mode != Mode::Skipped;
        }
        if mode != Mode::Skipped {
            self.attributes(mode, attributes, origin, places);
        }
        self.begin_keys(name, declared, mode, attributes, (origin, places));
    }

    /// What an element is by where it stands.
    fn placed(
        &mut self,
        name: Name<'_>,
        id: Option<NameId>,
        frame: &Frame,
    ) -> (Option<ElementId>, Mode) {
        let components = self.components;
        let global = || id.and_then(|id| components.global_elements.get(&id).copied());
        let Some(outer) = self.frames.last() else {
            let global = global();
            return (global, if global.is_some() { Mode::Lax } else { Mode::Undeclared });
        };
        match (outer.mode, outer.model) {
            (Mode::Skipped, _) => (None, Mode::Skipped),
            (Mode::Lax | Mode::Undeclared, _) => (global(), Mode::Lax),
            (Mode::Typed(_), Some((model, state))) if !outer.is_nil => {
                self.step(name, id, (model, state), frame)
            }
            (Mode::Typed(of_type), _) => {
                let message = match outer.is_nil {
                    true => format!("<{}> is nil, and nothing may stand in it", self.open_name()),
                    false => format!(
                        "<{}> is {}, and no element may stand in it",
                        self.open_name(),
                        self.described(of_type)
                    ),
                };
                self.tell_child(message, None, (frame, name), self.type_place(of_type));
                (global(), Mode::Lax)
            }
        }
    }

    /// A type in words.
    fn described(&self, of_type: TypeId) -> String {
        match of_type {
            TypeId::Complex(id)
                if matches!(self.components.complex(id).content, Content::Empty) =>
            {
                "empty".into()
            }
            _ => match self.components.text_type(of_type) {
                Some(id) => format!("of type {}", self.components.simple.name(id)),
                None => format!("of type {}", self.components.type_name(of_type)),
            },
        }
    }

    fn type_place(&self, of_type: TypeId) -> RulePlace {
        let origin = match of_type {
            TypeId::Simple(id) => self.components.simple.get(id).origin,
            TypeId::Complex(id) => self.components.complex(id).origin,
        };
        RulePlace { origin, keyword: "type" }
    }

    /// The run of a model.
    fn run(&mut self, model: usize) -> &mut Run {
        let components = self.components;
        self.runs[model].get_or_insert_with(|| Run::new(&components.models[model]))
    }

    /// An element in content that has a model.
    fn step(
        &mut self,
        name: Name<'_>,
        id: Option<NameId>,
        (number, state): (usize, State),
        frame: &Frame,
    ) -> (Option<ElementId>, Mode) {
        let components = self.components;
        let model = &components.models[number];
        let step = self.run(number).step(model, state, (id, name.namespace()));
        let (next, fit) = match step {
            Some(step) => step,
            None if let Some(late) = self.late(model, id) => return (Some(late), Mode::Lax),
            None => match self.misplaced(name, id, (number, state), frame) {
                Some(step) => step,
                None => {
                    let known = id.and_then(|id| {
                        model.declared(id).or_else(|| components.global_elements.get(&id).copied())
                    });
                    return (known, Mode::Lax);
                }
            },
        };
        if let Some(outer) = self.frames.last_mut() {
            outer.model = Some((number, next));
        }
        match fit {
            Fit::Element(id) => (Some(id), Mode::Lax),
            Fit::Wildcard(leaf) => {
                let global = id.and_then(|id| components.global_elements.get(&id).copied());
                let Leaf::Wildcard(wildcard) = &model.leaves[leaf as usize].0 else {
                    return (global, Mode::Lax);
                };
                match (wildcard.process, global) {
                    (Process::Skip, _) => (None, Mode::Skipped),
                    (Process::Strict, None) => (None, Mode::Undeclared),
                    (_, global) => (global, Mode::Lax),
                }
            }
        }
    }

    /// Whether an element was missing before; gives its declaration.
    fn late(&mut self, model: &Model, id: Option<NameId>) -> Option<ElementId> {
        let missed = &mut self.frames.last_mut()?.missed;
        let at = missed.iter().position(|leaf| model.is_named(*leaf, id))?;
        missed.swap_remove(at);
        model.declared(id?)
    }

    /// Says that an element may not stand where it does. If it may behind others that are missing, it goes on from there.
    fn misplaced(
        &mut self,
        name: Name<'_>,
        id: Option<NameId>,
        (number, state): (usize, State),
        frame: &Frame,
    ) -> Option<(State, Fit)> {
        let components = self.components;
        let model = &components.models[number];
        let run = self.run(number);
        let first = run.first(state);
        let mut met = std::collections::HashSet::from([state]);
        let mut left = vec![(state, Vec::new())];
        let mut behind = None;
        'search: for _ in 0..MISSING {
            let mut next = Vec::new();
            for (from, passed) in left {
                for leaf in run.first(from) {
                    let to = run.behind(from, leaf);
                    if !met.insert(to) || met.len() > SEARCHED {
                        continue;
                    }
                    let mut passed: Vec<u32> = passed.clone();
                    passed.push(leaf);
                    if let Some(step) = run.step(model, to, (id, name.namespace())) {
                        behind = Some((step, passed));
                        break 'search;
                    }
                    next.push((to, passed));
                }
            }
            left = next;
        }
        let expected = self.expected(number, &first);
        let local = name.local();
        let message = match expected.as_slice() {
            [] => format!("nothing more may stand in <{}>, found {local}", self.open_name()),
            expected => format!("expected {}, found {local}", listed(expected)),
        };
        let advice = self.about(name, number, &expected);
        let rule = first.first().and_then(|leaf| model.leaves.get(*leaf as usize));
        let origin = rule.map(|(_, origin)| *origin).filter(|origin| origin.is_known());
        let outer = self.frames.last().map_or(Mode::Lax, |outer| outer.mode);
        let rule = match (origin, outer) {
            (Some(origin), _) => RulePlace { origin, keyword: "content" },
            (None, Mode::Typed(of_type)) => self.type_place(of_type),
            _ => RulePlace { origin: Origin::NONE, keyword: "content" },
        };
        self.tell_child(message, advice, (frame, name), rule);
        let (step, passed) = behind?;
        if let Some(outer) = self.frames.last_mut() {
            outer.missed.extend(passed);
        }
        Some(step)
    }

    /// What is known about an element that stands where it may not.
    fn about(&self, name: Name<'_>, number: usize, expected: &[String]) -> Option<String> {
        let components = self.components;
        let model = &components.models[number];
        let names = model.leaves.iter().filter_map(|(leaf, _)| match leaf {
            Leaf::Element(id) => Some(components.element(*id).name),
            Leaf::Wildcard(_) => None,
        });
        let local = name.local();
        let mut others = names.clone().filter(|id| components.names.local(*id) == local);
        if let Some(other) = others.next() {
            let (wanted, there) = (components.names.namespace(other), name.namespace());
            if wanted != there {
                return Some(match (wanted, there) {
                    ("", there) => format!("it is in the namespace {there}, and has to be in none"),
                    (wanted, "") => format!("it is in no namespace, and has to be in {wanted}"),
                    (wanted, there) => {
                        format!("it is in the namespace {there}, and has to be in {wanted}")
                    }
                });
            }
            return Some(format!("{local} may stand in <{}>, but not here", self.open_name()));
        }
        let all: Vec<&str> = names.map(|id| components.names.local(id)).take(SHOWN_NAMES).collect();
        near_words(local, expected.iter().map(String::as_str))
            .or_else(|| near_words(local, all.iter().copied()))
    }

    /// The names that may come next.
    fn expected(&self, number: usize, leaves: &[u32]) -> Vec<String> {
        let components = self.components;
        let mut names = Vec::new();
        for leaf in leaves {
            match &components.models[number].leaves[*leaf as usize].0 {
                Leaf::Wildcard(wildcard) => names.push(wildcard.namespaces.phrase()),
                Leaf::Element(id) => {
                    let others = components.substitutes.get(id).into_iter().flatten();
                    let all = std::iter::once(id).chain(others);
                    let may_be = all.filter(|id| !components.element(**id).is_abstract);
                    names.extend(
                        may_be.map(|id| {
                            components.names.local(components.element(*id).name).to_owned()
                        }),
                    );
                }
            }
        }
        let mut seen = std::collections::HashSet::new();
        names.retain(|name| seen.insert(name.clone()));
        names
    }

    /// The type of an element: that of its declaration, or the one that it says itself.
    fn typed(
        &mut self,
        name: Name<'_>,
        (declared, mode): (Option<ElementId>, Mode),
        own_type: Option<&Attribute<'_>>,
    ) -> (Option<ElementId>, Mode) {
        let components = self.components;
        if mode == Mode::Skipped {
            return (None, mode);
        }
        let own = own_type.and_then(|attribute| self.type_of_name(attribute));
        let Some(id) = declared else {
            return match (own, mode) {
                (Some(own), _) => (None, Mode::Typed(own)),
                (None, Mode::Undeclared) => {
                    self.undeclared(name);
                    (None, Mode::Lax)
                }
                (None, mode) => (None, mode),
            };
        };
        let element = components.element(id);
        let rule = RulePlace { origin: element.origin, keyword: "element" };
        if element.is_abstract {
            let others = self.substitutes(id);
            let message = format!(
                "<{}> is abstract: another element has to stand in for it",
                name.qualified()
            );
            let advice = (!others.is_empty()).then(|| format!("there are: {}", others.join(", ")));
            self.tell(message, advice, None, rule);
        }
        let mut of_type = element.of_type;
        if let (Some(own), Some(attribute)) = (own, own_type) {
            let blocked = element.block.with(block_of(components, element.of_type));
            match components.derived(own, element.of_type) {
                Some(methods) if !blocked.has(methods) => of_type = own,
                Some(_) => {
                    let message = format!(
                        "the type {} cannot stand in for {} here: the schema blocks it",
                        components.type_name(own),
                        components.type_name(element.of_type)
                    );
                    self.tell_attribute(message, None, attribute, rule);
                }
                None => {
                    let message = format!(
                        "the type {} is not derived from {}, which <{}> has",
                        components.type_name(own),
                        components.type_name(element.of_type),
                        name.qualified()
                    );
                    self.tell_attribute(message, None, attribute, rule);
                }
            }
        }
        if let TypeId::Complex(complex) = of_type
            && components.complex(complex).is_abstract
        {
            let message = format!(
                "the type {} is abstract: <{}> has to say another one",
                components.type_name(of_type),
                name.qualified()
            );
            let advice = format!("with xsi:type=\"…\"; xsi is the prefix of {XSI}");
            self.tell(message, Some(advice), None, self.type_place(of_type));
        }
        (Some(id), Mode::Typed(of_type))
    }

    fn substitutes(&self, id: ElementId) -> Vec<&'s str> {
        let components = self.components;
        let all = components.substitutes.get(&id).into_iter().flatten();
        let may_be = all.filter(|id| !components.element(**id).is_abstract);
        may_be
            .take(SHOWN_NAMES)
            .map(|id| components.names.local(components.element(*id).name))
            .collect()
    }

    /// Says that an element is not declared, and has to be.
    fn undeclared(&mut self, name: Name<'_>) {
        let components = self.components;
        let local = name.local();
        let globals = || components.global_elements.keys();
        let same = globals().find(|id| components.names.local(**id) == local);
        let advice = match same.map(|id| (components.names.namespace(*id), name.namespace())) {
            Some(("", there)) => {
                Some(format!("it is in the namespace {there}, and the schema has it in none"))
            }
            Some((wanted, "")) => {
                Some(format!("it is in no namespace, and the schema has it in {wanted}"))
            }
            Some((wanted, there)) => {
                Some(format!("it is in the namespace {there}, and the schema has it in {wanted}"))
            }
            None => {
                let mut known: Vec<&str> =
                    globals().map(|id| components.names.local(*id)).collect();
                known.sort_unstable();
                let few = || format!("there are: {}", known.join(", "));
                near_words(local, known.iter().copied())
                    .or_else(|| (known.len() <= SHOWN_NAMES && !known.is_empty()).then(few))
            }
        };
        let rule = RulePlace { origin: Origin::NONE, keyword: "element" };
        self.tell(format!("the schema has no element {local}"), advice, None, rule);
    }

    /// The type that `xsi:type` names.
    fn type_of_name(&mut self, attribute: &Attribute<'_>) -> Option<TypeId> {
        let text = normalized(attribute.value, super::simple::White::Collapse).into_owned();
        let (prefix, local) = text.split_once(':').unwrap_or(("", &text));
        let rule = RulePlace { origin: Origin::NONE, keyword: "xsi:type" };
        let Some(namespace) = self.namespace(prefix) else {
            self.tell_attribute(
                format!("the prefix {prefix:?} is not declared"),
                None,
                attribute,
                rule,
            );
            return None;
        };
        let components = self.components;
        let found = components.names.find(&namespace, local);
        let found = found.and_then(|id| components.global_types.get(&id).copied());
        if found.is_none() {
            let known = components.global_types.keys().map(|id| components.names.local(*id));
            let advice = near_words(local, known);
            self.tell_attribute(
                format!("the schema has no type {text:?}"),
                advice,
                attribute,
                rule,
            );
        }
        found
    }

    /// What a prefix means here.
    fn namespace(&self, prefix: &str) -> Option<String> {
        let own = self.bindings.iter().rev().find(|(known, _)| known == prefix);
        match own {
            Some((_, uri)) => Some(uri.clone()),
            None if prefix == "xml" => Some(super::documents::XML.to_owned()),
            None => prefix.is_empty().then(String::new),
        }
    }

    /// Whether an element says that it is nil, and may.
    fn nil(&mut self, declared: Option<ElementId>, mode: Mode, nil: &Attribute<'_>) -> bool {
        let is_nil = match nil.value.trim() {
            "true" | "1" => true,
            "false" | "0" => false,
            _ => {
                let rule = RulePlace { origin: Origin::NONE, keyword: "xsi:nil" };
                let message = format!("{} is no xs:boolean", shown(nil.value));
                self.tell_attribute(message, None, nil, rule);
                return false;
            }
        };
        let Some(element) = declared.map(|id| self.components.element(id)) else {
            return is_nil && matches!(mode, Mode::Typed(_));
        };
        let rule = RulePlace { origin: element.origin, keyword: "nillable" };
        if !element.is_nillable {
            let message = "this element cannot be nil".to_owned();
            let advice = "the schema would have to say nillable=\"true\"".to_owned();
            self.tell_attribute(message, Some(advice), nil, rule);
            return false;
        }
        if is_nil && element.given.as_ref().is_some_and(|given| given.is_fixed) {
            self.tell_attribute(
                "an element with a fixed value cannot be nil".into(),
                None,
                nil,
                rule,
            );
        }
        is_nil
    }

    /// Checks the attributes of the element that begins.
    fn attributes(
        &mut self,
        mode: Mode,
        attributes: &[Attribute<'_>],
        origin: Origin,
        places: Places<'_>,
    ) {
        let components = self.components;
        let complex = match mode {
            Mode::Typed(TypeId::Complex(id)) => Some(components.complex(id)),
            _ => None,
        };
        let mut met: Vec<NameId> = Vec::new();
        for attribute in attributes {
            if attribute.name.declares_namespace() || attribute.name.namespace() == XSI {
                continue;
            }
            let id = components.names.find(attribute.name.namespace(), attribute.name.local());
            let used = complex.zip(id).and_then(|(complex, id)| complex.attribute(id));
            if let Some(used) = used {
                met.extend(id);
                self.attribute(&used.declaration, attribute, places);
                continue;
            }
            let global = id.and_then(|id| components.global_attributes.get(&id));
            let (Mode::Typed(of_type), wildcard) =
                (mode, complex.and_then(|complex| complex.other_attributes.as_ref()))
            else {
                if let Some(global) = global {
                    self.attribute(global, attribute, places);
                }
                continue;
            };
            match wildcard.filter(|it| it.namespaces.has(attribute.name.namespace())) {
                Some(wildcard) => match (wildcard.process, global) {
                    (Process::Strict, None) => {
                        let rule = RulePlace { origin: wildcard.origin, keyword: "anyAttribute" };
                        let message =
                            format!("the schema has no attribute {}", attribute.name.qualified());
                        self.tell_attribute(message, None, attribute, rule);
                    }
                    (Process::Strict | Process::Lax, Some(global)) => {
                        self.attribute(global, attribute, places);
                    }
                    _ => {}
                },
                None => self.odd_attribute(attribute, of_type),
            }
        }
        let Some(complex) = complex else { return };
        let missing = complex.attributes.iter().filter(|used| used.is_required);
        // Few are required, and an element has few attributes or a schema that lists them.
        for used in missing.filter(|used| !met.contains(&used.declaration.name)) {
            let name = components.names.local(used.declaration.name);
            let there = attributes.iter().map(|attribute| attribute.name.qualified());
            let advice = near_words(name, there);
            let rule = RulePlace { origin: used.declaration.origin, keyword: "use" };
            self.tell(format!("the attribute {name:?} is missing"), advice, Some(origin), rule);
        }
    }

    /// Says that an attribute may not stand on an element of that type.
    fn odd_attribute(&mut self, attribute: &Attribute<'_>, of_type: TypeId) {
        let components = self.components;
        let name = attribute.name.qualified();
        let known: Vec<&str> = match of_type {
            TypeId::Complex(id) => components
                .complex(id)
                .attributes
                .iter()
                .map(|used| components.names.local(used.declaration.name))
                .collect(),
            TypeId::Simple(_) => Vec::new(),
        };
        let advice = near_words(attribute.name.local(), known.iter().copied()).or_else(|| {
            let is_few = !known.is_empty() && known.len() <= SHOWN_NAMES;
            is_few.then(|| format!("there may be: {}", known.join(", ")))
        });
        let message = format!("the attribute {name:?} may not stand here");
        self.tell_attribute(message, advice, attribute, self.type_place(of_type));
    }

    /// Checks the value of an attribute.
    fn attribute(
        &mut self,
        declared: &AttributeDeclaration,
        attribute: &Attribute<'_>,
        places: Places<'_>,
    ) {
        let value = attribute.value;
        match self.simple(declared.of_type, value) {
            Err(wrong) => {
                self.tell_wrong(wrong, declared.origin, Some(attribute), attribute.origin);
            }
            Ok(()) => {
                self.take_named(attribute.origin, Some(attribute.name.qualified()), places);
                if let Some(fixed) = declared.given.as_ref().filter(|given| given.is_fixed)
                    && !self.is_fixed_value(declared.of_type, value, &fixed.text)
                {
                    let message =
                        format!("expected {}, found {}", shown(&fixed.text), shown(value));
                    let rule = RulePlace { origin: fixed.origin, keyword: "fixed" };
                    self.tell_attribute(message, None, attribute, rule);
                }
            }
        }
    }

    fn is_fixed_value(&self, id: SimpleId, text: &str, fixed: &str) -> bool {
        if text == fixed {
            return true;
        }
        let value =
            |text: &str| self.components.simple.value(id, text, &|prefix| self.namespace(prefix));
        match (value(text), value(fixed)) {
            (Some(text), Some(fixed)) => text.is_same(&fixed),
            _ => false,
        }
    }

    /// Checks a text against a simple type; names that it gives or refers to are kept.
    fn simple(&mut self, id: SimpleId, text: &str) -> Result<(), Wrong> {
        let mut named = std::mem::take(&mut self.named);
        named.clear();
        let checked =
            self.components.simple.check(id, text, &|prefix| self.namespace(prefix), &mut named);
        self.named = named;
        checked
    }

    /// Takes up identifiers that the last text gave or referred to.
    fn take_named(&mut self, origin: Origin, attribute: Option<&str>, places: Places<'_>) {
        if self.named.is_empty() {
            return;
        }
        for (role, name) in std::mem::take(&mut self.named) {
            match role {
                Role::Id if self.identifiers.contains_key(&name) => {
                    let rule = RulePlace { origin: Origin::NONE, keyword: "ID" };
                    let message = format!("the identifier {name:?} is given twice");
                    let path = self.path_of(attribute);
                    self.push(message, None, origin, rule, path);
                }
                Role::Id => {
                    self.references.remove(&name);
                    self.identifiers.insert(name, ());
                }
                Role::Reference if !self.identifiers.contains_key(&name) => {
                    let path = self.path_of(attribute);
                    let met = || Met { shown: String::new(), origin, at: places(origin), path };
                    self.references.entry(name).or_insert_with(met);
                }
                _ => {}
            }
        }
    }

    /// Text, or a part of it.
    #[inline]
    pub fn text(&mut self, text: &str, origin: Origin) {
        let Some(frame) = self.frames.last_mut() else { return };
        if frame.keeps_text {
            if !frame.text_origin.is_known() {
                frame.text_origin = origin;
            }
            self.texts.push_str(text);
            return;
        }
        let Mode::Typed(TypeId::Complex(id)) = frame.mode else { return };
        if text.is_empty() {
            return;
        }
        let complex = self.components.complex(id);
        if frame.is_nil {
            frame.has_content = true;
        }
        let is_odd = match complex.content {
            Content::Empty => true,
            _ => !complex.is_mixed && !is_blank(text),
        };
        if is_odd && !frame.has_odd_text {
            frame.has_odd_text = true;
            let is_empty = matches!(complex.content, Content::Empty);
            let begin = text.len() - text.trim_start().len();
            let message = match is_empty {
                true => format!("<{}> is empty, and no text may stand in it", self.open_name()),
                false => format!(
                    "in <{}> stand only elements, found the text {}",
                    self.open_name(),
                    shown(text.trim())
                ),
            };
            let rule = RulePlace { origin: complex.origin, keyword: "content" };
            let origin = if is_empty { origin } else { origin.behind(begin as u64) };
            self.tell(message, None, Some(origin), rule);
        }
    }

    /// The element that was begun last ends, with the end tag at `origin`.
    pub fn end(&mut self, origin: Origin, places: Places<'_>) {
        let Some(frame) = self.frames.last() else { return };
        let (mode, model, is_nil) = (frame.mode, frame.model, frame.is_nil);
        let text_start = frame.text_start;
        if let (Mode::Typed(of_type), Some((number, state))) = (mode, model)
            && !is_nil
            && !self.run(number).may_end(state)
        {
            self.ends_early(of_type, (number, state), origin);
        }
        if is_nil {
            let frame_has_content = frame_content(self.frames.last(), self.texts.len());
            if frame_has_content {
                let message = format!("<{}> is nil, and nothing may stand in it", self.open_name());
                let rule = RulePlace { origin: Origin::NONE, keyword: "xsi:nil" };
                self.tell(message, None, None, rule);
            }
        } else if self.frames.last().is_some_and(|frame| frame.keeps_text) {
            self.end_text(places);
        }
        self.end_keys();
        self.texts.truncate(text_start);
        if let Some(frame) = self.frames.pop() {
            self.names.truncate(frame.name_start);
            self.bindings.truncate(frame.bindings);
            let mut counts = frame.counts;
            counts.few.clear();
            counts.more = None;
            self.spare.push(counts);
        }
    }

    /// Says what is missing at the end of an element.
    fn ends_early(&mut self, of_type: TypeId, (number, state): (usize, State), origin: Origin) {
        let first = self.run(number).first(state);
        let expected = self.expected(number, &first);
        let message =
            format!("<{}> ends too early: expected {}", self.open_name(), listed(&expected));
        let components = self.components;
        let rule =
            first.first().and_then(|leaf| components.models[number].leaves.get(*leaf as usize));
        let rule = match rule.map(|(_, origin)| *origin).filter(|origin| origin.is_known()) {
            Some(origin) => RulePlace { origin, keyword: "content" },
            None => self.type_place(of_type),
        };
        self.tell(message, None, Some(origin), rule);
    }

    /// Checks the text of an element that ends.
    fn end_text(&mut self, places: Places<'_>) {
        let Some(frame) = self.frames.last() else { return };
        let components = self.components;
        let Mode::Typed(of_type) = frame.mode else { return };
        let declared = frame.declared;
        let given = declared.and_then(|id| components.element(id).given.as_ref());
        let origin = if frame.text_origin.is_known() { frame.text_origin } else { frame.origin };
        let has_elements = frame.model.is_some() && frame.has_content;
        let text_start = frame.text_start;
        let texts = std::mem::take(&mut self.texts);
        let text = &texts[text_start..];
        match components.text_type(of_type) {
            Some(id) => {
                let effective = match given {
                    Some(given) if text.is_empty() => given.text.as_str(),
                    _ => text,
                };
                match self.simple(id, effective) {
                    Err(wrong) => {
                        let declared =
                            declared.map_or(Origin::NONE, |id| components.element(id).origin);
                        self.tell_wrong(wrong, declared, None, origin);
                    }
                    Ok(()) => {
                        self.take_named(origin, None, places);
                        if let Some(fixed) = given.filter(|given| given.is_fixed)
                            && !self.is_fixed_value(id, effective, &fixed.text)
                        {
                            self.not_fixed(&fixed.text, effective, origin, fixed.origin);
                        }
                    }
                }
            }
            // Mixed content with a fixed value is just that text.
            None => {
                if let Some(fixed) = given.filter(|given| given.is_fixed)
                    && (has_elements || !text.is_empty() && text != fixed.text)
                {
                    self.not_fixed(&fixed.text, text, origin, fixed.origin);
                }
            }
        }
        self.texts = texts;
    }

    fn not_fixed(&mut self, fixed: &str, text: &str, origin: Origin, rule: Origin) {
        let message = format!("expected {}, found {}", shown(fixed), shown(text));
        let rule = RulePlace { origin: rule, keyword: "fixed" };
        self.tell(message, None, Some(origin), rule);
    }

    fn begin_keys(
        &mut self,
        name: Name<'_>,
        declared: Option<ElementId>,
        mode: Mode,
        attributes: &[Attribute<'_>],
        (origin, places): (Origin, Places<'_>),
    ) {
        let constraints = declared.map_or(&[][..], |id| &self.components.element(id).constraints);
        if self.keys.is_idle() && constraints.is_empty() {
            return;
        }
        let mut keys = std::mem::take(&mut self.keys);
        // Levels count from the element on which the first constraint stands.
        let mut broken = Vec::new();
        let met =
            || Met { shown: String::new(), origin, at: places(origin), path: self.path_of(None) };
        let values = |path: &Path| self.field_values(path, mode, attributes);
        let begun = Begun {
            namespace: name.namespace(),
            local: name.local(),
            constraints,
            met: &met,
            attributes: &values,
        };
        keys.begin(self.components, &begun, &mut broken);
        self.keys = keys;
        self.tell_broken(broken);
    }

    /// The values of the attributes that a field means, those that are given by the schema among them.
    fn field_values(
        &self,
        path: &Path,
        mode: Mode,
        attributes: &[Attribute<'_>],
    ) -> Vec<FieldValue> {
        let Some(test) = &path.attribute else { return Vec::new() };
        let components = self.components;
        let complex = match mode {
            Mode::Typed(TypeId::Complex(id)) => Some(components.complex(id)),
            _ => None,
        };
        let mut found = Vec::new();
        for attribute in attributes.iter().filter(|attribute| !attribute.name.declares_namespace())
        {
            let (namespace, local) = (attribute.name.namespace(), attribute.name.local());
            if !test.fits(namespace, local) {
                continue;
            }
            let id = components.names.find(namespace, local);
            let used = complex.zip(id).and_then(|(complex, id)| complex.attribute(id));
            let declared = used.map(|used| &used.declaration);
            let declared = declared.or_else(|| components.global_attributes.get(&id?));
            let of_type = declared.map_or(ANY_SIMPLE, |declared| declared.of_type);
            found.push(self.field_value(of_type, attribute.value));
        }
        for used in complex.into_iter().flat_map(|complex| &complex.attributes) {
            let declared = &used.declaration;
            let (namespace, local) =
                (components.names.namespace(declared.name), components.names.local(declared.name));
            let is_there = || {
                attributes
                    .iter()
                    .any(|a| a.name.local() == local && a.name.namespace() == namespace)
            };
            if let Some(given) = &declared.given
                && test.fits(namespace, local)
                && !is_there()
            {
                found.push(self.field_value(declared.of_type, &given.text));
            }
        }
        found
    }

    fn field_value(&self, id: SimpleId, text: &str) -> FieldValue {
        let mut key = String::new();
        let value = self.components.simple.value(id, text, &|prefix| self.namespace(prefix))?;
        value.write_key(&mut key);
        Some((key, text.trim().to_owned()))
    }

    fn end_keys(&mut self) {
        if self.keys.is_idle() {
            return;
        }
        let mut keys = std::mem::take(&mut self.keys);
        let Some(frame) = self.frames.last() else { return };
        let text_type = match frame.mode {
            Mode::Typed(id) => self.components.text_type(id),
            _ => None,
        };
        let given = frame.declared.and_then(|id| self.components.element(id).given.as_ref());
        let (is_nil, text) = (frame.is_nil, &self.texts[frame.text_start..]);
        let value = || {
            let id = text_type.filter(|_| !is_nil)?;
            let text = match given {
                Some(given) if text.is_empty() => given.text.as_str(),
                _ => text,
            };
            self.field_value(id, text)
        };
        let mut broken = Vec::new();
        keys.end(self.components, &value, &mut broken);
        self.keys = keys;
        self.tell_broken(broken);
    }

    fn tell_broken(&mut self, broken: Vec<Broken>) {
        for Broken { message, constraint, met } in broken {
            let constraint = &self.components.constraints[constraint.0];
            let keyword = match constraint.kind {
                super::identity::Kind::Unique => "unique",
                super::identity::Kind::Key => "key",
                super::identity::Kind::Reference(_) => "keyref",
            };
            let rule = RulePlace { origin: constraint.origin, keyword };
            let finding = Finding { message, advice: None, origin: met.origin, rule };
            self.found.push(Found { finding, path: met.path, at: Some(met.at) });
        }
    }

    /// The name of the innermost open element.
    fn open_name(&self) -> &str {
        self.frames.last().map_or("", |frame| &self.names[frame.name_start..])
    }

    /// The path of the innermost open element, or of an attribute of it.
    fn path_of(&self, attribute: Option<&str>) -> String {
        let mut path = String::new();
        for (at, frame) in self.frames.iter().enumerate() {
            let end = self.frames.get(at + 1).map_or(self.names.len(), |next| next.name_start);
            path.push('/');
            path.push_str(self.names.get(frame.name_start..end).unwrap_or_default());
            path.push_str(&format!("[{}]", frame.position));
        }
        if let Some(attribute) = attribute {
            path.push_str("/@");
            path.push_str(attribute);
        }
        path
    }

    /// Says something about the innermost open element.
    fn tell(
        &mut self,
        message: String,
        advice: Option<String>,
        origin: Option<Origin>,
        rule: RulePlace,
    ) {
        let origin = origin.or_else(|| self.frames.last().map(|frame| frame.origin));
        let path = self.path_of(None);
        self.push(message, advice, origin.unwrap_or(Origin::NONE), rule, path);
    }

    /// Says something about an element that is about to begin.
    fn tell_child(
        &mut self,
        message: String,
        advice: Option<String>,
        (frame, name): (&Frame, Name<'_>),
        rule: RulePlace,
    ) {
        let path = format!("{}/{}[{}]", self.path_of(None), name.qualified(), frame.position);
        self.push(message, advice, frame.origin, rule, path);
    }

    fn tell_attribute(
        &mut self,
        message: String,
        advice: Option<String>,
        attribute: &Attribute<'_>,
        rule: RulePlace,
    ) {
        let path = self.path_of(Some(attribute.name.qualified()));
        let own = Some(attribute.origin).filter(|origin| origin.is_known());
        let origin = own.or_else(|| self.frames.last().map(|frame| frame.origin));
        self.push(message, advice, origin.unwrap_or(Origin::NONE), rule, path);
    }

    /// Says that a text is no value; where its type is built in, the rule is the declaration that says that type.
    fn tell_wrong(
        &mut self,
        wrong: Wrong,
        declared: Origin,
        attribute: Option<&Attribute<'_>>,
        origin: Origin,
    ) {
        let rule = if wrong.rule.is_known() { wrong.rule } else { declared };
        let rule = RulePlace { origin: rule, keyword: wrong.keyword };
        match attribute {
            Some(attribute) => self.tell_attribute(wrong.message, wrong.advice, attribute, rule),
            None => self.tell(wrong.message, wrong.advice, Some(origin), rule),
        }
    }

    fn push(
        &mut self,
        message: String,
        advice: Option<String>,
        origin: Origin,
        rule: RulePlace,
        path: String,
    ) {
        let advice = advice.map(Advice::words);
        let finding = Finding { message, advice, origin, rule };
        self.found.push(Found { finding, path, at: None });
    }
}

/// Whether an element has text or elements.
fn frame_content(frame: Option<&Frame>, texts: usize) -> bool {
    frame.is_some_and(|frame| frame.has_content || frame.keeps_text && texts > frame.text_start)
}

/// So many elements are looked for that are missing before one that stands where it may not.
const MISSING: usize = 3;

/// So many states are searched for that.
const SEARCHED: usize = 200;

/// So many names are listed.
const SHOWN_NAMES: usize = 12;

/// Names in a sentence: `a, b or c`, cut where there are many.
fn listed(names: &[String]) -> String {
    const FEW: usize = 6;
    match names {
        [] => "nothing".into(),
        [one] => one.clone(),
        names if names.len() > FEW => {
            format!("{} or one of {} others", names[..FEW - 1].join(", "), names.len() - FEW + 1)
        }
        [names @ .., last] => format!("{} or {last}", names.join(", ")),
    }
}

/// A number for a name that no schema has, beyond those of names that one has.
fn hash(name: Name<'_>) -> u64 {
    let bytes = name.qualified().bytes();
    let hash = bytes.fold(0xCBF2_9CE4_8422_2325_u64, |hash, byte| {
        (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01B3)
    });
    hash | 1 << 63
}
