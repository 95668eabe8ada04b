//! Secrets in the settings of connections: what nobody reads again once it was typed.
//!
//! A secret is an object with one field: `{"secret": text}` as it is typed, `{"sealed": text}` as it is stored, and
//! `{"kept": true}` in whatever leaves the program, where it also means on the way back in: as it is. Sealing and opening
//! need a key and luck, so they are done by whoever calls [`each`].

use super::{Edit, Kind, Op, Own, Plant};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use std::fmt;

/// A setting that is secret.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Secret {
    /// Readable: as it was typed, or opened for the driver.
    #[serde(rename = "secret")]
    Plain(String),
    /// As it is stored.
    Sealed(String),
    /// Not given: what is stored counts.
    Kept(bool),
}

/// Nothing of it gets into a log.
impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Secret::Plain(_) => "Secret(readable)",
            Secret::Sealed(_) => "Secret(sealed)",
            Secret::Kept(_) => "Secret(kept)",
        })
    }
}

impl Secret {
    /// The secret that a value is, if it is one.
    pub fn of(value: &Json) -> Option<Secret> {
        let object = value.as_object().filter(|o| o.len() == 1)?;
        let (name, held) = object.iter().next()?;
        match (name.as_str(), held) {
            ("secret", Json::String(text)) => Some(Secret::Plain(text.clone())),
            ("sealed", Json::String(text)) => Some(Secret::Sealed(text.clone())),
            ("kept", Json::Bool(kept)) => Some(Secret::Kept(*kept)),
            _ => None,
        }
    }

    fn json(&self) -> Json {
        serde_json::to_value(self).unwrap_or_default()
    }
}

/// Replaces every secret in a value by what `change` makes of it; nothing puts null there.
///
/// # Errors
/// The first that `change` gives; the value is then half changed.
pub fn each<E>(value: &mut Json, change: &mut impl FnMut(Secret) -> Result<Option<Secret>, E>) -> Result<(), E> {
    if let Some(secret) = Secret::of(value) {
        *value = change(secret)?.map_or(Json::Null, |s| s.json());
        return Ok(());
    }
    match value {
        Json::Object(fields) => fields.values_mut().try_for_each(|v| each(v, change)),
        Json::Array(items) => items.iter_mut().try_for_each(|v| each(v, change)),
        _ => Ok(()),
    }
}

/// Whether a value holds a secret that `wanted` likes.
pub fn holds(value: &Json, wanted: fn(&Secret) -> bool) -> bool {
    match (Secret::of(value), value) {
        (Some(secret), _) => wanted(&secret),
        (None, Json::Object(fields)) => fields.values().any(|v| holds(v, wanted)),
        (None, Json::Array(items)) => items.iter().any(|v| holds(v, wanted)),
        _ => false,
    }
}

/// A value as it may leave the program.
pub fn masked(mut value: Json) -> Json {
    let hide = |_| Ok::<_, std::convert::Infallible>(Some(Secret::Kept(true)));
    let Ok(()) = each(&mut value, &mut { hide });
    value
}

/// Settings of an item as they may leave the program.
pub fn masked_own(own: &Own) -> Own {
    own.iter().map(|(field, value)| (field.clone(), masked(value.clone()))).collect()
}

/// Puts what is stored in the place of secrets that were not given anew; where nothing is stored there is none. Objects in a list
/// are known by their `id` where they have one, so that a secret stays with its object when others come or go.
pub fn keep(new: &mut Json, old: Option<&Json>) {
    if let Some(Secret::Kept(_)) = Secret::of(new) {
        *new = old.filter(|o| matches!(Secret::of(o), Some(Secret::Sealed(_)))).cloned().unwrap_or(Json::Null);
        return;
    }
    match new {
        Json::Object(fields) => fields.iter_mut().for_each(|(name, value)| keep(value, old.and_then(|o| o.get(name)))),
        Json::Array(items) => items.iter_mut().enumerate().for_each(|(i, value)| {
            let before = match value.get("id") {
                Some(id) => old.and_then(Json::as_array).and_then(|all| all.iter().find(|one| one.get("id") == Some(id))),
                None => old.and_then(|o| o.get(i)),
            };
            keep(value, before);
        }),
        _ => {}
    }
}

