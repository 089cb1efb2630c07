//! JSON Merge Patch (RFC 7396).

use kyanite_tree::{Arena, Value};

use crate::editing::Edited;

/// The document that a merge patch makes of another (section 2): members of the patch replace those of the document, and null removes them.
#[must_use]
pub fn merge<'a>(document: Value<'a>, patch: Value<'a>, arena: &'a Arena) -> Value<'a> {
    merged(Edited::Kept(document), patch, arena).to_value(arena)
}

fn merged<'a>(document: Edited<'a>, patch: Value<'a>, arena: &'a Arena) -> Edited<'a> {
    let Value::Map(_, map) = patch else { return Edited::Kept(patch) };
    let mut document = document;
    if !matches!(document.open(), Edited::Map(..)) {
        document = Edited::Kept(arena.map([]));
    }
    if let Edited::Map(_, members, _) = document.open() {
        for member in map.members() {
            if matches!(member.value, Value::Null(_)) {
                members.shift_remove(member.name);
                continue;
            }
            let name = arena.text(member.name);
            let slot = members.entry(name).or_insert(Edited::Kept(Value::NULL));
            let old = std::mem::replace(slot, Edited::Kept(Value::NULL));
            *slot = merged(old, member.value, arena);
        }
    }
    document
}

#[cfg(test)]
mod tests {
    use kyanite_formats::json::{ReaderOptions, compact, document};

    use super::*;

    /// The cases of RFC 7396 appendix A.
    #[test]
    fn cases_of_the_standard() {
        let arena = Arena::new();
        let read = |text| document(text, &arena, ReaderOptions::default()).unwrap().0;
        for (original, patch, result) in [
            (r#"{"a":"b"}"#, r#"{"a":"c"}"#, r#"{"a":"c"}"#),
            (r#"{"a":"b"}"#, r#"{"b":"c"}"#, r#"{"a":"b","b":"c"}"#),
            (r#"{"a":"b"}"#, r#"{"a":null}"#, "{}"),
            (r#"{"a":"b","b":"c"}"#, r#"{"a":null}"#, r#"{"b":"c"}"#),
            (r#"{"a":["b"]}"#, r#"{"a":"c"}"#, r#"{"a":"c"}"#),
            (r#"{"a":"c"}"#, r#"{"a":["b"]}"#, r#"{"a":["b"]}"#),
            (r#"{"a":{"b":"c"}}"#, r#"{"a":{"b":"d","c":null}}"#, r#"{"a":{"b":"d"}}"#),
            (r#"{"a":[{"b":"c"}]}"#, r#"{"a":[1]}"#, r#"{"a":[1]}"#),
            (r#"["a","b"]"#, r#"["c","d"]"#, r#"["c","d"]"#),
            (r#"{"a":"b"}"#, r#"["c"]"#, r#"["c"]"#),
            (r#"{"a":"foo"}"#, "null", "null"),
            (r#"{"a":"foo"}"#, r#""bar""#, r#""bar""#),
            (r#"{"e":null}"#, r#"{"a":1}"#, r#"{"e":null,"a":1}"#),
            ("[1,2]", r#"{"a":"b","c":null}"#, r#"{"a":"b"}"#),
            ("{}", r#"{"a":{"bb":{"ccc":null}}}"#, r#"{"a":{"bb":{}}}"#),
        ] {
            assert_eq!(
                compact(merge(read(original), read(patch), &arena)),
                result,
                "{original} {patch}"
            );
        }
    }
}
