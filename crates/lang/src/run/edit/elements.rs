//! Edits in elements of XML: what is not touched stays as it is, layout and comments too.

use kyanite_formats::xml;
use kyanite_tree::{Attribute, Code, Content, Element, Name, Value, is_blank};

use super::{Changes, Child, Outcome, Runner, child_of};
use crate::plan::{Change, Step, StepKind};
use crate::rule_error::{RuleError, RunResult, rule_error};
use crate::run::element::{Match, Wanted, attribute, wanted};

impl<'a> Runner<'_, 'a> {
    /// The children or the attribute that a step by name leads to in an element.
    pub(super) fn places_in_element(
        &mut self,
        step: &'a Step,
        element: &'a Element<'a>,
        node: Value<'a>,
    ) -> RunResult<Vec<Child>> {
        Ok(match wanted(step) {
            Some(Wanted::Attribute(wanted)) => {
                let found = attribute(&wanted, element);
                let is_found = |one: &Attribute<'_>| found.is_some_and(|a| std::ptr::eq(a, one));
                let at = element.attributes.iter().position(is_found);
                at.into_iter().map(Child::Attribute).collect()
            }
            Some(Wanted::Children(wanted)) => {
                let places: Vec<Child> = fitting(&wanted, element).map(Child::At).collect();
                let children: Vec<Value<'a>> =
                    places.iter().filter_map(|place| child_of(node, *place)).collect();
                self.look_at_namespaces(step, &children);
                places
            }
            None => {
                self.refuse_token(step, node)?;
                self.key(step, node)?;
                Vec::new()
            }
        })
    }

    pub(super) fn element_with(
        &self,
        change: &'a Change,
        element: &'a Element<'a>,
        changes: &Changes<'a>,
    ) -> RunResult<Element<'a>> {
        let attributes = self.attributes_with(change, element, changes)?;
        let mut nodes = self.content_with(change, element, changes)?;
        if nodes.iter().any(|node| matches!(node, Content::Element(..))) {
            let content = self.arena.nodes(&nodes);
            return Ok(Element { attributes, content, text: None, ..*element });
        }
        let is_text = |node: &Content<'_>| matches!(node, Content::Text(..));
        // Where no element is left, the lines that they stood on would be text.
        if element.text.is_none() && nodes.iter().all(|node| !is_text(node) || node.is_blank()) {
            nodes.retain(|node| !is_text(node));
        }
        let texts = nodes.iter().filter_map(|node| match node {
            Content::Text(_, text) => Some(*text),
            _ => None,
        });
        let text = Some(self.arena.concat(&texts.collect::<Vec<_>>()));
        Ok(Element { attributes, content: self.arena.nodes(&nodes), text, ..*element })
    }

    fn content_with(
        &self,
        change: &'a Change,
        element: &'a Element<'a>,
        changes: &Changes<'a>,
    ) -> RunResult<Vec<Content<'a>>> {
        let mut outcomes = changes.children.iter().peekable();
        let mut nodes: Vec<Content<'a>> = Vec::with_capacity(element.content.len());
        let mut is_removed = false;
        for (at, node) in element.content.iter().enumerate() {
            match outcomes.next_if(|(child, _)| *child == Child::At(at)) {
                None => {
                    // The line that a removed element stood on goes with it.
                    if is_removed && is_line(node) && nodes.last().is_some_and(is_line) {
                        nodes.pop();
                    }
                    nodes.push(*node);
                    is_removed = false;
                }
                Some((_, Outcome::Changed(Value::Element(origin, child)))) => {
                    nodes.push(Content::Element(*origin, child));
                }
                Some((_, outcome)) => {
                    let before = nodes.len();
                    self.put(change, node, outcome.value(), &mut nodes)?;
                    is_removed |= nodes.len() == before;
                }
            }
        }
        Ok(nodes)
    }

    fn attributes_with(
        &self,
        change: &'a Change,
        element: &'a Element<'a>,
        changes: &Changes<'a>,
    ) -> RunResult<&'a [Attribute<'a>]> {
        let is_content = |(child, _): &&(Child, Outcome<'_>)| matches!(child, Child::At(_));
        let mut outcomes = changes.children.iter().skip_while(is_content).peekable();
        if outcomes.peek().is_none() && changes.added.is_empty() {
            return Ok(element.attributes);
        }
        let mut attributes = Vec::with_capacity(element.attributes.len() + changes.added.len());
        for (at, attribute) in element.attributes.iter().enumerate() {
            match outcomes.next_if(|(child, _)| *child == Child::Attribute(at)) {
                None => attributes.push(*attribute),
                Some((_, outcome)) => {
                    if let Some(value) = outcome.value() {
                        attributes.push(self.attribute_of(change, attribute.name, value)?);
                    }
                }
            }
        }
        for (step, name, value) in &changes.added {
            let bare = name.trim_start_matches('@');
            if !xml::is_name(bare) {
                let message = format!("`{bare}` cannot be a name in XML");
                return Err(rule_error(Code::ValueKind, step.span, message));
            }
            let name = match &step.kind {
                StepKind::Qualified { namespace, .. } => Name::new(bare, namespace),
                _ => self.plan.namespaces.name(bare, true),
            };
            attributes.push(self.attribute_of(change, name, *value)?);
        }
        Ok(self.arena.attributes(&attributes))
    }

    /// An attribute with another value.
    fn attribute_of(
        &self,
        change: &'a Change,
        name: Name<'a>,
        value: Value<'a>,
    ) -> RunResult<Attribute<'a>> {
        let Some(text) = value.scalar_text() else {
            let name = name.qualified();
            let message =
                format!("{} cannot be the value of the attribute `{name}`", value.kind().phrase());
            return Err(self.not_in_element(
                change,
                message,
                value,
                "give a text, or nothing to remove it",
            ));
        };
        Ok(Attribute { name, value: text, origin: value.origin() })
    }

    /// Puts what takes the place of a child element among the content of its parent.
    fn put(
        &self,
        change: &'a Change,
        node: &Content<'a>,
        new: Option<Value<'a>>,
        nodes: &mut Vec<Content<'a>>,
    ) -> RunResult<()> {
        let Content::Element(origin, child) = node else { return Ok(()) };
        let with_text = |text: Option<Content<'a>>| {
            let content: Vec<Content<'a>> = text.into_iter().collect();
            let text = match text {
                Some(Content::Text(_, text)) => text,
                _ => "",
            };
            let content = self.arena.nodes(&content);
            let element = Element { content, text: Some(text), ..**child };
            Content::Element(*origin, self.arena.element(element))
        };
        match new {
            None => {}
            Some(Value::Element(_, document)) if document.is_document() => {
                let is_element = |node: &&Content<'_>| matches!(node, Content::Element(..));
                nodes.extend(document.content.iter().filter(is_element));
            }
            Some(Value::Element(origin, element)) => nodes.push(Content::Element(origin, element)),
            Some(Value::List(_, items)) => {
                for item in items {
                    let Value::Element(origin, element) = item else {
                        let message = format!(
                            "{} among a list cannot take the place of <{}>",
                            item.kind().phrase(),
                            child.name.qualified()
                        );
                        let advice =
                            "a list in the place of an element is one of elements: element(…)";
                        return Err(self.not_in_element(change, message, *item, advice));
                    };
                    nodes.push(Content::Element(*origin, element));
                }
            }
            Some(Value::Null(_)) => nodes.push(with_text(None)),
            Some(value) => match value.scalar_text() {
                Some(text) => nodes.push(with_text(Some(Content::Text(value.origin(), text)))),
                None => {
                    let message = format!(
                        "{} cannot take the place of <{}>",
                        value.kind().phrase(),
                        child.name.qualified()
                    );
                    let advice = "give a text, an element or a list of elements: element(…)";
                    return Err(self.not_in_element(change, message, value, advice));
                }
            },
        }
        Ok(())
    }

    #[cold]
    fn not_in_element(
        &self,
        change: &'a Change,
        message: String,
        value: Value<'a>,
        advice: &'static str,
    ) -> RuleError {
        let span = change.value.as_ref().map_or(change.span, |value| value.span);
        rule_error(Code::ValueKind, span, message).about(Some(value)).advise(advice)
    }
}

/// Where the only child is that a step by name leads to.
pub(super) fn only_child(step: &Step, element: &Element<'_>) -> Option<usize> {
    let Some(Wanted::Children(wanted)) = wanted(step) else { return None };
    let mut places = fitting(&wanted, element);
    let at = places.next()?;
    (!step.ranges && places.next().is_none()).then_some(at)
}

/// Where in the content of an element the children are that a step wants.
fn fitting<'e>(wanted: &'e Match<'_>, element: &'e Element<'_>) -> impl Iterator<Item = usize> {
    let children = element.content.iter().enumerate();
    children.filter_map(|(at, node)| match node {
        Content::Element(_, child) if wanted.fits(child.name) => Some(at),
        _ => None,
    })
}

/// Whether it is the blanks between two lines.
fn is_line(node: &Content<'_>) -> bool {
    matches!(node, Content::Text(_, text) if is_blank(text) && text.contains('\n'))
}
