//! The path to the records in a document: names, and `[*]` for the items of lists.

use std::fmt;
use std::str::FromStr;

use kyanite_formats::xml::StepName;
use kyanite_tree::{Advice, Value, name_step};

use crate::run_error::RunError;

/// A path of names and `[*]`, as in JSONPath (RFC 9535): `$.routes[*].sailings[*]`.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RecordPath(Vec<Step>);

#[derive(Clone, PartialEq, Eq, Debug)]
enum Step {
    Name(String),
    Items,
}

impl FromStr for RecordPath {
    type Err = String;

    /// Reads a path.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || {
            "a path to records is made of names and [*], as in $.routes[*].sailings[*] or $['berth no'][*]".to_owned()
        };
        let mut rest = text.strip_prefix('$').ok_or_else(wrong)?;
        let mut steps = Vec::new();
        while !rest.is_empty() {
            if let Some(after) = rest.strip_prefix("[*]") {
                steps.push(Step::Items);
                rest = after;
            } else if let Some(after) = rest.strip_prefix('.') {
                let end = after.find(['.', '[']).unwrap_or(after.len());
                if end == 0 || after.starts_with('*') {
                    return Err(wrong());
                }
                steps.push(Step::Name(after[..end].to_owned()));
                rest = &after[end..];
            } else {
                let after = rest.strip_prefix('[').ok_or_else(wrong)?;
                let quote = after
                    .chars()
                    .next()
                    .filter(|sign| matches!(sign, '\'' | '"'))
                    .ok_or_else(wrong)?;
                let (name, after) = after[1..].split_once(quote).ok_or_else(wrong)?;
                // An escape would need the whole grammar of strings.
                if name.contains('\\') {
                    return Err(wrong());
                }
                steps.push(Step::Name(name.to_owned()));
                rest = after.strip_prefix(']').ok_or_else(wrong)?;
            }
        }
        Ok(Self(steps))
    }
}

impl fmt::Display for RecordPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("$")?;
        self.0.iter().try_for_each(|step| match step {
            Step::Name(name) => f.write_str(&name_step(name)),
            Step::Items => f.write_str("[*]"),
        })
    }
}

impl RecordPath {
    /// The names that lead to the one list whose items are the records, if it is so.
    pub(crate) fn to_one_list(&self) -> Option<Vec<String>> {
        let (last, names) = self.0.split_last()?;
        let names = names.iter().map(|step| match step {
            Step::Name(name) => Some(name.clone()),
            Step::Items => None,
        });
        (*last == Step::Items).then(|| names.collect()).flatten()
    }

    /// Whether the records are the items of lists.
    pub(crate) fn ends_in_items(&self) -> bool {
        self.0.last() == Some(&Step::Items)
    }

    /// Whether the names alone tell elements of XML, one below the other, but for the root.
    pub(crate) fn leads_to_elements(&self) -> bool {
        self.names().count() > 1 && self.names().all(|name| !name.starts_with(['@', '#']))
    }

    /// The names on the way.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|step| match step {
            Step::Name(name) => Some(name.as_str()),
            Step::Items => None,
        })
    }

    /// The names as steps to elements of XML.
    pub(crate) fn element_names(&self) -> Vec<StepName> {
        self.names().map(|name| StepName::new(name, None)).collect()
    }

    /// Whether it leads into a document.
    pub(crate) fn has_names(&self) -> bool {
        self.names().next().is_some()
    }

    /// Gives each record in a document to `take`. `[*]` over what is no list is the value itself, as one element of XML stands where
    /// several would be a list.
    pub(crate) fn each<'a>(&self, root: Value<'a>, take: &mut dyn FnMut(Value<'a>)) {
        Self::each_behind(&self.0, root, take);
    }

    fn each_behind<'a>(steps: &[Step], value: Value<'a>, take: &mut dyn FnMut(Value<'a>)) {
        let mut open = vec![(value, steps)];
        while let Some((value, steps)) = open.pop() {
            match (steps.split_first(), value) {
                (None, value) => take(value),
                (Some((Step::Items, rest)), Value::List(_, items)) => {
                    open.extend(items.iter().rev().map(|item| (*item, rest)));
                }
                (Some((Step::Items, rest)), value) => open.push((value, rest)),
                (Some((Step::Name(name), rest)), value) => {
                    open.extend(value.member(name).map(|member| (member, rest)));
                }
            }
        }
    }

    /// That it leads to nothing.
    pub(crate) fn leads_nowhere(&self) -> RunError {
        let message = format!("{self} leads to no records");
        let advice =
            Advice::words("see the paths that there are by a survey of the whole document");
        RunError::command(message, advice)
    }
}

