//! A document larger than memory as a tree of lines: nodes are places in its bytes, and what stands below one is found by a scan
//! that stops after so many bytes and goes on later. Of what is closed nothing is kept but the place.
//!
//! Where more than [`PAGE`] lines would stand below one, they are taken together, as many at a time, in pages that open and close like
//! other lines and are no step of a path.

mod json;
mod xml;

use std::collections::VecDeque;
use std::io;
use std::ops::Range;

use kyanite_tree::{counted, name_step};

use crate::{Line, Outline, Position};

/// The bytes of a document, as far as they are there.
pub trait Bytes {
    /// How many there are so far.
    fn count(&self) -> u64;
    /// Whether no more will come.
    fn is_complete(&self) -> bool;
    /// Reads from a byte on; less than wanted only where no more are there.
    ///
    /// # Errors
    /// What reading gives.
    fn read_at(&self, at: u64, out: &mut [u8]) -> io::Result<usize>;
}

/// What a large document is written in.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Notation {
    /// One JSON value.
    Json,
    /// JSON values, one behind the other.
    JsonLines,
    /// XML.
    Xml,
}

/// The most lines that stand below one without pages.
pub const PAGE: u64 = 1000;

/// The bytes that are scanned at a time.
const BLOCK: usize = 1 << 20;

/// How many blocks are scanned before a key is done with.
const AT_ONCE: usize = 16;

/// The most bytes of a value that are read to show it on a line.
const SHOWN: usize = 1 << 16;

/// The bytes of a value that are read at first.
const GLANCE: usize = 1 << 12;

/// The most bytes of a value that are shown whole.
const WHOLE: usize = 1 << 20;

/// The most bytes that a tag, comment or name may have.
const LONGEST: usize = 1 << 26;

/// A large document, of which some lines are open.
pub struct LargeTree {
    bytes: Box<dyn Bytes>,
    notation: Notation,
    nodes: Vec<Node>,
    /// The lines that are seen, by their nodes.
    lines: Vec<u32>,
    /// Nodes that are scanned, the one that was opened last in front.
    scanned: VecDeque<u32>,
    /// How many bytes are scanned at a time.
    block: usize,
}

struct Node {
    parent: u32,
    depth: u32,
    step: Step,
    /// Where its value begins.
    at: u64,
    /// Where it begins itself: of a member that is its name.
    begin: u64,
    children: Vec<u32>,
    /// How many children were found, if it was opened.
    count: Option<u64>,
    /// What looks for more of them.
    scan: Option<Scan>,
    is_open: bool,
}

/// The way from a node to one below it.
#[derive(Clone, PartialEq, Eq, Debug)]
enum Step {
    /// The document.
    Root,
    /// A member, by its name as it is written.
    Member(String),
    Item(u64),
    /// So many children, from that one on.
    Page(u64),
    /// The element of a name and a position among those of that name.
    Element(String, u64),
    Attribute(String),
    /// A text by its position.
    Text(u64),
}

/// A scan of what stands in a node.
#[derive(Clone)]
struct Scan {
    /// The byte that comes next.
    at: u64,
    /// How many children were found, with those before the page.
    count: u64,
    /// Where it ends: behind the last child of the page.
    end: Option<u64>,
    kind: Kind,
    /// How many bytes are read at once.
    block: usize,
}

#[derive(Clone)]
enum Kind {
    Json(json::Scan),
    Xml(xml::Scan),
}

/// A child that a scan has found.
struct Child {
    step: Step,
    at: u64,
    /// Where a scan may begin to find it as the first, if it is cheap to say.
    entry: u64,
}

impl Child {
    /// Where it begins itself.
    fn begin(&self) -> u64 {
        if let Step::Member(_) = self.step { self.entry } else { self.at }
    }
}

/// How far a scan came in a block.
struct Scanned {
    /// The bytes that are done with.
    used: usize,
    /// Whether all that stands in the node was found.
    is_over: bool,
}

