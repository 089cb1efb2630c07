//! Checking values.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;

use kyanite_tree::{Decimal, Key, Kind, Map, Value, counted};

use super::evaluated::Evaluated;
use super::keyword::{Bound, Constant, Dependency, Keyword, Limit, Members, Sized, Types};
use super::{Draft, Node, Rule, Schema};
use super::{content, describe};
use crate::Finding;

/// Where findings go; nothing where it is only asked whether there are any.
type Findings<'f> = Option<&'f mut Vec<Finding>>;

/// What is wrong with a value: the value, the sentence, the advice.
pub(super) type Wrong<'v> = (Value<'v>, String, Option<String>);

/// The steps after which a check is given up, and those for each value besides: schemas can have alternatives that multiply.
const STEPS: u64 = 1_000_000;
const STEPS_FOR_EACH: u64 = 1_000;

/// How deep schemas may apply each other, to one value and to what is in it.
pub const DEPTH: usize = 4_000;

impl Schema<'_> {
    /// All that is wrong with a value.
    #[must_use]
    pub fn validate(&self, value: Value<'_>) -> Vec<Finding> {
        let mut findings = Vec::new();
        let check = Check::new(self, value);
        check.check(0, value, Some(&mut findings), None);
        if check.is_given_up()
            && let Some(rule) = self.nodes.first().and_then(|node| node.rules.first())
        {
            let (message, advice) = match check.is_too_deep.get() {
                true => (
                    format!("the check was given up: schemas apply each other {DEPTH} levels deep"),
                    "make the chain of schemas, or the value, less deep",
                ),
                false => (
                    format!("the check was given up after {} steps", check.most),
                    "alternatives of the schema multiply: make them fewer",
                ),
            };
            let advice = Some(advice.to_owned());
            findings.clear();
            tell(rule, (value, message, advice), Some(&mut findings));
        }
        findings
    }

    /// Whether a value is valid.
    #[must_use]
    pub fn is_valid(&self, value: Value<'_>) -> bool {
        let check = Check::new(self, value);
        check.check(0, value, None, None) && !check.is_given_up()
    }
}

/// A check under way.
struct Check<'c, 's> {
    schema: &'c Schema<'s>,
    /// How many rules were looked at.
    steps: Cell<u64>,
    /// How many may be.
    most: u64,
    /// The resources of the schemas that are being applied, outermost first, where some rule asks for them.
    resources: RefCell<Vec<usize>>,
    /// How many schemas are being applied inside each other.
    depth: Cell<usize>,
    is_too_deep: Cell<bool>,
}

impl<'c, 's> Check<'c, 's> {
    fn new(schema: &'c Schema<'s>, value: Value<'_>) -> Self {
        let most = STEPS.saturating_add(STEPS_FOR_EACH.saturating_mul(values(value)));
        let (steps, depth, is_too_deep) = (Cell::new(0), Cell::new(0), Cell::new(false));
        let resources = RefCell::default();
        Self { schema, steps, most, resources, depth, is_too_deep }
    }

    fn is_given_up(&self) -> bool {
        self.steps.get() > self.most || self.is_too_deep.get()
    }

    /// Whether a value fits the schema of that number.
    fn check(
        &self,
        number: usize,
        value: Value<'_>,
        findings: Findings<'_>,
        evaluated: Option<&mut Evaluated>,
    ) -> bool {
        if self.depth.get() >= DEPTH {
            self.is_too_deep.set(true);
            return false;
        }
        self.depth.set(self.depth.get() + 1);
        let node = &self.schema.nodes[number];
        let enters =
            self.schema.is_dynamic && self.resources.borrow().last() != Some(&node.resource);
        if enters {
            self.resources.borrow_mut().push(node.resource);
        }
        let is_valid = if node.asks_evaluated {
            let mut own = Evaluated::default();
            let is_valid = self.rules(node, value, findings, Some(&mut own));
            if let Some(evaluated) = evaluated {
                evaluated.add_all(&own);
            }
            is_valid
        } else {
            self.rules(node, value, findings, evaluated)
        };
        if enters {
            self.resources.borrow_mut().pop();
        }
        self.depth.set(self.depth.get() - 1);
        is_valid
    }

