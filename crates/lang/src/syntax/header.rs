//! A whole rule: its header items, and its body.

use kyanite_tree::Code;

use super::ast::{Binding, Clause, ClauseKind, Expr, ExprKind, HeaderItem, Loop, ParamType, Rule};
use super::lexer::Token;
use super::parser::{Parsed, Parser};
use crate::finding::{Finding, near_advice};

/// What a header item may begin a line with; for going on after an error.
const ITEM_WORDS: [&str; 11] = [
    "param",
    "use",
    "source",
    "output",
    "namespace",
    "expects",
    "ensures",
    "def",
    "let",
    "for",
    "return",
];

impl Parser<'_> {
    /// Parses header and body.
    pub(super) fn rule(&mut self) -> Parsed<Rule> {
        let mut header = Vec::new();
        let body = loop {
            match self.header_item() {
                Ok(Part::Item(item)) => header.push(item),
                Ok(Part::LetOfBody(clause)) => break self.clauses_after_let(clause)?,
                Ok(Part::Body) => break self.body()?,
                Err(finding) => {
                    self.ends_with_line = false;
                    if !self.skip_to_line(ITEM_WORDS) {
                        return Err(finding);
                    }
                    self.findings.push(finding);
                }
            }
        };
        if self.next.token != Token::End {
            return Err(self.not_a_clause());
        }
        Ok(Rule { header, body })
    }

    fn body(&mut self) -> Parsed<Expr> {
        if self.next.token == Token::End {
            return Err(self
                .unexpected("the rule has no body")
                .advise("end it with an expression, such as $ for the whole document"));
        }
        self.items.push(self.next.span.start);
        // After a header, `return e` is the body that uses the header's names.
        if self.at_word("return") {
            self.advance()?;
        }
        self.whole()
    }

    fn clauses_after_let(&mut self, clause: Clause) -> Parsed<Expr> {
        self.clauses.push(clause.span.start);
        if self.at_word("return") {
            let start = clause.span.start;
            self.clauses.push(self.next.span.start);
            self.advance()?;
            let result = self.whole()?;
            let kind = ExprKind::Loop(Box::new(Loop { clauses: vec![clause], result }));
            return Ok(Expr { kind, span: self.span_from(start) });
        }
        self.clauses_after(vec![clause])
    }

    fn header_item(&mut self) -> Parsed<Part> {
        let start = self.next.span.start;
        self.items.push(start);
        let Token::Name(word) = &self.next.token else { return Ok(Part::Body) };
        match word.as_str() {
            "let" => {
                self.advance()?;
                self.ends_with_line = true;
                let (name, value) = self.let_binding()?;
                self.ends_with_line = false;
                // On the same line the clauses of the body may go on.
                let goes_on = ["let", "for", "return"].iter().any(|word| self.at_word(word));
                if goes_on && !self.next.on_new_line {
                    let kind = ClauseKind::Let(name, value);
                    return Ok(Part::LetOfBody(Clause { kind, span: self.span_from(start) }));
                }
                self.item_end()?;
                Ok(Part::Item(HeaderItem::Let(name, value)))
            }
            "param" if self.lexer.next_begins_name() => self.item(Self::param),
            "use" if self.lexer.next_begins_text() => self.item(Self::library_use),
            "source" if self.lexer.next_begins_name() => self.item(Self::source),
            "output" if self.lexer.next_begins_name() => self.item(Self::output),
            "namespace" if self.lexer.next_begins_name() || self.lexer.next_is_equals() => {
                self.item(Self::namespace)
            }
            "expects" if self.lexer.next_begins_text() => self.item(Self::expects),
            "ensures" if self.lexer.next_begins_text() => self.item(Self::ensures),
            "def" if self.lexer.next_begins_name() => self.item(Self::def),
            _ => Ok(Part::Body),
        }
    }

    /// A header item behind its word, up to its end.
    fn item(&mut self, parse: fn(&mut Self) -> Parsed<HeaderItem>) -> Parsed<Part> {
        self.advance()?;
        self.ends_with_line = true;
        let item = parse(self)?;
        self.ends_with_line = false;
        self.item_end()?;
        Ok(Part::Item(item))
    }

    /// A header item ends with its line or at a semicolon.
    fn item_end(&mut self) -> Parsed<()> {
        if self.take(";")? || self.next.on_new_line || self.next.token == Token::End {
            return Ok(());
        }
        let words = self.next_words();
        Err(self
            .unexpected(&format!("{words} does not continue this header item"))
            .advise("end the item with a line end or a semicolon"))
    }

    fn param(&mut self) -> Parsed<HeaderItem> {
        let name = self.binding("the param")?;
        let (mut of, mut optional) = (ParamType::Any, false);
        if self.take(":")? {
            let span = self.next.span;
            let Token::Name(word) = &self.next.token else {
                return Err(self.unexpected("the type of the param is missing here"));
            };
            let Some((_, known)) = ParamType::ALL.iter().find(|(name, _)| name == word) else {
                let types = ParamType::ALL.map(|(name, _)| name);
                let advice = near_advice(span, word, types)
                    .unwrap_or_else(|| format!("types are {}", types.join(", ")).into());
                return Err(Finding::error_at(
                    Code::RuleSyntax,
                    span,
                    format!("`{word}` is no type"),
                )
                .advise(advice));
            };
            of = *known;
            self.advance()?;
            optional = self.take("?")?;
        }
        let default = if self.take("=")? { Some(self.whole()?) } else { None };
        Ok(HeaderItem::Param { name, of, optional, default })
    }

    fn output(&mut self) -> Parsed<HeaderItem> {
        let span = self.next.span;
        let Token::Name(format) = &self.next.token else {
            return Err(self.unexpected("the format of the output is missing here"));
        };
        let mut format = Binding { name: format.clone(), span };
        self.advance()?;
        // The names of formats may have a minus.
        while self.at_symbol("-") && !self.next.after_blank {
            self.advance()?;
            if let Token::Name(more) = &self.next.token {
                format.name = format!("{}-{more}", format.name);
                format.span = span.to(self.next.span);
                self.advance()?;
            }
        }
        let has_options = self.at_symbol("{") && !self.next.on_new_line;
        let options = if has_options { Some(self.whole()?) } else { None };
        Ok(HeaderItem::Output { format, options })
    }

    /// The header items of a library: defs, and the libraries that it uses itself.
    pub(super) fn library(&mut self) -> Parsed<Vec<HeaderItem>> {
        let mut items = Vec::new();
        while self.next.token != Token::End {
            let start = self.next.span;
            match self.header_item()? {
                Part::Item(item @ (HeaderItem::Def { .. } | HeaderItem::Use { .. })) => {
                    items.push(item)
                }
                _ => {
                    let span = start.to(self.next.span);
                    return Err(Finding::error_at(
                        Code::RuleSyntax,
                        span,
                        "a library has defs, and nothing else",
                    )
                    .advise("put the rest into the rule that uses it"));
                }
            }
        }
        Ok(items)
    }

    fn library_use(&mut self) -> Parsed<HeaderItem> {
        let Token::Text(file) = &self.next.token else {
            return Err(self.unexpected("the file of the library is missing here, in quotes"));
        };
        let file = file.clone();
        self.advance()?;
        Ok(HeaderItem::Use { file })
    }

    fn expects(&mut self) -> Parsed<HeaderItem> {
        Ok(HeaderItem::Expects { file: self.schema_file()? })
    }

    fn ensures(&mut self) -> Parsed<HeaderItem> {
        Ok(HeaderItem::Ensures { file: self.schema_file()? })
    }

    fn schema_file(&mut self) -> Parsed<String> {
        let Token::Text(file) = &self.next.token else {
            return Err(self.unexpected("the file of the schema is missing here, in quotes"));
        };
        let file = file.clone();
        self.advance()?;
        Ok(file)
    }

    fn source(&mut self) -> Parsed<HeaderItem> {
        let name = self.binding("the source")?;
        self.expect("=", "after the name of the source")?;
        let Token::Text(file) = &self.next.token else {
            return Err(self.unexpected("the file of the source is missing here, in quotes"));
        };
        let file = file.clone();
        self.advance()?;
        Ok(HeaderItem::Source { name, file })
    }

    fn namespace(&mut self) -> Parsed<HeaderItem> {
        let prefix = if self.at_symbol("=") { None } else { Some(self.binding("the prefix")?) };
        self.expect("=", "after the prefix")?;
        let Token::Text(uri) = &self.next.token else {
            return Err(self.unexpected("the URI of the namespace is missing here, in quotes"));
        };
        let (uri, span) = (uri.clone(), self.next.span);
        self.advance()?;
        Ok(HeaderItem::Namespace { prefix, uri, span })
    }

    fn def(&mut self) -> Parsed<HeaderItem> {
        let name = self.binding("the def")?;
        self.expect("(", "after the name of the def")?;
        let mut parameters: Vec<Binding> = Vec::new();
        while !self.at_symbol(")") {
            let parameter = self.binding("the parameter")?;
            if let Some(first) = parameters.iter().find(|known| known.name == parameter.name) {
                let message = format!("the parameter `{}` is written twice", parameter.name);
                return Err(
                    Finding::error_at(Code::RuleSyntax, parameter.span, message).at(first.span)
                );
            }
            parameters.push(parameter);
            if !self.take(",")? && !self.at_symbol(")") {
                return Err(self.unexpected("a comma or `)` is missing here"));
            }
        }
        self.advance()?;
        self.expect("=", "before the body of the def")?;
        Ok(HeaderItem::Def { name, parameters, body: self.whole()? })
    }
}

