//! What the documentation shows is what the program does: every command in README, docs/ and `--help` is run.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

mod support;

use std::path::{Path, PathBuf};
use std::process::Command;

use kyanite_lang::functions::all;
use kyanite_tree::Code;
use support::{Folder, PROGRAM};

fn project(file: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(file)
}

/// A shell that finds the built program first.
fn shell(line: &str) -> Command {
    let mut paths = vec![Path::new(PROGRAM).parent().unwrap().to_owned()];
    paths.extend(std::env::split_paths(&std::env::var_os("PATH").unwrap_or_default()));
    let mut command = Command::new("sh");
    command.args(["-c", line]).env("PATH", std::env::join_paths(paths).unwrap());
    command
}

/// The `console` blocks of a text: commands, each with the output shown below it.
fn shown_commands(text: &str) -> Vec<(String, Vec<String>)> {
    let mut shown: Vec<(String, Vec<String>)> = Vec::new();
    let mut inside = false;
    for line in text.lines() {
        if line.starts_with("```") {
            inside = line == "```console";
        } else if let (true, Some(command)) = (inside, line.strip_prefix("$ ")) {
            shown.push((command.to_owned(), Vec::new()));
        } else if let (true, Some((command, output))) = (inside, shown.last_mut()) {
            // A command may go on over lines.
            if command.ends_with('\\') {
                command.pop();
                command.push_str(line.trim_start());
            } else {
                output.push(line.to_owned());
            }
        }
    }
    shown
}

/// Whether `actual` is what is shown; a line `…` stands for any lines.
fn fits(shown: &[String], actual: &[String]) -> bool {
    match shown.split_first() {
        None => actual.is_empty(),
        Some((first, rest)) if first == "…" => {
            (0..=actual.len()).any(|skip| fits(rest, &actual[skip..]))
        }
        Some((first, rest)) => actual.first() == Some(first) && fits(rest, &actual[1..]),
    }
}

#[test]
fn every_command_shown_gives_what_is_shown() {
    let mut files = vec![project("README.md")];
    files.extend(std::fs::read_dir(project("docs")).unwrap().map(|entry| entry.unwrap().path()));
    let mut count = 0;
    for file in
        files.iter().filter(|file| file.extension().is_some_and(|extension| extension == "md"))
    {
        let folder = Folder::with_demo();
        let text = std::fs::read_to_string(file).unwrap();
        for (command, shown) in shown_commands(&text) {
            if !command.contains("kyanite ") || command.starts_with("cargo ") {
                continue;
            }
            let ran = folder.run_command(&mut shell(&format!("{command} 2>&1")), b"");
            let actual: Vec<String> = ran.out.lines().map(str::to_owned).collect();
            assert!(fits(&shown, &actual), "{}: $ {command}\n{}", file.display(), ran.out);
            count += 1;
        }
    }
    assert!(count >= 12, "only {count} commands were found in the documentation");
}

#[test]
fn every_example_of_the_help_runs() {
    let folder = Folder::with_demo();
    std::fs::create_dir_all(folder.path().join("home")).unwrap();
    let mut count = 0;
    // What examples compare with, and apply.
    let timetable = folder.read("timetable.json").replace("\"minutes\": 35", "\"minutes\": 40");
    folder.file("new/timetable.json", timetable).file("new/tariff.csv", folder.read("tariff.csv"));
    folder.file("last-week.jsonl", folder.read("bookings.jsonl"));
    folder.file("changes.json", r#"{"limits": {"wind_kn": 45}}"#);
    let rule = "for b in $[*] group by port = b.leg.from return {port, n: count(b[*])}";
    for (range, state) in [("0-400kB", "first.state"), ("400kB-", "second.state")] {
        let arguments =
            ["query", rule, "bookings.jsonl", "--range", range, "--partial", "-o", state];
        assert_eq!(folder.run(&arguments, b"").status, 0);
    }
    let commands = [
        "survey",
        "query",
        "reshape",
        "convert",
        "combine",
        "diff",
        "patch",
        "split",
        "validate",
        "schema check",
        "schema translate",
        "schema sample",
        "demo",
        "completions",
        "manual",
    ];
    for command in commands {
        let words: Vec<&str> = command.split(' ').chain(["--help"]).collect();
        let help = folder.run(&words, b"").out;
        let examples = help.lines().filter_map(|line| line.strip_prefix("  kyanite "));
        for example in examples {
            // Words behind several blanks explain the example; files go into this folder; amounts are kept small.
            let example =
                example.split("  ").next().unwrap().replace("~/", "home/").replace("1GB", "10kB");
            if let Some((_, target)) = example.split_once("> ") {
                let parent = folder.path().join(target).parent().map(Path::to_owned);
                std::fs::create_dir_all(parent.unwrap()).unwrap();
            }
            let ran = folder.run_command(&mut shell(&format!("kyanite {example}")), b"");
            let has_findings = matches!(command, "validate" | "diff") && ran.status == 1;
            let status = if has_findings { 0 } else { ran.status };
            // What a translation loses is said.
            let is_said = matches!(command, "schema translate" | "split");
            let said = if is_said { "" } else { ran.err.as_str() };
            assert_eq!((status, said), (0, ""), "kyanite {example}");
            count += 1;
        }
    }
    assert!(count >= 12, "only {count} examples were found in the help");
}

/// The function section of docs/rule-language.md is made from the table that the checker and the runner read.
/// After a change of the table, run this test with UPDATE_DOCS=1.
#[test]
fn the_function_reference_is_the_table() {
    let mut table = String::from("| function | gives | |\n| --- | --- | --- |\n");
    for function in all() {
        let parameters: Vec<String> = function
            .parameters
            .iter()
            .map(|p| format!("*{}* {}", p.name, p.takes.words()))
            .collect();
        let (rule, result) = function.example;
        table.push_str(&format!(
            "| `{}` | {} | {} It takes {}. `{}` gives `{}` |\n",
            function.usage(),
            function.result.words(),
            function.summary,
            parameters.join(", "),
            rule.replace('|', "\\|"),
            result,
        ));
    }
    is_made_of("docs/rule-language.md", "functions", &table);
}

/// The codes in docs/commands.md are those that diagnostics have. After a change, run this test with UPDATE_DOCS=1.
#[test]
fn the_codes_of_messages_are_the_table() {
    let mut table = String::from("| code | |\n| --- | --- |\n");
    for code in Code::ALL {
        table.push_str(&format!("| `{}` | {} |\n", code.word(), code.summary()));
    }
    is_made_of("docs/commands.md", "codes", &table);
}

/// Checks that a section of a document is what it is made of, or makes it so.
fn is_made_of(document: &str, section: &str, made: &str) {
    let file = project(document);
    let text = std::fs::read_to_string(&file).unwrap();
    let (begin, end) = (format!("<!-- {section} -->\n"), format!("<!-- end of {section} -->"));
    let (before, rest) = text.split_once(&begin).unwrap();
    let (_, after) = rest.split_once(&end).unwrap();
    let expected = format!("{before}{begin}{made}{end}{after}");
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(&file, &expected).unwrap();
        return;
    }
    assert!(expected == text, "{document}: the section {section} is out of date");
}
