//! CSV files and their records, all values text.

use std::path::Path;

use kyanite_formats::csv::{Header, Reader, Settings};
use kyanite_tree::{Arena, Base, Value};

use crate::Outcome;

/// Runs the suite in `folder`: `csvs/NAME.csv` against `json/NAME.json`.
pub fn run(folder: &Path) -> Result<Outcome, String> {
    let files = std::fs::read_dir(folder.join("csvs")).map_err(|error| error.to_string())?;
    let (mut cases, mut failures) = (0, Vec::new());
    for file in files {
        let file = file.map_err(|error| error.to_string())?.path();
        let name = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let csv = std::fs::read(&file).map_err(|error| error.to_string())?;
        let json = std::fs::read(folder.join("json").join(&name).with_extension("json"));
        let expected = json.map_err(|error| error.to_string())?;
        cases += 1;
        failures.extend(failure(&csv, &expected).map(|why| format!("{name}: {why}")));
    }
    Ok(Outcome { passed: cases - failures.len(), cases, failures })
}

/// What is wrong with a case, if anything is.
fn failure(csv: &[u8], expected: &[u8]) -> Option<String> {
    let expected: serde_json::Value = match serde_json::from_slice(expected) {
        Ok(expected) => expected,
        Err(error) => return Some(error.to_string()),
    };
    match records(&String::from_utf8_lossy(csv)) {
        Ok(records) if expected == records => None,
        Ok(records) => Some(format!("read as {records}")),
        Err(why) => Some(why),
    }
}

/// The records of a text, as serde_json has them.
fn records(text: &str) -> Result<serde_json::Value, String> {
    let (arena, settings) = (Arena::new(), Settings::default());
    let Some(first) =
        Header::read(text, settings, &arena).map_err(|error| error.message().to_owned())?
    else {
        return Ok(serde_json::Value::Array(Vec::new()));
    };
    let mut reader = Reader::new(text, &arena, settings, Some(first.header), Base::default());
    reader.seek(first.end);
    let mut records = Vec::new();
    while let Some(Value::Map(_, map)) =
        reader.next_row().map_err(|error| error.message().to_owned())?
    {
        let cells = map.members().iter();
        let cells = cells
            .map(|cell| (cell.name.to_owned(), cell.value.as_text().unwrap_or_default().into()));
        records.push(serde_json::Value::Object(cells.collect()));
    }
    Ok(records.into())
}
