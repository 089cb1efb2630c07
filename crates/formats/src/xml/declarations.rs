//! The document type declaration (XML 1.0 sections 2.8 and 3.2 to 4.7): its grammar, checked in full.

use kyanite_tree::Arena;

use super::chars;
use super::cursor::{Cursor, behind};
use super::dtd::{Declared, Dtd, Entity};
use super::entities::{self, Budget, Reference};
use crate::SyntaxError;

type Read<T> = Result<T, SyntaxError>;

/// Reads declarations into a [`Dtd`].
pub(super) struct Declarations<'r, 'a> {
    pub(super) cursor: Cursor<'a>,
    pub(super) dtd: &'r mut Dtd<'a>,
    pub(super) budget: &'r mut Budget,
    pub(super) arena: &'a Arena,
    /// Whether names are those of namespaces, so that a colon has a meaning.
    pub(super) namespaces: bool,
    /// The parameter entities whose text is being read.
    pub(super) inside: Vec<&'a str>,
}

const GRAMMAR: &str = "see XML 1.0, sections 3.2 to 4.7, for the form of declarations";

impl<'a> Declarations<'_, 'a> {
    /// Reads `<!DOCTYPE … >`, where the cursor stands.
    pub(super) fn document_type(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.eat("<!DOCTYPE");
        self.need_space()?;
        if self.cursor.name().is_none() {
            return self.wrong("the name of the root element is missing here");
        }
        if self.cursor.space() && (self.cursor.is_at("SYSTEM") || self.cursor.is_at("PUBLIC")) {
            self.external_id(false)?;
            self.dtd.has_unread = true;
            self.cursor.space();
        }
        if self.cursor.eat("[") {
            self.subset(start)?;
            self.cursor.space();
        }
        self.close()
    }

    /// Reads the internal subset to its `]`, or the replacement text of a parameter entity to its end.
    fn subset(&mut self, opened: usize) -> Read<()> {
        loop {
            self.cursor.space();
            match self.cursor.peek() {
                Some(b']') if self.inside.is_empty() => {
                    self.cursor.at += 1;
                    return Ok(());
                }
                None if !self.inside.is_empty() => return Ok(()),
                None => {
                    let error = self.cursor.error_here(
                        "the document ends inside its document type declaration",
                        "close it with ]>",
                    );
                    return Err(error.also(Some(opened)));
                }
                Some(b'%') => self.parameter_reference()?,
                Some(b'<') => self.declaration()?,
                Some(_) => return self.wrong("no declaration begins like this"),
            }
        }
    }

    fn declaration(&mut self) -> Read<()> {
        let start = self.cursor.at;
        if self.cursor.eat("<!--") {
            return self.comment(start);
        }
        if self.cursor.eat("<?") {
            return self.instruction(start);
        }
        if self.cursor.eat("<!ELEMENT") {
            self.element()?;
        } else if self.cursor.eat("<!ATTLIST") {
            self.attributes()?;
        } else if self.cursor.eat("<!ENTITY") {
            self.entity()?;
        } else if self.cursor.eat("<!NOTATION") {
            self.notation()?;
        } else {
            return self.wrong("no declaration begins like this");
        }
        self.cursor.space();
        self.close()
    }

    fn comment(&mut self, start: usize) -> Read<()> {
        let Some(text) = self.cursor.until("--") else {
            return Err(self.cursor.error(
                start,
                start + 4,
                "this comment is not closed",
                "write -->",
            ));
        };
        let inside = self.cursor.at - 2 - text.len();
        self.characters(text, inside)?;
        if !self.cursor.eat(">") {
            let at = self.cursor.at;
            return Err(self.cursor.error(
                at - 2,
                at,
                "two hyphens stand inside a comment",
                "take one away",
            ));
        }
        Ok(())
    }

    fn instruction(&mut self, start: usize) -> Read<()> {
        let target = self.cursor.name();
        let Some(target) = target.filter(|target| !target.eq_ignore_ascii_case("xml")) else {
            return self.wrong("a processing instruction needs a name that is not xml");
        };
        self.local(target)?;
        if self.cursor.eat("?>") {
            return Ok(());
        }
        self.need_space()?;
        let at = self.cursor.at;
        match self.cursor.until("?>") {
            Some(data) => self.characters(data, at),
            None => Err(self.cursor.error(
                start,
                start + 2,
                "this processing instruction is not closed",
                "write ?>",
            )),
        }
    }

    /// Refuses characters that may not stand in a document.
    fn characters(&self, text: &str, at: usize) -> Read<()> {
        match chars::first_refused(text) {
            Some((offset, character)) => {
                let message =
                    format!("the character U+{:04X} cannot stand in XML", character as u32);
                Err(self.cursor.error(
                    at + offset,
                    at + offset + character.len_utf8(),
                    message,
                    "take it away",
                ))
            }
            None => Ok(()),
        }
    }

    /// `%name;` between declarations: the declarations of its text are read as if they stood here.
    fn parameter_reference(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += 1;
        let name = self.cursor.name();
        let Some(name) = name.filter(|_| self.cursor.eat(";")) else {
            return self.wrong("a reference to a parameter entity is written %name;");
        };
        let end = self.cursor.at;
        if self.inside.contains(&name) {
            let message = format!("the entity %{name}; refers to itself");
            return Err(self.cursor.error(start, end, message, "take the reference away"));
        }
        let Some(Entity::Internal(text)) = self.dtd.parameter(name) else {
            // What comes after it may depend on it (section 5.1), but entities that are declared still help.
            self.dtd.has_unread = true;
            return Ok(());
        };
        let entered = self.budget.enter(text, self.inside.len(), start, end);
        entered.map_err(|error| self.cursor.placed(error))?;
        let stands_for = self.cursor.stands_for.unwrap_or((start, end));
        let inner = Cursor::within(text, Some(stands_for));
        let outer = std::mem::replace(&mut self.cursor, inner);
        self.inside.push(name);
        let read = self.subset(start);
        self.inside.pop();
        self.cursor = outer;
        // An entity whose text had references counts as one, too (section 4.1).
        self.dtd.has_unread = true;
        read
    }

    /// `<!ELEMENT name contentspec`
    fn element(&mut self) -> Read<()> {
        self.need_space()?;
        self.need_name()?;
        self.need_space()?;
        if self.cursor.eat("EMPTY") || self.cursor.eat("ANY") {
            return Ok(());
        }
        if !self.cursor.eat("(") {
            return self.wrong("EMPTY, ANY or a group in parentheses is missing here");
        }
        self.cursor.space();
        if self.cursor.eat("#PCDATA") { self.mixed() } else { self.group() }
    }

    /// `(#PCDATA | a | b)*`, behind `#PCDATA`.
    fn mixed(&mut self) -> Read<()> {
        let mut names = 0;
        loop {
            self.cursor.space();
            if self.cursor.eat(")") {
                if !self.cursor.eat("*") && names > 0 {
                    return self.wrong("a star is missing behind the group");
                }
                return Ok(());
            }
            if !self.cursor.eat("|") {
                return self.wrong("`|` or `)` is missing here");
            }
            self.cursor.space();
            self.need_name()?;
            names += 1;
        }
    }

    /// A group of children, behind its `(`. Groups may nest as deep as they like.
    fn group(&mut self) -> Read<()> {
        let mut separators: Vec<Option<u8>> = vec![None];
        // Whether a name or a group comes next, or what stands behind one.
        let mut wants_item = true;
        while let Some(separator) = separators.last_mut() {
            self.cursor.space();
            if wants_item {
                if self.cursor.eat("(") {
                    separators.push(None);
                } else {
                    self.need_name()?;
                    self.occurrence();
                    wants_item = false;
                }
                continue;
            }
            match self.cursor.peek() {
                Some(b')') => {
                    self.cursor.at += 1;
                    self.occurrence();
                    separators.pop();
                }
                Some(byte @ (b'|' | b',')) if separator.is_none_or(|known| known == byte) => {
                    *separator = Some(byte);
                    self.cursor.at += 1;
                    wants_item = true;
                }
                _ => {
                    return self
                        .wrong("the group goes on with `|`, `,` or `)`, one kind in each group");
                }
            }
        }
        Ok(())
    }

    fn occurrence(&mut self) {
        if let Some(b'?' | b'*' | b'+') = self.cursor.peek() {
            self.cursor.at += 1;
        }
    }

    /// `<!ATTLIST element (name type default)*`
    fn attributes(&mut self) -> Read<()> {
        self.need_space()?;
        let element = self.need_name()?;
        loop {
            let spaced = self.cursor.space();
            if self.cursor.peek() == Some(b'>') {
                return Ok(());
            }
            if !spaced {
                return self.wrong("white space is missing here");
            }
            let name = self.need_name()?;
            self.need_space()?;
            let is_tokens = self.attribute_type()?;
            self.need_space()?;
            let default = self.default(is_tokens)?;
            self.dtd.declare_attribute(element, Declared { name, is_tokens, default });
        }
    }

    /// Whether the type is another than CDATA.
    fn attribute_type(&mut self) -> Read<bool> {
        if self.cursor.eat("CDATA") {
            return Ok(false);
        }
        // Longer words first, for they begin with the shorter ones.
        let words = ["IDREFS", "IDREF", "ID", "ENTITIES", "ENTITY", "NMTOKENS", "NMTOKEN"];
        if words.iter().any(|word| self.cursor.eat(word)) {
            return Ok(true);
        }
        let is_notation = self.cursor.eat("NOTATION");
        if is_notation {
            self.need_space()?;
        }
        if !self.cursor.eat("(") {
            return self.wrong("the type of the attribute is missing here");
        }
        loop {
            self.cursor.space();
            if is_notation {
                self.need_name()?;
            } else {
                let start = self.cursor.at;
                self.cursor.at = chars::nmtoken_end(self.cursor.text, start);
                if self.cursor.at == start {
                    return self.wrong("a value is missing here");
                }
            }
            self.cursor.space();
            if self.cursor.eat(")") {
                return Ok(true);
            }
            if !self.cursor.eat("|") {
                return self.wrong("`|` or `)` is missing here");
            }
        }
    }

    fn default(&mut self, is_tokens: bool) -> Read<Option<&'a str>> {
        if self.cursor.eat("#REQUIRED") || self.cursor.eat("#IMPLIED") {
            return Ok(None);
        }
        if self.cursor.eat("#FIXED") {
            self.need_space()?;
        }
        let (raw, at) = self.literal()?;
        let mut value = String::new();
        entities::attribute_value(
            raw,
            self.dtd,
            self.budget,
            &mut Vec::new(),
            &mut value,
            &mut |error, _| Err(error),
        )
        .map_err(|fault| self.cursor.placed(behind(at, fault)))?;
        let value = if is_tokens { entities::tokens(&value) } else { value };
        Ok(Some(self.arena.text(&value)))
    }

    /// `<!ENTITY name def` or `<!ENTITY % name def`
    fn entity(&mut self) -> Read<()> {
        self.need_space()?;
        let is_parameter = self.cursor.eat("%");
        if is_parameter {
            self.need_space()?;
        }
        let name = self.need_name()?;
        self.local(name)?;
        self.need_space()?;
        let entity = if self.cursor.is_at("SYSTEM") || self.cursor.is_at("PUBLIC") {
            self.external_id(false)?;
            let before = self.cursor.at;
            if !is_parameter && self.cursor.space() && self.cursor.eat("NDATA") {
                self.need_space()?;
                self.need_name()?;
                Entity::Unparsed
            } else {
                self.cursor.at = before;
                Entity::External
            }
        } else {
            Entity::Internal(self.entity_value()?)
        };
        if is_parameter {
            self.dtd.declare_parameter(name, entity);
        } else {
            self.dtd.declare_entity(name, entity);
        }
        Ok(())
    }

    /// The replacement text of an entity: references to characters are put in, those to entities stay (section 4.5).
    fn entity_value(&mut self) -> Read<&'a str> {
        let (raw, at) = self.literal()?;
        self.characters(raw, at)?;
        let mut text = String::new();
        let mut from = 0;
        while let Some(next) = raw[from..].find(['&', '%']).map(|next| from + next) {
            text.push_str(&raw[from..next]);
            if raw.as_bytes()[next] == b'%' {
                let message = "a reference to a parameter entity stands inside a declaration";
                let advice = "in the internal subset they stand between declarations; write &#37; for the character";
                return Err(self.cursor.error(at + next, at + next + 1, message, advice));
            }
            let (reference, behind) = entities::reference(raw, next)
                .map_err(|fault| self.cursor.placed(behind(at, fault)))?;
            match reference {
                Reference::Character(character) if raw.as_bytes()[next + 1] == b'#' => {
                    text.push(character)
                }
                _ => text.push_str(&raw[next..behind]),
            }
            from = behind;
        }
        if from == 0 {
            return Ok(raw);
        }
        text.push_str(&raw[from..]);
        Ok(self.arena.text(&text))
    }

    /// `<!NOTATION name id`
    fn notation(&mut self) -> Read<()> {
        self.need_space()?;
        let name = self.need_name()?;
        self.local(name)?;
        self.need_space()?;
        self.external_id(true)
    }

    /// `SYSTEM "uri"` or `PUBLIC "id" "uri"`, where notations may leave the last out.
    fn external_id(&mut self, of_notation: bool) -> Read<()> {
        if self.cursor.eat("SYSTEM") {
            self.need_space()?;
            return self.literal().map(drop);
        }
        if !self.cursor.eat("PUBLIC") {
            return self.wrong("SYSTEM or PUBLIC is missing here");
        }
        self.need_space()?;
        let (id, at) = self.literal()?;
        if let Some(bad) = id.bytes().position(|byte| !chars::is_pubid(byte)) {
            let message = "this character cannot stand in a public identifier";
            return Err(self.cursor.error(at + bad, at + bad + 1, message, GRAMMAR));
        }
        let before = self.cursor.at;
        let spaced = self.cursor.space();
        if of_notation && !matches!(self.cursor.peek(), Some(b'"' | b'\'')) {
            self.cursor.at = before;
            return Ok(());
        }
        if !spaced {
            return self.wrong("white space is missing here");
        }
        self.literal().map(drop)
    }

    /// A text in quotes; gives where it begins.
    fn literal(&mut self) -> Read<(&'a str, usize)> {
        let start = self.cursor.at;
        let quote = match self.cursor.peek() {
            Some(b'"') => "\"",
            Some(b'\'') => "'",
            _ => return self.wrong("a text in quotes is missing here"),
        };
        self.cursor.at += 1;
        match self.cursor.until(quote) {
            Some(text) => {
                self.characters(text, start + 1)?;
                Ok((text, start + 1))
            }
            None => Err(self.cursor.error(
                start,
                start + 1,
                "this text is not closed",
                "write the same quote",
            )),
        }
    }

    fn need_space(&mut self) -> Read<()> {
        if self.cursor.space() { Ok(()) } else { self.wrong("white space is missing here") }
    }

    fn need_name(&mut self) -> Read<&'a str> {
        match self.cursor.name() {
            Some(name) if self.namespaces && !chars::is_qualified(name) => {
                let at = self.cursor.at;
                let message = format!("`{name}` is no name with a prefix");
                Err(self.cursor.error(at - name.len(), at, message, "take the colon away"))
            }
            Some(name) => Ok(name),
            None => self.wrong("a name is missing here"),
        }
    }

    /// Refuses a name with a colon where names have no prefixes (Namespaces in XML 1.0, section 7).
    fn local(&self, name: &str) -> Read<()> {
        if self.namespaces && name.contains(':') {
            let at = self.cursor.at;
            let message = format!(
                "the name `{name}` has a colon, which only elements and attributes may have"
            );
            return Err(self.cursor.error(at - name.len(), at, message, "take the colon away"));
        }
        Ok(())
    }

    fn close(&mut self) -> Read<()> {
        if self.cursor.eat(">") { Ok(()) } else { self.wrong("`>` is missing here") }
    }

    #[cold]
    fn wrong<T>(&self, message: &str) -> Read<T> {
        Err(self.cursor.error_here(message, GRAMMAR))
    }
}
