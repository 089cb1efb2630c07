//! What schema documents are made of (XSD 1.0 part 1 appendix A): the attributes and children of each element.

use kyanite_tree::near_words;

use super::documents::{Collection, Node, XSD};

/// How often one of some elements may stand at a place.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Often {
    Once,
    Perhaps,
    Any,
}

use Often::{Any, Once, Perhaps};

/// An element of XML Schema.
struct Rule {
    word: &'static str,
    attributes: &'static [&'static str],
    /// What may stand in it, in order.
    children: &'static [(&'static [&'static str], Often)],
}

const NOTE: (&[&str], Often) = (&["annotation"], Perhaps);
const ATTRIBUTES: (&[&str], Often) = (&["attribute", "attributeGroup"], Any);
const OTHERS: (&[&str], Often) = (&["anyAttribute"], Perhaps);
const GROUPS: (&[&str], Often) = (&["group", "all", "choice", "sequence"], Perhaps);
const PARTICLES: (&[&str], Often) = (&["element", "group", "choice", "sequence", "any"], Any);
const FACETS: (&[&str], Often) = (
    &[
        "minExclusive",
        "minInclusive",
        "maxExclusive",
        "maxInclusive",
        "totalDigits",
        "fractionDigits",
        "length",
        "minLength",
        "maxLength",
        "enumeration",
        "whiteSpace",
        "pattern",
    ],
    Any,
);

const fn facet(word: &'static str) -> Rule {
    Rule { word, attributes: &["value", "fixed"], children: &[NOTE] }
}

#[rustfmt::skip]
const RULES: [Rule; 39] = [
    Rule { word: "schema", attributes: &["targetNamespace", "version", "finalDefault", "blockDefault", "attributeFormDefault", "elementFormDefault"], children: &[
        (&["include", "import", "redefine", "annotation"], Any),
        (&["simpleType", "complexType", "group", "attributeGroup", "element", "attribute", "notation", "annotation"], Any),
    ] },
    Rule { word: "include", attributes: &["schemaLocation"], children: &[NOTE] },
    Rule { word: "redefine", attributes: &["schemaLocation"], children: &[(&["annotation", "simpleType", "complexType", "group", "attributeGroup"], Any)] },
    Rule { word: "import", attributes: &["namespace", "schemaLocation"], children: &[NOTE] },
    Rule { word: "element", attributes: &["name", "ref", "type", "substitutionGroup", "default", "fixed", "nillable", "abstract", "final", "block", "form", "minOccurs", "maxOccurs"], children: &[
        NOTE, (&["simpleType", "complexType"], Perhaps), (&["unique", "key", "keyref"], Any),
    ] },
    Rule { word: "attribute", attributes: &["name", "ref", "type", "use", "default", "fixed", "form"], children: &[NOTE, (&["simpleType"], Perhaps)] },
    Rule { word: "complexType", attributes: &["name", "mixed", "abstract", "final", "block"], children: &[
        NOTE, (&["simpleContent", "complexContent"], Perhaps), GROUPS, ATTRIBUTES, OTHERS,
    ] },
    Rule { word: "simpleContent", attributes: &[], children: &[NOTE, (&["restriction", "extension"], Once)] },
    Rule { word: "complexContent", attributes: &["mixed"], children: &[NOTE, (&["restriction", "extension"], Once)] },
    Rule { word: "extension", attributes: &["base"], children: &[NOTE, GROUPS, ATTRIBUTES, OTHERS] },
    Rule { word: "restriction", attributes: &["base"], children: &[NOTE, GROUPS, (&["simpleType"], Perhaps), FACETS, ATTRIBUTES, OTHERS] },
    Rule { word: "simpleType", attributes: &["name", "final"], children: &[NOTE, (&["restriction", "list", "union"], Once)] },
    Rule { word: "list", attributes: &["itemType"], children: &[NOTE, (&["simpleType"], Perhaps)] },
    Rule { word: "union", attributes: &["memberTypes"], children: &[NOTE, (&["simpleType"], Any)] },
    Rule { word: "group", attributes: &["name", "ref", "minOccurs", "maxOccurs"], children: &[NOTE, (&["all", "choice", "sequence"], Perhaps)] },
    Rule { word: "all", attributes: &["minOccurs", "maxOccurs"], children: &[NOTE, (&["element"], Any)] },
    Rule { word: "choice", attributes: &["minOccurs", "maxOccurs"], children: &[NOTE, PARTICLES] },
    Rule { word: "sequence", attributes: &["minOccurs", "maxOccurs"], children: &[NOTE, PARTICLES] },
    Rule { word: "any", attributes: &["namespace", "processContents", "minOccurs", "maxOccurs"], children: &[NOTE] },
    Rule { word: "anyAttribute", attributes: &["namespace", "processContents"], children: &[NOTE] },
    Rule { word: "attributeGroup", attributes: &["name", "ref"], children: &[NOTE, ATTRIBUTES, OTHERS] },
    Rule { word: "notation", attributes: &["name", "public", "system"], children: &[NOTE] },
    Rule { word: "unique", attributes: &["name"], children: &[NOTE, (&["selector"], Once), (&["field"], Any)] },
    Rule { word: "key", attributes: &["name"], children: &[NOTE, (&["selector"], Once), (&["field"], Any)] },
    Rule { word: "keyref", attributes: &["name", "refer"], children: &[NOTE, (&["selector"], Once), (&["field"], Any)] },
    Rule { word: "selector", attributes: &["xpath"], children: &[NOTE] },
    Rule { word: "field", attributes: &["xpath"], children: &[NOTE] },
    facet("minExclusive"), facet("minInclusive"), facet("maxExclusive"), facet("maxInclusive"),
    facet("totalDigits"), facet("fractionDigits"), facet("length"), facet("minLength"), facet("maxLength"),
    facet("enumeration"), facet("whiteSpace"), facet("pattern"),
];

