//! The layout of rule files: one way to write blanks, indents and line ends.
//!
//! Line ends that the author set before clauses, behind opening brackets and inside long expressions stay; what does not
//! fit in a line is broken at its clauses or brackets. Comments stay where they are. A text that is laid out stays as it
//! is when it is laid out again.

use kyanite_tree::Code;
use std::ops::Range;

use super::lexer::{Lexer, Token};
use super::parser::{Parsed, Parser};
use super::text::TextEnd;
use crate::finding::Finding;

/// The longest line that is not broken.
const WIDTH: usize = 100;

/// The blanks of a level.
const STEP: usize = 2;

/// Lays out a rule or a library.
///
/// # Errors
/// All findings, when it cannot be read as either.
pub fn format(source: &str) -> Result<String, Vec<Finding>> {
    let parser = parsed(source)?;
    let pieces = Pieces::read(source, &parser).map_err(|finding| vec![finding])?;
    let mut printer = Printer { pieces: &pieces.pieces, out: String::new(), comment: None };
    let mut at = 0;
    while at < pieces.pieces.len() {
        let end = pieces.statement_end(at);
        printer.statement(&tree(&pieces.pieces, at..end));
        at = end;
    }
    printer.end(&pieces.comments_at_end);
    Ok(printer.out)
}

/// A parser that has read the rule or library.
fn parsed(source: &str) -> Result<Parser<'_>, Vec<Finding>> {
    let mut parser = Parser::new(source).map_err(|finding| vec![finding])?;
    let error = match parser.rule() {
        Ok(_) if parser.findings.is_empty() => return Ok(parser),
        Ok(_) => None,
        Err(finding) => Some(finding),
    };
    let mut library = Parser::new(source).map_err(|finding| vec![finding])?;
    if library.library().is_ok() {
        return Ok(library);
    }
    Err(parser.findings.into_iter().chain(error).collect())
}

/// A token, or a whole f-text, and what stands around it.
struct Piece<'s> {
    text: &'s str,
    /// Comments on lines of their own before it.
    comments: Vec<&'s str>,
    /// A comment behind it on its line.
    comment: Option<&'s str>,
    /// Line ends before it, 2 for any number of empty lines; 0 when it goes on in the line.
    lines: usize,
    /// Whether nothing at all stands before it.
    is_glued: bool,
    /// Whether a header item or the body begins with it.
    is_item: bool,
    /// Whether a clause or `return` begins with it.
    is_mark: bool,
    /// Whether the path of an edit begins with it.
    is_edit: bool,
    /// Whether it is a header item's name: in `output json-sequence` a minus is no operator.
    is_word: bool,
    /// How many brackets are open around it.
    depth: usize,
}

struct Pieces<'s> {
    pieces: Vec<Piece<'s>>,
    comments_at_end: Vec<&'s str>,
}

impl<'s> Pieces<'s> {
    fn read(source: &'s str, parser: &Parser<'s>) -> Parsed<Self> {
        let mut lexer = Lexer::from(source, 0);
        let mut pieces: Vec<Piece<'s>> = Vec::new();
        let (mut last, mut depth) = (0, 0_usize);
        // Whether the line is that of `output`, up to its options.
        let mut is_output = false;
        loop {
            let lexeme = lexer.next()?;
            let start = lexeme.span.start;
            let gap = Gap::of(&source[last..start], pieces.is_empty());
            if let (Some(piece), comment @ Some(_)) = (pieces.last_mut(), gap.behind) {
                piece.comment = comment;
            }
            let end = match lexeme.token {
                Token::End => return Ok(Self { pieces, comments_at_end: gap.comments }),
                Token::Template(quote) => template_end(&mut lexer, start, lexeme.span.end, quote)?,
                _ => lexeme.span.end,
            };
            let text = &source[start..end];
            if matches!(text, ")" | "]" | "}") {
                depth = depth.saturating_sub(1);
            }
            let is_item = parser.items.contains(&start);
            is_output = match text {
                "output" if is_item => true,
                "{" => false,
                _ => is_output && !is_item,
            };
            // A line that ends with a semicolon ends in front of the next item, too.
            let is_end = text == ";" && depth == 0;
            if !is_end {
                pieces.push(Piece {
                    text,
                    comments: gap.comments,
                    comment: None,
                    lines: gap.lines,
                    is_glued: start == last && start > 0,
                    is_item,
                    is_mark: parser.clauses.contains(&start),
                    is_edit: parser.edits.contains(&start),
                    is_word: is_output,
                    depth,
                });
            }
            if matches!(text, "(" | "[" | "{") {
                depth += 1;
            }
            last = end;
        }
    }

