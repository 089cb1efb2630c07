//! The functions of the rule language: one table that the checker, the runner and the reference read.

mod aggregates;
mod documents;
mod elements;
mod lists;
mod maps;
mod numbers;
mod patterns;
mod sequences;
mod texts;
mod times;

use kyanite_eval::accumulator::{self, Aggregate, AggregateErrorKind};
use kyanite_eval::pattern::iregexp::Patterns;
use kyanite_eval::signature::usage;
use kyanite_formats::Format;
use kyanite_formats::json::Duplicate;
use kyanite_formats::losses::Losses;
use kyanite_tree::{Advice, Arena, Code, DecimalError, Kind, Locus, Map, Number, Origin, Value};

use crate::documents::DocumentUris;
use crate::finding::Span;
use crate::namespaces::Namespaces;
use crate::types::Type;

/// What a parameter takes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct ParameterTypes(u16);

impl ParameterTypes {
    /// Null.
    pub const NULL: Self = Self(1);
    /// A boolean.
    pub const BOOLEAN: Self = Self(1 << 1);
    /// A number.
    pub const NUMBER: Self = Self(1 << 2);
    /// A text.
    pub const TEXT: Self = Self(1 << 3);
    /// A list.
    pub const LIST: Self = Self(1 << 4);
    /// A map.
    pub const MAP: Self = Self(1 << 5);
    /// Nothing.
    pub const NOTHING: Self = Self(1 << 6);
    /// The nodes of a path.
    pub const NODES: Self = Self(1 << 7);
    /// The nodes of a path that may select many; other arguments have other functions.
    pub const MANY_NODES: Self = Self(1 << 8);
    /// Any value, but not nothing.
    pub const VALUE: Self = Self(0x3F | 1 << 9);
    /// Any value or nothing.
    pub const ANYTHING: Self = Self(0x7F | 1 << 9);
    /// An element.
    pub const ELEMENT: Self = Self(1 << 9);
    /// A list to go through; null and nothing are no items.
    pub const ITEMS: Self = Self(1 | 1 << 4 | 1 << 6);

    /// Either.
    #[must_use]
    pub const fn or(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    fn has(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }

    /// Whether it takes nodes, not values.
    #[must_use]
    pub fn nodes(self) -> bool {
        self.has(Self::NODES.or(Self::MANY_NODES))
    }

    /// Whether it takes a value of this kind, or nothing.
    #[must_use]
    pub fn accepts(self, kind: Option<Kind>) -> bool {
        self.has(match kind {
            None => Self::NOTHING,
            Some(Kind::Null) => Self::NULL,
            Some(Kind::Boolean) => Self::BOOLEAN,
            Some(Kind::Number) => Self::NUMBER,
            Some(Kind::Text) => Self::TEXT,
            Some(Kind::List) => Self::LIST,
            Some(Kind::Map) => Self::MAP,
            Some(Kind::Element) => Self::ELEMENT,
        })
    }

    /// Whether it may take a value of this static type.
    #[must_use]
    pub fn may_accept(self, of: Type) -> bool {
        match of {
            Type::Any => true,
            // An element stands for its text, or for its record.
            Type::Of(Kind::Element) => {
                self.has(Self::ELEMENT.or(Self::TEXT).or(Self::NUMBER).or(Self::MAP))
            }
            Type::Of(kind) => self.accepts(Some(kind)),
        }
    }

    /// The words for it: `a text or a number`.
    #[must_use]
    pub fn words(self) -> String {
        if self == Self::ANYTHING || self == Self::VALUE {
            return "a value".into();
        }
        if self == Self::ITEMS {
            return "a list".into();
        }
        if self.has(Self::MANY_NODES) {
            return "a path that may select many".into();
        }
        if self.has(Self::NODES) {
            return "a path".into();
        }
        let kinds = [
            Kind::Null,
            Kind::Boolean,
            Kind::Number,
            Kind::Text,
            Kind::List,
            Kind::Map,
            Kind::Element,
        ];
        let words: Vec<_> =
            kinds.into_iter().filter(|kind| self.accepts(Some(*kind))).map(Kind::phrase).collect();
        words.join(" or ")
    }
}

/// A parameter of a function.
#[derive(Debug)]
pub struct Parameter {
    /// Its name, for the reference.
    pub name: &'static str,
    /// What it takes.
    pub takes: ParameterTypes,
}

const fn takes(name: &'static str, takes: ParameterTypes) -> Parameter {
    Parameter { name, takes }
}

/// A function: how it is called, what it gives, and how it runs.
pub struct Signature {
    /// The name.
    pub name: &'static str,
    /// Its parameters.
    pub parameters: &'static [Parameter],
    /// How many of them must be given.
    pub required: usize,
    /// Whether the last parameter may be repeated.
    pub repeats: bool,
    /// What it gives.
    pub result: Type,
    /// One sentence about it.
    pub summary: &'static str,
    /// A rule that uses it and the JSON that the rule gives.
    pub example: (&'static str, &'static str),
    pub(crate) run: Run,
}

impl std::fmt::Debug for Signature {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.usage())
    }
}