    fn rules(
        &self,
        node: &Node<'s>,
        value: Value<'_>,
        mut findings: Findings<'_>,
        mut evaluated: Option<&mut Evaluated>,
    ) -> bool {
        let mut is_valid = true;
        for rule in &node.rules {
            self.steps.set(self.steps.get() + 1);
            if self.is_given_up() {
                return false;
            }
            let given = (findings.as_deref_mut(), evaluated.as_deref_mut());
            is_valid &= self.rule((rule, node), value, given.0, given.1);
            if !is_valid && findings.is_none() {
                return false;
            }
        }
        is_valid
    }

    fn fits(&self, number: usize, value: Value<'_>) -> bool {
        self.check(number, value, None, None)
    }

    /// Whether a value fits; where it does, what was looked at counts.
    fn fits_with(
        &self,
        number: usize,
        value: Value<'_>,
        evaluated: &mut Option<&mut Evaluated>,
    ) -> bool {
        let Some(all) = evaluated.as_deref_mut() else { return self.fits(number, value) };
        let mut own = Evaluated::default();
        let fits = self.check(number, value, None, Some(&mut own));
        if fits {
            all.add_all(&own);
        }
        fits
    }

    fn rule(
        &self,
        (rule, node): (&Rule<'s>, &Node<'s>),
        value: Value<'_>,
        mut findings: Findings<'_>,
        mut evaluated: Option<&mut Evaluated>,
    ) -> bool {
        match &rule.keyword {
            Keyword::Reference(schema) => return self.check(*schema, value, findings, evaluated),
            Keyword::Dynamic(first, named) => {
                let resources = self.resources.borrow();
                let outermost = resources.iter().find_map(|resource| {
                    named.iter().find(|(of, _)| of == resource).map(|(_, schema)| *schema)
                });
                drop(resources);
                return self.check(outermost.unwrap_or(*first), value, findings, evaluated);
            }
            Keyword::All(schemas) => {
                let mut is_valid = true;
                for schema in schemas {
                    let given = (findings.as_deref_mut(), evaluated.as_deref_mut());
                    is_valid &= self.check(*schema, value, given.0, given.1);
                    if !is_valid && findings.is_none() {
                        return false;
                    }
                }
                return is_valid;
            }
            Keyword::If(test, yes, no) => {
                let branch = if self.fits_with(*test, value, &mut evaluated) { yes } else { no };
                return branch.is_none_or(|schema| self.check(schema, value, findings, evaluated));
            }
            Keyword::Items(schema) => {
                let items = value.as_list().unwrap_or_default();
                if let Some(evaluated) = evaluated {
                    evaluated.add_first(items.len());
                }
                return self.each(items.iter().map(|item| (*schema, *item)), findings);
            }
            Keyword::Tuple(first, others) => {
                let items = value.as_list().unwrap_or_default();
                if let Some(evaluated) = evaluated {
                    evaluated.add_first(if others.is_some() { items.len() } else { first.len() });
                }
                let schemas = first.iter().copied().map(Some).chain(std::iter::repeat(*others));
                let pairs = items.iter().zip(schemas);
                return self
                    .each(pairs.filter_map(|(item, schema)| Some((schema?, *item))), findings);
            }
            Keyword::Members(members) => {
                let Some(map) = value.as_map() else { return true };
                return self.members(members, map, rule, findings, evaluated);
            }
            Keyword::Names(schema) => {
                let Some(map) = value.as_map() else { return true };
                let mut is_valid = true;
                for member in map.members() {
                    let name = Value::text(member.name).with_origin(member.value.origin());
                    is_valid &= self.check(*schema, name, findings.as_deref_mut(), None);
                }
                return is_valid;
            }
            Keyword::Dependencies(all) => {
                let Some(map) = value.as_map() else { return true };
                let mut is_valid = true;
                for (name, needed) in all.iter().filter(|(name, _)| map.get(name).is_some()) {
                    let findings = findings.as_deref_mut();
                    is_valid &= match needed {
                        Dependency::Schema(schema) => {
                            self.check(*schema, value, findings, evaluated.as_deref_mut())
                        }
                        Dependency::Members(names) => {
                            let why = format!(", which {name:?} needs");
                            has_all(names, &why, (rule, value, map), findings)
                        }
                    };
                }
                return is_valid;
            }
            Keyword::Required(names) => {
                let Some(map) = value.as_map() else { return true };
                return has_all(names, "", (rule, value, map), findings);
            }
            Keyword::OtherItems(schema) => {
                let items = value.as_list().unwrap_or_default();
                let Some(evaluated) = evaluated else { return true };
                let open = items.iter().enumerate().filter(|(at, _)| !evaluated.has(*at));
                let open: Vec<Value<'_>> = open.map(|(_, item)| *item).collect();
                evaluated.add_first(items.len());
                return self.each(open.into_iter().map(|item| (*schema, item)), findings);
            }
            Keyword::OtherMembers(schema) => {
                let (Some(map), Some(evaluated)) = (value.as_map(), evaluated) else { return true };
                let members = map.members().iter().enumerate();
                let open: Vec<_> = members.filter(|(at, _)| !evaluated.has(*at)).collect();
                evaluated.add_first(map.len());
                let mut is_valid = true;
                for (_, member) in open {
                    let findings = findings.as_deref_mut();
                    is_valid &= if self.is_nothing(*schema) {
                        let message = format!("the member {:?} may not stand here", member.name);
                        tell(rule, (member.value, message, None), findings);
                        false
                    } else {
                        self.check(*schema, member.value, findings, None)
                    };
                }
                return is_valid;
            }
            _ => {}
        }
        let is_told = findings.is_some();
        match self.wrong((&rule.keyword, node), value, is_told, &mut evaluated) {
            None => true,
            Some(wrong) => {
                tell(rule, wrong, findings);
                false
            }
        }
    }

