//! Functions on names (F&O 3.1 section 10).

use std::sync::Arc;

use kyanite_eval::atomic::{Atomic, AtomicType, QName};

use super::{Call, Function, Occurs, Outcome, atomic, failed, function, optional_text, text};
use crate::value::Sequence;

const fn name() -> super::Parameter {
    atomic("name", AtomicType::QName, Occurs::Optional)
}

pub(super) const TABLE: &[Function] = &[
    function("QName", &[optional_text("namespace"), text("name")], 2, make),
    function("prefix-from-QName", &[name()], 1, |call| {
        let prefix = part(call).map(|name| name.prefix.clone()).filter(|prefix| !prefix.is_empty());
        Ok(prefix.map_or(Sequence::Empty, Sequence::text))
    }),
    function("local-name-from-QName", &[name()], 1, |call| {
        Ok(part(call).map_or(Sequence::Empty, |name| Sequence::text(name.local.clone())))
    }),
    function("namespace-uri-from-QName", &[name()], 1, |call| {
        let uri =
            |name: Arc<QName>| Sequence::atomic(Atomic::AnyUri(name.namespace.clone().into()));
        Ok(part(call).map_or(Sequence::Empty, uri))
    }),
];

fn part(call: &Call<'_, '_, '_>) -> Option<Arc<QName>> {
    match call.atomic(0) {
        Some(Atomic::QName(name)) => Some(name),
        _ => None,
    }
}

fn make<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let (namespace, name) = (call.text(0), call.text(1));
    let (prefix, local) = name.split_once(':').unwrap_or(("", &name));
    let is_name = crate::syntax::lexer::is_ncname;
    let has_no_namespace = !prefix.is_empty() && namespace.is_empty();
    if !is_name(local) || (!prefix.is_empty() && !is_name(prefix)) || has_no_namespace {
        return Err(failed("FOCA0002", format!("{:?} is no name in this namespace", &*name)));
    }
    let name =
        QName { prefix: prefix.into(), namespace: namespace.to_string(), local: local.into() };
    Ok(Sequence::atomic(Atomic::QName(Arc::new(name))))
}
