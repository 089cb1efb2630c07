//! Functions on nodes: their names, values and places (F&O 3.1 sections 2 and 13).

use kyanite_eval::atomic::{Atomic, AtomicType, QName};
use kyanite_tree::{Node, NodeKind};

use super::{
    ArgumentUse, Call, Function, Occurs, Outcome, What, atomic, failed, function, items, node,
    optional_item, optional_text, takes, text,
};
use crate::run::convert::{atomize, old_text, string_value};
use crate::run::paths::sort;
use crate::value::{Item, Sequence};

pub(super) const TABLE: &[Function] = &[
    function("name", &[node("node")], 0, |call| named(call, |n| n.name().qualified().to_owned()))
        .contextual()
        .asks(ArgumentUse::Presence)
        .old(),
    function("local-name", &[node("node")], 0, |call| named(call, |n| n.name().local().to_owned()))
        .contextual()
        .asks(ArgumentUse::Presence)
        .old(),
    function("namespace-uri", &[node("node")], 0, namespace_uri)
        .contextual()
        .asks(ArgumentUse::Presence)
        .old(),
    function("node-name", &[node("node")], 0, node_name).contextual().asks(ArgumentUse::Presence),
    function("string", &[optional_item("value")], 0, string)
        .contextual()
        .asks(ArgumentUse::Value)
        .old(),
    function("data", &[items("values")], 0, |call| {
        let values = atomize(&call.or_context(0)?)?;
        Ok(values.into_iter().map(Item::Atomic).collect())
    })
    .contextual()
    .asks(ArgumentUse::Value)
    .plural(),
    function("nilled", &[node("node")], 0, |call| {
        let is_element = |node: Node<'_>| node.kind() == NodeKind::Element;
        let node = call.node_or_context(0)?.filter(|node| is_element(*node));
        // Without a schema no element is nilled.
        Ok(node.map_or(Sequence::Empty, |_| Sequence::boolean(false)))
    })
    .contextual()
    .boolean(),
    function("base-uri", &[node("node")], 0, base_uri).contextual().outside(),
    function("document-uri", &[node("node")], 0, |call| {
        let document = call.node_or_context(0)?.filter(|n| n.kind() == NodeKind::Document);
        let uri = document.and_then(|node| call.run.context.documents.uri_of(node));
        Ok(uri.map_or(Sequence::Empty, |uri| Sequence::atomic(Atomic::AnyUri(uri.into()))))
    })
    .contextual()
    .outside(),
    function("root", &[node("node")], 0, |call| {
        let node = call.node_or_context(0)?;
        Ok(node.map_or(Sequence::Empty, |node| Sequence::One(Item::Node(node.nodes().root()))))
    })
    .contextual()
    .outside(),
    function("path", &[node("node")], 0, |call| {
        let node = call.node_or_context(0)?;
        Ok(node.map_or(Sequence::Empty, |node| Sequence::text(path_of(node))))
    })
    .contextual()
    .outside(),
    function("has-children", &[node("node")], 0, |call| {
        let node = call.node_or_context(0)?;
        Ok(Sequence::boolean(node.is_some_and(|node| node.children().next().is_some())))
    })
    .contextual()
    .boolean(),
    function("generate-id", &[node("node")], 0, |call| {
        let id = call.node_or_context(0)?.map(|node| {
            let document = std::ptr::from_ref(node.nodes()).addr();
            let kind = if node.kind() == NodeKind::Namespace { "n" } else { "" };
            let parent = node.parent().map_or(0, Node::id);
            format!("d{document:x}e{}{kind}{parent}", node.id())
        });
        Ok(Sequence::text(id.unwrap_or_default()))
    })
    .contextual()
    .outside(),
    function("innermost", &[takes("nodes", What::Node, Occurs::Any)], 1, |call| {
        let nodes = sorted(call.argument(0));
        // A node that holds another of them is followed by one that lies in it.
        let is_innermost = |(at, node): &(usize, &Node<'_>)| {
            nodes.get(at + 1).is_none_or(|next| !next.ancestors().any(|above| above == **node))
        };
        let kept = nodes.iter().enumerate().filter(is_innermost);
        Ok(kept.map(|(_, node)| Item::Node(*node)).collect())
    })
    .outside()
    .plural(),
    function("outermost", &[takes("nodes", What::Node, Occurs::Any)], 1, |call| {
        let mut kept: Vec<Node<'_>> = Vec::new();
        for node in sorted(call.argument(0)) {
            let is_inside = kept.last().is_some_and(|last| node.ancestors().any(|a| a == *last));
            if !is_inside {
                kept.push(node);
            }
        }
        Ok(kept.into_iter().map(Item::Node).collect())
    })
    .plural(),
    function("lang", &[optional_text("language"), takes("node", What::Node, Occurs::One)], 1, lang)
        .contextual()
        .outside()
        .boolean()
        .old(),
    function("id", &[items("ids"), takes("node", What::Node, Occurs::One)], 1, |call| {
        by_id(call, Some)
    })
    .contextual()
    .outside()
    .plural()
    .old(),
    function(
        "element-with-id",
        &[atomic("ids", AtomicType::String, Occurs::Any), takes("node", What::Node, Occurs::One)],
        1,
        |call| by_id(call, Some),
    )
    .contextual()
    .outside()
    .plural(),
    function(
        "idref",
        &[atomic("ids", AtomicType::String, Occurs::Any), takes("node", What::Node, Occurs::One)],
        1,
        idref,
    )
    .contextual()
    .outside()
    .plural(),
    function(
        "namespace-uri-for-prefix",
        &[optional_text("prefix"), takes("element", What::Element, Occurs::One)],
        2,
        |call| {
            let element = call.node_or_context(1)?;
            let prefix = call.text(0);
            let uri = element
                .and_then(|element| element.namespace_of(&prefix))
                .filter(|uri| !uri.is_empty());
            Ok(uri.map_or(Sequence::Empty, |uri| Sequence::atomic(Atomic::AnyUri(uri.into()))))
        },
    ),
    function("in-scope-prefixes", &[takes("element", What::Element, Occurs::One)], 1, |call| {
        let element = call.node_or_context(0)?;
        let namespaces = element.map(Node::namespaces).unwrap_or_default();
        Ok(namespaces.into_iter().map(|n| Item::text(n.name().qualified())).collect())
    })
    .outside()
    .plural(),
    function(
        "resolve-QName",
        &[optional_text("name"), takes("element", What::Element, Occurs::One)],
        2,
        resolve,
    ),
    function("trace", &[items("value"), text("label")], 1, |call| {
        let shown: Vec<String> = call.argument(0).items().iter().map(shown).collect();
        call.run.coverage.borrow_mut().note(&format!("{}: {}", &*call.text(1), shown.join(", ")));
        Ok(call.argument(0).clone())
    })
    .plural(),
];