impl<'s> Collection<'s, '_> {
    /// Checks the form of all documents.
    pub(super) fn check_grammar(&mut self) {
        let roots: Vec<Node<'s>> =
            self.documents.iter().map(|document| document.root.clone()).collect();
        let mut left = roots;
        while let Some(node) = left.pop() {
            let Some(rule) = RULES.iter().find(|rule| rule.word == node.word()) else { continue };
            self.check_attributes(&node, rule);
            self.check_children(&node, rule);
            left.extend(node.children().filter(|child| child.word() != "annotation"));
        }
    }

    fn check_attributes(&mut self, node: &Node<'s>, rule: &Rule) {
        for attribute in node.element.attributes {
            let (name, is_own) =
                (attribute.name.qualified(), attribute.name.namespace().is_empty());
            if attribute.name.declares_namespace() || name == "id" {
                continue;
            }
            if attribute.name.namespace() == XSD || is_own && !rule.attributes.contains(&name) {
                let message = format!("<{}> has no attribute {name:?}", rule.word);
                let advice = near_words(name, rule.attributes.iter().copied())
                    .unwrap_or_else(|| format!("it has: {}", rule.attributes.join(", ")));
                self.problem(attribute.origin, message, Some(advice));
            }
        }
    }

    fn check_children(&mut self, node: &Node<'s>, rule: &Rule) {
        let mut at = 0;
        let mut is_met = false;
        for child in node.element.children() {
            let Some(element) = child.as_element() else { continue };
            let (name, written) = (element.name.local(), element.name.qualified());
            let is_own = element.name.namespace() == XSD;
            let place = |from: usize| {
                (from..rule.children.len())
                    .find(|at| is_own && rule.children[*at].0.contains(&name))
            };
            let from = match rule.children.get(at) {
                Some((_, Any)) | None => at,
                Some(_) => at + usize::from(is_met),
            };
            match place(from) {
                Some(found) => {
                    if let Some((words, _)) = needed(rule, (at, is_met), found) {
                        let message = format!(
                            "<{}> needs {} before <{written}>",
                            rule.word,
                            words.join(" or ")
                        );
                        self.problem(child.origin(), message, None);
                    }
                    (is_met, at) = (true, found);
                }
                None => {
                    let message = match place(0) {
                        Some(_) => {
                            format!("<{written}> stands too late in <{}>, or too often", rule.word)
                        }
                        None => format!("<{written}> cannot stand in <{}>", rule.word),
                    };
                    let known = rule.children.iter().flat_map(|(words, _)| words.iter().copied());
                    let known: Vec<&str> = known.collect();
                    let advice =
                        near_words(name, known.iter().copied()).filter(|_| place(0).is_none());
                    let advice = advice.unwrap_or_else(|| {
                        format!("there may be, in this order: {}", known.join(", "))
                    });
                    self.problem(child.origin(), message, Some(advice));
                }
            }
        }
        if let Some((words, _)) = needed(rule, (at, is_met), rule.children.len()) {
            let message = format!("<{}> needs {}", rule.word, words.join(" or "));
            self.problem(node.origin, message, None);
        }
    }
}

/// What has to stand behind a place of a rule, and before another one.
fn needed(
    rule: &Rule,
    (at, is_met): (usize, bool),
    before: usize,
) -> Option<(&'static [&'static str], Often)> {
    let from = at + usize::from(is_met);
    rule.children.get(from..before)?.iter().copied().find(|(_, often)| *often == Once)
}
