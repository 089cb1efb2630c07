//! An XML Schema as a JSON Schema (2020-12) of the same documents in the record view.
//!
//! Types are kept: numbers are numbers, booleans booleans and nulls null, and what may be repeated is always a list. So the JSON Schema is one of
//! records that were read with the schema at hand. What JSON Schema cannot say is left out of it, and told.

mod values;

use std::collections::{BTreeSet, HashMap};

use indexmap::{IndexMap, IndexSet};
use kyanite_tree::{Arena, Origin, Value};

use super::Schema;
use super::components::{
    ANY_TYPE, ComplexId, ComplexType, Components, Content, Derivations, ElementDeclaration,
    ElementId, NameId, TypeId,
};
use super::documents::XML;
use super::model::{Occurrence, Often};
use crate::Problem;

/// How members are called that stand for elements and attributes.
#[derive(Clone, Copy, Debug)]
pub enum MemberNames<'n> {
    /// By their local names.
    Local,
    /// With the prefixes that are given for namespaces: pairs of prefix and namespace.
    Prefixed(&'n [(String, String)]),
}

/// A JSON Schema that was made.
#[derive(Debug)]
pub struct Translated<'a> {
    /// The schema.
    pub schema: Value<'a>,
    /// What it does not say, and where the XML Schema does.
    pub losses: Vec<Problem>,
}

impl Schema {
    /// The JSON Schema of the record view of the documents that this schema is for.
    #[must_use]
    pub fn to_json_schema<'a>(&self, names: MemberNames<'_>, arena: &'a Arena) -> Translated<'a> {
        let derived = derived_types(&self.components);
        let mut translator = Translator {
            components: &self.components,
            names,
            arena,
            derived,
            definitions: IndexMap::new(),
            made: Vec::new(),
            taken: HashMap::new(),
            losses: IndexMap::new(),
            here: Origin::NONE,
        };
        let schema = translator.document();
        let losses = translator.losses.into_iter().map(|(message, origin)| Problem {
            message,
            advice: None,
            origin,
            missing: None,
        });
        Translated { schema, losses: losses.collect() }
    }
}

/// For each complex type those that are derived from it, however far.
fn derived_types(components: &Components) -> HashMap<ComplexId, Vec<ComplexId>> {
    let mut all: HashMap<ComplexId, Vec<ComplexId>> = HashMap::new();
    for number in 0..components.complex.len() {
        let own = ComplexId(number);
        let mut at = components.complex(own).base;
        // As many steps as there are types.
        for _ in 0..components.complex.len() {
            let TypeId::Complex(base) = at else { break };
            if base == ANY_TYPE || base == own {
                break;
            }
            all.entry(base).or_default().push(own);
            at = components.complex(base).base;
        }
    }
    all
}

/// Members that declare namespaces, and what documents say of schemas: they are no attributes of a type.
const DECLARATIONS: &str =
    "^@(xmlns(:|$)|[^:]+:(type|nil|schemaLocation|noNamespaceSchemaLocation)$)";

/// Members of a schema under way.
type Members<'a> = Vec<(&'a str, Value<'a>)>;

struct Translator<'t, 'a> {
    components: &'t Components,
    names: MemberNames<'t>,
    arena: &'a Arena,
    derived: HashMap<ComplexId, Vec<ComplexId>>,
    /// What each type is called in `$defs`, in the order in which they were asked for.
    definitions: IndexMap<TypeId, String>,
    /// Those that were made, in that order.
    made: Vec<Value<'a>>,
    /// How often each name was wanted.
    taken: HashMap<String, usize>,
    /// What is not said, once each, with the first place.
    losses: IndexMap<String, Origin>,
    /// The declaration that is being looked at.
    here: Origin,
}

