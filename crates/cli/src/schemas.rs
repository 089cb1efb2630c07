//! `kyanite schema`: schemas themselves.

use std::io::Write;
use std::sync::atomic::AtomicU64;

use kyanite_flow::{Events, Failed, Input, Schemas, Set, Validation};
use kyanite_schema::json::Settings;
use kyanite_tree::{Arena, Code, counted};

use crate::arguments::DraftName;
use crate::messages::Messages;
use crate::status::Status;

/// `kyanite schema check`: says all that is wrong with schemas, or how many of which sort there are.
pub fn check(
    words: &[String],
    draft: Option<DraftName>,
    (mapped, catalogs): (&[(String, String)], &[String]),
    messages: &mut Messages,
) -> Status {
    let schemas = words.iter().map(|word| Input::of_word(word)).collect();
    let sets = [Set { name: None, schemas, inputs: Vec::new() }];
    let catalogs: Vec<Input> = catalogs.iter().map(|word| Input::of_word(word)).collect();
    let settings = Settings { draft: draft.map(Into::into), ..Validation::default().settings };
    let validation =
        Validation { sets: &sets, mapped, catalogs: &catalogs, settings, ..Validation::default() };
    let (arena, bytes) = (Arena::new(), AtomicU64::new(0));
    let mut events = Events { tell: &mut |told| messages.show(&told), bytes: &bytes };
    let read = Schemas::read(validation, &arena, &mut events);
    match read {
        Ok(schemas) => {
            let words = ["JSON Schema", "XML Schema", "Schematron schema"];
            let counts = schemas.counts().into_iter().zip(words).filter(|(count, _)| *count > 0);
            let counts: Vec<String> = counts.map(|(count, word)| counted(count, word)).collect();
            // Whoever closed the pipe has seen enough.
            let _ = writeln!(std::io::stdout().lock(), "{}: nothing is wrong", counts.join(", "));
            Status::Done
        }
        Err(failed) => {
            messages.show_all(failed.diagnostics());
            let is_wrong = |code| matches!(code, Code::SchemaWrong);
            match &failed {
                Failed::Command(found) if found.iter().all(|why| is_wrong(why.code())) => {
                    Status::No
                }
                other => Status::from(other),
            }
        }
    }
}
