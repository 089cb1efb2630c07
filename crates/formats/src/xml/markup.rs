//! Markup that is not a tag: CDATA sections, comments, processing instructions (XML 1.0 sections 2.5 to 2.7).

use kyanite_tree::Content;

use super::chars;
use super::read::{Read, Reader};
use super::repair::MarkupError;

impl<'a> Reader<'a> {
    /// `<![CDATA[…]]>` (production 18).
    pub(super) fn character_data(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += "<![CDATA[".len();
        let at = self.cursor.at;
        let text = match self.cursor.until("]]>") {
            Some(text) => text,
            None => {
                self.unclosed(
                    start,
                    at,
                    "this CDATA section is not closed",
                    "write ]]>",
                    (MarkupError::Markup, "it ends with the input"),
                )?;
                let rest = self.cursor.rest();
                self.cursor.at = self.cursor.text.len();
                rest
            }
        };
        let text = self.clean(text, at)?;
        self.add_text(start, text);
        Ok(())
    }

    /// Refuses characters that may not stand in a document; in a repair, gives the text without them.
    pub(super) fn clean(&mut self, text: &'a str, at: usize) -> Read<&'a str> {
        match chars::first_refused(text) {
            None => Ok(text),
            Some((offset, character)) => {
                self.refused_character(at + offset, character)?;
                let clean: String = text.chars().filter(|c| chars::is_char(*c)).collect();
                Ok(self.arena.text(&clean))
            }
        }
    }

    /// `<!--…-->` (production 15).
    pub(super) fn comment(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += "<!--".len();
        let at = self.cursor.at;
        let mut text = self.cursor.until("--");
        if text.is_some() && !self.cursor.eat(">") {
            let hyphens = self.cursor.at - 2;
            self.broken(
                hyphens,
                hyphens + 2,
                "two hyphens stand inside a comment",
                "take one away",
                (MarkupError::Markup, "the comment is read up to -->"),
            )?;
            self.cursor.at = at;
            text = self.cursor.until("-->");
        }
        let Some(text) = text else {
            self.unclosed(
                start,
                start + 4,
                "this comment is not closed",
                "write -->",
                (MarkupError::Markup, "the rest is left out"),
            )?;
            self.cursor.at = self.cursor.text.len();
            return Ok(());
        };
        let text = self.clean(text, at)?;
        self.add(Content::Comment(self.origin(start), text));
        Ok(())
    }

    /// `<?target data?>` (production 16).
    pub(super) fn instruction(&mut self) -> Read<()> {
        let start = self.cursor.at;
        self.cursor.at += 2;
        let name = self.cursor.name();
        let named = self.cursor.at;
        let wrong = match name {
            None => Some("a processing instruction begins with a name"),
            Some(name) if name.eq_ignore_ascii_case("xml") => {
                Some("an XML declaration stands at the very start of the document, or nowhere")
            }
            Some(name) if self.options.namespaces && name.contains(':') => {
                Some("the name of a processing instruction has no colon")
            }
            Some(_) if !self.cursor.is_at("?>") && !self.cursor.space() => {
                Some("white space is missing behind the name of a processing instruction")
            }
            Some(_) => None,
        };
        let at = self.cursor.at;
        let data = self.cursor.until("?>");
        let end = if data.is_some() { self.cursor.at } else { named };
        let wrong = wrong.or(data.is_none().then_some("this processing instruction is not closed"));
        if let Some(wrong) = wrong {
            let advice = "take it away, or write <?name data?>";
            if data.is_some() {
                self.broken(start, end, wrong, advice, (MarkupError::Markup, "it is left out"))?;
            } else {
                self.unclosed(start, end, wrong, advice, (MarkupError::Markup, "it is left out"))?;
                self.cursor.at = self.cursor.text.len();
            }
            return Ok(());
        }
        let data = data.unwrap_or_default();
        let data = self.clean(data, at)?;
        let instruction = self.arena.pair(name.unwrap_or_default(), data);
        self.add(Content::Instruction(self.origin(start), instruction));
        Ok(())
    }
}