impl<'a> Translator<'_, 'a> {
    fn lose(&mut self, message: impl Into<String>, origin: Origin) {
        // What is built in stands nowhere, but is used somewhere.
        let origin = if origin.is_known() { origin } else { self.here };
        self.losses.entry(message.into()).or_insert(origin);
    }

    fn text(&self, text: &str) -> Value<'a> {
        Value::text(self.arena.text(text))
    }

    fn map(&self, members: Members<'a>) -> Value<'a> {
        self.arena.map(members)
    }

    fn count(&self, count: u64) -> Value<'a> {
        self.arena.integer(i64::try_from(count).unwrap_or(i64::MAX))
    }

    /// The whole: a map with the root element.
    fn document(&mut self) -> Value<'a> {
        let mut roots: Vec<(NameId, ElementId)> =
            self.components.global_elements.iter().map(|(name, id)| (*name, *id)).collect();
        roots.sort_unstable();
        let mut properties: IndexMap<&'a str, Value<'a>> = IndexMap::new();
        for (_, id) in roots {
            let declared = self.components.element(id);
            if !declared.is_abstract {
                let name = self.member_name(declared.name, "");
                let mut value = self.element(declared);
                if self.is_text(declared.of_type) {
                    // Beside its text a root declares namespaces.
                    let object = self.text_with_declarations(value);
                    value = self.map(vec![("anyOf", self.arena.list(&[value, object]))]);
                }
                self.property(&mut properties, name, value);
            }
        }
        // Types ask for further types.
        while let Some((id, label)) = self.definitions.get_index(self.made.len()) {
            let (id, label) = (*id, label.clone());
            let made = match id {
                TypeId::Complex(id) => {
                    let made = self.complex(id, &label);
                    self.described(made, self.components.complex(id).origin)
                }
                TypeId::Simple(id) => {
                    let made = self.simple_definition(id);
                    self.described(made, self.components.simple.get(id).origin)
                }
            };
            self.made.push(made);
        }
        if !self.components.constraints.is_empty() {
            let message = "keys, unique values and references to keys are not said";
            let origin = self.components.constraints.iter().map(|known| known.origin).next();
            self.lose(message, origin.unwrap_or(Origin::NONE));
        }
        let one = self.count(1);
        let mut whole = vec![
            ("$schema", Value::text("https://json-schema.org/draft/2020-12/schema")),
            ("type", Value::text("object")),
            ("properties", self.map(properties.into_iter().collect())),
            ("additionalProperties", Value::boolean(false)),
            ("minProperties", one),
            ("maxProperties", one),
        ];
        if !self.made.is_empty() {
            let names = self.definitions.values().map(|name| self.arena.text(name));
            let all: Members<'a> = names.zip(self.made.iter().copied()).collect();
            whole.push(("$defs", self.map(all)));
        }
        self.map(whole)
    }

    /// Whether elements of a type are only texts.
    fn is_text(&self, id: TypeId) -> bool {
        match id {
            TypeId::Simple(_) => true,
            TypeId::Complex(id) => {
                let known = self.components.complex(id);
                !matches!(known.content, Content::Elements(_))
                    && known.attributes.iter().all(|used| used.is_prohibited)
                    && known.other_attributes.is_none()
                    && !known.is_mixed
            }
        }
    }

    fn text_with_declarations(&self, text: Value<'a>) -> Value<'a> {
        let declarations = self.arena.map([(DECLARATIONS, Value::boolean(true))]);
        let own = self.arena.map([("#text", text)]);
        self.map(vec![
            ("type", Value::text("object")),
            ("properties", own),
            ("patternProperties", declarations),
            ("additionalProperties", Value::boolean(false)),
        ])
    }

    /// The member that an element or attribute is, `mark` in front.
    fn member_name(&self, name: NameId, mark: &str) -> &'a str {
        let names = &self.components.names;
        let (namespace, local) = (names.namespace(name), names.local(name));
        let prefix = match self.names {
            MemberNames::Prefixed(_) if namespace == XML => "xml",
            MemberNames::Prefixed(all) if !namespace.is_empty() => {
                // An attribute without prefix has no namespace.
                let mut fitting = all.iter().filter(|(prefix, known)| {
                    // Documents seldom leave out the prefix that schemas use; attributes cannot.
                    known == namespace && !prefix.is_empty()
                });
                fitting.next().map_or("", |(prefix, _)| prefix.as_str())
            }
            _ => "",
        };
        let colon = if prefix.is_empty() { "" } else { ":" };
        self.arena.concat(&[mark, prefix, colon, local])
    }

    /// Adds a property; elements of several namespaces may have one name.
    fn property(
        &mut self,
        properties: &mut IndexMap<&'a str, Value<'a>>,
        name: &'a str,
        value: Value<'a>,
    ) {
        let value = match properties.get(name) {
            Some(known) => {
                self.lose(
                    format!("several elements are called {name}, of different namespaces"),
                    Origin::NONE,
                );
                self.map(vec![("anyOf", self.arena.list(&[*known, value]))])
            }
            None => value,
        };
        properties.insert(name, value);
    }

    /// A reference to the definition of a type, which is called so unless it has a name.
    fn reference(&mut self, id: TypeId, label: &str) -> Value<'a> {
        let name = match self.definitions.get(&id) {
            Some(known) => known.clone(),
            None => {
                let name = match id {
                    TypeId::Complex(complex) => self.components.complex(complex).name.as_deref(),
                    TypeId::Simple(simple) => self.components.simple.get(simple).name.as_deref(),
                };
                // Those without a name of their own go by that of their element or attribute.
                let name = name.filter(|name| !name.contains(' ')).unwrap_or(label);
                let name = name.rsplit(':').next().unwrap_or(name);
                let count = self.taken.entry(name.to_owned()).or_default();
                *count += 1;
                let name = if *count == 1 { name.to_owned() } else { format!("{name}-{count}") };
                self.definitions.insert(id, name.clone());
                name
            }
        };
        let mut pointer = String::from("#/$defs");
        kyanite_tree::pointer::push(&mut pointer, &name);
        self.map(vec![("$ref", self.text(&pointer))])
    }

    /// What an element may be.
    fn element(&mut self, declared: &ElementDeclaration) -> Value<'a> {
        self.here = declared.origin;
        let label = self.components.names.local(declared.name).to_owned();
        let mut value = self.of_type(declared.of_type, &label, declared.origin);
        let text_type = self.components.text_type(declared.of_type);
        if let (Some(given), Some(simple)) = (&declared.given, text_type)
            && matches!(declared.of_type, TypeId::Simple(_))
        {
            let keyword = if given.is_fixed { "const" } else { "default" };
            let constant = self.constant(simple, &given.text);
            value = self.with(value, keyword, constant);
        }
        if declared.is_nillable {
            let null = self.map(vec![("type", Value::text("null"))]);
            value = self.map(vec![("anyOf", self.arena.list(&[value, null]))]);
        }
        self.described(value, declared.origin)
    }

    /// A schema with what the documentation says that stands at a place.
    fn described(&self, schema: Value<'a>, origin: Origin) -> Value<'a> {
        match self.components.documentation.get(&origin) {
            // Of what is never valid nothing can be said beside.
            Some(text) if !matches!(schema, Value::Boolean(_, false)) => {
                self.with(schema, "description", self.text(text))
            }
            _ => schema,
        }
    }

    /// A schema with a member more.
    fn with(&self, schema: Value<'a>, name: &'a str, value: Value<'a>) -> Value<'a> {
        let members = schema.as_map().map(|map| map.members()).unwrap_or_default();
        let own = members.iter().map(|member| (member.name, member.value));
        self.map(own.chain([(name, value)]).collect())
    }

    /// What a value of a type may be, those of the types among them that are derived from it.
    fn of_type(&mut self, id: TypeId, label: &str, origin: Origin) -> Value<'a> {
        let complex = match id {
            TypeId::Simple(id) => return self.simple(id, label),
            TypeId::Complex(ANY_TYPE) => return Value::boolean(true),
            TypeId::Complex(id) => id,
        };
        let derived = self.derived.get(&complex).cloned().unwrap_or_default();
        let known = self.components.complex(complex);
        let may_stand = |id: &ComplexId| {
            let other = self.components.complex(*id);
            let methods = self.components.derived(TypeId::Complex(*id), TypeId::Complex(complex));
            !other.is_abstract
                && !methods.is_some_and(|methods| known.block.and(methods) != Derivations::NONE)
        };
        let others: Vec<ComplexId> = derived.into_iter().filter(may_stand).collect();
        let own = (!known.is_abstract).then_some(complex);
        let all: Vec<ComplexId> = own.into_iter().chain(others).collect();
        let made: Vec<Value<'a>> =
            all.iter().map(|id| self.reference(TypeId::Complex(*id), label)).collect();
        match made.as_slice() {
            [] => Value::boolean(false),
            [one] => *one,
            several => {
                self.lose("which type xsi:type names is not said", origin);
                self.map(vec![("anyOf", self.arena.list(several))])
            }
        }
    }

    /// The definition of a complex type.
    fn complex(&mut self, id: ComplexId, label: &str) -> Value<'a> {
        let known = self.components.complex(id);
        let mut properties = IndexMap::new();
        let mut required: Vec<Value<'a>> = Vec::new();
        self.attributes(known, label, &mut properties, &mut required);
        let has_attributes = !properties.is_empty() || known.other_attributes.is_some();
        match known.content {
            Content::Simple(simple) if !has_attributes => self.simple(simple, label),
            Content::Simple(simple) => {
                let text = self.simple(simple, label);
                properties.insert("#text", text);
                self.object(known, properties, required, Vec::new(), false)
            }
            Content::Empty if !has_attributes && !known.is_mixed => {
                self.map(vec![("const", Value::text(""))])
            }
            Content::Empty => self.mixed(known, properties, required, &Occurrence::default()),
            Content::Elements(model) => {
                let occurrence = self.components.models[model].occurrence(self.components);
                self.mixed(known, properties, required, &occurrence)
            }
        }
    }

    fn attributes(
        &mut self,
        known: &ComplexType,
        label: &str,
        properties: &mut IndexMap<&'a str, Value<'a>>,
        required: &mut Vec<Value<'a>>,
    ) {
        for used in known.attributes.iter().filter(|used| !used.is_prohibited) {
            let declared = &used.declaration;
            self.here = declared.origin;
            let name = self.member_name(declared.name, "@");
            let own = format!("{label}.{}", self.components.names.local(declared.name));
            let mut value = self.simple(declared.of_type, &own);
            if let Some(given) = &declared.given {
                let keyword = if given.is_fixed { "const" } else { "default" };
                let constant = self.constant(declared.of_type, &given.text);
                value = self.with(value, keyword, constant);
            }
            properties.insert(name, self.described(value, declared.origin));
            if used.is_required {
                required.push(Value::text(name));
            }
        }
    }

    /// A map of elements, with text between them where the type is mixed.
    fn mixed(
        &mut self,
        known: &ComplexType,
        mut properties: IndexMap<&'a str, Value<'a>>,
        mut required: Vec<Value<'a>>,
        occurrence: &Occurrence,
    ) -> Value<'a> {
        let is_ordered = known.is_mixed || occurrence.interleaves;
        let mut single: IndexMap<&'a str, Value<'a>> = IndexMap::new();
        let mut stand_ins: Vec<Vec<Value<'a>>> = Vec::new();
        for (name, often) in &occurrence.elements {
            let elements = self.that_may_stand(often.element);
            let is_one = elements.len() == 1;
            let mut members = Vec::new();
            for element in elements {
                let declared = self.components.element(element);
                let member = self.member_name(declared.name, "");
                let value = self.element(declared);
                self.property(&mut single, member, value);
                let counted = match (properties.contains_key(member), single.get(member)) {
                    // Elements of several namespaces are one member, which may be several of them.
                    (true, Some(any)) => self.one_or_several(*any),
                    _ => self.counted(value, *often, is_one && !is_ordered),
                };
                properties.insert(member, counted);
                members.push(Value::text(member));
            }
            let is_needed = occurrence.needed.iter().all(|set| set.contains(name));
            match members.as_slice() {
                [one] if is_needed && often.least > 0 && !is_ordered => {
                    required.retain(|known| known.as_text() != one.as_text());
                    required.push(*one);
                }
                [_, _, ..] if is_needed && often.least > 0 && !is_ordered => {
                    stand_ins.push(members);
                }
                _ => {}
            }
        }
        let mut more = Vec::new();
        for members in stand_ins {
            let alternatives: Vec<Value<'a>> =
                members.iter().map(|one| self.requires(&[*one])).collect();
            more.push(self.map(vec![("anyOf", self.arena.list(&alternatives))]));
        }
        if occurrence.needed.len() > 1 && !is_ordered {
            more.extend(self.choice(occurrence));
        }
        if is_ordered {
            let message = match known.is_mixed {
                true => "how text and elements follow each other is not said",
                false => "how elements that are repeated by turns follow each other is not said",
            };
            self.lose(message, known.origin);
            let content = self.content(single, known.is_mixed, occurrence.is_open);
            properties.insert("#content", content);
        }
        if known.is_mixed {
            properties.insert("#text", self.map(vec![("type", Value::text("string"))]));
        }
        let object = self.object(known, properties, required, more, occurrence.is_open);
        if !known.is_mixed {
            return object;
        }
        let text = self.map(vec![("type", Value::text("string"))]);
        self.map(vec![("anyOf", self.arena.list(&[text, object]))])
    }

    /// The elements that may stand where this one does.
    fn that_may_stand(&self, id: ElementId) -> Vec<ElementId> {
        let others = self.components.substitutes.get(&id).into_iter().flatten().copied();
        let all: IndexSet<ElementId> = std::iter::once(id).chain(others).collect();
        all.into_iter().filter(|id| !self.components.element(*id).is_abstract).collect()
    }

    /// A member that occurs so often: a list, unless it occurs once at most.
    fn counted(&self, value: Value<'a>, often: Often, is_exact: bool) -> Value<'a> {
        if often.most == Some(1) {
            return value;
        }
        let mut list = vec![("type", Value::text("array")), ("items", value)];
        let least = if is_exact { often.least.max(1) } else { 1 };
        list.push(("minItems", self.count(least)));
        if let Some(most) = often.most.filter(|_| is_exact) {
            list.push(("maxItems", self.count(most)));
        }
        self.map(list)
    }

    /// A member that may be a value, or a list of these.
    fn one_or_several(&self, value: Value<'a>) -> Value<'a> {
        let least = self.count(1);
        let list =
            self.map(vec![("type", Value::text("array")), ("items", value), ("minItems", least)]);
        self.map(vec![("anyOf", self.arena.list(&[value, list]))])
    }

    fn requires(&self, members: &[Value<'a>]) -> Value<'a> {
        self.map(vec![("required", self.arena.list(members))])
    }

    /// That the members of one of several sets have to be there.
    fn choice(&mut self, occurrence: &Occurrence) -> Option<Value<'a>> {
        let common = occurrence.needed.iter().skip(1);
        let common = common.fold(occurrence.needed.first()?.clone(), |all, set| &all & set);
        let mut alternatives = Vec::new();
        for set in &occurrence.needed {
            let own: BTreeSet<NameId> = set - &common;
            let mut members = Vec::new();
            for name in own {
                let often = occurrence.elements.get(&name)?;
                match self.that_may_stand(often.element).as_slice() {
                    [one] => members.push(Value::text(
                        self.member_name(self.components.element(*one).name, ""),
                    )),
                    // The schema does not say which of several that stand in for each other comes.
                    _ => return None,
                }
            }
            alternatives.push(self.requires(&members));
        }
        let origin = occurrence.elements.values().next();
        let origin = origin.map(|often| self.components.element(often.element).origin);
        self.lose(
            "that the alternatives of a choice exclude each other is not said",
            origin.unwrap_or(Origin::NONE),
        );
        Some(self.map(vec![("anyOf", self.arena.list(&alternatives))]))
    }

    /// Content in order: texts, and maps of one member.
    fn content(
        &self,
        single: IndexMap<&'a str, Value<'a>>,
        is_mixed: bool,
        is_open: bool,
    ) -> Value<'a> {
        let one = self.count(1);
        let mut item = vec![
            ("type", Value::text("object")),
            ("properties", self.map(single.into_iter().collect())),
            ("minProperties", one),
            ("maxProperties", one),
        ];
        if !is_open {
            item.push(("additionalProperties", Value::boolean(false)));
        }
        let mut items = self.map(item);
        if is_mixed {
            let text = self.map(vec![("type", Value::text("string"))]);
            items = self.map(vec![("anyOf", self.arena.list(&[text, items]))]);
        }
        self.map(vec![("type", Value::text("array")), ("items", items)])
    }

    fn object(
        &mut self,
        known: &ComplexType,
        properties: IndexMap<&'a str, Value<'a>>,
        required: Vec<Value<'a>>,
        more: Vec<Value<'a>>,
        is_open: bool,
    ) -> Value<'a> {
        let mut members = vec![("type", Value::text("object"))];
        if !properties.is_empty() {
            members.push(("properties", self.map(properties.into_iter().collect())));
        }
        if !required.is_empty() {
            members.push(("required", self.arena.list(&required)));
        }
        if !more.is_empty() {
            members.push(("allOf", self.arena.list(&more)));
        }
        if is_open {
            self.lose("which other elements a wildcard allows is not said", known.origin);
            return self.map(members);
        }
        let others = match known.other_attributes {
            Some(_) => "^@",
            None => DECLARATIONS,
        };
        if known.other_attributes.is_some() {
            self.lose("which other attributes a wildcard allows is not said", known.origin);
        }
        let others = self.arena.map([(others, Value::boolean(true))]);
        members.push(("patternProperties", others));
        members.push(("additionalProperties", Value::boolean(false)));
        self.map(members)
    }
}
