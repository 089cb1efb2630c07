//! Markup, written element by element.

/// A document of elements, indented.
pub(super) struct Markup {
    text: String,
    open: Vec<&'static str>,
}

impl Markup {
    /// An XML document.
    pub(super) fn new() -> Self {
        Self { text: "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n".to_owned(), open: Vec::new() }
    }

    fn tag(&mut self, name: &str, attributes: &[(&str, &str)]) {
        self.text.push_str(&"  ".repeat(self.open.len()));
        self.text.push('<');
        self.text.push_str(name);
        for (attribute, value) in attributes {
            self.text.push_str(&format!(" {attribute}=\"{}\"", escaped(value)));
        }
    }

    /// Begins an element that has others in it.
    pub(super) fn begin(&mut self, name: &'static str, attributes: &[(&str, &str)]) {
        self.tag(name, attributes);
        self.text.push_str(">\n");
        self.open.push(name);
    }

    /// Ends the innermost.
    pub(super) fn end(&mut self) {
        if let Some(name) = self.open.pop() {
            self.text.push_str(&format!("{}</{name}>\n", "  ".repeat(self.open.len())));
        }
    }

    /// An element with text in it, or an empty one.
    pub(super) fn leaf(&mut self, name: &str, attributes: &[(&str, &str)], text: &str) {
        self.tag(name, attributes);
        if text.is_empty() {
            self.text.push_str("/>\n");
        } else {
            self.text.push_str(&format!(">{}</{name}>\n", escaped(text)));
        }
    }

    /// The document.
    pub(super) fn finish(mut self) -> String {
        while !self.open.is_empty() {
            self.end();
        }
        self.text
    }
}

/// A text as it stands in markup; what cannot stand in XML is replaced.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\n' | '\t' => out.push_str(&format!("&#{};", u32::from(character))),
            control if control.is_control() || matches!(control, '\u{FFFE}' | '\u{FFFF}') => {
                out.push(char::REPLACEMENT_CHARACTER);
            }
            other => out.push(other),
        }
    }
    out
}