impl Scan {
    fn new(notation: Notation, at: u64, is_root: bool, block: usize) -> Self {
        let kind = match notation {
            Notation::JsonLines if is_root => Kind::Json(json::Scan::of_stream()),
            Notation::Json | Notation::JsonLines => Kind::Json(json::Scan::default()),
            Notation::Xml if is_root => Kind::Xml(xml::Scan::of_document()),
            Notation::Xml => Kind::Xml(xml::Scan::default()),
        };
        Self { at, count: 0, end: None, kind, block }
    }

    /// Scans a block; gives the children in it.
    fn block(&mut self, block: &[u8], is_last: bool, found: &mut Vec<(Child, Scan)>) -> Scanned {
        let (at, end) = (self.at, self.end);
        let mut count = self.count;
        let before = self.clone();
        let mut take = |child: Child, kind: Kind| {
            if end.is_some_and(|end| count >= end) {
                return false;
            }
            count += 1;
            let resumed = Scan { at: child.entry, count: count - 1, kind, ..before.clone() };
            found.push((child, resumed));
            true
        };
        let scanned = match &mut self.kind {
            Kind::Json(scan) => scan.block(block, at, &mut take),
            Kind::Xml(scan) => scan.block(block, at, is_last, &mut take),
        };
        self.count = count;
        self.at += scanned.used as u64;
        scanned
    }
}

impl LargeTree {
    /// A document in a notation, of which nothing was read yet.
    #[must_use]
    pub fn new(bytes: Box<dyn Bytes>, notation: Notation) -> Self {
        let root = Node {
            parent: 0,
            depth: 0,
            step: Step::Root,
            at: 0,
            begin: 0,
            children: Vec::new(),
            count: None,
            scan: None,
            is_open: false,
        };
        let mut tree = Self {
            bytes,
            notation,
            nodes: vec![root],
            lines: vec![0],
            scanned: VecDeque::new(),
            block: BLOCK,
        };
        tree.open(0);
        tree
    }

    /// Whether there is more to be scanned of what is open, and the bytes for it are there.
    #[must_use]
    pub fn has_work(&self) -> bool {
        self.scanned.iter().any(|node| {
            let scan = self.nodes[*node as usize].scan.as_ref();
            scan.is_some_and(|scan| scan.at < self.bytes.count() || self.bytes.is_complete())
        })
    }

    /// Scans about so many bytes of what is open. What cannot be read ends its scan.
    pub fn work(&mut self, most: usize) {
        let mut left = most;
        let mut block = Vec::new();
        for _ in 0..self.scanned.len() {
            let Some(node) = self.scanned.pop_front() else { break };
            while left > 0 && self.nodes[node as usize].scan.is_some() {
                let used = self.scan(node, &mut block);
                if used == 0 {
                    break;
                }
                left = left.saturating_sub(used);
            }
            if self.nodes[node as usize].scan.is_some() {
                self.scanned.push_back(node);
            }
        }
        self.lay_out();
    }

    /// Scans a block of a node; gives how many bytes that took.
    fn scan(&mut self, node: u32, block: &mut Vec<u8>) -> usize {
        let Some(mut scan) = self.nodes[node as usize].scan.take() else { return 0 };
        block.resize(scan.block, 0);
        let is_complete = self.bytes.is_complete();
        let read = self.bytes.read_at(scan.at, block).unwrap_or(0);
        let is_last = is_complete && scan.at + read as u64 >= self.bytes.count();
        let mut found = Vec::new();
        let scanned = scan.block(&block[..read], is_last, &mut found);
        for (child, resumed) in found {
            self.add(node, child, resumed);
        }
        self.nodes[node as usize].count = Some(scan.count);
        if scanned.used == 0 && !is_last {
            // A token is longer than the block, unless more is still to come.
            scan.block = (scan.block * 2).min(LONGEST);
        } else {
            scan.block = self.block;
        }
        let is_stuck = scanned.used == 0 && (is_last || block.len() >= LONGEST);
        if !scanned.is_over && !is_stuck {
            self.nodes[node as usize].scan = Some(scan);
        }
        scanned.used
    }

