//! Which members of a record a rule can see.
//!
//! A reader that knows them builds only those, and steps over the others: it still checks their grammar, but allocates
//! nothing for them.

use crate::json::Key;

/// A tree of what is needed below a record.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Projection {
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
    children: Option<Projected>,
}

/// A member that is needed.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct Named {
    pub(crate) name: String,
    /// The name as it stands in JSON.
    pub(crate) key: Key,
    pub(crate) projected: Projected,
}

/// What is needed of a value: a node of [`Projection`].
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Projected(u32);

impl Projected {
    /// All of it.
    pub const ALL: Self = Self(u32::MAX);
    /// The record itself.
    pub const RECORD: Self = Self(0);
}

impl Projection {
    /// Nothing of a record but that it is there.
    #[must_use]
    pub fn nothing() -> Self {
        Self { nodes: vec![Node::default()] }
    }

    /// Needs the member called `name` of a value; gives what to need of it.
    pub fn add_member(&mut self, of: Projected, name: &str) -> Projected {
        if of == Projected::ALL {
            return of;
        }
        if let Some(known) = self.named(of, name) {
            return known;
        }
        let projected = self.add_node();
        self.nodes[of.0 as usize].members.push(Named {
            name: name.to_owned(),
            key: Key::new(name),
            projected,
        });
        projected
    }

    /// Needs each child of a value; gives what to need of them.
    pub fn add_children(&mut self, of: Projected) -> Projected {
        if of == Projected::ALL {
            return of;
        }
        if let Some(known) = self.nodes[of.0 as usize].children {
            return known;
        }
        let projected = self.add_node();
        self.nodes[of.0 as usize].children = Some(projected);
        projected
    }

    /// Needs all of a value.
    pub fn add_all(&mut self, of: Projected) {
        if of != Projected::ALL {
            self.nodes[of.0 as usize].all = true;
        }
    }

    /// What is needed, as paths of members: `fare.amount`, `seats[*].no`. All of a record is the empty path.
    #[must_use]
    pub fn paths(&self) -> Vec<String> {
        let mut paths = Vec::new();
        self.add_paths(Projected::RECORD, String::new(), &mut paths);
        paths
    }

    fn add_paths(&self, projected: Projected, path: String, paths: &mut Vec<String>) {
        if projected == Projected::ALL || self.nodes[projected.0 as usize].all {
            paths.push(path);
            return;
        }
        let node = &self.nodes[projected.0 as usize];
        for Named { name, projected, .. } in &node.members {
            let dot = if path.is_empty() { "" } else { "." };
            self.add_paths(*projected, format!("{path}{dot}{name}"), paths);
        }
        if let Some(children) = node.children {
            self.add_paths(children, format!("{path}[*]"), paths);
        }
    }

    fn add_node(&mut self) -> Projected {
        self.nodes.push(Node::default());
        Projected((self.nodes.len() - 1) as u32)
    }

    fn named(&self, of: Projected, name: &str) -> Option<Projected> {
        self.nodes[of.0 as usize]
            .members
            .iter()
            .find(|known| known.name == name)
            .map(|known| known.projected)
    }

    /// What is needed of a value, with all that its node says: of one whose children are needed both by name and
    /// each, all is.
    #[inline]
    pub(crate) fn resolved(&self, projected: Projected) -> Projected {
        let node = &self.nodes[projected.0 as usize];
        if node.all || (node.children.is_some() && !node.members.is_empty()) {
            Projected::ALL
        } else {
            projected
        }
    }

    /// What is needed of a record.
    #[must_use]
    pub fn of_record(&self) -> Projected {
        if self.nodes.is_empty() { Projected::ALL } else { self.resolved(Projected::RECORD) }
    }

    /// The members that are needed by their names, with what is needed of each; None where any member may be needed.
    #[inline]
    pub(crate) fn named_members(&self, of: Projected) -> Option<&[Named]> {
        let node = self.nodes.get(of.0 as usize)?;
        (!node.all && node.children.is_none()).then_some(&node.members)
    }

    /// What is needed of the member called `name`, if anything.
    #[inline]
    #[must_use]
    pub fn member(&self, of: Projected, name: &str) -> Option<Projected> {
        if of == Projected::ALL {
            return Some(of);
        }
        Some(self.resolved(self.named(of, name).or(self.nodes[of.0 as usize].children)?))
    }

    /// What is needed of each item of a list, if anything.
    #[inline]
    #[must_use]
    pub fn item(&self, of: Projected) -> Option<Projected> {
        if of == Projected::ALL {
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
        let mut projection = Projection::nothing();
        let fare = projection.add_member(Projected::RECORD, "fare");
        let amount = projection.add_member(fare, "amount");
        projection.add_all(amount);
        let seats = projection.add_member(Projected::RECORD, "seats");
        let seat = projection.add_children(seats);
        let number = projection.add_member(seat, "no");
        projection.add_all(number);

        let record = projection.of_record();
        let fare = projection.member(record, "fare").unwrap();
        assert_eq!(projection.member(fare, "amount"), Some(Projected::ALL));
        assert_eq!(projection.member(fare, "currency"), None);
        assert_eq!(projection.member(record, "id"), None);
        assert_eq!(projection.item(fare), None);
        let seats = projection.member(record, "seats").unwrap();
        let seat = projection.item(seats).unwrap();
        assert_eq!(
            (projection.member(seat, "no"), projection.member(seat, "kind")),
            (Some(Projected::ALL), None)
        );
        assert_eq!(projection.member(Projected::ALL, "x"), Some(Projected::ALL));
    }

    #[test]
    fn children_by_name_and_each_are_all() {
        let mut projection = Projection::nothing();
        projection.add_member(Projected::RECORD, "a");
        projection.add_children(Projected::RECORD);
        assert_eq!(projection.of_record(), Projected::ALL);
    }
}
