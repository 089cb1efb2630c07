//! The terminal: entered and left whole, whatever happens in between.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use base64::Engine;
use crossterm::event::{DisableMouseCapture, EnableMouseCapture, Event};
use crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen};
use crossterm::{cursor, event, execute, terminal};
use kyanite_flow::RunError;
use kyanite_tree::{Code, Diagnostic};
use ratatui::backend::CrosstermBackend;
use ratatui::{Frame, Terminal};

/// Whether the terminal is not as it was.
static IS_ENTERED: AtomicBool = AtomicBool::new(false);

/// How long a turn waits for a key.
const PATIENCE: Duration = Duration::from_millis(500);

/// How long one waits for a key that has work to do.
const BUSY: Duration = Duration::from_millis(10);

fn failed(message: String) -> RunError {
    let why = Diagnostic::error(Code::CommandLine, message);
    RunError::Command(vec![why.advise("to look at a document without one, use kyanite survey")])
}

/// The terminal that the user sits at, wherever standard input and output go.
pub fn open() -> Result<File, RunError> {
    let terminal = OpenOptions::new().read(true).write(true).open("/dev/tty");
    terminal.map_err(|_| failed("there is no terminal to browse in".into()))
}

/// Puts the terminal back as it was.
fn leave(terminal: &File) {
    let mut out = terminal;
    if IS_ENTERED.swap(false, Ordering::SeqCst) {
        // What does not work is nobody's concern any more.
        let _ = execute!(out, DisableMouseCapture, LeaveAlternateScreen, cursor::Show);
        let _ = terminal::disable_raw_mode();
        let _ = out.flush();
    }
}

/// The screen of a terminal, as long as it is taken.
pub struct Screen {
    terminal: Terminal<CrosstermBackend<File>>,
    /// The same terminal, for what is no drawing.
    out: File,
}

impl Screen {
    /// Takes the whole screen.
    pub fn enter(terminal: &File) -> Result<Self, RunError> {
        let wrong = |error: io::Error| failed(format!("the terminal cannot be used: {error}"));
        let mut out = terminal.try_clone().map_err(wrong)?;
        let drawn_on = terminal.try_clone().map_err(wrong)?;
        let rescue = terminal.try_clone().map_err(wrong)?;
        let usual = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |panic| {
            leave(&rescue);
            usual(panic);
        }));
        terminal::enable_raw_mode().map_err(wrong)?;
        IS_ENTERED.store(true, Ordering::SeqCst);
        let entered = execute!(out, EnterAlternateScreen, EnableMouseCapture, cursor::Hide);
        let made = entered.and_then(|()| Terminal::new(CrosstermBackend::new(drawn_on)));
        match made {
            Ok(terminal) => Ok(Self { terminal, out }),
            Err(error) => {
                leave(&out);
                Err(wrong(error))
            }
        }
    }

    /// Draws all of it.
    pub fn draw(&mut self, draw: impl FnOnce(&mut Frame<'_>)) -> Result<(), RunError> {
        let drawn = self.terminal.draw(draw);
        drawn.map(drop).map_err(|error| failed(format!("the terminal cannot be drawn on: {error}")))
    }

    /// What happens next; None if nothing does for a while, which is short while there is something else to do.
    pub fn next(&mut self, is_busy: bool) -> Result<Option<Event>, RunError> {
        let patience = if is_busy { BUSY } else { PATIENCE };
        let next =
            event::poll(patience).and_then(|is_there| is_there.then(event::read).transpose());
        next.map_err(|error| failed(format!("the terminal gives no keys: {error}")))
    }

    /// Puts a text on the clipboard of the terminal (xterm control sequences, OSC 52).
    pub fn copy(&mut self, text: &str) -> Result<(), RunError> {
        let encoded = base64::engine::general_purpose::STANDARD.encode(text);
        let written = write!(self.out, "\x1b]52;c;{encoded}\x07").and_then(|()| self.out.flush());
        written.map_err(|error| failed(format!("the terminal cannot be written to: {error}")))
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        leave(&self.out);
    }
}
