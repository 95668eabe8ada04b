//! The part of a value that a tag takes: an element of an array, a member of a structure, or all of it.

use super::{shapes::Shapes, structure::Content, value};
use havrel_core::{quality::Reason, sample::Value};
use opcua::types::{Variant, VariantScalarTypeId};
use serde_json::Value as Json;

/// Most members and elements of a structure that are shown as text.
const MOST_SHOWN: usize = 100;

/// Names the members and elements that lead to a part.
pub use crate::pointer::Pointer as Part;

impl Part {
    /// What it is made of in a value.
    ///
    /// # Errors
    /// When the value has no such part, or its type is not known.
    pub fn of(&self, held: &Variant, shapes: &Shapes) -> Result<Content, Reason> {
        self.steps().iter().try_fold(open(held, shapes)?, |content, step| inside(content, step, shapes))
    }

    /// The same as a value of a tag.
    ///
    /// # Errors
    /// The same, and when a tag cannot hold it.
    pub fn value(&self, held: &Variant, shapes: &Shapes) -> Result<Value, Reason> {
        // What is taken as it is needs no copy.
        if self.is_whole() && !is_structured(held) { value::value(held) } else { shown(&self.of(held, shapes)?, shapes) }
    }
}

/// Steps to what lies right inside, and what it is; nothing for a plain value, and for arrays of several dimensions.
pub fn parts(content: &Content, shapes: &Shapes) -> Vec<(String, Content)> {
    match content {
        Content::Structure(members) => members.clone(),
        Content::List(all) => (0..).map(|n: usize| n.to_string()).zip(all.iter().cloned()).collect(),
        Content::Value(Variant::Array(array)) if array.dimensions.as_ref().is_none_or(|d| d.len() <= 1) => {
            let opened = array.values.iter().map(|v| open(v, shapes).unwrap_or_else(|_| Content::Value(v.clone())));
            (0..).map(|n: usize| n.to_string()).zip(opened).collect()
        }
        Content::Value(_) => Vec::new(),
    }
}

/// Whether anything lies inside.
pub fn has_parts(content: &Content) -> bool {
    match content {
        Content::Structure(members) => !members.is_empty(),
        Content::List(all) => !all.is_empty(),
        Content::Value(value) => is_list(value),
    }
}

/// The same of a value, of which nothing is copied where it is no structure.
pub fn is_divided(held: &Variant, shapes: &Shapes) -> bool {
    match held {
        Variant::ExtensionObject(object) => shapes.decode(object).is_ok_and(|content| has_parts(&content)),
        other => is_list(other),
    }
}

fn is_list(held: &Variant) -> bool {
    matches!(held, Variant::Array(array) if !array.values.is_empty() && array.dimensions.as_ref().is_none_or(|d| d.len() <= 1))
}

fn open(held: &Variant, shapes: &Shapes) -> Result<Content, Reason> {
    match held {
        Variant::ExtensionObject(object) => shapes.decode(object),
        Variant::Variant(inner) => open(inner, shapes),
        plain => Ok(Content::Value(plain.clone())),
    }
}

fn inside(content: Content, step: &str, shapes: &Shapes) -> Result<Content, Reason> {
    // One that is written otherwise, such as 01, is no number of an element (RFC 6901, 4).
    let number = step.parse::<usize>().ok().filter(|n| n.to_string() == step);
    let found = match content {
        Content::Structure(members) => members.into_iter().find(|(name, _)| name == step).map(|(_, content)| content),
        Content::List(mut all) => number.filter(|n| *n < all.len()).map(|n| all.swap_remove(n)),
        Content::Value(Variant::Array(array)) if array.dimensions.as_ref().is_none_or(|d| d.len() <= 1) => {
            return open(number.and_then(|n| array.values.get(n)).ok_or(Reason::NoSuchAddress)?, shapes);
        }
        Content::Value(_) => None,
    };
    match found.ok_or(Reason::NoSuchAddress)? {
        Content::Value(Variant::ExtensionObject(object)) => shapes.decode(&object),
        other => Ok(other),
    }
}

fn is_structured(held: &Variant) -> bool {
    match held {
        Variant::ExtensionObject(_) => true,
        Variant::Array(array) => array.value_type == VariantScalarTypeId::ExtensionObject,
        _ => false,
    }
}

