//! Wildcards: elements and attributes of some namespaces (XSD 1.0 part 1 section 3.10).

use kyanite_tree::Origin;

/// `any` or `anyAttribute`.
#[derive(Clone, Debug)]
pub(super) struct Wildcard {
    pub(super) namespaces: Namespaces,
    pub(super) process: Process,
    pub(super) origin: Origin,
}

/// A set of namespaces; the empty one is that of names without a namespace.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum Namespaces {
    Any,
    /// All but this one and the empty one.
    Not(String),
    /// In order.
    Some(Vec<String>),
}

/// What is done with what a wildcard fits.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(super) enum Process {
    /// Nothing.
    Skip,
    /// It is checked if it is declared.
    Lax,
    /// It has to be declared.
    Strict,
}

impl Namespaces {
    pub(super) fn some(mut namespaces: Vec<String>) -> Self {
        namespaces.sort();
        namespaces.dedup();
        Self::Some(namespaces)
    }

    pub(super) fn has(&self, namespace: &str) -> bool {
        match self {
            Self::Any => true,
            Self::Not(not) => !namespace.is_empty() && namespace != not,
            Self::Some(some) => some.iter().any(|known| known == namespace),
        }
    }

    /// Whether all of them are among others (section 3.10.6, Wildcard Subset).
    pub(super) fn is_in(&self, others: &Self) -> bool {
        match (self, others) {
            (_, Self::Any) => true,
            (Self::Not(not), Self::Not(other)) => not == other,
            (Self::Some(some), others) => some.iter().all(|namespace| others.has(namespace)),
            _ => false,
        }
    }

    /// Whether there is a namespace that both have.
    pub(super) fn meets(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Some(some), other) | (other, Self::Some(some)) => {
                some.iter().any(|namespace| other.has(namespace))
            }
            _ => true,
        }
    }

    /// Those of both (section 3.10.6, Attribute Wildcard Intersection); None where that cannot be said.
    pub(super) fn and(&self, other: &Self) -> Option<Self> {
        Some(match (self, other) {
            (Self::Any, one) | (one, Self::Any) => one.clone(),
            (Self::Some(some), other) | (other, Self::Some(some)) => {
                Self::Some(some.iter().filter(|namespace| other.has(namespace)).cloned().collect())
            }
            (Self::Not(a), Self::Not(b)) if a == b || b.is_empty() => Self::Not(a.clone()),
            (Self::Not(a), Self::Not(b)) if a.is_empty() => Self::Not(b.clone()),
            _ => return None,
        })
    }

    /// Those of either (section 3.10.6, Attribute Wildcard Union); None where that cannot be said.
    pub(super) fn or(&self, other: &Self) -> Option<Self> {
        Some(match (self, other) {
            (Self::Any, _) | (_, Self::Any) => Self::Any,
            (Self::Some(a), Self::Some(b)) => Self::some(a.iter().chain(b).cloned().collect()),
            (Self::Not(a), Self::Not(b)) if a == b => Self::Not(a.clone()),
            (Self::Not(_), Self::Not(_)) => Self::Not(String::new()),
            (Self::Not(not), Self::Some(some)) | (Self::Some(some), Self::Not(not)) => {
                let (has_not, has_none) = (some.contains(not), some.iter().any(String::is_empty));
                match (has_not, has_none) {
                    _ if not.is_empty() && has_none => Self::Any,
                    _ if not.is_empty() => Self::Not(String::new()),
                    (true, true) => Self::Any,
                    (true, false) => Self::Not(String::new()),
                    (false, true) => return None,
                    (false, false) => Self::Not(not.clone()),
                }
            }
        })
    }

    /// In words, for messages.
    pub(super) fn phrase(&self) -> String {
        match self {
            Self::Any => "any element".into(),
            Self::Not(not) if not.is_empty() => "an element in a namespace".into(),
            Self::Not(not) => format!("an element of a namespace other than {not}"),
            Self::Some(some) => match some.as_slice() {
                [one] if one.is_empty() => "an element without a namespace".into(),
                some => {
                    let some = some.iter().map(|one| if one.is_empty() { "none" } else { one });
                    format!("an element of the namespace {}", some.collect::<Vec<_>>().join(" or "))
                }
            },
        }
    }
}
