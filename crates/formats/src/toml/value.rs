//! The values of TOML.

use kyanite_tree::{Foreign, ForeignType, Number, Origin, Value};

use super::datetime;
use super::read::{Read, Reader, is_control};
use super::table::{Made, Table};

impl<'a> Reader<'a> {
    /// Reads the value that begins here, `level` levels deep.
    pub(super) fn value(&mut self, level: usize) -> Read<Value<'a>> {
        let start = self.at;
        let origin = self.origin(start);
        match self.peek() {
            Some(b'"') if self.rest().starts_with("\"\"\"") => {
                Ok(Value::Text(origin, self.basic_lines()?))
            }
            Some(b'"') => Ok(Value::Text(origin, self.basic()?)),
            Some(b'\'') if self.rest().starts_with("'''") => {
                Ok(Value::Text(origin, self.literal_lines()?))
            }
            Some(b'\'') => Ok(Value::Text(origin, self.literal()?)),
            Some(b'[' | b'{') if level >= self.options.depth => Err(self.too_deep(start)),
            Some(b'[') => self.array(level),
            Some(b'{') => self.inline_table(level),
            _ => self.bare(),
        }
    }

    fn foreign(&self, origin: Origin, text: &'a str, of: ForeignType<'a>) -> Value<'a> {
        Value::Foreign(origin, self.arena.put(Foreign { text, of }))
    }

    /// true, a number, a date or a time.
    fn bare(&mut self) -> Read<Value<'a>> {
        let start = self.at;
        let origin = self.origin(start);
        let rest = self.rest();
        if let Some((spelled, length)) = datetime::scan(rest) {
            self.at += length;
            return Ok(self.foreign(origin, self.arena.text(&spelled), ForeignType::DateTime));
        }
        let length = rest
            .bytes()
            .take_while(|byte| {
                byte.is_ascii_alphanumeric() || matches!(byte, b'+' | b'-' | b'_' | b'.' | b':')
            })
            .count();
        let word = &rest[..length];
        self.at += length;
        match word {
            "true" | "false" => return Ok(Value::Boolean(origin, word == "true")),
            "inf" | "+inf" | "-inf" | "nan" | "+nan" | "-nan" => {
                return Ok(self.foreign(origin, word, ForeignType::NotFinite));
            }
            _ => {}
        }
        let number =
            if word.bytes().all(|byte| byte.is_ascii_digit()) && Number::parse(word).is_some() {
                Some(word)
            } else {
                spelled(word).map(|spelled| self.arena.text(&spelled))
            };
        let Some(number) = number.and_then(Number::parse) else {
            self.at = start;
            let end = start + length.max(1);
            let message =
                if length == 0 { "a value is missing here" } else { "this is no value of TOML" };
            let advice = "values are \"text\", 12, 0.5, true, 2026-05-01, [arrays] and {tables}";
            return Err(self.error(start, end, message, advice));
        };
        let is_integer = !number.as_str().contains(['.', 'e', 'E']);
        if is_integer && number.as_str().parse::<i64>().is_err() {
            let message = "this integer does not fit in 64 bits";
            return Err(self.error(
                start,
                start + length,
                message,
                "TOML 1.0 asks for that; write it as a text",
            ));
        }
        Ok(Value::Number(origin, number))
    }

    fn array(&mut self, level: usize) -> Read<Value<'a>> {
        let start = self.at;
        let mut items = Vec::new();
        self.at += 1;
        loop {
            self.blank_lines()?;
            if self.peek() == Some(b']') {
                self.at += 1;
                return Ok(Value::List(self.origin(start), self.arena.items(&items)));
            }
            items.push(self.value(level + 1)?);
            self.blank_lines()?;
            match self.peek() {
                Some(b',') => self.at += 1,
                Some(b']') => {}
                _ => {
                    let error = self.error_here(
                        "a comma or `]` is missing here",
                        "close the array, or check the value before it",
                    );
                    return Err(error.also(Some(start)));
                }
            }
        }
    }

    /// `{ key = value, … }` on one line, without a comma at the end.
    fn inline_table(&mut self, level: usize) -> Read<Value<'a>> {
        let start = self.at;
        let mut table = Table::new(self.origin(start), Made::Header);
        let mut path = Vec::new();
        self.at += 1;
        self.blanks();
        if self.peek() == Some(b'}') {
            self.at += 1;
            return Ok(table.finish(self.arena));
        }
        loop {
            self.key(&mut path)?;
            if level + path.len() > self.options.depth {
                return Err(self.too_deep(start));
            }
            self.equals()?;
            let value = self.value(level + path.len())?;
            table.insert(&path, value).map_err(|taken| self.taken(&taken))?;
            self.blanks();
            match self.peek() {
                Some(b',') => self.at += 1,
                Some(b'}') => {
                    self.at += 1;
                    return Ok(table.finish(self.arena));
                }
                _ => {
                    let error = self.error_here(
                        "a comma or `}` is missing here",
                        "an inline table stands on one line",
                    );
                    return Err(error.also(Some(start)));
                }
            }
        }
    }

    /// A text in single quotes.
    pub(super) fn literal(&mut self) -> Read<&'a str> {
        let start = self.at + 1;
        let rest = &self.text[start..];
        let end = rest.bytes().position(|byte| byte == b'\'' || is_control(byte));
        match end.map(|end| (end, rest.as_bytes()[end])) {
            Some((end, b'\'')) => {
                self.at = start + end + 1;
                Ok(&rest[..end])
            }
            Some((end, byte)) if byte != b'\n' && byte != b'\r' => {
                self.at = start + end;
                Err(self.control())
            }
            _ => {
                Err(self.error_here("this text is not closed on its line", "write the same quote"))
            }
        }
    }

    /// A text between `'''`.
    fn literal_lines(&mut self) -> Read<&'a str> {
        let start = self.at;
        self.at += 3;
        self.newline();
        let from = self.at;
        let rest = self.rest();
        let Some(close) = rest.find("'''") else {
            return Err(self.error(start, start + 3, "this text is not closed", "write '''"));
        };
        // Up to two quotes may stand right before the closing ones.
        let extra = rest[close + 3..].bytes().take(2).take_while(|byte| *byte == b'\'').count();
        let text = &rest[..close + extra];
        self.check_lines(text, from)?;
        self.at = from + text.len() + 3;
        Ok(text)
    }

    fn check_lines(&mut self, text: &str, from: usize) -> Read<()> {
        let bytes = text.as_bytes();
        let bad = bytes.iter().enumerate().position(|(at, byte)| match byte {
            b'\n' => false,
            b'\r' => bytes.get(at + 1) != Some(&b'\n'),
            byte => is_control(*byte),
        });
        if let Some(bad) = bad {
            self.at = from + bad;
            return Err(self.control());
        }
        Ok(())
    }

    /// A text in double quotes.
    pub(super) fn basic(&mut self) -> Read<&'a str> {
        let open = self.at;
        self.at += 1;
        let start = self.at;
        let mut unescaped: Option<String> = None;
        loop {
            let run = self.at;
            let rest = self.rest();
            let stop =
                rest.bytes().position(|byte| matches!(byte, b'"' | b'\\') || is_control(byte));
            let stop = stop.unwrap_or(rest.len());
            self.at += stop;
            match self.peek() {
                Some(b'"') => {
                    let text = match unescaped {
                        None => &self.text[start..self.at],
                        Some(mut text) => {
                            text.push_str(&self.text[run..self.at]);
                            self.arena.text(&text)
                        }
                    };
                    self.at += 1;
                    return Ok(text);
                }
                Some(b'\\') => {
                    let text = unescaped.get_or_insert_default();
                    text.push_str(&self.text[run..self.at]);
                    let character = self.escape()?;
                    unescaped.get_or_insert_default().push(character);
                }
                None | Some(b'\n' | b'\r') => {
                    return Err(self.error(
                        open,
                        open + 1,
                        "this text is not closed on its line",
                        "write the same quote",
                    ));
                }
                Some(_) => return Err(self.control()),
            }
        }
    }

    /// A text between `"""`.
    fn basic_lines(&mut self) -> Read<&'a str> {
        let open = self.at;
        self.at += 3;
        self.newline();
        let mut text = String::new();
        loop {
            let run = self.at;
            let rest = self.rest();
            let stop = rest.bytes().position(|byte| {
                matches!(byte, b'"' | b'\\') || (is_control(byte) && byte != b'\n')
            });
            self.at += stop.unwrap_or(rest.len());
            text.push_str(&self.text[run..self.at]);
            match self.peek() {
                Some(b'"') => {
                    let quotes =
                        self.rest().bytes().take(5).take_while(|byte| *byte == b'"').count();
                    self.at += quotes;
                    text.extend(std::iter::repeat_n(
                        '"',
                        if quotes < 3 { quotes } else { quotes - 3 },
                    ));
                    if quotes >= 3 {
                        return Ok(self.arena.text(&text));
                    }
                }
                Some(b'\\') if !self.ends_line() => {
                    let character = self.escape()?;
                    text.push(character);
                }
                Some(b'\\') => {}
                Some(b'\r') if self.rest().starts_with("\r\n") => {
                    text.push_str("\r\n");
                    self.at += 2;
                }
                Some(_) => return Err(self.control()),
                None => {
                    return Err(self.error(
                        open,
                        open + 3,
                        "this text is not closed",
                        "write \"\"\"",
                    ));
                }
            }
        }
    }

    /// Steps over a backslash at the end of a line, and the white space up to the next text, if that is what stands here.
    fn ends_line(&mut self) -> bool {
        let rest = &self.rest()[1..];
        let line = rest.trim_start_matches([' ', '\t']);
        if !line.starts_with('\n') && !line.starts_with("\r\n") {
            return false;
        }
        let mut text = line;
        loop {
            let trimmed = text.trim_start_matches([' ', '\t', '\n']);
            let trimmed = trimmed.strip_prefix("\r\n").unwrap_or(trimmed);
            if trimmed.len() == text.len() {
                break;
            }
            text = trimmed;
        }
        self.at = self.text.len() - text.len();
        true
    }

    /// The character that an escape stands for.
    fn escape(&mut self) -> Read<char> {
        let start = self.at;
        self.at += 2;
        let code = match self.text.as_bytes().get(start + 1) {
            Some(b'b') => return Ok('\u{8}'),
            Some(b't') => return Ok('\t'),
            Some(b'n') => return Ok('\n'),
            Some(b'f') => return Ok('\u{c}'),
            Some(b'r') => return Ok('\r'),
            Some(b'"') => return Ok('"'),
            Some(b'\\') => return Ok('\\'),
            Some(b'u') => 4,
            Some(b'U') => 8,
            _ => 0,
        };
        let digits = self.text.get(start + 2..start + 2 + code).filter(|_| code > 0);
        let digits = digits.filter(|digits| digits.bytes().all(|byte| byte.is_ascii_hexdigit()));
        let character =
            digits.and_then(|digits| u32::from_str_radix(digits, 16).ok()).and_then(char::from_u32);
        match character {
            Some(character) => {
                self.at += code;
                Ok(character)
            }
            None => {
                let advice = "the escapes are \\b \\t \\n \\f \\r \\\" \\\\ \\uXXXX \\UXXXXXXXX";
                Err(self.error(start, start + 2, "this backslash begins no escape", advice))
            }
        }
    }
}

