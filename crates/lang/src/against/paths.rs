//! Paths along the schema of the input.

use kyanite_tree::Kind;

use super::{Check, Known, PlaceNumber};
use crate::plan::{Filter, ManyPath, OnePath, Segment, Selector, Start, Step, StepKind};

impl Check<'_> {
    fn start(&mut self, start: &Start) -> Known {
        match start {
            Start::Root => self.input.as_ref().map_or(Known::Any, |input| Known::At(input.root())),
            Start::Current => self.current.last().cloned().unwrap_or(Known::Any),
            Start::Global(slot) => self.globals.get(*slot).cloned().unwrap_or(Known::Any),
            Start::Local(slot) => self.locals.get(*slot).cloned().unwrap_or(Known::Any),
            Start::Value(value) => self.expr(value, None),
        }
    }

    pub(super) fn one(&mut self, path: &OnePath) -> Known {
        let mut known = self.start(&path.start);
        for step in &path.steps {
            known = self.step(known, step);
        }
        known
    }

    pub(super) fn many(&mut self, path: &ManyPath) -> Known {
        let start = self.start(&path.start);
        self.segments(start, &path.segments)
    }

    pub(super) fn segments(&mut self, start: Known, segments: &[Segment]) -> Known {
        let mut known = start;
        // In XML brackets range over all children of the name before them, even if there is just one.
        let mut is_behind_name = false;
        for segment in segments {
            let is_name = matches!(segment.selectors.as_slice(), [Selector::Step(step)]
                if !segment.descendant && !matches!(step.kind, StepKind::Index(_)));
            known = match segment.selectors.as_slice() {
                _ if segment.descendant => {
                    self.conditions(&segment.selectors, &Known::Any);
                    Known::Any
                }
                [one] => self.selector(known, one, is_behind_name),
                several => {
                    let mut found: Option<Known> = None;
                    for one in several {
                        let own = self.selector(known.clone(), one, is_behind_name);
                        found = Some(found.map_or(own.clone(), |found| found.or(own)));
                    }
                    found.unwrap_or(Known::Any)
                }
            };
            is_behind_name = is_name;
        }
        known
    }

    fn conditions(&mut self, selectors: &[Selector], current: &Known) {
        for selector in selectors {
            if let Selector::Filter(Filter { condition, .. }) = selector {
                self.current.push(current.clone());
                self.expr(condition, None);
                self.current.pop();
            }
        }
    }

    fn selector(&mut self, known: Known, selector: &Selector, is_behind_name: bool) -> Known {
        match selector {
            Selector::Step(step) => self.step(known, step),
            Selector::Wildcard | Selector::Slice { .. } => self.children(known, is_behind_name),
            Selector::Filter(_) => {
                let child = self.children(known, is_behind_name);
                self.conditions(std::slice::from_ref(selector), &child);
                child
            }
        }
    }

    /// Each child of a value.
    fn children(&mut self, known: Known, is_behind_name: bool) -> Known {
        match known {
            Known::List(item) => *item,
            Known::At(at) => {
                let Some(input) = self.input.as_mut() else { return Known::Any };
                if input.allows(at, Kind::List) && !input.allows(at, Kind::Map) {
                    return input.item(at).map_or(Known::Any, Known::At);
                }
                // Of a stream the schema is one of each record.
                let is_record = at == input.root() && !input.is_for_xml();
                if is_record && !input.allows(at, Kind::List) {
                    return Known::At(at);
                }
                let is_element = input.is_for_xml() && !input.allows(at, Kind::List);
                if is_element && is_behind_name { Known::At(at) } else { Known::Any }
            }
            _ => Known::Any,
        }
    }

    /// The items of what stands at a place.
    pub(super) fn item_at(&mut self, at: PlaceNumber) -> Known {
        self.children(Known::At(at), true)
    }

    fn step(&mut self, known: Known, step: &Step) -> Known {
        let name = match &step.kind {
            StepKind::Name(name) => name.as_str(),
            StepKind::Qualified { local, is_attribute, .. } => {
                return self.named(
                    known,
                    &format!("{}{local}", if *is_attribute { "@" } else { "" }),
                    step,
                );
            }
            StepKind::Token(name) if name.parse::<u64>().is_err() => name.as_str(),
            StepKind::Index(_) | StepKind::Token(_) => return self.children(known, true),
            StepKind::Computed(value) => {
                self.expr(value, None);
                return Known::Any;
            }
        };
        self.named(known, name, step)
    }

    /// The member of that name of a value.
    fn named(&mut self, known: Known, name: &str, step: &Step) -> Known {
        let at = match known {
            Known::Map(members, is_open) => {
                let own = members.iter().rev().find(|(known, _)| known == name);
                let nothing = if is_open { Known::Any } else { Known::Of(Kind::Null) };
                return own.map_or(nothing, |(_, known)| known.clone());
            }
            Known::At(at) => at,
            _ => return Known::Any,
        };
        let Some(input) = self.input.as_mut() else { return Known::Any };
        if input.is_free(at) {
            return Known::Any;
        }
        let mut place = at;
        if input.allows(at, Kind::List) && !input.allows(at, Kind::Map) {
            if !input.is_for_xml() {
                let message =
                    format!("`{name}` steps into what is a list by the schema of the input");
                self.find(step.span, message, Some(format!("write [*].{name} for the items")));
                return Known::Any;
            }
            match input.item(at) {
                Some(item) => place = item,
                None => return Known::Any,
            }
        }
        let names = input.members(place);
        let is_named = names.iter().any(|(known, _)| known == name);
        let found = input.member(place, name);
        if is_named {
            return found.map_or(Known::Any, Known::At);
        }
        // Declarations of namespaces are attributes that no schema names.
        if name.starts_with("@xmlns") {
            return Known::Any;
        }
        let may_stand = found.is_some() && input.allows(place, Kind::Map);
        self.tell_unknown(step.span, (name, "input"), &names, may_stand);
        Known::Any
    }

    /// The members of a map at a place of the input that are always there.
    pub(super) fn members_at(&mut self, at: PlaceNumber) -> Vec<(String, Known)> {
        let Some(input) = self.input.as_mut() else { return Vec::new() };
        let needed = input.members(at).into_iter().filter(|(_, is_needed)| *is_needed);
        let names: Vec<String> = needed.map(|(name, _)| name).collect();
        let place = |name: String| {
            let known = input.member(at, &name).map_or(Known::Any, Known::At);
            (name, known)
        };
        names.into_iter().map(place).collect()
    }
}
