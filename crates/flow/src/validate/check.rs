//! One input against its schemas.

use std::collections::HashMap;
use std::io::Read;
use std::sync::atomic::Ordering;

use kyanite_formats::Format;
use kyanite_formats::json::EventReader;
use kyanite_formats::record_view::{RecordShape, View};
use kyanite_formats::records::Structure;
use kyanite_lang::Flow;
use kyanite_schema::schematron::Assertion;
use kyanite_schema::{Finding as Found, json};
use kyanite_tree::{
    Advice, Arena, Code, Diagnostic, Origin, Place, Setting, Severity, Value, is_blank,
};

use super::elements::Validators;
use super::finding::Step;
use super::records::Valid;
use super::schemas::{Assigned, Bundle, Compiled};
use super::{Chosen, Finding, Numbered, Set, Validation, Verdict, assertions, elements, records};
use crate::consume::Consumer;
use crate::document::Library;
use crate::input::{InputOptions, Limited, Source, cannot_read};
use crate::run::is_xml;
use crate::run_error::{Counters, Events, RunError};

/// Checks inputs one after another, on one thread.
pub(super) struct Checker<'c, 's> {
    validation: Validation<'c>,
    threads: usize,
    compiled: &'c Compiled<'s>,
    /// What is at work for the XML Schemas of each bundle.
    validators: HashMap<usize, Validators<'c>>,
}

/// What came of an input, before the places of rules are looked up.
#[derive(Debug, Default)]
pub(super) struct Raw {
    pub(super) name: String,
    set: Option<String>,
    pub(super) checked: u64,
    findings: Vec<(Finding, Origin)>,
    unreadable: Option<Diagnostic>,
    told: Vec<Diagnostic>,
    steps: Vec<Step>,
}

impl Raw {
    /// Something that breaks a rule.
    pub(super) fn add(&mut self, found: Found, place: Option<Place>) {
        let Found { message, advice, rule, unit, .. } = found;
        let keyword = rule.keyword.to_owned();
        let (severity, code, assertion) = (Severity::Error, Code::NotValid, None);
        let (origin, rule) = (rule.origin, None);
        let finding =
            Finding { severity, code, message, advice, place, rule, keyword, assertion, unit };
        self.findings.push((finding, origin));
    }

    /// Something that Schematron found.
    pub(super) fn add_told(
        &mut self,
        severity: Severity,
        assertion: Assertion,
        found: Found,
        place: Option<Place>,
    ) {
        self.steps.push(Step::Finding(self.findings.len()));
        self.add(found, place);
        if let Some((last, _)) = self.findings.last_mut() {
            (last.severity, last.assertion) = (severity, Some(Box::new(assertion)));
        }
    }

    /// Something that Schematron did.
    pub(super) fn step(&mut self, step: Step) {
        self.steps.push(step);
    }

    /// That the input cannot be read, or not to its end.
    pub(super) fn fail(&mut self, why: &Diagnostic) {
        let is_read =
            !matches!(why.code(), Code::InputUnreadable | Code::InputMissing | Code::InputFetch);
        if is_read {
            self.checked = self.checked.max(1);
            self.findings.push((Finding::of_diagnostic(why), Origin::NONE));
        } else {
            self.unreadable = Some(why.clone());
        }
    }

    /// Says something along the way.
    pub(super) fn tell(&mut self, told: Diagnostic) {
        self.told.push(told);
    }

    /// That no schema says anything about the input.
    fn unchecked(&mut self, message: String, advice: Advice, is_found: bool) {
        let severity = if is_found { Severity::Warning } else { Severity::Error };
        let (code, advice) = (Code::NotChecked, Some(advice));
        let (place, rule, keyword, assertion, unit) = (None, None, String::new(), None, None);
        let finding =
            Finding { severity, code, message, advice, place, rule, keyword, assertion, unit };
        self.findings.push((finding, Origin::NONE));
    }

