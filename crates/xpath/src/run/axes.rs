//! Steps along axes (XPath 3.1 section 3.3.2).
//!
//! A step starts from all nodes that were found so far, in document order. Where its predicates do not ask for places,
//! what several of them lead to is visited once, so that a step takes time in proportion to the document and not to its
//! square; elsewhere it goes from node to node, and ends early where only the first few are asked for.

use std::cell::Cell;
use std::collections::HashSet;

use kyanite_tree::{Matches, Node, NodeKind};

use super::{Focus, Frame, Run};
use crate::error::Error;
use crate::syntax::ast::{Axis, AxisStep, NodeTest, Position, Predicate};
use crate::value::Item;

/// What a node test asks of the nodes of one document.
pub(crate) enum Test {
    Any,
    Kind(NodeKind),
    Named(NodeKind, Matches),
    Document(Option<Matches>),
}

impl Test {
    #[inline]
    fn has(&self, node: Node<'_>) -> bool {
        match self {
            Self::Any => true,
            Self::Kind(kind) => node.kind() == *kind,
            Self::Named(kind, matches) => node.kind() == *kind && matches.has(node),
            Self::Document(matches) => {
                let mut elements = node.children().filter(|c| c.kind() == NodeKind::Element);
                node.kind() == NodeKind::Document
                    && match (elements.next(), elements.next(), matches) {
                        (Some(root), None, Some(matches)) => matches.has(root),
                        (Some(_), None, None) => true,
                        _ => false,
                    }
            }
        }
    }
}

