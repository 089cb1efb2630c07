//! Messages on standard error: one form for all.
//!
//! ```text
//! warning: no `vesel` under $.routes[*].sailings[*]
//!   the expression:1:25
//!       $.routes[*].sailings[*].vesel
//!                              ^^^^^^
//!   near: vessel, in 30 of 30
//! ```

use std::borrow::Cow;
use std::io::{IsTerminal, Write};

use anstyle::{AnsiColor, Style};
use kyanite_flow::RunError;
use kyanite_formats::json;
use kyanite_tree::{Arena, Diagnostic, Fix, Place, Severity, Value};

use crate::arguments::{MessageForm, MessageOptions, When};
use crate::settings;
use crate::status::Status;

/// Places as a list of maps.
pub fn places<'a>(found: &'a [Place], arena: &'a Arena) -> Value<'a> {
    let places: Vec<Value<'_>> = found.iter().map(|spot| place(spot, arena)).collect();
    arena.list(&places)
}

fn place<'a>(spot: &'a Place, arena: &'a Arena) -> Value<'a> {
    let number = |number: u64| arena.integer(number as i64);
    let mut members = vec![
        ("file", Value::text(&spot.file)),
        ("line", number(spot.at.line)),
        ("column", number(spot.at.column)),
        ("length", number(spot.excerpt.length as u64)),
        ("of", Value::text(spot.part.word())),
    ];
    members.extend(spot.path.as_deref().map(|path| ("path", Value::text(path))));
    members.push(("source", Value::text(&spot.excerpt.line)));
    arena.map(members)
}

/// A message as a line of JSON.
fn as_json(problem: &Diagnostic) -> String {
    let arena = Arena::new();
    let mut members = vec![
        ("code", Value::text(problem.code().word())),
        ("severity", Value::text(problem.severity().word())),
        ("message", Value::text(problem.message())),
        ("places", places(problem.places(), &arena)),
    ];
    if let Some(advice) = problem.advice() {
        members.push(("advice", Value::text(arena.text(&settings::words(advice)))));
        let options: Vec<Value<'_>> = advice
            .settings()
            .map(|setting| Value::text(arena.text(&settings::option(setting))))
            .collect();
        if !options.is_empty() {
            members.push(("options", arena.list(&options)));
        }
        if let Some(Fix { place: replaced, text }) = advice.mend() {
            let fix = [("place", place(replaced, &arena)), ("text", Value::text(text))];
            members.push(("fix", arena.map(fix)));
        }
    }
    json::compact(arena.map(members)) + "\n"
}

/// Shows messages.
pub struct Messages {
    lowest: Severity,
    form: MessageForm,
    colored: bool,
    /// What was said, while it is held back.
    held: Option<String>,
    /// How many warnings were shown.
    pub warnings: usize,
}

impl Messages {
    /// Messages as the options want them, on standard error.
    pub fn new(options: &MessageOptions) -> Self {
        Self::on(options, std::io::stderr().is_terminal())
    }

    /// Messages as the options want them, on something that is a terminal or not.
    pub fn on(options: &MessageOptions, is_terminal: bool) -> Self {
        let lowest = match (options.quiet, options.verbose) {
            (true, _) => Severity::Error,
            (_, true) => Severity::Note,
            _ => Severity::Warning,
        };
        Self {
            lowest,
            form: options.form,
            colored: is_wanted(options.color, is_terminal),
            held: None,
            warnings: 0,
        }
    }

    /// Messages when the options are not known, since the command line is wrong.
    pub fn plain() -> Self {
        let colored = is_wanted(When::Auto, std::io::stderr().is_terminal());
        Self {
            lowest: Severity::Warning,
            form: MessageForm::Text,
            colored,
            held: None,
            warnings: 0,
        }
    }

    /// Shows a message, unless it is of a sort that is not wanted.
    pub fn show(&mut self, problem: &Diagnostic) {
        self.warnings += usize::from(problem.severity() == Severity::Warning);
        if problem.severity() >= self.lowest {
            let text = match self.form {
                MessageForm::Text => self.rendered(problem),
                MessageForm::Json => as_json(problem),
            };
            match &mut self.held {
                Some(held) => held.push_str(&text),
                None => {
                    // When standard error is gone there is nobody to tell.
                    let _ = std::io::stderr().lock().write_all(text.as_bytes());
                }
            }
        }
    }

    /// Says what a run was like: in words, or as numbers, which are written as JSON has them.
    pub fn stats(&self, words: &str, numbers: &[(&str, String)]) {
        let text = match self.form {
            MessageForm::Text => format!("{}: {words}\n", self.strong("stats")),
            MessageForm::Json => {
                let numbers: Vec<String> =
                    numbers.iter().map(|(name, number)| format!("\"{name}\":{number}")).collect();
                format!("{{\"stats\":{{{}}}}}\n", numbers.join(","))
            }
        };
        // When standard error is gone there is nobody to tell.
        let _ = std::io::stderr().lock().write_all(text.as_bytes());
    }

    /// Holds messages back from now on.
    pub fn hold(&mut self) {
        self.held = Some(String::new());
        self.warnings = 0;
    }

    /// Shows messages as they come from now on; gives those that were held back.
    pub fn release(&mut self) -> String {
        self.held.take().unwrap_or_default()
    }

    /// Shows several messages.
    pub fn show_all(&mut self, problems: &[Diagnostic]) {
        problems.iter().for_each(|problem| self.show(problem));
    }