    /// Puts a child below a node, or below its last page.
    fn add(&mut self, node: u32, child: Child, resumed: Scan) {
        let own = &self.nodes[node as usize];
        let (depth, number) = (own.depth + 1, resumed.count);
        let begin = child.begin();
        let is_page = matches!(own.step, Step::Page(_));
        if is_page || number < PAGE {
            let made = self.push(node, depth, child.step, child.at, begin);
            self.nodes[node as usize].children.push(made);
            return;
        }
        if number == PAGE {
            // What was found so far is the first page.
            let children = std::mem::take(&mut self.nodes[node as usize].children);
            let at = self.nodes[node as usize].at;
            let page = self.push(node, depth, Step::Page(0), at, at);
            for child in &children {
                self.nodes[*child as usize].parent = page;
                self.deepen(*child);
            }
            let first = &mut self.nodes[page as usize];
            (first.children, first.count, first.is_open) = (children, Some(PAGE), true);
            self.nodes[node as usize].children.push(page);
        }
        if number.is_multiple_of(PAGE) {
            let page = self.push(node, depth, Step::Page(number), child.at, begin);
            let scan = Scan { end: Some(number + PAGE), ..resumed };
            self.nodes[page as usize].scan = Some(scan);
            self.nodes[node as usize].children.push(page);
        }
    }

    fn push(&mut self, parent: u32, depth: u32, step: Step, at: u64, begin: u64) -> u32 {
        let made = u32::try_from(self.nodes.len()).unwrap_or(u32::MAX);
        let node = Node {
            parent,
            depth,
            step,
            at,
            begin,
            children: Vec::new(),
            count: None,
            scan: None,
            is_open: false,
        };
        self.nodes.push(node);
        made
    }

    /// Sets a node and all below it one level further in.
    fn deepen(&mut self, node: u32) {
        let mut open = vec![node];
        while let Some(node) = open.pop() {
            self.nodes[node as usize].depth += 1;
            open.extend(self.nodes[node as usize].children.iter().copied());
        }
    }

    fn node(&self, line: usize) -> Option<&Node> {
        self.lines.get(line).map(|node| &self.nodes[*node as usize])
    }

    /// Opens a node; what stands below it is found by and by.
    fn open(&mut self, number: u32) {
        let node = &mut self.nodes[number as usize];
        node.is_open = true;
        let is_root = node.step == Step::Root;
        if node.count.is_none() {
            node.count = Some(0);
            if node.scan.is_none() {
                let at = node.at;
                node.scan = Some(Scan::new(self.notation, at, is_root, self.block));
            }
            self.scanned.push_front(number);
        }
    }

    /// Opens a node, and finds at least so many children now, if there are as many in some blocks.
    fn open_now(&mut self, number: u32, children: u64) {
        self.open(number);
        let mut block = Vec::new();
        for _ in 0..AT_ONCE {
            let node = &self.nodes[number as usize];
            if node.count.is_some_and(|count| count >= children)
                || self.scan(number, &mut block) == 0
            {
                break;
            }
        }
    }

    /// Works out which lines are seen.
    fn lay_out(&mut self) {
        self.lines.clear();
        let mut open = vec![0_u32];
        while let Some(node) = open.pop() {
            self.lines.push(node);
            let Node { is_open: true, children, .. } = &self.nodes[node as usize] else { continue };
            open.extend(children.iter().rev());
        }
    }

    /// The bytes from one on, at most so many.
    fn window(&self, at: u64, most: usize) -> Vec<u8> {
        let left = usize::try_from(self.bytes.count().saturating_sub(at)).unwrap_or(usize::MAX);
        let mut bytes = vec![0; most.min(left)];
        let read = self.bytes.read_at(at, &mut bytes).unwrap_or(0);
        bytes.truncate(read);
        bytes
    }

