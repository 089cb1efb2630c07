//! Elements of XML too large for memory: their children are counted one by one, and at the end the counts are arranged as the record view
//! of the element has its members.

use indexmap::IndexMap;
use kyanite_formats::record_view::{ATTRIBUTE, CONTENT, TEXT};
use kyanite_tree::is_blank;

use crate::batch::Ended;
use crate::paths::{DOCUMENT, PathStep, Sort};
use crate::survey::{Bounds, Survey};

/// An element under way, or the document itself.
#[derive(Debug)]
pub struct LargeElement {
    name: String,
    /// What is known of its attributes, texts and children, each a member whose values are items of a list.
    counted: Survey,
    /// The members that its attributes are.
    attributes: Vec<String>,
    /// How many children are called so, in the order in which they came first.
    children: IndexMap<Box<str>, u64>,
    /// The number of the name of the child that came last.
    last: usize,
    /// Whether children of one name stand apart from each other.
    is_apart: bool,
    keeps_space: bool,
    /// Whether there is text among its children.
    is_mixed: bool,
    texts: u64,
    has_text: bool,
}

impl LargeElement {
    /// One of that name, of which nothing is known.
    #[must_use]
    pub fn new(name: &str, bounds: Bounds) -> Self {
        Self {
            name: name.to_owned(),
            counted: Survey::new(bounds),
            attributes: Vec::new(),
            children: IndexMap::new(),
            last: 0,
            is_apart: false,
            keeps_space: false,
            is_mixed: false,
            texts: 0,
            has_text: false,
        }
    }

    /// It has an attribute; gives the member that this is.
    pub fn attribute(&mut self, name: &str, value: &str) -> &str {
        self.keeps_space |= name == "xml:space" && value == "preserve";
        self.attributes.push(format!("{ATTRIBUTE}{name}"));
        self.attributes.last().map_or("", String::as_str)
    }

    /// It has a child.
    pub fn child(&mut self, name: &str) {
        let (number, count) = match self.children.get_full_mut(name) {
            Some((number, _, count)) => (number, count),
            None => {
                let entry = self.children.entry(name.into());
                (entry.index(), entry.or_default())
            }
        };
        self.is_apart |= *count > 0 && number != self.last;
        *count += 1;
        self.last = number;
    }

    /// It has a text, between two children or before the first or behind the last; gives the member that this is.
    pub fn text(&mut self, text: &str) -> &'static str {
        self.texts += 1;
        self.has_text |= !text.is_empty();
        self.is_mixed |= self.keeps_space || !is_blank(text);
        TEXT
    }

    /// Whether it has neither texts nor children, so far.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.texts == 0 && self.children.is_empty()
    }

    /// Takes what a [batch](crate::Batch::member_of_document) had of its attributes, texts and children, with the lines of the file.
    pub fn take(&mut self, ended: Ended, file: &str) {
        self.counted.take(ended.without_records(), file, 0);
    }

    /// It ends inside another.
    pub fn end_in(self, parent: &mut Self) {
        parent.child(&self.name);
        let survey = &mut parent.counted;
        let member = survey.paths.child(DOCUMENT, PathStep::Member(self.name.as_str().into()));
        let place = survey.paths.child(member, PathStep::Items);
        self.lay_out(survey, place);
    }

    /// It was the document, and that a record.
    pub fn end(self, survey: &mut Survey, file: &str) {
        let mut whole = Survey::new(Bounds::default());
        self.lay_out(&mut whole, DOCUMENT);
        survey.take_record(&mut whole, file);
    }

    /// Puts what is known of it where it stands.
    fn lay_out(mut self, into: &mut Survey, place: usize) {
        if self.children.is_empty() && self.attributes.is_empty() {
            self.move_member(TEXT, into, place);
            return;
        }
        into.count(place, Sort::Map, 1);
        for attribute in std::mem::take(&mut self.attributes) {
            let member = into.paths.child(place, PathStep::Member(attribute.as_str().into()));
            self.move_member(&attribute, into, member);
        }
        if self.children.is_empty() {
            if self.has_text {
                let member = into.paths.child(place, PathStep::Member(TEXT.into()));
                self.move_member(TEXT, into, member);
            }
            return;
        }
        let in_order = self.is_mixed || self.is_apart;
        let children = std::mem::take(&mut self.children);
        let place = if in_order {
            let content = into.paths.child(place, PathStep::Member(CONTENT.into()));
            let items = into.paths.child(content, PathStep::Items);
            let of_children = children.values().sum::<u64>();
            let of_texts = if self.is_mixed { self.texts } else { 0 };
            into.count_list(content, of_children + of_texts);
            into.count(items, Sort::Map, of_children);
            if self.is_mixed {
                self.move_member(TEXT, into, items);
            }
            items
        } else {
            place
        };
        for (name, count) in children {
            let mut member = into.paths.child(place, PathStep::Member(name.clone()));
            if !in_order && count > 1 {
                into.count_list(member, count);
                member = into.paths.child(member, PathStep::Items);
            }
            self.move_member(&name, into, member);
        }
        // Members that were too many to be told apart.
        if let Some(others) = self.counted.paths.find(DOCUMENT, &PathStep::Others) {
            let place = into.paths.child(place, PathStep::Others);
            let items = self.counted.paths.find(others, &PathStep::Items).unwrap_or(others);
            into.adopt(&mut self.counted, items, place);
        }
    }

    /// Moves what is known of the values of a member to a path.
    fn move_member(&mut self, name: &str, into: &mut Survey, place: usize) {
        let paths = &self.counted.paths;
        let member = paths.find(DOCUMENT, &PathStep::Member(name.into()));
        if let Some(items) = member.and_then(|member| paths.find(member, &PathStep::Items)) {
            into.adopt(&mut self.counted, items, place);
        }
    }
}
