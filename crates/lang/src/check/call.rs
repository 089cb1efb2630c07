//! Calls: of the language's functions, by their signatures, and of the rule's defs.

use kyanite_tree::{Advice, Code, Kind as ValueKind, counted};

use super::Checker;
use crate::finding::{Finding, Span, first_of, instead, near_advice};
use crate::functions::{ParameterTypes, Run, Signature, all};
use crate::plan::{Expr, Kind, Nodes};
use crate::syntax::ast::{self, Call, ExprKind, Literal};
use crate::types::Type;
use crate::words;
use kyanite_eval::pattern::iregexp;

impl Checker<'_> {
    pub(super) fn call(&mut self, call: &Call, span: Span) -> Expr {
        if let Some(def) = self.def_names.get(&call.name).copied() {
            return self.call_def(call, def, span);
        }
        let Some(signature) = Signature::find(&call.name) else {
            let finding = Finding::error_at(
                Code::RuleCall,
                call.name_span,
                format!("there is no function `{}`", call.name),
            );
            let advice = self.instead_of(&call.name, call.name_span);
            return self.misused(call, finding.advise_opt(advice));
        };
        self.decodes |= signature.name == "decode";
        self.asks_documents |= signature.name == "document_uri";
        let given = call.arguments.len();
        if given < signature.required
            || signature.parameter(given.saturating_sub(1)).is_none() && given > 0
        {
            let finding = Finding::error_at(
                Code::RuleCall,
                span,
                format!("{}() does not take {}", call.name, said(given)),
            );
            return self.misused(call, finding.advise(format!("call it as {}", signature.usage())));
        }
        if let [argument] = call.arguments.as_slice() {
            match signature.run {
                Run::Count => return self.nodes_call(signature, argument, span, Kind::Count),
                Run::Exists => return self.nodes_call(signature, argument, span, Kind::Exists),
                Run::ValueOf => return self.nodes_call(signature, argument, span, Kind::ValueOf),
                Run::Values(_) | Run::Fold(_) | Run::Recover | Run::XPath => {}
            }
        }
        if let (Run::XPath, [value, expression]) = (&signature.run, call.arguments.as_slice()) {
            return self.xpath_call(value, expression, span);
        }
        // Where the document is from can be told without holding it.
        if let ("document_uri", [ast::Expr { kind: ExprKind::Path(path), .. }]) =
            (signature.name, call.arguments.as_slice())
            && path.start == ast::Start::Root
            && path.segments.is_empty()
        {
            self.asks_own_uri = true;
            return Expr { kind: Kind::DocumentUri, span };
        }
        let mut arguments = Vec::with_capacity(given);
        for (position, argument) in call.arguments.iter().enumerate() {
            let argument = self.value(argument);
            if let Some(parameter) = signature.parameter(position) {
                self.argument_fits(&argument, signature, parameter.takes);
            }
            if signature.parameter(position).is_some_and(|p| p.takes == ParameterTypes::ANYTHING) {
                self.may_be_absent(&argument.kind);
            }
            arguments.push(argument);
        }
        if matches!(signature.run, Run::Recover)
            && let (Some(otherwise), Some(tried)) = (arguments.pop(), arguments.pop())
        {
            return Expr { kind: Kind::Recover(Box::new(tried), Box::new(otherwise)), span };
        }
        self.pattern_hint(signature, call);
        Expr { kind: Kind::Call(signature, arguments), span }
    }

    /// What to call in place of a function that is not there.
    fn instead_of(&self, name: &str, span: Span) -> Option<Advice<Span>> {
        if let Some(instead) = words::instead_of_function(name) {
            return Some(instead.into());
        }
        let defs = self.def_names.keys().map(String::as_str);
        near_advice(span, name, all().map(|signature| signature.name).chain(defs))
    }

    /// A call that cannot be; whatever is wrong inside its arguments is found, too.
    fn misused(&mut self, call: &Call, finding: Finding) -> Expr {
        let broken = self.broken(finding);
        for argument in &call.arguments {
            self.value(argument);
        }
        broken
    }

    /// A function over nodes: its argument is a path.
    fn nodes_call(
        &mut self,
        signature: &'static Signature,
        argument: &ast::Expr,
        span: Span,
        kind: fn(Nodes) -> Kind,
    ) -> Expr {
        let text = self.words(argument.span);
        let ExprKind::Path(path) = &argument.kind else {
            // Whatever else is wrong inside should be said, too.
            self.value(argument);
            let finding = Finding::error_at(
                Code::RuleShape,
                argument.span,
                format!("{}() takes a path", signature.name),
            );
            return self.broken(match signature.name {
                "count" => finding.advise(instead(
                    span,
                    format!("length({text})"),
                    " for the items of a list value",
                )),
                _ => finding,
            });
        };
        let lowered = self.path(path, argument.span);
        if matches!(signature.run, Run::Exists) {
            self.may_be_absent(&lowered.kind);
        }
        let takes =
            signature.parameters.first().map_or(ParameterTypes::NODES, |parameter| parameter.takes);
        match lowered.kind {
            Kind::Many(path) => Expr { kind: kind(Nodes::Many(path)), span },
            // Inside a filter count() takes any path, as in RFC 9535.
            Kind::One(_) if takes == ParameterTypes::MANY_NODES && self.filters == 0 => self
                .broken(
                    Finding::error_at(
                        Code::RuleShape,
                        argument.span,
                        format!("`{text}` is one value, and {}() counts nodes", signature.name),
                    )
                    .advise(match self.type_of(&lowered) {
                        // Behind group by, a name is the list of its values in the group.
                        Type::List => instead(span, format!("count({text}[*])"), ""),
                        _ => {
                            let why = format!(
                                " for the items of a list, length({text}) for the length of a text"
                            );
                            instead(span, format!("count({text}[*])"), &why)
                        }
                    }),
                ),
            Kind::One(path) => Expr { kind: kind(Nodes::One(path)), span },
            _ => lowered,
        }
    }

    fn argument_fits(&mut self, argument: &Expr, signature: &Signature, takes: ParameterTypes) {
        let known = self.type_of(argument);
        if !takes.may_accept(known) {
            let message = format!(
                "{}() takes {} here; this is {}",
                signature.name,
                takes.words(),
                known.words()
            );
            let finding = Finding::error_at(Code::RuleCall, argument.span, message);
            let words = self.words(argument.span);
            self.find(match known {
                Type::List if takes.accepts(Some(ValueKind::Map)) => {
                    finding.advise(instead(argument.span, first_of(&words), " for the first item"))
                }
                _ => finding,
            });
        }
    }

    /// A pattern that is no I-Regexp fits nothing (RFC 9535 section 2.4.6), which should not go unsaid.
    fn pattern_hint(&mut self, signature: &Signature, call: &Call) {
        let ("match" | "search", Some(pattern)) = (signature.name, call.arguments.get(1)) else {
            return;
        };
        if let ExprKind::Literal(Literal::Text(text)) = &pattern.kind
            && let Err(iregexp::NotIRegexp(why)) = iregexp::compile(text, true)
        {
            self.find(
                Finding::warning_at(
                    Code::RuleSuspect,
                    pattern.span,
                    format!("this is no I-Regexp, so it fits nothing: {why}"),
                )
                .advise("RFC 9485 has [0-9] for digits, \\p{L} for letters, and no anchors"),
            );
        }
    }

    fn call_def(&mut self, call: &Call, def: usize, span: Span) -> Expr {
        let arguments: Vec<Expr> =
            call.arguments.iter().map(|argument| self.value(argument)).collect();
        let state = &self.defs[def];
        if arguments.len() != state.parameters {
            let message = format!(
                "{}() takes {}, not {}",
                call.name,
                said(state.parameters),
                arguments.len()
            );
            let finding = Finding::error_at(Code::RuleCall, span, message).at(state.span);
            return self.broken(finding);
        }
        match self.inside_def {
            Some(caller) => self.defs[caller].calls.push(def),
            None => self.see_all(def, call),
        }
        Expr { kind: Kind::CallDef(def, arguments), span }
    }

    /// A header let may call only defs that see no later let than those before it.
    fn see_all(&mut self, def: usize, call: &Call) {
        let bound = self.scope.globals();
        let (mut seen, mut waiting) = (vec![def], vec![def]);
        while let Some(next) = waiting.pop() {
            let state = &self.defs[next];
            if state.checked.is_none() || state.visible > bound {
                let (message, also) = match next == def {
                    true => (format!("`{}` is defined below", call.name), state.span),
                    false => (
                        format!("`{}` calls `{}`, which is defined below", call.name, state.name),
                        state.span,
                    ),
                };
                self.find(
                    Finding::error_at(Code::RuleCall, call.name_span, message)
                        .at(also)
                        .advise("move it up"),
                );
                return;
            }
            for called in &state.calls {
                if !seen.contains(called) {
                    seen.push(*called);
                    waiting.push(*called);
                }
            }
        }
    }
}

fn said(count: usize) -> String {
    if count == 0 { "no arguments".into() } else { counted(count, "argument") }
}
