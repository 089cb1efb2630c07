//! Simple type definitions (XSD 1.0 part 2 section 4).

use kyanite_eval::pattern::xsd as pattern;
use kyanite_tree::Origin;

use super::builtin::ANY_SIMPLE;
use super::compile::Compiler;
use super::components::{Derivations, SimpleId, TypeId};
use super::documents::Node;
use super::simple::{
    Bound, Counted, Enumeration, Facets, Patterns, SimpleType, Variety, White, normalized, shown,
};
use super::value::{Primitive, Value};

/// How deep simple types may be nested and derived.
const DEEPEST: usize = 1_000;

impl<'s> Compiler<'s, '_> {
    /// The type that a `simpleType` defines.
    pub(super) fn define_simple(&mut self, node: &Node<'s>, name: Option<String>) -> SimpleId {
        self.depth += 1;
        let made = if self.depth > DEEPEST {
            let message =
                format!("simple types are derived more than {DEEPEST} times from each other");
            self.problem(node.origin, message, None);
            None
        } else {
            self.simple_type(node, name)
        };
        self.depth -= 1;
        self.document(node);
        match made {
            Some(made) => self.add_simple(made),
            None => ANY_SIMPLE,
        }
    }

    pub(super) fn add_simple(&mut self, made: SimpleType) -> SimpleId {
        self.components.simple.0.push(made);
        SimpleId(self.components.simple.0.len() - 1)
    }

    fn simple_type(&mut self, node: &Node<'s>, name: Option<String>) -> Option<SimpleType> {
        let is_final = match node.token("final") {
            Some(_) => self.collection.derivations(node, "final"),
            None => self.collection.documents[node.document].is_final,
        };
        let child = node.children().find(|child| child.word() != "annotation")?;
        let plain = SimpleType {
            name,
            base: Some(ANY_SIMPLE),
            variety: Variety::Any,
            white: White::Collapse,
            lexical: None,
            facets: Facets::default(),
            role: super::simple::Role::None,
            origin: node.origin,
            is_final,
        };
        match child.word() {
            "restriction" => {
                let base = self.inner_type(&child, "base")?;
                let (name, origin) = (plain.name, node.origin);
                let derived = self.restrict(base, &child)?;
                Some(SimpleType { name, origin, is_final, ..derived })
            }
            "list" => {
                let item = self.inner_type(&child, "itemType")?;
                self.refuse_final(item, Derivations::LIST, child.origin);
                if self.holds_list(item) {
                    let message = "the items of a list cannot be lists";
                    self.problem(child.origin, message, None);
                }
                Some(SimpleType { variety: Variety::List(item), ..plain })
            }
            "union" => {
                let mut members = Vec::new();
                if let Some((names, origin)) = child.token("memberTypes") {
                    for name in names.split(' ').filter(|name| !name.is_empty()) {
                        members.push(self.simple_named(&child, name, origin)?);
                    }
                }
                for inner in child.called("simpleType") {
                    members.push(self.define_simple(&inner, None));
                }
                if members.is_empty() {
                    self.problem(child.origin, "a union needs types", None);
                }
                for member in &members {
                    self.refuse_final(*member, Derivations::UNION, child.origin);
                }
                Some(SimpleType {
                    variety: Variety::Union(members),
                    white: White::Collapse,
                    ..plain
                })
            }
            _ => None,
        }
    }

    /// Whether values of a type are lists, or may be.
    fn holds_list(&self, id: SimpleId) -> bool {
        match &self.components.simple.get(id).variety {
            Variety::List(_) => true,
            Variety::Union(members) => members.iter().any(|member| self.holds_list(*member)),
            _ => false,
        }
    }

    fn refuse_final(&mut self, id: SimpleId, method: Derivations, origin: Origin) {
        if self.components.simple.get(id).is_final.has(method) {
            let name = self.components.simple.name(id).to_owned();
            self.problem(origin, format!("the type {name} does not allow this derivation"), None);
        }
    }

    /// The type that an attribute names, or that is defined in place of it.
    fn inner_type(&mut self, node: &Node<'s>, attribute: &str) -> Option<SimpleId> {
        let inner = node.called("simpleType").next();
        match (node.token(attribute), inner) {
            (Some((name, origin)), None) => self.simple_named(node, &name, origin),
            (None, Some(inner)) => Some(self.define_simple(&inner, None)),
            (Some((_, origin)), Some(_)) => {
                let message =
                    format!("the type is given twice: by {attribute} and by <simpleType>");
                self.problem(origin, message, None);
                None
            }
            (None, None) => {
                self.problem(
                    node.origin,
                    format!("<{}> needs {attribute} or <simpleType>", node.word()),
                    None,
                );
                None
            }
        }
    }

    pub(super) fn simple_named(
        &mut self,
        node: &Node<'s>,
        name: &str,
        origin: Origin,
    ) -> Option<SimpleId> {
        match self.type_named(node, name, origin)? {
            TypeId::Simple(id) => Some(id),
            TypeId::Complex(_) => {
                self.problem(
                    origin,
                    format!("{name} is a complex type, and a simple one has to stand here"),
                    None,
                );
                None
            }
        }
    }

    /// A type with the facets that stand in a `restriction`.
    pub(super) fn restrict(&mut self, base: SimpleId, node: &Node<'s>) -> Option<SimpleType> {
        let base_type = self.components.simple.get(base).clone();
        if matches!(base_type.variety, Variety::Any) {
            let message = "xs:anySimpleType cannot be restricted";
            self.problem(
                node.origin,
                message,
                Some("derive from one of the types below it".into()),
            );
            return None;
        }
        self.refuse_final(base, Derivations::RESTRICTION, node.origin);
        let mut made =
            SimpleType { base: Some(base), name: None, origin: node.origin, ..base_type };
        let (mut patterns, mut written, mut listed) = (Vec::new(), Vec::new(), Vec::new());
        let (mut pattern_origin, mut list_origin) = (None, None);
        let mut met: Vec<&str> = Vec::new();
        for facet in node.children() {
            let word = facet.word();
            if matches!(
                word,
                "annotation" | "simpleType" | "attribute" | "attributeGroup" | "anyAttribute"
            ) {
                continue;
            }
            let Some((value, origin)) = facet.attribute("value") else {
                self.problem(facet.origin, format!("<{word}> needs a value"), None);
                continue;
            };
            if !matches!(word, "pattern" | "enumeration") {
                if met.contains(&word) {
                    self.problem(facet.origin, format!("<{word}> is given twice"), None);
                    continue;
                }
                met.push(word);
            }
            if !applies(word, &made.variety) {
                let name = self.components.simple.name(base).to_owned();
                self.problem(
                    facet.origin,
                    format!("<{word}> says nothing of values of {name}"),
                    None,
                );
                continue;
            }
            match word {
                "pattern" => match pattern::compile(value) {
                    Ok(compiled) => {
                        patterns.push(compiled);
                        written.push(value.to_owned());
                        pattern_origin = pattern_origin.or(Some(origin));
                    }
                    Err(error) => {
                        let message = format!(
                            "{} is no regular expression of XML Schema: {error}",
                            shown(value)
                        );
                        self.problem(origin, message, None);
                    }
                },
                "enumeration" => {
                    if let Some(value) = self.facet_value(base, &facet, value, origin) {
                        listed.push(value);
                        list_origin = list_origin.or(Some(origin));
                    }
                }
                "whiteSpace" => self.white(&mut made, &facet, value, origin),
                "minInclusive" | "minExclusive" | "maxInclusive" | "maxExclusive" => {
                    self.bound(&mut made, base, &facet, (word, value), origin);
                }
                _ => self.count(&mut made, &facet, (word, value), origin),
            }
        }
        if let Some(origin) = pattern_origin {
            made.facets.patterns.push(Patterns { alternatives: patterns, written, origin });
        }
        if let Some(origin) = list_origin {
            made.facets.enumeration = Some(Enumeration { values: listed, origin });
        }
        self.contradictions(&made, node.origin);
        Some(made)
    }

    /// A value in a facet, which has to be one of the base.
    fn facet_value(
        &mut self,
        base: SimpleId,
        facet: &Node<'s>,
        text: &str,
        origin: Origin,
    ) -> Option<(Value, String)> {
        let prefixes = |prefix: &str| facet.namespace(prefix).map(str::to_owned);
        let types = &self.components.simple;
        if let Err(wrong) = types.check(base, text, &prefixes, &mut Vec::new()) {
            let message =
                format!("the value of <{}> is none of the base: {}", facet.word(), wrong.message);
            self.problem(origin, message, wrong.advice);
            return None;
        }
        let white = types.get(base).white;
        let value = types.value(base, text, &prefixes)?;
        if let (Value::Name(namespace, local), Variety::Atomic(Primitive::Notation)) =
            (&value, &types.get(base).variety)
        {
            let key = (super::documents::Space::Notation, (namespace.clone(), local.clone()));
            if !self.collection.definitions.contains_key(&key) {
                self.problem(origin, format!("no notation is called {text:?}"), None);
            }
        }
        Some((value, normalized(text, white).into_owned()))
    }

    fn white(&mut self, made: &mut SimpleType, facet: &Node<'s>, value: &str, origin: Origin) {
        let white = match value {
            "preserve" => White::Preserve,
            "replace" => White::Replace,
            "collapse" => White::Collapse,
            _ => {
                let message = format!("{} is no way to normalize white space", shown(value));
                self.problem(
                    origin,
                    message,
                    Some("there are: preserve, replace, collapse".into()),
                );
                return;
            }
        };
        if white < made.white || made.facets.white_is_fixed && white != made.white {
            let message = "the base normalizes more white space, and no less can be normalized";
            self.problem(origin, message, None);
            return;
        }
        made.white = white;
        made.facets.white_is_fixed |= is_fixed(facet);
    }

    fn bound(
        &mut self,
        made: &mut SimpleType,
        base: SimpleId,
        facet: &Node<'s>,
        (word, text): (&str, &str),
        origin: Origin,
    ) {
        let is_lower = word.starts_with("min");
        let is_exclusive = word.ends_with("Exclusive");
        let known = if is_lower { made.facets.lower.clone() } else { made.facets.upper.clone() };
        // A bound may be the one of the base again, though that value itself lies outside.
        let prefixes = |prefix: &str| facet.namespace(prefix).map(str::to_owned);
        let written = normalized(text, White::Collapse).into_owned();
        let types = &self.components.simple;
        let value = types.value_of(types.get(base), &written, &prefixes);
        let is_same = known.as_ref().zip(value.as_ref()).is_some_and(|(known, value)| {
            known.value.is_same(value) && known.is_exclusive == is_exclusive
        });
        if let Some(known) = known.as_ref().filter(|known| known.is_fixed && !is_same) {
            let message = format!("the base has this bound fixed at {}", known.written);
            self.problem(origin, message, None);
            return;
        }
        let value = match value {
            Some(value) if is_same => value,
            _ => match self.facet_value(base, facet, text, origin) {
                Some((value, _)) => value,
                None => return,
            },
        };
        let is_fixed = is_fixed(facet) || known.is_some_and(|known| known.is_fixed);
        let bound = Some(Bound { value, written, is_exclusive, is_fixed, origin });
        if is_lower { made.facets.lower = bound } else { made.facets.upper = bound }
    }

    fn count(
        &mut self,
        made: &mut SimpleType,
        facet: &Node<'s>,
        (word, text): (&str, &str),
        origin: Origin,
    ) {
        let digits = normalized(text, White::Collapse);
        let digits = digits.strip_prefix('+').unwrap_or(&digits);
        let is_number = !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit());
        let count = digits.parse().unwrap_or(u64::MAX);
        if !is_number || word == "totalDigits" && count == 0 {
            let takes =
                if word == "totalDigits" { "greater than 0" } else { "that is not negative" };
            let message =
                format!("<{word}> takes a whole number {takes}, and here is {}", shown(text));
            self.problem(origin, message, None);
            return;
        }
        let facets = &mut made.facets;
        let (place, is_least) = match word {
            "length" => (&mut facets.length, None),
            "minLength" => (&mut facets.least_length, Some(true)),
            "maxLength" => (&mut facets.most_length, Some(false)),
            "totalDigits" => (&mut facets.total_digits, Some(false)),
            _ => (&mut facets.fraction_digits, Some(false)),
        };
        let known = *place;
        let is_wider = known.is_some_and(|known| match is_least {
            Some(true) => count < known.count,
            Some(false) => count > known.count,
            None => count != known.count,
        });
        let changes_fixed = known.is_some_and(|known| known.is_fixed && known.count != count);
        *place = Some(Counted {
            count,
            is_fixed: is_fixed(facet) || known.is_some_and(|known| known.is_fixed),
            origin,
        });
        let base = known.map_or(0, |known| known.count);
        if changes_fixed {
            self.problem(origin, format!("<{word}> is fixed at {base} in the base"), None);
        } else if is_wider {
            let message =
                format!("<{word}> is {base} in the base, and {count} is no restriction of that");
            self.problem(origin, message, None);
        }
    }

    /// Refuses facets that nothing can keep to at once.
    fn contradictions(&mut self, made: &SimpleType, origin: Origin) {
        let facets = &made.facets;
        let above = |a: Option<Counted>, b: Option<Counted>| {
            a.zip(b).filter(|(a, b)| a.count > b.count).map(|(a, b)| (a.count, b.count))
        };
        for (found, least, most) in [
            (above(facets.least_length, facets.most_length), "minLength", "maxLength"),
            (above(facets.least_length, facets.length), "minLength", "length"),
            (above(facets.length, facets.most_length), "length", "maxLength"),
            (above(facets.fraction_digits, facets.total_digits), "fractionDigits", "totalDigits"),
        ] {
            if let Some((a, b)) = found {
                self.problem(
                    origin,
                    format!("{least} is {a}, and {most} is {b}: nothing is both"),
                    None,
                );
            }
        }
        if let (Some(lower), Some(upper)) = (&facets.lower, &facets.upper) {
            let order = lower.value.order(&upper.value);
            let is_empty = match order {
                Some(std::cmp::Ordering::Greater) => true,
                Some(std::cmp::Ordering::Equal) => lower.is_exclusive != upper.is_exclusive,
                _ => false,
            };
            if is_empty {
                let message = format!(
                    "the least value is {}, and the greatest {}: nothing is between them",
                    lower.written, upper.written
                );
                self.problem(origin, message, None);
            }
        }
    }
}

fn is_fixed(facet: &Node<'_>) -> bool {
    facet.token("fixed").is_some_and(|(word, _)| matches!(word.as_str(), "true" | "1"))
}

/// Whether a facet applies to values of a type (part 2 section 4.1.5).
fn applies(word: &str, variety: &Variety) -> bool {
    let is_length = matches!(word, "length" | "minLength" | "maxLength");
    match variety {
        _ if matches!(word, "pattern" | "enumeration") => true,
        Variety::Union(_) => false,
        Variety::List(_) => is_length || word == "whiteSpace",
        _ if word == "whiteSpace" => true,
        Variety::Atomic(primitive) => {
            let is_text = matches!(
                primitive,
                Primitive::String
                    | Primitive::Hex
                    | Primitive::Base64
                    | Primitive::Uri
                    | Primitive::Name
                    | Primitive::Notation
            );
            match word {
                _ if is_length => is_text,
                "totalDigits" | "fractionDigits" => *primitive == Primitive::Decimal,
                _ => !is_text && *primitive != Primitive::Boolean,
            }
        }
        Variety::Any => false,
    }
}
