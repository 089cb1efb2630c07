//! `kyanite browse`, through a pseudo-terminal and an emulator that reads the screen.
#![cfg(unix)]
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use std::io::{Read, Write};
use std::num::NonZeroU16;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use support::{Folder, run};

/// How long a screen may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// A program in a terminal.
struct InTerminal {
    screen: vt100::Parser,
    keys: Box<dyn Write + Send>,
    output: Receiver<Vec<u8>>,
    master: Box<dyn MasterPty + Send>,
    child: Box<dyn Child + Send + Sync>,
    /// All that the program wrote.
    raw: Vec<u8>,
}

fn sized(size: u16) -> NonZeroU16 {
    NonZeroU16::new(size).unwrap()
}

impl InTerminal {
    /// Starts a shell command in a terminal of some size.
    fn start(folder: &Folder, line: &str, (rows, cols): (u16, u16)) -> Self {
        let size = PtySize { rows, cols, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).unwrap();
        let mut command = CommandBuilder::new("sh");
        command.args(["-c", &line.replace("kyanite", env!("CARGO_BIN_EXE_kyanite"))]);
        command.cwd(folder.path());
        command.env("TERM", "xterm-256color");
        command.env("XDG_STATE_HOME", folder.path().join("state"));
        let child = pair.slave.spawn_command(command).unwrap();
        drop(pair.slave);
        let (mut reader, keys) =
            (pair.master.try_clone_reader().unwrap(), pair.master.take_writer().unwrap());
        let (sender, output) = channel();
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(read @ 1..) = reader.read(&mut bytes) {
                if sender.send(bytes[..read].to_vec()).is_err() {
                    break;
                }
            }
        });
        let screen = vt100::Parser::new(sized(rows), sized(cols), 0);
        Self { screen, keys, output, master: pair.master, child, raw: Vec::new() }
    }

    /// Types keys.
    fn keys(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
        self.keys.flush().unwrap();
    }

    fn take(&mut self, wait: Duration) -> bool {
        let Ok(bytes) = self.output.recv_timeout(wait) else { return false };
        self.screen.process(&bytes);
        self.raw.extend(bytes);
        true
    }

    fn text(&self) -> String {
        self.screen.screen().contents()
    }

    /// Waits until the screen holds a text.
    fn shows(&mut self, expected: &str) {
        let end = Instant::now() + PATIENCE;
        while !self.text().contains(expected) {
            assert!(Instant::now() < end, "{expected:?} is not on the screen:\n{}", self.text());
            self.take(Duration::from_millis(100));
        }
    }

    /// Types keys, and waits for a text.
    fn after(&mut self, keys: &str, expected: &str) {
        self.keys(keys);
        self.shows(expected);
    }

    /// Waits for the end; gives the exit status and what is on the screen then.
    fn end(mut self) -> (u32, String, Vec<u8>) {
        let end = Instant::now() + PATIENCE;
        let status = loop {
            while self.take(Duration::from_millis(50)) {}
            if let Some(status) = self.child.try_wait().unwrap() {
                break status;
            }
            assert!(Instant::now() < end, "it does not end:\n{}", self.text());
        };
        while self.take(Duration::from_millis(50)) {}
        (status.exit_code(), self.text(), self.raw)
    }
}

const DOWN: &str = "\x1b[B";
const RIGHT: &str = "\x1b[C";
const LEFT: &str = "\x1b[D";
const ESCAPE: &str = "\x1b";

#[test]
fn a_walk_through_a_document() {
    let folder = Folder::with_demo();
    let mut terminal =
        InTerminal::start(&folder, "kyanite browse timetable.json manifest.xml", (24, 100));
    terminal.shows("▾ document  3 members");
    terminal.shows("▸ routes  4 items");
    terminal.after(DOWN, "$.page");
    terminal.after(&DOWN.repeat(2), "$.routes");
    terminal.after(RIGHT, "▸ [0]  3 members");
    terminal.after(&format!("{DOWN}{RIGHT}{DOWN}"), "name  \"Ness - Skarvik\"");
    terminal.shows("$.routes[0].id");
    terminal.after(LEFT, "$.routes[0]");
    terminal.after("9", "minutes  35");
    terminal.after("1", "5 of");
    // What is searched has its number, and is gone to.
    terminal.after("sStorm", "search: Storm   5 found");
    terminal.after("\r", "hit 1 of 5");
    terminal.shows(".vessel");
    terminal.after("n", "hit 2 of 5");
    terminal.after("b", "hit 1 of 5");
    // The next document, with XPaths.
    terminal.after("\t", "m:manifest  2 elements");
    terminal.after(DOWN, "/m:manifest[1]");
    terminal.after("e", "select: /");
    terminal.after("/m:vehicle[m:weight>1000]", "2 selected");
    terminal.after("\r", "/m:manifest[1]/v:vessel[1]/v:deck[1]/m:vehicle[1]");
    // A key leaves with the path.
    terminal.keys("x");
    let (status, text, _) = terminal.end();
    assert_eq!((status, text.trim()), (0, "/m:manifest[1]/v:vessel[1]/v:deck[1]/m:vehicle[1]"));
}

