//! Rules whose results can be handed on while they are computed; of maps whose names are known nothing has to be looked up.

use super::{Edit, Entry, Expr, Kind, Plan, RecordSource, RecordUnit, Segment};

/// What is known of the names of members of results before any is computed.
#[derive(Debug)]
pub enum RowNames {
    /// Nothing: results may be anything.
    Unknown,
    /// Results are maps of members with these names.
    Maps(Vec<String>),
    /// Behind the members of the record these come.
    AfterRecord(Vec<String>),
    /// Results are the record with edits of members with these names.
    Edits(Vec<String>),
}

impl RowNames {
    /// Whether the text of a record is copied as it stands.
    pub(crate) fn copy_records(&self) -> bool {
        matches!(self, Self::AfterRecord(_) | Self::Edits(_))
    }

    /// Whether results are records, and nothing else.
    pub(crate) fn are_records(&self) -> bool {
        matches!(self, Self::AfterRecord(names) if names.is_empty())
    }

    /// The names that are not the record's own.
    #[must_use]
    pub fn names(&self) -> &[String] {
        match self {
            Self::Unknown => &[],
            Self::Maps(names) | Self::AfterRecord(names) | Self::Edits(names) => names,
        }
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

    /// What is known of the names of what a loop over records returns, or that it is the records, for handing that on while it is computed.
    #[must_use]
    pub fn row_names(&self, unit: RecordUnit) -> Option<RowNames> {
        if self.gives_records(unit) {
            return Some(RowNames::AfterRecord(Vec::new()));
        }
        match self.records(unit)?.source {
            RecordSource::Loop(repeat, ..) if self.fold.is_none() => {
                let names = self.names_of_maps(&repeat.result, unit);
                Some(names.unwrap_or(RowNames::Unknown))
            }
            _ => None,
        }
    }

    /// The names of the maps that a result is, if these have no members but the record's own, which come first, and others whose names are
    /// known, or if it is edits of the record.
    fn names_of_maps(&self, result: &Expr, unit: RecordUnit) -> Option<RowNames> {
        let entries = match &result.kind {
            Kind::Map(entries) => entries,
            Kind::Edit(edit) if self.is_record(&edit.subject, unit) => {
                let names = edit.splices()?.into_iter().map(str::to_owned);
                return Some(RowNames::Edits(names.collect()));
            }
            _ => return None,
        };
        let after_record = entries.first().is_some_and(|first| self.is_of_record(first, unit));
        let entries = entries.iter().skip(usize::from(after_record));
        let names = entries.map(|entry| entry.name().map(str::to_owned));
        let names = names.collect::<Option<_>>()?;
        Some(if after_record { RowNames::AfterRecord(names) } else { RowNames::Maps(names) })
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
