//! Axes, node tests and positions against a model: a tree is a list of nodes in document order, each with its parent.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use kyanite_xpath::Version;
use proptest::prelude::*;
use support::{AXES, evaluate};

/// A node: what it is, and its parent by its place in the list. The document comes first.
#[derive(Clone, Debug)]
struct Node {
    kind: Kind,
    parent: Option<usize>,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Kind {
    Document,
    Element(&'static str),
    Text,
    Comment,
}

#[derive(Clone, Debug)]
enum Tree {
    Element(&'static str, Vec<Self>),
    Text,
    Comment,
}

impl Tree {
    fn write(&self, out: &mut String) {
        match self {
            Self::Element(name, children) => {
                out.push_str(&format!("<{name}>"));
                children.iter().for_each(|child| child.write(out));
                out.push_str(&format!("</{name}>"));
            }
            Self::Text => out.push('x'),
            Self::Comment => out.push_str("<!--c-->"),
        }
    }

    fn list(&self, parent: usize, all: &mut Vec<Node>) {
        let at = all.len();
        match self {
            Self::Element(name, children) => {
                all.push(Node { kind: Kind::Element(name), parent: Some(parent) });
                children.iter().for_each(|child| child.list(at, all));
            }
            // Characters in a row are one node.
            Self::Text
                if all
                    .iter()
                    .rev()
                    .find(|n| n.parent == Some(parent))
                    .is_some_and(|n| n.kind == Kind::Text) => {}
            Self::Text => all.push(Node { kind: Kind::Text, parent: Some(parent) }),
            Self::Comment => all.push(Node { kind: Kind::Comment, parent: Some(parent) }),
        }
    }
}

const TESTS: [&str; 7] = ["a", "b", "*", "node()", "text()", "comment()", "element(a)"];

#[derive(Clone, Debug)]
struct Step {
    axis: &'static str,
    test: &'static str,
    position: Option<Position>,
}

#[derive(Clone, Copy, Debug)]
enum Position {
    Number(usize),
    Last,
    NotFirst,
}

impl Step {
    fn text(&self) -> String {
        let position = match self.position {
            None => String::new(),
            Some(Position::Number(number)) => format!("[{number}]"),
            Some(Position::Last) => "[last()]".into(),
            Some(Position::NotFirst) => "[position() > 1]".into(),
        };
        format!("{}::{}{position}", self.axis, self.test)
    }

    /// The nodes that it selects from one, in document order.
    fn select(&self, all: &[Node], from: usize) -> Vec<usize> {
        let is_above = |above: usize, below: usize| {
            std::iter::successors(all[below].parent, |at| all[*at].parent).any(|at| at == above)
        };
        let is_on_axis = |at: usize| match self.axis {
            "self" => at == from,
            "child" => all[at].parent == Some(from),
            "descendant" => is_above(from, at),
            "descendant-or-self" => at == from || is_above(from, at),
            "parent" => all[from].parent == Some(at),
            "ancestor" => is_above(at, from),
            "ancestor-or-self" => at == from || is_above(at, from),
            "following-sibling" => at > from && all[at].parent == all[from].parent && from > 0,
            "preceding-sibling" => at < from && at > 0 && all[at].parent == all[from].parent,
            "following" => at > from && !is_above(from, at),
            _ => at < from && !is_above(at, from),
        };
        let fits = |at: usize| match (self.test, all[at].kind) {
            ("node()", _) | ("*", Kind::Element(_)) => true,
            ("text()", kind) => kind == Kind::Text,
            ("comment()", kind) => kind == Kind::Comment,
            ("element(a)", kind) => kind == Kind::Element("a"),
            (name, kind) => kind == Kind::Element(name),
        };
        let mut nodes: Vec<usize> =
            (0..all.len()).filter(|at| is_on_axis(*at) && fits(*at)).collect();
        let is_reverse = matches!(
            self.axis,
            "parent" | "ancestor" | "ancestor-or-self" | "preceding-sibling" | "preceding"
        );
        // Positions count away from where the step begins.
        if is_reverse {
            nodes.reverse();
        }
        nodes = match self.position {
            None => nodes,
            Some(Position::Number(number)) => nodes.get(number - 1).copied().into_iter().collect(),
            Some(Position::Last) => nodes.last().copied().into_iter().collect(),
            Some(Position::NotFirst) => nodes.into_iter().skip(1).collect(),
        };
        nodes.sort_unstable();
        nodes
    }
}

/// The path of a node, as path() gives it.
fn path(all: &[Node], at: usize) -> String {
    let Some(parent) = all[at].parent else { return "/".to_owned() };
    let before = all[..=at].iter().filter(|n| n.parent == Some(parent) && n.kind == all[at].kind);
    let number = before.count();
    let step = match all[at].kind {
        Kind::Element(name) => format!("Q{{}}{name}[{number}]"),
        Kind::Text => format!("text()[{number}]"),
        _ => format!("comment()[{number}]"),
    };
    match path(all, parent).as_str() {
        "/" => format!("/{step}"),
        above => format!("{above}/{step}"),
    }
}

fn tree() -> impl Strategy<Value = Tree> {
    let name = || prop::sample::select(&["a", "b", "c"][..]);
    let leaf = prop_oneof![
        2 => name().prop_map(|name| Tree::Element(name, Vec::new())),
        1 => Just(Tree::Text),
        1 => Just(Tree::Comment),
    ];
    let inner = leaf.prop_recursive(3, 20, 4, move |inner| {
        (name(), prop::collection::vec(inner, 0..4))
            .prop_map(|(name, all)| Tree::Element(name, all))
    });
    prop::collection::vec(inner, 0..5).prop_map(|all| Tree::Element("r", all))
}

fn step() -> impl Strategy<Value = Step> {
    let position = prop_oneof![
        (1..4_usize).prop_map(Position::Number),
        Just(Position::Last),
        Just(Position::NotFirst),
    ];
    let (axis, test) = (prop::sample::select(&AXES[..]), prop::sample::select(&TESTS[..]));
    (axis, test, prop::option::of(position)).prop_map(|(axis, test, position)| Step {
        axis,
        test,
        position,
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// From every node of a kind, step after step: each node once, in document order.
    #[test]
    fn steps_select_what_the_model_does(tree in tree(), start in prop::sample::select(&["/", "//a", "//node()", "//text()"][..]), steps in prop::collection::vec(step(), 1..4)) {
        let mut text = String::new();
        tree.write(&mut text);
        let mut all = vec![Node { kind: Kind::Document, parent: None }];
        tree.list(0, &mut all);
        let mut nodes: Vec<usize> = (0..all.len()).filter(|at| match start {
            "/" => *at == 0,
            "//a" => all[*at].kind == Kind::Element("a"),
            "//text()" => all[*at].kind == Kind::Text,
            _ => *at > 0,
        }).collect();
        for step in &steps {
            nodes = nodes.iter().flat_map(|at| step.select(&all, *at)).collect();
            nodes.sort_unstable();
            nodes.dedup();
        }
        let written: Vec<_> = steps.iter().map(Step::text).collect();
        let slash = if start == "/" { "" } else { "/" };
        let expression = format!("string-join(({start}{slash}{}) ! path(.), ', ')", written.join("/"));
        let expected: Vec<_> = nodes.iter().map(|at| path(&all, *at)).collect();
        prop_assert_eq!(evaluate(Version::V31, &expression, &text), expected.join(", "), "{} in {}", expression, text);
        // XPath 1.0 tells how many there are.
        if !expression.contains("element(a)") {
            let count = format!("count({start}{slash}{})", written.join("/"));
            prop_assert_eq!(evaluate(Version::V1, &count, &text), nodes.len().to_string(), "{} in {}", count, text);
        }
    }
}