    /// Where the header item, or the body, that begins at `from` ends.
    fn statement_end(&self, from: usize) -> usize {
        let rest = self.pieces.iter().skip(from + 1);
        from + 1 + rest.take_while(|piece| !piece.is_item).count()
    }
}

/// What stands between two tokens.
struct Gap<'s> {
    behind: Option<&'s str>,
    comments: Vec<&'s str>,
    lines: usize,
}

impl<'s> Gap<'s> {
    fn of(text: &'s str, is_first: bool) -> Self {
        let text = text.trim_start_matches(['\u{feff}', ';']);
        let mut gap = Self { behind: None, comments: Vec::new(), lines: 0 };
        let mut empty = 0;
        for (number, line) in text.split('\n').enumerate() {
            let line = line.trim().trim_start_matches(';').trim();
            match line {
                "" => empty += usize::from(number > 0),
                comment if number == 0 && !is_first => gap.behind = Some(comment),
                comment => {
                    // An empty line between comments is kept as one.
                    if empty > 0 && !gap.comments.is_empty() {
                        gap.comments.push("");
                    }
                    gap.comments.push(comment);
                    empty = 0;
                }
            }
            gap.lines = gap.lines.max(usize::from(number > 0));
        }
        // The last line is the one that the token stands on.
        let lines: Vec<&str> = text.split('\n').collect();
        let empty_before_first =
            lines.iter().skip(1).take_while(|line| line.trim().is_empty()).count();
        let is_apart = match gap.comments.is_empty() {
            true => lines.len() > 2,
            false => empty_before_first > 0,
        };
        gap.lines = if is_apart && !is_first { 2 } else { gap.lines };
        gap
    }
}

/// Where an f-text ends whose first piece begins at byte `from`.
fn template_end(lexer: &mut Lexer<'_>, start: usize, from: usize, quote: char) -> Parsed<usize> {
    let mut from = from;
    loop {
        let (_, end) = lexer.template_text(start + 1, from, quote)?;
        if end == TextEnd::Quote {
            return Ok(lexer.position());
        }
        let mut depth = 0_usize;
        from = loop {
            let lexeme = lexer.next()?;
            match lexeme.token {
                Token::Template(inner) => {
                    template_end(lexer, lexeme.span.start, lexeme.span.end, inner)?;
                }
                Token::Symbol("{") => depth += 1,
                Token::Symbol("}") if depth == 0 => break lexeme.span.end,
                Token::Symbol("}") => depth -= 1,
                Token::End => {
                    return Err(Finding::error_at(
                        Code::RuleSyntax,
                        lexeme.span,
                        "this f-text is not closed",
                    ));
                }
                _ => {}
            }
        };
    }
}

/// Tokens by their brackets.
enum Node {
    /// A piece, by its position.
    Leaf(usize),
    /// A bracket, what stands between its commas, and the bracket that closes it.
    Group { open: usize, items: Vec<Item>, close: usize },
}

/// What stands between two commas.
struct Item {
    nodes: Vec<Node>,
    /// The comma behind it.
    comma: Option<usize>,
}

