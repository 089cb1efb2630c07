//! Lays out compact JSON texts over lines, without building values.

use super::Style;
use super::string::plain_end;
use crate::Target;

/// Lays out compact texts.
#[derive(Debug)]
pub struct LayOut {
    /// The blanks a level; None where all stays on one line.
    step: Option<usize>,
    /// A line end, and as many blanks as were needed so far.
    line: Vec<u8>,
}

/// As many bytes go on at once of what is not laid out.
const COMPACT: usize = 64 * 1024;

impl LayOut {
    /// In this style.
    #[must_use]
    pub fn new(style: Style) -> Self {
        let step = match style {
            Style::Compact => None,
            Style::Indented(step) => Some(step),
        };
        Self { step, line: vec![b'\n'] }
    }

    /// Appends a value that is written on one line without blanks as it is laid out `level` levels deep inside a document,
    /// without a line end: what [`write_nested`](super::write_nested) gives of the value.
    pub fn value(&mut self, compact: &[u8], level: usize, target: &mut impl Target) {
        let Some(step) = self.step else {
            for part in compact.chunks(COMPACT) {
                target.bytes().extend_from_slice(part);
                target.part();
            }
            return;
        };
        let (mut level, mut at, mut copied) = (level, 0, 0);
        while let Some(byte) = compact.get(at) {
            at += 1;
            let out = target.bytes();
            match byte {
                b'"' => at = text_end(compact, at),
                b'{' | b'[' if matches!(compact.get(at), Some(b'}' | b']')) => at += 1,
                b'{' | b'[' => {
                    level += 1;
                    out.extend_from_slice(&compact[copied..at]);
                    out.extend_from_slice(self.line(step * level));
                    copied = at;
                }
                b',' => {
                    out.extend_from_slice(&compact[copied..at]);
                    out.extend_from_slice(self.line(step * level));
                    copied = at;
                }
                b'}' | b']' => {
                    level = level.saturating_sub(1);
                    out.extend_from_slice(&compact[copied..at - 1]);
                    out.extend_from_slice(self.line(step * level));
                    copied = at - 1;
                    target.part();
                }
                b':' => {
                    out.extend_from_slice(&compact[copied..at]);
                    out.push(b' ');
                    copied = at;
                }
                _ => {}
            }
        }
        target.bytes().extend_from_slice(&compact[copied..]);
    }

    fn line(&mut self, blanks: usize) -> &[u8] {
        if self.line.len() <= blanks {
            self.line.resize(blanks + 1, b' ');
        }
        &self.line[..=blanks]
    }
}

/// Where the text ends, behind its closing quote, whose first byte is at `at`.
#[inline]
fn text_end(bytes: &[u8], mut at: usize) -> usize {
    loop {
        at = plain_end(bytes, at);
        match bytes.get(at) {
            Some(b'"') => return at + 1,
            // What is escaped ends nothing.
            Some(b'\\') => at = (at + 2).min(bytes.len()),
            Some(_) => at += 1,
            None => return bytes.len(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::write::tests::any_json;
    use super::super::{Reader, ReaderOptions, write_nested};
    use super::*;
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn as_the_value_is_written(value in any_json(), step in 0usize..5, level in 0usize..4) {
            let text = value.to_string();
            let arena = Arena::new();
            let value = Reader::new(&text, &arena, ReaderOptions::default()).next_value().unwrap().unwrap();
            for style in [Style::Compact, Style::Indented(step)] {
                let (mut compact, mut laid_out, mut written) = (Vec::new(), Vec::new(), Vec::new());
                write_nested(value, Style::Compact, 0, &mut compact);
                LayOut::new(style).value(&compact, level, &mut laid_out);
                write_nested(value, style, level, &mut written);
                prop_assert_eq!(String::from_utf8(laid_out), String::from_utf8(written));
            }
        }

        #[test]
        fn nothing_is_added_but_blanks(text in "[\\[\\]{}:,\"\\\\a1é]{0,30}", level in 0usize..3) {
            let mut laid_out = Vec::new();
            LayOut::new(Style::Indented(1)).value(text.as_bytes(), level, &mut laid_out);
            laid_out.retain(|byte| !matches!(byte, b' ' | b'\n'));
            // Also of what is no JSON: all of it comes out again, in order.
            prop_assert_eq!(String::from_utf8(laid_out), Ok(text));
        }
    }
}
