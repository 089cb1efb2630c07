//! From documents to schemas that refer to each other by numbers.

mod target;

use std::collections::HashMap;

use kyanite_eval::uri::resolve;
use kyanite_tree::{Advice, Map, Origin, Setting, Value, near_words};

use super::check::DEPTH;
use super::dialect::Dialect;
use super::keyword::{Dependency, Holds, Keyword, known};
use super::{Document, Draft, Node, Rule, Schema, Settings};
use crate::{Problem, RulePlace};
use target::{Target, navigate};

impl<'s> Schema<'s> {
    /// Compiles a document that is a schema, with others that it may refer to.
    ///
    /// # Errors
    /// All that makes it no schema.
    pub fn compile(
        root: Document<'s>,
        others: &[Document<'s>],
        settings: Settings,
    ) -> Result<Self, Vec<Problem>> {
        let mut compiler = Compiler {
            settings,
            documents: HashMap::new(),
            ids: HashMap::new(),
            dynamic: HashMap::new(),
            resources: HashMap::new(),
            references: Vec::new(),
            nodes: Vec::new(),
            known: HashMap::new(),
            places: Vec::new(),
            problems: Vec::new(),
            remarks: Vec::new(),
            depth: 0,
        };
        let documents = || std::iter::once(&root).chain(others);
        documents().for_each(|document| compiler.know(document));
        let targets: Vec<Target<'s>> = documents()
            .enumerate()
            .map(|(number, document)| compiler.document(number, document))
            .collect();
        let Some(first) = targets.first() else { return Err(compiler.problems) };
        compiler.schema(first);
        compiler.settle_dynamic();
        compiler.refuse_circles();
        if !compiler.problems.is_empty() {
            return Err(compiler.problems);
        }
        let is_dynamic = !compiler.references.is_empty();
        let mut schema = Self {
            nodes: compiler.nodes,
            is_dynamic,
            reads: settings.reads,
            remarks: compiler.remarks,
            acceptor: None,
        };
        schema.acceptor = schema.find_acceptor();
        Ok(schema)
    }
}

/// A compilation under way.
pub(super) struct Compiler<'s> {
    settings: Settings,
    /// Documents by their URIs, both those that they are known by and those that they give themselves.
    documents: HashMap<String, Value<'s>>,
    /// Schemas by their URIs, some with a fragment.
    ids: HashMap<String, Target<'s>>,
    /// Schemas by the names that dynamic references may mean.
    dynamic: HashMap<&'s str, Vec<Target<'s>>>,
    /// The numbers of resources, by their URIs.
    resources: HashMap<String, usize>,
    /// Dynamic references: the schema that has one, the place of its rule in it, the name.
    references: Vec<(usize, usize, &'s str)>,
    nodes: Vec<Node<'s>>,
    /// The number of the schema at each pointer of each document.
    known: HashMap<(usize, String), usize>,
    /// Where each schema stands.
    places: Vec<Origin>,
    pub(super) problems: Vec<Problem>,
    remarks: Vec<Problem>,
    /// How many schemas are being compiled inside each other.
    depth: usize,
}

impl<'s> Compiler<'s> {
    /// Takes up a document by its URIs.
    fn know(&mut self, document: &Document<'s>) {
        let given = || document.uri.split('#').next().unwrap_or_default();
        let map = document.value.as_map();
        let own = map.and_then(|map| map.get("$id").or_else(|| map.get("id"))?.as_text());
        let own = own.and_then(|own| resolve(own, given()));
        let uris = own.iter().filter_map(|own| own.split('#').next()).chain([given()]);
        for uri in uris {
            self.documents.entry(uri.to_owned()).or_insert(document.value);
        }
    }