/// What stands at the start of a line of the header.
enum Part {
    Item(HeaderItem),
    /// A let whose line goes on with clauses.
    LetOfBody(Clause),
    Body,
}

#[cfg(test)]
mod tests {
    use super::super::parse;

    /// Rules that parse.
    #[test]
    fn accepted() {
        for rule in [
            "$",
            "$.a[*]['b c'][0, 1:2, ?@.x == 1]..d",
            "let a = 1\n[a]",
            "let a = 1\n-a",
            "let a = $\n  .b\n  .c\na",
            "let a = 1 +\n 2\na",
            "let a = $.b return a.c",
            "let a = $.b let c = a for x in c[*] return x",
            "param p: text? ; param q = 5; p",
            "def f(a, b) = a + b\nf(1, 2)",
            "for x at i in $[*] where x > 1 && !(x == 3) skip 1 first 2 return {x, i}",
            "for x in $[*]\nfor y in x.ys[*]\nreturn if x then y else for z in y return z",
            "{a: 1, 'b c': 2, (\"x\"): 3, $.d.e, ...$.f, for: 4,}",
            "[1, ...$.a, -2]",
            "f\"{$.a}: {{}} {\"q\"} {f'{1}'}\"",
            "case $.a when 'x', 'y' then 1 else 2 end + 1",
            "case when $.a == 1 then 'x' end",
            "let skip = 1\nlet first = 2\nskip + first",
            "a ?? -1",
        ] {
            assert!(parse(rule).is_ok(), "{rule}: {:?}", parse(rule));
        }
    }

