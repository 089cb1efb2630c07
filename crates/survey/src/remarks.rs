//! Remarks: what a person would point out in a survey.

use strsim::osa_distance;

use crate::forms::Form;
use crate::paths::{PathStep, Sort};
use crate::report::share;
use crate::survey::Survey;
use crate::unique::Keys;

/// What a remark is about.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum RemarkSort {
    /// A path is a list here and a single value there.
    ListOrSingle,
    /// Values of several types.
    MixedTypes,
    /// Two names differ in case or by a letter.
    NearNames,
    /// A value that is otherwise different in each record came again.
    Repeated,
    /// Texts hold other documents.
    DocumentInText,
    /// Members that were too many to be told apart.
    NotToldApart,
}

impl RemarkSort {
    /// A word for programs.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::ListOrSingle => "list-or-single",
            Self::MixedTypes => "mixed-types",
            Self::NearNames => "near-names",
            Self::Repeated => "repeated-value",
            Self::DocumentInText => "document-in-text",
            Self::NotToldApart => "not-told-apart",
        }
    }
}

/// Something worth a look.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Remark {
    /// What it is about.
    pub sort: RemarkSort,
    /// Where.
    pub path: String,
    /// What was found, in a sentence.
    pub message: String,
}

/// Above this share two types are just two types.
const RARE: f64 = 0.2;

/// A name that is near another is taken for a slip if it is this much rarer.
const SLIP: u64 = 20;

/// The number of records from which on a key is checked for repeated values.
const KEYED: u64 = 50;

/// All remarks, in the order of paths.
pub(crate) fn remarks(
    survey: &Survey,
    shows_values: bool,
    path: &dyn Fn(usize) -> String,
) -> Vec<Remark> {
    let mut found = Vec::new();
    for number in survey.paths.in_order() {
        let node = &survey.paths.nodes[number];
        let counts = &node.counts;
        if counts.values == 0 {
            continue;
        }
        let mut add = |sort: RemarkSort, message: String| {
            found.push(Remark { sort, path: path(number), message });
        };
        let lists = counts.of(Sort::List);
        let singles = counts.values - lists - counts.of(Sort::Null);
        if lists > 0 && singles > 0 {
            let text =
                format!("a list in {}, and a single value in {}", times(lists), times(singles));
            add(RemarkSort::ListOrSingle, text);
        }
        mixed_types(survey, number, &mut add);
        for form in [Form::Json, Form::Xml] {
            let with = node.values.forms[form as usize];
            if with > 0 {
                let texts = counts.of(Sort::Text);
                let text = format!("{} in {} of {texts} texts", form.word(), with);
                add(RemarkSort::DocumentInText, text);
            }
        }
        if let Keys::Open { repeated, shown, .. } = &node.extra.keys
            && *repeated > 0
            && counts.records == survey.records
            && survey.records >= KEYED
        {
            let again = format!("different in each record but for {}", repeats(*repeated));
            let shown: Vec<String> = shown.iter().map(|text| format!("{text:?}")).collect();
            let which = if shows_values && !shown.is_empty() {
                format!(": {}", shown.join(", "))
            } else {
                String::new()
            };
            add(RemarkSort::Repeated, again + &which);
        }
        if node.step == PathStep::Others {
            let names = node.extra.names.count();
            let about = if names.error > 0.0 { "about " } else { "" };
            let text = format!(
                "{about}{} rare names are taken together here, for want of memory; how many records have them is an upper bound",
                names.count
            );
            add(RemarkSort::NotToldApart, text);
        }
        near_names(survey, number, &mut add);
    }
    found
}

fn times(count: u64) -> String {
    if count == 1 { "1 place".to_owned() } else { format!("{count} places") }
}

fn repeats(count: u64) -> String {
    if count == 1 { "one that came before".to_owned() } else { format!("{count} that came before") }
}

/// Types of which one is rare, and numbers among texts.
fn mixed_types(survey: &Survey, number: usize, add: &mut dyn FnMut(RemarkSort, String)) {
    let node = &survey.paths.nodes[number];
    let counts = &node.counts;
    let scalars = [Sort::Boolean, Sort::Number, Sort::Text, Sort::Map];
    let mut there: Vec<(Sort, u64)> = scalars
        .into_iter()
        .map(|sort| (sort, counts.of(sort)))
        .filter(|(_, count)| *count > 0)
        .collect();
    if there.len() < 2 {
        return;
    }
    there.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    let all: u64 = there.iter().map(|(_, count)| count).sum();
    let (usual, _) = there[0];
    for (sort, count) in &there[1..] {
        if share(*count, all) > RARE {
            continue;
        }
        let spelled = node.values.forms[Form::Number as usize];
        let numbers = *sort == Sort::Text && usual == Sort::Number && spelled > 0;
        let what = if numbers && spelled == *count { " that spell numbers" } else { "" };
        let phrase = match sort {
            Sort::Boolean => "booleans",
            Sort::Number => "numbers",
            Sort::Text => "texts",
            _ => "maps",
        };
        let text = format!(
            "{} in general, and {phrase}{what} in {} of {all}, {}",
            usual.word(),
            count,
            percent(*count, all)
        );
        add(RemarkSort::MixedTypes, text);
    }
}

/// Names of one map that may be meant for each other.
fn near_names(survey: &Survey, number: usize, add: &mut dyn FnMut(RemarkSort, String)) {
    let named = |child: &usize| match &survey.paths.nodes[*child].step {
        PathStep::Member(name) => Some((&**name, survey.paths.nodes[*child].counts.values)),
        _ => None,
    };
    let names: Vec<(&str, u64)> =
        survey.paths.nodes[number].children.iter().filter_map(named).collect();
    // Of very many names, which are data then, each would be near to some other.
    if names.len() > 500 {
        return;
    }
    for (at, (name, count)) in names.iter().enumerate() {
        let others = names.iter().enumerate().filter(|(other, _)| *other != at);
        let same_but_case = others.clone().find(|(other, (known, known_count))| {
            known.to_lowercase() == name.to_lowercase() && (known_count, at) > (count, *other)
        });
        let mut frequent =
            others.filter(|(_, (_, known))| *known >= count * SLIP).map(|(_, (known, _))| *known);
        let twin = match same_but_case {
            Some((_, (twin, _))) => Some((*twin, "in case alone")),
            None if name.len() >= 4 => frequent
                .find(|known| osa_distance(&known.to_lowercase(), &name.to_lowercase()) == 1)
                .map(|twin| (twin, "by a letter")),
            None => None,
        };
        if let Some((twin, how)) = twin {
            let known =
                names.iter().find(|(known, _)| *known == twin).map_or(0, |(_, count)| *count);
            let text = format!(
                "{name:?}, there {count} times, differs {how} from {twin:?}, there {known} times"
            );
            add(RemarkSort::NearNames, text);
        }
    }
}

/// A share in percent, with as many digits as tell it from none and all.
pub(crate) fn percent(part: u64, whole: u64) -> String {
    crate::report::percent(share(part, whole))
}