    fn each<'v>(
        &self,
        pairs: impl Iterator<Item = (usize, Value<'v>)>,
        mut findings: Findings<'_>,
    ) -> bool {
        let mut is_valid = true;
        for (schema, item) in pairs {
            is_valid &= self.check(schema, item, findings.as_deref_mut(), None);
            if !is_valid && findings.is_none() {
                return false;
            }
        }
        is_valid
    }

    fn members(
        &self,
        members: &Members<'s>,
        map: &Map<'_>,
        rule: &Rule<'s>,
        mut findings: Findings<'_>,
        mut evaluated: Option<&mut Evaluated>,
    ) -> bool {
        let Members { named, patterns, others } = members;
        let mut is_valid = true;
        for (position, member) in map.members().iter().enumerate() {
            let (name, value) = (member.name, member.value);
            let own = named.binary_search_by_key(&name, |(name, _)| *name).ok();
            let mut is_known = own.is_some();
            if let Some(at) = own {
                is_valid &= self.check(named[at].1, value, findings.as_deref_mut(), None);
            }
            for (pattern, schema) in patterns {
                // A pattern that is given up says nothing of the name.
                if pattern.is_match(name).unwrap_or(false) {
                    is_known = true;
                    is_valid &= self.check(*schema, value, findings.as_deref_mut(), None);
                }
            }
            if let Some(others) = others.filter(|_| !is_known) {
                if self.is_nothing(others) && findings.is_none() {
                    return false;
                } else if self.is_nothing(others) {
                    is_valid = false;
                    let message = format!("the member {name:?} may not stand here");
                    let known = named.iter().map(|(name, _)| *name);
                    let wrong = (value, message, describe::known_members(name, known, map));
                    tell(rule, wrong, findings.as_deref_mut());
                } else {
                    is_valid &= self.check(others, value, findings.as_deref_mut(), None);
                }
            }
            if let Some(evaluated) = evaluated.as_deref_mut()
                && (is_known || others.is_some())
            {
                evaluated.add(position);
            }
            if !is_valid && findings.is_none() {
                return false;
            }
        }
        is_valid
    }

    /// Whether a schema is just `false`.
    fn is_nothing(&self, number: usize) -> bool {
        matches!(self.schema.nodes[number].rules[..], [Rule { keyword: Keyword::Nothing, .. }])
    }

