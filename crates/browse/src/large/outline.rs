//! A large tree as an outline.

use std::collections::VecDeque;

use super::scan::Step;
use super::{Glance, LargeTree, Notation, PAGE, WHOLE, json, written, xml};
use crate::{Line, Outline, Position, line_above};

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
        written(&self.steps(*node), self.notation)
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
        self.node(line).map_or(0, |node| line_above(&self.lines[..line], node.parent))
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
            // Of pages only the first is opened.
            let is_further = matches!(node.step, Step::Page(first) if first > 0);
            if made > most.min(PAGE as usize * 4) || is_further {
                is_all = false;
                continue;
            }
            if number != 0 && !self.glance(&self.nodes[number as usize]).has_children {
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
        if !self.has_work() {
            return false;
        }
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
        true
    }
}
