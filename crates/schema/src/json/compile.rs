//! From documents to schemas that refer to each other by numbers.

use std::collections::HashMap;

use kyanite_eval::uri::resolve;
use kyanite_tree::{Advice, Map, Origin, Value, near_words};
use percent_encoding::percent_decode_str;

use super::check::DEPTH;
use super::keyword::{Dependency, Keyword};
use super::{Document, Draft, Node, Problem, Rule, RulePlace, Schema};

/// A schema in a document, and what it takes to understand it.
#[derive(Clone, Debug)]
struct Target<'s> {
    document: usize,
    /// The pointer to it (RFC 6901).
    pointer: String,
    value: Value<'s>,
    /// What references in it are relative to, without a fragment.
    base: String,
    draft: Draft,
}

impl<'s> Target<'s> {
    /// The value of a member or an item, as a schema.
    fn inner(&self, token: &str, value: Value<'s>) -> Self {
        let token = token.replace('~', "~0").replace('/', "~1");
        let inner = Self { pointer: format!("{}/{token}", self.pointer), value, ..self.clone() };
        inner.rebased()
    }

    /// The same, with the URI that the schema gives itself.
    fn rebased(mut self) -> Self {
        if let Some(id) = self.id().filter(|id| !id.starts_with('#')) {
            let uri = resolve(id, &self.base).unwrap_or_else(|| id.to_owned());
            uri.split('#').next().unwrap_or_default().clone_into(&mut self.base);
        }
        self
    }

    /// The URI, or the fragment, that the schema gives itself. Beside a reference nothing counts (draft-07 core section 8.3).
    fn id(&self) -> Option<&'s str> {
        let map = self.value.as_map()?;
        if map.get("$ref").is_some_and(|reference| reference.as_text().is_some()) {
            return None;
        }
        map.get(self.draft.id())?.as_text()
    }
}

impl<'s> Schema<'s> {
    /// Compiles a document that is a schema, with others that it may refer to. `draft` is that of documents that do not say
    /// theirs, draft 7 without it.
    ///
    /// # Errors
    /// All that makes it no schema.
    pub fn compile(
        root: Document<'s>,
        others: &[Document<'s>],
        draft: Option<Draft>,
    ) -> Result<Self, Vec<Problem>> {
        let mut compiler = Compiler {
            ids: HashMap::new(),
            nodes: Vec::new(),
            known: HashMap::new(),
            places: Vec::new(),
            problems: Vec::new(),
            remarks: Vec::new(),
            depth: 0,
        };
        let documents = std::iter::once(&root).chain(others);
        let targets: Vec<Target<'s>> = documents
            .enumerate()
            .map(|(number, document)| compiler.document(number, document, draft))
            .collect();
        let Some(first) = targets.first() else { return Err(compiler.problems) };
        let draft = first.draft;
        compiler.schema(first);
        compiler.refuse_circles();
        if !compiler.problems.is_empty() {
            return Err(compiler.problems);
        }
        let nodes = compiler.nodes.into_iter().map(|rules| Node { rules }).collect();
        Ok(Self { nodes, draft, remarks: compiler.remarks })
    }
}

/// A compilation under way.
pub(super) struct Compiler<'s> {
    /// Schemas by their URIs, some with a fragment.
    ids: HashMap<String, Target<'s>>,
    nodes: Vec<Vec<Rule<'s>>>,
    /// The number of the schema at each pointer of each document.
    known: HashMap<(usize, String), usize>,
    /// The document and place of each schema.
    places: Vec<(usize, Origin)>,
    pub(super) problems: Vec<Problem>,
    remarks: Vec<Problem>,
    /// How many schemas are being compiled inside each other.
    depth: usize,
}