    /// What is wrong with a value, by a keyword that looks at it as a whole; what takes long to say only if it is told.
    fn wrong<'v>(
        &self,
        (keyword, node): (&Keyword<'s>, &Node<'s>),
        value: Value<'v>,
        is_told: bool,
        evaluated: &mut Option<&mut Evaluated>,
    ) -> Option<Wrong<'v>> {
        // What takes long to say is only said where somebody listens.
        let about = |say: &dyn Fn() -> String| {
            let message = if is_told { say() } else { String::new() };
            Some((value, message, None))
        };
        match keyword {
            Keyword::Nothing => about(&|| "nothing may stand here".into()),
            Keyword::Types(types) => {
                let found = Types::of(value, node.draft == Draft::V4);
                match types.has(found) {
                    true => None,
                    false if is_told => Some(describe::types(*types, value)),
                    false => about(&String::new),
                }
            }
            Keyword::Enumeration(known) => {
                let is_known = is_one_of(value, known);
                match is_known {
                    true => None,
                    false if is_told => Some(describe::enumeration(known, value)),
                    false => about(&String::new),
                }
            }
            Keyword::Constant(constant) if is_one_of(value, std::slice::from_ref(constant)) => None,
            Keyword::Constant(constant) => about(&|| {
                format!(
                    "expected {}, found {}",
                    describe::shown(constant.value),
                    describe::shown(value)
                )
            }),
            Keyword::MultipleOf(unit) => {
                let number = number(value)?;
                let shown = value.scalar_text().unwrap_or_default();
                match number.rem(unit) {
                    Ok(rest) if rest == Decimal::ZERO => None,
                    Ok(_) => about(&|| format!("{shown} is no multiple of {unit}")),
                    Err(_) => about(&|| format!("{shown} has more digits than are computed with")),
                }
            }
            Keyword::Bound(bound, limit, written) => {
                let number = number(value)?;
                let (is_kept, must) = match bound {
                    Bound::Least => (number >= *limit, "must be at least"),
                    Bound::Most => (number <= *limit, "must be at most"),
                    Bound::MoreThan => (number > *limit, "must be greater than"),
                    Bound::LessThan => (number < *limit, "must be less than"),
                };
                let shown = value.scalar_text().unwrap_or_default();
                if is_kept { None } else { about(&|| format!("{shown} {must} {written}")) }
            }
            Keyword::Size(of, limit, count) => {
                let (size, what) = size(*of, value)?;
                let must = match limit {
                    Limit::Least if size < *count => "at least",
                    Limit::Most if size > *count => "at most",
                    _ => return None,
                };
                let verb = match (of, size) {
                    (Sized::Text, _) => "the text has",
                    (_, 1) => "there is",
                    _ => "there are",
                };
                let has = counted(size, what);
                about(&|| format!("{verb} {has}, and there must be {must} {count}"))
            }
            Keyword::Pattern(written, pattern) => {
                let text = text(value)?;
                match pattern.is_match(text) {
                    Ok(true) => None,
                    Ok(false) => {
                        about(&|| format!("{} does not fit {written}", describe::shown(value)))
                    }
                    Err(error) => about(&|| format!("it is not known whether this fits: {error}")),
                }
            }
            Keyword::Contains(contains) => {
                let items = value.as_list()?;
                let mut count = 0;
                for (at, item) in items.iter().enumerate() {
                    if self.fits(contains.schema, *item) {
                        count += 1;
                        // In 2019-09 it says nothing of what was looked at.
                        match evaluated.as_deref_mut().filter(|_| node.draft >= Draft::V2020) {
                            Some(evaluated) => evaluated.add(at),
                            None if contains.most.is_none() && count >= contains.least => break,
                            None => {}
                        }
                    }
                }
                describe::contains(contains, count).map(|message| (value, message, None))
            }
            Keyword::Unique => {
                let mut met: HashMap<Key, usize> = HashMap::new();
                for (at, item) in value.as_list()?.iter().enumerate() {
                    if let Some(before) = met.insert(Key::of(*item), at) {
                        let message =
                            format!("item {at} is the same as item {before}, counted from 0");
                        return Some((*item, message, None));
                    }
                }
                None
            }
            Keyword::Any(schemas) => {
                let mut fits = false;
                for schema in schemas {
                    fits |= self.fits_with(*schema, value, evaluated);
                    if fits && evaluated.is_none() {
                        break;
                    }
                }
                (!fits).then(|| self.none_of(schemas, value, is_told))
            }
            Keyword::One(schemas) => {
                let numbers = 0..schemas.len();
                let fitting: Vec<usize> =
                    numbers.filter(|at| self.fits_with(schemas[*at], value, evaluated)).collect();
                match fitting[..] {
                    [_] => None,
                    [] => Some(self.none_of(schemas, value, is_told)),
                    [first, second, ..] => about(&|| {
                        format!(
                            "{} of the {} alternatives fit, and just one may: those of number {} and {}",
                            fitting.len(),
                            schemas.len(),
                            first + 1,
                            second + 1
                        )
                    }),
                }
            }
            Keyword::Not(schema) => {
                let fits = self.fits(*schema, value);
                if fits { about(&|| "this is what may not stand here".into()) } else { None }
            }
            Keyword::Format(format) => {
                let text = text(value)?;
                let looks = Some(format!("it looks like {}", format.looks));
                let message = format!("{} is no {}", describe::shown(value), format.name);
                (!(format.holds)(text)).then_some((value, message, looks))
            }
            Keyword::Content(content) => content::wrong(*content, text(value)?, self.schema.reads)
                .map(|message| (value, message, None)),
            _ => None,
        }
    }

    /// That a value fits no alternative, and what is wrong with it for the one that it is nearest to.
    fn none_of<'v>(&self, schemas: &[usize], value: Value<'v>, is_told: bool) -> Wrong<'v> {
        if !is_told {
            return (value, String::new(), None);
        }
        let mut nearest: Option<(usize, Vec<Finding>)> = None;
        for (at, schema) in schemas.iter().enumerate() {
            let mut findings = Vec::new();
            self.check(*schema, value, Some(&mut findings), None);
            // An alternative for another type is the farthest.
            let far = |findings: &[Finding]| {
                let own = |f: &&Finding| f.origin == value.origin() && f.rule.keyword == "type";
                (findings.iter().any(|finding| own(&finding)), findings.len())
            };
            if nearest.as_ref().is_none_or(|(_, best)| far(&findings) < far(best)) {
                nearest = Some((at, findings));
            }
        }
        let message = format!("this fits none of {} alternatives", schemas.len());
        let near = nearest.and_then(|(at, findings)| Some((at, findings.into_iter().next()?)));
        let advice = near
            .map(|(at, finding)| format!("nearest is number {}, but {}", at + 1, finding.message));
        (value, message, advice)
    }
}

