//! What an element is by where it stands, and by what it says of itself (XSD 1.0 part 1 section 3.3.4).

use kyanite_tree::{Attribute, Name, Origin, near_words};

use super::{Frame, Mode, SHOWN_NAMES, Validator, listed};
use crate::RulePlace;
use crate::xsd::check::block_of;
use crate::xsd::components::{Content, ElementId, NameId, TypeId};
use crate::xsd::documents::XSI;
use crate::xsd::model::{Fit, Leaf, Model, State};
use crate::xsd::simple::{White, normalized, shown};
use crate::xsd::wildcard::Process;

/// The most missing elements that are named before one that stands where it may not.
const MISSING: usize = 3;

/// So many states are searched for that.
const SEARCHED: usize = 200;

impl<'s> Validator<'s> {
    /// What an element is by where it stands.
    pub(super) fn placed(
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
    pub(super) fn described(&self, of_type: TypeId) -> String {
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

    pub(super) fn type_place(&self, of_type: TypeId) -> RulePlace {
        let origin = match of_type {
            TypeId::Simple(id) => self.components.simple.get(id).origin,
            TypeId::Complex(id) => self.components.complex(id).origin,
        };
        RulePlace { origin, keyword: "type" }
    }

    /// An element in content that has a model.
    pub(super) fn step(
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
    pub(super) fn late(&mut self, model: &Model, id: Option<NameId>) -> Option<ElementId> {
        let missed = &mut self.frames.last_mut()?.missed;
        let at = missed.iter().position(|leaf| model.is_named(*leaf, id))?;
        missed.swap_remove(at);
        model.declared(id?)
    }

    /// Says that an element may not stand where it does. If it may behind others that are missing, it goes on from there.
    pub(super) fn misplaced(
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
    pub(super) fn about(
        &self,
        name: Name<'_>,
        number: usize,
        expected: &[String],
    ) -> Option<String> {
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
    pub(super) fn expected(&self, number: usize, leaves: &[u32]) -> Vec<String> {
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
    pub(super) fn typed(
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

    pub(super) fn substitutes(&self, id: ElementId) -> Vec<&'s str> {
        let components = self.components;
        let all = components.substitutes.get(&id).into_iter().flatten();
        let may_be = all.filter(|id| !components.element(**id).is_abstract);
        may_be
            .take(SHOWN_NAMES)
            .map(|id| components.names.local(components.element(*id).name))
            .collect()
    }

    /// Says that an element is not declared, and has to be.
    pub(super) fn undeclared(&mut self, name: Name<'_>) {
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
    pub(super) fn type_of_name(&mut self, attribute: &Attribute<'_>) -> Option<TypeId> {
        let text = normalized(attribute.value, White::Collapse).into_owned();
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

    /// Whether an element says that it is nil, and may.
    pub(super) fn nil(
        &mut self,
        declared: Option<ElementId>,
        mode: Mode,
        nil: &Attribute<'_>,
    ) -> bool {
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
}
