//! Settings in layers: defaults, class, own. A later layer says over what an earlier one says, field by field and as deep as
//! objects go; lists count as wholes. In every layer a field is *not said* (it is absent, or null), has *a value* (also where
//! that equals what it inherits), or is *explicitly empty*, which is written [`empty`]: then nothing is inherited, and what holds
//! is what holds where no layer says anything. To put a field back is to take away what a layer says of it.

use super::Own;
use serde_json::{Map, Value as Json};

/// How a layer says that a field is empty, whatever it would inherit.
const EMPTY: &str = "empty";

/// Explicitly empty.
pub fn empty() -> Json {
    Json::Object(Map::from_iter([(EMPTY.to_owned(), Json::Bool(true))]))
}

/// Whether a layer says that a field is empty.
pub fn is_empty(value: &Json) -> bool {
    value.as_object().is_some_and(|object| object.len() == 1 && object.get(EMPTY) == Some(&Json::Bool(true)))
}

/// What layers say together, the first one the least.
pub fn merged(layers: &[&Own]) -> Own {
    let mut all = Own::new();
    for layer in layers {
        put(&mut all, layer);
    }
    settled(all)
}

fn put(all: &mut Own, layer: &Own) {
    for (field, value) in layer {
        match (all.get_mut(field), value) {
            (_, Json::Null) => {}
            (Some(Json::Object(inherited)), Json::Object(own)) if !is_empty(value) => {
                if inherited.get(EMPTY) == Some(&Json::Bool(true)) {
                    inherited.clear();
                }
                put(inherited, own);
            }
            _ => drop(all.insert(field.clone(), value.clone())),
        }
    }
}

/// Without what is empty or not said.
fn settled(own: Own) -> Own {
    own.into_iter()
        .filter(|(_, value)| !value.is_null() && !is_empty(value))
        .map(|(field, value)| match value {
            Json::Object(inside) => (field, Json::Object(settled(inside))),
            other => (field, other),
        })
        .collect()
}

/// What a layer over `below` must say so that together they say `whole`.
pub fn over(below: &Own, whole: &Own) -> Own {
    let mut said = Own::new();
    for (field, value) in whole.iter().filter(|(_, value)| !value.is_null()) {
        match (below.get(field), value) {
            (Some(inherited), _) if same(Some(inherited), Some(value)) => {}
            (Some(Json::Object(inherited)), Json::Object(inside)) if !is_empty(value) => {
                let inside = over(inherited, inside);
                said.insert(field.clone(), Json::Object(inside));
            }
            _ => drop(said.insert(field.clone(), value.clone())),
        }
    }
    let said_empty = |field: &&String| whole.get(*field).is_none_or(Json::is_null);
    let gone: Vec<String> = below.keys().filter(said_empty).cloned().collect();
    said.extend(gone.into_iter().map(|field| (field, empty())));
    said
}

/// Whether two settings say the same. Numbers count by their value: what has been through another program may write 0
/// where 0.0 stood.
pub(super) fn same(a: Option<&Json>, b: Option<&Json>) -> bool {
    match (a, b) {
        (Some(Json::Number(a)), Some(Json::Number(b))) => a == b || a.as_f64() == b.as_f64(),
        (Some(Json::Array(a)), Some(Json::Array(b))) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(Some(a), Some(b)))
        }
        (Some(Json::Object(a)), Some(Json::Object(b))) => a.len() == b.len() && a.iter().all(|(k, v)| same(Some(v), b.get(k))),
        (a, b) => a == b,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case::nothing(json!([]), json!({}))]
    #[case::not_said_inherits(json!([{"unit": "bar", "decimals": 1}, {"decimals": 2}]), json!({"unit": "bar", "decimals": 2}))]
    #[case::null_is_not_said(json!([{"unit": "bar"}, {"unit": null}]), json!({"unit": "bar"}))]
    #[case::the_same_is_said_too(json!([{"unit": "bar"}, {"unit": "bar"}]), json!({"unit": "bar"}))]
    #[case::explicitly_empty(json!([{"unit": "bar"}, {"unit": {"empty": true}}]), json!({}))]
    #[case::said_again_after_that(json!([{"unit": "bar"}, {"unit": {"empty": true}}, {"unit": "psi"}]), json!({"unit": "psi"}))]
    #[case::field_by_field(
        json!([{"scaling": {"low": 0, "high": 10}}, {"scaling": {"high": 16}}]),
        json!({"scaling": {"low": 0, "high": 16}})
    )]
    #[case::deeper(
        json!([{"settings": {"tls": {"trust": "a", "key": "b"}}}, {"settings": {"tls": {"key": {"empty": true}}}}]),
        json!({"settings": {"tls": {"trust": "a"}}})
    )]
    #[case::a_whole_object_empty(json!([{"scaling": {"low": 0}}, {"scaling": {"empty": true}}]), json!({}))]
    #[case::an_object_after_empty(
        json!([{"scaling": {"low": 0}}, {"scaling": {"empty": true}}, {"scaling": {"high": 1}}]),
        json!({"scaling": {"high": 1}})
    )]
    #[case::lists_as_wholes(json!([{"writes": [5, 6]}, {"writes": [16]}]), json!({"writes": [16]}))]
    #[case::an_empty_list_is_a_value(json!([{"writes": [5, 6]}, {"writes": []}]), json!({"writes": []}))]
    #[case::a_text_over_an_object(json!([{"point": {"a": 1}}, {"point": "x"}]), json!({"point": "x"}))]
    fn layers_merge(#[case] layers: Json, #[case] expected: Json) {
        let layers: Vec<Own> = layers.as_array().unwrap().iter().map(|l| l.as_object().unwrap().clone()).collect();
        let layers: Vec<&Own> = layers.iter().collect();
        assert_eq!(Json::Object(merged(&layers)), expected);
    }

    fn any_own() -> impl Strategy<Value = Json> {
        let leaf = prop_oneof![(0..3i64).prop_map(Json::from), "[ab]".prop_map(Json::from), Just(json!([1, 2]))];
        leaf.prop_recursive(3, 24, 4, |inner| prop::collection::btree_map("[a-d]", inner, 1..4).prop_map(|map| json!(map)))
    }

    proptest! {
        /// What is said over something else says together with it what was meant, and nothing where that is inherited.
        #[test]
        fn a_layer_says_the_difference(below in any_own(), whole in any_own()) {
            let (Json::Object(below), Json::Object(whole)) = (below, whole) else { return Ok(()) };
            let said = over(&below, &whole);
            prop_assert_eq!(Json::Object(merged(&[&below, &said])), Json::Object(whole.clone()));
            prop_assert!(over(&whole, &whole).is_empty());
        }
    }

    #[test]
    fn only_the_mark_is_empty() {
        assert!(is_empty(&empty()));
        for other in [json!({}), json!({"empty": false}), json!({"empty": true, "more": 1}), json!(true), json!(null)] {
            assert!(!is_empty(&other), "{other}");
        }
    }
}
