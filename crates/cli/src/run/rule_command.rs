//! A rule from the command line or a file, with all that its run takes: compiled, explained or run over inputs.

use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use kyanite_flow::{
    Apart, Aside, Captured, Counters, Destination, DocumentTypes, Ensured, Events, Input,
    InputOptions, Job, LossPolicy, Output, PartialFile, RunError, Schemas, Sink, What,
};
use kyanite_formats::Format;
use kyanite_lang::{Finding, Plan, RuleText, Syntax, compile, compile_until, compile_xpath, twice};
use kyanite_tree::{Advice, Arena, Code, Diagnostic, Setting, counted};
use kyanite_xpath::{Namespaces, Version};

use super::schemas::{keeping_to, read_schemas};
use super::{InPlace, threads};
use crate::arguments::{
    InputArguments, MessageOptions, OutputArguments, ParamArguments, Query, Reshape, SyntaxOption,
};
use crate::counted::Counted;
use crate::interrupt::clean_up_on_signals;
use crate::messages::Messages;
use crate::progress::Progress;
use crate::stats::Stats;
use crate::status::Status;
use crate::trace;
use crate::written::keep_apart;

/// What a rule is written in.
pub(super) enum WrittenIn {
    /// The rule language, or one of those in it.
    Rule(Syntax),
    /// An XPath, with its namespaces.
    XPath(Version, Namespaces),
}

/// A rule to be run, wherever it comes from.
pub(super) struct RuleCommand<'c> {
    pub(super) rule: RuleText,
    /// The folder that the rule's sources are seen from.
    pub(super) folder: PathBuf,
    pub(super) written_in: WrittenIn,
    /// Whether nobody said what it is written in.
    pub(super) may_be_xpath: bool,
    pub(super) input: &'c InputArguments,
    pub(super) params: &'c ParamArguments,
    pub(super) output: &'c OutputArguments,
    pub(super) what: What,
    pub(super) count: bool,
    pub(super) require: bool,
    /// Whether only the plan is shown.
    pub(super) explain: bool,
    /// The clause of the outermost `for` to stop after.
    pub(super) until: Option<usize>,
    /// The folder that members of the result go to.
    pub(super) apart: Option<&'c Path>,
    /// The path in the result whose values are traced.
    pub(super) trace: Option<&'c str>,
    /// Whether all of the input is to be carried over.
    pub(super) carries_all: bool,
    pub(super) losses: LossPolicy,
    /// What takes the result in place of standard output.
    pub(super) captured: Option<Captured>,
    /// Whether the files themselves are changed, or what would change is shown.
    pub(super) in_place: Option<InPlace>,
    /// The number of the part that the run is over, if its state is what is wanted.
    pub(super) part: Option<u64>,
    /// States of runs over parts that are to be ended, in place of inputs.
    pub(super) states: Option<&'c [PartialFile]>,
    pub(super) options: &'c MessageOptions,
}

impl<'c> RuleCommand<'c> {
    /// A rule of the language, run as usual: for its values, with losses counted.
    pub(super) fn new(
        rule: RuleText,
        input: &'c InputArguments,
        params: &'c ParamArguments,
        output: &'c OutputArguments,
        options: &'c MessageOptions,
    ) -> Self {
        Self {
            rule,
            folder: PathBuf::new(),
            written_in: WrittenIn::Rule(Syntax::Rule),
            may_be_xpath: false,
            input,
            params,
            output,
            what: What::Values,
            count: false,
            require: false,
            explain: false,
            until: None,
            apart: None,
            trace: None,
            carries_all: false,
            losses: match (output.strict, output.losses) {
                (true, _) => LossPolicy::Refuse,
                (_, true) => LossPolicy::List,
                _ => LossPolicy::Count,
            },
            captured: None,
            in_place: None,
            part: None,
            states: None,
            options,
        }
    }

    /// The rule of a rule file, run as usual.
    pub(super) fn of_file(
        reshape: &'c Reshape,
        rule: RuleText,
        options: &'c MessageOptions,
    ) -> Self {
        Self {
            folder: reshape.rule.parent().map(Path::to_owned).unwrap_or_default(),
            ..Self::new(rule, &reshape.input, &reshape.params, &reshape.output, options)
        }
    }

