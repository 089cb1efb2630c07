//! Documents checked against schemas.
//!
//! A [`Set`] is some inputs and the schemas that they have to keep to. [`validate`] compiles the schemas, then checks inputs on all
//! threads; what comes of each is told in the order of the inputs, whatever the number of threads.

mod assertions;
mod catalog;
mod check;
mod compile;
mod elements;
mod files;
mod finding;
mod known;
mod named;
mod project;
mod records;
mod schemas;

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc;
use std::time::SystemTime;

use kyanite_formats::Format;
use kyanite_formats::documents;
use kyanite_formats::record_view::View;
use kyanite_schema::xsd::MemberNames;
use kyanite_schema::{Problem, SampleSettings, json};
use kyanite_tree::{Advice, Arena, Code, Diagnostic, Value, near_words};

use crate::input::{Input, InputOptions};
use crate::run::stack_size;
use crate::run_error::{Counters, Events, RunError};

pub use files::{Choice, find};
pub use finding::{Finding, Step, fingerprints};
pub use known::Known;
pub use project::{Project, ProjectSet};

use check::{Checker, Raw};
use schemas::{Compiled, SchemaCache};

/// What documents are checked against, and how they are read.
#[derive(Clone, Copy, Debug)]
pub struct Validation<'a> {
    /// What is checked against what.
    pub sets: &'a [Set],
    /// What schemas refer to, by URI; a URI that ends in `/` is that of a folder.
    pub mapped: &'a [(String, String)],
    /// Catalogs of URIs (OASIS XML Catalogs 1.1).
    pub catalogs: &'a [Input],
    /// How JSON Schemas are read.
    pub settings: json::Settings,
    /// How inputs are read, on how many threads.
    pub options: &'a InputOptions,
    /// The phase of Schematron schemas; without it the one that they say themselves.
    pub phase: Option<&'a str>,
    /// The time that schemas may ask for.
    pub now: Option<SystemTime>,
    /// Whether it is wanted which rules fit which nodes.
    pub keeps_steps: bool,
    /// Whether the first input with findings ends the run.
    pub fails_fast: bool,
    /// The number of findings at which the run ends.
    pub most_findings: Option<usize>,
}

impl Default for Validation<'_> {
    /// Nothing is checked; inputs are read as usual.
    fn default() -> Self {
        static USUAL: std::sync::LazyLock<InputOptions> =
            std::sync::LazyLock::new(InputOptions::default);
        Self {
            sets: &[],
            mapped: &[],
            catalogs: &[],
            settings: json::Settings { reads: Some(is_well_formed), ..json::Settings::default() },
            options: &USUAL,
            phase: None,
            now: Some(SystemTime::now()),
            keeps_steps: false,
            fails_fast: false,
            most_findings: None,
        }
    }
}

/// Some inputs, and the schemas that they have to keep to.
#[derive(Clone, Debug, Default)]
pub struct Set {
    /// Its name, if it has one.
    pub name: Option<String>,
    /// The schemas, all of which have to hold; without any, those that the documents name.
    pub schemas: Vec<Input>,
    /// What is checked.
    pub inputs: Vec<Chosen>,
}

/// An input, and whether it was named itself or found in a folder.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Chosen {
    /// The input.
    pub input: Input,
    /// Whether it was found, so that it may be of a sort that no schema is for.
    pub is_found: bool,
}

/// What came of one input.
#[derive(Debug, Default)]
pub struct Verdict {
    /// The input's name.
    pub name: String,
    /// The name of the set, if it has one.
    pub set: Option<String>,
    /// How many documents or records were checked.
    pub checked: u64,
    /// All that is wrong with them; that the input is not well-formed is among that.
    pub findings: Vec<Finding>,
    /// Why the input could not be read at all.
    pub unreadable: Option<Diagnostic>,
    /// What is to be said along the way.
    pub told: Vec<Diagnostic>,
    /// What Schematron did, if that is wanted.
    pub steps: Vec<Step>,
}

