//! From a parsed rule to a [`Plan`]: names, arities, kinds and shapes, before any input is read.
//!
//! All findings are collected; what did not check becomes [`Kind::Broken`] and never runs. The parts:
//! [`scope`] knows which names are bound, [`expr`] lowers expressions, [`condition`] those that must be true or
//! false, [`call`] calls, [`path`] paths, [`clauses`] loops.

mod call;
mod clauses;
mod condition;
mod edit;
mod expr;
mod groups;
mod path;
mod scope;
mod xpath;

use std::collections::{HashMap, HashSet};

use kyanite_tree::Code;
use scope::Scope;

use crate::finding::{Finding, RuleText, Span};
use crate::namespaces::Namespaces;
use crate::output::OutputSpec;
use crate::plan::{Def, Expr, Kind, Param, PathInfo, Plan, RecordFold, SourceSpec, TestInfo};
use crate::syntax::ast::{HeaderItem, ParamType, Rule};
use crate::types::Type;
use crate::xpath::RuleXPath;

/// Checks a rule.
///
/// # Errors
/// All findings, warnings included, when at least one is an error.
pub fn check(text: RuleText, rule: &Rule) -> Result<Plan, (RuleText, Vec<Finding>)> {
    let mut checker = Checker::new(&text);
    checker.declare_defs(rule);
    let (params, setup) = checker.header(rule);
    let mut body = checker.body(rule);
    checker.unused(&params);
    let Checker {
        findings,
        scope,
        paths,
        tests,
        root_uses,
        defs,
        output,
        expects,
        ensures,
        sources,
        decodes,
        asks_documents,
        asks_own_uri,
        namespaces,
        xpaths,
        ..
    } = checker;
    if findings.iter().any(|finding| finding.severity() == kyanite_tree::Severity::Error) {
        return Err((text, findings));
    }
    let (globals, frame) = (scope.globals(), scope.frame());
    let defs = defs.into_iter().filter_map(|def| def.checked).collect();
    // Where the only `$` stands in an aggregate over records, that aggregate can run on its own.
    let fold = if root_uses == 1 { RecordFold::take_from(&mut body) } else { None };
    Ok(Plan {
        rule: text,
        params,
        globals,
        setup,
        defs,
        frame,
        body,
        fold,
        paths,
        tests,
        // What the document is from is known once it is opened.
        root_uses: root_uses.max(usize::from(asks_own_uri)),
        output,
        expects,
        ensures,
        sources,
        decodes,
        asks_documents,
        namespaces,
        xpaths,
        is_xpath: false,
        xpath_records: None,
        warnings: findings,
    })
}

/// What is known of a def while the rule is checked.
struct DefState {
    name: String,
    parameters: usize,
    span: Span,
    /// The globals it can see, by how many are bound before it.
    visible: usize,
    calls: Vec<usize>,
    checked: Option<Def>,
    result: Type,
}

struct Checker<'r> {
    rule: &'r RuleText,
    findings: Vec<Finding>,
    scope: Scope,
    defs: Vec<DefState>,
    def_names: HashMap<String, usize>,
    /// The def whose body is being checked.
    inside_def: Option<usize>,
    paths: Vec<PathInfo>,
    tests: Vec<TestInfo>,
    root_uses: usize,
    /// How many filters are around.
    filters: usize,
    /// How many edits are around whose `@` is the value that is there.
    edits: usize,
    namespaces: Namespaces,
    output: Option<OutputSpec>,
    expects: Vec<String>,
    ensures: Vec<String>,
    sources: Vec<SourceSpec>,
    /// The slots of the names of the header that something reads.
    used: HashSet<usize>,
    /// Whether a call reads documents inside texts.
    decodes: bool,
    /// Whether a call asks what values were read from.
    asks_documents: bool,
    /// Whether a call asks what the document itself was read from.
    asks_own_uri: bool,
    /// The XPaths of calls.
    xpaths: Vec<RuleXPath>,
}

impl<'r> Checker<'r> {
    fn new(rule: &'r RuleText) -> Self {
        Self {
            rule,
            findings: Vec::new(),
            scope: Scope::default(),
            defs: Vec::new(),
            def_names: HashMap::new(),
            inside_def: None,
            paths: Vec::new(),
            tests: Vec::new(),
            root_uses: 0,
            filters: 0,
            edits: 0,
            namespaces: Namespaces::default(),
            output: None,
            expects: Vec::new(),
            ensures: Vec::new(),
            sources: Vec::new(),
            used: HashSet::new(),
            decodes: false,
            asks_documents: false,
            asks_own_uri: false,
            xpaths: Vec::new(),
        }
    }

