//! Rules, compiled.

use std::sync::Arc;

use kyanite_flow::RunError;
use kyanite_lang::{Finding, Plan, RecordUnit, RuleText, Syntax, compile, compile_xpath};
use kyanite_tree::Diagnostic;
use kyanite_xpath::{Namespaces, Version};

use crate::Error;

/// A rule, checked and ready to run, as often as one likes and on several threads at a time.
///
/// ```
/// use kyanite_core::{Format, Rule, RunBuilder};
///
/// let rule = Rule::new("count($.sailings[*])")?;
/// for (text, count) in [("{\"sailings\": [1, 2]}", "2\n"), ("{\"sailings\": []}", "0\n")] {
///     let run = RunBuilder::new(&rule).input("timetable.json", text.as_bytes());
///     assert_eq!(run.text(Format::Json)?, count);
/// }
/// # Ok::<(), kyanite_core::Error>(())
/// ```
#[derive(Clone, Debug)]
pub struct Rule {
    pub(crate) plan: Arc<Plan>,
}

/// A param that a rule declares.
///
/// ```
/// use kyanite_core::Rule;
///
/// let rule = Rule::new("param port: text\n$[?@.port == port]")?;
/// let params: Vec<_> = rule.params().collect();
/// assert_eq!((params[0].name, params[0].is_required), ("port", true));
/// # Ok::<(), kyanite_core::Error>(())
/// ```
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Param<'r> {
    /// Its name.
    pub name: &'r str,
    /// Whether the rule cannot run without it.
    pub is_required: bool,
}

impl Rule {
    /// A rule of the rule language.
    ///
    /// # Errors
    /// All that is wrong with it, with places.
    ///
    /// ```
    /// use kyanite_core::Rule;
    ///
    /// assert!(Rule::new("for b in $[*] return b.id").is_ok());
    /// assert!(Rule::new("for b in $[*] return c.id").is_err());
    /// ```
    pub fn new(text: &str) -> Result<Self, Error> {
        Self::named("the rule", text)
    }

    /// A rule with the name that it has in messages, that of its file say.
    ///
    /// # Errors
    /// All that is wrong with it, with places.
    ///
    /// ```
    /// use kyanite_core::Rule;
    ///
    /// let error = Rule::named("fares.kyr", "$.a +").unwrap_err();
    /// assert_eq!(error.diagnostics()[0].places()[0].file, "fares.kyr");
    /// ```
    pub fn named(name: &str, text: &str) -> Result<Self, Error> {
        Self::of(compile(RuleText::new(name, text), Syntax::Rule))
    }

    /// A JSONPath, exactly as RFC 9535 has it.
    ///
    /// # Errors
    /// What is wrong with it, with its place.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::jsonpath("$..minutes")?;
    /// let text = "{\"legs\": [{\"minutes\": 35}, {\"minutes\": 50}]}";
    /// let run = RunBuilder::new(&rule).input("timetable.json", text.as_bytes());
    /// assert_eq!(run.text(Format::JsonLines)?, "35\n50\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn jsonpath(text: &str) -> Result<Self, Error> {
        Self::of(compile(RuleText::new("the path", text), Syntax::JsonPath))
    }

    /// An XPath 3.1 with the namespaces that its prefixes mean.
    ///
    /// # Errors
    /// What is wrong with it, with its place.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::xpath("//v:deck/@no", &[("v", "urn:vessel")])?;
    /// let text = "<d:vessel xmlns:d='urn:vessel'><d:deck no='4'/><d:deck no='5'/></d:vessel>";
    /// let run = RunBuilder::new(&rule).input("vessel.xml", text.as_bytes());
    /// assert_eq!(run.text(Format::Text)?, "4\n5\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn xpath(text: &str, namespaces: &[(&str, &str)]) -> Result<Self, Error> {
        let mut known = Namespaces::new();
        namespaces.iter().for_each(|(prefix, uri)| known.declare(prefix, uri));
        Self::of(compile_xpath(RuleText::new("the XPath", text), Version::V31, known, &[]))
    }

    fn of(compiled: Result<Plan, (RuleText, Vec<Finding>)>) -> Result<Self, Error> {
        compiled
            .map(|plan| Self { plan: Arc::new(plan) })
            .map_err(|wrong| RunError::of_rule(wrong).into())
    }

    pub(crate) fn compiled(text: RuleText) -> Result<Self, Error> {
        Self::of(compile(text, Syntax::Rule))
    }

    /// What is worth saying about it though it runs.
    ///
    /// ```
    /// use kyanite_core::Rule;
    ///
    /// let rule = Rule::new("param unused: text = \"x\"\n$.a")?;
    /// assert_eq!(rule.warnings().count(), 1);
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn warnings(&self) -> impl Iterator<Item = Diagnostic> {
        self.plan.warnings.iter().map(|finding| self.plan.rule().diagnostic(finding.clone()))
    }

    /// The params that it declares.
    ///
    /// ```
    /// use kyanite_core::Rule;
    ///
    /// let rule = Rule::new("param least: number = 4\n$[?@.depth > least]")?;
    /// assert!(rule.params().all(|param| !param.is_required));
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn params(&self) -> impl Iterator<Item = Param<'_>> {
        let params = self.plan.params().iter();
        params.map(|param| Param { name: &param.name, is_required: param.is_required() })
    }

    /// How it would run, in plain words.
    ///
    /// ```
    /// use kyanite_core::Rule;
    ///
    /// let lines = Rule::new("sum($[*].fare)")?.explain();
    /// assert!(!lines.is_empty());
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    #[must_use]
    pub fn explain(&self) -> Vec<String> {
        self.plan.explain(kyanite_lang::Written::Json, kyanite_lang::Ways::default())
    }

    /// Whether runs over parts of an input can be joined, as [`State`](crate::State)s are.
    ///
    /// ```
    /// use kyanite_core::Rule;
    ///
    /// assert!(Rule::new("sum($[*].fare)")?.can_be_cut());
    /// assert!(!Rule::new("for b in $[*] order by b.fare return b")?.can_be_cut());
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    #[must_use]
    pub fn can_be_cut(&self) -> bool {
        [RecordUnit::Items, RecordUnit::Elements]
            .into_iter()
            .any(|unit| self.plan.can_be_cut(unit).is_ok())
    }
}
