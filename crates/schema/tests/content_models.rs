//! Content models of XML Schema against a model: a particle leads from each place among the children to a set of places.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use std::collections::BTreeSet;

use kyanite_formats::record_view::View;
use kyanite_formats::xml;
use kyanite_schema::json::{self, Document, Outline, Typing};
use kyanite_schema::xsd::{Documents, MemberNames, Reference, Schema, Validator};
use kyanite_schema::{Problem, SampleSettings};
use kyanite_tree::{Arena, Content, Element, LineColumn, Origin, Value};
use proptest::prelude::*;

/// There are no other documents.
struct Alone;

impl<'s> Documents<'s> for Alone {
    fn find(&mut self, _: Reference<'_>) -> Result<Option<(String, Value<'s>)>, Problem> {
        Ok(None)
    }
}

#[derive(Clone, Debug)]
enum Term {
    Element(char),
    /// Of the namespace `urn:other`.
    Wildcard,
    Sequence(Vec<Particle>),
    Choice(Vec<Particle>),
}

#[derive(Clone, Debug)]
struct Particle {
    term: Term,
    least: usize,
    most: Option<usize>,
}

/// The content of the root element.
#[derive(Clone, Debug)]
enum Model {
    Particle(Particle),
    /// Elements in any order, each of which may be missing.
    All(Vec<(char, bool)>),
}

impl Particle {
    fn text(&self) -> String {
        let most = self.most.map_or("unbounded".to_owned(), |most| most.to_string());
        let occurs = format!("minOccurs='{}' maxOccurs='{most}'", self.least);
        let inner = |all: &[Self]| all.iter().map(Self::text).collect::<String>();
        match &self.term {
            Term::Element(name) => {
                format!("<xs:element name='{name}' type='xs:string' {occurs}/>")
            }
            Term::Wildcard => {
                format!("<xs:any namespace='urn:other' processContents='skip' {occurs}/>")
            }
            Term::Sequence(all) => format!("<xs:sequence {occurs}>{}</xs:sequence>", inner(all)),
            Term::Choice(all) => format!("<xs:choice {occurs}>{}</xs:choice>", inner(all)),
        }
    }

    /// The places that it leads to from any of these.
    fn lead(&self, from: &BTreeSet<usize>, children: &[char]) -> BTreeSet<usize> {
        let (mut reached, mut now) = (BTreeSet::new(), from.clone());
        let rounds = self.most.unwrap_or(children.len().max(self.least) + 1);
        for round in 0..=rounds {
            if round >= self.least {
                reached.extend(&now);
            }
            if round < rounds {
                now = self.once(&now, children);
            }
        }
        reached
    }

    fn once(&self, from: &BTreeSet<usize>, children: &[char]) -> BTreeSet<usize> {
        let step = |fits: &dyn Fn(char) -> bool| {
            let next = from.iter().filter(|at| children.get(**at).is_some_and(|name| fits(*name)));
            next.map(|at| at + 1).collect()
        };
        match &self.term {
            Term::Element(name) => step(&|child| child == *name),
            Term::Wildcard => step(&|child| child == '*'),
            Term::Sequence(all) => {
                all.iter().fold(from.clone(), |from, particle| particle.lead(&from, children))
            }
            Term::Choice(all) => {
                all.iter().flat_map(|particle| particle.lead(from, children)).collect()
            }
        }
    }
}

impl Model {
    fn text(&self) -> String {
        match self {
            Self::Particle(particle) => particle.text(),
            Self::All(elements) => {
                let element = |(name, is_optional): &(char, bool)| {
                    let least = u8::from(!is_optional);
                    format!("<xs:element name='{name}' type='xs:string' minOccurs='{least}'/>")
                };
                format!("<xs:all>{}</xs:all>", elements.iter().map(element).collect::<String>())
            }
        }
    }

    fn accepts(&self, children: &[char]) -> bool {
        match self {
            Self::Particle(particle) => {
                particle.lead(&BTreeSet::from([0]), children).contains(&children.len())
            }
            Self::All(elements) => {
                let count = |name| children.iter().filter(|child| **child == name).count();
                let known = elements.iter().map(|(name, _)| count(*name)).sum::<usize>();
                known == children.len()
                    && elements.iter().all(|(name, is_optional)| {
                        (usize::from(!is_optional)..=1).contains(&count(*name))
                    })
            }
        }
    }
}

fn particle() -> impl Strategy<Value = Particle> {
    let occurs = || {
        prop_oneof![
            4 => Just((1, Some(1))),
            2 => Just((0, Some(1))),
            2 => Just((0, None)),
            1 => Just((1, None)),
            2 => (0..3_usize, 0..3_usize).prop_map(|(least, more)| (least, Some(least + more))),
        ]
    };
    let of = |(term, (least, most))| Particle { term, least, most };
    let leaf = prop_oneof![
        6 => prop::sample::select(&['a', 'b', 'c', 'd'][..]).prop_map(Term::Element),
        1 => Just(Term::Wildcard),
    ];
    (leaf, occurs()).prop_map(of).prop_recursive(3, 12, 3, move |inner| {
        let all = prop::collection::vec(inner, 1..4);
        let group = (any::<bool>(), all).prop_map(|(in_sequence, all)| match in_sequence {
            true => Term::Sequence(all),
            false => Term::Choice(all),
        });
        (group, occurs()).prop_map(of)
    })
}

