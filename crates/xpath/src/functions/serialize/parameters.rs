//! Serialization parameters (Serialization 3.1 section 3), as an element or as a map (F&O 3.1 section 14.7.3).

use kyanite_tree::NodeKind;

use crate::error::Error;
use crate::functions::{Call, failed};
use crate::run::convert::string_value;
use crate::value::Item;

/// How a value is written.
#[derive(Default)]
pub(super) struct Parameters {
    pub(super) method: Option<String>,
    pub(super) indent: bool,
    pub(super) has_declaration: bool,
    /// What the declaration says of the encoding; the text itself has none.
    pub(super) encoding: Option<String>,
    pub(super) standalone: Option<bool>,
    pub(super) separator: Option<String>,
    /// The method for nodes inside JSON.
    pub(super) node_method: Option<String>,
    pub(super) allows_duplicates: bool,
}

/// The parameters that can be given.
const KNOWN: &str = "there are method, indent, omit-xml-declaration, standalone, encoding, version, item-separator, \
                     json-node-output-method and allow-duplicate-names";

impl Parameters {
    /// The parameters of a call.
    ///
    /// # Errors
    /// `SEPM0017` for a parameter or a value that is not known, `SEPM0016` for a method that nodes in JSON cannot have, `SEPM0009` for `standalone` without a declaration, `SESU0007` for an
    /// encoding and `SESU0013` for a version that are not supported.
    pub(super) fn of(call: &Call<'_, '_, '_>) -> Result<Self, Error> {
        let mut parameters = Self::default();
        for (name, value) in pairs(call)? {
            parameters.set(&name, value)?;
        }
        if parameters.standalone.is_some() && !parameters.has_declaration {
            let message = "standalone stands in the declaration, which is left out";
            return Err(failed("SEPM0009", message).advise("set omit-xml-declaration to no"));
        }
        Ok(parameters)
    }

    fn set(&mut self, name: &str, value: String) -> Result<(), Error> {
        let word = value.trim();
        let yes = || match word {
            "yes" | "true" | "1" => Ok(true),
            "no" | "false" | "0" => Ok(false),
            other => Err(failed("SEPM0017", format!("{name} is yes or no, not {other:?}"))),
        };
        match name {
            "method" => self.method = Some(word.to_owned()),
            "indent" => self.indent = yes()?,
            "omit-xml-declaration" => self.has_declaration = !yes()?,
            "standalone" => self.standalone = if word == "omit" { None } else { Some(yes()?) },
            "item-separator" => self.separator = Some(value),
            "json-node-output-method" => match word {
                "xml" | "xhtml" | "html" | "text" => self.node_method = Some(word.to_owned()),
                _ => {
                    let message = format!("nodes in JSON are not written by the method {word:?}");
                    return Err(failed("SEPM0016", message).advise("there are xml, html and text"));
                }
            },
            "allow-duplicate-names" => self.allows_duplicates = yes()?,
            "encoding" => match word.to_ascii_uppercase().as_str() {
                "UTF-8" | "UTF-16" => self.encoding = Some(word.to_owned()),
                _ => {
                    let message = format!("the encoding {word:?} is not supported");
                    return Err(failed("SESU0007", message).advise("there are UTF-8 and UTF-16"));
                }
            },
            "version" if !matches!(word, "1.0" | "5" | "5.0") => {
                let message = format!("the version {word:?} is not supported");
                return Err(failed("SESU0013", message).advise("there are XML 1.0 and HTML 5"));
            }
            // A text has no media type and no byte order mark.
            "version" | "media-type" | "byte-order-mark" => {}
            other => {
                let message = format!("the parameter {other} is not supported");
                return Err(failed("SEPM0017", message).advise(KNOWN));
            }
        }
        Ok(())
    }
}

/// The names of the parameters that were given, with their values as texts.
fn pairs(call: &Call<'_, '_, '_>) -> Result<Vec<(String, String)>, Error> {
    let mut pairs = Vec::new();
    match call.argument(1).first() {
        None => {}
        Some(Item::Node(node)) => {
            for child in node.children().filter(|child| child.kind() == NodeKind::Element) {
                let value = child.attributes().find(|a| a.name().qualified() == "value");
                let value = value.map_or("", |value| value.text()).to_owned();
                pairs.push((child.name().local().to_owned(), value));
            }
        }
        Some(map) => {
            for (key, value) in map.entries().unwrap_or_default() {
                let Some(item) = value.first() else { continue };
                pairs.push((key.to_string(), string_value(item)?.to_string()));
            }
        }
    }
    Ok(pairs)
}