/// A structure or a list of them becomes text, as JSON.
pub fn shown(content: &Content, shapes: &Shapes) -> Result<Value, Reason> {
    match content {
        Content::Value(plain) if !is_structured(plain) => value::value(plain),
        _ => Ok(Value::Text(crate::payload::cut(json(content, shapes).to_string()))),
    }
}

fn json(content: &Content, shapes: &Shapes) -> Json {
    match content {
        Content::Value(Variant::ExtensionObject(object)) => shapes.decode(object).map_or(Json::Null, |one| json(&one, shapes)),
        Content::Value(Variant::Array(_)) => {
            parts(content, shapes).iter().take(MOST_SHOWN).map(|(_, one)| json(one, shapes)).collect()
        }
        // What a tag cannot hold is null.
        Content::Value(plain) => value::value(plain).map_or(Json::Null, |v| v.to_json()),
        Content::List(all) => all.iter().take(MOST_SHOWN).map(|one| json(one, shapes)).collect(),
        Content::Structure(members) => {
            members.iter().take(MOST_SHOWN).map(|(name, one)| (name.clone(), json(one, shapes))).collect()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{
        super::structure::{Kind, Layout, Member, Shape},
        *,
    };
    use opcua::types::{Array, ByteString, ByteStringBody, ExtensionObject, NodeId};
    use rstest::rstest;
    use std::sync::Arc;

    #[rstest]
    #[case("/0", Ok(Value::F64(0.5)))]
    #[case("/1", Ok(Value::F64(1.5)))]
    #[case("", Ok(Value::Text("[0.5, 1.5]".into())))]
    #[case("/2", Err(Reason::NoSuchAddress))]
    #[case("/01", Err(Reason::NoSuchAddress))]
    #[case("/-", Err(Reason::NoSuchAddress))]
    #[case("/0/0", Err(Reason::NoSuchAddress))]
    fn elements_are_counted_from_0(#[case] part: &str, #[case] expected: Result<Value, Reason>) {
        let held = Variant::from(vec![0.5f64, 1.5]);
        assert_eq!(Part::parse(part).unwrap().value(&held, &Shapes::default()), expected);
    }

    /// A structure of a type that is known: a number, and a list of switches.
    fn structure(shapes: &Shapes) -> Variant {
        let encoding = NodeId::new(1, "Binary");
        let member = |name: &str, kind, array| Member { name: name.into(), kind: Kind::Plain(kind), array, optional: false };
        let members = vec![member("a/b", VariantScalarTypeId::Byte, false), member("on", VariantScalarTypeId::Boolean, true)];
        shapes.put(encoding.clone(), Some(Arc::new(Shape { layout: Layout::All, members })));
        let bytes = ByteString::from(b"\x07\x02\0\0\0\x01\0".to_vec());
        Variant::from(ExtensionObject::new(ByteStringBody::new(bytes, encoding)))
    }

    #[rstest]
    #[case("/a~1b", Ok(Value::U64(7)))]
    #[case("/on/0", Ok(Value::Bool(true)))]
    #[case("/on", Ok(Value::Text("[true,false]".into())))]
    #[case("", Ok(Value::Text(r#"{"a/b":7,"on":[true,false]}"#.into())))]
    #[case("/off", Err(Reason::NoSuchAddress))]
    #[case("/on/2", Err(Reason::NoSuchAddress))]
    fn members_are_found_by_name(#[case] part: &str, #[case] expected: Result<Value, Reason>) {
        let shapes = Shapes::default();
        let one = structure(&shapes);
        assert_eq!(Part::parse(part).unwrap().value(&one, &shapes), expected);
        // The same in an array of them, where the number of the element comes first.
        let two = Array::new(VariantScalarTypeId::ExtensionObject, vec![one.clone(), one]).unwrap();
        let two = Variant::Array(Box::new(two));
        let inner = Part::parse(&format!("/1{part}")).unwrap();
        assert_eq!(inner.value(&two, &shapes), expected);
        assert!(is_divided(&two, &shapes));
    }

    #[test]
    fn a_structure_of_an_unknown_type_is_no_value() {
        let known = Shapes::default();
        let one = structure(&known);
        assert_eq!(Part::default().value(&one, &Shapes::default()), Err(Reason::NoSuchType));
        assert!(is_divided(&one, &known) && !is_divided(&one, &Shapes::default()));
    }
}
