//! JSON Patch (RFC 6902), read and applied.

use kyanite_tree::{Advice, Arena, Kind, Origin, Setting, Value, equal, near_words};

use crate::editing::Edited;
use kyanite_tree::pointer::{self, index, tokens};

/// A JSON Patch.
#[derive(Debug)]
pub struct Patch<'p>(Vec<Operation<'p>>);

#[derive(Debug)]
struct Operation<'p> {
    sort: Sort<'p>,
    path: Target,
    /// Where it stands in the patch.
    origin: Origin,
}

#[derive(Debug)]
enum Sort<'p> {
    Add(Value<'p>),
    Remove,
    Replace(Value<'p>),
    Move(Target),
    Copy(Target),
    Test(Value<'p>),
}

/// A pointer.
#[derive(Debug)]
struct Target {
    tokens: Vec<String>,
    origin: Origin,
}

/// What is wrong with a patch, or why it does not apply.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PatchProblem {
    /// What is wrong, in a sentence.
    pub message: String,
    /// What may be meant, or what to do.
    pub advice: Option<Advice>,
    /// Where it is wrong in the patch.
    pub origin: Origin,
    /// Which operation it is, from 0, if it is one.
    pub operation: Option<usize>,
}

/// The operations (section 4).
const OPERATIONS: [&str; 6] = ["add", "remove", "replace", "move", "copy", "test"];

fn problem(message: impl Into<String>, origin: Origin) -> PatchProblem {
    PatchProblem { message: message.into(), advice: None, origin, operation: None }
}

type Result<T> = std::result::Result<T, PatchProblem>;

impl<'p> Patch<'p> {
    /// Reads a patch: a list of operations (section 3).
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(patch: Value<'p>) -> Result<Self> {
        let Some(operations) = patch.as_list() else {
            let message = format!(
                "a JSON Patch is a list of operations, and this is {}",
                patch.kind().phrase()
            );
            return Err(PatchProblem {
                advice: Some(
                    Advice::words("a JSON Merge Patch is applied with ").setting(Setting::Merge),
                ),
                ..problem(message, patch.origin())
            });
        };
        let read = operations.iter().enumerate().map(|(number, operation)| {
            Operation::read(*operation)
                .map_err(|found| PatchProblem { operation: Some(number), ..found })
        });
        Ok(Self(read.collect::<Result<Vec<_>>>()?))
    }

    /// How many operations it has.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether it has none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The document that the patch makes of another: all operations, one after the other.
    ///
    /// # Errors
    /// Why an operation does not apply; then none does (section 5).
    pub fn apply<'a>(&self, document: Value<'a>, arena: &'a Arena) -> Result<Value<'a>>
    where
        'p: 'a,
    {
        let mut edited = Edited::Kept(document);
        for (number, operation) in self.0.iter().enumerate() {
            operation
                .apply(&mut edited, arena)
                .map_err(|found| PatchProblem { operation: Some(number), ..found })?;
        }
        Ok(edited.to_value(arena))
    }
}

impl<'p> Operation<'p> {
    fn read(operation: Value<'p>) -> Result<Self> {
        let origin = operation.origin();
        let Some(map) = operation.as_map() else {
            let message =
                format!("an operation is a map, and this is {}", operation.kind().phrase());
            return Err(problem(message, origin));
        };
        let member = |name: &str| {
            let missing = || problem(format!("the operation has no member {name:?}"), origin);
            map.get(name).ok_or_else(missing)
        };
        let target = |name: &str| {
            let value = member(name)?;
            let refused = |message: String| problem(message, value.origin());
            let text = value.as_text().filter(|_| value.kind() == Kind::Text).ok_or_else(|| {
                refused(format!("{name:?} is {}, not a JSON Pointer", value.kind().phrase()))
            })?;
            let tokens = tokens(text).ok_or_else(|| {
                let message = format!("{text:?} is no JSON Pointer");
                let advice = "it is empty or begins with a slash; ~0 stands for ~ and ~1 for /";
                PatchProblem { advice: Some(Advice::words(advice)), ..refused(message) }
            })?;
            Ok(Target { tokens, origin: value.origin() })
        };
        let op = member("op")?;
        let sort = match op.as_text() {
            Some("add") => Sort::Add(member("value")?),
            Some("remove") => Sort::Remove,
            Some("replace") => Sort::Replace(member("value")?),
            Some("move") => Sort::Move(target("from")?),
            Some("copy") => Sort::Copy(target("from")?),
            Some("test") => Sort::Test(member("value")?),
            Some(other) => {
                let known = || format!("there are {}", OPERATIONS.join(", "));
                let advice = near_words(other, OPERATIONS).unwrap_or_else(known);
                let unknown = problem(format!("there is no operation {other:?}"), op.origin());
                return Err(PatchProblem { advice: Some(Advice::words(advice)), ..unknown });
            }
            None => return Err(problem("\"op\" is no text", op.origin())),
        };
        Ok(Self { sort, path: target("path")?, origin })
    }

    fn apply<'a>(&self, document: &mut Edited<'a>, arena: &'a Arena) -> Result<()>
    where
        'p: 'a,
    {
        let path = &self.path;
        match &self.sort {
            Sort::Add(value) => add(document, path, Edited::Kept(*value), arena),
            Sort::Remove => remove(document, path).map(drop),
            Sort::Replace(value) => {
                *find(document, path)? = Edited::Kept(*value);
                Ok(())
            }
            Sort::Move(from) => {
                let goes_inside =
                    path.tokens.len() > from.tokens.len() && path.tokens.starts_with(&from.tokens);
                if goes_inside {
                    return Err(problem("a value cannot be moved into itself", self.origin));
                }
                let moved = remove(document, from)?;
                add(document, path, moved, arena)
            }
            Sort::Copy(from) => {
                let copied = find(document, from)?.clone();
                add(document, path, copied, arena)
            }
            Sort::Test(value) => {
                let found = find(document, path)?.to_value(arena);
                if equal(found, *value) {
                    return Ok(());
                }
                let message = format!("the test fails: the document has another value at {path}");
                Err(problem(message, self.origin))
            }
        }
    }
}

impl std::fmt::Display for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.tokens.is_empty() {
            return f.write_str("its root");
        }
        f.write_str(&self.up_to(self.tokens.len()))
    }
}

