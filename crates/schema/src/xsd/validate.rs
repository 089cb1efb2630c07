//! Documents against a schema, as their elements begin and end (XSD 1.0 part 1 sections 3.2.4, 3.3.4 and 3.4.4).
//!
//! What is kept is what is open: a document of any size is validated in memory for its depth, and for its keys and identifiers.

mod alike;
mod constraints;
mod placing;
mod recent;
mod telling;
mod values;

use std::collections::{HashMap, HashSet};

use foldhash::fast::RandomState;
use kyanite_tree::Content as Inside;
use kyanite_tree::{Attribute, Element, LineColumn, Name, Origin, is_blank};

use super::Schema;
use super::components::{Components, Content, ElementId, NameId, TypeId};
use super::documents::{XML, XSI};
use super::keys::{Keys, Met};
use super::model::{Run, State};
use super::simple::{Named, shown};
use crate::{Finding, RulePlace};
use alike::{Known, Learning};
use recent::Recent;

pub use alike::{Alike, ValueAt};

/// Something in a document that breaks the schema.
#[derive(Clone, Debug)]
pub struct Found {
    /// What is wrong, and where.
    pub finding: Finding,
    /// The path of the element or attribute, as an XPath.
    pub path: String,
    /// The line and column, where the text may be gone by the time that this is known.
    pub at: Option<LineColumn>,
}

/// Tells lines and columns of what is being read.
pub type Places<'p> = &'p dyn Fn(Origin) -> LineColumn;

/// How an element is looked at.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Mode {
    /// By its type.
    Typed(TypeId),
    /// It would have to be declared, and is not.
    Undeclared,
    /// Only elements in it that are declared.
    Lax,
    /// Not at all.
    Skipped,
}

/// An open element.
#[derive(Debug)]
struct Frame {
    /// How many elements of its name stand before it, with itself.
    position: u32,
    declared: Option<ElementId>,
    mode: Mode,
    /// The model of its content, and the state in that.
    model: Option<(usize, State)>,
    /// Particles that were reported missing: an element of one of these that comes later stands too late, and is not reported again.
    missed: Vec<u32>,
    is_nil: bool,
    /// Whether it was said already that something in it stands where it may not.
    has_odd_text: bool,
    has_content: bool,
    /// Where its name begins in the names of all that are open, and its text in their texts.
    name_start: usize,
    text_start: usize,
    keeps_text: bool,
    text_origin: Origin,
    origin: Origin,
    bindings: usize,
    counts: Counts,
}

/// How often children of each name were met.
#[derive(Debug, Default)]
struct Counts {
    few: Vec<(u64, u32)>,
    more: Option<HashMap<u64, u32, RandomState>>,
}

/// The most names that are looked through one by one.
const FEW: usize = 8;

impl Counts {
    /// The position of the next child of a name.
    fn next(&self, name: u64) -> u32 {
        let few = self.few.iter().find(|(known, _)| *known == name).map(|(_, count)| *count);
        let count = few.or_else(|| self.more.as_ref()?.get(&name).copied());
        count.unwrap_or_default().saturating_add(1)
    }

    fn count(&mut self, name: u64) -> u32 {
        if let Some((_, count)) = self.few.iter_mut().find(|(known, _)| *known == name) {
            *count = count.saturating_add(1);
            return *count;
        }
        if self.few.len() < FEW {
            self.few.push((name, 1));
            return 1;
        }
        let count = self.more.get_or_insert_default().entry(name).or_default();
        *count = count.saturating_add(1);
        *count
    }
}

/// Validates documents, one after another.
#[derive(Debug)]
pub struct Validator<'s> {
    components: &'s Components,
    /// The models that were used.
    runs: Vec<Option<Run>>,
    frames: Vec<Frame>,
    /// Frames that ended, for others to take their room.
    spare: Vec<Counts>,
    /// The names of the open elements as they are written.
    names: String,
    /// The texts of those that have only text.
    texts: String,
    /// Prefixes that are declared, and namespaces.
    bindings: Vec<(String, String)>,
    keys: Keys,
    /// Identifiers that were met.
    identifiers: HashSet<String, RandomState>,
    /// Identifiers that were referred to and not met yet.
    references: HashMap<String, Met, RandomState>,
    /// The unparsed entities that the document declares, in order.
    entities: Vec<String>,
    found: Vec<Found>,
    /// Named values of the text that is being looked at.
    named: Vec<Named>,
    recent: Recent,
    /// Scratch space for the names of attributes.
    met: Vec<NameId>,
    /// What is known of elements by their templates.
    known: Known<'s>,
    learning: Option<Learning<'s>>,
}

impl<'s> Validator<'s> {
    /// A validator for a schema.
    #[must_use]
    pub fn new(schema: &'s Schema) -> Self {
        let components = &schema.components;
        Self {
            components,
            runs: components.models.iter().map(|_| None).collect(),
            frames: Vec::new(),
            spare: Vec::new(),
            names: String::new(),
            texts: String::new(),
            bindings: Vec::new(),
            keys: Keys::default(),
            identifiers: HashSet::default(),
            references: HashMap::default(),
            entities: Vec::new(),
            found: Vec::new(),
            named: Vec::new(),
            recent: Recent::default(),
            met: Vec::new(),
            known: Known::default(),
            learning: None,
        }
    }

