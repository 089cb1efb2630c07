//! JSON Schema cases: what is valid and what is not, for drafts 4, 6 and 7. Formats are asserted in the files that are about them.

use std::path::Path;

use kyanite_formats::json::{EventReader, ReaderOptions, document};
use kyanite_schema::json::{Document, Draft, META_SCHEMAS, Schema, Settings};
use kyanite_tree::{Arena, Value};
use serde::Deserialize;
use serde_json::value::RawValue;

use crate::Outcome;

#[derive(Deserialize)]
struct Group<'t> {
    file: String,
    description: String,
    #[serde(borrow)]
    schema: &'t RawValue,
    tests: Vec<Case<'t>>,
}

#[derive(Deserialize)]
struct Case<'t> {
    description: String,
    #[serde(borrow)]
    data: &'t RawValue,
    valid: bool,
}

/// Where the suite has its remote schemas served.
const SERVED: &str = "http://localhost:1234/";

/// Runs the suite in `folder`.
pub fn run(folder: &Path) -> Result<Outcome, String> {
    let mut outcome = Outcome { passed: 0, cases: 0, failures: Vec::new() };
    let drafts = [("draft4", Draft::V4), ("draft6", Draft::V6), ("draft7", Draft::V7)];
    let mut remotes = Vec::new();
    served(&folder.join("remotes"), SERVED, &mut remotes)?;
    for (name, draft) in drafts {
        let file = folder.join(name).with_extension("json");
        let text = std::fs::read_to_string(&file).map_err(|error| error.to_string())?;
        let groups: Vec<Group<'_>> =
            serde_json::from_str(&text).map_err(|error| error.to_string())?;
        for group in &groups {
            outcome.cases += group.tests.len();
            let failures = failures(group, draft, &remotes);
            outcome.passed += group.tests.len() - failures.len();
            outcome.failures.extend(failures.into_iter().map(|why| format!("{name} {why}")));
        }
    }
    Ok(outcome)
}

/// The files of a folder, with the URIs at which they are served.
fn served(folder: &Path, uri: &str, found: &mut Vec<(String, String)>) -> Result<(), String> {
    for entry in std::fs::read_dir(folder).map_err(|error| error.to_string())? {
        let path = entry.map_err(|error| error.to_string())?.path();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        if path.is_dir() {
            served(&path, &format!("{uri}{name}/"), found)?;
        } else {
            let text = std::fs::read_to_string(&path).map_err(|error| error.to_string())?;
            found.push((format!("{uri}{name}"), text));
        }
    }
    Ok(())
}

/// Whether a text is well-formed in a media type.
fn reads(media_type: &str, text: &str) -> Option<bool> {
    let arena = Arena::new();
    (media_type == "application/json")
        .then(|| document(text, &arena, ReaderOptions::default()).is_ok())
}

/// What is wrong with the cases of a group.
fn failures(group: &Group<'_>, draft: Draft, remotes: &[(String, String)]) -> Vec<String> {
    let arena = Arena::new();
    let read = |text: &str| -> Result<Value<'_>, String> {
        let read = document(arena.text(text), &arena, ReaderOptions::default());
        read.map(|(value, _)| value).map_err(|error| error.to_string())
    };
    let name = format!("{}, {}", group.file, group.description);
    let compiled = (|| {
        let meta = META_SCHEMAS.iter().map(|(uri, text)| (*uri, *text));
        let given = remotes.iter().map(|(uri, text)| (uri.as_str(), text.as_str()));
        let others: Result<Vec<Document<'_>>, String> = meta
            .chain(given)
            .map(|(uri, text)| Ok(Document { uri: uri.to_owned(), value: read(text)? }))
            .collect();
        let root = Document { uri: "file:///case.json".into(), value: read(group.schema.get())? };
        let asserts_formats = ["optional/format", "optional/content", "optional/ecmascript"]
            .iter()
            .any(|about| group.file.starts_with(about));
        let settings = Settings { draft: Some(draft), asserts_formats, reads: Some(reads) };
        Schema::compile(root, &others?, settings).map_err(|problems| {
            problems.into_iter().map(|problem| problem.message).collect::<Vec<_>>().join("; ")
        })
    })();
    let schema = match compiled {
        Ok(schema) => schema,
        Err(why) => return group.tests.iter().map(|_| format!("{name}: {why}")).collect(),
    };
    let wrong = |case: &Case<'_>| {
        let is_valid = match read(case.data.get()) {
            Ok(data) => schema.is_valid(data),
            Err(why) => return Some(format!("{name}, {}: {why}", case.description)),
        };
        // What is told from events is told of values as well.
        let accepts = schema.accepts(&mut EventReader::new(case.data.get(), 0));
        let is_valid = is_valid || accepts;
        let found = if is_valid { "valid" } else { "not valid" };
        (is_valid != case.valid).then(|| format!("{name}, {}: {found}", case.description))
    };
    group.tests.iter().filter_map(wrong).collect()
}