    /// How a node is shown: its value, if it is a scalar, its kind, and whether anything stands below it.
    fn glance(&self, node: &Node) -> Glance {
        let look = |bytes: &[u8]| match self.notation {
            Notation::Json | Notation::JsonLines => json::glance(bytes),
            Notation::Xml => xml::glance(bytes, &node.step),
        };
        // Most values are short.
        let short = look(&self.window(node.at, GLANCE));
        if short.is_whole { short } else { look(&self.window(node.at, SHOWN)) }
    }

    /// What a container is called with so many children.
    fn counted(&self, node: &Node, fallback: &str) -> String {
        let what = match (self.notation, fallback) {
            (Notation::Xml, _) => "node",
            (_, "map") => "member",
            _ => "item",
        };
        match (node.count, &node.scan) {
            (Some(count), None) => counted(count, what),
            (Some(count), Some(_)) if count > 0 => format!("{} so far", counted(count, what)),
            _ => fallback.to_owned(),
        }
    }

    fn steps(&self, mut node: u32) -> Vec<&Step> {
        let mut steps = Vec::new();
        while node != 0 {
            let own = &self.nodes[node as usize];
            if !matches!(own.step, Step::Page(_)) {
                steps.push(&own.step);
            }
            node = own.parent;
        }
        steps.reverse();
        steps
    }

    /// The child of an open node that a byte is in, as far as they were found: the last that begins before it.
    fn child_around(&self, node: u32, at: u64) -> Option<u32> {
        let children = &self.nodes[node as usize].children;
        let behind = children.partition_point(|child| self.nodes[*child as usize].begin <= at);
        behind.checked_sub(1).map(|before| children[before])
    }

    /// The child of a number, or the nearest that some blocks hold; what it stands in is opened.
    fn child_of_number(&mut self, node: u32, number: u64) -> Option<u32> {
        self.open_now(node, number + 1);
        let children = &self.nodes[node as usize].children;
        let nearest = |number: u64| {
            let last = children.len().checked_sub(1)?;
            children.get(usize::try_from(number).map_or(last, |number| number.min(last))).copied()
        };
        let first = nearest(0)?;
        if !matches!(self.nodes[first as usize].step, Step::Page(_)) {
            return nearest(number);
        }
        let page = nearest(number / PAGE)?;
        self.open_now(page, u64::MAX);
        let children = &self.nodes[page as usize].children;
        let last = children.len().checked_sub(1)?;
        Some(children[((number % PAGE) as usize).min(last)])
    }

    /// Scans a node until it was passed or a child was found that begins behind a byte.
    fn scan_to(&mut self, node: u32, at: u64) {
        let mut block = Vec::new();
        while self.nodes[node as usize].scan.as_ref().is_some_and(|scan| scan.at <= at) {
            if self.scan(node, &mut block) == 0 {
                break;
            }
        }
    }

    /// The steps to what a byte is in, as far as that is known or found in few bytes.
    fn steps_to(&self, at: u64) -> Option<Vec<Step>> {
        let mut steps = Vec::new();
        let mut node = 0;
        loop {
            let own = &self.nodes[node as usize];
            let is_found = own.scan.as_ref().is_none_or(|scan| scan.at > at);
            if own.count.is_none() || !is_found {
                let is_root = node == 0;
                let fresh = || Scan::new(self.notation, own.at, is_root, self.block);
                let scan = own.scan.clone().unwrap_or_else(fresh);
                return self.found_below(scan, at, &mut steps).then_some(steps);
            }
            let Some(child) = self.child_around(node, at) else { return Some(steps) };
            let own = &self.nodes[child as usize];
            if !matches!(own.step, Step::Page(_)) {
                steps.push(own.step.clone());
                if own.at >= at {
                    return Some(steps);
                }
            }
            node = child;
        }
    }

