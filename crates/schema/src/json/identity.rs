//! When two values are the same (JSON Schema draft-07 validation section 6.1, and RFC 8259): numbers by value, maps whatever the
//! order of their members.

use kyanite_tree::Value;

/// A text that is the same for values that are the same, and for no others.
pub(super) fn identity(value: Value<'_>) -> String {
    let mut out = String::new();
    write(value, &mut out);
    out
}

fn write(value: Value<'_>, out: &mut String) {
    let text = |sort: char, text: &str, out: &mut String| {
        out.push(sort);
        out.push_str(&text.len().to_string());
        out.push(':');
        out.push_str(text);
    };
    match value.simple() {
        Value::Null(_) => out.push('n'),
        Value::Boolean(_, value) => out.push(if value { 't' } else { 'f' }),
        Value::Number(_, number) => match number.decimal() {
            Ok(decimal) => text('#', &decimal.to_string(), out),
            // Numbers of more digits than are computed with are the same if they are written so.
            Err(_) => text('#', number.as_str(), out),
        },
        Value::List(_, items) => {
            out.push('[');
            items.iter().for_each(|item| write(*item, out));
            out.push(']');
        }
        Value::Map(_, map) => {
            let mut members: Vec<_> = map.members().iter().collect();
            members.sort_unstable_by_key(|member| member.name);
            out.push('{');
            for member in members {
                text('k', member.name, out);
                write(member.value, out);
            }
            out.push('}');
        }
        other => text('s', other.scalar_text().unwrap_or_default(), out),
    }
}
