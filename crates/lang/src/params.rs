//! Params: from the texts of a command line to values of the declared types.

use kyanite_formats::json::{self, Origins, ReaderOptions};
use kyanite_tree::{
    Advice, Arena, Code, Diagnostic, Kind, Number, Origin, Setting, Value, near_words,
};

use crate::plan::{Param, Plan, SourceSpec};
use crate::syntax::ast::ParamType;

/// The values of a rule's params, in the order they are declared, `None` where none was given; and of its sources.
#[derive(Clone, Debug)]
pub struct Arguments<'a> {
    params: Vec<Option<Value<'a>>>,
    sources: Vec<Value<'a>>,
}

impl<'a> Arguments<'a> {
    pub(crate) fn values(&self) -> impl Iterator<Item = Option<&Value<'a>>> {
        self.params.iter().map(Option::as_ref)
    }

    /// The same arguments with the documents that the rule's sources are, in the order they are declared.
    #[must_use]
    pub fn with_sources(self, sources: &[Value<'a>]) -> Self {
        Self { sources: sources.to_vec(), ..self }
    }

    pub(crate) fn sources(&self) -> &[Value<'a>] {
        &self.sources
    }

    /// Reads the given params as the types that `plan` declares.
    ///
    /// # Errors
    /// All that is wrong: names that the rule does not declare, texts that do not fit the type, and params that are
    /// missing.
    pub fn read(
        plan: &Plan,
        given: &[(String, String)],
        arena: &'a Arena,
    ) -> Result<Self, Vec<Diagnostic>> {
        let mut wrong = Vec::new();
        let mut values = vec![None; plan.params.len()];
        for (at, (name, text)) in given.iter().enumerate() {
            if let Some(twice) = given_before("param", given, at) {
                wrong.push(twice);
                continue;
            }
            let Some(position) = plan.params.iter().position(|param| param.name == *name) else {
                wrong.push(unknown(plan, name));
                continue;
            };
            match read(&plan.params[position], text, arena) {
                Ok(value) => values[position] = Some(value),
                Err(found) => wrong.push(found.at(plan.rule.place(plan.params[position].span))),
            }
        }
        for param in plan.params.iter().filter(|param| param.is_required()) {
            if !given.iter().any(|(name, _)| *name == param.name) {
                let message = format!("the param `{}` is missing", param.name);
                let setting = Setting::Param(param.name.clone());
                wrong.push(
                    Diagnostic::error(Code::CommandLine, message)
                        .at(plan.rule.place(param.span))
                        .advise(Advice::words("give it with ").setting(setting)),
                );
            }
        }
        if wrong.is_empty() { Ok(Self { params: values, sources: Vec::new() }) } else { Err(wrong) }
    }
}

impl Plan {
    /// The documents that the rule's sources are, in the order they are declared: those that are given, else what `named` makes of
    /// the file that the rule names.
    ///
    /// # Errors
    /// A name that the rule does not declare, or that is given twice.
    pub fn sources_from<D: Clone>(
        &self,
        given: &[(String, D)],
        named: impl Fn(&str) -> D,
    ) -> Result<Vec<(String, D)>, Diagnostic> {
        for (at, (name, _)) in given.iter().enumerate() {
            if let Some(twice) = given_before("source", given, at) {
                return Err(twice);
            }
            if !self.sources.iter().any(|source| source.name == *name) {
                let known: Vec<&str> = self.sources.iter().map(|s| s.name.as_str()).collect();
                let advice = match known.as_slice() {
                    [] => "declare it in the rule: source name = \"file\"".to_owned(),
                    known => format!("it has {}", known.join(", ")),
                };
                let message = format!("the rule has no source `{name}`");
                return Err(Diagnostic::error(Code::CommandLine, message).advise(advice));
            }
        }
        let of = |source: &SourceSpec| {
            let other = given.iter().find(|(name, _)| *name == source.name);
            let document = other.map_or_else(|| named(&source.file), |(_, file)| file.clone());
            (source.name.clone(), document)
        };
        Ok(self.sources.iter().map(of).collect())
    }
}

/// What is wrong with the name at a position, if it is given before that, too.
fn given_before<D>(what: &str, given: &[(String, D)], at: usize) -> Option<Diagnostic> {
    let (before, from) = given.split_at_checked(at)?;
    let (name, _) = from.first()?;
    before.iter().any(|(known, _)| known == name).then(|| {
        Diagnostic::error(Code::CommandLine, format!("the {what} `{name}` is given twice"))
            .advise("leave one of them out")
    })
}

fn unknown(plan: &Plan, name: &str) -> Diagnostic {
    let known = || plan.params.iter().map(|param| param.name.as_str());
    if plan.xpath().is_some() {
        let message = format!("the expression has no variable ${name}");
        let advice = near_words(name, known())
            .unwrap_or_else(|| "take the param away, or name it in the expression".into());
        return Diagnostic::error(Code::CommandLine, message).advise(advice);
    }
    let advice = near_words(name, known()).unwrap_or_else(|| match plan.params.len() {
        0 => "declare it in the rule: param name: type".into(),
        _ => format!("it has {}", known().collect::<Vec<_>>().join(", ")),
    });
    Diagnostic::error(Code::CommandLine, format!("the rule has no param `{name}`")).advise(advice)
}

fn read<'a>(param: &Param, text: &str, arena: &'a Arena) -> Result<Value<'a>, Diagnostic> {
    let name = &param.name;
    let wrong = |wanted: &str| {
        let message = format!("the param `{name}` is {wanted}, not {text:?}");
        Diagnostic::error(Code::CommandLine, message)
    };
    match param.of {
        ParamType::Text => Ok(Value::text(arena.text(text))),
        ParamType::Number => {
            Number::parse(arena.text(text)).map(Value::number).ok_or_else(|| wrong("a number"))
        }
        ParamType::Boolean => match text {
            "true" => Ok(Value::boolean(true)),
            "false" => Ok(Value::boolean(false)),
            _ => Err(wrong("true or false")),
        },
        ParamType::List | ParamType::Map | ParamType::Any => {
            let options =
                ReaderOptions { origins: Origins::Fixed(Origin::NONE), ..Default::default() };
            let read = json::document(arena.text(text), arena, options);
            let (value, duplicates) = read.map_err(|error| {
                wrong("written as JSON").advise(format!(
                    "{}; {}",
                    error.message(),
                    error.advice::<kyanite_tree::Span>()
                ))
            })?;
            if let Some(twice) = duplicates.first() {
                let message = format!("the param `{name}` has the member `{}` twice", twice.name);
                return Err(
                    Diagnostic::error(Code::CommandLine, message).advise("take one of them away")
                );
            }
            match (param.of, value.kind()) {
                (ParamType::List, kind) if kind != Kind::List => Err(wrong("a list")),
                (ParamType::Map, kind) if kind != Kind::Map => Err(wrong("a map")),
                _ => Ok(value),
            }
        }
    }
}
