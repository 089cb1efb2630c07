//! Calls of functions, by name and as values (XPath 3.1 sections 3.1.5 and 3.2.2).

use std::rc::Rc;
use std::sync::Arc;

use kyanite_eval::atomic::{Atomic, AtomicType, QName};
use kyanite_tree::{Origin, Span, counted};

use super::convert::{argument, atomic, atomize};
use super::types::arity;
use super::{Focus, Frame, Outcome, Run, one};
use crate::Version;
use crate::error::{Error, ErrorCode};
use crate::functions::{Call, Function, What};
use crate::syntax::ast::{Callee, Expr, ItemType, Occurs, SequenceType};
use crate::syntax::lexer::is_ncname;
use crate::value::{FunctionItem, Item, Sequence};

impl<'d> Run<'_, 'd> {
    /// Calls a named function.
    pub(crate) fn call(
        &self,
        function: &'static Function,
        values: Vec<Sequence<'d>>,
        focus: Option<&Focus<'d>>,
        span: Span,
    ) -> Outcome<'d> {
        let mut arguments = Vec::with_capacity(values.len());
        for (position, value) in values.into_iter().enumerate() {
            let parameter = function.parameter(position);
            let what = format_args!("the argument {} of {}()", parameter.name, function.name);
            arguments.push(match parameter.takes.what {
                // Nothing can be wrong with these, so that nothing has to be said of them.
                What::Item if matches!(parameter.takes.many, Occurs::Any) => value,
                _ => {
                    let origin = value.first().map_or(Origin::NONE, Item::origin);
                    let converted =
                        argument(value, parameter.takes, &what.to_string(), self.version());
                    converted.map_err(|error| error.about(origin))?
                }
            });
        }
        let call = Call { run: self, function, arguments, focus, span };
        (function.run)(&call)
    }

    /// The function that a sequence is.
    pub(crate) fn function(&self, callee: &Sequence<'d>) -> Result<Item<'d>, Error> {
        let item = one(callee, "the function that is called")?;
        if item.is_function() {
            return Ok(item.clone());
        }
        let message = format!("{} is called, and it is no function", item.phrase());
        Err(Error::unplaced(ErrorCode::Type, message))
    }

    /// Calls a function that is a value: also a map, with a key, and an array, with the place of a member.
    pub(crate) fn call_item(
        &self,
        function: &Item<'d>,
        values: Vec<Sequence<'d>>,
        span: Span,
    ) -> Outcome<'d> {
        self.deeper(|| {
            if function.is_map() || function.is_array() {
                let [key] = values.as_slice() else {
                    return Err(wrong_arity(1, values.len()));
                };
                let key = atomic(key, "the key")?
                    .ok_or_else(|| Error::unplaced(ErrorCode::Type, "the key is empty"))?;
                return self.at_key(function, &key);
            }
            let Item::Function(item) = function else {
                return Err(Error::unplaced(ErrorCode::Type, "no function is called"));
            };
            let wanted = arity(item);
            if wanted != values.len() {
                return Err(wrong_arity(wanted, values.len()));
            }
            match &**item {
                FunctionItem::Named(function, _, focus) => {
                    self.call(function, values, focus.as_ref(), span)
                }
                FunctionItem::Partial(inner, known) => {
                    let mut given = values.into_iter();
                    let all = known
                        .iter()
                        .map(|known| known.clone().or_else(|| given.next()).unwrap_or_default());
                    self.call_item(inner, all.collect(), span)
                }
                FunctionItem::Inline(inline) => {
                    let mut frame = Frame::new(inline.of.slots);
                    for (slot, (value, of)) in
                        values.into_iter().zip(&inline.of.parameters).enumerate()
                    {
                        let value = match of {
                            Some(of) => self.as_type(value, of, "an argument")?,
                            None => value,
                        };
                        frame.set(slot, value);
                    }
                    for (slot, value) in &inline.captured {
                        frame.set(*slot, value.clone());
                    }
                    let result = self.eval(&inline.of.body, &mut frame, None)?;
                    match &inline.of.result {
                        Some(of) => self.as_type(result, of, "the result of a function"),
                        None => Ok(result),
                    }
                }
            }
        })
    }

    /// A value as a declared type, by the function conversion rules.
    fn as_type(&self, value: Sequence<'d>, of: &SequenceType, what: &str) -> Outcome<'d> {
        let value = match of.item {
            ItemType::Atomic(to) => {
                let values = atomize(&value)?;
                let cast: Result<Vec<_>, Error> = values
                    .into_iter()
                    .map(|value| super::convert::promoted(value, to, what).map(Item::Atomic))
                    .collect();
                Sequence::of(cast?)
            }
            _ => value,
        };
        if self.is_of(&value, of)? {
            return Ok(value);
        }
        let message = format!("{what} is not of its declared type");
        Err(Error::unplaced(ErrorCode::Type, message))
    }

    /// A function whose open arguments are those that are not given.
    pub(super) fn partial(
        &self,
        callee: &Callee,
        arguments: &[Option<Expr>],
        frame: &mut Frame<'d>,
        focus: Option<&Focus<'d>>,
        _span: Span,
    ) -> Outcome<'d> {
        let function = match callee {
            Callee::Named(function) => Item::Function(Rc::new(FunctionItem::Named(
                function,
                arguments.len(),
                focus.cloned(),
            ))),
            Callee::Computed(callee) => self.function(&self.eval(callee, frame, focus)?)?,
        };
        if let Item::Function(item) = &function
            && arity(item) != arguments.len()
        {
            return Err(wrong_arity(arity(item), arguments.len()));
        }
        let mut known = Vec::with_capacity(arguments.len());
        for argument in arguments {
            known.push(match argument {
                Some(argument) => Some(self.eval(argument, frame, focus)?),
                None => None,
            });
        }
        Ok(Sequence::One(Item::Function(Rc::new(FunctionItem::Partial(function, known)))))
    }

    /// A value cast to another type; a text becomes a name where its prefix is declared.
    pub(crate) fn cast(&self, value: &Atomic<'d>, to: AtomicType) -> Result<Atomic<'d>, Error> {
        let text = match (value, to) {
            (Atomic::String(text) | Atomic::Untyped(text), AtomicType::QName) => text,
            _ => return Ok(value.cast(to)?),
        };
        let text = kyanite_eval::number::trim(text);
        let (prefix, local) = text.split_once(':').unwrap_or(("", text));
        if !is_ncname(local) || (!prefix.is_empty() && !is_ncname(prefix)) {
            let message = format!("{text:?} is no xs:QName");
            return Err(Error::unplaced(ErrorCode::Other("FORG0001"), message));
        }
        let nodes = self.context.item.as_ref().and_then(Item::as_node).map(|node| node.nodes());
        let namespaces = &self.expression.namespaces;
        let namespace = match (prefix, nodes) {
            ("", _) => namespaces.default_uri().to_owned(),
            (prefix, Some(nodes)) => namespaces.uri(prefix, nodes)?,
            (prefix, None) => namespaces.declared(prefix).map(str::to_owned).ok_or_else(|| {
                let message = format!("the prefix {prefix} is not declared");
                Error::unplaced(ErrorCode::Other("FONS0004"), message)
            })?,
        };
        let name = QName { prefix: prefix.into(), namespace, local: local.into() };
        Ok(Atomic::QName(Arc::new(name)))
    }

    /// Whether numbers are those of XPath 1.0.
    pub(crate) fn is_old(&self) -> bool {
        self.version() == Version::V1
    }
}

fn wrong_arity(wanted: usize, given: usize) -> Error {
    let words = |count: usize| counted(count, "argument");
    let message = format!("a function of {} is called with {}", words(wanted), words(given));
    Error::unplaced(ErrorCode::Type, message)
}