/// Does the same for edits of connections.
pub fn keep_in(plant: &Plant, edits: &mut [Edit]) {
    for edit in edits.iter_mut().filter(|e| e.kind == Kind::Connection) {
        let old = plant.own(edit.kind, edit.id).and_then(|(own, ..)| own.get("settings"));
        if let Op::Create(own, _) | Op::Patch(own) = &mut edit.op
            && let Some(settings) = own.get_mut("settings")
        {
            keep(settings, old);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::Stored;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;
    use uuid::Uuid;

    #[rstest]
    #[case::typed(json!({"secret": "s"}), json!({"sealed": "old"}), json!({"secret": "s"}))]
    #[case::as_it_is(json!({"kept": true}), json!({"sealed": "old"}), json!({"sealed": "old"}))]
    #[case::nothing_stored(json!({"kept": true}), json!(null), json!(null))]
    #[case::something_else_stored(json!({"kept": true}), json!("old"), json!(null))]
    #[case::inside(json!({"key": {"kept": true}, "host": "a"}), json!({"key": {"sealed": "old"}, "host": "b"}),
        json!({"key": {"sealed": "old"}, "host": "a"}))]
    #[case::in_a_list(json!([{"kept": true}, {"kept": true}]), json!([{"sealed": "one"}]), json!([{"sealed": "one"}, null]))]
    #[case::in_a_list_by_id(json!([{"id": 2, "key": {"kept": true}}, {"id": 3, "key": {"kept": true}}]),
        json!([{"id": 1, "key": {"sealed": "one"}}, {"id": 2, "key": {"sealed": "two"}}]),
        json!([{"id": 2, "key": {"sealed": "two"}}, {"id": 3, "key": null}]))]
    #[case::two_fields_are_no_secret(json!({"kept": true, "host": "a"}), json!({"sealed": "old"}), json!({"kept": true, "host": "a"}))]
    fn what_is_not_typed_again_stays(#[case] mut new: Json, #[case] old: Json, #[case] expected: Json) {
        keep(&mut new, Some(&old));
        assert_eq!(new, expected);
    }

    #[test]
    fn edits_of_connections_keep_what_is_stored_and_others_are_left_alone() {
        let id = Uuid::from_u128(3);
        let own = json!({"name": "Dosing", "kind": "modbus", "settings": {"host": "a", "key": {"sealed": "old"}}});
        let own = own.as_object().unwrap().clone();
        let (plant, _) = Plant::from_stored(1, vec![Stored { kind: Kind::Connection, id, no: 0, revision: 1, own }]);
        let patch = json!({"settings": {"host": "b", "key": {"kept": true}}});
        let op = Op::Patch(patch.as_object().unwrap().clone());
        let edit = |kind| Edit { kind, id, op: op.clone(), seen: None };
        let mut edits = [edit(Kind::Connection), edit(Kind::Tag)];
        keep_in(&plant, &mut edits);
        let Op::Patch(patched) = &edits[0].op else { panic!("it was a patch") };
        assert_eq!(patched["settings"], json!({"host": "b", "key": {"sealed": "old"}}));
        assert_eq!(edits[1].op, op);
    }

    #[test]
    fn nothing_of_a_secret_is_printed() {
        for secret in [Secret::Plain("kelp".into()), Secret::Sealed("kelp".into())] {
            assert!(!format!("{secret:?}").contains("kelp"));
        }
    }

    fn settings() -> impl Strategy<Value = Json> {
        let leaf = prop_oneof![
            Just(json!(null)),
            any::<bool>().prop_map(Json::from),
            any::<i32>().prop_map(Json::from),
            "[a-z]{0,4}".prop_map(Json::from),
            "[A-Z]{3}".prop_map(|s| json!({"secret": s})),
            "[A-Z]{3}".prop_map(|s| json!({"sealed": s})),
            Just(json!({"kept": true})),
        ];
        leaf.prop_recursive(4, 32, 4, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..4).prop_map(Json::from),
                prop::collection::hash_map("[a-z]{1,3}", inner, 0..4).prop_map(|m| Json::Object(m.into_iter().collect())),
            ]
        })
    }

    proptest! {
        /// Whatever settings are: no capital letter, of which the secrets here are made, leaves; the rest is as it was.
        #[test]
        fn no_secret_leaves_and_it_comes_back_as_it_was(value in settings()) {
            let out = masked(value.clone());
            prop_assert!(!out.to_string().bytes().any(|b| b.is_ascii_uppercase()));
            let mut stored = value;
            let seal = |s| Ok::<_, ()>(match s {
                Secret::Plain(text) | Secret::Sealed(text) => Some(Secret::Sealed(text)),
                Secret::Kept(_) => None,
            });
            each(&mut stored, &mut { seal }).unwrap();
            let mut back = masked(stored.clone());
            keep(&mut back, Some(&stored));
            prop_assert_eq!(back, stored);
        }
    }
}