    /// Takes up a document; gives it as a schema.
    fn document(&mut self, number: usize, document: &Document<'s>) -> Target<'s> {
        let dialect = self.dialect(document.value);
        let uri = document.uri.split('#').next().unwrap_or_default().to_owned();
        let (pointer, base) = (String::new(), uri.clone());
        let (value, resource_at) = (document.value, 0);
        let whole = Target { document: number, pointer, value, base, resource_at, dialect };
        let whole = whole.rebased();
        // Of two documents of one URI the first counts: the one that is compiled is often given among the others, too.
        self.ids.entry(uri).or_insert_with(|| whole.clone());
        self.index(&whole);
        whole
    }

    /// What a document is written in: what the standard's meta-schema says that it names, or one of others.
    fn dialect(&mut self, document: Value<'s>) -> Dialect {
        let usual = Dialect::whole(self.settings.draft.unwrap_or(Draft::USUAL), self.settings);
        let (mut named, mut vocabularies) = (document, None);
        // As many steps as there are documents: they might name each other.
        for _ in 0..=self.documents.len() {
            let said = named.as_map().and_then(|map| map.get("$schema"));
            let Some((said, uri)) = said.and_then(|said| Some((said, said.as_text()?))) else {
                return usual;
            };
            if let Some(draft) = Draft::of_uri(uri) {
                let whole = Dialect::whole(draft, self.settings);
                let Some(vocabularies) = vocabularies else { return whole };
                return Dialect::of_vocabularies(draft, vocabularies, self.settings)
                    .unwrap_or_else(|unknown| {
                        let message = format!(
                            "the meta-schema needs the vocabulary {unknown}, which is not known"
                        );
                        self.problem(message, None, said.origin());
                        whole
                    });
            }
            let Some(meta) = self.documents.get(uri.trim_end_matches('#')).copied() else {
                let message = format!("{uri:?} is no draft of JSON Schema that is known");
                let advice = Advice::words(
                    "drafts 4, 6, 7, 2019-09 and 2020-12 are; if it is a meta-schema of your own, say which file it is: ",
                );
                let advice = advice.setting(Setting::SchemaMap(uri.to_owned()));
                self.problem(message, Some(advice), said.origin());
                return usual;
            };
            let of_meta = meta.as_map().and_then(|map| map.get("$vocabulary")?.as_map());
            (named, vocabularies) = (meta, vocabularies.or(of_meta));
        }
        usual
    }

    /// Takes up the names that schemas in a document give themselves.
    fn index(&mut self, target: &Target<'s>) {
        if let Some(id) = target.id() {
            let uri = match id.strip_prefix('#') {
                Some(_) => format!("{}{id}", target.base),
                None => target.base.clone(),
            };
            self.ids.entry(uri).or_insert_with(|| target.clone());
        }
        for (name, is_dynamic) in target.anchors() {
            if !name.is_empty() {
                let uri = format!("{}#{name}", target.base);
                self.ids.entry(uri).or_insert_with(|| target.clone());
            }
            if is_dynamic {
                self.dynamic.entry(name).or_default().push(target.clone());
            }
        }
        match target.value {
            Value::Map(_, map) if target.dialect.draft <= Draft::V7 => {
                // Their values are no schemas, whatever they look like.
                let holds_schemas = |name: &str| !matches!(name, "enum" | "const");
                for member in map.members().iter().filter(|member| holds_schemas(member.name)) {
                    self.index(&target.inner(member.name, member.value));
                }
            }
            Value::Map(_, map) => {
                for member in map.members() {
                    let holds = known(member.name, target.dialect).map(|word| word.holds);
                    match (holds, member.value) {
                        (Some(Holds::Schema | Holds::SchemaOrList), value @ Value::Map(..)) => {
                            self.index(&target.inner(member.name, value));
                        }
                        (Some(Holds::List | Holds::SchemaOrList), Value::List(_, items)) => {
                            for (at, item) in items.iter().enumerate() {
                                self.index(
                                    &target.inner_of(&[member.name, &at.to_string()], *item),
                                );
                            }
                        }
                        (Some(Holds::Map), Value::Map(_, schemas)) => {
                            for schema in schemas.members() {
                                let path = [member.name, schema.name];
                                self.index(&target.inner_of(&path, schema.value));
                            }
                        }
                        _ => {}
                    }
                }
            }
            Value::List(_, items) if target.dialect.draft <= Draft::V7 => {
                for (at, item) in items.iter().enumerate() {
                    self.index(&target.inner(&at.to_string(), *item));
                }
            }
            _ => {}
        }
    }

    pub(super) fn problem(
        &mut self,
        message: impl Into<String>,
        advice: Option<Advice>,
        origin: Origin,
    ) {
        let (message, missing) = (message.into(), None);
        self.problems.push(Problem { message, advice, origin, missing });
    }

    /// The number of a schema, which is compiled unless it is already.
    fn schema(&mut self, target: &Target<'s>) -> usize {
        let key = (target.document, target.pointer.clone());
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        let number = self.nodes.len();
        self.known.insert(key, number);
        let count = self.resources.len();
        let resource = *self.resources.entry(target.base.clone()).or_insert(count);
        let draft = target.dialect.draft;
        let (rules, location) = (Vec::new(), target.location());
        self.nodes.push(Node { rules, location, draft, resource, asks_evaluated: false });
        self.places.push(target.value.origin());
        if self.depth >= DEPTH {
            let message = format!("schemas lead to each other through more than {DEPTH} others");
            self.problem(message, None, target.value.origin());
            return number;
        }
        self.depth += 1;
        let mut rules = self.rules(target);
        // What the others have looked at is known once they have.
        let is_last = |rule: &Rule<'_>| {
            matches!(rule.keyword, Keyword::OtherItems(_) | Keyword::OtherMembers(_))
        };
        rules.sort_by_key(is_last);
        let named = rules.iter().enumerate().filter_map(|(at, rule)| match &rule.keyword {
            Keyword::Dynamic(first, _) => Some((at, *first)),
            _ => None,
        });
        for (at, first) in named.collect::<Vec<_>>() {
            // The reference is dynamic only if its first target has a dynamic name.
            match self.dynamic_name(target, rules[at].place.keyword, first) {
                Some(name) => self.references.push((number, at, name)),
                None => rules[at].keyword = Keyword::Reference(first),
            }
        }
        self.nodes[number].asks_evaluated = rules.iter().any(is_last);
        self.nodes[number].rules = rules;
        self.depth -= 1;
        number
    }