    /// What the expression of a query is written in: one that begins with `/` is an XPath over XML, and a JSON Pointer over
    /// all else.
    pub(super) fn written_in(&self, query: &Query) -> Result<WrittenIn, RunError> {
        let syntax = match query.syntax {
            Some(syntax) => syntax,
            None if !query.expression.starts_with('/') => SyntaxOption::Rule,
            None => self.by_inputs(query)?,
        };
        let version = match syntax {
            SyntaxOption::Jsonpath => return self.no_namespaces(query, Syntax::JsonPath),
            SyntaxOption::Pointer => return self.no_namespaces(query, Syntax::Pointer),
            SyntaxOption::Rule => return self.no_namespaces(query, Syntax::Rule),
            SyntaxOption::Xpath => Version::V31,
            SyntaxOption::Xpath1 => Version::V1,
        };
        let mut namespaces = Namespaces::new();
        for (at, (prefix, uri)) in query.namespaces.iter().enumerate() {
            if query.namespaces.iter().take(at).any(|(before, _)| before == prefix) {
                let message = format!("--namespace gives the prefix `{prefix}` twice");
                return Err(RunError::command(message, "leave one of them out"));
            }
            namespaces.declare(prefix, uri);
        }
        if query.ignore_namespaces {
            namespaces.ignore();
        }
        Ok(WrittenIn::XPath(version, namespaces))
    }

    /// Namespaces are of an XPath.
    fn no_namespaces(&self, query: &Query, syntax: Syntax) -> Result<WrittenIn, RunError> {
        if query.namespaces.is_empty() && !query.ignore_namespaces {
            return Ok(WrittenIn::Rule(syntax));
        }
        let given = if query.ignore_namespaces { "--ignore-namespaces" } else { "--namespace" };
        let message = format!("{given} is for an XPath, and this expression is read as none");
        Err(RunError::command(message, Advice::words("say ").setting(Setting::Syntax("xpath"))))
    }

    /// What an expression that begins with `/` is, by what the inputs are.
    fn by_inputs(&self, query: &Query) -> Result<SyntaxOption, RunError> {
        let words = &query.input.inputs;
        let inputs: Vec<Input> = match words.as_slice() {
            [] => vec![Input::Standard],
            words => words.iter().map(|word| Input::of_word(word)).collect(),
        };
        let options = self.input_options();
        let mut xml = Vec::new();
        for input in &inputs {
            xml.push(kyanite_flow::format_of(input, &options)? == Format::Xml);
        }
        match (xml.iter().all(|is_xml| *is_xml), xml.iter().any(|is_xml| *is_xml)) {
            (true, _) => Ok(SyntaxOption::Xpath),
            (_, false) => Ok(SyntaxOption::Pointer),
            _ => Err(RunError::command(
                "some inputs are XML and some are not, so it is not plain whether this is an XPath or a JSON Pointer",
                Advice::words("say ")
                    .setting(Setting::Syntax("xpath"))
                    .then(" or ")
                    .setting(Setting::Syntax("pointer")),
            )),
        }
    }

    /// The expression compiled as an XPath, whose variables are the params that are given.
    fn xpath(
        &self,
        version: Version,
        namespaces: Namespaces,
    ) -> Result<Plan, (RuleText, Vec<Finding>)> {
        let params = self.params.params.iter();
        let variables: Vec<String> = params.map(|(name, _)| name.clone()).collect();
        compile_xpath(self.rule.clone(), version, namespaces, &variables)
    }

    /// Says so where an expression that is no rule is an XPath.
    fn tell_of_xpath(&self, messages: &mut Messages) {
        let read = self.xpath(Version::V31, Namespaces::new());
        if read.is_ok() {
            let message = "the expression is well-formed as an XPath";
            let advice =
                Advice::words("to have it read so, say ").setting(Setting::Syntax("xpath"));
            messages.show(&Diagnostic::warning(Code::RuleSyntax, message).advise(advice));
        }
    }

    pub(super) fn run(self, messages: &mut Messages) -> Status {
        let rule = self.rule.clone();
        let compiled = match (&self.written_in, self.until) {
            (WrittenIn::XPath(version, namespaces), _) => self.xpath(*version, namespaces.clone()),
            (WrittenIn::Rule(_), Some(clauses)) => compile_until(rule, clauses),
            (WrittenIn::Rule(syntax), None) => compile(rule, *syntax),
        };
        let plan = match compiled {
            Ok(plan) => plan,
            Err((rule, findings)) => {
                for finding in &findings {
                    messages.show(&rule.diagnostic(finding.clone()));
                }
                if self.may_be_xpath {
                    self.tell_of_xpath(messages);
                }
                return Status::Command;
            }
        };
        for warning in &plan.warnings {
            messages.show(&plan.rule().diagnostic(warning.clone()));
        }
        if self.explain {
            let mut out = io::stdout().lock();
            let written = self.layout(plan.output.as_ref()).written();
            let lines = plan.explain(written, self.input.avoid.iter().copied().collect());
            // Whoever closed the pipe has seen enough.
            let _ = lines.iter().try_for_each(|line| writeln!(out, "{line}"));
            return Status::Done;
        }
        match self.run_plan(&plan, messages) {
            Ok(status) => status,
            Err(failed) => messages.end_with(&failed),
        }
    }

