//! A first rule from two samples: an input, and the output that is wanted of it.
//!
//! Members are matched by equal values, and by name where several are equal; a list of maps becomes a `for` over the list
//! of the input that explains most of it. What is explained by nothing is left as `needed(null, …)`, with a comment that
//! says what was wanted.

mod alike;
mod paths;

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};

use kyanite_formats::json;
use kyanite_tree::{Decimal, Kind, Value, equal};

use crate::syntax::{self, RESERVED, begins_name, name_length};
use paths::{ITEMS, Step, paths, select, text_at, written};

pub use alike::alike;

const WANTED: usize = 200;
/// Values whose paths are collected.
const SAMPLES: usize = 100;
/// Lists that are tried for one that is wanted.
const LISTS: usize = 24;

/// A rule that makes, as far as it is known, `output` of `input`.
#[must_use]
pub fn draft(input: Value<'_>, output: Value<'_>) -> String {
    let root = Scope { name: "$".into(), values: vec![Some(input)] };
    let text = format!("{}\n", wanted(&[Some(output)], None, &[root]).text);
    // What is written here is a rule; should it be none, it is better seen than lost.
    syntax::format(&text).unwrap_or(text)
}

/// A name of the rule, and its value in each tuple.
struct Scope<'a> {
    name: String,
    values: Vec<Option<Value<'a>>>,
}

/// An expression, and how much of what is wanted it gives.
struct Draft {
    text: String,
    /// Values that are explained, and all.
    explained: usize,
    all: usize,
    /// What is to be said behind it.
    comment: Option<String>,
}

impl Draft {
    fn exact(text: String) -> Self {
        Self { text, explained: 1, all: 1, comment: None }
    }
}

/// Whether a value is what is wanted, as it is written: the text `7` is not the number.
fn is_same(a: Value<'_>, b: Value<'_>) -> bool {
    a.kind() == b.kind()
        && (equal(a, b) || a.scalar_text().is_some() && a.scalar_text() == b.scalar_text())
}

/// How a value becomes what is wanted.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Change {
    None,
    Number,
    Text,
}

impl Change {
    fn needed(from: Value<'_>, to: Value<'_>) -> Option<Self> {
        match (from.kind(), to.kind()) {
            _ if is_same(from, to) => Some(Self::None),
            (Kind::Text, Kind::Number) => {
                let spelled = Decimal::spelled(from.as_text()?)?;
                (Decimal::spelled(to.scalar_text()?)? == spelled).then_some(Self::Number)
            }
            (Kind::Number | Kind::Boolean, Kind::Text) => {
                (from.scalar_text() == to.as_text()).then_some(Self::Text)
            }
            _ => None,
        }
    }

    fn of(self, path: String) -> String {
        match self {
            Self::None => path,
            Self::Number => format!("number({path})"),
            Self::Text => format!("text({path})"),
        }
    }
}

/// The rule for what is wanted in each tuple.
fn wanted<'a>(values: &[Option<Value<'a>>], name: Option<&str>, scopes: &[Scope<'a>]) -> Draft {
    let some: Vec<Value<'a>> = values.iter().copied().flatten().collect();
    if let Some(copied) = copied(values, name, scopes).or_else(|| collected(values, name, scopes)) {
        return copied;
    }
    if some.iter().all(|value| value.as_map().is_some()) {
        return members(values, scopes);
    }
    if some.iter().all(|value| value.as_list().is_some())
        && let Some(repeated) = repeated(values, scopes)
    {
        return repeated;
    }
    unexplained(some.first().copied(), name, scopes)
}

