//! A document larger than memory, shown as a tree of lines. A node is a position in the document's bytes; its children are found by
//! a scan that stops after a number of bytes and resumes later. A closed node keeps only its position.
//!
//! A node with more than [`PAGE`] children shows them in pages, which open and close like other lines but are no step of a path.

mod json;
mod outline;
mod scan;
mod xml;

use std::collections::VecDeque;
use std::io;

use kyanite_tree::{counted, name_step};

use scan::{Child, Found, Scan, Scanned, Step, Take};

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

/// Bytes in memory, all of which are there.
impl Bytes for Vec<u8> {
    fn count(&self) -> u64 {
        self.len() as u64
    }

    fn is_complete(&self) -> bool {
        true
    }

    fn read_at(&self, at: u64, out: &mut [u8]) -> io::Result<usize> {
        let at = usize::try_from(at).unwrap_or(usize::MAX);
        let rest = self.get(at..).unwrap_or_default();
        let count = rest.len().min(out.len());
        out[..count].copy_from_slice(&rest[..count]);
        Ok(count)
    }
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

impl Node {
    /// A node that is closed.
    fn new((parent, depth): (u32, u32), step: Step, at: u64, begin: u64) -> Self {
        let (children, count, scan, is_open) = (Vec::new(), None, None, false);
        Self { parent, depth, step, at, begin, children, count, scan, is_open }
    }
}

impl LargeTree {
    /// A document in a notation, of which nothing was read yet.
    #[must_use]
    pub fn new(bytes: Box<dyn Bytes>, notation: Notation) -> Self {
        let mut tree = Self {
            bytes,
            notation,
            nodes: vec![Node::new((0, 0), Step::Root, 0, 0)],
            lines: vec![0],
            scanned: VecDeque::new(),
            block: BLOCK,
        };
        tree.open(0);
        tree
    }

    /// Whether there is more to be scanned of what is open, and the bytes for it are there.
    fn has_work(&self) -> bool {
        self.scanned.iter().any(|node| {
            let scan = self.nodes[*node as usize].scan.as_ref();
            scan.is_some_and(|scan| scan.at < self.bytes.count() || self.bytes.is_complete())
        })
    }

    /// Scans a block of a node; gives how many bytes that took.
    fn scan(&mut self, node: u32, block: &mut Vec<u8>) -> usize {
        let Some(mut scan) = self.nodes[node as usize].scan.take() else { return 0 };
        block.resize(scan.block, 0);
        let is_complete = self.bytes.is_complete();
        let read = self.bytes.read_at(scan.at, block).unwrap_or(0);
        let is_last = is_complete && scan.at + read as u64 >= self.bytes.count();
        let mut found = Vec::new();
        let Scanned { used, is_over } = scan.block(&block[..read], is_last, &mut found);
        for found in found {
            self.add(node, found);
        }
        self.nodes[node as usize].count = Some(scan.count);
        // A block of which nothing was used ends within a token, which may be longer than the block, or still be coming in.
        let (is_stuck, is_full) = (used == 0, read == block.len());
        let may_grow = is_full && scan.block < LONGEST;
        scan.block = if is_stuck && may_grow { scan.block * 2 } else { self.block };
        let is_hopeless = is_stuck && !may_grow && (is_full || is_complete);
        if !is_over && !is_hopeless {
            self.nodes[node as usize].scan = Some(scan);
        }
        used
    }

    /// Puts a child below a node, or below its last page.
    fn add(&mut self, node: u32, found: Found) {
        let Found { child, number, page } = found;
        let own = &self.nodes[node as usize];
        let (depth, begin) = (own.depth + 1, child.begin());
        let is_page = matches!(own.step, Step::Page(_));
        if is_page || number < PAGE {
            let made = self.push(Node::new((node, depth), child.step, child.at, begin));
            self.nodes[node as usize].children.push(made);
            return;
        }
        if number == PAGE {
            // What was found so far is the first page.
            let children = std::mem::take(&mut self.nodes[node as usize].children);
            let at = self.nodes[node as usize].at;
            let page = self.push(Node::new((node, depth), Step::Page(0), at, at));
            for child in &children {
                self.nodes[*child as usize].parent = page;
                self.deepen(*child);
            }
            let first = &mut self.nodes[page as usize];
            (first.children, first.count, first.is_open) = (children, Some(PAGE), true);
            self.nodes[node as usize].children.push(page);
        }
        if page.is_some() {
            let step = Step::Page(number);
            let made = Node { scan: page, ..Node::new((node, depth), step, child.at, begin) };
            let page = self.push(made);
            self.nodes[node as usize].children.push(page);
        }
    }

    fn push(&mut self, node: Node) -> u32 {
        let made = u32::try_from(self.nodes.len()).unwrap_or(u32::MAX);
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

    /// Opens a node, and scans some blocks for at least `children` children.
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

    /// At most `most` bytes from `at` on.
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

    /// The line of a closed container: how many children it has, or `fallback`.
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

    fn steps(&self, mut node: u32) -> Vec<Step> {
        let mut steps = Vec::new();
        while node != 0 {
            let own = &self.nodes[node as usize];
            if !matches!(own.step, Step::Page(_)) {
                steps.push(own.step.clone());
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
            if own.count.is_none() {
                let fresh = || Scan::new(self.notation, own.at, false, self.block);
                let scan = own.scan.clone().unwrap_or_else(fresh);
                return self.found_below(scan, at, &mut steps).then_some(steps);
            }
            // What is scanned meanwhile gets there by itself.
            if own.scan.as_ref().is_some_and(|scan| scan.at <= at) {
                return None;
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
                let children = found.drain(..).map(|found| found.child);
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

/// The beginning of bytes that is UTF-8.
fn as_text(bytes: &[u8]) -> &str {
    bytes.utf8_chunks().next().map_or("", |chunk| chunk.valid())
}

#[cfg(test)]
mod tests;
