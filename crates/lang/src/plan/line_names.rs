//! Rules that return maps whose names are known: they can be written as lines of JSON, and nothing has to be looked up.

use kyanite_formats::json;

use super::{Entry, Expr, Grain, Kind, OnePath, Plan, RecordSource};

/// The names of the members of each map.
#[derive(Debug)]
pub struct LineNames {
    /// Whether the members of the record itself stand before them.
    pub(crate) after_record: bool,
    pub(crate) names: Vec<LineName>,
}

#[derive(Debug)]
pub(crate) struct LineName {
    name: String,
    /// As it stands in a line, behind another member.
    pub(crate) written: Vec<u8>,
}

impl LineNames {
    /// The names of the other members.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(|name| name.name.as_str())
    }
}

impl Plan {
    /// The names of the maps that the rule returns for its records, if these are such maps, and have no members but the
    /// record's own, which come first, and others whose names are known.
    #[must_use]
    pub fn line_names(&self, grain: Grain) -> Option<LineNames> {
        let records = self.records(grain)?;
        let RecordSource::Loop(repeat, path, ..) = records.source else { return None };
        let (Kind::Map(entries), None) = (&repeat.result.kind, &self.fold) else { return None };
        let is_record = |entry: &Entry| match entry {
            Entry::Spread(Expr { kind: Kind::One(OnePath { start, steps, .. }), .. }) => {
                steps.is_empty()
                    && path.segments.len() == records.base + 1
                    && records.is_record(start)
            }
            _ => false,
        };
        let after_record = entries.first().is_some_and(is_record);
        let names = entries.iter().skip(usize::from(after_record)).map(|entry| match entry {
            Entry::Named(name, _) => {
                let mut written = vec![b','];
                json::write_text(name, &mut written);
                written.push(b':');
                Some(LineName { name: name.clone(), written })
            }
            Entry::Computed(..) | Entry::Spread(_) => None,
        });
        Some(LineNames { after_record, names: names.collect::<Option<_>>()? })
    }
}
