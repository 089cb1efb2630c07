//! The schemas of a run: those that inputs and results must satisfy, and those that give untyped inputs their types.

use std::path::Path;

use kyanite_flow::{
    Chosen, Counters, DocumentTypes, Events, Input, KeptInput, RunError, Schemas, Set, Validation,
};
use kyanite_lang::Plan;
use kyanite_tree::{Arena, Diagnostic, Severity};

use super::RuleCommand;
use crate::messages::Messages;

/// An input that a rule names, seen from its folder.
pub fn input_from(folder: &Path, word: &str) -> Input {
    match Input::of_word(word) {
        Input::File(path) => Input::File(folder.join(path)),
        other => other,
    }
}

/// A set of nothing but schemas.
pub fn keeping_to(schemas: &[Input]) -> [Set; 1] {
    [Set { name: None, schemas: schemas.to_vec(), inputs: Vec::new() }]
}

/// Reads the schemas of a set, if there are any.
pub fn read_schemas<'s>(
    sets: &'s [Set; 1],
    arena: &'s Arena,
    messages: &mut Messages,
) -> Result<Option<Schemas<'s>>, RunError> {
    if sets[0].schemas.is_empty() {
        return Ok(None);
    }
    let validation = Validation { sets, ..Validation::default() };
    let counters = Counters::default();
    let mut events = Events { tell: &mut |told| messages.show(&told), counters: &counters };
    Schemas::read(validation, arena, &mut events).map(Some)
}

impl RuleCommand<'_> {
    /// What inputs have their types from.
    pub(super) fn types<'s>(
        &self,
        plan: &Plan,
        sets: &'s [Set; 1],
        arena: &'s Arena,
        messages: &mut Messages,
    ) -> Result<Option<DocumentTypes<'s>>, RunError> {
        let Some(name) = &self.input.schema else { return Ok(None) };
        if plan.xpath().is_some() {
            let message = "an XPath selects elements, which have no types";
            let advice = "leave --schema out, or write a path: $.manifest.vessel[*]";
            return Err(RunError::command(message, advice));
        }
        let schemas = read_schemas(sets, arena, messages)?;
        schemas.map(|schemas| DocumentTypes::of(name.clone(), schemas, arena)).transpose()
    }

    /// Checks the inputs against the schemas that they have to keep to. What standard input held is kept, as it is read again.
    pub(super) fn expect(
        &self,
        plan: &Plan,
        inputs: &[Input],
        messages: &mut Messages,
    ) -> Result<Option<KeptInput>, RunError> {
        let schemas = self.schemas_for(&self.input.expects, &plan.expects);
        if schemas.is_empty() {
            return Ok(None);
        }
        let options = self.input_options();
        let kept = match inputs.contains(&Input::Standard) {
            true => Some(KeptInput::read(&options)?),
            false => None,
        };
        if let Some(kept) = &kept {
            kept.offer()?;
        }
        let chosen = |input: &Input| Chosen { input: input.clone(), is_found: false };
        let sets = [Set { name: None, schemas, inputs: inputs.iter().map(chosen).collect() }];
        let validation = Validation { sets: &sets, options: &options, ..Validation::default() };
        let counters = Counters::default();
        let mut events = Events { tell: &mut |told| messages.show(&told), counters: &counters };
        let mut found = Vec::new();
        let mut unreadable = None;
        kyanite_flow::validate(validation, &mut events, &mut |verdict| {
            let errors =
                verdict.findings.iter().filter(|finding| finding.severity == Severity::Error);
            found.extend(errors.map(kyanite_flow::Finding::diagnostic));
            unreadable = unreadable.take().or(verdict.unreadable);
        })?;
        if let Some(why) = unreadable {
            return Err(RunError::Input(why));
        }
        if !found.is_empty() {
            return Err(RunError::Invalid(found));
        }
        if let Some(kept) = &kept {
            kept.offer()?;
        }
        Ok(kept)
    }

    /// The schemas that the command line and the rule name; those of the rule are seen from its folder.
    pub(super) fn schemas_for(&self, given: &[String], of_rule: &[String]) -> Vec<Input> {
        let given = given.iter().map(|word| Input::of_word(word));
        given.chain(of_rule.iter().map(|file| input_from(&self.folder, file))).collect()
    }

    /// Writes a result in XML that keeps to its schemas.
    pub(super) fn write_checked(
        &self,
        schemas: &Schemas<'_>,
        bytes: &[u8],
    ) -> Result<(), RunError> {
        let text = String::from_utf8_lossy(bytes);
        let found = schemas.check_xml("the result", &text);
        let errors = found.iter().filter(|finding| finding.severity == Severity::Error);
        let errors: Vec<Diagnostic> = errors.map(kyanite_flow::Finding::diagnostic).collect();
        if !errors.is_empty() {
            return Err(RunError::Invalid(errors));
        }
        self.destination().write(bytes)
    }
}
