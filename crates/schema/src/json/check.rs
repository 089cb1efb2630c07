//! Checking values.

use std::cell::{Cell, RefCell};

use kyanite_tree::{Map, Value};

use super::describe;
use super::evaluated::Evaluated;
use super::keyword::{Dependency, Keyword, Members};
use super::unit::{Token, Way};
use super::{Node, Rule, Schema};
use crate::Finding;

/// Where findings go; None where it is only asked whether there are any.
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
        let mut check = Check::new(self, STEPS);
        check.check(0, value, Some(&mut findings), None);
        if check.is_given_up() && !check.is_too_deep.get() {
            findings.clear();
            check = Check::new(self, most_steps(value));
            check.check(0, value, Some(&mut findings), None);
        }
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
            check.way.borrow_mut().clear();
            check.tell((rule, &self.nodes[0]), (value, message, advice), Some(&mut findings));
        }
        findings
    }

    /// Whether a value is valid.
    #[must_use]
    pub fn is_valid(&self, value: Value<'_>) -> bool {
        let check = Check::new(self, STEPS);
        let is_valid = check.check(0, value, None, None);
        if !check.is_given_up() {
            return is_valid;
        }
        // How large it is is only counted where that matters.
        let check = Check::new(self, most_steps(value));
        check.check(0, value, None, None) && !check.is_given_up()
    }
}

/// A check under way.
pub(super) struct Check<'c, 's> {
    pub(super) schema: &'c Schema<'s>,
    /// How many rules were looked at.
    steps: Cell<u64>,
    /// How many may be.
    most: u64,
    /// The resources of the schemas that are being applied, outermost first, where some rule asks for them.
    resources: RefCell<Vec<usize>>,
    /// How many schemas are being applied inside each other.
    depth: Cell<usize>,
    is_too_deep: Cell<bool>,
    /// How the check came to where it is, as long as findings are wanted.
    way: RefCell<Way>,
}

impl<'c, 's> Check<'c, 's> {
    fn new(schema: &'c Schema<'s>, most: u64) -> Self {
        let (steps, depth, is_too_deep) = (Cell::new(0), Cell::new(0), Cell::new(false));
        let (resources, way) = (RefCell::default(), RefCell::default());
        Self { schema, steps, most, resources, depth, is_too_deep, way }
    }

    fn is_given_up(&self) -> bool {
        self.steps.get() > self.most || self.is_too_deep.get()
    }

