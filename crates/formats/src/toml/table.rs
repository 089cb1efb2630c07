//! Tables while a document is read: which may still be added to, and by what (TOML 1.0, "Table").

use indexmap::IndexMap;
use kyanite_tree::{Arena, MapBuilder, Origin, Value};

/// How a table came to be, which settles who may add to it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Made {
    /// By a header that names a table below it; a header of its own may follow.
    Implied,
    /// By its header.
    Header,
    /// By a dotted key; only dotted keys of the same table add to it.
    Dotted,
}

/// A table.
#[derive(Debug)]
pub(super) struct Table<'a> {
    pub(super) origin: Origin,
    pub(super) made: Made,
    pub(super) members: IndexMap<&'a str, Node<'a>>,
}

/// What a key stands for.
#[derive(Debug)]
pub(super) enum Node<'a> {
    /// A value that is complete; inline tables and arrays are.
    Value(Value<'a>),
    Table(Table<'a>),
    /// An array of tables, whose last one headers add to.
    Tables(Origin, Vec<Table<'a>>),
}

/// A key: its name, and where it stands.
#[derive(Clone, Copy, Debug)]
pub(super) struct Key<'a> {
    pub(super) name: &'a str,
    pub(super) start: usize,
    pub(super) end: usize,
}

/// Why a key cannot be there: the key, and where the one stands that is there already.
pub(super) struct Taken<'a> {
    pub(super) key: Key<'a>,
    pub(super) earlier: Origin,
}

impl<'a> Table<'a> {
    pub(super) fn new(origin: Origin, made: Made) -> Self {
        Self { origin, made, members: IndexMap::new() }
    }

    /// The table that a header opens.
    pub(super) fn open(
        &mut self,
        path: &[Key<'a>],
        is_array: bool,
        origin: Origin,
    ) -> Result<&mut Self, Taken<'a>> {
        let Some((last, above)) = path.split_last() else { return Ok(self) };
        let mut table = self;
        for key in above {
            let node = table
                .members
                .entry(key.name)
                .or_insert_with(|| Node::Table(Table::new(origin, Made::Implied)));
            let taken = Taken { key: *key, earlier: node.origin() };
            table = match node {
                Node::Table(table) => table,
                Node::Tables(_, tables) => tables.last_mut().ok_or(taken)?,
                Node::Value(_) => return Err(taken),
            };
        }
        let fresh = Table::new(origin, Made::Header);
        let known = table.members.contains_key(last.name);
        let node = table.members.entry(last.name).or_insert_with(|| {
            if is_array { Node::Tables(origin, Vec::new()) } else { Node::Table(fresh) }
        });
        let taken = Taken { key: *last, earlier: node.origin() };
        match node {
            Node::Tables(_, tables) if is_array => {
                tables.push(Table::new(origin, Made::Header));
                tables.last_mut().ok_or(taken)
            }
            Node::Table(table) if !is_array && (!known || table.made == Made::Implied) => {
                table.made = Made::Header;
                Ok(table)
            }
            _ => Err(taken),
        }
    }

    /// Adds a value under a key, dotted or not.
    pub(super) fn insert(&mut self, path: &[Key<'a>], value: Value<'a>) -> Result<(), Taken<'a>> {
        let Some((last, above)) = path.split_last() else { return Ok(()) };
        let mut table = self;
        for key in above {
            let node = table
                .members
                .entry(key.name)
                .or_insert_with(|| Node::Table(Table::new(value.origin(), Made::Dotted)));
            let taken = Taken { key: *key, earlier: node.origin() };
            table = match node {
                Node::Table(table) if table.made == Made::Dotted => table,
                _ => return Err(taken),
            };
        }
        if let Some(earlier) = table.members.get(last.name) {
            return Err(Taken { key: *last, earlier: earlier.origin() });
        }
        table.members.insert(last.name, Node::Value(value));
        Ok(())
    }

    pub(super) fn finish(self, arena: &'a Arena) -> Value<'a> {
        let mut builder = MapBuilder::new();
        for (name, node) in self.members {
            builder.insert(name, node.finish(arena));
        }
        Value::Map(self.origin, builder.finish(arena))
    }
}

impl<'a> Node<'a> {
    fn origin(&self) -> Origin {
        match self {
            Self::Value(value) => value.origin(),
            Self::Table(table) => table.origin,
            Self::Tables(origin, _) => *origin,
        }
    }

    fn finish(self, arena: &'a Arena) -> Value<'a> {
        match self {
            Self::Value(value) => value,
            Self::Table(table) => table.finish(arena),
            Self::Tables(origin, tables) => {
                let items: Vec<_> = tables.into_iter().map(|table| table.finish(arena)).collect();
                Value::List(origin, arena.items(&items))
            }
        }
    }
}
