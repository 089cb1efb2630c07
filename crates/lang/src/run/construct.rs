//! Values that a rule writes out: f-texts, lists and maps.

use kyanite_formats::record_view::View;
use kyanite_tree::{Code, Kind as ValueKind, MapBuilder, Origin, Value};

use super::Runner;
use crate::plan::{Entry, Expr, Item, Piece};
use crate::rule_error::{RuleError, RunResult, instead, rule_error, text_of};

impl<'a> Runner<'_, 'a> {
    pub(super) fn template(&mut self, pieces: &'a [Piece]) -> RunResult<Value<'a>> {
        let mut texts = Vec::with_capacity(pieces.len());
        for piece in pieces {
            texts.push(match piece {
                Piece::Text(text) => text.as_str(),
                Piece::Value(expr) => match self.value(expr)? {
                    None => return Err(self.missing(expr, None, "an f-text needs a value")),
                    null @ Some(Value::Null(_)) => {
                        return Err(self.missing(expr, null, "an f-text needs a value"));
                    }
                    Some(value) => value.scalar_text().ok_or_else(|| {
                        let words = self.plan.rule.slice(expr.span);
                        let message = match value.kind() {
                            ValueKind::Element => format!("`{words}` has elements in it"),
                            kind => format!("`{words}` is {}, which has no text", kind.phrase()),
                        };
                        let failed = rule_error(Code::ValueKind, expr.span, message);
                        failed.about(Some(value)).advise(match value.kind() {
                            ValueKind::Element => text_of(expr.span, &words),
                            ValueKind::List => {
                                "write join(…) for the items one behind the other".into()
                            }
                            _ => "write encode(\"json\", …) for it as JSON".into(),
                        })
                    })?,
                },
            });
        }
        Ok(Value::text(self.arena.concat(&texts)))
    }

    pub(super) fn list(&mut self, items: &'a [Item]) -> RunResult<Value<'a>> {
        let mut values = Vec::with_capacity(items.len());
        for item in items {
            let value = self.value(&item.value)?;
            match (item.spread, value) {
                (false, Some(value)) => values.push(value),
                (false, None) => {
                    return Err(self.missing(&item.value, None, "an item of a list must be there"));
                }
                (true, Some(Value::List(_, spread))) => values.extend_from_slice(spread),
                (true, None) => {}
                (true, Some(other)) => return Err(self.not_spread(&item.value, other, "a list")),
            }
        }
        Ok(self.arena.list(&values))
    }

    pub(super) fn map(&mut self, entries: &'a [Entry]) -> RunResult<Value<'a>> {
        let mut builder = MapBuilder::reusing(self.spare_members.pop().unwrap_or_default());
        for entry in entries {
            let (name, value) = match entry {
                Entry::Named(name, value) => (name.as_str(), self.value(value)?),
                Entry::Computed(name, value) => (self.computed_name(name)?, self.value(value)?),
                Entry::Spread(spread) => {
                    let Some(value) = self.value(spread)? else { continue };
                    let record = match value {
                        Value::Element(..) => View::default().record(value, self.arena),
                        other => other,
                    };
                    let Value::Map(_, map) = record else {
                        return Err(self.not_spread(spread, value, "a map"));
                    };
                    for member in map.members() {
                        builder.insert(member.name, member.value);
                    }
                    continue;
                }
            };
            // A member whose expression gives nothing is left out.
            if let Some(value) = value {
                builder.insert(name, value);
            }
        }
        let (map, members) = builder.finish_and_empty(self.arena);
        self.spare_members.push(members);
        Ok(Value::Map(Origin::NONE, map))
    }

    fn computed_name(&mut self, name: &'a Expr) -> RunResult<&'a str> {
        match self.value(name)?.map(Value::simple) {
            Some(Value::Text(_, text) | Value::Untyped(_, text)) => Ok(text),
            None => Err(self.missing(name, None, "a member needs a name")),
            Some(other) => {
                let message =
                    format!("the name of a member is a text; this is {}", other.kind().phrase());
                let words = self.plan.rule.slice(name.span);
                Err(rule_error(Code::ValueKind, name.span, message)
                    .about(Some(other))
                    .advise(instead(name.span, format!("text({words})"), "")))
            }
        }
    }

    fn not_spread(&mut self, spread: &'a Expr, value: Value<'a>, wanted: &str) -> RuleError {
        let message = format!("`...` copies {wanted} here; this is {}", value.kind().phrase());
        rule_error(Code::ValueKind, spread.span, message).about(Some(value))
    }
}
