//! What is on the screen: the documents at the top, the tree, the path of the current line, and what is typed or said.

use console::{measure_text_width, truncate_str};
use kyanite_browse::Line as TreeLine;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span, Text};
use ratatui::widgets::{Clear, Paragraph};

use super::keys::KEYS;
use super::{App, Mode};
use crate::arguments::Background;

/// How far a level is set in.
const INDENT: usize = 2;

/// Draws all of it.
pub fn draw(app: &mut App<'_>, frame: &mut Frame<'_>) {
    let rows =
        [Constraint::Length(1), Constraint::Min(1), Constraint::Length(1), Constraint::Length(1)];
    let [title, body, path, bottom] = Layout::vertical(rows).areas(frame.area());
    let look = Look::of(app);
    titles(app, look, frame, title);
    match app.mode {
        Mode::Select => selected(app, look, frame, body),
        Mode::Whole => whole(app, frame, body),
        Mode::Help => help(look, frame, body),
        Mode::Walk | Mode::Search => tree(app, look, frame, body),
    }
    let tab = app.tab();
    let current = match app.mode {
        Mode::Select => tab.path_of(tab.chosen).unwrap_or_default(),
        _ => tab.tree.path(tab.at),
    };
    let place = format!(" {} of {}", tab.at + 1, tab.tree.len());
    let room = usize::from(path.width).saturating_sub(measure_text_width(&place));
    let shown = cut_front(&current, room);
    let gap = " ".repeat(room.saturating_sub(measure_text_width(&shown)));
    let line = Line::from(vec![Span::raw(shown), Span::raw(gap), Span::raw(place)]);
    frame.render_widget(Paragraph::new(line.style(look.bar())), path);
    said(app, look, frame, bottom);
}

/// The styles: with colours, for the ground of the terminal, or without.
#[derive(Clone, Copy)]
struct Look {
    is_colored: bool,
    background: Option<Background>,
}

impl Look {
    fn of(app: &App<'_>) -> Self {
        Self { is_colored: app.is_colored, background: app.background }
    }

    /// A colour for dark ground and one for light; none where the ground is not known, since none is read well on both.
    fn colored(self, dark: Color, light: Color) -> Style {
        match self.background.filter(|_| self.is_colored) {
            Some(Background::Dark) => Style::new().fg(dark),
            Some(Background::Light) => Style::new().fg(light),
            None => Style::new(),
        }
    }

    /// Names are told by their weight as well.
    fn name(self) -> Style {
        self.colored(Color::LightMagenta, Color::Magenta).add_modifier(Modifier::BOLD)
    }

    /// A value of some kind.
    fn value(self, kind: &str) -> Style {
        match kind {
            "number" => self.colored(Color::LightCyan, Color::Blue),
            "boolean" | "null" => self.colored(Color::LightYellow, Color::Red),
            _ => Style::new(),
        }
    }

    fn faint(self) -> Style {
        if self.is_colored {
            Style::new().fg(Color::DarkGray)
        } else {
            Style::new().add_modifier(Modifier::DIM)
        }
    }

    /// The bar with the path: it stands out on any ground.
    fn bar(self) -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }

    fn warning(self) -> Style {
        if self.is_colored { Style::new().fg(Color::Red) } else { Style::new() }
    }
}