/// A path to values that are equal to those wanted in each tuple.
fn copied<'a>(
    wanted: &[Option<Value<'a>>],
    name: Option<&str>,
    scopes: &[Scope<'a>],
) -> Option<Draft> {
    let mut best: Option<(bool, Change, String)> = None;
    for scope in scopes.iter().rev() {
        for path in paths(&scope.values, false) {
            let Some(change) = change(&path, &scope.values, wanted) else { continue };
            let is_named = matches!((path.last(), name), (Some(Step::Name(last)), Some(name)) if last.trim_start_matches('@') == name.trim_start_matches('@'));
            // By name first, then unchanged; of these the first, which is the nearest and shortest.
            let is_better = best.as_ref().is_none_or(|(named, known, _)| {
                (is_named, Reverse(change)) > (*named, Reverse(*known))
            });
            if is_better {
                best = Some((is_named, change, change.of(written(&scope.name, &path))));
            }
        }
    }
    best.map(|(_, _, text)| Draft::exact(text))
}

/// How what a path selects in each tuple becomes what is wanted, if it does.
fn change<'a>(
    path: &[Step<'a>],
    values: &[Option<Value<'a>>],
    wanted: &[Option<Value<'a>>],
) -> Option<Change> {
    let mut change = None;
    for (value, wanted) in values.iter().zip(wanted) {
        let mut found = Vec::new();
        if let Some(value) = value {
            select(path, *value, &mut found);
        }
        match (found.first(), wanted) {
            (Some(from), Some(to)) => {
                let needed = Change::needed(*from, *to)?;
                change = Some(change.map_or(needed, |known: Change| known.max(needed)));
            }
            (None, None) => {}
            _ => return None,
        }
    }
    change
}

/// A path whose nodes are the items of the lists that are wanted.
fn collected<'a>(
    wanted: &[Option<Value<'a>>],
    name: Option<&str>,
    scopes: &[Scope<'a>],
) -> Option<Draft> {
    if !wanted.iter().flatten().any(|value| value.as_list().is_some_and(|items| !items.is_empty()))
    {
        return None;
    }
    let fits = |path: &[Step<'a>], values: &[Option<Value<'a>>]| {
        values.iter().zip(wanted).all(|(value, wanted)| {
            let mut found = Vec::new();
            if let Some(value) = value {
                select(path, *value, &mut found);
            }
            let items = wanted.and_then(Value::as_list).unwrap_or_default();
            found.len() == items.len() && found.iter().zip(items).all(|(a, b)| is_same(*a, *b))
        })
    };
    let mut found: Vec<String> = Vec::new();
    for scope in scopes.iter().rev() {
        let paths = paths(&scope.values, true);
        let each = paths.iter().filter(|path| path.contains(&Step::Each));
        found.extend(
            each.filter(|path| fits(path, &scope.values)).map(|path| written(&scope.name, path)),
        );
    }
    let by_name = name.and_then(|name| found.iter().position(|path| path.contains(name)));
    let at = by_name.unwrap_or(0);
    (at < found.len()).then(|| Draft::exact(found.swap_remove(at)))
}

fn members<'a>(values: &[Option<Value<'a>>], scopes: &[Scope<'a>]) -> Draft {
    let mut names: Vec<&str> = Vec::new();
    for map in values.iter().flatten().filter_map(|value| value.as_map()) {
        for member in map.members() {
            if !names.contains(&member.name) {
                names.push(member.name);
            }
        }
    }
    let mut whole = Draft { text: "{\n".into(), explained: 0, all: 0, comment: None };
    for name in names {
        let of: Vec<Option<Value<'a>>> =
            values.iter().map(|value| value.and_then(|value| value.member(name))).collect();
        let value = wanted(&of, Some(name), scopes);
        whole.explained += value.explained;
        whole.all += value.all;
        let is_short = value.text.ends_with(&format!(".{name}"))
            && value.text.chars().all(|c| c.is_alphanumeric() || matches!(c, '_' | '.'));
        if !is_short {
            whole.text.push_str(&member_name(name));
            whole.text.push_str(": ");
        }
        whole.text.push_str(&value.text);
        whole.text.push(',');
        if let Some(comment) = value.comment {
            whole.text.push_str(" # ");
            whole.text.push_str(&comment);
        }
        whole.text.push('\n');
    }
    whole.text.push('}');
    whole
}

fn member_name(name: &str) -> String {
    if name_length(name) == name.len() && !name.is_empty() { name.to_owned() } else { quoted(name) }
}

/// A text in quotes, with the escapes of JSON, which the language has, too.
fn quoted(text: &str) -> String {
    json::compact(Value::text(text))
}

/// A list of the input whose items may be those of a list that is wanted.
struct Candidate<'a> {
    /// The names of each `for`, and what it goes through.
    fors: Vec<(String, String)>,
    /// The values of all names in each tuple that stands for an item.
    scopes: Vec<Scope<'a>>,
    /// The items that are wanted in these tuples.
    items: Vec<Option<Value<'a>>>,
    /// How many items the input has, and how many are wanted.
    counts: (usize, usize),
}

impl Candidate<'_> {
    /// Of candidates that explain as much that with as many items is the better, then that with fewer loops.
    fn fitness(&self) -> (bool, Reverse<usize>) {
        (self.counts.0 == self.counts.1, Reverse(self.fors.len()))
    }
}

/// A `for` over the list of the input that explains most of the lists that are wanted.
fn repeated<'a>(lists: &[Option<Value<'a>>], scopes: &[Scope<'a>]) -> Option<Draft> {
    let mut best: Option<(Draft, Candidate<'a>)> = None;
    for candidate in candidates(lists, scopes) {
        let draft = wanted(&candidate.items, None, &candidate.scopes);
        let is_better = best.as_ref().is_none_or(|(known, best)| {
            (draft.explained * known.all, candidate.fitness())
                > (known.explained * draft.all, best.fitness())
        });
        if draft.explained > 0 && is_better {
            best = Some((draft, candidate));
        }
    }
    let (draft, candidate) = best?;
    let mut text = String::new();
    for (name, list) in &candidate.fors {
        text.push_str(&format!("for {name} in {list}\n"));
    }
    let (has, wants) = candidate.counts;
    if has != wants {
        let clause =
            if wants < has { "add where, first or group by" } else { "another for is missing" };
        text.push_str(&format!(
            "# the sample has {has} of these, and {wants} are wanted: {clause}\n"
        ));
    }
    text.push_str("return ");
    text.push_str(&draft.text);
    if let Some(comment) = &draft.comment {
        text.push_str(&format!(" # {comment}\n"));
    }
    if !(scopes.len() == 1 && scopes[0].name == "$") || lists.len() > 1 {
        text = format!("({text})");
    }
    Some(Draft { text, ..draft })
}

fn candidates<'a>(lists: &[Option<Value<'a>>], scopes: &[Scope<'a>]) -> Vec<Candidate<'a>> {
    let mut found = Vec::new();
    for position in (0..scopes.len()).rev() {
        let tuples: Vec<usize> = (0..lists.len()).collect();
        nested(lists, scopes, position, tuples, Vec::new(), &mut found);
    }
    found
}

/// Adds the lists that the values of a scope have, and the lists in the items of these.
fn nested<'a>(
    lists: &[Option<Value<'a>>],
    scopes: &[Scope<'a>],
    scope: usize,
    tuples: Vec<usize>,
    fors: Vec<(String, String)>,
    found: &mut Vec<Candidate<'a>>,
) {
    for path in paths(&scopes[scope].values, false) {
        if found.len() >= LISTS {
            return;
        }
        let (mut inner, mut values) = (Vec::new(), Vec::new());
        let mut outer: Vec<usize> = Vec::new();
        for (tuple, value) in scopes[scope].values.iter().enumerate() {
            let mut nodes = Vec::new();
            if let Some(value) = value {
                select(&path, *value, &mut nodes);
            }
            for item in nodes.iter().filter_map(|node| node.as_list()).flatten().take(ITEMS) {
                inner.push(tuples[tuple]);
                outer.push(tuple);
                values.push(Some(*item));
            }
        }
        if values.is_empty() {
            continue;
        }
        let taken = |name: &str| scopes.iter().any(|scope| scope.name == name);
        let name = item_name(&path, taken);
        let mut fors = fors.clone();
        fors.push((name.clone(), format!("{}[*]", written(&scopes[scope].name, &path))));
        let mut scopes: Vec<Scope<'a>> = scopes
            .iter()
            .map(|scope| Scope {
                name: scope.name.clone(),
                values: outer.iter().map(|tuple| scope.values[*tuple]).collect(),
            })
            .collect();
        scopes.push(Scope { name, values });
        found.push(aligned(lists, &scopes, &inner, fors.clone()));
        if fors.len() < 3 {
            let last = scopes.len() - 1;
            nested(lists, &scopes, last, inner, fors, found);
        }
    }
}

/// Which item that is wanted each tuple stands for: by position where the numbers are equal, else by common values.
fn aligned<'a>(
    lists: &[Option<Value<'a>>],
    scopes: &[Scope<'a>],
    tuples: &[usize],
    fors: Vec<(String, String)>,
) -> Candidate<'a> {
    let mut picked: Vec<(usize, Option<Value<'a>>)> = Vec::new();
    let mut counts = (0, 0);
    for (list, value) in lists.iter().enumerate() {
        let items = value.and_then(Value::as_list).unwrap_or_default();
        let items = &items[..items.len().min(WANTED)];
        let own: Vec<usize> = (0..tuples.len()).filter(|tuple| tuples[*tuple] == list).collect();
        counts.0 += own.len();
        counts.1 += items.len();
        if own.len() == items.len() {
            picked.extend(own.iter().zip(items).map(|(tuple, item)| (*tuple, Some(*item))));
            continue;
        }
        let tuple_of = tuples_by_key(scopes, &own, items);
        let wanted = items.iter().zip(tuple_of);
        picked.extend(wanted.filter_map(|(item, tuple)| Some((tuple?, Some(*item)))));
    }
    let scopes = scopes
        .iter()
        .map(|scope| Scope {
            name: scope.name.clone(),
            values: picked.iter().map(|(tuple, _)| scope.values[*tuple]).collect(),
        })
        .collect();
    let items = picked.into_iter().map(|(_, item)| item).collect();
    Candidate { fors, scopes, items, counts }
}

/// The tuple of each item: of those in which some path has the value that some path has in the item, the one that has most
/// of its other values. The two paths are those that find tuples for most items, and of these those that tell most tuples
/// apart.
fn tuples_by_key<'a>(
    scopes: &[Scope<'a>],
    tuples: &[usize],
    items: &[Value<'a>],
) -> Vec<Option<usize>> {
    let some: Vec<Option<Value<'a>>> = items.iter().copied().map(Some).collect();
    let of_items = paths(&some, false);
    let scopes: Vec<&Scope<'a>> = scopes.iter().filter(|scope| scope.name != "$").collect();
    let mut best: ((usize, usize), Vec<Vec<usize>>) = ((0, 0), Vec::new());
    for scope in &scopes {
        for path in paths(&scope.values, false) {
            let mut known: HashMap<&str, Vec<usize>> = HashMap::new();
            for tuple in tuples {
                if let Some(text) = scope.values[*tuple].and_then(|value| text_at(&path, value)) {
                    known.entry(text).or_default().push(*tuple);
                }
            }
            for own in &of_items {
                let text_of = |item: &Value<'a>| known.get(text_at(own, *item)?);
                let rank = (items.iter().filter_map(text_of).count(), known.len());
                if rank > best.0 {
                    best = (
                        rank,
                        items
                            .iter()
                            .map(|item| text_of(item).cloned().unwrap_or_default())
                            .collect(),
                    );
                }
            }
        }
    }
    let mut taken = HashSet::new();
    let pick = |(item, tuples): (&Value<'a>, &Vec<usize>)| {
        let mut wanted = HashSet::new();
        leaves(*item, &mut wanted);
        let common = |tuple: &&usize| {
            let mut texts = HashSet::new();
            scopes
                .iter()
                .filter_map(|scope| scope.values[**tuple])
                .for_each(|value| leaves(value, &mut texts));
            texts.intersection(&wanted).count()
        };
        let free = tuples.iter().take(SAMPLES).filter(|tuple| !taken.contains(*tuple));
        let tuple = free.rev().max_by_key(common).or(tuples.first()).copied();
        taken.extend(tuple);
        tuple
    };
    items.iter().zip(&best.1).map(pick).collect()
}

/// The texts of all scalars in a value.
fn leaves<'a>(value: Value<'a>, texts: &mut HashSet<&'a str>) {
    match value {
        Value::Map(_, map) => map.members().iter().for_each(|member| leaves(member.value, texts)),
        Value::List(_, items) => items.iter().for_each(|item| leaves(*item, texts)),
        scalar => texts.extend(scalar.scalar_text()),
    }
}

/// A name for the items of the list at `path`: `sailing` for those of `sailings`.
fn item_name(path: &[Step<'_>], taken: impl Fn(&str) -> bool) -> String {
    let last = path.iter().rev().find_map(|step| match step {
        Step::Name(name) => Some(*name),
        _ => None,
    });
    let base: String = last.unwrap_or("record").to_lowercase();
    let one = match base.strip_suffix("ies") {
        Some(stem) if stem.len() > 1 => format!("{stem}y"),
        _ => base.strip_suffix('s').filter(|one| one.len() > 1).unwrap_or(&base).to_owned(),
    };
    let is_name = name_length(&one) == one.len() && one.starts_with(begins_name);
    let one = if is_name && !RESERVED.contains(&one.as_str()) { one } else { "item".to_owned() };
    let numbered = (2..).map(|number| format!("{one}{number}"));
    let mut names = std::iter::once(one.clone()).chain(numbered);
    names.find(|name| !taken(name)).unwrap_or(one)
}

/// What stands for a value that nothing explains: the member of that name, or `needed`.
fn unexplained(sample: Option<Value<'_>>, name: Option<&str>, scopes: &[Scope<'_>]) -> Draft {
    let example = sample.map(|sample| {
        let text = json::compact(sample);
        if text.chars().count() > 40 {
            format!("{}…", text.chars().take(39).collect::<String>())
        } else {
            text
        }
    });
    let example = example.unwrap_or_else(|| "nothing".into());
    let named = scopes.iter().rev().find_map(|scope| {
        let name = name?;
        let paths = paths(&scope.values, false);
        let path = paths.iter().find(|path| path.last() == Some(&Step::Name(name)))?;
        Some(written(&scope.name, path))
    });
    let comment = match &named {
        Some(_) => format!("by name only: the sample wants {example}"),
        None => format!("the sample wants {example}"),
    };
    let text = named.unwrap_or_else(|| {
        format!("needed(null, {})", quoted(&format!("{} is not drafted", name.unwrap_or("this"))))
    });
    Draft { text, explained: 0, all: 1, comment: Some(comment) }
}
