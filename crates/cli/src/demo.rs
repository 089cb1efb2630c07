//! `kyanite demo`: a tour through real commands with their real output.

use std::fs;
use std::io::{self, Write};
use std::path::Path;
use std::process::{Command, Stdio};

use kyanite_demo::Bookings;
use kyanite_tree::{Code, Diagnostic};

use crate::arguments::{Amount, Demo};
use crate::messages::Messages;
use crate::status::Status;

/// One step of the tour: what it is about, and the commands that show it.
struct Step {
    title: &'static str,
    text: &'static str,
    commands: &'static [&'static [&'static str]],
}

const TOUR: &[Step] = &[
    Step {
        title: "Look",
        text: "Bookings and a timetable of Tern Isles Ferries came as JSON. What is in them?",
        commands: &[
            &["survey", "bookings.jsonl"],
            &["survey", "timetable.json", "--at", "$.routes[*].sailings[*]"],
            &["query", "$.routes[*].name", "timetable.json", "--to", "text"],
            &["query", "$.routes[0].sailings[0]", "timetable.json"],
        ],
    },
    Step {
        title: "Find",
        text: "Build a path up step by step. A misspelt one says so; --count and --paths check it.",
        commands: &[
            &["query", "$.routes[*].sailings[*].vesel", "timetable.json", "--compact"],
            &["query", "$..sailings[?@.berth].vessel", "timetable.json", "--count"],
            &["query", "$..legs[?@.minutes > 60]", "timetable.json", "--paths", "--to", "text"],
            &["query", "/routes/0/sailings/2/id", "timetable.json"],
        ],
    },
    Step {
        title: "Up and sideways",
        text: "XPath goes from a vehicle up to its vessel and on to the next one; a namespace that hides it is named.",
        commands: &[
            &["query", "//vehicle/@plate", "manifest.xml", "--compact"],
            &["query", "//v:deck[.//m:weight > 1000]", "manifest.xml", "--count"],
            &[
                "query",
                "//m:vehicle[m:weight > 1000]/(ancestor::v:vessel/v:name || ': ' || @plate || ', then ' || (following-sibling::m:vehicle[1]/@plate, 'none')[1])",
                "manifest.xml",
                "--to",
                "text",
            ],
        ],
    },
    Step {
        title: "Unwrap",
        text: "The position gateway answers with JSON inside a text. The message says what to do.",
        commands: &[
            &["query", "$.positions[*].vessel", "beacon.json", "--compact"],
            &["query", "$.positions[*].vessel", "beacon.json", "--unwrap", "--compact"],
        ],
    },
    Step {
        title: "Reshape",
        text: "A rule names the levels of a document and combines them.",
        commands: &[
            &["reshape", "rules/departures.kyr", "timetable.json", "--to", "jsonl"],
            &["reshape", "rules/port-fares.kyr", "bookings.jsonl", "--to", "jsonl"],
        ],
    },
    Step {
        title: "Convert",
        text: "Every format goes to every other that can hold it. What is lost on the way is said.",
        commands: &[
            &["convert", "ports.yaml", "--to", "toml"],
            &[
                "query",
                "for v in $.manifest.vessel[*] return {v.@id, v.name, crew: count(v.crew.person[*])}",
                "manifest.xml",
                "--to",
                "yaml",
            ],
            &["convert", "pier-feed.xml", "--to", "json", "--compact", "--lenient"],
            &["convert", "tariff.csv", "--to", "xml", "--root", "tariff", "--item", "fare"],
        ],
    },
    Step {
        title: "Tables",
        text: "Cells keep their spelling, and compute as the numbers they spell.",
        commands: &[
            &["convert", "tickets.csv", "--to", "jsonl"],
            &[
                "query",
                "for p in $[*] where p.depth_m > 5 return {p.code, p.depth_m}",
                "ports.csv",
                "--to",
                "csv",
            ],
            &[
                "convert",
                "bookings.jsonl",
                "--to",
                "csv",
                "--flatten",
                "--columns",
                "id,leg.from,fare.amount",
            ],
        ],
    },
    Step {
        title: "Validate",
        text: "What kyanite.toml names is checked against its schemas: JSON Schema, XML Schema, Schematron.",
        commands: &[
            &["validate", "--validation", "bookings", "--validation", "notices"],
            &[
                "validate",
                "--schema",
                "schemas/manifest.xsd",
                "manifests/holm.xml",
                "--max-findings",
                "3",
            ],
            &["validate", "--schema", "schemas/manifest.sch", "manifest.xml"],
        ],
    },
    Step {
        title: "Stream",
        text: "Records run one by one, so the same command works on files of any size.",
        commands: &[
            &[
                "reshape",
                "rules/dearest.kyr",
                "bookings.jsonl",
                "--param",
                "port=ness",
                "--to",
                "jsonl",
            ],
            &["query", "avg($[?@.leg.departs >= '2026-06'].fare.amount)", "bookings.jsonl"],
            &[
                "query",
                "for b in $[*] where b.fare.amount > 1195 first 3 return b.id",
                "bookings.jsonl",
                "--to",
                "text",
            ],
        ],
    },
];

/// Lines of output that are shown of each command.
const LINES: usize = 12;

/// `kyanite demo`.
pub fn demo(demo: &Demo, messages: &mut Messages) -> Status {
    if let Some(amount) = demo.bookings {
        let bookings = Bookings::new(demo.seed);
        let mut out = io::stdout().lock();
        let written = match amount {
            Amount::Records(count) => bookings.write_count(count, &mut out),
            Amount::Bytes(bytes) => bookings.write_bytes(bytes, &mut out),
        };
        return ended(written, messages);
    }
    let toured = match &demo.folder {
        Some(folder) => fs::create_dir(folder).and_then(|()| tour(folder, Some(folder))),
        None => tempfile::tempdir().and_then(|folder| tour(folder.path(), None)),
    };
    ended(toured, messages)
}

fn ended(result: io::Result<()>, messages: &mut Messages) -> Status {
    match result {
        Ok(()) => Status::Done,
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Status::Done,
        Err(error) => {
            let problem =
                Diagnostic::error(Code::OutputFailed, format!("the demo cannot go on: {error}"));
            messages.show(&match error.kind() {
                io::ErrorKind::AlreadyExists => {
                    problem.advise("name a folder that is not there yet")
                }
                _ => problem,
            });
            Status::Output
        }
    }
}

fn tour(folder: &Path, stays: Option<&Path>) -> io::Result<()> {
    for file in kyanite_demo::files() {
        let path = folder.join(file.name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)?;
        }
        fs::write(path, &file.content)?;
    }
    let program = std::env::current_exe()?;
    let mut out = io::stdout().lock();
    writeln!(out, "A tour of kyanite, on the data of Tern Isles Ferries.")?;
    for step in TOUR {
        writeln!(out, "\n== {} ==\n{}", step.title, step.text)?;
        for command in step.commands {
            writeln!(
                out,
                "\n$ kyanite {}",
                command.iter().map(|word| shell_word(word)).collect::<Vec<_>>().join(" ")
            )?;
            let output = Command::new(&program)
                .args(*command)
                .current_dir(folder)
                .stdin(Stdio::null())
                .output()?;
            out.write_all(&output.stderr)?;
            first_lines(&output.stdout, &mut out)?;
        }
    }
    match stays {
        Some(folder) => writeln!(out, "\nThe files of the tour are in {}.", folder.display()),
        None => writeln!(out, "\nTo keep the files and try for yourself: kyanite demo FOLDER"),
    }
}

fn first_lines(output: &[u8], out: &mut dyn Write) -> io::Result<()> {
    let mut lines = output.split_inclusive(|byte| *byte == b'\n');
    for line in lines.by_ref().take(LINES) {
        out.write_all(line)?;
    }
    match lines.count() {
        0 => Ok(()),
        more => writeln!(out, "… and {more} lines more"),
    }
}

/// A word as it is typed in a shell.
fn shell_word(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./=:".contains(c);
    match word {
        _ if word.chars().all(plain) => word.to_owned(),
        _ if word.contains('\'') => format!("\"{}\"", word.replace('$', "\\$")),
        _ => format!("'{word}'"),
    }
}
