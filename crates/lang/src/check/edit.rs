//! Edits: a value with some places in it changed.

use kyanite_tree::Code;

use super::Checker;
use crate::finding::{Finding, instead};
use crate::plan::{Change, Edit, Expr, Kind, PathInfo, Shape};
use crate::syntax::ast;

impl Checker<'_> {
    pub(super) fn edit(&mut self, edit: &ast::Edit) -> Kind {
        let subject = self.edited(&edit.subject);
        let base = match &subject.kind {
            Kind::One(path) => self.paths[path.id].prefix(path.steps.len()),
            _ => self.words(edit.subject.span),
        };
        let changes = edit.changes.iter().map(|change| self.change(change, &base)).collect();
        Kind::Edit(Box::new(Edit { subject, changes }))
    }

    /// What is changed: one value.
    fn edited(&mut self, subject: &ast::Expr) -> Expr {
        let lowered = self.either(subject);
        if lowered.shape() == Shape::One {
            return lowered;
        }
        let path = self.words(subject.span);
        let message = format!("`{path}` may select many values; edits change one");
        let advice = instead(
            subject.span,
            format!("({path})"),
            &format!(" for the list of them; to change each: for x in {path} return x set …"),
        );
        self.broken(Finding::error_at(Code::RuleShape, subject.span, message).advise(advice))
    }

    fn change(&mut self, change: &ast::Change, base: &str) -> Change {
        let (segments, steps) = self.lower_segments(&change.path);
        let id = self.paths.len();
        self.paths.push(PathInfo {
            base: base.to_owned(),
            steps,
            span: change.span,
            may_be_absent: false,
            from_any: false,
            is_of_edit: true,
        });
        // Inside, `@` is the value that is there, also where conditions stand in no filter.
        let filters = std::mem::replace(&mut self.filters, 0);
        self.edits += 1;
        let value = change.value.as_ref().map(|value| self.value(value));
        self.edits -= 1;
        self.filters = filters;
        Change { id, segments, value, span: change.span }
    }
}
