//! The built-in simple types (XSD 1.0 part 2 section 3).

use kyanite_tree::Origin;

use super::components::{Derivations, SimpleId};
use super::simple::{Bound, Counted, Facets, Lexical, Role, SimpleType, Variety, White};
use super::value::{Primitive, Value, decimal};

/// The type above all simple types, by its number.
pub(super) const ANY_SIMPLE: SimpleId = SimpleId(0);

/// A type that is derived from another one by restriction.
struct Derived {
    name: &'static str,
    base: &'static str,
    lexical: Option<Lexical>,
    role: Role,
    bounds: (Option<&'static str>, Option<&'static str>),
}

const fn derived(name: &'static str, base: &'static str) -> Derived {
    Derived { name, base, lexical: None, role: Role::None, bounds: (None, None) }
}

const fn spelled(name: &'static str, base: &'static str, lexical: Lexical) -> Derived {
    Derived { lexical: Some(lexical), ..derived(name, base) }
}

const fn named(name: &'static str, role: Role) -> Derived {
    Derived { role, ..spelled(name, "NCName", Lexical::NcName) }
}

const fn bounded(
    name: &'static str,
    base: &'static str,
    least: Option<&'static str>,
    most: Option<&'static str>,
) -> Derived {
    Derived { bounds: (least, most), ..derived(name, base) }
}

/// The primitive types, in the order of their numbers behind that of the type above all.
const PRIMITIVES: [Primitive; 19] = [
    Primitive::String,
    Primitive::Boolean,
    Primitive::Decimal,
    Primitive::Float,
    Primitive::Double,
    Primitive::Duration,
    Primitive::DateTime,
    Primitive::Time,
    Primitive::Date,
    Primitive::YearMonth,
    Primitive::Year,
    Primitive::MonthDay,
    Primitive::Day,
    Primitive::Month,
    Primitive::Hex,
    Primitive::Base64,
    Primitive::Uri,
    Primitive::Name,
    Primitive::Notation,
];

/// Those that are derived from them, each behind its base.
const DERIVED: [Derived; 22] = [
    derived("normalizedString", "string"),
    derived("token", "normalizedString"),
    spelled("language", "token", Lexical::Language),
    spelled("NMTOKEN", "token", Lexical::NameToken),
    spelled("Name", "token", Lexical::Name),
    spelled("NCName", "Name", Lexical::NcName),
    named("ID", Role::Id),
    named("IDREF", Role::Reference),
    named("ENTITY", Role::Entity),
    spelled("integer", "decimal", Lexical::Integer),
    bounded("nonPositiveInteger", "integer", None, Some("0")),
    bounded("negativeInteger", "nonPositiveInteger", None, Some("-1")),
    bounded("long", "integer", Some("-9223372036854775808"), Some("9223372036854775807")),
    bounded("int", "long", Some("-2147483648"), Some("2147483647")),
    bounded("short", "int", Some("-32768"), Some("32767")),
    bounded("byte", "short", Some("-128"), Some("127")),
    bounded("nonNegativeInteger", "integer", Some("0"), None),
    bounded("unsignedLong", "nonNegativeInteger", Some("0"), Some("18446744073709551615")),
    bounded("unsignedInt", "unsignedLong", Some("0"), Some("4294967295")),
    bounded("unsignedShort", "unsignedInt", Some("0"), Some("65535")),
    bounded("unsignedByte", "unsignedShort", Some("0"), Some("255")),
    bounded("positiveInteger", "nonNegativeInteger", Some("1"), None),
];

/// Lists of others, which have at least one item.
const LISTS: [(&str, &str); 3] =
    [("NMTOKENS", "NMTOKEN"), ("IDREFS", "IDREF"), ("ENTITIES", "ENTITY")];

/// All built-in types, in the order of their numbers, each with its local name.
pub(super) fn types() -> Vec<(&'static str, SimpleType)> {
    let plain = |name: &'static str, variety, white| SimpleType {
        name: Some(format!("xs:{name}")),
        base: None,
        variety,
        white,
        lexical: None,
        facets: Facets::default(),
        role: Role::None,
        origin: Origin::NONE,
        is_final: Derivations::NONE,
    };
    let mut all = vec![("anySimpleType", plain("anySimpleType", Variety::Any, White::Preserve))];
    for primitive in PRIMITIVES {
        let is_string = primitive == Primitive::String;
        let white = if is_string { White::Preserve } else { White::Collapse };
        let variety = Variety::Atomic(primitive);
        let made = SimpleType { base: Some(ANY_SIMPLE), ..plain(primitive.word(), variety, white) };
        all.push((primitive.word(), made));
    }
    for Derived { name, base, lexical, role, bounds } in DERIVED {
        let Some(at) = all.iter().position(|(known, _)| *known == base) else { continue };
        let mut made = all[at].1.clone();
        made.name = Some(format!("xs:{name}"));
        made.base = Some(SimpleId(at));
        made.lexical = lexical.or(made.lexical);
        made.role = role;
        made.white = match name {
            "normalizedString" => White::Replace,
            "token" => White::Collapse,
            _ => made.white,
        };
        let bound = |text: &'static str| {
            let value = Value::Decimal(decimal(text)?);
            let (is_exclusive, is_fixed) = (false, false);
            Some(Bound {
                value,
                written: text.to_owned(),
                is_exclusive,
                is_fixed,
                origin: Origin::NONE,
            })
        };
        made.facets.lower = bounds.0.and_then(bound).or(made.facets.lower);
        made.facets.upper = bounds.1.and_then(bound).or(made.facets.upper);
        all.push((name, made));
    }
    for (name, item) in LISTS {
        let Some(at) = all.iter().position(|(known, _)| *known == item) else { continue };
        let mut made = plain(name, Variety::List(SimpleId(at)), White::Collapse);
        made.base = Some(ANY_SIMPLE);
        made.facets.least_length =
            Some(Counted { count: 1, is_fixed: false, origin: Origin::NONE });
        all.push((name, made));
    }
    all
}