/// A number of TOML in the spelling of JSON: no underscores, no sign in front of a positive one, decimal.
fn spelled(word: &str) -> Option<String> {
    let unsigned = word.strip_prefix(['+', '-']).unwrap_or(word);
    let sign = if word.starts_with('-') { "-" } else { "" };
    // An underscore stands between two digits.
    let bytes = unsigned.as_bytes();
    let is_hexadecimal = unsigned.starts_with("0x");
    let is_lone = |at: usize| {
        let is_digit = |byte: Option<&u8>| {
            byte.is_some_and(|byte| {
                byte.is_ascii_digit() || is_hexadecimal && byte.is_ascii_hexdigit()
            })
        };
        !(at > 0 && is_digit(bytes.get(at - 1)) && is_digit(bytes.get(at + 1)))
    };
    if bytes.iter().enumerate().any(|(at, byte)| *byte == b'_' && is_lone(at)) {
        return None;
    }
    let digits = unsigned.replace('_', "");
    for (prefix, radix) in [("0x", 16), ("0o", 8), ("0b", 2)] {
        if let Some(digits) = digits.strip_prefix(prefix) {
            let is_plain =
                word == unsigned && digits.bytes().all(|byte| byte.is_ascii_alphanumeric());
            return i64::from_str_radix(digits, radix)
                .ok()
                .filter(|_| is_plain)
                .map(|n| n.to_string());
        }
    }
    // The rest has the grammar of JSON, but exponents may have an underscore, and `e` no point before it.
    let is_decimal =
        |byte: u8| byte.is_ascii_digit() || matches!(byte, b'.' | b'e' | b'E' | b'+' | b'-');
    let number = format!("{sign}{digits}");
    (digits.bytes().all(is_decimal) && Number::parse(&number).is_some()).then_some(number)
}
