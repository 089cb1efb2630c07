//! Words that people bring along from elsewhere, and what is written here in their place.
//!
//! Operators and clauses come from ISO SQL and from programming languages; functions from everywhere. A word of these
//! tables means nothing in a rule. Where one stands, the finding says what to write.

/// Words that stand where an operator or a clause would, with what to write.
const OPERATORS: [(&str, &str); 40] = [
    ("and", "write && for `and`"),
    ("or", "write || for `or`"),
    ("not", "write ! for `not`: !(…)"),
    ("xor", "write != between two conditions in parentheses"),
    ("is", "write == null, present(…) for what is there, or type(…) == \"text\""),
    ("eq", "write =="),
    ("ne", "write !="),
    ("lt", "write <"),
    ("le", "write <="),
    ("gt", "write >"),
    ("ge", "write >="),
    ("mod", "write % for the remainder"),
    ("div", "write / and floor(…) for the whole part"),
    (
        "like",
        "write match(text, \"pattern\") for the whole text, search(…) for a part of it, starts_with(…) or ends_with(…)",
    ),
    ("matches", "write match(text, \"pattern\") for the whole text, search(…) for a part of it"),
    ("contains", "write contains(list or text, part)"),
    ("between", "write a <= x && x <= b"),
    ("desc", "write descending"),
    ("asc", "write ascending, or leave it out"),
    ("limit", "write first and the number of tuples: first 10"),
    ("top", "write first and the number of tuples: first 10"),
    ("offset", "write skip and the number of tuples: skip 10"),
    ("select", "write return and the value at the end: for x in $[*] where … return {x.a, x.b}"),
    ("from", "write for x in $[*] at the beginning of the clauses"),
    ("sort", "write order by"),
    ("sorted", "write order by"),
    ("orderby", "write order by"),
    ("groupby", "write group by"),
    ("having", "write where behind group by"),
    ("filter", "write where, or a filter in brackets: [?@.a == 1]"),
    ("join", "write a second for, and where a.id == b.id behind it"),
    ("on", "write where a.id == b.id"),
    ("union", "write [...a, ...b] for the items of both"),
    ("as", "write the name in front: {name: value} in a map, let name = value for a name"),
    ("distinct", "write distinct(list)"),
    ("elif", "write else if"),
    ("elseif", "write else if"),
    ("var", "write let"),
    ("const", "write let"),
    ("yield", "write return"),
];

/// Symbols that mean nothing here, with what to write.
const SYMBOLS: [(&str, &str); 4] = [
    ("<>", "write !="),
    ("===", "write =="),
    ("!==", "write !="),
    ("=~", "write match(text, \"pattern\") or search(…)"),
];

