//! `kyanite schema`: schemas themselves.

use std::io::Write;

use kyanite_flow::{Input, RunError, Sample, Schemas, Validation};
use kyanite_schema::SampleSettings;
use kyanite_schema::json::Settings;
use kyanite_schema::xsd::MemberNames;
use kyanite_tree::{Arena, Code, Diagnostic, counted};

use crate::arguments::{
    SampleOfSchema, SchemaCommand, SchemaLanguage, SchemaReferences, Translate, When,
};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::report::as_json;
use crate::run::{destination_of, keeping_to};
use crate::status::Status;

/// Runs one of the commands.
pub fn run(command: &SchemaCommand, when: When, messages: &mut Messages) -> Status {
    let (words, references) = match command {
        SchemaCommand::Check { schemas, references } => (schemas, references),
        SchemaCommand::Translate(command) => (&command.schemas, &command.references),
        SchemaCommand::Sample(command) => (&command.schemas, &command.references),
    };
    let SchemaReferences { draft, mapped, catalogs } = references;
    let schemas: Vec<Input> = words.iter().map(|word| Input::of_word(word)).collect();
    let sets = keeping_to(&schemas);
    let catalogs: Vec<Input> = catalogs.iter().map(|word| Input::of_word(word)).collect();
    let settings = Settings {
        draft: draft.map(Into::into),
        // What describes a text is kept to where one is made up.
        asserts_formats: matches!(command, SchemaCommand::Sample(_)),
        ..Validation::default().settings
    };
    let validation =
        Validation { sets: &sets, mapped, catalogs: &catalogs, settings, ..Validation::default() };
    let arena = Arena::new();
    let progress = Progress::start(when, false, None);
    let read = progress.watch(messages, |events| Schemas::read(validation, &arena, events));
    drop(progress);
    let done = match (command, read) {
        (SchemaCommand::Check { .. }, Ok(schemas)) => {
            tell_counts(&schemas);
            Ok(Status::Done)
        }
        (SchemaCommand::Check { .. }, Err(failed)) => {
            let is_wrong = |code| matches!(code, Code::SchemaWrong);
            match &failed {
                RunError::Command(found) if found.iter().all(|why| is_wrong(why.code())) => {
                    messages.show_all(failed.diagnostics());
                    Ok(Status::No)
                }
                _ => Err(failed),
            }
        }
        (_, Err(failed)) => Err(failed),
        (SchemaCommand::Translate(command), Ok(schemas)) => translate(&schemas, command, messages),
        (SchemaCommand::Sample(command), Ok(schemas)) => sample(&schemas, command),
    };
    done.unwrap_or_else(|failed| messages.end_with(&failed))
}

/// Says how many schemas of which sort there are.
fn tell_counts(schemas: &Schemas<'_>) {
    let words = ["JSON Schema", "XML Schema", "Schematron schema"];
    let counts = schemas.counts().into_iter().zip(words).filter(|(count, _)| *count > 0);
    let counts: Vec<String> = counts.map(|(count, word)| counted(count, word)).collect();
    // Whoever closed the pipe has seen enough.
    let _ = writeln!(std::io::stdout().lock(), "{}: nothing is wrong", counts.join(", "));
}

/// Writes the JSON Schema of an XML Schema, and tells what it does not say.
fn translate(
    schemas: &Schemas<'_>,
    command: &Translate,
    messages: &mut Messages,
) -> Result<Status, RunError> {
    let SchemaLanguage::JsonSchema = command.to;
    let (arena, prefixes) = (Arena::new(), schemas.prefixes());
    let names = match command.drop_namespaces {
        true => MemberNames::Local,
        false => MemberNames::Prefixed(&prefixes),
    };
    let Some((schema, losses)) = schemas.translate(names, &arena) else {
        let message = "only one XML Schema is translated, of one or several namespaces";
        let why = Diagnostic::error(Code::CommandLine, message);
        return Err(RunError::Command(vec![why.advise("name XML Schemas that belong together")]));
    };
    messages.show_all(&losses);
    if command.strict && !losses.is_empty() {
        return Ok(Status::No);
    }
    destination_of(command.output.as_deref(), None).write(&as_json(schema))?;
    Ok(Status::Done)
}

/// Writes a document that is valid.
fn sample(schemas: &Schemas<'_>, command: &SampleOfSchema) -> Result<Status, RunError> {
    let SampleOfSchema { minimal, seed, root, output, .. } = command;
    let settings = SampleSettings { is_minimal: *minimal, seed: *seed, root: root.as_deref() };
    let arena = Arena::new();
    let text = match schemas.sample(settings, &arena)? {
        Sample::Json(value) => as_json(value),
        Sample::Xml(text) => text.into_bytes(),
    };
    destination_of(output.as_deref(), None).write(&text)?;
    Ok(Status::Done)
}
