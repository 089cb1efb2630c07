//! The strategy of a run: the one place that decides, before the first record, which fast ways records take.

use kyanite_formats::projection::{Projected, Projection};
use kyanite_xpath::Expression;

use super::{Plan, RecordUnit, RowNames};
use crate::projection::FieldPlan;

/// A way to take records that comes to the same as making a value of each and evaluating the rule over it, in less time.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Way {
    /// Blocks of records run at the same time.
    Threads,
    /// Records are written as they are read, and are no values.
    Copies,
    /// Members of records are in fields, and records are no values.
    Fields,
    /// Results are written while they are computed, and are no values.
    Lines,
    /// Only the members are read that are needed.
    Projection,
    /// Records are known by the text of those before them.
    Templates,
    /// Records are passed over that certainly fail a condition.
    Prefilter,
}

impl Way {
    /// All ways.
    pub const ALL: [Self; 7] = [
        Self::Threads,
        Self::Copies,
        Self::Fields,
        Self::Lines,
        Self::Projection,
        Self::Templates,
        Self::Prefilter,
    ];

    /// What it is called.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Threads => "threads",
            Self::Copies => "copies",
            Self::Fields => "fields",
            Self::Lines => "lines",
            Self::Projection => "projection",
            Self::Templates => "templates",
            Self::Prefilter => "prefilter",
        }
    }
}

/// Some of the ways.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Ways(u8);

impl Ways {
    /// All.
    #[must_use]
    pub fn all() -> Self {
        Way::ALL.into_iter().map(Self::from).collect()
    }

    /// Whether a way is among them.
    #[must_use]
    pub fn contain(self, way: Way) -> bool {
        self.0 >> way as u8 & 1 == 1
    }
}

impl From<Way> for Ways {
    fn from(way: Way) -> Self {
        Self(1 << way as u8)
    }
}

impl FromIterator<Self> for Ways {
    fn from_iter<I: IntoIterator<Item = Self>>(ways: I) -> Self {
        Self(ways.into_iter().fold(0, |all, ways| all | ways.0))
    }
}

/// What an output takes in place of values.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Written {
    /// JSON: records as they are read, and lines that are written while they are computed.
    Json,
    /// The rows of a table as they are read.
    Rows,
    /// The cells of a table, while they are computed.
    Cells,
    /// Nothing.
    Values,
}

/// How the records of a run are taken.
#[derive(Debug)]
pub struct Strategy {
    /// What is needed of each record.
    pub projection: Option<Projection>,
    /// Where members of records go.
    pub field_plan: Option<FieldPlan>,
    /// What the members of results are called that are handed on while they are computed.
    pub row_names: Option<RowNames>,
    /// Whether what is handed on so waits for the last record, and is put in order.
    pub rows_wait: bool,
    choices: Vec<Choice>,
}

/// Whether a way is taken, and why.
#[derive(Clone, Debug)]
pub struct Choice {
    /// The way.
    pub way: Way,
    /// What it does for the rule, or what stands in its way.
    pub why: Result<String, String>,
}

impl Strategy {
    /// Whether a way is taken.
    #[must_use]
    pub fn takes(&self, way: Way) -> bool {
        self.choices.iter().any(|choice| choice.way == way && choice.why.is_ok())
    }

    /// All ways, and whether they are taken.
    #[must_use]
    pub fn choices(&self) -> &[Choice] {
        &self.choices
    }
}

/// Why a way is not taken that somebody switched off.
const OFF: &str = "it is switched off";

