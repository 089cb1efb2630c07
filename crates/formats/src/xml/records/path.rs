//! Going along the path to the records: into the elements on it, and past all others.

use kyanite_tree::{Name, Value};

use super::{NAMES, NAMESPACES, RecordReader};
use crate::SyntaxError;
use crate::xml::chars;
use crate::xml::read::Ancestor;
use crate::xml::stand::Stand;

impl<'a> RecordReader<'a> {
    /// Whether an element that begins here is a record if it has the name of one.
    #[inline]
    pub(super) fn looks_for_records(&self) -> bool {
        let is_last = self.on_path + 1 == self.path.len();
        let at_any_depth = self.path.last().is_some_and(|step| step.at_any_depth);
        is_last && (at_any_depth || self.on_path == self.reader.depth())
    }

    /// An element: a record, one around records, or another, which is checked and left out.
    pub(super) fn element(&mut self) -> Result<Option<Value<'a>>, SyntaxError> {
        let level = self.reader.depth();
        let start = self.reader.cursor.at;
        if level == 0 && self.reader.has_root {
            self.reader.second_root(start)?;
        }
        let scope = self.reader.scope.depth();
        self.reader.start_tag()?;
        let Some(name) = self.reader.last_name() else {
            // What was no tag was read as text, and one that was cut off is left out.
            self.reader.has_root = true;
            return Ok(None);
        };
        let is_last = self.on_path + 1 == self.path.len();
        let in_depth = self.path.last().filter(|step| is_last && step.at_any_depth);
        let is_beside = in_depth.is_none() && self.on_path < level;
        let fits = in_depth.is_some_and(|step| step.fits(name))
            || !is_beside
                && in_depth.is_none()
                && self.path.get(level).is_some_and(|step| step.fits(name));
        if is_beside || in_depth.is_none() && fits && level + 1 < self.path.len() {
            self.go_inside(fits);
            return Ok(None);
        }
        if in_depth.is_some() && !fits {
            self.go_inside(false);
            if self.others.len() < NAMES {
                self.others.push((self.on_path, name));
            }
            return Ok(None);
        }
        if !fits {
            self.pass_over(level, name)?;
            return Ok(None);
        }
        if let Some(projected_elements) = &mut self.reader.projected_elements
            && let Some(open) = self.reader.open.last_mut()
        {
            (open.projected, projected_elements.scope) = (projected_elements.of_record(), scope);
        }
        self.reader.content()?;
        self.reader.has_root = true;
        self.met(level, name);
        let text = self.reader.cursor.text;
        let record = self.reader.last_element();
        if self.reader.outer.is_empty() && self.reader.around.len() == level {
            let tag = &text[start..chars::name_end(text, start + 1)];
            (self.record_name, self.again) = (Some(tag), Some(&tag[1..]));
        } else {
            self.left();
        }
        Ok(record)
    }

    /// Keeps the namespace of a record, if the step that led there means any.
    pub(super) fn met(&mut self, level: usize, name: Name<'a>) {
        let namespace = name.namespace();
        if self.path.get(level).is_some_and(|step| step.namespace.is_none())
            && self.namespaces.len() < NAMESPACES
            && !self.namespaces.contains(&namespace)
        {
            self.namespaces.push(namespace);
        }
    }

    /// Goes on inside the element whose start tag was read, unless it is empty.
    fn go_inside(&mut self, is_on_path: bool) {
        self.reader.has_root = true;
        if self.reader.make_nothing() {
            self.on_path += usize::from(is_on_path);
            let declares = self.reader.around.last().is_some_and(Ancestor::declares);
            self.other_scope(declares);
        }
    }

    /// Passes over the element whose start tag was read, which is not on the path. Where it goes on behind the end of the
    /// text, what stands in it is passed over piece by piece.
    fn pass_over(&mut self, level: usize, name: Name<'a>) -> Result<(), SyntaxError> {
        self.has_others = true;
        let before = Stand::of(&self.reader);
        match self.reader.content() {
            Err(error) if error.wants_more() && before.is_in_text() => {
                before.restore(&mut self.reader);
                self.go_inside(false);
            }
            read => {
                read?;
                self.reader.has_root = true;
                self.left();
            }
        }
        if self.others.len() < NAMES {
            self.others.push((level, name));
        }
        Ok(())
    }

    /// Forgets what is known of elements that a repair closed.
    pub(super) fn left(&mut self) {
        let open = self.reader.around.len();
        self.still_open = self.still_open.min(open);
        if self.on_path > open {
            self.on_path = open;
            self.other_scope(true);
        }
    }

    /// Forgets what names around records settled, where one of them begins or ends, which perhaps `declares` namespaces.
    fn other_scope(&mut self, declares: bool) {
        if declares {
            self.again = None;
            self.slots.leave();
            self.lines.forget();
            self.passing.forget();
            if let Some(projected_elements) = &mut self.reader.projected_elements {
                projected_elements.lines.forget();
            }
            if let Some(prefiltered) = &mut self.prefiltered {
                prefiltered.lines.forget();
            }
        }
    }

    pub(super) fn end_tag(&mut self) -> Result<(), SyntaxError> {
        let scope = self.reader.scope.depth();
        self.reader.odd_end_tag()?;
        self.on_path = self.on_path.min(self.reader.around.len());
        self.still_open = self.still_open.min(self.reader.around.len());
        self.other_scope(self.reader.scope.depth() < scope);
        Ok(())
    }

    /// Leaves brackets at the end of the part to be read again: `]]>` may begin with them.
    pub(super) fn keep_brackets(&mut self) -> Result<(), SyntaxError> {
        let end = self.reader.cursor.text.len();
        let may_go_on = self.reader.is_part && self.reader.outer.is_empty();
        if may_go_on && self.reader.cursor.at == end && self.reader.cursor.text.ends_with(']') {
            self.committed = self.reader.cursor.text.trim_end_matches(']').len().max(end - 2);
            return Err(self.reader.cut_off());
        }
        Ok(())
    }
}
