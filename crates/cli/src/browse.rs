//! `kyanite browse`: documents as trees in the terminal.

mod draw;
mod history;
mod keys;
mod line;
mod tab;
mod terminal;

use std::fs::File;

use console::strip_ansi_codes;
use kyanite_flow::{Counters, Events, Input, RunError, look_at};
use kyanite_tree::{Arena, Diagnostic};
use kyanite_xpath::Store;

use crate::arguments::{Background, Browse, MessageOptions};
use crate::messages::{Messages, is_wanted};
use crate::run::{inputs_of, standard_output};
use crate::status::Status;

use history::History;
use line::InputLine;
use tab::{Tab, Watched};
use terminal::Screen;

/// Runs the command.
pub fn run(command: &Browse, options: &MessageOptions, messages: &mut Messages) -> Status {
    match browse(command, options, messages) {
        Ok(()) => Status::Done,
        Err(failed) => messages.end_with(&failed),
    }
}

fn browse(
    command: &Browse,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<(), RunError> {
    let inputs = inputs_of(&command.inputs)?;
    // That there is no terminal is said before anything is read.
    let terminal = terminal::open()?;
    let mut app_state = KeptView { history: History::load(), ..KeptView::default() };
    let mut screen = None;
    loop {
        let leaving =
            look(command, &inputs, options, messages, (&mut app_state, &mut screen, &terminal));
        match leaving {
            Ok(Leave::Again) => {}
            left => {
                drop(screen);
                app_state.history.save();
                if let Leave::WithPath(path) = left? {
                    standard_output().write(format!("{path}\n").as_bytes())?;
                }
                return Ok(());
            }
        }
    }
}

/// What stays when documents are read again.
#[derive(Default)]
struct KeptView {
    history: History,
    /// The document that is looked at, and where each is looked at.
    current: usize,
    places: Vec<Vec<u32>>,
    follows: bool,
}

/// Reads the documents, and lets the user walk through them until that is to end.
fn look(
    command: &Browse,
    inputs: &[Input],
    options: &MessageOptions,
    messages: &mut Messages,
    (kept, screen, terminal): (&mut KeptView, &mut Option<Screen>, &File),
) -> Result<Leave, RunError> {
    let reading = command.reading.options();
    let counters = Counters::default();
    let arenas: Vec<Arena> = inputs.iter().map(|_| Arena::new()).collect();
    let stores: Vec<Store<'_>> = arenas.iter().map(Store::new).collect();
    let mut tabs = Vec::new();
    for (number, (input, store)) in inputs.iter().zip(&stores).enumerate() {
        // What is said of documents that are read again was said before.
        let is_first = screen.is_none();
        let mut tell = |told: Diagnostic| {
            if is_first {
                messages.show(&told);
            }
        };
        let mut events = Events { tell: &mut tell, counters: &counters };
        // Looked at first: what is written meanwhile is a change, too.
        let file = Watched::of(input);
        let document = match (look_at(input, &reading, store, &mut events), &mut *screen, &file) {
            (Err(failed), Some(screen), Some(file)) => {
                return wait(&failed, file, messages, screen);
            }
            (document, ..) => document?,
        };
        let mut tab = Tab::new(document, file)?;
        if let Some(place) = kept.places.get(number) {
            tab.at = tab.tree.show_numbers(place);
            if kept.follows {
                tab.at = tab.tree.len().saturating_sub(1);
            }
        }
        tabs.push(tab);
    }
    let mut app = App {
        tabs,
        current: kept.current,
        mode: Mode::Walk,
        line: InputLine::default(),
        history: std::mem::take(&mut kept.history),
        is_colored: is_wanted(options.color, true),
        background: command.background.or_else(Background::told),
        follows: kept.follows,
        told: None,
        leaving: None,
        copied: None,
    };
    let screen = match screen {
        Some(screen) => screen,
        None => screen.insert(Screen::enter(terminal)?),
    };
    let ended = app.turns(screen);
    kept.places = app.tabs.iter().map(|tab| tab.tree.numbers(tab.at)).collect();
    (kept.current, kept.follows) = (app.current, app.follows);
    kept.history = app.history;
    ended?;
    Ok(app.leaving.unwrap_or(Leave::Quietly))
}

/// Says why a document cannot be read again, as when only half of a line is written yet, until its file changes or nobody waits.
fn wait(
    failed: &RunError,
    file: &Watched,
    messages: &Messages,
    screen: &mut Screen,
) -> Result<Leave, RunError> {
    let told: String = failed.diagnostics().iter().map(|one| messages.rendered(one)).collect();
    let mut text = strip_ansi_codes(&told).into_owned();
    text.push_str("\nIt is read again when it changes.   q leave");
    loop {
        screen.draw(|frame| draw::text(&text, frame))?;
        if screen.next(false)?.is_some_and(|event| keys::is_leaving(&event)) {
            return Err(failed.clone());
        }
        if file.has_changed() {
            return Ok(Leave::Again);
        }
    }
}

/// What the keys are for.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Mode {
    /// Walking through the tree.
    Walk,
    /// Typing what is searched for.
    Search,
    /// Typing an expression.
    Select,
    /// Looking at one value whole.
    Whole,
    /// Reading what keys there are.
    Help,
}

/// How the program is left.
#[derive(Clone, PartialEq, Eq, Debug)]
enum Leave {
    Quietly,
    WithPath(String),
    /// To come again, once the documents were read again.
    Again,
}

/// All that is on the screen.
struct App<'a> {
    tabs: Vec<Tab<'a>>,
    current: usize,
    mode: Mode,
    line: InputLine,
    history: History,
    is_colored: bool,
    /// The ground that the terminal has, if it is known.
    background: Option<Background>,
    /// Whether documents are read again when their files change, and their last lines gone to.
    follows: bool,
    /// What is said at the bottom.
    told: Option<String>,
    leaving: Option<Leave>,
    /// What goes to the clipboard of the terminal.
    copied: Option<String>,
}

impl<'a> App<'a> {
    fn tab(&self) -> &Tab<'a> {
        &self.tabs[self.current]
    }

    fn tab_mut(&mut self) -> &mut Tab<'a> {
        &mut self.tabs[self.current]
    }

    /// Draws, and does what keys say, until one ends it.
    fn turns(&mut self, screen: &mut Screen) -> Result<(), RunError> {
        while self.leaving.is_none() {
            screen.draw(|frame| draw::draw(self, frame))?;
            if let Some(text) = self.copied.take() {
                screen.copy(&text)?;
            }
            let is_busy = self.tab_mut().work();
            if self.tab_mut().has_first_names() {
                self.names_came();
            }
            match screen.next(is_busy)? {
                Some(event) => self.event(&event),
                None if self.follows && self.tabs.iter().any(Tab::has_changed) => {
                    self.leaving = Some(Leave::Again);
                }
                None => {}
            }
        }
        Ok(())
    }
}
