//! A document on the screen: its tree, where one is in it, and what was found.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};

use kyanite_browse::{LargeTree, Outline, Position, Tree};
use kyanite_flow::{
    BrowsedDocument, DocumentInMemory, Input, LargeDocument, RunError, RunningSearch,
};
use kyanite_formats::Format;

use crate::stats::size;

/// The most places that are kept of a search or an expression.
pub const FOUND: usize = 10_000;

/// The most lines that are opened at once.
pub const OPENED: usize = 200_000;

/// The most names that are offered, and the most lines that are looked through for them.
const OFFERED: usize = 500;
const LINES: usize = 2000;

/// The pause in typing after which an expression is searched in a large document.
const TYPING: Duration = Duration::from_millis(150);

/// The bytes of a large document that are looked through between two keys.
const AT_ONCE: usize = 8 << 20;

/// A document.
pub struct Tab<'a> {
    pub document: Document<'a>,
    pub tree: Box<dyn Outline<'a> + 'a>,
    /// The current line, and the first on the screen.
    pub at: usize,
    pub top: usize,
    /// What was searched for, or selected.
    pub hits: Hits<'a>,
    /// What the expression that is typed selects.
    pub selected: Selection<'a>,
    /// The current one of these.
    pub chosen: usize,
    /// How far the whole value is scrolled.
    pub scrolled: usize,
    /// The names that can follow the path that is typed into a large document.
    offered: Offered,
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
    /// The file that an input is, as it is now; None if it is none.
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

/// A document, held or in its file.
pub enum Document<'a> {
    Held(DocumentInMemory<'a>),
    Large(LargeDocument),
}

impl Document<'_> {
    pub fn name(&self) -> &str {
        match self {
            Self::Held(document) => &document.name,
            Self::Large(document) => &document.name,
        }
    }

    pub fn format(&self) -> Format {
        match self {
            Self::Held(document) => document.format,
            Self::Large(document) => document.format,
        }
    }
}

/// Places to go through.
#[derive(Default)]
pub struct Hits<'a> {
    pub places: Vec<Position<'a>>,
    pub count: usize,
    /// The one that was gone to last.
    pub at: Option<usize>,
    /// What looks for more of them meanwhile.
    looking: Option<RunningSearch>,
}

/// What an expression selects.
#[derive(Default)]
pub struct Selection<'a> {
    /// The first places and values, in order; what was computed has no place.
    pub found: Vec<(Option<Position<'a>>, String)>,
    pub count: usize,
    /// What is wrong with the expression, or which step found nothing.
    pub problem: Option<String>,
    /// The expression to search a large document for after a pause in typing, and when it was typed.
    waiting: Option<(String, Instant)>,
    /// What looks for more of it meanwhile.
    looking: Option<RunningSearch>,
}

/// Names that can follow a path in a large document.
#[derive(Default)]
struct Offered {
    path: String,
    names: Vec<String>,
    /// Whether the first of them have just come.
    are_new: bool,
    /// What looks for more of them meanwhile.
    looking: Option<RunningSearch>,
}

impl Offered {
    fn take(&mut self) {
        let found = news(&mut self.looking).map(|news| news.found).unwrap_or_default();
        self.are_new |= self.names.is_empty() && !found.is_empty();
        self.names.extend(found.into_iter().map(|(_, name)| name));
    }
}

/// What was found since this was last asked.
struct News {
    found: Vec<(Option<u64>, String)>,
    /// How many there are in all.
    count: usize,
    problem: Option<String>,
}

/// What was found meanwhile, by what looks for it until that is all.
fn news(looking: &mut Option<RunningSearch>) -> Option<News> {
    let going_on = looking.as_ref()?;
    let is_over = going_on.is_over();
    let news =
        News { found: going_on.take(), count: going_on.count(), problem: going_on.problem() };
    if is_over {
        *looking = None;
    }
    Some(news)
}

impl Hits<'_> {
    /// Whether more may be found.
    pub fn is_going_on(&self) -> bool {
        self.looking.is_some()
    }

    fn take(&mut self) {
        let Some(News { found, count, .. }) = news(&mut self.looking) else { return };
        self.places.extend(found.into_iter().filter_map(|(at, _)| at.map(Position::Byte)));
        self.count = count;
    }
}

impl Selection<'_> {
    /// Whether more may be found.
    pub fn is_going_on(&self) -> bool {
        self.looking.is_some() || self.waiting.is_some()
    }

    fn take(&mut self, document: &Document<'_>) {
        let is_typed = |(_, since): &mut (String, Instant)| since.elapsed() > TYPING;
        if let (Some((expression, _)), Document::Large(document)) =
            (self.waiting.take_if(is_typed), document)
        {
            self.looking = Some(document.select(&expression, FOUND));
        }
        let Some(News { found, count, problem }) = news(&mut self.looking) else { return };
        let found = found.into_iter().map(|(at, value)| (at.map(Position::Byte), value));
        self.found.extend(found);
        (self.count, self.problem) = (count, problem);
    }
}

impl<'a> Tab<'a> {
    /// A document that is looked at.
    ///
    /// # Errors
    /// [`RunError::Input`] when the file of a large one cannot be opened.
    pub fn new(looked: BrowsedDocument<'a>, file: Option<Watched>) -> Result<Self, RunError> {
        let (document, tree): (_, Box<dyn Outline<'a> + 'a>) = match looked {
            BrowsedDocument::Held(document) => {
                let tree = Tree::new(document.root);
                (Document::Held(document), Box::new(tree))
            }
            BrowsedDocument::Large(document) => {
                let (bytes, notation) = document.bytes()?;
                let mut tree = LargeTree::new(bytes, notation);
                tree.work(1);
                (Document::Large(document), Box::new(tree))
            }
        };
        let (hits, selected) = (Hits::default(), Selection::default());
        let (at, top, chosen, scrolled, offered) = (0, 0, 0, 0, Offered::default());
        Ok(Self { document, tree, at, top, hits, selected, chosen, scrolled, offered, file })
    }

