//! `kyanite reshape --trace`: where values of the result come from, to read or as data.

use std::io::{self, IsTerminal, Write};

use kyanite_flow::{Output, RunError, Sink, Traced};
use kyanite_tree::{Arena, Diagnostic, Value};

use crate::arguments::MessageOptions;
use crate::messages::{Messages, places};

/// Input places of one value that are shown to read; as data all are given that are known.
const SHOWN: usize = 10;

/// Shows what was traced on standard output, or gives it to `output` as maps; what is worth saying about that is given back.
pub fn show(
    traced: &[Traced],
    output: Option<Output>,
    options: &MessageOptions,
) -> Result<Vec<Diagnostic>, RunError> {
    let Some(mut output) = output else {
        let words = Messages::on(options, io::stdout().is_terminal());
        let mut out = io::stdout().lock();
        // Whoever closed the pipe has seen enough.
        let _ = traced.iter().try_for_each(|one| out.write_all(to_read(one, &words).as_bytes()));
        return Ok(Vec::new());
    };
    let arena = Arena::new();
    for one in traced {
        let _ = output.item(arena.map([
            ("path", Value::text(&one.path)),
            ("value", Value::text(&one.value)),
            ("rule", places(&one.rule, &arena)),
            ("inputs", places(&one.inputs, &arena)),
            ("count", arena.integer(one.count as i64)),
        ]));
    }
    output.end_items();
    output.finish()
}

fn to_read(one: &Traced, words: &Messages) -> String {
    let mut value: String = one.value.chars().take(100).collect();
    if value.len() < one.value.len() {
        value.push('…');
    }
    let mut text = format!("{}\n", words.strong(&format!("{} is {value}", one.path)));
    text.push_str(" made by\n");
    one.rule.iter().for_each(|place| words.place(place, &mut text));
    if one.count == 0 {
        text.push_str(" of no value of an input\n");
        return text;
    }
    let all = if one.count > 1 { format!(" {} values", one.count) } else { String::new() };
    text.push_str(&format!(" of{all}\n"));
    one.inputs.iter().take(SHOWN).for_each(|place| words.place(place, &mut text));
    if one.count > SHOWN {
        text.push_str(&format!("  … and {} more\n", one.count - SHOWN));
    }
    text
}