impl Target {
    /// The pointer of the first tokens.
    fn up_to(&self, count: usize) -> String {
        let mut text = String::new();
        self.tokens[..count].iter().for_each(|token| pointer::push(&mut text, token));
        text
    }

    /// That there is nothing at the first tokens.
    fn missing(&self, count: usize, advice: Option<String>) -> PatchProblem {
        let message = format!("the document has nothing at {}", self.up_to(count));
        PatchProblem { advice: advice.map(Advice::words), ..problem(message, self.origin) }
    }

    /// The index that a token is, up to `most`.
    fn index(&self, at: usize, most: Option<usize>, length: usize) -> Result<usize> {
        let token = self.tokens.get(at).map_or("", String::as_str);
        let Some(found) = index(token) else {
            let message = format!(
                "{} is a list, and {token:?} is no index of one",
                if at == 0 { "the document".to_owned() } else { self.up_to(at) }
            );
            return Err(problem(message, self.origin));
        };
        match most {
            Some(most) if found <= most => Ok(found),
            _ => {
                let items = format!("the list has {}", kyanite_tree::counted(length, "item"));
                Err(self.missing(at + 1, Some(items)))
            }
        }
    }
}

/// The value that a pointer leads to.
fn find<'d, 'a>(document: &'d mut Edited<'a>, target: &Target) -> Result<&'d mut Edited<'a>> {
    let mut at = document;
    for depth in 0..target.tokens.len() {
        at = child(at, target, depth)?;
    }
    Ok(at)
}

/// The value that one token leads to.
fn child<'d, 'a>(
    from: &'d mut Edited<'a>,
    target: &Target,
    depth: usize,
) -> Result<&'d mut Edited<'a>> {
    let token = target.tokens[depth].as_str();
    match from.open() {
        Edited::List(_, items) => {
            let length = items.len();
            let index = target.index(depth, length.checked_sub(1), length)?;
            items.get_mut(index).ok_or_else(|| target.missing(depth + 1, None))
        }
        Edited::Map(_, members, _) => {
            // Asked first, since the borrow of the member ends the use of the map.
            let near =
                (!members.contains_key(token)).then(|| near_words(token, members.keys().copied()));
            members.get_mut(token).ok_or_else(|| target.missing(depth + 1, near.flatten()))
        }
        Edited::Kept(value) => {
            let advice = match depth {
                0 => format!("the document is {}", value.kind().phrase()),
                _ => format!("{} is {}", target.up_to(depth), value.kind().phrase()),
            };
            Err(target.missing(depth + 1, Some(advice)))
        }
    }
}

