//! What a kind of connection is, told without asking any device.

use crate::{
    Runner, Spaces, Tester,
    form::{Field, Section},
};
use havrel_core::plant::{Connection, Own, Tag};
use serde::Serialize;
use serde_json::Value as Json;
use std::sync::Arc;
use utoipa::ToSchema;

/// A field and what is wrong with it, as a sentence.
pub type Wrong = (String, String);

/// Fields that are wrong, each with what it is a field of before it: `settings.host`.
pub(crate) fn within(of: &str, wrong: impl IntoIterator<Item = Wrong>) -> Vec<Wrong> {
    wrong.into_iter().map(|(field, message)| (format!("{of}.{field}"), message)).collect()
}

/// A kind of connection: a protocol, or a source without a wire.
pub trait Kind: Send + Sync {
    /// As connections name it.
    fn name(&self) -> &'static str;

    /// What people and forms need to know of it.
    fn describe(&self) -> Description;

    /// What is wrong with a connection's settings.
    fn check(&self, connection: &Connection) -> Vec<Wrong>;

    /// What is wrong with a tag's address in such a connection.
    fn check_point(&self, connection: &Connection, tag: &Tag) -> Vec<Wrong>;

    /// A point in words, with the address as it goes on the wire.
    fn show_point(&self, connection: &Connection, point: &Own) -> Option<String>;

    /// Every address under which the device is reached, the first before the spare ones.
    fn addresses(&self, _connection: &Connection) -> Vec<String> {
        Vec::new()
    }

    /// Where a connection leads, in a few words; empty where its settings are wrong.
    fn leads_to(&self, connection: &Connection) -> String {
        self.addresses(connection).into_iter().next().unwrap_or_default()
    }

    /// Makes typed secrets that nobody needs to read again, not even the driver, into what is stored of them.
    fn hash(&self, _settings: &mut Own) {}

    /// Runs its connections.
    fn runner(&self) -> Arc<dyn Runner>;

    /// Tests its connections; `None` where there is nothing to reach.
    fn tester(&self) -> Option<&dyn Tester> {
        None
    }

    /// The linear address spaces of its devices.
    fn spaces(&self) -> Option<&dyn Spaces> {
        None
    }
}

/// A kind for people and forms.
#[derive(Clone, Debug, Serialize, ToSchema)]
#[schema(as = KindView)]
pub struct Description {
    /// As connections name it.
    pub kind: &'static str,
    /// As people call it.
    pub title: &'static str,
    /// What it is for, in a sentence.
    pub about: &'static str,
    /// The name that a new connection begins with.
    pub first: &'static str,
    /// What the form of a connection asks for, beside its name.
    pub sections: Vec<Section>,
    /// What the form of a tag's source asks for; empty where it is chosen from what is offered.
    pub point: Vec<Field>,
    /// What new tags can begin with, where they are made by hand.
    pub starts: Vec<Start>,
    pub can: Capabilities,
}

/// How a tag made by hand begins.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Start {
    /// What it holds: “a number, kept”.
    pub words: &'static str,
    #[schema(value_type = Object)]
    pub point: Own,
}

