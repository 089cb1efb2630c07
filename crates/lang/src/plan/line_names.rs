//! Rules that return maps whose names are known: they can be written as lines of JSON, and nothing has to be looked up.

use kyanite_formats::json;

use super::{Entry, Expr, Grain, Kind, ManyPath, OnePath, Plan, RecordSource, Records};

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
    /// What the members of the maps that the rule gives are called, as far as that is known before any record is read: whether
    /// the record's own come first, and the names of the others.
    #[must_use]
    pub fn columns(&self, grain: Grain) -> Option<(bool, Vec<&str>)> {
        fn names(entries: &[Entry]) -> Option<Vec<&str>> {
            entries.iter().map(Entry::name).collect()
        }
        if let Kind::Loop(repeat) = &self.body.innermost().kind
            && let Kind::Map(entries) = &repeat.result.kind
        {
            return match entries.split_first()? {
                (first, others) if self.is_of_record(first, grain) => Some((true, names(others)?)),
                _ => Some((false, names(entries)?)),
            };
        }
        let records = self.records(grain)?;
        let is_whole = |path: &ManyPath| path.segments.len() == records.base + 1;
        let gives_records = match records.source {
            RecordSource::Many(path) => self.fold.is_none() && is_whole(path),
            RecordSource::Loop(repeat, path, ..) => match &repeat.result.kind {
                Kind::One(OnePath { start, steps, .. }) => {
                    steps.is_empty() && is_whole(path) && records.is_record(start)
                }
                _ => false,
            },
            RecordSource::One(_) => false,
        };
        gives_records.then(|| (true, Vec::new()))
    }

    /// The names of the maps that the rule returns for its records, if these are such maps, and have no members but the
    /// record's own, which come first, and others whose names are known.
    #[must_use]
    pub fn line_names(&self, grain: Grain) -> Option<LineNames> {
        let records = self.records(grain)?;
        let RecordSource::Loop(repeat, ..) = records.source else { return None };
        let (Kind::Map(entries), None) = (&repeat.result.kind, &self.fold) else { return None };
        let after_record = entries.first().is_some_and(|first| self.is_of_record(first, grain));
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

    /// Whether the entry is all members of a record.
    fn is_of_record(&self, entry: &Entry, grain: Grain) -> bool {
        match (entry, self.records(grain)) {
            (
                Entry::Spread(Expr { kind: Kind::One(OnePath { start, steps, .. }), .. }),
                Some(records @ Records { source: RecordSource::Loop(_, path, ..), base, .. }),
            ) => steps.is_empty() && path.segments.len() == base + 1 && records.is_record(start),
            _ => false,
        }
    }
}
