//! Findings: what they are about, and where that is.

use kyanite_tree::{Advice, Attribute, Name, Origin};

use super::{Found, Frame, Validator};
use crate::xsd::simple::Wrong;
use crate::{Finding, RulePlace};

impl<'s> Validator<'s> {
    /// The name of the innermost open element.
    pub(super) fn open_name(&self) -> &str {
        self.frames.last().map_or("", |frame| &self.names[frame.name_start..])
    }

    /// The path of the innermost open element, or of an attribute of it.
    pub(super) fn path_of(&self, attribute: Option<&str>) -> String {
        let mut path = self.path_above(0);
        if let Some(attribute) = attribute {
            path.push_str("/@");
            path.push_str(attribute);
        }
        path
    }

    /// The path of the element `above` levels above the innermost open one.
    pub(super) fn path_above(&self, above: usize) -> String {
        let mut path = String::new();
        let count = self.frames.len().saturating_sub(above);
        for (at, frame) in self.frames.iter().enumerate().take(count) {
            let end = self.frames.get(at + 1).map_or(self.names.len(), |next| next.name_start);
            path.push('/');
            path.push_str(self.names.get(frame.name_start..end).unwrap_or_default());
            path.push_str(&format!("[{}]", frame.position));
        }
        path
    }

    /// Says something about the innermost open element.
    pub(super) fn tell(
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
    pub(super) fn tell_child(
        &mut self,
        message: String,
        advice: Option<String>,
        (frame, name): (&Frame, Name<'_>),
        rule: RulePlace,
    ) {
        let path = format!("{}/{}[{}]", self.path_of(None), name.qualified(), frame.position);
        self.push(message, advice, frame.origin, rule, path);
    }

    pub(super) fn tell_attribute(
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
    pub(super) fn tell_wrong(
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

    pub(super) fn push(
        &mut self,
        message: String,
        advice: Option<String>,
        origin: Origin,
        rule: RulePlace,
        path: String,
    ) {
        let advice = advice.map(Advice::words);
        let finding = Finding { message, advice, origin, rule, unit: None };
        self.found.push(Found { finding, path, at: None });
    }
}