    fn run_plan(&self, plan: &Plan, messages: &mut Messages) -> Result<Status, RunError> {
        // Wrong params are found before anything is opened.
        kyanite_lang::Arguments::read(plan, &self.params.params, &Arena::new())
            .map_err(RunError::Command)?;
        let inputs = if self.states.is_some() { Vec::new() } else { self.inputs(plan)? };
        let sources = self.sources(plan)?;
        let writes_elsewhere = self.in_place.is_some()
            || self.apart.is_some()
            || self.trace.is_some()
            || self.part.is_some();
        if self.input.stats && writes_elsewhere {
            let message = "--stats is about a run that writes one result";
            return Err(RunError::command(message, "leave it out"));
        }
        if let Some(how) = self.in_place {
            return self.run_in_place(plan, &inputs, &sources, how, messages);
        }
        let layout = self.layout(plan.output.as_ref());
        if self.apart.is_some() || self.output.output.is_some() {
            clean_up_on_signals();
        }
        let types_arena = Arena::new();
        let named: Vec<Input> = self.input.schema.iter().map(|word| Input::of_word(word)).collect();
        let types_from = keeping_to(&named);
        let types = self.types(plan, &types_from, &types_arena, messages)?;
        let types = types.as_ref();
        let ensured = self.schemas_for(&self.output.ensures, &plan.ensures);
        if self.apart.is_none() && self.trace.is_none() {
            self.refuse_several(&inputs, layout.format)?;
        }
        if self.apart.is_some() && !ensured.is_empty() {
            let message = "--apart writes several documents, and the schema is for one result";
            let advice = "write without --ensure, then check the files: kyanite validate";
            return Err(RunError::command(message, advice));
        }
        let kept = self.expect(plan, &inputs, messages)?;
        if let Some(part) = self.part {
            return self.run_partial((plan, types), &inputs, (&sources, part), messages);
        }
        if let Some(folder) = self.apart {
            let apart = Apart::new(folder, layout);
            return self.run_apart((plan, types), &inputs, &sources, apart, messages);
        }
        if let Some(path) = self.trace {
            return self.run_trace((plan, types), path, &inputs, &sources, messages);
        }
        if let Some(column) = layout.columns.as_deref().and_then(twice) {
            return Err(RunError::command(
                format!("the column `{column}` is named twice"),
                "name each column once: --columns a,b",
            ));
        }
        let arena = Arena::new();
        let validation = keeping_to(&ensured);
        let schemas = read_schemas(&validation, &arena, messages)?;
        let is_for_xml = schemas.as_ref().is_some_and(Schemas::are_for_xml);
        if is_for_xml && layout.format != Format::Xml {
            let message = format!("an XML Schema checks XML, and the result is {}", layout.format);
            return Err(RunError::command(message, "say --to xml, or ensure a JSON Schema"));
        }
        if is_for_xml && self.count {
            let message = "--count writes no XML, so there is nothing for an XML Schema to check";
            return Err(RunError::command(message, "leave one of the two out"));
        }
        let (text, by_item) = (Captured::default(), layout.format.has_records());
        let destination = match is_for_xml {
            true => Destination::Stream(Box::new(text.clone())),
            false => self.destination(),
        };
        if let Some(skipped) = self.output.skip_invalid.as_deref() {
            keep_apart(self.output.output.as_deref().into_iter().chain([skipped]), [])?;
            keep_apart([skipped], self.input.inputs.iter().map(String::as_str))?;
        }
        let mut aside = match &self.output.skip_invalid {
            Some(path) => Some(Aside::open(path.clone())?),
            None => None,
        };
        if aside.is_some() && (schemas.is_none() || !by_item) {
            let message = "only records that break a schema can be skipped".to_owned();
            let advice = "ensure a JSON Schema, and write jsonl or csv";
            return Err(RunError::command(message, advice));
        }
        let mut output = Output::open(destination, layout)?;
        let held = Arena::new();
        let checked = schemas.as_ref().filter(|_| !is_for_xml);
        let sink: Option<&mut dyn Sink> = if self.count { None } else { Some(&mut output) };
        let mut counted = Counted { sink, found: 0, nothing: false };
        let mut ensured =
            Ensured::new(&mut counted, checked, plan, (by_item, &held), aside.as_mut());
        let on_terminal = self.output.output.is_none() && io::stdout().is_terminal();
        let stats = Stats::start(self.input.stats, threads(self.input.threads));
        let progress = Progress::start(self.options.progress, on_terminal, self.size_of(&inputs));
        let options = self.input_options();
        let ensures = checked.filter(|_| by_item).map(Schemas::json);
        let job = Job { types, ensures, ..self.job(plan, &sources, &options) };
        let mut tell = |problem: Diagnostic| {
            progress.make_room();
            messages.show(&problem);
        };
        let mut events = Events { tell: &mut tell, counters: &progress.counters };
        let ran = match self.states {
            None => kyanite_flow::run(&job, &inputs, &mut ensured, &mut events),
            Some(states) => kyanite_flow::joined_states(plan, states)
                .and_then(|state| kyanite_flow::combine(&job, state, &mut ensured, &mut events)),
        };
        let counters = Arc::clone(&progress.counters);
        drop(progress);
        drop(kept);
        let (broken, skipped, has_failed) = ensured.finish();
        let Counted { found, nothing, .. } = counted;
        if has_failed && ran.is_ok() {
            output.abandon();
            aside.as_ref().map_or(Ok(()), Aside::check)?;
            return Err(RunError::Invalid(broken));
        }
        if let Err(failed) = ran {
            output.abandon();
            return Err(failed);
        }
        if let Some(aside) = aside {
            aside.finish()?;
            messages.show_all(&broken);
            if skipped > 0 {
                let verb = if skipped == 1 { "breaks" } else { "break" };
                let message = format!(
                    "{} {verb} the schema, and went to {}",
                    kyanite_tree::counted(skipped, "record"),
                    self.output.skip_invalid.as_deref().unwrap_or(Path::new("")).display()
                );
                messages.show(&Diagnostic::warning(Code::NotValid, message));
            }
        }
        if self.count {
            let arena = Arena::new();
            let _ = output.single(Some(arena.integer(found)));
        }
        let format = output.format();
        let remarks = output.finish()?;
        if let Some(schemas) = schemas.filter(|_| is_for_xml) {
            self.write_checked(&schemas, &text.take())?;
        }
        if self.carries_all && found == 0 && messages.warnings == 0 {
            messages.show(&Diagnostic::warning(Code::InputEmpty, "the input holds no records"));
        }
        if nothing && !self.count && messages.warnings == 0 {
            let is_null = matches!(format, Format::Json | Format::Yaml);
            let written = if is_null { ", written as null" } else { "" };
            messages.show(&Diagnostic::warning(
                Code::ResultNothing,
                format!("the result is nothing{written}"),
            ));
        }
        messages.show_all(&remarks);
        let made = u64::try_from(found).unwrap_or_default();
        stats.finish(&counters, Some((made, "result")), messages);
        Ok(if self.require && found == 0 { Status::No } else { Status::Done })
    }