#[test]
fn a_path_as_it_is_typed() {
    let folder = Folder::with_demo();
    let mut terminal = InTerminal::start(&folder, "kyanite browse timetable.json", (24, 100));
    terminal.shows("document");
    terminal.after("e", "select: $");
    terminal.after(".rou", "routes");
    // Tab takes what can follow.
    terminal.after("\t[*].sailings[*]", "30 selected");
    terminal.shows("$.routes[0].sailings[0]");
    terminal.after(".vesel", "no `vesel` under $.routes[*].sailings[*]");
    terminal.after("\x7f\x7f\x7f", "vessel");
    terminal.after("\t", "\"Arctic Skua\"");
    terminal.after(DOWN, "$.routes[0].sailings[1].vessel");
    terminal.after("\r", "$.routes[0].sailings[1].vessel");
    terminal.after("p", "copied the path");
    terminal.keys("q");
    let (status, text, raw) = terminal.end();
    assert_eq!((status, text.trim()), (0, ""));
    // The path went to the clipboard, and the terminal is as it was.
    let raw = String::from_utf8_lossy(&raw).into_owned();
    assert!(raw.contains("\x1b]52;c;JC5yb3V0ZXNbMF0uc2FpbGluZ3NbMV0udmVzc2Vs\x07"), "{raw:?}");
    assert!(raw.contains("\x1b[?1049l") && raw.contains("\x1b[?25h"));
    // What was typed comes back the next day.
    let mut terminal = InTerminal::start(&folder, "kyanite browse timetable.json", (24, 100));
    terminal.shows("document");
    terminal.keys("e");
    terminal.after("\x1b[1;2A", "select: $.routes[*].sailings[*].vessel");
    terminal.keys("\x03");
    assert_eq!(terminal.end().0, 0);
}

#[test]
fn pipes_sizes_and_values() {
    let folder = Folder::with_demo();
    // Keys come from the terminal where the document comes from a pipe, and the path goes to one.
    let line = "cat timetable.json | kyanite browse - --from json > path.txt; cat path.txt";
    let mut terminal = InTerminal::start(&folder, line, (12, 40));
    terminal.shows("routes");
    terminal.after(&DOWN.repeat(3), "$.routes");
    let size = PtySize { rows: 30, cols: 60, pixel_width: 0, pixel_height: 0 };
    terminal.master.resize(size).unwrap();
    terminal.screen.screen_mut().set_size(sized(30), sized(60));
    terminal.after("h", "leave, and print the path of the line");
    terminal.after(ESCAPE, "▸ routes");
    terminal.after("w", "\"sailings\": [");
    terminal.after(ESCAPE, "▸ routes");
    terminal.keys("x");
    let (status, text, _) = terminal.end();
    assert_eq!((status, text.trim()), (0, "$.routes"));
    // Without a terminal it says so.
    let ran = run(&folder, "browse missing.json", "");
    assert_eq!(
        ran.status,
        if std::fs::File::open("/dev/tty").is_ok() { 3 } else { 2 },
        "{}",
        ran.err
    );
    // A document that cannot be read leaves the terminal alone.
    let terminal = InTerminal::start(&folder, "kyanite browse pier-feed.xml", (24, 100));
    let (status, text, raw) = terminal.end();
    assert!(status == 3 && text.contains("pier-feed.xml:1:35"), "{status} {text}");
    assert!(!String::from_utf8_lossy(&raw).contains("\x1b[?1049h"));
}

/// Names have the colour for the ground that is told, and none where none is wanted.
#[test]
fn colours_for_light_and_dark_ground() {
    let folder = Folder::with_demo();
    for (line, colour) in [
        ("kyanite browse timetable.json --background dark", Some("\x1b[38;5;13;")),
        ("COLORFGBG='0;15' kyanite browse timetable.json", Some("\x1b[38;5;5;")),
        ("NO_COLOR=1 kyanite browse timetable.json --background dark", None),
    ] {
        let mut terminal = InTerminal::start(&folder, line, (24, 100));
        terminal.shows("routes");
        terminal.keys("q");
        let (_, _, raw) = terminal.end();
        let raw = String::from_utf8_lossy(&raw).into_owned();
        match colour {
            Some(colour) => assert!(raw.contains(colour), "{line}: {raw:?}"),
            None => assert!(!raw.contains("\x1b[38;5;"), "{line}: {raw:?}"),
        }
    }
}

/// A file that grows is read again on request, and followed.
#[test]
fn a_file_that_grows() {
    let folder = Folder::with_demo();
    folder.file("log.jsonl", "{\"no\": 1}\n{\"no\": 2}\n");
    let mut terminal = InTerminal::start(&folder, "kyanite browse log.jsonl", (24, 80));
    terminal.shows("2 items");
    terminal.after(&DOWN.repeat(2), "$[1]");
    folder.file("log.jsonl", "{\"no\": 1}\n{\"no\": 2}\n{\"no\": 3}\n");
    terminal.after("r", "3 items");
    terminal.shows("$[1] ");
    terminal.after("f", "follows its files");
    folder.file("log.jsonl", "{\"no\": 1}\n{\"no\": 2}\n{\"no\": 3}\n{\"no\": 4}\n");
    terminal.shows("4 items");
    terminal.shows("$[3] ");
    // Half of a line is waited for, and said.
    folder.file("log.jsonl", "{\"no\": 1}\n{\"no\":");
    terminal.shows("log.jsonl:2:7");
    terminal.shows("read again when it changes");
    folder.file("log.jsonl", "{\"no\": 1}\n{\"no\": 5}\n");
    terminal.shows("2 items");
    terminal.shows("$[1] ");
    terminal.keys("q");
    assert_eq!(terminal.end().0, 0);
}

