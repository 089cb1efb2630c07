//! What of a rule's first condition can be told from the text of a record.

use kyanite_formats::json::Prefilter;
use kyanite_tree::{Comparison, Number, Value};

use super::Names;
use crate::plan::{Expr, Kind, OnePath, Plan, RecordUnit, Records, Start, StepKind};
use crate::syntax::ast::{Binary, Literal};

impl Plan {
    /// A prefilter for records that fail the first comparison of the rule's first condition, if that compares a member with a
    /// constant. The rule is not run over such records; [`Runner::passed_over`](crate::Runner::passed_over) has to be told
    /// how many there were.
    #[must_use]
    pub fn prefilter(&self, unit: RecordUnit, names: &Names<'_>) -> Option<Prefilter> {
        let records = self.records(unit).filter(|_| unit == RecordUnit::Items)?;
        let (_, condition) = records.first_test()?;
        let mut first = condition;
        // What comes behind is not asked where the first fails.
        while let Kind::Binary(Binary::And, left, _) = &first.kind {
            first = left;
        }
        let Kind::Binary(operator, left, right) = &first.kind else { return None };
        let test = match operator {
            Binary::Equal => Comparison::Equal,
            Binary::NotEqual => Comparison::NotEqual,
            Binary::Less => Comparison::Less,
            Binary::LessOrEqual => Comparison::LessOrEqual,
            Binary::Greater => Comparison::Greater,
            Binary::GreaterOrEqual => Comparison::GreaterOrEqual,
            _ => return None,
        };
        let of = |path: &Expr, constant: &Expr, test: Comparison| {
            let names_of = records.member(path)?;
            Prefilter::new(&names_of, test, names.constant(constant)?)
        };
        of(left, right, test).or_else(|| of(right, left, test.turned()))
    }
}

impl<'p> Records<'p> {
    /// The names that lead to a member of a record, if that is what an expression selects.
    fn member(self, expr: &'p Expr) -> Option<Vec<&'p str>> {
        let Kind::One(OnePath { start, steps, .. }) = &expr.kind else { return None };
        if !self.is_record(start) {
            return None;
        }
        let name = |kind: &'p StepKind| match kind {
            StepKind::Name(name) => Some(name.as_str()),
            _ => None,
        };
        steps.iter().map(|step| name(&step.kind)).collect()
    }
}

impl Names<'_> {
    /// The value of an expression that has the same for the whole run.
    fn constant<'v>(&'v self, expr: &'v Expr) -> Option<Value<'v>> {
        match &expr.kind {
            Kind::Constant(Literal::Number(number)) => {
                Some(Value::number(Number::from_checked(number)))
            }
            Kind::Constant(Literal::Text(text)) => Some(Value::text(text)),
            Kind::Constant(Literal::Boolean(value)) => Some(Value::boolean(*value)),
            Kind::One(OnePath { start: Start::Global(slot), steps, .. }) if steps.is_empty() => {
                self.global(*slot)
            }
            _ => None,
        }
    }
}
