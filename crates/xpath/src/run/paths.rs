//! Paths (XPath 3.1 section 3.3): step after step, each over the nodes of the one before, in document order.

use kyanite_tree::{Matches, NameTest, Node, Span};

use super::{Focus, Frame, Outcome, Run, context_item};
use crate::error::{Error, ErrorCode};
use crate::syntax::ast::{Axis, Name, Path, Start, Step};
use crate::value::{Item, Sequence};

/// A name test and the document that it is asked of, by their addresses, and the axis.
pub(super) type NamesKey = (usize, usize, Axis);

/// The nodes among items.
fn nodes_of<'d>(items: &[Item<'d>]) -> Vec<Node<'d>> {
    items.iter().filter_map(Item::as_node).collect()
}

/// Puts nodes in document order, each once.
pub(crate) fn sort(nodes: &mut Vec<Node<'_>>) {
    if !nodes.is_sorted_by(|a, b| a < b) {
        nodes.sort_unstable();
        nodes.dedup();
    }
}

/// The document that the item is in.
fn root_of<'d>(focus: &Focus<'d>) -> Result<Node<'d>, Error> {
    match &focus.item {
        Item::Node(node) => Ok(node.nodes().root()),
        other => {
            let message = format!("`/` is the document of a node, and here is {}", other.phrase());
            let error = Error::unplaced(ErrorCode::Other("XPTY0020"), message);
            Err(if other.is_map() || other.is_array() {
                error.advise("step into maps and arrays with `?`: ?name, ?1, ?*")
            } else {
                error
            })
        }
    }
}

#[cold]
fn no_node(item: &Item<'_>, span: Span) -> Error {
    let message = format!("a step goes on from a node, and here is {}", item.phrase());
    let error = Error::new(ErrorCode::Other("XPTY0020"), span, message);
    if item.is_map() || item.is_array() {
        error.advise("step into maps and arrays with `?`: ?name, ?1, ?*")
    } else {
        error
    }
}

impl<'e, 'd> Run<'e, 'd> {
    pub(super) fn path(
        &self,
        path: &Path,
        frame: &mut Frame<'d>,
        focus: Option<&Focus<'d>>,
    ) -> Outcome<'d> {
        let mut items: Vec<Item<'d>> = Vec::new();
        let mut nodes: Vec<Node<'d>> = Vec::new();
        let mut steps = &path.steps[..];
        match path.start {
            Start::Root => nodes.push(root_of(context_item(focus)?)?),
            // The first step is evaluated where the path is.
            Start::Context => match &steps[0] {
                Step::Expr(first) => {
                    items = self.eval(first, frame, focus)?.into_items();
                    steps = &steps[1..];
                    nodes = nodes_of(&items);
                }
                Step::Axis(step) => {
                    let context = context_item(focus)?;
                    match &context.item {
                        Item::Node(node) => nodes.push(*node),
                        other => return Err(no_node(other, step.span)),
                    }
                }
            },
        }
        for (index, step) in steps.iter().enumerate() {
            // Values that are no nodes may only stand at the end of a path.
            if nodes.len() < items.len() {
                let other = items.iter().find(|item| item.as_node().is_none());
                let phrase = other.map_or_else(|| "an item".into(), Item::phrase);
                let message = format!("a path goes on from nodes, and {phrase} is none");
                let error = Error::new(ErrorCode::Other("XPTY0019"), step.span(), message);
                let advice = match other {
                    Some(item) if item.is_map() || item.is_array() => {
                        "step into maps and arrays with `?`: ?name, ?1, ?*"
                    }
                    _ => "go on from other values with `!`",
                };
                return Err(error.advise(advice));
            }
            match step {
                Step::Axis(step) => nodes = self.axis_step(step, &nodes, frame)?,
                Step::Expr(expr) => {
                    let from = nodes.iter().copied().map(Item::Node).collect();
                    let found = self.for_each(from, expr, frame)?.into_items();
                    let is_last = index + 1 == steps.len();
                    nodes = nodes_of(&found);
                    if nodes.len() == found.len() {
                        sort(&mut nodes);
                    } else if !nodes.is_empty() {
                        let message = "a step gives nodes and other items at once";
                        return Err(Error::new(ErrorCode::Other("XPTY0018"), expr.span, message));
                    } else if is_last {
                        return Ok(Sequence::of(found));
                    }
                    items = found;
                    continue;
                }
            }
            items.clear();
        }
        Ok(match nodes.as_slice() {
            [node] => Sequence::One(Item::Node(*node)),
            _ => nodes.into_iter().map(Item::Node).collect(),
        })
    }

    /// Which names of the document of `node` a name test means.
    pub(crate) fn name_matches(
        &self,
        name: &Name,
        axis: Axis,
        node: Node<'d>,
    ) -> Result<Matches, Error> {
        let key = (std::ptr::from_ref(name).addr(), std::ptr::from_ref(node.nodes()).addr(), axis);
        if let Some((_, known)) = self.names.borrow().iter().find(|(known, _)| *known == key) {
            return Ok(known.clone());
        }
        let namespaces = &self.expression.namespaces;
        let nodes = node.nodes();
        let ignores = namespaces.ignores();
        let uri = |prefix: &str| namespaces.uri(prefix, nodes);
        let is_element = axis.principal() == kyanite_tree::NodeKind::Element;
        let matches = match name {
            Name::Any => Matches::All,
            Name::Plain(local) if ignores => nodes.matches(NameTest::Local(local)),
            Name::Plain(local) => {
                // Names of attributes, and targets of instructions, are in no namespace unless they have a prefix.
                let namespace = if is_element { namespaces.default_uri() } else { "" };
                nodes.matches(NameTest::Name { namespace, local })
            }
            Name::Prefixed(_, local) if ignores => nodes.matches(NameTest::Local(local)),
            Name::Prefixed(prefix, local) => {
                nodes.matches(NameTest::Name { namespace: &uri(prefix)?, local })
            }
            Name::Expanded(namespace, local) => nodes.matches(NameTest::Name { namespace, local }),
            Name::Prefix(_) if ignores => Matches::All,
            Name::Prefix(prefix) => nodes.matches(NameTest::InNamespace(&uri(prefix)?)),
            Name::Namespace(uri) => nodes.matches(NameTest::InNamespace(uri)),
            Name::Local(local) => nodes.matches(NameTest::Local(local)),
        };
        /// Tests and documents are few; where they are not, the oldest are looked at again.
        const MOST: usize = 64;
        let mut names = self.names.borrow_mut();
        if names.len() >= MOST {
            names.clear();
        }
        names.push((key, matches.clone()));
        Ok(matches)
    }
}
