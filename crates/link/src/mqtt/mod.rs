//! MQTT 3.1.1 and 5.0 (OASIS): messages on topics, through a broker.
//!
//! [`settings`] and [`inbox`] are pure: what is wanted, which tag hears which topic, and what silence means; what a message holds
//! is [`crate::payload`]'s. [`mapping`] makes tags of topics that come.
//! [`client`] keeps a session in either version, [`large`] finds where a broker retains more than can be
//! read, [`ladder`] tests it rung by rung, [`listening`] hears
//! topics for whoever looks, [`heard`] keeps them and [`look`] shows them as a tree, and [`run`] keeps the connection alive.

pub(crate) mod client;
pub(crate) mod form;
mod heard;
mod inbox;
pub(crate) mod ladder;
mod large;
mod listening;
mod look;
pub(crate) mod mapping;
mod run;
mod sending;
pub mod settings;

use crate::{
    Identities, Kind, Runner, Tester, Wrong,
    kind::{Description, within},
    runner::Ports,
    test::TestStep,
};
use async_trait::async_trait;
use havrel_core::plant::{Connection, Own, Tag};
use settings::{Point, Settings};
use std::sync::Arc;
use tokio::sync::mpsc;

/// The connection kind.
pub const KIND: &str = "mqtt";

/// MQTT as a kind of connection.
#[derive(Clone, Copy)]
pub struct Mqtt;

impl Kind for Mqtt {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        form::describe()
    }

    fn check(&self, connection: &Connection) -> Vec<Wrong> {
        let mut wrong = within("settings", Settings::parse(&connection.settings).err().unwrap_or_default());
        wrong.extend(mapping::check(&connection.mappings));
        wrong
    }

    fn check_point(&self, _: &Connection, tag: &Tag) -> Vec<Wrong> {
        within("point", Point::parse(&tag.point).err())
    }

    fn show_point(&self, _: &Connection, point: &Own) -> Option<String> {
        Point::parse(point).ok().map(|point| point.show())
    }

    fn addresses(&self, connection: &Connection) -> Vec<String> {
        let shown = |settings: Settings| settings.paths().iter().map(|path| settings.show(path)).collect();
        Settings::parse(&connection.settings).map(shown).unwrap_or_default()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Mqtt)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

#[async_trait]
impl Tester for Mqtt {
    async fn test(&self, connection: &Connection, _: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        ladder::climb_all(connection, steps).await;
    }
}

#[async_trait]
impl Runner for Mqtt {
    async fn run(&self, ports: Ports) {
        run::run(ports).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::sample::Value;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    fn own(value: Json) -> Own {
        value.as_object().unwrap().clone()
    }

    #[rstest]
    #[case(json!({"host": ""}), "host")]
    #[case(json!({"host": "mqtt://10.0.4.41"}), "host")]
    #[case(json!({"port": 0}), "port")]
    #[case(json!({"transport": "pigeon"}), "transport")]
    #[case(json!({"transport": "websocket", "path": "mqtt"}), "path")]
    #[case(json!({"transport": "tls", "tls": {"fingerprint": "12"}}), "tls.fingerprint")]
    #[case(json!({"version": "4"}), "version")]
    #[case(json!({"password": {"secret": "x"}}), "user")]
    #[case(json!({"clean": false}), "client_id")]
    #[case(json!({"keep_alive_s": 2}), "keep_alive_s")]
    #[case(json!({"qos": 3}), "qos")]
    #[case(json!({"largest": 10}), "largest")]
    #[case(json!({"will": {"topic": "a/#"}}), "will.topic")]
    #[case(json!({"test_topic": "+"}), "test_topic")]
    #[case(json!({"spare": [{"host": "10.0.4.42"}, {"host": "x y"}]}), "spare[1].host")]
    #[case(json!({"colour": 1}), "colour")]
    fn a_wrong_setting_is_named(#[case] more: Json, #[case] field: &str) {
        let mut all = own(json!({"host": "10.0.4.41"}));
        all.extend(own(more));
        let wrong = Settings::parse(&all).unwrap_err();
        assert_eq!(wrong.iter().map(|w| w.0.as_str()).collect::<Vec<_>>().join(" "), field, "{wrong:?}");
    }

    #[rstest]
    #[case(json!({"topic": "site/M1"}), Ok("site/M1"))]
    #[case(json!({"topic": "site/M1", "member": "/a/0"}), Ok("site/M1, /a/0"))]
    #[case(json!({"topic": "M", "samples": "/log", "member": "/v"}), Ok("M, /v of each in /log"))]
    #[case(json!({"topic": "M", "format": "line", "column": 3}), Ok("M, field 3"))]
    #[case(json!({}), Err("topic"))]
    #[case(json!({"topic": "site/+"}), Err("topic"))]
    #[case(json!({"topic": "a\u{0}"}), Err("topic"))]
    #[case(json!({"topic": "M", "member": "a"}), Err("member"))]
    #[case(json!({"topic": "M", "write_topic": "#"}), Err("write_topic"))]
    #[case(json!({"topic": "M", "write_topic": "N", "write_message": "{}"}), Err("write_message"))]
    #[case(json!({"topic": "M", "colour": 1}), Err("colour"))]
    fn a_point_is_shown_or_its_field_is_named(#[case] point: Json, #[case] expected: Result<&str, &str>) {
        let connection: Connection = serde_json::from_value(json!({"name": "c", "kind": KIND})).unwrap();
        let wrong = Mqtt.check_point(&connection, &Tag::at(own(point.clone())));
        match expected {
            Ok(words) => assert_eq!((Mqtt.show_point(&connection, &own(point)).as_deref(), wrong), (Some(words), Vec::new())),
            Err(field) => assert_eq!(wrong.iter().map(|w| w.0.clone()).collect::<Vec<_>>(), [format!("point.{field}")]),
        }
    }

    #[rstest]
    #[case("a/b", "a/b", true)]
    #[case("a/b", "a/+", true)]
    #[case("a", "a/#", true)]
    #[case("a/b/c", "a/#", true)]
    #[case("/b", "+/b", true)]
    #[case("\u{11C44}/b", "+/b", true)]
    #[case("a/b", "a", false)]
    #[case("a", "a/+", false)]
    #[case("a/b/c", "a/+", false)]
    #[case("$SYS/load", "#", false)]
    #[case("$SYS/load", "+/load", false)]
    #[case("$SYS/load", "$SYS/#", true)]
    fn a_topic_fits_its_filters(#[case] topic: &str, #[case] filter: &str, #[case] expected: bool) {
        assert_eq!(settings::fits(topic, filter), expected);
    }

    #[rstest]
    #[case("", Value::F64(21.5), "21.5")]
    #[case("", Value::Text("LV".into()), "LV")]
    #[case("{\"set\": {value}}", Value::Text("a \"b\"".into()), r#"{"set": "a \"b\""}"#)]
    #[case("{\"set\": {value}}", Value::Bool(true), "{\"set\": true}")]
    fn a_written_value_stands_in_its_message(#[case] message: &str, #[case] value: Value, #[case] sent: &str) {
        let point = Point::parse(&own(json!({"topic": "M", "write_topic": "N", "write_message": message}))).unwrap();
        assert_eq!(point.message(&value), sent);
    }
}
