//! Tests a condition on the text of an element before it is parsed, so that nothing is built of an element that fails.
//!
//! An element is skipped only if the condition certainly does not hold; all others are read, and the condition is evaluated as usual.

use std::fmt::Debug;

use kyanite_tree::Name;

use super::ancestry::StepName;
use crate::projection::Projection;

/// A condition on an element, made of [tests](Test) of what is in it.
#[derive(Debug)]
pub struct Prefilter {
    tests: Vec<Test>,
    condition: Condition,
    /// The name of the elements that are looked at, where one of them inside another is looked at with that one.
    inside: Option<StepName>,
    /// For each of the steps of all tests, one behind the other, its test.
    steps: Vec<usize>,
    /// For each test the number of its first step.
    firsts: Vec<usize>,
    /// What is needed of elements for which the condition certainly holds.
    projection: Projection,
}

/// How tests make a condition. What is not certain is asked in the order in which it is written.
#[derive(Clone, Debug)]
pub enum Condition {
    /// Whether a test holds.
    Test(usize),
    /// Whether both hold; the second is not asked where the first does not.
    And(Box<[Condition; 2]>),
    /// Whether one holds; the second is not asked where the first does.
    Or(Box<[Condition; 2]>),
    /// Whether it does not hold.
    Not(Box<Condition>),
    /// What is for others to tell.
    Unknown,
}

/// Whether there is an element or attribute at the end of a path, perhaps with a text of some sort.
#[derive(Debug)]
pub struct Test {
    /// The path from the element.
    pub steps: Vec<TestStep>,
    /// What holds for the text of one of those at its end; None where it is enough that there is one.
    pub text: Option<Box<dyn TextTest>>,
}

/// A step of the path of a test.
#[derive(Clone, Debug)]
pub struct TestStep {
    /// To elements, or attributes, of that name.
    pub name: StepName,
    /// Whether it leads to attributes; it is the last, then.
    pub is_attribute: bool,
}

/// A condition on a text.
pub trait TextTest: Debug + Send + Sync {
    /// Whether it holds; None where that is for others to tell.
    fn holds(&self, text: &str) -> Option<bool>;
}

/// The most steps that a prefilter has: each is a bit.
const MOST_STEPS: usize = 64;

impl Prefilter {
    /// A prefilter; None where no text could fail it, or it has too many steps. `inside` is the name of the elements that are
    /// looked at, if they are looked at with the outermost of them; `projection` is what is needed of those for which the condition
    /// certainly holds.
    #[must_use]
    pub fn new(
        tests: Vec<Test>,
        condition: Condition,
        inside: Option<StepName>,
        projection: Projection,
    ) -> Option<Self> {
        let (mut steps, mut firsts) = (Vec::new(), Vec::new());
        for (test, Test { steps: own, .. }) in tests.iter().enumerate() {
            firsts.push(steps.len());
            steps.extend(own.iter().map(|_| test));
        }
        let fits = steps.len() <= MOST_STEPS
            && tests.iter().all(|test| !test.steps.is_empty())
            && condition.can_be(false);
        fits.then_some(Self { tests, condition, inside, steps, firsts, projection })
    }

    /// What is needed of an element for which the condition certainly holds.
    pub(super) fn projection(&self) -> &Projection {
        &self.projection
    }

    fn step(&self, number: usize) -> &TestStep {
        let test = self.steps[number];
        &self.tests[test].steps[number - self.firsts[test]]
    }

    /// The number of the last step of a test.
    fn last(&self, test: usize) -> usize {
        self.firsts[test] + self.tests[test].steps.len() - 1
    }

    /// The steps that lead on from an element that is looked at.
    pub(super) fn start(&self) -> Marks {
        let mut marks = Marks::default();
        self.firsts.iter().for_each(|first| marks.lead(self, *first));
        marks
    }

    /// The marks of a child element of that name in an element with marks of its own.
    pub(super) fn child(&self, parent: &Marks, name: Name<'_>) -> Marks {
        let mut marks = Marks { inside: parent.inside, ..Marks::default() };
        marks.is_record = self.inside.as_ref().is_some_and(|step| step.fits(name));
        self.reach(&mut marks, parent.next | parent.inside, name, false);
        marks
    }

    /// The marks of an attribute of that name.
    pub(super) fn attribute(&self, element: &Marks, name: Name<'_>) -> Marks {
        let mut marks = Marks::default();
        self.reach(&mut marks, element.next, name, true);
        marks
    }

