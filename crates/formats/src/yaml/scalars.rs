//! Scalars of YAML as they are written: plain, in quotes, and as blocks of lines (YAML 1.2.2 chapters 7 and 8).

use std::borrow::Cow;

use kyanite_tree::Span;

use super::cursor::{is_blank, is_break, is_flow_indicator, is_white};
use super::event::ScalarStyle;
use super::parser::{Parsed, Parser};

/// The scalar that was read last.
pub(super) struct Read<'a> {
    pub(super) text: Cow<'a, str>,
    pub(super) style: ScalarStyle,
    pub(super) span: Span,
    /// Whether it goes over several lines, so that it is no implicit key (section 7.4.2).
    pub(super) is_long: bool,
}

impl Read<'_> {
    pub(super) fn is_quoted(&self) -> bool {
        matches!(self.style, ScalarStyle::SingleQuoted | ScalarStyle::DoubleQuoted)
    }
}

/// Bytes that neither end a plain scalar nor are white nor have to be looked at more closely.
const ORDINARY: [bool; 256] = {
    let mut ordinary = [true; 256];
    let mut at = 0;
    let special = b" \t\n\r:#,[]{}";
    while at < special.len() {
        ordinary[special[at] as usize] = false;
        at += 1;
    }
    ordinary
};

/// How line breaks are folded (section 6.5): one becomes a blank, of more the first goes.
fn fold(breaks: usize, text: &mut String) {
    match breaks {
        1 => text.push(' '),
        more => text.extend(std::iter::repeat_n('\n', more - 1)),
    }
}

impl<'a> Parser<'a> {
    /// Whether a plain scalar may begin at the position (`ns-plain-first`).
    #[inline]
    pub(super) fn begins_plain(&self) -> bool {
        let (Some(first), next) = (self.cursor.peek(), self.cursor.byte(self.cursor.at + 1)) else {
            return false;
        };
        match first {
            b'-' | b'?' | b':' => {
                !(is_blank(next) || self.flow_level() > 0 && next.is_some_and(is_flow_indicator))
            }
            b',' | b'[' | b']' | b'{' | b'}' | b'#' | b'&' | b'*' | b'!' | b'|' | b'>' | b'\''
            | b'"' | b'%' | b'@' | b'`' => false,
            _ => true,
        }
    }

    /// A plain scalar in lines that are indented by more than `indent`.
    pub(super) fn plain(&mut self, indent: Option<usize>) {
        let start = self.cursor.at;
        self.plain_line();
        let (mut end, mut line) = (self.cursor.at, self.cursor.line);
        if self.cursor.peek() == Some(b':') {
            // Most keys are read so.
            let text = Cow::Borrowed(self.cursor.slice(start, end));
            let span = Span::new(start, end);
            self.read = Read { text, style: ScalarStyle::Plain, span, is_long: false };
            return;
        }
        let mut long: Option<String> = None;
        while let Some(breaks) = self.continuation(indent) {
            let from = self.cursor.at;
            self.plain_line();
            if self.cursor.at == from {
                break;
            }
            let text = long.get_or_insert_with(|| self.cursor.slice(start, end).to_owned());
            fold(breaks, text);
            text.push_str(self.cursor.slice(from, self.cursor.at));
            (end, line) = (self.cursor.at, self.cursor.line);
        }
        (self.cursor.at, self.cursor.line) = (end, line);
        let is_long = long.is_some();
        let text = long.map_or_else(|| Cow::Borrowed(self.cursor.slice(start, end)), Cow::Owned);
        self.read = Read { text, style: ScalarStyle::Plain, span: Span::new(start, end), is_long };
    }

    /// Steps to where a plain scalar ends on this line.
    #[inline]
    fn plain_line(&mut self) {
        let bytes = self.cursor.bytes();
        let in_flow = self.flow_level() > 0;
        let (start, mut at) = (self.cursor.at, self.cursor.at);
        let mut end = at;
        while let Some(byte) = bytes.get(at).copied() {
            if ORDINARY[usize::from(byte)] {
                at += 1;
                end = at;
                continue;
            }
            let next = bytes.get(at + 1).copied();
            let ends = match byte {
                b' ' | b'\t' => {
                    at += 1;
                    continue;
                }
                b':' => is_blank(next) || in_flow && next.is_some_and(is_flow_indicator),
                b'#' => at > start && is_white(bytes[at - 1]),
                b'\n' | b'\r' => true,
                _ => in_flow,
            };
            if ends {
                break;
            }
            at += 1;
            end = at;
        }
        self.cursor.at = end;
    }

