//! Steps into elements of XML: by name to child elements, by `@name` to an attribute.

use kyanite_tree::{Attribute, Code, Element, Name, Value};

use super::Runner;
use crate::plan::{Step, StepKind};
use crate::rule_error::{RunResult, rule_error};

/// What a step into an element looks for.
pub(super) enum Wanted<'s> {
    /// Child elements.
    Children(Match<'s>),
    /// An attribute.
    Attribute(Match<'s>),
}

/// Which names a step means.
pub(super) enum Match<'s> {
    /// Any of this local name, or with this prefix as written.
    Called(&'s str),
    /// Those of this local name in this namespace.
    In(&'s str, &'s str),
}

impl Match<'_> {
    #[inline]
    pub(super) fn fits(&self, name: Name<'_>) -> bool {
        match self {
            Self::Called(wanted) => name.is_called(wanted),
            Self::In(local, namespace) => name.local() == *local && name.namespace() == *namespace,
        }
    }
}

/// What the children and attributes of elements are called in rules begins with this, if it is an attribute.
const ATTRIBUTE: char = '@';

/// The attribute that is meant; one without a namespace is preferred.
pub(super) fn attribute<'a>(
    wanted: &Match<'_>,
    element: &'a Element<'a>,
) -> Option<&'a Attribute<'a>> {
    match wanted {
        Match::Called(name) => element.attribute(name),
        Match::In(..) => element.attributes.iter().find(|attribute| wanted.fits(attribute.name)),
    }
}

/// What a step by name looks for in elements.
pub(super) fn wanted(step: &Step) -> Option<Wanted<'_>> {
    Some(match &step.kind {
        StepKind::Name(name) => match name.strip_prefix(ATTRIBUTE) {
            Some(attribute) => Wanted::Attribute(Match::Called(attribute)),
            None => Wanted::Children(Match::Called(name)),
        },
        StepKind::Qualified { is_attribute, local, namespace, .. } => {
            let wanted = Match::In(local, namespace);
            if *is_attribute { Wanted::Attribute(wanted) } else { Wanted::Children(wanted) }
        }
        _ => return None,
    })
}

impl<'a> Runner<'_, 'a> {
    /// All that a step by name leads to in an element, in order.
    pub(super) fn in_element(&self, step: &'a Step, element: &'a Element<'a>) -> Vec<Value<'a>> {
        match wanted(step) {
            Some(Wanted::Attribute(wanted)) => {
                attribute(&wanted, element).map(Attribute::to_value).into_iter().collect()
            }
            Some(Wanted::Children(wanted)) => {
                let fits = |child: &Value<'_>| {
                    child.as_element().is_some_and(|child| wanted.fits(child.name))
                };
                let found: Vec<_> = element.children().filter(fits).collect();
                self.look_at_namespaces(step, &found);
                found
            }
            None => Vec::new(),
        }
    }

    /// Notes the namespaces of children that a step means by their local name.
    pub(super) fn look_at_namespaces(&self, step: &Step, found: &[Value<'_>]) {
        if let (StepKind::Name(_), [_, ..]) = (&step.kind, found) {
            let namespaces =
                found.iter().filter_map(|child| Some(child.as_element()?.name.namespace()));
            self.session.coverage.met_namespaces(step.span, namespaces);
        }
    }

    /// Refuses a reference token of a JSON Pointer in an element.
    pub(super) fn refuse_token(&self, step: &Step, node: Value<'a>) -> RunResult<()> {
        if let StepKind::Token(_) = step.kind {
            let failed =
                rule_error(Code::ValueKind, step.span, "a JSON Pointer does not lead into XML");
            return Err(failed.about(Some(node)).advise("write a path: $.root.child"));
        }
        Ok(())
    }

    /// The one child or attribute that a step leads to, or the list of all children of that name when the step's brackets
    /// range over them.
    pub(super) fn only_in_element(
        &mut self,
        step: &'a Step,
        element: &'a Element<'a>,
        node: Value<'a>,
    ) -> RunResult<Option<Value<'a>>> {
        self.refuse_token(step, node)?;
        let found = self.in_element(step, element);
        if step.ranges && !found.is_empty() {
            return Ok(Some(self.arena.list(&found)));
        }
        match found.as_slice() {
            [] => Ok(None),
            [only] => Ok(Some(*only)),
            several => {
                let (text, parent) = (self.plan.rule.slice(step.span), element.name.qualified());
                let name = several[1].as_element().map_or("", |child| child.name.qualified());
                let message = match parent {
                    "" => format!("there are {} <{name}>, and one is meant", several.len()),
                    _ => format!("<{parent}> has {} <{name}>, and one is meant", several.len()),
                };
                Err(rule_error(Code::ValueSeveral, step.span, message)
                    .about(Some(several[1]))
                    .advise(format!("write {text}[*] for all, {text}[0] for the first")))
            }
        }
    }
}