    /// Adds the steps to what a byte is in below a node that is scanned so; tells whether that was found in few bytes.
    fn found_below(&self, mut scan: Scan, at: u64, steps: &mut Vec<Step>) -> bool {
        let mut left = AT_ONCE * BLOCK;
        loop {
            let mut around = None;
            let mut found = Vec::new();
            while scan.at <= at {
                if left == 0 {
                    return false;
                }
                let block = self.window(scan.at, scan.block);
                let is_last = scan.at + block.len() as u64 >= self.bytes.count();
                let scanned = scan.block(&block, is_last, &mut found);
                let children = found.drain(..).map(|(child, _)| child);
                around = children.take_while(|child| child.begin() <= at).last().or(around);
                left = left.saturating_sub(scanned.used.max(1));
                if scanned.is_over || scanned.used == 0 {
                    break;
                }
            }
            let Some(Child { step, at: begin, .. }) = around else { return true };
            steps.push(step);
            if begin >= at {
                return true;
            }
            scan = Scan::new(self.notation, begin, false, self.block);
        }
    }

    fn line_of(&self, node: u32) -> Option<usize> {
        self.lines.iter().position(|line| *line == node)
    }
}

/// A node at a glance.
struct Glance {
    value: Option<String>,
    /// A word for what it is.
    kind: String,
    has_children: bool,
    /// Whether its end was seen.
    is_whole: bool,
}

impl<'a> Outline<'a> for LargeTree {
    fn len(&self) -> usize {
        self.lines.len()
    }

    fn line(&self, line: usize) -> Option<Line> {
        let node = self.node(line)?;
        let name = match &node.step {
            Step::Root => String::new(),
            Step::Member(name) => json::unescaped(name),
            Step::Item(at) => format!("[{at}]"),
            Step::Page(first) => {
                let all = self.nodes[node.parent as usize].count.unwrap_or(0);
                format!("{first} … {}", all.min(first + PAGE).saturating_sub(1))
            }
            Step::Element(name, _) => name.clone(),
            Step::Attribute(name) => format!("@{name}"),
            Step::Text(_) => "text()".to_owned(),
        };
        let depth = node.depth as usize;
        let is_stream = node.step == Step::Root && self.notation != Notation::Json;
        if is_stream || matches!(node.step, Step::Page(_)) {
            let kind = if is_stream { self.counted(node, "list") } else { String::new() };
            return Some(Line { depth, name, value: None, kind, is_open: Some(node.is_open) });
        }
        let Glance { value, kind, has_children, is_whole } = self.glance(node);
        let kind = if is_whole { kind } else { self.counted(node, &kind) };
        Some(Line { depth, name, value, kind, is_open: has_children.then_some(node.is_open) })
    }

    fn path(&self, line: usize) -> String {
        let Some(node) = self.lines.get(line) else { return String::new() };
        let steps: Vec<Step> = self.steps(*node).into_iter().cloned().collect();
        written(&steps, self.notation)
    }

    fn path_at(&self, position: &Position<'a>) -> Option<String> {
        let Position::Byte(at) = position else { return None };
        let steps = self.steps_to(*at);
        Some(steps.map_or_else(|| format!("byte {at}"), |steps| written(&steps, self.notation)))
    }

    fn whole(&self, line: usize) -> String {
        let Some(node) = self.node(line) else { return String::new() };
        if matches!(node.step, Step::Page(_)) {
            return String::new();
        }
        let bytes = self.window(node.at, WHOLE);
        match self.notation {
            Notation::Json | Notation::JsonLines => json::whole(&bytes),
            Notation::Xml => xml::whole(&bytes, &node.step),
        }
    }

    fn toggle(&mut self, line: usize) -> bool {
        let Some(number) = self.lines.get(line).copied() else { return false };
        if self.line(line).is_none_or(|line| line.is_open.is_none()) {
            return false;
        }
        if self.nodes[number as usize].is_open {
            self.nodes[number as usize].is_open = false;
        } else {
            self.open_now(number, 1);
        }
        self.lay_out();
        true
    }

    fn parent(&self, line: usize) -> usize {
        let Some(node) = self.node(line) else { return 0 };
        self.lines[..line].iter().rposition(|other| *other == node.parent).unwrap_or(0)
    }