    fn find(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    /// Notes an error and gives what stands in for the expression.
    fn broken(&mut self, finding: Finding) -> Expr {
        let span = finding.places().first().copied().unwrap_or_default();
        self.find(finding);
        Expr { kind: Kind::Broken, span }
    }

    /// Defs may be called from anywhere, so their names and arities are known first.
    fn declare_defs(&mut self, rule: &Rule) {
        for item in &rule.header {
            let HeaderItem::Def { name, parameters, .. } = item else { continue };
            if crate::functions::Signature::find(&name.name).is_some() {
                let message = format!("`{}` is a function of the language", name.name);
                self.find(
                    Finding::error_at(Code::RuleName, name.span, message)
                        .advise("choose another name"),
                );
            }
            if let Some(first) = self.def_names.get(&name.name) {
                let first = self.defs[*first].span;
                let message = format!("the def `{}` is written twice", name.name);
                self.find(Finding::error_at(Code::RuleName, name.span, message).at(first));
                continue;
            }
            self.def_names.insert(name.name.clone(), self.defs.len());
            self.defs.push(DefState {
                name: name.name.clone(),
                parameters: parameters.len(),
                span: name.span,
                visible: 0,
                calls: Vec::new(),
                checked: None,
                result: Type::Any,
            });
        }
    }

    fn header(&mut self, rule: &Rule) -> (Vec<Param>, Vec<(usize, Expr)>) {
        let (mut params, mut setup) = (Vec::new(), Vec::new());
        for item in &rule.header {
            match item {
                // Its defs have been put in front.
                HeaderItem::Use { .. } => {}
                HeaderItem::Source { name, file } => {
                    let base = Some(name.name.clone());
                    let slot = self.bind_global(name, Type::Any, base);
                    self.sources.push(SourceSpec {
                        name: name.name.clone(),
                        file: file.clone(),
                        slot,
                    });
                }
                HeaderItem::Expects { file } => self.expects.push(file.clone()),
                HeaderItem::Ensures { file } => self.ensures.push(file.clone()),
                HeaderItem::Output { format, options } => {
                    if self.output.is_some() {
                        self.find(Finding::error_at(
                            Code::RuleHeader,
                            format.span,
                            "the output is said twice",
                        ));
                    }
                    match OutputSpec::check(format, options.as_ref()) {
                        Ok(spec) => self.output = Some(spec),
                        Err(finding) => self.find(finding),
                    }
                }
                HeaderItem::Namespace { prefix, uri, span } => {
                    let (name, span) = match prefix {
                        Some(prefix) => (prefix.name.as_str(), prefix.span),
                        None => ("", *span),
                    };
                    if !self.namespaces.declare(name, uri) {
                        let message = match name {
                            "" => "the namespace of names without prefix is said twice".to_owned(),
                            name => format!("the prefix `{name}` is declared twice"),
                        };
                        self.find(Finding::error_at(Code::RuleHeader, span, message));
                    }
                }
                HeaderItem::Param { name, of, optional, default } => {
                    let default = default.as_ref().map(|default| self.value(default));
                    if let Some(default) = &default {
                        self.default_fits(default, *of);
                    }
                    let known = match (of, optional) {
                        (_, true) | (ParamType::Any, _) => Type::Any,
                        (of, false) => type_of_param(*of),
                    };
                    let slot = self.bind_global(name, known, None);
                    params.push(Param {
                        name: name.name.clone(),
                        of: *of,
                        optional: *optional,
                        default,
                        slot,
                        span: name.span,
                    });
                }
                HeaderItem::Let(name, value) => {
                    let (value, known, base) = self.bound_value(value);
                    let slot = self.bind_global(name, known, base);
                    setup.push((slot, value));
                }
                HeaderItem::Def { name, parameters, body } => {
                    let Some(index) = self.def_names.get(&name.name).copied() else { continue };
                    if self.defs[index].checked.is_none() {
                        self.def(index, parameters, body);
                    }
                }
            }
        }
        (params, setup)
    }

    fn default_fits(&mut self, default: &Expr, of: ParamType) {
        let known = self.type_of(default);
        let wanted = type_of_param(of);
        if wanted != Type::Any && known != Type::Any && known != wanted {
            let message = format!("the default is not of the type {}", of.word());
            self.find(Finding::error_at(Code::RuleHeader, default.span, message));
        }
    }

    fn def(
        &mut self,
        index: usize,
        parameters: &[crate::syntax::ast::Binding],
        body: &crate::syntax::ast::Expr,
    ) {
        self.defs[index].visible = self.scope.globals();
        let outer = self.scope.enter_def();
        self.inside_def = Some(index);
        for parameter in parameters {
            self.bind_local(parameter, Type::Any, None);
        }
        let body = self.value(body);
        self.inside_def = None;
        let frame = self.scope.leave_def(outer);
        self.defs[index].result = self.type_of(&body);
        self.defs[index].checked = Some(Def { name: self.defs[index].name.clone(), frame, body });
    }

    /// Warns of params that nothing reads.
    fn unused(&mut self, params: &[Param]) {
        for param in params.iter().filter(|param| !self.used.contains(&param.slot)) {
            let message = format!("the param `{}` is never used", param.name);
            self.findings.push(
                Finding::warning_at(Code::RuleUnused, param.span, message)
                    .advise("take it away, or use it"),
            );
        }
    }

    fn body(&mut self, rule: &Rule) -> Expr {
        // Outside parentheses the body may be many: the nodes of a path.
        self.either(&rule.body)
    }
}

/// The static type of a param's values.
fn type_of_param(of: ParamType) -> Type {
    match of {
        ParamType::Text => Type::Text,
        ParamType::Number => Type::Number,
        ParamType::Boolean => Type::Boolean,
        ParamType::List => Type::List,
        ParamType::Map => Type::Map,
        ParamType::Any => Type::Any,
    }
}
