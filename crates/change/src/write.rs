//! A difference as a JSON Patch (RFC 6902).

use std::collections::HashSet;

use kyanite_tree::{Arena, Step, Value, pointer};

use crate::difference::{Aligned, Delta, Difference};

/// The patch that makes the new document of the old one: applied to it, it gives that by value; if `is_exact`, with members in the
/// same order, too.
#[must_use]
pub fn json_patch<'a>(difference: &Difference<'a>, is_exact: bool, arena: &'a Arena) -> Value<'a> {
    let mut writer = Writer { operations: Vec::new(), steps: Vec::new(), is_exact, arena };
    writer.delta(&difference.delta);
    arena.list(&writer.operations)
}

struct Writer<'a> {
    operations: Vec<Value<'a>>,
    /// The steps to where it is, in the document as it is by then.
    steps: Vec<Step<'a>>,
    is_exact: bool,
    arena: &'a Arena,
}

impl<'a> Writer<'a> {
    fn path(&self, last: Option<Step<'a>>) -> Value<'a> {
        let mut pointer = written(&self.steps);
        if let Some(last) = last {
            pointer.push_str(&written(&[last]));
        }
        Value::text(self.arena.text(&pointer))
    }

    fn add(&mut self, last: Option<Step<'a>>, value: Value<'a>) {
        let operation = [("op", Value::text("add")), ("path", self.path(last)), ("value", value)];
        self.operations.push(self.arena.map(operation));
    }

    fn remove(&mut self, last: Step<'a>) {
        let operation = [("op", Value::text("remove")), ("path", self.path(Some(last)))];
        self.operations.push(self.arena.map(operation));
    }

    fn delta(&mut self, delta: &Delta<'a>) {
        match delta {
            // Elements are compared, and not patched.
            Delta::Same | Delta::Element => {}
            Delta::Other(value) => {
                let path = self.path(None);
                let operation = [("op", Value::text("replace")), ("path", path), ("value", *value)];
                self.operations.push(self.arena.map(operation));
            }
            Delta::Map { removed, added, changed, new, old } => {
                removed.iter().for_each(|name| self.remove(Step::Name(name)));
                for (name, delta) in changed {
                    self.steps.push(Step::Name(name));
                    self.delta(delta);
                    self.steps.pop();
                }
                added
                    .iter()
                    .for_each(|member| self.add(Some(Step::Name(member.name)), member.value));
                if self.is_exact {
                    let gone: HashSet<&str> = removed.iter().copied().collect();
                    let kept = old.members().iter().map(|member| member.name);
                    let kept = kept.filter(|name| !gone.contains(name));
                    let now: Vec<&str> =
                        kept.chain(added.iter().map(|member| member.name)).collect();
                    let wanted = new.members();
                    let same =
                        now.iter().zip(wanted).take_while(|(name, member)| **name == member.name);
                    // A member that is taken away and put back stands at the end.
                    for member in &wanted[same.count()..] {
                        self.remove(Step::Name(member.name));
                        self.add(Some(Step::Name(member.name)), member.value);
                    }
                }
            }
            Delta::List { removed, items } => self.list(removed, items),
        }
    }

    /// Removes what is gone, puts what is new or has moved behind the item that it follows, and then goes into the items.
    fn list(&mut self, removed: &[usize], items: &[Aligned<'a>]) {
        removed.iter().rev().for_each(|at| self.remove(Step::Index(*at)));
        let gone: HashSet<usize> = removed.iter().copied().collect();
        let length = items.iter().filter(|item| matches!(item, Aligned::Both { .. })).count();
        // What is in the list by now, by where it was; what is new has none.
        let mut now: Vec<Option<usize>> =
            (0..length + gone.len()).filter(|at| !gone.contains(at)).map(Some).collect();
        // Where the item before is by now.
        let mut next = 0;
        for item in items {
            match item {
                Aligned::Both { old, is_moved: false, .. } => {
                    let found = now[next..].iter().position(|at| *at == Some(*old));
                    next += found.map_or(0, |ahead| ahead + 1);
                }
                Aligned::Both { old, .. } => {
                    let Some(from) = now.iter().position(|at| *at == Some(*old)) else { continue };
                    now.remove(from);
                    let to = if from < next { next - 1 } else { next };
                    now.insert(to, Some(*old));
                    next = to + 1;
                    if from != to {
                        let operation = [
                            ("op", Value::text("move")),
                            ("from", self.path(Some(Step::Index(from)))),
                            ("path", self.path(Some(Step::Index(to)))),
                        ];
                        self.operations.push(self.arena.map(operation));
                    }
                }
                Aligned::Added(value) => {
                    now.insert(next, None);
                    self.add(Some(Step::Index(next)), *value);
                    next += 1;
                }
            }
        }
        for (at, item) in items.iter().enumerate() {
            if let Aligned::Both { delta, .. } = item {
                self.steps.push(Step::Index(at));
                self.delta(delta);
                self.steps.pop();
            }
        }
    }
}

/// The pointer to what steps lead to.
fn written(steps: &[Step<'_>]) -> String {
    let mut text = String::new();
    for step in steps {
        match step {
            Step::Name(name) => pointer::push(&mut text, name),
            Step::Index(index) => pointer::push(&mut text, &index.to_string()),
            // Other steps are those of XML.
            _ => {}
        }
    }
    text
}
