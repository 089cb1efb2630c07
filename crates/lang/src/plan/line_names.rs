//! Rules whose results can be written as lines of JSON while they are computed; of maps whose names are known nothing has to be looked up.

use kyanite_formats::json;

use super::{Edit, Entry, Expr, Kind, Plan, RecordSource, RecordUnit, Segment};

/// The names of the members of each map.
#[derive(Debug)]
pub struct LineNames {
    /// Whether the members of the record itself stand before them.
    pub(crate) after_record: bool,
    /// Whether they are those that edits of the record change.
    pub(crate) are_edits: bool,
    /// Whether there are no names, since results are values of any sort.
    pub(crate) are_values: bool,
    pub(crate) names: Vec<LineName>,
}

#[derive(Debug)]
pub(crate) struct LineName {
    name: String,
    /// As it stands in a line, behind another member.
    pub(crate) written: Vec<u8>,
}

impl LineName {
    fn new(name: &str) -> Self {
        let mut written = vec![b','];
        json::write_text(name, &mut written);
        written.push(b':');
        Self { name: name.to_owned(), written }
    }

    /// As it stands in a line, without the comma.
    pub(crate) fn alone(&self) -> &[u8] {
        &self.written[1..]
    }
}

impl LineNames {
    /// Those of results that may be anything.
    pub(crate) fn of_values() -> Self {
        Self { after_record: false, are_edits: false, are_values: true, names: Vec::new() }
    }

    /// Whether the text of a record is copied as it stands.
    pub(crate) fn copy_records(&self) -> bool {
        self.after_record || self.are_edits
    }

    /// Whether results are records, and nothing else.
    pub(crate) fn are_records(&self) -> bool {
        self.after_record && self.names.is_empty()
    }

    /// The names of the other members.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(|name| name.name.as_str())
    }
}

impl Plan {
    /// What the members of the maps that the rule gives are called, as far as that is known before any record is read: whether
    /// the record's own come first, and the names of the others.
    #[must_use]
    pub fn columns(&self, unit: RecordUnit) -> Option<(bool, Vec<&str>)> {
        fn names(entries: &[Entry]) -> Option<Vec<&str>> {
            entries.iter().map(Entry::name).collect()
        }
        if let Kind::Loop(repeat) = &self.body.innermost().kind
            && let Kind::Map(entries) = &repeat.result.kind
        {
            return match entries.split_first()? {
                (first, others) if self.is_of_record(first, unit) => Some((true, names(others)?)),
                _ => Some((false, names(entries)?)),
            };
        }
        self.gives_records(unit).then(|| (true, Vec::new()))
    }

    /// What a loop over records returns, or the records that the rule gives, for writing them while they are computed: the names of maps,
    /// where these are known.
    #[must_use]
    pub fn line_names(&self, unit: RecordUnit) -> Option<LineNames> {
        if self.gives_records(unit) {
            let of_values = LineNames::of_values();
            return Some(LineNames { after_record: true, are_values: false, ..of_values });
        }
        match self.records(unit)?.source {
            RecordSource::Loop(repeat, ..) if self.fold.is_none() => {
                let of_maps = self.names_of_maps(&repeat.result, unit);
                Some(of_maps.unwrap_or_else(LineNames::of_values))
            }
            _ => None,
        }
    }

    /// The names of the maps that a result is, if it is maps that have no members but the record's own, which come first, and others whose
    /// names are known, or if it is edits of the record.
    fn names_of_maps(&self, result: &Expr, unit: RecordUnit) -> Option<LineNames> {
        let entries = match &result.kind {
            Kind::Map(entries) => entries,
            Kind::Edit(edit) if self.is_record(&edit.subject, unit) => {
                let names = edit.splices()?.into_iter().map(LineName::new).collect();
                return Some(LineNames {
                    are_edits: true,
                    are_values: false,
                    names,
                    ..LineNames::of_values()
                });
            }
            _ => return None,
        };
        let after_record = entries.first().is_some_and(|first| self.is_of_record(first, unit));
        let names = entries.iter().skip(usize::from(after_record)).map(|entry| match entry {
            Entry::Named(name, _) => Some(LineName::new(name)),
            Entry::Computed(..) | Entry::Spread(_) => None,
        });
        let names = names.collect::<Option<_>>()?;
        Some(LineNames { after_record, are_edits: false, are_values: false, names })
    }

    /// Whether the entry is all members of a record.
    fn is_of_record(&self, entry: &Entry, unit: RecordUnit) -> bool {
        matches!(entry, Entry::Spread(value) if self.is_record(value, unit))
    }
}

impl Edit {
    /// The last names of the paths, if each goes by names alone and leads to a member of its own, so that the changes can be
    /// made in the text of a record.
    fn splices(&self) -> Option<Vec<&str>> {
        let mut paths: Vec<Vec<&str>> = Vec::with_capacity(self.changes.len());
        for change in &self.changes {
            let path: Vec<&str> =
                change.segments.iter().map(Segment::plain_name).collect::<Option<_>>()?;
            let meets = |other: &Vec<&str>| path.starts_with(other) || other.starts_with(&path);
            if paths.iter().any(meets) {
                return None;
            }
            paths.push(path);
        }
        paths.iter().map(|path| path.last().copied()).collect()
    }
}