    /// Whether a value fits the schema of that number.
    pub(super) fn check(
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

    /// Whether a value fits a schema that these tokens lead to from the one that is being applied, and `inner` to the value.
    fn within(
        &self,
        tokens: &[Token<'_>],
        (number, value, inner): (usize, Value<'_>, Option<Token<'_>>),
        findings: Findings<'_>,
        evaluated: Option<&mut Evaluated>,
    ) -> bool {
        if findings.is_none() {
            return self.check(number, value, None, evaluated);
        }
        let before = self.way.borrow_mut().go(tokens, inner);
        let is_valid = self.check(number, value, findings, evaluated);
        self.way.borrow_mut().come_back(before);
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

    pub(super) fn fits(&self, number: usize, value: Value<'_>) -> bool {
        self.check(number, value, None, None)
    }

    /// Whether a value fits; where it does, what was looked at counts.
    pub(super) fn fits_with(
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
        let word = Token::Name(rule.place.keyword);
        match &rule.keyword {
            Keyword::Reference(schema) => {
                return self.within(&[word], (*schema, value, None), findings, evaluated);
            }
            Keyword::Dynamic(first, named) => {
                let resources = self.resources.borrow();
                let outermost = resources.iter().find_map(|resource| {
                    named.iter().find(|(of, _)| of == resource).map(|(_, schema)| *schema)
                });
                drop(resources);
                let schema = outermost.unwrap_or(*first);
                return self.within(&[word], (schema, value, None), findings, evaluated);
            }
            Keyword::All(schemas) => {
                let mut is_valid = true;
                for (at, schema) in schemas.iter().enumerate() {
                    let given = (findings.as_deref_mut(), evaluated.as_deref_mut());
                    let tokens = [word, Token::At(at)];
                    is_valid &= self.within(&tokens, (*schema, value, None), given.0, given.1);
                    if !is_valid && findings.is_none() {
                        return false;
                    }
                }
                return is_valid;
            }
            Keyword::If(test, yes, no) => {
                let fits = self.fits_with(*test, value, &mut evaluated);
                let (word, branch) = if fits { ("then", yes) } else { ("else", no) };
                let Some(schema) = *branch else { return true };
                return self.within(
                    &[Token::Name(word)],
                    (schema, value, None),
                    findings,
                    evaluated,
                );
            }
            Keyword::Items(schema) => {
                let items = value.as_list().unwrap_or_default();
                if let Some(evaluated) = evaluated {
                    evaluated.add_first(items.len());
                }
                return self.each(&[word], *schema, items.iter().copied().enumerate(), findings);
            }
            Keyword::Tuple(first, others) => {
                let items = value.as_list().unwrap_or_default();
                if let Some(evaluated) = evaluated {
                    evaluated.add_first(if others.is_some() { items.len() } else { first.len() });
                }
                let mut is_valid = true;
                for (at, (schema, item)) in first.iter().zip(items).enumerate() {
                    let inner = (*schema, *item, Some(Token::At(at)));
                    let tokens = [word, Token::At(at)];
                    is_valid &= self.within(&tokens, inner, findings.as_deref_mut(), None);
                    if !is_valid && findings.is_none() {
                        return false;
                    }
                }
                let Some(others) = *others else { return is_valid };
                let behind =
                    if rule.place.keyword == "items" { "additionalItems" } else { "items" };
                let left = items.iter().copied().enumerate().skip(first.len());
                return is_valid & self.each(&[Token::Name(behind)], others, left, findings);
            }
            Keyword::Members(members) => {
                let Some(map) = value.as_map() else { return true };
                return self.members((members, rule, node), map, findings, evaluated);
            }
            Keyword::Names(schema) => {
                let Some(map) = value.as_map() else { return true };
                let mut is_valid = true;
                for member in map.members() {
                    let name = Value::text(member.name).with_origin(member.value.origin());
                    let inner = (*schema, name, Some(Token::Name(member.name)));
                    is_valid &= self.within(&[word], inner, findings.as_deref_mut(), None);
                }
                return is_valid;
            }
            Keyword::Dependencies(all) => {
                let Some(map) = value.as_map() else { return true };
                let mut is_valid = true;
                for (name, needed) in all.iter().filter(|(name, _)| map.get(name).is_some()) {
                    let findings = findings.as_deref_mut();
                    is_valid &= match needed {
                        Dependency::Schema(schema) => self.within(
                            &[word, Token::Name(name)],
                            (*schema, value, None),
                            findings,
                            evaluated.as_deref_mut(),
                        ),
                        Dependency::Members(names) => {
                            let why = format!(", which {name:?} needs");
                            self.has_all((names, &why), (rule, node), value, map, findings)
                        }
                    };
                }
                return is_valid;
            }
            Keyword::Required(names) => {
                let Some(map) = value.as_map() else { return true };
                return self.has_all((names, ""), (rule, node), value, map, findings);
            }
            Keyword::OtherItems(schema) => {
                let items = value.as_list().unwrap_or_default();
                let Some(evaluated) = evaluated else { return true };
                let open = items.iter().copied().enumerate().filter(|(at, _)| !evaluated.has(*at));
                let open: Vec<_> = open.collect();
                evaluated.add_first(items.len());
                return self.each(&[word], *schema, open.into_iter(), findings);
            }
            Keyword::OtherMembers(schema) => {
                let (Some(map), Some(evaluated)) = (value.as_map(), evaluated) else { return true };
                let members = map.members().iter().enumerate();
                let open: Vec<_> = members.filter(|(at, _)| !evaluated.has(*at)).collect();
                evaluated.add_first(map.len());
                let mut is_valid = true;
                for (_, member) in open {
                    let findings = findings.as_deref_mut();
                    let inner = Some(Token::Name(member.name));
                    is_valid &= if self.is_nothing(*schema) {
                        let message = format!("the member {:?} may not stand here", member.name);
                        self.tell_of(inner, (rule, node), (member.value, message, None), findings);
                        false
                    } else {
                        self.within(&[word], (*schema, member.value, inner), findings, None)
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
                self.tell((rule, node), wrong, findings);
                false
            }
        }
    }

    /// Whether items fit a schema, each with its position.
    fn each<'v>(
        &self,
        tokens: &[Token<'_>],
        schema: usize,
        items: impl Iterator<Item = (usize, Value<'v>)>,
        mut findings: Findings<'_>,
    ) -> bool {
        let mut is_valid = true;
        for (at, item) in items {
            let inner = (schema, item, Some(Token::At(at)));
            is_valid &= self.within(tokens, inner, findings.as_deref_mut(), None);
            if !is_valid && findings.is_none() {
                return false;
            }
        }
        is_valid
    }

    fn members(
        &self,
        (members, rule, node): (&Members<'s>, &Rule<'s>, &Node<'s>),
        map: &Map<'_>,
        mut findings: Findings<'_>,
        mut evaluated: Option<&mut Evaluated>,
    ) -> bool {
        let Members { named, patterns, others, .. } = members;
        let (mut is_valid, mut next) = (true, 0);
        for (position, member) in map.members().iter().enumerate() {
            let (name, value) = (member.name, member.value);
            let inner = Some(Token::Name(name));
            let own = members.find(name, &mut next);
            let mut is_known = own.is_some();
            if let Some(schema) = own {
                let tokens = [Token::Name("properties"), Token::Name(name)];
                let inner = (schema, value, inner);
                is_valid &= self.within(&tokens, inner, findings.as_deref_mut(), None);
            }
            for (written, pattern, schema) in patterns {
                // A pattern that is given up says nothing of the name.
                if pattern.is_match(name).unwrap_or(false) {
                    is_known = true;
                    let tokens = [Token::Name("patternProperties"), Token::Name(written)];
                    let inner = (*schema, value, inner);
                    is_valid &= self.within(&tokens, inner, findings.as_deref_mut(), None);
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
                    self.tell_of(inner, (rule, node), wrong, findings.as_deref_mut());
                } else {
                    let tokens = [Token::Name("additionalProperties")];
                    let inner = (others, value, inner);
                    is_valid &= self.within(&tokens, inner, findings.as_deref_mut(), None);
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

    /// Whether a map has all of these members.
    fn has_all(
        &self,
        (names, why): (&[&str], &str),
        of: (&Rule<'s>, &Node<'s>),
        value: Value<'_>,
        map: &Map<'_>,
        mut findings: Findings<'_>,
    ) -> bool {
        let mut is_valid = true;
        for name in names.iter().filter(|name| map.get(name).is_none()) {
            if findings.is_none() {
                return false;
            }
            is_valid = false;
            let message = format!("the member {name:?} is missing{why}");
            let wrong = (value, message, describe::near_member(name, map));
            self.tell(of, wrong, findings.as_deref_mut());
        }
        is_valid
    }

    /// Tells what is wrong with the value that is being looked at.
    fn tell(&self, of: (&Rule<'s>, &Node<'s>), wrong: Wrong<'_>, findings: Findings<'_>) {
        self.tell_of(None, of, wrong, findings);
    }

    /// Tells what is wrong with a member of that value.
    fn tell_of(
        &self,
        inner: Option<Token<'_>>,
        (rule, node): (&Rule<'s>, &Node<'s>),
        (value, message, advice): Wrong<'_>,
        findings: Findings<'_>,
    ) {
        let Some(findings) = findings else { return };
        let advice = advice.map(kyanite_tree::Advice::words);
        let unit = self.way.borrow_mut().unit(rule.place.keyword, &node.location, inner);
        let unit = Some(Box::new(unit));
        findings.push(Finding { message, advice, origin: value.origin(), rule: rule.place, unit });
    }
}

/// The steps that a check of a value may take.
fn most_steps(value: Value<'_>) -> u64 {
    STEPS.saturating_add(STEPS_FOR_EACH.saturating_mul(values(value)))
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
