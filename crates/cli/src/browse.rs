//! `kyanite browse`: documents as trees in the terminal.

mod draw;
mod history;
mod keys;
mod line;
mod tab;
mod terminal;

use kyanite_flow::{Counters, Events, Failed, hold};
use kyanite_tree::{Arena, Diagnostic};
use kyanite_xpath::Store;

use crate::arguments::{Browse, MessageOptions};
use crate::messages::{Messages, is_wanted};
use crate::run::{inputs_of, standard_output};
use crate::status::Status;

use history::History;
use line::InputLine;
use tab::Tab;
use terminal::Screen;

/// Runs the command.
pub fn run(command: &Browse, options: &MessageOptions, messages: &mut Messages) -> Status {
    match browse(command, options, messages) {
        Ok(()) => Status::Done,
        Err(failed) => {
            messages.show_all(failed.diagnostics());
            Status::from(&failed)
        }
    }
}

fn browse(
    command: &Browse,
    options: &MessageOptions,
    messages: &mut Messages,
) -> Result<(), Failed> {
    let inputs = inputs_of(&command.inputs)?;
    // That there is no terminal is said before anything is read.
    let terminal = terminal::open()?;
    let reading = command.reading.options();
    let counters = Counters::default();
    let arenas: Vec<Arena> = inputs.iter().map(|_| Arena::new()).collect();
    let stores: Vec<Store<'_>> = arenas.iter().map(Store::new).collect();
    let mut tabs = Vec::new();
    for (input, store) in inputs.iter().zip(&stores) {
        let mut tell = |told: Diagnostic| messages.show(&told);
        let mut events = Events { tell: &mut tell, counters: &counters };
        tabs.push(Tab::new(hold(input, &reading, store, &mut events)?));
    }
    let mut app = App {
        tabs,
        current: 0,
        mode: Mode::Walk,
        line: InputLine::default(),
        history: History::load(),
        is_colored: is_wanted(options.color, true),
        told: None,
        leaving: None,
        copied: None,
    };
    let mut screen = Screen::enter(terminal)?;
    let ended = app.turns(&mut screen);
    drop(screen);
    app.history.save();
    ended?;
    if let Some(Leave::WithPath(path)) = app.leaving {
        standard_output().write(format!("{path}\n").as_bytes())?;
    }
    Ok(())
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
}

/// All that is on the screen.
struct App<'a> {
    tabs: Vec<Tab<'a>>,
    current: usize,
    mode: Mode,
    line: InputLine,
    history: History,
    is_colored: bool,
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
    fn turns(&mut self, screen: &mut Screen) -> Result<(), Failed> {
        while self.leaving.is_none() {
            screen.draw(|frame| draw::draw(self, frame))?;
            if let Some(text) = self.copied.take() {
                screen.copy(&text)?;
            }
            if let Some(event) = screen.next()? {
                self.event(&event);
            }
        }
        Ok(())
    }
}
