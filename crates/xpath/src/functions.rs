//! The functions of XPath 3.1 (W3C Functions and Operators 3.1): one table that the parser, the evaluation and the
//! reference read.

mod arrays;
mod contextual;
mod dates;
mod documents;
mod errors;
mod higher;
mod hosted;
mod json;
mod json_xml;
mod maps;
mod math;
mod names;
mod nodes;
mod numbers;
mod patterns;
mod sequences;
mod serialize;
mod strings;
mod uris;

use kyanite_eval::atomic::{Atomic, AtomicType, Text};
use kyanite_eval::signature::usage;
use kyanite_tree::{Node, Span};

use crate::error::{Error, ErrorCode};
use crate::run::convert;
use crate::run::{Focus, Run, context_item};
use crate::syntax::ast::Occurs;
use crate::value::{Item, Sequence};

/// A namespace of functions.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Library {
    /// `fn`, which needs no prefix.
    Fn,
    /// `map`
    Map,
    /// `array`
    Array,
    /// `math`
    Math,
    /// `xs`: constructors.
    Xs,
}

impl Library {
    /// The library of a prefix.
    #[must_use]
    pub fn of_prefix(prefix: &str) -> Option<Self> {
        Some(match prefix {
            "fn" => Self::Fn,
            "map" => Self::Map,
            "array" => Self::Array,
            "math" => Self::Math,
            "xs" | "xsd" => Self::Xs,
            _ => return None,
        })
    }

    /// What stands before the names of its functions.
    #[must_use]
    pub fn prefix(self) -> &'static str {
        match self {
            Self::Fn => "",
            Self::Map => "map:",
            Self::Array => "array:",
            Self::Math => "math:",
            Self::Xs => "xs:",
        }
    }
}

/// What sort of items a parameter takes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum What {
    /// Any.
    Item,
    /// Atomic values of a type, into which others are converted.
    Atomic(AtomicType),
    /// Nodes.
    Node,
    /// Elements.
    Element,
    /// Maps.
    Map,
    /// Arrays.
    Array,
    /// Functions.
    Function,
}

impl What {
    /// What is meant, with an article.
    #[must_use]
    pub fn phrase(self) -> String {
        match self {
            Self::Item => "an item".into(),
            Self::Atomic(of) => format!("an {}", of.name()),
            Self::Node => "a node".into(),
            Self::Element => "an element".into(),
            Self::Map => "a map".into(),
            Self::Array => "an array".into(),
            Self::Function => "a function".into(),
        }
    }
}

/// What a parameter takes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct ParameterType {
    pub(crate) what: What,
    pub(crate) many: Occurs,
}

/// A parameter of a function.
#[derive(Clone, Copy, Debug)]
pub struct Parameter {
    pub(crate) name: &'static str,
    pub(crate) takes: ParameterType,
}

/// What a function gives, as far as that matters before it runs.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ReturnKind {
    /// A boolean.
    Boolean,
    /// Anything else.
    Other,
}

/// What a function asks of the items of its arguments.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum ArgumentUse {
    /// It gives them on, or does with them what nobody follows.
    Nodes,
    /// Their text or value.
    Value,
    /// Whether there are any, how many, or what they are called.
    Presence,
}

/// How far a function looks.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Reach {
    /// Into its arguments, or the item that it is about.
    Inside,
    /// Above or beside that, in its document.
    Outside,
    /// Into documents that it asks for by name.
    Documents,
}

/// A function.
pub struct Function {
    pub(crate) library: Library,
    /// Its local name.
    pub(crate) name: &'static str,
    pub(crate) parameters: &'static [Parameter],
    /// The least number of arguments.
    pub(crate) least: usize,
    /// Whether the last parameter can be repeated.
    pub(crate) repeats: bool,
    pub(crate) gives: ReturnKind,
    /// Whether it may give several items.
    pub(crate) is_plural: bool,
    pub(crate) asks: ArgumentUse,
    pub(crate) looks: Reach,
    /// Whether it is about the context item where its last argument is left out.
    is_contextual: bool,
    is_old: bool,
    pub(crate) run: for<'c, 'e, 'd> fn(&Call<'c, 'e, 'd>) -> Result<Sequence<'d>, Error>,
}

impl std::fmt::Debug for Function {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.usage())
    }
}

type Runs = for<'c, 'e, 'd> fn(&Call<'c, 'e, 'd>) -> Result<Sequence<'d>, Error>;

/// A function without a prefix.
const fn function(
    name: &'static str,
    parameters: &'static [Parameter],
    least: usize,
    run: Runs,
) -> Function {
    let (library, gives) = (Library::Fn, ReturnKind::Other);
    Function {
        library,
        name,
        parameters,
        least,
        repeats: false,
        gives,
        is_plural: false,
        asks: ArgumentUse::Nodes,
        looks: Reach::Inside,
        is_contextual: false,
        is_old: false,
        run,
    }
}

