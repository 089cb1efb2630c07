//! `kyanite reshape --watch`: the rule runs again whenever it, an input or a source changes.
//!
//! On a terminal the screen shows the result of the last good run, and under it what the last run said. Elsewhere each good
//! result goes to standard output, one behind the other.

use std::fs;
use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::thread::sleep;
use std::time::{Duration, SystemTime};

use console::Term;
use kyanite_flow::Captured;
use kyanite_tree::{Code, Diagnostic};

use crate::arguments::{MessageOptions, Reshape};
use crate::messages::Messages;
use crate::run::{self, files_of};
use crate::status::Status;

/// How often files are looked at.
const PAUSE: Duration = Duration::from_millis(150);

/// When a file was changed last, and how long it is; nothing while it is not there.
type Stamp = Option<(SystemTime, u64)>;

fn stamps(files: &[PathBuf]) -> Vec<Stamp> {
    let stamp = |file: &PathBuf| {
        let about = fs::metadata(file).ok()?;
        Some((about.modified().ok()?, about.len()))
    };
    files.iter().map(stamp).collect()
}

/// Runs the rule, and again after each change, until nobody reads the results any more.
pub fn watch(reshape: &Reshape, options: &MessageOptions, messages: &mut Messages) -> Status {
    let inputs = &reshape.input.inputs;
    if inputs.iter().any(|word| word == "-") || reshape.rule == Path::new("-") {
        let problem = Diagnostic::error(
            Code::CommandLine,
            "--watch reads its inputs again and again, and a pipe only once",
        );
        messages.show(&problem.advise("name files, or leave --watch out"));
        return Status::Command;
    }
    let screen = io::stdout().is_terminal().then(Term::stdout);
    let mut good: Option<(u64, Vec<u8>)> = None;
    for run in 1_u64.. {
        let files = files_of(reshape, options);
        let before = stamps(&files);
        let captured = Captured::default();
        messages.hold();
        let status = run::reshape(reshape, options, messages, Some(captured.clone()));
        let said = messages.release();
        let is_good = matches!(status, Status::Done | Status::No);
        if is_good {
            good = Some((run, captured.take()));
        }
        let shown = match &screen {
            Some(term) => draw(term, good.as_ref(), run, reshape.output.output.as_deref(), &said),
            None => {
                let result = good.as_ref().filter(|_| is_good).map_or(&[][..], |(_, text)| text);
                pass_on(result, &said)
            }
        };
        // Whoever closed the pipe has seen enough.
        if shown.is_err() {
            return Status::Done;
        }
        while stamps(&files) == before {
            sleep(PAUSE);
        }
        // An editor may still be at it.
        sleep(PAUSE / 5);
    }
    Status::Done
}

fn pass_on(result: &[u8], said: &str) -> io::Result<()> {
    let mut out = io::stdout().lock();
    out.write_all(result)?;
    out.flush()?;
    io::stderr().lock().write_all(said.as_bytes())
}

/// Draws the screen: as much of the last good result as there is room for, which run it is of, and what was said.
fn draw(
    term: &Term,
    good: Option<&(u64, Vec<u8>)>,
    run: u64,
    file: Option<&Path>,
    said: &str,
) -> io::Result<()> {
    let (rows, columns) = term.size();
    let (rows, columns) = (usize::from(rows), usize::from(columns).max(20));
    let room = rows.saturating_sub(said.lines().count() + 2).max(3);
    let text = good.map(|(_, text)| String::from_utf8_lossy(text)).unwrap_or_default();
    let all = text.lines().count();
    let mut screen = String::new();
    for line in text.lines().take(if all > room { room - 1 } else { room }) {
        screen.extend(line.chars().take(columns));
        screen.push('\n');
    }
    if all > room {
        screen.push_str(&format!("… {} more lines\n", all - (room - 1)));
    }
    let of = file.map(|file| format!(", written to {}", file.display())).unwrap_or_default();
    let state = match good {
        Some((of_run, _)) if *of_run == run => format!("run {run}{of}"),
        Some((of_run, _)) => format!("run {run} failed; above is run {of_run}"),
        None => format!("run {run} failed"),
    };
    let rule: String = "─".repeat(columns.saturating_sub(state.chars().count() + 4));
    screen.push_str(&format!("── {state} {rule}\n{said}"));
    term.clear_screen()?;
    term.write_str(&screen)?;
    term.flush()
}
