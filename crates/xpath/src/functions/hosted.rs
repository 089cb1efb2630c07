//! Functions that the language around an expression adds (XSLT 1.0 section 12): Schematron's rules use them.

use kyanite_eval::atomic::AtomicType;
use kyanite_tree::near_words;

use super::{Call, Function, Outcome, What, failed, function, items, takes};
use crate::run::convert::string_value;
use crate::syntax::ast::Occurs;
use crate::value::{Item, Sequence};

/// Not among the functions that any expression can call.
pub(super) const TABLE: &[Function] = &[
    function("current", &[], 0, |call| {
        Ok(call.run.context.item.clone().map_or(Sequence::Empty, Sequence::One))
    })
    .outside()
    .old(),
    function(
        "key",
        &[
            super::atomic("name", AtomicType::String, Occurs::One),
            items("value"),
            takes("top", What::Node, Occurs::One),
        ],
        2,
        key,
    )
    .contextual()
    .outside()
    .plural()
    .old(),
    function("document", &[items("uri"), takes("base", What::Node, Occurs::One)], 1, document)
        .documents()
        .plural()
        .old(),
];

/// The nodes that have a value for a key, in the document of the context node (XSLT 1.0 section 12.2).
fn key<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let name = call.text(0);
    let Some(node) = call.node_or_context(2)? else { return Ok(Sequence::Empty) };
    let mut found = Vec::new();
    for item in call.argument(1).items() {
        let value = string_value(item)?;
        let documents = call.run.context.documents;
        match documents.key(&name, &value, node) {
            Some(nodes) => found.extend(nodes),
            None => {
                let message = format!("no key is called {:?}", &*name);
                return Err(failed("XTDE1260", message).advise("declare it with <xsl:key>"));
            }
        }
    }
    found.sort_by_key(|node| node.id());
    found.dedup_by_key(|node| node.id());
    Ok(found.into_iter().map(Item::Node).collect())
}

/// The documents of some URIs (XSLT 1.0 section 12.1).
fn document<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let mut found = Vec::new();
    for item in call.argument(0).items() {
        let uri = string_value(item)?;
        let documents = call.run.context.documents;
        match documents.named(&uri) {
            Some(document) => found.push(document),
            None => {
                let error = failed("FODC0002", format!("there is no document {:?}", &*uri));
                let names = documents.names();
                let near = near_words(&uri, names.iter().map(String::as_str));
                return Err(match near {
                    Some(near) => error.advise(near),
                    None => error.advise("it is looked for beside the schema; nothing is fetched"),
                });
            }
        }
    }
    Ok(found.into_iter().collect())
}