    /// Steps to where a plain scalar goes on behind the end of its line; gives the number of line ends passed.
    fn continuation(&mut self, indent: Option<usize>) -> Option<usize> {
        self.cursor.white();
        let mut breaks = 0;
        while self.cursor.peek().is_some_and(is_break) {
            self.cursor.line_end();
            breaks += 1;
            let spaces = self.cursor.indentation();
            self.cursor.white();
            let next = self.cursor.peek()?;
            if is_break(next) {
                continue;
            }
            let is_inside = indent.is_none_or(|indent| spaces > indent);
            let is_other = next == b'#' || self.cursor.is_marker(self.cursor.line);
            return (is_inside && !is_other).then_some(breaks);
        }
        None
    }

    /// A scalar in quotes, whose further lines are indented by more than `indent`.
    pub(super) fn quoted(&mut self, indent: Option<usize>) -> Parsed<()> {
        let start = self.cursor.at;
        let quote = self.cursor.bytes()[start];
        let is_double = quote == b'"';
        self.cursor.at += 1;
        let mut piece = self.cursor.at;
        let mut text: Option<String> = None;
        // Up to here blanks at the end of a line were written as escapes, and stay.
        let mut kept = 0;
        let mut is_long = false;
        loop {
            let rest = &self.cursor.bytes()[self.cursor.at..];
            let found = match is_double {
                true => memchr::memchr3(b'"', b'\\', b'\n', rest)
                    .map(|found| memchr::memchr(b'\r', &rest[..found]).unwrap_or(found)),
                false => memchr::memchr3(b'\'', b'\n', b'\r', rest),
            };
            let Some(length) = found else { return Err(self.unclosed(start)) };
            self.cursor.at += length;
            let byte = rest[length];
            if byte == quote && (is_double || rest.get(length + 1) != Some(&b'\'')) {
                break;
            }
            is_long |= is_break(byte);
            let written = self.cursor.slice(piece, self.cursor.at);
            let text = text.get_or_insert_default();
            text.push_str(written);
            match byte {
                b'\'' => {
                    text.push('\'');
                    self.cursor.at += 2;
                }
                b'\\' if self.cursor.byte(self.cursor.at + 1).is_some_and(is_break) => {
                    self.cursor.at += 1;
                    is_long = true;
                    let breaks = self.folded_lines(start, indent)?;
                    text.extend(std::iter::repeat_n('\n', breaks - 1));
                    kept = text.len();
                }
                b'\\' => {
                    self.escape(text)?;
                    kept = text.len();
                }
                _ => {
                    let trimmed = text[kept..].trim_end_matches([' ', '\t']).len();
                    text.truncate(kept + trimmed);
                    let breaks = self.folded_lines(start, indent)?;
                    fold(breaks, text);
                    kept = text.len();
                }
            }
            piece = self.cursor.at;
        }
        let last = self.cursor.slice(piece, self.cursor.at);
        let text = match text {
            None => Cow::Borrowed(last),
            Some(text) => Cow::Owned(text + last),
        };
        self.cursor.at += 1;
        let style = if is_double { ScalarStyle::DoubleQuoted } else { ScalarStyle::SingleQuoted };
        self.read = Read { text, style, span: Span::new(start, self.cursor.at), is_long };
        Ok(())
    }

    /// Steps over line ends and empty lines inside quotes to where the text goes on; gives how many there were.
    fn folded_lines(&mut self, start: usize, indent: Option<usize>) -> Parsed<usize> {
        let mut breaks = 0;
        while self.cursor.peek().is_some_and(is_break) {
            self.cursor.line_end();
            breaks += 1;
            let spaces = self.cursor.indentation();
            self.cursor.white();
            match self.cursor.peek() {
                None => return Err(self.unclosed(start)),
                Some(next) if is_break(next) => continue,
                Some(_) => {}
            }
            if self.cursor.is_marker(self.cursor.line) {
                let at = self.cursor.line;
                let message = "a document ends inside quotes";
                let advice = "close the text, or indent this line";
                return Err(self.error(at, message, advice).also(Some(start)));
            }
            if indent.is_some_and(|indent| spaces <= indent) {
                let message = "this line of a text in quotes is not indented far enough";
                let advice = "indent it by more blanks than the line with the key";
                return Err(self.error_here(message, advice).also(Some(start)));
            }
        }
        Ok(breaks)
    }