fn model() -> impl Strategy<Value = Model> {
    let group = particle().prop_map(|inner| match inner.term {
        Term::Sequence(_) | Term::Choice(_) => Model::Particle(inner),
        _ => {
            Model::Particle(Particle { term: Term::Sequence(vec![inner]), least: 1, most: Some(1) })
        }
    });
    let all = prop::collection::btree_map(
        prop::sample::select(&['a', 'b', 'c'][..]),
        any::<bool>(),
        1..4,
    )
    .prop_map(|all| Model::All(all.into_iter().collect()));
    prop_oneof![9 => group, 1 => all]
}

fn compile(model: &Model) -> Result<Schema, Vec<Problem>> {
    let text = format!(
        "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema'><xs:element name='r'>\
         <xs:complexType>{}</xs:complexType></xs:element></xs:schema>",
        model.text()
    );
    let arena = Arena::new();
    let root = xml::document(arena.text(&text), &arena, xml::Options::default()).unwrap().value();
    Schema::compile(&[("main.xsd".to_owned(), root)], &mut Alone)
}

/// The root element of a document.
fn root<'a>(arena: &'a Arena, text: &str) -> (&'a Element<'a>, Origin) {
    let document = xml::document(arena.text(text), arena, xml::Options::default()).unwrap();
    let mut content = document.root.content.iter();
    let root = content.find_map(|node| match node {
        Content::Element(origin, root) => Some((*root, *origin)),
        _ => None,
    });
    root.unwrap()
}

fn is_valid(validator: &mut Validator<'_>, text: &str) -> bool {
    let arena = Arena::new();
    let (element, origin) = root(&arena, text);
    let place = |_: Origin| LineColumn { line: 1, column: 1 };
    validator.element(element, origin, &place);
    validator.finish();
    validator.take_found().is_empty()
}

/// A document whose root has children of these names; `*` is one of another namespace.
fn document(children: &[char]) -> String {
    let child = |name: &char| match name {
        '*' => "<o:x xmlns:o='urn:other'/>".to_owned(),
        name => format!("<{name}/>"),
    };
    format!("<r>{}</r>", children.iter().map(child).collect::<String>())
}

fn children_of(text: &str) -> Vec<char> {
    let arena = Arena::new();
    let (root, _) = root(&arena, text);
    let names = root.content.iter().filter_map(|node| match node {
        Content::Element(_, child) if child.name.namespace().is_empty() => {
            child.name.local().chars().next()
        }
        Content::Element(..) => Some('*'),
        _ => None,
    });
    names.collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1000, max_global_rejects: 20_000, ..ProptestConfig::default() })]

    /// A model that leaves open which particle an element fits is refused; any other accepts what the model does, whatever came
    /// before, and what it makes up itself.
    #[test]
    fn children_are_accepted_as_by_the_model(
        model in model(),
        documents in prop::collection::vec(prop::collection::vec(prop::sample::select(&['a', 'b', 'c', 'd', '*'][..]), 0..7), 8),
        seed in 0..4_u64,
    ) {
        let compiled = compile(&model);
        prop_assume!(compiled.is_ok());
        let schema = compiled.unwrap();
        let mut validator = Validator::new(&schema);
        for children in &documents {
            let found = is_valid(&mut validator, &document(children));
            prop_assert_eq!(found, model.accepts(children), "{:?} in {}", children, model.text());
        }
        // What is valid stays valid by the JSON Schema that is made of the schema.
        let arena = Arena::new();
        let translated = schema.to_json_schema(MemberNames::Local, &arena).schema;
        let json_schema = || {
            let document = Document { uri: "file:///s.json".into(), value: translated };
            json::Schema::compile(document, &[], json::Settings::default()).unwrap()
        };
        let (outline, checked) = (json_schema(), json_schema());
        let mut typing = Typing::new(Outline::new(&outline, true));
        for children in documents.iter().filter(|children| model.accepts(children)) {
            let text = document(children);
            let read = xml::document(arena.text(&text), &arena, xml::Options::default()).unwrap();
            let typed = typing.document(View::default().record(read.value(), &arena), &arena);
            let written = kyanite_formats::json::compact;
            prop_assert!(checked.is_valid(typed), "{text} in {}: {} by {}", model.text(), written(typed), written(translated));
        }
        let settings = SampleSettings { seed, ..SampleSettings::default() };
        for sample in schema.samples(settings, &[]).take(2) {
            let children = children_of(&sample);
            prop_assert!(model.accepts(&children), "{} in {}", sample, model.text());
        }
    }
}