/// What comes down a pipe is looked at while it comes: the tree grows, keys are answered, and it is searched.
#[test]
fn while_more_is_to_come() {
    let folder = Folder::with_demo();
    let line = "(cat bookings.jsonl; sleep 3; cat bookings.jsonl) | kyanite browse - --from jsonl";
    let records = folder.read("bookings.jsonl").lines().count();
    let mut terminal = InTerminal::start(&folder, line, (24, 100));
    terminal.shows("so far");
    terminal.shows("▾ 0 … 999");
    terminal.after(&DOWN.repeat(2), "$[0]");
    terminal.after(RIGHT, "id  \"TB-100001\"");
    terminal.after("e", "select: $");
    terminal.after("[?@.id == \"TB-100002\"].vessel", "the input is still coming in");
    terminal.after(ESCAPE, &format!("{} items", records * 2));
    // The line is still the same one, and what is typed goes through all of it.
    terminal.shows("$[0]");
    terminal.after("e", "select: $");
    terminal.after("[?@.id == \"TB-100002\"].vessel", "2 selected");
    terminal.shows(&format!("$[{}].vessel", records + 1));
    terminal.after(&format!("{DOWN}\r"), "hit 2 of 2");
    terminal.shows(&format!("$[{}].vessel", records + 1));
    terminal.after("sTB-100003", "2 found");
    terminal.after("\r", "hit 1 of 2");
    terminal.shows("$[2].id");
    terminal.after("n", &format!("$[{}].id", records + 2));
    // What would need all of it at once is refused.
    terminal.after("e", "select: $");
    terminal.after(".vessel", "too large to be held");
    terminal.keys("\x03");
    assert_eq!(terminal.end().0, 0);
}

/// Who leaves while more is still to come leaves no file behind.
#[test]
fn what_came_goes_with_the_program() {
    let folder = Folder::with_demo();
    let line = "mkdir t; (cat bookings.jsonl; sleep 3) | TMPDIR=t kyanite browse - --from jsonl; ls -A t | wc -l";
    let mut terminal = InTerminal::start(&folder, line, (24, 100));
    terminal.shows("so far");
    terminal.keys("q");
    let (status, text, _) = terminal.end();
    assert_eq!((status, text.trim()), (0, "0"));
}

/// A file that is too large to be held opens at once, and is gone through by its bytes.
#[test]
fn a_file_that_is_not_held() {
    let folder = Folder::with_demo();
    let item =
        |name: &str| format!("{{\"no\":1,\"text\":\"{}\",\"{name}\":true}}", "x".repeat(1 << 20));
    let items: Vec<String> = (0..70).map(|_| item("usual")).chain([item("Needle")]).collect();
    folder.file("large.json", format!("{{\"items\":[{}],\"end\":null}}", items.join(",")));
    let mut terminal = InTerminal::start(&folder, "kyanite browse large.json", (24, 100));
    terminal.shows("▸ items  list");
    terminal.shows("end  null");
    terminal.after(&format!("{DOWN}{RIGHT}"), "▾ items  71 items");
    terminal.after("sneedle", "1 found");
    terminal.after("\r", "$.items[70].Needle");
    terminal.after("e", "select: $");
    // A search in the background finds what can follow, and tab takes it.
    terminal.after(".it", "items");
    terminal.after("\t[*].", "usual");
    terminal.after("us\t", "70 selected");
    terminal.keys("\x03");
    assert_eq!(terminal.end().0, 0);
    let elements: Vec<String> =
        (0..70).map(|no| format!("<v:item no='{no}'>{}</v:item>", "x".repeat(1 << 20))).collect();
    let text = format!("<?xml version='1.0'?>\n<v:all xmlns:v='u'>{}</v:all>", elements.concat());
    folder.file("large.xml", text);
    let mut terminal = InTerminal::start(&folder, "kyanite browse large.xml", (24, 100));
    terminal.shows("▸ v:all");
    terminal.after(&format!("{DOWN}{RIGHT}"), "▾ v:all  71 nodes");
    terminal.after(&DOWN.repeat(3), "/v:all[1]/v:item[2]");
    terminal.after("e", "select: /");
    terminal.after("v:all/v:item[@no > 67]/@no", "2 selected");
    terminal.after("\r", "/v:all[1]/v:item[69]/@no");
    terminal.keys("x");
    let (status, text, _) = terminal.end();
    assert_eq!((status, text.trim()), (0, "/v:all[1]/v:item[69]/@no"));
}