/// Names of functions, with those of this language.
const FUNCTIONS: [(&str, &str); 59] = [
    ("required", "it is called needed(value, message?)"),
    ("fail", "it is called error(message)"),
    ("raise", "it is called error(message)"),
    ("throw", "it is called error(message)"),
    ("not", "write !(…)"),
    ("and", "write a && b"),
    ("or", "write a || b"),
    ("if", "write if c then a else b"),
    ("select", "write a filter, [?@.a == 1], or for x in … where … return …"),
    ("filter", "write a filter, [?@.a == 1], or for x in … where … return …"),
    ("map", "write for x in list return …"),
    ("reduce", "write carry total from 0 = total + x.n in a for, or sum(…)"),
    ("size", "it is called length(value), or count(path) for the nodes of a path"),
    ("len", "it is called length(value), or count(path) for the nodes of a path"),
    ("mean", "it is called avg(items)"),
    ("average", "it is called avg(items)"),
    ("add", "it is called sum(items)"),
    ("total", "it is called sum(items)"),
    ("minimum", "it is called min(items)"),
    ("maximum", "it is called max(items)"),
    ("unique", "it is called distinct(items)"),
    ("uniq", "it is called distinct(items)"),
    ("any", "write exists(path[?…])"),
    ("some", "write exists(path[?…])"),
    ("all", "write !exists(path[?!(…)])"),
    ("every", "write !exists(path[?!(…)])"),
    ("is_null", "write e == null, or !present(e)"),
    ("isnull", "write a ?? b"),
    ("ifnull", "write a ?? b"),
    ("nvl", "write a ?? b"),
    ("coalesce", "write a ?? b"),
    ("default", "write a ?? b"),
    ("concat", "write f\"{a}{b}\" for texts, [...a, ...b] for lists"),
    ("substr", "it is called substring(text, from, to?)"),
    ("lcase", "it is called lower(text)"),
    ("lowercase", "it is called lower(text)"),
    ("ucase", "it is called upper(text)"),
    ("uppercase", "it is called upper(text)"),
    ("strip", "it is called trim(text)"),
    ("sub", "it is called replace(text, old, new), or replace_pattern(…)"),
    ("test", "write match(text, \"pattern\") for the whole text, search(…) for a part of it"),
    ("matches", "write match(text, \"pattern\") for the whole text, search(…) for a part of it"),
    ("like", "write match(text, \"pattern\") for the whole text, search(…) for a part of it"),
    ("int", "it is called number(text); floor(…), round(…) and ceiling(…) make numbers whole"),
    ("float", "it is called number(text)"),
    ("decimal", "it is called number(text)"),
    ("str", "it is called text(value)"),
    ("string", "it is called text(value)"),
    ("first", "write list[0], or first n in a for"),
    ("last", "write list[-1]"),
    ("group_by", "write for x in list group by k = x.a return …"),
    ("sort_by", "write for x in list order by x.a return x"),
    ("order_by", "write for x in list order by x.a return x"),
    ("flat", "it is called flatten(items)"),
    ("ceil", "it is called ceiling(number)"),
    ("trunc", "write floor(…), or ceiling(…) below 0"),
    ("typeof", "it is called type(value)"),
    ("parse", "write decode(\"json\", text)"),
    ("print", "write note(value, message) for a message at the end of the run"),
];

fn find(table: &[(&str, &'static str)], word: &str) -> Option<&'static str> {
    table.iter().find(|(known, _)| known.eq_ignore_ascii_case(word)).map(|(_, instead)| *instead)
}

/// What to write where `word` stands for an operator or a clause.
pub(crate) fn instead_of_operator(word: &str) -> Option<&'static str> {
    find(&OPERATORS, word)
}

/// What to write for the symbol that `text` begins with.
pub(crate) fn instead_of_symbol(text: &str) -> Option<(&'static str, &'static str)> {
    SYMBOLS.into_iter().filter(|(symbol, _)| text.starts_with(symbol)).max_by_key(|(s, _)| s.len())
}

/// What to call in place of a function of this name.
pub(crate) fn instead_of_function(name: &str) -> Option<&'static str> {
    find(&FUNCTIONS, name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::functions::Signature;
    use crate::syntax::CLAUSE_WORDS;

    /// A word that came to mean something would be answered with the wrong advice.
    #[test]
    fn none_of_the_words_means_something() {
        for (word, _) in OPERATORS {
            assert!(!CLAUSE_WORDS.contains(&word), "{word}");
        }
        for (name, _) in FUNCTIONS {
            assert!(Signature::find(name).is_none(), "{name}");
        }
    }

    /// What is offered exists.
    #[test]
    fn the_functions_that_are_offered_exist() {
        for (_, advice) in OPERATORS.iter().chain(&FUNCTIONS) {
            for (at, _) in advice.match_indices('(') {
                let name = advice[..at].rsplit(|c: char| !c.is_alphanumeric() && c != '_').next();
                let name = name.unwrap_or_default();
                assert!(name.is_empty() || Signature::find(name).is_some(), "{advice}: {name}");
            }
        }
    }
}
