//! Which members and items of a value other keywords have looked at (2020-12 core section 11).

/// A set of the members of a map, or of the items of a list, by their positions.
#[derive(Clone, Debug, Default)]
pub(super) struct Evaluated {
    /// All before this.
    first: usize,
    /// Others, one by one.
    others: Vec<bool>,
}

impl Evaluated {
    /// The first `count` items were evaluated.
    pub(super) fn add_first(&mut self, count: usize) {
        self.first = self.first.max(count);
    }

    /// One more was.
    pub(super) fn add(&mut self, position: usize) {
        if self.others.len() <= position {
            self.others.resize(position + 1, false);
        }
        if let Some(other) = self.others.get_mut(position) {
            *other = true;
        }
    }

    /// Those of another set were.
    pub(super) fn add_all(&mut self, other: &Self) {
        self.add_first(other.first);
        let positions = other.others.iter().enumerate().filter(|(_, is_in)| **is_in);
        positions.for_each(|(position, _)| self.add(position));
    }

    pub(super) fn has(&self, position: usize) -> bool {
        position < self.first || self.others.get(position).copied().unwrap_or(false)
    }
}
