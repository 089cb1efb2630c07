//! Edits of TOML, by a document that keeps what is written around its values.

use kyanite_tree::{ForeignType, Member, Value};
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value as Written};

use super::{EditProblem, Edits, problem};
use crate::difference::{Aligned, Delta};

/// The text with a difference made in it.
pub(super) fn edited(text: &str, delta: &Delta<'_>) -> Edits<String> {
    let mut document: DocumentMut = text.parse().map_err(|_| {
        problem("the text is not read as TOML 1.0", "write the result to another file", None)
    })?;
    apply(document.as_item_mut(), delta)?;
    Ok(document.to_string())
}

fn misplaced() -> EditProblem {
    problem(
        "a value is changed that is not written where it stands",
        "write the result to another file",
        None,
    )
}

fn apply(item: &mut Item, delta: &Delta<'_>) -> Edits<()> {
    match delta {
        Delta::Same | Delta::Element => Ok(()),
        Delta::Other(value) => replace(item, *value),
        Delta::Map { removed, added, changed, .. } => {
            let table = item.as_table_like_mut().ok_or_else(misplaced)?;
            for name in removed {
                table.remove(name);
            }
            for (name, delta) in changed {
                apply(table.get_mut(name).ok_or_else(misplaced)?, delta)?;
            }
            for Member { name, value } in added {
                table.insert(name, new_item(*value)?);
            }
            if let Some(table) = item.as_inline_table_mut().filter(|_| !added.is_empty()) {
                end_evenly(table, added.len());
            }
            Ok(())
        }
        Delta::List { removed, items } => match item {
            Item::ArrayOfTables(tables) => {
                for at in removed.iter().rev() {
                    tables.remove(*at);
                }
                for (at, item) in items.iter().enumerate() {
                    match item {
                        Aligned::Both { is_moved: false, delta, .. } => {
                            let table = tables.get_mut(at).ok_or_else(misplaced)?;
                            let mut inner = Item::Table(std::mem::take(table));
                            let done = apply(&mut inner, delta);
                            *table = inner.into_table().map_err(|_| misplaced())?;
                            done?;
                        }
                        // Tables stand where their headers do: one that is added comes last.
                        Aligned::Added(value) if at == tables.len() => {
                            let mut table = Table::new();
                            for member in value.as_map().ok_or_else(misplaced)?.members() {
                                table.insert(member.name, new_item(member.value)?);
                            }
                            tables.push(table);
                        }
                        _ => return Err(misplaced()),
                    }
                }
                Ok(())
            }
            item => {
                let array = item.as_array_mut().ok_or_else(misplaced)?;
                in_array(array, removed, items)
            }
        },
    }
}

/// What stood behind the last value of a table in braces stands behind the last of those that were added.
fn end_evenly(table: &mut InlineTable, added: usize) {
    let before = table.len().saturating_sub(added + 1);
    let mut values = table.iter_mut().map(|(_, value)| value).skip(before);
    let Some(last) = values.next() else { return };
    let tail = last.decor().suffix().cloned().unwrap_or_default();
    last.decor_mut().set_suffix("");
    if let Some(end) = values.last() {
        end.decor_mut().set_prefix(" ");
        end.decor_mut().set_suffix(tail);
    }
}

fn in_array(array: &mut Array, removed: &[usize], items: &[Aligned<'_>]) -> Edits<()> {
    for at in removed.iter().rev() {
        array.remove(*at);
    }
    for (at, item) in items.iter().enumerate() {
        match item {
            Aligned::Both { is_moved: false, delta, .. } => {
                let Some(value) = array.get_mut(at) else { return Err(misplaced()) };
                let mut inner = Item::Value(value.clone());
                apply(&mut inner, delta)?;
                *value = inner.into_value().map_err(|_| misplaced())?;
            }
            Aligned::Added(value) => {
                let written = written(*value)?;
                // As the items beside it are laid out.
                match array.get(at.saturating_sub(1)).map(|beside| beside.decor().clone()) {
                    Some(decor) if at > 0 => {
                        let mut written = written;
                        *written.decor_mut() = decor;
                        array.insert_formatted(at, written);
                    }
                    _ => array.insert(at, written),
                }
            }
            Aligned::Both { .. } => return Err(misplaced()),
        }
    }
    Ok(())
}

/// Puts another value in the place of one, with what stands around it.
fn replace(item: &mut Item, value: Value<'_>) -> Edits<()> {
    let mut new = written(value)?;
    let Some(old) = item.as_value() else { return Err(misplaced()) };
    *new.decor_mut() = old.decor().clone();
    *item = Item::Value(new);
    Ok(())
}

fn new_item(value: Value<'_>) -> Edits<Item> {
    written(value).map(Item::Value)
}

/// A value as TOML has it on one line.
fn written(value: Value<'_>) -> Edits<Written> {
    Ok(match value {
        Value::Null(_) => {
            return Err(problem("TOML has no null", "leave the member out", None));
        }
        Value::Boolean(_, boolean) => Written::from(boolean),
        Value::Number(_, number) => number.as_str().parse().map_err(|_| {
            let message = format!("{} cannot be a number of TOML", number.as_str());
            problem(message, "it has numbers of 64 bits", None)
        })?,
        Value::Foreign(_, foreign)
            if matches!(foreign.of, ForeignType::DateTime | ForeignType::NotFinite) =>
        {
            foreign.text.parse().map_err(|_| misplaced())?
        }
        Value::Text(_, text) | Value::Untyped(_, text) => Written::from(text),
        Value::Foreign(_, foreign) => Written::from(foreign.text),
        Value::List(_, items) => {
            let items = items.iter().map(|item| written(*item)).collect::<Edits<Vec<Written>>>()?;
            Written::Array(items.into_iter().collect())
        }
        Value::Map(_, map) => {
            let mut table = InlineTable::new();
            for member in map.members() {
                table.insert(member.name, written(member.value)?);
            }
            Written::InlineTable(table)
        }
        Value::Element(..) => return Err(misplaced()),
    })
}