impl Start {
    /// Several, each with its words and its fields.
    pub(crate) fn several(all: &[(&'static str, Json)]) -> Vec<Start> {
        all.iter().map(|(words, json)| Start { words, point: json.as_object().cloned().unwrap_or_default() }).collect()
    }
}

/// What a kind can do.
#[derive(Clone, Copy, Debug, Default, Serialize, ToSchema)]
pub struct Capabilities {
    /// There is something to test.
    pub test: bool,
    /// What can become tags is found by looking, not typed.
    pub browse: bool,
    /// What its devices offer is a tree of nodes with names.
    pub tree: bool,
    /// Its devices have linear address spaces, onto which layouts are mapped.
    pub spaces: bool,
    /// Its devices are asked: there are round trips, requests and reconnects.
    pub asks: bool,
    /// It has figures of health.
    pub health: bool,
    /// It takes values from whoever shows a token.
    pub tokens: bool,
    /// Only what changes is sent on: a value that stays is as fresh as any while its connection runs.
    pub changes: bool,
    /// Its devices may give what they recorded themselves.
    pub records: bool,
    /// Its nodes say unit, range and access of what they hold.
    pub tells: bool,
    /// What it offers is heard as it comes, so looking again shows more.
    pub listens: bool,
    /// Edge nodes and devices announce themselves over it, with their metrics.
    pub announces: bool,
    /// Clients connect to it, with accounts of its own.
    pub serves: bool,
    /// Values can be published through it.
    pub publishes: bool,
    /// What is published leaves as metrics, whose payload is a matter of the protocol.
    pub metrics: bool,
    /// Its values are set by people here; the connection need not allow writing for that.
    pub set_here: bool,
    /// It takes mail for people.
    pub mails: bool,
    /// It tells a program.
    pub hooks: bool,
    /// It takes files, as a folder does.
    pub files: bool,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        form::{Control, While},
        kinds,
    };
    use rstest::rstest;
    use serde_json::{Map, json};
    use std::collections::HashSet;

    fn fields(kind: &dyn Kind) -> Vec<Field> {
        kind.describe().sections.into_iter().flat_map(|s| s.fields).collect()
    }

    /// Puts a value where a field with dots says.
    fn put(own: &mut Own, key: &str, value: Json) {
        match key.split_once('.') {
            None => drop(own.insert(key.into(), value)),
            Some((outer, rest)) => {
                let inside = own.entry(outer).or_insert_with(|| Json::Object(Map::new()));
                put(inside.as_object_mut().unwrap(), rest, value);
            }
        }
    }

    #[rstest]
    fn what_is_described_is_understood(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] which: usize) {
        let kind = kinds()[which];
        let mut set = json!({"name": "c", "kind": kind.name()}).as_object().cloned().unwrap();
        // What is only shown is no setting.
        for field in fields(kind).into_iter().filter(|f| !matches!(f.control, Control::OwnCertificate)) {
            put(&mut set, field.key, field.default);
        }
        match kind.name() {
            "modbus" => put(&mut set, "settings.host", "10.0.4.21".into()),
            "opcua" => put(&mut set, "settings.url", "opc.tcp://10.0.4.31".into()),
            "sparkplug_node" => {
                put(&mut set, "settings.host", "10.0.4.41".into());
                put(&mut set, "settings.group", "Works".into());
                put(&mut set, "settings.node", "Havrel".into());
            }
            "mail" => {
                put(&mut set, "settings.host", "10.0.4.42".into());
                put(&mut set, "settings.from", "havrel@works.example".into());
            }
            "mqtt" | "sparkplug" | "http" | "hook" => put(&mut set, "settings.host", "10.0.4.41".into()),
            _ => {}
        }
        let connection: Connection = serde_json::from_value(Json::Object(set)).unwrap();
        assert_eq!(kind.check(&connection), [], "the defaults of every field, all said, are no mistake");
        for start in kind.describe().starts {
            let tag = Tag::at(start.point);
            assert_eq!(kind.check_point(&connection, &tag), [], "{}", start.words);
        }
    }

    #[rstest]
    fn conditions_name_fields_that_stand_before_and_values_that_are_offered(
        #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] which: usize,
    ) {
        let kind = kinds()[which];
        let check = |fields: &[Field], outer: &[Field]| {
            let mut keys = HashSet::new();
            for (i, field) in fields.iter().enumerate() {
                assert!(keys.insert(field.key), "{} twice", field.key);
                assert!((1..=6).contains(&field.width));
                let conditions = field.only.iter().chain(field.defaults.iter().map(|d| &d.condition));
                for While { field: on, is } in conditions {
                    let before = outer.iter().chain(&fields[..i]).find(|f| f.key == *on);
                    if is.is_empty() && before.is_some() {
                        continue;
                    }
                    let Some(Field { control: Control::Choice { options, .. }, .. }) = before else {
                        panic!("{} depends on {on}, which is no choice before it", field.key)
                    };
                    assert!(is.iter().all(|value| options.iter().any(|o| o.value == *value)), "{}: {is:?}", field.key);
                }
            }
        };
        let all = fields(kind);
        check(&all, &[]);
        check(&kind.describe().point, &[]);
        for field in &all {
            if let Control::List { fields, .. } = &field.control {
                check(fields, &all);
            }
        }
    }
}
