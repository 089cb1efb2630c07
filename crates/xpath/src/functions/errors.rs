//! The function that raises errors (F&O 3.1 section 3.1).

use kyanite_eval::atomic::{Atomic, AtomicType};

use super::{Function, Occurs, atomic, function, items, text};
use crate::error::Error;

pub(super) const TABLE: &[Function] = &[function(
    "error",
    &[atomic("code", AtomicType::QName, Occurs::Optional), text("message"), items("value")],
    0,
    |call| {
        let code = match call.atomic(0) {
            Some(Atomic::QName(name)) => name.local.clone(),
            _ => "FOER0000".to_owned(),
        };
        let message = if call.has(1) {
            call.text(1).to_string()
        } else {
            "the expression raised an error".into()
        };
        Err(Error::raised(code, message))
    },
)];