impl<'s> Compiler<'s> {
    /// Takes up a document; gives it as a schema.
    fn document(
        &mut self,
        number: usize,
        document: &Document<'s>,
        usual: Option<Draft>,
    ) -> Target<'s> {
        let said = document.value.as_map().and_then(|map| map.get("$schema"));
        let draft = match said.and_then(|said| Some((said, said.as_text()?))) {
            None => usual.unwrap_or(Draft::V7),
            Some((said, uri)) => Draft::of_uri(uri).unwrap_or_else(|| {
                let message = format!("{uri:?} is no draft of JSON Schema that is known");
                let advice = Advice::words("drafts 4, 6 and 7 are");
                self.problem(message, Some(advice), number, said.origin());
                usual.unwrap_or(Draft::V7)
            }),
        };
        let uri = document.uri.split('#').next().unwrap_or_default().to_owned();
        let (pointer, base) = (String::new(), uri.clone());
        let whole = Target { document: number, pointer, value: document.value, base, draft };
        let whole = whole.rebased();
        // Of two documents of one URI the first counts: the one that is compiled is often given among the others, too.
        self.ids.entry(uri).or_insert_with(|| whole.clone());
        self.index(&whole);
        whole
    }

    /// Takes up the URIs that schemas in a document give themselves.
    fn index(&mut self, target: &Target<'s>) {
        if let Some(id) = target.id() {
            let uri = match id.strip_prefix('#') {
                Some(_) => format!("{}{id}", target.base),
                None => target.base.clone(),
            };
            self.ids.entry(uri).or_insert_with(|| target.clone());
        }
        match target.value {
            Value::Map(_, map) => {
                // Their values are no schemas, whatever they look like.
                let holds_schemas = |name: &str| !matches!(name, "enum" | "const");
                for member in map.members().iter().filter(|member| holds_schemas(member.name)) {
                    self.index(&target.inner(member.name, member.value));
                }
            }
            Value::List(_, items) => {
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
        document: usize,
        origin: Origin,
    ) {
        let (message, missing) = (message.into(), None);
        self.problems.push(Problem { message, advice, document, origin, missing });
    }

    /// The number of a schema, which is compiled unless it is already.
    fn schema(&mut self, target: &Target<'s>) -> usize {
        let key = (target.document, target.pointer.clone());
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        let number = self.nodes.len();
        self.known.insert(key, number);
        self.nodes.push(Vec::new());
        self.places.push((target.document, target.value.origin()));
        if self.depth >= DEPTH {
            let message = format!("schemas lead to each other through more than {DEPTH} others");
            self.problem(message, None, target.document, target.value.origin());
            return number;
        }
        self.depth += 1;
        self.nodes[number] = self.rules(target);
        self.depth -= 1;
        number
    }

    fn rules(&mut self, target: &Target<'s>) -> Vec<Rule<'s>> {
        let place = |keyword: &'static str, origin: Origin| RulePlace {
            document: target.document,
            origin,
            keyword,
        };
        let mut rules = Vec::new();
        // In draft 4 only two keywords take true and false, as if these were schemas.
        let may_be_boolean = target.draft > Draft::V4
            || ["/additionalItems", "/additionalProperties"]
                .into_iter()
                .any(|keyword| target.pointer.ends_with(keyword));
        match target.value {
            Value::Boolean(_, true) if may_be_boolean => {}
            Value::Boolean(origin, false) if may_be_boolean => {
                rules.push(Rule { keyword: Keyword::Nothing, place: place("", origin) });
            }
            Value::Map(_, map) => {
                if let Some(reference) = map.get("$ref")
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
                let what = if target.draft > Draft::V4 { "a map, true or false" } else { "a map" };
                let message = format!("a schema is {what}, and here is {}", other.kind().phrase());
                self.problem(message, None, target.document, other.origin());
            }
        }
        rules
    }

    /// Remarks on members that are no keywords: by the standard they say nothing, but they may have been meant to.
    fn remark_unknown(&mut self, target: &Target<'s>, map: &'s Map<'s>) {
        let known = || super::keyword::words(target.draft);
        let mut remark = |message: String, advice: Option<String>, origin: Origin| {
            let (advice, missing) = (advice.map(Advice::words), None);
            let document = target.document;
            self.remarks.push(Problem { message, advice, document, origin, missing });
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

    /// The schema that a reference means.
    fn reference(&mut self, from: &Target<'s>, text: &str, origin: Origin) -> Option<usize> {
        let full = resolve(text, &from.base).unwrap_or_else(|| text.to_owned());
        let (uri, fragment) = full.split_once('#').unwrap_or((&full, ""));
        let Some(resource) = self.ids.get(uri).cloned() else {
            let message = format!("the schema refers to {uri}, which is not given");
            let missing = Some(uri.to_owned());
            let (advice, document) = (None, from.document);
            self.problems.push(Problem { message, advice, document, origin, missing });
            return None;
        };
        let found = match fragment {
            "" => Some(resource),
            pointer if pointer.starts_with('/') => match navigate(&resource, pointer) {
                Ok(found) => Some(found),
                Err(advice) => {
                    let message = format!("the reference {text:?} leads to nothing");
                    self.problem(message, advice.map(Advice::words), from.document, origin);
                    return None;
                }
            },
            _ => self.ids.get(&full).cloned(),
        };
        let Some(found) = found else {
            let message = format!("no schema calls itself {text:?}");
            self.problem(message, None, from.document, origin);
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
            let (document, origin) = self.places[number];
            let message = "this schema applies itself to the same value without end";
            self.problem(message, None, document, origin);
        }
    }

    /// The schemas that a schema applies to the value that it is applied to.
    fn applied(&self, number: usize) -> Vec<usize> {
        let mut all = Vec::new();
        for rule in &self.nodes[number] {
            match &rule.keyword {
                Keyword::Reference(one) | Keyword::Not(one) => all.push(*one),
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

/// What a pointer leads to; with names that are near to the one that is not there.
fn navigate<'s>(from: &Target<'s>, pointer: &str) -> Result<Target<'s>, Option<String>> {
    let decoded = percent_decode_str(pointer).decode_utf8_lossy().into_owned();
    let mut target = from.clone();
    for token in decoded.split('/').skip(1) {
        let token = token.replace("~1", "/").replace("~0", "~");
        let value = match target.value {
            Value::Map(_, map) => map.get(&token).ok_or_else(|| {
                near_words(&token, map.members().iter().map(|member| member.name))
            })?,
            Value::List(_, items) => {
                let at = token.parse::<usize>().ok();
                *at.and_then(|at| items.get(at)).ok_or(None)?
            }
            _ => return Err(None),
        };
        target = target.inner(&token, value);
    }
    Ok(target)
}

/// A schema that is a map.
pub(super) struct Inside<'t, 's> {
    target: &'t Target<'s>,
    pub(super) map: &'s Map<'s>,
}

impl<'s> Inside<'_, 's> {
    pub(super) fn draft(&self) -> Draft {
        self.target.draft
    }

    pub(super) fn document(&self) -> usize {
        self.target.document
    }

    /// The number of the schema at the end of a path of members and items.
    pub(super) fn schema(
        &self,
        compiler: &mut Compiler<'s>,
        path: &[&str],
        value: Value<'s>,
    ) -> usize {
        let (last, before) = path.split_last().unwrap_or((&"", &[]));
        let mut target = self.target.clone();
        for token in before {
            target.pointer.push('/');
            target.pointer.push_str(&token.replace('~', "~0").replace('/', "~1"));
        }
        let inner = target.inner(last, value);
        compiler.schema(&inner)
    }
}