    /// An escape of a text in double quotes (section 5.7), at its backslash.
    fn escape(&mut self, text: &mut String) -> Parsed<()> {
        let start = self.cursor.at;
        let Some(letter) = self.cursor.byte(start + 1) else {
            // The text ends here, which is told where the quote began.
            self.cursor.at += 1;
            return Ok(());
        };
        self.cursor.at += 2;
        let digits = match letter {
            b'x' => 2,
            b'u' => 4,
            b'U' => 8,
            _ => {
                let plain = match letter {
                    b'0' => '\0',
                    b'a' => '\u{7}',
                    b'b' => '\u{8}',
                    b't' | b'\t' => '\t',
                    b'n' => '\n',
                    b'v' => '\u{b}',
                    b'f' => '\u{c}',
                    b'r' => '\r',
                    b'e' => '\u{1b}',
                    b' ' => ' ',
                    b'"' => '"',
                    b'/' => '/',
                    b'\\' => '\\',
                    b'N' => '\u{85}',
                    b'_' => '\u{a0}',
                    b'L' => '\u{2028}',
                    b'P' => '\u{2029}',
                    _ => {
                        let message = "this backslash begins no escape";
                        let advice = "write \\\\ for a backslash, or use single quotes";
                        return Err(self.error(start, message, advice));
                    }
                };
                text.push(plain);
                return Ok(());
            }
        };
        let first = self.hexadecimal(start, digits)?;
        let character = match first {
            // Both halves of a surrogate pair, as in JSON.
            0xD800..0xDC00 if self.cursor.slice(self.cursor.at, self.cursor.at + 2) == "\\u" => {
                self.cursor.at += 2;
                let second = self.hexadecimal(start, 4)?;
                let is_low = (0xDC00..0xE000).contains(&second);
                is_low.then(|| 0x10000 + ((first - 0xD800) << 10) + (second - 0xDC00))
            }
            other => Some(other),
        };
        match character.and_then(char::from_u32) {
            Some(character) => text.push(character),
            None => {
                let message = "this escape is no character";
                let advice = "write the character itself, or both halves of a surrogate pair";
                return Err(self.error(start, message, advice));
            }
        }
        Ok(())
    }

