//! Words and symbols that people bring along from elsewhere are answered where they stand, with what to write.

use kyanite_lang::{RuleText, Syntax, compile};

#[test]
fn words_from_elsewhere_are_answered() {
    for (rule, marked, advice) in [
        ("$[?@.a == 1 and @.b == 2]", "and", "write && for `and`"),
        ("for b in $[*] where b.a == 1 or b.b == 2 return b", "or", "write || for `or`"),
        ("for b in $[*] where not b.x return b", "not", "write ! for `not`: !(…)"),
        ("for b in $[*] where not(b.x == 1) return b", "not", "write !(…)"),
        ("for b in $[*] where b.id = 1 return b", "=", "write =="),
        ("for b in $[*] where b.id <> 1 return b", "<>", "write !="),
        ("for b in $[*] where b.id === 1 return b", "===", "write =="),
        ("for b in $[*] order by b.id desc return b", "desc", "write descending"),
        ("for b in $[*] order by b.id asc return b", "asc", "write ascending, or leave it out"),
        (
            "for b in $[*] limit 3 return b",
            "limit",
            "write first and the number of tuples: first 10",
        ),
        ("for b in $[*] sort by b.id return b", "sort", "write order by"),
        (
            "for b in $[*] group by b.id having 1 > 0 return b",
            "having",
            "write where behind group by",
        ),
        (
            "[1 as one]",
            "as",
            "write the name in front: {name: value} in a map, let name = value for a name",
        ),
        ("required($.a)", "required", "it is called needed(value, message?)"),
        ("fail('x')", "fail", "it is called error(message)"),
    ] {
        let (text, findings) = compile(RuleText::new("rule", rule), Syntax::Rule).expect_err(rule);
        let first = &findings[0];
        assert_eq!(
            (
                text.slice(first.places()[0]).as_str(),
                first.advice().map(ToString::to_string).as_deref()
            ),
            (marked, Some(advice)),
            "{rule}"
        );
    }
    let select = "select b from $[*]";
    let (text, findings) = compile(RuleText::new("rule", select), Syntax::Rule).expect_err(select);
    assert_eq!(text.slice(findings[0].places()[0]), "select");
    let advice = findings[0].advice().map(ToString::to_string).unwrap_or_default();
    assert!(advice.starts_with("write return and the value at the end"), "{advice}");
}

/// A member may be called like any of these words.
#[test]
fn members_may_be_called_so() {
    for rule in ["$.select.from", "{and: $.or, limit: $.not}", "for not in $[*] return not.as"] {
        assert!(compile(RuleText::new("rule", rule), Syntax::Rule).is_ok(), "{rule}");
    }
    let rule = "for b in $[*] where b.select b.x return b";
    let (text, findings) = compile(RuleText::new("rule", rule), Syntax::Rule).expect_err(rule);
    assert_eq!(text.slice(findings[0].places()[0]), "b");
}