    /// Goes on with what is not done yet; tells whether there was anything.
    pub fn work(&mut self) -> bool {
        let numbers = self.tree.numbers(self.at);
        let is_looking = self.hits.is_going_on()
            || self.selected.is_going_on()
            || self.offered.looking.is_some();
        self.offered.take();
        self.hits.take();
        self.selected.take(&self.document);
        let before = self.tree.len();
        let has_worked = self.tree.work(AT_ONCE);
        // Lines may have come above the current one, as those of pages do.
        if self.tree.len() != before && self.tree.numbers(self.at) != numbers {
            self.at = self.tree.show_numbers(&numbers);
        }
        has_worked || is_looking || self.is_coming_in()
    }

    /// Whether more of the document is still to come.
    pub fn is_coming_in(&self) -> bool {
        matches!(&self.document, Document::Large(document) if !document.is_complete())
    }

    /// How much of the document has come, or why no more comes, where that is not all of it.
    pub fn coming(&self) -> Option<String> {
        let Document::Large(document) = &self.document else { return None };
        let so_far = || format!("{} so far", size(document.count() as f64));
        let problem = || document.problem().map(|problem| format!("cut off: {problem}"));
        if self.is_coming_in() { Some(so_far()) } else { problem() }
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

    /// Keeps the current line on a screen of `height` lines.
    pub fn scroll(&mut self, height: usize) {
        let height = height.max(1);
        let is_far = self.at + height < self.top || self.at > self.top + 2 * height;
        if is_far {
            // What was gone to from far away stands in the middle.
            self.top = self.at.saturating_sub(height / 2);
        }
        self.top = self.top.clamp((self.at + 1).saturating_sub(height), self.at);
    }

    /// Searches names and values.
    pub fn search(&mut self, text: &str) {
        self.hits = Hits::default();
        if text.is_empty() {
            return;
        }
        match (self.tree.search(text, FOUND), &self.document) {
            (Some((places, count)), _) => (self.hits.places, self.hits.count) = (places, count),
            (None, Document::Large(document)) => {
                self.hits.looking = Some(document.search(text, FOUND));
            }
            (None, Document::Held(_)) => {}
        }
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
        let place = self.hits.places[next].clone();
        if let Some(line) = self.tree.show(&place) {
            self.at = line;
        }
        true
    }

    /// Works out what an expression selects.
    pub fn select(&mut self, expression: &str) {
        self.chosen = 0;
        self.selected = Selection::default();
        if expression.trim().is_empty() {
            return;
        }
        match &self.document {
            Document::Held(document) => {
                let selected = document.select(expression, FOUND);
                let found = selected.found.into_iter();
                let position =
                    |place: kyanite_tree::Location<'a>| Position::Steps(place.steps().to_vec());
                self.selected.found =
                    found.map(|(place, value)| (place.map(position), value)).collect();
                (self.selected.count, self.selected.problem) = (selected.count, selected.problem);
            }
            Document::Large(_) => {
                self.selected.waiting = Some((expression.to_owned(), Instant::now()));
            }
        }
    }

    /// The names that can follow a path, as far as they are known: a large document is searched for them in the background.
    pub fn names_behind(&self, path: &str) -> Vec<String> {
        match &self.document {
            Document::Held(document) => document.names_behind(path, OFFERED),
            Document::Large(_) if self.offered.path == path => self.offered.names.clone(),
            Document::Large(_) => Vec::new(),
        }
    }

    /// Whether the first names have come that can follow the path, since this was last asked.
    pub fn has_first_names(&mut self) -> bool {
        std::mem::take(&mut self.offered.are_new)
    }

    /// Begins to look for the names that can follow a path in a large document.
    pub fn look_behind(&mut self, path: &str) {
        let Document::Large(document) = &self.document else { return };
        let Offered { path: known, names, looking, .. } = &self.offered;
        if known == path && (looking.is_some() || !names.is_empty()) {
            return;
        }
        let path = path.to_owned();
        self.offered = match path.as_str() {
            // No rule goes through all of it for that; the lines are there.
            "$" => {
                let lines = (0..self.tree.len().min(LINES)).filter_map(|at| self.tree.line(at));
                let names = lines.filter(|line| line.depth == 1).map(|line| line.name);
                let names = names.take(OFFERED).collect();
                Offered { path, names, ..Offered::default() }
            }
            _ => {
                let looking = Some(document.names_behind(&path, OFFERED));
                Offered { path, looking, ..Offered::default() }
            }
        };
    }

    /// Goes to the chosen one of what is selected, and takes all for hits.
    pub fn take_selected(&mut self) -> bool {
        let places = self.selected.found.iter().filter_map(|(place, _)| place.as_ref());
        let places: Vec<Position<'a>> = places.cloned().collect();
        if places.is_empty() {
            return false;
        }
        let chosen = self.chosen.min(places.len() - 1);
        let place = places[chosen].clone();
        let (count, at) = (self.selected.count, Some(chosen));
        self.hits = Hits { count, places, at, looking: self.selected.looking.take() };
        match self.tree.show(&place) {
            Some(line) => self.at = line,
            None => return false,
        }
        true
    }

    /// The path of something that was selected.
    pub fn path_of(&self, number: usize) -> Option<String> {
        let (place, _) = self.selected.found.get(number)?;
        self.tree.path_at(place.as_ref()?)
    }
}
