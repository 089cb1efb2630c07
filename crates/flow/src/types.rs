//! What schemas tell a run: the types of untyped inputs, and which paths of a rule the schemas have no place for.

use indexmap::IndexSet;
use kyanite_formats::Format;
use kyanite_formats::losses::Losses;
use kyanite_formats::record_view::{RecordShape, View};
use kyanite_formats::xml::StepName;
use kyanite_lang::{Finding, PlaceNumber, Plan};
use kyanite_schema::json::{At, Document, Outline, Schema, Settings, Typing};
use kyanite_schema::xsd::MemberNames;
use kyanite_tree::{Advice, Arena, Kind, Setting, Value};

use crate::input::Source;
use crate::run_error::RunError;
use crate::validate::Schemas;

/// A schema as what it says of documents.
#[derive(Debug)]
pub struct DocumentTypes<'s> {
    schema: Schema<'s>,
    /// Whether it was made of an XML Schema.
    is_for_xml: bool,
    name: String,
}

impl<'s> DocumentTypes<'s> {
    /// Types by a JSON Schema or an XML Schema, which is called `name`.
    ///
    /// # Errors
    /// [`RunError::Command`] when there are no types in it: it is a Schematron schema.
    pub fn of(name: String, schemas: Schemas<'s>, arena: &'s Arena) -> Result<Self, RunError> {
        let is_for_xml = schemas.counts()[1] == 1;
        let schema = match schemas.translate(MemberNames::Local, arena) {
            Some((value, _)) => {
                let document = Document { uri: String::new(), value };
                Schema::compile(document, &[], Settings::default()).ok()
            }
            None => schemas.into_json(),
        };
        let Some(schema) = schema else {
            let message = format!("{name} has no types");
            let advice = "name an XML Schema or a JSON Schema";
            return Err(RunError::command(message, advice));
        };
        Ok(Self { schema, is_for_xml, name })
    }

    fn outline(&self) -> Outline<'_, 's> {
        Outline::new(&self.schema, self.is_for_xml)
    }

    /// Refuses an input that has types of its own, or that the schema is not for.
    pub(crate) fn check(&self, source: &Source) -> Result<(), RunError> {
        let format = source.detected.format;
        let message = match format {
            Format::Xml => return Ok(()),
            Format::Csv | Format::Tsv if !self.is_for_xml => return Ok(()),
            Format::Csv | Format::Tsv => {
                format!("{} has types for XML, and {} is {format}", self.name, source.name)
            }
            _ => format!("{} is {format}, whose values have types of their own", source.name),
        };
        let advice = Advice::words("leave ")
            .setting(Setting::Schema)
            .then(" out; to check it, use kyanite validate");
        Err(RunError::command(message, advice))
    }
}

/// What a rule does that the schemas of its input and its result have nothing for; `by_item` where the result's schema is one of each
/// item of the result.
#[must_use]
pub fn check_rule(
    plan: &Plan,
    input: Option<&DocumentTypes<'_>>,
    result: Option<&DocumentTypes<'_>>,
    by_item: bool,
) -> Vec<Finding> {
    let mut input = input.map(Places::new);
    let mut result = result.map(Places::new);
    kyanite_lang::against(
        plan,
        input.as_mut().map(|places| places as &mut dyn kyanite_lang::Outline),
        result.as_mut().map(|places| places as &mut dyn kyanite_lang::Outline),
        by_item,
    )
}

/// The places of an outline by numbers.
struct Places<'c, 's> {
    outline: Outline<'c, 's>,
    all: IndexSet<At>,
}

impl<'c, 's> Places<'c, 's> {
    fn new(types: &'c DocumentTypes<'s>) -> Self {
        let outline = types.outline();
        let all = IndexSet::from([outline.root()]);
        Self { outline, all }
    }

    fn at(&self, number: PlaceNumber) -> At {
        self.all.get_index(number as usize).copied().unwrap_or_else(|| self.outline.root())
    }

    fn number(&mut self, at: At) -> PlaceNumber {
        self.all.insert_full(at).0 as PlaceNumber
    }
}

impl kyanite_lang::Outline for Places<'_, '_> {
    fn root(&self) -> PlaceNumber {
        0
    }

    fn member(&mut self, at: PlaceNumber, name: &str) -> Option<PlaceNumber> {
        let found = self.outline.member(self.at(at), name)?;
        Some(self.number(found))
    }

    fn item(&mut self, at: PlaceNumber) -> Option<PlaceNumber> {
        let found = self.outline.item(self.at(at))?;
        Some(self.number(found))
    }

    fn allows(&self, at: PlaceNumber, kind: Kind) -> bool {
        self.outline.kinds(self.at(at)).has(kind)
    }

    fn members(&self, at: PlaceNumber) -> Vec<(String, bool)> {
        let members = self.outline.members(self.at(at)).into_iter();
        members.map(|(name, is_needed)| (name.to_owned(), is_needed)).collect()
    }

    fn is_free(&self, at: PlaceNumber) -> bool {
        self.outline.is_free(self.at(at))
    }

    fn is_for_xml(&self) -> bool {
        self.outline.is_for_xml()
    }
}

/// Gives the values of inputs their types.
pub(crate) struct Typer<'q> {
    typing: Typing<'q, 'q>,
    view: View,
    /// The place of records, once one was met; nothing of those that the schema does not know.
    records: Option<Option<At>>,
}

impl<'q> Typer<'q> {
    pub(crate) fn new(types: &'q DocumentTypes<'q>) -> Self {
        Self {
            typing: Typing::new(types.outline()),
            view: View::new(&RecordShape::default(), true),
            records: None,
        }
    }

    /// A whole document; of a list of records each is one.
    pub(crate) fn document<'a>(
        &mut self,
        root: Value<'a>,
        has_records: bool,
        arena: &'a Arena,
    ) -> Value<'a> {
        match root {
            Value::List(origin, items) if has_records => {
                let items: Vec<Value<'a>> =
                    items.iter().map(|item| self.typing.document(*item, arena)).collect();
                Value::List(origin, arena.items(&items))
            }
            root => {
                let record = self.view.record(root, arena);
                self.typing.document(record, arena)
            }
        }
    }

    /// A record of a stream, an element at the end of `path` if it has one.
    pub(crate) fn record<'a>(
        &mut self,
        record: Value<'a>,
        path: &[StepName],
        arena: &'a Arena,
    ) -> Value<'a> {
        let typing = &mut self.typing;
        let names = || path.iter().map(|step| step.name.as_str());
        let place = *self.records.get_or_insert_with(|| typing.place(names()));
        let record = self.view.record(record, arena);
        match place {
            Some(place) => self.typing.value(place, record, arena),
            None => record,
        }
    }

    /// What the record view could not keep since this was last asked.
    pub(crate) fn take_losses(&mut self) -> Losses {
        std::mem::replace(self.view.losses(), Losses::new(true))
    }
}
