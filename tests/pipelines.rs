//! The program between other commands: what comes down a pipe goes on while more is still to come.
#![cfg(unix)]
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "tests say what is wrong by panicking"
)]

use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

/// The built program.
const PROGRAM: &str = env!("CARGO_BIN_EXE_kyanite");

/// Longer than anything here takes, and shorter than anybody waits.
const PATIENCE: Duration = Duration::from_secs(60);

/// The program with a pipe on either side.
struct Piped {
    child: Child,
    to: Option<ChildStdin>,
    lines: Receiver<String>,
}

impl Piped {
    fn run(arguments: &[&str]) -> Self {
        let mut command = Command::new(PROGRAM);
        command.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut child = command.spawn().unwrap();
        let (to, from) = (child.stdin.take(), child.stdout.take().unwrap());
        let (sender, lines) = channel();
        std::thread::spawn(move || {
            for line in BufReader::new(from).lines() {
                if sender.send(line.unwrap()).is_err() {
                    return;
                }
            }
        });
        Self { child, to, lines }
    }

    fn write(&mut self, text: &str) {
        let to = self.to.as_mut().unwrap();
        to.write_all(text.as_bytes()).unwrap();
        to.flush().unwrap();
    }

    /// The next line of the output, while the input is still open.
    fn line(&self) -> String {
        self.lines.recv_timeout(PATIENCE).expect("a line before the input ends")
    }

    /// Waits for the end without ending the input.
    fn status(mut self) -> i32 {
        for _ in 0..PATIENCE.as_millis() / 10 {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.code().unwrap();
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        let _ = self.child.kill();
        panic!("the program waits for more input");
    }
}

#[test]
fn results_come_while_the_input_goes_on() {
    let rows: String = (0..3000).map(|id| format!("{{\"id\":{id}}}\n")).collect();
    // Of XML so much is waited for that declarations would be there.
    let elements: String =
        (0..1000).map(|id| format!("<booking><id>{id}</id></booking>\n")).collect();
    let elements = format!("<bookings>{elements}");
    let query = ["query", "$[*].id", "-", "--from", "jsonl", "--to", "jsonl"];
    for (arguments, before, pieces) in [
        (
            &query[..],
            "",
            &[
                ("{\"id\":7}\n", &["7"][..]),
                ("{\"id\"", &[]),
                (":8}\n9\n{\"id\":9}\n", &["8", "9"]),
            ][..],
        ),
        // Far behind the first block, on several threads and on one.
        (
            &[&query[..], &["--threads", "2"]].concat(),
            &rows,
            &[("{\"id\":7}\n", &["7"]), ("{\"id\":\n", &[]), ("8}\n", &["8"])],
        ),
        (
            &[&query[..], &["--threads", "1"]].concat(),
            &rows,
            &[("{\"id\":7}\n", &["7"]), ("{\"id\":8}\n", &["8"])],
        ),
        // Documents come once the next one begins.
        (
            &["query", "$.id", "-", "--from", "yaml", "--to", "jsonl"],
            "",
            &[("id: 1\n", &[]), ("---\nid: 2\n", &["1"]), ("---\nid: 3\n---\n", &["2", "3"])],
        ),
        (
            &["query", "?id", "-", "--syntax", "xpath", "--from", "yaml", "--to", "jsonl"],
            "",
            &[("id: 1\n", &[]), ("---\nid: 2\n", &["1"]), ("---\nid: 3\n---\n", &["2", "3"])],
        ),
        (
            &["query", "$", "-", "--from", "json-seq", "--to", "jsonl"],
            "",
            &[("\u{1e}7\n", &[]), ("\u{1e}{\n}\n", &["7"]), ("\u{1e}", &["{}"])],
        ),
        (
            &["convert", "-", "--from", "csv", "--to", "jsonl"],
            "",
            &[("id\n1\n", &["{\"id\":\"1\"}"]), ("\"2\n", &[]), ("\"\n", &["{\"id\":\"2\\n\"}"])],
        ),
        (
            &[
                "query",
                "for b in $.bookings.booking[*] return {b.id}",
                "-",
                "--from",
                "xml",
                "--to",
                "jsonl",
            ],
            &elements,
            &[
                ("<booking><id>1</id></booking>\n<booking>", &["{\"id\":\"1\"}"]),
                ("<id>2</id></booking>\n", &["{\"id\":\"2\"}"]),
                ("</bookings>\n", &[]),
            ],
        ),
    ] {
        let mut piped = Piped::run(arguments);
        piped.write(before);
        for id in 0..before.lines().count() {
            let line = piped.line();
            assert!(line == id.to_string() || line == format!("{{\"id\":\"{id}\"}}"), "{line}");
        }
        for (piece, lines) in pieces {
            piped.write(piece);
            for line in *lines {
                assert_eq!(piped.line(), *line, "{arguments:?} {piece}");
            }
        }
        drop(piped.to.take());
        assert_eq!(piped.lines.iter().count(), 0, "{arguments:?}");
    }
}

#[test]
fn enough_is_enough_though_the_input_goes_on() {
    for threads in ["1", "2"] {
        let rule = "for b in $[*] where b.id > 2000 first 2 return b.id";
        let arguments =
            ["query", rule, "-", "--from", "jsonl", "--to", "jsonl", "--threads", threads];
        let mut piped = Piped::run(&arguments);
        for id in 0..3000 {
            piped.write(&format!("{{\"id\":{id}}}\n"));
        }
        assert_eq!((piped.line(), piped.line()), ("2001".into(), "2002".into()));
        assert_eq!(piped.status(), 0);
    }
}
