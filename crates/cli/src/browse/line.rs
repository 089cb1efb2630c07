//! A line that is typed, with its cursor.

use super::history::History;

/// The line.
#[derive(Debug, Default)]
pub struct InputLine {
    pub text: String,
    /// The byte that the cursor is before.
    pub at: usize,
    /// How far back in what was typed before it is.
    back: usize,
}

impl InputLine {
    /// A line with a text, the cursor at its end.
    pub fn with(text: &str) -> Self {
        Self { text: text.to_owned(), at: text.len(), back: 0 }
    }

    pub fn insert(&mut self, character: char) {
        self.text.insert(self.at, character);
        self.at += character.len_utf8();
    }

    /// Puts a text in place of what is between a byte and the cursor.
    pub fn complete(&mut self, from: usize, text: &str) {
        self.text.replace_range(from..self.at, text);
        self.at = from + text.len();
    }

    pub fn remove_before(&mut self) {
        if let Some(last) = self.text[..self.at].chars().next_back() {
            self.at -= last.len_utf8();
            self.text.remove(self.at);
        }
    }

    pub fn remove_behind(&mut self) {
        if self.at < self.text.len() {
            self.text.remove(self.at);
        }
    }

    pub fn left(&mut self) {
        self.at -= self.text[..self.at].chars().next_back().map_or(0, char::len_utf8);
    }

    pub fn right(&mut self) {
        self.at += self.text[self.at..].chars().next().map_or(0, char::len_utf8);
    }

    pub fn clear_before(&mut self) {
        self.text.replace_range(..self.at, "");
        self.at = 0;
    }

    /// Takes the line before, or the one behind, of what was typed before.
    pub fn recall(&mut self, history: &History, is_back: bool) {
        let back = if is_back { self.back + 1 } else { self.back.saturating_sub(1) };
        if back == 0 {
            *self = Self::default();
        } else if let Some(line) = history.back(back) {
            *self = Self { back, ..Self::with(line) };
        }
    }
}