/// Whether a map has all of these members.
fn has_all(
    names: &[&str],
    why: &str,
    (rule, value, map): (&Rule<'_>, Value<'_>, &Map<'_>),
    mut findings: Findings<'_>,
) -> bool {
    let mut is_valid = true;
    for name in names.iter().filter(|name| map.get(name).is_none()) {
        if findings.is_none() {
            return false;
        }
        is_valid = false;
        let message = format!("the member {name:?} is missing{why}");
        tell(rule, (value, message, describe::near_member(name, map)), findings.as_deref_mut());
    }
    is_valid
}

fn tell(rule: &Rule<'_>, (value, message, advice): Wrong<'_>, findings: Findings<'_>) {
    if let Some(findings) = findings {
        let advice = advice.map(kyanite_tree::Advice::words);
        findings.push(Finding { message, advice, origin: value.origin(), rule: rule.place });
    }
}

/// Whether a value is one of those; a text from a format that knows only texts is also what it spells.
fn is_one_of(value: Value<'_>, known: &[Constant<'_>]) -> bool {
    let own = Key::of(value);
    if known.iter().any(|known| known.key == own) {
        return true;
    }
    let Value::Untyped(_, text) = value.simple() else { return false };
    known.iter().any(|known| match known.value {
        Value::Number(..) => number(known.value).is_some_and(|known| number(value) == Some(known)),
        Value::Boolean(_, true) => text == "true",
        Value::Boolean(_, false) => text == "false",
        Value::Null(_) => text.is_empty(),
        _ => false,
    })
}

/// How many values there are in a value, with itself.
fn values(value: Value<'_>) -> u64 {
    let mut count = 0;
    let mut left = vec![value];
    while let Some(value) = left.pop() {
        count += 1;
        match value {
            Value::List(_, items) => left.extend(items),
            Value::Map(_, map) => left.extend(map.members().iter().map(|member| member.value)),
            _ => {}
        }
    }
    count
}

fn number(value: Value<'_>) -> Option<Decimal> {
    match value {
        Value::Number(_, number) => number.decimal().ok(),
        other => match other.simple() {
            Value::Untyped(_, text) => Decimal::spelled(text),
            _ => None,
        },
    }
}

fn text(value: Value<'_>) -> Option<&str> {
    match value.simple() {
        Value::Text(_, text) | Value::Untyped(_, text) => Some(text),
        _ => None,
    }
}

/// How large a value is, if it has such a size, and what is counted.
fn size(of: Sized, value: Value<'_>) -> Option<(u64, &'static str)> {
    Some(match of {
        Sized::Text => (text(value)?.chars().count() as u64, "character"),
        Sized::List => (value.as_list()?.len() as u64, "item"),
        Sized::Map if value.kind() == Kind::Map => (value.as_map()?.len() as u64, "member"),
        Sized::Map => return None,
    })
}
