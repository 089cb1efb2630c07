//! Mathematical functions on doubles (F&O 3.1 section 4.8).

use kyanite_eval::atomic::{Atomic, AtomicType};

use super::{Call, Function, Library, Occurs, Outcome, atomic, function};
use crate::value::Sequence;

const fn number() -> super::Parameter {
    atomic("number", AtomicType::Double, Occurs::Optional)
}

pub(super) const TABLE: &[Function] = &[
    function("pi", &[], 0, |_| Ok(Sequence::atomic(Atomic::Double(std::f64::consts::PI))))
        .within(Library::Math),
    function("exp", &[number()], 1, |call| computed(call, f64::exp)).within(Library::Math),
    function("exp10", &[number()], 1, |call| computed(call, |x| 10f64.powf(x)))
        .within(Library::Math),
    function("log", &[number()], 1, |call| computed(call, f64::ln)).within(Library::Math),
    function("log10", &[number()], 1, |call| computed(call, f64::log10)).within(Library::Math),
    function("sqrt", &[number()], 1, |call| computed(call, f64::sqrt)).within(Library::Math),
    function("sin", &[number()], 1, |call| computed(call, f64::sin)).within(Library::Math),
    function("cos", &[number()], 1, |call| computed(call, f64::cos)).within(Library::Math),
    function("tan", &[number()], 1, |call| computed(call, f64::tan)).within(Library::Math),
    function("asin", &[number()], 1, |call| computed(call, f64::asin)).within(Library::Math),
    function("acos", &[number()], 1, |call| computed(call, f64::acos)).within(Library::Math),
    function("atan", &[number()], 1, |call| computed(call, f64::atan)).within(Library::Math),
    function("pow", &[number(), atomic("exponent", AtomicType::Numeric, Occurs::One)], 2, |call| {
        let exponent = call.double(1);
        // These hold in IEEE 754 for any base and any exponent.
        computed(call, |x| if exponent == 0.0 || x == 1.0 { 1.0 } else { x.powf(exponent) })
    })
    .within(Library::Math),
    function("atan2", &[super::double("y"), super::double("x")], 2, |call| {
        Ok(Sequence::atomic(Atomic::Double(call.double(0).atan2(call.double(1)))))
    })
    .within(Library::Math),
];

fn computed<'d>(call: &Call<'_, '_, 'd>, compute: impl Fn(f64) -> f64) -> Outcome<'d> {
    if call.argument(0).is_empty() {
        return Ok(Sequence::Empty);
    }
    Ok(Sequence::atomic(Atomic::Double(compute(call.double(0)))))
}