/// What holds the value that a pointer leads to, and the last token.
fn parent<'d, 'a>(document: &'d mut Edited<'a>, target: &Target) -> Result<&'d mut Edited<'a>> {
    let mut at = document;
    for depth in 0..target.tokens.len().saturating_sub(1) {
        at = child(at, target, depth)?;
    }
    Ok(at.open())
}

/// Puts a value where a pointer leads to (section 4.1).
fn add<'a>(
    document: &mut Edited<'a>,
    target: &Target,
    value: Edited<'a>,
    arena: &'a Arena,
) -> Result<()> {
    let Some(last) = target.tokens.last() else {
        *document = value;
        return Ok(());
    };
    let depth = target.tokens.len() - 1;
    match parent(document, target)? {
        Edited::List(_, items) => {
            let length = items.len();
            let at =
                if last == "-" { length } else { target.index(depth, Some(length), length)? };
            items.insert(at, value);
        }
        Edited::Map(_, members, _) => {
            members.insert(arena.text(last), value);
        }
        Edited::Kept(other) => {
            let what = format!("{} has no members to add one to", other.kind().phrase());
            return Err(target.missing(depth.max(1), Some(what)));
        }
    }
    Ok(())
}

/// Takes the value away that a pointer leads to (section 4.2).
fn remove<'a>(document: &mut Edited<'a>, target: &Target) -> Result<Edited<'a>> {
    let Some(last) = target.tokens.last() else {
        return Ok(std::mem::replace(document, Edited::Kept(Value::NULL)));
    };
    // That it is there is asked first, since that explains best what is missing.
    find(document, target)?;
    let taken = match parent(document, target)? {
        Edited::List(_, items) => index(last).map(|at| items.remove(at)),
        Edited::Map(_, members, _) => members.shift_remove(last.as_str()),
        Edited::Kept(_) => None,
    };
    taken.ok_or_else(|| target.missing(target.tokens.len(), None))
}

#[cfg(test)]
mod tests {
    use kyanite_formats::json::{ReaderOptions, compact, document};

    use super::*;

    #[test]
    fn what_is_wrong_is_said() {
        let arena = Arena::new();
        let read = |text| document(text, &arena, ReaderOptions::default()).unwrap().0;
        let of = read(r#"{"vessel": "Tern", "legs": [1, 2], "port": {"a/b": 1}}"#);
        for (patch, expected) in [
            (r#"{"a": 1}"#, "a JSON Patch is a list of operations, and this is a map"),
            ("[4]", "an operation is a map, and this is a number"),
            (r#"[{"op": "ad", "path": ""}]"#, "there is no operation \"ad\""),
            (r#"[{"op": "add", "path": "/a"}]"#, "the operation has no member \"value\""),
            (r#"[{"op": "remove", "path": "a"}]"#, "\"a\" is no JSON Pointer"),
            (r#"[{"op": "remove", "path": "/~2"}]"#, "\"/~2\" is no JSON Pointer"),
            (r#"[{"op": "remove", "path": 4}]"#, "\"path\" is a number, not a JSON Pointer"),
            (r#"[{"op": "remove", "path": "/vesel"}]"#, "the document has nothing at /vesel"),
            (r#"[{"op": "remove", "path": "/legs/2"}]"#, "the document has nothing at /legs/2"),
            (
                r#"[{"op": "add", "path": "/legs/3", "value": 1}]"#,
                "the document has nothing at /legs/3",
            ),
            (
                r#"[{"op": "add", "path": "/legs/01", "value": 1}]"#,
                "/legs is a list, and \"01\" is no index of one",
            ),
            (
                r#"[{"op": "replace", "path": "/vessel/a", "value": 1}]"#,
                "the document has nothing at /vessel/a",
            ),
            (
                r#"[{"op": "move", "from": "/port", "path": "/port/x"}]"#,
                "a value cannot be moved into itself",
            ),
            (
                r#"[{"op": "test", "path": "/port/a~1b", "value": 2}]"#,
                "the test fails: the document has another value at /port/a~1b",
            ),
        ] {
            let applied = Patch::read(read(patch)).and_then(|patch| patch.apply(of, &arena));
            assert_eq!(
                applied.map(compact).map_err(|found| found.message),
                Err(expected.to_owned()),
                "{patch}"
            );
        }
    }
}
