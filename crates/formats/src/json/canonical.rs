//! Canonical JSON (RFC 8785): one spelling for each value.

use kyanite_tree::{Member, Number, Value};

use super::write::write_text;
use crate::losses::{Loss, Losses};

/// Appends `value` in its canonical form, without a line end. Numbers become those that a double holds, which the RFC
/// demands; where that changes a value it is a loss.
///
/// # Errors
/// The number that no double can hold.
pub fn write_canonical<'v>(
    value: Value<'v>,
    out: &mut Vec<u8>,
    losses: &mut Losses,
) -> Result<(), Number<'v>> {
    match value {
        Value::Number(origin, number) => {
            let double: f64 = number.as_str().parse().unwrap_or(f64::NAN);
            if !double.is_finite() {
                return Err(number);
            }
            if !survives_double(number) {
                losses.add(Loss::Precision, origin);
            }
            out.extend_from_slice(ryu_js::Buffer::new().format_finite(double).as_bytes());
        }
        Value::List(_, items) => {
            out.push(b'[');
            for (position, item) in items.iter().enumerate() {
                if position > 0 {
                    out.push(b',');
                }
                write_canonical(*item, out, losses)?;
            }
            out.push(b']');
        }
        Value::Map(_, map) => {
            let mut members: Vec<&Member<'_>> = map.members().iter().collect();
            // By UTF-16 code units (section 3.2.3).
            members.sort_by(|a, b| a.name.encode_utf16().cmp(b.name.encode_utf16()));
            out.push(b'{');
            for (position, member) in members.iter().enumerate() {
                if position > 0 {
                    out.push(b',');
                }
                write_text(member.name, out);
                out.push(b':');
                write_canonical(member.value, out, losses)?;
            }
            out.push(b'}');
        }
        other => super::write(other, super::Style::Compact, out),
    }
    Ok(())
}

/// Whether a double holds a number exactly as it is written: reading the shortest spelling of the double gives the same
/// value again.
#[must_use]
pub fn survives_double(number: Number<'_>) -> bool {
    let Ok(double) = number.as_str().parse::<f64>() else { return false };
    if !double.is_finite() {
        return false;
    }
    let mut buffer = ryu_js::Buffer::new();
    let shortest = Number::from_checked(buffer.format_finite(double)).decimal();
    matches!((number.decimal(), shortest), (Ok(written), Ok(kept)) if written == kept)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::json::{ReaderOptions, document};
    use kyanite_tree::Arena;

    /// The examples of RFC 8785 sections 3.2.2 and 3.2.3, and numbers of its appendix B.
    #[test]
    fn examples_of_the_rfc() {
        let arena = Arena::new();
        for (json, canonical, lossy) in [
            (
                r#"{"numbers": [333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001],
                    "string": "\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/", "literals": [null, true, false]}"#,
                r#"{"literals":[null,true,false],"numbers":[333333333.3333333,1e+30,4.5,0.002,1e-27],"string":"€$\u000f\nA'B\"\\\\\"/"}"#,
                true,
            ),
            (
                r#"{"\u20ac": 1, "\r": 2, "\ufb33": 3, "1": 4, "\ud83d\ude00": 5, "\u0080": 6, "\u00f6": 7}"#,
                "{\"\\r\":2,\"1\":4,\"\u{80}\":6,\"ö\":7,\"€\":1,\"😀\":5,\"\u{fb33}\":3}",
                false,
            ),
            ("-0", "0", false),
            ("9007199254740993", "9007199254740992", true),
            ("1e21", "1e+21", false),
            ("100", "100", false),
        ] {
            let (value, _) = document(json, &arena, ReaderOptions::default()).unwrap();
            let (mut out, mut losses) = (Vec::new(), Losses::default());
            write_canonical(value, &mut out, &mut losses).unwrap();
            assert_eq!(String::from_utf8(out).unwrap(), canonical);
            assert_eq!(!losses.is_empty(), lossy, "{json}");
        }
        let (huge, _) = document("1e400", &arena, ReaderOptions::default()).unwrap();
        assert!(write_canonical(huge, &mut Vec::new(), &mut Losses::default()).is_err());
    }
}
