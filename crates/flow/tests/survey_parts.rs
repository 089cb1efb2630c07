//! Surveys of parts, joined, against surveys of the whole.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use std::path::Path;

use kyanite_flow::{
    Counters, Events, Input, InputOptions, SurveyState, Surveyed, join_surveys, survey, survey_part,
};
use kyanite_survey::{RemarkSort, Report, Survey};
use proptest::prelude::*;

/// What is told of a survey, but for examples of values that are repeated: those between parts are not known.
fn told(survey: &Survey) -> Report {
    let mut report = survey.report();
    for remark in &mut report.remarks {
        if remark.sort == RemarkSort::Repeated {
            remark.message.truncate(remark.message.find(": ").unwrap_or(remark.message.len()));
        }
    }
    report
}

/// The surveys of a file at once, and of its ranges between these bytes, which are written, read and joined in an order that `picks`
/// says.
fn both(
    file: &Path,
    cuts: &[u64],
    picks: &[usize],
) -> (Result<Report, String>, Result<Report, String>) {
    let options = InputOptions::default();
    let counters = Counters::default();
    let mut events = Events { tell: &mut |_| {}, counters: &counters };
    let inputs = [Input::File(file.into())];
    let what = Surveyed { inputs: &inputs, options: &options, at: None, range: None };
    let at_once = survey(what, &mut events).map(|survey| told(&survey));
    let mut states: Vec<String> = Vec::new();
    for (place, pair) in cuts.windows(2).enumerate() {
        let range = pair[0]..pair[1];
        let what = Surveyed { range: Some(&range), ..what };
        match survey_part(what, 0, &mut events) {
            Ok(state) => {
                let text = state.into_lines().join("\n") + "\n";
                states.insert(picks[place % picks.len()] % (states.len() + 1), text);
            }
            Err(error) => return (at_once.map_err(|e| e.to_string()), Err(error.to_string())),
        }
    }
    // Some stand in one file.
    let cut = picks[0] % states.len();
    let files = [states[..cut].concat(), states[cut..].concat()];
    let mut read = Vec::new();
    for (number, text) in files.iter().enumerate().filter(|(_, text)| !text.is_empty()) {
        let path = file.with_extension(format!("{number}.state"));
        std::fs::write(&path, text).unwrap();
        read.extend(SurveyState::read(&Input::File(path), &options).unwrap());
    }
    let joined = join_surveys(read, options.memory).map(|(survey, _)| told(&survey));
    (at_once.map_err(|error| error.to_string()), joined.map_err(|error| error.to_string()))
}

/// Members of records: numbers and texts that spell some, times, nulls, lists, maps, names that are rare.
fn record() -> impl Strategy<Value = String> {
    let scalar = "([0-9]|-3\\.50|1e2|\"7\"|\"\"|null|true|\"2026-0[1-9]-11\"|\"2026-01-01T0[0-9]:00:00Z\"|\"a@tern\\.example\")";
    let members = format!(
        "(,\"m\":{scalar})?(,\"kind\":\"(a|b)\",\"(seats|vehicle)\":{scalar})?(,\"list\":\\[({scalar}(,\\{{\"x\":{scalar}\\}})?)?\\])?(,\"rare\":\\{{\"[a-c]\":{scalar}\\}})?"
    );
    proptest::string::string_regex(&members).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(100))]

    #[test]
    fn as_in_one_survey(
        records in proptest::collection::vec(record(), 0..60),
        blank in 0_usize..5,
        mut cuts in proptest::collection::vec(0_u64..4_000, 0..6),
        picks in proptest::collection::vec(0_usize..1000, 6),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("records.jsonl");
        let line = |(number, members): (usize, &String)| {
            let end = if number % 5 == blank { "\n\n" } else { "\n" };
            format!("{{\"id\":{number}{members}}}{end}")
        };
        std::fs::write(&file, records.iter().enumerate().map(line).collect::<String>()).unwrap();
        cuts.extend([0, u64::MAX]);
        cuts.sort_unstable();
        cuts.dedup();
        let (at_once, joined) = both(&file, &cuts, &picks);
        prop_assert_eq!(joined, at_once);
    }
}

/// Rows of CSV: the header stands in front of each range, and quotes hold line ends.
#[test]
fn ranges_of_tables() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("tickets.csv");
    let row = |number: usize| format!("{number},\"on\ndeck {}\",{}\n", number % 3, number * 7 % 10);
    let rows: String = (0..300).map(row).collect();
    std::fs::write(&file, format!("no,place,seats\n{rows}")).unwrap();
    for cuts in [vec![0, 5, u64::MAX], vec![0, 100, 101, 2000, u64::MAX], vec![0, 3000, 9000]] {
        let (at_once, joined) = both(&file, &cuts, &[3, 0, 2]);
        assert_eq!(joined, at_once, "{cuts:?}");
    }
}
