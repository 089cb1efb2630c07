//! Valid manifests that are broken in one place, each in a way that is known: what is found is at that place.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::xml;
use kyanite_schema::Problem;
use kyanite_schema::xsd::{Documents, Reference, Schema, Validator};
use kyanite_tree::{Arena, Base, LineColumn, Origin, Value};

const SCHEMA: &str = r#"<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">
  <xs:element name="manifest"><xs:complexType><xs:sequence>
    <xs:element name="vessel" maxOccurs="unbounded"><xs:complexType><xs:sequence>
      <xs:element name="name" type="xs:token"/>
      <xs:element name="draught" type="xs:decimal"/>
      <xs:element name="deck" maxOccurs="9"><xs:complexType><xs:sequence>
        <xs:element name="vehicle" minOccurs="0" maxOccurs="unbounded"><xs:complexType>
          <xs:sequence><xs:element name="weight" type="xs:positiveInteger"/></xs:sequence>
          <xs:attribute name="plate" type="xs:ID" use="required"/>
          <xs:attribute name="kind" use="required"><xs:simpleType><xs:restriction base="xs:token">
            <xs:enumeration value="car"/><xs:enumeration value="van"/>
          </xs:restriction></xs:simpleType></xs:attribute>
        </xs:complexType></xs:element>
      </xs:sequence><xs:attribute name="no" type="xs:unsignedByte" use="required"/></xs:complexType></xs:element>
      <xs:choice><xs:element name="crew" type="xs:int"/><xs:element name="drone"><xs:complexType/></xs:element></xs:choice>
    </xs:sequence><xs:attribute name="flag" type="xs:language"/></xs:complexType></xs:element>
  </xs:sequence></xs:complexType></xs:element></xs:schema>"#;

/// A generator of numbers that gives the same ones for the same seed.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: usize) -> usize {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % limit
    }
}

/// An element that can be changed.
#[derive(Clone, Debug)]
struct Tree {
    name: String,
    attributes: Vec<(String, String)>,
    children: Vec<Tree>,
    text: String,
}

impl Tree {
    fn new(name: &str, children: Vec<Tree>) -> Self {
        Self { name: name.into(), attributes: Vec::new(), children, text: String::new() }
    }

    fn leaf(name: &str, text: &str) -> Self {
        Self { text: text.into(), ..Self::new(name, Vec::new()) }
    }

    fn with(mut self, name: &str, value: &str) -> Self {
        self.attributes.push((name.into(), value.into()));
        self
    }

    fn write(&self, out: &mut String) {
        let attributes: String =
            self.attributes.iter().map(|(name, value)| format!(" {name}=\"{value}\"")).collect();
        out.push_str(&format!("<{}{attributes}>{}", self.name, self.text));
        self.children.iter().for_each(|child| child.write(out));
        out.push_str(&format!("</{}>", self.name));
    }

    /// The element at a path of positions, and its path as an XPath.
    fn at(&mut self, path: &[usize], shown: &mut String) -> &mut Self {
        let Some((first, rest)) = path.split_first() else { return self };
        let name = self.children[*first].name.clone();
        let before = self.children[..*first].iter().filter(|child| child.name == name).count();
        shown.push_str(&format!("/{name}[{}]", before + 1));
        self.children[*first].at(rest, shown)
    }

    /// The paths of all elements.
    fn paths(&self, here: &mut Vec<usize>, all: &mut Vec<Vec<usize>>) {
        all.push(here.clone());
        for (at, child) in self.children.iter().enumerate() {
            here.push(at);
            child.paths(here, all);
            here.pop();
        }
    }
}

fn manifest(numbers: &mut Numbers) -> Tree {
    let mut plate = 0;
    let mut vessel = |numbers: &mut Numbers| {
        let mut children = vec![Tree::leaf("name", "Arctic Skua"), Tree::leaf("draught", "4.50")];
        for no in 0..=numbers.below(3) {
            let mut vehicles = Vec::new();
            for _ in 0..numbers.below(4) {
                plate += 1;
                let vehicle = Tree::new("vehicle", vec![Tree::leaf("weight", "1450")]);
                vehicles.push(vehicle.with("plate", &format!("p{plate}")).with("kind", "car"));
            }
            children.push(Tree::new("deck", vehicles).with("no", &no.to_string()));
        }
        children.push(match numbers.below(2) {
            0 => Tree::leaf("crew", "7"),
            _ => Tree::new("drone", Vec::new()),
        });
        Tree::new("vessel", children).with("flag", "no")
    };
    let count = 1 + numbers.below(3);
    let vessels = (0..count).map(|_| vessel(numbers)).collect();
    Tree::new("manifest", vessels)
}