/// An item for a person.
fn shown(item: &Item<'_>) -> String {
    string_value(item).map_or_else(|_| item.phrase(), |text| text.to_string())
}

fn sorted<'d>(nodes: &Sequence<'d>) -> Vec<Node<'d>> {
    let mut nodes: Vec<_> = nodes.items().iter().filter_map(Item::as_node).collect();
    sort(&mut nodes);
    nodes
}

fn named<'d>(call: &Call<'_, '_, 'd>, name: fn(Node<'d>) -> String) -> Outcome<'d> {
    Ok(Sequence::text(call.node_or_context(0)?.map(name).unwrap_or_default()))
}

fn namespace_uri<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let uri = call.node_or_context(0)?.map_or("", |node| node.name().namespace());
    Ok(Sequence::atomic(match call.run.is_old() {
        true => Atomic::string(uri),
        false => Atomic::AnyUri(uri.into()),
    }))
}

/// The name of a node as a value.
pub(super) fn name_value<'d>(node: Node<'_>) -> Option<Atomic<'d>> {
    let name = node.name();
    let has_name = matches!(
        node.kind(),
        NodeKind::Element | NodeKind::Attribute | NodeKind::Instruction | NodeKind::Namespace
    );
    (has_name && !name.qualified().is_empty()).then(|| {
        Atomic::QName(std::sync::Arc::new(QName {
            prefix: name.prefix().into(),
            namespace: name.namespace().into(),
            local: name.local().into(),
        }))
    })
}

