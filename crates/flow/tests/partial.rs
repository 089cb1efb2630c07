//! Runs over parts of the records, joined: the result is that of one run, digit by digit.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use std::path::{Path, PathBuf};

use kyanite_flow::{
    Counters, Destination, Events, Input, InputOptions, Job, Layout, Output, PartialFile, RunError,
    combine, joined_states, partial, run,
};
use kyanite_formats::Format;
use kyanite_lang::{Partial, Plan, RuleText, Syntax, compile};
use kyanite_tree::Arena;
use proptest::prelude::*;

fn plan(rule: &str) -> Plan {
    compile(RuleText::new("rule", rule), Syntax::Rule).unwrap()
}

fn with_events<T>(work: impl FnOnce(&mut Events<'_>) -> T) -> T {
    work(&mut Events { tell: &mut |_| {}, counters: &Counters::default() })
}

fn message(failed: &RunError) -> String {
    failed.diagnostics()[0].message().to_owned()
}

/// What goes to an output, or what ended it.
fn written(
    folder: &Path,
    format: Format,
    work: impl FnOnce(&mut Output, &mut Events<'_>) -> Result<(), RunError>,
) -> Result<String, String> {
    let target = folder.join("out");
    let mut output = Output::open(Destination::File(target.clone()), Layout::of(format)).unwrap();
    with_events(|events| work(&mut output, events)).map_err(|failed| message(&failed))?;
    output.finish().unwrap();
    Ok(std::fs::read_to_string(&target).unwrap())
}

/// A state, written down and read again.
fn kept(folder: &Path, job: &Job<'_>, state: &Partial) -> PartialFile {
    let arena = Arena::new();
    written(folder, Format::JsonLines, |output, _| {
        PartialFile::lines(job, &[], state, &arena).for_each(|line| {
            let _ = kyanite_flow::Sink::item(output, line);
        });
        Ok(())
    })
    .unwrap();
    PartialFile::read(&Input::File(folder.join("out")), &InputOptions::default()).unwrap()
}

/// Runs a rule over a file at once, and over ranges of it that are joined two by two in an order that `turns` says.
fn both(
    folder: &Path,
    rule: &str,
    file: &Path,
    cuts: &[u64],
    turns: &[usize],
) -> [Result<String, String>; 2] {
    let (plan, whole) = (plan(rule), InputOptions::default());
    let job = Job::new(&plan, &whole);
    let inputs = [Input::File(file.to_owned())];
    let at_once =
        written(folder, Format::Json, |output, events| run(&job, &inputs, output, events));
    let states = cuts.windows(2).map(|cut| {
        let job = Job { range: Some(cut[0]..cut[1]), ..Job::new(&plan, &whole) };
        let state = with_events(|events| partial(&job, &inputs, 0, events));
        Ok(kept(folder, &job, &state.map_err(|failed| message(&failed))?))
    });
    let mut states: Vec<PartialFile> = match states.collect() {
        Ok(states) => states,
        Err(failed) => return [at_once, Err(failed)],
    };
    for turn in turns.iter().cycle() {
        if states.len() < 2 {
            break;
        }
        let pair = [states.remove(turn % states.len()), states.remove(turn / 7 % states.len())];
        match joined_states(&plan, &pair) {
            Ok(state) => states.push(kept(folder, &job, &state)),
            Err(failed) => return [at_once, Err(message(&failed))],
        }
    }
    let in_parts = written(folder, Format::Json, |output, events| {
        combine(&job, joined_states(&plan, &states)?, output, events)
    });
    [at_once, in_parts]
}

fn rule() -> impl Strategy<Value = String> {
    let value = "t\\.(n|m|t)|t\\.n \\+ 1|if t\\.n > 5 then t\\.m";
    let aggregate = (
        proptest::sample::select(vec!["sum", "avg", "min", "max", "count"]),
        proptest::sample::select(vec!["t[*].n", "t[*].m", "t[*].k", "t[*].list[*]"]),
    );
    let aggregate = aggregate.prop_map(|(name, of)| format!("{name}({of})"));
    let aggregates = proptest::collection::vec(aggregate, 1..4);
    let grouped = (
        "( where t\\.n > 3)?( for x in t\\.list\\[\\*\\])?",
        value,
        "(, o = t\\.k)?",
        "( order by key descending)?( skip 1)?( first 2)?",
        aggregates,
    );
    let grouped = grouped.prop_map(|(before, key, other, behind, aggregates)| {
        let members: Vec<_> =
            aggregates.iter().enumerate().map(|(at, call)| format!("m{at}: {call}")).collect();
        format!(
            "for t in $[*]{before} group by key = {key}{other}{behind} return {{key, {}}}",
            members.join(", ")
        )
    });
    let single = "(count|sum|avg|max|min)\\(\\$\\[(\\*|\\?@\\.n > 4)\\]\\.n\\)|\\{a: 1 \\+ sum\\(\\$\\[\\*\\]\\.list\\[\\*\\]\\), b: 2\\}|count\\(\\$\\[\\*\\]\\)";
    prop_oneof![3 => grouped, 1 => single]
}

fn record() -> impl Strategy<Value = String> {
    let n = prop_oneof![
        8 => "[0-9]",
        2 => "[0-9]\\.[05]{1,2}|1e2|-3|\"7\"|null",
        1 => (10..5_000_usize).prop_map(|digits| format!("0.{}", "3".repeat(digits))),
    ];
    let rest = "(,\"m\":(1|1\\.0|1\\.00|2|\"a\"|null|true))?(,\"t\":\"(x|y\\\\\"|ä\\\\n)\")?(,\"k\":(null|\"b\"|5))?(,\"list\":\\[(1(,2\\.5)?)?\\])?";
    (n, rest).prop_map(|(n, rest)| format!("{{\"n\":{n}{rest}}}\n"))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Random rules over random records, cut anywhere, with empty parts, joined in any order and more than once.
    #[test]
    fn as_in_one_run(
        rule in rule(),
        records in proptest::collection::vec(record(), 0..30),
        mut cuts in proptest::collection::vec(0_u64..2_000, 0..6),
        turns in proptest::collection::vec(0_usize..1000, 6),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("records.jsonl");
        std::fs::write(&file, records.concat()).unwrap();
        cuts.extend([0, u64::MAX]);
        cuts.sort_unstable();
        cuts.dedup();
        let [at_once, in_parts] = both(folder.path(), &rule, &file, &cuts, &turns);
        match (at_once, in_parts) {
            (Ok(at_once), in_parts) => prop_assert_eq!(in_parts, Ok(at_once), "{}", rule),
            // What is wrong is said in the part that it is in, or in joining.
            (Err(_), in_parts) => prop_assert!(in_parts.is_err(), "{}", rule),
        }
    }
}

/// Numbers and texts in one aggregate of a group are wrong only when that is asked for, in parts as at once.
#[test]
fn aggregates_that_nobody_asks_for() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("records.jsonl");
    let records =
        ["{\"k\":\"a\",\"m\":1}\n", "{\"k\":\"a\",\"m\":\"x\"}\n", "{\"k\":\"b\",\"m\":1}\n"];
    std::fs::write(&file, records.concat()).unwrap();
    let cuts = [0, 1, 17, u64::MAX];
    for (behind, is_right) in [(" order by k descending first 1", true), ("", false)] {
        let rule = format!("for t in $[*] group by k = t.k{behind} return {{k, m: min(t[*].m)}}");
        let [at_once, in_parts] = both(folder.path(), &rule, &file, &cuts, &[1, 8]);
        assert_eq!((at_once.is_ok(), in_parts.is_ok()), (is_right, is_right), "{rule}");
        assert!(!is_right || at_once == in_parts, "{rule}");
    }
}

/// Files as parts: groups come in the order of the numbers of parts, then of the names of files.
#[test]
fn files_as_parts() {
    let folder = tempfile::tempdir().unwrap();
    let files: Vec<PathBuf> = [("a", "x\ny\n"), ("b", "z\nx\n"), ("c", "w\n")]
        .map(|(name, text)| {
            let file = folder.path().join(name).with_extension("txt");
            std::fs::write(&file, text).unwrap();
            file
        })
        .to_vec();
    let plan = plan("for line in $[*] group by key = line return f\"{key}{count(line[*])}\"");
    let options = InputOptions { from: Some(Format::Text), ..InputOptions::default() };
    let job = Job::new(&plan, &options);
    let state = |file: &PathBuf, number: u64| {
        let inputs = [Input::File(file.clone())];
        let state = with_events(|events| partial(&job, &inputs, number, events)).unwrap();
        kept(folder.path(), &job, &state)
    };
    let ended = |files: &[PartialFile]| {
        written(folder.path(), Format::Text, |output, events| {
            combine(&job, joined_states(&plan, files)?, output, events)
        })
    };
    for (numbers, expected) in [([0, 0, 0], "x2\ny1\nz1\nw1\n"), ([3, 2, 1], "w1\nz1\nx2\ny1\n")] {
        let mut states: Vec<_> =
            files.iter().zip(numbers).map(|(file, number)| state(file, number)).collect();
        states.rotate_left(1);
        assert_eq!(ended(&states), Ok(expected.to_owned()));
    }
    let twice = ended(&[state(&files[0], 0), state(&files[1], 0), state(&files[0], 0)]);
    assert!(twice.unwrap_err().starts_with("records would be counted twice"));
}
