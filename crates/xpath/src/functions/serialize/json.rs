//! The JSON output method (Serialization 3.1 section 9).

use std::collections::HashSet;

use kyanite_eval::atomic::Atomic;

use super::{Parameters, by_method};
use crate::error::Error;
use crate::functions::json::escape;
use crate::functions::{Call, failed};
use crate::value::{Item, Sequence};

/// A value as JSON: nothing is null, a node is the text that it is written as.
///
/// # Errors
/// `SERE0023` for several items in place of one, `SERE0022` for keys of a map that are written alike, `SERE0020` for a number that is
/// not finite, `SERE0021` for a function.
pub(super) fn json<'d>(
    call: &Call<'_, '_, 'd>,
    value: &Sequence<'d>,
    parameters: &Parameters,
) -> Result<String, Error> {
    let mut writer = Writer { call, parameters, out: String::new(), depth: 0 };
    writer.sequence(value)?;
    Ok(writer.out)
}

struct Writer<'w, 'c, 'r, 'd> {
    call: &'w Call<'c, 'r, 'd>,
    parameters: &'w Parameters,
    out: String,
    depth: usize,
}

impl<'d> Writer<'_, '_, '_, 'd> {
    fn sequence(&mut self, value: &Sequence<'d>) -> Result<(), Error> {
        match value.items() {
            [] => self.out.push_str("null"),
            [one] => self.item(one)?,
            several => {
                let message = format!("{} items stand where JSON has one value", several.len());
                return Err(
                    failed("SERE0023", message).advise("make an array of them: array { … }")
                );
            }
        }
        Ok(())
    }

    fn item(&mut self, item: &Item<'d>) -> Result<(), Error> {
        if let Some(entries) = item.entries() {
            let mut keys = HashSet::new();
            return self.all('{', '}', &entries, |writer, (key, value)| {
                let key = key.to_text();
                writer.text(&key);
                writer.out.push_str(if writer.parameters.indent { ": " } else { ":" });
                if !keys.insert(key.to_string()) && !writer.parameters.allows_duplicates {
                    let message = format!("two keys of a map are written {key:?}");
                    return Err(failed("SERE0022", message)
                        .advise("set allow-duplicate-names to true to have both"));
                }
                writer.sequence(value)
            });
        }
        if let Some(members) = item.members() {
            return self.all('[', ']', &members, Self::sequence);
        }
        match (item, item.as_atomic()) {
            (Item::Node(_), _) => {
                let method = self.parameters.node_method.as_deref();
                let value = Sequence::One(item.clone());
                let text = by_method(self.call, &value, method, self.parameters)?;
                self.text(&text);
            }
            (_, Some(Atomic::Boolean(value))) => self.out.push_str(&value.to_string()),
            (_, Some(number)) if number.numeric().is_some() => match number.to_string() {
                text if matches!(text.as_str(), "NaN" | "INF" | "-INF") => {
                    let message = format!("JSON has no number {text}");
                    return Err(failed("SERE0020", message));
                }
                text => self.out.push_str(&text),
            },
            (_, Some(other)) => self.text(&other.to_text()),
            (other, None) => {
                let message = format!("{} is no value of JSON", other.phrase());
                return Err(failed("SERE0021", message));
            }
        }
        Ok(())
    }

    /// All values of an array or a map between its brackets.
    fn all<T>(
        &mut self,
        open: char,
        close: char,
        values: &[T],
        mut write: impl FnMut(&mut Self, &T) -> Result<(), Error>,
    ) -> Result<(), Error> {
        self.out.push(open);
        self.depth += 1;
        for (at, value) in values.iter().enumerate() {
            if at > 0 {
                self.out.push(',');
            }
            self.line();
            write(self, value)?;
        }
        self.depth -= 1;
        if !values.is_empty() {
            self.line();
        }
        self.out.push(close);
        Ok(())
    }

    fn line(&mut self) {
        if self.parameters.indent {
            self.out.push('\n');
            self.out.extend(std::iter::repeat_n("  ", self.depth));
        }
    }

    /// A text in quotes, with the escapes of section 9.1, that of the solidus among them.
    fn text(&mut self, text: &str) {
        self.out.push('"');
        for character in text.chars() {
            match character {
                '"' | '/' => self.out.extend(['\\', character]),
                '\\' => self.out.push_str(&escape(character)),
                control if control.is_control() => self.out.push_str(&escape(control)),
                other => self.out.push(other),
            }
        }
        self.out.push('"');
    }
}
