//! What keys and the mouse do.

use crossterm::event::{
    Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};

use super::line::InputLine;
use super::tab::{Document, OPENED, Tab};
use super::{App, Leave, Mode};

/// The lines above the tree.
pub const ABOVE: u16 = 1;

/// What keys there are, for the help.
pub const KEYS: [(&str, &str); 21] = [
    ("↑ ↓", "the line above, the line below"),
    ("page up, page down", "a screen up or down"),
    ("home, end", "the first line, the last"),
    ("→ or enter", "open the line"),
    ("←", "close the line, or go to the one it stands in"),
    ("1 … 9", "open all to that level"),
    ("o, c", "open or close all below the line"),
    ("s", "search in names and values"),
    ("n, b", "the next hit, the one before"),
    ("e", "type a path, a rule or an XPath, and see what it selects"),
    ("tab, while typing", "take what can follow"),
    ("↑ ↓, while typing", "walk through what is selected; with shift, what was typed before"),
    ("w", "the whole value of the line"),
    ("p, v, m", "copy the path, the value, the name of the line"),
    ("x", "leave, and print the path of the line"),
    ("r, f", "read the files again; follow them as they grow"),
    ("tab, shift-tab", "the next document, the one before"),
    ("F1 or h", "this help"),
    ("escape", "back to the tree"),
    ("q or ctrl-c", "leave"),
    ("mouse", "click to choose and open, wheel to walk"),
];

/// Whether keys end it in every mode.
fn is_interrupt(key: KeyEvent) -> bool {
    key.modifiers.contains(KeyModifiers::CONTROL) && matches!(key.code, KeyCode::Char('c' | 'd'))
}

/// Whether keys end it where nothing is to be walked through.
pub fn is_leaving(event: &Event) -> bool {
    let Event::Key(key) = event else { return false };
    is_interrupt(*key) || matches!(key.code, KeyCode::Char('q') | KeyCode::Esc)
}

/// A name that is typed behind a path, as far as it is there.
struct Word<'l> {
    path: &'l str,
    part: &'l str,
    /// Where in the line it begins.
    begin: usize,
}

