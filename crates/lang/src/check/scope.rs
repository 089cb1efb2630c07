//! Which names are bound, and to which slot.

use kyanite_tree::{Advice, Code};

use super::Checker;
use crate::finding::{Finding, Span, instead};
use crate::plan::Start;
use crate::syntax::ast::Binding;
use crate::types::Type;

/// A name that is bound.
#[derive(Clone, Debug)]
pub(super) struct Bound {
    pub(super) name: String,
    pub(super) span: Span,
    pub(super) slot: usize,
    /// What is known of its values.
    pub(super) known: Type,
    /// The path it stands for, for messages.
    pub(super) base: Option<String>,
}

/// The names of the header, and those of the body or def that is being checked.
#[derive(Default)]
pub(super) struct Scope {
    globals: Vec<Bound>,
    locals: Vec<Bound>,
    frame: usize,
}

impl Scope {
    pub(super) fn globals(&self) -> usize {
        self.globals.len()
    }

    pub(super) fn frame(&self) -> usize {
        self.frame
    }

    /// Takes a slot that has no name.
    pub(super) fn spare(&mut self) {
        self.frame += 1;
    }

    /// Starts the frame of a def; gives what to hand back when leaving.
    pub(super) fn enter_def(&mut self) -> (Vec<Bound>, usize) {
        (std::mem::take(&mut self.locals), std::mem::take(&mut self.frame))
    }

    /// Ends the frame of a def; gives its size.
    pub(super) fn leave_def(&mut self, (locals, frame): (Vec<Bound>, usize)) -> usize {
        self.locals = locals;
        std::mem::replace(&mut self.frame, frame)
    }

    /// How many local names are bound; for forgetting later ones.
    pub(super) fn mark(&self) -> usize {
        self.locals.len()
    }

    /// Forgets the local names bound since `mark`.
    pub(super) fn forget(&mut self, mark: usize) {
        self.locals.truncate(mark);
    }

    /// The local names bound since `mark` stand for lists of their values from here on.
    pub(super) fn become_lists(&mut self, mark: usize) {
        for bound in &mut self.locals[mark..] {
            bound.known = Type::List;
            bound.base = None;
        }
    }

    /// Takes the local names bound since `mark` out of sight.
    pub(super) fn hide(&mut self, mark: usize) -> Vec<Bound> {
        self.locals.split_off(mark)
    }

    /// Puts hidden names back.
    pub(super) fn show(&mut self, hidden: Vec<Bound>) {
        self.locals.extend(hidden);
    }

    pub(super) fn find(&self, name: &str) -> Option<(Start, &Bound)> {
        if let Some(bound) = self.locals.iter().rev().find(|bound| bound.name == name) {
            return Some((Start::Local(bound.slot), bound));
        }
        let bound = self.globals.iter().find(|bound| bound.name == name)?;
        Some((Start::Global(bound.slot), bound))
    }

    /// What is known of the values of a bound name.
    pub(super) fn known(&self, start: &Start) -> Type {
        let of = |names: &[Bound], slot| names.iter().find(|b| b.slot == slot).map(|b| b.known);
        match start {
            Start::Local(slot) => of(&self.locals, *slot),
            Start::Global(slot) => of(&self.globals, *slot),
            _ => None,
        }
        .unwrap_or(Type::Any)
    }

    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.globals.iter().chain(&self.locals).map(|bound| bound.name.as_str())
    }
}

impl Checker<'_> {
    pub(super) fn bind_global(
        &mut self,
        name: &Binding,
        known: Type,
        base: Option<String>,
    ) -> usize {
        self.refuse_bound(name, "choose another name".into());
        let slot = self.scope.globals.len();
        self.scope.globals.push(bound(name, slot, known, base));
        slot
    }

    pub(super) fn bind_local(
        &mut self,
        name: &Binding,
        known: Type,
        base: Option<String>,
    ) -> usize {
        self.bind(name, known, base, "choose another name".into())
    }

    /// Binds the name of a key of `group by`; one that has no name of its own is called by its last name.
    pub(super) fn bind_key(&mut self, name: &Binding, key: Span, known: Type) -> usize {
        let advice = if name.span == key {
            let free = ["key", "by"].into_iter().find(|free| self.scope.find(free).is_none());
            instead(key, format!("{} = {}", free.unwrap_or("name"), self.words(key)), "")
        } else {
            "choose another name".into()
        };
        self.bind(name, known, None, advice)
    }

    fn bind(
        &mut self,
        name: &Binding,
        known: Type,
        base: Option<String>,
        advice: Advice<Span>,
    ) -> usize {
        self.refuse_bound(name, advice);
        let slot = self.scope.frame;
        self.scope.frame += 1;
        self.scope.locals.push(bound(name, slot, known, base));
        slot
    }

    fn refuse_bound(&mut self, name: &Binding, advice: Advice<Span>) {
        if let Some((_, earlier)) = self.scope.find(&name.name) {
            let finding = Finding::error_at(
                Code::RuleName,
                name.span,
                format!("`{}` is bound already", name.name),
            )
            .at(earlier.span)
            .advise(advice);
            self.find(finding);
        }
    }
}

fn bound(name: &Binding, slot: usize, known: Type, base: Option<String>) -> Bound {
    Bound { name: name.name.clone(), span: name.span, slot, known, base }
}
