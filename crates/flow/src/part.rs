//! Items that one thread renders, for another to append to the output.

use std::ops::ControlFlow;

use kyanite_formats::json::Style;
use kyanite_lang::{Flow, Written};
use kyanite_tree::Value;

use crate::Sink;
use crate::render::Renderer;

/// Takes items of a list apart from the output that they belong to.
pub struct Part {
    /// How many items were taken.
    pub items: u64,
    /// What renders them; None when only their number is wanted.
    pub(crate) renderer: Option<Renderer>,
    pub(crate) bytes: Vec<u8>,
    /// Whether the bytes are lines of JSON until all of them are there.
    by_lines: bool,
    /// Where they are laid out.
    scratch: Vec<u8>,
    /// Whether whoever takes items has to look at each before, since it has to keep to schemas.
    pub(crate) ensures: bool,
    /// Whether an item could not be rendered, so that the part is of no use.
    pub(crate) failed: bool,
}

impl Part {
    /// A part that only counts.
    #[must_use]
    pub fn counting() -> Self {
        Self::rendering(None)
    }

    pub(crate) fn rendering(renderer: Option<Renderer>) -> Self {
        Self {
            items: 0,
            renderer,
            bytes: Vec::new(),
            by_lines: false,
            scratch: Vec::new(),
            ensures: false,
            failed: false,
        }
    }

    /// The same part, for items that were looked at.
    pub(crate) fn ensuring(mut self) -> Self {
        self.ensures = true;
        self
    }

    /// Another part like this one when it was new.
    pub(crate) fn again(&self) -> Self {
        Self::rendering(self.renderer.as_ref().and_then(Renderer::for_part))
    }

    /// The same part, whose items come as lines of JSON, if `by_lines`.
    pub(crate) fn by_lines(mut self, by_lines: bool) -> Self {
        self.by_lines = by_lines;
        self
    }

    /// How items of JSON are laid out, and in how many lists they stand.
    pub(crate) fn json_style(&self) -> Option<(Style, usize)> {
        self.renderer.as_ref().map(Renderer::json_style)
    }

    /// What the output takes in place of values.
    pub(crate) fn written(&self) -> Written {
        self.renderer.as_ref().map_or(Written::Values, Renderer::written)
    }

    /// How far values of YAML are indented, if items are rendered as that.
    pub(crate) fn indent(&self) -> Option<usize> {
        self.renderer.as_ref().and_then(Renderer::yaml_indent)
    }

    /// Takes an item as a line of JSON, without its end.
    pub(crate) fn line(&mut self, line: &str) {
        self.bytes.extend_from_slice(line.as_bytes());
        self.bytes.push(b'\n');
        self.items += 1;
    }

    /// Lays out the lines that came, as all are there.
    pub(crate) fn end_lines(&mut self) {
        if let Some(renderer) = self.renderer.as_mut().filter(|_| self.by_lines) {
            renderer.lay_out(&mut self.bytes, &mut self.scratch);
        }
    }

    /// Whether elements of XML may be among the items, which are made records of before they are written.
    pub(crate) fn expects_elements(&self) -> bool {
        self.renderer.as_ref().is_some_and(Renderer::expects_elements)
    }

    /// Forgets what was taken.
    pub(crate) fn clear(&mut self) {
        self.items = 0;
        self.bytes.clear();
        self.failed = false;
    }
}

impl Sink for Part {
    fn item(&mut self, value: Value<'_>) -> Flow {
        self.items += 1;
        let rendered = match &mut self.renderer {
            None => Ok(()),
            Some(renderer) if self.by_lines => {
                renderer.json_line(value, &mut self.bytes);
                Ok(())
            }
            Some(renderer) => renderer.item(value, &mut self.bytes),
        };
        if rendered.is_err() {
            self.failed = true;
            return ControlFlow::Break(());
        }
        ControlFlow::Continue(())
    }

    fn single(&mut self, _value: Option<Value<'_>>) -> Flow {
        // Only items of lists are taken apart.
        self.failed = true;
        ControlFlow::Break(())
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn written(&self) -> Written {
        Written::Values
    }

    fn is_closed(&self) -> bool {
        self.failed
    }
}