fn node_name<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let name = call.node_or_context(0)?.and_then(name_value);
    Ok(name.map_or(Sequence::Empty, Sequence::atomic))
}

fn string<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let value = call.or_context(0)?;
    if call.run.is_old() {
        return old_text(&value).map(Sequence::text);
    }
    match value.first() {
        None => Ok(Sequence::text("")),
        Some(item) => string_value(item).map(Sequence::text),
    }
}

/// The nearest xml:base, resolved against the URI of the document.
fn base_uri<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(node) = call.node_or_context(0)? else { return Ok(Sequence::Empty) };
    let mut base = call.run.context.documents.uri_of(node).unwrap_or_default();
    let mut around: Vec<_> = std::iter::once(node).chain(node.ancestors()).collect();
    around.reverse();
    for element in around {
        let given = element.attributes().find(|a| a.name().qualified() == "xml:base");
        if let Some(given) = given {
            base = kyanite_eval::uri::resolve(given.text(), &base)
                .unwrap_or_else(|| given.text().into());
        }
    }
    if base.is_empty() {
        return Ok(Sequence::Empty);
    }
    Ok(Sequence::atomic(Atomic::AnyUri(base.into())))
}

/// Whether the language of a node is one or a dialect of it.
fn lang<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(node) = call.node_or_context(1)? else { return Ok(Sequence::boolean(false)) };
    let wanted = call.text(0).to_lowercase();
    let declared = std::iter::once(node)
        .chain(node.ancestors())
        .flat_map(Node::attributes)
        .find(|attribute| attribute.name().qualified() == "xml:lang")
        .map(|attribute| attribute.text().to_lowercase());
    let is_it = |language: String| {
        language.strip_prefix(&wanted).is_some_and(|rest| rest.is_empty() || rest.starts_with('-'))
    };
    Ok(Sequence::boolean(declared.is_some_and(is_it)))
}

/// The names of the elements and attributes that the document type declares as of a type (XML 1.0 section 3.3).
fn declared_ids(node: Node<'_>, of: &[&str]) -> Vec<(String, String)> {
    let text = node.nodes().document_type().unwrap_or_default();
    let mut found = Vec::new();
    for declaration in text.split("<!ATTLIST").skip(1) {
        let declaration = declaration.split('>').next().unwrap_or_default();
        let mut words = declaration.split_whitespace();
        let Some(element) = words.next() else { continue };
        let words: Vec<&str> = words.collect();
        for pair in words.windows(2) {
            if of.contains(&pair[1]) {
                found.push((element.to_owned(), pair[0].to_owned()));
            }
        }
    }
    found
}

fn is_id(attribute: Node<'_>, declared: &[(String, String)]) -> bool {
    let name = attribute.name().qualified();
    let element = attribute.parent().map_or("", |parent| parent.name().qualified());
    name == "xml:id" || declared.iter().any(|(e, a)| e == element && a == name)
}

/// The words of several texts.
fn tokens(value: &Sequence<'_>) -> Result<Vec<String>, crate::error::Error> {
    let mut all = Vec::new();
    for item in value.items() {
        all.extend(string_value(item)?.split_whitespace().map(str::to_owned));
    }
    Ok(all)
}