impl Plan {
    /// How records of that unit are taken: each way but some that are switched off, where the rule and the output allow it.
    #[must_use]
    pub fn strategy(&self, unit: RecordUnit, written: Written, off: Ways) -> Strategy {
        let allowed = |way: Way| if off.contain(way) { Err(OFF.to_owned()) } else { Ok(()) };
        let joins_tuples = self.joins_tuples(unit);
        let rows_wait = self.orders_results(unit);
        let threads = allowed(Way::Threads).and_then(|()| match self.depends_on_order(unit) {
            Some(_) if joins_tuples => {
                Ok("blocks of records run at the same time; the tuples of all wait for the last"
                    .into())
            }
            Some(why) => Err(why.message()),
            None => Ok("blocks of records run at the same time; results keep their order".into()),
        });
        const NOT_JSON: &str = "the result is not written as JSON";
        let copied = match written {
            Written::Json => Ok("records are written as they are read, and are no values"),
            Written::Rows => Ok("rows of a table are written as they are read, and are no values"),
            Written::Cells | Written::Values => Err(NOT_JSON.to_owned()),
        };
        let copies = allowed(Way::Copies).and(copied).and_then(|does| {
            match self.gives_records_as_they_are(unit) && threads.is_ok() {
                true => Ok(does.to_owned()),
                false => Err("the rule gives something else than all records as they are".into()),
            }
        });
        let computes = || match (&copies, &threads) {
            (Ok(_), _) => Err("records are copied".to_owned()),
            (_, Err(_)) => Err("records run in order".to_owned()),
            _ if joins_tuples && !rows_wait => Err("tuples wait for the last record".to_owned()),
            _ => Ok(()),
        };
        let lines = allowed(Way::Lines).and_then(|()| computes()).and_then(|()| {
            let names = self.row_names(unit);
            match (written, names.ok_or("the rule is no loop, and gives no records")?) {
                (Written::Json, names) => Ok(names),
                (Written::Cells, names @ RowNames::Maps(_)) if !rows_wait => Ok(names),
                (Written::Cells, _) => {
                    Err("a row of a table is a map whose names are known".into())
                }
                (Written::Rows | Written::Values, _) => Err(NOT_JSON.to_owned()),
            }
        });
        let (lines, row_names) = parted(lines, |_| match rows_wait {
            true => "results are written before they wait, and are no values".to_owned(),
            false => "results are written while they are computed, and are no values".to_owned(),
        });
        let fields = allowed(Way::Fields).and_then(|()| computes()).and_then(|()| {
            if rows_wait && row_names.is_none() {
                return Err("what waits is no line".to_owned());
            }
            let plan = self.field_plan(unit, row_names.as_ref());
            plan.map_err(str::to_owned)
        });
        let (fields, field_plan) = parted(fields, |plan| match plan.slots.paths() {
            paths if paths.is_empty() => "records are no values".to_owned(),
            paths => {
                format!("of each record only these are values: {}", paths.join(", "))
            }
        });
        let projection = allowed(Way::Projection).and_then(|()| match self.projection(unit) {
            None => Err("the rule does not go through records".to_owned()),
            Some(projection) if projection.of_record() == Projected::ALL => {
                Err("all of each record is needed".to_owned())
            }
            Some(projection) => Ok(projection),
        });
        let (projects, projection) = parted(projection, |projection| match projection.paths() {
            paths if paths.is_empty() => {
                "of each record nothing is needed but that it is there".to_owned()
            }
            paths => format!("of each record these are read: {}", paths.join(", ")),
        });
        let templates = allowed(Way::Templates).map(|()| {
            "of records of JSON and XML that are the text of one before but for their values, only these are looked at"
                .to_owned()
        });
        let prefilter = allowed(Way::Prefilter).and_then(|()| {
            match self.xpath().and_then(Expression::record_prefilter) {
                Some(_) => Ok("elements that fail the first predicate are passed over".to_owned()),
                None => Err("the rule is no XPath whose first predicate compares".to_owned()),
            }
        });
        let whys = [threads, copies, fields, lines, projects, templates, prefilter];
        let choices = Way::ALL.into_iter().zip(whys).map(|(way, why)| Choice { way, why });
        let rows_wait = rows_wait && row_names.is_some();
        Strategy { projection, field_plan, row_names, rows_wait, choices: choices.collect() }
    }
}

/// What a way does, and what it needs, if it is taken.
fn parted<T>(
    chosen: Result<T, String>,
    does: impl FnOnce(&T) -> String,
) -> (Result<String, String>, Option<T>) {
    match chosen {
        Ok(what) => (Ok(does(&what)), Some(what)),
        Err(why) => (Err(why), None),
    }
}
