//! Detects duplicate names in a map while the record streams by.

use kyanite_tree::RawText;

/// The names of the maps that are open, to see that none has one twice.
#[derive(Debug)]
pub(super) struct Names<'t> {
    names: Vec<&'t str>,
    /// Where those of each list or map begin. A list has none.
    open: Vec<usize>,
    depth: usize,
}

impl<'t> Names<'t> {
    /// None, in lists and maps that are at most so deep.
    pub(super) fn within(depth: usize) -> Self {
        Self { names: Vec::new(), open: Vec::new(), depth }
    }

    /// How many lists and maps are open.
    pub(super) fn open(&self) -> usize {
        self.open.len()
    }

    /// A list or map begins; `None` if it is too deep.
    pub(super) fn begin(&mut self) -> Option<()> {
        self.open.push(self.names.len());
        (self.open.len() <= self.depth).then_some(())
    }

    /// The last one ends; `None` if it has a name twice.
    pub(super) fn end(&mut self) -> Option<()> {
        let first = self.open.pop()?;
        let names = &mut self.names[first..];
        names.sort_unstable();
        let is_told = names.windows(2).all(|pair| pair[0] != pair[1]);
        self.names.truncate(first);
        is_told.then_some(())
    }

    /// A name of the last map; `None` if it has escapes.
    pub(super) fn add(&mut self, name: RawText<'t>) -> Option<()> {
        self.names.push(name.text);
        (!name.has_escapes).then_some(())
    }
}
