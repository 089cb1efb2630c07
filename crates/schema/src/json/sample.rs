//! Values that are valid by a schema, made up.

use kyanite_tree::{Arena, Decimal, Kind, MapBuilder, Value};

use super::format::Format;
use super::keyword::{Bound, Contains, Keyword, Limit, Sized};
use super::outline::{At, Outline};
use super::{Rule, Schema};
use crate::sample::{Choices, DEEP, SampleSettings, TRIES};

/// Values do not nest deeper.
const DEEPEST: u32 = 64;

impl Schema<'_> {
    /// A value that is valid; None where none was found, since nothing is, or it takes more than trying.
    #[must_use]
    pub fn sample<'a>(&self, settings: SampleSettings<'_>, arena: &'a Arena) -> Option<Value<'a>> {
        (0..TRIES).find_map(|number| {
            let choices = Choices::new(settings, number);
            let mut sampler = Sampler { outline: Outline::new(self, false), choices, arena };
            let root = sampler.outline.root();
            let value = sampler.value(root, 0)?;
            self.is_valid(value).then_some(value)
        })
    }
}

struct Sampler<'c, 's, 'a> {
    outline: Outline<'c, 's>,
    choices: Choices,
    arena: &'a Arena,
}

/// What some rules say of the size of something.
struct Size {
    least: u64,
    most: u64,
}