impl Function {
    /// The same in another namespace.
    const fn within(self, library: Library) -> Self {
        Self { library, ..self }
    }

    /// The same, known to give a boolean.
    const fn boolean(self) -> Self {
        Self { gives: ReturnKind::Boolean, ..self }
    }

    /// The same, known to give several items perhaps.
    const fn plural(self) -> Self {
        Self { is_plural: true, ..self }
    }

    /// The same, which asks no more of its arguments.
    const fn asks(self, asks: ArgumentUse) -> Self {
        Self { asks, ..self }
    }

    /// The same, which looks above or beside what it is about.
    const fn outside(self) -> Self {
        Self { looks: Reach::Outside, ..self }
    }

    /// The same, which asks for documents by name.
    const fn documents(self) -> Self {
        Self { looks: Reach::Documents, ..self }
    }

    /// The same, which is about the context item where its last argument is left out.
    const fn contextual(self) -> Self {
        Self { is_contextual: true, ..self }
    }

    /// Whether a call with `arguments` arguments is about the context item.
    pub(crate) fn is_about_context(&self, arguments: usize) -> bool {
        self.is_contextual && arguments < self.parameters.len().max(1)
    }

    /// The same, in XPath 1.0 as well.
    const fn old(self) -> Self {
        Self { is_old: true, ..self }
    }

    /// The same, with a last parameter that can be repeated.
    const fn repeated(self) -> Self {
        Self { repeats: true, ..self }
    }

    /// Whether XPath 1.0 has it, too.
    pub(crate) fn is_in_1_0(&self) -> bool {
        self.is_old
    }

    /// Whether it can be called with `count` arguments.
    pub(crate) fn takes(&self, count: usize) -> bool {
        count >= self.least && (self.repeats || count <= self.parameters.len())
    }

    /// The parameter for the argument at a position.
    pub(crate) fn parameter(&self, position: usize) -> Parameter {
        let last = self.parameters.len().saturating_sub(1);
        self.parameters.get(position.min(last)).copied().unwrap_or(items("value"))
    }

    /// Its name with its prefix.
    #[must_use]
    pub fn full_name(&self) -> String {
        format!("{}{}", self.library.prefix(), self.name)
    }

    /// How it is called: `substring(text, start, length?)`.
    #[must_use]
    pub fn usage(&self) -> String {
        let parameters = self.parameters.iter().map(|parameter| parameter.name);
        usage(&self.full_name(), parameters, self.least, self.repeats)
    }
}

const fn takes(name: &'static str, what: What, many: Occurs) -> Parameter {
    Parameter { name, takes: ParameterType { what, many } }
}

/// Any number of any items.
const fn items(name: &'static str) -> Parameter {
    takes(name, What::Item, Occurs::Any)
}

/// One item, or none.
const fn optional_item(name: &'static str) -> Parameter {
    takes(name, What::Item, Occurs::Optional)
}

const fn atomic(name: &'static str, of: AtomicType, many: Occurs) -> Parameter {
    takes(name, What::Atomic(of), many)
}

/// One text.
const fn text(name: &'static str) -> Parameter {
    atomic(name, AtomicType::String, Occurs::One)
}

/// One text, or none.
const fn optional_text(name: &'static str) -> Parameter {
    atomic(name, AtomicType::String, Occurs::Optional)
}

const fn integer(name: &'static str) -> Parameter {
    atomic(name, AtomicType::Integer, Occurs::One)
}

const fn double(name: &'static str) -> Parameter {
    atomic(name, AtomicType::Double, Occurs::One)
}

const fn node(name: &'static str) -> Parameter {
    takes(name, What::Node, Occurs::Optional)
}

const fn callback(name: &'static str) -> Parameter {
    takes(name, What::Function, Occurs::One)
}

const fn one_map(name: &'static str) -> Parameter {
    takes(name, What::Map, Occurs::One)
}

const fn one_array(name: &'static str) -> Parameter {
    takes(name, What::Array, Occurs::One)
}

/// All functions.
pub fn all() -> impl Iterator<Item = &'static Function> {
    [
        nodes::TABLE,
        strings::TABLE,
        patterns::TABLE,
        numbers::TABLE,
        math::TABLE,
        dates::TABLE,
        sequences::TABLE,
        contextual::TABLE,
        names::TABLE,
        uris::TABLE,
        maps::TABLE,
        arrays::TABLE,
        higher::TABLE,
        documents::TABLE,
        json::TABLE,
        json_xml::TABLE,
        serialize::TABLE,
        errors::TABLE,
    ]
    .into_iter()
    .flatten()
}

/// The function of that local name in a library.
pub(crate) fn find(library: Library, name: &str) -> Option<&'static Function> {
    all().find(|function| function.library == library && function.name == name)
}