/// Follows a path into a document that comes by what it holds.
#[derive(Debug)]
pub(crate) struct Follow<'p> {
    path: &'p RecordPath,
    /// For each list and map that is open, how many steps led to it, if the path leads there.
    open: Vec<Option<usize>>,
    /// The name of the member under way.
    name: String,
}

impl<'p> Follow<'p> {
    pub(crate) fn new(path: &'p RecordPath) -> Self {
        Self { path, open: Vec::new(), name: String::new() }
    }

    /// How many lists and maps are open.
    pub(crate) fn depth(&self) -> usize {
        self.open.len()
    }

    /// The steps behind that to the value that comes now, if the path leads there.
    fn behind(&self) -> Option<&'p [Step]> {
        let steps = self.path.0.as_slice();
        let Some(around) = self.open.last() else { return Some(steps) };
        let (step, rest) = steps.get((*around)?..)?.split_first()?;
        match step {
            Step::Items => Some(rest),
            Step::Name(name) => (*name == self.name).then_some(rest),
        }
    }

    /// The same, where that is known to be a list or not: what is none is the one item of the list that it is not.
    fn behind_value(&self, is_list: bool) -> Option<&'p [Step]> {
        let mut rest = self.behind()?;
        while let ([Step::Items, behind @ ..], false) = (rest, is_list) {
            rest = behind;
        }
        Some(rest)
    }

    /// Whether the value that comes now is a record.
    pub(crate) fn is_at_record(&self, is_list: bool) -> bool {
        self.behind_value(is_list).is_some_and(<[Step]>::is_empty)
    }

    /// The member under way has that name.
    pub(crate) fn name(&mut self, name: &str) {
        name.clone_into(&mut self.name);
    }

    /// A list or a map begins.
    pub(crate) fn begin(&mut self, is_list: bool) {
        let leads_on = self.behind_value(is_list).filter(|rest| match rest.first() {
            Some(Step::Items) => is_list,
            Some(Step::Name(_)) => !is_list,
            None => false,
        });
        self.open.push(leads_on.map(|rest| self.path.0.len() - rest.len()));
    }

    /// What began last ends; tells whether that was the document.
    pub(crate) fn end(&mut self) -> bool {
        self.open.pop();
        self.open.is_empty()
    }

    /// Whether what comes in the innermost list are records.
    pub(crate) fn is_at_records(&self) -> bool {
        self.open.last().is_some_and(|steps| *steps == Some(self.path.0.len() - 1))
    }

    /// Gives each record in a value to `take`.
    pub(crate) fn each<'a>(&self, value: Value<'a>, take: &mut dyn FnMut(Value<'a>)) {
        if let Some(rest) = self.behind() {
            RecordPath::each_behind(rest, value, take);
        }
    }
}

#[cfg(test)]
mod tests {
    use kyanite_tree::Arena;

    use super::*;

    #[test]
    fn paths() {
        for (text, written) in [
            ("$", Some("$")),
            ("$[*]", Some("$[*]")),
            ("$.routes[*].sailings[*]", Some("$.routes[*].sailings[*]")),
            ("$['berth no'][*]", Some("$['berth no'][*]")),
            ("$[\"a\"].b", Some("$.a.b")),
            ("routes", None),
            ("$.", None),
            ("$..a", None),
            ("$.*", None),
            ("$[0]", None),
            ("$.a[?@.b]", None),
            ("$['a\\'b']", None),
            ("$['a'", None),
        ] {
            let path = text.parse::<RecordPath>().map(|path| path.to_string());
            assert_eq!(path.ok().as_deref(), written, "{text}");
        }
    }

    #[test]
    fn records_that_it_leads_to() {
        let arena = Arena::new();
        let text = r#"{"a":[{"b":[1,2]},{"b":3},{"c":4}]}"#;
        let read = kyanite_formats::json::document(text, &arena, Default::default());
        let root = read.unwrap().0;
        let path: RecordPath = "$.a[*].b[*]".parse().unwrap();
        let mut found = Vec::new();
        path.each(root, &mut |value| found.extend(value.scalar_text()));
        assert_eq!(found, ["1", "2", "3"]);
        assert_eq!(path.to_one_list(), None);
        assert_eq!(
            "$.a[*]".parse::<RecordPath>().unwrap().to_one_list(),
            Some(vec!["a".to_owned()])
        );
    }
}