fn by_id<'d>(call: &Call<'_, '_, 'd>, of: fn(Node<'d>) -> Option<Node<'d>>) -> Outcome<'d> {
    let ids = match call.run.is_old() {
        true if call.argument(0).first().and_then(Item::as_node).is_none() => {
            old_text(call.argument(0))?.split_whitespace().map(str::to_owned).collect()
        }
        _ => tokens(call.argument(0))?,
    };
    let Some(node) = call.node_or_context(1)? else { return Ok(Sequence::Empty) };
    let declared = declared_ids(node, &["ID"]);
    let ids: std::collections::HashSet<String> = ids.into_iter().collect();
    let mut met = std::collections::HashSet::new();
    let found = node.nodes().root().descendants().filter(|element| {
        let mut attributes = element.attributes();
        attributes.any(|a| {
            is_id(a, &declared) && ids.contains(a.text().trim()) && met.insert(a.text().trim())
        })
    });
    Ok(found.filter_map(of).map(Item::Node).collect())
}

fn idref<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let ids = tokens(call.argument(0))?;
    let Some(node) = call.node_or_context(1)? else { return Ok(Sequence::Empty) };
    let declared = declared_ids(node, &["IDREF", "IDREFS"]);
    let refers = |attribute: &Node<'d>| {
        let name = attribute.name().qualified();
        let element = attribute.parent().map_or("", |parent| parent.name().qualified());
        declared.iter().any(|(e, a)| e == element && a == name)
            && attribute.text().split_whitespace().any(|word| ids.iter().any(|id| id == word))
    };
    let all = node.nodes().root().descendants().flat_map(Node::attributes);
    Ok(all.filter(refers).map(Item::Node).collect())
}

/// A path that selects just this node, with the namespaces written out (F&O 3.1 section 14.10).
fn path_of(node: Node<'_>) -> String {
    let mut steps = Vec::new();
    let mut at = node;
    while let Some(parent) = at.parent() {
        let name = at.name();
        let braced = format!("Q{{{}}}{}", name.namespace(), name.local());
        let place = |is_twin: &dyn Fn(Node<'_>) -> bool| {
            parent.children().take_while(|child| *child != at).filter(|c| is_twin(*c)).count() + 1
        };
        let of_kind = |other: Node<'_>| other.kind() == at.kind();
        steps.push(match at.kind() {
            NodeKind::Attribute if name.namespace().is_empty() => format!("@{}", name.local()),
            NodeKind::Attribute => format!("@{braced}"),
            NodeKind::Element => {
                let is_twin = |other: Node<'_>| {
                    of_kind(other)
                        && other.name().local() == name.local()
                        && other.name().namespace() == name.namespace()
                };
                format!("{braced}[{}]", place(&is_twin))
            }
            NodeKind::Text => format!("text()[{}]", place(&of_kind)),
            NodeKind::Comment => format!("comment()[{}]", place(&of_kind)),
            NodeKind::Instruction => {
                let is_twin = |other: Node<'_>| of_kind(other) && other.name() == name;
                format!("processing-instruction({})[{}]", name.local(), place(&is_twin))
            }
            NodeKind::Namespace if name.qualified().is_empty() => {
                format!("namespace::*[Q{{{}}}local-name()=\"\"]", crate::FN)
            }
            NodeKind::Namespace => format!("namespace::{}", name.qualified()),
            _ => String::new(),
        });
        at = parent;
    }
    steps.reverse();
    format!("/{}", steps.join("/"))
}

/// The name that a text means by the namespaces in scope of an element.
fn resolve<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(name) = call.optional_text(0) else { return Ok(Sequence::Empty) };
    let Some(element) = call.node_or_context(1)? else { return Ok(Sequence::Empty) };
    let name = kyanite_eval::number::trim(&name);
    let (prefix, local) = name.split_once(':').unwrap_or(("", name));
    let is_name = crate::syntax::lexer::is_ncname;
    if !is_name(local) || (!prefix.is_empty() && !is_name(prefix)) {
        return Err(failed("FOCA0002", format!("{name:?} is no name")));
    }
    let uri = element.namespace_of(prefix);
    if uri.is_none() && !prefix.is_empty() {
        return Err(failed("FONS0004", format!("the prefix {prefix} is not declared there")));
    }
    let namespace = uri.unwrap_or_default().into();
    let name = QName { prefix: prefix.into(), namespace, local: local.into() };
    Ok(Sequence::atomic(Atomic::QName(std::sync::Arc::new(name))))
}
