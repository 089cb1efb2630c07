//! A plan in plain words: how its input is read, what is kept in memory, and what that depends on.

use kyanite_formats::Format;

use crate::plan::{
    Choice, ClauseKind, Expr, ForSource, Kind, Loop, Plan, RecordUnit, Way, Ways, Written,
};

impl Plan {
    /// What a run would do, a sentence a line, and in which ways it takes records but for those that are switched off.
    #[must_use]
    pub fn explain(&self, written: Written, off: Ways) -> Vec<String> {
        let mut lines = Vec::new();
        if let Some(xpath) = self.xpath() {
            return xpath.explain();
        }
        if !self.reads_input() {
            lines.push("The rule never names $, so it reads no input.".into());
        } else if self.runs_by_record() {
            lines.push(format!(
                "Records of JSON Lines, CSV and text, and items of a large JSON list, run one by one{}.",
                self.growth()
            ));
        } else if self.element_path().is_none() {
            lines.push(format!("The whole document is held in memory: {}.", self.why_whole()));
            if self.gives_document() && written == Written::Json && !off.contain(Way::Copies) {
                lines.push(
                    "Where it is plain XML, or plain JSON that stays one document, it is written as JSON from its text, and no values are made of it.".into(),
                );
            }
        }
        if let Some(path) = self.element_path() {
            let path: Vec<&str> = path.iter().map(|step| step.name.as_str()).collect();
            lines.push(format!(
                "The elements at $.{} of an XML document, and the items there of a large JSON document, run one by one{}; any other document is held in memory.",
                path.join("."),
                self.growth()
            ));
        }
        for source in &self.sources {
            lines.push(format!("The source {} is held in memory.", source.name));
        }
        if let Kind::Loop(repeat) = &self.body.innermost().kind {
            self.clauses(repeat, &mut lines);
        }
        if self.is_edited() {
            lines.push("What the edits do not touch is copied as it stands.".into());
        }
        if self.fold.is_some() {
            lines.push("The aggregate over the records is one running value.".into());
        }
        if let Some(output) = &self.output {
            lines.push(format!("The result is written as {}.", Format::name(output.format)));
        }
        let unit = match self.runs_by_record() {
            true => Some(RecordUnit::Items),
            false => self.element_path().map(|_| RecordUnit::Elements),
        };
        if let Some(unit) = unit {
            lines.push("Records can be taken in these ways:".into());
            let strategy = self.strategy(unit, written, off);
            lines.extend(strategy.choices().iter().map(|Choice { way, why }| {
                let (is_taken, why) = match why {
                    Ok(why) => ("yes", why),
                    Err(why) => ("no", why),
                };
                format!("  {:<12}{is_taken:<5}{why}", way.name())
            }));
        }
        lines
    }

    /// Whether the rule gives a document or records with some places in them changed.
    fn is_edited(&self) -> bool {
        let result = match &self.body.innermost().kind {
            Kind::Loop(repeat) => &repeat.result.kind,
            other => other,
        };
        matches!(result, Kind::Edit(_))
    }

    /// What memory grows with when records run one by one.
    fn growth(&self) -> String {
        match self.holding() {
            None => ": memory does not grow with them".into(),
            Some((_, position)) => {
                format!(" up to clause {}: memory grows only with what that keeps", position + 1)
            }
        }
    }

    /// As many tuples as an expression says.
    fn tuples(&self, count: &Expr) -> String {
        match &*self.words(count) {
            "1" => "1 tuple".into(),
            words => format!("{words} tuples"),
        }
    }

    fn why_whole(&self) -> String {
        if self.root_uses > 1 {
            return format!("$ stands {} times in the rule", self.root_uses);
        }
        "the rule does not go through records with $[*]".into()
    }

    fn clauses(&self, repeat: &Loop, lines: &mut Vec<String>) {
        for (position, clause) in repeat.clauses.iter().enumerate() {
            let what = match &clause.kind {
                ClauseKind::For { source, join, .. } => {
                    let words = match source {
                        ForSource::Nodes(path) => self.rule.slice(self.paths[path.id].span),
                        ForSource::List(list) => self.words(list),
                    };
                    let join = match join {
                        Some(_) => ", found through an index that is built once",
                        None => "",
                    };
                    format!("goes through {words}{join}")
                }
                ClauseKind::Let(_, value) => format!("is {}", self.words(value)),
                ClauseKind::Where { condition, .. } => {
                    format!("keeps the tuples for which {} holds", self.words(condition))
                }
                ClauseKind::OrderBy { is_bounded: true, .. } => {
                    "puts tuples in order; only the first few are kept".into()
                }
                ClauseKind::OrderBy { .. } => {
                    "puts tuples in order; all are kept until the last".into()
                }
                ClauseKind::GroupBy { keys, folds, .. } => {
                    let keys: Vec<String> = keys.iter().map(|(_, key)| self.words(key)).collect();
                    let kept = match folds.as_ref().map(|folds| folds.folds.len()) {
                        None => "all are kept until the last".into(),
                        Some(1) => "one running value is kept for each group".into(),
                        Some(count) => format!("{count} running values are kept for each group"),
                    };
                    format!("puts tuples together by {}; {kept}", keys.join(", "))
                }
                ClauseKind::Carry { step, .. } => {
                    format!("keeps one running value: {}", self.words(step))
                }
                ClauseKind::Skip(count) => format!("leaves out {}", self.tuples(count)),
                ClauseKind::First(count) => format!("ends after {}", self.tuples(count)),
                ClauseKind::Window { size, .. } => {
                    format!("keeps {} at a time", self.tuples(size))
                }
            };
            lines.push(format!("Clause {}, {}: {what}.", position + 1, word(&clause.kind)));
        }
    }

    fn words(&self, expr: &Expr) -> String {
        self.rule.slice(expr.span)
    }
}

/// The word that a clause begins with.
fn word(clause: &ClauseKind) -> &'static str {
    match clause {
        ClauseKind::For { .. } => "for",
        ClauseKind::Let(..) => "let",
        ClauseKind::Where { .. } => "where",
        ClauseKind::Skip(_) => "skip",
        ClauseKind::First(_) => "first",
        ClauseKind::OrderBy { .. } => "order by",
        ClauseKind::GroupBy { .. } => "group by",
        ClauseKind::Carry { .. } => "carry",
        ClauseKind::Window { .. } => "window",
    }
}