/// Nodes along an axis, in its order.
fn along<'d>(node: Node<'d>, axis: Axis) -> Box<dyn Iterator<Item = Node<'d>> + 'd> {
    let siblings = |next: fn(Node<'d>) -> Option<Node<'d>>| {
        let on_axes = |node: &Node<'d>| node.is_on_axes();
        Box::new(std::iter::successors(next(node), move |node| next(*node)).filter(on_axes))
    };
    match axis {
        Axis::Child => Box::new(node.children()),
        Axis::Descendant => Box::new(node.descendants()),
        Axis::DescendantOrSelf => Box::new(std::iter::once(node).chain(node.descendants())),
        Axis::Parent => Box::new(node.parent().into_iter()),
        Axis::Ancestor => Box::new(node.ancestors()),
        Axis::AncestorOrSelf => Box::new(std::iter::once(node).chain(node.ancestors())),
        Axis::FollowingSibling => siblings(Node::next_sibling),
        Axis::PrecedingSibling => siblings(Node::previous_sibling),
        Axis::Following => Box::new(node.following()),
        Axis::Preceding => Box::new(node.preceding()),
        Axis::Attribute => Box::new(node.attributes()),
        Axis::Namespace => Box::new(node.namespaces().into_iter()),
        Axis::Itself => Box::new(std::iter::once(node)),
    }
}

impl<'d> Run<'_, 'd> {
    /// The nodes that a step finds from nodes in document order; again in document order, each once.
    pub(super) fn axis_step(
        &self,
        step: &AxisStep,
        from: &[Node<'d>],
        frame: &mut Frame<'d>,
    ) -> Result<Vec<Node<'d>>, Error> {
        let mut found = Vec::new();
        // Nodes of one document stand together.
        for group in from.chunk_by(|a, b| std::ptr::eq(a.nodes(), b.nodes())) {
            let test = self.test(step, group[0])?;
            let is_free = step.predicates.iter().all(|p| p.position == Position::Free);
            if is_free {
                let start = found.len();
                let visited = together(step.axis, &test, group, &mut found);
                self.coverage.borrow_mut().visit(visited);
                self.coverage.borrow_mut().step(step, group, found.len() > start);
                self.filter_free(&step.predicates, &mut found, start, frame)?;
            } else {
                for node in group {
                    self.one_by_one(step, &test, *node, &mut found, frame)?;
                }
            }
        }
        // Most steps find nodes in document order as they are.
        if !found.is_sorted_by(|a, b| a < b) {
            found.sort_unstable();
            found.dedup();
        }
        Ok(found)
    }

    /// Keeps the nodes from `start` on for which predicates hold that ask for no places.
    fn filter_free(
        &self,
        predicates: &[Predicate],
        nodes: &mut Vec<Node<'d>>,
        start: usize,
        frame: &mut Frame<'d>,
    ) -> Result<(), Error> {
        for predicate in predicates.iter().filter(|own| self.known != Some(own.number)) {
            let seen = nodes.len() - start;
            let mut kept = start;
            for at in start..nodes.len() {
                let focus = Focus { item: Item::Node(nodes[at]), position: 1, size: 1 };
                if self
                    .eval(&predicate.expr, frame, Some(&focus))?
                    .truth()
                    .map_err(|error| error.at(predicate.expr.span))?
                {
                    nodes[kept] = nodes[at];
                    kept += 1;
                }
            }
            nodes.truncate(kept);
            self.coverage.borrow_mut().predicate(predicate.number, seen, kept - start);
        }
        Ok(())
    }

    /// What a step finds from one node, whose predicates may ask for places.
    fn one_by_one(
        &self,
        step: &AxisStep,
        test: &Test,
        from: Node<'d>,
        found: &mut Vec<Node<'d>>,
        frame: &mut Frame<'d>,
    ) -> Result<(), Error> {
        let visited = Cell::new(1);
        let mut nodes = along(from, step.axis).filter(|node| {
            visited.set(visited.get() + 1);
            test.has(*node)
        });
        let start = found.len();
        let mut predicates = &step.predicates[..];
        // A first predicate that asks for the first few ends the search.
        match predicates.first().map(|predicate| predicate.position) {
            Some(Position::At(place)) => {
                found.extend(nodes.nth(place - 1));
                self.coverage.borrow_mut().predicate(predicates[0].number, 1, found.len() - start);
                predicates = &predicates[1..];
            }
            Some(Position::UpTo(place)) => {
                found.extend(nodes.take(place));
                self.coverage.borrow_mut().predicate(predicates[0].number, 1, found.len() - start);
                predicates = &predicates[1..];
            }
            _ => found.extend(nodes),
        }
        self.coverage.borrow_mut().visit(visited.get());
        let is_there = found.len() > start || along(from, step.axis).any(|node| test.has(node));
        self.coverage.borrow_mut().step(step, &[from], is_there);
        for predicate in predicates {
            let candidates = found.split_off(start);
            let size = candidates.len();
            for (index, node) in candidates.into_iter().enumerate() {
                let focus = Focus { item: Item::Node(node), position: index + 1, size };
                if self.holds(predicate, &focus, frame)? {
                    found.push(node);
                }
            }
            self.coverage.borrow_mut().predicate(predicate.number, size, found.len() - start);
        }
        if step.axis.is_reverse() {
            found[start..].reverse();
        }
        Ok(())
    }

    /// Whether a predicate holds for an item: a number means its place (XPath 3.1 section 3.2.1).
    pub(super) fn holds(
        &self,
        predicate: &Predicate,
        focus: &Focus<'d>,
        frame: &mut Frame<'d>,
    ) -> Result<bool, Error> {
        if let Position::At(place) = predicate.position {
            return Ok(focus.position == place);
        }
        let value = self.eval(&predicate.expr, frame, Some(focus))?;
        let number = value.only().and_then(Item::as_atomic).and_then(|a| a.numeric());
        match number {
            Some(number) => Ok(number.double() == focus.position as f64),
            None => value.truth().map_err(|error| error.at(predicate.expr.span)),
        }
    }

    /// A node test for the nodes of the document that `node` is in.
    fn test(&self, step: &AxisStep, node: Node<'d>) -> Result<Test, Error> {
        let matches =
            |name| self.name_matches(name, step.axis, node).map_err(|error| error.at(step.span));
        Ok(match &step.test {
            NodeTest::Any => Test::Any,
            NodeTest::Name(name) => Test::Named(step.axis.principal(), matches(name)?),
            NodeTest::Kind(kind, None) => Test::Kind(*kind),
            NodeTest::Kind(kind, Some(name)) => Test::Named(*kind, matches(name)?),
            NodeTest::DocumentOf(name) => Test::Document(name.as_ref().map(matches).transpose()?),
        })
    }
}

