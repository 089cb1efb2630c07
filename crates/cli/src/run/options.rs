//! What a command reads, how, and where its result goes.

use std::io::{self, IsTerminal};
use std::time::Duration;

use kyanite_flow::{Destination, Fetch, Input, InputOptions, Layout, LossPolicy, RunError};
use kyanite_formats::documents::Limits;
use kyanite_formats::record_view::RecordShape;
use kyanite_formats::{Format, json, xml};
use kyanite_lang::{OutputSpec, Plan};

use super::{RuleCommand, destination_of, format_of, input_from, threads};
use crate::arguments::{OutputArguments, Reading};

impl Reading {
    /// The same, for readers.
    pub fn options(&self) -> InputOptions {
        InputOptions {
            from: self.from,
            delimiter: self.delimiter,
            unnamed: self.unnamed,
            encoding: self.encoding,
            lenient: self.lenient,
            repairs: self.repairs,
            unwrap: self.unwrap,
            drop_namespaces: self.drop_namespaces,
            limits: Limits {
                depth: self.depth as usize,
                expansion: usize::try_from(self.expansion).unwrap_or(usize::MAX),
                aliases: self.aliases as usize,
            },
            size: self.size_limit,
            fetch: Fetch {
                headers: self.headers.clone(),
                timeout: Duration::from_secs(u64::from(self.timeout)),
            },
            ..InputOptions::default()
        }
    }
}

/// The inputs that words name; standard input without any, if something is piped in.
pub fn inputs_of(words: &[String]) -> Result<Vec<Input>, RunError> {
    if words.is_empty() {
        if io::stdin().is_terminal() {
            return Err(RunError::command("there is no input", "name a file, or pipe one in"));
        }
        return Ok(vec![Input::Standard]);
    }
    Ok(words.iter().map(|word| Input::of_word(word)).collect())
}

impl RuleCommand<'_> {
    /// Where the result goes.
    pub(super) fn destination(&self) -> Destination {
        destination_of(self.output.output.as_deref(), self.captured.as_ref())
    }

    /// The files of the rule's sources: those of the command line, else seen from the rule's folder.
    pub(super) fn sources(&self, plan: &Plan) -> Result<Vec<(String, Input)>, RunError> {
        let given = self.params.sources.iter();
        let given: Vec<_> =
            given.map(|(name, file)| (name.clone(), Input::of_word(file))).collect();
        plan.sources_from(&given, |file| input_from(&self.folder, file))
            .map_err(|wrong| RunError::Command(vec![wrong]))
    }

    pub(super) fn inputs(&self, plan: &Plan) -> Result<Vec<Input>, RunError> {
        let words = &self.input.inputs;
        if !plan.reads_input() {
            return match words.first() {
                None => Ok(Vec::new()),
                // doc() and collection() are about the inputs.
                Some(_) if plan.xpath().is_some_and(|xpath| xpath.asks_documents()) => {
                    Ok(words.iter().map(|word| Input::of_word(word)).collect())
                }
                Some(word) => Err(RunError::command(
                    format!("the rule never names $, so it does not read {word}"),
                    "begin paths with $, or leave the input out",
                )),
            };
        }
        inputs_of(words)
    }

    /// How many bytes will be read, if that is known.
    pub(super) fn size_of(&self, inputs: &[Input]) -> Option<u64> {
        let is_all = self.input.range.is_none();
        inputs.iter().map(Input::size).sum::<Option<u64>>().filter(|_| is_all)
    }

    pub(super) fn input_options(&self) -> InputOptions {
        InputOptions {
            threads: threads(self.input.threads),
            avoid: self.input.avoid.iter().copied().collect(),
            memory: usize::try_from(self.input.memory).unwrap_or(usize::MAX),
            ..self.input.reading.options()
        }
    }

    /// How the result is laid out: as the command line says, else as the rule does.
    pub(super) fn layout(&self, rule: Option<&OutputSpec>) -> Layout {
        let by_extension = || format_of(self.output.output.as_deref()?);
        let format = self.output.to.or_else(by_extension);
        // The options of a rule are those of its own format.
        let rule = rule.filter(|spec| format.is_none_or(|format| format == spec.format));
        let format = format.or(rule.map(|spec| spec.format)).unwrap_or(Format::Json);
        let OutputArguments { table, xml, .. } = self.output;
        let indent = self.output.indent.map(usize::from).or(rule.and_then(|spec| spec.indent));
        let is_compact = self.output.compact
            || self.output.indent.is_none() && rule.is_some_and(|spec| spec.compact);
        let usual = Layout::of(format);
        Layout {
            style: match is_compact {
                true => json::Style::Compact,
                false => json::Style::Indented(indent.unwrap_or(2)),
            },
            canonical: self.output.canonical || rule.is_some_and(|spec| spec.canonical),
            indent: indent.unwrap_or(2),
            xml: xml::Layout {
                indent: if is_compact { None } else { Some(indent.unwrap_or(2)) },
                relay: !is_compact && indent.is_some(),
                root: xml.root.clone().or(rule.and_then(|spec| spec.root.clone())),
                declaration: true,
                item: xml
                    .item
                    .clone()
                    .or(rule.and_then(|spec| spec.item.clone()))
                    .unwrap_or(usual.xml.item),
                without_namespaces: self.input.reading.drop_namespaces,
            },
            records: RecordShape {
                lists: xml.lists.clone(),
                maps: xml.maps.clone(),
                without_namespaces: self.input.reading.drop_namespaces,
            },
            delimiter: table.output_delimiter.or(rule.and_then(|spec| spec.delimiter)),
            columns: table.columns.clone().or(rule.and_then(|spec| spec.columns.clone())),
            flatten: table.flatten || rule.is_some_and(|spec| spec.flatten),
            places_of_losses: self.losses != LossPolicy::Count,
            is_of_whole: self.carries_all,
            ..Layout::of(format)
        }
    }

    /// One JSON text cannot hold the results of several documents.
    pub(super) fn refuse_several(&self, inputs: &[Input], format: Format) -> Result<(), RunError> {
        if inputs.len() < 2 || self.input.gather || self.count || format.holds_several() {
            return Ok(());
        }
        let message = format!(
            "{} documents give as many results, and one {} text cannot hold them",
            inputs.len(),
            format
        );
        Err(RunError::command(
            message,
            "say --gather for one list of all documents, or --to jsonl for a line each",
        ))
    }
}