/// Breaks a manifest in one place; gives the paths of which one has to be told, or nothing if this cannot be broken here.
fn mutate(tree: &mut Tree, numbers: &mut Numbers) -> Option<Vec<String>> {
    let mut all = Vec::new();
    tree.paths(&mut Vec::new(), &mut all);
    let path = all[numbers.below(all.len())].clone();
    let mut shown = "/manifest[1]".to_owned();
    let node = tree.at(&path, &mut shown);
    let name = node.name.clone();
    match numbers.below(7) {
        // A value that is none of its type.
        0 if matches!(name.as_str(), "draught" | "weight" | "crew") => {
            node.text = ["x", "", "1,5", "--1"][numbers.below(4)].into();
            Some(vec![shown])
        }
        // An attribute too many, one too few, one with another value.
        1 => {
            node.attributes.push(("extra".into(), "1".into()));
            Some(vec![format!("{shown}/@extra")])
        }
        2 if !node.attributes.is_empty() && name != "vessel" => {
            node.attributes.remove(0);
            Some(vec![shown])
        }
        3 if name == "vehicle" => {
            node.attributes[1].1 = "crane".into();
            Some(vec![format!("{shown}/@kind")])
        }
        // Text where none may stand, an element that is not known.
        4 if matches!(name.as_str(), "manifest" | "vessel" | "deck" | "vehicle" | "drone") => {
            node.text = "words".into();
            Some(vec![shown])
        }
        5 => {
            let at = numbers.below(node.children.len() + 1);
            node.children.insert(at, Tree::new("crane", Vec::new()));
            Some(vec![format!("{shown}/crane[1]")])
        }
        // A child that is missing: told where it would have to be.
        6 if matches!(name.as_str(), "vessel" | "vehicle") => {
            let needed: Vec<usize> =
                (0..node.children.len()).filter(|at| node.children[*at].name != "deck").collect();
            let at = needed[numbers.below(needed.len())];
            node.children.remove(at);
            Some(match node.children.get(at) {
                Some(next) => vec![format!("{shown}/{}[1]", next.name)],
                None => vec![shown],
            })
        }
        _ => None,
    }
}

struct Alone;

impl<'s> Documents<'s> for Alone {
    fn find(&mut self, _: Reference<'_>) -> Result<Option<(String, Value<'s>)>, Problem> {
        Ok(None)
    }
}

/// The paths of what is found in a document.
fn found(validator: &mut Validator<'_>, text: &str) -> Vec<String> {
    let arena = Arena::new();
    let options = xml::Options { base: Base::default(), ..xml::Options::default() };
    let document = xml::document(arena.text(text), &arena, options).unwrap();
    let root = document.root.children().next().unwrap();
    let places = |_: Origin| LineColumn { line: 1, column: 1 };
    validator.element(root.as_element().unwrap(), root.origin(), &places);
    validator.finish();
    validator.take_found().into_iter().map(|found| found.path).collect()
}

#[test]
fn each_of_many_mutations_is_caught_at_its_node() {
    let arena = Arena::new();
    let schema = xml::document(SCHEMA, &arena, xml::Options::default()).unwrap().value();
    let schema = Schema::compile(&[("s.xsd".into(), schema)], &mut Alone).unwrap();
    let mut validator = Validator::new(&schema);
    let mut numbers = Numbers(2026);
    let mut broken = 0;
    while broken < 400 {
        let mut tree = manifest(&mut numbers);
        let mut text = String::new();
        tree.write(&mut text);
        assert_eq!(found(&mut validator, &text), Vec::<String>::new(), "{text}");
        let Some(expected) = mutate(&mut tree, &mut numbers) else { continue };
        broken += 1;
        let mut text = String::new();
        tree.write(&mut text);
        let paths = found(&mut validator, &text);
        assert!(
            paths.iter().any(|path| expected.contains(path)),
            "{expected:?} is not among {paths:?}: {text}"
        );
    }
}

/// Schemas and documents that would have a checker work or nest without end are refused, or told at once.
#[test]
fn hostile_schemas_and_documents() {
    let compile = |body: &str| {
        let arena = Arena::new();
        let text =
            format!("<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema'>{body}</xs:schema>");
        let schema =
            xml::document(arena.text(&text), &arena, xml::Options::default()).unwrap().value();
        Schema::compile(&[("s.xsd".into(), schema)], &mut Alone)
            .map_err(|problems| problems[0].message.clone())
    };
    // Groups that double: two to the power of forty particles.
    let doubling: String = (0..40)
        .map(|no| format!("<xs:group name='g{}'><xs:sequence><xs:group ref='g{no}'/><xs:group ref='g{no}'/></xs:sequence></xs:group>", no + 1))
        .collect();
    let body = format!(
        "<xs:group name='g0'><xs:sequence><xs:element name='e'/></xs:sequence></xs:group>{doubling}<xs:element name='a'><xs:complexType><xs:group ref='g40'/></xs:complexType></xs:element>"
    );
    assert_eq!(compile(&body).unwrap_err(), "this content has more than 100000 particles");
    // A long chain of types.
    let chain: String = (0..3_000)
        .map(|no| format!("<xs:complexType name='t{}'><xs:complexContent><xs:extension base='t{no}'/></xs:complexContent></xs:complexType>", no + 1))
        .collect();
    let deep = std::thread::Builder::new().stack_size(256 << 20);
    std::thread::scope(|scope| {
        let run = || {
            let said = compile(&format!("<xs:complexType name='t0'/>{chain}"));
            assert!(said.is_ok() || said.unwrap_err().contains("more than 1000 times"));
            // Many attributes, and counts that nest.
            let schema = compile("<xs:element name='a'><xs:complexType><xs:sequence minOccurs='0' maxOccurs='1000'><xs:sequence minOccurs='0' maxOccurs='1000'><xs:element name='b' minOccurs='0' maxOccurs='1000'/></xs:sequence></xs:sequence></xs:complexType></xs:element>").unwrap();
            let mut validator = Validator::new(&schema);
            let attributes: String = (0..50_000).map(|no| format!(" a{no}='1'")).collect();
            let children = "<b/>".repeat(2_000);
            let paths = found(&mut validator, &format!("<a{attributes}>{children}</a>"));
            assert_eq!(paths.len(), 50_000);
        };
        deep.spawn_scoped(scope, run).unwrap().join().unwrap();
    });
}