impl Signature {
    /// The function called `name`.
    #[must_use]
    pub fn find(name: &str) -> Option<&'static Self> {
        all().find(|signature| signature.name == name)
    }

    /// The parameter that the argument at `position` is for.
    #[must_use]
    pub fn parameter(&self, position: usize) -> Option<&'static Parameter> {
        match self.parameters.get(position) {
            None if self.repeats => self.parameters.last(),
            parameter => parameter,
        }
    }

    /// How it is called: `round(number, digits?)`.
    #[must_use]
    pub fn usage(&self) -> String {
        let parameters = self.parameters.iter().map(|parameter| parameter.name);
        usage(self.name, parameters, self.required, self.repeats)
    }
}

/// How a function runs.
pub(crate) enum Run {
    /// Item by item over a list or the nodes of a path.
    Fold(Aggregate),
    /// How many nodes there are.
    Count,
    /// Whether there are any nodes.
    Exists,
    /// The value of the only node.
    ValueOf,
    /// The first argument, or the second where evaluating the first fails.
    Recover,
    /// An XPath, compiled with the rule, over the first argument.
    XPath,
    /// Over values.
    Values(for<'c, 'a> fn(&Call<'c, 'a>) -> Outcome<'a>),
}

/// What a function gives: a value, nothing, or what is wrong.
pub(crate) type Outcome<'a> = Result<Option<Value<'a>>, CallError>;

/// What is wrong with the arguments of a call.
#[derive(Clone, Debug)]
pub(crate) struct CallError {
    pub(crate) code: Code,
    pub(crate) message: String,
    pub(crate) advice: Option<Advice<Locus>>,
    /// Which argument it is about.
    pub(crate) argument: usize,
    /// The value it is about, where that is not the argument itself.
    pub(crate) origin: Option<Origin>,
}

impl CallError {
    pub(crate) fn new(argument: usize, message: impl Into<String>) -> Self {
        Self {
            code: Code::CallFailed,
            message: message.into(),
            advice: None,
            argument,
            origin: None,
        }
    }

    /// What the rule itself fails with.
    fn raised(message: &str) -> Self {
        Self { code: Code::RaisedError, ..Self::new(0, message) }
    }

    pub(crate) fn advise(mut self, advice: impl Into<Advice<Locus>>) -> Self {
        self.advice = Some(advice.into());
        self
    }

