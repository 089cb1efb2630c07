//! Whether a value is of a type (XPath 3.1 section 2.5.5).

use kyanite_tree::{Node, NodeKind};

use super::Run;
use super::convert::fits;
use crate::error::Error;
use crate::syntax::ast::{Axis, ItemType, Name, NodeTest, SequenceType};
use crate::value::{FunctionItem, Item, Sequence};

impl<'d> Run<'_, 'd> {
    /// Whether a sequence is of a type.
    pub(crate) fn is_of(&self, value: &Sequence<'d>, of: &SequenceType) -> Result<bool, Error> {
        if !fits(value.len(), of.occurs) {
            return Ok(false);
        }
        for item in value.items() {
            if !self.item_is_of(item, &of.item)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    pub(crate) fn item_is_of(&self, item: &Item<'d>, of: &ItemType) -> Result<bool, Error> {
        Ok(match of {
            ItemType::Any => true,
            ItemType::Atomic(of) => {
                item.as_atomic().is_some_and(|atomic| atomic.atomic_type().is_a(*of))
            }
            ItemType::Node(test) => match item {
                Item::Node(node) => self.node_is_of(*node, test)?,
                _ => false,
            },
            ItemType::Function(None) => item.is_function(),
            ItemType::Function(Some(signature)) => match item {
                Item::Function(function) => arity(function) == signature.0.len(),
                other => other.is_function() && signature.0.len() == 1,
            },
            ItemType::Map(None) => item.is_map(),
            ItemType::Array(None) => item.is_array(),
            ItemType::Map(Some(types)) => match item.entries() {
                None => false,
                Some(entries) => {
                    for (key, value) in entries {
                        if !key.atomic_type().is_a(types.0) || !self.is_of(&value, &types.1)? {
                            return Ok(false);
                        }
                    }
                    true
                }
            },
            ItemType::Array(Some(of)) => match item.members() {
                None => false,
                Some(members) => {
                    for member in members {
                        if !self.is_of(&member, of)? {
                            return Ok(false);
                        }
                    }
                    true
                }
            },
        })
    }

    /// Whether a node passes a test outside of a path.
    fn node_is_of(&self, node: Node<'d>, test: &NodeTest) -> Result<bool, Error> {
        let is_called = |node: Node<'d>, name: &Option<Name>| match name {
            None => Ok::<bool, Error>(true),
            Some(name) => Ok(self.name_matches(name, Axis::Child, node)?.has(node)),
        };
        Ok(match test {
            NodeTest::Any => true,
            NodeTest::Name(_) => false,
            NodeTest::Kind(kind, name) => node.kind() == *kind && is_called(node, name)?,
            NodeTest::DocumentOf(name) => {
                let elements: Vec<_> =
                    node.children().filter(|child| child.kind() == NodeKind::Element).collect();
                node.kind() == NodeKind::Document
                    && elements.len() == 1
                    && is_called(elements[0], name)?
            }
        })
    }
}

/// How many arguments a function takes.
pub(crate) fn arity(function: &FunctionItem<'_>) -> usize {
    match function {
        FunctionItem::Named(_, arity, _) => *arity,
        FunctionItem::Inline(inline) => inline.of.parameters.len(),
        FunctionItem::Partial(_, arguments) => {
            arguments.iter().filter(|argument| argument.is_none()).count()
        }
    }
}