    fn open_to(&mut self, line: usize, depth: usize, most: usize) -> bool {
        let Some(start) = self.lines.get(line).copied() else { return true };
        let base = self.nodes[start as usize].depth;
        let (mut made, mut is_all) = (0, true);
        // Level by level, so that what is opened is what stands above all.
        let mut level = VecDeque::from([start]);
        while let Some(number) = level.pop_front() {
            let node = &self.nodes[number as usize];
            if (node.depth - base) as usize >= depth {
                self.nodes[number as usize].is_open = false;
                continue;
            }
            let is_page = matches!(node.step, Step::Page(first) if first > 0);
            if made > most.min(PAGE as usize * 4) || is_page {
                is_all = false;
                continue;
            }
            if number != 0 && !is_page && !self.glance(&self.nodes[number as usize]).has_children {
                continue;
            }
            self.open_now(number, 1);
            made += self.nodes[number as usize].children.len();
            level.extend(self.nodes[number as usize].children.iter().copied());
        }
        self.lay_out();
        is_all
    }

    fn numbers(&self, line: usize) -> Vec<u32> {
        let Some(mut node) = self.lines.get(line).copied() else { return Vec::new() };
        let mut numbers = Vec::new();
        while node != 0 {
            let parent = self.nodes[node as usize].parent;
            let siblings = &self.nodes[parent as usize].children;
            let number = siblings.iter().position(|sibling| *sibling == node).unwrap_or(0);
            // Pages are no step of their own.
            let before = match self.nodes[parent as usize].step {
                Step::Page(first) => first,
                _ => 0,
            };
            if !matches!(self.nodes[node as usize].step, Step::Page(_)) {
                numbers.push(u32::try_from(before + number as u64).unwrap_or(u32::MAX));
            }
            node = parent;
        }
        numbers.reverse();
        numbers
    }

    fn show_numbers(&mut self, numbers: &[u32]) -> usize {
        let mut node = 0;
        for number in numbers {
            let Some(child) = self.child_of_number(node, u64::from(*number)) else { break };
            node = child;
        }
        self.lay_out();
        self.line_of(node).unwrap_or(0)
    }

    fn show(&mut self, position: &Position<'a>) -> Option<usize> {
        let Position::Byte(at) = position else { return None };
        let mut node = 0;
        loop {
            self.open(node);
            self.scan_to(node, *at);
            let Some(child) = self.child_around(node, *at) else { break };
            let is_page = matches!(self.nodes[child as usize].step, Step::Page(_));
            node = child;
            // The value itself, or a scalar that the byte is in.
            if !is_page
                && (self.nodes[child as usize].at >= *at
                    || !self.glance(&self.nodes[child as usize]).has_children)
            {
                break;
            }
        }
        self.lay_out();
        self.line_of(node)
    }

    fn search(&self, _text: &str, _most: usize) -> Option<(Vec<Position<'a>>, usize)> {
        None
    }

    fn work(&mut self, most: usize) -> bool {
        let has_work = self.has_work();
        if has_work {
            LargeTree::work(self, most);
        }
        has_work
    }
}

/// Steps as a path.
fn written(steps: &[Step], notation: Notation) -> String {
    let mut path = String::from(if notation == Notation::Xml { "" } else { "$" });
    for step in steps {
        match step {
            Step::Member(name) => path.push_str(&name_step(&json::unescaped(name))),
            Step::Item(at) => path.push_str(&format!("[{at}]")),
            Step::Element(name, position) => path.push_str(&format!("/{name}[{position}]")),
            Step::Attribute(name) => path.push_str(&format!("/@{name}")),
            Step::Text(position) => path.push_str(&format!("/text()[{position}]")),
            Step::Root | Step::Page(_) => {}
        }
    }
    if path.is_empty() { "/".to_owned() } else { path }
}

/// A part of a text that is UTF-8, and whether that is all of it.
fn as_text(bytes: &[u8]) -> &str {
    match std::str::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) => std::str::from_utf8(&bytes[..error.valid_up_to()]).unwrap_or_default(),
    }
}