    /// Rules that do not, what is said, and the bytes that are marked.
    #[test]
    fn refused() {
        for (rule, message, start, end) in [
            ("", "the rule has no body", 0, 1),
            ("$.a.", "a name is missing between `.` and the end of the rule", 4, 5),
            ("$.a b", "`b` does not continue this rule", 4, 5),
            ("$.leg-from", "a minus touches names on both sides", 2, 10),
            ("$[a]", "a name in brackets needs quotes", 2, 3),
            ("$[]", "these brackets are empty", 1, 3),
            ("$.[0]", "a bracket stands after `.`", 2, 3),
            ("$. a", "a blank stands after `.`", 3, 4),
            ("$.0", "a number stands after a dot", 2, 3),
            ("$[-0]", "-0 is no index", 2, 4),
            ("$[1.5]", "an index is a whole number without an exponent", 2, 5),
            ("$[9007199254740992]", "this index is outside -(2^53-1) to 2^53-1", 2, 18),
            ("1 < 2 < 3", "comparisons do not chain", 6, 7),
            ("!$.a == 1", "`!` binds tighter than a comparison", 0, 4),
            ("$.a = 1", "a single `=` compares nothing", 4, 5),
            ("$.a & 1", "a single `&` means nothing", 4, 5),
            ("0700", "a number has no zeros in front", 0, 4),
            ("12px", "this is neither number nor name", 0, 4),
            ("'a", "this text is not closed on its line", 0, 1),
            ("'\\x'", "this backslash begins no escape", 1, 3),
            ("'\\\"'", "this backslash begins no escape", 1, 3),
            ("f\"{1\"", "this text is not closed on its line", 4, 5),
            ("f\"}\"", "a `}` stands alone in this f-text", 2, 3),
            ("1 + if true then 1", "`if` cannot stand inside an operator", 4, 6),
            ("for x in $[*]", "the clauses have no `return`", 13, 14),
            ("for x in $[*] wehre x return x", "`wehre` does not continue this rule", 14, 19),
            ("where true return 1", "an expression is missing before `where`", 0, 5),
            ("let where = 1\n2", "`where` is a word of the language, not a name", 4, 9),
            ("{a: 1, a: 2}", "the member `a` is written twice", 7, 8),
            ("{$.a[0]}", "this member has no name", 1, 7),
            ("(1", "`)` is missing after this expression", 2, 3),
            ("[1 2]", "a comma or `]` is missing before `2`", 3, 4),
            ("param p: txt\n1", "`txt` is no type", 9, 12),
            ("param p: text = 1 2\n1", "`2` does not continue this header item", 18, 19),
            ("case 1 else 2 end", "`when` is missing after `case`", 7, 11),
            ("a ?? -b", "`??` binds tighter than a minus", 5, 7),
        ] {
            let findings = parse(rule).expect_err(rule);
            let first = &findings[0];
            assert_eq!(
                (first.message(), first.places()[0].start, first.places()[0].end),
                (message, start, end),
                "{rule}"
            );
        }
    }

    #[test]
    fn goes_on_after_a_finding() {
        let rule =
            "param p: txt\nlet a = $.\nfor x in $[a]\nwhere x >\nlet y = $.leg-from\nreturn x y";
        let places: Vec<_> =
            parse(rule).unwrap_err().into_iter().map(|f| f.places()[0].start).collect();
        assert_eq!(places, [9, 24, 35, 48, 58, 76]);
    }

    #[test]
    fn gets_on_after_broken_tokens() {
        for (rule, findings) in [
            ("for 'a\nwhere x\nreturn x", 1),
            ("1\nfor 'a", 1),
            ("let a = 1\nfor x in $[*]\nwhere 'b\nreturn 'c", 2),
            ("param p: text = 'x\nfor & in $\nlet y = |\nreturn \"", 4),
        ] {
            assert_eq!(parse(rule).unwrap_err().len(), findings, "{rule:?}");
        }
    }

    proptest::proptest! {
        #[test]
        fn never_panics(rule in r#"([$@.\[\](){}*?:,;=<>!&|+%/-]|for |in |let |return |if |then |param |def |f"|"|'|é|a|1|\\| |\n|\{|\}){0,30}"#) {
            let _ = parse(&rule);
        }
    }
}