impl App<'_> {
    pub(super) fn event(&mut self, event: &Event) {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.key(*key),
            Event::Mouse(mouse) => self.mouse(*mouse),
            _ => {}
        }
    }

    fn key(&mut self, key: KeyEvent) {
        if is_interrupt(key) {
            self.leaving = Some(Leave::Quietly);
            return;
        }
        self.told = None;
        match self.mode {
            Mode::Walk => self.walk(key),
            Mode::Search | Mode::Select => self.typing(key),
            Mode::Whole => self.whole(key),
            Mode::Help => self.mode = Mode::Walk,
        }
    }

    fn page(&self) -> isize {
        crossterm::terminal::size()
            .map_or(10, |(_, height)| height.saturating_sub(5).max(1) as isize)
    }

    fn walk(&mut self, key: KeyEvent) {
        let page = self.page();
        let tab = &mut self.tabs[self.current];
        match key.code {
            KeyCode::Up => tab.walk(-1),
            KeyCode::Down => tab.walk(1),
            KeyCode::PageUp => tab.walk(-page),
            KeyCode::PageDown => tab.walk(page),
            KeyCode::Home => tab.at = 0,
            KeyCode::End => tab.at = tab.tree.len().saturating_sub(1),
            KeyCode::Enter | KeyCode::Char(' ') => drop(tab.tree.toggle(tab.at)),
            KeyCode::Right => {
                let is_open = tab.tree.line(tab.at).and_then(|line| line.is_open);
                match is_open {
                    Some(false) => drop(tab.tree.toggle(tab.at)),
                    Some(true) => tab.walk(1),
                    None => {}
                }
            }
            KeyCode::Left => {
                let is_open = tab.tree.line(tab.at).and_then(|line| line.is_open);
                if is_open == Some(true) && tab.at > 0 {
                    tab.tree.toggle(tab.at);
                } else {
                    tab.at = tab.tree.parent(tab.at);
                }
            }
            KeyCode::Char(level @ '1'..='9') => self.level(level),
            KeyCode::Char('o') => {
                let is_all = tab.tree.open_to(tab.at, usize::MAX, OPENED);
                self.tell_of_opened(is_all);
            }
            KeyCode::Char('c') => drop(tab.tree.open_to(tab.at, 0, OPENED)),
            KeyCode::Char('s') => self.type_line(Mode::Search, ""),
            KeyCode::Char('e') => {
                self.type_line(Mode::Select, if self.is_xml() { "/" } else { "$" })
            }
            KeyCode::Char('n') => self.next_hit(false),
            KeyCode::Char('b') => self.next_hit(true),
            KeyCode::Char('w') => (self.mode, tab.scrolled) = (Mode::Whole, 0),
            KeyCode::Char('p') => {
                let path = tab.tree.path(tab.at);
                self.copy("path", path);
            }
            KeyCode::Char('v') => {
                let value = self.tab().tree.whole(self.tab().at);
                self.copy("value", value);
            }
            KeyCode::Char('m') => {
                let name = tab.tree.line(tab.at).map(|line| line.name).unwrap_or_default();
                self.copy("name", name);
            }
            KeyCode::Char('x') => self.leaving = Some(Leave::WithPath(tab.tree.path(tab.at))),
            KeyCode::Char('r' | 'f') if !self.tabs.iter().all(Tab::is_file) => {
                self.told = Some("what does not come from files is not read again".into());
            }
            KeyCode::Char('r') => self.leaving = Some(Leave::Again),
            KeyCode::Char('f') => {
                self.follows = !self.follows;
                let follows = if self.follows { "follows its files" } else { "follows no more" };
                self.told = Some(follows.into());
            }
            KeyCode::Char('q') => self.leaving = Some(Leave::Quietly),
            KeyCode::Tab => self.current = (self.current + 1) % self.tabs.len(),
            KeyCode::BackTab => {
                self.current = (self.current + self.tabs.len() - 1) % self.tabs.len()
            }
            KeyCode::F(1) | KeyCode::Char('h' | '?') => self.mode = Mode::Help,
            _ => {}
        }
    }

    fn is_xml(&self) -> bool {
        self.tab().document.format() == kyanite_formats::Format::Xml
    }

    /// Opens all to a level, and stays at the current line as far as it is seen still.
    fn level(&mut self, level: char) {
        let depth = level.to_digit(10).unwrap_or(1) as usize;
        let tab = self.tab_mut();
        let is_all = tab.tree.open_to(0, depth, OPENED);
        tab.at = tab.at.min(tab.tree.len().saturating_sub(1));
        self.tell_of_opened(is_all);
    }

    fn tell_of_opened(&mut self, is_all: bool) {
        if !is_all {
            self.told = Some("not all lines were opened: there are too many".to_owned());
        }
    }

    fn type_line(&mut self, mode: Mode, begin: &str) {
        (self.mode, self.line) = (mode, InputLine::with(begin));
        self.look();
    }

    fn next_hit(&mut self, is_back: bool) {
        if !self.tab_mut().next_hit(is_back) {
            self.told = Some("nothing was searched for, or found".into());
        }
    }

    fn copy(&mut self, what: &str, text: String) {
        self.told = Some(format!("copied the {what}"));
        self.copied = Some(text);
    }

    fn typing(&mut self, key: KeyEvent) {
        let is_shifted = key.modifiers.contains(KeyModifiers::SHIFT);
        let is_control = key.modifiers.contains(KeyModifiers::CONTROL);
        match key.code {
            KeyCode::Esc => {
                self.mode = Mode::Walk;
                return;
            }
            KeyCode::Enter => return self.typed(),
            KeyCode::Up | KeyCode::Down if self.mode == Mode::Search || is_shifted => {
                let history = std::mem::take(&mut self.history);
                self.line.recall(&history, key.code == KeyCode::Up);
                self.history = history;
            }
            KeyCode::Up => {
                let tab = self.tab_mut();
                tab.chosen = tab.chosen.saturating_sub(1);
                return;
            }
            KeyCode::Down => {
                let tab = self.tab_mut();
                tab.chosen = (tab.chosen + 1).min(tab.selected.found.len().saturating_sub(1));
                return;
            }
            KeyCode::Tab if self.mode == Mode::Select => {
                let (from, names) = self.candidates();
                if let Some(first) = names.first() {
                    self.line.complete(from, first);
                }
            }
            KeyCode::Left => return self.line.left(),
            KeyCode::Right => return self.line.right(),
            KeyCode::Home => return self.line.at = 0,
            KeyCode::End => return self.line.at = self.line.text.len(),
            KeyCode::Backspace => self.line.remove_before(),
            KeyCode::Delete => self.line.remove_behind(),
            KeyCode::Char('u') if is_control => self.line.clear_before(),
            KeyCode::Char(character) if !is_control => self.line.insert(character),
            _ => return,
        }
        self.look();
    }

    /// The first names are there that can follow the path that is typed.
    pub(super) fn names_came(&mut self) {
        if self.mode == Mode::Select {
            self.look();
        }
    }

    /// Searches for what is typed, or selects it.
    fn look(&mut self) {
        let text = self.line.text.clone();
        match self.mode {
            Mode::Search => self.tab_mut().search(&text),
            Mode::Select => {
                if let Some(Word { path, .. }) = self.word() {
                    let path = path.to_owned();
                    self.tab_mut().look_behind(&path);
                }
                self.tab_mut().select(&text);
                // While a name is typed, what it can follow is shown.
                if let Some(before) = self.shown_before() {
                    self.tab_mut().select(&before);
                }
            }
            _ => {}
        }
    }

    /// Goes to what was typed.
    fn typed(&mut self) {
        let text = self.line.text.clone();
        self.history.add(&text);
        let is_there = match self.mode {
            Mode::Search => self.tab_mut().next_hit(false),
            _ => self.tab_mut().take_selected(),
        };
        if is_there {
            self.mode = Mode::Walk;
        } else if self.mode == Mode::Search {
            self.told = Some("nothing is found".into());
        }
    }

    /// What can follow at the cursor, and where the word begins that it takes the place of.
    pub(super) fn candidates(&self) -> (usize, Vec<String>) {
        let Some(Word { path, part, begin }) = self.word() else {
            return (self.line.at, Vec::new());
        };
        let lower = part.to_lowercase();
        let fits = |name: &String| name.to_lowercase().starts_with(&lower) && name != part;
        let plain =
            |name: &String| kyanite_tree::is_shorthand(name.strip_prefix('@').unwrap_or(name));
        let names = self.tab().names_behind(path).into_iter();
        (begin, names.filter(|name| fits(name) && plain(name)).collect())
    }

    /// The path before the name that is typed, as long as that is only a part of one. What a large document has is known later, so that
    /// only names tell.
    fn shown_before(&self) -> Option<String> {
        let Word { path, part, begin } = self.word()?;
        let is_part = match &self.tab().document {
            Document::Held(_) => {
                self.tab().selected.found.is_empty() && !self.candidates().1.is_empty()
            }
            Document::Large(_) => {
                let is_whole = || self.tab().names_behind(path).iter().any(|name| name == part);
                part.is_empty() || !is_whole() && !self.candidates().1.is_empty()
            }
        };
        is_part.then(|| self.line.text[..begin - 1].trim_end_matches('.').to_owned())
    }

    /// The name that is typed at the cursor.
    fn word(&self) -> Option<Word<'_>> {
        let before = &self.line.text[..self.line.at];
        if before.trim_start().starts_with('/') {
            return None;
        }
        let dot = before.rfind('.')?;
        let (path, part) = (before[..dot].trim_end_matches('.'), &before[dot + 1..]);
        let is_word = part.chars().all(|sign| sign.is_alphanumeric() || matches!(sign, '_' | '@'));
        // The path is the last word with a $ in front.
        let path = &path[path.rfind('$').unwrap_or(0)..];
        is_word.then_some(Word { path, part, begin: dot + 1 })
    }

    fn whole(&mut self, key: KeyEvent) {
        let page = self.page().unsigned_abs();
        let tab = self.tab_mut();
        match key.code {
            KeyCode::Up => tab.scrolled = tab.scrolled.saturating_sub(1),
            KeyCode::Down => tab.scrolled += 1,
            KeyCode::PageUp => tab.scrolled = tab.scrolled.saturating_sub(page),
            KeyCode::PageDown => tab.scrolled += page,
            KeyCode::Char('v') => {
                let value = self.tab().tree.whole(self.tab().at);
                self.copy("value", value);
            }
            _ => self.mode = Mode::Walk,
        }
    }

    fn mouse(&mut self, mouse: MouseEvent) {
        let is_walking = self.mode == Mode::Walk;
        let tab = self.tab_mut();
        match mouse.kind {
            MouseEventKind::ScrollUp if is_walking => tab.walk(-3),
            MouseEventKind::ScrollDown if is_walking => tab.walk(3),
            MouseEventKind::Down(MouseButton::Left) if is_walking && mouse.row >= ABOVE => {
                let line = tab.top + usize::from(mouse.row - ABOVE);
                if line < tab.tree.len() {
                    let was_there = tab.at == line;
                    tab.at = line;
                    if was_there {
                        tab.tree.toggle(line);
                    }
                }
            }
            _ => {}
        }
    }
}