/// The function of that name that a language around expressions adds.
pub(crate) fn find_hosted(name: &str) -> Option<&'static Function> {
    hosted::TABLE.iter().find(|function| function.name == name)
}

/// The functions of that local name in any library.
pub(crate) fn libraries_with(name: &str) -> impl Iterator<Item = &'static Function> {
    all().filter(move |function| function.name == name)
}

/// The local names of a library.
pub(crate) fn names(library: Library) -> impl Iterator<Item = &'static str> {
    all().filter(move |function| function.library == library).map(|function| function.name)
}

/// A call with its arguments, which are of the types that the parameters say.
pub struct Call<'c, 'e, 'd> {
    pub(crate) run: &'c Run<'e, 'd>,
    pub(crate) function: &'static Function,
    pub(crate) arguments: Vec<Sequence<'d>>,
    pub(crate) focus: Option<&'c Focus<'d>>,
    pub(crate) span: Span,
}

impl<'c, 'd> Call<'c, '_, 'd> {
    /// An argument; empty where it is not given.
    fn argument(&self, at: usize) -> &Sequence<'d> {
        self.arguments.get(at).unwrap_or(&Sequence::Empty)
    }

    /// Whether an argument is given.
    fn has(&self, at: usize) -> bool {
        self.arguments.len() > at
    }

    /// The only atomic value of an argument.
    fn atomic(&self, at: usize) -> Option<Atomic<'d>> {
        self.argument(at).first().and_then(Item::as_atomic)
    }

    /// The text of an argument; none where it is empty.
    fn optional_text(&self, at: usize) -> Option<Text<'d>> {
        self.atomic(at).map(|atomic| atomic.to_text())
    }

    /// The text of an argument; empty where there is none.
    fn text(&self, at: usize) -> Text<'d> {
        self.optional_text(at).unwrap_or(Text::Read(""))
    }

    /// The whole number of an argument, as far as 64 bits hold it.
    fn integer(&self, at: usize) -> i64 {
        match self.atomic(at) {
            Some(Atomic::Integer(number)) => number,
            Some(Atomic::Large(number)) if number.signum() < 0 => i64::MIN,
            Some(Atomic::Large(_)) => i64::MAX,
            Some(other) => other.numeric().map_or(0, |number| number.double() as i64),
            None => 0,
        }
    }

    fn double(&self, at: usize) -> f64 {
        self.atomic(at).and_then(|a| a.numeric()).map_or(f64::NAN, |number| number.double())
    }

    /// The only item of an argument.
    fn item(&self, at: usize) -> Result<&Item<'d>, Error> {
        self.argument(at).first().ok_or_else(|| {
            let message = format!("an argument of {}() is empty", self.function.name);
            Error::unplaced(ErrorCode::Type, message)
        })
    }

    /// The item that is looked at.
    fn context(&self) -> Result<&'c Focus<'d>, Error> {
        context_item(self.focus)
    }

    /// The argument, or the context item where none is given.
    fn or_context(&self, at: usize) -> Result<Sequence<'d>, Error> {
        if self.has(at) {
            return Ok(self.argument(at).clone());
        }
        Ok(Sequence::One(self.context()?.item.clone()))
    }

    /// The node that the argument or the context item is; none for an empty argument.
    fn node_or_context(&self, at: usize) -> Result<Option<Node<'d>>, Error> {
        let value = self.or_context(at)?;
        match value.first() {
            None => Ok(None),
            Some(item) => match item.as_node() {
                Some(node) => Ok(Some(node)),
                None => {
                    let message = format!(
                        "{}() is about nodes, and here is {}",
                        self.function.name,
                        item.phrase()
                    );
                    Err(Error::unplaced(ErrorCode::Type, message))
                }
            },
        }
    }

    /// The text that the argument or the context item is.
    fn text_or_context(&self, at: usize) -> Result<Text<'d>, Error> {
        if self.has(at) {
            return Ok(self.text(at));
        }
        convert::string_value(&self.context()?.item)
    }

    /// Calls a function that is an argument.
    fn apply(&self, at: usize, values: Vec<Sequence<'d>>) -> Result<Sequence<'d>, Error> {
        let function = self.item(at)?;
        self.run.call_item(function, values, self.span)
    }
}

/// An error of a function.
fn failed(code: &'static str, message: impl Into<String>) -> Error {
    Error::unplaced(ErrorCode::Other(code), message)
}

type Outcome<'d> = Result<Sequence<'d>, Error>;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_function_is_there_once() {
        let mut names: Vec<String> = all().map(Function::full_name).collect();
        names.sort();
        let count = names.len();
        names.dedup();
        assert_eq!(names.len(), count);
        // The core library of XPath 1.0 (section 4).
        assert_eq!(all().filter(|function| function.is_old).count(), 27);
    }
}