/// Where in a text something first stands, from a byte on.
fn find(block: &[u8], range: Range<usize>, what: &[u8]) -> Option<usize> {
    memchr::memmem::find(&block[range.clone()], what).map(|at| range.start + at)
}

#[cfg(test)]
mod tests {
    use kyanite_formats::Format;
    use kyanite_formats::documents::{self, Options};
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    use super::*;
    use crate::Tree;

    /// A text of which so much is there.
    struct Held(Vec<u8>);

    impl Bytes for Held {
        fn count(&self) -> u64 {
            self.0.len() as u64
        }

        fn is_complete(&self) -> bool {
            true
        }

        fn read_at(&self, at: u64, out: &mut [u8]) -> io::Result<usize> {
            let rest = self.0.get(at as usize..).unwrap_or_default();
            let count = rest.len().min(out.len());
            out[..count].copy_from_slice(&rest[..count]);
            Ok(count)
        }
    }

    fn large(text: &str, notation: Notation, block: usize) -> LargeTree {
        let mut tree = LargeTree::new(Box::new(Held(text.as_bytes().to_vec())), notation);
        tree.block = block;
        tree.nodes[0].scan = Some(Scan::new(notation, 0, true, block));
        while tree.has_work() {
            tree.work(1000);
        }
        tree
    }

    /// All lines, with everything open, and their paths.
    fn all(tree: &mut dyn Outline<'_>) -> Vec<(Line, String)> {
        // What stands below a line is found once that is open.
        for _ in 0..8 {
            tree.open_to(0, usize::MAX, usize::MAX);
            while tree.work(1000) {}
        }
        (0..tree.len()).map(|at| (tree.line(at).unwrap(), tree.path(at))).collect()
    }

    fn assert_same(format: Format, text: &str, notation: Notation, block: usize) {
        let arena = Arena::new();
        let held = documents::read(format, text, &arena, Options::default()).unwrap();
        let mut held = Tree::new(held.roots[0]);
        let mut large = large(text, notation, block);
        let without_root =
            |lines: Vec<(Line, String)>| lines.into_iter().skip(1).collect::<Vec<_>>();
        let (held, found) = (without_root(all(&mut held)), without_root(all(&mut large)));
        assert_eq!(found, held, "{text}");
    }

    #[test]
    fn xml_is_as_when_it_is_held() {
        for text in [
            "<a/>",
            "<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b 'c'>]><!-- <x> --><a n='1' m=\"x > y\">t &lt; &#65;</a>",
            "<a><b/><b k='2'>u</b><c>x<d/>y</c><![CDATA[<&]]></a>",
            "<a>\n  <b>1</b>\n  <!-- c --><b><c><b>2</b></c></b>\n</a>\n<!-- end -->",
            "<m:a xmlns:m='u'><m:b m:k='v'/></m:a>",
        ] {
            for block in [8, 20, 4096] {
                assert_same(Format::Xml, text, Notation::Xml, block);
            }
        }
    }

