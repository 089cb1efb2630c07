//! A document on the screen: its tree, where one is in it, and what was found.

use std::path::{Path, PathBuf};
use std::time::SystemTime;

use kyanite_browse::{Tree, written};
use kyanite_flow::{HeldDocument, Input, Selected};
use kyanite_tree::Step;

/// The most places that are kept of a search or an expression.
pub const FOUND: usize = 10_000;

/// The most lines that are opened at once.
pub const OPENED: usize = 200_000;

/// A document.
pub struct Tab<'a> {
    pub document: HeldDocument<'a>,
    pub tree: Tree<'a>,
    /// The current line, and the first on the screen.
    pub at: usize,
    pub top: usize,
    /// What was searched for, or selected.
    pub hits: Hits<'a>,
    /// What the expression that is typed selects.
    pub selected: Selected<'a>,
    /// The current one of these.
    pub chosen: usize,
    /// How far the whole value is scrolled.
    pub scrolled: usize,
    /// The file that it was read from, as it was just before.
    file: Option<Watched>,
}

/// A file, and its length and time of writing when it was last looked at.
#[derive(Clone)]
pub struct Watched {
    path: PathBuf,
    state: Option<(u64, Option<SystemTime>)>,
}

impl Watched {
    /// The file that an input is, as it is now; nothing if it is none.
    pub fn of(input: &Input) -> Option<Self> {
        let Input::File(path) = input else { return None };
        Some(Self { path: path.clone(), state: state_of(path) })
    }

    /// Whether it has changed since.
    pub fn has_changed(&self) -> bool {
        state_of(&self.path) != self.state
    }
}

fn state_of(path: &Path) -> Option<(u64, Option<SystemTime>)> {
    let about = std::fs::metadata(path).ok()?;
    Some((about.len(), about.modified().ok()))
}

/// Places to go through.
#[derive(Default)]
pub struct Hits<'a> {
    pub places: Vec<Vec<Step<'a>>>,
    pub count: usize,
    /// The one that was gone to last.
    pub at: Option<usize>,
}

impl<'a> Tab<'a> {
    pub fn new(document: HeldDocument<'a>, file: Option<Watched>) -> Self {
        let tree = Tree::new(document.root);
        let (hits, selected) = (Hits::default(), Selected::default());
        Self { document, tree, at: 0, top: 0, hits, selected, chosen: 0, scrolled: 0, file }
    }

    /// Whether the file has changed since it was read.
    pub fn has_changed(&self) -> bool {
        self.file.as_ref().is_some_and(Watched::has_changed)
    }

    /// Whether there is a file that can be read again.
    pub fn is_file(&self) -> bool {
        self.file.is_some()
    }

    /// Goes up or down some lines.
    pub fn walk(&mut self, by: isize) {
        self.at = self.at.saturating_add_signed(by).min(self.tree.len().saturating_sub(1));
    }

    /// Keeps the current line on a screen of so many lines.
    pub fn scroll(&mut self, height: usize) {
        self.top = self.top.min(self.at);
        if self.at >= self.top + height.max(1) {
            self.top = self.at + 1 - height.max(1);
        }
    }

    /// Searches names and values.
    pub fn search(&mut self, text: &str) {
        let (places, count) =
            if text.is_empty() { (Vec::new(), 0) } else { self.tree.search(text, FOUND) };
        self.hits = Hits { places, count, at: None };
    }

    /// Goes to the next hit, or the one before; tells whether there is one.
    pub fn next_hit(&mut self, is_back: bool) -> bool {
        let count = self.hits.places.len();
        if count == 0 {
            return false;
        }
        let next = match (self.hits.at, is_back) {
            (None, false) => 0,
            (None, true) => count - 1,
            (Some(at), false) => (at + 1) % count,
            (Some(at), true) => (at + count - 1) % count,
        };
        self.hits.at = Some(next);
        let steps = self.hits.places[next].clone();
        if let Some(line) = self.tree.show(&steps) {
            self.at = line;
        }
        true
    }

    /// Works out what an expression selects.
    pub fn select(&mut self, expression: &str) {
        self.chosen = 0;
        self.selected = match expression.trim().is_empty() {
            true => Selected::default(),
            false => self.document.select(expression, FOUND),
        };
    }

    /// Goes to the chosen one of what is selected, and takes all for hits.
    pub fn take_selected(&mut self) -> bool {
        let places = self.selected.found.iter().filter_map(|(place, _)| place.as_ref());
        let places: Vec<Vec<Step<'a>>> = places.map(|place| place.steps().to_vec()).collect();
        if places.is_empty() {
            return false;
        }
        let chosen = self.chosen.min(places.len() - 1);
        self.hits = Hits { count: self.selected.count, places, at: Some(chosen) };
        let steps = self.hits.places[chosen].clone();
        match self.tree.show(&steps) {
            Some(line) => self.at = line,
            None => return false,
        }
        true
    }

    /// The path of something that was selected.
    pub fn path_of(&self, number: usize) -> Option<String> {
        let (place, _) = self.selected.found.get(number)?;
        place.as_ref().map(|place| written(place.steps().to_vec(), self.document.root))
    }
}