    pub(super) fn job<'j>(
        &'j self,
        plan: &'j Plan,
        sources: &'j [(String, Input)],
        options: &'j InputOptions,
    ) -> Job<'j> {
        Job {
            params: &self.params.params,
            sources,
            range: self.input.range.clone(),
            gather: self.input.gather,
            what: self.what,
            carries_all: self.carries_all,
            losses: self.losses,
            now: Some(std::time::SystemTime::now()),
            ..Job::new(plan, options)
        }
    }

    /// Runs the rule for where the values at a path of its result come from.
    fn run_trace(
        &self,
        (plan, types): (&Plan, Option<&DocumentTypes<'_>>),
        path: &str,
        inputs: &[Input],
        sources: &[(String, Input)],
        messages: &mut Messages,
    ) -> Result<Status, RunError> {
        let path =
            compile(RuleText::new("the path", path), Syntax::Rule).map_err(RunError::of_rule)?;
        let options = self.input_options();
        let job = Job { types, ..self.job(plan, sources, &options) };
        let progress = Progress::start(self.options.progress, false, self.size_of(inputs));
        let traced =
            progress.watch(messages, |events| kyanite_flow::trace(&job, inputs, &path, events))?;
        drop(progress);
        let output = match (&self.output.output, self.output.to) {
            (None, None) => None,
            _ => Some(Output::open(self.destination(), self.layout(None))?),
        };
        messages.show_all(&trace::show(&traced, output, self.options)?);
        Ok(if self.require && traced.is_empty() { Status::No } else { Status::Done })
    }

    /// Runs the rule into files of a folder.
    fn run_apart(
        &self,
        (plan, types): (&Plan, Option<&DocumentTypes<'_>>),
        inputs: &[Input],
        sources: &[(String, Input)],
        mut apart: Apart,
        messages: &mut Messages,
    ) -> Result<Status, RunError> {
        let options = self.input_options();
        let job = Job { types, ..self.job(plan, sources, &options) };
        let counters = Counters::default();
        let mut tell = |problem: Diagnostic| messages.show(&problem);
        let mut events = Events { tell: &mut tell, counters: &counters };
        kyanite_flow::run(&job, inputs, &mut apart, &mut events)?;
        let (count, remarks) = apart.finish()?;
        messages.show_all(&remarks);
        let were = if count == 1 { "was" } else { "were" };
        let message = format!("{} {were} written", counted(count, "file"));
        messages.show(&Diagnostic::note(Code::InputRead, message));
        Ok(Status::Done)
    }
}