impl<'c, 's: 'c, 'a> Sampler<'c, 's, 'a> {
    fn value(&mut self, at: At, depth: u32) -> Option<Value<'a>> {
        self.choices.spend()?;
        if depth > DEEPEST {
            return None;
        }
        let mut alternatives = self.outline.alternatives(at);
        // Where it is deep already the first that can be made is taken, those first that hold no others; else any.
        let is_plain = self.choices.is_minimal || depth > DEEP;
        if is_plain {
            let scalars = [Kind::Null, Kind::Boolean, Kind::Number, Kind::Text];
            alternatives.sort_by_key(|one| {
                let kinds = self.outline.kinds(*one);
                !scalars.into_iter().any(|kind| kinds.has(kind))
            });
        }
        while !alternatives.is_empty() {
            let picked = if is_plain { 0 } else { self.choices.below(alternatives.len()) };
            let one = alternatives.remove(picked);
            if let Some(value) = self.one(one, depth) {
                return Some(value);
            }
        }
        None
    }

    /// A value for a place without alternatives.
    fn one(&mut self, at: At, depth: u32) -> Option<Value<'a>> {
        let rules: Vec<&'c Rule<'s>> = self.outline.rules_at(at);
        let kinds = self.outline.kinds(at);
        let listed = rules.iter().find_map(|rule| match &rule.keyword {
            Keyword::Constant(one) => Some(vec![one.value]),
            Keyword::Enumeration(all) => Some(all.iter().map(|one| one.value).collect()),
            _ => None,
        });
        if let Some(listed) = listed {
            let fitting: Vec<Value<'s>> =
                listed.into_iter().filter(|value| kinds.has(value.kind())).collect();
            let picked = fitting.get(self.choices.below(fitting.len()))?;
            return Some(self.arena.copy(*picked));
        }
        let asks =
            |test: &dyn Fn(&Keyword<'s>) -> bool| rules.iter().any(|rule| test(&rule.keyword));
        let says = |kind: Kind| match kind {
            Kind::Map => asks(&|keyword| {
                matches!(
                    keyword,
                    Keyword::Members(_) | Keyword::Required(_) | Keyword::Size(Sized::Map, ..)
                )
            }),
            Kind::List => asks(&|keyword| {
                matches!(
                    keyword,
                    Keyword::Items(_)
                        | Keyword::Tuple(..)
                        | Keyword::Contains(_)
                        | Keyword::Size(Sized::List, ..)
                )
            }),
            Kind::Number => {
                asks(&|keyword| matches!(keyword, Keyword::Bound(..) | Keyword::MultipleOf(_)))
            }
            _ => false,
        };
        // What keywords speak of comes first, null last.
        let order = [Kind::Map, Kind::List, Kind::Number, Kind::Text, Kind::Boolean, Kind::Null];
        let mut possible: Vec<Kind> = order.into_iter().filter(|kind| kinds.has(*kind)).collect();
        possible.sort_by_key(|kind| (!says(*kind), *kind == Kind::Null, *kind != Kind::Text));
        match possible.first()? {
            Kind::Map => self.map(at, &rules, depth),
            Kind::List => self.list(at, &rules, depth),
            Kind::Number => self.number(&rules, kinds.is_whole()),
            Kind::Boolean => Some(Value::boolean(self.choices.below(2) == 0)),
            Kind::Null => Some(Value::Null(kyanite_tree::Origin::NONE)),
            _ => self.text(&rules),
        }
    }

    fn map(&mut self, at: At, rules: &[&'c Rule<'s>], depth: u32) -> Option<Value<'a>> {
        let mut known = self.outline.members(at);
        let size = size(Sized::Map, rules);
        let needed = known.iter().filter(|(_, is_required)| *is_required).count() as u64;
        let mut open = size.most.saturating_sub(needed);
        let mut missing = size.least.saturating_sub(needed);
        let mut made = MapBuilder::new();
        known.dedup();
        for (name, is_required) in known {
            let is_full = depth < DEEP && self.choices.wants_more();
            let is_wanted = is_required || open > 0 && (is_full || missing > 0);
            let Some(place) = self.outline.member(at, name).filter(|_| is_wanted) else {
                if is_required {
                    return None;
                }
                continue;
            };
            match self.value(place, depth + 1) {
                Some(value) => {
                    made.insert(self.arena.text(name), value);
                    if !is_required {
                        open = open.saturating_sub(1);
                        missing = missing.saturating_sub(1);
                    }
                }
                None if is_required => return None,
                None => {}
            }
        }
        // Members that only a pattern, or nothing, says something of.
        let patterns = rules.iter().filter_map(|rule| match &rule.keyword {
            Keyword::Members(members) => Some(&members.patterns),
            _ => None,
        });
        let patterns: Vec<_> = patterns.flatten().map(|(_, pattern, _)| pattern).collect();
        let mut tries = 0;
        while missing > 0 && tries < 100 {
            tries += 1;
            let made_up = format!("member{}", self.choices.next());
            let mut pick = |below: usize| self.choices.below(below);
            let fitting = patterns.first().and_then(|pattern| pattern.example(&mut pick));
            // The same text again may be made another one behind what the pattern asks.
            let name = match fitting {
                Some(text) if tries > 5 => format!("{text}{}", self.choices.next()),
                Some(text) => text,
                None => made_up,
            };
            if let Some(place) = self.outline.member(at, &name)
                && let Some(value) = self.value(place, depth + 1)
                && made.insert(self.arena.text(&name), value).is_none()
            {
                missing -= 1;
            }
        }
        Some(Value::Map(kyanite_tree::Origin::NONE, made.finish(self.arena)))
    }

    fn list(&mut self, at: At, rules: &[&'c Rule<'s>], depth: u32) -> Option<Value<'a>> {
        let size = size(Sized::List, rules);
        let contains = rules.iter().find_map(|rule| match &rule.keyword {
            Keyword::Contains(contains) => Some(*contains),
            _ => None,
        });
        let is_unique = rules.iter().any(|rule| matches!(rule.keyword, Keyword::Unique));
        let contained = contains.map_or(0, |Contains { least, .. }| least);
        let usual = u64::from(!self.choices.is_minimal && depth < DEEP);
        let count = size.least.max(contained).max(usual).min(size.most);
        let mut items: Vec<Value<'a>> = Vec::new();
        let mut tries = 0;
        while (items.len() as u64) < count {
            let number = items.len();
            let place = match contains.filter(|_| (number as u64) < contained) {
                Some(contains) => self.outline.item_with(at, number, Some(contains.schema)),
                None => self.outline.item_with(at, number, None),
            };
            let value = self.value(place?, depth + 1)?;
            let key = kyanite_tree::Key::of(value);
            if is_unique && items.iter().any(|item| kyanite_tree::Key::of(*item) == key) {
                tries += 1;
                if tries > 100 {
                    return None;
                }
                continue;
            }
            items.push(value);
        }
        Some(self.arena.list(&items))
    }

    fn number(&mut self, rules: &[&'c Rule<'s>], is_whole: bool) -> Option<Value<'a>> {
        let one = Decimal::spelled("1")?;
        let mut unit = if is_whole { one.clone() } else { Decimal::spelled("0.5")? };
        let (mut least, mut most): (Option<Decimal>, Option<Decimal>) = (None, None);
        let mut is_exclusive = false;
        for rule in rules {
            match &rule.keyword {
                Keyword::MultipleOf(known) => unit = known.clone(),
                Keyword::Bound(bound, limit, _) => {
                    is_exclusive |= matches!(bound, Bound::MoreThan | Bound::LessThan);
                    match bound {
                        Bound::Least | Bound::MoreThan => {
                            least =
                                Some(least.map_or_else(|| limit.clone(), |l| l.max(limit.clone())));
                        }
                        Bound::Most | Bound::LessThan => {
                            most =
                                Some(most.map_or_else(|| limit.clone(), |m| m.min(limit.clone())));
                        }
                    }
                }
                _ => {}
            }
        }
        if let (Some(least), Some(most)) = (&least, &most)
            && most.sub(least).ok()? < unit
            && !rules.iter().any(|rule| matches!(rule.keyword, Keyword::MultipleOf(_)))
            && !is_whole
        {
            // Between bounds that are near to each other: the middle.
            let middle = least.add(most).ok()?.div(&Decimal::spelled("2")?).ok()?;
            return Some(self.arena.number(&middle));
        }
        let start = match (&least, &most) {
            (Some(least), _) => least.div(&unit).ok()?.ceiling().ok()?,
            (None, Some(most)) if *most < one => most.div(&unit).ok()?.floor().ok()?,
            _ => one,
        };
        let step = Decimal::spelled(&self.choices.below(40).to_string())?;
        let up = |count: &Decimal| count.mul(&unit).ok();
        let is_in = |value: &Decimal| {
            least.as_ref().is_none_or(|least| value > least || value == least && !is_exclusive)
                && most.as_ref().is_none_or(|most| value < most || value == most && !is_exclusive)
        };
        let mut near = vec![start.clone()];
        for further in ["1", "-1"] {
            near.push(start.add(&Decimal::spelled(further)?).ok()?);
        }
        if !self.choices.is_minimal {
            near.insert(0, start.add(&step).ok()?);
        }
        let found = near.iter().filter_map(up).find(is_in)?;
        Some(self.arena.number(&found))
    }

    fn text(&mut self, rules: &[&'c Rule<'s>]) -> Option<Value<'a>> {
        let size = size(Sized::Text, rules);
        // What a format looks like first, then what patterns do, each as far as the others allow it.
        let mut candidates: Vec<String> = Vec::new();
        for rule in rules {
            match &rule.keyword {
                Keyword::Format(format) => candidates.insert(0, format.example().to_owned()),
                Keyword::Content(_) => candidates.push("e30=".to_owned()),
                Keyword::Pattern(_, pattern) => {
                    // Patterns are often those of a format.
                    candidates.extend(Format::examples().map(str::to_owned));
                    for _ in 0..PATTERN_TRIES {
                        let mut pick = |below: usize| self.choices.below(below);
                        candidates.extend(pattern.example(&mut pick));
                    }
                }
                _ => {}
            }
        }
        let mut free = match self.choices.is_minimal && self.choices.is_first {
            true => "text".to_owned(),
            false => format!("text {}", self.choices.next()),
        };
        free = free.chars().take(usize::try_from(size.most).unwrap_or(usize::MAX)).collect();
        while (free.chars().count() as u64) < size.least {
            self.choices.spend()?;
            free.push('x');
        }
        candidates.push(free);
        let fits = |text: &String| {
            let length = text.chars().count() as u64;
            (size.least..=size.most).contains(&length)
                && rules.iter().all(|rule| match &rule.keyword {
                    Keyword::Pattern(_, pattern) => pattern.is_match(text).unwrap_or(false),
                    Keyword::Format(format) => (format.holds)(text),
                    _ => true,
                })
        };
        let text = candidates.iter().find(|text| fits(text))?;
        Some(Value::text(self.arena.text(text)))
    }
}

/// So many texts are made of a pattern, one of which may fit others as well.
const PATTERN_TRIES: usize = 20;

/// Between which bounds the size of something has to be.
fn size(of: Sized, rules: &[&Rule<'_>]) -> Size {
    let mut size = Size { least: 0, most: u64::MAX };
    for rule in rules {
        match &rule.keyword {
            Keyword::Size(sized, Limit::Least, count) if *sized == of => {
                size.least = size.least.max(*count);
            }
            Keyword::Size(sized, Limit::Most, count) if *sized == of => {
                size.most = size.most.min(*count);
            }
            _ => {}
        }
    }
    size
}
