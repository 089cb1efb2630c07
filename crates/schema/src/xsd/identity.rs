//! Identity constraints (XSD 1.0 part 1 section 3.11): keys, and references to them.

use kyanite_tree::Origin;

use super::components::{ConstraintId, NameId};
use super::documents::Node;

/// `unique`, `key` or `keyref`.
#[derive(Clone, Debug)]
pub(super) struct Constraint {
    pub(super) name: NameId,
    pub(super) kind: Kind,
    pub(super) selector: Vec<Path>,
    pub(super) fields: Vec<Vec<Path>>,
    /// How the fields are written, for messages.
    pub(super) written: String,
    /// Whether a keyref refers to it.
    pub(super) is_referred: bool,
    pub(super) origin: Origin,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Kind {
    Unique,
    Key,
    Reference(ConstraintId),
}

/// A path of the part of XPath that constraints have (section 3.11.6).
#[derive(Clone, Debug)]
pub(super) struct Path {
    /// Whether it begins with `.//`.
    pub(super) is_deep: bool,
    pub(super) steps: Vec<NameTest>,
    /// The attribute at its end.
    pub(super) attribute: Option<NameTest>,
}

/// What a step asks of a name: namespaces and local names, where they matter.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct NameTest {
    namespace: Option<String>,
    local: Option<String>,
}

impl NameTest {
    pub(super) fn fits(&self, namespace: &str, local: &str) -> bool {
        self.namespace.as_deref().is_none_or(|own| own == namespace)
            && self.local.as_deref().is_none_or(|own| own == local)
    }

    fn read(text: &str, node: &Node<'_>) -> Result<Self, String> {
        if text == "*" {
            return Ok(Self { namespace: None, local: None });
        }
        let is_name = |name: &str| super::value::is_nc_name(name);
        let (prefix, local) = match text.split_once(':') {
            Some((prefix, local)) if is_name(prefix) && (local == "*" || is_name(local)) => {
                (prefix, local)
            }
            None if is_name(text) => ("", text),
            _ => return Err(format!("{text:?} is no name")),
        };
        // Names without a prefix are in no namespace, as XPath 1.0 has it.
        let namespace = match prefix {
            "" => "",
            prefix => node
                .namespace(prefix)
                .ok_or_else(|| format!("the prefix {prefix:?} is not declared"))?,
        };
        let local = (local != "*").then(|| local.to_owned());
        Ok(Self { namespace: Some(namespace.to_owned()), local })
    }
}

/// Reads the paths of a selector or a field.
pub(super) fn paths(text: &str, node: &Node<'_>, is_field: bool) -> Result<Vec<Path>, String> {
    text.split('|').map(|path| read_path(path, node, is_field)).collect()
}

fn read_path(text: &str, node: &Node<'_>, is_field: bool) -> Result<Path, String> {
    let mut compact = String::new();
    for part in text.split_ascii_whitespace() {
        compact.push_str(part);
    }
    let mut path = Path { is_deep: false, steps: Vec::new(), attribute: None };
    let rest = match compact.strip_prefix(".//") {
        Some(rest) => {
            path.is_deep = true;
            rest
        }
        None => &compact,
    };
    if rest.is_empty() {
        return Err("a path is missing".into());
    }
    let mut steps = rest.split('/').peekable();
    while let Some(step) = steps.next() {
        let attribute = step.strip_prefix('@').or_else(|| step.strip_prefix("attribute::"));
        match attribute {
            Some(name) if is_field && steps.peek().is_none() => {
                path.attribute = Some(NameTest::read(name, node)?);
            }
            Some(_) => return Err("an attribute can only stand at the end of a field".into()),
            None if step == "." => {}
            None => {
                let name = step.strip_prefix("child::").unwrap_or(step);
                path.steps.push(NameTest::read(name, node)?);
            }
        }
    }
    Ok(path)
}
