//! A JSON Schema (2020-12) of what was surveyed, which the documents satisfy.

use kyanite_tree::{Arena, Value};

use crate::forms::Form;
use crate::numbers::Numbers;
use crate::paths::{DOCUMENT, PathStep, RECORDS, Sort};
use crate::survey::Survey;

/// The dialect that the schema is in.
const DIALECT: &str = "https://json-schema.org/draft/2020-12/schema";

impl Survey {
    /// A schema of a record, or of the documents where the records are items of these. It says the types of all values, the members
    /// that each map has, and the formats that all texts of a path have.
    #[must_use]
    pub fn json_schema<'a>(&self, of_records: bool, arena: &'a Arena) -> Value<'a> {
        let nodes = &self.paths.nodes;
        let lists = nodes[DOCUMENT].counts.of(Sort::List);
        let of_document = nodes[DOCUMENT].counts.values > 0;
        // Records that are items of documents that are lists, and those that are records of a stream, look the same.
        let in_streams = nodes[RECORDS].counts.records > 0 && lists == 0;
        let schema = match (of_document && !of_records, in_streams) {
            (false, _) => self.schema_of(RECORDS, arena),
            (true, false) => self.schema_of(DOCUMENT, arena),
            (true, true) => {
                let either = [self.schema_of(DOCUMENT, arena), self.schema_of(RECORDS, arena)];
                arena.map([("anyOf", arena.list(&either))])
            }
        };
        let members = schema.as_map().map(|map| map.members()).unwrap_or_default();
        let members = members.iter().map(|member| (member.name, member.value));
        let all: Vec<(&str, Value<'a>)> =
            [("$schema", Value::text(DIALECT))].into_iter().chain(members).collect();
        arena.map(all)
    }

    fn schema_of<'a>(&self, number: usize, arena: &'a Arena) -> Value<'a> {
        let node = &self.paths.nodes[number];
        let counts = &node.counts;
        let types: Vec<Value<'a>> = Sort::ALL
            .into_iter()
            .filter(|sort| counts.of(*sort) > 0)
            .map(|sort| {
                let is_whole = node.values.numbers.as_ref().is_some_and(Numbers::are_whole);
                Value::text(match sort {
                    Sort::Null => "null",
                    Sort::Boolean => "boolean",
                    Sort::Number if is_whole => "integer",
                    Sort::Number => "number",
                    Sort::Text => "string",
                    Sort::List => "array",
                    Sort::Map => "object",
                })
            })
            .collect();
        let mut members = Vec::new();
        match types.as_slice() {
            [] => {}
            [one] => members.push(("type", *one)),
            several => members.push(("type", arena.list(several))),
        }
        members.extend(self.format(number).map(|format| ("format", Value::text(format))));
        let (mut properties, mut required) = (Vec::new(), Vec::new());
        for child in &node.children {
            let counted = &self.paths.nodes[*child].counts;
            if counted.values == 0 {
                continue;
            }
            let schema = self.schema_of(*child, arena);
            match &self.paths.nodes[*child].step {
                PathStep::Member(name) => {
                    let name = arena.text(name);
                    properties.push((name, schema));
                    if counted.values == counts.of(Sort::Map) {
                        required.push(Value::text(name));
                    }
                }
                PathStep::Items => members.push(("items", schema)),
                PathStep::Others => members.push(("additionalProperties", schema)),
                PathStep::Root => {}
            }
        }
        if !properties.is_empty() {
            members.push(("properties", arena.map(properties)));
        }
        if !required.is_empty() {
            members.push(("required", arena.list(&required)));
        }
        arena.map(members)
    }

    /// The format that all texts of a path have.
    fn format(&self, number: usize) -> Option<&'static str> {
        let node = &self.paths.nodes[number];
        let texts = node.counts.of(Sort::Text);
        let formats = [
            (Form::Date, "date"),
            (Form::Email, "email"),
            (Form::Uri, "iri"),
            (Form::Uuid, "uuid"),
        ];
        let all = formats.into_iter().find(|(form, _)| node.values.forms[*form as usize] == texts);
        all.filter(|_| texts > 0).map(|(_, format)| format)
    }
}
