//! Takes a YAML stream apart into documents by its marker lines, without parsing the documents.

/// Gives the documents of whole lines, each with the comments and directives before it; the last one has what follows it as well.
/// A line that begins with three hyphens ends whatever was open, in quotes or not (YAML 1.2.2 section 9.1.2). Documents of which
/// only the end is marked, or nothing, may come as one.
#[derive(Clone, Debug)]
pub struct DocumentTexts<'t> {
    rest: &'t [u8],
}

impl<'t> DocumentTexts<'t> {
    /// Those of a text.
    #[must_use]
    pub fn new(text: &'t [u8]) -> Self {
        Self { rest: text }
    }

    /// Where the last of those of a text begins, if there is one before it.
    #[must_use]
    pub fn last_begin(text: &'t [u8]) -> Option<usize> {
        let begins = memchr::memmem::rfind_iter(text, b"\n---").map(|end| end + 1);
        let last = begins.into_iter().find(|begin| marks(&text[*begin..], b"---"));
        // Nearly always the document before ends right there, and no end is marked behind it.
        let (before, behind) = text.split_at(last.unwrap_or_default());
        if memchr::memmem::find(behind, b"\n...").is_none() {
            match before.split_last() {
                None => return None,
                Some((_, line)) => {
                    let line = &line[memchr::memrchr(b'\n', line).map_or(0, |end| end + 1)..];
                    if is_content(line) {
                        return last;
                    }
                }
            }
        }
        let (mut begin, mut end) = (0, 0);
        for document in Self::new(text) {
            (begin, end) = (end, end + document.len());
        }
        (begin > 0).then_some(begin)
    }
}

impl<'t> Iterator for DocumentTexts<'t> {
    type Item = &'t [u8];

    fn next(&mut self) -> Option<&'t [u8]> {
        let (mut at, mut has_content, mut ended) = (0, false, None);
        for line in lines(self.rest) {
            let begins = marks(line, b"---");
            if begins && has_content && ended.is_none() {
                ended = Some(at);
            }
            let goes_on = begins || is_content(line);
            if let (Some(end), true) = (ended, goes_on) {
                let (document, rest) = self.rest.split_at(end);
                self.rest = rest;
                return Some(document);
            }
            has_content |= goes_on;
            at += line.len();
            if marks(line, b"...") && has_content {
                ended.get_or_insert(at);
            }
        }
        let last = std::mem::take(&mut self.rest);
        (!last.is_empty()).then_some(last)
    }
}

/// The lines of a text, with their ends.
fn lines(text: &[u8]) -> impl Iterator<Item = &[u8]> {
    let mut from = 0;
    memchr::memchr_iter(b'\n', text).map(|end| end + 1).chain([text.len()]).filter_map(move |end| {
        let line = &text[from..end];
        from = end;
        (!line.is_empty()).then_some(line)
    })
}

/// Whether a line is that mark, with or without something behind it.
fn marks(line: &[u8], mark: &[u8]) -> bool {
    line.strip_prefix(mark).is_some_and(|rest| rest.first().is_none_or(u8::is_ascii_whitespace))
}

/// Whether a line is more than a comment, a directive or the end of a document.
fn is_content(mut line: &[u8]) -> bool {
    while let Some(behind) = line.strip_prefix(b"\xEF\xBB\xBF") {
        line = behind;
    }
    let is_said = line.starts_with(b"#") || line.starts_with(b"%") || marks(line, b"...");
    !is_said && !line.trim_ascii().is_empty()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_between_marks() {
        for (text, documents) in [
            ("a: 1\n", ["a: 1\n"].as_slice()),
            ("a: 1\n---\nb: 2\n", &["a: 1\n", "---\nb: 2\n"]),
            ("# c\n---\na: 1\n---\nb: 2\n...\n", &["# c\n---\na: 1\n", "---\nb: 2\n...\n"]),
            (
                "%YAML 1.2\n---\na: |\n  x\n  --- y\n...\n%YAML 1.2\n---\nb\n",
                &["%YAML 1.2\n---\na: |\n  x\n  --- y\n...\n", "%YAML 1.2\n---\nb\n"],
            ),
            ("--- 1\n--- 2\n---\n", &["--- 1\n", "--- 2\n", "---\n"]),
            ("a: 1\n...\n# end\n", &["a: 1\n...\n# end\n"]),
            ("a: 1\n...\n...\nb", &["a: 1\n...\n", "...\nb"]),
            ("---\r\na\r\n---\r\nb", &["---\r\na\r\n", "---\r\nb"]),
            ("\u{feff}# c\n---\na\n---\n", &["\u{feff}# c\n---\na\n", "---\n"]),
            ("a\n---b\n", &["a\n---b\n"]),
            ("# only\n\n", &["# only\n\n"]),
            ("", &[]),
        ] {
            let found: Vec<&[u8]> = DocumentTexts::new(text.as_bytes()).collect();
            let wanted: Vec<&[u8]> = documents.iter().map(|text| text.as_bytes()).collect();
            assert_eq!(found, wanted, "{text:?}");
        }
    }
}