    fn rules(&mut self, target: &Target<'s>) -> Vec<Rule<'s>> {
        let place = |keyword: &'static str, origin: Origin| RulePlace { origin, keyword };
        let mut rules = Vec::new();
        // In draft 4 only two keywords take true and false, as if these were schemas.
        let may_be_boolean = target.dialect.draft > Draft::V4
            || ["/additionalItems", "/additionalProperties"]
                .into_iter()
                .any(|keyword| target.pointer.ends_with(keyword));
        match target.value {
            Value::Boolean(_, true) if may_be_boolean => {}
            Value::Boolean(origin, false) if may_be_boolean => {
                rules.push(Rule { keyword: Keyword::Nothing, place: place("", origin) });
            }
            Value::Map(_, map) => {
                if target.dialect.draft <= Draft::V7
                    && let Some(reference) = map.get("$ref")
                    && let Some(text) = reference.as_text()
                {
                    let found = self.reference(target, text, reference.origin());
                    let keyword = found.map(Keyword::Reference);
                    let place = place("$ref", reference.origin());
                    return keyword.map(|keyword| Rule { keyword, place }).into_iter().collect();
                }
                self.remark_unknown(target, map);
                let mut reader =
                    super::read::Reader { compiler: self, target: Inside { target, map } };
                for (word, keyword, origin) in reader.keywords() {
                    rules.push(Rule { keyword, place: place(word, origin) });
                }
            }
            other => {
                let what =
                    if target.dialect.draft > Draft::V4 { "a map, true or false" } else { "a map" };
                let message = format!("a schema is {what}, and here is {}", other.kind().phrase());
                self.problem(message, None, other.origin());
            }
        }
        rules
    }

    /// Remarks on members that are no keywords: by the standard they say nothing, but they may have been meant to.
    fn remark_unknown(&mut self, target: &Target<'s>, map: &'s Map<'s>) {
        let known = || super::keyword::words(target.dialect);
        let mut remark = |message: String, advice: Option<String>, origin: Origin| {
            let (advice, missing) = (advice.map(Advice::words), None);
            self.remarks.push(Problem { message, advice, origin, missing });
        };
        let is_known = |name: &str| known().any(|word| word == name);
        for member in map.members().iter().filter(|member| !is_known(member.name)) {
            if let Some(near) = near_words(member.name, known()) {
                let message = format!("`{}` is no keyword, so it says nothing", member.name);
                remark(message, Some(near), member.value.origin());
            }
        }
        if !map.is_empty() && map.members().iter().all(|member| !is_known(member.name)) {
            let message = "none of the members of this schema is a keyword, so it fits everything";
            let names: Vec<&str> = map.members().iter().take(8).map(|member| member.name).collect();
            let advice = format!("there are: {}", names.join(", "));
            remark(message.to_owned(), Some(advice), target.value.origin());
        }
    }

    /// The name by which a dynamic reference looks for schemas: the fragment of `$dynamicRef` if what it first means is called
    /// so dynamically, nothing of `$recursiveRef` if that is such a resource.
    fn dynamic_name(&self, from: &Target<'s>, word: &str, first: usize) -> Option<&'s str> {
        let map = from.value.as_map()?;
        let name = match map.get(word)?.as_text()? {
            _ if word == "$recursiveRef" => "",
            text => text.split_once('#')?.1,
        };
        let mut targets = self.dynamic.get_key_value(name)?.1.iter();
        let is_first = |target: &Target<'s>| {
            self.known.get(&(target.document, target.pointer.clone())) == Some(&first)
        };
        targets.any(is_first).then_some(*self.dynamic.get_key_value(name)?.0)
    }

    /// Compiles what dynamic references may mean, in all resources that are used.
    fn settle_dynamic(&mut self) {
        loop {
            let before = self.nodes.len();
            let names: Vec<&'s str> = self.references.iter().map(|(_, _, name)| *name).collect();
            for name in names {
                let named = self.dynamic.get(name).cloned().unwrap_or_default();
                for target in named
                    .iter()
                    .filter(|target| self.resources.contains_key(&target.base))
                    .cloned()
                    .collect::<Vec<_>>()
                {
                    self.schema(&target);
                }
            }
            if self.nodes.len() == before {
                break;
            }
        }
        for (node, rule, name) in &self.references {
            let named = self.dynamic.get(name).into_iter().flatten();
            let found = named.filter_map(|target| {
                let resource = *self.resources.get(&target.base)?;
                Some((resource, *self.known.get(&(target.document, target.pointer.clone()))?))
            });
            let found = found.collect();
            if let Keyword::Dynamic(_, all) = &mut self.nodes[*node].rules[*rule].keyword {
                *all = found;
            }
        }
    }

    /// The schema that a reference means.
    pub(super) fn reference(
        &mut self,
        from: &Target<'s>,
        text: &str,
        origin: Origin,
    ) -> Option<usize> {
        let full = resolve(text, &from.base).unwrap_or_else(|| text.to_owned());
        let (uri, fragment) = full.split_once('#').unwrap_or((&full, ""));
        let Some(resource) = self.ids.get(uri).cloned() else {
            let message = format!("the schema refers to {uri}, which is not given");
            let missing = Some(uri.to_owned());
            let advice = None;
            self.problems.push(Problem { message, advice, origin, missing });
            return None;
        };
        let found = match fragment {
            "" => Some(resource),
            pointer if pointer.starts_with('/') => match navigate(&resource, pointer) {
                Ok(found) => Some(found),
                Err(advice) => {
                    let message = format!("the reference {text:?} leads to nothing");
                    self.problem(message, advice.map(Advice::words), origin);
                    return None;
                }
            },
            _ => self.ids.get(&full).cloned(),
        };
        let Some(found) = found else {
            let message = format!("no schema calls itself {text:?}");
            self.problem(message, None, origin);
            return None;
        };
        Some(self.schema(&found))
    }

    /// Refuses schemas that apply themselves to the same value again and again.
    fn refuse_circles(&mut self) {
        let mut state = vec![0_u8; self.nodes.len()];
        let mut in_circles = Vec::new();
        for start in 0..self.nodes.len() {
            // The schemas on the way, each with those that it applies and that were not looked at yet.
            let mut way = vec![(start, self.applied(start))];
            if state[start] != 0 {
                continue;
            }
            state[start] = 1;
            while let Some((number, left)) = way.last_mut() {
                match left.pop() {
                    None => {
                        state[*number] = 2;
                        way.pop();
                    }
                    Some(next) if state[next] == 1 => in_circles.push(next),
                    Some(next) if state[next] == 0 => {
                        state[next] = 1;
                        let applied = self.applied(next);
                        way.push((next, applied));
                    }
                    Some(_) => {}
                }
            }
        }
        for number in in_circles {
            let origin = self.places[number];
            let message = "this schema applies itself to the same value without end";
            self.problem(message, None, origin);
        }
    }

    /// The schemas that a schema applies to the value that it is applied to.
    fn applied(&self, number: usize) -> Vec<usize> {
        let mut all = Vec::new();
        for rule in &self.nodes[number].rules {
            match &rule.keyword {
                Keyword::Reference(one) | Keyword::Dynamic(one, _) | Keyword::Not(one) => {
                    all.push(*one);
                }
                Keyword::All(some) | Keyword::Any(some) | Keyword::One(some) => all.extend(some),
                Keyword::If(test, yes, no) => {
                    all.push(*test);
                    all.extend(yes.iter().chain(no));
                }
                Keyword::Dependencies(members) => {
                    all.extend(members.iter().filter_map(|(_, needed)| match needed {
                        Dependency::Schema(one) => Some(*one),
                        Dependency::Members(_) => None,
                    }));
                }
                _ => {}
            }
        }
        all
    }
}

/// A schema that is a map.
pub(super) struct Inside<'t, 's> {
    target: &'t Target<'s>,
    pub(super) map: &'s Map<'s>,
}

impl<'s> Inside<'_, 's> {
    pub(super) fn dialect(&self) -> Dialect {
        self.target.dialect
    }

    /// The number of the schema that a reference in it means.
    pub(super) fn reference(
        &self,
        compiler: &mut Compiler<'s>,
        text: &str,
        origin: Origin,
    ) -> Option<usize> {
        compiler.reference(self.target, text, origin)
    }

    /// The number of the schema at the end of a path of members and items.
    pub(super) fn schema(
        &self,
        compiler: &mut Compiler<'s>,
        path: &[&str],
        value: Value<'s>,
    ) -> usize {
        compiler.schema(&self.target.inner_of(path, value))
    }
}
