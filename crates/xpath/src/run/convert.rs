//! Atomization, and what arguments become before a function gets them (XPath 3.1 sections 2.4.2 and 3.1.5.2).

use kyanite_eval::atomic::{Atomic, AtomicType, Text};
use kyanite_tree::{Node, NodeKind};

use crate::Version;
use crate::error::{Error, ErrorCode};
use crate::functions::{ParameterType, What};
use crate::syntax::ast::Occurs;
use crate::value::{Item, Sequence};

/// The typed value of a node: text without a type, but for comments, instructions and namespaces, which are texts (XDM
/// 3.1 section 5.15).
pub(crate) fn typed_value(node: Node<'_>) -> Atomic<'_> {
    let text = Text::from(node.string_value());
    match node.kind() {
        NodeKind::Comment | NodeKind::Instruction | NodeKind::Namespace => Atomic::String(text),
        _ => Atomic::Untyped(text),
    }
}

/// The string value of an item, as fn:string gives it.
pub(crate) fn string_value<'d>(item: &Item<'d>) -> Result<Text<'d>, Error> {
    match item {
        Item::Node(node) => Ok(Text::from(node.string_value())),
        other => match other.as_atomic() {
            Some(atomic) => Ok(atomic.to_text()),
            None => {
                let message = format!("{} has no text", other.phrase());
                Err(Error::unplaced(ErrorCode::Other("FOTY0014"), message).about(other.origin()))
            }
        },
    }
}

/// Adds the atomic values of an item: of arrays those of all members.
pub(crate) fn atomize_into<'d>(item: &Item<'d>, out: &mut Vec<Atomic<'d>>) -> Result<(), Error> {
    match item {
        Item::Node(node) => out.push(typed_value(*node)),
        Item::Atomic(atomic) => out.push(atomic.clone()),
        other => match (other.as_atomic(), other.members()) {
            (Some(atomic), _) => out.push(atomic),
            (None, Some(members)) => {
                for member in &members {
                    for item in member.items() {
                        atomize_into(item, out)?;
                    }
                }
            }
            (None, None) => {
                let message = format!("{} has no atomic value", other.phrase());
                let error = Error::unplaced(ErrorCode::Other("FOTY0013"), message);
                let error = if other.is_map() {
                    error.advise("take values out of a map by name, ?name, or all of them, ?*")
                } else {
                    error
                };
                return Err(error.about(other.origin()));
            }
        },
    }
    Ok(())
}

/// The atomic values of a sequence.
pub(crate) fn atomize<'d>(sequence: &Sequence<'d>) -> Result<Vec<Atomic<'d>>, Error> {
    let mut all = Vec::with_capacity(sequence.len());
    for item in sequence.items() {
        atomize_into(item, &mut all)?;
    }
    Ok(all)
}

/// The only atomic value of a sequence, if it has any.
///
/// # Errors
/// `XPTY0004` where there are several.
pub(crate) fn atomic<'d>(sequence: &Sequence<'d>, what: &str) -> Result<Option<Atomic<'d>>, Error> {
    if let Sequence::One(Item::Node(node)) = sequence {
        return Ok(Some(typed_value(*node)));
    }
    let mut all = atomize(sequence)?;
    match all.len() {
        0 | 1 => Ok(all.pop()),
        count => Err(several(count, sequence, what)),
    }
}

#[cold]
pub(crate) fn several(count: usize, sequence: &Sequence<'_>, what: &str) -> Error {
    let message = format!("{what} is {count} items, and one is meant");
    let second = sequence.items().get(1).map(Item::origin);
    Error::unplaced(ErrorCode::Type, message)
        .about(second.unwrap_or(kyanite_tree::Origin::NONE))
        .advise("write [1] behind it for the first, or go through all with `!` or `for`")
}

/// Whether a number of items is allowed.
pub(crate) fn fits(count: usize, occurs: Occurs) -> bool {
    match occurs {
        Occurs::None => count == 0,
        Occurs::One => count == 1,
        Occurs::Optional => count <= 1,
        Occurs::Any => true,
        Occurs::Some => count >= 1,
    }
}