fn tree(pieces: &[Piece<'_>], range: Range<usize>) -> Vec<Node> {
    let mut at = range.start;
    let mut nodes = Vec::new();
    while at < range.end {
        nodes.push(node(pieces, &mut at, range.end));
    }
    nodes
}

fn node(pieces: &[Piece<'_>], at: &mut usize, end: usize) -> Node {
    let open = *at;
    *at += 1;
    if !matches!(pieces[open].text, "(" | "[" | "{") {
        return Node::Leaf(open);
    }
    let mut items = Vec::new();
    let mut nodes = Vec::new();
    while *at < end {
        match pieces[*at].text {
            ")" | "]" | "}" => break,
            "," => {
                items.push(Item { nodes: std::mem::take(&mut nodes), comma: Some(*at) });
                *at += 1;
            }
            _ => nodes.push(node(pieces, at, end)),
        }
    }
    if !nodes.is_empty() {
        items.push(Item { nodes, comma: None });
    }
    let close = *at;
    *at += 1;
    Node::Group { open, items, close }
}

impl Node {
    fn first(&self) -> usize {
        match self {
            Self::Leaf(position) | Self::Group { open: position, .. } => *position,
        }
    }
}

struct Printer<'p, 's> {
    pieces: &'p [Piece<'s>],
    out: String,
    /// A comment that stands at the end of the line that is being written.
    comment: Option<&'s str>,
}

impl Printer<'_, '_> {
    fn statement(&mut self, nodes: &[Node]) {
        let Some(first) = nodes.first() else { return };
        if !self.out.is_empty() {
            self.line(0);
            if self.pieces[first.first()].lines > 1 {
                self.out.push('\n');
            }
        }
        self.comments(first.first(), 0);
        self.sequence(nodes, 0);
    }

    fn end(&mut self, comments: &[&str]) {
        self.line(0);
        for comment in comments {
            self.out.push_str(comment);
            self.out.push('\n');
        }
    }

    /// Ends the line, and indents the next.
    fn line(&mut self, indent: usize) {
        if let Some(comment) = self.comment.take() {
            self.out.push_str("  ");
            self.out.push_str(comment);
        }
        self.out.push('\n');
        self.out.extend(std::iter::repeat_n(' ', indent));
    }

    /// Writes the comments before a piece that begins a line.
    fn comments(&mut self, position: usize, indent: usize) {
        for comment in &self.pieces[position].comments {
            if comment.is_empty() {
                let end = self.out.trim_end_matches(' ').len();
                self.out.truncate(end);
            }
            self.out.push_str(comment);
            self.line(indent);
        }
    }

    fn column(&self) -> usize {
        let line = self.out.rfind('\n').map_or(0, |end| end + 1);
        self.out[line..].chars().count()
    }

    /// Writes what stands between brackets and commas, from the current column on; its lines have that indent.
    fn sequence(&mut self, nodes: &[Node], indent: usize) {
        let (pieces, breaks) = (self.pieces, self.breaks_clauses(nodes));
        let begins_with_clause = nodes.first().is_some_and(|node| pieces[node.first()].is_mark);
        let clauses = if begins_with_clause { indent } else { indent + STEP };
        let mut breaks_edits = false;
        for (position, node) in nodes.iter().enumerate() {
            let piece = &pieces[node.first()];
            let mut inner = if breaks { clauses } else { indent };
            if piece.is_mark {
                breaks_edits = false;
            }
            if position > 0 {
                let is_clause = piece.is_mark && breaks;
                breaks_edits |= piece.is_edit && self.breaks_edits(&nodes[position..]);
                if is_clause
                    || piece.is_edit && breaks_edits
                    || piece.lines > 0 && !piece.is_mark
                    || !piece.comments.is_empty()
                {
                    inner = if is_clause { clauses } else { inner + STEP };
                    self.line(inner);
                    self.comments(node.first(), inner);
                } else if self.is_apart(nodes[position - 1].last(), node.first()) {
                    self.out.push(' ');
                }
            }
            match node {
                Node::Leaf(at) => self.piece(*at),
                Node::Group { open, items, close } => self.group(*open, items, *close, inner),
            }
        }
    }

    /// Whether each clause stands on a line of its own.
    fn breaks_clauses(&self, nodes: &[Node]) -> bool {
        let mut clauses =
            nodes.iter().skip(1).map(Node::first).filter(|at| self.pieces[*at].is_mark).peekable();
        if clauses.peek().is_none() {
            return false;
        }
        if clauses.any(|at| self.pieces[at].lines > 0) {
            return true;
        }
        !self.fits(nodes)
    }

    /// Whether the paths of the edits that begin here stand on lines of their own.
    fn breaks_edits(&self, nodes: &[Node]) -> bool {
        let is_end = |node: &Node| self.pieces[node.first()].is_mark;
        let edits = &nodes[..nodes.iter().position(is_end).unwrap_or(nodes.len())];
        let breaks = |at: usize| self.pieces[at].is_edit && self.pieces[at].lines > 0;
        edits.iter().map(Node::first).any(breaks) || !self.fits(edits)
    }

    /// Whether all of that fits in the line, or what stands before the first bracket that is broken.
    fn fits(&self, nodes: &[Node]) -> bool {
        let mut head = String::new();
        for (position, node) in nodes.iter().enumerate() {
            if position > 0 && self.is_apart(nodes[position - 1].last(), node.first()) {
                head.push(' ');
            }
            match node {
                Node::Leaf(at) => head.push_str(self.pieces[*at].text),
                Node::Group { open, items, close } => match self.flat(*open, items, *close) {
                    Some(text) => head.push_str(&text),
                    None => {
                        head.push('{');
                        break;
                    }
                },
            }
        }
        self.column() + head.chars().count() <= WIDTH
    }

    fn piece(&mut self, position: usize) {
        self.out.push_str(self.pieces[position].text);
        self.comment = self.comment.or(self.pieces[position].comment);
    }

    fn group(&mut self, open: usize, items: &[Item], close: usize, indent: usize) {
        if let Some(text) = self.flat(open, items, close)
            && self.column() + text.chars().count() < WIDTH
        {
            self.out.push_str(&text);
            self.comment = self.comment.or(self.pieces[close].comment);
            return;
        }
        let text = self.pieces[open].text;
        self.piece(open);
        if let [Item { nodes, comma: None }] = items
            && text != "{"
            && self.hugs(nodes, close)
        {
            self.sequence(nodes, indent);
            self.piece(close);
            return;
        }
        let inner = indent + STEP;
        for (position, item) in items.iter().enumerate() {
            let goes_on = |node: &Node| self.pieces[node.first()].is_edit;
            let inner = if item.nodes.first().is_some_and(goes_on) { inner + STEP } else { inner };
            self.line(inner);
            if let Some(first) = item.nodes.first().map(Node::first) {
                if position > 0 && self.pieces[first].lines > 1 {
                    let end = self.out.trim_end_matches(' ').len();
                    self.out.truncate(end);
                    self.line(inner);
                }
                self.comments(first, inner);
            }
            self.sequence(&item.nodes, inner);
            if position + 1 < items.len() || text == "{" {
                self.out.push(',');
            }
            if let Some(comma) = item.comma {
                self.comment = self.comment.or(self.pieces[comma].comment);
            }
        }
        if !self.pieces[close].comments.is_empty() {
            self.line(inner);
            self.comments(close, inner);
            let end = self.out.trim_end_matches([' ', '\n']).len();
            self.out.truncate(end);
        }
        self.line(indent);
        self.piece(close);
    }

    /// Whether a bracket around one thing goes on in its line: the thing alone may be broken.
    fn hugs(&self, nodes: &[Node], close: usize) -> bool {
        let Some(first) = nodes.first() else { return true };
        let bare = |at: usize| {
            let piece = &self.pieces[at];
            piece.comments.is_empty() && piece.comment.is_none()
        };
        let leaves = nodes.iter().all(|node| match node {
            Node::Leaf(at) => bare(*at),
            Node::Group { close, .. } => self.pieces[*close].comment.is_none(),
        });
        self.pieces[first.first()].lines == 0 && leaves && self.pieces[close].comments.is_empty()
    }

    /// A bracket with all in it on one line; None when the author has broken it, or a comment does.
    fn flat(&self, open: usize, items: &[Item], close: usize) -> Option<String> {
        let is_bare =
            |at: usize| self.pieces[at].comments.is_empty() && self.pieces[at].comment.is_none();
        let first = items.first().and_then(|item| item.nodes.first());
        let is_broken = first.is_some_and(|first| self.pieces[first.first()].lines > 0);
        // The comment behind the last bracket does not break what is before it.
        if is_broken
            || self.pieces[open].comment.is_some()
            || !self.pieces[close].comments.is_empty()
        {
            return None;
        }
        let mut text = self.pieces[open].text.to_owned();
        for (position, item) in items.iter().enumerate() {
            if position > 0 {
                text.push_str(", ");
            }
            for (position, node) in item.nodes.iter().enumerate() {
                let piece = &self.pieces[node.first()];
                if position > 0 {
                    if piece.lines > 0 {
                        return None;
                    }
                    if self.is_apart(item.nodes[position - 1].last(), node.first()) {
                        text.push(' ');
                    }
                }
                match node {
                    Node::Leaf(at) => {
                        text.push_str(is_bare(*at).then_some(self.pieces[*at].text)?);
                    }
                    Node::Group { open, items, close } => {
                        is_bare(*close).then_some(())?;
                        text.push_str(&self.flat(*open, items, *close)?);
                    }
                }
            }
            item.comma.is_none_or(is_bare).then_some(())?;
        }
        text.push_str(self.pieces[close].text);
        Some(text)
    }

    /// Whether a blank stands between two pieces of a line.
    fn is_apart(&self, before: usize, after: usize) -> bool {
        let (b, a) = (self.pieces[before].text, self.pieces[after].text);
        let piece = &self.pieces[after];
        let is_wildcard = |at: usize| {
            let before = at.checked_sub(1).map_or("", |at| self.pieces[at].text);
            self.pieces[at].text == "*" && matches!(before, "[" | "." | ".." | ",")
        };
        match (b, a) {
            _ if piece.is_edit => true,
            (_, "," | ")" | "]" | "}" | "." | "..") | ("(" | "[" | "{" | "." | ".." | "...", _) => {
                false
            }
            (_, "*") if is_wildcard(after) => b == ",",
            // Signs, and the minus in the name of a format.
            (_, "-") | ("-", _) if piece.is_word => !piece.is_glued,
            ("-" | "!", _) if self.is_sign(before) => false,
            // `[?@.x]`, `text? = …`.
            ("?", "=") => true,
            ("?", _) => false,
            (_, "?") => b == ",",
            // A member and its value; the bounds of a slice.
            (_, ":") => false,
            (":", _) => !self.is_slice(before),
            (_, "(" | "[") => !piece.is_glued,
            ("@" | "$", _) => !piece.is_glued,
            _ if is_wildcard(before) && piece.is_glued => !matches!(a, "[") || b != "*",
            _ => true,
        }
    }

    /// Whether a minus or `!` has no operand on its left.
    fn is_sign(&self, at: usize) -> bool {
        let Some(before) = at.checked_sub(1).map(|before| self.pieces[before].text) else {
            return true;
        };
        let is_value = before.ends_with(|c: char| {
            c.is_alphanumeric() || matches!(c, '_' | ')' | ']' | '}' | '"' | '\'' | '$' | '@')
        });
        let is_word = super::parser::RESERVED.contains(&before)
            && !matches!(before, "end" | "true" | "false" | "null")
            || super::parser::CLAUSE_WORDS.contains(&before) && self.pieces[at - 1].is_mark;
        self.pieces[at].text == "!" || !is_value || is_word || before == "by"
    }

    /// Whether a colon stands directly inside square brackets.
    fn is_slice(&self, colon: usize) -> bool {
        let depth = self.pieces[colon].depth;
        let before = &self.pieces[..colon];
        let opened = before.iter().rposition(|piece| piece.depth < depth);
        opened.is_some_and(|open| self.pieces[open].text == "[")
    }
}

impl Node {
    fn last(&self) -> usize {
        match self {
            Self::Leaf(position) | Self::Group { close: position, .. } => *position,
        }
    }
}