/// Documents up to this many rows are looked through without an index.
const SMALL: usize = 64;

/// What a step without predicates finds from nodes of one document, in document order as far as that comes by itself; gives
/// how many nodes were looked at.
fn together<'d>(axis: Axis, test: &Test, from: &[Node<'d>], found: &mut Vec<Node<'d>>) -> u64 {
    let mut visited = from.len() as u64;
    // A name that is nowhere in the document selects nothing, without a search.
    if matches!(test, Test::Named(_, Matches::None)) {
        return visited;
    }
    let mut keep = |node: Node<'d>| {
        visited += 1;
        if test.has(node) {
            found.push(node);
        }
    };
    match axis {
        Axis::Child => from.iter().for_each(|node| node.children().for_each(&mut keep)),
        Axis::Descendant | Axis::DescendantOrSelf => {
            let mut end = 0;
            for node in from {
                let is_inside = node.id() < end && node.is_content();
                if axis == Axis::DescendantOrSelf && !is_inside {
                    keep(*node);
                }
                if is_inside {
                    continue;
                }
                end = end.max(node.end());
                match test {
                    // In a small document an index costs more than it saves.
                    Test::Named(NodeKind::Element, Matches::One(name))
                        if node.nodes().len() > SMALL =>
                    {
                        node.descendants_named(*name).for_each(&mut keep);
                    }
                    _ => node.descendants().for_each(&mut keep),
                }
            }
        }
        Axis::Parent => {
            let mut last = None;
            for parent in from.iter().filter_map(|node| node.parent()) {
                if last != Some(parent) {
                    keep(parent);
                }
                last = Some(parent);
            }
        }
        Axis::Ancestor | Axis::AncestorOrSelf => {
            // What is above a node that was seen is known.
            let mut seen: HashSet<u32> = HashSet::new();
            for node in from {
                if axis == Axis::AncestorOrSelf && (!node.is_content() || seen.insert(node.id())) {
                    keep(*node);
                }
                node.ancestors().take_while(|above| seen.insert(above.id())).for_each(&mut keep);
            }
        }
        Axis::FollowingSibling => {
            // What follows the first of several siblings is all that follows any of them.
            let mut done: HashSet<u32> = HashSet::new();
            for node in from.iter().filter(|node| node.is_content()) {
                if node.parent().is_some_and(|parent| done.insert(parent.id())) {
                    along(*node, axis).for_each(&mut keep);
                }
            }
        }
        Axis::PrecedingSibling => {
            let mut done: HashSet<u32> = HashSet::new();
            for node in from.iter().rev().filter(|node| node.is_content()) {
                let Some(parent) = node.parent() else { continue };
                if done.insert(parent.id()) {
                    parent.children().take_while(|sibling| sibling != node).for_each(&mut keep);
                }
            }
        }
        Axis::Following => {
            let content = |node: &&Node<'d>| node.is_content();
            let first = from.iter().filter(content).min_by_key(|node| node.end());
            let other = from.iter().find(|node| !node.is_content());
            let earliest = match (first, other) {
                (Some(a), Some(b)) if b.id() < a.end() => Some(b),
                (a, b) => a.or(b),
            };
            earliest.into_iter().for_each(|node| node.following().for_each(&mut keep));
        }
        Axis::Preceding => {
            if let Some(last) = from.last() {
                let mut nodes: Vec<_> = last.preceding().collect();
                nodes.reverse();
                nodes.into_iter().for_each(&mut keep);
            }
        }
        Axis::Attribute => from.iter().for_each(|node| node.attributes().for_each(&mut keep)),
        Axis::Namespace => {
            from.iter().for_each(|node| node.namespaces().into_iter().for_each(&mut keep));
        }
        Axis::Itself => from.iter().copied().for_each(keep),
    }
    visited
}