/// Checks inputs; `take` gets what comes of each, in their order.
///
/// # Errors
/// When a schema cannot be read, or is none: [`RunError::Command`].
pub fn validate(
    validation: Validation<'_>,
    events: &mut Events<'_>,
    take: &mut dyn FnMut(Verdict),
) -> Result<(), RunError> {
    let arena = Arena::new();
    let cache = SchemaCache::new(validation, &arena, events)?;
    let compiled = cache.compile(events)?;
    // Schemas are none of the documents.
    events.counters.records.store(0, Ordering::Relaxed);
    let sets = validation.sets.iter().enumerate();
    let jobs: Vec<(Numbered<'_, Set>, Numbered<'_, Chosen>)> = sets
        .flat_map(|set| set.1.inputs.iter().enumerate().map(move |input| (set, input)))
        .collect();
    // What was looked at of standard input is known to this thread only.
    let is_piped = jobs.iter().any(|(_, (_, chosen))| chosen.input == Input::Standard);
    let threads = if is_piped { 1 } else { validation.options.threads.min(jobs.len()) };
    let mut taken = Taken { validation, cache: &cache, take, findings: 0, is_over: false };
    if threads <= 1 {
        // Of one input the records are checked on all threads.
        let mut checker = Checker::new(validation, validation.options.threads, &compiled);
        for (set, chosen) in jobs {
            let raw = checker.check(set, chosen, events.counters);
            if taken.add(raw, events) {
                break;
            }
        }
        return Ok(());
    }
    let (next, is_over) = (AtomicUsize::new(0), AtomicBool::new(false));
    let counters = Counters::default();
    let stack = stack_size(json::DEPTH.max(validation.options.limits.depth));
    std::thread::scope(|scope| {
        let (sender, receiver) = mpsc::sync_channel::<(usize, Raw)>(threads * AHEAD);
        for _ in 0..threads {
            let sender = sender.clone();
            let (next, is_over, jobs, counters, compiled) =
                (&next, &is_over, &jobs, &counters, &compiled);
            let work = move || {
                let mut checker = Checker::new(validation, 1, compiled);
                while !is_over.load(Ordering::Relaxed) {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    let Some((set, chosen)) = jobs.get(number) else { break };
                    if sender.send((number, checker.check(*set, *chosen, counters))).is_err() {
                        break;
                    }
                }
            };
            // Without a thread the others do its work; if there is none at all, nothing comes.
            let _ = std::thread::Builder::new().stack_size(stack).spawn_scoped(scope, work);
        }
        drop(sender);
        // What comes early waits for those before it.
        let (mut waiting, mut expected) = (BTreeMap::new(), 0);
        for (number, raw) in receiver {
            waiting.insert(number, raw);
            while let Some(raw) = waiting.remove(&expected) {
                expected += 1;
                if !taken.is_over && taken.add(raw, events) {
                    is_over.store(true, Ordering::Relaxed);
                }
            }
            events.counters.bytes.store(counters.bytes.load(Ordering::Relaxed), Ordering::Relaxed);
        }
    });
    Ok(())
}

/// Something, and its number among others.
type Numbered<'n, T> = (usize, &'n T);

/// How many results each thread may be ahead of what is taken.
const AHEAD: usize = 64;

/// What was taken so far.
struct Taken<'t, 's> {
    validation: Validation<'t>,
    cache: &'t SchemaCache<'s>,
    take: &'t mut dyn FnMut(Verdict),
    findings: usize,
    is_over: bool,
}

impl Taken<'_, '_> {
    /// Takes what came of an input; tells whether that ends the run.
    fn add(&mut self, raw: Raw, events: &mut Events<'_>) -> bool {
        let mut verdict = raw.settle(&|origin| self.cache.place(origin));
        for told in verdict.told.drain(..) {
            events.tell(told);
        }
        if let Some(most) = self.validation.most_findings {
            verdict.findings.truncate(most - self.findings.min(most));
        }
        self.findings += verdict.findings.len();
        events.counters.count(verdict.checked);
        self.is_over = self.validation.fails_fast && !verdict.findings.is_empty()
            || self.validation.most_findings.is_some_and(|most| self.findings >= most);
        (self.take)(verdict);
        self.is_over
    }
}

