//! Patterns of XML Schema written as those of ECMA-262, where that has the same classes of characters.

/// The pattern of ECMA-262 (with its flag `u`) that fits a text just where `pattern`, one of XML Schema, fits it whole. Nothing where
/// it has a class that ECMA-262 cannot write: names of XML, blocks, differences of classes.
///
/// ```
/// use kyanite_eval::pattern::xsd;
///
/// assert_eq!(xsd::to_ecma(r"TB-\d{6}").as_deref(), Some(r"^(?:TB-\p{Nd}{6})$"));
/// assert_eq!(xsd::to_ecma(r"[a-z-[aeiou]]+"), None);
/// ```
#[must_use]
pub fn to_ecma(pattern: &str) -> Option<String> {
    let mut out = String::from("^(?:");
    let mut rest = pattern.chars().peekable();
    let mut in_class = false;
    while let Some(sign) = rest.next() {
        match sign {
            '\\' => {
                let escaped = rest.next()?;
                match (escaped, in_class) {
                    ('d', _) => out.push_str(r"\p{Nd}"),
                    ('D', _) => out.push_str(r"\P{Nd}"),
                    ('s', true) => out.push_str(r" \t\n\r"),
                    ('s', false) => out.push_str(r"[ \t\n\r]"),
                    ('S', false) => out.push_str(r"[^ \t\n\r]"),
                    ('w', false) => out.push_str(r"[^\p{P}\p{Z}\p{C}]"),
                    ('W', false) => out.push_str(r"[\p{P}\p{Z}\p{C}]"),
                    ('p' | 'P', _) => {
                        let category: String =
                            rest.by_ref().take_while(|sign| *sign != '}').collect();
                        let category = category.strip_prefix('{')?;
                        if category.starts_with("Is") {
                            return None;
                        }
                        out.push_str(&format!("\\{escaped}{{{category}}}"));
                    }
                    // Outside of classes it stands for itself, and may not be escaped.
                    ('-', false) => out.push('-'),
                    ('S' | 'w' | 'W' | 'i' | 'I' | 'c' | 'C', _) => return None,
                    (other, _) => out.extend(['\\', other]),
                }
            }
            '[' if in_class => return None,
            '[' => {
                in_class = true;
                out.push('[');
                if rest.next_if_eq(&'^').is_some() {
                    out.push('^');
                }
            }
            ']' => {
                in_class = false;
                out.push(']');
            }
            '.' if !in_class => out.push_str(r"[^\n\r]"),
            // They are anchors in ECMA-262, and signs like others here.
            '^' | '$' => out.extend(['\\', sign]),
            other => out.push(other),
        }
    }
    out.push_str(")$");
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pattern::{ecma, xsd};

    #[test]
    fn both_fit_the_same_texts() {
        for pattern in [
            r"TB-\d{6}",
            r"[A-Z]{2,3}|\.",
            r"\s*x\S+",
            r"a.b",
            r"^$",
            r"[^a-c]\-[\-x]",
            r"\p{Lu}\P{Lu}*",
            r"\w+\W",
            r"(a|b)?[+\-]",
            r"[\s,]*",
            r"a\\b",
            r"[.^$]",
        ] {
            let (own, other) = (xsd::compile(pattern).unwrap(), to_ecma(pattern).unwrap());
            let other = ecma::compile(&other).unwrap();
            for text in [
                "TB-123456",
                "TB-12345",
                "AB",
                "ABCD",
                ".",
                " x\u{e9}",
                "x y",
                "a\u{e9}b",
                "a\nb",
                "^$",
                "",
                "z-x",
                "a--",
                "z--",
                "\u{c9}tat",
                "\u{e9}",
                "word!",
                "!",
                "a+",
                "+",
                "b-",
                " ,",
                "a\\b",
                "$",
                "TB-\u{661}23456",
            ] {
                assert_eq!(own.is_match(text), other.is_match(text), "{pattern} {text:?}");
            }
        }
        for pattern in [r"\i\c*", r"[a-z-[b]]", r"\p{IsGreek}", r"[\w]"] {
            assert_eq!(to_ecma(pattern), None, "{pattern}");
        }
    }
}