fn titles(app: &App<'_>, look: Look, frame: &mut Frame<'_>, area: Rect) {
    let mut spans = Vec::new();
    for (number, tab) in app.tabs.iter().enumerate() {
        let name = format!(" {} ", tab.document.name());
        let style = if number == app.current {
            Style::new().add_modifier(Modifier::BOLD | Modifier::UNDERLINED)
        } else {
            look.faint()
        };
        spans.push(Span::styled(name, style));
    }
    spans.push(Span::styled(format!(" {}", app.tab().document.format()), look.faint()));
    spans
        .extend(app.tab().coming().map(|coming| Span::styled(format!("  {coming}"), look.faint())));
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

fn tree(app: &mut App<'_>, look: Look, frame: &mut Frame<'_>, area: Rect) {
    let (height, width) = (usize::from(area.height), usize::from(area.width));
    let tab = app.tab_mut();
    tab.scroll(height);
    let lines = (tab.top..(tab.top + height).min(tab.tree.len())).filter_map(|at| {
        let line = tree_line(&tab.tree.line(at)?, look, width);
        Some(if at == tab.at { marked(line, width) } else { line })
    });
    let text = Text::from(lines.collect::<Vec<Line<'_>>>());
    frame.render_widget(Paragraph::new(text), area);
}

/// The current line: all of its width stands out.
fn marked(mut line: Line<'static>, width: usize) -> Line<'static> {
    let blanks = width.saturating_sub(line.width());
    line.spans.push(Span::raw(" ".repeat(blanks)));
    let plain = line.spans.into_iter().map(|span| span.style(Style::new()));
    Line::from(plain.collect::<Vec<Span<'_>>>())
        .style(Style::new().add_modifier(Modifier::REVERSED))
}

/// A line of the tree, cut to the width.
fn tree_line(line: &TreeLine, look: Look, width: usize) -> Line<'static> {
    let sign = match line.is_open {
        Some(true) => "▾ ",
        Some(false) => "▸ ",
        None => "  ",
    };
    let indent = " ".repeat((line.depth * INDENT).min(width / 2));
    let name = if line.name.is_empty() { "document".to_owned() } else { clean(&line.name) };
    let head = format!("{indent}{sign}{name}");
    let room = width.saturating_sub(measure_text_width(&head) + 2);
    let mut spans = vec![Span::raw(format!("{indent}{sign}")), Span::styled(name, look.name())];
    match &line.value {
        Some(value) => {
            let kind = line.kind.chars().count() + 2;
            let shown =
                truncate_str(&clean(value), room.saturating_sub(kind).max(8), "…").into_owned();
            spans.push(Span::styled(format!("  {shown}"), look.value(&line.kind)));
            spans.push(Span::styled(format!("  {}", line.kind), look.faint()));
        }
        None => spans.push(Span::styled(format!("  {}", line.kind), look.faint())),
    }
    Line::from(spans)
}

/// A text without what would move the cursor.
fn clean(text: &str) -> String {
    text.chars().map(|sign| if sign.is_control() { ' ' } else { sign }).collect()
}

/// The end of a text that is too long.
fn cut_front(text: &str, width: usize) -> String {
    let length = text.chars().count();
    if length <= width {
        return text.to_owned();
    }
    let rest: String = text.chars().skip(length + 1 - width.max(1)).collect();
    format!("…{rest}")
}

/// What the expression that is typed selects.
fn selected(app: &mut App<'_>, look: Look, frame: &mut Frame<'_>, area: Rect) {
    let (height, width) = (usize::from(area.height), usize::from(area.width));
    let tab = app.tab();
    let top = tab.chosen.saturating_sub(height.saturating_sub(1));
    let mut lines = Vec::new();
    for number in top..(top + height).min(tab.selected.found.len()) {
        let (_, value) = &tab.selected.found[number];
        let path = tab.path_of(number).unwrap_or_else(|| "computed".to_owned());
        let path = cut_front(&path, width / 2);
        let room = width.saturating_sub(measure_text_width(&path) + 3);
        let value = truncate_str(&clean(value), room, "…").into_owned();
        let line =
            Line::from(vec![Span::styled(path, look.name()), Span::raw(format!("  {value}"))]);
        let is_chosen = number == tab.chosen;
        lines.push(if is_chosen { marked(line, width) } else { line });
    }
    frame.render_widget(Paragraph::new(Text::from(lines)), area);
}

fn whole(app: &App<'_>, frame: &mut Frame<'_>, area: Rect) {
    let tab = app.tab();
    wrapped(&tab.tree.whole(tab.at), tab.scrolled, frame, area);
}

/// Draws nothing but a text.
pub fn text(text: &str, frame: &mut Frame<'_>) {
    let area = frame.area();
    frame.render_widget(Clear, area);
    wrapped(text, 0, frame, area);
}

/// A text from some line on, in lines of the width that there is.
fn wrapped(text: &str, skipped: usize, frame: &mut Frame<'_>, area: Rect) {
    let width = usize::from(area.width).max(1);
    let lines = text.lines().flat_map(|line| {
        let signs: Vec<char> = clean(line).chars().collect();
        let parts: Vec<String> = match signs.is_empty() {
            true => vec![String::new()],
            false => signs.chunks(width).map(|part| part.iter().collect()).collect(),
        };
        parts
    });
    let lines: Vec<Line<'_>> =
        lines.skip(skipped).take(usize::from(area.height)).map(Line::from).collect();
    frame.render_widget(Paragraph::new(Text::from(lines)), area);
}

fn help(look: Look, frame: &mut Frame<'_>, area: Rect) {
    let width = KEYS.iter().map(|(keys, _)| keys.chars().count()).max().unwrap_or(0);
    let lines = KEYS.iter().map(|(keys, what)| {
        Line::from(vec![Span::styled(format!("  {keys:<width$}  "), look.name()), Span::raw(*what)])
    });
    frame.render_widget(Clear, area);
    frame.render_widget(Paragraph::new(Text::from(lines.collect::<Vec<Line<'_>>>())), area);
}

/// A count that may still grow.
fn so_far(count: String, is_going_on: bool) -> String {
    if is_going_on { format!("{count} so far") } else { count }
}

/// The last line: what is typed with what comes of it, or what is said.
fn said(app: &App<'_>, look: Look, frame: &mut Frame<'_>, area: Rect) {
    let tab = app.tab();
    let (prompt, result) = match app.mode {
        Mode::Search => {
            ("search: ", so_far(format!("{} found", tab.hits.count), tab.hits.is_going_on()))
        }
        Mode::Select => {
            let selected = format!("{} selected", tab.selected.count);
            ("select: ", so_far(selected, tab.selected.is_going_on()))
        }
        _ => {
            let hints = "F1 keys   s search   e select   x leave with the path   q leave";
            let hits = tab.hits.at.map(|at| format!("hit {} of {}   ", at + 1, tab.hits.count));
            let text = app.told.clone().unwrap_or_else(|| hits.unwrap_or_default() + hints);
            let text = truncate_str(&text, usize::from(area.width), "…").into_owned();
            frame.render_widget(Paragraph::new(Line::styled(text, look.faint())), area);
            return;
        }
    };
    let mut spans = vec![Span::styled(prompt, look.faint()), Span::raw(app.line.text.clone())];
    let before = measure_text_width(prompt) + measure_text_width(&app.line.text[..app.line.at]);
    let problem = tab.selected.problem.as_ref().filter(|_| app.mode == Mode::Select);
    let (_, names) = match app.mode {
        Mode::Select => app.candidates(),
        _ => (0, Vec::new()),
    };
    let note = app.told.clone().or_else(|| (!names.is_empty()).then(|| names.join("  ")));
    match (problem, note) {
        (_, Some(note)) => {
            spans.push(Span::styled(format!("   {result}   "), look.faint()));
            spans.push(Span::styled(note, look.name()));
        }
        (Some(problem), None) => {
            spans.push(Span::styled(format!("   {}", clean(problem)), look.warning()))
        }
        (None, None) => spans.push(Span::styled(format!("   {result}"), look.faint())),
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
    let column = u16::try_from(before).unwrap_or(u16::MAX).min(area.width.saturating_sub(1));
    frame.set_cursor_position((area.x + column, area.y));
}
