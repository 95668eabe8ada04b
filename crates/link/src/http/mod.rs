//! Programs that answer over HTTP/1.1 (RFC 9110, RFC 9112), asked in a rhythm of ours.
//!
//! [`settings`] and [`status`] are pure; what an answer holds for a tag is [`crate::payload`]'s. [`client`] asks, [`ladder`] tests
//! rung by rung, [`look`] opens an answer into nodes, [`rounds`]
//! keeps the rhythms and knows what is news, and [`run`] keeps the connection alive.

pub(crate) mod client;
pub(crate) mod form;
mod ladder;
mod look;
mod rounds;
mod run;
pub mod settings;
pub(crate) mod status;

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
pub const KIND: &str = "http";

/// HTTP as a kind of connection.
#[derive(Clone, Copy)]
pub struct Http;

impl Kind for Http {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        form::describe()
    }

    fn check(&self, connection: &Connection) -> Vec<Wrong> {
        within("settings", Settings::parse(&connection.settings).err().unwrap_or_default())
    }

    fn check_point(&self, _: &Connection, tag: &Tag) -> Vec<Wrong> {
        let mut wrong = within("point", Point::parse(&tag.point).err());
        if tag.writable {
            wrong.push(("writable".into(), "Havrel only reads from a program that it asks over HTTP.".into()));
        }
        wrong
    }

    fn show_point(&self, _: &Connection, point: &Own) -> Option<String> {
        Point::parse(point).ok().map(|point| point.show())
    }

    fn addresses(&self, connection: &Connection) -> Vec<String> {
        let shown = |settings: Settings| settings.paths().iter().map(|path| settings.show(path)).collect();
        Settings::parse(&connection.settings).map(shown).unwrap_or_default()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Http)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

#[async_trait]
impl Tester for Http {
    async fn test(&self, connection: &Connection, _: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        ladder::climb_all(connection, steps).await;
    }
}

#[async_trait]
impl Runner for Http {
    async fn run(&self, ports: Ports) {
        run::run(ports).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    fn own(value: Json) -> Own {
        value.as_object().unwrap().clone()
    }

    #[rstest]
    #[case(json!({"host": ""}), "host")]
    #[case(json!({"host": "http://10.0.4.51"}), "host")]
    #[case(json!({"port": 0}), "port")]
    #[case(json!({"scheme": "ftp"}), "scheme")]
    #[case(json!({"path": "api"}), "path")]
    #[case(json!({"path": "/api?x"}), "path")]
    #[case(json!({"requests": [{"path": "/a"}, {"path": "/a"}]}), "requests[1].path")]
    #[case(json!({"requests": [{"path": "/ä"}]}), "requests[0].path")]
    #[case(json!({"requests": [{"path": "/a#b"}]}), "requests[0].path")]
    #[case(json!({"requests": [{"path": "/a", "body": "{}"}]}), "requests[0].body")]
    #[case(json!({"requests": [{"path": "/a", "method": "PUT"}]}), "requests[0].method")]
    #[case(json!({"login": "basic", "user": "a:b", "secret": {"secret": "x"}}), "user")]
    #[case(json!({"login": "bearer"}), "secret")]
    #[case(json!({"login": "header", "header": "Host", "secret": {"secret": "x"}}), "header")]
    #[case(json!({"headers": [{"name": "a b", "value": ""}]}), "headers[0].name")]
    #[case(json!({"headers": [{"name": "Connection", "value": ""}]}), "headers[0].name")]
    #[case(json!({"headers": [{"name": "X-A", "value": "a\nb"}]}), "headers[0].value")]
    #[case(json!({"largest": 10}), "largest")]
    #[case(json!({"scheme": "https", "tls": {"fingerprint": "12"}}), "tls.fingerprint")]
    #[case(json!({"spare": [{"host": "x y"}]}), "spare[0].host")]
    #[case(json!({"colour": 1}), "colour")]
    fn a_wrong_setting_is_named(#[case] more: Json, #[case] field: &str) {
        let mut all = own(json!({"host": "10.0.4.51"}));
        all.extend(own(more));
        let wrong = Settings::parse(&all).unwrap_err();
        assert_eq!(wrong.iter().map(|w| w.0.as_str()).collect::<Vec<_>>().join(" "), field, "{wrong:?}");
    }

    #[rstest]
    #[case(json!({"path": "/weather"}), Ok("/weather"))]
    #[case(json!({"path": "/weather?at=2", "member": "/air/temperature"}), Ok("/weather?at=2, /air/temperature"))]
    #[case(json!({}), Ok("/"))]
    #[case(json!({"path": "weather"}), Err("path"))]
    #[case(json!({"path": "/a b"}), Err("path"))]
    #[case(json!({"path": "/a", "member": "x"}), Err("member"))]
    #[case(json!({"path": "/a", "silent_s": 3}), Err("silent_s"))]
    fn a_point_is_shown_or_its_field_is_named(#[case] point: Json, #[case] expected: Result<&str, &str>) {
        let connection: Connection = serde_json::from_value(json!({"name": "c", "kind": KIND})).unwrap();
        let wrong = Http.check_point(&connection, &Tag::at(own(point.clone())));
        match expected {
            Ok(words) => assert_eq!((Http.show_point(&connection, &own(point)).as_deref(), wrong), (Some(words), Vec::new())),
            Err(field) => assert_eq!(wrong.iter().map(|w| w.0.clone()).collect::<Vec<_>>(), [format!("point.{field}")]),
        }
    }

    #[rstest]
    #[case(json!({}), "http://10.0.4.51")]
    #[case(json!({"scheme": "https", "port": 443, "path": "/api"}), "https://10.0.4.51/api")]
    #[case(json!({"host": "fe80::1", "port": 8080}), "http://[fe80::1]:8080")]
    fn an_address_is_written_as_a_url(#[case] more: Json, #[case] expected: &str) {
        let mut all = own(json!({"host": "10.0.4.51"}));
        all.extend(own(more));
        let settings = Settings::parse(&all).unwrap();
        assert_eq!(settings.show(&settings.paths()[0]), expected);
    }
}
