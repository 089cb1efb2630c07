//! Simple types as JSON Schemas.

use kyanite_eval::pattern::xsd::to_ecma;
use kyanite_tree::{Decimal, Value};

use super::{Members, Translator};
use crate::xsd::components::{SimpleId, TypeId};
use crate::xsd::simple::{Facets, Lexical, Role, SimpleType, Variety, White, normalized};
use crate::xsd::value::Primitive;

impl<'a> Translator<'_, 'a> {
    /// What a value of a simple type may be: a reference, if the type has a name that the schema gives it.
    pub(super) fn simple(&mut self, id: SimpleId, label: &str) -> Value<'a> {
        let known = self.components.simple.get(id);
        match &known.name {
            Some(name) if !name.starts_with("xs:") => self.reference(TypeId::Simple(id), label),
            _ => self.simple_definition(id),
        }
    }

    /// The definition of a simple type.
    pub(super) fn simple_definition(&mut self, id: SimpleId) -> Value<'a> {
        let components = self.components;
        let known = components.simple.get(id);
        let mut members: Members<'a> = Vec::new();
        match &known.variety {
            Variety::Any => return self.map(vec![("type", self.scalars())]),
            Variety::List(_) => {
                members.push(("type", Value::text("string")));
                self.lose("what the items of a list in a text may be is not said", known.origin);
                return self.map(members);
            }
            Variety::Union(all) => {
                let own: Vec<Value<'a>> =
                    all.iter().map(|one| self.simple(*one, "value")).collect();
                members.push(("anyOf", self.arena.list(&own)));
            }
            Variety::Atomic(primitive) => self.primitive(*primitive, known, &mut members),
        }
        self.facets(id, known, &mut members);
        self.map(members)
    }

    /// All that a text can be.
    fn scalars(&self) -> Value<'a> {
        self.arena.list(&["string", "number", "boolean", "null"].map(Value::text))
    }

    fn primitive(&mut self, primitive: Primitive, known: &SimpleType, members: &mut Members<'a>) {
        let of_type = match primitive {
            Primitive::Boolean => "boolean",
            Primitive::Decimal if known.lexical == Some(Lexical::Integer) => "integer",
            Primitive::Decimal => "number",
            Primitive::Float | Primitive::Double => {
                let number = self.map(vec![("type", Value::text("number"))]);
                let others = self.arena.list(&["INF", "-INF", "NaN"].map(Value::text));
                let others = self.map(vec![("enum", others)]);
                members.push(("anyOf", self.arena.list(&[number, others])));
                return;
            }
            _ => "string",
        };
        members.push(("type", Value::text(of_type)));
        // It describes: the standards differ in zones, and in what may be left out.
        let format = match primitive {
            Primitive::DateTime => "date-time",
            Primitive::Date => "date",
            Primitive::Time => "time",
            Primitive::Duration => "duration",
            Primitive::Uri => "uri-reference",
            _ => "",
        };
        if !format.is_empty() {
            members.push(("format", Value::text(format)));
        }
        if primitive == Primitive::Base64 {
            members.push(("contentEncoding", Value::text("base64")));
        }
        match known.role {
            Role::None => {}
            Role::Id | Role::Reference => {
                self.lose("identifiers and references to them are not said", known.origin);
            }
            Role::Entity => self.lose("that entities are declared is not said", known.origin),
        }
        match primitive {
            Primitive::Name | Primitive::Notation => {
                self.lose("that a text is a name with a prefix is not said", known.origin);
            }
            Primitive::String if known.lexical.is_some() && known.role == Role::None => {
                self.lose("that a text is a name or token of XML is not said", known.origin);
            }
            _ => {}
        }
    }

    fn facets(&mut self, id: SimpleId, known: &SimpleType, members: &mut Members<'a>) {
        let Facets { length, least_length, most_length, patterns, enumeration, .. } = &known.facets;
        let is_number = matches!(known.variety, Variety::Atomic(Primitive::Decimal));
        // Numbers and booleans have no spelling in JSON Schema.
        let has_spelling = !matches!(
            known.variety,
            Variety::Atomic(
                Primitive::Decimal | Primitive::Float | Primitive::Double | Primitive::Boolean
            )
        );
        let is_text = matches!(known.variety, Variety::Atomic(Primitive::String | Primitive::Uri));
        // The bounds beside a length say no more than it does.
        let bound = |facet| if length.is_none() { facet } else { &None };
        for (facet, keywords) in [
            (length, ["minLength", "maxLength"].as_slice()),
            (bound(least_length), &["minLength"]),
            (bound(most_length), &["maxLength"]),
        ] {
            let Some(facet) = facet else { continue };
            if !is_text {
                self.lose("how long a value is that is no text is not said", facet.origin);
                continue;
            }
            let count = self.count(facet.count);
            members.extend(keywords.iter().map(|keyword| (*keyword, count)));
        }
        let is_checked = length.is_some()
            || least_length.is_some()
            || most_length.is_some()
            || !patterns.is_empty()
            || enumeration.is_some();
        if is_text && is_checked && known.white != White::Preserve {
            self.lose("that white space around a text does not count is not said", known.origin);
        }
        let mut written = Vec::new();
        for step in patterns {
            let alternatives: Option<Vec<String>> =
                step.written.iter().map(|pattern| to_ecma(pattern)).collect();
            match alternatives {
                Some(alternatives) if has_spelling => written.push(alternatives.join("|")),
                _ => self.lose(
                    "some patterns are not said: those of numbers and booleans, and those with classes that ECMA-262 has not",
                    step.origin,
                ),
            }
        }
        if let [one] = written.as_slice() {
            members.push(("pattern", self.text(one)));
        } else if !written.is_empty() {
            let all: Vec<Value<'a>> =
                written.iter().map(|one| self.map(vec![("pattern", self.text(one))])).collect();
            members.push(("allOf", self.arena.list(&all)));
        }
        if let Some(listed) = enumeration {
            let all: Vec<Value<'a>> =
                listed.values.iter().map(|(_, text)| self.constant(id, text)).collect();
            members.push(("enum", self.arena.list(&all)));
        }
        self.bounds(known, is_number, members);
    }

    fn bounds(&mut self, known: &SimpleType, is_number: bool, members: &mut Members<'a>) {
        let Facets { lower, upper, total_digits, fraction_digits, .. } = &known.facets;
        for (bound, keywords) in
            [(lower, ["minimum", "exclusiveMinimum"]), (upper, ["maximum", "exclusiveMaximum"])]
        {
            let Some(bound) = bound else { continue };
            match Decimal::spelled(&bound.written).filter(|_| is_number) {
                Some(number) => {
                    let keyword = keywords[usize::from(bound.is_exclusive)];
                    members.push((keyword, self.arena.number(&number)));
                }
                None => self.lose("bounds of times and of floats are not said", bound.origin),
            }
        }
        let power = |exponent: u64, before: &str, sign: &str| {
            let text = format!("{before}1e{sign}{exponent}");
            Decimal::spelled(&text).filter(|_| exponent <= 300)
        };
        let fraction = fraction_digits.map(|digits| digits.count);
        let is_whole = known.lexical == Some(Lexical::Integer) || fraction == Some(0);
        if let Some(digits) = fraction.filter(|digits| *digits > 0)
            && let Some(unit) = power(digits, "", "-")
        {
            members.push(("multipleOf", self.arena.number(&unit)));
        } else if fraction == Some(0) && known.lexical.is_none() {
            members.push(("multipleOf", self.arena.integer(1)));
        }
        if let Some(digits) = total_digits {
            match (power(digits.count, "", ""), power(digits.count, "-", "")) {
                (Some(most), Some(least)) if is_whole => {
                    let has = |keyword: &str| members.iter().any(|(known, _)| *known == keyword);
                    let (has_least, has_most) = (
                        has("minimum") || has("exclusiveMinimum"),
                        has("maximum") || has("exclusiveMaximum"),
                    );
                    if !has_least {
                        members.push(("exclusiveMinimum", self.arena.number(&least)));
                    }
                    if !has_most {
                        members.push(("exclusiveMaximum", self.arena.number(&most)));
                    }
                    if has_least && has_most {
                        self.lose("how many digits a number has is not said", digits.origin);
                    }
                }
                _ => self.lose("how many digits a number has is not said", digits.origin),
            }
        }
    }

    /// A value of a simple type as JSON has it.
    pub(super) fn constant(&self, id: SimpleId, text: &str) -> Value<'a> {
        let known = self.components.simple.get(id);
        let plain = normalized(
            text,
            if known.white == White::Preserve { White::Preserve } else { White::Collapse },
        );
        match &known.variety {
            Variety::Atomic(Primitive::Decimal | Primitive::Float | Primitive::Double) => {
                match Decimal::spelled(&plain) {
                    Some(number) => self.arena.number(&number),
                    None => self.text(&plain),
                }
            }
            Variety::Atomic(Primitive::Boolean) => Value::boolean(matches!(&*plain, "true" | "1")),
            Variety::Union(members) => {
                let mut fitting = members.iter().filter(|member| {
                    let prefixes = &|_: &str| Some(String::new());
                    self.components
                        .simple
                        .check(**member, &plain, prefixes, &mut Vec::new())
                        .is_ok()
                });
                match fitting.next() {
                    Some(member) => self.constant(*member, text),
                    None => self.text(&plain),
                }
            }
            _ => self.text(&plain),
        }
    }
}
