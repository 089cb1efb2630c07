//! The adaptive output method (Serialization 3.1 section 10): items as a person would write them in an expression.

use kyanite_eval::atomic::Atomic;
use kyanite_tree::NodeKind;

use super::{Parameters, markup};
use crate::error::Error;
use crate::functions::Call;
use crate::run::types::arity;
use crate::value::{FunctionItem, Item, Sequence};

/// Items, one a line unless another separator is given.
pub(super) fn adaptive<'d>(
    call: &Call<'_, '_, 'd>,
    value: &Sequence<'d>,
    parameters: &Parameters,
) -> Result<String, Error> {
    let separator = parameters.separator.as_deref().unwrap_or("\n");
    Ok(items(call, value, parameters)?.join(separator))
}

fn items<'d>(
    call: &Call<'_, '_, 'd>,
    value: &Sequence<'d>,
    parameters: &Parameters,
) -> Result<Vec<String>, Error> {
    value.items().iter().map(|one| item(call, one, parameters)).collect()
}

fn item<'d>(
    call: &Call<'_, '_, 'd>,
    one: &Item<'d>,
    parameters: &Parameters,
) -> Result<String, Error> {
    let sequence = |value: &Sequence<'d>| -> Result<String, Error> {
        let shown = items(call, value, parameters)?;
        Ok(if shown.len() == 1 { shown.concat() } else { format!("({})", shown.join(",")) })
    };
    if let Some(entries) = one.entries() {
        let shown = entries.iter().map(|(key, value)| {
            let key = item(call, &Item::Atomic(key.clone()), parameters)?;
            Ok(format!("{key}:{}", sequence(value)?))
        });
        return Ok(format!("map{{{}}}", shown.collect::<Result<Vec<_>, Error>>()?.join(",")));
    }
    if let Some(members) = one.members() {
        let shown = members.iter().map(sequence).collect::<Result<Vec<_>, Error>>()?;
        return Ok(format!("[{}]", shown.join(",")));
    }
    Ok(match (one, one.as_atomic()) {
        (_, Some(of)) => atomic(&of),
        (Item::Node(node), _) if node.kind() == NodeKind::Attribute => {
            format!("{}=\"{}\"", node.name().qualified(), quoted(node.text()))
        }
        (Item::Node(node), _) if node.kind() == NodeKind::Namespace => {
            let colon = if node.name().local().is_empty() { "" } else { ":" };
            format!("xmlns{colon}{}=\"{}\"", node.name().local(), quoted(node.text()))
        }
        (Item::Function(function), _) => match &**function {
            FunctionItem::Named(named, count, _) => {
                let prefix = match named.library.prefix() {
                    "" => "fn:",
                    prefix => prefix,
                };
                format!("{prefix}{}#{count}", named.name)
            }
            other => format!("(anonymous-function)#{}", arity(other)),
        },
        _ => markup(call, &Sequence::One(one.clone()), parameters)?,
    })
}

fn atomic(of: &Atomic<'_>) -> String {
    match of {
        Atomic::Boolean(value) => format!("{value}()"),
        Atomic::Untyped(text) | Atomic::String(text) | Atomic::AnyUri(text) => {
            format!("\"{}\"", text.replace('"', "\"\""))
        }
        // As format-number() has it by the picture 0.0##########################e0.
        Atomic::Double(number) if number.is_finite() => {
            let text = format!("{number:e}");
            match text.split_once('e') {
                Some((digits, exponent)) if !digits.contains('.') => {
                    format!("{digits}.0e{exponent}")
                }
                _ => text,
            }
        }
        Atomic::QName(name) => format!("Q{{{}}}{}", name.namespace, name.local),
        Atomic::Time(_) | Atomic::Duration(_) | Atomic::Float(_) => {
            format!("{}(\"{of}\")", of.atomic_type().name())
        }
        other => other.to_string(),
    }
}

/// The value of an attribute between quotes.
fn quoted(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}
