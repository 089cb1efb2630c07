//! Types for inputs that have none of their own: what a schema says that texts of XML and cells of tables are.

use kyanite_formats::Format;
use kyanite_formats::losses::Losses;
use kyanite_formats::record_view::{Shape, View};
use kyanite_formats::xml::StepName;
use kyanite_schema::json::{At, Document, Outline, Schema, Settings, Typing};
use kyanite_schema::xsd::MemberNames;
use kyanite_tree::{Advice, Arena, Code, Diagnostic, Setting, Value};

use crate::failed::Failed;
use crate::input::Source;
use crate::validate::Schemas;

/// A schema that inputs have their types from.
#[derive(Debug)]
pub struct InputTypes<'s> {
    schema: Schema<'s>,
    /// Whether it was made of an XML Schema.
    is_for_xml: bool,
    name: String,
}

impl<'s> InputTypes<'s> {
    /// Types by a JSON Schema or an XML Schema, which is called `name`.
    ///
    /// # Errors
    /// [`Failed::Command`] when there are no types in it: it is a Schematron schema.
    pub fn of(name: String, schemas: Schemas<'s>, arena: &'s Arena) -> Result<Self, Failed> {
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
            let why = Diagnostic::error(Code::CommandLine, message).advise(advice);
            return Err(Failed::Command(vec![why]));
        };
        Ok(Self { schema, is_for_xml, name })
    }

    /// Refuses an input that has types of its own, or that the schema is not for.
    pub(crate) fn check(&self, source: &Source) -> Result<(), Failed> {
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
        Err(Failed::Command(vec![Diagnostic::error(Code::CommandLine, message).advise(advice)]))
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
    pub(crate) fn new(types: &'q InputTypes<'q>) -> Self {
        Self {
            typing: Typing::new(Outline::new(&types.schema), types.is_for_xml),
            view: View::new(&Shape::default(), true),
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
