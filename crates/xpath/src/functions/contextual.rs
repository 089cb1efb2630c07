//! Functions on the context of an evaluation (F&O 3.1 section 15).

use kyanite_eval::atomic::Atomic;
use kyanite_eval::time::TimeKind;

use super::dates::zone_value;
use super::{ArgumentUse, Function, function};
use crate::value::Sequence;

pub(super) const TABLE: &[Function] = &[
    function("position", &[], 0, |call| Ok(Sequence::count(call.context()?.position)))
        .contextual()
        .asks(ArgumentUse::Presence)
        .old(),
    function("last", &[], 0, |call| Ok(Sequence::count(call.context()?.size)))
        .contextual()
        .asks(ArgumentUse::Presence)
        .old(),
    function("current-dateTime", &[], 0, |call| {
        Ok(Sequence::atomic(Atomic::time(call.run.context.now()?.clone())))
    }),
    function("current-date", &[], 0, |call| {
        Ok(Sequence::atomic(Atomic::time(call.run.context.now()?.to_kind(TimeKind::Date))))
    }),
    function("current-time", &[], 0, |call| {
        Ok(Sequence::atomic(Atomic::time(call.run.context.now()?.to_kind(TimeKind::Time))))
    }),
    function("implicit-timezone", &[], 0, |call| {
        Ok(Sequence::atomic(zone_value(call.run.context.zone)))
    }),
    function("default-collation", &[], 0, |_| {
        Ok(Sequence::text("http://www.w3.org/2005/xpath-functions/collation/codepoint"))
    }),
    function("default-language", &[], 0, |_| Ok(Sequence::text("en"))),
    function("static-base-uri", &[], 0, |_| Ok(Sequence::Empty)),
];