/// Schemas that are held, for checking values and texts against them.
pub struct Schemas<'s> {
    cache: SchemaCache<'s>,
    compiled: Compiled<'s>,
}

impl<'s> Schemas<'s> {
    /// Reads and compiles the schemas of the first set of a validation, whose inputs are not looked at.
    ///
    /// # Errors
    /// When one cannot be read, or is none: [`RunError::Command`].
    pub fn read(
        validation: Validation<'s>,
        arena: &'s Arena,
        events: &mut Events<'_>,
    ) -> Result<Self, RunError> {
        let cache = SchemaCache::new(validation, arena, events)?;
        let compiled = cache.compile(events)?;
        Ok(Self { cache, compiled })
    }

    /// The JSON Schemas among them.
    #[must_use]
    pub fn json(&self) -> &[json::Schema<'s>] {
        self.compiled.bundles.first().map_or(&[], |bundle| &bundle.json)
    }

    /// The first JSON Schema among them.
    pub(crate) fn into_json(self) -> Option<json::Schema<'s>> {
        let bundle = self.compiled.bundles.into_iter().next()?;
        bundle.json.into_iter().next()
    }

    /// The JSON Schema of the record view of documents of the XML Schema, if they are one, with what it does not say.
    #[must_use]
    pub fn translate<'a>(
        &self,
        names: MemberNames<'_>,
        arena: &'a Arena,
    ) -> Option<(Value<'a>, Vec<Diagnostic>)> {
        let bundle = self.compiled.bundles.first()?;
        let [schema] = bundle.xsd.as_slice() else { return None };
        let translated = schema.to_json_schema(names, arena);
        let told = |loss: Problem| {
            let place = self.cache.place(loss.origin);
            Diagnostic::warning(Code::Loss, loss.message).at_opt(place).advise_opt(loss.advice)
        };
        Some((translated.schema, translated.losses.into_iter().map(told).collect()))
    }

    /// A document that is valid by the schema, made up.
    ///
    /// # Errors
    /// When there are several schemas, or none was found: [`RunError::Command`].
    pub fn sample<'a>(
        &self,
        settings: SampleSettings<'_>,
        arena: &'a Arena,
    ) -> Result<Sample<'a>, RunError> {
        let refused = |message: &str, advice: Advice| {
            let why = Diagnostic::error(Code::CommandLine, message).advise(advice);
            RunError::Command(vec![why])
        };
        let bundle = self.compiled.bundles.first();
        let of = bundle.map(|bundle| (&*bundle.json, &*bundle.xsd, &*bundle.schematron));
        let found = match of {
            Some(([schema], [], [])) if settings.root.is_none() => {
                schema.sample(settings, arena).map(Sample::Json)
            }
            Some(([], [schema], [])) => {
                let roots = schema.root_names();
                if roots.is_empty() {
                    let advice =
                        Advice::words("name the schema that declares one, and includes this");
                    let message = "the schema declares no element that a document can begin with";
                    return Err(refused(message, advice));
                }
                if let Some(root) = settings.root
                    && !roots.contains(&root.rsplit(':').next().unwrap_or(root))
                {
                    let near = near_words(root, roots.iter().copied());
                    let known = || format!("there are {}", roots.join(", "));
                    let message = format!("no document begins with <{root}>");
                    return Err(refused(&message, Advice::words(near.unwrap_or_else(known))));
                }
                let prefixes = self.prefixes();
                let mut samples = schema.samples(settings, &prefixes);
                samples.find(|text| self.check_xml("the sample", text).is_empty()).map(Sample::Xml)
            }
            Some(([_], [], [])) => {
                let advice = Advice::words("leave it out");
                return Err(refused("a JSON Schema has no root element", advice));
            }
            _ => {
                let advice = Advice::words("name one JSON Schema, or one XML Schema");
                return Err(refused("a sample is one of one schema", advice));
            }
        };
        found.ok_or_else(|| {
            let message = "no document was found that is valid: there may be none";
            refused(
                message,
                Advice::words("look for parts that contradict each other, or try another seed"),
            )
        })
    }

    /// The same as a value: a document of XML in the record view, with its types.
    ///
    /// # Errors
    /// As of [`Schemas::sample`].
    pub fn sample_value<'a>(
        &self,
        settings: SampleSettings<'_>,
        options: &InputOptions,
        arena: &'a Arena,
    ) -> Result<Value<'a>, RunError> {
        let text = match self.sample(settings, arena)? {
            Sample::Json(value) => return Ok(value),
            Sample::Xml(text) => arena.text(&text),
        };
        let settings = documents::Options {
            limits: options.limits,
            drop_namespaces: options.drop_namespaces,
            ..documents::Options::default()
        };
        let read = documents::read(Format::Xml, text, arena, settings);
        // It was read before, to be checked.
        let roots = read.map(|read| read.roots).unwrap_or_default();
        let root = roots.first().copied().unwrap_or(Value::Null(kyanite_tree::Origin::NONE));
        Ok(View::default().record(root, arena))
    }

    /// The prefixes that the roots of the XML Schemas declare, with the namespaces.
    #[must_use]
    pub fn prefixes(&self) -> Vec<(String, String)> {
        self.compiled.bundles.first().map_or_else(Vec::new, |bundle| bundle.prefixes.clone())
    }

    /// How many documents they are: JSON Schemas, XML Schemas, and Schematron schemas.
    #[must_use]
    pub fn counts(&self) -> [usize; 3] {
        self.compiled.bundles.first().map_or([0; 3], |bundle| bundle.documents)
    }

    /// Whether some of them are for XML alone.
    #[must_use]
    pub fn are_for_xml(&self) -> bool {
        self.compiled.bundles.iter().any(schemas::Bundle::is_for_xml)
    }

    /// Where something in them was read.
    pub(crate) fn place(&self, origin: kyanite_tree::Origin) -> Option<kyanite_tree::Place> {
        self.cache.place(origin)
    }

    /// What is wrong with an XML text, which is called `name`.
    #[must_use]
    pub fn check_xml(&self, name: &str, text: &str) -> Vec<Finding> {
        let raw = check::check_text(self.cache.validation(), &self.compiled, name, text);
        raw.settle(&|origin| self.cache.place(origin)).findings
    }
}