    fn reach(&self, marks: &mut Marks, waiting: u64, name: Name<'_>, is_attribute: bool) {
        for number in bits(waiting) {
            let step = self.step(number);
            if step.is_attribute != is_attribute || !step.name.fits(name) {
                continue;
            }
            marks.reached |= 1 << number;
            let test = self.steps[number];
            if number < self.last(test) {
                marks.lead(self, number + 1);
            } else if self.tests[test].text.is_some() {
                marks.texts |= 1 << number;
            }
        }
    }
}

/// What an element, or an attribute, at a place below one that is looked at is for the tests: a bit for each step.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Marks {
    /// Steps that lead to it.
    pub(super) reached: u64,
    /// Those of them whose test asks for its text.
    pub(super) texts: u64,
    /// Steps from it to its children or attributes.
    next: u64,
    /// Steps from it, or from what is around it, to elements at any depth.
    inside: u64,
    /// Whether it is one of the elements that are looked at.
    pub(super) is_record: bool,
}

impl Marks {
    /// A step leads on from here.
    fn lead(&mut self, prefilter: &Prefilter, step: usize) {
        if prefilter.step(step).name.at_any_depth {
            self.inside |= 1 << step;
        } else {
            self.next |= 1 << step;
        }
    }
}

fn bits(mut set: u64) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        let lowest = set.checked_ilog2()?;
        set &= !(1 << lowest);
        Some(lowest as usize)
    })
}

/// What was found in one element.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Found {
    /// The steps that led to something.
    pub(super) reached: u64,
    /// The tests, by their last step, that hold.
    holds: u64,
    /// The tests, by their last step, of which that is for others to tell.
    unknown: u64,
}

impl Found {
    /// Something with these marks, and with that text; nothing for a text that is for others to read.
    #[inline]
    pub(super) fn add(&mut self, prefilter: &Prefilter, marks: &Marks, text: Option<&str>) {
        self.reached |= marks.reached;
        if marks.texts & !self.holds != 0 {
            self.ask(prefilter, marks.texts & !self.holds, text);
        }
    }

    fn ask(&mut self, prefilter: &Prefilter, last_steps: u64, text: Option<&str>) {
        for number in bits(last_steps) {
            let test = &prefilter.tests[prefilter.steps[number]];
            let of = |text| test.text.as_ref().map_or(Some(true), |test| test.holds(text));
            match text.and_then(of) {
                Some(true) => self.holds |= 1 << number,
                Some(false) => {}
                None => self.unknown |= 1 << number,
            }
        }
    }

    /// Whether the condition holds for the element; None where that is for others to tell.
    pub(super) fn holds(&self, prefilter: &Prefilter) -> Option<bool> {
        self.truth(prefilter, &prefilter.condition)
    }

    fn truth(&self, prefilter: &Prefilter, condition: &Condition) -> Option<bool> {
        match condition {
            Condition::Unknown => None,
            Condition::Not(inner) => self.truth(prefilter, inner).map(|holds| !holds),
            Condition::And(pair) => {
                if self.truth(prefilter, &pair[0])? {
                    self.truth(prefilter, &pair[1])
                } else {
                    Some(false)
                }
            }
            Condition::Or(pair) => {
                if self.truth(prefilter, &pair[0])? {
                    Some(true)
                } else {
                    self.truth(prefilter, &pair[1])
                }
            }
            Condition::Test(test) => {
                let last = 1 << prefilter.last(*test);
                let holds = match prefilter.tests[*test].text {
                    Some(_) => self.holds,
                    None => self.reached,
                };
                (self.unknown & last == 0).then_some(holds & last != 0)
            }
        }
    }
}

impl Condition {
    /// Whether it can turn out so.
    fn can_be(&self, holds: bool) -> bool {
        match self {
            Self::Unknown => false,
            Self::Test(_) => true,
            Self::Not(inner) => inner.can_be(!holds),
            // The second is asked only where the first is certain.
            Self::And(pair) if !holds => {
                pair[0].can_be(false) || pair[0].can_be(true) && pair[1].can_be(false)
            }
            Self::Or(pair) if holds => {
                pair[0].can_be(true) || pair[0].can_be(false) && pair[1].can_be(true)
            }
            Self::And(pair) | Self::Or(pair) => pair.iter().all(|inner| inner.can_be(holds)),
        }
    }
}