    /// Looks the places of rules up.
    pub(super) fn settle(self, place: &dyn Fn(Origin) -> Option<Place>) -> Verdict {
        let Self { name, set, checked, findings, unreadable, told, steps } = self;
        let settled = |(finding, rule): (Finding, Origin)| Finding { rule: place(rule), ..finding };
        let findings = findings.into_iter().map(settled).collect();
        Verdict { name, set, checked, findings, unreadable, told, steps }
    }
}

impl<'c, 's> Checker<'c, 's> {
    /// A checker that has `threads` threads to itself.
    pub(super) fn new(
        validation: Validation<'c>,
        threads: usize,
        compiled: &'c Compiled<'s>,
    ) -> Self {
        Self { validation, threads, compiled, validators: HashMap::new() }
    }

    /// Checks an input of a set.
    pub(super) fn check(
        &mut self,
        (set_number, set): Numbered<'_, Set>,
        (number, chosen): Numbered<'_, Chosen>,
        counters: &Counters,
    ) -> Raw {
        let name = chosen.input.name();
        let mut raw = Raw { name, set: set.name.clone(), ..Raw::default() };
        let source = match Source::open(&chosen.input, self.validation.options) {
            Ok(source) => source,
            Err(failed) => {
                failed.diagnostics().iter().for_each(|why| raw.fail(why));
                return raw;
            }
        };
        let assigned = self.compiled.assigned.get(set_number).and_then(|all| all.get(number));
        let bundle = match assigned {
            Some(Assigned::Bundle(number)) => *number,
            Some(Assigned::Missing(missing)) => {
                missing.iter().for_each(|why| raw.fail(why));
                return raw;
            }
            Some(Assigned::None) | None => {
                let message = format!("{} names no schema, and none is given", raw.name);
                raw.unchecked(message, Advice::set(Setting::Schema), chosen.is_found);
                return raw;
            }
        };
        let before = counters.bytes.load(Ordering::Relaxed);
        let checked = self.check_source(source, bundle, chosen.is_found, &mut raw, counters);
        if let Err(failed) = checked {
            failed.diagnostics().iter().for_each(|why| raw.fail(why));
        }
        if counters.bytes.load(Ordering::Relaxed) == before
            && let Some(size) = chosen.input.size()
        {
            counters.read(size);
        }
        raw
    }

    fn check_source(
        &mut self,
        source: Source,
        number: usize,
        is_found: bool,
        raw: &mut Raw,
        counters: &Counters,
    ) -> Result<(), RunError> {
        let compiled = self.compiled;
        let Some(bundle) = compiled.bundles.get(number) else { return Ok(()) };
        let format = source.detected.format;
        let options = self.validation.options;
        if format == Format::Xml && bundle.is_for_xml() {
            let validators =
                self.validators.entry(number).or_insert_with(|| Validators::new(&bundle.xsd));
            // All schemas but XML Schemas need the document.
            if bundle.json.is_empty() && bundle.schematron.is_empty() {
                return elements::stream(source, validators, raw, options, counters);
            }
            return held(source, (bundle, Some(validators)), raw, self.validation, counters);
        }
        if bundle.json.is_empty() {
            let message =
                format!("{} is {format}, and the schemas are for XML: it is not checked", raw.name);
            let advice = Advice::words("leave it out with ").setting(Setting::Exclude);
            raw.unchecked(message, advice, is_found);
            return Ok(());
        }
        if format.has_records() && !options.unwrap {
            return records::stream(source, &bundle.json, raw, (options, self.threads), counters);
        }
        if format == Format::Json
            && !options.unwrap
            && source.contradiction().is_none()
            && let Some(mut valid) = Valid::by(&bundle.json)
        {
            let Some(rest) = accepted(source, &mut valid, options)? else {
                raw.checked += 1;
                return Ok(());
            };
            return held(rest, (bundle, None), raw, self.validation, counters);
        }
        held(source, (bundle, None), raw, self.validation, counters)
    }
}