    /// What was found since this was last asked.
    pub fn take_found(&mut self) -> Vec<Found> {
        std::mem::take(&mut self.found)
    }

    /// The document ends; the next may begin.
    pub fn finish(&mut self) {
        let mut lost: Vec<(String, Met)> = self.references.drain().collect();
        lost.retain(|(name, _)| !self.identifiers.contains(name));
        lost.sort_by_key(|(_, met)| met.at);
        for (name, met) in lost {
            let message = format!("{name:?} refers to an identifier, and no element has it");
            let rule = RulePlace { origin: Origin::NONE, keyword: "IDREF" };
            let finding = Finding { message, advice: None, origin: met.origin, rule, unit: None };
            self.found.push(Found { finding, path: met.path, at: Some(met.at) });
        }
        self.give_up();
    }

    /// The document is given up; the next may begin.
    pub fn give_up(&mut self) {
        self.references.clear();
        self.frames.clear();
        self.names.clear();
        self.texts.clear();
        self.bindings.clear();
        self.keys.clear();
        self.identifiers.clear();
        self.entities.clear();
        self.known.scope = None;
        self.stop_learning();
    }

    /// The document declares these unparsed entities (XML 1.0 section 4.2.2); told before its first element begins.
    pub fn declare_entities<'e>(&mut self, names: impl Iterator<Item = &'e str>) {
        self.entities = names.map(str::to_owned).collect();
    }

    /// An element begins. Declarations of namespaces are among its attributes.
    pub fn begin(
        &mut self,
        name: Name<'_>,
        attributes: &[Attribute<'_>],
        origin: Origin,
        places: Places<'_>,
    ) {
        let bindings = self.bindings.len();
        let (mut own_type, mut own_nil) = (None, None);
        for attribute in attributes {
            if attribute.name.declares_namespace() {
                let prefix = attribute.name.qualified().strip_prefix("xmlns:").unwrap_or_default();
                self.bindings.push((prefix.to_owned(), attribute.value.to_owned()));
            } else if attribute.name.namespace() == XSI {
                match attribute.name.local() {
                    "type" => own_type = Some(attribute),
                    "nil" => own_nil = Some(attribute),
                    _ => {}
                }
            }
        }
        if self.bindings.len() > bindings {
            self.known.scope = None;
        }
        let id = self.components.names.find(name.namespace(), name.local());
        if let Some(learning) = &mut self.learning {
            learning.begin(self.frames.len(), id);
        }
        let counted = id.map_or_else(|| hash(name), |id| id.0 as u64);
        let position = match self.frames.last_mut() {
            Some(outer) => {
                outer.has_content = true;
                outer.counts.count(counted)
            }
            None => 1,
        };
        let frame = Frame {
            position,
            declared: None,
            mode: Mode::Lax,
            model: None,
            missed: Vec::new(),
            is_nil: false,
            has_odd_text: false,
            has_content: false,
            name_start: self.names.len(),
            text_start: self.texts.len(),
            keeps_text: false,
            text_origin: Origin::NONE,
            origin,
            bindings,
            counts: self.spare.pop().unwrap_or_default(),
        };
        // Where it may stand is asked of the element around it; what is said of it names it itself.
        let (declared, mode) = self.placed(name, id, &frame);
        self.frames.push(frame);
        self.names.push_str(name.qualified());
        let (declared, mode) = self.typed(name, (declared, mode), own_type);
        let is_nil = own_nil.is_some_and(|nil| self.nil(declared, mode, nil));
        let model = match mode {
            Mode::Typed(TypeId::Complex(id)) => match self.components.complex(id).content {
                Content::Elements(model) => {
                    Some((model, Run::start(&self.components.models[model])))
                }
                _ => None,
            },
            _ => None,
        };
        let has_text_type = match mode {
            Mode::Typed(id) => self.components.text_type(id).is_some(),
            _ => false,
        };
        let given = declared.and_then(|id| self.components.element(id).given.as_ref());
        if let Some(frame) = self.frames.last_mut() {
            (frame.declared, frame.mode, frame.model, frame.is_nil) =
                (declared, mode, model, is_nil);
            frame.keeps_text = has_text_type || given.is_some() && mode != Mode::Skipped;
        }
        if mode != Mode::Skipped {
            self.attributes(mode, attributes, origin, places);
        }
        self.begin_keys(name, declared, mode, attributes, (origin, places));
    }

    /// The run of a model.
    fn run(&mut self, model: usize) -> &mut Run {
        let components = self.components;
        self.runs[model].get_or_insert_with(|| Run::new(&components.models[model]))
    }

    /// What a prefix means here.
    fn namespace(&self, prefix: &str) -> Option<String> {
        let own = self.bindings.iter().rev().find(|(known, _)| known == prefix);
        match own {
            Some((_, uri)) => Some(uri.clone()),
            None if prefix == "xml" => Some(XML.to_owned()),
            None => prefix.is_empty().then(String::new),
        }
    }

    /// An element with all that is in it.
    pub fn element(&mut self, element: &Element<'_>, origin: Origin, places: Places<'_>) {
        self.begin(element.name, element.attributes, origin, places);
        for content in element.content {
            match content {
                Inside::Element(origin, inner) => self.element(inner, *origin, places),
                Inside::Text(origin, text) => self.text(text, *origin),
                _ => {}
            }
        }
        self.end(origin, places);
    }

    /// Text, or a part of it.
    #[inline]
    pub fn text(&mut self, text: &str, origin: Origin) {
        let Some(frame) = self.frames.last_mut() else { return };
        if frame.keeps_text {
            if !frame.text_origin.is_known() {
                frame.text_origin = origin;
            }
            self.texts.push_str(text);
            return;
        }
        let Mode::Typed(TypeId::Complex(id)) = frame.mode else { return };
        if text.is_empty() {
            return;
        }
        let complex = self.components.complex(id);
        if frame.is_nil {
            frame.has_content = true;
        }
        let is_odd = match complex.content {
            Content::Empty => true,
            _ => !complex.is_mixed && !is_blank(text),
        };
        if is_odd && !frame.has_odd_text {
            frame.has_odd_text = true;
            let is_empty = matches!(complex.content, Content::Empty);
            let begin = text.len() - text.trim_start().len();
            let message = match is_empty {
                true => format!("<{}> is empty, and no text may stand in it", self.open_name()),
                false => format!(
                    "in <{}> stand only elements, found the text {}",
                    self.open_name(),
                    shown(text.trim())
                ),
            };
            let rule = RulePlace { origin: complex.origin, keyword: "content" };
            let origin = if is_empty { origin } else { origin.behind(begin as u64) };
            self.tell(message, None, Some(origin), rule);
        }
    }

    /// The element that was begun last ends, with the end tag at `origin`.
    pub fn end(&mut self, origin: Origin, places: Places<'_>) {
        let Some(frame) = self.frames.last() else { return };
        let (mode, model, is_nil) = (frame.mode, frame.model, frame.is_nil);
        let text_start = frame.text_start;
        if let (Mode::Typed(of_type), Some((number, state))) = (mode, model)
            && !is_nil
            && !self.run(number).may_end(state)
        {
            self.ends_early(of_type, (number, state), origin);
        }
        if is_nil {
            let frame_has_content = frame_content(self.frames.last(), self.texts.len());
            if frame_has_content {
                let message = format!("<{}> is nil, and nothing may stand in it", self.open_name());
                let rule = RulePlace { origin: Origin::NONE, keyword: "xsi:nil" };
                self.tell(message, None, None, rule);
            }
        } else if self.frames.last().is_some_and(|frame| frame.keeps_text) {
            self.end_text(places);
        }
        self.end_keys();
        self.texts.truncate(text_start);
        if let Some(frame) = self.frames.pop() {
            self.names.truncate(frame.name_start);
            if self.bindings.len() > frame.bindings {
                self.bindings.truncate(frame.bindings);
                self.known.scope = None;
            }
            let mut counts = frame.counts;
            counts.few.clear();
            counts.more = None;
            self.spare.push(counts);
        }
    }

    /// Says what is missing at the end of an element.
    fn ends_early(&mut self, of_type: TypeId, (number, state): (usize, State), origin: Origin) {
        let first = self.run(number).first(state);
        let expected = self.expected(number, &first);
        let message =
            format!("<{}> ends too early: expected {}", self.open_name(), listed(&expected));
        let components = self.components;
        let rule =
            first.first().and_then(|leaf| components.models[number].leaves.get(*leaf as usize));
        let rule = match rule.map(|(_, origin)| *origin).filter(|origin| origin.is_known()) {
            Some(origin) => RulePlace { origin, keyword: "content" },
            None => self.type_place(of_type),
        };
        self.tell(message, None, Some(origin), rule);
    }
}

/// Whether an element has text or elements.
fn frame_content(frame: Option<&Frame>, texts: usize) -> bool {
    frame.is_some_and(|frame| frame.has_content || frame.keeps_text && texts > frame.text_start)
}

/// So many names are listed.
const SHOWN_NAMES: usize = 12;

/// Names in a sentence: `a, b or c`, cut where there are many.
fn listed(names: &[String]) -> String {
    const FEW: usize = 6;
    match names {
        [] => "nothing".into(),
        [one] => one.clone(),
        names if names.len() > FEW => {
            format!("{} or one of {} others", names[..FEW - 1].join(", "), names.len() - FEW + 1)
        }
        [names @ .., last] => format!("{} or {last}", names.join(", ")),
    }
}

/// A number for a name that no schema has, beyond those of names that one has.
fn hash(name: Name<'_>) -> u64 {
    let bytes = name.qualified().bytes();
    let hash = bytes.fold(0xCBF2_9CE4_8422_2325_u64, |hash, byte| {
        (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01B3)
    });
    hash | 1 << 63
}