    fn about(mut self, value: Value<'_>) -> Self {
        self.origin = Some(value.origin());
        self
    }
}

impl From<accumulator::AggregateError> for CallError {
    fn from(error: accumulator::AggregateError) -> Self {
        let advice = match error.sort {
            AggregateErrorKind::NotNumber => {
                Some("convert texts with number(), or leave the others out")
            }
            AggregateErrorKind::Mixed => Some(MIXED),
            AggregateErrorKind::Other => None,
        };
        let advice = advice.map(Advice::words);
        Self { advice, origin: error.origin, ..Self::new(0, error.message) }
    }
}

/// What to do about numbers and texts that have no order among each other.
pub(crate) const MIXED: &str = "convert all with number() or text()";

/// Takes what functions have to say besides what they give.
pub(crate) trait Remarks {
    /// The rule says something.
    fn note(&self, message: &str);
    /// A text that a call made could not carry all of its value.
    fn lost(&self, span: Span, format: Format, losses: &Losses);
    /// A text that a call read held these members twice.
    fn twice(&self, span: Span, duplicates: &[Duplicate]);
    /// A call names members of `map`.
    fn named(
        &self,
        span: Span,
        function: &'static str,
        names: &mut dyn Iterator<Item = &str>,
        map: &Map<'_>,
    );
}

/// Tells which value a traced one was handed on from.
pub(crate) trait HandedOn {
    /// Where the value was read that one of this origin was handed on from.
    fn handed_on(&self, origin: Origin) -> Option<Origin>;
}

/// A call that is running; its arguments are of the kinds that the signature says.
pub(crate) struct Call<'c, 'a> {
    pub(crate) arena: &'a Arena,
    pub(crate) arguments: &'c [Option<Value<'a>>],
    pub(crate) patterns: &'c Patterns,
    pub(crate) remarks: &'c dyn Remarks,
    pub(crate) namespaces: &'a Namespaces,
    pub(crate) documents: &'c DocumentUris,
    /// What computed values were made of, if that is kept.
    pub(crate) trace: Option<&'c dyn HandedOn>,
    /// Where the call stands.
    pub(crate) span: Span,
}

impl<'a> Call<'_, 'a> {
    fn argument(&self, position: usize) -> Option<Value<'a>> {
        self.arguments.get(position).copied().flatten()
    }

    fn text(&self, position: usize) -> &'a str {
        self.argument(position).and_then(Value::as_text).unwrap_or_default()
    }

    fn number(&self, position: usize) -> Result<kyanite_tree::Decimal, CallError> {
        let number = self.argument(position).and_then(Value::as_number);
        number
            .unwrap_or(Number::from_checked("0"))
            .decimal()
            .map_err(|error| number_fault(position, error))
    }

    /// The items of a list argument; none for null and nothing.
    fn items(&self, position: usize) -> &'a [Value<'a>] {
        self.argument(position).and_then(Value::as_list).unwrap_or_default()
    }
}

fn number_fault(argument: usize, error: DecimalError) -> CallError {
    CallError::new(argument, error.to_string())
}

/// All functions, in the order of the reference.
pub fn all() -> impl Iterator<Item = &'static Signature> {
    [
        STANDARD,
        numbers::TABLE,
        aggregates::TABLE,
        lists::TABLE,
        sequences::TABLE,
        maps::TABLE,
        texts::TABLE,
        patterns::TABLE,
        times::TABLE,
        elements::TABLE,
        documents::TABLE,
    ]
    .into_iter()
    .flatten()
}

