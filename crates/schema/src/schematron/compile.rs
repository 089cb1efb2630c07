//! From a schema as it was read to expressions.

use std::rc::Rc;

use kyanite_tree::{Origin, Setting, Severity, Value, near_words};
use kyanite_xpath::{Expression, Namespaces, Version};

use super::pattern::selecting;
use super::read::{Node, Part, Reader, Source};
use super::{Documents, Key, Let, Pattern, Piece, Query, Rule, SCHEMATRON, Schema, Test};
use crate::Problem;

/// The phase of all patterns.
const ALL: &str = "#ALL";
/// The phase that the schema says.
const DEFAULT: &str = "#DEFAULT";

/// A compilation under way.
struct Compiler<'s, 'd> {
    reader: Reader<'s, 'd>,
    source: Source<'s>,
    version: Version,
    namespaces: Namespaces,
    /// The names of values that can be referred to, outermost first.
    names: Vec<String>,
    expressions: usize,
}

impl Schema {
    /// Compiles a document that is a schema, for a phase of it, or for the one that it says itself.
    ///
    /// # Errors
    /// All that makes it no schema.
    pub fn compile<'s>(
        uri: &str,
        root: Value<'s>,
        phase: Option<&str>,
        documents: &mut dyn Documents<'s>,
    ) -> Result<Self, Vec<Problem>> {
        let mut reader = Reader::new(documents);
        let root = match Node::root(root, uri) {
            Some(root) if root.word() == "schema" => root,
            _ => {
                let message =
                    format!("a Schematron schema is <schema> in the namespace {SCHEMATRON}");
                reader.problem(root.origin(), message, None);
                return Err(reader.problems);
            }
        };
        let version = binding(&root, &mut reader);
        let source = reader.read(&root);
        let namespaces = Namespaces::new();
        let (names, expressions) = (Vec::new(), 0);
        let mut compiler = Compiler { reader, source, version, namespaces, names, expressions };
        let schema = compiler.schema(&root, uri, phase);
        match compiler.reader.problems {
            problems if problems.is_empty() => Ok(schema),
            problems => Err(problems),
        }
    }
}

/// The version of XPath that a schema is written in (section 5.4.10, and the bindings of annexes C and following).
fn binding(root: &Node<'_>, reader: &mut Reader<'_, '_>) -> Version {
    let Some((binding, origin)) = root.attribute("queryBinding") else { return Version::V1 };
    match binding.to_ascii_lowercase().as_str() {
        "xslt" | "xslt1" | "xpath" => Version::V1,
        "xslt2" | "xslt3" | "xpath2" | "xpath3" | "xpath31" => Version::V31,
        other => {
            let message = format!("the query language {other:?} is not known");
            let known = ["xslt", "xslt2", "xslt3", "xpath", "xpath2", "xpath3", "xpath31"];
            let advice = near_words(other, known)
                .unwrap_or_else(|| format!("there are: {}", known.join(", ")));
            reader.problem(origin, message, Some(advice));
            Version::V31
        }
    }
}