    fn hexadecimal(&mut self, start: usize, digits: usize) -> Parsed<u32> {
        let from = self.cursor.at;
        let written = self.cursor.slice(from, from + digits);
        if written.len() != digits || !written.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            let message = format!("{digits} hexadecimal digits are missing in this escape");
            return Err(self.error(start, message, "write \\xE9, \\u00E9 or \\U000000E9"));
        }
        self.cursor.at += digits;
        Ok(u32::from_str_radix(written, 16).unwrap_or(u32::MAX))
    }

    #[cold]
    fn unclosed(&self, start: usize) -> crate::SyntaxError {
        let end = self.cursor.text.len();
        let advice = "close it with the quote that it begins with";
        self.error(end, "the text ends inside quotes", advice).also(Some(start))
    }

    /// A block of lines (section 8.1), indented by more than `indent`.
    pub(super) fn block(&mut self, indent: Option<usize>) -> Parsed<()> {
        let start = self.cursor.at;
        let is_folded = self.cursor.bytes()[start] == b'>';
        let (explicit, chomp) = self.block_header()?;
        let base = indent.unwrap_or(0);
        let mut lines =
            BlockIndentation { inside: explicit.map(|more| base + more), deepest_blank: 0 };
        let least = indent.map_or(0, |indent| indent + 1);
        let mut text = String::new();
        // Line ends since the last line with text, and whether that line was indented further.
        let (mut breaks, mut was_further, mut is_first) = (0, false, true);
        let mut end = self.cursor.at;
        while self.cursor.at < self.cursor.text.len() {
            let Some(line) = self.block_line(&mut lines, least)? else { break };
            end = self.cursor.at;
            if line.is_empty() {
                breaks += 1;
            } else {
                let is_further = line.starts_with([' ', '\t']);
                match (is_first, is_folded && !was_further && !is_further) {
                    (false, true) => fold(breaks, &mut text),
                    _ => text.extend(std::iter::repeat_n('\n', breaks)),
                }
                text.push_str(line);
                (breaks, was_further, is_first) = (1, is_further, false);
            }
            if self.cursor.peek().is_some_and(is_break) {
                self.cursor.line_end();
            } else {
                // The end of the text ends its last line, too.
                break;
            }
        }
        match chomp {
            Chomp::Strip => {}
            Chomp::Clip if is_first => {}
            Chomp::Clip => text.extend(std::iter::repeat_n('\n', breaks.min(1))),
            Chomp::Keep => text.extend(std::iter::repeat_n('\n', breaks)),
        }
        let style = if is_folded { ScalarStyle::Folded } else { ScalarStyle::Literal };
        self.read =
            Read { text: Cow::Owned(text), style, span: Span::new(start, end), is_long: true };
        Ok(())
    }

    /// Reads `|` or `>` and what stands behind it, up to the start of the next line.
    fn block_header(&mut self) -> Parsed<(Option<usize>, Chomp)> {
        let (mut explicit, mut chomp) = (None, None);
        self.cursor.at += 1;
        loop {
            match self.cursor.peek() {
                Some(digit @ b'1'..=b'9') if explicit.is_none() => {
                    explicit = Some(usize::from(digit - b'0'));
                }
                Some(b'-') if chomp.is_none() => chomp = Some(Chomp::Strip),
                Some(b'+') if chomp.is_none() => chomp = Some(Chomp::Keep),
                _ => break,
            }
            self.cursor.at += 1;
        }
        let spaced = self.cursor.white();
        match self.cursor.peek() {
            None => {}
            Some(b'#') if spaced => self.cursor.comment(),
            Some(byte) if is_break(byte) => {}
            Some(_) => {
                let message = "this does not continue the header of a block of lines";
                let advice =
                    "the text begins on the next line; an indentation is 1 to 9, then - or +";
                return Err(self.error_here(message, advice));
            }
        }
        if self.cursor.peek().is_some() {
            self.cursor.line_end();
        }
        Ok((explicit, chomp.unwrap_or(Chomp::Clip)))
    }

    /// The text of the next line of a block, without its indentation and its end; none when the line is behind the block.
    fn block_line(
        &mut self,
        lines: &mut BlockIndentation,
        least: usize,
    ) -> Parsed<Option<&'a str>> {
        let start = self.cursor.at;
        let spaces = self.cursor.indentation();
        let next = self.cursor.byte(start + spaces);
        if next.is_none_or(is_break) {
            let inside = lines.inside.unwrap_or(usize::MAX);
            if lines.inside.is_none() {
                lines.deepest_blank = lines.deepest_blank.max(spaces);
            }
            self.cursor.at = start + spaces;
            return Ok(Some(
                self.cursor.slice((start + inside.min(spaces)).max(start), start + spaces),
            ));
        }
        if self.cursor.is_marker(start) {
            return Ok(None);
        }
        let inside = match lines.inside {
            Some(inside) => inside,
            None if spaces < least => usize::MAX,
            None => {
                if lines.deepest_blank > spaces {
                    let message =
                        "an empty line above is indented further than the first line of this block";
                    let advice = "take its blanks away, or write the indentation behind | or >";
                    return Err(self.error(start + spaces, message, advice));
                }
                *lines.inside.insert(spaces)
            }
        };
        if spaces < inside {
            if next == Some(b'\t') {
                let message = "a tab stands where a block of lines is indented";
                return Err(self.error(start + spaces, message, "indent with blanks"));
            }
            return Ok(None);
        }
        self.cursor.at = start + inside;
        self.cursor.pass_line();
        Ok(Some(self.cursor.slice(start + inside, self.cursor.at)))
    }
}

/// What is known of the indentation of a block.
struct BlockIndentation {
    /// The blanks that each line begins with, once that is settled.
    inside: Option<usize>,
    /// The most blanks on an empty line before the first with text.
    deepest_blank: usize,
}

/// What happens to the line ends behind a block (section 8.1.1.2).
#[derive(Clone, Copy, PartialEq, Eq)]
enum Chomp {
    /// All go.
    Strip,
    /// One stays.
    Clip,
    /// All stay.
    Keep,
}
