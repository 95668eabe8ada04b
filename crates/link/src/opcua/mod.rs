//! OPC UA over opc.tcp (IEC 62541; parts 3 to 8 of the specification).
//!
//! [`node`], [`status`], [`value`], [`structure`], [`shapes`], [`part`], [`taken`] and [`settings`] are pure; [`learn`] asks
//! for the definitions of structures. [`trust`] judges certificates, [`dial`] opens the socket, [`endpoints`] asks what
//! the server offers, [`prepared`] readies the login and [`client`] opens the session; [`ladder`] tests it rung by
//! rung, [`browse`] pages through the address space, [`items`] holds what a session delivers, [`inbox`] takes it in, [`polls`] what is read
//! instead, [`history`] fills gaps, [`commands`] serves what is asked in
//! between, [`method`] calls methods, [`spare`] keeps another session ready, and [`run`] keeps the connection alive.

mod browse;
mod client;
mod commands;
mod dial;
mod endpoints;
mod form;
mod history;
mod inbox;
mod items;
mod ladder;
mod learn;
mod method;
pub mod node;
mod part;
mod polls;
mod prepared;
mod run;
mod server;
pub mod settings;
mod shapes;
mod spare;
mod status;
mod structure;
mod taken;
mod trust;
mod value;

use crate::{
    Identities, Kind, Runner, Tester, Wrong,
    kind::{Description, within},
    runner::Ports,
    test::TestStep,
};
use async_trait::async_trait;
use havrel_core::plant::{Connection, Own, Tag};
use settings::{Path, Point, Settings};
use std::sync::Arc;
use tokio::sync::mpsc;

/// The connection kind.
pub const KIND: &str = "opcua";

/// OPC UA as a kind of connection.
#[derive(Clone, Copy)]
pub struct OpcUa;

impl Kind for OpcUa {
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
        within("point", Point::parse(&tag.point).err())
    }

    fn show_point(&self, _: &Connection, point: &Own) -> Option<String> {
        Point::parse(point).ok().map(|point| point.show())
    }

    fn addresses(&self, connection: &Connection) -> Vec<String> {
        Settings::parse(&connection.settings).map(|s| s.paths().iter().map(Path::show).collect()).unwrap_or_default()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(OpcUa)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

#[async_trait]
impl Tester for OpcUa {
    async fn test(&self, connection: &Connection, identities: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        ladder::climb_all(connection, &identities, steps).await;
    }
}

#[async_trait]
impl Runner for OpcUa {
    async fn run(&self, ports: Ports) {
        run::run(ports).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};
    use settings::Deadband;

    fn own(value: Json) -> Own {
        value.as_object().unwrap().clone()
    }

    #[rstest]
    #[case(json!({"url": ""}), "url")]
    #[case(json!({"url": "10.0.4.31"}), "url")]
    #[case(json!({"url": "http://10.0.4.31"}), "url")]
    #[case(json!({"url": "opc.tcp://"}), "url")]
    #[case(json!({"url": "opc.tcp://10.0.4.31:70000"}), "url")]
    #[case(json!({"url": "opc.tcp://10.0.4.31:0"}), "url")]
    #[case(json!({"url": "opc.tcp://[fe80::1"}), "url")]
    #[case(json!({"url": "opc.tcp://a b"}), "url")]
    #[case(json!({"login": "user"}), "user")]
    #[case(json!({"security": "basic256_sha256_sign", "fingerprint": "12:34"}), "fingerprint")]
    #[case(json!({"authority": "no certificate"}), "authority")]
    #[case(json!({"revoked": "no list"}), "revoked")]
    #[case(json!({"login": "certificate"}), "certificate")]
    #[case(json!({"login": "certificate", "key": {"secret": "no key"}}), "key certificate")]
    #[case(json!({"spare": [{"url": "opc.tcp://10.0.4.32", "fingerprint": "0"}]}), "spare[0].fingerprint")]
    #[case(json!({"login": "guess"}), "login")]
    #[case(json!({"security": "rot13"}), "security")]
    #[case(json!({"queue": 0}), "queue")]
    #[case(json!({"spare": [{"url": "opc.tcp://10.0.4.32"}, {"url": "x"}]}), "spare[1].url")]
    #[case(json!({"deadband": "much"}), "deadband")]
    #[case(json!({"deadband": "101 %"}), "deadband")]
    #[case(json!({"sampling_ms": 3_600_001}), "sampling_ms")]
    #[case(json!({"delivery": "pigeon"}), "delivery")]
    #[case(json!({"colour": 1}), "colour")]
    fn a_wrong_setting_is_named(#[case] more: Json, #[case] field: &str) {
        let mut all = json!({"url": "opc.tcp://10.0.4.31"});
        all.as_object_mut().unwrap().extend(own(more));
        let wrong = Settings::parse(&own(all)).unwrap_err();
        assert_eq!(wrong.iter().map(|w| w.0.as_str()).collect::<Vec<_>>().join(" "), field, "{wrong:?}");
    }

    #[rstest]
    #[case("opc.tcp://10.0.4.31", "10.0.4.31", 4840)]
    #[case("OPC.TCP://dryer.local:51210/Line1", "dryer.local", 51210)]
    #[case("opc.tcp://[fe80::1]:4841/", "fe80::1", 4841)]
    #[case("opc.tcp://[fe80::1]", "fe80::1", 4840)]
    fn addresses_are_taken_apart(#[case] url: &str, #[case] host: &str, #[case] port: u16) {
        let target = Path { url: url.into(), ..Path::default() }.target().unwrap();
        assert_eq!((target.host.as_str(), target.port), (host, port));
    }

    #[rstest]
    #[case("", Ok(Deadband::None))]
    #[case(" 0 ", Ok(Deadband::None))]
    #[case("0.5", Ok(Deadband::Absolute(0.5)))]
    #[case("2 %", Ok(Deadband::Percent(2.0)))]
    #[case("100%", Ok(Deadband::Percent(100.0)))]
    #[case("%", Err(()))]
    #[case("-1", Err(()))]
    #[case("inf", Err(()))]
    #[case("1,5", Err(()))]
    fn a_deadband_is_a_number_or_a_share(#[case] text: &str, #[case] read: Result<Deadband, ()>) {
        assert_eq!(text.parse::<Deadband>().map_err(drop), read);
    }

    #[rstest]
    #[case(json!({"address": "nsu=urn:dryer;s=Zone1.Temperature"}), Ok("nsu=urn:dryer;s=Zone1.Temperature"))]
    #[case(json!({"address": "ns=2;i=7", "element": "3"}), Ok("ns=2;i=7, element 3"))]
    #[case(json!({"address": "Zone1"}), Err("address"))]
    #[case(json!({"address": "i=7", "element": "x"}), Err("element"))]
    #[case(json!({"element": "1"}), Err(""))]
    #[case(json!({"address": "i=7", "deadband": "x"}), Err("deadband"))]
    fn a_point_is_shown_or_its_field_is_named(#[case] point: Json, #[case] expected: Result<&str, &str>) {
        let connection: Connection = serde_json::from_value(json!({"name": "c", "kind": KIND})).unwrap();
        let shown = OpcUa.show_point(&connection, &own(point.clone()));
        let wrong = OpcUa.check_point(&connection, &Tag::at(own(point)));
        match expected {
            Ok(words) => assert_eq!((shown.as_deref(), wrong.len()), (Some(words), 0)),
            Err(field) => assert_eq!(wrong.iter().map(|w| w.0.clone()).collect::<Vec<_>>(), [format!("point.{field}")]),
        }
    }
}