/// Checks a document by its events; gives it back where these do not tell that it is valid.
fn accepted(
    source: Source,
    valid: &mut Valid<'_, '_>,
    options: &InputOptions,
) -> Result<Option<Source>, RunError> {
    let mut bytes = Vec::new();
    let read = Limited::new(source.reader, options.size).read_to_end(&mut bytes);
    read.map_err(|error| RunError::Input(cannot_read(&source.name, &error)))?;
    let is_accepted = std::str::from_utf8(&bytes).is_ok_and(|text| {
        let structure = Structure::of(text.as_bytes());
        let end = EventReader::new(text, &structure)
            .and_then(|mut events| valid.consume(&mut events, 0, 0));
        end.is_some_and(|end| is_blank(&text[end..]))
    });
    let reader = Box::new(std::io::Cursor::new(bytes));
    Ok((!is_accepted).then(|| Source { reader, ..source }))
}

/// Checks documents that are held whole, a few at a time.
fn held(
    source: Source,
    (bundle, mut validators): (&Bundle<'_>, Option<&mut Validators<'_>>),
    raw: &mut Raw,
    validation: Validation<'_>,
    counters: &Counters,
) -> Result<(), RunError> {
    let mut pieces = source.in_pieces(validation.options);
    pieces.each(|piece, _| {
        together(piece, (bundle, validators.as_deref_mut()), raw, validation, counters)?;
        Ok(Flow::Continue(()))
    })?;
    let mut events = Events { tell: &mut |found| raw.tell(found), counters };
    pieces.finish(validation.options, &mut events);
    Ok(())
}

/// Checks documents that are held together.
fn together(
    source: Source,
    (bundle, validators): (&Bundle<'_>, Option<&mut Validators<'_>>),
    raw: &mut Raw,
    validation: Validation<'_>,
    counters: &Counters,
) -> Result<(), RunError> {
    let arena = Arena::new();
    let library = Library::new(&arena);
    // Documents are counted as they are checked.
    let read = Counters::default();
    let mut events = Events { tell: &mut |found| raw.tell(found), counters: &read };
    let roots = library.load(source, validation.options, &mut events)?.roots;
    counters.read(read.bytes.into_inner());
    // What is wrong with the structure comes before what is wrong with what it holds.
    if let (Some(validators), Some((name, text))) = (validators, library.first_text()) {
        elements::whole(name, text, validators, raw, validation.options);
    }
    for root in roots {
        raw.checked += 1;
        let value = if is_xml(root) {
            assertions::check(&bundle.schematron, root, &library, raw, validation);
            View::new(&RecordShape::default(), true).record(root, &arena)
        } else {
            root
        };
        check_value(&bundle.json, value, &mut |found| {
            let place = library.place(found.origin);
            raw.add(found, place);
        });
    }
    Ok(())
}

/// Checks an XML text against the first bundle.
pub(super) fn check_text(
    validation: Validation<'_>,
    compiled: &Compiled<'_>,
    name: &str,
    text: &str,
) -> Raw {
    let mut raw = Raw { name: name.to_owned(), ..Raw::default() };
    let Some(bundle) = compiled.bundles.first() else { return raw };
    let mut validators = Validators::new(&bundle.xsd);
    elements::whole(name, text, &mut validators, &mut raw, validation.options);
    if bundle.schematron.is_empty() {
        return raw;
    }
    let arena = Arena::new();
    let library = Library::new(&arena);
    let counters = Counters::default();
    let mut events = Events { tell: &mut |_| {}, counters: &counters };
    let source = Source::of_text(name, text, Format::Xml);
    match library.load(source, validation.options, &mut events) {
        Ok(loaded) => loaded.roots.into_iter().for_each(|root| {
            assertions::check(&bundle.schematron, root, &library, &mut raw, validation)
        }),
        Err(failed) => failed.diagnostics().iter().for_each(|why| raw.fail(why)),
    }
    raw
}

/// Checks a value against JSON Schemas; `take` gets what is found.
pub(super) fn check_value(
    schemas: &[json::Schema<'_>],
    value: Value<'_>,
    take: &mut dyn FnMut(Found),
) {
    // Nearly always nothing is, and that is told in less time.
    for schema in schemas.iter().filter(|schema| !schema.is_valid(value)) {
        schema.validate(value).into_iter().for_each(&mut *take);
    }
}
