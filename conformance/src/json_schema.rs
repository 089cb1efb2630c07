//! JSON Schema cases: what is valid and what is not, for drafts 4, 6 and 7. Formats are asserted in the files that are about them.
//! Cases of draft 7 whose keywords mean the same in drafts 2019-09 and 2020-12 are run in these as well.

use std::path::Path;

use kyanite_formats::json::{EventReader, ReaderOptions, document};
use kyanite_formats::records::Structure;
use kyanite_schema::json::{Document, Draft, META_SCHEMAS, Schema, Settings};
use kyanite_tree::{Arena, Value};
use serde::Deserialize;
use serde_json::value::RawValue;
use serde_json::{Map, Value as Json};

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
    let later: Translate = |schema, draft| later(schema.get(), draft);
    let as_it_is: Translate = |schema, _| Some(schema.get().to_owned());
    let drafts = [
        ("draft4", Draft::V4, as_it_is),
        ("draft6", Draft::V6, as_it_is),
        ("draft7", Draft::V7, as_it_is),
        ("draft7", Draft::V2019, later),
        ("draft7", Draft::V2020, later),
    ];
    let mut remotes = Vec::new();
    served(&folder.join("remotes"), SERVED, &mut remotes)?;
    for (name, draft, translate) in drafts {
        let file = folder.join(name).with_extension("json");
        let text = std::fs::read_to_string(&file).map_err(|error| error.to_string())?;
        let groups: Vec<Group<'_>> =
            serde_json::from_str(&text).map_err(|error| error.to_string())?;
        for group in &groups {
            let Some(schema) = translate(group.schema, draft) else { continue };
            outcome.cases += group.tests.len();
            let failures = failures(group, &schema, draft, &remotes);
            outcome.passed += group.tests.len() - failures.len();
            let told = failures.into_iter().map(|why| format!("{name} as {draft:?}, {why}"));
            outcome.failures.extend(told);
        }
    }
    Ok(outcome)
}

/// A schema of one draft in another, if it means the same there.
type Translate = fn(&RawValue, Draft) -> Option<String>;

/// A schema of draft 7 in a later one, where keywords have other names or meanings (2019-09 and 2020-12, "Change Log" of the core
/// and validation specifications); `None` where it cannot be said in that.
fn later(schema: &str, draft: Draft) -> Option<String> {
    let read: Json = serde_json::from_str(schema).ok()?;
    let mut translated = read.clone();
    translate(&mut translated, draft)?;
    // Numbers of many digits are read from the text.
    Some(if translated == read { schema.to_owned() } else { translated.to_string() })
}

fn translate(schema: &mut Json, draft: Draft) -> Option<()> {
    let members = match schema {
        Json::Object(members) => members,
        Json::Array(schemas) => {
            return schemas.iter_mut().try_for_each(|schema| translate(schema, draft));
        }
        _ => return Some(()),
    };
    let text = |members: &Map<String, Json>, name: &str| {
        members.get(name).and_then(Json::as_str).map(str::to_owned)
    };
    // What stood beside a reference was not looked at, and the items that one names are called otherwise; an `$id` named a
    // place in its document.
    let reference = text(members, "$ref");
    let is_reference = reference.is_some_and(|to| members.len() > 1 || to.contains("/items/"));
    let is_anchor = text(members, "$id").is_some_and(|id| id.contains('#'));
    if is_reference || is_anchor || members.contains_key("$schema") {
        return None;
    }
    for (name, inner) in members.iter_mut() {
        if !matches!(name.as_str(), "const" | "enum" | "default" | "examples") {
            translate(inner, draft)?;
        }
    }
    if draft == Draft::V2020 && members.get("items").is_some_and(Json::is_array) {
        members.insert("prefixItems".into(), members.get("items")?.clone());
        members.remove("items");
        if let Some(others) = members.remove("additionalItems") {
            members.insert("items".into(), others);
        }
    }
    Some(())
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
fn failures(
    group: &Group<'_>,
    schema: &str,
    draft: Draft,
    remotes: &[(String, String)],
) -> Vec<String> {
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
        let root = Document { uri: "file:///case.json".into(), value: read(schema)? };
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
        let text = case.data.get();
        let structure = Structure::of(text.as_bytes());
        let accepts = EventReader::new(text, &structure)
            .zip(schema.accepting())
            .is_some_and(|(mut events, mut accepting)| accepting.accepts(&mut events));
        let is_valid = is_valid || accepts;
        let found = if is_valid { "valid" } else { "not valid" };
        (is_valid != case.valid).then(|| format!("{name}, {}: {found}", case.description))
    };
    group.tests.iter().filter_map(wrong).collect()
}