/// The functions about nodes, presence and kind.
const STANDARD: &[Signature] = &[
    Signature {
        name: "count",
        parameters: &[takes("path", ParameterTypes::MANY_NODES)],
        required: 1,
        repeats: false,
        result: Type::Number,
        summary: "How many nodes the path selects (RFC 9535 section 2.4.5).",
        example: ("let d = {a: [5, 6]} return count(d.a[*])", "2"),
        run: Run::Count,
    },
    Signature {
        name: "value",
        parameters: &[takes("path", ParameterTypes::NODES)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The value of the only node the path selects, else nothing (RFC 9535 section 2.4.8).",
        example: ("let d = {a: [5]} return value(d.a[*])", "5"),
        run: Run::ValueOf,
    },
    Signature {
        name: "exists",
        parameters: &[takes("path", ParameterTypes::NODES)],
        required: 1,
        repeats: false,
        result: Type::Boolean,
        summary: "Whether the path selects anything, null included.",
        example: ("let d = {a: null} return exists(d.a)", "true"),
        run: Run::Exists,
    },
    Signature {
        name: "present",
        parameters: &[takes("value", ParameterTypes::ANYTHING)],
        required: 1,
        repeats: false,
        result: Type::Boolean,
        summary: "Whether the value is neither nothing, nor null, nor an empty cell or element.",
        example: ("let d = {a: null} return present(d.a)", "false"),
        run: Run::Values(|call| Ok(Some(Value::boolean(is_present(call.argument(0)))))),
    },
    Signature {
        name: "needed",
        parameters: &[
            takes("value", ParameterTypes::ANYTHING),
            takes("message", ParameterTypes::TEXT),
        ],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The value; when it is nothing or null, the run ends with the message.",
        example: ("let d = {a: 1} return needed(d.a, \"a is missing\")", "1"),
        run: Run::Values(|call| match call.argument(0) {
            value if is_present(value) => Ok(value),
            _ if call.arguments.len() > 1 => Err(CallError::raised(call.text(1))),
            _ => Err(CallError::raised("a needed value is missing")),
        }),
    },
    Signature {
        name: "type",
        parameters: &[takes("value", ParameterTypes::ANYTHING)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "What the value is: null, boolean, number, text, list, map, element or nothing.",
        example: ("type([1])", "\"list\""),
        run: Run::Values(|call| {
            Ok(Some(Value::text(call.argument(0).map_or("nothing", |value| value.kind().word()))))
        }),
    },
    Signature {
        name: "note",
        parameters: &[
            takes("value", ParameterTypes::ANYTHING),
            takes("message", ParameterTypes::TEXT),
        ],
        required: 2,
        repeats: false,
        result: Type::Any,
        summary: "The value; the message is told once at the end of the run, with how often it came up.",
        example: ("note(7, \"seven came up\")", "7"),
        run: Run::Values(|call| {
            call.remarks.note(call.text(1));
            Ok(call.argument(0))
        }),
    },
    Signature {
        name: "document_uri",
        parameters: &[takes("value", ParameterTypes::ANYTHING)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The file or URL that the value was read from; nothing for standard input and for computed values (XPath and XQuery Functions and Operators 3.1 section 2.6).",
        example: ("document_uri([1]) ?? \"computed\"", "\"computed\""),
        run: Run::Values(|call| {
            let origin = call.argument(0).map_or(Origin::NONE, Value::origin);
            let handed_on = call.trace.and_then(|trace| trace.handed_on(origin));
            let uri = call.documents.of(handed_on.unwrap_or(origin));
            Ok(uri.map(|uri| Value::text(call.arena.text(uri))))
        }),
    },
    Signature {
        name: "recover",
        parameters: &[
            takes("value", ParameterTypes::ANYTHING),
            takes("otherwise", ParameterTypes::ANYTHING),
        ],
        required: 2,
        repeats: false,
        result: Type::Any,
        summary: "The value or, where evaluating it fails on the data, the other one; how often, and the first message, is told at the end of the run.",
        example: ("recover(decode(\"json\", \"{\"), null)", "null"),
        run: Run::Recover,
    },
    Signature {
        name: "xpath",
        parameters: &[
            takes("value", ParameterTypes::ANYTHING),
            takes("expression", ParameterTypes::TEXT),
        ],
        required: 2,
        repeats: false,
        result: Type::Any,
        summary: "What an XPath 3.1 selects from an element, a map or a list: a list or, of an expression that gives one item at most, that item. The expression is a text in quotes; the rule's names are its variables, the prefixes that the header declares are its namespaces.",
        example: ("let d = {a: [5, 6]} let least = 5 return xpath(d, \"?a?*[. > $least]\")", "[6]"),
        run: Run::XPath,
    },
    Signature {
        name: "error",
        parameters: &[takes("message", ParameterTypes::TEXT)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "Ends the run with the message (as in XPath and XQuery Functions and Operators 3.1 section 3.1).",
        example: ("if false then error(\"no\") else 1", "1"),
        run: Run::Values(|call| Err(CallError::raised(call.text(0)))),
    },
];

/// Whether a value is there, not null, and not an empty untyped text.
pub(crate) fn is_present(value: Option<Value<'_>>) -> bool {
    !matches!(value.map(Value::simple), None | Some(Value::Null(_) | Value::Untyped(_, "")))
}