    #[test]
    fn many_children_come_in_pages() {
        let records: Vec<String> = (0..2500).map(|n| format!("{{\"n\":{n}}}")).collect();
        let list = format!("{{\"page\":1,\"of\":[{}],\"end\":true}}", records.join(","));
        for (text, notation, line) in
            [(records.join("\n"), Notation::JsonLines, 0), (list, Notation::Json, 2)]
        {
            let mut tree = large(&text, notation, 100);
            if line > 0 {
                assert!(tree.toggle(line));
                while tree.has_work() {
                    tree.work(10_000);
                }
            }
            assert_eq!(tree.line(line).unwrap().kind, "2500 items");
            // The first page is open, the others are not.
            let pages = [line + 1, line + 1002, line + 1003];
            let names = pages.map(|at| tree.line(at).unwrap().name);
            assert_eq!(names, ["0 … 999", "1000 … 1999", "2000 … 2499"]);
            let depth = tree.line(line + 2).unwrap().depth;
            assert_eq!(depth, tree.line(line + 1).unwrap().depth + 1);
            tree.toggle(pages[2]);
            while tree.has_work() {
                tree.work(10_000);
            }
            let steps = if line == 0 { "$" } else { "$.of" };
            assert_eq!(tree.path(pages[2] + 500), format!("{steps}[2499]"));
            assert_eq!(tree.whole(pages[2] + 500), "{\n  \"n\": 2499\n}");
            // A byte leads to the line of the value that it is in.
            let mut other = large(&text, notation, 100);
            let at = text.find("1234}").unwrap() as u64;
            let found = other.path_at(&Position::Byte(at));
            assert_eq!(found, Some(format!("{steps}[1234].n")));
            let shown = other.show(&Position::Byte(at)).unwrap();
            assert_eq!(other.path(shown), format!("{steps}[1234].n"));
            let numbers = other.numbers(shown);
            let mut again = large(&text, notation, 1000);
            let line = again.show_numbers(&numbers);
            assert_eq!(again.path(line), format!("{steps}[1234].n"));
        }
    }

    #[test]
    fn pages_of_elements_count_on() {
        let elements: Vec<String> =
            (0..1500).map(|n| format!("<{0}>{n}</{0}>", ["a", "b"][n % 2])).collect();
        let mut tree = large(&format!("<r>{}</r>", elements.concat()), Notation::Xml, 100);
        tree.toggle(1);
        while tree.has_work() {
            tree.work(10_000);
        }
        tree.toggle(1003);
        while tree.has_work() {
            tree.work(10_000);
        }
        assert_eq!(
            (tree.path(1004), tree.path(1005)),
            ("/r[1]/a[501]".into(), "/r[1]/b[501]".into())
        );
        assert_eq!(tree.line(1005).unwrap().value.unwrap(), "1001");
    }

    #[test]
    fn what_is_broken_is_shown_as_it_is() {
        for (text, notation) in [
            ("{\"a\": 1, \"b\" 2, c}", Notation::Json),
            ("[1, tru, {\"a\": ]", Notation::Json),
            ("", Notation::Json),
            ("\"text\"", Notation::Json),
            ("{\"a\": \"", Notation::JsonLines),
            ("<a><b></a>", Notation::Xml),
            ("<a b='", Notation::Xml),
            ("<", Notation::Xml),
            ("<!", Notation::Xml),
        ] {
            let mut tree = large(text, notation, 8);
            assert!(!all(&mut tree).is_empty(), "{text}");
        }
    }

    fn any_json() -> impl Strategy<Value = serde_json::Value> {
        let leaf = prop_oneof![
            Just(serde_json::Value::Null),
            any::<i32>().prop_map(Into::into),
            "[a\"\\\\\\[{},:é]{0,9}".prop_map(Into::into),
        ];
        leaf.prop_recursive(4, 30, 5, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..5).prop_map(Into::into),
                prop::collection::btree_map("[a-c\"\\\\é]{0,3}", inner, 0..5)
                    .prop_map(|map| serde_json::Value::Object(map.into_iter().collect())),
            ]
        })
    }

    proptest! {
        #[test]
        fn json_is_as_when_it_is_held(value in any_json(), block in 8usize..60, is_pretty in any::<bool>()) {
            let text = if is_pretty { serde_json::to_string_pretty(&value) } else { serde_json::to_string(&value) };
            assert_same(Format::Json, &text.unwrap(), Notation::Json, block);
        }

        #[test]
        fn never_panics(text in "[\\[\\]{}<>/\"'!a=& ,:\\\\-]{0,40}", block in 1usize..20) {
            for notation in [Notation::Json, Notation::JsonLines, Notation::Xml] {
                let mut tree = large(&text, notation, block);
                let _ = all(&mut tree);
                let _ = tree.show(&Position::Byte(7));
                (0..tree.len()).for_each(|at| drop(tree.whole(at)));
            }
        }
    }
}