/// Whether a document is a schema: it says which draft of JSON Schema it is, or is a schema of XML in the record view, without
/// prefixes.
#[must_use]
pub fn is_schema(document: Value<'_>) -> bool {
    let member = |name: &str| document.as_map().and_then(|map| map.get(name));
    let named = member("$schema").and_then(Value::as_text);
    named.is_some_and(|uri| json::Draft::of_uri(uri).is_some())
        || member("schema").and_then(Value::as_map).is_some_and(|root| {
            let words = ["element", "complexType", "simpleType", "pattern"];
            words.into_iter().any(|word| root.get(word).is_some())
        })
}

/// A document that was made up.
#[derive(Debug)]
pub enum Sample<'a> {
    /// A value, by a JSON Schema.
    Json(Value<'a>),
    /// A text, by an XML Schema.
    Xml(String),
}

/// Whether a text is well-formed in a media type (RFC 6838); None where that is not known.
#[must_use]
pub fn is_well_formed(media_type: &str, text: &str) -> Option<bool> {
    let essence = media_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let arena = Arena::new();
    let is_read =
        |format| documents::read(format, text, &arena, documents::Options::default()).is_ok();
    match essence.as_str() {
        json if json == "application/json" || json.ends_with("+json") => {
            Some(is_read(Format::Json))
        }
        xml if matches!(xml, "application/xml" | "text/xml") || xml.ends_with("+xml") => {
            Some(is_read(Format::Xml))
        }
        "application/yaml" => Some(is_read(Format::Yaml)),
        "application/toml" => Some(is_read(Format::Toml)),
        _ => None,
    }
}
