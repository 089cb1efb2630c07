//! Which members of a record a rule can see.
//!
//! A reader that knows them builds only those, and steps over the others: it still checks their grammar, but allocates
//! nothing for them.

use crate::json::Key;

/// A tree of what is needed below a record.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Needs {
    nodes: Vec<Node>,
}

/// What is needed of one value.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
struct Node {
    /// All of it.
    all: bool,
    /// Its members of these names.
    members: Vec<Named>,
    /// Each of its items, and each of its members.
    children: Option<Need>,
}

/// A member that is needed.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct Named {
    pub(crate) name: String,
    /// The name as it stands in JSON.
    pub(crate) key: Key,
    pub(crate) need: Need,
}

/// What is needed of a value: a node of [`Needs`].
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Need(u32);

impl Need {
    /// All of it.
    pub const ALL: Self = Self(u32::MAX);
    /// The record itself.
    pub const RECORD: Self = Self(0);
}

impl Needs {
    /// Nothing of a record but that it is there.
    #[must_use]
    pub fn nothing() -> Self {
        Self { nodes: vec![Node::default()] }
    }

    /// Needs the member called `name` of a value; gives what to need of it.
    pub fn add_member(&mut self, of: Need, name: &str) -> Need {
        if of == Need::ALL {
            return of;
        }
        if let Some(known) = self.named(of, name) {
            return known;
        }
        let need = self.add_node();
        self.nodes[of.0 as usize].members.push(Named {
            name: name.to_owned(),
            key: Key::new(name),
            need,
        });
        need
    }

    /// Needs each child of a value; gives what to need of them.
    pub fn add_children(&mut self, of: Need) -> Need {
        if of == Need::ALL {
            return of;
        }
        if let Some(known) = self.nodes[of.0 as usize].children {
            return known;
        }
        let need = self.add_node();
        self.nodes[of.0 as usize].children = Some(need);
        need
    }

    /// Needs all of a value.
    pub fn add_all(&mut self, of: Need) {
        if of != Need::ALL {
            self.nodes[of.0 as usize].all = true;
        }
    }

    /// What is needed, as paths of members: `fare.amount`, `seats[*].no`. All of a record is the empty path.
    #[must_use]
    pub fn paths(&self) -> Vec<String> {
        let mut paths = Vec::new();
        self.add_paths(Need::RECORD, String::new(), &mut paths);
        paths
    }

    fn add_paths(&self, need: Need, path: String, paths: &mut Vec<String>) {
        if need == Need::ALL || self.nodes[need.0 as usize].all {
            paths.push(path);
            return;
        }
        let node = &self.nodes[need.0 as usize];
        for Named { name, need, .. } in &node.members {
            let dot = if path.is_empty() { "" } else { "." };
            self.add_paths(*need, format!("{path}{dot}{name}"), paths);
        }
        if let Some(children) = node.children {
            self.add_paths(children, format!("{path}[*]"), paths);
        }
    }

    fn add_node(&mut self) -> Need {
        self.nodes.push(Node::default());
        Need((self.nodes.len() - 1) as u32)
    }

    fn named(&self, of: Need, name: &str) -> Option<Need> {
        self.nodes[of.0 as usize]
            .members
            .iter()
            .find(|known| known.name == name)
            .map(|known| known.need)
    }

    /// What is needed of a value, with all that its node says: of one whose children are needed both by name and
    /// each, all is.
    #[inline]
    pub(crate) fn resolved(&self, need: Need) -> Need {
        let node = &self.nodes[need.0 as usize];
        if node.all || (node.children.is_some() && !node.members.is_empty()) {
            Need::ALL
        } else {
            need
        }
    }

    /// What is needed of a record.
    #[must_use]
    pub fn of_record(&self) -> Need {
        if self.nodes.is_empty() { Need::ALL } else { self.resolved(Need::RECORD) }
    }

    /// The members that are needed by their names, with what is needed of each; nothing where any member may be needed.
    #[inline]
    pub(crate) fn named_members(&self, of: Need) -> Option<&[Named]> {
        let node = self.nodes.get(of.0 as usize)?;
        (!node.all && node.children.is_none()).then_some(&node.members)
    }

    /// What is needed of the member called `name`, if anything.
    #[inline]
    #[must_use]
    pub fn member(&self, of: Need, name: &str) -> Option<Need> {
        if of == Need::ALL {
            return Some(of);
        }
        Some(self.resolved(self.named(of, name).or(self.nodes[of.0 as usize].children)?))
    }

    /// What is needed of each item of a list, if anything.
    #[inline]
    #[must_use]
    pub fn item(&self, of: Need) -> Option<Need> {
        if of == Need::ALL {
            return Some(of);
        }
        Some(self.resolved(self.nodes[of.0 as usize].children?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_asked_for_and_nothing_else() {
        let mut needs = Needs::nothing();
        let fare = needs.add_member(Need::RECORD, "fare");
        let amount = needs.add_member(fare, "amount");
        needs.add_all(amount);
        let seats = needs.add_member(Need::RECORD, "seats");
        let seat = needs.add_children(seats);
        let number = needs.add_member(seat, "no");
        needs.add_all(number);

        let record = needs.of_record();
        let fare = needs.member(record, "fare").unwrap();
        assert_eq!(needs.member(fare, "amount"), Some(Need::ALL));
        assert_eq!(needs.member(fare, "currency"), None);
        assert_eq!(needs.member(record, "id"), None);
        assert_eq!(needs.item(fare), None);
        let seats = needs.member(record, "seats").unwrap();
        let seat = needs.item(seats).unwrap();
        assert_eq!((needs.member(seat, "no"), needs.member(seat, "kind")), (Some(Need::ALL), None));
        assert_eq!(needs.member(Need::ALL, "x"), Some(Need::ALL));
    }

    #[test]
    fn children_by_name_and_each_are_all() {
        let mut needs = Needs::nothing();
        needs.add_member(Need::RECORD, "a");
        needs.add_children(Need::RECORD);
        assert_eq!(needs.of_record(), Need::ALL);
    }
}
