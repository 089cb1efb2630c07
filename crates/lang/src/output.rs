//! The `output` of a rule's header: the format of its result, and how it is laid out.

use std::collections::HashSet;

use kyanite_formats::Format;
use kyanite_tree::Code;

use crate::finding::{Finding, Span, near_advice};
use crate::syntax::ast::{Binding, Entry, Expr, ExprKind, Literal};

/// What a rule says of its output; what it leaves open is as usual.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct OutputSpec {
    /// The format.
    pub format: Format,
    /// Blanks a level.
    pub indent: Option<usize>,
    /// Whether all is on one line.
    pub compact: bool,
    /// Whether JSON is canonical (RFC 8785).
    pub canonical: bool,
    /// The name of the root element.
    pub root: Option<String>,
    /// The name of the elements that items of a list become.
    pub item: Option<String>,
    /// The columns of a table.
    pub columns: Option<Vec<String>>,
    /// Whether nested values become columns.
    pub flatten: bool,
    /// The character between cells.
    pub delimiter: Option<u8>,
}

/// The options, and the formats that have them.
const OPTIONS: [(&str, &[Format]); 8] = [
    ("indent", &[Format::Json, Format::Yaml, Format::Xml, Format::Html]),
    ("compact", &[Format::Json, Format::Xml, Format::Html]),
    ("canonical", &[Format::Json, Format::JsonLines, Format::JsonSequence]),
    ("root", &[Format::Xml]),
    ("item", &[Format::Xml]),
    ("columns", &[Format::Csv, Format::Tsv]),
    ("flatten", &[Format::Csv, Format::Tsv]),
    ("delimiter", &[Format::Csv, Format::Tsv]),
];

impl OutputSpec {
    /// Checks what stands in the header.
    pub(crate) fn check(format: &Binding, options: Option<&Expr>) -> Result<Self, Finding> {
        let known: Format = format.name.parse().map_err(|_| {
            let finding = Finding::error_at(
                Code::RuleHeader,
                format.span,
                format!("`{}` is no format", format.name),
            );
            let near = near_advice(format.span, &format.name, Format::all().map(Format::name));
            let all = || format!("formats are {}", Format::names()).into();
            finding.advise(near.unwrap_or_else(all))
        })?;
        let mut spec = Self {
            format: known,
            indent: None,
            compact: false,
            canonical: false,
            root: None,
            item: None,
            columns: None,
            flatten: false,
            delimiter: None,
        };
        let entries = match options.map(|options| &options.kind) {
            Some(ExprKind::Map(entries)) => entries.as_slice(),
            _ => &[],
        };
        for entry in entries {
            let Entry::Named { name, name_span, value } = entry else {
                let span = options.map_or(format.span, |options| options.span);
                return Err(Finding::error_at(
                    Code::RuleHeader,
                    span,
                    "the options of an output have plain names",
                ));
            };
            spec.set(name, *name_span, value)?;
        }
        Ok(spec)
    }

    fn set(&mut self, name: &str, span: Span, value: &Expr) -> Result<(), Finding> {
        let own = OPTIONS.iter().filter(|(_, formats)| formats.contains(&self.format));
        if !own.clone().any(|(option, _)| *option == name) {
            let message = format!("`{name}` is no option of {}", self.format);
            let names: Vec<&str> = own.map(|(option, _)| *option).collect();
            let advice = near_advice(span, name, names.iter().copied());
            let all = format!("its options are {}", names.join(", "));
            return Err(Finding::error_at(Code::RuleHeader, span, message)
                .advise(advice.unwrap_or_else(|| all.into())));
        }
        let wrong = |what: &str| {
            Finding::error_at(Code::RuleHeader, value.span, format!("`{name}` takes {what}"))
        };
        let literal = match &value.kind {
            ExprKind::Literal(literal) => Some(literal),
            _ => None,
        };
        match (name, literal) {
            ("indent", Some(Literal::Number(number))) => {
                let indent = number.parse().ok().filter(|indent| *indent <= 16);
                self.indent = Some(indent.ok_or_else(|| wrong("a whole number up to 16"))?);
            }
            ("indent", _) => return Err(wrong("a whole number up to 16")),
            ("compact", Some(Literal::Boolean(set))) => self.compact = *set,
            ("canonical", Some(Literal::Boolean(set))) => self.canonical = *set,
            ("flatten", Some(Literal::Boolean(set))) => self.flatten = *set,
            ("compact" | "canonical" | "flatten", _) => return Err(wrong("true or false")),
            ("root", Some(Literal::Text(text))) => self.root = Some(text.clone()),
            ("item", Some(Literal::Text(text))) => self.item = Some(text.clone()),
            ("delimiter", Some(Literal::Text(text))) => match text.as_bytes() {
                [byte] if byte.is_ascii() && !matches!(byte, b'"' | b'\n' | b'\r') => {
                    self.delimiter = Some(*byte);
                }
                _ => return Err(wrong("one ASCII character, neither a quote nor a line end")),
            },
            ("columns", _) => {
                let columns = texts(value).ok_or_else(|| wrong("a list of texts"))?;
                if let Some(twice) = twice(&columns) {
                    let message = format!("the column `{twice}` is named twice");
                    return Err(Finding::error_at(Code::RuleHeader, value.span, message));
                }
                self.columns = Some(columns);
            }
            _ => return Err(wrong("a text")),
        }
        Ok(())
    }
}

/// The first text that comes twice.
#[must_use]
pub fn twice(texts: &[String]) -> Option<&str> {
    let mut seen = HashSet::new();
    texts.iter().map(String::as_str).find(|text| !seen.insert(*text))
}

fn texts(value: &Expr) -> Option<Vec<String>> {
    let ExprKind::List(items) = &value.kind else { return None };
    items
        .iter()
        .map(|item| match &item.value.kind {
            ExprKind::Literal(Literal::Text(text)) if !item.spread => Some(text.clone()),
            _ => None,
        })
        .collect()
}