/// An argument as the parameter takes it.
pub(crate) fn argument<'d>(
    value: Sequence<'d>,
    takes: ParameterType,
    what: &str,
    version: Version,
) -> Result<Sequence<'d>, Error> {
    if version == Version::V1 {
        return old_argument(value, takes, what);
    }
    let converted = match takes.what {
        What::Atomic(of) => {
            let values = match &value {
                Sequence::One(Item::Node(node)) => vec![typed_value(*node)],
                _ => atomize(&value)?,
            };
            let count = values.len();
            if !fits(count, takes.many) {
                return Err(wrong_count(count, &value, takes, what));
            }
            let cast: Result<Vec<Item<'d>>, Error> = values
                .into_iter()
                .map(|value| promoted(value, of, what).map(Item::Atomic))
                .collect();
            return Ok(Sequence::of(cast?));
        }
        What::Item => value,
        What::Node | What::Element | What::Map | What::Array | What::Function => {
            for item in value.items() {
                let is_one = match takes.what {
                    What::Node => matches!(item, Item::Node(_)),
                    What::Element => {
                        item.as_node().is_some_and(|node| node.kind() == NodeKind::Element)
                    }
                    What::Map => item.is_map(),
                    What::Array => item.is_array(),
                    _ => item.is_function(),
                };
                if !is_one {
                    let message = format!(
                        "{what} is {}, and {} is meant",
                        item.phrase(),
                        takes.what.phrase()
                    );
                    return Err(Error::unplaced(ErrorCode::Type, message).about(item.origin()));
                }
            }
            value
        }
    };
    if !fits(converted.len(), takes.many) {
        return Err(wrong_count(converted.len(), &converted, takes, what));
    }
    Ok(converted)
}

#[cold]
fn wrong_count(count: usize, value: &Sequence<'_>, takes: ParameterType, what: &str) -> Error {
    if count > 1 {
        return several(count, value, what);
    }
    let message = match takes.many {
        Occurs::Some => format!("{what} is empty, and at least one item is meant"),
        _ => format!("{what} is empty, and {} is meant", takes.what.phrase()),
    };
    Error::unplaced(ErrorCode::Type, message)
}

/// Casts text without a type, and numbers to wider types.
pub(crate) fn promoted<'d>(
    value: Atomic<'d>,
    to: AtomicType,
    what: &str,
) -> Result<Atomic<'d>, Error> {
    let of = value.atomic_type();
    let is_promoted = matches!(
        (of, to),
        (AtomicType::Integer | AtomicType::Decimal, AtomicType::Float | AtomicType::Double)
            | (AtomicType::Float, AtomicType::Double)
            | (AtomicType::AnyUri, AtomicType::String)
            | (AtomicType::Untyped, _)
    );
    if of.is_a(to) {
        return Ok(value);
    }
    if is_promoted {
        // Text that is a number as well as not is a double.
        let to = if to == AtomicType::Numeric { AtomicType::Double } else { to };
        return Ok(value.cast(to)?);
    }
    let message = format!("{what} is an {}, and an {} is meant", of.name(), to.name());
    let advice = match to {
        AtomicType::String => "take its text with string(…)",
        AtomicType::Double | AtomicType::Numeric | AtomicType::Integer | AtomicType::Decimal => {
            "make a number of it with number(…)"
        }
        _ => return Err(Error::unplaced(ErrorCode::Type, message)),
    };
    Err(Error::unplaced(ErrorCode::Type, message).advise(advice))
}

/// An argument as XPath 1.0 takes it (section 3.2): the first item, as the type that is needed.
fn old_argument<'d>(
    value: Sequence<'d>,
    takes: ParameterType,
    what: &str,
) -> Result<Sequence<'d>, Error> {
    match takes.what {
        What::Atomic(AtomicType::String) => Ok(Sequence::text(old_text(&value)?)),
        What::Atomic(AtomicType::Double | AtomicType::Numeric) => {
            Ok(Sequence::atomic(Atomic::Double(old_number(&value)?)))
        }
        What::Node => match value.items().iter().find(|item| item.as_node().is_none()) {
            None => Ok(value),
            Some(other) => {
                let message = format!("{what} is {}, and nodes are meant", other.phrase());
                Err(Error::unplaced(ErrorCode::Type, message))
            }
        },
        _ => Ok(value),
    }
}

/// The text of a value in XPath 1.0 (section 4.2): of nodes that of the first.
pub(crate) fn old_text<'d>(value: &Sequence<'d>) -> Result<Text<'d>, Error> {
    match value.first() {
        None => Ok(Text::Read("")),
        Some(Item::Atomic(Atomic::Double(number))) => {
            Ok(kyanite_eval::number::xpath1_text(*number).into())
        }
        Some(item) => string_value(item),
    }
}

/// The number that a value is in XPath 1.0 (section 4.4).
pub(crate) fn old_number(value: &Sequence<'_>) -> Result<f64, Error> {
    match value.first() {
        None => Ok(f64::NAN),
        Some(Item::Atomic(Atomic::Boolean(value))) => Ok(f64::from(u8::from(*value))),
        Some(item) => {
            if let Some(number) = item.as_atomic().and_then(|atomic| atomic.numeric()) {
                return Ok(number.double());
            }
            Ok(kyanite_eval::number::read_xpath1(&string_value(item)?))
        }
    }
}