impl<'s> Compiler<'s, '_> {
    fn problem(&mut self, origin: Origin, message: impl Into<String>, advice: Option<String>) {
        self.reader.problem(origin, message, advice);
    }

    fn schema(&mut self, root: &Node<'s>, uri: &str, phase: Option<&str>) -> Schema {
        let top = std::mem::take(&mut self.source.top);
        for node in top.iter().filter(|node| node.word() == "ns") {
            self.namespaces.declare(&node.text_of("prefix"), &node.text_of("uri"));
        }
        let title = top.iter().find(|node| node.word() == "title").map(plain_text);
        let mut schema = Schema {
            lets: Vec::new(),
            patterns: Vec::new(),
            keys: Vec::new(),
            title: title.unwrap_or_default(),
            uri: uri.to_owned(),
            expressions: 0,
        };
        self.refuse_foreign(&top);
        schema.lets = self.lets(&top);
        for node in top.iter().filter(|node| node.xslt_word() == "key") {
            schema.keys.extend(self.key(node));
        }
        let (active, lets) = self.phase(root, &top, phase);
        schema.lets.extend(lets);
        for node in top.iter().filter(|node| node.word() == "pattern") {
            let is_active =
                active.as_ref().is_none_or(|active| active.contains(&node.text_of("id")));
            if is_active {
                schema.patterns.extend(self.pattern(node));
            }
        }
        self.names.clear();
        schema.expressions = self.expressions;
        schema
    }

    /// Refuses what is written in XSLT, and elements that Schematron has not.
    fn refuse_foreign(&mut self, top: &[Node<'s>]) {
        const KNOWN: [&str; 15] = [
            "ns",
            "title",
            "p",
            "let",
            "phase",
            "pattern",
            "diagnostics",
            "properties",
            "include",
            "extends",
            "rules",
            "emph",
            "dir",
            "span",
            "param",
        ];
        for node in top {
            let (origin, word) = (node.origin, node.word());
            match node.xslt_word() {
                "" | "key" => {}
                "function" => {
                    let name = node.text_of("name");
                    let message =
                        format!("the function {name} is written in XSLT, which is not read here");
                    let advice = "write its expression in place of its calls, or in a <let>";
                    self.problem(origin, message, Some(advice.into()));
                }
                other => {
                    self.problem(
                        origin,
                        format!("<xsl:{other}> is XSLT, which is not read here"),
                        None,
                    );
                }
            }
            if node.element.name.namespace() == SCHEMATRON && !KNOWN.contains(&word) {
                let message = format!("<{word}> cannot stand in <schema>");
                self.problem(origin, message, near_words(word, KNOWN));
            }
        }
    }

    /// The patterns that a phase uses, all without a set, and its values.
    fn phase(
        &mut self,
        root: &Node<'s>,
        top: &[Node<'s>],
        phase: Option<&str>,
    ) -> (Option<Vec<String>>, Vec<Let>) {
        let usual = root.attribute("defaultPhase");
        let wanted = match phase {
            None | Some(DEFAULT) => {
                usual.as_ref().map_or(ALL.to_owned(), |(phase, _)| phase.clone())
            }
            Some(phase) => phase.to_owned(),
        };
        if wanted == ALL {
            return (None, Vec::new());
        }
        let phases: Vec<&Node<'s>> = top.iter().filter(|node| node.word() == "phase").collect();
        let Some(found) = phases.iter().find(|node| node.text_of("id") == wanted) else {
            let names: Vec<String> = phases.iter().map(|node| node.text_of("id")).collect();
            let names: Vec<&str> = names.iter().map(String::as_str).chain([ALL]).collect();
            let advice = near_words(&wanted, names.iter().copied())
                .unwrap_or_else(|| format!("there are: {}", names.join(", ")));
            let origin = usual.map_or(root.origin, |(_, origin)| origin);
            self.problem(origin, format!("the schema has no phase {wanted:?}"), Some(advice));
            return (None, Vec::new());
        };
        let children = self.reader.children(found);
        let lets = self.lets(&children);
        let mut active = Vec::new();
        for node in children.iter().filter(|node| node.word() == "active") {
            let pattern = node.text_of("pattern");
            if !top.iter().any(|node| node.word() == "pattern" && node.text_of("id") == pattern) {
                self.problem(node.origin, format!("no pattern is called {pattern:?}"), None);
            }
            active.push(pattern);
        }
        (Some(active), lets)
    }

    /// Compiles an expression that can refer to the values so far.
    fn query(&mut self, text: &str, origin: Origin) -> Option<Query> {
        let compiled =
            Expression::compile_hosted(text, self.version, self.namespaces.clone(), &self.names);
        match compiled {
            Ok(expression) => {
                self.expressions += 1;
                let (number, text) = (self.expressions - 1, text.to_owned());
                Some(Query { number, expression, origin, text })
            }
            Err(error) => {
                let is_param = |setting: &Setting| matches!(setting, Setting::Param(_));
                let advice = error.advice().map(|advice| match advice.settings().any(is_param) {
                    true => "declare it before: <let name=\"…\" value=\"…\"/>".to_owned(),
                    false => advice.to_string(),
                });
                let place = origin.behind(error.span().start as u64);
                self.problem(place, error.message().to_owned(), advice);
                None
            }
        }
    }

    /// The expression in an attribute.
    fn attribute(&mut self, node: &Node<'s>, name: &str) -> Option<Query> {
        match node.attribute(name) {
            Some((text, origin)) => self.query(&text, origin),
            None => {
                self.problem(node.origin, format!("<{}> needs {name}", node.word()), None);
                None
            }
        }
    }

    /// The values that are named among some elements; those behind can refer to them.
    fn lets(&mut self, nodes: &[Node<'s>]) -> Vec<Let> {
        let mut lets = Vec::new();
        for node in nodes.iter().filter(|node| node.word() == "let") {
            let name = node.text_of("name");
            let value = match node.attribute("value") {
                Some((text, origin)) => self.query(&text, origin),
                // Content in place of an expression is its text.
                None => {
                    let text = plain_text(node).replace('"', "\"\"");
                    self.query(&format!("\"{text}\""), node.origin)
                }
            };
            if let Some(value) = value {
                self.names.push(name);
                lets.push(Let { value });
            }
        }
        lets
    }

    fn key(&mut self, node: &Node<'s>) -> Option<Key> {
        let (matches, origin) = node.attribute("match")?;
        let matches = self.query(&selecting(&matches), origin)?;
        let (value, origin) = node.attribute("use")?;
        let value = self.query(&value, origin)?;
        Some(Key { name: node.text_of("name"), matches, value })
    }

    fn pattern(&mut self, node: &Node<'s>) -> Option<Pattern> {
        let id = node.text_of("id");
        let node = match node.attribute("is-a") {
            None => node.clone(),
            Some((of, origin)) => {
                let Some(found) = self.source.abstract_patterns.get(&of).cloned() else {
                    let known: Vec<&str> =
                        self.source.abstract_patterns.keys().map(String::as_str).collect();
                    let advice = near_words(&of, known.iter().copied());
                    self.problem(origin, format!("no abstract pattern is called {of:?}"), advice);
                    return None;
                };
                let given = node.called("param").into_iter();
                let mut parameters: Vec<(String, String)> =
                    given.map(|param| (param.text_of("name"), param.text_of("value"))).collect();
                // A parameter of the abstract pattern may have a value of its own.
                for param in found.called("param") {
                    let name = param.text_of("name");
                    if let Some((value, _)) = param.attribute("value")
                        && !parameters.iter().any(|(known, _)| *known == name)
                    {
                        parameters.push((name, value));
                    }
                }
                found.with(Rc::new(parameters))
            }
        };
        let before = self.names.len();
        let children = self.reader.children(&node);
        let documents = match node.attribute("documents") {
            Some((text, origin)) => Some(self.query(&text, origin)?),
            None => None,
        };
        let lets = self.lets(&children);
        let mut rules = Vec::new();
        for child in &children {
            match child.word() {
                "rule" if child.text_of("abstract") == "true" => {}
                "rule" => rules.extend(self.rule(child)),
                "let" | "title" | "p" | "param" | "" => {}
                other => {
                    let message = format!("<{other}> cannot stand in <pattern>");
                    let advice =
                        near_words(other, ["rule", "let", "title", "p", "param", "include"]);
                    self.problem(child.origin, message, advice);
                }
            }
        }
        self.names.truncate(before);
        Some(Pattern { id, lets, rules, documents })
    }

    fn rule(&mut self, node: &Node<'s>) -> Option<Rule> {
        let Some((written, origin)) = node.attribute("context") else {
            self.problem(
                node.origin,
                "<rule> needs a context",
                Some("or abstract=\"true\"".into()),
            );
            return None;
        };
        let context = self.query(&selecting(&written), origin)?;
        let before = self.names.len();
        let mut children = Vec::new();
        self.expand(node, &mut children, 0);
        let lets = self.lets(&children);
        let mut tests = Vec::new();
        for child in &children {
            match child.word() {
                "assert" | "report" => tests.extend(self.test(child, node)),
                "let" | "p" | "title" | "" => {}
                other => {
                    let message = format!("<{other}> cannot stand in <rule>");
                    let advice =
                        near_words(other, ["assert", "report", "let", "extends", "include", "p"]);
                    self.problem(child.origin, message, advice);
                }
            }
        }
        self.names.truncate(before);
        let (id, role, flag) = (node.text_of("id"), node.text_of("role"), node.text_of("flag"));
        Some(Rule { id, context, written, lets, tests, role, flag })
    }

    /// What stands in a rule, with what the rules have that it extends.
    fn expand(&mut self, node: &Node<'s>, found: &mut Vec<Node<'s>>, depth: usize) {
        for child in self.reader.children(node) {
            if child.word() != "extends" {
                found.push(child);
                continue;
            }
            if depth > 100 {
                self.problem(child.origin, "rules extend each other without end", None);
                return;
            }
            let other = match (child.attribute("rule"), child.attribute("href")) {
                (Some((rule, origin)), _) => {
                    let known = self.source.abstract_rules.get(&rule).cloned();
                    if known.is_none() {
                        let names: Vec<&str> =
                            self.source.abstract_rules.keys().map(String::as_str).collect();
                        let advice = near_words(&rule, names.iter().copied());
                        self.problem(
                            origin,
                            format!("no abstract rule is called {rule:?}"),
                            advice,
                        );
                    }
                    known
                }
                (None, Some((href, origin))) => self.reader.find(&href, &child, origin),
                (None, None) => {
                    self.problem(child.origin, "<extends> needs rule or href", None);
                    None
                }
            };
            if let Some(other) = other {
                self.expand(&other, found, depth + 1);
            }
        }
    }

    fn test(&mut self, node: &Node<'s>, rule: &Node<'s>) -> Option<Test> {
        let test = self.attribute(node, "test")?;
        let message = self.pieces(node);
        let own = |name: &str| {
            let own = node.text_of(name);
            if own.is_empty() { rule.text_of(name) } else { own }
        };
        let subject = match node.attribute("subject").or_else(|| rule.attribute("subject")) {
            Some((text, origin)) => self.query(&text, origin),
            None => None,
        };
        let (role, flag) = (own("role"), own("flag"));
        let severity = severity(&own("severity"), &role);
        Some(Test {
            is_assert: node.word() == "assert",
            test,
            message,
            id: node.text_of("id"),
            severity,
            role,
            flag,
            subject,
            diagnostics: self.referred(node, "diagnostics"),
            properties: self.referred(node, "properties"),
            origin: node.origin,
        })
    }

    /// The texts that an attribute refers to by their identifiers.
    fn referred(&mut self, node: &Node<'s>, attribute: &str) -> Vec<(String, Vec<Piece>)> {
        let Some((names, origin)) = node.attribute(attribute) else { return Vec::new() };
        let mut found = Vec::new();
        for name in names.split_ascii_whitespace() {
            let all = if attribute == "diagnostics" {
                &self.source.diagnostics
            } else {
                &self.source.properties
            };
            match all.get(name).cloned() {
                Some(text) => found.push((name.to_owned(), self.pieces(&text))),
                None => {
                    let known: Vec<String> = all.keys().cloned().collect();
                    let advice = near_words(name, known.iter().map(String::as_str));
                    let what = if attribute == "diagnostics" { "diagnostic" } else { "property" };
                    self.problem(origin, format!("no {what} is called {name:?}"), advice);
                }
            }
        }
        found
    }

    /// The pieces of a text.
    fn pieces(&mut self, node: &Node<'s>) -> Vec<Piece> {
        let mut pieces = Vec::new();
        for part in node.content() {
            match part {
                Part::Text(text) => pieces.push(Piece::Text(text)),
                Part::Element(child) => match (child.word(), child.xslt_word()) {
                    ("value-of", _) | (_, "value-of") => {
                        pieces.extend(self.attribute(&child, "select").map(Piece::Value));
                    }
                    ("name", _) => {
                        let path = child.attribute("path");
                        let path = path.and_then(|(path, origin)| self.query(&path, origin));
                        pieces.push(Piece::Name(path));
                    }
                    // emph, dir, span, and what is foreign: their text.
                    _ => pieces.extend(self.pieces(&child)),
                },
            }
        }
        pieces
    }
}

/// How bad it is, by the words that are in use for it.
fn severity(severity: &str, role: &str) -> Severity {
    let word = if severity.is_empty() { role } else { severity };
    match word.to_ascii_lowercase().as_str() {
        "warning" | "warn" | "caution" => Severity::Warning,
        "info" | "information" | "informational" | "hint" | "note" | "debug" => Severity::Note,
        _ => Severity::Error,
    }
}

/// All text in a node.
fn plain_text(node: &Node<'_>) -> String {
    let mut text = String::new();
    node.element.string_value(&mut text);
    node.filled(text.split_whitespace().collect::<Vec<_>>().join(" ").as_str())
}