    /// Says why a run ended; gives its exit status.
    pub fn end_with(&mut self, failed: &RunError) -> Status {
        self.show_all(failed.diagnostics());
        Status::from(failed)
    }

    /// A message as text.
    pub fn rendered(&self, problem: &Diagnostic) -> String {
        let color = match problem.severity() {
            Severity::Error => AnsiColor::Red,
            Severity::Warning => AnsiColor::Magenta,
            Severity::Note => AnsiColor::Green,
        };
        let strong = color.on_default().bold();
        let head = self.paint(strong, problem.severity().word());
        let mut text = format!("{head}: {}\n", self.strong(&printable(problem.message())));
        for spot in problem.places() {
            self.render_spot(spot, strong, &mut text);
        }
        if let Some(advice) = problem.advice() {
            text.push_str(&format!("  {}\n", printable(&settings::words(advice))));
        }
        text
    }

    /// A line that stands out.
    pub fn strong(&self, text: &str) -> String {
        self.paint(Style::new().bold(), text)
    }

    /// What is drawn.
    pub fn accent(&self, text: &str) -> String {
        self.paint(AnsiColor::Cyan.on_default(), text)
    }

    /// What is gone.
    pub fn removed(&self, text: &str) -> String {
        self.paint(AnsiColor::Red.on_default(), text)
    }

    /// What is new.
    pub fn added(&self, text: &str) -> String {
        self.paint(AnsiColor::Green.on_default(), text)
    }

    /// A line that stands back.
    pub fn faint(&self, text: &str) -> String {
        self.paint(Style::new().dimmed(), text)
    }

    /// Appends a place with its line.
    pub fn place(&self, spot: &Place, text: &mut String) {
        self.render_spot(spot, AnsiColor::Blue.on_default().bold(), text);
    }

    fn render_spot(&self, spot: &Place, strong: Style, text: &mut String) {
        let place = format!("{}:{}", printable(&spot.file), spot.at);
        let place = self.paint(AnsiColor::Cyan.on_default(), &place);
        let path = spot.path.as_ref().map(|path| format!("  {path}")).unwrap_or_default();
        text.push_str(&format!("  {place}{path}\n"));
        let excerpt = &spot.excerpt;
        let caret = self.paint(strong, &"^".repeat(excerpt.length));
        text.push_str(&format!(
            "      {}\n      {}{caret}\n",
            excerpt.line,
            " ".repeat(excerpt.start)
        ));
    }

    fn paint(&self, style: Style, text: &str) -> String {
        if self.colored { format!("{style}{text}{style:#}") } else { text.to_owned() }
    }
}

/// A text as a terminal may have it: the input's names and values stand in messages, and control characters among them would be
/// commands to the terminal.
fn printable(text: &str) -> Cow<'_, str> {
    let is_command = |sign: char| sign.is_control() && sign != '\n';
    if text.contains(is_command) {
        text.replace(is_command, "\u{FFFD}").into()
    } else {
        text.into()
    }
}

/// Whether something for terminals is wanted on a stream.
pub fn is_wanted(when: When, is_terminal: bool) -> bool {
    match when {
        When::Always => true,
        When::Never => false,
        When::Auto => {
            let set = |name| std::env::var_os(name).is_some_and(|value| !value.is_empty());
            let dumb = std::env::var_os("TERM").is_some_and(|term| term == "dumb");
            is_terminal && !set("NO_COLOR") && !dumb
        }
    }
}

#[cfg(test)]
mod tests {
    use kyanite_tree::Code;

    use super::*;

    fn messages(quiet: bool, verbose: bool, color: When) -> Messages {
        Messages::new(&MessageOptions {
            quiet,
            verbose,
            form: MessageForm::Text,
            color,
            progress: When::Never,
        })
    }

    #[test]
    fn one_form_for_all() {
        let text = "{\n\t\"fare\": 12,,\n}";
        let problem = Diagnostic::error(Code::Syntax, "a comma too many")
            .at(Place::of("f.json", text.as_bytes(), 14, 15).with_path("$.fare"))
            .at(Place::of("r.kyr", b"$.fare", 2, 6).in_rule())
            .advise("take it away");
        assert_eq!(
            messages(false, false, When::Never).rendered(&problem),
            "error: a comma too many\n  f.json:2:13  $.fare\n       \"fare\": 12,,\n                  ^\n  \
             r.kyr:1:3\n      $.fare\n        ^^^^\n  take it away\n"
        );
        let colored = messages(false, false, When::Always)
            .rendered(&Diagnostic::note(Code::InputRead, "well"));
        assert!(colored.contains("\u{1b}[") && colored.contains("note") && !colored.contains('^'));
        let hostile = Diagnostic::warning(Code::Loss, "no `\u{1b}[2J`").advise("there is \u{9b}2J");
        assert_eq!(
            messages(false, false, When::Never).rendered(&hostile),
            "warning: no `\u{fffd}[2J`\n  there is \u{fffd}2J\n"
        );
    }

    #[test]
    fn how_loud() {
        for (quiet, verbose, lowest) in [
            (false, false, Severity::Warning),
            (true, false, Severity::Error),
            (false, true, Severity::Note),
        ] {
            assert_eq!(messages(quiet, verbose, When::Never).lowest, lowest);
        }
        let mut counted = messages(true, false, When::Never);
        counted.show(&Diagnostic::warning(Code::Loss, "not shown, but counted"));
        assert_eq!(counted.warnings, 1);
    }
}
