//! What was typed before, kept from one day to the next.

use std::fs;
use std::path::PathBuf;

/// How many lines are kept.
const KEPT: usize = 500;

/// Lines that were typed, the newest last.
#[derive(Debug, Default)]
pub struct History {
    lines: Vec<String>,
    file: Option<PathBuf>,
    has_news: bool,
}

impl History {
    /// The history in the state folder (XDG Base Directory Specification); None where there is no such folder.
    pub fn load() -> Self {
        let folder =
            std::env::var_os("XDG_STATE_HOME").filter(|path| !path.is_empty()).map(PathBuf::from);
        let home = || std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/state"));
        let file = folder.or_else(home).map(|folder| folder.join("kyanite/browse-history"));
        let text = file.as_ref().and_then(|file| fs::read_to_string(file).ok()).unwrap_or_default();
        Self { lines: text.lines().map(str::to_owned).collect(), file, has_news: false }
    }

    /// Notes a line, as the newest.
    pub fn add(&mut self, line: &str) {
        if line.trim().is_empty() || line.contains('\n') {
            return;
        }
        self.lines.retain(|known| known != line);
        self.lines.push(line.to_owned());
        let surplus = self.lines.len().saturating_sub(KEPT);
        self.lines.drain(..surplus);
        self.has_news = true;
    }

    /// The line `count` steps back; 1 is the newest.
    pub fn back(&self, count: usize) -> Option<&str> {
        self.lines.len().checked_sub(count).and_then(|at| self.lines.get(at)).map(String::as_str)
    }

    /// Keeps it. Where that does not work it is gone with the program.
    pub fn save(&self) {
        if let Some(file) = self.file.as_ref().filter(|_| self.has_news) {
            let _ = file.parent().map(fs::create_dir_all);
            let _ = fs::write(file, self.lines.join("\n") + "\n");
        }
    }
}
