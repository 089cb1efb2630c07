//! Driving the built program on files in a temporary folder.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

/// The built program.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_kyanite");

/// A folder with the demo files in it, removed at the end.
pub struct Folder(tempfile::TempDir);

/// What a run left behind.
#[derive(Debug)]
pub struct Ran {
    pub out: String,
    pub err: String,
    pub status: i32,
}

impl Folder {
    /// A folder with the files of the demo.
    pub fn with_demo() -> Self {
        let folder = tempfile::tempdir().unwrap();
        for file in kyanite_demo::files() {
            let path = folder.path().join(file.name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, &file.content).unwrap();
        }
        Self(folder)
    }

    pub fn path(&self) -> &Path {
        self.0.path()
    }

    /// Adds a file.
    #[allow(dead_code, reason = "not all test programs add files")]
    pub fn file(&self, name: &str, content: impl AsRef<[u8]>) -> &Self {
        let path = self.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, content).unwrap();
        self
    }

    /// The text of a file.
    #[allow(dead_code, reason = "not all test programs read files")]
    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path().join(name)).unwrap()
    }

    /// Runs the program here with `input` on its standard input.
    pub fn run(&self, arguments: &[&str], input: &[u8]) -> Ran {
        self.run_command(Command::new(PROGRAM).args(arguments), input)
    }

    /// Runs a command here.
    pub fn run_command(&self, command: &mut Command, input: &[u8]) -> Ran {
        let mut child = command
            .current_dir(self.path())
            .env_remove("NO_COLOR")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut stdin = child.stdin.take().unwrap();
        let input = input.to_vec();
        let writer = std::thread::spawn(move || {
            // The program may end before it has read all.
            let _ = stdin.write_all(&input);
        });
        let output = child.wait_with_output().unwrap();
        writer.join().unwrap();
        Ran {
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
            status: output.status.code().unwrap_or(-1),
        }
    }
}

/// Splits a line of arguments at blanks; single quotes hold a word together.
#[allow(dead_code, reason = "not all test programs write lines")]
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let (mut word, mut quoted) = (None::<String>, false);
    for character in line.chars().chain([' ']) {
        match character {
            '\'' => {
                quoted = !quoted;
                word.get_or_insert_default();
            }
            ' ' if !quoted => words.extend(word.take()),
            other => word.get_or_insert_default().push(other),
        }
    }
    words
}

/// Runs the program with the words of a line, and text on its standard input.
#[allow(dead_code, reason = "not all test programs write lines")]
pub fn run(folder: &Folder, line: &str, input: &str) -> Ran {
    let words = words(line);
    folder.run(&words.iter().map(String::as_str).collect::<Vec<_>>(), input.as_bytes())
}

/// Asserts how the program ends for a line, and that it says something, as its result or beside it.
#[allow(dead_code, reason = "not all test programs look at both")]
pub fn assert_says(folder: &Folder, line: &str, status: i32, expected: &str) {
    let ran = run(folder, line, "");
    assert_eq!(ran.status, status, "{line}: {}{}", ran.out, ran.err);
    let is_said = ran.out.contains(expected) || ran.err.contains(expected);
    assert!(is_said, "{line}: {}{}", ran.out, ran.err);
}

/// What a page that lies in the folder is in a browser, once its scripts ran; nothing where there is no browser.
#[allow(dead_code, reason = "not all test programs look at pages")]
pub fn dom_of(folder: &Folder, page: &str) -> Option<String> {
    let browser = Command::new("chromium")
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking"])
        .args(["--no-first-run", "--virtual-time-budget=4000", "--dump-dom"])
        .arg(format!("--user-data-dir={}", folder.path().join("profile").display()))
        .arg(format!("file://{}", folder.path().join(page).display()))
        .output();
    Some(String::from_utf8_lossy(&browser.ok()?.stdout).into_owned())
}
